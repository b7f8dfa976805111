//! The events of the engines: failures and warnings are values, not sentences.

use crate::failure::Failure;
use crate::warning::Warning;

/// One thing that happened, with a typed failure or warning. The program that runs the engines
/// replaces them by sentences with [`Event::with_words`](vaka_core::event::Event::with_words).
pub type Event = vaka_core::event::Event<Failure, Warning>;

//! The events of the engines: failures and warnings are values, not sentences.

use crate::failure::Failure;
use crate::warning::Warning;

/// An event with a typed failure or warning. The program replaces these with sentences by
/// [`Event::with_words`](vaka_core::event::Event::with_words).
pub type Event = vaka_core::event::Event<Failure, Warning>;

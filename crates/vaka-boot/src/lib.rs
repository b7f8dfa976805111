//! Carries out firmware updates: engines for each way of updating, the ways
//! into and out of update mode, and the executor.
//!
//! Everything here is blocking, runs over `&dyn Bus` and `&dyn Clock`, and
//! tells what happens as [`Event`](vaka_core::event::Event)s. It prints
//! nothing. [`update::run`] is the whole job from the first look to the
//! confirmation.

pub mod bench;
pub mod context;
pub mod entry;
pub mod operator;
pub mod protocol;
pub mod read_session;
pub mod release_install;
pub mod update;

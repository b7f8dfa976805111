//! Carries out firmware updates: engines for each way of updating, the ways
//! into and out of update mode, and the executor.
//!
//! Everything here is blocking, runs over `&dyn Bus` and `&dyn Clock`, and
//! emits what happens as [`Event`](event::Event)s, whose failures and warnings are values. It
//! prints nothing. [`update::run`] is the whole job from the first look to the
//! confirmation.

pub mod bench;
pub mod context;
pub mod entry;
pub mod event;
pub mod failure;
pub mod operator;
pub mod protocol;
pub mod read_session;
pub mod release_install;
pub mod remedy;
pub mod update;
pub mod warning;

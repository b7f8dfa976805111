//! Carries out firmware updates: engines for each way of updating, the ways
//! into and out of update mode, and the executor.
//!
//! All calls block, use `&dyn Bus` and `&dyn Clock`, and report their work as
//! [`Event`](event::Event)s, whose failures and warnings are typed values. The crate prints
//! nothing. [`update::run`] performs a complete update, from discovery to confirmation.

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
pub mod secrets;
pub mod update;
pub mod warning;

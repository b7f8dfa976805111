//! The unit's side of a dialect: requests are parsed by the fields that the host sends, and replies are
//! made from the fields that it expects.

mod call_sites;
mod reply;
mod request;
mod solve;
mod unit;

pub use reply::Status;
pub use unit::{Arrival, Receipt, Request, SetupPacket, UnitSide};

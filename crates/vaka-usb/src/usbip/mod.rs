//! Devices of another machine, or of simulated units, over USB/IP.
//!
//! [`wire`] is the protocol as bytes and is shared with the server in
//! `vaka-sim`; [`client`] is a [`Bus`](crate::bus::Bus) on top of it.

pub mod client;
pub mod wire;

pub use client::UsbIpBus;
pub use wire::DEFAULT_PORT;

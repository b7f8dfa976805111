//! Devices of another machine, or of stand-ins, over USB/IP.
//!
//! [`wire`] is the protocol as bytes and is shared with the server in
//! `vaka-sim`; [`client`] is a [`Bus`](crate::Bus) on top of it.

pub mod client;
pub mod wire;

pub use client::UsbIpBus;

/// The TCP port of USB/IP. Source: the IANA registry.
pub const DEFAULT_PORT: u16 = 3240;

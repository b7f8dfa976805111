//! Simulated units: units that exist only here, for demo, tests and trying out.
//!
//! A simulated unit models the *device side*: flash that must be erased before it is written, and
//! the time that takes; the bootloader's state machine with its errors; an application that
//! starts only from a valid image; buttons and the cable. Its true memory is always accessible.
//! It shares only the USB/IP wire types and the three USB traits with the host side, so that both
//! cannot make the same mistake.
//!
//! A [`World`] contains the units and their ports. [`in_process`] turns it into a bus with the
//! virtual time of [`clock`]; [`server`] serves it over USB/IP.

pub mod bootloader;
pub mod can;
pub mod clock;
pub mod fault;
pub mod flash;
pub mod in_process;
pub mod pins;
pub mod replay;
pub mod scene;
pub mod server;
pub mod unit;
pub mod usb;
pub mod web;
pub mod world;

pub use world::{SharedWorld, World};

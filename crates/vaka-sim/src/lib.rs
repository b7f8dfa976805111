//! Simulated units: units that exist only here, for demo, tests and trying out.
//!
//! A simulated unit models the *device side*: flash that must be erased before it is
//! written, the time that takes, the bootloader's state machine with its
//! errors, an application that starts only from a sound image, and the buttons
//! and the cable in a person's hands. Its true memory can always be asked for.
//! It shares the USB/IP wire types and the three USB traits with the host side
//! and nothing else, so that both cannot make the same mistake.
//!
//! A [`World`] holds the units and their ports. [`in_process`] makes a bus of
//! it, with the virtual time of [`clock`]; [`server`] serves it over USB/IP.

pub mod bootloader;
pub mod clock;
pub mod fault;
pub mod flash;
pub mod in_process;
pub mod replay;
pub mod scene;
pub mod server;
pub mod unit;
pub mod usb;
pub mod world;

pub use world::{SharedWorld, World};

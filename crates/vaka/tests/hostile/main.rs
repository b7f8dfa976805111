//! Files, devices, disks and servers that are made to harm. Each case runs the built program with
//! at most ten seconds and one gigabyte, and has its expected outcome.

#![allow(clippy::unwrap_used)] // a panic in a test is its message
#![allow(unreachable_pub)] // modules of one program
#![cfg(unix)]

#[path = "../support/mod.rs"]
mod support;

mod bounded;
mod devices;
mod disks;
mod files;
mod names;
mod server;
mod servers;
mod signals;

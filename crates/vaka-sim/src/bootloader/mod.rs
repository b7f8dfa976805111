//! The device side of bootloaders, as state machines over a flash.

pub mod dfu_addressed;

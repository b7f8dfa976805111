//! The device side's bootloaders.

pub mod dfu;
pub mod dfu_addressed;
pub mod dfu_plain;
pub mod disk;
pub mod fat;
pub mod uf2;

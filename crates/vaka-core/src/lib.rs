pub mod address;
pub mod image;
pub mod memory;
pub mod size;
pub mod text;
pub mod unit;

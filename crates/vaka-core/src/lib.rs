//! What Vaka knows, without doing anything: images, memory maps, product
//! sheets, evidence and verdict, plans, the DFU state table, events.
//!
//! Nothing here performs I/O, reads a clock, starts a thread or prints. Bytes
//! and values come in, values go out. From bottom to top: [`address`] and
//! [`size`]; [`image`] and [`memory`]; [`sheet`]; [`matching`]; [`plan`];
//! [`event`]. Beside them stands [`dfu`], tied to none of these.

pub mod carry;
pub mod dfu;
pub mod event;
pub mod matching;
pub mod memory;
pub mod placeholder;
pub mod plan;
pub mod release;
pub mod schema;
pub mod sheet;
pub mod unit;
pub mod unit_state;
pub mod volume;

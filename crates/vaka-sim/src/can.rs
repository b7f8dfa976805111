//! CAN buses between units: who hears a frame, and when.
//!
//! Source: ISO 11898-1: each frame is heard by all others at once, and acknowledged by any of them. A
//! frame takes the time of its bits; stuff bits are left out.

use std::collections::BTreeMap;
use std::time::Duration;

/// A data frame.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CanFrame {
    /// Identifier.
    pub id: u32,
    /// Whether it has 29 bits.
    pub is_extended: bool,
    /// Data: at most 8 bytes, or 64 in an FD frame.
    pub data: Vec<u8>,
    /// Whether it is an FD frame.
    pub is_fd: bool,
}

/// The bit rates of a member: of the arbitration, and of the data of FD frames.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Rates {
    /// Bits per second.
    pub nominal: u32,
    /// Bits per second in the data of FD frames.
    pub data: u32,
}

/// The fate of a frame that was sent.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fate {
    /// Another member has acknowledged it.
    Acknowledged,
    /// Every other member is silent; the controller repeats it.
    NotAcknowledged,
    /// Another member has another bit rate, and destroys it.
    Destroyed,
}

/// A member of a CAN bus.
pub trait CanMember {
    /// The name of the bus.
    fn bus(&self) -> &str;

    /// Its bit rates; `None` while its controller is off.
    fn rates(&self) -> Option<Rates>;

    /// The frame that it sends next, and when it is ready; it stays until its fate is known.
    fn next(&self) -> Option<(Duration, CanFrame)>;

    /// The fate of that frame at a time.
    fn sent(&mut self, at: Duration, fate: Fate);

    /// A frame of another member.
    fn receive(&mut self, at: Duration, frame: &CanFrame);
}

/// The time of each bus until which it is occupied.
#[derive(Debug, Default)]
pub(crate) struct Wires {
    free_at: BTreeMap<String, Duration>,
}

impl Wires {
    /// The time at which a frame that is ready ends on its bus.
    pub(crate) fn end(&self, bus: &str, ready: Duration, frame: &CanFrame, rates: Rates) -> Duration {
        self.free_at.get(bus).copied().unwrap_or_default().max(ready) + time_of(frame, rates)
    }

    /// Occupies a bus until a time.
    pub(crate) fn occupy(&mut self, bus: &str, until: Duration) {
        self.free_at.insert(bus.to_owned(), until);
    }
}

/// The time of a frame on the bus. Source: ISO 11898-1, frame formats: 47 bits with the pause after it, 20
/// more for 29-bit identifiers. In an FD frame the data and its checksum go at the second rate.
pub fn time_of(frame: &CanFrame, rates: Rates) -> Duration {
    let data = 8 * frame.data.len() as u64;
    let head = if frame.is_extended { 67 } else { 47 };
    let nanos = |bits: u64, rate: u32| bits * 1_000_000_000 / u64::from(rate.max(1));
    let time = match frame.is_fd {
        false => nanos(head + data, rates.nominal),
        true => nanos(head - 17, rates.nominal) + nanos(data + 26, rates.data),
    };
    Duration::from_nanos(time)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// By hand: 47 + 64 bits at 500 kbit/s are 222 µs.
    #[test]
    fn a_frame_takes_the_time_of_its_bits() {
        let frame = CanFrame { id: 1, is_extended: false, data: vec![0; 8], is_fd: false };
        let rates = Rates { nominal: 500_000, data: 2_000_000 };
        assert_eq!(time_of(&frame, rates), Duration::from_micros(222));
        let mut wires = Wires::default();
        wires.occupy("a", Duration::from_millis(5));
        let end = |bus| wires.end(bus, Duration::from_millis(1), &frame, rates);
        assert_eq!(end("a"), Duration::from_micros(5222));
        assert_eq!(end("b"), Duration::from_micros(1222));
    }
}

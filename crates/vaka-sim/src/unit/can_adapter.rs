//! The Skerrow CAN adapter: a USB device with the requests and pipes of adapters that the Linux kernel's
//! driver `gs_usb` knows, written a second time from the facts of that driver (Linux 6.1,
//! `drivers/net/can/usb/gs_usb.c`; `include/uapi/linux/can/error.h`).

use std::collections::VecDeque;
use std::time::Duration;

use super::power::{ActionEffect, Power};
use super::{Condition, Unit, UserAction};
use crate::can::{CanFrame, CanMember, Fate, Rates};
use crate::flash::Flash;
use crate::usb::{Answer, Bulk, DescribedInterface, Descriptors, Setup};

/// Ids of the adapter. 0x1209:0x0012 follows those of the demo's units.
pub const IDS: (u16, u16) = (0x1209, 0x0012);

/// Clock of its controller in Hz.
const CLOCK: u32 = 48_000_000;

/// Frames that its controller can hold.
const MOST_QUEUED: usize = 16;

/// Destroyed frames until the controller goes off the bus. Source: ISO 11898-1: the error counter counts
/// 8 for each, and 256 are the limit.
const MOST_DESTROYED: u32 = 32;

/// Bits of identifiers in transfers, and classes of errors. Source: `linux/can.h`, `can/error.h`.
const EXTENDED: u32 = 0x8000_0000;
const ERROR: u32 = 0x2000_0000;
const ERROR_PROTOCOL: u32 = 0x08;
const ERROR_ACK: u32 = 0x20;
const ERROR_OFF: u32 = 0x40;

/// An adapter on a CAN bus.
pub struct CanAdapter {
    bus: String,
    serial: String,
    power: Power<()>,
    /// A device without memory of its own.
    ids: (u16, u16),
    flash: Flash,
    bits: Bits,
    rates: Option<Rates>,
    /// Frames to send with their numbers, and when they were queued.
    queue: VecDeque<(Duration, u32, CanFrame)>,
    /// Transfers to the host.
    replies: VecDeque<Vec<u8>>,
    destroyed: u32,
    is_off: bool,
    /// Whether the missing acknowledge bit of the present frame was reported.
    has_reported: bool,
}

/// The timings that the host has set.
#[derive(Clone, Copy, Default)]
struct Bits {
    nominal: u32,
    data: u32,
}

impl CanAdapter {
    /// An adapter that is plugged in, on a bus with this name.
    pub fn new(bus: &str, serial: &str) -> Self {
        Self::posing_as(IDS, bus, serial)
    }

    /// The same with other USB ids.
    pub fn posing_as(ids: (u16, u16), bus: &str, serial: &str) -> Self {
        let mut adapter = Self {
            ids,
            bus: bus.to_owned(),
            serial: serial.to_owned(),
            power: Power::new(),
            flash: Flash::new(0, 1, 256),
            bits: Bits::default(),
            rates: None,
            queue: VecDeque::new(),
            replies: VecDeque::new(),
            destroyed: 0,
            is_off: false,
            has_reported: false,
        };
        adapter.show();
        adapter
    }

    fn show(&mut self) {
        let interface = DescribedInterface {
            class: [0xFF, 0xFF, 0xFF],
            names: vec!["CAN".to_owned()],
            extra: Vec::new(),
            bulk: vec![0x81, 0x02],
            interrupt: Vec::new(),
        };
        let texts = ["Skerrow Instruments", "Skerrow CAN adapter", &self.serial];
        self.power.boot((), Descriptors::new(self.ids, 0x0200, texts, vec![interface]));
    }

    fn stop(&mut self) {
        self.rates = None;
        self.queue.clear();
        self.replies.clear();
        (self.destroyed, self.is_off, self.has_reported) = (0, false, false);
    }

    fn error(&mut self, class: u32, data: [u8; 8]) {
        let mut bytes = [u32::MAX.to_le_bytes(), (class | ERROR).to_le_bytes()].concat();
        bytes.extend([8, 0, 0, 0]);
        bytes.extend(data);
        self.replies.push_back(bytes);
    }

    /// A transfer with a frame.
    fn transfer(number: u32, frame: &CanFrame) -> Vec<u8> {
        let id = frame.id | if frame.is_extended { EXTENDED } else { 0 };
        let mut bytes = [number.to_le_bytes(), id.to_le_bytes()].concat();
        bytes.extend([code_of(frame.data.len()), 0, if frame.is_fd { 0x06 } else { 0 }, 0]);
        bytes.extend(&frame.data);
        bytes.resize(if frame.is_fd { 76 } else { 20 }, 0);
        bytes
    }

    fn take(&mut self, now: Duration, bytes: &[u8]) -> Answer {
        let word = |at: usize| bytes.get(at..at + 4).map(|b| u32::from_le_bytes([b[0], b[1], b[2], b[3]]));
        let (Some(number), Some(id), Some(&[code, 0, flags, _])) = (word(0), word(4), bytes.get(8..12)) else {
            return Answer::Stall;
        };
        let is_fd = flags & 0x02 != 0;
        let len = length_of(code, is_fd);
        let Some(data) = bytes.get(12..12 + len) else { return Answer::Stall };
        if self.rates.is_none() || self.is_off {
            // A stopped controller takes no frame; the host's driver sees no echo.
            return Answer::Done;
        }
        if self.queue.len() >= MOST_QUEUED {
            return Answer::Busy;
        }
        let is_extended = id & EXTENDED != 0;
        let frame = CanFrame { id: id & 0x1FFF_FFFF, is_extended, data: data.to_vec(), is_fd };
        self.queue.push_back((now, number, frame));
        Answer::Done
    }
}

/// Source: ISO 11898-1, table of data length codes.
const LENGTHS: [usize; 16] = [0, 1, 2, 3, 4, 5, 6, 7, 8, 12, 16, 20, 24, 32, 48, 64];

fn code_of(len: usize) -> u8 {
    u8::try_from(LENGTHS.iter().position(|fits| *fits >= len).unwrap_or(15)).unwrap_or(15)
}

fn length_of(code: u8, is_fd: bool) -> usize {
    let len = LENGTHS[usize::from(code & 0xF)];
    if is_fd { len } else { len.min(8) }
}

fn words(words: &[u32]) -> Vec<u8> {
    words.iter().flat_map(|word| word.to_le_bytes()).collect()
}

/// The bit rate of a timing: two parts before the sample point, one after it, and the divider.
fn rate_of(data: &[u8]) -> Option<u32> {
    let word = |at: usize| data.get(at * 4..at * 4 + 4).map(|b| u32::from_le_bytes([b[0], b[1], b[2], b[3]]));
    let quanta = 1 + word(0)? + word(1)? + word(2)?;
    CLOCK.checked_div(quanta.checked_mul(word(4)?)?)
}

impl Unit for CanAdapter {
    fn advance(&mut self, now: Duration) {
        if self.power.due(now).is_some() {
            self.show();
        }
    }

    fn descriptors(&self) -> Option<(u32, &Descriptors)> {
        self.power.descriptors()
    }

    fn control(&mut self, _: Duration, setup: Setup, data: &[u8]) -> Answer {
        // Limits of the timing: quanta before and after the sample point, jump, divider.
        let limits = [1, 16, 1, 8, 4, 1, 1024, 1];
        let features = 0x0000_0500;
        match (setup.kind, setup.request) {
            (0x41, 0) if data == 0xBEEF_u32.to_le_bytes() => Answer::Done,
            (0xC1, 5) => Answer::Data(words(&[0, 2, 1])),
            (0xC1, 4) => Answer::Data(words(&[&[features, CLOCK], &limits[..]].concat())),
            (0xC1, 11) => Answer::Data(words(&[&[features, CLOCK], &limits[..], &limits[..]].concat())),
            (0x41, 1) => match rate_of(data) {
                Some(rate) => {
                    self.bits.nominal = rate;
                    Answer::Done
                }
                None => Answer::Stall,
            },
            (0x41, 10) => match rate_of(data) {
                Some(rate) => {
                    self.bits.data = rate;
                    Answer::Done
                }
                None => Answer::Stall,
            },
            (0x41, 2) => {
                self.stop();
                let is_start = data.first() == Some(&1);
                self.rates = is_start.then_some(Rates { nominal: self.bits.nominal, data: self.bits.data });
                Answer::Done
            }
            _ => Answer::Stall,
        }
    }

    fn bulk(&mut self, now: Duration, transfer: Bulk<'_>) -> Answer {
        match transfer {
            Bulk::Out(0x02, bytes) => self.take(now, bytes),
            Bulk::In(0x01, _) => self.replies.pop_front().map_or(Answer::Busy, Answer::Data),
            _ => Answer::Stall,
        }
    }

    fn can(&mut self) -> Option<&mut dyn CanMember> {
        Some(self)
    }

    fn bus_reset(&mut self, _: Duration) {
        self.stop();
    }

    fn act(&mut self, now: Duration, action: &UserAction) {
        match self.power.apply(action) {
            ActionEffect::Pulled => {
                self.stop();
                self.power.unplug();
            }
            ActionEffect::Plugged => self.power.start(now, Some(())),
            ActionEffect::Nothing | ActionEffect::Tapped(_) => {}
        }
    }

    fn flash(&self) -> &Flash {
        &self.flash
    }

    fn flash_mut(&mut self) -> &mut Flash {
        &mut self.flash
    }

    fn condition(&self) -> Condition {
        self.power.condition(|()| Condition::Application)
    }

    fn revive(&mut self, _: Duration) {
        self.stop();
        self.show();
    }
}

impl CanMember for CanAdapter {
    fn bus(&self) -> &str {
        &self.bus
    }

    fn rates(&self) -> Option<Rates> {
        self.rates.filter(|_| !self.is_off)
    }

    fn next(&self) -> Option<(Duration, CanFrame)> {
        self.queue.front().map(|(ready, _, frame)| (*ready, frame.clone()))
    }

    fn sent(&mut self, _: Duration, fate: Fate) {
        match fate {
            Fate::Acknowledged => {
                self.has_reported = false;
                if let Some((_, number, frame)) = self.queue.pop_front() {
                    self.replies.push_back(Self::transfer(number, &frame));
                }
            }
            Fate::NotAcknowledged if !self.has_reported => {
                self.has_reported = true;
                self.error(ERROR_ACK, [0; 8]);
            }
            // It repeats the frame for ever: a missing acknowledge bit does not lead off the bus.
            Fate::NotAcknowledged => {}
            Fate::Destroyed => {
                self.destroyed += 1;
                if self.destroyed == 1 {
                    self.error(ERROR_PROTOCOL, [0, 0, 0x04, 0, 0, 0, 0, 0]);
                }
                if self.destroyed == MOST_DESTROYED {
                    self.is_off = true;
                    self.queue.clear();
                    self.error(ERROR_OFF, [0; 8]);
                }
            }
        }
    }

    fn receive(&mut self, _: Duration, frame: &CanFrame) {
        self.replies.push_back(Self::transfer(u32::MAX, frame));
    }
}

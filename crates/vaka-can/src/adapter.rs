//! An adapter: a channel that is started with a bit rate, and frames to and from it.

use std::collections::VecDeque;
use std::time::Duration;

use vaka_usb::descriptor::Configuration;
use vaka_usb::{Clock, EndpointInfo, Setup, TransferError, UsbDevice};

use crate::error::CanError;
use crate::frame::CanFrame;
use crate::timing::{Timing, TimingLimits, divide};
use crate::wire::{self, BusErrors, FromAdapter, feature, mode, request};

/// Time for a request. Chosen by us.
const REQUEST_TIMEOUT: Duration = Duration::from_secs(2);

/// Frames that are on their way to the bus at once. Source: the kernel's driver sends ten.
const MOST_UNDERWAY: usize = 10;

/// Received frames that wait for their reader. Chosen by us: some seconds of a busy bus.
const MOST_PENDING: usize = 4096;

/// Bytes of one read: more than the largest transfer, in whole packets of any size.
const READ: usize = 512;

/// The bit rates of a bus.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct BusSettings {
    /// Bits per second.
    pub bit_rate: u32,
    /// Bits per second in the data of FD frames; `None`: there are none.
    pub data_rate: Option<u32>,
}

/// A started channel of an adapter. Dropping it stops the channel.
pub struct Adapter<D: UsbDevice> {
    device: D,
    interface: u8,
    read: EndpointInfo,
    write: EndpointInfo,
    /// Numbers of the frames that are not acknowledged yet.
    underway: VecDeque<u32>,
    next: u32,
    pending: VecDeque<CanFrame>,
    /// The errors since the last frame that went well.
    errors: BusErrors,
}

impl<D: UsbDevice> Adapter<D> {
    /// Claims an adapter and starts its first channel.
    ///
    /// # Errors
    /// The device is not an adapter, is in use, or cannot use the bit rates.
    pub fn open(mut device: D, configuration: &Configuration, settings: BusSettings) -> Result<Self, CanError> {
        let with_pipes = configuration.interfaces.iter().find_map(|i| Some((i, i.bulk(true)?, i.bulk(false)?)));
        let (found, read, write) = with_pipes.ok_or(CanError::NoAdapter("it has no pair of bulk endpoints"))?;
        device.claim(found.number, found.alternate)?;
        let underway = VecDeque::new();
        let mut adapter = Self {
            device,
            interface: found.number,
            read,
            write,
            underway,
            next: 0,
            pending: VecDeque::new(),
            errors: BusErrors::default(),
        };
        adapter.start(settings)?;
        Ok(adapter)
    }

    /// The USB device.
    pub fn device(&mut self) -> &mut D {
        &mut self.device
    }

    /// The endpoint of received frames, and that of frames to send.
    pub fn pipes(&self) -> [EndpointInfo; 2] {
        [self.read, self.write]
    }

    fn request(&self, request: u8, value: u16) -> Setup {
        Setup { kind: wire::VENDOR_OUT, request, value, index: self.interface.into() }
    }

    fn tell(&mut self, request: u8, channel: u16, words: &[u32]) -> Result<(), CanError> {
        let data: Vec<u8> = words.iter().flat_map(|word| word.to_le_bytes()).collect();
        let setup = self.request(request, channel);
        Ok(self.device.control_out(setup, &data, REQUEST_TIMEOUT)?)
    }

    fn ask(&mut self, request: u8, channel: u16, words: u16) -> Result<Vec<u32>, CanError> {
        let setup = Setup { kind: wire::VENDOR_IN, ..self.request(request, channel) };
        let bytes = self.device.control_in(setup, words * 4, REQUEST_TIMEOUT)?;
        let words = bytes.as_chunks::<4>().0.iter().map(|word| u32::from_le_bytes(*word));
        Ok(words.collect())
    }

    fn start(&mut self, settings: BusSettings) -> Result<(), CanError> {
        const SHORT: CanError = CanError::NoAdapter("its reply to a request is too short");
        // Source: the kernel's driver sends these two with wValue 1.
        self.tell(request::HOST_FORMAT, 1, &[wire::BYTE_ORDER])?;
        self.ask(request::DEVICE_CONFIG, 1, 3)?;
        let limits = self.ask(request::TIMING_LIMITS, 0, 10)?;
        let (nominal, features) = limits_in(&limits).ok_or(SHORT)?;
        // A channel that another program left running is stopped.
        self.tell(request::MODE, 0, &[mode::STOP, 0])?;
        let timing = divide(&nominal, settings.bit_rate).ok_or(CanError::BitRate(settings.bit_rate))?;
        self.tell(request::BIT_TIMING, 0, &words(timing))?;
        let mut flags = 0;
        if let Some(rate) = settings.data_rate {
            if features & feature::FD == 0 {
                return Err(CanError::NoFd);
            }
            let data = match features & feature::EXTENDED_LIMITS {
                0 => nominal,
                _ => data_limits_in(&self.ask(request::LIMITS_EXTENDED, 0, 18)?).ok_or(SHORT)?,
            };
            let timing = divide(&data, rate).ok_or(CanError::BitRate(rate))?;
            self.tell(request::DATA_BIT_TIMING, 0, &words(timing))?;
            flags = mode::FD;
        }
        self.tell(request::MODE, 0, &[mode::START, flags])
    }

    /// Sends a frame. It is on the bus when a later call has seen its acknowledge bit.
    ///
    /// # Errors
    /// The adapter has no room because frames are not acknowledged in time, or it failed.
    pub fn send(&mut self, frame: &CanFrame, clock: &dyn Clock, within: Duration) -> Result<(), CanError> {
        let deadline = clock.now() + within;
        while self.underway.len() >= MOST_UNDERWAY {
            self.hear(deadline.saturating_sub(clock.now()))?;
        }
        let number = self.next;
        self.next = (self.next + 1) % u32::try_from(MOST_UNDERWAY).unwrap_or(1);
        let left = deadline.saturating_sub(clock.now()).max(Duration::from_millis(1));
        let sent = self.device.write_endpoint(self.write, &wire::sending(frame, number, 0), left);
        self.unhalted(self.write, sent)?;
        self.underway.push_back(number);
        Ok(())
    }

    /// Waits until all frames that were sent are acknowledged.
    ///
    /// # Errors
    /// They are not in time.
    pub fn flush(&mut self, clock: &dyn Clock, within: Duration) -> Result<(), CanError> {
        let deadline = clock.now() + within;
        while !self.underway.is_empty() {
            self.hear(deadline.saturating_sub(clock.now()))?;
        }
        Ok(())
    }

    /// Drops the frames that were received and not read.
    pub fn forget(&mut self) {
        self.pending.clear();
    }

    /// The next received frame.
    ///
    /// # Errors
    /// None in time, or the cause that prevents frames.
    pub fn receive(&mut self, clock: &dyn Clock, within: Duration) -> Result<CanFrame, CanError> {
        let deadline = clock.now() + within;
        loop {
            if let Some(frame) = self.pending.pop_front() {
                return Ok(frame);
            }
            self.hear(deadline.saturating_sub(clock.now()))?;
        }
    }

    /// Reads one transfer of the adapter.
    fn hear(&mut self, within: Duration) -> Result<(), CanError> {
        if within.is_zero() {
            return Err(self.silence());
        }
        let read = self.device.read_endpoint(self.read, READ, within);
        let bytes = match self.unhalted(self.read, read) {
            Err(TransferError::Timeout) => return Err(self.silence()),
            done => done?,
        };
        let Some((came, is_lost)) = wire::receiving(&bytes) else {
            return Err(CanError::NoAdapter("its frames are too short"));
        };
        if is_lost {
            return Err(CanError::Overflow);
        }
        match came {
            FromAdapter::Received(frame) => {
                if self.pending.len() == MOST_PENDING {
                    return Err(CanError::Overflow);
                }
                self.errors = BusErrors::default();
                self.pending.push_back(frame);
            }
            FromAdapter::Sent(number) => {
                self.errors = BusErrors::default();
                self.underway.retain(|other| *other != number);
            }
            FromAdapter::Errors(errors) => self.note(errors)?,
            FromAdapter::Other => {}
        }
        Ok(())
    }

    /// Ends the halt of an endpoint after a stall, so that the next session can use it.
    fn unhalted<T>(&mut self, pipe: EndpointInfo, done: Result<T, TransferError>) -> Result<T, TransferError> {
        if let Err(TransferError::Stall) = done {
            let _ = self.device.clear_halt(pipe);
        }
        done
    }

    fn note(&mut self, new: BusErrors) -> Result<(), CanError> {
        let all = &mut self.errors;
        all.not_acknowledged |= new.not_acknowledged;
        all.is_disturbed |= new.is_disturbed;
        all.is_passive |= new.is_passive;
        match new {
            BusErrors { is_off: true, .. } => Err(CanError::BusOff),
            BusErrors { is_overrun: true, .. } => Err(CanError::Overflow),
            _ => Ok(()),
        }
    }

    /// The cause of a silent bus, as far as the adapter reported it.
    fn silence(&self) -> CanError {
        match self.errors {
            BusErrors { is_disturbed: true, .. } => {
                CanError::Disturbed("another bit rate, wiring, or missing termination")
            }
            _ if !self.underway.is_empty() => CanError::NotAcknowledged,
            BusErrors { is_passive: true, .. } => CanError::Disturbed("it reached its limit of errors"),
            _ => CanError::Timeout,
        }
    }
}

impl<D: UsbDevice> Drop for Adapter<D> {
    /// A channel that runs would acknowledge frames for nodes that are not there.
    fn drop(&mut self) {
        let _ = self.tell(request::MODE, 0, &[mode::STOP, 0]);
    }
}

fn words(timing: Timing) -> [u32; 5] {
    // The adapter adds the first two.
    let propagation = timing.before / 2;
    [propagation, timing.before - propagation, timing.after, timing.jump, timing.divider]
}

/// Limits of the timing of bits, and the features.
fn limits_in(words: &[u32]) -> Option<(TimingLimits, u32)> {
    let [features, clock, rest @ ..] = words else { return None };
    Some((limits_of(*clock, rest)?, *features))
}

/// Limits of the timing of bits in the data of FD frames.
fn data_limits_in(words: &[u32]) -> Option<TimingLimits> {
    limits_of(*words.get(1)?, words.get(10..)?)
}

fn limits_of(clock: u32, words: &[u32]) -> Option<TimingLimits> {
    let &[before_least, before_most, after_least, after_most, jump, least, most, step, ..] = words else {
        return None;
    };
    Some(TimingLimits {
        clock,
        before: (before_least, before_most),
        after: (after_least, after_most),
        jump,
        divider: (least, most.min(1 << 16), step),
    })
}

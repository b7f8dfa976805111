//! Messages of several frames: the pure state machines of ISO 15765-2, with normal addressing.
//!
//! Source: ISO 15765-2:2016, section 9 (protocol control information) and 9.6.5.4 (separation time).

use std::time::Duration;

use thiserror::Error;

use crate::frame::{MOST_CLASSIC, MOST_FD, fd_length};

/// Time limits for a flow control and for the next consecutive frame (N_Bs and N_Cr). Source: table 16.
pub const FLOW_TIMEOUT: Duration = Duration::from_millis(1000);
/// See above.
pub const CONSECUTIVE_TIMEOUT: Duration = Duration::from_millis(1000);

/// Number of waits that a receiver may ask for. Chosen by us: ten seconds.
const MOST_WAITS: u32 = 10;

/// Largest message that is received. Chosen by us: more than a bootloader has memory for.
pub const MOST_RECEIVED: usize = 64 * 1024;

/// Kinds of frames: the upper four bits of the first byte. Source: table 9.
const SINGLE: u8 = 0x0;
const FIRST: u8 = 0x1;
const CONSECUTIVE: u8 = 0x2;
const FLOW: u8 = 0x3;

/// Flow states. Source: table 18.
const CONTINUE: u8 = 0;
const WAIT: u8 = 1;
const OVERFLOW: u8 = 2;

/// Largest length in a first frame without the escape. Source: section 9.6.3.1.
const MOST_SHORT: usize = 4095;

/// Why a message could not be transferred.
#[derive(Clone, Copy, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum IsoTpError {
    /// The receiver has no room for the message.
    #[error("the receiver has no room for a message of {0} bytes (overflow)")]
    NoRoom(usize),
    /// The receiver asks to wait too often.
    #[error("the receiver asks to wait again and again")]
    TooManyWaits,
    /// A flow control is invalid.
    #[error("the flow control of the receiver is invalid (state {0})")]
    BadFlow(u8),
    /// A frame of a message is missing or was repeated.
    #[error("frame {found} of a message arrived in place of frame {expected} (wrong sequence)")]
    Sequence {
        /// The expected number, 0 to 15.
        expected: u8,
        /// The received one.
        found: u8,
    },
    /// A message is longer than any that is received.
    #[error("a message of {0} bytes is announced, which is too long")]
    TooLong(usize),
    /// A frame is not part of a message.
    #[error("a frame is not one of ISO-TP, or its length is wrong")]
    Malformed,
}

/// The form of frames that are sent.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Form {
    /// Whether they are FD frames.
    pub is_fd: bool,
    /// The byte that fills classic frames up to eight bytes, and FD frames up to a length that exists.
    pub padding: Option<u8>,
}

impl Form {
    fn room(self) -> usize {
        if self.is_fd { MOST_FD } else { MOST_CLASSIC }
    }

    /// A frame with the padding, of a length that exists.
    pub fn padded(self, mut frame: Vec<u8>) -> Vec<u8> {
        let len = match self.padding {
            Some(_) => fd_length(frame.len().max(MOST_CLASSIC)),
            None => fd_length(frame.len()),
        };
        frame.resize(len, self.padding.unwrap_or(0xCC));
        frame
    }
}

/// The next action of a sender.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SendStep {
    /// This frame is sent, after the separation time if it is not the first.
    Frame(Vec<u8>),
    /// A flow control is awaited.
    AwaitFlow,
    /// The message is complete.
    Done,
}

/// The sender of one message.
#[derive(Clone, Debug)]
pub struct Sender<'m> {
    message: &'m [u8],
    form: Form,
    has_begun: bool,
    sent: usize,
    sequence: u8,
    /// Frames until the next flow control; `None`: no more is awaited.
    block: Option<u8>,
    awaits_flow: bool,
    waits: u32,
    separation: Duration,
}

impl<'m> Sender<'m> {
    /// A sender of a message.
    pub fn new(message: &'m [u8], form: Form) -> Self {
        Self {
            message,
            form,
            has_begun: false,
            sent: 0,
            sequence: 0,
            block: None,
            awaits_flow: false,
            waits: 0,
            separation: Duration::ZERO,
        }
    }

    /// The time between two consecutive frames.
    pub fn separation(&self) -> Duration {
        self.separation
    }

    /// The next action.
    pub fn step(&mut self) -> SendStep {
        let rest = &self.message[self.sent..];
        match (self.awaits_flow, self.has_begun) {
            (true, _) => SendStep::AwaitFlow,
            (false, false) => self.first(),
            (false, true) if rest.is_empty() => SendStep::Done,
            (false, true) => {
                self.sequence = (self.sequence + 1) % 16;
                let part = &rest[..rest.len().min(self.form.room() - 1)];
                self.sent += part.len();
                let frame = [&[CONSECUTIVE << 4 | self.sequence], part].concat();
                if let Some(left) = &mut self.block {
                    *left -= 1;
                    self.awaits_flow = *left == 0 && self.sent < self.message.len();
                }
                SendStep::Frame(self.form.padded(frame))
            }
        }
    }

    fn first(&mut self) -> SendStep {
        self.has_begun = true;
        let (len, room) = (self.message.len(), self.form.room());
        let single = match u8::try_from(len) {
            // A single frame of more than seven bytes has its length in a second byte.
            Ok(short) if len < MOST_CLASSIC => Some(vec![SINGLE << 4 | short]),
            Ok(long) if len <= room.saturating_sub(2) => Some(vec![SINGLE << 4, long]),
            _ => None,
        };
        if let Some(mut frame) = single {
            frame.extend(self.message);
            self.sent = len;
            return SendStep::Frame(self.form.padded(frame));
        }
        let mut frame = match u16::try_from(len) {
            Ok(short) if len <= MOST_SHORT => (u16::from(FIRST) << 12 | short).to_be_bytes().to_vec(),
            _ => [&[FIRST << 4, 0][..], &u32::try_from(len).unwrap_or(u32::MAX).to_be_bytes()].concat(),
        };
        let part = room - frame.len();
        frame.extend(&self.message[..part]);
        (self.sent, self.awaits_flow) = (part, true);
        SendStep::Frame(frame)
    }

    /// Takes a frame from the receiver; `false` if it is not a flow control.
    ///
    /// # Errors
    /// The receiver has no room, waits too often, or its flow control is invalid.
    pub fn take(&mut self, frame: &[u8]) -> Result<bool, IsoTpError> {
        let &[kind, block, separation, ..] = frame else { return Ok(false) };
        if kind >> 4 != FLOW || !self.awaits_flow {
            return Ok(false);
        }
        match kind & 0xF {
            CONTINUE => {
                self.block = (block > 0).then_some(block);
                (self.awaits_flow, self.waits) = (false, 0);
                self.separation = separation_of(separation);
            }
            WAIT => {
                self.waits += 1;
                if self.waits > MOST_WAITS {
                    return Err(IsoTpError::TooManyWaits);
                }
            }
            OVERFLOW => return Err(IsoTpError::NoRoom(self.message.len())),
            other => return Err(IsoTpError::BadFlow(other)),
        }
        Ok(true)
    }
}

/// The separation time of a byte; reserved values mean the longest. Source: table 20.
fn separation_of(byte: u8) -> Duration {
    match byte {
        0..=0x7F => Duration::from_millis(byte.into()),
        0xF1..=0xF9 => Duration::from_micros(u64::from(byte - 0xF0) * 100),
        _ => Duration::from_millis(0x7F),
    }
}

/// The byte of a separation time, rounded up.
fn separation_byte(time: Duration) -> u8 {
    let micros = time.as_micros();
    match micros {
        0 => 0,
        1..=900 => 0xF0 + u8::try_from(micros.div_ceil(100)).unwrap_or(9),
        _ => u8::try_from(micros.div_ceil(1000)).unwrap_or(0x7F).min(0x7F),
    }
}

/// The flow control that a receiver sends.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Flow {
    /// Frames until the next flow control; 0: all of them.
    pub block: u8,
    /// Time between two frames.
    pub separation: Duration,
}

/// The result of a received frame.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Received {
    /// The message is complete.
    Message(Vec<u8>),
    /// This flow control is sent.
    Reply(Vec<u8>),
    /// The next frame is awaited.
    More,
}

/// The receiver of one message.
#[derive(Clone, Debug)]
pub struct Receiver {
    form: Form,
    flow: Flow,
    message: Vec<u8>,
    /// Length of the message; 0 before its first frame.
    total: usize,
    sequence: u8,
    /// Frames since the last flow control.
    in_block: u8,
}

impl Receiver {
    /// A receiver that sends these flow controls.
    pub fn new(form: Form, flow: Flow) -> Self {
        Self { form, flow, message: Vec::new(), total: 0, sequence: 0, in_block: 0 }
    }

    /// Whether the first frame of a longer message has arrived.
    pub fn has_begun(&self) -> bool {
        self.total > 0
    }

    /// Takes a frame.
    ///
    /// # Errors
    /// The message is too long, a frame is missing, or the frame is malformed.
    pub fn take(&mut self, frame: &[u8]) -> Result<Received, IsoTpError> {
        let &[kind, ..] = frame else { return Err(IsoTpError::Malformed) };
        match kind >> 4 {
            SINGLE => single(frame).map(Received::Message).ok_or(IsoTpError::Malformed),
            FIRST => self.first(frame),
            CONSECUTIVE if self.has_begun() => self.consecutive(kind & 0xF, &frame[1..]),
            // The rest of an earlier message, or a flow control for another sender.
            CONSECUTIVE | FLOW => Ok(Received::More),
            _ => Err(IsoTpError::Malformed),
        }
    }

    fn first(&mut self, frame: &[u8]) -> Result<Received, IsoTpError> {
        let &[high, low, ref rest @ ..] = frame else { return Err(IsoTpError::Malformed) };
        let short = usize::from(high & 0xF) << 8 | usize::from(low);
        let (total, data) = match (short, rest) {
            (0, [a, b, c, d, data @ ..]) => {
                (usize::try_from(u32::from_be_bytes([*a, *b, *c, *d])).unwrap_or(usize::MAX), data)
            }
            (0, _) => return Err(IsoTpError::Malformed),
            (short, data) => (short, data),
        };
        // A message that fits in one frame has no first frame. Source: section 9.6.3.2.
        if total <= data.len() {
            return Err(IsoTpError::Malformed);
        }
        if total > MOST_RECEIVED {
            return Err(IsoTpError::TooLong(total));
        }
        self.message = data.to_vec();
        (self.total, self.sequence, self.in_block) = (total, 0, 0);
        Ok(Received::Reply(self.flow_control(CONTINUE)))
    }

    fn consecutive(&mut self, sequence: u8, data: &[u8]) -> Result<Received, IsoTpError> {
        let expected = (self.sequence + 1) % 16;
        if sequence != expected {
            self.total = 0;
            return Err(IsoTpError::Sequence { expected, found: sequence });
        }
        self.sequence = expected;
        let left = self.total - self.message.len();
        self.message.extend(&data[..data.len().min(left)]);
        if self.message.len() == self.total {
            self.total = 0;
            return Ok(Received::Message(std::mem::take(&mut self.message)));
        }
        // Without a block size the count has no meaning.
        self.in_block = self.in_block.wrapping_add(1);
        if self.flow.block > 0 && self.in_block == self.flow.block {
            self.in_block = 0;
            return Ok(Received::Reply(self.flow_control(CONTINUE)));
        }
        Ok(Received::More)
    }

    /// The flow control that refuses a message that is too long.
    pub fn refusal(&self) -> Vec<u8> {
        self.flow_control(OVERFLOW)
    }

    fn flow_control(&self, state: u8) -> Vec<u8> {
        self.form.padded(vec![FLOW << 4 | state, self.flow.block, separation_byte(self.flow.separation)])
    }
}

/// The message of a single frame.
fn single(frame: &[u8]) -> Option<Vec<u8>> {
    let (len, data) = match frame {
        [0, long, data @ ..] if frame.len() > MOST_CLASSIC => (usize::from(*long), data),
        [short, data @ ..] => (usize::from(short & 0xF), data),
        [] => return None,
    };
    data.get(..len).map(<[u8]>::to_vec)
}

#[cfg(test)]
mod tests {
    use super::*;

    use proptest::prelude::*;

    const CLASSIC: Form = Form { is_fd: false, padding: None };

    fn frame(step: SendStep) -> Vec<u8> {
        match step {
            SendStep::Frame(frame) => frame,
            other => panic!("{other:?}"),
        }
    }

    /// By hand after ISO 15765-2, tables 9 and 18: a message of 20 bytes has a first frame with six of
    /// them and two consecutive ones.
    #[test]
    fn a_message_of_three_frames_has_these_bytes() {
        let message: Vec<u8> = (1..=20).collect();
        let mut sender = Sender::new(&message, Form { padding: Some(0xCC), ..CLASSIC });
        assert_eq!(frame(sender.step()), [0x10, 20, 1, 2, 3, 4, 5, 6]);
        assert_eq!(sender.step(), SendStep::AwaitFlow);
        assert_eq!(sender.take(&[0x31, 0, 0]), Ok(true));
        assert_eq!(sender.step(), SendStep::AwaitFlow);
        assert_eq!(sender.take(&[0x30, 0, 0xF5]), Ok(true));
        assert_eq!(sender.separation(), Duration::from_micros(500));
        assert_eq!(frame(sender.step()), [0x21, 7, 8, 9, 10, 11, 12, 13]);
        assert_eq!(frame(sender.step()), [0x22, 14, 15, 16, 17, 18, 19, 20]);
        assert_eq!(sender.step(), SendStep::Done);
        let mut receiver = Receiver::new(CLASSIC, Flow { block: 1, separation: Duration::from_millis(2) });
        assert_eq!(receiver.take(&[0x10, 20, 1, 2, 3, 4, 5, 6]), Ok(Received::Reply(vec![0x30, 1, 2])));
        assert_eq!(receiver.take(&[0x21, 7, 8, 9, 10, 11, 12, 13]), Ok(Received::Reply(vec![0x30, 1, 2])));
        assert_eq!(receiver.take(&[0x22, 14, 15, 16, 17, 18, 19, 20]), Ok(Received::Message(message)));
    }

    #[test]
    fn single_frames_have_a_short_or_a_long_form() {
        let fd = Form { is_fd: true, padding: None };
        for (len, form, head, size) in [
            (0, CLASSIC, &[0][..], 1),
            (7, CLASSIC, &[7], 8),
            (7, fd, &[7], 8),
            (8, fd, &[0, 8], 12),
            (62, fd, &[0, 62], 64),
        ] {
            let message = vec![9; len];
            let mut sender = Sender::new(&message, form);
            let found = frame(sender.step());
            assert_eq!((found.len(), &found[..head.len()]), (size, head), "{len}");
            assert_eq!(sender.step(), SendStep::Done);
            assert_eq!(Receiver::new(form, Flow::default()).take(&found), Ok(Received::Message(message)), "{len}");
        }
        let long = vec![1; 4096];
        assert_eq!(frame(Sender::new(&long, CLASSIC).step()), [0x10, 0, 0, 0, 0x10, 0, 1, 1]);
    }

    #[test]
    fn what_the_other_side_does_wrong_has_its_own_error() {
        let message = [0; 30];
        let flow = |states: &[u8]| {
            let mut sender = Sender::new(&message, CLASSIC);
            frame(sender.step());
            states.iter().try_for_each(|state| sender.take(&[0x30 | state, 0, 0]).map(drop)).unwrap_err()
        };
        assert_eq!(flow(&[2]), IsoTpError::NoRoom(30));
        assert_eq!(flow(&[5]), IsoTpError::BadFlow(5));
        assert_eq!(flow(&[1; 11]), IsoTpError::TooManyWaits);
        let begun = || {
            let mut receiver = Receiver::new(CLASSIC, Flow::default());
            receiver.take(&[0x10, 20, 1, 2, 3, 4, 5, 6]).unwrap();
            receiver
        };
        assert_eq!(begun().take(&[0x22, 0]), Err(IsoTpError::Sequence { expected: 1, found: 2 }));
        for (bad, error) in [
            (&[][..], IsoTpError::Malformed),
            (&[0x05, 1], IsoTpError::Malformed),
            (&[0x10, 6, 1, 2, 3, 4, 5, 6], IsoTpError::Malformed),
            (&[0x10, 0, 0, 1], IsoTpError::Malformed),
            (&[0x10, 0, 0x7F, 0, 0, 0, 1, 2], IsoTpError::TooLong(0x7F00_0000)),
            (&[0x50, 0], IsoTpError::Malformed),
        ] {
            assert_eq!(Receiver::new(CLASSIC, Flow::default()).take(bad), Err(error), "{bad:02x?}");
        }
        // A consecutive frame without a first one belongs to an earlier message.
        assert_eq!(Receiver::new(CLASSIC, Flow::default()).take(&[0x21, 1]), Ok(Received::More));
    }

    proptest! {
        /// Any message arrives whole, with any block size, in classic and FD frames.
        #[test]
        fn messages_arrive_whole(
            message in proptest::collection::vec(any::<u8>(), 0..6000),
            (is_fd, padded, block) in (any::<bool>(), any::<bool>(), 0..20_u8),
        ) {
            let form = Form { is_fd, padding: padded.then_some(0x55) };
            let mut sender = Sender::new(&message, form);
            let mut receiver = Receiver::new(form, Flow { block, separation: Duration::ZERO });
            let mut came = None;
            loop {
                match sender.step() {
                    SendStep::Done => break,
                    SendStep::AwaitFlow => prop_assert!(false, "no flow control came"),
                    SendStep::Frame(frame) => match receiver.take(&frame).unwrap() {
                        Received::Message(message) => came = Some(message),
                        Received::Reply(flow) => prop_assert!(sender.take(&flow).unwrap()),
                        Received::More => {}
                    },
                }
            }
            prop_assert_eq!(came.as_ref(), Some(&message));
        }

        #[test]
        fn no_frame_is_too_strange(frames in proptest::collection::vec(proptest::collection::vec(any::<u8>(), 0..65), 0..20)) {
            let mut receiver = Receiver::new(Form { is_fd: true, padding: None }, Flow::default());
            let message = [1; 100];
            let mut sender = Sender::new(&message, CLASSIC);
            for frame in frames {
                let _ = (receiver.take(&frame), sender.take(&frame), sender.step());
            }
        }
    }
}

//! # Parcels on bulk pipes
//!
//! The bootloader has two bulk pipes that carry a stream of frames in consistent
//! overhead byte stuffing, each ended by a 0. A frame is a letter and its bytes; the
//! answer is the letter again, a flag byte and its bytes. In the flag byte bit 7 says
//! that it failed, bit 6 that more time is needed (another answer follows), and bits 0
//! to 3 hold a reason: 1 bad digest, 2 too large, 3 out of order.
//!
//! "I" asks for the chip (u16be). "B" with the length (u32be) and the SHA-256 of what
//! will come makes room: the flash is erased, with an answer that more time is needed
//! every 30 ms; when that is over, it answers, leaves the bus and comes back ready to
//! take bytes, and takes them only then. "D" with an offset (u24be) and up to 512 bytes
//! goes to that offset from the start of the application; offsets must come in order.
//! "E" ends: it is well if the digest is right; the answer's bytes are its first four.
//! "X" starts the application.

use std::sync::{Arc, Mutex};
use std::time::Duration;

use sha2::Digest;
use vaka_sim::flash::Flash;
use vaka_sim::unit::vendor_unit::Loader;
use vaka_sim::usb::{Answer, Bulk, DescribedInterface};

use super::{END, Maker, START};

pub const DIALECT: &str = r#"
dialect = 1
name = "parcel"
[carrier]
kind = "pipes"
[framing]
kind = "cobs"
[table.reason]
0 = "ok"
1 = "the digest is wrong"
2 = "it is too large"
3 = "the bytes came out of order"
[geometry]
chunk = 512
pad = false
[sync]
do = "hello"
[exchange.hello]
send = "'I'"
reply = "'I', u8 _, u16be chip"
within = "200 ms"
[identify]
do = "hello"
tells = { chip = "chip" }
[exchange.make_room]
send = "'B', u32be = length, bytes = sha256(data)"
reply = "'B', bits8(failed:1 = 0, more:1 = 0, _:2, code:4 in reason)"
busy = "'B', bits8(_:1, more:1 = 1, _:6)"
refused = "'B', bits8(failed:1 = 1, more:1, _:2, code:4 in reason)"
pause = "0 ms"
[begin]
erases = true
do = "make_room; comes_back within 3 s; hello"
[write]
send = "'D', u24be = address - region_start & 0xFFFFFF, bytes data"
reply = "'D', bits8(failed:1 = 0, _:3, code:4)"
refused = "'D', bits8(failed:1 = 1, _:3, code:4 in reason)"
[checksum]
send = "'E'"
reply = "'E', bits8(failed:1 = 0, _:3, code:4), bytes(4) head"
refused = "'E', bits8(failed:1 = 1, _:3, code:4 in reason)"
unit = "head"
image = "slice(sha256(data), 0, 4)"
[restart]
send = "'X'"
reply = "'X', u8 _"
"#;

/// State that survives a restart of the unit.
#[derive(Debug, Clone, Default)]
struct Job {
    length: usize,
    digest: Vec<u8>,
    next: usize,
}

type Kept = Arc<Mutex<Option<Job>>>;

#[derive(Debug)]
struct Parcel {
    received: Vec<u8>,
    replies: Vec<(Duration, Vec<u8>)>,
    leaves_at: Option<Duration>,
    /// The state before the unit disconnected, and the state after that.
    job: Option<Job>,
    kept: Kept,
}

pub fn maker() -> Maker {
    let kept = Kept::default();
    Box::new(move || {
        let job = kept.lock().unwrap().take();
        let (received, replies, kept) = (Vec::new(), Vec::new(), kept.clone());
        Box::new(Parcel { received, replies, leaves_at: None, job, kept })
    })
}

fn stuffed(frame: &[u8]) -> Vec<u8> {
    let mut wire = vec![0];
    let mut code = 0;
    for byte in frame {
        if *byte != 0 {
            wire.push(*byte);
        }
        if *byte == 0 || wire.len() - code == 255 {
            wire[code] = u8::try_from(wire.len() - code).unwrap();
            code = wire.len();
            wire.push(0);
        }
    }
    wire[code] = u8::try_from(wire.len() - code).unwrap();
    wire.push(0);
    wire
}

fn unstuffed(wire: &[u8]) -> Option<Vec<u8>> {
    let mut frame = Vec::new();
    let mut at = 0;
    while at < wire.len() {
        let code = usize::from(wire[at]);
        frame.extend_from_slice(wire.get(at + 1..at + code)?);
        at += code;
        if code < 255 && at < wire.len() {
            frame.push(0);
        }
    }
    Some(frame)
}

impl Parcel {
    fn answer(&mut self, at: Duration, letter: u8, flags: u8, bytes: &[u8]) {
        self.replies.push((at, stuffed(&[&[letter, flags], bytes].concat())));
    }

    fn frame(&mut self, now: Duration, flash: &mut Flash, frame: &[u8]) {
        let [letter, rest @ ..] = frame else { return };
        match (*letter, rest) {
            (b'I', []) => self.answer(now, b'I', 0, &[0x50, 0xAC]),
            (b'B', [a, b, c, d, digest @ ..]) if digest.len() == 32 => {
                let length = u32::from_be_bytes([*a, *b, *c, *d]) as usize;
                if length > (END - START) as usize {
                    return self.answer(now, b'B', 0x82, &[]);
                }
                flash.erase(START..END);
                for pause in 1..=3 {
                    self.answer(now + Duration::from_millis(30 * pause), b'B', 0x40, &[]);
                }
                self.answer(now + Duration::from_millis(120), b'B', 0, &[]);
                self.leaves_at = Some(now + Duration::from_millis(150));
                *self.kept.lock().unwrap() = Some(Job { length, digest: digest.to_vec(), next: 0 });
            }
            (b'D', [a, b, c, data @ ..]) if data.len() <= 512 => {
                let offset = u32::from_be_bytes([0, *a, *b, *c]) as usize;
                match &mut self.job {
                    Some(job) if job.next == offset && offset + data.len() <= job.length => {
                        job.next += data.len();
                        flash.program(START + u32::try_from(offset).unwrap(), data);
                        let time = Flash::program_time(u32::try_from(data.len()).unwrap());
                        self.answer(now + time, b'D', 0, &[]);
                    }
                    _ => self.answer(now, b'D', 0x83, &[]),
                }
            }
            (b'E', []) => {
                let held = self.job.as_ref().and_then(|job| Some((job, flash.read(START, job.length)?)));
                match held {
                    Some((job, bytes)) if sha2::Sha256::digest(bytes)[..] == job.digest[..] => {
                        let head = job.digest[..4].to_vec();
                        self.answer(now, b'E', 0, &head);
                    }
                    _ => self.answer(now, b'E', 0x81, &[]),
                }
            }
            (b'X', []) => {
                self.answer(now, b'X', 0, &[]);
                self.leaves_at = Some(now + Duration::from_millis(40));
            }
            _ => self.answer(now, *letter, 0x83, &[]),
        }
    }
}

impl Loader for Parcel {
    fn interfaces(&self) -> Vec<DescribedInterface> {
        let (names, extra) = (vec!["Parcel".to_owned()], Vec::new());
        vec![DescribedInterface { class: [0xFF, 1, 1], names, extra, bulk: vec![0x01, 0x81], interrupt: Vec::new() }]
    }

    fn pipe(&mut self, now: Duration, flash: &mut Flash, transfer: Bulk<'_>) -> Answer {
        match transfer {
            Bulk::Out(1, data) => {
                self.received.extend_from_slice(data);
                while let Some(end) = self.received.iter().position(|byte| *byte == 0) {
                    let wire: Vec<u8> = self.received.drain(..=end).take(end).collect();
                    if let Some(frame) = unstuffed(&wire) {
                        self.frame(now, flash, &frame);
                    }
                }
                Answer::Done
            }
            Bulk::In(1, length) => match self.replies.first_mut() {
                Some((at, bytes)) if *at <= now => {
                    let part: Vec<u8> = bytes.drain(..bytes.len().min(length).min(64)).collect();
                    if bytes.is_empty() {
                        self.replies.remove(0);
                    }
                    Answer::Data(part)
                }
                _ => Answer::Busy,
            },
            _ => Answer::Stall,
        }
    }

    fn leaves_at(&self) -> Option<Duration> {
        self.leaves_at
    }
}

//! The Turnstone shore-power controller: several of them are nodes of one CAN bus.
//!
//! Two variants differ in their microcontroller. The bootloader speaks ISO-TP with classic frames,
//! padding 0x5C, and 11-bit identifiers: requests to a node go to 0x480 plus its number, replies come from
//! 0x580 plus its number. The number is given by a switch; the unique id by the chip. All numbers are
//! big-endian.
//!
//! | request | reply |
//! |---|---|
//! | to 0x480: 6D | ED, number, unique id (4), chip |
//! | 21 | A1, status, chip, KiB of flash u16 |
//! | 32, address u32 | B2, status: erases a sector |
//! | 43, address u32, up to 256 bytes | C3, status: programs them |
//! | 54, address u32, length u32 | D4, status, CRC-32 u32 |
//! | 65, address u32, length u16 | E5, status, bytes |
//! | 76 | F6, status: starts the application |
//!
//! Status: 0 done, 1 outside, 2 not erased, 3 not valid. The application speaks in single frames:
//!
//! | request | reply from 0x680 plus the number |
//! |---|---|
//! | to 0x481: 6E | EE, number, unique id (4), version u16 |
//! | to 0x500 plus the number: 10 | 90, version u16, 0 |
//! | to 0x500 plus the number: 2E 'B' 'L' | AE: goes to the bootloader |
//!
//! With jumper J2 at BOOT when it gets power (`hold BOOT`), the chip runs its own boot mode: DFU with memory
//! addresses on a USB port of the board, and nothing on the bus. A blank chip shows nothing without it.

use std::collections::VecDeque;
use std::ops::Range;
use std::time::Duration;

use super::firmware::{self, Application, filler_bytes};
use super::power::next_number;
use super::{Condition, Unit, UserAction};
use crate::bootloader::dfu;
use crate::bootloader::dfu_addressed::DfuAddressed;
use crate::can::{CanFrame, CanMember, Fate, Rates};
use crate::flash::Flash;
use crate::usb::{Answer, DescribedInterface, Descriptors, Setup};

/// The hardware form.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Chip {
    /// 48 sectors of 2 KiB.
    T1,
    /// 32 sectors of 4 KiB.
    T2,
}

const CHIP_IDS: (u16, u16) = (0x1209, 0x0013);
const BASE: u32 = 0x0B00_0000;
/// The bootloader's part at the beginning.
const OWN: u32 = 16 * 1024;
const RATE: u32 = 500_000;
const START_TIME: Duration = Duration::from_millis(120);
const REPLY_TIME: Duration = Duration::from_micros(150);
const LEAVE_TIME: Duration = Duration::from_millis(20);
const PADDING: u8 = 0x5C;

impl Chip {
    fn sectors(self) -> (u32, u32) {
        match self {
            Self::T1 => (48, 2048),
            Self::T2 => (32, 4096),
        }
    }

    fn board_word(self) -> [u8; 4] {
        if self == Self::T1 { *b"TST1" } else { *b"TST2" }
    }

    fn code(self) -> u8 {
        if self == Self::T1 { 0x31 } else { 0x52 }
    }

    fn factory(self) -> &'static [u8] {
        match self {
            Self::T1 => include_bytes!("../../../../demo/firmware/out/turnstone-t1-1.0.0.bin"),
            Self::T2 => include_bytes!("../../../../demo/firmware/out/turnstone-t2-1.0.0.bin"),
        }
    }

    /// The addresses of its application.
    pub fn application(self) -> Range<u32> {
        let (count, size) = self.sectors();
        BASE + OWN..BASE + (count - 2) * size
    }

    fn kib(self) -> u16 {
        let (count, size) = self.sectors();
        u16::try_from(count * size / 1024).unwrap_or(u16::MAX)
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Mode {
    Off,
    /// Powered, without a bootloader.
    Silent,
    /// The chip's own boot mode.
    Chip,
    Starting(Duration, bool),
    Boot,
    Application(u16),
    Bricked,
}

/// A Turnstone.
pub struct Turnstone {
    chip: Chip,
    bus: String,
    number: u8,
    unique: u32,
    flash: Flash,
    bootloader: Vec<u8>,
    mode: Mode,
    /// Whether it is wired to the bus.
    is_wired: bool,
    outgoing: VecDeque<(Duration, CanFrame)>,
    /// The message that arrives, and its length and next number.
    incoming: Option<(Vec<u8>, usize, u8)>,
    /// The rest of a reply that waits for a flow control.
    reply: Option<Vec<u8>>,
    busy_until: Duration,
    leaves: Option<(Duration, bool)>,
    /// Whether jumper J2 is at BOOT.
    is_jumpered: bool,
    chip_boot: Option<Box<ChipBoot>>,
}

/// The chip's own boot mode, with the number of its enumeration.
struct ChipBoot {
    dfu: DfuAddressed,
    enumeration: u32,
    descriptors: Descriptors,
}

impl Turnstone {
    /// A node in factory state, with its application running.
    pub fn new(chip: Chip, bus: &str, number: u8, unique: u32) -> Self {
        let (count, size) = chip.sectors();
        let mut node = Self {
            chip,
            bus: bus.to_owned(),
            number,
            unique,
            flash: Flash::new(BASE, count, size),
            bootloader: filler_bytes(&format!("turnstone {unique}"), OWN as usize),
            mode: Mode::Off,
            is_wired: true,
            outgoing: VecDeque::new(),
            incoming: None,
            reply: None,
            busy_until: Duration::ZERO,
            leaves: None,
            is_jumpered: false,
            chip_boot: None,
        };
        node.fill();
        node.mode = Mode::Application(node.sound().map_or(0, |found| found.version));
        node
    }

    /// The node in its bootloader.
    #[must_use]
    pub fn in_boot_mode(mut self) -> Self {
        self.mode = Mode::Boot;
        self
    }

    /// A board that was never programmed, without power.
    #[must_use]
    pub fn blank(mut self) -> Self {
        let (count, size) = self.chip.sectors();
        self.flash.erase(BASE..BASE + count * size);
        self.mode = Mode::Off;
        self
    }

    /// The node with damaged firmware.
    #[must_use]
    pub fn damaged(mut self) -> Self {
        self.flash.put(BASE + OWN + 0x100, &[0; 64]);
        self.mode = Mode::Boot;
        self
    }

    fn fill(&mut self) {
        let (count, size) = self.chip.sectors();
        self.flash.erase(BASE..BASE + count * size);
        self.flash.put(BASE, &self.bootloader);
        self.flash.put(BASE + OWN, self.chip.factory());
        let settings = BASE + (count - 1) * size;
        self.flash.put(settings, &firmware::settings(&format!("U-{:08X}", self.unique), 2, 5));
    }

    fn sound(&self) -> Option<Application> {
        firmware::inspect(&self.flash, self.chip.application())
    }

    fn power_on(&mut self, now: Duration) {
        self.forget();
        self.mode = Mode::Starting(now + START_TIME, false);
    }

    fn forget(&mut self) {
        self.outgoing.clear();
        (self.incoming, self.reply, self.leaves, self.chip_boot) = (None, None, None, None);
        self.busy_until = Duration::ZERO;
    }

    /// The mode after a start.
    fn started(&self, stays: bool) -> Mode {
        let is_blank = self.flash.read(BASE, 8).is_some_and(|start| start.iter().all(|byte| *byte == 0xFF));
        match self.sound() {
            _ if self.is_jumpered => Mode::Chip,
            _ if is_blank => Mode::Silent,
            _ if !self.has_bootloader() => Mode::Bricked,
            _ if stays => Mode::Boot,
            None => Mode::Boot,
            Some(found) if found.board_word == self.chip.board_word() => Mode::Application(found.version),
            Some(_) => Mode::Bricked,
        }
    }

    /// Whether it has the bootloader of the factory, or one that was written over the chip's boot mode.
    fn has_bootloader(&self) -> bool {
        let word = if self.chip == Chip::T1 { *b"TSL1" } else { *b"TSL2" };
        let is_factory = self.flash.read(BASE, self.bootloader.len()) == Some(&self.bootloader[..]);
        is_factory || firmware::inspect(&self.flash, BASE..BASE + OWN).is_some_and(|found| found.board_word == word)
    }

    fn show_chip(&mut self) {
        let dfu = DfuAddressed::new(BASE, 1024);
        let interface = DescribedInterface {
            class: dfu::CLASS,
            names: vec![DfuAddressed::layout("Shore Flash", &self.flash)],
            extra: dfu.functional_descriptor(),
            bulk: Vec::new(),
            interrupt: Vec::new(),
        };
        let texts = ["Whelk Semiconductor", "Whelk boot mode", "WB"];
        let descriptors = Descriptors::new(CHIP_IDS, 0x0100, texts, vec![interface]);
        self.chip_boot = Some(Box::new(ChipBoot { dfu, enumeration: next_number(), descriptors }));
    }

    fn send(&mut self, at: Duration, id: u32, mut data: Vec<u8>) {
        data.resize(8, PADDING);
        self.outgoing.push_back((at, CanFrame { id, is_extended: false, data, is_fd: false }));
    }

    fn reply_id(&self) -> u32 {
        0x580 + u32::from(self.number)
    }

    /// Sends a message of the bootloader, in as many frames as it needs. Source: ISO 15765-2.
    fn answer(&mut self, at: Duration, message: &[u8]) {
        let id = self.reply_id();
        if message.len() < 8 {
            let length = u8::try_from(message.len()).unwrap_or(0);
            return self.send(at, id, [&[length], message].concat());
        }
        let [high, low] = u16::try_from(message.len()).unwrap_or(0).to_be_bytes();
        self.send(at, id, [&[0x10 | high, low], &message[..6]].concat());
        self.reply = Some(message[6..].to_vec());
    }

    /// Takes a frame of the host in the bootloader.
    fn boot_frame(&mut self, at: Duration, frame: &CanFrame) {
        let own = 0x480 + u32::from(self.number);
        if frame.id == 0x480 && frame.data.starts_with(&[1, 0x6D]) {
            let unique = self.unique.to_be_bytes();
            let answer = [&[0xED, self.number][..], &unique, &[self.chip.code()]].concat();
            // The nodes answer one after the other, in the order of their numbers.
            return self.answer(at + REPLY_TIME * (1 + u32::from(self.number)), &answer);
        }
        if frame.id != own || self.number == 0 {
            return;
        }
        match frame.data[..] {
            [kind, ref rest @ ..] if kind >> 4 == 0 => {
                let message = rest.get(..usize::from(kind & 0xF)).map(<[u8]>::to_vec);
                message.into_iter().for_each(|message| self.work(at, &message));
            }
            [kind, low, ref rest @ ..] if kind >> 4 == 1 => {
                let length = usize::from(kind & 0xF) << 8 | usize::from(low);
                self.incoming = Some((rest.to_vec(), length, 1));
                // Eight frames, then the next flow control.
                self.send(at + REPLY_TIME, self.reply_id(), vec![0x30, 8, 0]);
            }
            [kind, ref rest @ ..] if kind >> 4 == 2 => self.consecutive(at, kind & 0xF, rest),
            [kind, ..] if kind >> 4 == 3 => {
                let Some(rest) = self.reply.take() else { return };
                for (index, part) in rest.chunks(7).enumerate() {
                    let number = u8::try_from((index + 1) % 16).unwrap_or(0);
                    self.send(at + REPLY_TIME, self.reply_id(), [&[0x20 | number], part].concat());
                }
            }
            _ => {}
        }
    }

    fn consecutive(&mut self, at: Duration, number: u8, data: &[u8]) {
        let Some((mut message, length, next)) = self.incoming.take() else { return };
        if number != next % 16 {
            return;
        }
        message.extend(data);
        if message.len() >= length {
            message.truncate(length);
            return self.work(at, &message);
        }
        if next.is_multiple_of(8) {
            self.send(at + REPLY_TIME, self.reply_id(), vec![0x30, 8, 0]);
        }
        self.incoming = Some((message, length, next.wrapping_add(1)));
    }

    /// Executes a request of the bootloader.
    fn work(&mut self, at: Duration, message: &[u8]) {
        let word = |from: usize| {
            message.get(from..from + 4).map_or(0, |bytes| u32::from_be_bytes([bytes[0], bytes[1], bytes[2], bytes[3]]))
        };
        let (count, size) = self.chip.sectors();
        let end = BASE + (count - 2) * size;
        let is_inside = |from: u32, len: usize| from >= BASE + OWN && u64::from(from) + len as u64 <= u64::from(end);
        let mut time = REPLY_TIME;
        let answer = match message {
            [0x21] => [&[0xA1, 0, self.chip.code()][..], &self.chip.kib().to_be_bytes()].concat(),
            [0x32, _, _, _, _] => match is_inside(word(1), size as usize) && (word(1) - BASE).is_multiple_of(size) {
                true => {
                    self.flash.erase(word(1)..word(1) + size);
                    time += Flash::erase_time(size);
                    vec![0xB2, 0]
                }
                false => vec![0xB2, 1],
            },
            [0x43, _, _, _, _, data @ ..] if (1..=256).contains(&data.len()) => {
                let from = word(1);
                let is_blank = || self.flash.read(from, data.len()).is_some_and(|now| now.iter().all(|b| *b == 0xFF));
                match is_inside(from, data.len()) {
                    false => vec![0xC3, 1],
                    true if !is_blank() => vec![0xC3, 2],
                    true => {
                        self.flash.program(from, data);
                        time += Flash::program_time(u32::try_from(data.len()).unwrap_or(0));
                        vec![0xC3, 0]
                    }
                }
            }
            [0x54, rest @ ..] if rest.len() == 8 => match self.flash.read(word(1), word(5) as usize) {
                Some(bytes) => {
                    let sum = crc::Crc::<u32>::new(&crc::CRC_32_ISO_HDLC).checksum(bytes);
                    [&[0xD4, 0][..], &sum.to_be_bytes()].concat()
                }
                None => vec![0xD4, 1],
            },
            [0x65, rest @ ..] if rest.len() == 6 => {
                let length = usize::from(u16::from_be_bytes([rest[4], rest[5]]));
                match self.flash.read(word(1), length).filter(|bytes| bytes.len() <= 1024) {
                    Some(bytes) => [&[0xE5, 0], bytes].concat(),
                    None => vec![0xE5, 1],
                }
            }
            [0x76] => match self.sound() {
                Some(_) => {
                    self.leaves = Some((at + LEAVE_TIME, false));
                    vec![0xF6, 0]
                }
                None => vec![0xF6, 3],
            },
            _ => return,
        };
        self.busy_until = at + time;
        self.answer(at + time, &answer);
    }

    /// Takes a frame of the host in the application.
    fn application_frame(&mut self, at: Duration, frame: &CanFrame, version: u16) {
        let number = u32::from(self.number);
        let [high, low] = version.to_be_bytes();
        let (id, at) = (0x680 + number, at + REPLY_TIME * (1 + number));
        match (frame.id, &frame.data[..]) {
            (0x481, [0x6E, ..]) => {
                let unique = self.unique.to_be_bytes();
                let answer = [&[0xEE, self.number][..], &unique, &[high, low]].concat();
                self.send(at, id, answer);
            }
            (to, [0x10, ..]) if to == 0x500 + number => self.send(at, id, vec![0x90, high, low, 0]),
            (to, [0x2E, b'B', b'L', ..]) if to == 0x500 + number => {
                self.send(at, id, vec![0xAE]);
                self.leaves = Some((at + LEAVE_TIME, true));
            }
            _ => {}
        }
    }
}

impl Unit for Turnstone {
    fn advance(&mut self, now: Duration) {
        if let Some((at, stays)) = self.leaves.filter(|(at, _)| now >= *at) {
            self.forget();
            self.mode = Mode::Starting(at + START_TIME, stays);
        }
        if let Mode::Starting(until, stays) = self.mode
            && now >= until
        {
            self.mode = self.started(stays);
            if self.mode == Mode::Chip {
                self.show_chip();
            }
        }
        let left = self.chip_boot.as_mut().and_then(|chip| chip.dfu.advance(now, &mut self.flash));
        if left.is_some() {
            self.power_on(now);
        }
    }

    fn descriptors(&self) -> Option<(u32, &Descriptors)> {
        self.chip_boot.as_ref().map(|chip| (chip.enumeration, &chip.descriptors))
    }

    fn control(&mut self, now: Duration, setup: Setup, data: &[u8]) -> Answer {
        match &mut self.chip_boot {
            Some(chip) => chip.dfu.control(now, &self.flash, setup, data),
            None => Answer::Stall,
        }
    }

    fn can(&mut self) -> Option<&mut dyn CanMember> {
        Some(self)
    }

    fn bus_reset(&mut self, now: Duration) {
        if let Some(chip) = &mut self.chip_boot {
            chip.dfu.bus_reset(now, &mut self.flash);
        }
    }

    fn act(&mut self, now: Duration, action: &UserAction) {
        match action {
            UserAction::Pull => {
                if let Some(chip) = &mut self.chip_boot {
                    chip.dfu.cut(now, &mut self.flash);
                }
                self.forget();
                self.mode = Mode::Off;
            }
            UserAction::Plug if self.mode == Mode::Off => self.power_on(now),
            UserAction::Hold(name) if name == "BOOT" => self.is_jumpered = true,
            UserAction::Release(name) if name == "BOOT" => self.is_jumpered = false,
            UserAction::Hold(name) if name == "BUS" => self.is_wired = true,
            UserAction::Release(name) if name == "BUS" => self.is_wired = false,
            _ => {}
        }
    }

    fn flash(&self) -> &Flash {
        &self.flash
    }

    fn flash_mut(&mut self) -> &mut Flash {
        &mut self.flash
    }

    fn condition(&self) -> Condition {
        match self.mode {
            Mode::Off => Condition::Unplugged,
            Mode::Starting(..) => Condition::Starting,
            Mode::Silent => Condition::Silent,
            Mode::Boot | Mode::Chip => Condition::Boot,
            Mode::Application(_) => Condition::Application,
            Mode::Bricked => Condition::Bricked,
        }
    }

    fn revive(&mut self, now: Duration) {
        self.fill();
        self.power_on(now);
    }
}

impl CanMember for Turnstone {
    fn bus(&self) -> &str {
        &self.bus
    }

    fn rates(&self) -> Option<Rates> {
        let is_on = self.is_wired && matches!(self.mode, Mode::Boot | Mode::Application(_));
        is_on.then_some(Rates { nominal: RATE, data: RATE })
    }

    fn next(&self) -> Option<(Duration, CanFrame)> {
        self.outgoing.front().cloned()
    }

    fn sent(&mut self, _: Duration, fate: Fate) {
        if fate == Fate::Acknowledged {
            self.outgoing.pop_front();
        }
    }

    fn receive(&mut self, at: Duration, frame: &CanFrame) {
        // While it erases or programs, it does not listen.
        if at < self.busy_until {
            return;
        }
        match self.mode {
            Mode::Boot => self.boot_frame(at, frame),
            Mode::Application(version) => self.application_frame(at, frame, version),
            Mode::Off | Mode::Silent | Mode::Chip | Mode::Starting(..) | Mode::Bricked => {}
        }
    }
}

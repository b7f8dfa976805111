//! The device side of a small disk: bulk-only transport and its SCSI commands.
//!
//! Source: *USB Mass Storage Class, Bulk-Only Transport 1.0*, with its thirteen
//! cases (section 6.7); SCSI Primary and Block Commands.

use std::time::Duration;

use crate::usb::{Answer, Bulk, Setup};

/// Length of a sector.
pub const SECTOR: usize = 512;
/// The same as a `u32`.
pub const SECTOR_LEN: u32 = 512;

/// Class, subclass and protocol: mass storage, SCSI, bulk-only.
pub const CLASS: [u8; 3] = [8, 6, 0x50];
/// The endpoints of all simulated disks.
pub const ENDPOINTS: [u8; 2] = [0x81, 0x02];

const COMMAND_LEN: usize = 31;

/// Sense key, ASC and ASCQ.
pub type Sense = (u8, u8, u8);

/// Sense values by their names. Source: SPC, sense codes.
pub mod sense {
    #![allow(missing_docs)] // the standard's names
    use super::Sense;
    pub const NONE: Sense = (0, 0, 0);
    pub const NO_MEDIUM: Sense = (2, 0x3A, 0);
    pub const UNKNOWN_COMMAND: Sense = (5, 0x20, 0);
    pub const BAD_FIELD: Sense = (5, 0x24, 0);
    pub const NO_SUCH_SECTOR: Sense = (5, 0x21, 0);
    pub const CHANGED: Sense = (6, 0x28, 0);
    pub const RESET: Sense = (6, 0x29, 0);
    pub const PROTECTED: Sense = (7, 0x27, 0);
}

/// The storage of the disk, and its vendor commands. Without methods of its own it has no medium.
pub trait Medium {
    /// Sectors; 0 without a medium.
    fn count(&self) -> u32 {
        0
    }

    /// Reads one sector.
    fn read(&self, sector: u32) -> [u8; SECTOR] {
        let _ = sector;
        [0; SECTOR]
    }

    /// Writes one sector; returns the time that the unit is busy.
    ///
    /// # Errors
    /// The error, if the sector cannot be written.
    fn write(&mut self, now: Duration, sector: u32, data: &[u8; SECTOR]) -> Result<Duration, Sense> {
        let _ = (now, sector, data);
        Err(sense::NO_MEDIUM)
    }

    /// Called when everything was written.
    fn flush(&mut self, now: Duration) {
        let _ = now;
    }

    /// Called when the disk is ejected.
    fn eject(&mut self, now: Duration) {
        let _ = now;
    }

    /// Executes a command that is not one of a disk.
    ///
    /// # Errors
    /// The reason, if the command fails.
    fn vendor(&mut self, now: Duration, block: &[u8]) -> Result<VendorReply, Sense> {
        let _ = (now, block);
        Err(sense::UNKNOWN_COMMAND)
    }

    /// Takes the data of such a command; returns the time that the unit is busy.
    ///
    /// # Errors
    /// The reason, if the command fails.
    fn take(&mut self, now: Duration, block: &[u8], data: &[u8]) -> Result<Duration, Sense> {
        let _ = (now, block, data);
        Err(sense::UNKNOWN_COMMAND)
    }
}

/// The next transfer of a command that is not one of a disk.
#[derive(Debug)]
pub enum VendorReply {
    /// Its status.
    Nothing,
    /// Data to the host.
    Data(Vec<u8>),
    /// Data to the unit.
    Takes,
}

/// A deviation from the standard, or one of the choices it allows, at one command.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Deviation {
    /// The status has the tag before.
    OldTag,
    /// The status is a phase error.
    Phase,
    /// An empty packet precedes the status.
    EmptyFirst,
    /// The data to the host is omitted: the status follows at once.
    NoData,
    /// The residue claims that no data is valid.
    BogusResidue,
    /// IN is stalled before the status.
    StallFirst,
    /// The status has another signature.
    OwnSignature,
    /// The command fails without a reason.
    NoReason,
    /// The command fails because the medium may have changed.
    Changed,
}

/// Deviations of a disk. The default has none.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Quirks {
    /// It reports write protection, and rejects writes.
    pub protected: bool,
    /// It does not report write protection, but rejects writes.
    pub refuses: bool,
    /// It fails writes of more sectors than this, unless this is 0.
    pub most_sectors: u16,
    /// It does not support Get Max LUN.
    pub no_max_lun: bool,
    /// It does not support the class reset.
    pub no_reset: bool,
    /// The deviation, and the number of the command from 1.
    pub odd: Option<(u64, Deviation)>,
}

#[derive(Debug)]
enum State {
    /// Waits for a command.
    Command,
    /// Has data to send, and the length requested.
    Sending(Vec<u8>, u32),
    /// Receives sectors from this one on, until this many bytes have arrived.
    Receiving { sector: u32, left: usize, failed: bool, unused: u32 },
    /// Receives the data of this vendor command, until this many bytes have arrived.
    Taking { block: Vec<u8>, data: Vec<u8>, left: usize },
    /// Has a status to send: success or failure, and the residue.
    Status(bool, u32),
    /// A command was invalid: only a reset helps (6.6.1).
    Broken,
}

/// A disk's side of the transport.
#[derive(Debug)]
pub struct Disk {
    manner: Quirks,
    state: State,
    tag: u32,
    last_tag: u32,
    sense: Sense,
    /// The attention that fails the next command except INQUIRY and REQUEST SENSE.
    attention: Option<Sense>,
    halted: [bool; 2],
    is_ejected: bool,
    at_work: Duration,
    commands: u64,
    /// Whether the deviation was already shown.
    was_odd: bool,
}

impl Disk {
    /// A disk that was just plugged in.
    pub fn new(manner: Quirks) -> Self {
        Self {
            manner,
            state: State::Command,
            tag: 0,
            last_tag: 0,
            sense: sense::NONE,
            attention: Some(sense::RESET),
            halted: [false; 2],
            is_ejected: false,
            at_work: Duration::ZERO,
            commands: 0,
            was_odd: false,
        }
    }

    /// Whether it waits for a command with nothing in progress.
    pub fn is_idle(&self) -> bool {
        matches!(self.state, State::Command)
    }

    /// A class request (3.1, 3.2).
    pub fn control(&mut self, setup: Setup) -> Answer {
        match (setup.kind, setup.request) {
            (0xA1, 0xFE) if !self.manner.no_max_lun => Answer::Data(vec![0]),
            (0x21, 0xFF) if !self.manner.no_reset => {
                self.state = State::Command;
                Answer::Done
            }
            _ => Answer::Stall,
        }
    }

    /// The bus is reset.
    pub fn bus_reset(&mut self) {
        (self.state, self.halted) = (State::Command, [false; 2]);
        self.attention = Some(sense::RESET);
        self.is_ejected = false;
    }

    /// Clears the halt of an endpoint; a broken disk halts again (6.6.1).
    pub fn clear_halt(&mut self, endpoint: u8) {
        if !matches!(self.state, State::Broken) {
            self.halted[usize::from(endpoint & 0x80 != 0)] = false;
        }
    }

    /// A transfer.
    pub fn bulk(&mut self, now: Duration, transfer: Bulk<'_>, medium: &mut dyn Medium) -> Answer {
        let halted = self.halted[usize::from(transfer.endpoint() & 0x80 != 0)];
        match transfer {
            _ if halted => Answer::Stall,
            _ if now < self.at_work => Answer::Busy,
            Bulk::In(_, length) => self.send(length),
            Bulk::Out(_, data) => self.take(now, data, medium),
        }
    }

    fn is_odd(&self, oddity: Deviation) -> bool {
        !self.was_odd && self.manner.odd == Some((self.commands, oddity))
    }

    fn send(&mut self, length: usize) -> Answer {
        match &mut self.state {
            State::Sending(data, asked) => {
                let now: Vec<u8> = data.drain(..data.len().min(length)).collect();
                // A packet that is not full ends the data stage, and so does the last byte.
                if data.is_empty() {
                    let residue = *asked;
                    self.state = State::Status(true, residue);
                }
                Answer::Data(now)
            }
            State::Status(passed, residue) => {
                let (passed, residue) = (*passed, *residue);
                self.status(passed, residue)
            }
            State::Command | State::Receiving { .. } | State::Taking { .. } => Answer::Busy,
            State::Broken => Answer::Stall,
        }
    }

    fn status(&mut self, passed: bool, residue: u32) -> Answer {
        if self.is_odd(Deviation::EmptyFirst) {
            self.was_odd = true;
            return Answer::Data(Vec::new());
        }
        if self.is_odd(Deviation::StallFirst) {
            self.was_odd = true;
            self.halted[1] = true;
            return Answer::Stall;
        }
        let tag = if self.is_odd(Deviation::OldTag) { self.last_tag } else { self.tag };
        let code = if self.is_odd(Deviation::Phase) { 2 } else { u8::from(!passed) };
        let signature = if self.is_odd(Deviation::OwnSignature) { b"TIDE" } else { b"USBS" };
        self.state = if code == 2 { State::Broken } else { State::Command };
        let mut bytes = signature.to_vec();
        bytes.extend(tag.to_le_bytes());
        bytes.extend(residue.to_le_bytes());
        bytes.push(code);
        Answer::Data(bytes)
    }

    fn take(&mut self, now: Duration, data: &[u8], medium: &mut dyn Medium) -> Answer {
        if let State::Taking { block, data: taken, left } = &mut self.state {
            taken.extend_from_slice(data);
            *left = left.saturating_sub(data.len());
            if *left > 0 {
                return Answer::Done;
            }
            let (block, taken) = (std::mem::take(block), std::mem::take(taken));
            let done = medium.take(now, &block, &taken);
            self.at_work = now + *done.as_ref().unwrap_or(&Duration::ZERO);
            self.sense = *done.as_ref().err().unwrap_or(&self.sense);
            self.state = State::Status(done.is_ok(), 0);
            return Answer::Done;
        }
        match self.state {
            State::Command => self.command(now, data, medium),
            State::Receiving { sector, left, failed, unused } => {
                let (mut sector, mut failed, mut unused) = (sector, failed, unused);
                let mut work = Duration::ZERO;
                for chunk in data.chunks(SECTOR) {
                    let Ok(chunk) = <&[u8; SECTOR]>::try_from(chunk) else { break };
                    let refused = self.manner.protected || self.manner.refuses;
                    let done = if refused { Err(sense::PROTECTED) } else { medium.write(now + work, sector, chunk) };
                    match done {
                        Ok(time) if !failed => work += time,
                        Ok(_) => {}
                        Err(why) => {
                            (self.sense, failed) = (why, true);
                            unused += SECTOR_LEN;
                        }
                    }
                    sector += 1;
                }
                self.at_work = now + work;
                let left = left.saturating_sub(data.len());
                self.state = match left {
                    0 => State::Status(!failed, unused),
                    left => State::Receiving { sector, left, failed, unused },
                };
                Answer::Done
            }
            State::Sending(..) | State::Status(..) | State::Taking { .. } => Answer::Busy,
            State::Broken => Answer::Stall,
        }
    }

    /// A command wrapper (5.1, 6.2).
    fn command(&mut self, now: Duration, wrapper: &[u8], medium: &mut dyn Medium) -> Answer {
        let word = |at: usize| u32::from_le_bytes([wrapper[at], wrapper[at + 1], wrapper[at + 2], wrapper[at + 3]]);
        if wrapper.len() != COMMAND_LEN
            || word(0) != 0x4342_5355
            || wrapper[13] != 0
            || !(1..=16).contains(&wrapper[14])
        {
            (self.state, self.halted) = (State::Broken, [true; 2]);
            return Answer::Done;
        }
        (self.last_tag, self.tag) = (self.tag, word(4));
        self.commands += 1;
        self.was_odd = false;
        let (length, is_in) = (word(8), wrapper[12] & 0x80 != 0);
        if self.is_odd(Deviation::Changed) {
            self.attention = Some(sense::CHANGED);
        }
        let done = self.execute_command(now, &wrapper[15..], medium);
        let done = if self.is_odd(Deviation::NoReason) { Err(sense::NONE) } else { done };
        self.state = match done {
            Ok(Reply::Nothing) => State::Status(true, length),
            Ok(Reply::Data(_)) if self.is_odd(Deviation::NoData) => State::Status(true, length),
            Ok(Reply::Data(mut data)) if is_in => {
                data.truncate(length as usize);
                let unused = length - u32::try_from(data.len()).unwrap_or(0);
                let residue = if self.is_odd(Deviation::BogusResidue) { length } else { unused };
                State::Sending(data, residue)
            }
            Ok(Reply::Sectors(sector)) if !is_in && length > 0 => {
                State::Receiving { sector, left: length as usize, failed: false, unused: 0 }
            }
            Ok(Reply::Takes) if !is_in && length > 0 => {
                State::Taking { block: wrapper[15..].to_vec(), data: Vec::new(), left: length as usize }
            }
            Ok(Reply::Data(_) | Reply::Sectors(_) | Reply::Takes) => State::Status(false, length),
            Err(why) => {
                self.sense = why;
                // The requested data is not transferred: the endpoint halts (6.7.2, 6.7.3).
                if length > 0 {
                    self.halted[usize::from(is_in)] = true;
                }
                State::Status(false, length)
            }
        };
        Answer::Done
    }

    fn execute_command(&mut self, now: Duration, block: &[u8], medium: &mut dyn Medium) -> Result<Reply, Sense> {
        const INQUIRY: u8 = 0x12;
        const REQUEST_SENSE: u8 = 0x03;
        if !matches!(block[0], INQUIRY | REQUEST_SENSE) {
            if let Some(attention) = self.attention.take() {
                return Err(attention);
            }
            if self.is_ejected && !matches!(block[0], 0x1B | 0x1E) {
                return Err(sense::NO_MEDIUM);
            }
        }
        let sector = u32::from_be_bytes([block[2], block[3], block[4], block[5]]);
        let count = u32::from(u16::from_be_bytes([block[7], block[8]]));
        let inside = sector.checked_add(count).is_some_and(|end| end <= medium.count());
        match block[0] {
            0x00 | 0x25 if medium.count() == 0 => Err(sense::NO_MEDIUM),
            0x00 => Ok(Reply::Nothing),
            REQUEST_SENSE => {
                let (key, asc, ascq) = std::mem::replace(&mut self.sense, sense::NONE);
                Ok(Reply::Data(vec![0x70, 0, key, 0, 0, 0, 0, 10, 0, 0, 0, 0, asc, ascq, 0, 0, 0, 0]))
            }
            INQUIRY => {
                let mut bytes = vec![0, 0x80, 2, 2, 31, 0, 0, 0];
                bytes.extend(b"Skerrow Update disk     1.00");
                Ok(Reply::Data(bytes))
            }
            0x1A => Ok(Reply::Data(vec![3, 0, if self.manner.protected { 0x80 } else { 0 }, 0])),
            0x1B => {
                if block[4] & 3 == 2 {
                    self.is_ejected = true;
                    medium.eject(now);
                }
                Ok(Reply::Nothing)
            }
            0x1E => Ok(Reply::Nothing),
            0x25 => {
                let mut bytes = (medium.count() - 1).to_be_bytes().to_vec();
                bytes.extend(SECTOR_LEN.to_be_bytes());
                Ok(Reply::Data(bytes))
            }
            0x28 if inside => {
                let mut bytes = Vec::with_capacity(count as usize * SECTOR);
                (sector..sector + count).for_each(|at| bytes.extend_from_slice(&medium.read(at)));
                Ok(Reply::Data(bytes))
            }
            0x2A if self.manner.most_sectors > 0 && count > u32::from(self.manner.most_sectors) => {
                Err(sense::BAD_FIELD)
            }
            0x2A if inside => Ok(Reply::Sectors(sector)),
            0x28 | 0x2A => Err(sense::NO_SUCH_SECTOR),
            0x35 => {
                medium.flush(now);
                Ok(Reply::Nothing)
            }
            _ => medium.vendor(now, block).map(|reply| match reply {
                VendorReply::Nothing => Reply::Nothing,
                VendorReply::Data(data) => Reply::Data(data),
                VendorReply::Takes => Reply::Takes,
            }),
        }
    }
}

/// The result of a command.
enum Reply {
    Nothing,
    Data(Vec<u8>),
    /// Sectors follow, starting with this one.
    Sectors(u32),
    /// The data of a vendor command follows.
    Takes,
}

//! What Intel HEX and S-record have in common: lines of hex digits with a
//! length, an address and a checksum, and an end record.

use thiserror::Error;

use super::detect::Format;
use super::{BuildError, Builder, Image, TooHigh};
use crate::address::Address;

/// What is wrong with a file of records, and in which line (counted from 1).
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[error("line {line}: {fault}")]
pub struct RecordError {
    /// The line.
    pub line: usize,
    /// What is wrong.
    pub fault: RecordFault,
}

/// What is wrong with a line or with the file as a whole.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum RecordFault {
    /// The line does not begin as a record does, after the first one.
    #[error("no record: a line begins with {0}")]
    NoMark(&'static str),
    /// Something else than a hex digit.
    #[error("column {column}: not a hex digit")]
    Digit {
        /// Counted from 1.
        column: usize,
    },
    /// The line ends before the record does.
    #[error("the record is cut short: {found} of {wanted} digits")]
    Short {
        /// Digits that the record's length asks for.
        wanted: usize,
        /// Digits that are there.
        found: usize,
    },
    /// Something follows the checksum.
    #[error("column {column}: something follows the checksum")]
    Trailing {
        /// Counted from 1.
        column: usize,
    },
    /// The checksum does not fit.
    #[error("checksum is {found:02X}, the record's bytes give {expected:02X}")]
    Checksum {
        /// What the bytes give.
        expected: u8,
        /// What stands there.
        found: u8,
    },
    /// A type the format does not have.
    #[error("record type {0} is not known; nothing of such a file is used")]
    Type(String),
    /// A record with another length than its type has.
    #[error("a record of type {kind} holds {wanted} data bytes, this one {found}")]
    Length {
        /// Its type.
        kind: String,
        /// What the type asks for.
        wanted: usize,
        /// What is there.
        found: usize,
    },
    /// Data across a 64 KiB border where readers differ in what it means.
    #[error("the data crosses a 64 KiB border without a linear base address; programs read that differently")]
    Wraps,
    /// Data past the highest address that the record can name.
    #[error("the data runs past the highest address, {0}")]
    TooHigh(Address),
    /// Two records give one address different bytes.
    #[error("{address} was given another value in line {earlier}")]
    Overlap {
        /// The first address that differs.
        address: Address,
        /// The line that gave it first.
        earlier: usize,
    },
    /// A count record does not fit.
    #[error("the file says that {said} data records stand before this line; there are {found}: lines were lost")]
    Count {
        /// What the count record says.
        said: u64,
        /// How many there are.
        found: u64,
    },
    /// Something stands behind the end record.
    #[error("something follows the end record of line {end}")]
    AfterEnd {
        /// Where the end record stands.
        end: usize,
    },
    /// There is no end record.
    #[error("the file ends here without an end record ({0}): it was cut short")]
    NoEnd(&'static str),
    /// Records, but no data.
    #[error("the file ends here and holds no data")]
    NoData,
}

/// Whether more records follow.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Flow {
    More,
    End,
}

/// Takes the data of a record with its line and address.
pub(super) type Take<'a> = dyn FnMut(usize, Address, &[u8]) + 'a;

/// What a file says besides its data.
#[derive(Debug, Default)]
pub(super) struct Sayings {
    pub(super) entry: Option<Address>,
    pub(super) header: Option<String>,
    pub(super) notes: Vec<String>,
}

impl Sayings {
    pub(super) fn set_entry(&mut self, line: usize, entry: Address) {
        if self.entry.replace(entry).is_some() {
            self.notes.push(format!("line {line}: a second entry address; the last one counts"));
        }
    }
}

/// One of the two formats.
pub(super) trait Records: Default {
    const FORMAT: Format;
    /// How a record begins, in words.
    const MARK: &'static str;
    /// What an end record looks like, in words.
    const END: &'static str;

    /// Whether a line, without blanks around it, begins as a record.
    fn is_record(line: &[u8]) -> bool;

    /// Takes one such line. Its first character stands in `column`.
    fn record(&mut self, line: usize, text: &[u8], column: usize, take: &mut Take<'_>) -> Result<Flow, RecordFault>;

    /// Whether a line may stand behind the end record.
    fn may_follow(&mut self, text: &[u8], column: usize) -> Result<bool, RecordFault> {
        let _ = (text, column);
        Ok(false)
    }

    fn sayings(&mut self) -> &mut Sayings;
}

/// Reads a file of records.
pub(super) fn read<R: Records>(bytes: &[u8]) -> Result<Image, RecordError> {
    let mut builder = Builder::default();
    let mut too_high = None;
    let mut records = R::default();
    let mut take = |line: usize, address: Address, data: &[u8]| {
        if let Err(TooHigh) = builder.push(address, data) {
            too_high.get_or_insert(line);
        }
    };
    let last_line = run(&mut records, bytes, &mut take)?;
    if let Some(line) = too_high {
        return Err(RecordError { line, fault: RecordFault::TooHigh(Address::new(u64::from(u32::MAX))) });
    }
    let sayings = std::mem::take(records.sayings());
    builder.entry = sayings.entry;
    builder.notes = sayings.notes;
    builder.facts.header = sayings.header;
    builder.finish(R::FORMAT).map_err(|error| match error {
        BuildError::Empty => RecordError { line: last_line, fault: RecordFault::NoData },
        BuildError::Overlap(address) => overlap::<R>(bytes, address),
    })
}

/// Finds the two lines that give `address` different values. A second pass
/// costs nothing in the good case, a line number kept for each record would.
fn overlap<R: Records>(bytes: &[u8], address: Address) -> RecordError {
    let mut seen: Vec<(usize, u8)> = Vec::new();
    let mut look = |line: usize, start: Address, data: &[u8]| {
        let value = address.offset_from(start).and_then(|at| data.get(usize::try_from(at).ok()?));
        seen.extend(value.map(|value| (line, *value)));
    };
    // The first pass went through all of it, so this one does too.
    let _ = run(&mut R::default(), bytes, &mut look);
    let first = seen.first().copied().unwrap_or((1, 0));
    let other = seen.iter().find(|(_, value)| *value != first.1).unwrap_or(&first);
    RecordError { line: other.0, fault: RecordFault::Overlap { address, earlier: first.0 } }
}

/// Goes through all lines; returns the number of the last one.
fn run<R: Records>(records: &mut R, bytes: &[u8], take: &mut Take<'_>) -> Result<usize, RecordError> {
    let mut rest = bytes.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(bytes);
    let mut line = 0;
    let mut any_record = false;
    let mut end = None;
    while !rest.is_empty() {
        line += 1;
        let length = line_end(rest);
        let (whole, tail) = rest.split_at(length);
        rest = tail.strip_prefix(b"\r\n").or(tail.get(1..)).unwrap_or_default();
        let column = 1 + whole.len() - whole.trim_ascii_start().len();
        let text = whole.trim_ascii();
        let fault = |fault| RecordError { line, fault };
        if let Some(end) = end {
            // Old systems end a text file in Ctrl-Z, some tools in zero bytes.
            let blank = text.iter().all(|byte| matches!(byte, 0 | 0x1A));
            if !blank && !(R::is_record(text) && records.may_follow(text, column).map_err(fault)?) {
                return Err(fault(RecordFault::AfterEnd { end }));
            }
        } else if R::is_record(text) {
            any_record = true;
            if records.record(line, text, column, take).map_err(fault)? == Flow::End {
                end = Some(line);
            }
        } else if !text.is_empty() {
            if any_record || !is_comment(text) {
                return Err(fault(RecordFault::NoMark(R::MARK)));
            }
            let notes = &mut records.sayings().notes;
            if notes.is_empty() {
                notes.push(format!("line {line} and perhaps more stand above the first record; not used"));
            }
        }
    }
    match end {
        Some(_) => Ok(line),
        None => Err(RecordError { line: line.max(1), fault: RecordFault::NoEnd(R::END) }),
    }
}

/// Where the first line of `text` ends. Most lines are as long as the one
/// before, but a search is quick enough: it is a small part of the decoding.
fn line_end(text: &[u8]) -> usize {
    text.iter().position(|byte| matches!(byte, b'\n' | b'\r')).unwrap_or(text.len())
}

/// Whether a line above the first record is a remark. One that reads like a
/// record with a damaged mark is not: without it, all later addresses could
/// be wrong.
fn is_comment(text: &[u8]) -> bool {
    let damaged_record = text.len() > 9 && text[1..].iter().all(u8::is_ascii_hexdigit);
    !text.contains(&b':') && !damaged_record
}

/// Bytes of a record at the most: length, up to 255 counted ones, and in
/// Intel HEX four more.
pub(super) const RECORD_MAX: usize = 1 + 255 + 4;

/// Decodes hex digits, the first of which stands in `column`. Their first byte
/// is the record's length; `extra` bytes are not counted in it. Returns the
/// bytes and their sum.
pub(super) fn decode<'a>(
    digits: &[u8],
    column: usize,
    extra: usize,
    record: &'a mut [u8; RECORD_MAX],
) -> Result<(&'a [u8], u8), RecordFault> {
    let short = |wanted| RecordFault::Short { wanted, found: digits.len() };
    let length = pair(digits.get(..2).ok_or(short(2 * extra.max(4)))?, column)?;
    let len = (usize::from(length) + extra).min(RECORD_MAX);
    let all = digits.get(..2 * len).ok_or(short(2 * len))?;
    let mut sum = 0u8;
    for (index, (digits, byte)) in all.chunks_exact(2).zip(record.iter_mut()).enumerate() {
        *byte = pair(digits, column + 2 * index)?;
        sum = sum.wrapping_add(*byte);
    }
    if digits.len() > 2 * len {
        return Err(RecordFault::Trailing { column: column + 2 * len });
    }
    Ok((&record[..len], sum))
}

/// One byte from two digits, the first of which stands in `column`.
fn pair(digits: &[u8], column: usize) -> Result<u8, RecordFault> {
    let (high, low) = (NIBBLES[usize::from(digits[0])], NIBBLES[usize::from(digits[1])]);
    if high | low > 0xF {
        return Err(RecordFault::Digit { column: column + usize::from(high <= 0xF) });
    }
    Ok(high << 4 | low)
}

/// The value of each hex digit; 0xFF for what is none.
const NIBBLES: [u8; 256] = {
    let mut table = [0xFF; 256];
    let mut value = 0;
    while value < 16 {
        table[DIGITS[value as usize] as usize] = value;
        table[DIGITS[value as usize].to_ascii_lowercase() as usize] = value;
        value += 1;
    }
    table
};

const DIGITS: &[u8; 16] = b"0123456789ABCDEF";

/// Appends a byte as two capital digits.
pub(super) fn emit_byte(out: &mut Vec<u8>, byte: u8) {
    out.extend_from_slice(&[DIGITS[usize::from(byte >> 4)], DIGITS[usize::from(byte & 0xF)]]);
}

/// Cuts a segment into lines that do not cross multiples of `line` bytes, each
/// with its address. An image never reaches past 32 bits.
pub(super) fn lines(segment: &super::Segment, line: u64, mut emit: impl FnMut(u32, &[u8])) {
    let mut at = segment.start().get();
    let mut rest = segment.data();
    while !rest.is_empty() {
        let room = usize::try_from(line - at % line).unwrap_or(1);
        let (now, later) = rest.split_at(room.min(rest.len()));
        emit(u32::try_from(at).unwrap_or(u32::MAX), now);
        at += now.len() as u64;
        rest = later;
    }
}

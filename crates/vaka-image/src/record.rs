//! The common part of Intel HEX and S-record: lines of hex digits with length, address and
//! checksum, and an end record.

use thiserror::Error;

use crate::address::Address;
use crate::facts::Format;
use crate::model::{BuildError, Builder, Image, TooHigh};

/// An error in a file of records, with the line number (from 1).
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[error("line {line}: {fault}")]
pub struct RecordError {
    /// The line.
    pub line: usize,
    /// The error.
    pub fault: RecordFault,
}

/// An error in a line or in the file as a whole.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum RecordFault {
    /// The line does not begin as a record does, after the first one.
    #[error("not a record: a line must start with {0}")]
    NoMark(&'static str),
    /// A character is not a hex digit.
    #[error("column {column}: not a hex digit")]
    Digit {
        /// Counted from 1.
        column: usize,
    },
    /// The line ends before the record does.
    #[error("the record is truncated: {found} of {wanted} digits")]
    Short {
        /// Digits that the record's length asks for.
        wanted: usize,
        /// Digits found.
        found: usize,
    },
    /// Extra characters follow the checksum.
    #[error("column {column}: extra characters after the checksum")]
    Trailing {
        /// Counted from 1.
        column: usize,
    },
    /// The checksum does not fit.
    #[error("checksum is {found:02X}, computed {expected:02X}")]
    Checksum {
        /// Computed from the bytes.
        expected: u8,
        /// Stored in the record.
        found: u8,
    },
    /// A type the format does not have.
    #[error("record type {0} is not supported; the file is not used")]
    Type(String),
    /// A record with another length than its type has.
    #[error("a record of type {kind} must have {wanted} data bytes, this one has {found}")]
    Length {
        /// Record type.
        kind: String,
        /// Length that the type requires.
        wanted: usize,
        /// Length found.
        found: usize,
    },
    /// Data crosses a 64 KiB boundary, where readers differ in its meaning.
    #[error("the data crosses a 64 KiB boundary without a linear base address, which programs interpret differently")]
    Wraps,
    /// Data past the highest address that the record can name.
    #[error("the data exceeds the highest address, {0}")]
    TooHigh(Address),
    /// Two records assign different bytes to one address.
    #[error("{address} has another value in line {earlier}")]
    Overlap {
        /// The first address that differs.
        address: Address,
        /// The line that gave it first.
        earlier: usize,
    },
    /// A count record does not fit.
    #[error("the file states {said} data records before this line; there are {found}: lines are missing")]
    Count {
        /// Number in the count record.
        said: u64,
        /// Number of records found.
        found: u64,
    },
    /// Extra lines follow the end record.
    #[error("extra lines after the end record of line {end}")]
    AfterEnd {
        /// Line of the end record.
        end: usize,
    },
    /// The end record is missing.
    #[error("the file ends here without an end record ({0}): it is truncated")]
    NoEnd(&'static str),
    /// The data is larger than any image.
    #[error("the file has more than 1 GiB of data")]
    TooLarge,
    /// Records, but no data.
    #[error("the file ends here and has no data")]
    NoData,
}

/// Whether more records are expected.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum ReadControl {
    More,
    End,
}

/// Receives the data of a record with its line and address.
pub(super) trait RecordSink: FnMut(usize, Address, &[u8]) {}

impl<F: FnMut(usize, Address, &[u8])> RecordSink for F {}

/// A line without the blanks around it, and room to decode it in.
pub(super) struct RecordLine<'a> {
    /// Counted from 1.
    pub(super) number: usize,
    /// Column of the first character, from 1.
    pub(super) column: usize,
    pub(super) text: &'a [u8],
    pub(super) room: &'a mut [u8; RECORD_MAX],
}

/// Facts that a file states in addition to its data.
#[derive(Debug, Default)]
pub(super) struct RecordMetadata {
    pub(super) entry: Option<Address>,
    pub(super) header: Option<String>,
    pub(super) notes: Vec<String>,
}

impl RecordMetadata {
    pub(super) fn set_entry(&mut self, line: usize, entry: Address) {
        if self.entry.replace(entry).is_some() {
            self.notes.push(format!("line {line}: a second entry address; the last one counts"));
        }
    }
}

/// One of the two record formats.
pub(super) trait Records: Default {
    const FORMAT: Format;
    /// The start of a record, for messages.
    const MARK: &'static str;
    /// The end record, for messages.
    const END: &'static str;

    /// Whether a trimmed line starts as a record.
    fn is_record(line: &[u8]) -> bool;

    /// The length of a line that starts with these eight characters, according to its own count.
    /// Returns `None` if the count is invalid.
    fn expected_len(head: &[u8; 8]) -> Option<usize>;

    /// Processes one record.
    fn record(&mut self, line: &mut RecordLine<'_>, take: &mut impl RecordSink) -> Result<ReadControl, RecordFault>;

    /// Whether the line is allowed after the end record.
    fn may_follow(&mut self, line: &mut RecordLine<'_>) -> Result<bool, RecordFault> {
        let _ = line;
        Ok(false)
    }

    fn sayings(&mut self) -> &mut RecordMetadata;
}

/// Reads a complete file of records.
pub(super) fn read<R: Records>(bytes: &[u8]) -> Result<Image, RecordError> {
    let mut pump = RecordStream::<R>::default();
    pump.feed(bytes)?;
    match pump.finish()? {
        Finished::Image(image) => Ok(*image),
        Finished::Overlap(address) => Err(overlap::<R>(bytes, address)),
    }
}

/// Reads a file of records piece by piece.
#[derive(Default)]
pub(super) struct RecordStream<R> {
    records: R,
    lines: Lines,
    builder: Builder,
    too_high: Option<usize>,
    /// The start of a line whose end has not arrived yet.
    partial: Vec<u8>,
}

/// The result of a [`RecordStream`].
pub(super) enum Finished {
    Image(Box<Image>),
    /// Two records assign different bytes to this address.
    Overlap(Address),
}

impl<R: Records> RecordStream<R> {
    /// Processes the next part of the file, which may end anywhere.
    pub(super) fn feed(&mut self, piece: &[u8]) -> Result<(), RecordError> {
        let mut piece = piece;
        if !self.partial.is_empty() {
            // Up to the end of the incomplete line, plus one byte for CR LF.
            let end = (line_end(piece) + 2).min(piece.len());
            self.partial.extend_from_slice(&piece[..end]);
            piece = &piece[end..];
            let begun = std::mem::take(&mut self.partial);
            let left = self.through(&begun, false)?;
            self.partial = begun[begun.len() - left..].to_vec();
            if !self.partial.is_empty() && !piece.is_empty() {
                return self.feed(piece);
            }
        }
        let left = self.through(piece, false)?;
        self.partial.extend_from_slice(&piece[piece.len() - left..]);
        Ok(())
    }

    /// Processes the end of the file.
    pub(super) fn finish(mut self) -> Result<Finished, RecordError> {
        let last = std::mem::take(&mut self.partial);
        self.through(&last, true)?;
        let last_line = self.lines.number.max(1);
        if self.lines.end.is_none() {
            return Err(RecordError { line: last_line, fault: RecordFault::NoEnd(R::END) });
        }
        if let Some(line) = self.too_high {
            return Err(RecordError { line, fault: RecordFault::TooHigh(Address::new(u64::from(u32::MAX))) });
        }
        let sayings = std::mem::take(self.records.sayings());
        self.builder.entry = sayings.entry;
        self.builder.notes = sayings.notes;
        self.builder.facts.header = sayings.header;
        match self.builder.finish(R::FORMAT) {
            Ok(image) => Ok(Finished::Image(Box::new(image))),
            Err(BuildError::Empty) => Err(RecordError { line: last_line, fault: RecordFault::NoData }),
            Err(BuildError::TooLarge) => Err(RecordError { line: last_line, fault: RecordFault::TooLarge }),
            Err(BuildError::Overlap(address)) => Ok(Finished::Overlap(address)),
        }
    }

    /// Processes the complete lines of `bytes`; returns the number of remaining bytes.
    fn through(&mut self, bytes: &[u8], is_last: bool) -> Result<usize, RecordError> {
        let Self { records, lines, builder, too_high, .. } = self;
        let mut take = |line: usize, address: Address, data: &[u8]| {
            if let Err(TooHigh) = builder.push(address, data) {
                too_high.get_or_insert(line);
            }
        };
        lines.through(records, bytes, is_last, &mut take)
    }
}

/// Finds the two lines that assign different values to `address`. A second pass costs nothing for
/// valid files; a line number per record would.
fn overlap<R: Records>(bytes: &[u8], address: Address) -> RecordError {
    let mut seen: Vec<(usize, u8)> = Vec::new();
    let mut look = |line: usize, start: Address, data: &[u8]| {
        let value = address.offset_from(start).and_then(|at| data.get(usize::try_from(at).ok()?));
        seen.extend(value.map(|value| (line, *value)));
    };
    // The first pass went through all of it, so this one does too.
    let _ = Lines::default().through(&mut R::default(), bytes, true, &mut look);
    let first = seen.first().copied().unwrap_or((1, 0));
    let other = seen.iter().find(|(_, value)| *value != first.1).unwrap_or(&first);
    RecordError { line: other.0, fault: RecordFault::Overlap { address, earlier: first.0 } }
}

/// The position in the file.
#[derive(Default)]
struct Lines {
    /// Lines so far.
    number: usize,
    any_record: bool,
    /// The line of the end record, once met.
    end: Option<usize>,
}

impl Lines {
    /// Processes line after line; returns the number of remaining bytes of an incomplete line.
    /// The last part of a file leaves none.
    fn through<R: Records>(
        &mut self,
        records: &mut R,
        bytes: &[u8],
        is_last: bool,
        take: &mut impl RecordSink,
    ) -> Result<usize, RecordError> {
        let mut rest = bytes;
        if self.number == 0 {
            rest = rest.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(rest);
        }
        let mut room = [0; RECORD_MAX];
        while !rest.is_empty() {
            if let Some(len) = counted_end::<R>(rest).filter(|_| self.end.is_none()) {
                let number = self.number + 1;
                let mut line = RecordLine { number, column: 1, text: &rest[..len], room: &mut room };
                if is_whole(&rest[len..], is_last)
                    && let Ok(flow) = records.record(&mut line, take)
                {
                    self.number = number;
                    self.any_record = true;
                    self.end = (flow == ReadControl::End).then_some(number);
                    rest = behind_line_end(&rest[len..]);
                    continue;
                }
                // Errors are reported when the line is decoded.
            }
            let (whole, tail) = rest.split_at(line_end(rest));
            if !is_whole(tail, is_last) {
                break;
            }
            rest = behind_line_end(tail);
            self.number += 1;
            self.line(records, whole, &mut room, take).map_err(|fault| RecordError { line: self.number, fault })?;
        }
        Ok(rest.len())
    }

    /// Processes one line of any kind.
    fn line<R: Records>(
        &mut self,
        records: &mut R,
        whole: &[u8],
        room: &mut [u8; RECORD_MAX],
        take: &mut impl RecordSink,
    ) -> Result<(), RecordFault> {
        let text = whole.trim_ascii();
        let column = 1 + whole.len() - whole.trim_ascii_start().len();
        let mut line = RecordLine { number: self.number, column, text, room };
        if let Some(end) = self.end {
            // Old systems end a text file in Ctrl-Z, some tools in zero bytes.
            let blank = text.iter().all(|byte| matches!(byte, 0 | 0x1A));
            let allowed = blank || R::is_record(text) && records.may_follow(&mut line)?;
            if !allowed {
                return Err(RecordFault::AfterEnd { end });
            }
        } else if R::is_record(text) {
            self.any_record = true;
            if records.record(&mut line, take)? == ReadControl::End {
                self.end = Some(self.number);
            }
        } else if !text.is_empty() {
            if self.any_record || !is_comment(text) {
                return Err(RecordFault::NoMark(R::MARK));
            }
            let notes = &mut records.sayings().notes;
            if notes.is_empty() {
                notes.push(format!("line {} and possibly more before the first record; ignored", self.number));
            }
        }
        Ok(())
    }
}

/// Whether `tail` starts with a complete line end: a CR at the end of a part may be half of one.
/// At the end of the file every line end is complete.
fn is_whole(tail: &[u8], is_last: bool) -> bool {
    is_last || !matches!(tail, [] | [b'\r'])
}

/// The text after a line end, if `tail` starts with one.
fn behind_line_end(tail: &[u8]) -> &[u8] {
    match tail {
        [b'\r', b'\n', rest @ ..] | [_, rest @ ..] => rest,
        [] => tail,
    }
}

/// The end of the first line of `text`.
fn line_end(text: &[u8]) -> usize {
    memchr::memchr2(b'\n', b'\r', text).unwrap_or(text.len())
}

/// The end of the first line of `text`, if it is a record whose own count is right. This is true
/// of most lines and faster than a search; a record with a line end inside fails to decode.
#[inline]
fn counted_end<R: Records>(text: &[u8]) -> Option<usize> {
    let counted = R::expected_len(text.first_chunk()?)?;
    matches!(text.get(counted)?, b'\n' | b'\r').then_some(counted)
}

/// Decodes two hex digits, if both are valid.
#[inline]
pub(super) fn count(high: u8, low: u8) -> Option<usize> {
    let (high, low) = (NIBBLES[usize::from(high)], NIBBLES[usize::from(low)]);
    (high | low <= 0xF).then_some(usize::from(high << 4 | low))
}

/// Whether a line before the first record is a comment. A line that reads like a record with a
/// damaged start character is not: without it, all later addresses could be wrong.
fn is_comment(text: &[u8]) -> bool {
    let damaged_record = text.len() > 9 && text[1..].iter().all(u8::is_ascii_hexdigit);
    !text.contains(&b':') && !damaged_record
}

/// Maximum size of a record: the length, up to 255 counted bytes, and four more in Intel HEX.
pub(super) const RECORD_MAX: usize = 1 + 255 + 4;

/// Decodes hex digits, the first of which is at `column`. The first byte is the record's length,
/// which does not count `extra` bytes. Returns the bytes and their sum.
#[inline]
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
    let Some(sum) = decode_all(all, &mut record[..len]) else {
        let bad = all.iter().position(|digit| NIBBLES[usize::from(*digit)] > 0xF).unwrap_or(0);
        return Err(RecordFault::Digit { column: column + bad });
    };
    if digits.len() > 2 * len {
        return Err(RecordFault::Trailing { column: column + 2 * len });
    }
    Ok((&record[..len], sum))
}

/// Decodes pairs of digits and adds the bytes up. Returns `None` if a digit is invalid. `digits`
/// is twice as long as `bytes`.
#[inline]
fn decode_all(digits: &[u8], bytes: &mut [u8]) -> Option<u8> {
    faster_hex::hex_decode(digits, bytes).ok()?;
    Some(bytes.iter().fold(0, |sum: u8, byte| sum.wrapping_add(*byte)))
}

/// Decodes one byte from two digits, the first of which is at `column`.
fn pair(digits: &[u8], column: usize) -> Result<u8, RecordFault> {
    let (high, low) = (NIBBLES[usize::from(digits[0])], NIBBLES[usize::from(digits[1])]);
    if high | low > 0xF {
        return Err(RecordFault::Digit { column: column + usize::from(high <= 0xF) });
    }
    Ok(high << 4 | low)
}

/// The value of each hex digit; 0xFF for all other characters.
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
pub(super) fn lines(segment: &crate::model::Segment, line: u64, mut emit: impl FnMut(u32, &[u8])) {
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn digits_decode_like_one_at_a_time() {
        // Every byte in every place: a digit, or refused. The length is that of a usual record.
        for place in 0..42 {
            for byte in 0..=u8::MAX {
                let mut digits = *b"09AFaf5b00112233445566778899aabbccddeeff10";
                digits[place] = byte;
                let slow: Option<Vec<u8>> =
                    digits.chunks(2).map(|pair| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok()).collect();
                // The standard library accepts a sign before a number.
                let slow = slow.filter(|_| byte != b'+');
                let mut bytes = [0; 21];
                let fast = decode_all(&digits, &mut bytes);
                let sum = slow.as_ref().map(|slow| slow.iter().fold(0u8, |sum, byte| sum.wrapping_add(*byte)));
                assert_eq!(fast, sum, "{byte:#x} at {place}");
                assert!(slow.is_none_or(|slow| slow == bytes), "{byte:#x} at {place}");
            }
        }
    }
}

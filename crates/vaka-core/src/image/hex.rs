//! Intel HEX.
//!
//! Source: Intel, Hexadecimal Object File Format Specification, revision A,
//! 1988. A record is `:`, length (1 byte), offset (2, big-endian), type (1),
//! data and checksum (1), each byte as two hex digits; all bytes of a record
//! add up to 0.

use thiserror::Error;

use super::detect::Format;
use super::{BuildError, Builder, Image, TooHigh};
use crate::address::Address;

/// What is wrong with a HEX file, and in which line (counted from 1).
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[error("line {line}: {fault}")]
pub struct HexError {
    /// The line.
    pub line: usize,
    /// What is wrong.
    pub fault: HexFault,
}

/// What is wrong with a line or with the file as a whole.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum HexFault {
    /// No `:` at the beginning of the line, after the first record.
    #[error("no record: a line begins with ':'")]
    NoMark,
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
    #[error("record type {0:02X} is not Intel HEX; nothing of such a file is used")]
    Type(u8),
    /// A record with another length than its type has.
    #[error("a record of type {kind:02X} holds {wanted} data bytes, this one {found}")]
    Length {
        /// Its type.
        kind: u8,
        /// What the type asks for.
        wanted: u8,
        /// What is there.
        found: u8,
    },
    /// Data across a 64 KiB border where readers differ in what it means.
    #[error("the data crosses a 64 KiB border without a linear base address; programs read that differently")]
    Wraps,
    /// Data past 32 bits.
    #[error("the data runs past the highest address, 0xFFFF_FFFF")]
    TooHigh,
    /// Two records give one address different bytes.
    #[error("{address} was given another value in line {earlier}")]
    Overlap {
        /// The first address that differs.
        address: Address,
        /// The line that gave it first.
        earlier: usize,
    },
    /// Something stands behind the end record.
    #[error("something follows the end record of line {end}")]
    AfterEnd {
        /// Where the end record stands.
        end: usize,
    },
    /// There is no end record.
    #[error("the file ends here without an end record (\":00000001FF\"): it was cut short")]
    NoEnd,
    /// Records, but no data.
    #[error("the file ends here and holds no data")]
    NoData,
}

/// Reads Intel HEX: record types 00 to 05, any line ends, either case.
///
/// # Errors
/// [`HexError`] with the line; the file is damaged or doubtful.
pub fn read(bytes: &[u8]) -> Result<Image, HexError> {
    let mut builder = Builder::default();
    let mut too_high = None;
    let mut reader = Reader::default();
    let mut take = |line: usize, address: Address, data: &[u8]| {
        if let Err(TooHigh) = builder.push(address, data) {
            too_high.get_or_insert(line);
        }
    };
    let last_line = reader.run(bytes, &mut take)?;
    if let Some(line) = too_high {
        return Err(HexError { line, fault: HexFault::TooHigh });
    }
    builder.entry = reader.entry;
    builder.notes = reader.notes;
    builder.finish(Format::IntelHex).map_err(|error| match error {
        BuildError::Empty => HexError { line: last_line, fault: HexFault::NoData },
        BuildError::Overlap(address) => overlap(bytes, address),
    })
}

/// Finds the two lines that give `address` different values. A second pass
/// costs nothing in the good case, a line number kept for each record would.
fn overlap(bytes: &[u8], address: Address) -> HexError {
    let mut seen: Vec<(usize, u8)> = Vec::new();
    let mut look = |line: usize, start: Address, data: &[u8]| {
        let value = address.offset_from(start).and_then(|at| data.get(usize::try_from(at).ok()?));
        seen.extend(value.map(|value| (line, *value)));
    };
    // The first pass went through all of it, so this one does too.
    let _ = Reader::default().run(bytes, &mut look);
    let first = seen[0];
    let other = seen.iter().find(|(_, value)| *value != first.1).unwrap_or(&first);
    HexError { line: other.0, fault: HexFault::Overlap { address, earlier: first.0 } }
}

/// How an offset becomes an address.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Base {
    /// Nothing said yet: addresses of 16 bits.
    None,
    /// After a type 02 record: the offset wraps inside 64 KiB.
    Segment(u64),
    /// After a type 04 record.
    Linear(u64),
}

/// State between records.
#[derive(Debug)]
struct Reader {
    base: Base,
    entry: Option<Address>,
    /// The line of the end record, once met.
    end: Option<usize>,
    any_record: bool,
    notes: Vec<String>,
}

impl Default for Reader {
    fn default() -> Self {
        Self { base: Base::None, entry: None, end: None, any_record: false, notes: Vec::new() }
    }
}

/// Takes the data of each data record with its line and address.
type Take<'a> = dyn FnMut(usize, Address, &[u8]) + 'a;

impl Reader {
    /// Reads all lines; returns the number of the last one.
    fn run(&mut self, bytes: &[u8], take: &mut Take<'_>) -> Result<usize, HexError> {
        let mut rest = bytes.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(bytes);
        let mut line = 0;
        while !rest.is_empty() {
            line += 1;
            let end = rest.iter().position(|byte| matches!(byte, b'\n' | b'\r')).unwrap_or(rest.len());
            let (text, tail) = rest.split_at(end);
            self.line(line, text, take).map_err(|fault| HexError { line, fault })?;
            rest = tail.strip_prefix(b"\r\n").or(tail.get(1..)).unwrap_or_default();
        }
        match self.end {
            Some(_) => Ok(line),
            None => Err(HexError { line: line.max(1), fault: HexFault::NoEnd }),
        }
    }

    fn line(&mut self, line: usize, text: &[u8], take: &mut Take<'_>) -> Result<(), HexFault> {
        let indent = text.len() - text.trim_ascii_start().len();
        let text = text.trim_ascii();
        if let Some(end) = self.end {
            // Old systems end a text file in Ctrl-Z, some tools in zero bytes.
            let blank = text.iter().all(|byte| matches!(byte, 0 | 0x1A));
            return if blank { Ok(()) } else { Err(HexFault::AfterEnd { end }) };
        }
        match text {
            [] => Ok(()),
            [b':', digits @ ..] => {
                self.any_record = true;
                let mut record = [0; RECORD_MAX];
                let len = decode(digits, indent + 2, &mut record)?;
                self.record(line, &record[..len], take)
            }
            _ if !self.any_record && is_comment(text) => {
                if self.notes.is_empty() {
                    self.notes.push(format!("line {line} and perhaps more stand above the first record; not used"));
                }
                Ok(())
            }
            _ => Err(HexFault::NoMark),
        }
    }

    /// Takes one record whose length and checksum are right.
    fn record(&mut self, line: usize, record: &[u8], take: &mut Take<'_>) -> Result<(), HexFault> {
        let [_, high, low, kind, data @ .., _] = record else {
            unreachable!("decode gives at least five bytes");
        };
        let offset = u16::from_be_bytes([*high, *low]);
        if matches!(kind, 2..=5) && offset != 0 {
            self.notes.push(format!("line {line}: the offset of a type {kind:02X} record is not 0; not used"));
        }
        match kind {
            0 => take(line, self.address(offset, data.len())?, data),
            1 => {
                expect_len(*kind, data, 0)?;
                self.end = Some(line);
            }
            2 => self.base = Base::Segment(u64::from(word(*kind, data)?) << 4),
            4 => self.base = Base::Linear(u64::from(word(*kind, data)?) << 16),
            3 => {
                expect_len(*kind, data, 4)?;
                let segment = u64::from(u16::from_be_bytes([data[0], data[1]]));
                let pointer = u64::from(u16::from_be_bytes([data[2], data[3]]));
                self.set_entry(line, (segment << 4) + pointer);
            }
            5 => {
                expect_len(*kind, data, 4)?;
                self.set_entry(line, u64::from(u32::from_be_bytes([data[0], data[1], data[2], data[3]])));
            }
            other => return Err(HexFault::Type(*other)),
        }
        Ok(())
    }

    fn set_entry(&mut self, line: usize, entry: u64) {
        if self.entry.replace(Address::new(entry)).is_some() {
            self.notes.push(format!("line {line}: a second entry address; the last one counts"));
        }
    }

    fn address(&self, offset: u16, len: usize) -> Result<Address, HexFault> {
        let offset = u64::from(offset);
        let wraps = offset + len as u64 > 0x1_0000;
        match self.base {
            Base::Linear(base) => Ok(Address::new(base + offset)),
            Base::None | Base::Segment(_) if wraps => Err(HexFault::Wraps),
            Base::Segment(base) => Ok(Address::new(base + offset)),
            Base::None => Ok(Address::new(offset)),
        }
    }
}

/// Whether a line above the first record is a remark. One that reads like a
/// record with a damaged mark is not: without it, all later addresses could
/// be wrong.
fn is_comment(text: &[u8]) -> bool {
    let damaged_record = text.len() > 10 && text[1..].iter().all(u8::is_ascii_hexdigit);
    !text.contains(&b':') && !damaged_record
}

/// Length, offset, type, 255 data bytes and checksum.
const RECORD_MAX: usize = 1 + 2 + 1 + 255 + 1;

/// Decodes the digits behind the `:` into `record`; returns how many bytes.
/// `column` is where the first digit stands. Checks length and checksum.
fn decode(digits: &[u8], column: usize, record: &mut [u8; RECORD_MAX]) -> Result<usize, HexFault> {
    let short = |wanted| HexFault::Short { wanted, found: digits.len() };
    let length = pair(digits.get(..2).ok_or(short(10))?, column)?;
    let len = usize::from(length) + 5;
    let all = digits.get(..2 * len).ok_or(short(2 * len))?;
    let mut sum = 0u8;
    for (index, digits) in all.chunks_exact(2).enumerate() {
        let byte = pair(digits, column + 2 * index)?;
        record[index] = byte;
        sum = sum.wrapping_add(byte);
    }
    if digits.len() > 2 * len {
        return Err(HexFault::Trailing { column: column + 2 * len });
    }
    let found = record[len - 1];
    if sum != 0 {
        return Err(HexFault::Checksum { expected: found.wrapping_sub(sum), found });
    }
    Ok(len)
}

/// One byte from two digits, the first of which stands in `column`.
fn pair(digits: &[u8], column: usize) -> Result<u8, HexFault> {
    let (high, low) = (NIBBLES[usize::from(digits[0])], NIBBLES[usize::from(digits[1])]);
    if high | low > 0xF {
        return Err(HexFault::Digit { column: column + usize::from(high <= 0xF) });
    }
    Ok(high << 4 | low)
}

/// The value of each hex digit; 0xFF for what is none.
const NIBBLES: [u8; 256] = {
    let mut table = [0xFF; 256];
    let mut value = 0;
    while value < 16 {
        table[b"0123456789ABCDEF"[value as usize] as usize] = value;
        table[b"0123456789abcdef"[value as usize] as usize] = value;
        value += 1;
    }
    table
};

fn expect_len(kind: u8, data: &[u8], wanted: u8) -> Result<(), HexFault> {
    let found = u8::try_from(data.len()).unwrap_or(u8::MAX);
    if found == wanted { Ok(()) } else { Err(HexFault::Length { kind, wanted, found }) }
}

fn word(kind: u8, data: &[u8]) -> Result<u16, HexFault> {
    expect_len(kind, data, 2)?;
    Ok(u16::from_be_bytes([data[0], data[1]]))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// Twelve bytes at 0x0800_4000, entry 0x0800_41C1. Read back with the same
    /// result by GNU binutils' objdump 2.40.
    const WORKED: &str =
        ":020000040800F2\n:0840000000500020C10100087E\n:04400800DEADBEEF7C\n:04000005080041C1ED\n:00000001FF\n";

    #[test]
    fn the_worked_example_reads_the_same_with_any_line_ends_and_case() {
        let data = [0x00, 0x50, 0x00, 0x20, 0xC1, 0x01, 0x00, 0x08, 0xDE, 0xAD, 0xBE, 0xEF];
        let sloppy = format!("\u{FEFF}; a comment\r\n{}\x1A\0", WORKED.to_lowercase().replace('\n', " \t\r\n"));
        let bare = WORKED.trim_end().replace('\n', "\r");
        for text in [WORKED, &sloppy, &bare] {
            let image = read(text.as_bytes()).unwrap();
            assert_eq!(image.segments().len(), 1);
            assert_eq!(image.segments()[0].data(), data);
            assert_eq!((image.start(), image.entry()), (Address::new(0x0800_4000), Some(Address::new(0x0800_41C1))));
        }
    }

    #[test]
    fn a_segment_base_shifts_by_four_and_a_linear_one_by_sixteen() {
        let linear = read(b":020000040001F9\n:04FFFE0001020304F5\n:00000001FF").unwrap();
        assert_eq!(linear.span().to_string(), "0x0001_FFFE..0x0002_0002");
        let segment = read(b":020000021000EC\n:04FFFA0001020304F9\n:040000031000FFF0FA\n:00000001FF").unwrap();
        assert_eq!(segment.start(), Address::new(0x1_FFFA));
        assert_eq!(segment.entry(), Some(Address::new(0x1_FFF0)));
    }

    #[test]
    fn damage_is_refused_with_its_line() {
        let cases: &[(&str, &str)] = &[
            (":020000040800F3\n", "line 1: checksum is F3, the record's bytes give F2"),
            (":020000040800F2\n:04400800DEADBEEF7D\n", "line 2: checksum is 7D, the record's bytes give 7C"),
            (":020000040800F2\n", "line 1: the file ends here without an end record"),
            (":00000001FF\n\n:020000040800F2\n", "line 3: something follows the end record of line 1"),
            (":00000001FF", "line 1: the file ends here and holds no data"),
            (":0200000408 0F2", "line 1: column 12: not a hex digit"),
            (":02000004080", "line 1: the record is cut short: 11 of 14 digits"),
            (":0", "line 1: the record is cut short: 1 of 10 digits"),
            (":020000040800F2:00000001FF", "line 1: column 16: something follows the checksum"),
            (":020000040800F2\nhello\n", "line 2: no record"),
            (":020000200800D6", "line 1: record type 20 is not Intel HEX"),
            (":0100000408F3", "line 1: a record of type 04 holds 2 data bytes, this one 1"),
            (":020000021000EC\n:04FFFE0001020304F5\n:00000001FF", "line 2: the data crosses a 64 KiB border"),
            (":02000004FFFFFC\n:04FFFE0001020304F5\n:00000001FF", "line 2: the data runs past the highest address"),
            (
                ":0400000001020304F2\n:0100040005F6\n:020002000309F0\n:00000001FF",
                "line 3: 0x0000_0003 was given another value in line 1",
            ),
        ];
        for (text, said) in cases {
            let error = read(text.as_bytes()).unwrap_err().to_string();
            assert!(error.starts_with(said), "{error}\nwanted: {said}");
        }
    }

    #[test]
    fn every_prefix_of_a_good_file_is_refused() {
        let whole = WORKED.trim_end();
        for len in 0..whole.len() {
            assert!(read(&whole.as_bytes()[..len]).is_err(), "{}", &whole[..len]);
        }
    }

    proptest! {
        #[test]
        fn hostile_text_never_panics(text in "(:[0-9A-Fa-f]{0,40}[\r\n]{0,2}|.{0,5}){0,12}") {
            let _ = read(text.as_bytes());
        }

        #[test]
        fn one_changed_character_never_changes_the_data_unseen(at in 0usize..80, value in 0x20u8..0x7F) {
            let good = read(WORKED.as_bytes()).unwrap();
            let mut bytes = WORKED.as_bytes().to_vec();
            bytes[at] = value;
            if let Ok(image) = read(&bytes) {
                prop_assert_eq!(image.segments(), good.segments());
            }
        }
    }
}

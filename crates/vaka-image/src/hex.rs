//! Intel HEX.
//!
//! Source: Intel, Hexadecimal Object File Format Specification, revision A,
//! 1988. A record is `:`, length (1 byte), offset (2, big-endian), type (1),
//! data and checksum (1), each byte as two hex digits; all bytes of a record
//! add up to 0.

use crate::address::Address;
use crate::facts::Format;
use crate::model::Image;
use crate::record::{
    self, ReadControl, RecordError, RecordFault, RecordLine, RecordMetadata, RecordSink, Records, emit_byte,
};

/// Reads Intel HEX: record types 00 to 05, any line ends, either case.
///
/// # Errors
/// [`RecordError`] with the line; the file is damaged or doubtful.
///
/// # Examples
/// ```
/// use vaka_image::address::Address;
/// use vaka_image::hex;
///
/// let image = hex::read(b":0400100001020304E2\n:00000001FF\n").unwrap();
/// assert_eq!(image.start(), Address::new(0x10));
/// assert_eq!(image.segments()[0].data(), [1, 2, 3, 4]);
/// // A wrong checksum is refused.
/// assert!(hex::read(b":0400100001020304E3\n:00000001FF\n").is_err());
/// ```
pub fn read(bytes: &[u8]) -> Result<Image, RecordError> {
    record::read::<Hex>(bytes)
}

/// The base address in effect.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
enum Base {
    /// No base yet: 16-bit addresses.
    #[default]
    None,
    /// After a type 02 record: the offset wraps inside 64 KiB.
    Segment(u64),
    /// After a type 04 record.
    Linear(u64),
}

/// State between records.
#[derive(Debug, Default)]
pub(super) struct Hex {
    base: Base,
    sayings: RecordMetadata,
}

impl Records for Hex {
    const FORMAT: Format = Format::IntelHex;
    const MARK: &'static str = "':'";
    const END: &'static str = "\":00000001FF\"";

    fn is_record(line: &[u8]) -> bool {
        line.first() == Some(&b':')
    }

    fn expected_len(head: &[u8; 8]) -> Option<usize> {
        match head {
            [b':', high, low, ..] => Some(11 + 2 * record::count(*high, *low)?),
            _ => None,
        }
    }

    #[inline]
    fn record(&mut self, line: &mut RecordLine<'_>, take: &mut impl RecordSink) -> Result<ReadControl, RecordFault> {
        let (record, sum) = record::decode(&line.text[1..], line.column + 1, 5, line.room)?;
        let &[_, high, low, kind, ref data @ .., found] = record else {
            return Err(RecordFault::Short { wanted: 10, found: line.text.len() - 1 });
        };
        let line = line.number;
        if sum != 0 {
            return Err(RecordFault::Checksum { expected: found.wrapping_sub(sum), found });
        }
        let offset = u16::from_be_bytes([high, low]);
        if matches!(kind, 2..=5) && offset != 0 {
            let note = format!("line {line}: the offset of a type {kind:02X} record is not 0; ignored");
            self.sayings.notes.push(note);
        }
        match kind {
            0 => take(line, self.address(offset, data.len())?, data),
            1 => {
                let [] = fixed(kind, data)?;
                return Ok(ReadControl::End);
            }
            2 => self.base = Base::Segment(u64::from(u16::from_be_bytes(fixed(kind, data)?)) << 4),
            4 => self.base = Base::Linear(u64::from(u16::from_be_bytes(fixed(kind, data)?)) << 16),
            3 => {
                let [s1, s0, p1, p0] = fixed(kind, data)?;
                let segment = u64::from(u16::from_be_bytes([s1, s0]));
                let pointer = u64::from(u16::from_be_bytes([p1, p0]));
                self.sayings.set_entry(line, Address::new((segment << 4) + pointer));
            }
            5 => {
                let entry = u32::from_be_bytes(fixed(kind, data)?);
                self.sayings.set_entry(line, Address::new(u64::from(entry)));
            }
            other => return Err(RecordFault::Type(format!("{other:02X}"))),
        }
        Ok(ReadControl::More)
    }

    fn sayings(&mut self) -> &mut RecordMetadata {
        &mut self.sayings
    }
}

impl Hex {
    fn address(&self, offset: u16, len: usize) -> Result<Address, RecordFault> {
        let offset = u64::from(offset);
        let wraps = offset + len as u64 > 0x1_0000;
        match self.base {
            Base::Linear(base) => Ok(Address::new(base + offset)),
            Base::None | Base::Segment(_) if wraps => Err(RecordFault::Wraps),
            Base::Segment(base) => Ok(Address::new(base + offset)),
            Base::None => Ok(Address::new(offset)),
        }
    }
}

/// The data of a record type with a fixed length.
fn fixed<const N: usize>(kind: u8, data: &[u8]) -> Result<[u8; N], RecordFault> {
    data.try_into().map_err(|_| RecordFault::Length { kind: format!("{kind:02X}"), wanted: N, found: data.len() })
}

/// Data bytes in a line that is written; a record never crosses a multiple of it.
const LINE: u64 = 16;

/// Writes Intel HEX: lines of 16 bytes aligned where the image is, upper-case digits, LF; a
/// linear base address before the first data that needs one and wherever the upper half of the
/// address changes.
///
/// # Examples
/// ```
/// use vaka_image::address::Address;
/// use vaka_image::{Image, hex};
///
/// let image = Image::from_memory(&[(Address::new(0x10), vec![1, 2, 3, 4])]).unwrap();
/// let file = hex::write(&image);
/// assert_eq!(hex::read(&file).unwrap().segments(), image.segments());
/// ```
pub fn write(image: &Image) -> Vec<u8> {
    let mut out = Vec::with_capacity(usize::try_from(image.len()).unwrap_or(0) / 16 * 45 + 64);
    let mut upper = 0;
    for segment in image.segments() {
        record::lines(segment, LINE, |address, data| {
            let [u1, u0, a1, a0] = address.to_be_bytes();
            if (u16::from_be_bytes([u1, u0])) != upper {
                upper = u16::from_be_bytes([u1, u0]);
                emit(&mut out, 4, [0, 0], &[u1, u0]);
            }
            emit(&mut out, 0, [a1, a0], data);
        });
    }
    if let Some(entry) = image.entry().and_then(Address::to_u32) {
        emit(&mut out, 5, [0, 0], &entry.to_be_bytes());
    }
    emit(&mut out, 1, [0, 0], &[]);
    out
}

/// Writes one record.
#[allow(clippy::cast_possible_truncation)] // at most LINE bytes
fn emit(out: &mut Vec<u8>, kind: u8, offset: [u8; 2], data: &[u8]) {
    out.push(b':');
    let head = [data.len() as u8, offset[0], offset[1], kind];
    let sum = head.iter().chain(data).fold(0u8, |sum, byte| sum.wrapping_add(*byte));
    head.iter().chain(data).chain([&sum.wrapping_neg()]).for_each(|byte| emit_byte(out, *byte));
    out.push(b'\n');
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
            (":020000040800F3\n", "line 1: checksum is F3, computed F2"),
            (":020000040800F2\n:04400800DEADBEEF7D\n", "line 2: checksum is 7D, computed 7C"),
            (":020000040800F2\n", "line 1: the file ends here without an end record"),
            (":00000001FF\n\n:020000040800F2\n", "line 3: extra lines after the end record of line 1"),
            (":00000001FF", "line 1: the file ends here and has no data"),
            (":0200000408 0F2", "line 1: column 12: not a hex digit"),
            (":02000004080", "line 1: the record is truncated: 11 of 14 digits"),
            (":0", "line 1: the record is truncated: 1 of 10 digits"),
            (":020000040800F2:00000001FF", "line 1: column 16: extra characters after the checksum"),
            (":020000040800F2\nhello\n", "line 2: not a record"),
            (":020000200800D6", "line 1: record type 20 is not supported"),
            (":0100000408F3", "line 1: a record of type 04 must have 2 data bytes, this one has 1"),
            (":020000021000EC\n:04FFFE0001020304F5\n:00000001FF", "line 2: the data crosses a 64 KiB boundary"),
            (":02000004FFFFFC\n:04FFFE0001020304F5\n:00000001FF", "line 2: the data exceeds the highest address"),
            (
                ":0400000001020304F2\n:0100040005F6\n:020002000309F0\n:00000001FF",
                "line 3: 0x0000_0003 has another value in line 1",
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

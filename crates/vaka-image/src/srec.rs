//! Motorola S-record.
//!
//! A record is `S`, a type digit, a count (1 byte), an address (2, 3 or 4 bytes by type,
//! big-endian), data and a checksum (1 byte), each byte as two hex digits. The count covers all
//! bytes after it. The bytes from the count on add up to 0xFF.

use crate::address::Address;
use crate::facts::Format;
use crate::model::Image;
use crate::record::{
    self, ReadControl, RecordError, RecordFault, RecordLine, RecordMetadata, RecordSink, Records, emit_byte,
};
use vaka_base::text;

/// Reads S-records: types 0 to 3 and 5 to 9, any line ends, either case.
///
/// # Errors
/// [`RecordError`] with the line; the file is damaged or doubtful.
///
/// # Examples
/// ```
/// use vaka_image::address::Address;
/// use vaka_image::srec;
///
/// let image = srec::read(b"S107001001020304DE\nS9030000FC\n").unwrap();
/// assert_eq!((image.start(), image.len()), (Address::new(0x10), 4));
/// ```
pub fn read(bytes: &[u8]) -> Result<Image, RecordError> {
    record::read::<SRecord>(bytes)
}

/// State between records.
#[derive(Debug, Default)]
pub(super) struct SRecord {
    data_records: u64,
    /// The widest address of a data record so far, in bytes.
    width: usize,
    count_behind_end: bool,
    sayings: RecordMetadata,
}

/// The fields of a record.
struct RecordParts<'a> {
    kind: u8,
    width: usize,
    address: u32,
    data: &'a [u8],
}

impl Records for SRecord {
    const FORMAT: Format = Format::SRecord;
    const MARK: &'static str = "'S' and a digit";
    const END: &'static str = "S7, S8 or S9";

    fn is_record(line: &[u8]) -> bool {
        matches!(line, [b'S' | b's', b'0'..=b'9', ..])
    }

    fn expected_len(head: &[u8; 8]) -> Option<usize> {
        match head {
            [b'S', _, high, low, ..] => Some(4 + 2 * record::count(*high, *low)?),
            _ => None,
        }
    }

    #[inline]
    fn record(&mut self, line: &mut RecordLine<'_>, take: &mut impl RecordSink) -> Result<ReadControl, RecordFault> {
        let number = line.number;
        let parts = parts(line)?;
        let line = number;
        match parts.kind {
            b'0' => self.header(line, parts.data),
            b'1'..=b'3' => {
                self.data_records += 1;
                self.width = self.width.max(parts.width);
                take(line, within(&parts)?, parts.data);
            }
            b'5' | b'6' => self.check_count(&parts)?,
            _ => {
                no_data(&parts)?;
                if self.width > 0 && parts.width != self.width {
                    let kind = char::from(parts.kind);
                    self.sayings
                        .notes
                        .push(format!("line {line}: the end record S{kind} has another address width than the data"));
                }
                // Zero means that the file has no entry point.
                if parts.address != 0 {
                    self.sayings.set_entry(line, Address::new(u64::from(parts.address)));
                }
                return Ok(ReadControl::End);
            }
        }
        Ok(ReadControl::More)
    }

    /// Some files have one count record after the end record.
    fn may_follow(&mut self, line: &mut RecordLine<'_>) -> Result<bool, RecordFault> {
        if self.count_behind_end || !matches!(line.text[1], b'5' | b'6') {
            return Ok(false);
        }
        self.count_behind_end = true;
        self.check_count(&parts(line)?)?;
        Ok(true)
    }

    fn sayings(&mut self) -> &mut RecordMetadata {
        &mut self.sayings
    }
}

impl SRecord {
    /// A header is free bytes, not necessarily text.
    fn header(&mut self, line: usize, data: &[u8]) {
        let words = text::sanitize(&String::from_utf8_lossy(data));
        if self.sayings.header.is_some() {
            self.sayings.notes.push(format!("line {line}: a second header, \"{words}\""));
        } else if !words.is_empty() {
            self.sayings.header = Some(words);
        }
    }

    fn check_count(&self, parts: &RecordParts<'_>) -> Result<(), RecordFault> {
        no_data(parts)?;
        let said = u64::from(parts.address);
        // S5 has 16 bits; more records wrap in it.
        let found = if parts.kind == b'5' { self.data_records & 0xFFFF } else { self.data_records & 0xFF_FFFF };
        if said == found { Ok(()) } else { Err(RecordFault::Count { said, found: self.data_records }) }
    }
}

#[inline]
fn parts<'a>(line: &'a mut RecordLine<'_>) -> Result<RecordParts<'a>, RecordFault> {
    let kind = line.text[1];
    let width = match kind {
        b'0' | b'1' | b'5' | b'9' => 2,
        b'2' | b'6' | b'8' => 3,
        b'3' | b'7' => 4,
        other => return Err(RecordFault::Type(format!("S{}", char::from(other)))),
    };
    let (record, sum) = record::decode(&line.text[2..], line.column + 2, 1, line.room)?;
    if record.len() < 1 + width + 1 {
        let kind = format!("S{}", char::from(kind));
        return Err(RecordFault::Length { kind, wanted: width + 1, found: record.len() - 1 });
    }
    let found = record[record.len() - 1];
    if sum != 0xFF {
        return Err(RecordFault::Checksum { expected: found.wrapping_add(0xFF_u8.wrapping_sub(sum)), found });
    }
    let address = match record {
        [_, a3, a2, a1, a0, ..] if width == 4 => u32::from_be_bytes([*a3, *a2, *a1, *a0]),
        _ => record[1..=width].iter().fold(0, |address, byte| address << 8 | u32::from(*byte)),
    };
    Ok(RecordParts { kind, width, address, data: &record[1 + width..record.len() - 1] })
}

/// The address of data that stays inside the address range of its record type.
fn within(parts: &RecordParts<'_>) -> Result<Address, RecordFault> {
    let limit = 1u64 << (8 * parts.width);
    if u64::from(parts.address) + parts.data.len() as u64 > limit {
        return Err(RecordFault::TooHigh(Address::new(limit - 1)));
    }
    Ok(Address::new(u64::from(parts.address)))
}

fn no_data(parts: &RecordParts<'_>) -> Result<(), RecordFault> {
    if parts.data.is_empty() {
        return Ok(());
    }
    let kind = format!("S{}", char::from(parts.kind));
    Err(RecordFault::Length { kind, wanted: 0, found: parts.data.len() })
}

/// Data bytes in a line that is written; a record never crosses a multiple of it.
const LINE: u64 = 16;

/// Writes S-records: the narrowest sufficient address size, lines of 16 bytes aligned where the
/// image is, a count, and the end record with the entry point (0 if there is none). Writes a
/// header only if the image has one.
///
/// # Examples
/// ```
/// use vaka_image::address::Address;
/// use vaka_image::{Image, srec};
///
/// let image = Image::from_memory(&[(Address::new(0x0800_0000), vec![1, 2, 3])]).unwrap();
/// let file = srec::write(&image);
/// assert_eq!(srec::read(&file).unwrap().segments(), image.segments());
/// ```
pub fn write(image: &Image) -> Vec<u8> {
    let mut out = Vec::with_capacity(usize::try_from(image.len()).unwrap_or(0) / 16 * 47 + 64);
    let highest = image.span().end().get() - 1;
    let highest = highest.max(image.entry().map_or(0, Address::get));
    let (width, data_kind, end_kind) = match highest {
        0..0x1_0000 => (2, b'1', b'9'),
        0x1_0000..0x100_0000 => (3, b'2', b'8'),
        _ => (4, b'3', b'7'),
    };
    if let Some(header) = &image.facts().header {
        let bytes = header.as_bytes();
        emit(&mut out, b'0', &[0, 0], &bytes[..bytes.len().min(250)]);
    }
    let mut count: u32 = 0;
    for segment in image.segments() {
        record::lines(segment, LINE, |address, data| {
            emit(&mut out, data_kind, &address.to_be_bytes()[4 - width..], data);
            count += 1;
        });
    }
    match count.to_be_bytes() {
        [0, 0, c1, c0] => emit(&mut out, b'5', &[c1, c0], &[]),
        [0, c2, c1, c0] => emit(&mut out, b'6', &[c2, c1, c0], &[]),
        // Too many records for a count record: it is omitted.
        _ => {}
    }
    let entry = image.entry().and_then(Address::to_u32).unwrap_or(0);
    emit(&mut out, end_kind, &entry.to_be_bytes()[4 - width..], &[]);
    out
}

#[allow(clippy::cast_possible_truncation)] // at most 250 bytes of data
fn emit(out: &mut Vec<u8>, kind: u8, address: &[u8], data: &[u8]) {
    out.extend_from_slice(&[b'S', kind]);
    let count = (address.len() + data.len() + 1) as u8;
    let bytes = [&[count][..], address, data];
    let sum = bytes.iter().flat_map(|part| part.iter()).fold(0u8, |sum, byte| sum.wrapping_add(*byte));
    bytes.iter().flat_map(|part| part.iter()).chain([&!sum]).for_each(|byte| emit_byte(out, *byte));
    out.push(b'\n');
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// The twelve bytes of the HEX example, with the header "demo". GNU binutils' objdump 2.40
    /// reads the same content.
    const WORKED: &str =
        "S007000064656D6F53\nS30D0800400000500020C101000870\nS30908004008DEADBEEF6E\nS5030002FA\nS705080041C1F0\n";

    #[test]
    fn the_worked_example_reads_and_writes() {
        let image = read(WORKED.as_bytes()).unwrap();
        assert_eq!(image.segments()[0].data(), [0, 0x50, 0, 0x20, 0xC1, 1, 0, 8, 0xDE, 0xAD, 0xBE, 0xEF]);
        assert_eq!((image.start(), image.entry()), (Address::new(0x0800_4000), Some(Address::new(0x0800_41C1))));
        assert_eq!(image.facts().header.as_deref(), Some("demo"));
        let sloppy = WORKED.to_lowercase().replace('\n', " \r\n");
        assert_eq!(read(sloppy.as_bytes()).unwrap().segments(), image.segments());
        let one_line = "S0070000 64656D6F53".replace(' ', "")
            + "\nS3110800400000500020C1010008DEADBEEF34\nS5030001FB\nS705080041C1F0\n";
        // The long record's checksum by hand: 11+08+40+50+20+C1+01+08+DE+AD+BE+EF
        // = 4CB → FF-CB = 34; the count's: 03+01 = 04 → FB.
        assert_eq!(String::from_utf8(write(&image)).unwrap(), one_line);
    }

    #[test]
    fn short_addresses_and_counts() {
        // Checksums as computed in the format's description.
        let image = read(b"S1074000DEADBEEF80\nS208024000DEADBEEF7D\nS604000002F9\nS9034000BC\n").unwrap();
        assert_eq!(image.segments().len(), 2);
        assert_eq!(image.entry(), Some(Address::new(0x4000)));
        assert_eq!(image.notes().len(), 1, "the end record is of another width: {:?}", image.notes());
        assert_eq!(read(b"S1074000DEADBEEF80\nS9030000FC\nS5030001FB\n").unwrap().entry(), None);
    }

    #[test]
    fn damage_is_refused_with_its_line() {
        let cases: &[(&str, &str)] = &[
            ("S1074000DEADBEEF81", "line 1: checksum is 81, computed 80"),
            ("S1074000DEADBEEF80", "line 1: the file ends here without an end record (S7, S8 or S9)"),
            ("S1074000DEADBEEF80\nS5030002FA\nS9030000FC", "line 2: the file states 2 data records"),
            ("S1074000DEADBEEF80\nS9030000FC\nS5030002FA", "line 3: the file states 2 data records"),
            ("S1074000DEADBEEF80\nS9030000FC\nS5030001FB\nS5030001FB", "line 4: extra lines after the end record"),
            (
                "S1074000DEADBEEF80\nS9030000FC\nS1074000DEADBEEF80",
                "line 3: extra lines after the end record of line 2",
            ),
            ("S1074000DEADBEEF", "line 1: the record is truncated: 14 of 16 digits"),
            ("S1074000DEADBEEF8000", "line 1: column 19: extra characters"),
            ("S10240BD", "line 1: a record of type S1 must have 3 data bytes, this one has 2"),
            ("S4030000FC", "line 1: record type S4 is not supported"),
            ("S1FFFFFF", "line 1: the record is truncated"),
            ("S105FFFF0102F9", "line 1: the data exceeds the highest address, 0x0000_FFFF"),
            ("S9030000FC", "line 1: the file ends here and has no data"),
            ("S504000001FA", "line 1: a record of type S5 must have 0 data bytes, this one has 1"),
        ];
        for (text, said) in cases {
            let error = read(text.as_bytes()).unwrap_err().to_string();
            assert!(error.starts_with(said), "{error}\nwanted: {said}");
        }
    }

    proptest! {
        #[test]
        fn hostile_text_never_panics(text in "([Ss][0-9][0-9A-Fa-f]{0,40}[\r\n]{0,2}|.{0,5}){0,12}") {
            let _ = read(text.as_bytes());
        }
    }
}

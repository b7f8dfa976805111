//! Detection of file formats by content.

use std::fmt;

use serde::Serialize;

use vaka_base::text;

use crate::facts::Format;

/// A format, and the sign by which it was recognised.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
pub struct Detected {
    /// The format.
    pub format: Format,
    /// How the format was recognized.
    pub reason: &'static str,
}

/// A file that is not firmware, with the name of its actual format.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum NotFirmware {
    /// The file is empty.
    Empty,
    /// Every byte has the same value.
    Blank(u8),
    /// A saved web page.
    WebPage,
    /// An archive.
    Archive {
        /// The kind of archive.
        kind: &'static str,
        /// Sanitized names of members that look like firmware.
        firmware: Vec<String>,
    },
    /// Readable text; its first line.
    Text(String),
    /// Another well-known format.
    Other(&'static str),
}

impl fmt::Display for NotFirmware {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Empty => f.write_str("the file is empty"),
            Self::Blank(value) => write!(f, "the file contains only the byte 0x{value:02X}"),
            Self::WebPage => {
                f.write_str("this is a web page, not firmware: the download returned a page instead of the file")
            }
            Self::Archive { kind, firmware } if firmware.is_empty() => {
                write!(f, "this is {kind}; unpack it and use the firmware inside, if any")
            }
            Self::Archive { kind, firmware } => {
                write!(f, "this is {kind}; unpack it and use one of its members: {}", firmware.join(", "))
            }
            Self::Other(kind) => write!(f, "this is {kind}, not firmware"),
            Self::Text(line) => write!(f, "this is a text file, not firmware; it starts with \"{line}\""),
        }
    }
}

/// Detects the format of `bytes`.
///
/// Examines the beginning of the file, and its end for a DFU suffix. Does not validate the rest.
/// Content that matches no other format is a raw binary.
///
/// # Errors
/// [`NotFirmware`] with the actual format of the file.
///
/// # Examples
/// ```
/// use vaka_image::Format;
/// use vaka_image::detect::{NotFirmware, detect};
///
/// assert_eq!(detect(b":00000001FF\n").unwrap().format, Format::IntelHex);
/// // Erased flash is not firmware.
/// assert_eq!(detect(&[0xFF; 64]).unwrap_err(), NotFirmware::Blank(0xFF));
/// ```
pub fn detect(bytes: &[u8]) -> Result<Detected, NotFirmware> {
    let found = |format, reason| Ok(Detected { format, reason });
    if bytes.is_empty() {
        return Err(NotFirmware::Empty);
    }
    if bytes.len() > 1 && bytes.iter().all(|byte| *byte == bytes[0]) {
        return Err(NotFirmware::Blank(bytes[0]));
    }
    if let Some(detected) = by_magic(bytes)? {
        return Ok(detected);
    }
    // The suffix: "UFD" 8 bytes before the end. Source: DFU 1.1, appendix B.
    if bytes.len() >= 16 && &bytes[bytes.len() - 8..bytes.len() - 5] == b"UFD" {
        return found(Format::Dfu, "it ends in a DFU suffix");
    }
    match first_record(bytes) {
        Some(b':') => return found(Format::IntelHex, "its first record is Intel HEX (':' and hex digits)"),
        Some(b'S') => return found(Format::SRecord, "its first record is an S-record ('S', a digit and hex digits)"),
        _ => {}
    }
    match as_text(bytes) {
        Some(line) if is_web_page(bytes) => {
            drop(line);
            Err(NotFirmware::WebPage)
        }
        Some(line) => Err(NotFirmware::Text(line)),
        None => found(Format::Binary, "it matches no known format and is not text"),
    }
}

/// Formats and archives that begin with a fixed sign.
fn by_magic(bytes: &[u8]) -> Result<Option<Detected>, NotFirmware> {
    let found = |format, reason| Ok(Some(Detected { format, reason }));
    let archive = |kind| Err(NotFirmware::Archive { kind, firmware: Vec::new() });
    match bytes {
        [0x7F, b'E', b'L', b'F', ..] if is_host_program(bytes) => {
            Err(NotFirmware::Other("a program for a computer (ELF)"))
        }
        [0x7F, b'E', b'L', b'F', ..] => found(Format::Elf, "it begins with the ELF magic number"),
        [b'U', b'F', b'2', b'\n', 0x57, 0x51, 0x5D, 0x9E, ..] => {
            found(Format::Uf2, "it begins with the UF2 magic numbers")
        }
        _ if bytes.starts_with(crate::dfu_file::PREFIX) => {
            found(Format::Dfu, "it begins with the prefix of the DFU address extension")
        }
        [b'P', b'K', 3 | 5, 4 | 6, ..] => {
            Err(NotFirmware::Archive { kind: "a zip archive", firmware: firmware_in_zip(bytes) })
        }
        [0x1F, 0x8B, 8, ..] => archive("a gzip archive"),
        [b'B', b'Z', b'h', b'1'..=b'9', 0x31, 0x41, 0x59, 0x26, ..] => archive("a bzip2 archive"),
        [b'R', b'a', b'r', b'!', 0x1A, 7, ..] => archive("a RAR archive"),
        [0xFD, b'7', b'z', b'X', b'Z', 0, ..] => archive("an xz archive"),
        [b'7', b'z', 0xBC, 0xAF, ..] => archive("a 7z archive"),
        [0x28, 0xB5, 0x2F, 0xFD, ..] => archive("a zstd archive"),
        [0x89, b'P', b'N', b'G', b'\r', b'\n', 0x1A, b'\n', ..] => Err(NotFirmware::Other("a PNG picture")),
        [0xFF, 0xD8, 0xFF, 0xE0..=0xEF | 0xDB, ..] => Err(NotFirmware::Other("a JPEG picture")),
        [b'G', b'I', b'F', b'8', b'7' | b'9', b'a', ..] => Err(NotFirmware::Other("a GIF picture")),
        [b'%', b'P', b'D', b'F', b'-', ..] => Err(NotFirmware::Other("a PDF document")),
        [b'M', b'Z', ..] if has_pe_header(bytes) => Err(NotFirmware::Other("a Windows program")),
        [0xCF | 0xCE, 0xFA, 0xED, 0xFE, ..] => Err(NotFirmware::Other("a macOS program")),
        [0xFF, 0xFE, ..] | [0xFE, 0xFF, ..] if is_utf16_text(bytes) => {
            Err(NotFirmware::Other("a UTF-16 text (save it as ASCII if it contains records)"))
        }
        _ if bytes.get(257..262) == Some(b"ustar") => archive("a tar archive"),
        _ => Ok(None),
    }
}

/// Whether an ELF file is a program for a computer: its machine is x86, or it requests an
/// interpreter, which firmware never does. Source: the ABI's registry of e_machine; ELF-64 object
/// file format, sections 2 and 8 (PT_INTERP is 3).
fn is_host_program(bytes: &[u8]) -> bool {
    const X86: u16 = 3;
    const X86_64: u16 = 62;
    const INTERPRETER: u32 = 3;
    let half = |at: usize| Some(u16::from_le_bytes(bytes.get(at..at + 2)?.try_into().ok()?));
    let word = |at: usize| Some(u32::from_le_bytes(bytes.get(at..at + 4)?.try_into().ok()?));
    // Only little-endian files: computers that run this program are little-endian.
    if bytes.get(5) != Some(&1) {
        return false;
    }
    if half(18).is_some_and(|machine| machine == X86 || machine == X86_64) {
        return true;
    }
    let is_64 = bytes.get(4) == Some(&2);
    let (table, size, count) = if is_64 { (word(32), half(54), half(56)) } else { (word(28), half(42), half(44)) };
    let (Some(table), Some(size), Some(count)) = (table, size, count) else { return false };
    let header = |index: u16| usize::try_from(table).ok()?.checked_add(usize::from(index) * usize::from(size));
    (0..count.min(64)).filter_map(header).any(|at| word(at) == Some(INTERPRETER))
}

/// Whether the header of a Windows program is at the offset that the DOS header gives. Source: PE
/// format, "MS-DOS Stub".
fn has_pe_header(bytes: &[u8]) -> bool {
    let place = bytes.get(0x3C..0x40).and_then(|place| place.try_into().ok()).map(u32::from_le_bytes);
    let at = place.and_then(|place| usize::try_from(place).ok());
    at.and_then(|at| bytes.get(at..at.checked_add(4)?)) == Some(b"PE\0\0")
}

/// Whether the bytes after a byte order mark are text in 16-bit units.
fn is_utf16_text(bytes: &[u8]) -> bool {
    let is_little = bytes[0] == 0xFF;
    let unit = |pair: &[u8]| match is_little {
        true => u16::from_le_bytes([pair[0], pair[1]]),
        false => u16::from_be_bytes([pair[0], pair[1]]),
    };
    let is_text = |c: char| !c.is_control() || matches!(c, '\n' | '\r' | '\t' | '\x0C');
    let mut units = bytes[2..].chunks_exact(2).map(unit).peekable();
    units.peek().is_some() && char::decode_utf16(units).all(|c| c.is_ok_and(is_text))
}

/// Endings that firmware files have.
const ENDINGS: [&str; 11] = [".hex", ".ihx", ".ihex", ".srec", ".s19", ".s37", ".mot", ".elf", ".bin", ".uf2", ".dfu"];

/// Names of the first ten members of a zip archive that look like firmware. Empty if the archive
/// is damaged.
fn firmware_in_zip(bytes: &[u8]) -> Vec<String> {
    let Ok(archive) = zip::ZipArchive::new(std::io::Cursor::new(bytes)) else { return Vec::new() };
    let fits = |name: &str| ENDINGS.iter().any(|ending| name.to_ascii_lowercase().ends_with(ending));
    archive.file_names().flatten().filter(|name| fits(name)).take(10).map(|name| text::sanitize(&name)).collect()
}

/// The start character of the first line that looks like a record, if only text precedes it:
/// comment lines are allowed there.
fn first_record(bytes: &[u8]) -> Option<u8> {
    let start = &bytes[..bytes.len().min(64 * 1024)];
    start
        .split(|byte| matches!(byte, b'\n' | b'\r'))
        .map(|line| line.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(line).trim_ascii())
        .take_while(|line| line.iter().all(|byte| *byte >= 0x20 || *byte == b'\t'))
        .find_map(record_mark)
}

/// `:` or `S` if the line starts like a record of that format. A damaged record counts too, so
/// that its reader reports the damage and its position.
fn record_mark(line: &[u8]) -> Option<u8> {
    let digits = |from: usize, count: usize| {
        line.len() >= from + count && line[from..from + count].iter().all(u8::is_ascii_hexdigit)
    };
    match line {
        [b':', ..] if digits(1, 8) => Some(b':'),
        [b'S' | b's', b'0'..=b'9', ..] if digits(2, 6) => Some(b'S'),
        _ => None,
    }
}

/// The first non-empty line, if all bytes are text.
fn as_text(bytes: &[u8]) -> Option<String> {
    let is_plain = |c: char| !c.is_control() || matches!(c, '\n' | '\r' | '\t' | '\x0C');
    let content = std::str::from_utf8(bytes).ok().filter(|content| content.chars().all(is_plain))?;
    let line: String = content.lines().map(str::trim).find(|line| !line.is_empty())?.chars().take(60).collect();
    Some(text::sanitize(&line))
}

fn is_web_page(bytes: &[u8]) -> bool {
    let start = bytes[..bytes.len().min(2048)].to_ascii_lowercase();
    [&b"<!doctype html"[..], b"<html", b"<head"].iter().any(|sign| start.windows(sign.len()).any(|w| w == *sign))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn content_decides() {
        let suffix = hex_bytes("DEADBEEF030278563412000155464410E4F41DF1");
        let cases: &[(&[u8], Format)] = &[
            (b":00000001FF\n", Format::IntelHex),
            (b"\xEF\xBB\xBF:00000001FF", Format::IntelHex),
            (b"; made by a build\r\n\r\n :020000040A00F0\r\n", Format::IntelHex),
            (b":10240000005000208924", Format::IntelHex),
            (b"S00700006465", Format::SRecord),
            (b"\x7FELF\x01\x01", Format::Elf),
            (b"UF2\n\x57\x51\x5D\x9E", Format::Uf2),
            (b"\x44\x66\x75\x53\x65\x01", Format::Dfu),
            (&suffix, Format::Dfu),
            (b"\x00\x50\x00\x20\x89\x24", Format::Binary),
            (b":\x00\x01 not a record", Format::Binary),
        ];
        for (bytes, format) in cases {
            assert_eq!(detect(bytes).map(|found| found.format), Ok(*format), "{bytes:02X?}");
        }
    }

    #[test]
    fn what_is_no_firmware_is_named() {
        let cases: &[(&[u8], &str)] = &[
            (b"", "empty"),
            (&[0xFF; 64], "only the byte 0xFF"),
            (b"\n<!DOCTYPE html>\n<html><body>404", "web page"),
            (b"PK\x03\x04rest", "zip"),
            (b"\x1F\x8B\x08rest", "gzip"),
            (b"BZh91AY&SYrest", "bzip2"),
            (b"\x89PNG\r\n\x1A\nrest", "PNG picture"),
            (b"\xFF\xD8\xFF\xE0rest", "JPEG"),
            (b"%PDF-1.7\nrest", "PDF"),
            (b"\xFF\xFE:\x001\x000\x00\n\x00", "UTF-16"),
            (b"\xFE\xFF\x00S\x001\x00\n", "UTF-16"),
            (b"Tern 1.5.0\nfixed the surge line\n", "starts with \"Tern 1.5.0\""),
        ];
        for (bytes, words) in cases {
            let said = detect(bytes).unwrap_err().to_string();
            assert!(said.contains(words), "{said}");
        }
    }

    /// Programs of the computer that runs this test, and of Windows by its format's description.
    #[test]
    fn programs_of_a_computer_are_named() {
        let own = std::fs::read(std::env::current_exe().unwrap()).unwrap();
        if own.starts_with(b"\x7FELF") {
            assert_eq!(detect(&own), Err(NotFirmware::Other("a program for a computer (ELF)")));
        }
        let mut windows = b"MZ".to_vec();
        windows.resize(0x40, 0);
        windows[0x3C] = 0x40;
        windows.extend(b"PE\0\0rest");
        assert_eq!(detect(&windows), Err(NotFirmware::Other("a Windows program")));
        windows.truncate(0x42);
        assert_eq!(detect(&windows).map(|found| found.format), Ok(Format::Binary));
        // A byte order mark followed by bytes that are not text.
        assert_eq!(detect(b"\xFF\xFE\x00\x00\x01\x00").map(|found| found.format), Ok(Format::Binary));
    }

    /// The worked DFU suffix of the standard's layout: 4 bytes of payload and 16 of suffix.
    fn hex_bytes(digits: &str) -> Vec<u8> {
        (0..digits.len() / 2).map(|i| u8::from_str_radix(&digits[2 * i..2 * i + 2], 16).unwrap()).collect()
    }
}

//! The content of an update disk: label, files, texts.

pub mod fat;

use serde::Serialize;

use vaka_base::text;
use vaka_image::address::Address;

/// The file in which a UF2 disk describes its board. Source: the public UF2
/// format description.
pub const BOARD_FILE: &str = "INFO_UF2.TXT";

/// The observed content of a unit's disk. Texts are sanitized.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct VolumeFacts {
    /// Label, if it has one.
    pub label: Option<String>,
    /// Whether it is write-protected.
    pub read_only: bool,
    /// The folder that the system shows it as, if that is how it is used.
    pub folder: Option<String>,
    /// Files in its root folder.
    pub files: Vec<VisibleFile>,
    /// The lines of its small text files, each by the file's name.
    pub texts: Vec<(String, Vec<String>)>,
    /// The part that cannot be read, and the reason: nothing is written to such a disk.
    pub fault: Option<String>,
    /// UF2 families of the installed application, if the disk shows it.
    pub families: Vec<u32>,
    /// The lowest address in the first blocks of the installed application, if the disk shows it.
    pub shown_start: Option<Address>,
}

/// A file that a disk shows.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct VisibleFile {
    /// File name.
    pub name: String,
    /// Size in bytes.
    pub size: u64,
    /// Date, such as `2026-11-23`; many units have no clock and no date.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub date: Option<String>,
}

impl VolumeFacts {
    /// The file with this name; FAT ignores case.
    pub fn file(&self, name: &str) -> Option<&VisibleFile> {
        self.files.iter().find(|file| file.name.eq_ignore_ascii_case(name))
    }

    /// The file of UF2 blocks that shows the installed application.
    pub fn shown_blocks(&self) -> Option<&VisibleFile> {
        self.files.iter().find(|file| file.name.to_ascii_uppercase().ends_with(".UF2"))
    }

    /// The lines of the text file of that name.
    pub fn text(&self, name: &str) -> Option<&[String]> {
        let found = self.texts.iter().find(|(file, _)| file.eq_ignore_ascii_case(name));
        found.map(|(_, lines)| &lines[..])
    }

    /// The board information, if this is a UF2 disk.
    pub fn board(&self) -> Option<BoardInfo> {
        self.text(BOARD_FILE).map(BoardInfo::of)
    }
}

/// The lines of a text file, tamed; empty ones are left out. Source: the format
/// allows CRLF and LF.
pub fn lines(bytes: &[u8]) -> Vec<String> {
    let text = String::from_utf8_lossy(bytes);
    // Padding at the end of the unit's file is not text.
    let text = text.split('\0').next().unwrap_or_default();
    text.lines().map(text::sanitize).filter(|line| !line.is_empty()).take(64).collect()
}

/// The value after `key` at the start of a line; the first match counts.
pub fn value<'a>(lines: &'a [String], key: &str) -> Option<&'a str> {
    let matches = |line: &'a String| {
        let head = line.get(..key.len()).filter(|head| head.eq_ignore_ascii_case(key))?;
        Some(line[head.len()..].trim())
    };
    lines.iter().find_map(matches).filter(|value| !value.is_empty())
}

/// The board information on a UF2 disk. Keys may be missing.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct BoardInfo {
    /// Name and version of the bootloader: the first line.
    pub bootloader: Option<String>,
    /// For display.
    pub model: Option<String>,
    /// For programs: board or chip with its revision.
    pub board_id: Option<String>,
}

impl BoardInfo {
    fn of(lines: &[String]) -> Self {
        let found = |key| value(lines, key).map(str::to_owned);
        let bootloader = lines.first().filter(|line| !line.contains(':')).cloned();
        Self { bootloader, model: found("Model:"), board_id: found("Board-ID:") }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn facts(text: &str) -> VolumeFacts {
        VolumeFacts { texts: vec![("info_uf2.txt".into(), lines(text.as_bytes()))], ..VolumeFacts::default() }
    }

    #[test]
    fn board_information_is_read_in_any_order_with_or_without_blanks() {
        let told =
            "UF2 Bootloader v2.3.0\r\nboard-id:Petrel-PB2-r2 \r\nModel: Skerrow Petrel\r\nBoard-ID: other\r\n\0\0";
        let board = facts(told).board().unwrap();
        assert_eq!(board.bootloader.as_deref(), Some("UF2 Bootloader v2.3.0"));
        assert_eq!(board.board_id.as_deref(), Some("Petrel-PB2-r2"), "the first of a repeated key");
        assert_eq!(board.model.as_deref(), Some("Skerrow Petrel"));
        let bare = facts("Model: x").board().unwrap();
        assert_eq!((bare.bootloader, bare.board_id), (None, None));
        assert_eq!(facts("Board-ID:   \n").board().unwrap().board_id, None);
        assert!(VolumeFacts::default().board().is_none());
    }

    #[test]
    fn texts_are_tamed_and_bounded() {
        let told = facts(&"a\x1b[2J\n".repeat(500));
        assert_eq!(told.texts[0].1.len(), 64);
        assert_eq!(told.texts[0].1[0], "a\\u{1b}[2J");
    }
}

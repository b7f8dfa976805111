//! ELF: 32 and 64 bits, either byte order. Read only.
//!
//! Source: System V ABI, chapters 4 and 5. What goes into flash are the bytes
//! of the loadable segments, at their *physical* addresses: where initialised
//! data lies in flash, not where the program finds it in RAM. Where there are
//! section headers, only bytes of sections count: a segment may also cover the
//! file's own headers, or padding.

use object::Endianness;
use object::elf::{self, FileHeader32, FileHeader64};
use object::read::elf::{FileHeader, ProgramHeader, SectionHeader};
use thiserror::Error;

use crate::address::Address;
use crate::facts::{ElfFacts, Format};
use crate::model::{BuildError, Builder, Image, TooHigh};

/// Why an ELF file is not a valid image.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum ElfError {
    /// A header or a part that it names lies outside the file.
    #[error("the ELF file is damaged or truncated: {0}")]
    Damaged(String),
    /// The file is an object file, a core dump or another file that is not executable.
    #[error("this ELF file is {0}, not a linked program")]
    NotLinked(&'static str),
    /// No loadable segment contains bytes.
    #[error("this ELF file has no loadable segment")]
    NothingToLoad,
    /// A segment lies above 32 bits.
    #[error("segment {index} at file offset {offset:#x} is above the 32-bit address space")]
    TooHigh {
        /// Index in the program header table.
        index: usize,
        /// Offset of the segment's bytes in the file.
        offset: u64,
    },
    /// Its parts have more bytes than the file.
    #[error("its segments share bytes of the file: together they have more bytes than the file")]
    Shared,
    /// It has more segments and sections than a linked program.
    #[error("this ELF file has {segments} segments and {sections} sections: too many to be a program")]
    TooMany {
        /// Number of loadable segments.
        segments: usize,
        /// Number of sections.
        sections: usize,
    },
    /// Two segments assign different bytes to one address.
    #[error("two segments assign different values to {0}")]
    Overlap(Address),
}

/// Reads the loadable bytes of a linked program.
///
/// # Errors
/// [`ElfError`]; the file is to blame.
pub fn read(bytes: &[u8]) -> Result<Image, ElfError> {
    match bytes.get(4) {
        Some(class) if elf::FileClass(*class) == elf::ELFCLASS64 => of_class::<FileHeader64<Endianness>>(bytes, 64),
        _ => of_class::<FileHeader32<Endianness>>(bytes, 32),
    }
}

/// Largest product of loadable segments and sections: each pair is compared. Chosen by us: a program
/// has a dozen of the former and a few hundred of the latter.
const MOST_PAIRS: usize = 1 << 20;

/// A range of the file that goes to an address.
struct Piece {
    index: usize,
    offset: u64,
    len: u64,
    address: u64,
}

fn of_class<H: FileHeader<Endian = Endianness>>(bytes: &[u8], bits: u8) -> Result<Image, ElfError> {
    let damaged = |error: object::read::Error| ElfError::Damaged(error.to_string());
    let header = H::parse(bytes).map_err(damaged)?;
    let endian = header.endian().map_err(damaged)?;
    match header.e_type(endian) {
        elf::ET_EXEC | elf::ET_DYN => {}
        elf::ET_REL => return Err(ElfError::NotLinked("an object file")),
        elf::ET_CORE => return Err(ElfError::NotLinked("a core dump")),
        _ => return Err(ElfError::NotLinked("of an unknown kind")),
    }
    let mut builder = Builder::default();
    let segments = header.program_headers(endian, bytes).map_err(damaged)?;
    let sections = header.section_headers(endian, bytes).map_err(damaged)?;
    let pieces = pieces(endian, segments, sections, &mut builder.notes)?;
    let total = pieces.iter().try_fold(0u64, |total, piece| total.checked_add(piece.len));
    if total.is_none_or(|total| total > bytes.len() as u64) {
        return Err(ElfError::Shared);
    }
    for piece in pieces {
        let data = slice(bytes, piece.offset, piece.len).ok_or_else(|| {
            ElfError::Damaged(format!("segment {} refers to bytes beyond the end of the file", piece.index))
        })?;
        builder
            .push(Address::new(piece.address), data)
            .map_err(|TooHigh| ElfError::TooHigh { index: piece.index, offset: piece.offset })?;
    }
    let entry: u64 = header.e_entry(endian).into();
    builder.entry = (entry != 0).then_some(Address::new(entry));
    builder.facts.elf =
        Some(ElfFacts { bits, little_endian: endian == Endianness::Little, machine: header.e_machine(endian).0 });
    builder.finish(Format::Elf).map_err(|error| match error {
        BuildError::Empty => ElfError::NothingToLoad,
        // The parts have no more bytes than the file.
        BuildError::TooLarge => ElfError::Shared,
        BuildError::Overlap(at) => ElfError::Overlap(at),
    })
}

/// The ranges of the file that are loaded.
fn pieces<P: ProgramHeader<Endian = Endianness>, S: SectionHeader<Endian = Endianness>>(
    endian: Endianness,
    segments: &[P],
    sections: &[S],
    notes: &mut Vec<String>,
) -> Result<Vec<Piece>, ElfError> {
    let loaded: Vec<(usize, &P)> = segments
        .iter()
        .enumerate()
        .filter(|(_, segment)| segment.p_type(endian) == elf::PT_LOAD && segment.p_filesz(endian).into() > 0)
        .collect();
    if loaded.len().saturating_mul(sections.len()) > MOST_PAIRS {
        return Err(ElfError::TooMany { segments: loaded.len(), sections: sections.len() });
    }
    // Some linkers set all physical addresses to zero.
    let no_physical = loaded.len() > 1 && loaded.iter().all(|(_, segment)| segment.p_paddr(endian).into() == 0);
    if no_physical {
        notes.push("its segments have no physical addresses; the virtual ones are used".into());
    }
    let holds_file_bytes = |section: &&S| {
        section.sh_flags(endian).contains(elf::SHF_ALLOC)
            && section.sh_type(endian) != elf::SHT_NOBITS
            && section.sh_size(endian).into() > 0
    };
    let mut pieces = Vec::new();
    for (index, segment) in loaded {
        let (offset, len): (u64, u64) = (segment.p_offset(endian).into(), segment.p_filesz(endian).into());
        let base: u64 = if no_physical { segment.p_vaddr(endian).into() } else { segment.p_paddr(endian).into() };
        let at =
            |from: u64, len: u64| Some(Piece { index, offset: from, len, address: base.checked_add(from - offset)? });
        let inside = sections.iter().filter(holds_file_bytes).filter_map(|section| {
            let (from, size): (u64, u64) = (section.sh_offset(endian).into(), section.sh_size(endian).into());
            let ends_inside = from.checked_add(size)? <= offset.checked_add(len)?;
            if from >= offset && ends_inside { at(from, size) } else { None }
        });
        let inside: Vec<Piece> = inside.collect();
        if inside.is_empty() {
            pieces.extend(at(offset, len));
        } else {
            pieces.extend(inside);
        }
    }
    Ok(pieces)
}

fn slice(bytes: &[u8], offset: u64, len: u64) -> Option<&[u8]> {
    let start = usize::try_from(offset).ok()?;
    bytes.get(start..start.checked_add(usize::try_from(len).ok()?)?)
}

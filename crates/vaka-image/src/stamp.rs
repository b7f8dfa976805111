//! The stamp: a small record inside an image that names its product, variants and version.
//!
//! Our own, specified in `docs/formats/stamp.md`. The link produces it; length
//! and digest are filled in afterwards ([`seal`]). Integers are little-endian:
//!
//! ```text
//!  0 magic 8 | 8 layout 2 | 10 size 2 | 12 start 4 | 16 length 4 | 20 SHA-256 32 | 52 text
//! ```
//!
//! `size` covers the whole stamp. The text is a list of entries `name=value`, each terminated by
//! a zero byte; an empty entry or the end of the stamp ends the list. The digest covers `length`
//! bytes from `start`, with its own 32 bytes as zeros and gaps of the image as 0xFF: the content
//! that a bootloader sees in flash.

use memchr::memmem;
use thiserror::Error;
use vaka_base::checksum::Sha256;

use crate::address::{Address, Span};
use crate::model::{BuildError, Builder, Image, TooHigh};
pub use crate::stamp_record::{SealState, Stamp, StampFields};
use vaka_base::text;

/// The first bytes of a stamp. Chosen by us.
pub const MAGIC: &[u8; 8] = b"VakaStmp";
/// The layout that is described here.
pub const LAYOUT: u16 = 1;
/// Bytes before the text.
pub const HEAD: usize = 52;
const DIGEST_AT: usize = 20;
const DIGEST_LEN: usize = 32;
/// Most bytes of gaps in the range that a stamp covers. Chosen by us: more than the flash of a
/// microcontroller has.
const MOST_GAPS: u64 = 16 << 20;
/// A stamp is a small record. Chosen by us.
const MAX_SIZE: usize = 4096;

/// The result of a search for stamps in an image.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum StampSearch {
    /// No stamp.
    None,
    /// One valid stamp.
    One(Stamp),
    /// One damaged stamp, and the damage.
    Damaged(Address, &'static str),
    /// Several stamps.
    Several(Vec<Address>),
}

/// Searches for a stamp: at `offset` from the start of the image if given, else everywhere.
pub fn find(image: &Image, offset: Option<u64>) -> StampSearch {
    let places = match offset.map(|offset| image.start().checked_add(offset)) {
        Some(at) => at.into_iter().filter(|at| has_magic(image, *at)).collect(),
        None => image.stamps.places_or_search(|| search(image)),
    };
    match places[..] {
        [] => StampSearch::None,
        [at] => match parsed(image, at) {
            Ok(stamp) => StampSearch::One(stamp),
            Err(what) => StampSearch::Damaged(at, what),
        },
        _ => StampSearch::Several(places),
    }
}

fn has_magic(image: &Image, at: Address) -> bool {
    Span::new(at, MAGIC.len() as u64).and_then(|span| image.bytes(span)) == Some(MAGIC)
}

fn search(image: &Image) -> Vec<Address> {
    let mut places = Vec::new();
    for segment in image.segments() {
        let found = memmem::find_iter(segment.data(), MAGIC);
        places.extend(found.filter_map(|at| segment.start().checked_add(at as u64)));
    }
    places
}

/// The stamp at an address that has the magic, from the cache or read.
fn parsed(image: &Image, at: Address) -> Result<Stamp, &'static str> {
    image.stamps.get_or_parse(at, || parse(image, at))
}

/// Reads the stamp at an address that has the magic.
fn parse(image: &Image, at: Address) -> Result<Stamp, &'static str> {
    let bytes = |len: usize| Span::new(at, len as u64).and_then(|span| image.bytes(span));
    let head = bytes(HEAD).ok_or("it exceeds its segment")?;
    let word = |at: usize| u32::from_le_bytes([head[at], head[at + 1], head[at + 2], head[at + 3]]);
    if u16::from_le_bytes([head[8], head[9]]) != LAYOUT {
        return Err("its layout version is not supported");
    }
    let size = usize::from(u16::from_le_bytes([head[10], head[11]]));
    if !(HEAD..=MAX_SIZE).contains(&size) {
        return Err("its size is invalid");
    }
    let whole = bytes(size).ok_or("it exceeds its segment")?;
    let text = parse_text(&whole[HEAD..])?;
    let start = Address::new(u64::from(word(12)));
    let length = u64::from(word(16));
    let digest = &head[DIGEST_AT..DIGEST_AT + DIGEST_LEN];
    let open = length == 0 && digest.iter().all(|byte| *byte == 0);
    let seal = if open {
        SealState::Open
    } else {
        let right = covered(image, start, length).filter(|covered| covered.covers(at_span(at, size)));
        match right.map(|covered| digest_of(image, covered, at)) {
            Some(found) if found[..] == *digest => SealState::Good,
            _ => SealState::Broken,
        }
    };
    Ok(Stamp { at, start, text, seal })
}

fn at_span(at: Address, size: usize) -> Span {
    Span::new(at, size as u64).unwrap_or(Span::new(at, 0).expect("nothing wraps"))
}

/// The range that a stamp covers, if the image contains its first and last byte, and its gaps are
/// not longer than flash can be.
fn covered(image: &Image, start: Address, length: u64) -> Option<Span> {
    let span = Span::new(start, length).filter(|span| !span.is_empty())?;
    if span.len() > image.len().saturating_add(MOST_GAPS) {
        return None;
    }
    (image.contains(start) && image.contains(Address::new(span.end().get() - 1))).then_some(span)
}

fn parse_text(bytes: &[u8]) -> Result<StampFields, &'static str> {
    let mut found = StampFields::default();
    for entry in bytes.split(|byte| *byte == 0).take_while(|entry| !entry.is_empty()) {
        let entry = std::str::from_utf8(entry).map_err(|_| "its text is not UTF-8")?;
        let (name, value) = entry.split_once('=').ok_or("an entry of its text has no '='")?;
        if name.is_empty() || text::sanitize(entry) != entry {
            return Err("an entry of its text has no name, is too long, or has control characters");
        }
        let value = value.to_owned();
        let single = match name {
            "product" => &mut found.product,
            "part" => &mut found.part,
            "version" => &mut found.version,
            "build" => &mut found.build,
            "built" => &mut found.built,
            "variant" => {
                found.variants.push(value);
                continue;
            }
            fact => {
                found.facts.push((fact.to_owned(), value));
                continue;
            }
        };
        if single.replace(value).is_some() {
            return Err("an entry occurs twice in its text");
        }
    }
    Ok(found)
}

/// The digest over a range, the stamp's own digest field as zeros.
fn digest_of(image: &Image, covered: Span, stamp: Address) -> [u8; DIGEST_LEN] {
    let field = stamp.checked_add(DIGEST_AT as u64).and_then(|at| Span::new(at, DIGEST_LEN as u64));
    let mut hash = Sha256::default();
    let mut at = covered.start();
    let mut buffer = [0; 4096];
    while at < covered.end() {
        let len = covered.end().offset_from(at).unwrap_or(0).min(buffer.len() as u64);
        let part = &mut buffer[..usize::try_from(len).unwrap_or(0)];
        part.fill(0xFF);
        image.copy_to(at, part);
        let common = field.zip(Span::new(at, len)).and_then(|(field, now)| field.common(now));
        if let Some(common) = common {
            let from = usize::try_from(common.start().offset_from(at).unwrap_or(0)).unwrap_or(0);
            part[from..from + usize::try_from(common.len()).unwrap_or(0)].fill(0);
        }
        hash.update(&*part);
        at = at.checked_add(len).unwrap_or(covered.end());
    }
    hash.finish()
}

/// Why an image cannot be stamped.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum StampError {
    /// The image has no stamp to seal.
    #[error("the image has no stamp")]
    None,
    /// The image has several stamps.
    #[error("the image has several stamps, at {0} and elsewhere")]
    Several(Address),
    /// The image has a stamp that cannot be read.
    #[error("the stamp at {0} is damaged: {1}")]
    Damaged(Address, &'static str),
    /// The start address in the stamp has no byte in the image, or the stamp is outside the range
    /// that it covers.
    #[error("the stamp at {at} states that the image starts at {start}, which contradicts its position")]
    Start {
        /// Address of the stamp.
        at: Address,
        /// Start address in the stamp.
        start: Address,
    },
    /// The image has a stamp already.
    #[error("the image already has a stamp, at {0}")]
    There(Address),
    /// A name or value is not allowed in a stamp.
    #[error("'{0}' is not allowed in a stamp: no control characters, no blanks at its ends, not too long")]
    StampFields(String),
    /// The stamp would exceed its maximum size or the 32-bit address range.
    #[error("the stamp would be too long")]
    TooLong,
}

/// Fills in length and digest of the image's one stamp. The length reaches to
/// the end of the image.
///
/// # Errors
/// The image does not have exactly one stamp, or the stamp does not describe the image.
pub fn seal(image: &Image) -> Result<Image, StampError> {
    let stamp = match find(image, None) {
        StampSearch::One(stamp) => stamp,
        StampSearch::None => return Err(StampError::None),
        StampSearch::Damaged(at, what) => return Err(StampError::Damaged(at, what)),
        StampSearch::Several(places) => return Err(StampError::Several(places[0])),
    };
    let wrong = StampError::Start { at: stamp.at, start: stamp.start };
    let span = Span::between(stamp.start, image.span().end()).ok_or(wrong.clone())?;
    let field = |offset: usize| stamp.at.checked_add(offset as u64).ok_or(StampError::TooLong);
    if !span.contains(stamp.at) || covered(image, span.start(), span.len()).is_none() {
        return Err(wrong);
    }
    let length = u32::try_from(span.len()).map_err(|_| StampError::TooLong)?;
    let with_length = image.patched(field(16)?, &length.to_le_bytes());
    let digest = digest_of(&with_length, span, stamp.at);
    Ok(with_length.patched(field(DIGEST_AT)?, &digest))
}

/// Appends a stamp at the next multiple of 4 after the image, and seals it.
///
/// # Errors
/// The image has a stamp already, or a field is not allowed in a stamp.
///
/// # Examples
/// ```
/// use vaka_image::address::Address;
/// use vaka_image::stamp::{self, StampFields, StampSearch};
/// use vaka_image::Image;
///
/// let image = Image::from_memory(&[(Address::new(0x0800_0000), vec![0xA5; 256])]).unwrap();
/// let text = StampFields { product: Some("tern".into()), version: Some("1.5.0".into()), ..StampFields::default() };
/// let stamped = stamp::append(&image, &text).unwrap();
/// let StampSearch::One(found) = stamp::find(&stamped, None) else { panic!("no stamp") };
/// assert_eq!(found.text.product.as_deref(), Some("tern"));
/// ```
pub fn append(image: &Image, text: &StampFields) -> Result<Image, StampError> {
    match find(image, None) {
        StampSearch::None => {}
        StampSearch::One(stamp) => return Err(StampError::There(stamp.at)),
        StampSearch::Damaged(at, _) => return Err(StampError::There(at)),
        StampSearch::Several(places) => return Err(StampError::There(places[0])),
    }
    let start = image.start().to_u32().ok_or(StampError::TooLong)?;
    let bytes = emit(start, text)?;
    let at = image.span().end().checked_add(3).map(|end| end.align_down(4)).ok_or(StampError::TooLong)?;
    let mut builder = Builder { entry: image.entry(), facts: image.facts.clone(), ..Builder::default() };
    let pieces = image.segments().iter().map(|segment| (segment.start(), segment.data())).chain([(at, &bytes[..])]);
    for (at, data) in pieces {
        builder.push(at, data).map_err(|TooHigh| StampError::TooLong)?;
    }
    let stamped = builder.finish(image.format()).map_err(|_: BuildError| StampError::TooLong)?;
    seal(&stamped)
}

/// The bytes of an open stamp.
fn emit(start: u32, said: &StampFields) -> Result<Vec<u8>, StampError> {
    let mut bytes = MAGIC.to_vec();
    bytes.resize(HEAD, 0);
    let single = [
        ("product", &said.product),
        ("part", &said.part),
        ("version", &said.version),
        ("build", &said.build),
        ("built", &said.built),
    ];
    let single = single.iter().filter_map(|(name, value)| value.as_deref().map(|value| (*name, value)));
    let variants = said.variants.iter().map(|id| ("variant", id.as_str()));
    let facts = said.facts.iter().map(|(name, value)| (name.as_str(), value.as_str()));
    for (name, value) in single.chain(variants).chain(facts) {
        let entry = format!("{name}={value}");
        if name.is_empty() || name.contains('=') || text::sanitize(&entry) != entry {
            return Err(StampError::StampFields(text::sanitize(&entry)));
        }
        bytes.extend_from_slice(entry.as_bytes());
        bytes.push(0);
    }
    bytes.push(0);
    bytes.resize(bytes.len().next_multiple_of(4), 0);
    let size = u16::try_from(bytes.len()).ok().filter(|size| usize::from(*size) <= MAX_SIZE);
    bytes[8..10].copy_from_slice(&LAYOUT.to_le_bytes());
    bytes[10..12].copy_from_slice(&size.ok_or(StampError::TooLong)?.to_le_bytes());
    bytes[12..16].copy_from_slice(&start.to_le_bytes());
    parse_text(&bytes[HEAD..]).map_err(|what| StampError::StampFields(what.to_owned()))?;
    Ok(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::read::{ReadOptions, read};

    fn image(len: usize) -> Image {
        let bytes: Vec<u8> = (0..len).map(|index| u8::try_from(index % 251).unwrap_or(0)).collect();
        read(&bytes, ReadOptions { at: Some(Address::new(0x1000)), ..ReadOptions::default() }).unwrap()
    }

    fn text() -> StampFields {
        StampFields {
            product: Some("tern".into()),
            variants: vec!["r1".into(), "r2".into()],
            version: Some("1.5.0".into()),
            facts: vec![("crystal".into(), "8 MHz".into())],
            ..StampFields::default()
        }
    }

    #[test]
    fn an_appended_stamp_is_laid_out_as_specified() {
        let stamped = append(&image(6), &text()).unwrap();
        // By hand: 6 bytes, a gap of 2, then the stamp at 0x1008.
        let bytes = stamped.segments()[1].data();
        assert_eq!(stamped.segments()[1].start(), Address::new(0x1008));
        let said = b"product=tern\0version=1.5.0\0variant=r1\0variant=r2\0crystal=8 MHz\0\0";
        let size = (52 + said.len()).next_multiple_of(4);
        assert_eq!(&bytes[..8], b"VakaStmp");
        assert_eq!(bytes[8..12], [1, 0, u8::try_from(size).unwrap(), 0]);
        assert_eq!(bytes[12..16], [0x00, 0x10, 0, 0]);
        assert_eq!(u32::from_le_bytes(bytes[16..20].try_into().unwrap()) as usize, 8 + size);
        assert_eq!(&bytes[52..52 + said.len()], said);
        assert_eq!(bytes.len(), size);
        // The digest, computed over a copy that this test assembles.
        let mut flash = vec![0, 1, 2, 3, 4, 5, 0xFF, 0xFF];
        flash.extend_from_slice(bytes);
        flash[8 + 20..8 + 52].fill(0);
        assert_eq!(bytes[20..52], vaka_base::checksum::sha256(&flash)[..]);
        let StampSearch::One(stamp) = find(&stamped, None) else { panic!() };
        assert_eq!((stamp.seal, &stamp.text), (SealState::Good, &text()));
        assert_eq!(find(&stamped, Some(8)), StampSearch::One(stamp));
        assert_eq!(find(&stamped, Some(4)), StampSearch::None);
    }

    #[test]
    fn every_changed_byte_breaks_the_seal_or_the_stamp() {
        let stamped = append(&image(32), &text()).unwrap();
        let all = stamped.span();
        for offset in 0..all.len() {
            let at = all.start().checked_add(offset).unwrap();
            let byte = stamped.bytes(Span::new(at, 1).unwrap()).unwrap()[0];
            let changed = stamped.patched(at, &[byte ^ 0x40]);
            let good = matches!(find(&changed, None), StampSearch::One(Stamp { seal: SealState::Good, .. }));
            assert!(!good, "offset {offset}");
        }
    }

    #[test]
    fn there_can_be_one_stamp_only() {
        let stamped = append(&image(8), &text()).unwrap();
        assert!(matches!(append(&stamped, &text()), Err(StampError::There(_))));
        assert_eq!(seal(&image(8)), Err(StampError::None));
        let twice = [stamped.segments()[0].data(), stamped.segments()[0].data()].concat();
        let twice = read(&twice, ReadOptions { at: Some(Address::new(0x1000)), ..ReadOptions::default() }).unwrap();
        assert!(matches!(find(&twice, None), StampSearch::Several(places) if places.len() == 2));
        for bad in ["a\nb", " x", ""] {
            let wrong = StampFields { facts: vec![(bad.into(), "1".into())], ..StampFields::default() };
            assert!(matches!(append(&image(8), &wrong), Err(StampError::StampFields(_))), "{bad:?}");
        }
        let long = StampFields { facts: vec![("a".into(), "x".repeat(150)); 40], ..StampFields::default() };
        assert_eq!(append(&image(8), &long), Err(StampError::TooLong));
    }

    #[test]
    fn a_cut_or_odd_stamp_is_damaged() {
        let whole = append(&image(8), &text()).unwrap();
        let bytes = whole.segments()[0].data();
        for len in 16..bytes.len() {
            let cut =
                read(&bytes[..len], ReadOptions { at: Some(Address::new(0x1000)), ..ReadOptions::default() }).unwrap();
            assert!(matches!(find(&cut, None), StampSearch::Damaged(..)), "{len}");
        }
        let odd = whole.patched(Address::new(0x1010), &[9]);
        assert!(matches!(find(&odd, None), StampSearch::Damaged(_, "its layout version is not supported")));
    }
}

//! The memory layout in the text of a DFU interface.
//!
//! Source: the published address extension of DFU 1.1 (bcdDFUVersion 0x011A).
//! `@name/0xADDRESS/count*sizeUnitLetter,…`, with one or more addresses:
//!
//! ```text
//! @Tide Flash/0x0A000000/48*003Kg
//!  ^name      ^start     ^  ^  ^^ letter: bit 0 read, 1 erase, 2 write
//!                        |  |  unit: blank or B bytes, K 1024, M 1048576
//!                        |  size of a sector
//!                        number of sectors
//! ```
//!
//! Devices deviate in notation: an unambiguous deviation is accepted and noted; an error ends the
//! layout.

use super::{Access, SectorMap, Zone};
use vaka_image::address::Address;

/// A parsed layout text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Layout {
    /// The memory's name, without blanks around it.
    pub name: String,
    /// The sectors.
    pub map: SectorMap,
    /// Deviations from the notation.
    pub oddities: Vec<String>,
}

/// Maximum number of areas: more than a USB string can contain.
const MAX_AREAS: usize = 64;

impl Layout {
    /// Parses the text of an interface. Returns `None` if it has no layout: no leading `@`, or no
    /// complete area.
    ///
    /// # Examples
    /// ```
    /// use vaka_core::memory::layout::Layout;
    ///
    /// // The name of an alternate setting, as the address extension describes memory.
    /// let layout = Layout::parse("@Internal Flash /0x08000000/4*016Kg").unwrap();
    /// assert_eq!(layout.map.zones()[0].count(), 4);
    /// assert!(Layout::parse("Tern tide gauge").is_none());
    /// ```
    pub fn parse(text: &str) -> Option<Self> {
        let rest = text.trim_start_matches([' ', '\0']).strip_prefix('@')?;
        let (name, rest) = rest.split_at(zone_start(rest)?);
        let mut parser = Parser { rest, zones: Vec::new(), oddities: Vec::new() };
        parser.zones();
        if parser.zones.is_empty() {
            return None;
        }
        let map = SectorMap::new(parser.zones).ok()?;
        Some(Self { name: name.trim().to_owned(), map, oddities: parser.oddities })
    }
}

/// The end of the name: the first `/` that an address follows. A name may contain a `/`; some
/// devices omit the `0x` of an address.
fn zone_start(text: &str) -> Option<usize> {
    let prefixed = ["/0x", "/0X"].iter().filter_map(|sign| text.find(sign)).min();
    prefixed.or_else(|| {
        let bare = |at: &usize| {
            let digits = text[at + 1..].bytes().take_while(u8::is_ascii_hexdigit).count();
            digits > 0 && text[at + 1 + digits..].starts_with('/')
        };
        text.match_indices('/').map(|(at, _)| at).find(bare)
    })
}

struct Parser<'a> {
    rest: &'a str,
    zones: Vec<Zone>,
    oddities: Vec<String>,
}

impl<'a> Parser<'a> {
    /// Parses one or more `/address/area,area…`.
    fn zones(&mut self) {
        while self.eat("/") {
            let Some(start) = self.address() else { return self.stop() };
            let mut next = start;
            let mut unread = self.rest;
            loop {
                self.blanks();
                let Some(zone) = self.area(next) else {
                    self.rest = unread;
                    return self.stop();
                };
                next = zone.span().end();
                self.zones.push(zone);
                self.blanks();
                unread = self.rest;
                if self.zones.len() == MAX_AREAS || !self.eat(",") {
                    break;
                }
            }
        }
        self.stop();
    }

    /// Notes the remaining text.
    fn stop(&mut self) {
        let junk = self.rest.trim_matches([' ', '\0', ',', '/']);
        if !junk.is_empty() {
            self.oddities.push(format!("not read: \"{}\"", vaka_base::text::sanitize(junk)));
        } else if !self.rest.is_empty() {
            self.odd("unexpected text after the last area");
        }
    }

    fn address(&mut self) -> Option<Address> {
        if self.eat("0X") {
            self.odd("0X instead of 0x");
        } else if !self.eat("0x") {
            self.odd("address without 0x");
        }
        let digits = self.take(8, |c| c.is_ascii_hexdigit());
        let address = u32::from_str_radix(digits, 16).ok()?;
        self.eat("/").then_some(Address::new(u64::from(address)))
    }

    /// `count*sizeUnitLetter`
    fn area(&mut self, start: Address) -> Option<Zone> {
        let count = self.number()?;
        if !self.eat("*") {
            return None;
        }
        let size = self.number()?.checked_mul(self.unit())?;
        let access = self.access();
        Zone::new(start, count, size, access)
    }

    fn number(&mut self) -> Option<u32> {
        self.take(4, |c| c.is_ascii_digit()).parse().ok()
    }

    fn unit(&mut self) -> u32 {
        match self.rest.chars().next() {
            Some(' ' | 'B') => self.skip(1),
            Some('K') => return self.unit_of(1 << 10),
            Some('k') => {
                self.odd("k in place of K");
                return self.unit_of(1 << 10);
            }
            Some('M') => return self.unit_of(1 << 20),
            Some('G') => {
                self.odd("G is not a unit of the extension");
                return self.unit_of(1 << 30);
            }
            _ => self.odd("a size without its unit counts as bytes"),
        }
        1
    }

    fn unit_of(&mut self, factor: u32) -> u32 {
        self.skip(1);
        factor
    }

    /// The low three bits of the letter. Without a letter from `a` to `g` the area is read-only,
    /// because nothing permits writing.
    fn access(&mut self) -> Access {
        let letter = self.rest.chars().next().filter(char::is_ascii_alphabetic);
        if letter.is_some() {
            self.skip(1);
        }
        if letter.is_some_and(|letter| letter.is_ascii_uppercase()) {
            self.odd("the type letter is a capital");
        }
        match letter.map(|letter| letter.to_ascii_lowercase()) {
            Some(letter @ 'a'..='g') => {
                let bits = letter as u32 & 7;
                Access { read: bits & 1 != 0, erase: bits & 2 != 0, write: bits & 4 != 0 }
            }
            _ => {
                self.odd("an area without a known type letter counts as not writable");
                Access::READ_ONLY
            }
        }
    }

    fn odd(&mut self, what: &str) {
        if !self.oddities.iter().any(|oddity| oddity == what) {
            self.oddities.push(what.to_owned());
        }
    }

    fn blanks(&mut self) {
        let trimmed = self.rest.trim_start_matches(' ');
        // Blanks before an area are odd; blanks at the very end are padding.
        if trimmed.len() < self.rest.len() && trimmed.starts_with(|c: char| c.is_ascii_digit() || c == ',') {
            self.odd("blanks between areas");
        }
        self.rest = trimmed;
    }

    fn eat(&mut self, sign: &str) -> bool {
        let rest = self.rest.strip_prefix(sign);
        self.rest = rest.unwrap_or(self.rest);
        rest.is_some()
    }

    fn skip(&mut self, ascii: usize) {
        self.rest = &self.rest[ascii..];
    }

    /// Consumes up to `most` ASCII characters that `fits` accepts.
    fn take(&mut self, most: usize, fits: fn(&char) -> bool) -> &'a str {
        let len = self.rest.chars().take(most).take_while(fits).count();
        let (taken, rest) = self.rest.split_at(len);
        self.rest = rest;
        taken
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// Each zone as `start count*size access-letters`.
    fn outline(text: &str) -> Option<Vec<String>> {
        let zones = Layout::parse(text)?.map.zones().to_vec();
        let letters = |access: Access| {
            [(access.read, 'R'), (access.erase, 'E'), (access.write, 'W')]
                .iter()
                .filter_map(|(on, letter)| on.then_some(*letter))
                .collect::<String>()
        };
        let line = |zone: &Zone| {
            format!(
                "{:x} {}*{} {}",
                zone.span().start().get(),
                zone.count(),
                zone.sector_size(),
                letters(zone.access())
            )
        };
        Some(zones.iter().map(line).collect())
    }

    #[test]
    fn areas_lie_end_to_end_and_letters_are_bits() {
        let cases: &[(&str, &[&str])] = &[
            (
                "@Main Flash  /0x0A000000/04*016Ka,01*064Kc,03*128Kg",
                &["a000000 4*16384 R", "a010000 1*65536 RE", "a020000 3*131072 REW"],
            ),
            ("@Options/0x0AFFC000/01*016 e", &["affc000 1*16 RW"]),
            ("@Keys/0x0AFF7000/01*064Bd", &["aff7000 1*64 W"]),
            ("@Bulk/0x90000000/16*001Mf", &["90000000 16*1048576 EW"]),
            ("@Scrub/0x40000000/1*512Bb", &["40000000 1*512 E"]),
            ("@Two Banks/0x0A000000/64*002Kg/0x0A040000/64*002Kg", &["a000000 64*2048 REW", "a040000 64*2048 REW"]),
        ];
        for (text, zones) in cases {
            assert_eq!(outline(text).unwrap(), *zones, "{text}");
            assert_eq!(Layout::parse(text).unwrap().oddities, Vec::<String>::new(), "{text}");
        }
    }

    #[test]
    fn loose_spelling_is_read_and_reported() {
        let cases: &[(&str, &str)] = &[
            ("@F/0x0/01*016e", "0 1*16 RW"),
            ("@F/0X0/4*2kg", "0 4*2048 REW"),
            ("@F/0A000000/4*2Kg", "a000000 4*2048 REW"),
            ("@F/0x0/4*2KG", "0 4*2048 REW"),
            ("@F/0x0/4*2K", "0 4*2048 R"),
            ("@F/0x0/4*2Kz", "0 4*2048 R"),
            ("@F/0x0/4*2Kg,", "0 4*2048 REW"),
            ("@F/0x0/4*2Kg\0\0", "0 4*2048 REW"),
            ("@F/0x0/4*2Kg rubbish", "0 4*2048 REW"),
            ("@F/0x0/4*2Kg,01*0", "0 4*2048 REW"),
            ("@F / 2/0x0/ 4*2Kg", "0 4*2048 REW"),
        ];
        for (text, zone) in cases {
            let layout = Layout::parse(text).unwrap();
            assert_eq!(outline(text).unwrap()[0], *zone, "{text}");
            assert!(!layout.oddities.is_empty(), "{text}");
        }
    }

    #[test]
    fn what_is_no_layout_is_none() {
        for text in
            ["", "Tern", "@", "@Flash", "@Flash/0x", "@F/0x0/", "@F/0x0/0*2Kg", "@F/0xFFFFFFFF/9*9Mg", "@F/0x0/4"]
        {
            assert_eq!(Layout::parse(text), None, "{text}");
        }
        assert_eq!(Layout::parse("@Overlap/0x0/4*2Kg/0x1000/4*2Kg"), None);
    }

    proptest! {
        #[test]
        fn hostile_text_never_panics(text in "@?[ -~\u{e9}]{0,12}(/0x[0-9A-F]{0,9}/[0-9]{0,5}\\*[0-9]{0,5}[ BKMGkü]?[a-zA-Zé]?[,/ ]?){0,4}") {
            let _ = Layout::parse(&text);
        }
    }
}

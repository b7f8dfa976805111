//! The file formats: worked examples, files of other programs, round trips,
//! and damage.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

use proptest::prelude::*;
use vaka_image::address::{Address, Span};
use vaka_image::dfu_file;
use vaka_image::edit::EditError;
use vaka_image::facts::Suffix;
use vaka_image::stamp::{self, SealState, StampSearch};
use vaka_image::uf2::AppReadback;
use vaka_image::{GroupId, Image, ReadError, ReadOptions, hex, srec, uf2};
use vaka_testkit::Random;

macro_rules! demo {
    ($ending:literal) => {
        [
            &include_bytes!(concat!("../../../demo/firmware/out/tern-r1-1.5.0.", $ending))[..],
            &include_bytes!(concat!("../../../demo/firmware/out/tern-r2-1.5.0.", $ending))[..],
        ]
    };
}

const NO_OPTIONS: ReadOptions = ReadOptions { at: None, family: None, target: None };

fn at(address: u64) -> ReadOptions {
    ReadOptions { at: Some(Address::new(address)), ..NO_OPTIONS }
}

fn span(from: u64, to: u64) -> Span {
    Span::between(Address::new(from), Address::new(to)).unwrap()
}

/// All four files come from one link, by `objcopy`.
#[test]
fn four_forms_of_one_link_read_to_the_same_bytes() {
    let starts = [0x0A00_2400, 0x0A00_3000];
    for (index, start) in starts.into_iter().enumerate() {
        let binary = vaka_image::read(demo!("bin")[index], at(start)).unwrap();
        for file in [demo!("hex")[index], demo!("srec")[index], demo!("elf")[index]] {
            let image = vaka_image::read(file, NO_OPTIONS).unwrap();
            assert_eq!(image.segments(), binary.segments(), "{}", image.format());
            assert_eq!(image.entry().map(|entry| entry.get() & !1), Some(start + 0x88), "{}", image.format());
        }
        let elf = vaka_image::read(demo!("elf")[index], NO_OPTIONS).unwrap().facts().elf.unwrap();
        assert_eq!((elf.bits, elf.little_endian, elf.machine_name()), (32, true, "Arm"));
    }
}

#[test]
fn elf_damage_is_refused() {
    let good = demo!("elf")[0];
    let patched = |offset: usize, value: u8| {
        let mut bytes = good.to_vec();
        bytes[offset] = value;
        vaka_image::read(&bytes, NO_OPTIONS).unwrap_err().to_string()
    };
    // e_ident's class at 4, e_type at 16, e_phnum at 44.
    assert!(patched(16, 1).contains("an object file"));
    assert!(patched(16, 4).contains("a core dump"));
    assert!(patched(16, 9).contains("unknown kind"));
    assert!(patched(4, 9).contains("damaged"), "{}", patched(4, 9));
    assert!(patched(44, 0).contains("this ELF file has no loadable segment"));
    for len in (0..good.len()).step_by(97) {
        let cut = vaka_image::read(&good[..len], at(0));
        assert!(len < 8 || cut.is_err(), "{len}");
    }
}

/// One block of the worked example: block 3 of 7, 256 counting bytes at
/// 0x4300, family 0x5EABD123. The bytes are those of the format's description.
fn worked_block() -> Vec<u8> {
    let mut block = vec![
        0x55, 0x46, 0x32, 0x0A, 0x57, 0x51, 0x5D, 0x9E, 0x00, 0x20, 0x00, 0x00, 0x00, 0x43, 0x00, 0x00, //
        0x00, 0x01, 0x00, 0x00, 0x03, 0x00, 0x00, 0x00, 0x07, 0x00, 0x00, 0x00, 0x23, 0xD1, 0xAB, 0x5E,
    ];
    block.extend(0..=255);
    block.resize(508, 0);
    block.extend([0x30, 0x6F, 0xB1, 0x0A]);
    block
}

/// The worked block with a number, a total and other words changed.
fn block(number: u32, total: u32, words: &[(usize, u32)]) -> Vec<u8> {
    let mut block = worked_block();
    for (offset, word) in [(20, number), (24, total), (12, 0x4000 + number * 0x100)].iter().chain(words) {
        block[*offset..offset + 4].copy_from_slice(&word.to_le_bytes());
    }
    block
}

#[test]
fn uf2_is_read_in_any_order_and_by_family() {
    let set: Vec<u8> = [2, 0, 1].iter().flat_map(|number| block(*number, 3, &[])).collect();
    let image = vaka_image::read(&set, NO_OPTIONS).unwrap();
    assert_eq!(image.span(), span(0x4000, 0x4300));
    assert_eq!(image.facts().family, Some(0x5EAB_D123));
    // A second family, each numbered from 0; and a repeated block.
    let other: Vec<u8> = [0, 1, 1].iter().flat_map(|number| block(*number, 2, &[(28, 7)])).collect();
    let both = [set.clone(), other].concat();
    let error = vaka_image::read(&both, NO_OPTIONS).unwrap_err();
    assert_eq!(
        error.to_string(),
        "the file has several images, and none was selected: family 0x00000007, family 0x5EABD123"
    );
    let chosen = vaka_image::read(&both, ReadOptions { family: Some(7), ..NO_OPTIONS }).unwrap();
    assert_eq!(chosen.span(), span(0x4000, 0x4200));
    let missing = vaka_image::read(&both, ReadOptions { family: Some(8), ..NO_OPTIONS });
    assert!(matches!(missing, Err(ReadError::NotThere(_))));
    // Numbered through over both families.
    let through = [block(0, 2, &[]), block(1, 2, &[(28, 7)])].concat();
    let firmware = vaka_image::read_all(&through, None).unwrap();
    assert_eq!((firmware.sets.len(), firmware.notes.len()), (2, 1));
    // Without a family.
    let none = block(0, 1, &[(8, 0), (28, 512)]);
    assert_eq!(vaka_image::read_all(&none, None).unwrap().sets[0].name, GroupId::Family(None));
}

#[test]
fn uf2_blocks_beside_the_firmware_are_distinguished() {
    // Comments count in the numbering, but are no data.
    let set = [block(0, 2, &[]), block(1, 2, &[(8, 0x2001)])].concat();
    let image = vaka_image::read(&set, NO_OPTIONS).unwrap();
    assert_eq!((image.span(), image.notes().len()), (span(0x4000, 0x4100), 1));
    // A file in a container has its name behind the payload.
    let mut file = block(0, 1, &[(8, 0x1000), (12, 0), (16, 4), (28, 4)]);
    file[32 + 4..32 + 16].copy_from_slice(b"log/tide.txt");
    file[48] = 0;
    let firmware = vaka_image::read_all(&file, None).unwrap();
    assert_eq!((firmware.sets.len(), &firmware.files[..]), (0, &["log/tide.txt".to_owned()][..]));
    assert_eq!(vaka_image::read(&file, NO_OPTIONS), Err(ReadError::Nothing));
    for name in ["/etc/passwd", "../x", "a//b", "a\\b", "", "a\x1bb"] {
        file[36..64].fill(0);
        file[36..36 + name.len()].copy_from_slice(name.as_bytes());
        let error = vaka_image::read(&file, NO_OPTIONS).unwrap_err().to_string();
        assert!(error.contains("it belongs to a file without a valid name"), "{name:?}: {error}");
    }
}

#[test]
fn uf2_tags_are_read() {
    // The worked example: version, name, device type, page size.
    let tags = [
        0x09, 0xBC, 0xC7, 0x9F, 0x32, 0x2E, 0x34, 0x2E, 0x31, 0, 0, 0, 0x0D, 0x9D, 0x0D, 0x65, 0x50, 0x65, 0x74, 0x72,
        0x65, 0x6C, 0x20, 0x72, 0x32, 0, 0, 0, 0x08, 0x29, 0xA7, 0xC8, 0x4D, 0x3C, 0x2B, 0x1A, 0x08, 0xF7, 0xE9, 0x0B,
        0x00, 0x10, 0x00, 0x00, 0, 0, 0, 0,
    ];
    let mut tagged = block(0, 1, &[(8, 0xA000)]);
    tagged[32 + 256..][..tags.len()].copy_from_slice(&tags);
    let found = vaka_image::read(&tagged, NO_OPTIONS).unwrap().facts().tags.clone().unwrap();
    assert_eq!((found.version.as_deref(), found.device.as_deref()), (Some("2.4.1"), Some("Petrel r2")));
    assert_eq!((found.device_type, found.page_size), (Some(0x1A2B_3C4D), Some(4096)));
}

#[test]
fn uf2_blocks_may_carry_the_md5_of_a_region() {
    let mut carrying = block(0, 1, &[(8, 0x6000), (484, 0x4000), (488, 0x1000)]);
    carrying[492..508].copy_from_slice(&[0xAB; 16]);
    let image = vaka_image::read(&carrying, NO_OPTIONS).unwrap();
    let regions = &image.facts().md5_regions;
    assert_eq!(
        (regions.len(), regions[0].span, regions[0].md5.as_str()),
        (1, span(0x4000, 0x5000), "ab".repeat(16).as_str())
    );
    let none = block(0, 1, &[(8, 0x2000), (484, 0x4000), (488, 0x1000)]);
    assert_eq!(vaka_image::read(&none, NO_OPTIONS).unwrap().facts().md5_regions, [], "without the flag");
    let past_the_end = block(0, 1, &[(8, 0x6000), (484, 0xFFFF_F000), (488, 0x1001)]);
    assert_eq!(vaka_image::read(&past_the_end, NO_OPTIONS).unwrap().facts().md5_regions, []);
}

#[test]
fn uf2_damage_is_refused_with_its_block() {
    let join = |blocks: &[Vec<u8>]| blocks.concat();
    let other_value = {
        let mut bytes = block(1, 2, &[(12, 0x4080)]);
        bytes[32] = 0xEE;
        bytes
    };
    let changed = {
        let mut bytes = block(0, 2, &[]);
        bytes[40] = 0xEE;
        bytes
    };
    let cases: Vec<(Vec<u8>, &str)> = vec![
        (join(&[block(0, 2, &[]), block(1, 2, &[])[..300].to_vec()]), "block 1 at offset 0x200: the file ends inside"),
        (join(&[block(0, 2, &[]), block(1, 2, &[(508, 0)])]), "block 1 at offset 0x200: not a UF2 block"),
        (block(0, 1, &[(16, 477)]), "block 0 at offset 0x0: a payload of 477 bytes"),
        (block(0, 1, &[(16, 0)]), "a payload of 0 bytes"),
        (block(0, 1, &[(8, 0x6000), (16, 453)]), "a payload of 453 bytes"),
        (block(0, 1, &[(12, 0xFFFF_FF01)]), "its data exceeds the highest address, 0xFFFF_FFFF"),
        (block(0, 1, &[(8, 0x3000)]), "it is flagged both as part of a file and as firmware"),
        (join(&[block(0, 3, &[]), block(2, 3, &[])]), "its set has 2 of 3 blocks; number 1 is missing"),
        (join(&[block(0, 3, &[]), block(1, 3, &[])]), "its set has 2 of 3 blocks; number 2 is missing"),
        (
            join(&[block(0, 2, &[]), block(1, 3, &[])]),
            "block 1 at offset 0x200: it states 3 blocks, the others of its set 2",
        ),
        (block(1, 1, &[]), "its number is 1, but there are 1 blocks"),
        (join(&[block(0, 2, &[]), changed]), "block 1 at offset 0x200: block 0 has the same number"),
        (join(&[block(0, 2, &[]), other_value]), "block 1 at offset 0x200: it assigns another value to 0x0000_4080"),
    ];
    for (bytes, words) in cases {
        let error = vaka_image::read(&bytes, NO_OPTIONS).unwrap_err().to_string();
        assert!(error.contains(words), "{error}\nwanted: {words}");
    }
}

#[test]
fn a_dfu_suffix_is_read_written_and_checked() {
    // The worked example of the suffix: DE AD BE EF, release 0203, product
    // 5678, vendor 1234; computed with another program.
    let bytes = [
        0xDE, 0xAD, 0xBE, 0xEF, 0x03, 0x02, 0x78, 0x56, 0x34, 0x12, 0x00, 0x01, 0x55, 0x46, 0x44, 0x10, 0xE4, 0xF4,
        0x1D, 0xF1,
    ];
    let suffix = Suffix { release: 0x0203, product: 0x5678, vendor: 0x1234, version: 0x0100 };
    let image = vaka_image::read(&bytes, at(0x100)).unwrap();
    assert_eq!(image.segments()[0].data(), [0xDE, 0xAD, 0xBE, 0xEF]);
    assert_eq!(image.facts().dfu, Some(suffix));
    assert_eq!(vaka_image::read(&bytes, NO_OPTIONS), Err(ReadError::NoAddress));
    let mut written = bytes[..4].to_vec();
    dfu_file::append_suffix(&mut written, suffix);
    assert_eq!(written, bytes);
    for offset in 0..bytes.len() {
        let mut changed = bytes;
        changed[offset] ^= 0x10;
        let read = vaka_image::read(&changed, at(0x100));
        let suffix_seen = !(12..=14).contains(&offset);
        assert!(!suffix_seen || read.is_err(), "{offset}: {read:?}");
    }
}

/// The worked example of the address extension's file: one target "Main",
/// alternate 0, DE AD BE EF at 0x08004000; computed with another program.
fn addressed() -> Vec<u8> {
    let mut bytes = vec![0x44, 0x66, 0x75, 0x53, 0x65, 0x01, 0x29, 0x01, 0x00, 0x00, 0x01];
    bytes.extend([0x54, 0x61, 0x72, 0x67, 0x65, 0x74, 0x00, 0x01, 0x00, 0x00, 0x00]);
    bytes.extend(b"Main");
    bytes.resize(11 + 266, 0);
    bytes.extend([0x0C, 0, 0, 0, 0x01, 0, 0, 0, 0x00, 0x40, 0x00, 0x08, 0x04, 0, 0, 0, 0xDE, 0xAD, 0xBE, 0xEF]);
    bytes.extend([0xFF, 0xFF, 0x78, 0x56, 0x34, 0x12, 0x1A, 0x01, 0x55, 0x46, 0x44, 0x10, 0xD0, 0x99, 0x20, 0xCF]);
    bytes
}

/// The same file changed before its suffix, with the CRC put right.
fn addressed_but(offset: usize, value: u8) -> Vec<u8> {
    let mut bytes = addressed();
    bytes.truncate(bytes.len() - 16);
    bytes[offset] = value;
    dfu_file::append_suffix(&mut bytes, Suffix { release: 0xFFFF, product: 0x5678, vendor: 0x1234, version: 0x011A });
    bytes
}

#[test]
fn targets_of_a_dfu_file_are_read_and_written() {
    let firmware = vaka_image::read_all(&addressed(), None).unwrap();
    assert_eq!(firmware.sets[0].name, GroupId::Target { alternate: 0, name: Some("Main".into()) });
    let image = vaka_image::read(&addressed(), ReadOptions { target: Some(0), ..NO_OPTIONS }).unwrap();
    assert_eq!((image.start(), image.segments()[0].data()), (Address::new(0x0800_4000), &[0xDE, 0xAD, 0xBE, 0xEF][..]));
    let suffix = Suffix { release: 0xFFFF, product: 0x5678, vendor: 0x1234, version: 0 };
    assert_eq!(dfu_file::write_addressed(&image, 0, "Main", suffix).unwrap(), addressed());
    assert!(matches!(vaka_image::read(&addressed(), at(0)), Err(ReadError::AddressNotWanted(_))));
    for (offset, value, words) in [
        (5, 2, "offset 0x5: version 2"),
        (6, 0x28, "offset 0x6: the prefix states 296 bytes, there are 297"),
        (10, 2, "the file ends inside a target's head"),
        (10, 0, "extra bytes follow the last target"),
        (11, 0x55, "no target starts here"),
        (277, 0x0B, "its elements have 12"),
        (281, 2, "the file ends inside an element"),
        (289, 5, "the file ends inside an element"),
        (288, 0xFF, ""),
    ] {
        let read = vaka_image::read(&addressed_but(offset, value), NO_OPTIONS);
        match read {
            Ok(_) => assert_eq!(words, "", "{offset}"),
            Err(error) => assert!(error.to_string().contains(words) && !words.is_empty(), "{offset}: {error}"),
        }
    }
    let cut = &addressed()[..200];
    assert!(vaka_image::read(cut, NO_OPTIONS).unwrap_err().to_string().contains("no suffix"));
}

#[test]
fn images_are_cut_moved_filled_and_joined() {
    let image = vaka_image::read(&block(0, 1, &[]), NO_OPTIONS).unwrap();
    let left = image.cut(span(0, 0x4010)).unwrap();
    let right = image.cut(span(0x4020, u64::from(u32::MAX))).unwrap();
    assert_eq!((left.span(), right.span()), (span(0x4000, 0x4010), span(0x4020, 0x4100)));
    assert_eq!(image.cut(span(0, 0x4000)), Err(EditError::Nothing(span(0, 0x4000))));
    let joined = Image::join(&[right.clone(), left.clone()]).unwrap().unwrap();
    assert_eq!(joined.segments().len(), 2);
    let filled = joined.filled(0xFF).unwrap();
    assert_eq!(filled.bytes(span(0x400E, 0x4022)).unwrap()[..4], [14, 15, 0xFF, 0xFF]);
    assert_eq!(Image::join(&[image.clone(), filled]).unwrap_err(), EditError::Overlap(Address::new(0x4010)));
    let moved = right.moved(Address::new(0x10)).unwrap();
    assert_eq!(moved.span(), span(0x10, 0xF0));
    assert_eq!(right.moved(Address::new(0xFFFF_FFFF)), Err(EditError::Outside));
    let far = Image::join(&[left, moved.moved(Address::new(0xF000_0000)).unwrap()]).unwrap().unwrap();
    assert!(matches!(far.filled(0), Err(EditError::TooMuchGap(_))));
}

#[test]
fn data_4_gib_apart_stays_small() {
    let text = ":0100000055AA\n:02000004FFFFFC\n:01FFFF00669B\n:00000001FF\n";
    let image = vaka_image::read(text.as_bytes(), NO_OPTIONS).unwrap();
    assert_eq!((image.segments().len(), image.len(), image.span().len()), (2, 2, 1 << 32));
    assert!(uf2::write(&image, None).unwrap().len() == 2 * 512);
}

/// Any image: some segments, some touching, some far apart.
fn images() -> impl Strategy<Value = Image> {
    let segment = (0u64..0x3_0000, proptest::collection::vec(any::<u8>(), 1..600));
    let entry = proptest::option::of(0u64..0xFFFF_FFFF);
    (proptest::collection::vec(segment, 1..8), prop_oneof![Just(0u64), Just(0xFFFF_0000 - 0x20_0000)], entry).prop_map(
        |(segments, base, entry)| {
            let mut next = base;
            let mut pieces = Vec::new();
            for (gap, data) in segments {
                let start = next + gap;
                next = start + data.len() as u64;
                let options = ReadOptions { at: Some(Address::new(start)), ..NO_OPTIONS };
                // A first byte that no format begins with, and no text.
                let mut bytes = data;
                bytes[0] = 0x00;
                if bytes.len() == 1 || bytes.iter().all(|byte| *byte == 0) {
                    bytes.push(0x01);
                    next += 1;
                }
                pieces.push(vaka_image::read(&bytes, options).unwrap());
            }
            let joined = Image::join(&pieces).unwrap().unwrap();
            entry.map_or(joined.clone(), |entry| with_entry(&joined, entry))
        },
    )
}

/// The image with an entry, by way of a HEX file's own record.
fn with_entry(image: &Image, entry: u64) -> Image {
    let mut text = String::from_utf8(hex::write(image)).unwrap();
    let bytes = u32::try_from(entry).unwrap().to_be_bytes();
    let sum = bytes.iter().fold(4u8 + 5, |sum, byte| sum.wrapping_add(*byte));
    let record = format!(
        ":04000005{:02X}{:02X}{:02X}{:02X}{:02X}\n",
        bytes[0],
        bytes[1],
        bytes[2],
        bytes[3],
        sum.wrapping_neg()
    );
    text.insert_str(text.rfind(":00000001FF").unwrap(), &record);
    vaka_image::read(text.as_bytes(), NO_OPTIONS).unwrap()
}

proptest! {
    #[test]
    fn what_is_written_reads_back(image in images(), family in proptest::option::of(any::<u32>())) {
        let from_hex = vaka_image::read(&hex::write(&image), NO_OPTIONS).unwrap();
        prop_assert_eq!(from_hex.segments(), image.segments());
        prop_assert_eq!(from_hex.entry(), image.entry());
        let from_srec = vaka_image::read(&srec::write(&image), NO_OPTIONS).unwrap();
        prop_assert_eq!(from_srec.segments(), image.segments());
        prop_assert_eq!(from_srec.entry(), image.entry().filter(|entry| entry.get() != 0));
        let suffix = Suffix { release: 1, product: 2, vendor: 3, version: 0 };
        let file = dfu_file::write_addressed(&image, 3, "", suffix).unwrap();
        let from_dfu = vaka_image::read(&file, ReadOptions { target: Some(3), ..NO_OPTIONS }).unwrap();
        prop_assert_eq!(from_dfu.segments(), image.segments());
        // UF2 fills blocks of 256 bytes up with 0xFF.
        let from_uf2 = vaka_image::read(&uf2::write(&image, family).unwrap(), NO_OPTIONS).unwrap();
        prop_assert_eq!(from_uf2.facts().family, family);
        for segment in from_uf2.segments() {
            prop_assert_eq!((segment.start().get() % 256, segment.data().len() % 256), (0, 0));
            let mut wanted = vec![0xFF; segment.data().len()];
            image.copy_to(segment.start(), &mut wanted);
            prop_assert_eq!(segment.data(), &wanted[..]);
        }
        let covered: u64 = image.segments().iter().map(|segment| {
            let inside = from_uf2.segments().iter().filter_map(|other| other.span().common(segment.span()));
            inside.map(Span::len).sum::<u64>()
        }).sum();
        prop_assert_eq!(covered, image.len());
        // The same image gives the same bytes.
        prop_assert_eq!(hex::write(&from_hex), hex::write(&image));
    }

    /// However a file is cut into pieces, it reads the same, line numbers
    /// included; also with CR LF, whose halves may fall apart.
    #[test]
    fn pieces_read_like_the_whole(
        image in images(),
        cuts in proptest::collection::vec(1usize..700, 1..40),
        crlf: bool,
        damage in proptest::option::of(0usize..100_000),
    ) {
        for write in [hex::write, srec::write] {
            let mut text = String::from_utf8(write(&image)).unwrap();
            if crlf {
                text = format!("; a remark\r\n{}", text.replace('\n', "\r\n"));
            }
            let mut bytes = text.into_bytes();
            if let Some(place) = damage {
                let place = place % bytes.len();
                bytes[place] = b'7';
            }
            let whole = vaka_image::read(&bytes, NO_OPTIONS);
            let Some(mut reader) = vaka_image::StreamingReader::for_head(&bytes) else { continue };
            let mut rest = &bytes[..];
            let mut pieces = Ok(());
            for cut in cuts.iter().cycle() {
                let (piece, later) = rest.split_at((*cut).min(rest.len()));
                pieces = pieces.and_then(|()| reader.feed(piece));
                rest = later;
                if rest.is_empty() {
                    break;
                }
            }
            match (pieces.and_then(|()| reader.finish()), whole) {
                (Ok(Some(ours)), Ok(whole)) => prop_assert_eq!(ours, whole),
                (Ok(None), Err(ReadError::Record(error))) => prop_assert!(error.to_string().contains("another value")),
                (Err(ours), Err(ReadError::Record(whole))) => prop_assert_eq!(ours, whole),
                (ours, whole) => prop_assert!(false, "{ours:?} and {whole:?}"),
            }
        }
    }

    #[test]
    fn a_stamp_survives_every_format(image in images(), version in "[0-9]{1,3}\\.[0-9]{1,3}") {
        let text = stamp::StampFields { product: Some("tern".into()), version: Some(version), ..Default::default() };
        let stamped = stamp::append(&image, &text).unwrap();
        let again = vaka_image::read(&srec::write(&stamped), NO_OPTIONS).unwrap();
        let StampSearch::One(found) = stamp::find(&again, None) else { panic!() };
        prop_assert_eq!((found.seal, found.text), (SealState::Good, text));
    }
}

/// A small good file of each format.
fn samples() -> Vec<(&'static str, Vec<u8>)> {
    let image = vaka_image::read(&[block(0, 2, &[]), block(1, 2, &[(12, 0x5000)])].concat(), NO_OPTIONS).unwrap();
    let suffix = Suffix { release: 1, product: 2, vendor: 3, version: 0x0100 };
    let mut plain = vec![0x00, 0x01, 0x02];
    dfu_file::append_suffix(&mut plain, suffix);
    let text = stamp::StampFields { product: Some("tern".into()), variants: vec!["r1".into()], ..Default::default() };
    // A program made by hand: header, one program header, eight bytes.
    let mut elf = b"\x7FELF\x01\x01\x01".to_vec();
    elf.resize(16, 0);
    let halves = |values: &[u16]| values.iter().flat_map(|value| value.to_le_bytes()).collect::<Vec<u8>>();
    let words = |values: &[u32]| values.iter().flat_map(|value| value.to_le_bytes()).collect::<Vec<u8>>();
    elf.extend([halves(&[2, 40]), words(&[1, 0x0A00_2401, 52, 0, 0]), halves(&[52, 32, 1, 40, 0, 0])].concat());
    elf.extend(words(&[1, 84, 0x2000_0000, 0x0A00_2400, 8, 8, 5, 4, 0x2000_5000, 0x0A00_2401]));
    vec![
        ("hex", hex::write(&image)),
        ("srec", srec::write(&image)),
        ("uf2", [block(0, 2, &[(8, 0xA000)]), block(1, 2, &[(8, 0x2001)])].concat()),
        ("dfu", plain),
        ("dfu with targets", addressed()),
        ("stamped", hex::write(&stamp::append(&image, &text).unwrap())),
        ("elf", elf),
        ("elf of the demo", demo!("elf")[0].to_vec()),
    ]
}

/// Reads whatever it is; an image must be sound, an error must be one.
fn survive(bytes: &[u8]) {
    for options in [NO_OPTIONS, at(0x1000)] {
        if let Ok(image) = vaka_image::read(bytes, options) {
            assert!(image.span().end().get() <= 1 << 32);
            assert!(image.segments().windows(2).all(|pair| pair[0].span().end() < pair[1].span().start()));
            let _ = stamp::find(&image, None);
        }
    }
}

#[test]
fn every_prefix_and_ten_thousand_mutations_of_each_format_are_survived() {
    let mut random = Random(0x5EED_1209);
    for (name, good) in samples() {
        assert!(vaka_image::read(&good, NO_OPTIONS).is_ok() || name == "dfu", "{name}");
        // Every prefix; of the large one every seventh.
        let step = if good.len() > 10_000 { 7 } else { 1 };
        (0..good.len()).step_by(step).for_each(|len| survive(&good[..len]));
        for _ in 0..10_000 {
            let mut bytes = good.clone();
            for _ in 0..=random.below(4) {
                // Headers are where it hurts: half of the changes go there.
                let limit = if random.below(2) == 0 { bytes.len().min(600) } else { bytes.len() };
                let place = random.below(limit);
                match random.below(4) {
                    0 => bytes[place] = u8::try_from(random.below(256)).unwrap(),
                    1 => bytes[place] ^= 1 << random.below(8),
                    2 => bytes.truncate(place.max(1)),
                    _ => bytes.insert(place, b"0:S\xFF"[random.below(4)]),
                }
            }
            survive(&bytes);
        }
    }
}

/// The facts of a file stay with its bytes when they are cut, moved, filled or joined.
#[test]
fn an_edited_image_keeps_what_its_file_says() {
    // Header "hi", twice; three bytes at 0x1000 and one at 0x1010, entry 0x1002; by hand.
    let text = b"S0050000686929\nS0050000686929\nS1061000010203E3\nS10410100AD1\nS9031002EA\n";
    let image = vaka_image::read(text, NO_OPTIONS).unwrap().named("tern-1.5.0.s19");
    assert_eq!((image.entry(), image.facts().header.as_deref()), (Some(Address::new(0x1002)), Some("hi")));
    let says = |image: &Image| (image.facts().clone(), image.notes().to_vec(), image.format());
    let cut = image.cut(span(0x1001, 0x1003)).unwrap();
    assert_eq!((says(&cut), cut.entry(), cut.len()), (says(&image), image.entry(), 2));
    let moved = image.moved(Address::new(0x8000)).unwrap();
    assert_eq!(
        (says(&moved), moved.entry(), moved.span()),
        (says(&image), Some(Address::new(0x8002)), span(0x8000, 0x8011))
    );
    let filled = image.filled(0xEE).unwrap();
    assert_eq!((says(&filled), filled.entry(), filled.len()), (says(&image), image.entry(), 17));
    let plain = Image::from_memory(&[(Address::new(0x2000), vec![7])]).unwrap();
    let joined = Image::join(&[image.clone(), plain.clone()]).unwrap().unwrap();
    // Of two formats it is a raw binary, and it knows where each file was.
    let mut facts = image.facts().clone();
    facts.joined = vec![image.span(), plain.span()];
    let wanted = (facts, image.notes().to_vec(), vaka_image::Format::Binary);
    assert_eq!((says(&joined), joined.entry(), joined.len()), (wanted, image.entry(), 5));
    // The entry of the first that has one.
    assert_eq!(Image::join(&[plain, image.clone()]).unwrap().unwrap().entry(), image.entry());
    let patched = image.patched(Address::new(0x0FFF), &[9, 8, 7]);
    assert_eq!(patched.bytes(span(0x1000, 0x1003)).unwrap(), [8, 7, 3]);
    assert_eq!(image.patched(Address::new(0x1010), &[5, 6]).bytes(span(0x1010, 0x1011)).unwrap(), [5]);
    // An entry outside of the image does not move with it.
    let outside = with_entry(&image, 0x4000).moved(Address::new(0)).unwrap();
    assert_eq!(outside.entry(), Some(Address::new(0x4000)));
}

/// Files for different chips are no one image.
#[test]
fn files_that_name_other_chips_are_not_joined() {
    let block = |address, family: u32| {
        let mut block = vaka_testkit::files::uf2_block(address, 0, 1);
        block[28..32].copy_from_slice(&family.to_le_bytes());
        vaka_image::read(&block, NO_OPTIONS).unwrap()
    };
    let one = block(0x2000, 0x5EAB_D123);
    assert!(Image::join(&[one.clone(), block(0x3000, 0x5EAB_D123)]).unwrap().is_some());
    let error = Image::join(&[one.clone(), block(0x3000, 0x5EAB_D124)]).unwrap_err().to_string();
    assert_eq!(error, "the files are for different chips or units: one names another UF2 family");
    // The family of one of them stays known.
    let plain = Image::from_memory(&[(Address::new(0x5000), vec![7])]).unwrap();
    assert_eq!(Image::join(&[plain, one]).unwrap().unwrap().facts().family, Some(0x5EAB_D123));
}

/// The values of e_machine in the registry of the System V ABI.
#[test]
fn machines_have_their_usual_names() {
    use vaka_image::facts::ElfFacts;
    for (machine, name) in [
        (3, "x86"),
        (8, "MIPS"),
        (40, "Arm"),
        (62, "x86-64"),
        (83, "AVR"),
        (94, "Xtensa"),
        (105, "MSP430"),
        (183, "AArch64"),
        (243, "RISC-V"),
        (0, "another machine"),
        (65535, "another machine"),
    ] {
        assert_eq!(ElfFacts { bits: 32, little_endian: true, machine }.machine_name(), name, "{machine}");
    }
}

/// One byte may be firmware; two equal ones are blank memory.
#[test]
fn blank_files_are_no_firmware() {
    use vaka_image::detect::{NotFirmware, detect};
    assert_eq!(detect(&[]).unwrap_err(), NotFirmware::Empty);
    assert!(detect(&[0xFF]).is_ok());
    assert_eq!(detect(&[0xFF, 0xFF]).unwrap_err(), NotFirmware::Blank(0xFF));
    assert_eq!(detect(&[0, 0, 0]).unwrap_err(), NotFirmware::Blank(0));
    assert!(detect(&[0, 0, 1]).is_ok());
}

/// Memory that a unit shows as UF2 blocks is read across their borders, and never beyond them.
#[test]
fn memory_is_read_from_the_blocks_that_a_unit_shows() {
    let numbered = |number: u32, first: u8| {
        let mut block = block(number, 3, &[]);
        for (at, byte) in (0..=255_u8).zip(&mut block[32..288]) {
            *byte = first.wrapping_add(at);
        }
        block
    };
    // The third block is at 0x4300: there is nothing at 0x4200.
    let mut far = numbered(2, 0);
    far[12..16].copy_from_slice(&0x4300_u32.to_le_bytes());
    let shown = AppReadback::read(&[numbered(0, 0), vec![0; 512], numbered(1, 100), far].concat());
    assert_eq!(shown.families.iter().copied().collect::<Vec<_>>(), [0x5EAB_D123]);
    assert_eq!(shown.spans(), [span(0x4000, 0x4200), span(0x4300, 0x4400)]);
    let bytes = |at: u64, len: u32| shown.bytes(Address::new(at), len);
    assert_eq!(bytes(0x4000, 3), Some(vec![0, 1, 2]));
    assert_eq!(bytes(0x40FE, 4), Some(vec![254, 255, 100, 101]));
    assert_eq!(bytes(0x4010, 512), None);
    assert_eq!(bytes(0x41FF, 1), Some(vec![99]));
    assert_eq!((bytes(0x41FF, 2), bytes(0x3FFF, 2), bytes(0x4200, 1)), (None, None, None));
    assert_eq!(bytes(0x4300, 256).map(|page| page.len()), Some(256));
}

/// A name of a stamp has no '=', and none of its fields has control characters.
#[test]
fn a_stamp_field_that_could_be_misread_is_refused() {
    let image = Image::from_memory(&[(Address::new(0x0800_0000), vec![0xA5; 256])]).unwrap();
    for (name, value, accepted) in [
        ("crystal", "8 MHz", true),
        ("", "8 MHz", false),
        ("cry=stal", "8 MHz", false),
        ("crystal", "8\u{7}MHz", false),
    ] {
        let mut text = stamp::StampFields { product: Some("tern".into()), ..Default::default() };
        text.facts.push((name.into(), value.into()));
        assert_eq!(stamp::append(&image, &text).is_ok(), accepted, "{name}={value}");
    }
}

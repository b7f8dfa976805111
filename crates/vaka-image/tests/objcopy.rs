//! Intel HEX, S-record, ELF and binary against GNU `objcopy`: it writes and we
//! read, we write and it reads. The bytes are this test's own.

#![allow(clippy::unwrap_used, clippy::print_stderr)] // a panic in a test is its message; a skip is told

use std::path::Path;
use std::process::Command;

use vaka_image::address::Address;
use vaka_image::{Image, ReadOptions, hex, srec};
use vaka_testkit::{Random, program};

/// Generated images; the least that is promised.
const IMAGES: u64 = 200;

fn objcopy(folder: &Path, args: &[&str]) {
    let done = Command::new("objcopy").current_dir(folder).args(args).output().unwrap();
    assert!(done.status.success(), "{args:?}: {}", String::from_utf8_lossy(&done.stderr));
}

/// Segments with gaps, at an address below 2 GiB: `objcopy` takes higher ones
/// for negative.
fn segments(random: &mut Random) -> Vec<(u64, Vec<u8>)> {
    let mut at = match random.below(4) {
        0 => random.below(0x1000),
        1 => 0xF000 + random.below(0x2000),
        2 => random.below(0xFF_0000),
        _ => random.below(0x7000_0000),
    };
    let mut segments = Vec::new();
    for _ in 0..=random.below(4) {
        let most = if random.below(5) == 0 { 70_000 } else { 700 };
        let len = 1 + random.below(most);
        let data = (0..len).map(|_| random.below(256).to_le_bytes()[0]).collect();
        segments.push((at as u64, data));
        at += len + 1 + random.below(5000);
    }
    segments
}

/// The segments as one piece of memory, gaps as 0xFF.
fn flat(segments: &[(u64, Vec<u8>)]) -> Vec<u8> {
    let base = segments[0].0;
    let mut memory = Vec::new();
    for (at, data) in segments {
        memory.resize(usize::try_from(at - base).unwrap(), 0xFF);
        memory.extend_from_slice(data);
    }
    memory
}

/// Lets `objcopy` write the segments in a format.
fn write_by_objcopy(folder: &Path, segments: &[(u64, Vec<u8>)], options: &[&str], out: &str) -> Vec<u8> {
    let mut args: Vec<String> = ["-I", "binary"].map(String::from).to_vec();
    args.extend(options.iter().map(|option| (*option).to_owned()));
    for (index, (at, data)) in segments.iter().enumerate() {
        let name = format!("s{index}.bin");
        std::fs::write(folder.join(&name), data).unwrap();
        let section = if index == 0 { ".data".to_owned() } else { format!(".s{index}") };
        if index > 0 {
            args.push(format!("--add-section={section}={name}"));
            args.push(format!("--set-section-flags={section}=alloc,load,contents,data"));
        }
        args.push(format!("--change-section-address={section}={at:#x}"));
    }
    args.extend(["s0.bin".to_owned(), out.to_owned()]);
    objcopy(folder, &args.iter().map(String::as_str).collect::<Vec<_>>());
    std::fs::read(folder.join(out)).unwrap()
}

/// Lets `objcopy` read a file, gaps as 0xFF.
fn read_by_objcopy(folder: &Path, format: &str, bytes: &[u8]) -> Vec<u8> {
    std::fs::write(folder.join("ours"), bytes).unwrap();
    objcopy(folder, &["-I", format, "-O", "binary", "--gap-fill=0xFF", "ours", "back.bin"]);
    std::fs::read(folder.join("back.bin")).unwrap()
}

#[track_caller]
fn assert_same(image: &Image, segments: &[(u64, Vec<u8>)], what: &str) {
    assert_eq!(image.start(), Address::new(segments[0].0), "{what}");
    assert_eq!(image.filled(0xFF).unwrap().segments()[0].data(), flat(segments), "{what}");
    assert_eq!(image.len(), segments.iter().map(|(_, data)| data.len() as u64).sum::<u64>(), "{what}");
}

#[test]
fn generated_images_read_the_same_in_both_directions() {
    if !program::is_there("objcopy") {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    let folder = folder.path();
    let mut random = Random(0x0BC0_0209);
    for number in 0..IMAGES {
        let segments = segments(&mut random);
        let top = segments.last().map(|(at, data)| at + data.len() as u64).unwrap();
        let read = |bytes: &[u8]| vaka_image::read(bytes, ReadOptions::default()).unwrap();
        let from_hex = read(&write_by_objcopy(folder, &segments, &["-O", "ihex"], "o.hex"));
        assert_same(&from_hex, &segments, &format!("image {number}, their HEX"));
        let width = format!("--srec-len={}", 1 + random.below(200));
        let options: &[&str] = match random.below(3) {
            0 => &["-O", "srec"],
            1 => &["-O", "srec", &width],
            _ => &["-O", "srec", "--srec-forceS3", &width],
        };
        let from_srec = read(&write_by_objcopy(folder, &segments, options, "o.srec"));
        assert_same(&from_srec, &segments, &format!("image {number}, their S-record, {options:?}, up to {top:#x}"));
        assert_eq!(
            read_by_objcopy(folder, "ihex", &hex::write(&from_srec)),
            flat(&segments),
            "image {number}, our HEX"
        );
        assert_eq!(
            read_by_objcopy(folder, "srec", &srec::write(&from_hex)),
            flat(&segments),
            "image {number}, our S-record"
        );
    }
}

#[test]
fn an_elf_of_either_size_and_order_reads_like_its_binary() {
    if !program::is_there("objcopy") {
        return;
    }
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/firmware/out");
    let folder = tempfile::tempdir().unwrap();
    for name in ["tern-r1-1.4.0", "tern-r1-1.5.0", "tern-r2-1.4.0", "tern-r2-1.5.0"] {
        let elf = demo.join(format!("{name}.elf"));
        objcopy(folder.path(), &["-I", "elf32-little", "-O", "binary", elf.to_str().unwrap(), "theirs.bin"]);
        let theirs = std::fs::read(folder.path().join("theirs.bin")).unwrap();
        let ours = vaka_image::read(&std::fs::read(&elf).unwrap(), ReadOptions::default()).unwrap();
        assert_eq!(ours.filled(0).unwrap().segments()[0].data(), theirs, "{name}");
        for (format, read_as) in [("hex", "ihex"), ("srec", "srec")] {
            let file = std::fs::read(demo.join(format!("{name}.{format}"))).unwrap();
            let image = vaka_image::read(&file, ReadOptions::default()).unwrap();
            let again = if format == "hex" { srec::write(&image) } else { hex::write(&image) };
            let back = read_by_objcopy(folder.path(), if read_as == "ihex" { "srec" } else { "ihex" }, &again);
            assert_eq!(back, theirs, "{name}.{format}");
        }
    }
}

/// A program of this system: 64 bits, with many sections, some of which are
/// not loaded, and a first segment that covers the file's own headers.
#[test]
fn a_program_of_this_system_reads_like_its_binary() {
    let program = Path::new("/bin/true");
    if !program::is_there("objcopy") || !program.exists() {
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    objcopy(folder.path(), &["-O", "binary", "--gap-fill=0xFF", program.to_str().unwrap(), "theirs.bin"]);
    let theirs = std::fs::read(folder.path().join("theirs.bin")).unwrap();
    // As firmware it is refused by its kind; its reader alone takes it.
    let ours = vaka_image::elf::read(&std::fs::read(program).unwrap()).unwrap();
    assert!(ours.filled(0xFF).unwrap().segments()[0].data() == theirs);
}

/// A linked program, made by hand: header, two program headers, the bytes.
/// The second segment lies elsewhere in memory than in flash.
fn elf_by_hand(bits: usize, big: bool, code: &[u8], data: &[u8]) -> Vec<u8> {
    let number = |value: u64, len: usize| {
        let little = value.to_le_bytes()[..len].to_vec();
        if big { little.into_iter().rev().collect::<Vec<u8>>() } else { little }
    };
    let word = bits / 8;
    let (head, entry) = if bits == 64 { (64, 56) } else { (52, 32) };
    let mut file = vec![0x7F, b'E', b'L', b'F', if bits == 64 { 2 } else { 1 }, if big { 2 } else { 1 }, 1];
    file.resize(16, 0);
    file.extend(
        [number(2, 2), number(40, 2), number(1, 4), number(0x1001, word), number(head, word), number(0, word)].concat(),
    );
    file.extend(
        [number(0, 4), number(head, 2), number(entry, 2), number(2, 2), number(0, 2), number(0, 2), number(0, 2)]
            .concat(),
    );
    let mut offset = head + 2 * entry;
    let pieces = [(0x1000, 0x1000, code), (0x2000_0000, 0x1800, data)];
    for (virtual_at, physical_at, bytes) in pieces {
        let len = bytes.len() as u64;
        let at = [
            number(offset, word),
            number(virtual_at, word),
            number(physical_at, word),
            number(len, word),
            number(len + 64, word),
        ];
        let header = match bits {
            64 => [number(1, 4), number(5, 4), at.concat(), number(4, word)].concat(),
            _ => [number(1, 4), at.concat(), number(5, 4), number(4, word)].concat(),
        };
        file.extend(header);
        offset += len;
    }
    file.extend_from_slice(code);
    file.extend_from_slice(data);
    file
}

#[test]
fn load_addresses_count_and_not_where_the_program_runs() {
    for (bits, big) in [(32, false), (32, true), (64, false), (64, true)] {
        let file = elf_by_hand(bits, big, &[1, 2, 3, 4, 5], &[6, 7, 8]);
        let image = vaka_image::read(&file, ReadOptions::default()).unwrap();
        let segments = [(0x1000, vec![1, 2, 3, 4, 5]), (0x1800, vec![6, 7, 8])];
        assert_same(&image, &segments, &format!("{bits} bits, big-endian: {big}"));
        let elf = image.facts().elf.unwrap();
        assert_eq!((usize::from(elf.bits), elf.little_endian), (bits, !big));
        assert_eq!(image.entry(), Some(Address::new(0x1001)));
    }
}

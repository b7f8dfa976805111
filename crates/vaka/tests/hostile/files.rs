//! Images, sheets, dialects and other descriptions that cost much more than they are worth.

use std::fs;
use std::path::Path;

use super::bounded::{Expected, all, problem, program};
use crate::support::{firmware, root};
use vaka_testkit::files::{hex, uf2_block};

/// A file with a name and content, what is done with it, and how that must end.
struct Case {
    file: &'static str,
    bytes: Vec<u8>,
    args: &'static [&'static str],
    expected: Expected<'static>,
}

fn case(file: &'static str, bytes: impl Into<Vec<u8>>, codes: &'static [i32], words: &'static [&'static str]) -> Case {
    Case { file, bytes: bytes.into(), args: &["check", "FILE"], expected: Expected { codes, words } }
}

fn description(file: &'static str, text: String, codes: &'static [i32], words: &'static [&'static str]) -> Case {
    let args: &[&str] =
        if file.ends_with(".dialect.toml") { &["dialect", "check", "FILE"] } else { &["sheet", "check", "FILE"] };
    Case { file, bytes: text.into_bytes(), args, expected: Expected { codes, words } }
}

/// An ELF file of 32 bits with these program headers and this content behind them. Source: System V
/// ABI, chapter 4.
fn elf(headers: &[[u32; 8]], content: &[u8]) -> Vec<u8> {
    let mut bytes = vec![0x7F, b'E', b'L', b'F', 1, 1, 1];
    bytes.resize(16, 0);
    let half = |bytes: &mut Vec<u8>, value: u16| bytes.extend(value.to_le_bytes());
    half(&mut bytes, 2);
    half(&mut bytes, 40);
    for word in [1u32, 0, 52, 0, 0] {
        bytes.extend(word.to_le_bytes());
    }
    for value in [52, 32, u16::try_from(headers.len()).unwrap(), 40, 0, 0] {
        half(&mut bytes, value);
    }
    headers.iter().flatten().for_each(|word| bytes.extend(word.to_le_bytes()));
    bytes.extend(content);
    bytes
}

/// Loadable segments at rising addresses, each with all of the file.
fn shared_segments(count: u32, size: u32) -> Vec<u8> {
    let headers: Vec<[u32; 8]> = (0..count).map(|n| [1, 0, 0, n.wrapping_mul(size), size, size, 5, 4]).collect();
    elf(&headers, &vec![0xA5; size as usize])
}

/// A stamp that claims to cover `length` bytes from 0, behind `before` bytes; and one byte at `last`.
fn stamped(length: u32, last: u32) -> String {
    let mut stamp = b"VakaStmp".to_vec();
    for half in [1u16, 60] {
        stamp.extend(half.to_le_bytes());
    }
    for word in [0u32, length] {
        stamp.extend(word.to_le_bytes());
    }
    stamp.extend([7; 32]);
    stamp.extend(b"part=x\0\0");
    let bytes: Vec<(u32, u8)> = (0..).zip(stamp).chain([(last, 1)]).collect();
    hex(bytes.iter().map(|(at, byte)| (*at, std::slice::from_ref(byte))))
}

fn images() -> Vec<(&'static str, Case)> {
    let gaps = |step: u32| hex((0..200_000).map(|n| (n * step, &[7][..])));
    let falling = hex((0..200_000u32).map(|n| (2 * (200_000 - n), &[7][..])));
    let blocks = |step: u32| (0..20_000).flat_map(|n| uf2_block(n * step, n, 20_000)).collect::<Vec<u8>>();
    let families = (0..20_000).flat_map(|n| {
        let mut one = uf2_block(0x1000 + 256 * n, 0, 1);
        one[28..32].copy_from_slice(&n.to_le_bytes());
        one
    });
    vec![
        (
            "segments of an ELF file that share its bytes",
            case("a.elf", shared_segments(2000, 2 << 20), &[8], &["share bytes of the file"]),
        ),
        (
            "two segments of an ELF file that share bytes",
            case("a.elf", shared_segments(2, 400), &[8], &["share bytes"]),
        ),
        (
            "a segment of an ELF file beyond the file",
            case("a.elf", elf(&[[1, 0, 0, 0, u32::MAX, u32::MAX, 5, 4]], b"x"), &[8], &[]),
        ),
        (
            "65,000 empty segments",
            case("a.elf", elf(&vec![[1, 0, 0, 0, 0, 0, 5, 4]; 65_000], b"x"), &[8], &["no loadable segment"]),
        ),
        ("an ELF file that is its own header", case("a.elf", b"\x7FELF".to_vec(), &[8], &[])),
        ("a stamp that covers 4 GiB", case("a.hex", stamped(u32::MAX, u32::MAX - 1), &[3], &["stamp"])),
        ("a stamp that covers 1 GiB", case("a.hex", stamped(1 << 30, (1 << 30) - 1), &[3], &["stamp"])),
        ("a stamp that covers no bytes", case("a.hex", stamped(0, 100), &[3], &["stamp"])),
        ("HEX of one byte per record", case("a.hex", gaps(1), &[3], &["200 000 bytes in 1 segment"])),
        ("HEX of 200,000 segments", case("a.hex", gaps(2), &[3], &["in 200000 segments"])),
        ("HEX of falling segments", case("a.hex", falling, &[3], &["in 200000 segments"])),
        (
            "HEX over 4 GiB",
            case("a.hex", hex([(0, &[1][..]), (u32::MAX, &[2][..])].into_iter()), &[3], &["2 segments"]),
        ),
        ("HEX of one line of 4 MiB", case("a.hex", format!(":{}", "0".repeat(4 << 20)), &[8], &[])),
        ("HEX of empty lines", case("a.hex", "\n".repeat(4 << 20), &[8], &[])),
        ("UF2 of 20,000 blocks", case("a.uf2", blocks(256), &[3], &["5000 KiB in 1 segment"])),
        ("UF2 of 20,000 segments", case("a.uf2", blocks(512), &[3], &["in 20000 segments"])),
        ("UF2 of 20,000 blocks at one address", case("a.uf2", blocks(0), &[3], &["occur twice"])),
        (
            "UF2 of 20,000 families",
            case("a.uf2", families.collect::<Vec<u8>>(), &[8], &["than the 64 that a file may have"]),
        ),
        ("UF2 that says 4 billion blocks", case("a.uf2", uf2_block(0, 0, u32::MAX), &[8], &["1 of 4294967295 blocks"])),
        (
            "UF2 at the end of memory",
            case("a.uf2", uf2_block(0xFFFF_FF80, 0, 1), &[8], &["exceeds the highest address"]),
        ),
        ("a DFU file of 255 targets", case("a.dfu", dfu(255, u32::MAX), &[8], &[])),
        ("a DFU file of 4 billion elements", case("a.dfu", dfu(1, u32::MAX), &[8], &[])),
        ("nothing", case("a.bin", "", &[8], &[])),
        ("zeros", case("a.bin", vec![0; 8 << 20], &[0, 3, 8], &[])),
        ("stamps only", case("a.bin", b"VakaStmp".repeat(100_000), &[0, 3, 8], &[])),
    ]
}

/// A DFU file of the address extension that states more than it has.
fn dfu(targets: u8, elements: u32) -> Vec<u8> {
    let mut file = b"DfuSe\x01".to_vec();
    file.extend(0xFFFF_u32.to_le_bytes());
    file.push(targets);
    file.extend(b"Target\0");
    file.extend(0u32.to_le_bytes());
    file.resize(11 + 274 - 8, 0);
    file.extend([u32::MAX.to_le_bytes(), elements.to_le_bytes()].concat());
    file.extend([0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0xFF, 0x1A, 0x01, b'U', b'F', b'D', 16, 0, 0, 0, 0]);
    file
}

fn descriptions() -> Vec<(&'static str, Case)> {
    let tern = fs::read_to_string(root().join("demo/sheets/tern.toml")).unwrap();
    let fulmar = fs::read_to_string(root().join("demo/sheets/fulmar.dialect.toml")).unwrap();
    let filled = |base: &str, line: &str, end: &str| {
        let count = ((250 << 10) - base.len() - end.len()) / line.len();
        format!("{base}{}{end}", line.repeat(count))
    };
    let exchange = format!("{fulmar}\n[exchange.big]\nsend = \"");
    let numbered = |base: &str, count: usize, line: &dyn Fn(usize) -> String| {
        format!("{base}\n{}", (0..count).map(line).collect::<String>())
    };
    let dialect = |text: String, codes, words| description("a.dialect.toml", text, codes, words);
    let sheet = |text: String, codes, words| description("a.toml", text, codes, words);
    vec![
        ("a dialect of comments", dialect(filled(&fulmar, "# a comment\n", ""), &[0], &["valid dialect"])),
        ("a dialect of 30,000 fields", dialect(filled(&exchange, "u8 = 1, ", "u8 = 1\"\n"), &[0], &["valid dialect"])),
        (
            "a dialect of one long sum",
            dialect(filled(&exchange, "u8 = 1, ", &format!("u8 = {}1\"", "1+".repeat(20_000))), &[0, 8], &[]),
        ),
        (
            "a dialect of nested brackets",
            dialect(
                format!("{exchange}u8 = {}1{}\"", "(".repeat(20_000), ")".repeat(20_000)),
                &[8],
                &["nesting is too deep"],
            ),
        ),
        ("a dialect of escapes", dialect(filled(&exchange, "\\u0031", "\"\n"), &[8], &[])),
        (
            "a dialect of unknown fields",
            dialect(filled(&exchange, "zz = 1, ", "\"\n"), &[8], &["'zz' is not a field type"]),
        ),
        (
            "a dialect of 5,000 exchanges",
            dialect(
                numbered(&fulmar, 5000, &|n| format!("\n[exchange.e{n}]\nsend = \"u8 = 1\"\n")),
                &[0],
                &["more findings"],
            ),
        ),
        (
            "a dialect of 5,000 wrong exchanges",
            dialect(
                numbered(&fulmar, 5000, &|n| format!("\n[exchange.e{n}]\nsend = \"zz = 1\"\n")),
                &[8],
                &["more findings"],
            ),
        ),
        (
            "a dialect of 10,000 unknown keys",
            dialect(numbered(&fulmar, 10_000, &|n| format!("\nkey{n} = 1")), &[8], &["is not a known key"]),
        ),
        (
            "a dialect of nested lists",
            dialect(format!("{fulmar}\nx = {}{}", "[".repeat(100_000), "]".repeat(100_000)), &[8], &["recursion"]),
        ),
        (
            "a dialect that is too long",
            dialect(format!("{fulmar}\n{}", "# x\n".repeat(70_000)), &[8], &["larger than 256 KiB"]),
        ),
        ("an empty dialect", description("a.dialect.toml", String::new(), &[8], &[])),
        ("a sheet of comments", sheet(filled(&tern, "# a comment\n", ""), &[0], &["valid product sheet"])),
        (
            "a sheet of unknown keys",
            sheet(numbered(&tern, 10_000, &|n| format!("\nkey{n} = 1")), &[8], &["is not a known key"]),
        ),
        ("a sheet of nested tables", sheet(format!("{tern}\n[{}a]\n", "a.".repeat(50_000)), &[8], &[])),
        (
            "a sheet of 2,000 variants",
            sheet(numbered(&tern, 2000, &|n| format!("\n[[variant]]\nid = \"v{n}\"\nname = \"V\"\n")), &[8], &[]),
        ),
        (
            "a sheet that is too long",
            sheet(format!("{tern}\n{}", "# x\n".repeat(70_000)), &[8], &["larger than 256 KiB"]),
        ),
        ("a sheet with another line end", sheet(tern.replace('\n', "\r"), &[8], &[])),
        ("a sheet of control characters", sheet(format!("{tern}\n# \x1B[2J\x07\n"), &[8], &[])),
        ("a sheet of huge numbers", sheet(tern.replace("0x0A00", "0xFFFFFFFFFFFF"), &[8], &[])),
        ("a sheet of negative numbers", sheet(tern.replace("0x0A00", "-"), &[8], &[])),
    ]
}

#[test]
fn no_file_costs_more_than_it_is_worth() {
    let cases: Vec<(String, Case)> =
        images().into_iter().chain(descriptions()).map(|(name, case)| (name.to_owned(), case)).collect();
    all(&cases, |case| {
        let folder = tempfile::tempdir().unwrap();
        fs::write(folder.path().join(case.file), &case.bytes).unwrap();
        let args: Vec<&str> = case.args.iter().map(|arg| if *arg == "FILE" { case.file } else { *arg }).collect();
        problem(&mut program(folder.path(), &args), &case.expected)
    });
}

#[test]
fn endless_inputs_and_pipes_in_folders_end() {
    let image = firmware("tern-r1-1.5.0.hex");
    let image = image.to_str().unwrap();
    let of = |args: &[&str], codes: &'static [i32], words: &'static [&'static str]| {
        (args.join(" "), (args.iter().map(|arg| (*arg).to_owned()).collect::<Vec<_>>(), Expected { codes, words }))
    };
    let cases = [
        of(&["sheet", "check", "/dev/zero"], &[8], &["larger than 256 KiB"]),
        of(&["dialect", "check", "/dev/zero"], &[8], &["larger than 256 KiB"]),
        of(&["keys", "trust", "/dev/zero", "--for", "tern"], &[8], &["larger than 256 KiB"]),
        of(&["pack", "/dev/zero"], &[8], &["larger than 256 KiB"]),
        of(&["simulate", "--scene", "/dev/zero"], &[8], &["larger than 256 KiB"]),
        of(&["check", "/dev/full"], &[8], &[]),
        of(&["check", "."], &[8], &["directory"]),
        of(&["check", image, "--sheets", "sheets"], &[0], &[]),
        of(&["check", image, "--sheets", "/dev/zero"], &[8], &["Not a directory"]),
    ];
    all(&cases, |(args, expected)| {
        let folder = tempfile::tempdir().unwrap();
        pipes_beside_a_sheet(&folder.path().join("sheets"));
        let args: Vec<&str> = args.iter().map(String::as_str).collect();
        problem(&mut program(folder.path(), &args), expected)
    });
}

/// A folder with a sheet, and with pipes, folders and links that have the names of descriptions.
fn pipes_beside_a_sheet(folder: &Path) {
    fs::create_dir(folder).unwrap();
    fs::copy(root().join("demo/sheets/tern.toml"), folder.join("tern.toml")).unwrap();
    for name in ["pipe.toml", "pipe.dialect.toml"] {
        assert!(std::process::Command::new("mkfifo").arg(folder.join(name)).status().unwrap().success());
    }
    fs::create_dir(folder.join("folder.toml")).unwrap();
    std::os::unix::fs::symlink("/dev/zero", folder.join("zero.toml")).unwrap();
    std::os::unix::fs::symlink("loop.toml", folder.join("loop.toml")).unwrap();
}

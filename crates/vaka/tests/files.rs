//! `vaka check`, `convert` and `stamp` on files, end to end.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::path::{Path, PathBuf};
use std::process::Command;
use vaka_testkit::program;

use serde_json::Value;
use support::{Bench, Ended, Running, firmware, program, root};

/// A folder with the demo files in it, and the program run there.
struct Desk(tempfile::TempDir);

impl Desk {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        for ending in ["hex", "bin", "elf", "srec"] {
            for revision in ["r1", "r2"] {
                let name = format!("tern-{revision}-1.5.0.{ending}");
                std::fs::copy(firmware(&name), folder.path().join(format!("{revision}.{ending}"))).unwrap();
            }
        }
        Self(folder)
    }

    fn path(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }

    fn bytes(&self, name: &str) -> Vec<u8> {
        std::fs::read(self.path(name)).unwrap()
    }

    fn write(&self, name: &str, bytes: &[u8]) {
        std::fs::write(self.path(name), bytes).unwrap();
    }

    fn run(&self, line: &str) -> Ended {
        let sheets = root().join("demo/sheets");
        let mut command = program();
        command.current_dir(self.0.path()).env("VAKA_SHEETS", sheets).env("XDG_STATE_HOME", self.path("state"));
        Running::start(command.args(line.split(' '))).end()
    }

    /// The `file` event of `check`.
    fn check(&self, line: &str, code: i32) -> Value {
        self.run(&format!("check --format json {line}")).expect(code, &[]).events().remove(0)
    }
}

#[test]
fn every_form_converts_into_every_other_and_back() {
    let desk = Desk::new();
    let binary = desk.bytes("r1.bin");
    let inputs = ["r1.hex", "r1.srec", "r1.elf", "r1.bin --at 0x0A002400"];
    for (number, input) in inputs.iter().enumerate() {
        let (file, options) = input.split_once(' ').unwrap_or((input, "--replace"));
        for out in ["o.bin", "o.hex", "o.s37", "o.uf2", "o.dfu"] {
            desk.run(&format!("convert {file} {number}{out} {options} --family 0x5EABD123"))
                .expect(0, &["20 772 bytes"]);
        }
        assert_eq!(desk.bytes(&format!("{number}o.bin")), binary);
        assert!(desk.bytes(&format!("{number}o.dfu")).starts_with(&binary), "a suffix behind the binary");
        // The same content gives the same bytes, wherever it came from; an
        // entry is not in a binary.
        if !input.starts_with("r1.bin") {
            assert_eq!(desk.bytes(&format!("{number}o.hex")), desk.bytes("0o.hex"), "{input}");
        }
    }
    desk.run("convert 0o.uf2 u.bin --range 0x0A002400..0x0A007524").expect(0, &[]);
    assert_eq!(desk.bytes("u.bin"), binary);
    desk.run("convert 0o.dfu d.bin --at 0x0A002400").expect(0, &[]);
    assert_eq!(desk.bytes("d.bin"), binary);
    desk.run("convert r1.hex a.out --to dfu-addressed --dfu-ids 1209:0002:0150").expect(0, &[]);
    let ids = desk.check("a.out", 0)["images"][0]["facts"]["dfu"].clone();
    assert_eq!((&ids["vendor"], &ids["product"], &ids["release"]), (&0x1209.into(), &2.into(), &0x150.into()));
}

#[test]
fn objcopy_reads_what_was_converted() {
    if !program::is_there("objcopy") {
        return;
    }
    let desk = Desk::new();
    for (out, format) in [("o.hex", "ihex"), ("o.srec", "srec")] {
        desk.run(&format!("convert r2.elf {out}")).expect(0, &[]);
        let args = ["-I", format, "-O", "binary", out, "back.bin"];
        assert!(Command::new("objcopy").current_dir(desk.0.path()).args(args).status().unwrap().success());
        assert_eq!(desk.bytes("back.bin"), desk.bytes("r2.bin"), "{format}");
    }
}

#[test]
fn convert_cuts_moves_fills_and_joins() {
    let desk = Desk::new();
    desk.run("convert r1.hex head.hex --range 0x0A002400..0x0A002440").expect(0, &["64 bytes in 1 segment"]);
    desk.run("convert r1.hex tail.hex --range 0x0A007500..0x0A008000").expect(0, &["36 bytes"]);
    desk.run("convert head.hex tail.hex both.hex").expect(0, &["2 files, both.hex: 100 bytes in 2 segments"]);
    desk.run("convert both.hex both.bin").expect(3, &["with 20 672 bytes of gaps", "--fill 0xFF"]);
    desk.run("convert both.hex both.bin --fill 0xA5").expect(0, &[]);
    let (filled, whole) = (desk.bytes("both.bin"), desk.bytes("r1.bin"));
    assert_eq!((&filled[..64], &filled[64..68], &filled[20736..]), (&whole[..64], &[0xA5; 4][..], &whole[20736..]));
    desk.run("convert head.hex moved.hex --move-to 0x100").expect(0, &["0x0000_0100..0x0000_0140"]);
    desk.run("convert r1.hex r2.hex x.hex").expect(8, &["different values are assigned to", "Nothing was written."]);
    desk.run("convert r1.hex r1.srec same.hex").expect(0, &["20 772 bytes"]);
    desk.run("convert r1.hex x.hex --range 0..16").expect(8, &["the image has no data in"]);
    desk.run("convert r1.hex x.hex --range 16..0").expect(2, &["is empty"]);
    desk.run("convert r1.hex x.txt").expect(2, &["the extension does not determine a format"]);
    desk.run("convert r1.bin x.hex")
        .expect(3, &["a raw binary has no address, and none was given", "Give --at ADDRESS"]);
    assert!(!desk.path("x.hex").exists());
    // Nothing is overwritten unasked, nor half.
    desk.run("convert r1.hex r2.bin").expect(3, &["r2.bin already exists", "--replace"]);
    assert_eq!(desk.bytes("r2.bin"), std::fs::read(firmware("tern-r2-1.5.0.bin")).unwrap());
    desk.run("convert r1.hex r2.bin --replace").expect(0, &[]);
    assert_eq!(desk.bytes("r2.bin"), whole);
    desk.run("convert none.hex x.hex").expect(8, &["none.hex"]);
    desk.run("convert r1.hex no/such/folder/x.hex").expect(8, &["x.hex"]);
    let left: Vec<String> = std::fs::read_dir(desk.0.path())
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .filter(|name| name.starts_with(".vaka"))
        .collect();
    assert_eq!(left, Vec::<String>::new());
}

#[test]
fn a_stamp_is_put_in_found_and_checked() {
    let desk = Desk::new();
    desk.run("stamp r1.elf s.hex --product tern --for r1 --version 1.5.0 --built 2026-11-23T08:00:00Z --fact crystal=8000000")
        .expect(0, &["Stamp at 0x0A00_7524 appended and sealed."]);
    let stamp = desk.check("s.hex", 0)["images"][0]["stamp"].clone();
    assert_eq!(
        (&stamp["seal"], &stamp["product"], &stamp["variants"][0]),
        (&"good".into(), &"tern".into(), &"r1".into())
    );
    desk.run("check s.hex").expect(0, &["digest", "crystal = 8000000", "built 2026-11-23T08:00:00Z"]);
    // Any change of the image breaks it, and then it fits nothing.
    desk.run("convert s.hex s.bin").expect(0, &[]);
    let mut bytes = desk.bytes("s.bin");
    bytes[0x3000] ^= 1;
    desk.write("s.bin", &bytes);
    desk.run("check s.bin --at 0x0A002400").expect(
        3,
        &[
            "WRONG DIGEST: the image was changed or truncated after",
            "WRONG DIGEST: the image was changed or truncated after",
        ],
    );
    // Another product's, or another variant's.
    desk.run("stamp r1.elf p.hex --product puffin --for r1").expect(0, &[]);
    desk.run("check p.hex").expect(3, &["stamp puffin, r1: the product in the sheet is tern"]);
    desk.run("stamp r1.elf v.hex --product tern --for r2 --for r3").expect(0, &[]);
    desk.run("check v.hex").expect(3, &["stamp tern, r2, r3: r1 is not among them"]);
    // Existing content is not changed without a message.
    desk.run("stamp s.hex again.hex --version 1.6.0").expect(3, &["the stamp at 0x0A00_7524 has other fields"]);
    desk.run("stamp s.hex again.hex").expect(0, &["Stamp at 0x0A00_7524 sealed."]);
    assert_eq!(desk.bytes("again.hex"), desk.bytes("s.hex"));
    desk.run("stamp r1.elf none.hex").expect(3, &["the image has no stamp, and no fields for a new one were given"]);
    desk.run("stamp r1.elf none.hex --fact version=1")
        .expect(2, &["cannot be a fact, because it has an option of its own"]);
}

/// A stamp as the link leaves it, for an image that starts at `start`.
fn open_stamp(start: u32) -> Vec<u8> {
    let text = b"product=tern\0variant=r1\0\0\0\0\0";
    let mut stamp = b"VakaStmp\x01\0".to_vec();
    stamp.extend_from_slice(&u16::try_from(52 + text.len()).unwrap().to_le_bytes());
    stamp.extend_from_slice(&start.to_le_bytes());
    stamp.resize(52, 0);
    stamp.extend_from_slice(text);
    stamp
}

#[test]
fn an_open_stamp_counts_but_promises_nothing_and_must_name_the_right_start() {
    let desk = Desk::new();
    desk.write("open.bin", &[desk.bytes("r1.bin"), open_stamp(0x0A00_2400)].concat());
    desk.run("check open.bin --at 0x0A002400")
        .expect(0, &["not sealed, so it does not prove that the image is complete", "  fits      Tern r1 (r1)"]);
    desk.run("stamp open.bin sealed.bin --at 0x0A002400").expect(0, &["Stamp at 0x0A00_7524 sealed."]);
    desk.run("check sealed.bin --at 0x0A002400").expect(0, &["digest"]);
    desk.write("elsewhere.bin", &[desk.bytes("r1.bin"), open_stamp(0x0A00_3000)].concat());
    desk.run("check elsewhere.bin --at 0x0A002400")
        .expect(3, &["stamp tern, r1: it states that the image starts at 0x0A00_3000"]);
    desk.run("stamp elsewhere.bin x.bin --at 0x0A003000").expect(0, &[]);
    desk.run("stamp elsewhere.bin y.bin --at 0x0A008000").expect(8, &["states that the image starts at"]);
}

#[test]
fn a_stamp_decides_against_the_wrong_unit() {
    let desk = Desk::new();
    // All that tells the boards apart is taken away but the stamp.
    let sheet = std::fs::read_to_string(root().join("demo/sheets/tern.toml")).unwrap();
    let without_marks: Vec<&str> = sheet.lines().filter(|line| !line.starts_with("marks")).collect();
    desk.write("sheet.toml", without_marks.join("\n").as_bytes());
    desk.run("stamp r1.elf wrong.hex --product tern --for r2").expect(0, &[]);
    let bench = Bench::tern_r1();
    let before = bench.memory("1-1");
    let sheet = desk.path("sheet.toml");
    bench
        .update(&desk.path("wrong.hex"), &["--variant", "r1", "--sheets", sheet.to_str().unwrap()])
        .expect(3, &["Refused: stamp tern, r2: r1 is not among them"]);
    assert_eq!(bench.memory("1-1"), before);
}

#[test]
fn check_explains_vectors_maps_and_what_was_seen_before() {
    let desk = Desk::new();
    let first = desk.check("r1.bin --at 0x0A002400", 0);
    assert_eq!(first["seen_before"], Value::Null);
    std::fs::copy(desk.path("r1.bin"), desk.path("copy.hex")).unwrap();
    desk.run("check copy.hex --at 0x0A002400").expect(
        0,
        &[
            "first checked",
            "as r1.bin",
            "the extension is .hex, but the content is a raw binary",
            "of the content, which ends in a valid CRC-32 of itself",
        ],
    );
    // 20 772 bytes fill six sectors of 3 KiB, and part of a seventh of 44.
    desk.run("check r1.hex").expect(0, &[&format!("0x0A00_2400 ######+{}  (3 KiB each)", "-".repeat(37))]);
    let cells = desk.check("r1.hex", 0)["images"][0]["cells"].clone();
    assert_eq!((cells.as_array().unwrap().len(), &cells[6][1], &cells[7][1]), (44, &"part".into(), &"absent".into()));
    desk.run("check r1.hex --at 0").expect(0, &["the reset handler 0x0A00_2489 is inside the image"]);
    desk.run("check r2.bin --at 0x0A002400").expect(3, &["is in the RAM of"]);
    desk.run("check r2.bin --at 0x20000000")
        .expect(3, &["it was probably linked for 0x0A00_3000, the start of Tern r2"]);
    desk.run("check r2.bin").expect(3, &["Tern r2 starts at 0x0A00_3000 and would fit there"]);
    desk.run("check --join r1.hex r1.srec r2.elf").expect(
        0,
        &["r1.hex and r1.srec have the same bytes", "r1.hex and r2.elf, 0x0A00_3000..0x0A00_7524: DIFFERENT"],
    );
}

#[test]
fn several_images_in_one_file_have_to_be_chosen() {
    let desk = Desk::new();
    desk.run("convert r1.hex a.uf2 --family 1").expect(0, &[]);
    desk.run("convert r2.hex b.uf2 --family 2").expect(0, &[]);
    desk.write("both.uf2", &[desk.bytes("a.uf2"), desk.bytes("b.uf2")].concat());
    desk.run("check both.uf2").expect(0, &["-- family 0x00000001 --", "-- family 0x00000002 --"]);
    desk.run("convert both.uf2 x.hex")
        .expect(3, &["the file has several images, and none was selected", "--from-family ID"]);
    desk.run("convert both.uf2 x.hex --from-family 2 --range 0x0A003000..0x0A008150").expect(0, &["20 816 bytes"]);
    desk.run("convert both.uf2 y.hex --from-family 7").expect(3, &["the selected image is not in the file; it has"]);
    let bench = Bench::tern_r1();
    bench
        .update(&desk.path("both.uf2"), &["--variant", "r1"])
        .expect(3, &["the file has several images, and none was selected"]);
    bench.update(&desk.path("both.uf2"), &["--variant", "r1", "--from-family", "1"]).expect(0, &["runs 1.5.0"]);
}

#[test]
fn what_is_no_firmware_is_named() {
    let desk = Desk::new();
    desk.write("page.hex", b"<html><body>please log in</body></html>");
    desk.write("notes.txt", b"Tern 1.5.0: surge line fixed\n");
    desk.write("blank.bin", &[0xFF; 4096]);
    for (file, words) in [
        ("page.hex", "this is a web page, not firmware: the download"),
        ("notes.txt", "a text file, not firmware; it starts with \"Tern 1.5.0: surge line fixed\""),
        ("blank.bin", "only the byte 0xFF"),
    ] {
        desk.run(&format!("check {file}")).expect(8, &[words]);
        desk.run(&format!("convert {file} x.bin")).expect(8, &[words]);
    }
    if program::is_there("python3") {
        // A zip made by another program.
        let script = "import zipfile; z = zipfile.ZipFile('fw.zip', 'w', zipfile.ZIP_DEFLATED); z.write('r1.hex', 'tern/r1.hex'); z.writestr('notes.txt', 'x')";
        assert!(Command::new("python3").current_dir(desk.0.path()).args(["-c", script]).status().unwrap().success());
        desk.run("check fw.zip").expect(8, &["a zip archive; unpack it and use one of its members: tern/r1.hex."]);
    }
}

/// The demo sheet with a wrapper described in it.
fn wrapped_sheet(desk: &Desk) -> PathBuf {
    let sheet = std::fs::read_to_string(root().join("demo/sheets/tern.toml")).unwrap();
    let wrapper = "\n[[wrapper]]\nname = \"Skerrow package\"\nmagic = \"53 4B 57 31\"\nheader = 20\n\
                   length = { offset = 4 }\nchecksum = { offset = 8, kind = \"sum\" }\nstart = { offset = 12 }\nversion = { offset = 16 }\n";
    desk.write("sheet.toml", (sheet + wrapper).as_bytes());
    desk.path("sheet.toml")
}

fn wrapped(payload: &[u8], start: u32) -> Vec<u8> {
    let sum = payload.iter().fold(0u32, |sum, byte| sum.wrapping_add(u32::from(*byte)));
    let mut file = b"SKW1".to_vec();
    for word in [u32::try_from(payload.len()).unwrap(), sum, start, 0x0150] {
        file.extend_from_slice(&word.to_le_bytes());
    }
    file.extend_from_slice(payload);
    file
}

#[test]
fn a_makers_own_wrapper_is_opened() {
    let desk = Desk::new();
    let sheet = wrapped_sheet(&desk);
    let with_sheet =
        |file: &Path, bench: &Bench| bench.update(file, &["--variant", "r1", "--sheets", sheet.to_str().unwrap()]);
    desk.write("fw.skw", &wrapped(&desk.bytes("r1.bin"), 0x0A00_2400));
    let bench = Bench::tern_r1();
    with_sheet(&desk.path("fw.skw"), &bench).expect(0, &["runs 1.5.0"]);
    let line = format!("check fw.skw --sheets {}", sheet.display());
    desk.run(&line).expect(0, &["a raw binary, inside a Skerrow package", "  fits      Tern r1 (r1)"]);
    let mut damaged = desk.bytes("fw.skw");
    damaged[500] ^= 4;
    desk.write("fw.skw", &damaged);
    with_sheet(&desk.path("fw.skw"), &bench).expect(8, &["the header of the Skerrow package has checksum"]);
    desk.write("fw.skw", &damaged[..damaged.len() - 1]);
    desk.run(&line).expect(8, &["states 20772 more bytes, there are 20771"]);
}

/// A wrapped file is compared by its content; one that only the bootloader understands is not.
#[test]
fn a_wrapped_file_is_compared_by_its_content() {
    let desk = Desk::new();
    let sheet = wrapped_sheet(&desk);
    let bench = Bench::tern_r1();
    desk.write("fw.skw", &wrapped(&bench.memory("1-1")[0x2400..0x3400], 0x0A00_2400));
    let args = ["--variant", "r1", "--sheets", sheet.to_str().unwrap(), "--wait", "5s"];
    let file = desk.path("fw.skw");
    bench.run(&[&["compare", file.to_str().unwrap()], &args[..]].concat()).expect(0, &["equal"]);
    let opaque = std::fs::read_to_string(&sheet).unwrap() + "opaque = true\n";
    desk.write("sheet.toml", opaque.as_bytes());
    let compared = bench.run(&[&["compare", file.to_str().unwrap()], &args[..]].concat());
    compared.expect(3, &["is for the bootloader alone, so it cannot be compared"]);
    // Plain firmware is what the sheet says of the Tern, so such a package does not fit.
    bench.update(&file, &args[..4]).expect(3, &["a payload that only a bootloader understands"]);
}

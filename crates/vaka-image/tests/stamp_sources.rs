//! The sources in `docs/formats/stamp` for firmware authors, compiled and read.

#![allow(clippy::unwrap_used, clippy::print_stderr)] // a panic in a test is its message; a skip is told

use std::path::Path;
use std::process::Command;

use vaka_image::ReadOptions;
use vaka_image::address::Address;
use vaka_image::stamp::{self, SealState, Stamp, StampSearch};
use vaka_testkit::program;

const START: u32 = 0x0A00_2400;

/// The stamp behind four bytes of other content, as it comes from the link.
fn read(bytes: &[u8]) -> Stamp {
    let image = [&[0x00, 0x50, 0x00, 0x20][..], bytes].concat();
    let options = ReadOptions { at: Some(Address::new(u64::from(START))), ..ReadOptions::default() };
    let image = vaka_image::read(&image, options).unwrap();
    let StampSearch::One(open) = stamp::find(&image, None) else { panic!("{bytes:02X?}") };
    assert_eq!(open.seal, SealState::Open);
    let StampSearch::One(sealed) = stamp::find(&stamp::seal(&image).unwrap(), None) else { panic!() };
    assert_eq!(sealed.seal, SealState::Good);
    sealed
}

fn assert_tern(stamp: &Stamp) {
    assert_eq!(stamp.start, Address::new(u64::from(START)));
    let text = &stamp.text;
    assert_eq!((text.product.as_deref(), text.version.as_deref()), (Some("tern"), Some("1.5.0")));
    assert_eq!(text.variants, ["r1"]);
}

/// Compiles a source with a program and takes the stamp's section out of the
/// object file; `None` if a program is missing.
fn compiled(compiler: &str, args: &[&str], name: &str, source: &str) -> Option<Vec<u8>> {
    if !program::is_there(compiler) || !program::is_there("objcopy") {
        return None;
    }
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join(name), source).unwrap();
    let run = |program: &str, args: &[&str]| {
        let done = Command::new(program).current_dir(folder.path()).args(args).output().unwrap();
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    };
    run(compiler, &[args, &["-o", "stamp.o", name]].concat());
    run("objcopy", &["-O", "binary", "-j", ".vaka_stamp", "stamp.o", "stamp.bin"]);
    Some(std::fs::read(folder.path().join("stamp.bin")).unwrap())
}

fn sources() -> String {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/formats/stamp").display().to_string()
}

#[test]
fn the_rust_constant_is_a_stamp() {
    let source = format!(
        "#![no_std]\n#[path = \"{}/vaka_stamp.rs\"]\npub mod vaka_stamp;\n#[used]\n#[unsafe(link_section = \".vaka_stamp\")]\n\
         static STAMP: vaka_stamp::VakaStamp<40> = vaka_stamp::VakaStamp::new(0x0A00_2400, \
         b\"product=tern\\0variant=r1\\0version=1.5.0\\0\");\n",
        sources()
    );
    let args = ["--edition=2024", "--crate-type=lib", "--emit=obj", "-Dwarnings"];
    if let Some(bytes) = compiled("rustc", &args, "stamp.rs", &source) {
        assert_eq!(bytes.len(), 52 + 40);
        assert_tern(&read(&bytes));
    }
}

#[test]
fn the_c_header_makes_a_stamp() {
    let source = "#include \"vaka_stamp.h\"\n\
                  VAKA_STAMP(0x0A002400u, \"product=tern\\0\" \"variant=r1\\0\" \"version=1.5.0\\0\");\n";
    let include = format!("-I{}", sources());
    let args = ["-std=c11", "-Wall", "-Wextra", "-Werror", "-c", &include];
    if let Some(bytes) = compiled("cc", &args, "stamp.c", source) {
        assert_tern(&read(&bytes));
    }
}

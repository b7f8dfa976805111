//! The guide of a product or of a release, by the built program.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::fs;
use std::io::Write;
use std::path::Path;

use support::{Ended, Running, at_terminal, firmware, program, root};
use vaka_testkit::program as outside;

fn run(folder: &Path, args: &[&str]) -> Ended {
    Running::start(program().args(args).current_dir(folder)).end()
}

/// A release of the demo, packed into a new folder.
fn packed(name: &str) -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    let description = root().join(format!("demo/releases/{name}.toml"));
    let out = format!("{name}.vaka");
    run(folder.path(), &["pack", description.to_str().unwrap(), "--out", &out]).expect(0, &[]);
    folder
}

/// The steps of the Tern by hand: the words of the guide, the command of the simulator, and whether
/// only the operator knows that the step is done.
const TERN: [(&str, &str, bool); 7] = [
    ("Take the battery out.", "do 1-1 battery", true),
    ("Set jumper J3 to USB.", "do 1-1 jumper", true),
    ("Hold SET, plug the cable in, let go of SET.", "do 1-1 cable", false),
    ("Hold SET, tap RESET, then let go of SET.", "do 1-1 step-1", false),
    ("Pull the cable.", "undo 1-1 cable", false),
    ("Set jumper J3 back to BAT.", "undo 1-1 jumper", true),
    ("Put the battery back.", "undo 1-1 battery", true),
];

/// Does what the Markdown says, for a reader who knows nothing else: types the command, does each step when
/// the program shows it, and compares the end.
fn follow(guide: &str, folder: &Path, unit: &mut Running, bus: &str) -> Ended {
    let command = guide.lines().find_map(|line| line.trim().strip_prefix("vaka update ")).unwrap();
    let mut update = program();
    update.arg("update").args(command.split(' ')).current_dir(folder);
    update.env("VAKA_BUS", bus).env("XDG_STATE_HOME", folder).env("XDG_RUNTIME_DIR", folder);
    let mut update = Running::start(&mut at_terminal(&update));
    let numbered = |line: &&str| line.starts_with(|first: char| first.is_ascii_digit()) && line.contains("**");
    let steps: Vec<&str> = guide.lines().filter(numbered).filter_map(|line| line.split("**").nth(1)).collect();
    let (connect, by_hand) = steps.split_first().unwrap();
    assert_eq!(*connect, "Connect the unit to the computer, and no other unit of its kind.");
    for step in by_hand {
        let (_, hand, is_unseen) = TERN.iter().find(|(words, ..)| words == step).unwrap();
        update.wait_for(step);
        if *is_unseen && hand.starts_with("do") {
            update.wait_for("Waiting for Enter");
        }
        writeln!(unit.stdin(), "{hand}").unwrap();
        unit.wait_for(&hand.replacen(" 1-1", "", 1));
        if *is_unseen {
            writeln!(update.stdin()).unwrap();
        }
    }
    update.end()
}

/// The smallest PNG that browsers draw: one pixel.
const PIXEL: &[u8] = b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR\0\0\0\x01\0\0\0\x01\x08\x06\0\0\0\x1f\x15\xc4\x89\0\0\0\nIDATx\x9cc\0\x01\0\0\x05\0\x01\r\n-\xb4\0\0\0\0IEND\xaeB`\x82";

/// [`PIXEL`] in Base64, by `base64` of coreutils.
const PIXEL_IN_BASE64: &str =
    "iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAACklEQVR4nGMAAQAABQABDQottAAAAABJRU5ErkJggg==";

/// The sheet of the Tern with a picture in its first step, in a folder of its own.
fn with_picture(name: &str) -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    let sheet = fs::read_to_string(root().join("demo/sheets/tern.toml")).unwrap();
    let step = "do = \"Hold SET, tap RESET, then let go of SET.\"";
    let sheet = sheet.replace(step, &format!("{step}\npicture = \"{name}\""));
    fs::write(folder.path().join("tern.toml"), sheet).unwrap();
    folder
}

/// A picture is part of the page; one that is missing or is none is an error, and so is a path.
#[test]
fn pictures_are_part_of_the_page() {
    let folder = with_picture("set.png");
    let path = folder.path();
    let guide = ["guide", "tern.toml", "--out", "tern.html"];
    run(path, &guide).expect(8, &["set.png: No such file"]);
    fs::write(path.join("set.png"), "no picture").unwrap();
    run(path, &guide).expect(8, &["set.png: the picture is neither PNG nor JPEG nor GIF"]);
    assert!(!path.join("tern.html").exists());
    fs::write(path.join("set.png"), PIXEL).unwrap();
    run(path, &guide).expect(0, &["Guide: tern.html"]);
    let page = fs::read_to_string(path.join("tern.html")).unwrap();
    let picture = format!("<img src=\"data:image/png;base64,{PIXEL_IN_BASE64}\" alt=\"Hold SET, tap RESET");
    assert_eq!(page.matches(&picture).count(), 2, "one for each variant: {page}");
    assert!(!page.contains("src=\"http") && !page.contains("href="), "the page needs no other file");
    let elsewhere = tempfile::tempdir().unwrap();
    fs::rename(path.join("set.png"), elsewhere.path().join("set.png")).unwrap();
    let of_folder = ["--pictures", elsewhere.path().to_str().unwrap(), "--replace"];
    run(path, &[&guide[..], &of_folder].concat()).expect(0, &[]);
    let folder = with_picture("../set.png");
    run(folder.path(), &guide).expect(8, &["the name of a file is required, without a folder"]);
}

/// The guide of a sheet names everything that a reader looks for, in text on standard output.
#[test]
fn a_guide_says_what_the_sheet_says() {
    let folder = tempfile::tempdir().unwrap();
    let sheet = root().join("demo/sheets/petrel.toml");
    let guide = run(folder.path(), &["guide", sheet.to_str().unwrap(), "--variant", "SKI-PB2"]);
    guide.expect(
        0,
        &[
            "vaka update FIRMWARE --sheets petrel.toml --variant pb2",
            "Steps for Petrel, board PB2",
            "  3  [ ] Pull the cable.\n         The bootloader looks at MARK only when it gets power.",
            "         You see: The lamp stays dark. A disk named PETREL appears.",
            "         If the unit starts as usual: MARK was let go too early",
        ],
    );
    assert!(!guide.stdout.contains("PB1"), "{}", guide.stdout);
    assert!(guide.stdout.lines().all(|line| line.chars().count() <= 78), "{}", guide.stdout);
}

/// Input without a guide in it, and paths that cannot be written, have errors of their own.
#[test]
fn bad_input_of_a_guide_is_reported() {
    let folder = packed("tern-1.5.0");
    fs::write(folder.path().join("here.md"), "mine").unwrap();
    for (args, code, words) in [
        (&["tern-1.5.0.vaka", "--variant", "r9"][..], 8, "there is nothing for the variant 'r9'"),
        (&["tern-1.5.0.vaka", "--build", "blue"], 2, "no build 'blue'"),
        (&["tern-1.5.0.vaka", "--out", "guide.pdf"], 2, "the extension must be .html, .md or .txt"),
        (&["tern-1.5.0.vaka", "--out", "here.md"], 3, "here.md already exists"),
        (&["absent.vaka"], 8, "absent.vaka"),
        (&["here.md"], 8, "here.md"),
        (&["tern-1.5.0.vaka", "--replace"], 2, "--out"),
    ] {
        run(folder.path(), &[&["guide"], args].concat()).expect(code, &[words]);
    }
    assert_eq!(fs::read_to_string(folder.path().join("here.md")).unwrap(), "mine");
}

/// A reader who follows the guide has the new version, on both boards and through two stages.
#[test]
fn a_reader_who_follows_the_guide_has_the_new_version() {
    if !outside::is_there("script") {
        return;
    }
    for (release, variant, image, start) in [
        ("tern-1.5.0", "r1", "tern-r1-1.5.0.bin", 0x0A00_2400),
        ("tern-1.5.0", "r2", "tern-r2-1.5.0.bin", 0x0A00_3000),
        ("tern-loader-1.1.0", "r1", "tern-r1-1.5.0.bin", 0x0A00_2400),
    ] {
        let folder = packed(release);
        let path = folder.path();
        let file = format!("{release}.vaka");
        run(path, &["guide", &file, "--variant", variant, "--out", "guide.md"]).expect(0, &["Guide: guide.md"]);
        let guide = fs::read_to_string(path.join("guide.md")).unwrap();
        let sheet = root().join("demo/sheets/tern.toml");
        let args = ["simulate", "--sheet", sheet.to_str().unwrap(), "--variant", variant];
        let mut unit = Running::start(program().args(args).current_dir(path));
        let line = unit.wait_for("Simulated units at usbip://127.0.0.1:");
        let bus = line.rsplit(' ').next().unwrap().to_owned();
        let ended = follow(&guide, path, &mut unit, &bus);
        ended.expect(0, &["Done.", "runs 1.5.0", "confirmed"]);
        assert!(guide.contains("and says that the unit runs 1.5.0."), "{guide}");
        writeln!(unit.stdin(), "memory 1-1 memory.bin").unwrap();
        unit.wait_for("bytes from 0x0A000000");
        let (memory, image) = (fs::read(path.join("memory.bin")).unwrap(), fs::read(firmware(image)).unwrap());
        let start = start - 0x0A00_0000;
        assert!(memory[start..].starts_with(&image), "{release} {variant}");
        unit.kill();
    }
}

//! Any file onto a unit's disk, by the built program.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::fs;

use support::{Bench, firmware, root};
use vaka_sim::fault::{Fault, FaultKind};
use vaka_sim::unit::Unit;
use vaka_sim::unit::heron::{self, Heron};
use vaka_sim::unit::stick::Stick;
use vaka_sim::world::lock;

/// The Heron, whose disk takes a text for the display too, beside an ordinary stick.
fn bench(faults: Vec<Fault>) -> Bench {
    let bench = Bench::of(vec![(Box::new(Heron::new("S-00007")), faults), (Box::new(Stick::new("BZ88")), Vec::new())]);
    let sheet = fs::read_to_string(root().join("demo/sheets/heron.toml")).unwrap();
    let text = r##"
[[part]]
id = "text"
name = "Text of the display"

[[variant]]
id = "text"
name = "Text of the Heron"
part = "text"
any_file = { most = "2 KiB", endings = ["txt", "lines"], marks = [{ offset = 0, text = "#HERON", meaning = "first line" }] }

[[route]]
kind = "volume"
takes = "file"
id = "1209:0007"
variants = ["text"]
label = ["HERON", "HERON_EMPTY"]
file = "SHOW.TXT"
leave = "nothing"
"##;
    fs::create_dir(bench.folder.path().join("sheets")).unwrap();
    bench.file("sheets/heron.toml", format!("{sheet}{text}").as_bytes());
    bench
}

/// A file in the root folder of a FAT disk, by the boot sector and the folder. Its clusters follow each
/// other. Source: FAT, the layout of a volume and of a folder's entries.
fn file_on(disk: &[u8], name: &[u8; 11]) -> Option<Vec<u8>> {
    let half = |at: usize| usize::from(u16::from_le_bytes([disk[at], disk[at + 1]]));
    let (sector, cluster) = (half(11), usize::from(disk[13]) * half(11));
    let root = (half(14) + usize::from(disk[16]) * half(22)) * sector;
    let data = root + half(17) * 32;
    let entry = disk[root..data].chunks(32).find(|entry| entry.starts_with(name))?;
    let at = data + (usize::from(u16::from_le_bytes([entry[26], entry[27]])) - 2) * cluster;
    let size = u32::from_le_bytes(entry[28..32].try_into().unwrap()) as usize;
    Some(disk[at..at + size].to_vec())
}

fn shown(bench: &Bench) -> Option<Vec<u8>> {
    file_on(lock(&bench.world).unit("1-1").unwrap().disk(), b"SHOW    TXT")
}

#[test]
fn a_text_goes_onto_the_disk_under_its_name_and_is_read_back() {
    let bench = bench(Vec::new());
    let words = b"#HERON\nHigh water 14:32\n".to_vec();
    bench.file("tide.txt", &words);
    let update = |file: &str, more: &[&str]| {
        bench.run(&[&["update", file, "--sheets", "sheets", "--unit", "port=1-1"], more].concat())
    };
    update("tide.txt", &["--plan"]).expect(0, &["it becomes SHOW.TXT on the unit's disk", "SHOW.TXT"]);
    assert_eq!(shown(&bench), None);
    update("tide.txt", &[]).expect(0, &["all 24 written bytes are equal"]);
    assert_eq!(shown(&bench).unwrap(), words);
    // A shorter text with the same beginning is another file.
    let shorter = words[..20].to_vec();
    bench.file("tide.lines", &shorter);
    update("tide.lines", &[]).expect(0, &["all 20 written bytes are equal"]);
    assert_eq!(shown(&bench).unwrap(), shorter);
    update("tide.lines", &[]).expect(0, &["already present"]);
    bench.run(&["survey", "-v", "--sheets", "sheets"]).expect(0, &["SHOW.TXT, 20 bytes", "DISPLAY.HEX"]);
    // The firmware of the other part goes its own way.
    let image = firmware("heron-display-3.1.0.hex");
    update(image.to_str().unwrap(), &[]).expect(0, &["confirmed"]);
    let wanted = fs::read(firmware("heron-display-3.1.0.bin")).unwrap();
    let mut world = lock(&bench.world);
    assert!(world.unit("1-1").unwrap().flash().read(heron::DISPLAY_REGION.start, wanted.len()) == Some(&wanted[..]));
    assert_eq!(world.opened("1-2"), 0);
    assert!(world.unit("1-2").unwrap().disk() == Stick::new("BZ88").disk());
}

#[test]
fn a_file_that_is_not_for_the_disk_is_refused() {
    let bench = bench(Vec::new());
    type Case<'a> = (&'a str, &'a [u8], &'a [&'a str], i32, &'a [&'a str]);
    let cases: [Case<'_>; 6] = [
        ("other.txt", b"#GANNET\n", &[], 3, &["first line", "\"#HERON\""]),
        ("long.txt", &[b"#HERON", &[b'x'; 3000][..]].concat(), &[], 3, &["text takes at most 2 KiB"]),
        (
            "tide.csv",
            b"#HERON\n",
            &["--part", "text"],
            3,
            &["made from a file that ends in txt or lines", "other-ending"],
        ),
        ("page.html", b"<!DOCTYPE html><html></html>", &[], 8, &["web page"]),
        ("empty.txt", b"", &[], 8, &["empty"]),
        ("tide.txt", b"#HERON\n", &["--part", "display"], 8, &["text"]),
    ];
    for (name, content, more, code, words) in cases {
        bench.file(name, content);
        bench.run(&[&["update", name, "--sheets", "sheets", "--unit", "port=1-1"], more].concat()).expect(code, words);
        assert_eq!(shown(&bench), None, "{name}");
    }
    // The user may insist on the ending, by the part.
    let insist = ["update", "tide.csv", "--sheets", "sheets", "--part", "text", "--allow", "other-ending"];
    bench.run(&insist).expect(0, &["all 7 written bytes are equal"]);
    assert_eq!(shown(&bench).unwrap(), b"#HERON\n");
}

/// Whatever goes wrong, a success means that the disk has the file.
#[test]
fn faults_make_no_false_success() {
    for at in [2, 9, 17, 26, 40] {
        for kind in [FaultKind::Stall, FaultKind::Short, FaultKind::Pull(Some(std::time::Duration::from_millis(300)))] {
            let bench = bench(vec![Fault { at, kind: kind.clone() }]);
            let words = [b"#HERON", &[b'~'; 900][..]].concat();
            bench.file("tide.txt", &words);
            let ended = bench.run(&["update", "tide.txt", "--sheets", "sheets", "--unit", "port=1-1", "--wait", "2s"]);
            assert!(ended.code == 5 || ended.code == 0, "{at} {kind:?}: {} {}", ended.code, ended.stderr);
            if ended.code == 0 {
                assert_eq!(shown(&bench).unwrap(), words, "{at} {kind:?}");
            }
        }
    }
}

#[test]
fn a_sheet_is_shown_with_the_names_of_files_that_it_takes() {
    let bench = bench(Vec::new());
    let sheet = bench.folder.path().join("sheets/heron.toml");
    bench.run(&["sheet", "show", sheet.to_str().unwrap()]).expect(0, &["any file for the disk, named *.txt, *.lines"]);
}

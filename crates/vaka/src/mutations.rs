//! Mutated files for every reader: none may panic, or take long.

use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use vaka_core::release::Release;
use vaka_core::release::catalogue::Catalogue;
use vaka_core::release::signature::PrivateKey;
use vaka_core::sheet::{Dialects, Sheet};
use vaka_dialect::{Dialect, no_files};
use vaka_image::address::Address;
use vaka_image::occupancy::Occupancy;
use vaka_image::{FirmwareFile, ReadOptions};
use vaka_sim::replay::Trace;
use vaka_sim::scene::Scene;
use vaka_testkit::{Random, demo};

/// The longest work on one file, in a build for tests.
const BUDGET: Duration = Duration::from_secs(10);

/// Number of mutated files; CI sets more.
fn count() -> usize {
    std::env::var("VAKA_MUTATIONS").ok().and_then(|count| count.parse().ok()).unwrap_or(2000)
}

/// A reader, and sound files for it.
struct Reader {
    name: &'static str,
    seeds: Vec<Vec<u8>>,
    /// Reads a file; whether it is sound.
    read: fn(&[u8], &Path) -> bool,
}

fn image(bytes: &[u8], _: &Path) -> bool {
    let file = FirmwareFile::parse(bytes);
    let at = Some(Address::new(0x0A00_2400));
    let options = [ReadOptions::default(), ReadOptions { at, ..ReadOptions::default() }];
    let images = options.into_iter().filter_map(|options| file.image(options, &[]).ok());
    images
        .map(|image| {
            let _ = vaka_image::stamp::find(&image, None);
            image.cells().into_iter().filter(|cell| image.fill(*cell) != Occupancy::Absent).count()
        })
        .any(|cells| cells > 0)
}

fn text(bytes: &[u8]) -> String {
    String::from_utf8_lossy(bytes).into_owned()
}

fn journal(bytes: &[u8], folder: &Path) -> bool {
    let path = folder.join("journal.jsonl");
    std::fs::write(&path, bytes).unwrap();
    let (records, torn) = crate::journal::read(&path).unwrap();
    let records: Vec<&crate::journal::Record> = records.iter().collect();
    crate::report::page(&records).is_ok() && torn == 0
}

/// A journal with every kind of line.
fn journal_seed() -> Vec<u8> {
    let start = r#"{"journal":1,"attempt":"a-1","started":{"time":"2026-11-20T08:00:00Z","vaka":"0.1.0","file":{"name":"a.hex","size":3,"sha256":"00","content_sha256":null},"release":{"product":"tern","version":"1.5.0","channel":"stable","build":"standard","stage":1,"stages":1},"label":null,"consents":["unsigned"]}}"#;
    let undo = r#"{"journal":1,"attempt":"a-1","pending-undo":["Close the lid."]}"#;
    let end = r#"{"journal":1,"attempt":"a-1","ended":{"time":"2026-11-20T08:01:00Z","ids":["1209:0002"],"version_before":"1.4.0","verdict":"fits","conflicts":[],"consents":[],"result":{"unit":"1-1","serial":"T1","outcome":"updated","code":0,"bytes_written":4096,"durations_ms":[["write",120]]},"error":null}}"#;
    [start, undo, end].join("\n").into_bytes()
}

fn readers() -> Vec<Reader> {
    let files = |names: &[&str]| names.iter().map(|name| std::fs::read(demo::firmware(name)).unwrap()).collect();
    let sheets = |names: &[&str]| names.iter().map(|name| demo::sheet_text(name).into_bytes()).collect();
    let release = Release::write(release_manifest(), &release_members(), None).unwrap();
    let config = b"bus = [\"usb\"]\nsheets = \"s\"\n[places]\nleft = \"1-1.2\"\n".to_vec();
    vec![
        Reader { name: "HEX", seeds: files(&["tern-r1-1.5.0.hex"]), read: image },
        Reader { name: "S-record", seeds: files(&["tern-r1-1.5.0.srec"]), read: image },
        Reader { name: "ELF", seeds: files(&["tern-r1-1.5.0.elf"]), read: image },
        Reader { name: "UF2", seeds: files(&["petrel-pb1-2.4.0.uf2"]), read: image },
        Reader { name: "DFU", seeds: files(&["gannet-1.3.0.dfu"]), read: image },
        Reader {
            name: "sheet",
            seeds: sheets(&["tern.toml", "petrel.toml", "heron.toml"]),
            read: |bytes, _| Sheet::parse_with("a.toml", &text(bytes), &Dialects::new()).is_ok(),
        },
        Reader {
            name: "dialect",
            seeds: sheets(&["fulmar.dialect.toml", "dunlin.dialect.toml", "skua.dialect.toml"]),
            read: |bytes, _| Dialect::parse("a.dialect.toml", &text(bytes), &no_files).is_ok(),
        },
        Reader {
            name: "scene",
            seeds: vec![vaka_sim::scene::DEFAULT.as_bytes().to_vec()],
            read: |bytes, _| Scene::parse(&text(bytes)).is_ok(),
        },
        Reader {
            name: "configuration",
            seeds: vec![config],
            read: |bytes, _| crate::config::read(&text(bytes)).is_ok(),
        },
        Reader { name: "journal", seeds: vec![journal_seed()], read: journal },
        Reader { name: "trace", seeds: vec![TRACE.to_vec()], read: |bytes, _| Trace::parse(&text(bytes)).is_ok() },
        Reader {
            name: "catalogue",
            seeds: vec![catalogue()],
            read: |bytes, _| Catalogue::open(bytes.to_vec()).is_ok(),
        },
        Reader {
            name: "release",
            seeds: vec![release],
            read: |bytes, _| Release::open(Arc::new(bytes.to_vec()), "0.1.0").is_ok(),
        },
    ]
}

/// The start of a recorded survey.
const TRACE: &[u8] = br#"{"trace":1,"vaka":"0.1.0","system":"linux","time":"2026-11-29T22:44:23.634977017Z","command":"survey"}
{"t":3.705,"list":[{"port":"1-2","address":131076,"speed":"full","id":"1209:0001","release":"0140","interfaces":["ff0000"]}],"bus":"usbip://127.0.0.1:3240"}
{"t":5.641,"open":1,"port":"1-2"}
{"t":5.734,"device":1,"setup":"8006000100001200","reply":"120100020000004009120100400101020301","took":0.035}
{"t":5.791,"device":1,"setup":"8006000200000900","reply":"090212000101008032","took":0.024}
{"t":5.833,"device":1,"setup":"8006000200001200","reply":"0902120001010080320904000000ff000004","took":0.022}
{"t":5.884,"device":1,"setup":"800600030000ff00","reply":"04030904","took":0.023}
{"t":5.956,"device":1,"setup":"800601030904ff00","reply":"280353006b006500720072006f007700200049006e0073007400720075006d0065006e0074007300","took":0.028}
"#;

fn catalogue() -> Vec<u8> {
    let text = r#"{"catalogue":1,"number":3,"date":"2026-11-23","fresh_until":"2027-02-21","releases":[{"product":"tern","file":"tern-1.5.0.vaka","size":3,"sha256":"0000000000000000000000000000000000000000000000000000000000000000","version":"1.5.0","channel":"stable","date":"2026-10-19","variants":["r1"],"ids":["1209:0001"]}]}"#;
    let list: Catalogue = serde_json::from_str(text).unwrap();
    list.write(&PrivateKey::from_random([7; 32])).unwrap()
}

fn release_manifest() -> vaka_core::release::manifest::Manifest {
    let text = r#"{"release":1,"product":"tern","version":"1.5.0","date":"2026-10-19","channel":"stable","sheets":["sheets/tern.toml"],"stages":[{"name":"Application","images":[{"variants":["r1"],"build":"standard","files":[{"file":"images/r1.hex"}]}]}],"members":{}}"#;
    serde_json::from_str(text).unwrap()
}

fn release_members() -> std::collections::BTreeMap<String, Vec<u8>> {
    let sheet = ("sheets/tern.toml".to_owned(), demo::sheet_text("tern.toml").into_bytes());
    [sheet, ("images/r1.hex".to_owned(), b":00000001FF\n".to_vec())].into()
}

/// Texts that stand at the borders of what a reader takes.
const BORDERS: [&str; 14] = [
    "0",
    "-1",
    "4294967295",
    "4294967296",
    "0xFFFFFFFFFFFFFFFF",
    "99999999999999999999",
    "\"\"",
    "[]",
    "{}",
    "\\u0000",
    "\u{202E}",
    "'''",
    "1e999",
    "\n\n",
];

/// Changes a file at one to five places.
fn mutated(seed: &[u8], random: &mut Random) -> Vec<u8> {
    let mut bytes = seed.to_vec();
    for _ in 0..=random.below(5) {
        let at = random.below(bytes.len() + 1);
        let end = (at + random.below(64)).min(bytes.len());
        match random.below(8) {
            0 if at < bytes.len() => bytes[at] ^= 1 << random.below(8),
            1 if at < bytes.len() => bytes[at] = u8::try_from(random.below(256)).unwrap(),
            2 => drop(bytes.drain(at..end)),
            3 => {
                let piece = bytes[at..end].to_vec();
                let other = random.below(bytes.len() + 1);
                bytes.splice(other..other, piece);
            }
            4 => bytes.truncate(at),
            5 => drop(bytes.splice(at..end, random.choose(&BORDERS).bytes())),
            6 => {
                // A number becomes another one.
                let digits = bytes[at..].iter().position(u8::is_ascii_digit).map_or(at, |from| at + from);
                let end = bytes[digits..].iter().position(|byte| !byte.is_ascii_digit()).map_or(digits, |n| digits + n);
                bytes.splice(digits..end, random.choose(&BORDERS).bytes());
            }
            _ => {
                let piece = bytes[at..end].repeat(1 + random.below(50));
                bytes.splice(at..at, piece);
            }
        }
    }
    bytes
}

#[test]
fn no_mutated_file_panics_or_takes_long() {
    let readers = readers();
    let folder = tempfile::tempdir().unwrap();
    let mut random = Random(0x5EED_0019);
    for reader in &readers {
        assert!(
            reader.seeds.iter().all(|seed| (reader.read)(seed, folder.path())),
            "{} refuses a sound file",
            reader.name
        );
    }
    let mut slowest = (Duration::ZERO, "");
    for number in 0..count() {
        let reader = &readers[number % readers.len()];
        let seed = random.pick(&reader.seeds);
        let bytes = mutated(&seed, &mut random);
        let began = Instant::now();
        let read = std::panic::catch_unwind(|| (reader.read)(&bytes, folder.path()));
        let time = began.elapsed();
        if read.is_err() || time > BUDGET {
            let kept = std::env::temp_dir().join(format!("mutation-{number}"));
            std::fs::write(&kept, &bytes).unwrap();
            panic!("{} file {number} in {time:?}; it is in {}", reader.name, kept.display());
        }
        slowest = slowest.max((time, reader.name));
    }
    assert!(slowest.0 > Duration::ZERO, "nothing was read");
}

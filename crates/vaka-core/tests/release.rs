//! Releases as files: what is whole is read, and nothing else.

#![allow(clippy::unwrap_used)]

use std::collections::BTreeMap;
use std::sync::Arc;

use vaka_core::release::archive::{self, ArchiveError, Member};
use vaka_core::release::manifest::{Entry, FORMAT, File, Manifest, STANDARD, Stage};
use vaka_core::release::signature::PrivateKey;
use vaka_core::release::{MANIFEST, Release, ReleaseError, SIGNATURE, SIGNER, inconsistencies};
use vaka_core::sheet::Sheet;
use vaka_image::address::Address;
use vaka_image::{ReadOptions, hex, stamp};
use vaka_testkit::Random;

const TERN: &str = include_str!("../../../demo/sheets/tern.toml");
const R1_HEX: &[u8] = include_bytes!("../../../demo/firmware/out/tern-r1-1.5.0.hex");
const R1_BIN: &[u8] = include_bytes!("../../../demo/firmware/out/tern-r1-1.5.0.bin");
const R2_HEX: &[u8] = include_bytes!("../../../demo/firmware/out/tern-r2-1.5.0.hex");
const LOADER_HEX: &[u8] = include_bytes!("../../../demo/firmware/out/tern-r1-loader-1.1.0.hex");

fn entry(file: &str, variants: &[&str], facts: &[(&str, &str)]) -> Entry {
    Entry {
        part: None,
        variants: variants.iter().map(|id| (*id).into()).collect(),
        build: STANDARD.into(),
        files: vec![File { file: file.into(), at: None, region: None }],
        facts: facts.iter().map(|(name, value)| ((*name).into(), (*value).into())).collect(),
    }
}

fn manifest(stages: Vec<Stage>) -> Manifest {
    Manifest {
        release: FORMAT,
        product: "tern".into(),
        version: "1.5.0".into(),
        date: "2026-11-02".into(),
        channel: "stable".into(),
        expires: None,
        keys: Vec::new(),
        needs_vaka: None,
        updates_from: None,
        notes: None,
        loses: Vec::new(),
        sheets: Vec::new(),
        stages,
        members: BTreeMap::new(),
    }
}

fn stage(name: &str, of: Option<&str>, images: Vec<Entry>) -> Stage {
    Stage { name: name.into(), stage: of.map(Into::into), external: None, images }
}

fn members(list: &[(&str, &[u8])]) -> BTreeMap<String, Vec<u8>> {
    list.iter().map(|(name, data)| ((*name).to_owned(), data.to_vec())).collect()
}

fn key() -> PrivateKey {
    PrivateKey::from_random([42; 32])
}

/// A release of some hundred bytes, signed or not.
fn small(key: Option<&PrivateKey>) -> Vec<u8> {
    let manifest = manifest(vec![stage("Application", None, vec![entry("a.bin", &["r1"], &[])])]);
    Release::write(manifest, &members(&[("a.bin", b"firmware")]), key).unwrap()
}

fn read(bytes: &[u8]) -> Result<Release, ReleaseError> {
    Release::open(Arc::new(bytes.to_vec()), "0.1.0")
}

/// The members of an archive.
fn members_of(bytes: &[u8]) -> Vec<Member<'_>> {
    fn place(number: u64) -> usize {
        usize::try_from(number).unwrap()
    }
    let found = archive::index(&bytes.to_vec()).unwrap();
    let names = found.iter().map(|entry| place(entry.offset) - entry.name.len());
    let all = names.zip(&found).map(|(at, entry)| {
        let (name, data) = bytes[at..][..entry.name.len() + place(entry.len)].split_at(entry.name.len());
        Member { name: std::str::from_utf8(name).unwrap(), data }
    });
    all.collect()
}

#[test]
fn every_single_bit_counts() {
    for signed in [true, false] {
        let bytes = small(Some(&key()).filter(|_| signed));
        assert!(read(&bytes).is_ok());
        for bit in 0..bytes.len() * 8 {
            let mut changed = bytes.clone();
            changed[bit / 8] ^= 1 << (bit % 8);
            assert!(read(&changed).is_err(), "bit {} of byte {}", bit % 8, bit / 8);
        }
    }
}

/// Bytes changed, put in, taken out, swapped, repeated and cut off, 10 000 times; half of
/// them with the checksums of the archive made right again.
#[test]
fn ten_thousand_mutations_are_refused() {
    let whole = small(Some(&key()));
    let mut random = Random(0x5EED_0008);
    let mut refused = 0;
    while refused < 10_000 {
        let mut bytes = whole.clone();
        for _ in 0..=random.below(4) {
            let at = random.below(bytes.len());
            match random.below(6) {
                0 => bytes[at] = u8::try_from(random.below(256)).unwrap(),
                1 => bytes.insert(at, u8::try_from(random.below(256)).unwrap()),
                2 => drop(bytes.remove(at)),
                3 => {
                    let other = random.below(bytes.len());
                    bytes.swap(at, other);
                }
                4 => {
                    let end = (at + 1 + random.below(40)).min(bytes.len());
                    let piece = bytes[at..end].to_vec();
                    bytes.splice(at..at, piece);
                }
                _ => bytes.truncate(at.max(1)),
            }
        }
        let mut mutated = bytes;
        if random.below(2) == 0 {
            // A hand that knows the archive: a member's data changed, all sums right.
            let all = members_of(&whole);
            let victim = random.below(all.len());
            let mut data = all[victim].data.to_vec();
            let at = random.below(data.len());
            data[at] ^= 1 << random.below(8);
            let again: Vec<Member<'_>> = all
                .iter()
                .enumerate()
                .map(
                    |(index, member)| if index == victim { Member { name: member.name, data: &data } } else { *member },
                )
                .collect();
            mutated = archive::write(&again);
        }
        if mutated != whole {
            assert!(read(&mutated).is_err(), "{mutated:02x?}");
            refused += 1;
        }
    }
}

/// A release that was put together by hand: manifest, then these members.
fn by_hand(manifest: &Manifest, list: &[(&str, &[u8])]) -> Vec<u8> {
    let bytes = manifest.to_bytes();
    let all: Vec<Member<'_>> = [(MANIFEST, &bytes[..])]
        .into_iter()
        .chain(list.iter().copied())
        .map(|(name, data)| Member { name, data })
        .collect();
    archive::write(&all)
}

#[test]
fn what_cannot_be_is_refused_by_name() {
    let whole = read(&small(None)).unwrap().manifest;
    let digest = whole.members["a.bin"].clone();
    let of = |change: &dyn Fn(&mut Manifest)| {
        let mut manifest = whole.clone();
        change(&mut manifest);
        manifest
    };
    let firmware: (&str, &[u8]) = ("a.bin", b"firmware");
    let changed = of(&|manifest| manifest.members.get_mut("a.bin").unwrap().sha256 = "0".repeat(64));
    let short = of(&|manifest| manifest.members.get_mut("a.bin").unwrap().size = 7);
    let missing = of(&|manifest| drop(manifest.members.insert("b.bin".into(), digest.clone())));
    let unused = of(&|manifest| manifest.stages[0].images[0].files[0].file = "b.bin".into());
    let two = of(&|manifest| {
        let again = entry("b.bin", &["r1"], &[]);
        manifest.stages[0].images.push(again);
        manifest.members.insert("b.bin".into(), digest.clone());
    });
    let path = of(&|manifest| {
        manifest.stages[0].images[0].files[0].file = "../a.bin".into();
        manifest.members = BTreeMap::from([("../a.bin".into(), digest.clone())]);
    });
    let newer = of(&|manifest| manifest.needs_vaka = Some("9.0.0".into()));
    let format = of(&|manifest| manifest.release = 2);
    let date = of(&|manifest| manifest.date = "2026-02-30".into());
    let build = of(&|manifest| manifest.stages[0].images[0].build = "TODO".into());
    let none = of(&|manifest| manifest.stages[0].images.clear());
    let both = of(&|manifest| {
        let other = entry("b.bin", &["r2"], &[]);
        manifest.stages[0].images.push(other);
        manifest.members.insert("b.bin".into(), digest.clone());
    });
    assert!(read(&by_hand(&both, &[firmware, ("b.bin", b"firmware")])).is_ok());
    let cases: [(&str, Vec<u8>, &str); 17] = [
        ("another order", by_hand(&both, &[("b.bin", b"firmware"), firmware]), "another place in the file"),
        ("another content", by_hand(&whole, &[("a.bin", b"firmwarf")]), "'a.bin' does not match the manifest"),
        ("another digest", by_hand(&changed, &[firmware]), "'a.bin' does not match the manifest"),
        ("another size", by_hand(&short, &[firmware]), "'a.bin' does not match the manifest"),
        ("a member too many", by_hand(&whole, &[firmware, ("b.bin", b"x")]), "'b.bin' is not in its manifest"),
        ("a member too few", by_hand(&whole, &[]), "names 'a.bin', which is missing"),
        (
            "a member without use",
            by_hand(&missing, &[firmware, ("b.bin", b"firmware")]),
            "'b.bin' is not in its manifest",
        ),
        ("a use without a member", by_hand(&unused, &[firmware]), "names 'b.bin'"),
        (
            "two images for one purpose",
            by_hand(&two, &[firmware, ("b.bin", b"firmware")]),
            "two images for variant r1, build standard: 'a.bin' and 'b.bin'",
        ),
        ("a path that leads out", by_hand(&path, &[("../a.bin", b"firmware")]), "'../a.bin'"),
        ("a newer Vaka", by_hand(&newer, &[firmware]), "requires Vaka 9.0.0; this is 0.1.0"),
        ("another format", by_hand(&format, &[firmware]), "format 2"),
        ("no such day", by_hand(&date, &[firmware]), "'2026-02-30'"),
        ("a placeholder", by_hand(&build, &[firmware]), "without file, variant or build"),
        ("a stage with nothing", by_hand(&none, &[firmware]), "a stage without images"),
        ("no manifest", archive::write(&[Member { name: "a.bin", data: b"x" }]), "first member is not release.json"),
        ("another archive", b"PK\x05\x06 and no more".to_vec(), "it is not a zip archive"),
    ];
    for (what, bytes, words) in cases {
        let error = read(&bytes).map(|_| ()).expect_err(what).to_string();
        assert!(error.contains(words), "{what}: {error}");
    }
}

#[test]
fn a_signature_is_whole_and_its_keys_or_there_is_none() {
    let bytes = small(Some(&key()));
    let release = read(&bytes).unwrap();
    assert_eq!(release.signer.as_ref(), Some(&key().public()));
    let all = members_of(&bytes);
    let other = PrivateKey::from_random([43; 32]);
    let (pem, signature) = (other.public().to_pem().unwrap(), other.sign(b"something else"));
    let with = |name: &str, data: &[u8]| {
        let replaced: Vec<Member<'_>> =
            all.iter().map(|member| if member.name == name { Member { data, ..*member } } else { *member }).collect();
        archive::write(&replaced)
    };
    let without = |name: &str| archive::write(&all.iter().filter(|m| m.name != name).copied().collect::<Vec<_>>());
    assert!(matches!(read(&with(SIGNER, pem.as_bytes())), Err(ReleaseError::Signature(_))));
    assert!(matches!(read(&with(SIGNATURE, &signature)), Err(ReleaseError::Signature(_))));
    assert!(matches!(read(&with(SIGNATURE, b"short")), Err(ReleaseError::Signature(_))));
    assert!(matches!(read(&with(SIGNER, format!("{pem}\n").as_bytes())), Err(ReleaseError::Key(_))));
    assert_eq!(read(&without(SIGNER)).unwrap_err(), ReleaseError::HalfSigned);
    assert_eq!(read(&without(SIGNATURE)).unwrap_err(), ReleaseError::HalfSigned);
    // Both removed: the release is complete and unsigned.
    let unsigned = members_of(&bytes);
    let kept: Vec<Member<'_>> = unsigned.into_iter().filter(|m| m.name != SIGNER && m.name != SIGNATURE).collect();
    assert_eq!(read(&archive::write(&kept)).unwrap().signer, None);
}

/// Archives of other programs: compressed, with a duplicate name, with wrong sizes.
#[test]
fn archives_of_other_programs_are_refused_with_the_members_name() {
    let member = |name: &str, method: u16, packed: u32, plain: u32, data: &[u8]| {
        let mut bytes = b"PK\x03\x04\x14\0\0\0".to_vec();
        bytes.extend(method.to_le_bytes());
        bytes.extend([0, 0, 0x21, 0]);
        bytes.extend(crc::Crc::<u32>::new(&crc::CRC_32_ISO_HDLC).checksum(data).to_le_bytes());
        bytes.extend(packed.to_le_bytes());
        bytes.extend(plain.to_le_bytes());
        bytes.extend(u16::try_from(name.len()).unwrap().to_le_bytes());
        bytes.extend([0, 0]);
        bytes.extend(name.as_bytes());
        bytes.extend(data);
        bytes
    };
    let twice = [member("a", 0, 1, 1, b"x"), member("a", 0, 1, 1, b"x")].concat();
    let cases = [
        (member("a.bin", 8, 1, 1, b"x"), ArchiveError::Packed("a.bin".into())),
        (member("a.bin", 0, 1, 0x4000_0000, b"x"), ArchiveError::Sizes("a.bin".into(), 0x4000_0000, 1)),
        (member("a.bin", 0, 9, 9, b"x"), ArchiveError::Cut(String::new())),
        (member("/etc/passwd", 0, 1, 1, b"x"), ArchiveError::BadName("/etc/passwd".into())),
        (member("..\\a", 0, 1, 1, b"x"), ArchiveError::BadName("..\\a".into())),
        (twice, ArchiveError::Twice("a".into())),
    ];
    for (bytes, error) in cases {
        assert_eq!(archive::index(&bytes), Err(error));
    }
}

/// Each release is whole as a file; what is in it does not go together.
#[test]
fn what_does_not_go_together_is_found_with_stage_and_file() {
    let sheet = Sheet::parse("tern.toml", TERN).unwrap();
    let files: &[(&str, &[u8])] =
        &[("r1.hex", R1_HEX), ("r2.hex", R2_HEX), ("loader.hex", LOADER_HEX), ("r1.bin", R1_BIN)];
    let found = |stages: Vec<Stage>| {
        let used: Vec<&str> =
            stages.iter().flat_map(|s| &s.images).flat_map(|i| &i.files).map(|file| file.file.as_str()).collect();
        let used: Vec<(&str, &[u8])> = files.iter().filter(|(name, _)| used.contains(name)).copied().collect();
        let bytes = Release::write(manifest(stages), &members(&used), None).unwrap();
        let list = inconsistencies(&read(&bytes).unwrap(), &sheet);
        list.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n")
    };
    let app = |images| stage("App", None, images);
    let boot = |facts: &[(&str, &str)]| stage("Boot", Some("loader"), vec![entry("loader.hex", &["r1"], facts)]);
    let r1 = || entry("r1.hex", &["r1"], &[]);
    assert_eq!(found(vec![app(vec![r1(), entry("r2.hex", &["r2"], &[])])]), "");
    assert_eq!(found(vec![boot(&[("hand-over", "0x0A002400")]), app(vec![r1()])]), "");
    let crystal = |value: &str| entry("r1.hex", &["r1"], &[("crystal", value)]);
    let mut based = entry("r1.bin", &["r1"], &[]);
    based.files[0].at = Some(vaka_image::address::Address::new(0x0A00_3000));
    let cases = [
        (vec![app(vec![entry("r1.hex", &["r2"], &[])])], "stage 'App', r1.hex: does not fit variant 'r2'"),
        (vec![app(vec![entry("r1.hex", &["r1", "r2"], &[])])], "does not fit variant 'r2'"),
        (vec![app(vec![entry("r1.hex", &["r9"], &[])])], "no variant 'r9' in this stage"),
        (vec![app(vec![entry("r1.bin", &["r1"], &[])])], "'r1.bin'"),
        (vec![app(vec![based])], "does not fit variant 'r1': start address 0x0A00_3000"),
        (vec![stage("Boot", Some("lodaer"), vec![r1()])], "the sheet has no stage 'lodaer'"),
        (
            vec![boot(&[("hand-over", "0x0A003000")]), app(vec![r1()])],
            "stage 'Boot' hands over at 0x0A003000 on variant 'r1'",
        ),
        (
            vec![boot(&[("crystal", "12 MHz")]), app(vec![crystal("8 MHz")])],
            "is for crystal 8 MHz; stage 'Boot' is for 12 MHz",
        ),
        (vec![app(vec![Entry { part: Some("wing".into()), ..r1() }])], "variant 'r1' does not belong to part 'wing'"),
        (vec![stage("App", None, vec![entry("loader.hex", &["r1"], &[])])], "does not fit variant 'r1'"),
    ];
    for (stages, words) in cases {
        let list = found(stages);
        assert!(list.contains(words), "'{words}' is not in: {list}");
    }
}

/// The stamp of an image is its builder's statement, the manifest its
/// packer's: they must be the same.
#[test]
fn a_stamp_that_says_something_else_is_found() {
    let sheet = Sheet::parse("tern.toml", TERN).unwrap();
    let plain = vaka_image::read(R1_HEX, ReadOptions::default()).unwrap();
    let found = |said: stamp::StampFields, facts: &[(&str, &str)]| {
        let stamped = hex::write(&stamp::append(&plain, &said).unwrap());
        let stages = vec![stage("App", None, vec![entry("r1.hex", &["r1"], facts)])];
        let bytes = Release::write(manifest(stages), &members(&[("r1.hex", &stamped)]), None).unwrap();
        let list = inconsistencies(&read(&bytes).unwrap(), &sheet);
        list.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n")
    };
    let text = stamp::StampFields::default;
    let fact = |value: &str| stamp::StampFields { facts: vec![("bus".into(), value.into())], ..text() };
    let build = |name: &str| stamp::StampFields { build: Some(name.into()), ..text() };
    assert_eq!(found(fact("48 MHz"), &[("bus", "48000000")]), "");
    assert_eq!(found(build(STANDARD), &[]), "");
    assert!(found(fact("48 MHz"), &[("bus", "24 MHz")]).contains("its stamp has bus 48 MHz, the manifest 24 MHz"));
    assert!(found(build("quiet"), &[]).contains("its stamp has build quiet, the manifest standard"));
    let heron = stamp::StampFields { product: Some("heron".into()), ..text() };
    assert!(found(heron, &[]).contains("its stamp has product heron, the manifest tern"));
    let version = |version: &str| stamp::StampFields { version: Some(version.into()), ..text() };
    assert_eq!(found(version("1.5.0"), &[]), "");
    assert!(found(version("1.4.0"), &[]).contains("its stamp has version 1.4.0, the manifest 1.5.0"));
    let part = stamp::StampFields { part: Some("display".into()), ..text() };
    assert!(found(part, &[]).contains("its stamp has part display, the manifest none"));
    let r2 = stamp::StampFields { variants: vec!["r2".into()], ..text() };
    assert!(found(r2, &[]).contains("its stamp has variant r2, the manifest r1"));
}

/// One stage may hold several images, each at its own address; any of them that is
/// missing or is not where it belongs is found.
#[test]
fn a_stage_may_hold_several_images() {
    let text = TERN.replace("images = [\"loader\"]", "images = [\"loader\", \"application\"]").replace(
        "stage = \"loader\"\nid = \"1209:0002\"\nvariants = [\"r1\", \"r2\"]\nmemory = \"Tide Flash\"\nwrites = [\"bootloader\"]",
        "stage = \"loader\"\nid = \"1209:0002\"\nvariants = [\"r1\", \"r2\"]\nmemory = \"Tide Flash\"\nwrites = [\"bootloader\", \"application\"]",
    );
    let sheet = Sheet::parse("tern.toml", &text).unwrap();
    let found = |files: &[(&str, &[u8])]| {
        let mut image = entry(files[0].0, &["r1"], &[]);
        image.files = files.iter().map(|(name, _)| File { file: (*name).into(), at: None, region: None }).collect();
        let bytes = Release::write(manifest(vec![stage("All", Some("loader"), vec![image])]), &members(files), None);
        let list = inconsistencies(&read(&bytes.unwrap()).unwrap(), &sheet);
        list.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n")
    };
    assert_eq!(found(&[("loader.hex", LOADER_HEX), ("r1.hex", R1_HEX)]), "");
    let found_one = found(&[("loader.hex", LOADER_HEX)]);
    assert!(found_one.contains("region 'application'"), "{found_one}");
    assert!(found(&[("loader.hex", LOADER_HEX), ("r2.hex", R2_HEX)]).contains("does not fit"));
}

proptest::proptest! {
    /// Whatever a file holds, it is read or refused.
    #[test]
    fn any_bytes_are_refused_quietly(bytes in proptest::collection::vec(proptest::num::u8::ANY, 0..300)) {
        proptest::prop_assert!(read(&bytes).is_err());
        let headed = [b"PK\x03\x04", &bytes[..]].concat();
        proptest::prop_assert!(read(&headed).is_err());
    }

    /// So is any manifest, in an archive that is as it should be.
    #[test]
    fn any_manifest_is_read_as_it_stands_or_refused(text in "\\PC{0,200}", at in 0_usize..400, cut in 0_usize..40) {
        let whole = String::from_utf8(read(&small(None)).unwrap().manifest.to_bytes()).unwrap();
        let from = whole.char_indices().map(|(at, _)| at).nth(at % whole.chars().count()).unwrap();
        let to = whole.char_indices().map(|(at, _)| at).find(|at| *at >= from + cut).unwrap_or(whole.len());
        let changed = format!("{}{text}{}", &whole[..from], &whole[to..]);
        let bytes = archive::write(&[
            Member { name: MANIFEST, data: changed.as_bytes() },
            Member { name: "a.bin", data: b"firmware" },
        ]);
        // The parsed release equals the archive.
        if let Ok(release) = read(&bytes) {
            proptest::prop_assert_eq!(release.manifest.to_bytes(), changed.into_bytes());
        }
    }
}

/// A manifest that would be accepted, but for one value.
#[test]
#[allow(clippy::too_many_lines)] // a table
fn a_manifest_with_a_wrong_value_is_refused() {
    use vaka_core::release::manifest::{Digest, ExternalStep, Loss, ManifestError};
    let good = || {
        let images =
            vec![entry("a.bin", &["r1"], &[]), Entry { build: "quiet".into(), ..entry("a.bin", &["r1"], &[]) }];
        let mut good = manifest(vec![stage("Application", None, images)]);
        good.members.insert("a.bin".into(), Digest { size: 8, sha256: "0".repeat(64) });
        good.loses.push(Loss { id: "history".into(), what: "the stored readings".into() });
        good.needs_vaka = Some("0.1.0".into());
        good
    };
    assert_eq!(good().check(), Ok(()));
    let loss = |id: &str, what: &str| Loss { id: id.into(), what: what.into() };
    let external = |shows: &str| ExternalStep {
        tool: "a programmer".into(),
        action: "Write it.".into(),
        why: None,
        see: None,
        shows: Some(shows.into()),
    };
    type Change = Box<dyn Fn(&mut Manifest)>;
    let cases: Vec<(&str, Change, &str)> = vec![
        ("an empty product", Box::new(|m| m.product.clear()), "an invalid product: ''"),
        ("a product with a blank", Box::new(|m| m.product = "tern x".into()), "an invalid product"),
        ("a placeholder", Box::new(|m| m.product = "XXXX".into()), "an invalid product"),
        ("a long channel", Box::new(|m| m.channel = "c".repeat(65)), "an invalid channel"),
        ("a version of letters", Box::new(|m| m.version = "blue".into()), "an invalid version: 'blue'"),
        ("a version with a blank", Box::new(|m| m.version = "1.5 0".into()), "an invalid version"),
        ("a version with a control character", Box::new(|m| m.version = "1.5\u{7}".into()), "an invalid version"),
        (
            "an oldest version above its own",
            Box::new(|m| m.updates_from = Some("1.5.1".into())),
            "an invalid oldest version above its own: '1.5.1'",
        ),
        ("a needed version of letters", Box::new(|m| m.needs_vaka = Some("new".into())), "an invalid version: 'new'"),
        ("a date that is none", Box::new(|m| m.date = "2026-02-30".into()), "an invalid date"),
        ("a loss without words", Box::new(move |m| m.loses.push(loss("settings", ""))), "an invalid loss: 'settings'"),
        ("a loss twice", Box::new(move |m| m.loses.push(loss("history", "more"))), "an invalid loss: 'history'"),
        ("a loss whose id is none", Box::new(move |m| m.loses.push(loss("a b", "more"))), "an invalid loss: 'a b'"),
        (
            "a short digest",
            Box::new(|m| m.members.get_mut("a.bin").unwrap().sha256.truncate(63)),
            "an invalid member: 'a.bin'",
        ),
        (
            "a digest in capitals",
            Box::new(|m| m.members.get_mut("a.bin").unwrap().sha256 = "A".repeat(64)),
            "an invalid member: 'a.bin'",
        ),
        ("no stage", Box::new(|m| m.stages.clear()), "no stage at all"),
        ("a stage without images", Box::new(|m| m.stages[0].images.clear()), "a stage without images"),
        ("a stage without a name", Box::new(|m| m.stages[0].name.clear()), "a stage with an invalid name"),
        (
            "a sign that is not an id",
            Box::new(move |m| m.stages[0].external = Some(external("here"))),
            "'here' is not a USB id",
        ),
        ("an image without files", Box::new(|m| m.stages[0].images[0].files.clear()), "without file, variant or build"),
        (
            "an image without variants",
            Box::new(|m| m.stages[0].images[0].variants.clear()),
            "without file, variant or build",
        ),
        (
            "an image without a build",
            Box::new(|m| m.stages[0].images[0].build.clear()),
            "without file, variant or build",
        ),
        ("two images for one purpose", Box::new(|m| m.stages[0].images[1].build = STANDARD.into()), "variant r1"),
        ("a member that is missing", Box::new(|m| m.notes = Some("NOTES.md".into())), "NOTES.md"),
        (
            "a member that nothing names",
            Box::new(|m| _ = m.members.insert("b.bin".into(), m.members["a.bin"].clone())),
            "b.bin",
        ),
    ];
    for (what, change, words) in cases {
        let mut manifest = good();
        change(&mut manifest);
        let error: ManifestError = manifest.check().expect_err(what);
        assert!(error.to_string().contains(words), "{what}: {error}");
    }
    let mut fine = good();
    fine.stages[0].external = Some(external("1209:00F?"));
    assert_eq!(fine.check(), Ok(()));
}

/// The image of a variant is that of the build, or else the standard one.
#[test]
fn a_build_that_has_no_image_of_its_own_takes_the_standard_one() {
    let of = |build: &str, file: &str, variants: &[&str]| Entry { build: build.into(), ..entry(file, variants, &[]) };
    let images =
        vec![of("quiet", "q.bin", &["r1"]), of(STANDARD, "s.bin", &["r1", "r2"]), of("loud", "l.bin", &["r2"])];
    let manifest = manifest(vec![stage("Application", None, images)]);
    assert_eq!(manifest.builds(), [STANDARD, "loud", "quiet"]);
    let file = |variant, build| manifest.stages[0].image(variant, build).map(|entry| entry.files[0].file.as_str());
    for (variant, build, wanted) in [
        ("r1", "quiet", Some("q.bin")),
        ("r2", "quiet", Some("s.bin")),
        ("r1", STANDARD, Some("s.bin")),
        ("r2", "loud", Some("l.bin")),
        ("r1", "unknown", Some("s.bin")),
        ("r3", STANDARD, None),
    ] {
        assert_eq!(file(variant, build), wanted, "{variant} {build}");
    }
    let facts = entry("a.bin", &["r1"], &[("crystal", "8 MHz")]).facts();
    assert_eq!(facts.iter().map(|fact| (&fact.name[..], &fact.value[..])).collect::<Vec<_>>(), [("crystal", "8 MHz")]);
}

/// The files of a release are opened as the sheet says: in their regions, without the maker's wrapper, or
/// as they are.
#[test]
fn the_files_of_a_release_are_opened_by_the_sheet() {
    let wrapper = "[[wrapper]]\nname = \"parcel\"\nmagic = \"53 4B 50\"\nheader = 8\nlength = { offset = 4 }\n";
    let further = "[[variant.further_image]]\nregion = \"settings\"\n\n[variant.image]";
    let (head, tail) = TERN.split_once("[[variant]]").unwrap();
    let text = format!("{head}{wrapper}\n[[variant]]{}", tail.replacen("[variant.image]", further, 1));
    let sheet = Sheet::parse("tern.toml", &text).unwrap();
    let variant = sheet.variant("r1").unwrap();
    let payload: Vec<u8> = (0..64).collect();
    let parcel = [b"SKP\0", &64u32.to_le_bytes()[..], &payload].concat();
    let mut both = entry("app.hex", &["r1"], &[]);
    both.files.push(File { file: "set.bin".into(), at: None, region: Some("settings".into()) });
    let made = manifest(vec![stage("Application", None, vec![both])]);
    let list = members(&[("app.hex", R1_HEX), ("set.bin", &parcel)]);
    let release = read(&Release::write(made.clone(), &list, None).unwrap()).unwrap();
    let image = release.image(&release.manifest.stages[0].images[0], &sheet, variant).unwrap();
    let settings = variant.regions.iter().find(|region| region.name == "settings").unwrap().span;
    assert_eq!(image.parts_in(settings).next().unwrap().1, &payload[..]);
    assert_eq!(image.len(), R1_BIN.len() as u64 + 64);
    // A damaged parcel, and a region beside an address.
    let list = members(&[("app.hex", R1_HEX), ("set.bin", &parcel[..60])]);
    let release = read(&Release::write(made.clone(), &list, None).unwrap()).unwrap();
    let error = release.image(&release.manifest.stages[0].images[0], &sheet, variant).unwrap_err().to_string();
    assert!(error.contains("'set.bin'") && error.contains("64 more bytes"), "{error}");
    let mut wrong = made;
    wrong.stages[0].images[0].files[1].at = Some(Address::new(0x0A02_3400));
    assert!(Release::write(wrong, &list, None).unwrap_err().to_string().contains("or an address beside it"));
    // A text for a disk.
    let heron = "sheet = 1\n[product]\nid = \"tern\"\nname = \"T\"\nmaker = \"S\"\n[application]\nid = \"1209:0007\"\n\
                 [[variant]]\nid = \"t\"\nname = \"T\"\nany_file = { most = 99 }\n[[route]]\nkind = \"volume\"\n\
                 takes = \"file\"\nid = \"1209:0007\"\nlabel = \"HERON\"\nfile = \"SHOW.TXT\"\nleave = \"nothing\"\n";
    let sheet = Sheet::parse("text.toml", heron).unwrap();
    let made = manifest(vec![stage("Text", None, vec![entry("a.txt", &["t"], &[])])]);
    let release = read(&Release::write(made, &members(&[("a.txt", b"high water")]), None).unwrap()).unwrap();
    assert_eq!(inconsistencies(&release, &sheet), []);
}

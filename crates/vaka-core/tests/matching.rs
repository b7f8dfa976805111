//! Which image fits which unit: the rules, on the demo's sheet and files.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

use vaka_base::version::ReleaseNumber;
use vaka_core::dfu::FunctionalDescriptor;
use vaka_core::matching::{MatchInput, Outcome, Phase, Source, Verdict, judge, named_part, names_part, rank_variants};
use vaka_core::memory::layout::Layout;
use vaka_core::plan::{KnownContent, Plan, PlanError, PlanInput, WriteLimits};
use vaka_core::sheet::{Sheet, Variant};
use vaka_core::unit::{DfuAlternate, DfuFacts, UnitFacts, UsbId};
use vaka_core::volume::{VolumeFacts, lines};
use vaka_image::address::Address;
use vaka_image::dfu_file::append_suffix;
use vaka_image::facts::Suffix;
use vaka_image::stamp;
use vaka_image::{Image, ReadOptions};

const TERN: &str = include_str!("../../../demo/sheets/tern.toml");
const R1: &[u8] = include_bytes!("../../../demo/firmware/out/tern-r1-1.5.0.hex");
const R2: &[u8] = include_bytes!("../../../demo/firmware/out/tern-r2-1.5.0.hex");

const R1_LAYOUT: &str = "@Tide Flash /0x0A000000/48*003Kg";
const R2_LAYOUT: &str = "@Tide Flash /0x0A000000/40*006Kg";

fn sheet() -> Sheet {
    Sheet::parse("tern.toml", TERN).unwrap()
}

fn image(bytes: &[u8]) -> Image {
    vaka_image::read(bytes, ReadOptions::default()).unwrap()
}

fn unit(product: u16) -> UnitFacts {
    UnitFacts {
        id: UsbId { vendor: 0x1209, product }.into(),
        release: ReleaseNumber(0x0140),
        maker: None,
        product: Some("Tern tide gauge".into()),
        serial: None,
        dfu: Vec::new(),
        volume: None,
        told: Vec::new(),
        lines: Vec::new(),
    }
}

fn booted(text: &str) -> UnitFacts {
    let alternate = DfuAlternate { number: 0, name: Some(text.into()), layout: Layout::parse(text) };
    let functional = FunctionalDescriptor::parse(&[9, 0x21, 0x0B, 0xFF, 0, 0, 4, 0x1A, 1]);
    let dfu = DfuFacts { interface: 0, in_dfu_mode: true, alternates: vec![alternate], functional };
    UnitFacts { dfu: vec![dfu], ..unit(2) }
}

fn verdict(unit: Option<&UnitFacts>, bytes: &[u8], label: Option<&str>, consents: &[&str]) -> Verdict {
    let sheet = sheet();
    let image = image(bytes);
    let consents: Vec<String> = consents.iter().map(|id| (*id).to_owned()).collect();
    let label = label.map(|label| sheet.variant(label).unwrap());
    judge(&MatchInput { unit, label, consents: &consents, ..MatchInput::new(&sheet, &image) })
}

/// The deciding evidence of each case, readable as a table.
#[test]
fn what_fits_what() {
    use Outcome::{Conflicts, Fits, Undecided};
    let doubled = R1_LAYOUT.replace("48*", "96*");
    let read_only = R1_LAYOUT.replace("Kg", "Ka");
    let half_writable = "@Tide Flash /0x0A000000/04*003Kg,44*003Ka";
    let smaller = R1_LAYOUT.replace("48*", "24*");
    let elsewhere = R1_LAYOUT.replace("0x0A000000", "0x08000000");
    let renamed = R1_LAYOUT.replace("Tide Flash", "Options");
    let strange = UnitFacts { id: UsbId { vendor: 0x1209, product: 9 }.into(), ..booted(R1_LAYOUT) };
    let other_name = UnitFacts { product: Some("Puffin".into()), ..unit(1) };
    let r1 = booted(R1_LAYOUT);
    let r2 = booted(R2_LAYOUT);
    type Row<'a> = (&'a UnitFacts, &'a [u8], Option<&'a str>, Outcome, &'a str);
    #[rustfmt::skip]
    let cases: &[Row<'_>] = &[
        // unit                       file label       verdict    because
        (&r1,                         R1, None,       Undecided, "shared by r1 and r2: does not decide"),
        (&r1,                         R1, Some("r1"), Fits,      "the flash of r1"),
        (&r1,                         R1, Some("r2"), Conflicts, "r2 has 40 sectors of 6 KiB"),
        (&r1,                         R2, Some("r1"), Conflicts, "r1's region 'application' starts at 0x0A00_2400"),
        (&r1,                         R2, Some("r2"), Conflicts, "r2 has 40 sectors of 6 KiB"),
        // No label, and the file fits no variant that this unit can be.
        (&r1,                         R2, None,       Conflicts, "r1's region 'application' starts at 0x0A00_2400"),
        (&r2,                         R2, Some("r2"), Fits,      "the flash of r2"),
        (&r2,                         R2, None,       Undecided, "does not decide"),
        (&booted(&doubled),           R1, Some("r1"), Conflicts, "some chips report their whole family's"),
        (&booted(&read_only),         R1, Some("r1"), Conflicts, "not writable"),
        (&booted(half_writable),      R1, Some("r1"), Conflicts, "not writable"),
        (&booted(&smaller),           R1, Some("r1"), Conflicts, "r1 has 48 sectors of 3 KiB"),
        (&booted(&elsewhere),         R1, Some("r1"), Conflicts, "r1 has 48 sectors of 3 KiB"),
        (&booted(&renamed),           R1, Some("r1"), Conflicts, "the route in the sheet writes that memory"),
        (&booted("Tide Flash"),       R1, Some("r1"), Conflicts, "the unit does not support DFU with memory addresses"),
        (&unit(2),                    R1, Some("r1"), Conflicts, "the route in the sheet is DFU"),
        (&strange,                    R1, Some("r1"), Conflicts, "not an id of this product"),
        (&strange,                    R1, None,       Conflicts, "not an id of this product"),
        (&unit(1),                    R1, None,       Undecided, "shared by r1 and r2"),
        (&unit(1),                    R1, Some("r1"), Fits,      "all of it inside region 'application'"),
        (&unit(1),                    R2, Some("r1"), Conflicts, "outside r1's RAM"),
        (&other_name,                 R1, Some("r1"), Conflicts, "the sheet's is \"Tern tide gauge\""),
    ];
    for (index, (unit, file, label, outcome, because)) in cases.iter().enumerate() {
        let found = verdict(Some(unit), file, *label, &[]);
        assert_eq!(found.outcome, *outcome, "case {index}: {found:#?}");
        assert!(found.evidence.iter().any(|e| e.means.contains(because)), "case {index}, '{because}': {found:#?}");
        // Only the update mode can have the last word, and only a fit approves.
        assert_eq!(found.phase == Phase::Final, unit.id.to_string() == "1209:0002", "case {index}");
        assert_eq!(found.approval().is_some(), *outcome == Fits && unit.id.to_string() == "1209:0002", "case {index}");
    }
}

#[test]
fn one_conflict_refuses_and_only_its_own_agreement_overrides_it() {
    let doubled = booted(&R1_LAYOUT.replace("48*", "96*"));
    assert_eq!(verdict(Some(&doubled), R1, Some("r1"), &[]).missing_consents[0].id, "larger-memory");
    let consents = verdict(Some(&doubled), R1, Some("r1"), &["larger-memory"]);
    assert_eq!((consents.outcome, consents.consents.len()), (Outcome::Fits, 1));
    assert_eq!(verdict(Some(&doubled), R1, Some("r1"), &["older-version"]).outcome, Outcome::Conflicts);
    // Beside a hard conflict no agreement is even offered.
    let hard = verdict(Some(&doubled), R2, Some("r1"), &["larger-memory"]);
    assert_eq!((hard.outcome, hard.missing_consents.len()), (Outcome::Conflicts, 0));
}

/// The demo image with one byte changed, as a binary at its own address.
fn changed(offset: usize, value: u8) -> Image {
    let mut bytes = include_bytes!("../../../demo/firmware/out/tern-r1-1.5.0.bin").to_vec();
    bytes[offset] = value;
    vaka_image::read(
        &bytes,
        ReadOptions { at: Some(vaka_image::address::Address::new(0x0A00_2400)), ..ReadOptions::default() },
    )
    .unwrap()
}

#[test]
fn start_vectors_and_marks_of_a_file_are_checked() {
    let sheet = sheet();
    // Offsets: 0 stack pointer, 4 reset handler, 0x40 board word.
    for (offset, value, because) in [
        (0, 0x00, ""), // still inside the RAM
        (1, 0x51, "outside r1's RAM, 0x2000_0000..0x2000_5000"),
        (3, 0x10, "outside r1's RAM"),
        (4, 0x88, "bit 0 is not set"),
        (6, 0x01, "outside the image; it was linked for another start address"),
        (7, 0x08, "outside r1's region 'application'; it was linked for another start address"),
        (0x43, b'2', "board word \"TRN2\": r1's is \"TRN1\""),
        (0x43, 0xFF, "board word 54 52 4E FF: r1's is \"TRN1\""),
    ] {
        let choices = rank_variants(&sheet, &changed(offset, value));
        let against = choices[0].against.clone().unwrap_or_default();
        assert!(against.contains(because) && against.is_empty() == because.is_empty(), "{offset:#x}: {against}");
    }
    let short = vaka_image::read(b":04240000DEADBEEFA0\n:00000001FF", ReadOptions::default()).unwrap();
    assert!(rank_variants(&sheet, &short)[0].against.is_some());
}

/// A stamp names product and variants, where the image starts, and a digest of its bytes.
#[test]
fn a_stamp_speaks_for_the_image_that_it_was_made_for() {
    let sheet = sheet();
    let r1 = changed(0, 0x00);
    let stamped = |product: Option<&str>, variants: &[&str]| {
        let variants = variants.iter().map(|id| (*id).to_owned()).collect();
        stamp::append(&r1, &stamp::StampFields { product: product.map(str::to_owned), variants, ..Default::default() })
            .unwrap()
    };
    let good = stamped(Some("tern"), &["r1"]);
    let sealed = stamp::seal(&good).unwrap();
    let flipped = sealed.patched(r1.start().checked_add(0x100).unwrap(), &[0xA5, 0xA5]);
    let moved = good.moved(r1.start().checked_add(0x400).unwrap()).unwrap();
    #[rustfmt::skip]
    let cases = [
        // image                                 conflict  because
        (&r1,                                    None,        ""),
        (&good,                                  Some(false), "its digest is right"),
        (&sealed,                                Some(false), "its digest is right"),
        (&stamped(None, &[]),                    Some(false), "its digest is right"),
        (&stamped(Some("tern"), &["r2", "r1"]),  Some(false), "its digest is right"),
        (&stamped(Some("gannet"), &["r1"]),      Some(true),  "the product in the sheet is tern"),
        (&stamped(Some("tern"), &["r2"]),        Some(true),  "r1 is not among them"),
        (&moved,                                 Some(true),  "it states that the image starts at 0x0A00_2400"),
        (&flipped,                               Some(true),  "its digest differs from the image's: changed or truncated after it was sealed"),
    ];
    for (number, (image, conflict, because)) in cases.into_iter().enumerate() {
        let verdict = judge(&MatchInput { label: sheet.variant("r1"), ..MatchInput::new(&sheet, image) });
        let found = verdict.evidence.iter().find(|evidence| evidence.source == Source::Stamp);
        assert_eq!(found.map(|evidence| evidence.is_conflict()), conflict, "case {number}: {found:?}");
        assert!(found.is_none_or(|evidence| evidence.means.contains(because)), "case {number}: {found:?}");
    }
}

/// A unit in update mode, written whatever it holds.
fn job<'a>(sheet: &'a Sheet, variant: &'a Variant, image: &'a Image, geometry: WriteLimits<'a>) -> PlanInput<'a> {
    let (needs_entry, erase_all, content) = (false, false, KnownContent::Rewrite);
    PlanInput { sheet, variant, route: &variant.routes[0], image, geometry, needs_entry, erase_all, keep: &[], content }
}

#[test]
fn a_plan_is_complete_and_needs_the_approval_of_its_own_variant() {
    let sheet = sheet();
    let image = image(R1);
    let r1 = sheet.variant("r1").unwrap();
    let geometry =
        WriteLimits { sectors: &r1.flash, block_size: Some(1024), can_read: true, attributes: None, offer: None };
    let job = PlanInput { needs_entry: true, ..job(&sheet, r1, &image, geometry) };
    let plan = Plan::draft(&job).unwrap();
    let steps: Vec<String> = plan.steps.iter().map(ToString::to_string).collect();
    let wanted = [
        "put the unit into update mode (manual step), until 1209:0002 appears",
        "identify the unit again and make the final verdict; no change before that",
        "erase 7 sectors, 21 KiB, 0x0A00_2400..0x0A00_7800",
        "write 21 504 bytes in 1 run, 21 blocks of 1 KiB",
        "read 21 504 bytes back and compare each with the written byte",
        "leave update mode and start at 0x0A00_0000",
        "wait up to 10 s for it to return as 1209:0001, with version 1.5.0",
    ];
    assert_eq!(steps, wanted);
    assert_eq!(plan.untouched, ["bootloader", "settings"]);
    let approval = |unit: &UnitFacts, file, label| verdict(Some(unit), file, Some(label), &[]).approval().unwrap();
    let of_r2 = approval(&booted(R2_LAYOUT), R2, "r2");
    assert!(matches!(plan.clone().approve(&of_r2), Err(PlanError::OtherVariant(_))));
    assert!(plan.approve(&approval(&booted(R1_LAYOUT), R1, "r1")).is_ok());
}

#[test]
fn a_plan_never_erases_beside_its_regions() {
    let sheet = sheet();
    let r1 = sheet.variant("r1").unwrap();
    let coarse = Layout::parse("@Tide Flash/0x0A000000/9*016Kg").unwrap().map;
    let geometry =
        WriteLimits { sectors: &coarse, block_size: Some(1024), can_read: true, attributes: None, offer: None };
    let image = image(R1);
    let job = job(&sheet, r1, &image, geometry);
    assert!(matches!(Plan::draft(&job), Err(PlanError::Spills { .. })), "the first sector holds the bootloader too");
    let none = WriteLimits { block_size: Some(0), sectors: &r1.flash, can_read: true, attributes: None, offer: None };
    assert_eq!(Plan::draft(&PlanInput { geometry: none, ..job }).unwrap_err(), PlanError::NoBlockSize);
}

/// DFU 1.1, appendix B: 0xFFFF stands for any, in each field by itself. The ids
/// may be those of either mode.
#[test]
fn a_dfu_suffix_speaks_for_the_unit_that_it_names() {
    use Outcome::{Conflicts, Fits};
    let sheet = Sheet::parse("gannet.toml", include_str!("../../../demo/sheets/gannet.toml")).unwrap();
    let binary = include_bytes!("../../../demo/firmware/out/gannet-1.3.0.bin");
    let unit = |product, release| UnitFacts {
        release: ReleaseNumber(release),
        product: Some("Gannet hydrophone interface".into()),
        ..unit(product)
    };
    let (running, other_release) = (unit(3, 0x0120), unit(3, 0x0110));
    const ANY: u16 = 0xFFFF;
    #[rustfmt::skip]
    let cases = [
        // unit           vendor  product release agreed           verdict    because
        (&running,        0x1209, 3,      ANY,    "",              Fits,      "names 1209:0003"),
        (&running,        0x1209, 4,      ANY,    "",              Fits,      "names 1209:0004"),
        (&running,        0x1209, ANY,    ANY,    "",              Fits,      "names 1209:000"),
        (&running,        ANY,    3,      ANY,    "",              Fits,      "names 1209:0003"),
        (&running,        ANY,    ANY,    ANY,    "",              Fits,      "names no unit"),
        (&running,        0x1209, 3,      0x0120, "",              Fits,      "names 1209:0003"),
        (&other_release,  0x1209, 3,      0x0120, "",              Conflicts, "the unit's release number is 1.1.0"),
        (&other_release,  0x1209, 3,      0x0120, "other-release", Fits,      "the unit's release number is 1.1.0"),
        (&running,        0x1209, 7,      ANY,    "",              Conflicts, "g1's ids are 1209:0003 and 1209:0004"),
        (&running,        0x1209, 7,      ANY,    "other-release", Conflicts, "made for another unit"),
        (&running,        0x120A, ANY,    ANY,    "",              Conflicts, "made for another unit"),
    ];
    for (unit, vendor, product, release, consents, outcome, because) in cases {
        let mut file = binary.to_vec();
        append_suffix(&mut file, Suffix { release, product, vendor, version: 0x0100 });
        let options = ReadOptions { at: Some(Address::new(0x5000)), ..ReadOptions::default() };
        let image = vaka_image::read(&file, options).unwrap();
        let consents = [consents.to_owned()];
        let case = MatchInput { unit: Some(unit), consents: &consents, ..MatchInput::new(&sheet, &image) };
        let found = judge(&case);
        assert_eq!(found.outcome, outcome, "{vendor:x}:{product:x} {release:x}: {found:#?}");
        assert!(found.evidence.iter().any(|e| e.means.contains(because)), "{because}: {found:#?}");
    }
}

/// A unit with a disk: its content, the label given, and the deciding evidence.
#[test]
fn what_fits_what_disk() {
    use Outcome::{Conflicts, Fits};
    let sheet = Sheet::parse("petrel.toml", include_str!("../../../demo/sheets/petrel.toml")).unwrap();
    let pb1: &[u8] = include_bytes!("../../../demo/firmware/out/petrel-pb1-2.4.0.uf2");
    let disk = |board: &str| VolumeFacts {
        label: Some("PETREL".into()),
        texts: vec![("INFO_UF2.TXT".into(), lines(format!("UF2 Bootloader\r\nBoard-ID: {board}\r\n").as_bytes()))],
        families: vec![0x5EAB_D123],
        ..VolumeFacts::default()
    };
    let good = || disk("Petrel-PB1-r3");
    let bare = VolumeFacts { texts: Vec::new(), ..good() };
    let nameless = VolumeFacts { texts: vec![("INFO_UF2.TXT".into(), vec!["Model: x".into()])], ..good() };
    let other_label = VolumeFacts { label: Some("HOLIDAY".into()), ..good() };
    let no_label = VolumeFacts { label: None, ..good() };
    let mounted = |folder: &str| VolumeFacts { label: None, folder: Some(folder.into()), ..good() };
    let small_letters = VolumeFacts { label: Some("petrel".into()), ..good() };
    let protected = VolumeFacts { read_only: true, ..good() };
    let damaged = VolumeFacts { fault: Some("its boot sector is damaged".into()), ..good() };
    let other_chip = VolumeFacts { families: vec![7], ..good() };
    type Row<'a> = (&'a str, Option<VolumeFacts>, Option<&'a str>, Outcome, &'a str);
    let table: Vec<Row<'_>> = vec![
        ("its own board", Some(good()), None, Fits, "board information Petrel-PB1-r3: this is Petrel, board PB1"),
        ("the label agrees", Some(good()), Some("pb1"), Fits, "this is Petrel, board PB1"),
        ("the label contradicts", Some(good()), Some("pb2"), Conflicts, "board information Petrel-PB1-r3: pb2's is"),
        ("another board", Some(disk("Petrel-PB2-r1")), None, Conflicts, "board word \"PBA1\": pb2's is \"PBA2\""),
        ("a third board", Some(disk("Petrel-PB3-r1")), Some("pb1"), Conflicts, "Petrel-PB3-r1: pb1's is Petrel-PB1-r3"),
        ("nearly its board", Some(disk("petrel-pb1-r3")), Some("pb1"), Conflicts, "pb1's is Petrel-PB1-r3"),
        ("no board", Some(nameless), Some("pb1"), Conflicts, "board information no Board-ID"),
        ("no UF2 disk", Some(bare), Some("pb1"), Conflicts, "not the disk of a UF2 bootloader"),
        ("another disk", Some(other_label), None, Conflicts, "disk label HOLIDAY: pb1's update disk is PETREL"),
        ("no label", Some(no_label), None, Conflicts, "disk label none"),
        (
            "mounted, as desktops do",
            Some(mounted("/media/mate/PETREL")),
            None,
            Fits,
            "mounted at /media/mate/PETREL: pb1's",
        ),
        ("mounted elsewhere", Some(mounted("/mnt")), None, Fits, "this user cannot read it; the board information is"),
        ("FAT knows no case", Some(small_letters), None, Fits, "disk label petrel: pb1's update disk"),
        ("write-protected", Some(protected), None, Conflicts, "the unit reports that it is write-protected"),
        ("damaged", Some(damaged), Some("pb1"), Conflicts, "nothing is written to it"),
        ("another chip", Some(other_chip), None, Conflicts, "0x00000007: the installed application's"),
        ("no disk", None, Some("pb1"), Conflicts, "the route in the sheet writes to a disk"),
    ];
    for (what, volume, label, outcome, words) in table {
        let unit = UnitFacts { volume, product: None, ..unit(6) };
        let label = label.map(|label| sheet.variant(label).unwrap());
        let image = image(pb1);
        let case = MatchInput { unit: Some(&unit), label, ..MatchInput::new(&sheet, &image) };
        let verdict = judge(&case);
        assert_eq!(verdict.outcome, outcome, "{what}: {:?}", verdict.evidence);
        let said: Vec<String> = verdict.evidence.iter().map(|evidence| evidence.sentence()).collect();
        assert!(said.iter().any(|line| line.contains(words)), "{what}: {said:#?}");
    }
}

/// Statements of sheet, stamp and release beyond addresses, each changed in one place.
#[test]
#[allow(clippy::too_many_lines)] // a table
fn what_fits_what_by_facts_and_signs() {
    use Outcome::{Conflicts, Fits, Undecided};
    use vaka_core::matching::Claim;
    use vaka_core::sheet::Fact;
    let r1 = image(R1);
    let stamped = |name: &str, value: &str| {
        let text = stamp::StampFields { facts: vec![(name.into(), value.into())], ..stamp::StampFields::default() };
        stamp::append(&r1, &text).unwrap()
    };
    let elf = |machine: u16| {
        let mut bytes = include_bytes!("../../../demo/firmware/out/tern-r1-1.5.0.elf").to_vec();
        // e_machine. Source: System V ABI, figure 4-3.
        bytes[18..20].copy_from_slice(&machine.to_le_bytes());
        image(&bytes)
    };
    let claim = |product: &str, variants: &[&str], crystal: &str| Claim {
        product: product.into(),
        version: "1.5.0".into(),
        variants: variants.iter().map(|id| (*id).into()).collect(),
        facts: vec![Fact { name: "crystal".into(), value: crystal.into() }],
        losses: vec![("history".into(), "the history".into())],
        ..Claim::default()
    };
    let good = claim("tern", &["r1", "r2"], "8000000");
    let with = |from: &str, to: &str| {
        assert!(TERN.contains(from), "{from}");
        Sheet::parse("tern.toml", &TERN.replacen(from, to, 1)).unwrap()
    };
    let route = "kind = \"dfu\"\nid = \"1209:0002\"";
    let plain = sheet();
    let minimum_version = |version: &str| {
        with(
            "version = { offset = 0x4C }\n",
            &format!(
                "version = {{ offset = 0x4C }}\nminimum_version = {{ version = \"{version}\", why = \"it drifts\" }}\n"
            ),
        )
    };
    let named = |lines: &str| with(route, &format!("{lines}\n{route}"));
    let mut silent = booted(R1_LAYOUT);
    silent.product = None;
    let mut chip = booted(R1_LAYOUT);
    chip.serial = Some("T1-00217".into());
    let lose = ["lose-history".to_owned()];
    struct Row<'a> {
        what: &'a str,
        sheet: &'a Sheet,
        unit: &'a UnitFacts,
        image: Image,
        claim: Option<&'a Claim>,
        outcome: Outcome,
        words: &'a str,
    }
    let (low, high) = (minimum_version("1.5.0"), minimum_version("1.5.1"));
    let (maker, serial, other_serial) =
        (named("product = \"Tern tide gauge\""), named("serial = \"T?-*\""), named("serial = \"X*\""));
    let (release, other_release) = (named("release = \"1.4.0\""), named("release = \"2.0..2.9\""));
    let (other, wrong, not_ours) =
        (claim("tern", &["r2"], "8 MHz"), claim("tern", &["r1"], "9 MHz"), claim("heron", &["r1"], "8 MHz"));
    let boot = booted(R1_LAYOUT);
    // The demo's sheet, file and unit, where a case names no other.
    let base =
        || Row { what: "", sheet: &plain, unit: &boot, image: r1.clone(), claim: None, outcome: Fits, words: "" };
    let table = [
        Row {
            what: "a stamp with the board's crystal",
            image: stamped("crystal", "8 MHz"),
            outcome: Fits,
            words: "fact crystal 8 MHz: r1's, according to the stamp's",
            ..base()
        },
        Row {
            what: "a stamp with another crystal",
            image: stamped("crystal", "12 MHz"),
            outcome: Conflicts,
            words: "fact crystal 12 MHz: r1's crystal is 8 MHz",
            ..base()
        },
        Row {
            what: "an unknown fact",
            image: stamped("paint", "grey"),
            outcome: Fits,
            words: "the product sheet does not have it",
            ..base()
        },
        Row {
            what: "a bootloader that hands over elsewhere",
            image: stamped("hand-over", "0x0A003000"),
            outcome: Conflicts,
            words: "r1's hand-over is 0x0A00_2400",
            ..base()
        },
        Row {
            what: "built for Arm",
            image: elf(40),
            outcome: Fits,
            words: "machine Arm: r1 has start vectors",
            ..base()
        },
        Row {
            what: "built for RISC-V",
            image: elf(243),
            outcome: Conflicts,
            words: "machine RISC-V: r1 has start vectors of a Cortex-M",
            ..base()
        },
        Row { what: "not below the minimum_version", sheet: &low, outcome: Fits, words: "version 1.5.0", ..base() },
        Row {
            what: "below the minimum_version",
            sheet: &high,
            outcome: Conflicts,
            words: "below 1.5.1, the minimum version of r1: it drifts",
            ..base()
        },
        Row {
            what: "a release for it",
            claim: Some(&good),
            outcome: Fits,
            words: "release tern 1.5.0: for r1, r2",
            ..base()
        },
        Row {
            what: "a release for the other",
            claim: Some(&other),
            outcome: Conflicts,
            words: "for r2; not for r1",
            ..base()
        },
        Row {
            what: "a release with another crystal",
            claim: Some(&wrong),
            outcome: Conflicts,
            words: "fact crystal 9 MHz: r1's crystal is 8 MHz",
            ..base()
        },
        Row {
            what: "another product's release",
            claim: Some(&not_ours),
            outcome: Conflicts,
            words: "the product in the sheet is tern",
            ..base()
        },
        Row {
            what: "the string that it should say",
            sheet: &maker,
            outcome: Fits,
            words: "product string \"Tern tide gauge\": r1's",
            ..base()
        },
        Row {
            what: "no string at all",
            sheet: &maker,
            unit: &silent,
            outcome: Conflicts,
            words: "product string none: r1's is \"Tern tide gauge\"",
            ..base()
        },
        Row {
            what: "a serial number of its form",
            sheet: &serial,
            unit: &chip,
            outcome: Fits,
            words: "serial number T1-00217: r1's",
            ..base()
        },
        Row {
            what: "one of another form",
            sheet: &other_serial,
            unit: &chip,
            outcome: Conflicts,
            words: "serial number T1-00217: r1's is X*",
            ..base()
        },
        Row {
            what: "its release number",
            sheet: &release,
            outcome: Fits,
            words: "release number 1.4.0: r1's",
            ..base()
        },
        Row {
            what: "another release number",
            sheet: &other_release,
            outcome: Conflicts,
            words: "release number 1.4.0: r1's is 2.0.0 to 2.9.0",
            ..base()
        },
    ];
    for Row { what, sheet, unit, image, claim, outcome, words } in table {
        let case = MatchInput {
            unit: Some(unit),
            label: sheet.variant("r1"),
            consents: &lose,
            claim,
            table: None,
            ..MatchInput::new(sheet, &image)
        };
        let found = judge(&case);
        assert_eq!(found.outcome, outcome, "{what}: {:#?}", found.evidence);
        assert!(found.evidence.iter().any(|e| e.sentence().contains(words)), "{what}: {words}: {:#?}", found.evidence);
    }
    // A loss needs consent, otherwise the image does not fit.
    let case = MatchInput {
        unit: Some(&boot),
        label: plain.variant("r1"),
        claim: Some(&good),
        ..MatchInput::new(&plain, &r1)
    };
    let found = judge(&case);
    assert_eq!((found.outcome, found.missing_consents[0].id.as_str()), (Conflicts, "lose-history"));
    // Signs that differ tell variants apart: no prompt is needed.
    let told = TERN.replace(
        "variants = [\"r1\", \"r2\"]\nmemory = \"Tide Flash\"\nwrites = [\"application\"]",
        "variants = [\"r1\"]\nproduct = \"Boot A\"\nmemory = \"Tide Flash\"\nwrites = [\"application\"]",
    );
    let again = "[[route]]\nkind = \"dfu\"\nid = \"1209:0002\"\nvariants = [\"r2\"]\nproduct = \"Boot B\"\nmemory = \"Tide Flash\"\nwrites = [\"application\"]\nrestart_at = 0x0A00_0000\n";
    let told = Sheet::parse("tern.toml", &format!("{told}\n{again}")).unwrap();
    for (product, outcome, because) in [
        ("Boot A", Fits, "product string \"Boot A\": this is Tern r1"),
        ("Boot B", Conflicts, "product string \"Boot B\": this is Tern r2"),
        ("Boot C", Conflicts, "product string \"Boot C\": r1's is"),
    ] {
        let unit = UnitFacts { product: Some(product.into()), ..booted(R1_LAYOUT) };
        let found = judge(&MatchInput { sheet: &told, unit: Some(&unit), label: None, claim: None, ..case });
        assert_eq!(found.outcome, outcome, "{product}: {:#?}", found.evidence);
        assert!(found.evidence.iter().any(|e| e.sentence().contains(because)), "{product}: {:#?}", found.evidence);
    }
    assert_eq!(judge(&MatchInput { label: None, claim: None, ..case }).outcome, Undecided);
    // A variant that no route updates: what its maker says is done instead.
    let sealed = TERN.replacen("variants = [\"r1\", \"r2\"]", "variants = [\"r1\"]", 1).replacen(
        "[[route]]\nkind = \"plain-dfu\"\nid = \"1209:0011\"\nvariants = [\"r2\"]",
        "[[route]]\nkind = \"plain-dfu\"\nid = \"1209:0019\"\nvariants = [\"r1\"]",
        1,
    );
    let sealed = sealed.replacen(
        "name = \"Tern r2\"\n",
        "name = \"Tern r2\"\ninstead = \"its port is sealed: send it in\"\n",
        1,
    );
    let sealed = Sheet::parse("tern.toml", &sealed).unwrap();
    let found = judge(&MatchInput {
        sheet: &sealed,
        unit: Some(&unit(1)),
        label: sealed.variant("r2"),
        image: &image(R2),
        claim: None,
        ..case
    });
    assert_eq!(found.outcome, Conflicts);
    assert!(found.conflicts().any(|e| e.means == "its port is sealed: send it in"), "{:#?}", found.evidence);
}

/// A file names a part of a unit by its marks, never by its address alone.
#[test]
fn a_file_names_a_part_by_its_marks_alone() {
    let part = |id: &str, mark: &str| {
        format!(
            "[[part]]\nid = \"{id}\"\nname = \"{id}\"\n[[variant]]\nid = \"{id}\"\nname = \"{id}\"\npart = \"{id}\"\nflash = [{{ start = 0x0A00_0000, sectors = 48, size = \"3 KiB\" }}]\n[variant.image]\nregion = \"application\"\n{mark}\n[[variant.region]]\nname = \"application\"\nstart = 0x0A00_2400\nsize = \"132 KiB\"\n[[route]]\nkind = \"plain-dfu\"\nid = \"1209:0002\"\nvariants = [\"{id}\"]\nwrites = [\"application\"]\n"
        )
    };
    let head = "sheet = 1\n[product]\nid = \"two\"\nname = \"Two\"\nmaker = \"S\"\n[application]\nid = \"1209:0001\"\n";
    let mark = |text: &str| format!("marks = [{{ offset = 0x40, text = \"{text}\", meaning = \"board\" }}]");
    let file = image(R1);
    for (one, other, part_named) in [
        (mark("TRN1"), mark("TRN2"), Some("one")),
        (mark("TRN1"), String::new(), Some("one")),
        // The file fits the other part only by its address.
        (mark("TRN9"), String::new(), None),
        (String::new(), String::new(), None),
    ] {
        let text = format!("{head}{}{}", part("one", &one), part("other", &other));
        let sheet = Sheet::parse("two.toml", &text).unwrap();
        let open: Vec<_> = sheet.variants.iter().collect();
        let found = named_part(&open, |variant| names_part(&sheet, variant, &file));
        assert_eq!(found, part_named, "{one} {other}");
    }
}

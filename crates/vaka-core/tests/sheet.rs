//! Product sheets: what is read, and what is wrong is found at its line.

#![allow(clippy::unwrap_used)]

use vaka_base::version::ReleaseNumber;
use vaka_base::version::Version;
use vaka_core::matching::image_version;
use vaka_core::schema;
use vaka_core::sheet::{Fact, Sheet, SheetError, TableEntry, UndoPhase, VersionSource, undone};
use vaka_core::unit::{DeviceId, UnitFacts, UsbId};
use vaka_image::Image;
use vaka_image::address::Address;
use vaka_image::completeness::IntForm;
use vaka_image::wrapper::ChecksumKind;

const TERN: &str = include_str!("../../../demo/sheets/tern.toml");
const PETREL: &str = include_str!("../../../demo/sheets/petrel.toml");
const HERON: &str = include_str!("../../../demo/sheets/heron.toml");

fn parse(text: &str) -> Result<Sheet, SheetError> {
    Sheet::parse("tern.toml", text).map_err(|errors| errors.0[0].clone())
}

#[test]
fn the_demo_sheet_says_what_the_demo_world_is() {
    let sheet = parse(TERN).unwrap();
    let r1 = sheet.variant("r1").unwrap();
    let r2 = sheet.variant("r2").unwrap();
    assert_eq!(r1.flash.to_string(), "48 sectors of 3 KiB at 0x0A00_0000");
    assert_eq!(r2.flash.to_string(), "40 sectors of 6 KiB at 0x0A00_0000");
    assert_eq!(r1.image.region.span.to_string(), "0x0A00_2400..0x0A02_3400");
    assert_eq!(r2.image.region.span.to_string(), "0x0A00_3000..0x0A03_A800");
    assert_eq!(sheet.variants_with_route(UsbId { vendor: 0x1209, product: 2 }.into()).count(), 2);
    assert_eq!(sheet.variant_by_label(" ski-tern  R2 ").unwrap().id, r2.id);
    assert!(sheet.variant_by_label("SKI-TERN").is_none());
}

/// Each case changes the demo sheet in one place.
#[test]
fn what_is_wrong_is_found_with_line_and_key() {
    let cases: &[(&str, &str, &str, &str)] = &[
        ("sheet = 1", "sheet = 2", "sheet", "format 1"),
        ("maker =", "makr =", "makr", "is not a known key; did you mean `maker`?"),
        ("id = \"r2\"", "id = \"r1\"", "id", "another variant has the id 'r1'"),
        ("id = \"r2\"", "id = \"r 2\"", "id", "letters, digits"),
        ("sectors = 48", "sectors = 0", "flash", "flash must have 1 to 1 048 576 sectors of at least one"),
        ("sectors = 48", "sectors = -1", "sectors", "must be a number from 0 on"),
        ("sectors = 48", "sectors = 47", "start", "outside the flash"),
        ("size = \"132 KiB\"", "size = \"133 KiB\"", "start", "'application' and 'settings' overlap"),
        ("size = \"132 KiB\"", "size = \"131 KiB\"", "writes", "starts or ends inside a sector; erasing it would also"),
        ("size = \"132 KiB\"", "size = \"132 KB\"", "size", "is not a size"),
        ("size = \"132 KiB\"", "size = 0", "size", "must not be 0"),
        ("start = 0x0A00_2400", "start = 0x1_0A00_2400", "start", "is not a 32-bit address"),
        ("start = 0x0A00_2400", "start = -4", "start", "an address must not be negative"),
        ("start = 0x0A00_2400", "start = \"here\"", "start", "is not an address"),
        (
            "writes = [\"application\"]",
            "writes = [\"bootloader\"]",
            "writes",
            "an ordinary route must not write the bootloader",
        ),
        (
            "writes = [\"application\"]",
            "writes = [\"app\"]",
            "writes",
            "existing regions: bootloader, application, settings",
        ),
        ("writes = [\"application\"]", "writes = []", "writes", "at least one region"),
        ("restart_at = 0x0A00_0000", "restart_at = 0x0800_0000", "restart_at", "outside the flash"),
        ("kind = \"dfu\"", "kind = \"magic\"", "kind", "found \"magic\""),
        ("kind = \"dfu\"", "kind = \"plain-dfu\"", "restart_at", "route, which has no start address"),
        ("restart_at = 0x0A00_0000", "", "kind", "`restart_at` is required: the start address after"),
        (
            "restart_at = 0x0A00_0000",
            "restart_at = 0x0A00_0000\nupload = \"image\"",
            "upload",
            "applies only to plain DFU; with memory addresses an",
        ),
        ("do = \"Hold SET", "signal = \"dfu-detach\"\ndo = \"Hold SET", "entry", "either `do`"),
        ("do = \"Hold SET", "signal = \"knock\"\ndo = \"Hold SET", "signal", "found \"knock\""),
        ("id = \"1209:0002\"", "id = \"1209-0002\"", "id", "is not a USB id"),
        ("variants = [\"r1\", \"r2\"]", "variants = [\"r3\"]", "variants", "no variant has the id 'r3'"),
        ("offset = 0x40, text = \"TRN1\"", "offset = 0x40, text = \"\"", "marks", "either `text` or `bytes`"),
        ("offset = 0x40, text = \"TRN1\"", "offset = 0x40, bytes = \"5\"", "bytes", "hex pairs"),
        ("offset = 0x40, text = \"TRN1\"", "offset = \"1 MiB\", text = \"TRN1\"", "offset", "outside region"),
        ("back_within = \"10 s\"", "back_within = \"soon\"", "back_within", "is not a time"),
        ("reads = \"SKI-TERN R1\"", "reads = \"SKI\\u001b[2J\"", "reads", "control characters"),
    ];
    for (from, to, key, words) in cases {
        assert_eq!(TERN.matches(from).count().min(1), 1, "the demo sheet no longer holds: {from}");
        let text = TERN.replacen(from, to, 1);
        let error = parse(&text).map(|_| ()).unwrap_err();
        assert_eq!(error.key, *key, "{to}: {error}");
        assert!(error.message.contains(words), "{to}: {error}");
        assert!(error.line > 0 && error.line <= text.lines().count(), "{error}");
    }
}

/// Board information distinguishes variants as well as a label does.
#[test]
fn variants_with_board_ids_of_their_own_need_no_label() {
    let unlabelled: String =
        PETREL.lines().filter(|line| !line.starts_with("look_at")).map(|line| format!("{line}\n")).collect();
    assert!(parse(&unlabelled).is_ok());
    let twins = unlabelled.replace("Petrel-PB2-r1", "Petrel-PB1-r3");
    let error = parse(&twins).map(|_| ()).unwrap_err();
    assert!(error.message.contains("share a boot id and cannot be distinguished; add"), "{error}");
}

#[test]
fn a_part_has_its_own_version_and_only_its_variants() {
    let sheet = parse(HERON).unwrap();
    let after = |id: &str| match sheet.version_source(sheet.variant(id).unwrap()) {
        VersionSource::Text { after, .. } => after.clone(),
        other => panic!("{other:?}"),
    };
    assert_eq!((after("d1").as_str(), after("i1").as_str()), ("Display:", "Interface:"));
    let only = sheet.only_part("interface").unwrap();
    assert_eq!((only.variants.len(), only.variants[0].id.as_str()), (1, "i1"));
    assert!(sheet.only_part("wing").is_none());
}

#[test]
fn the_line_is_the_one_that_is_wrong() {
    let text = TERN.replacen("maker =", "makr =", 1);
    let wanted = text.lines().position(|line| line.starts_with("makr")).unwrap() + 1;
    assert_eq!(parse(&text).map(|_| ()).unwrap_err().line, wanted);
    let text = TERN.replacen("size = \"132 KiB\"", "size = \"132 KB\"", 1);
    let wanted = text.lines().position(|line| line.contains("132 KB")).unwrap() + 1;
    assert_eq!(parse(&text).map(|_| ()).unwrap_err().line, wanted);
}

#[test]
fn a_wrapper_is_checked_against_its_own_header() {
    let wrapper = "\n[[wrapper]]\nname = \"Package\"\nmagic = \"53 4B\"\nheader = 20\nlength = { offset = 4 }\n\
                   checksum = { offset = 16, kind = \"crc32\" }\n";
    let text = format!("{TERN}{wrapper}");
    let found = &parse(&text).unwrap().wrappers[0];
    let word = IntForm::U32le;
    assert_eq!((found.length, found.checksum), (Some((4, word)), Some((16, word, ChecksumKind::Crc32))));
    for (from, to, key, words) in [
        ("magic = \"53 4B\"", "magic = \"\"", "magic", "hex pairs"),
        ("header = 20", "header = 1", "header", "at least as long as the magic"),
        ("header = 20", "header = \"65 KiB\"", "header", "at most 64 KiB"),
        ("offset = 4 }", "offset = 1 }", "offset", "is outside the header, or inside its magic"),
        ("offset = 4 }", "offset = 17 }", "offset", "outside the header"),
        ("offset = 16,", "offset = 18,", "offset", "outside the header"),
        ("\"crc32\"", "\"crc16\"", "kind", "must be one of `crc32`"),
    ] {
        let wrong = format!("{TERN}{}", wrapper.replacen(from, to, 1));
        let error = parse(&wrong).map(|_| ()).unwrap_err();
        assert!(error.key == key && error.message.contains(words), "{to}: {error}");
    }
}

#[test]
fn places_in_an_image_lie_inside_its_region() {
    for (from, to) in [
        ("version = { offset = 0x4C }", "version = { offset = \"132 KiB\" }"),
        ("version = { offset = 0x4C }", "stamp = { offset = 135117 }"),
        ("vectors = \"cortex-m\"", "binary_at = 0x0A00_2000"),
        ("vectors = \"cortex-m\"", "binary_at = 0x0A02_3400"),
    ] {
        let error = parse(&TERN.replacen(from, to, 1)).map(|_| ()).unwrap_err();
        assert!(error.message.contains("outside region"), "{to}: {error}");
    }
    let vouched = parse(&TERN.replacen("vectors = \"cortex-m\"", "binary_at = 0x0A00_2400", 1)).unwrap();
    assert_eq!(vouched.variants[0].image.binary_at, Some(Address::new(0x0A00_2400)));
}

#[test]
fn variants_with_one_boot_id_need_a_label() {
    let lines: Vec<&str> = TERN.lines().filter(|line| !line.contains("place =")).collect();
    let error = parse(&lines.join("\n")).map(|_| ()).unwrap_err();
    assert!(error.message.contains("share a boot id and cannot be distinguished; add"), "{error}");
}

/// Keys that only units with disks and parts have.
#[test]
fn what_is_wrong_about_a_disk_or_a_part_is_found() {
    let cases: &[(&str, &str, &str, &str, &str)] = &[
        (PETREL, "takes = \"uf2\"\n", "", "kind", "`takes` is required: \"uf2\", \"hex\", \"binary\" or"),
        (PETREL, "takes = \"uf2\"", "takes = \"zip\"", "takes", "found \"zip\""),
        (PETREL, "family = 0x5EAB_D123\n", "", "kind", "`family` is required: the UF2 family of the unit"),
        (PETREL, "family = 0x5EAB_D123", "family = 0x1_0000_0000", "family", "32 bits"),
        (PETREL, "label = \"PETREL\"", "label = \"PETREL_PETREL\"", "label", "1 to 11"),
        (
            PETREL,
            "label = \"PETREL\"",
            "label = []\nfile = \"A.HEX\"",
            "file",
            "applies only to a disk that takes a file",
        ),
        (
            PETREL,
            "application_file = \"CURRENT.UF2\"",
            "application_file = \"current.uf2\"",
            "application_file",
            "short file name",
        ),
        (
            PETREL,
            "application_file = \"CURRENT.UF2\"",
            "application_file = \"A/B.UF2\"",
            "application_file",
            "short file name",
        ),
        (
            PETREL,
            "application_file = \"CURRENT.UF2\"",
            "restart_at = 0x0C10_0000",
            "restart_at",
            "route, which has no start address",
        ),
        (PETREL, "application_file = \"CURRENT.UF2\"", "upload = \"image\"", "upload", "`application_file`"),
        (PETREL, "application_file = \"CURRENT.UF2\"", "memory = \"x\"", "memory", "does not apply to a disk"),
        (
            PETREL,
            "start = 0x0C10_4000\nsize = \"558 KiB\"",
            "start = 0x0C10_4000\nsize = 571264",
            "writes",
            "inside a UF2 block",
        ),
        (HERON, "label = [\"HERON\", \"HERON_EMPTY\"]\n", "", "takes", "`label` is required, because only the label"),
        (HERON, "file = \"DISPLAY.HEX\"\n", "", "kind", "`file` is required: the file name on the disk"),
        (HERON, "file = \"DISPLAY.HEX\"", "file = \"DISPLAYS1.HEX\"", "file", "up to 8 and 3"),
        (HERON, "file = \"DISPLAY.HEX\"", "file = \"DISPLAY.HEX\"\nfamily = 1", "family", "takes UF2 blocks"),
        (
            HERON,
            "application_file = \"DISPLAY.HEX\"",
            "remove_first = true",
            "remove_first",
            "requires `application_file`",
        ),
        (HERON, "leave = \"nothing\"", "leave = \"fly\"", "leave", "found \"fly\""),
        (HERON, "part = \"display\"", "part = \"wing\"", "part", "existing parts: display, interface"),
        (HERON, "part = \"display\"\n", "", "id", "`part` is required, one of"),
        (HERON, "id = \"interface\"", "id = \"display\"", "id", "another part"),
        (TERN, "kind = \"dfu\"", "label = \"X\"\nkind = \"dfu\"", "label", "kind = \"volume\""),
    ];
    for (sheet, from, to, key, words) in cases {
        assert!(sheet.contains(from), "the demo sheet no longer holds: {from}");
        let mut text = sheet.replacen(from, to, 1);
        // Sectors of one block, so that only the region is at fault.
        if *words == "inside a UF2 block" {
            text = text.replace("sectors = 288, size = \"2 KiB\"", "sectors = 4608, size = 128");
        }
        let error = Sheet::parse("a.toml", &text).map(|_| ()).expect_err(to);
        let error = &error.0[0];
        assert!(error.key == *key && error.message.contains(words), "{to}: {error}");
    }
}

/// A sheet with all that one can have: stages, manual steps, facts, signs, losses.
const FULL: &str = r#"
sheet = 1
[product]
id = "knot"
name = "Knot current meter"
maker = "Skerrow Instruments"
also_sold_as = ["KM-2"]
ambiguous_labels = [{ place = "lid", reads = "KM-2", why = "both boards were sold under it" }]
companions = [{ id = "1209:00e1", name = "the service port" }]
[application]
id = ["1209:00e0", "1209:00f?"]
product = "Knot"
serial = "K?-*"
version = { string = "product", after = "v" }
see = ["the green light flashes twice"]
[[stage]]
id = "loader"
name = "New bootloader"
images = ["loader"]
replaces_bootloader = true
shows = { id = "1209:00e3", version = "release-number" }
[[variant]]
id = "a"
name = "Knot A"
look_at = [{ place = "board", reads = "KNOT A" }]
flash = [{ start = 0, sectors = 8, size = "1 KiB" }]
facts = { crystal = "8 MHz", hand-over = 0x800 }
application = { release = "1.0.0..1.9.9" }
[variant.image]
region = "application"
minimum_version = { version = "1.2.0", why = "older ones lose the calibration" }
[[variant.stage_image]]
name = "loader"
region = "bootloader"
[[variant.region]]
name = "bootloader"
start = 0
size = "2 KiB"
[[variant.region]]
name = "application"
start = 0x800
size = "5 KiB"
[[variant.region]]
name = "secrets"
start = 0x1C00
size = "1 KiB"
allows = []
[[variant]]
id = "b"
name = "Knot B"
flash = [{ start = 0, sectors = 8, size = "1 KiB" }]
instead = "send it in: its port is sealed"
[variant.image]
region = "application"
[[variant.region]]
name = "application"
start = 0
size = "8 KiB"
[[route]]
kind = "plain-dfu"
id = "1209:00e3"
variants = ["a"]
maker = "Skerrow Instruments"
release = "1.0.0..2.0.0"
writes = ["application"]
documented = "service manual, page 4"
[[route.entry]]
id = "battery"
do = "Take the battery off."
held = true
undo = { do = "Put the battery back.", after = ["cable"] }
[[route.entry]]
id = "cable"
do = "Plug the cable in."
see = "The display stays dark."
undo = { do = "Pull the cable.", shows = "gone" }
[[route]]
kind = "plain-dfu"
id = "1209:00e2"
stage = "loader"
variants = ["a"]
writes = ["bootloader"]
"#;

#[test]
fn a_full_sheet_is_read_as_it_is_meant() {
    let sheet = parse(FULL).unwrap();
    let id = |text: &str| text.parse::<DeviceId>().unwrap();
    let a = sheet.variant("a").unwrap();
    assert!(sheet.runs(id("1209:00f7")) && !sheet.runs(id("1209:00e3")));
    assert_eq!(a.routes.len(), 1);
    assert!(sheet.variant("b").unwrap().routes.is_empty());
    assert_eq!(a.image.minimum_version.as_ref().unwrap().0.as_str(), "1.2.0");
    assert!(a.facts.iter().any(|fact| fact.name == "hand-over" && fact.agrees("2048")));
    assert!(!a.regions[2].may_read && !a.regions[2].may_write && a.regions[0].may_read);
    assert!(sheet.ambiguous_labels(" km-2 ").is_some());
    let undone = undone(&a.routes[0].manual_steps(), UndoPhase::End).unwrap();
    let words: Vec<&str> = undone.iter().map(|(_, undo)| undo.action.as_str()).collect();
    assert_eq!(words, ["Pull the cable.", "Put the battery back."]);
    let stage = sheet.for_stage(sheet.stage("loader").unwrap());
    assert_eq!(stage.variants.len(), 1);
    assert!(stage.variants[0].route(id("1209:00e2")).is_some() && stage.variants[0].route(id("1209:00e3")).is_none());
    assert_eq!(stage.variants[0].image.region.name, "bootloader");
    assert!(stage.runs(id("1209:00e3")) && stage.runs(id("1209:00e0")));
}

/// Each case changes the full sheet in one place.
#[test]
#[allow(clippy::too_many_lines)] // a table
fn contradictions_of_stages_steps_facts_and_signs_are_found_at_their_line() {
    let cases: &[(&str, &str, &str, &str)] = &[
        // Stages and the bootloader.
        ("stage = \"loader\"\n", "", "writes", "an ordinary route must not write the bootloader"),
        ("replaces_bootloader = true\n", "", "writes", "an ordinary route must not write the bootloader"),
        ("stage = \"loader\"\n", "stage = \"loadr\"\n", "stage", "no [[stage]] has the id 'loadr'"),
        ("images = [\"loader\"]", "images = [\"lader\"]", "images", "no variant has these images"),
        ("images = [\"loader\"]", "images = [\"loader\", \"table\"]", "images", "no [[variant.stage_image]] 'table'"),
        (
            "images = [\"loader\"]",
            "images = [\"loader\", \"loader\"]",
            "images",
            "two images of the stage use the region",
        ),
        (
            "id = \"1209:00e2\"\nstage = \"loader\"\nvariants = [\"a\"]\nwrites = [\"bootloader\"]",
            "id = \"1209:00e2\"\nvariants = [\"a\"]\nwrites = [\"application\"]",
            "id",
            "no [[route]] with stage = \"loader\"",
        ),
        ("name = \"loader\"\nregion = \"bootloader\"", "region = \"bootloader\"", "region", "`name` is required"),
        // Manual steps and how they are undone.
        ("see = \"The display stays dark.\"\n", "", "entry", "one of these steps requires `see`: the visible sign of"),
        (
            "held = true\nundo = { do = \"Put the battery back.\", after = [\"cable\"] }",
            "held = true",
            "held",
            "a held step requires `undo`",
        ),
        ("after = [\"cable\"]", "after = [\"lead\"]", "after", "no step 'lead' has an undo"),
        (
            "undo = { do = \"Pull the cable.\"",
            "undo = { do = \"Pull the cable.\", after = [\"battery\"]",
            "after",
            "wait for each other",
        ),
        (
            "after = [\"cable\"] }",
            "after = [\"cable\"], when = \"entered\" }",
            "after",
            "is undone in a later phase, so this step cannot wait",
        ),
        ("id = \"cable\"", "id = \"battery\"", "id", "another step has the id"),
        // Facts about the unit and about files.
        ("hand-over = 0x800", "hand-over = 0x1000", "hand-over", "the bootloader starts applications at"),
        ("release = \"1.0.0..1.9.9\"", "release = \"2.0.0..1.9.9\"", "release", "the end is before the start"),
        ("release = \"1.0.0..2.0.0\"", "release = \"soon\"", "release", "not a release number"),
        (
            "minimum_version = { version = \"1.2.0\"",
            "minimum_version = { version = \"old\"",
            "minimum_version",
            "is not a version",
        ),
        ("allows = []", "allows = [\"burn\"]", "allows", "must be one of `read`, `write`"),
        (
            "instead = \"send it in: its port is sealed\"\n",
            "",
            "id",
            "if none can, give the instruction with `instead`",
        ),
        ("variants = [\"a\"]\nmaker", "maker", "instead", "has a route; remove `instead`"),
        (
            "id = [\"1209:00e0\", \"1209:00f?\"]\n",
            "",
            "version",
            "an application without a USB device cannot report its",
        ),
        ("\"1209:00f?\"", "\"????:00f0\"", "id", "has a wildcard in the vendor id, which would match"),
        // A second route under ids that overlap.
        (
            "id = \"1209:00e2\"\nstage = \"loader\"\nvariants = [\"a\"]\nwrites = [\"bootloader\"]",
            "id = \"1209:00e?\"\nvariants = [\"a\"]\nwrites = [\"application\"]",
            "kind",
            "another route under",
        ),
        // Placeholders that examples leave in.
        ("maker = \"Skerrow Instruments\"\nalso", "maker = \"FILL IN\"\nalso", "maker", "'FILL IN' is a placeholder"),
        ("id = \"1209:00e3\"\nvariants", "id = \"1234:5678\"\nvariants", "id", "'1234:5678' is a placeholder"),
        ("reads = \"KNOT A\"", "reads = \"XXXX\"", "reads", "'XXXX' is a placeholder"),
        ("start = 0x800", "start = 0xDEADBEEF", "start", "placeholder"),
        ("crystal = \"8 MHz\"", "crystal = \"<crystal>\"", "crystal", "placeholder"),
    ];
    for (from, to, key, words) in cases {
        assert!(FULL.contains(from), "the sheet no longer holds: {from}");
        let text = FULL.replacen(from, to, 1);
        let error = parse(&text).map(|_| ()).expect_err(to);
        assert!(error.key == *key && error.message.contains(words), "{to}: {error}");
        let line = text.lines().nth(error.line - 1).unwrap_or_default();
        assert!(line.contains(key) || line.starts_with("[["), "{to}: {error}, which reads: {line}");
    }
}

#[test]
fn facts_agree_where_they_say_the_same() {
    let agrees = |a: &str, b: &str| Fact { name: "x".into(), value: a.into() }.agrees(b);
    for (a, b) in [
        ("8 MHz", "8000000"),
        ("8MHz", "8.0 MHz"),
        ("32.768 kHz", "32768 Hz"),
        ("0x800", "2048"),
        ("4 KiB", "4096"),
        ("Quad  I/O", "quad i/o"),
    ] {
        assert!(agrees(a, b), "{a} {b}");
    }
    for (a, b) in [("8 MHz", "12 MHz"), ("8 MHz", "8 kHz"), ("quad", "dual"), ("0x800", "800"), ("8 MHz", "")] {
        assert!(!agrees(a, b), "{a} {b}");
    }
}

/// A unit is past a stage by what it shows and by how new that is, or by its application.
#[test]
fn a_unit_is_past_a_stage_by_what_it_shows() {
    let implied =
        FULL.replacen("replaces_bootloader = true\n", "replaces_bootloader = true\nimplied_by = \"2.0.0\"\n", 1);
    let implied =
        implied.replacen("version = { string = \"product\", after = \"v\" }", "version = \"release-number\"", 1);
    let unit = |product: u16, release: u16| {
        UnitFacts::listed(UsbId { vendor: 0x1209, product }.into(), ReleaseNumber(release))
    };
    // (the sheet, what the unit shows, what the stage would write, whether it is past)
    let cases = [
        (FULL, unit(0xE3, 0x0110), Some("1.1.0"), true),
        (FULL, unit(0xE3, 0x0120), Some("1.1.0"), true),
        (FULL, unit(0xE3, 0x0100), Some("1.1.0"), false),
        (FULL, unit(0xE3, 0x0100), None, true),
        (FULL, unit(0xE2, 0x0200), Some("1.1.0"), false),
        (FULL, unit(0xE0, 0x0200), Some("1.1.0"), false),
        (&implied, unit(0xE0, 0x0200), Some("1.1.0"), true),
        (&implied, unit(0xF3, 0x0210), Some("1.1.0"), true),
        (&implied, unit(0xE0, 0x0190), Some("1.1.0"), false),
        (&implied, unit(0xE2, 0x0200), Some("1.1.0"), false),
    ];
    for (text, unit, writes, past) in cases {
        let sheet = parse(text).unwrap();
        let writes = writes.map(Version::parse);
        let found = sheet.stage("loader").unwrap().is_past(&unit, writes.as_ref(), &sheet.application);
        assert_eq!(found, past, "{unit:?} {writes:?}");
    }
}

/// Any line or character of a sheet may be wrong: it is read or refused with a line that
/// is there, and never more than that.
#[test]
fn a_sheet_with_anything_in_it_is_read_or_refused_at_a_line() {
    let mut state = 0x5EED_0009_u64;
    let mut below = |most: usize| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        usize::try_from(state >> 16).unwrap() % most
    };
    let pieces = [
        "\"\"",
        "0",
        "-1",
        "[]",
        "{}",
        "[[stage]]",
        "\"\\u0007\"",
        "99999999999",
        "true",
        "= =",
        "\"?\"",
        "0xFFFF_FFFF",
    ];
    let sheets = [TERN, PETREL, HERON, FULL];
    let (mut read, mut refused) = (0, 0);
    for _ in 0..4000 {
        let mut lines: Vec<String> = sheets[below(sheets.len())].lines().map(str::to_owned).collect();
        for _ in 0..=below(2) {
            let at = below(lines.len());
            match below(4) {
                0 => drop(lines.remove(at)),
                1 => lines.insert(at, lines[below(lines.len())].clone()),
                2 => {
                    let key = lines[at].split('=').next().unwrap_or_default().to_owned();
                    lines[at] = format!("{key}= {}", pieces[below(pieces.len())]);
                }
                _ => {
                    let cut = lines[at].char_indices().map(|(at, _)| at).nth(below(40)).unwrap_or(0);
                    lines[at].truncate(cut);
                }
            }
        }
        let text = lines.join("\n");
        match parse(&text) {
            Ok(sheet) => {
                read += 1;
                // A sheet that was read is usable for every stage.
                sheet.stages.iter().for_each(|stage| drop(sheet.for_stage(stage)));
            }
            Err(error) => {
                refused += 1;
                assert!(error.line >= 1 && error.line <= text.lines().count() + 1, "{error}\n{text}");
                assert!(!error.message.is_empty() && !error.message.contains('\n'), "{error}");
            }
        }
    }
    assert!(read > 200 && refused > 2000, "{read} read, {refused} refused");
}

/// The committed schemas are those of the types. With `VAKA_WRITE_TABLES` set they are written.
#[test]
fn the_committed_schemas_are_those_of_the_types() {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    for (name, made, committed) in [
        ("product-sheet", schema::generate::product_sheet(), schema::PRODUCT_SHEET),
        ("events", schema::generate::events(), schema::EVENTS),
    ] {
        if std::env::var_os("VAKA_WRITE_TABLES").is_some() {
            std::fs::write(folder.join(format!("{name}.schema.json")), &made).unwrap();
        }
        assert!(made == committed, "{name}: run this test with VAKA_WRITE_TABLES=1 and read what changed");
    }
}

/// The version of an image is where the sheet says, in its form.
#[test]
fn the_version_of_an_image_has_the_form_that_the_sheet_says() {
    let mut bytes = vec![0; 0x200];
    bytes[0x100..0x106].copy_from_slice(&[9, 0, 7, 0, 2, 0]);
    bytes[0x110..0x120].copy_from_slice(b"FWVER:3.1.4-b\0\0\0");
    let image = Image::from_memory(&[(Address::new(0x0A00_2400), bytes)]).unwrap();
    let with = |version: &str| TERN.replacen("version = { offset = 0x4C }", &format!("version = {version}"), 1);
    for (version, wanted) in [
        ("{ offset = 0x102 }", Some("0.0.7")),
        ("{ offset = 0x100, form = \"words-le\", reversed = true }", Some("2.7.9")),
        ("{ offset = 0x102, form = \"bytes\", count = 2 }", Some("7.0")),
        ("{ after = \"FWVER:\", form = \"text\" }", Some("3.1.4-b")),
        ("{ after = \"0x46575645523A\", form = \"text\", length = 3 }", Some("3.1")),
        ("{ after = \"OTHER:\", form = \"text\" }", None),
    ] {
        let sheet = parse(&with(version)).unwrap();
        let found = image_version(sheet.variant("r1").unwrap(), &image);
        assert_eq!(found, wanted.map(Version::parse), "{version}");
    }
    for (version, words) in [
        ("{ form = \"text\" }", "either `offset` or `after` is required"),
        ("{ offset = 4, count = 2 }", "`count` and `reversed` apply only to \"bytes\""),
        ("{ offset = 4, length = 2 }", "`length` applies only to \"text\""),
        ("{ offset = 4, form = \"bytes\", count = 5 }", "`count` must be 1 to 4"),
        ("{ after = \"0x4\", form = \"text\" }", "pairs of hex digits after 0x"),
        ("{ offset = \"132 KiB\", form = \"bytes\" }", "is outside region 'application'"),
    ] {
        let error = parse(&with(version)).unwrap_err();
        assert!(error.message.contains(words), "{version}: {error}");
    }
}

/// A table has its keys inside its entry, and further images have regions of their own.
#[test]
fn further_images_and_tables_are_checked() {
    let with = |text: &str| TERN.replacen("[variant.image]", &format!("{text}\n[variant.image]"), 1);
    let table = |keys: &str| with(&format!("[variant.table]\nregion = \"settings\"\n{keys}"));
    let keys = "entry = 16\nname = { offset = 8, length = 8 }\naddress = { offset = 0 }\nsize = { offset = 4 }\n";
    parse(&table(keys)).unwrap();
    let further = |keys: &str| with(&format!("[[variant.further_image]]\n{keys}"));
    parse(&further("region = \"settings\"")).unwrap();
    for (text, words) in [
        (table(&keys.replace("entry = 16", "entry = 15")), "is outside the entry"),
        (table(&keys.replace("entry = 16", "entry = 3")), "must be 4 to 4096"),
        (table(&keys.replace("length = 8", "length = 0")), "must be 1 to 64"),
        (table(&format!("{keys}magic = \"5\"")), "write bytes as hex pairs"),
        (table(&format!("{keys}unit = 0")), "must be 1 to"),
        (
            table(keys).replace("[variant.table]\nregion = \"settings\"", "[variant.table]\nregion = \"application\""),
            "the most for a table",
        ),
        (further("region = \"application\""), "another image of the variant uses the region 'application'"),
        (further("region = \"settings\"\nname = \"a\""), "is a key of [[variant.stage_image]]"),
        (further("region = \"settings\"\nopaque = true"), "only [variant.image] can be opaque"),
        (
            TERN.replacen("name = \"loader\"\nregion", "required = false\nname = \"loader\"\nregion", 1),
            "a stage installs all its images",
        ),
    ] {
        let error = parse(&text).unwrap_err();
        assert!(error.message.contains(words), "{words}: {error}");
    }
}

/// Entries by hand: name, address and size in sectors of 256 bytes from 0x0A00_0000.
#[test]
fn a_table_places_regions_or_says_why_not() {
    let text = "[variant.table]\nregion = \"settings\"\nentry = 12\nname = { offset = 8, length = 4 }\n\
                address = { offset = 0, form = \"u16be\" }\nsize = { offset = 4 }\nbase = 0x0A00_0000\nunit = 256\n";
    let sheet = parse(&TERN.replacen("[variant.image]", &format!("{text}\n[variant.image]"), 1)).unwrap();
    let table = sheet.variant("r1").unwrap().table.as_ref().unwrap();
    let entry =
        |name: &[u8; 4], at: u16, size: u32| [&at.to_be_bytes()[..], &[0, 0], &size.to_le_bytes(), name].concat();
    let read = |entries: &[Vec<u8>]| table.parse(&entries.concat());
    let found = read(&[entry(b"app\0", 0x24, 16), entry(b"data", 0x40, 1), entry(&[0xFF; 4], 0xFFFF, 7)]).unwrap();
    let spans: Vec<String> = found.iter().map(|entry| format!("{} {}", entry.name, entry.span)).collect();
    assert_eq!(spans, ["app 0x0A00_2400..0x0A00_3400", "data 0x0A00_4000..0x0A00_4100"]);
    for (entries, wanted) in [
        (vec![], "it has no entry"),
        (vec![vec![0xFF; 12]], "it has no entry"),
        (
            (0..257)
                .map(|n| entry(b"aaaa", n, 1))
                .enumerate()
                .map(|(n, mut e)| {
                    e[8] = b'a' + u8::try_from(n % 26).unwrap();
                    e[9] = b'a' + u8::try_from(n / 26).unwrap();
                    e
                })
                .collect(),
            "it has more than 256 entries",
        ),
        (vec![entry(b"app\0", 1, 1), entry(b"app\0", 2, 1)], "two entries have the name 'app'"),
        (vec![entry(b"a\0\0\0", 1, 2), entry(b"b\0\0\0", 2, 1)], "entries 'a' and 'b' overlap"),
        (vec![entry(b"a\0\0\0", 1, 0)], "entry 'a' is empty, or exceeds the 32-bit address space"),
        (vec![entry(b"a\0\0\0", 1, u32::MAX)], "entry 'a' is empty, or exceeds the 32-bit address space"),
    ] {
        assert_eq!(read(&entries).unwrap_err().to_string(), wanted);
    }
    // Sectors of r1 are 3 KiB: 12 units.
    let variant = sheet.variant("r1").unwrap();
    let placed = |at: u16, size: u32| {
        variant.placed_by(
            &read(&[entry(b"appl", at, size)])
                .unwrap()
                .into_iter()
                .map(|entry| TableEntry { name: "application".into(), ..entry })
                .collect::<Vec<_>>(),
        )
    };
    let moved = placed(48, 12).unwrap();
    assert_eq!(moved.image.region.span.to_string(), "0x0A00_3000..0x0A00_3C00");
    assert_eq!(moved.routes[0].writes[0].span, moved.image.region.span);
    for (at, size, words) in [
        (48, 13, "is not made of whole sectors of the flash"),
        (0x8000, 12, "is not made of whole sectors of the flash"),
        (24, 24, "overlaps region 'bootloader'"),
    ] {
        assert!(placed(at, size).unwrap_err().contains(words), "{at} {size}");
    }
}

/// A part's version that is told must be told, as the application's.
#[test]
fn a_version_of_a_part_that_is_told_must_be_told() {
    let text = HERON.replacen(
        "version = { file = \"VERSION.TXT\", after = \"Display:\" }",
        "version = { told = \"display\" }",
        1,
    );
    let error = parse(&text).unwrap_err();
    assert!(error.message.contains("a dialect whose [confirm] tells 'display'"), "{error}");
}

/// A file for a disk has no flash, and its route takes a file.
#[test]
fn a_variant_that_is_a_file_has_no_firmware() {
    let of = |variant: &str, route: &str| {
        let (head, _) = HERON.split_once("[[part]]").unwrap();
        format!(
            "{head}[[variant]]\nid = \"t\"\nname = \"T\"\n{variant}\n[[route]]\nkind = \"volume\"\nid = \"1209:0007\"\nlabel = \"HERON\"\nfile = \"SHOW.TXT\"\nleave = \"nothing\"\n{route}\n"
        )
    };
    let sheet = parse(&of("any_file = { most = 100 }", "takes = \"file\"")).unwrap();
    let variant = sheet.variant("t").unwrap();
    for (name, takes) in [("a.txt", true), ("A.TXT", true), ("a.txt.zip", false), ("txt", false)] {
        assert_eq!(variant.takes_name(name), takes, "{name}");
    }
    for (variant, route, words) in [
        ("any_file = { most = 0 }", "takes = \"file\"", "must be 1 byte to 64 MiB"),
        ("any_file = { most = 9, endings = [\".txt\"] }", "takes = \"file\"", "write endings without a dot"),
        ("any_file = { most = 9 }", "takes = \"hex\"", "its route has kind = \"volume\", takes = \"file\""),
        ("any_file = { most = 9 }", "takes = \"file\"\nwrites = [\"file\"]", "is a file and has no regions"),
        ("any_file = { most = 9 }", "takes = \"file\"\nremove_first = true", "does not apply to takes = \"file\""),
        (
            "any_file = { most = 9 }\nflash = [{ start = 0, sectors = 1, size = 256 }]",
            "takes = \"file\"",
            "replaces `flash`",
        ),
        ("", "takes = \"file\"", "[variant.image] is required, or `any_file`"),
    ] {
        let error = parse(&of(variant, route)).unwrap_err();
        assert!(error.message.contains(words), "{words}: {error}");
    }
}

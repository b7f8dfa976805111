//! Bootloaders that the dialect language was not made for.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

use std::ops::Range;
use std::sync::Arc;
use std::sync::atomic::Ordering;

mod shapes;
mod support;

use shapes::{
    Shape, avowal, beckon, belfry, bellows, berth, casket, chorus, folio, galley, ledger, parcel, porter, ribbon,
    satchel, sentry, skein, spoken, tagged, tally,
};
use support::{PORT, Scene, failure, told};
use vaka_boot::failure::FailureKind;
use vaka_boot::update::Request;
use vaka_core::event::{Check, ExitCode, RestartState, RunOutcome};
use vaka_core::input::InputFile;
use vaka_core::plan::{ErasesOption, PlanError};
use vaka_core::sheet::Sheet;
use vaka_dialect::{Dialect, no_files};
use vaka_image::address::Address;
use vaka_image::{FirmwareFile, Image, ReadOptions, hex};
use vaka_sim::fault::Fault;
use vaka_sim::unit::vendor_unit::Plain;
use vaka_sim::world::lock;

#[test]
fn tagged_packets_on_a_serial_line() {
    let maker = || -> shapes::Maker { Box::new(|| Box::new(tagged::Tagged::default())) };
    Shape { name: "tagged", dialect: tagged::DIALECT, maker, check: Check::ReadBack, len: 2502 }.holds();
}

#[test]
fn spoken_lines_with_an_echo() {
    let maker = || -> shapes::Maker { Box::new(|| Box::new(spoken::Spoken::default())) };
    Shape { name: "spoken", dialect: spoken::DIALECT, maker, check: Check::DeviceChecked, len: 1300 }.holds();
}

#[test]
fn parcels_on_bulk_pipes() {
    let maker = parcel::maker;
    Shape { name: "parcel", dialect: parcel::DIALECT, maker, check: Check::DeviceChecked, len: 2700 }.holds();
}

#[test]
fn feature_reports_with_words_of_four_bytes() {
    let maker = || -> shapes::Maker { Box::new(|| Box::new(chorus::Chorus::default())) };
    Shape { name: "chorus", dialect: chorus::DIALECT, maker, check: Check::DeviceChecked, len: 2000 }.holds();
}

#[test]
fn requests_with_nothing_but_numbers_and_a_helper_in_ram() {
    let maker = || -> shapes::Maker { Box::new(|| Box::new(porter::Porter::default())) };
    Shape { name: "porter", dialect: porter::DIALECT, maker, check: Check::ReadBack, len: 1500 }.holds();
}

#[test]
fn records_between_marks() {
    let maker = || -> shapes::Maker { Box::new(|| Box::new(ledger::Ledger::default())) };
    Shape { name: "ledger", dialect: ledger::DIALECT, maker, check: Check::ReadBack, len: 2200 }.holds();
}

#[test]
fn bulk_pipes_with_requests_beside_them() {
    let maker = || -> shapes::Maker { Box::new(|| Box::new(satchel::Satchel::default())) };
    Shape { name: "satchel", dialect: satchel::DIALECT, maker, check: Check::ReadBack, len: 2300 }.holds();
}

fn satchel_with(old: &str, new: &str) -> Shape {
    let maker = || -> shapes::Maker { Box::new(|| Box::new(satchel::Satchel::default())) };
    assert!(satchel::DIALECT.contains(old));
    let dialect = Box::leak(satchel::DIALECT.replace(old, new).into_boxed_str());
    Shape { name: "satchel", dialect, maker, check: Check::ReadBack, len: 2300 }
}

/// The recovery at the start is an attempt; the first exchange decides.
#[test]
fn a_recovery_that_fails_at_the_start_does_not_end_the_session() {
    let scene = satchel_with("do = \"drop\"", "do = \"drop; fail 'not recovered'\"").scene(Vec::new());
    let (report, events) = scene.update();
    assert_eq!(report.code, ExitCode::Done, "{:?}", failure(&events));
    assert!(scene.holds_image());
}

/// A size that shows only at run time is an error, not another size.
#[test]
fn random_bytes_of_an_impossible_size_are_an_error() {
    let scene = satchel_with("tells = {", "then = \"let nonce = random(sector * 2)\"\ntells = {").scene(Vec::new());
    let (report, events) = scene.update();
    assert_ne!(report.code, ExitCode::Done);
    let said = told(failure(&events).unwrap());
    assert!(said.contains("random(n) gives 1 to 256 bytes, and 512 were asked for"), "{said}");
    assert!(scene.memory(shapes::BASE..shapes::LIMIT) == scene.before);
}

/// The user stops the program in a transfer: the unit is left ready for the next one, although its
/// dialect does not recover at the start.
#[test]
fn a_stopped_transfer_is_recovered_from() {
    let shape = satchel_with("\nat_start = true", "");
    let mut scene = shape.scene(Vec::new());
    scene.stops_after_a_block = true;
    let (report, _) = scene.update();
    assert_eq!(report.code, ExitCode::Stopped);
    let mut device = scene.earlier_program();
    let setup = vaka_usb::Setup { kind: 0xC0, request: 0x21, value: 0, index: 0 };
    let state = device.control_in(setup, 3, std::time::Duration::from_secs(1)).unwrap();
    assert_eq!(state, [0, 0, 0], "the unit dropped what was begun");
    drop(device);
    scene.stops_after_a_block = false;
    let (report, events) = scene.update();
    assert_eq!(report.code, ExitCode::Done, "{:?}", failure(&events));
    assert!(scene.holds_image());
}

#[test]
fn blocks_under_way_of_which_only_the_lost_ones_are_sent_again() {
    let maker = || -> shapes::Maker { Box::new(|| Box::new(skein::Skein::default())) };
    Shape { name: "skein", dialect: skein::DIALECT, maker, check: Check::ReadBack, len: 2300 }.holds();
}

#[test]
fn a_receiver_that_asks_for_its_blocks() {
    let maker = beckon::maker;
    Shape { name: "beckon", dialect: beckon::DIALECT, maker, check: Check::DeviceChecked, len: 2300 }.holds();
}

#[test]
fn a_number_that_outlives_a_program() {
    let maker = tally::maker;
    Shape { name: "tally", dialect: tally::DIALECT, maker, check: Check::ReadBack, len: 1700 }.holds();
}

#[test]
fn lines_over_bulk_pipes_with_a_buffer() {
    let maker = || -> shapes::Maker { Box::new(|| Box::new(galley::Galley::default())) };
    Shape { name: "galley", dialect: galley::DIALECT, maker, check: Check::ReadBack, len: 2300 }.holds();
}

#[test]
fn a_status_on_a_pipe_of_its_own() {
    let maker = || -> shapes::Maker { Box::new(|| Box::new(belfry::Belfry::default())) };
    Shape { name: "belfry", dialect: belfry::DIALECT, maker, check: Check::ReadBack, len: 2300 }.holds();
}

#[test]
fn blocks_that_are_compressed() {
    let maker = || -> shapes::Maker { Box::new(|| Box::new(bellows::Bellows::default())) };
    Shape { name: "bellows", dialect: bellows::DIALECT, maker, check: Check::DeviceChecked, len: 5000 }.holds();
    assert!(bellows::FORMS.iter().all(|count| count.load(Ordering::Relaxed) > 0), "{:?}", bellows::FORMS);
}

/// A unit that erases all that an image covers loses equal sectors between changed ones, so they are
/// written too.
#[test]
fn a_unit_that_erases_what_is_covered_gets_all_of_it() {
    let maker = || -> shapes::Maker { Box::new(|| Box::new(bellows::Bellows::default())) };
    let (before, after) = bellows::DIALECT.split_once("[checksum]").unwrap();
    let (_, after) = after.split_once("[restart]").unwrap();
    let read = "[read]\nsend = \"'L', u32le = address - region_start, u8 = length & 0xFF\"\n\
                reply = \"'L', bytes(length) data\"\n[restart]";
    let text = format!("{before}{read}{after}").replace("pad = false", "pad = false\nread_chunk = 56");
    let dialect = Box::leak(text.into_boxed_str());
    let shape = Shape { name: "bellows", dialect, maker, check: Check::ReadBack, len: 5000 };
    let mut scene = shape.scene(Vec::new());
    assert_eq!(scene.update().0.code, ExitCode::Done);
    // Only the second and the eleventh sector change.
    let mut newer = scene.file.to_vec();
    newer[300] ^= 0xFF;
    newer[2600] ^= 0xFF;
    let end = newer.len() - 4;
    let crc = shapes::crc32(&newer[..end]).to_le_bytes();
    newer[end..].copy_from_slice(&crc);
    scene.rewrite = false;
    scene.back_into_update_mode();
    let (report, events) = scene.update_with(&newer, |_| {});
    assert_eq!(report.code, ExitCode::Done, "{:?}", failure(&events));
    assert!(scene.memory(scene.start..scene.start + 5000) == newer, "sectors were lost");
}

#[test]
fn a_challenge_with_random_bytes_and_a_key() {
    let maker = || -> shapes::Maker { Box::new(|| Box::new(sentry::Sentry::default())) };
    Shape { name: "sentry", dialect: sentry::DIALECT, maker, check: Check::ReadBack, len: 1700 }.holds();
}

/// A frame that cannot be made fails before the first erase, whichever chunk it belongs to.
#[test]
fn a_frame_that_cannot_be_made_fails_before_the_erase() {
    for (from, to, words) in [
        ("size = len(data)", "size = len(data) + (index == 5 ? 70000 : 0)", "70256"),
        ("bytes; finish", "expect index < 5 else 'only five chunks'; bytes; finish", "only five chunks"),
        ("finish; state", "finish; state; let next = byte(data, len(data) + index - 4)", "byte"),
    ] {
        let shape = satchel_with(from, to);
        let dialect = Dialect::parse("satchel", shape.dialect, &no_files).unwrap();
        let text = format!("{}\ndialect = \"satchel\"\n", shapes::SHEET);
        let sheet = Sheet::parse_with("shape.toml", &text, &[("satchel".into(), Arc::new(dialect))].into()).unwrap();
        let file = Box::leak(shapes::application(shape.len, 0x0110, 11).into_boxed_slice());
        let scene = Scene::loaded(shape.unit(), Vec::new(), sheet, file, "BOOT");
        let (report, events) = scene.update();
        assert_ne!(report.code, ExitCode::Done, "{to}");
        assert!(told(failure(&events).unwrap()).contains(words), "{to}: {:?}", failure(&events));
        assert!(scene.memory(shapes::BASE..shapes::LIMIT) == scene.before, "{to}: the unit was changed");
    }
}

/// One dialect for several parts: the sheet says which requests are those of this one.
#[test]
fn a_sheet_sets_the_parameters_of_a_dialect() {
    let mut text = satchel::DIALECT.replace("[table.state]", "[parameters]\nbase = 0\nsign = \"'--'\"\n[table.state]");
    for number in 0x20..=0x23 {
        text = text.replace(&format!("request = 0x{number:X}"), &format!("request = \"base + {}\"", number - 0x20));
    }
    text = text.replace("\"'ST', u16le sector\"", "\"bytes(2) = sign, u16le sector\"");
    let maker = || -> shapes::Maker { Box::new(|| Box::new(satchel::Satchel::default())) };
    let dialect = Box::leak(text.into_boxed_str());
    let shape = Shape { name: "satchel", dialect, maker, check: Check::ReadBack, len: 2300 };
    let sheet = |with: &str| shape.try_sheet_of(&format!("{}\ndialect = \"satchel\"\nwith = {with}\n", shapes::SHEET));
    let scene = |sheet| {
        let file = Box::leak(shapes::application(shape.len, 0x0110, 11).into_boxed_slice());
        Scene::loaded(shape.unit(), Vec::new(), sheet, file, "BOOT")
    };
    for (with, fits) in [
        ("{ base = 0x20, sign = \"ST\" }", true),
        ("{ base = 0x20, sign = \"0x5354\" }", true),
        ("{ base = 0x20, sign = \"SU\" }", false),
        ("{ sign = \"ST\" }", false),
    ] {
        let scene = scene(sheet(with).unwrap());
        let (report, events) = scene.update();
        assert_eq!(report.code == ExitCode::Done, fits, "{with}: {:?}", failure(&events));
        assert_eq!(scene.holds_image(), fits, "{with}");
    }
    for (with, words) in [
        ("{ bass = 1 }", "unknown parameter 'bass'; existing: base, sign"),
        ("{ base = \"ST\" }", "the given value, \"ST\", has another type than this default"),
        ("{ base = 254 }", "this can represent 0 to 255; 256 does not fit"),
        ("{ sign = \"0x5\" }", "expected pairs of hex digits after 0x for 'sign'"),
    ] {
        let errors = sheet(with).unwrap_err().to_string();
        assert!(errors.contains(words), "{with}: {errors}");
    }
}

/// The application confirms by an exchange; one that does not, or reports another version, is not
/// confirmed.
#[test]
fn an_application_confirms_in_its_dialect() {
    let shape = satchel_with("name = \"satchel\"", "name = \"satchel\"");
    let parse = |text: &str| {
        let dialect = Dialect::parse("dialect", text, &no_files).unwrap_or_else(|errors| panic!("{errors}"));
        (dialect.name.clone(), Arc::new(dialect))
    };
    let dialects = [parse(satchel::DIALECT), parse(avowal::DIALECT)].into();
    let text = shapes::SHEET.replace("\"release-number\"", "{ told = \"version\" }\nconfirm = \"avowal\"");
    let sheet = Sheet::parse_with("shape.toml", &format!("{text}\ndialect = \"satchel\"\n"), &dialects).unwrap();
    let (ok, failed) = ((ExitCode::Done, RestartState::Confirmed), (ExitCode::NotBack, RestartState::NotBack));
    let cases: [(Option<u8>, u16, _, &str); 4] = [
        (Some(1), 0, ok, "reports version 1.1.0"),
        (Some(2), 0, failed, "does not confirm: the unit rejected 'confirm': the self-test failed"),
        (None, 0, failed, "does not confirm: the unit rejected 'confirm': no reason given"),
        (Some(1), 1, failed, "with version 1.1.1; the image has 1.1.0"),
    ];
    for (result, offset, wanted, words) in cases {
        let unit = shape.unit_running(Box::new(move |version| {
            Box::new(avowal::Avowal { version: version + offset, result, asked_first: None })
        }));
        let file = Box::leak(shapes::application(shape.len, 0x0110, 11).into_boxed_slice());
        let scene = Scene::loaded(unit, Vec::new(), sheet.clone(), file, "BOOT");
        let (report, events) = scene.update();
        assert_eq!((report.code, report.after), wanted, "{words}: {:?}", failure(&events));
        assert!(format!("{events:?}").contains(words), "{words}: {events:#?}");
        assert!(scene.holds_image());
    }
    // The recovery is the bootloader's, and no application gets it.
    assert_eq!(avowal::STRAY.load(Ordering::Relaxed), 0);
    for (from, to, words) in [
        ("confirm = \"avowal\"", "confirm = \"satchel\"", "dialect 'satchel' has no [confirm]"),
        ("told = \"version\"", "told = \"number\"", "a dialect whose [confirm] tells 'number'"),
    ] {
        let text = format!("{}\ndialect = \"satchel\"\n", text.replace(from, to));
        let errors = Sheet::parse_with("shape.toml", &text, &dialects).unwrap_err().to_string();
        assert!(errors.contains(words), "{errors}");
    }
}

fn berth_scene(shape: &Shape, faults: Vec<Fault>) -> Scene {
    let regions = "[[variant.region]]\nname = \"slot-1\"\nstart = 0x0B00_0800\nsize = \"6 KiB\"\n\
                   [[variant.region]]\nname = \"slot-2\"\nstart = 0x0B00_2000\nsize = \"6 KiB\"\n";
    let one = "[[variant.region]]\nname = \"application\"\nstart = 0x0B00_0800\nsize = \"12 KiB\"\n";
    assert!(shapes::SHEET.contains(one));
    let text = shapes::SHEET.replace(one, regions).replace("region = \"application\"", "region = \"slot-1\"");
    let text = text.replace("[\"application\"]", "[\"slot-1\", \"slot-2\"]");
    let sheet = shape.sheet_of(&format!("{text}\ndialect = \"berth\"\nslot = \"free\"\n"));
    let unit = shape.unit().with_slots(berth::running);
    let file = Box::leak(shapes::application(shape.len, 0x0110, 11).into_boxed_slice());
    let mut scene = Scene::loaded(unit, faults, sheet, file, "BOOT");
    scene.start = berth::SLOTS[1].start;
    scene
}

/// The image is linked for the first slot, and written to the one that the unit tells.
#[test]
fn a_slot_that_the_unit_selects() {
    let maker = || -> shapes::Maker { Box::new(|| Box::new(berth::Berth::default())) };
    let shape = Shape { name: "berth", dialect: berth::DIALECT, maker, check: Check::ReadBack, len: 2300 };
    shape.holds_in(&|faults| berth_scene(&shape, faults));
    // The other slot stays as it was; the next update goes there.
    let mut scene = berth_scene(&shape, Vec::new());
    let first = scene.memory(berth::SLOTS[0].clone());
    assert_eq!(scene.update().0.code, ExitCode::Done);
    assert!(scene.holds_image() && scene.memory(berth::SLOTS[0].clone()) == first);
    let second = scene.memory(berth::SLOTS[1].clone());
    let newer = shapes::application(shape.len, 0x0120, 12);
    scene.back_into_update_mode();
    let (report, events) = scene.update_with(&newer, |_| {});
    assert_eq!(report.code, ExitCode::Done, "{:?}", failure(&events));
    assert!(scene.memory(berth::SLOTS[1].clone()) == second);
    scene.start = berth::SLOTS[0].start;
    scene.binary = Box::leak(newer.into_boxed_slice());
    assert!(scene.holds_image());
}

/// The size of the flash is what the unit tells, between the two sizes of the sheet.
#[test]
fn a_flash_of_the_size_that_the_unit_tells() {
    let larger = "flash = [{ start = 0x0B00_0000, sectors = 128, size = 256 }]\nreported_flash = { least = \"8 KiB\", told = \"flash\" }";
    let text = shapes::SHEET.replace("flash = [{ start = 0x0B00_0000, sectors = 64, size = 256 }]", larger);
    let text =
        text.replace("size = \"12 KiB\"", "size = \"28 KiB\"").replace("start = 0x0B00_3800", "start = 0x0B00_7800");
    for (told, len, wanted, words) in [
        ("16384", 2300, ExitCode::Done, ""),
        // The application would end behind the flash.
        ("10240", 9000, ExitCode::Refused, "outside the flash"),
        ("4096", 2300, ExitCode::Refused, "has at least 8 KiB, and at most"),
        ("65536", 2300, ExitCode::Refused, "has at least 8 KiB, and at most"),
    ] {
        let shape = Shape {
            len,
            ..satchel_with("tells = { sector = \"sector\" }", &format!("tells = {{ flash = \"{told}\" }}"))
        };
        let sheet = shape.sheet_of(&format!("{text}\ndialect = \"satchel\"\n"));
        let file = Box::leak(shapes::application(len, 0x0110, 11).into_boxed_slice());
        let scene = Scene::loaded(shape.unit(), Vec::new(), sheet, file, "BOOT");
        let (report, events) = scene.update();
        assert_eq!(report.code, wanted, "{told}: {:?}", failure(&events));
        let said = failure(&events).map(support::told).unwrap_or_default();
        assert!(said.contains(words), "{told}: {said}");
        match wanted {
            ExitCode::Done => assert!(scene.holds_image()),
            _ => assert!(scene.memory(shapes::BASE..shapes::LIMIT) == scene.before, "{told}"),
        }
    }
    // Without the value the sheet is refused.
    let shape = satchel_with("name = \"satchel\"", "name = \"satchel\"");
    let error = shape.try_sheet_of(&format!("{text}\ndialect = \"satchel\"\n")).unwrap_err().to_string();
    assert!(error.contains("must be one of the values that the dialect reports: sector"), "{error}");
}

fn casket_scene(shape: &Shape, hardware: [u8; 2], faults: Vec<Fault>) -> Scene {
    let text = shapes::SHEET.replace("vectors = \"cortex-m\"\nversion = { offset = 0x4C }\n", casket::IMAGE);
    let sheet = shape.sheet_of(&format!("{text}\ndialect = \"casket\"\n{}", casket::WRAPPER));
    let plain = shapes::application(shape.len, 0x0110, 11);
    let file = Box::leak(casket::package(&plain, hardware, [1, 1, 0]).into_boxed_slice());
    let mut scene = Scene::loaded(shape.unit(), faults, sheet, file, "BOOT");
    scene.binary = Box::leak(plain.into_boxed_slice());
    scene
}

/// The header goes first, and nothing is compared with memory.
#[test]
fn a_package_that_only_the_bootloader_opens() {
    let maker = || -> shapes::Maker { Box::new(|| Box::new(casket::Casket::default())) };
    let shape = Shape { name: "casket", dialect: casket::DIALECT, maker, check: Check::Accepted, len: 2300 };
    shape.holds_in(&|faults| casket_scene(&shape, *b"K7", faults));
    // Another hardware is refused before anything is sent, by the header alone.
    let scene = casket_scene(&shape, *b"K8", Vec::new());
    let (report, events) = scene.update();
    assert_eq!(report.code, ExitCode::Refused, "{:?}", failure(&events));
    assert!(told(failure(&events).unwrap()).contains("hardware \"K8\" in the header"), "{:?}", failure(&events));
    assert!(scene.memory(shapes::BASE..shapes::LIMIT) == scene.before);
    // So are plain firmware, a damaged package and an older version.
    let scene = casket_scene(&shape, *b"K7", Vec::new());
    assert_eq!(scene.update_with(&shapes::application(2300, 0x0110, 11), |_| {}).0.code, ExitCode::Refused);
    let wrapper = &scene.sheets[0].wrappers[0];
    let mut damaged = scene.file.to_vec();
    damaged[100] ^= 1;
    assert!(wrapper.unwrap(&damaged).unwrap().is_err());
    assert!(scene.memory(shapes::BASE..shapes::LIMIT) == scene.before);
}

/// A unit of a batch, with three files: the application, the texts and perhaps a new table.
fn folio_scene(shape: &Shape, batch: &[Range<u32>; 2], new_table: bool, faults: Vec<Fault>) -> Scene {
    let (before, rest) = shapes::SHEET.split_once("[variant.image]").unwrap();
    let (_, route) = rest.split_once("[[route]]").unwrap();
    let route = route.replace("[\"application\"]", "[\"table\", \"app\", \"texts\"]");
    let sheet = shape.sheet_of(&format!("{before}{}[[route]]{route}\ndialect = \"folio\"\n", folio::SHEET));
    let factory = folio::factory(batch, &shapes::application(3000, 0x0100, 7));
    let unit = shape.unit_with(["Shape", "Shape loader"], Box::new(|_| Box::new(Plain)), factory);
    let file = Box::leak(shapes::application(shape.len, 0x0110, 11).into_boxed_slice());
    let mut scene = Scene::loaded(unit.with_slots(folio::running).in_boot_mode(), faults, sheet, file, "BOOT");
    let texts = [b"TXT1", &shapes::application(900, 0, 5)[..]].concat();
    scene.start = batch[0].start;
    scene.further.push(("texts", batch[1].start, Box::leak(texts.into_boxed_slice())));
    if new_table {
        let table = folio::table(batch);
        scene.further.push(("table", shapes::START, Box::leak(table.into_boxed_slice())));
    }
    scene
}

fn folio_shape() -> Shape {
    let maker = || -> shapes::Maker { Box::new(|| Box::new(folio::Folio::default())) };
    Shape { name: "folio", dialect: folio::DIALECT, maker, check: Check::ReadBack, len: 2300 }
}

/// Three images in one run, with one verdict; without a new table they go to where the unit's table
/// places them.
#[test]
fn three_images_at_the_places_of_a_table() {
    let shape = folio_shape();
    shape.holds_in(&|faults| folio_scene(&shape, &folio::PLACES, true, faults));
    shape.holds_in(&|faults| folio_scene(&shape, &folio::OTHER_PLACES, false, faults));
}

/// Files that do not go together with the table are refused, and the unit stays as it is.
#[test]
fn a_table_that_does_not_agree_is_a_conflict() {
    let shape = folio_shape();
    let texts = |scene: &Scene| scene.further[0].2;
    type Change = Box<dyn Fn(&Scene, &mut Request<'_>)>;
    let with_table = |bytes: Vec<u8>| -> Change {
        Box::new(move |_, request| {
            let input = InputFile::of(FirmwareFile::parse(&bytes));
            request.files.push(InputFile { region: Some("table".into()), ..input });
        })
    };
    let at = |address: u32, bytes: &[u8]| InputFile {
        options: ReadOptions { at: Some(Address::new(u64::from(address))), ..ReadOptions::default() },
        ..InputFile::of(FirmwareFile::parse(bytes))
    };
    let mut twice = folio::table(&folio::PLACES);
    twice.copy_within(0..24, 24);
    let cases: Vec<(&str, [Range<u32>; 2], Change, &str)> = vec![
        ("a table with other places", folio::PLACES, with_table(folio::table(&folio::OTHER_PLACES)), "region 'app' is"),
        ("two entries", folio::PLACES, with_table(twice), "two entries have the name 'app'"),
        ("no entry", folio::PLACES, with_table((1..=48).collect()), "mark first entry 01 02"),
        (
            "a table that leaves the texts behind",
            folio::OTHER_PLACES,
            Box::new(|_, request| {
                request.files.truncate(1);
                let input = InputFile::of(FirmwareFile::parse(&folio::table(&folio::PLACES)));
                request.files.push(InputFile { region: Some("table".into()), ..input });
            }),
            "moves 'texts', but not its content",
        ),
        (
            "texts at an address of another batch",
            folio::OTHER_PLACES,
            Box::new(move |scene, request| request.files[1] = at(folio::PLACES[1].start + 0x400, texts(scene))),
            "which is the start of no image",
        ),
        (
            "no application",
            folio::PLACES,
            Box::new(|_, request| _ = request.files.remove(0)),
            "no data for region 'app'",
        ),
        (
            "texts of another kind",
            folio::PLACES,
            Box::new(move |scene, request| {
                let bytes = [b"TXT2", &texts(scene)[4..]].concat();
                request.files[1].file = FirmwareFile::parse(&bytes);
            }),
            "TXT2",
        ),
    ];
    for (what, batch, change, words) in cases {
        let scene = folio_scene(&shape, &batch, false, Vec::new());
        let (report, events) = scene.update_with(scene.file, |request| change(&scene, request));
        assert_eq!(report.code, ExitCode::Refused, "{what}: {:?}", failure(&events));
        let said = told(failure(&events).unwrap());
        assert!(said.contains(words), "{what}: {said}");
        assert!(scene.memory(shapes::BASE..shapes::LIMIT) == scene.before, "{what}");
    }
    // A unit whose table is damaged takes no file without a new one, and a new one repairs it.
    let scene = folio_scene(&shape, &folio::PLACES, false, Vec::new());
    lock(&scene.world).unit(PORT).unwrap().flash_mut().put(shapes::START, &[0; 24]);
    let (report, events) = scene.update();
    assert_eq!(report.code, ExitCode::Refused, "{:?}", failure(&events));
    assert!(told(failure(&events).unwrap()).contains("it has no entry"), "{:?}", failure(&events));
    let mut scene = folio_scene(&shape, &folio::PLACES, true, Vec::new());
    lock(&scene.world).unit(PORT).unwrap().flash_mut().put(shapes::START, &[0; 24]);
    let (report, events) = scene.update();
    assert_eq!(report.code, ExitCode::Done, "{:?}", failure(&events));
    assert!(scene.holds_image());
    // Only the last sector of the texts changes.
    scene.rewrite = false;
    scene.back_into_update_mode();
    let newer = [scene.further[0].2, b"more"].concat();
    scene.further[0].2 = Box::leak(newer.into_boxed_slice());
    let (report, events) = scene.update();
    assert_eq!((report.code, report.bytes_written), (ExitCode::Done, 908 - 768), "{:?}", failure(&events));
    assert!(scene.holds_image());
}

/// Of variants with tables in different places, the label says which one is read.
#[test]
fn the_table_of_the_labelled_variant_counts() {
    let shape = folio_shape();
    for (label, wanted) in [(Some("s1"), ExitCode::Done), (None, ExitCode::Refused)] {
        let mut scene = folio_scene(&shape, &folio::OTHER_PLACES, false, Vec::new());
        let mut other = scene.sheets[0].variants[0].clone();
        other.look_at[0].reads = "OTHER".into();
        let table = other.table.as_mut().unwrap();
        table.region.span = other.regions.iter().find(|region| region.name == "settings").unwrap().span;
        other.id = vaka_core::sheet::Sheet::parse("t.toml", support::TERN).unwrap().variants[1].id.clone();
        // The other variant is tried first.
        scene.sheets[0].variants.insert(0, other);
        scene.label = label;
        let (report, events) = scene.update();
        assert_eq!(report.code, wanted, "{label:?}: {:?}", failure(&events));
        match label {
            Some(_) => assert!(scene.holds_image()),
            None => assert!(scene.memory(shapes::BASE..shapes::LIMIT) == scene.before),
        }
    }
}

fn ribbon_shape() -> Shape {
    let maker = || -> shapes::Maker { Box::new(|| Box::new(ribbon::Ribbon::default())) };
    Shape { name: "ribbon", dialect: ribbon::DIALECT, maker, check: Check::ReadBack, len: 2100 }
}

#[test]
fn a_stream_of_numbered_blocks() {
    ribbon_shape().holds();
}

/// Content after a gap stays after the gap: the gap is filled with 0xFF, and what the unit
/// holds in the end is the image at its addresses.
#[test]
fn a_gap_in_a_stream_is_filled() {
    let scene = ribbon_shape().scene(Vec::new());
    let at = |address: u32| ReadOptions { at: Some(Address::new(u64::from(address))), ..ReadOptions::default() };
    let extra: Vec<u8> = (1..=200).collect();
    let place = scene.start + 4000;
    let parts =
        [vaka_image::read(scene.file, at(scene.start)), vaka_image::read(&extra, at(place))].map(Result::unwrap);
    let both = Image::join(&parts).unwrap().unwrap();
    let (report, events) = scene.update_with(&hex::write(&both), |_| {});
    assert_eq!((report.code, report.check), (ExitCode::Done, Check::ReadBack), "{:?}", failure(&events));
    assert!(scene.holds_image());
    assert_eq!(scene.memory(place..place + 200), extra);
    let gap = scene.start + u32::try_from(scene.binary.len()).unwrap()..place;
    assert!(scene.memory(gap).iter().all(|byte| *byte == 0xFF));
    scene.assert_unharmed("a gap");
}

/// A unit that holds everything is told the end all the same where its restart depends on that.
#[test]
fn an_unchanged_unit_is_ended_where_its_restart_needs_it() {
    let mut scene = ribbon_shape().scene(Vec::new());
    assert_eq!(scene.update().0.code, ExitCode::Done);
    scene.rewrite = false;
    scene.back_into_update_mode();
    let (report, events) = scene.update();
    let ends = (report.code, report.outcome, report.after);
    assert_eq!(ends, (ExitCode::Done, RunOutcome::Unchanged, RestartState::Confirmed), "{:?}", failure(&events));
}

/// The checker asks for `stream` where a write does not send its address; and what a unit
/// leaves alone is not said to be erased.
#[test]
fn the_checker_and_the_plan_say_what_a_stream_does() {
    let without = ribbon::DIALECT.replace("stream = true\n", "");
    let errors = Dialect::parse("ribbon", &without, &no_files).unwrap_err().to_string();
    assert!(
        errors.contains("[write] does not use `address`, so the unit appends") && errors.contains("stream = true"),
        "{errors}"
    );
    let turned = ribbon::DIALECT.replace("stream = true", "stream = true\norder = \"descending\"");
    let errors = Dialect::parse("ribbon", &turned, &no_files).unwrap_err().to_string();
    assert!(errors.contains("a stream is always in ascending order; remove `order`"), "{errors}");
    let scene = ribbon_shape().scene(Vec::new());
    let before = scene.before.clone();
    let (report, events) = scene.update_with(scene.file, |request| {
        request.erase_all = true;
        request.consents = vec!["lose-settings".into()];
    });
    let said = failure(&events).unwrap();
    let FailureKind::NoPlan(error) = &*said.kind else { panic!("{said:?}") };
    assert!(matches!(error, PlanError::UnitDecides { option: ErasesOption::EraseAll, .. }), "{said:?}");
    assert_eq!(report.code, ExitCode::Refused);
    assert!(scene.memory(shapes::BASE..shapes::LIMIT) == before);
    let plan = events.iter().find_map(|event| match event {
        vaka_boot::event::Event::Plan { plan, .. } => Some(plan.clone()),
        _ => None,
    });
    assert!(plan.is_none(), "no plan promises what the unit does not do");
}

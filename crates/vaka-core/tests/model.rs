//! Queries on the model of a product, a unit and a disk.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

use vaka_base::version::ReleaseNumber;
use vaka_core::dfu::FunctionalDescriptor;
use vaka_core::memory::Access;
use vaka_core::sheet::{Ids, Route, Sheet};
use vaka_core::unit::{DeviceId, DfuAlternate, DfuFacts, MemoryChoice, UnitFacts, UsbId};
use vaka_core::volume::{VisibleFile, VolumeFacts};
use vaka_dialect::Value;
use vaka_testkit::demo;

fn sheet(name: &str) -> Sheet {
    Sheet::parse(name, &demo::sheet_text(name)).unwrap()
}

fn route<'s>(sheet: &'s Sheet, variant: &str, number: usize) -> &'s Route {
    &sheet.variant(variant).unwrap().routes[number]
}

#[test]
fn ids_print_as_they_are_written() {
    for text in ["1209:0002", "1209:00f?", "1209:????", "0001:f?0?"] {
        assert_eq!(text.parse::<Ids>().unwrap().to_string(), text);
    }
    let list: Ids = serde_json::from_str(r#"["1209:0001", "120a:00?2"]"#).unwrap();
    assert_eq!(list.to_string(), "1209:0001 or 120a:00?2");
    let id = |vendor, product| UsbId { vendor, product };
    for (id, is) in [(id(0x1209, 1), true), (id(0x120A, 0x42), true), (id(0x1209, 0x42), false), (id(0x120A, 1), false)]
    {
        assert_eq!(list.is(id.into()), is, "{id}");
    }
    assert_eq!(list.each().collect::<Vec<_>>(), [Some(id(0x1209, 1)), None]);
    assert_eq!(Ids::from(DeviceId::from(id(0x1209, 1))), "1209:1".parse().unwrap());
}

#[test]
fn routes_say_how_they_are_entered_and_distinguished() {
    let (tern, gannet, petrel, heron) =
        (sheet("tern.toml"), sheet("gannet.toml"), sheet("petrel.toml"), sheet("heron.toml"));
    // By hands, or by a request of the host alone.
    assert!(!route(&tern, "r1", 0).is_unattended());
    assert!(route(&gannet, "g1", 0).is_unattended());
    assert!(route(&gannet, "g1", 0).manual_steps().is_empty());
    // The chip's bootloader says the same on both boards; the loader names its board.
    assert!(!route(&tern, "r1", 0).differs_in_report(route(&tern, "r2", 0)));
    assert!(route(&tern, "r1", 1).differs_in_report(route(&tern, "r2", 1)));
    assert!(route(&petrel, "pb1", 0).differs_in_report(route(&petrel, "pb2", 0)));
    assert_eq!(route(&petrel, "pb1", 0).kind.family(), Some(0x5EAB_D123));
    assert_eq!(route(&petrel, "pb1", 0).kind.board_id(), Some("Petrel-PB1-r3"));
    assert_eq!((route(&heron, "d1", 0).kind.family(), route(&heron, "d1", 0).kind.board_id()), (None, None));
    assert_eq!(route(&gannet, "g1", 0).kind.family(), None);
    assert!(route(&gannet, "g1", 0).kind.volume().is_none() && route(&heron, "d1", 0).kind.volume().is_some());
}

/// A sheet cut down to one part has nothing of the others.
#[test]
fn a_part_of_a_product_is_alone() {
    let heron = sheet("heron.toml");
    let part = heron.only_part("display").unwrap();
    assert!(part.variant("d1").is_some() && part.variant("i1").is_none());
    assert!(heron.only_part("lamp").is_none());
}

fn unit(interfaces: &[(bool, u8, &str)]) -> UnitFacts {
    let interface = |(number, (in_dfu_mode, version, name)): (u8, &(bool, u8, &str))| DfuFacts {
        interface: number,
        in_dfu_mode: *in_dfu_mode,
        alternates: vec![DfuAlternate { number: 0, name: Some((*name).into()), layout: None }],
        functional: FunctionalDescriptor::parse(&[9, 0x21, 0x0B, 0xFF, 0, 0, 4, *version, 1]),
    };
    let listed = UnitFacts::listed(UsbId { vendor: 0x1209, product: 1 }.into(), ReleaseNumber(0x0100));
    UnitFacts { dfu: (0..).zip(interfaces).map(interface).collect(), ..listed }
}

#[test]
fn a_unit_shows_memories_in_dfu_mode_and_an_interface_to_detach_before() {
    assert!(unit(&[]).run_time_dfu().is_none());
    assert!(unit(&[(true, 0x10, "a")]).run_time_dfu().is_none());
    let both = unit(&[(true, 0x10, "a"), (false, 0x10, "b"), (true, 0x1A, "c")]);
    assert_eq!(both.run_time_dfu().unwrap().interface, 1);
    let names = |choice: &MemoryChoice| -> Vec<String> {
        both.memories(choice).iter().map(|memory| memory.to_string()).collect()
    };
    assert_eq!(names(&MemoryChoice::default()), ["0.0 \"a\"", "2.0 \"c\""]);
    let addressed: Vec<bool> = both.memories(&MemoryChoice::default()).iter().map(|m| m.is_addressed()).collect();
    assert_eq!(addressed, [false, true]);
}

/// FAT knows no case.
#[test]
fn files_of_a_disk_are_found_by_name() {
    let file = |name: &str| VisibleFile { name: name.into(), size: 3, date: None };
    let disk = VolumeFacts {
        files: vec![file("README.TXT"), file("CURRENT.UF2")],
        texts: vec![("Info.txt".into(), vec!["x: 1".into()])],
        ..VolumeFacts::default()
    };
    assert_eq!(disk.file("current.uf2").unwrap().name, "CURRENT.UF2");
    assert!(disk.file("current").is_none());
    assert_eq!(disk.text("INFO.TXT").unwrap(), ["x: 1"]);
    assert!(disk.text("README.TXT").is_none() && disk.board().is_none());
}

#[test]
fn a_memory_is_chosen_by_name_or_number() {
    let choice = |text: &str| MemoryChoice::parse(text);
    assert!(
        MemoryChoice::default().is_any() && !choice("1").is_any() && !choice("2.0").is_any() && !choice("a").is_any()
    );
    for (text, shown) in [
        ("1", "with alternate setting 1"),
        ("2.0", "on interface 2 with alternate setting 0"),
        ("Tide Flash", "named \"Tide Flash\""),
        ("300", "named \"300\""),
        ("1.300", "named \"1.300\""),
    ] {
        assert_eq!(choice(text).to_string(), shown, "{text}");
    }
    let both = unit(&[(true, 0x10, "a"), (true, 0x1A, "c")]);
    let count = |text: &str| both.memories(&choice(text)).len();
    assert_eq!(
        [count("a"), count("c"), count("b"), count("0"), count("1"), count("1.0"), count("3.0")],
        [1, 1, 0, 2, 0, 1, 0]
    );
}

/// Source: DFU 1.1, table 4.2 (bmAttributes) and section 4.1.3 (a descriptor of DFU 1.0 has no
/// bcdDFUVersion).
#[test]
fn the_functional_descriptor_is_read_bit_by_bit() {
    for (bits, download, upload, tolerant, detaches) in [
        (0x00, false, false, false, false),
        (0x01, true, false, false, false),
        (0x02, false, true, false, false),
        (0x04, false, false, true, false),
        (0x08, false, false, false, true),
        (0xF0, false, false, false, false),
        (0x0F, true, true, true, true),
    ] {
        let found = FunctionalDescriptor::parse(&[9, 0x21, bits, 0x34, 0x12, 0, 4, 0x10, 1]).unwrap();
        let attributes = found.attributes;
        assert_eq!(attributes.can_download(), download, "{bits:#x}");
        assert_eq!(attributes.can_upload(), upload, "{bits:#x}");
        assert_eq!(attributes.manifestation_tolerant(), tolerant, "{bits:#x}");
        assert_eq!(attributes.will_detach(), detaches, "{bits:#x}");
        assert_eq!((found.detach_timeout_ms, found.transfer_size, found.version), (0x1234, 1024, 0x0110));
    }
    assert_eq!(FunctionalDescriptor::parse(&[7, 0x21, 1, 0, 0, 0, 4]).unwrap().version, 0x0100);
    assert_eq!(FunctionalDescriptor::parse(&[7, 0x22, 1, 0, 0, 0, 4]), None);
    assert_eq!(FunctionalDescriptor::parse(&[6, 0x21, 1, 0, 0, 0]), None);
    let all: [&[u8]; 2] = [&[3, 0x24, 0], &[7, 0x21, 1, 0, 0, 0, 4]];
    assert!(FunctionalDescriptor::find(all).is_some() && FunctionalDescriptor::find([all[0]]).is_none());
}

/// A value that a dialect found is shown as text where it is printable ASCII, and as hex elsewhere.
#[test]
fn a_reported_value_is_text_or_hex() {
    use vaka_core::unit::PropertyValue as P;
    let text = |text: &str| P::Text(text.into());
    let cases: [(Value, P); 7] = [
        (Value::Int(7), P::Number(7)),
        (Value::Truth(true), P::Number(1)),
        (Value::from(b"A1\0\0".to_vec()), text("A1")),
        (Value::from(b"A\0B".to_vec()), text("41 00 42")),
        (Value::from(b"A\x07".to_vec()), text("41 07")),
        (Value::from(b"\xC3\xA9".to_vec()), text("C3 A9")),
        (Value::from(Vec::new()), text("")),
    ];
    for (value, wanted) in cases {
        assert_eq!(P::from(&value), wanted, "{value:?}");
    }
}

#[test]
fn firmware_needs_erasing_and_writing() {
    for (erase, write, wanted) in
        [(true, true, true), (true, false, false), (false, true, false), (false, false, false)]
    {
        assert_eq!(Access { read: true, erase, write }.is_programmable(), wanted, "{erase} {write}");
    }
}

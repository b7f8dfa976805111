//! Plans of each kind of route, as tables: which steps there are, in which order.

#![allow(clippy::unwrap_used)] // a panic is the message of a test

use std::collections::BTreeMap;
use std::sync::Arc;

use vaka_core::dfu::Attributes;
use vaka_core::memory::SectorMap;
use vaka_core::plan::{
    DialectCapabilities, KnownContent, MemoryStep, Plan, PlanError, PlanInput, RestartMethod, WriteLimits,
};
use vaka_core::sheet::{Dialects, Sheet, UndoPhase, Variant};
use vaka_dialect::{ChecksumScope, Dialect, EraseBy, Erases, Order, no_files};
use vaka_image::Image;
use vaka_image::address::{Address, Span};
use vaka_testkit::demo;

fn sheet(name: &str) -> Sheet {
    Sheet::parse(name, &demo::sheet_text(name)).unwrap()
}

/// A sheet with dialects.
fn spoken(name: &str, dialects: &[&str]) -> Sheet {
    let parse = |file: &&str| {
        let dialect = Dialect::parse(file, &demo::sheet_text(file), &no_files).unwrap();
        (dialect.name.clone(), Arc::new(dialect))
    };
    let dialects: Dialects = dialects.iter().map(parse).collect::<BTreeMap<_, _>>();
    Sheet::parse_with(name, &demo::sheet_text(name), &dialects).unwrap()
}

fn span(start: u64, len: u64) -> Span {
    Span::new(Address::new(start), len).unwrap()
}

/// An image of these lengths at these addresses.
fn image(parts: &[(u64, usize)]) -> Image {
    let parts: Vec<_> = parts.iter().map(|(at, len)| (Address::new(*at), vec![0x5A; *len])).collect();
    Image::from_memory(&parts).unwrap()
}

fn geometry(sectors: &SectorMap) -> WriteLimits<'_> {
    WriteLimits { sectors, block_size: Some(1024), can_read: true, attributes: None, offer: None }
}

/// A unit in update mode, with nothing known of its content.
fn input<'a>(sheet: &'a Sheet, variant: &'a Variant, image: &'a Image, geometry: WriteLimits<'a>) -> PlanInput<'a> {
    PlanInput {
        sheet,
        variant,
        route: &variant.routes[0],
        image,
        geometry,
        needs_entry: false,
        erase_all: false,
        content: KnownContent::Unseen,
        keep: &[],
    }
}

/// The kinds of the steps, as events name them.
fn kinds(plan: &Plan) -> String {
    let kind = |step| serde_json::to_value(step).unwrap()["kind"].as_str().unwrap().to_owned();
    plan.steps.iter().map(kind).collect::<Vec<_>>().join(" ")
}

/// Every sector that holds a byte of the image.
fn sectors_of(map: &SectorMap, image: &Image) -> Vec<Span> {
    image.segments().iter().flat_map(|segment| map.sectors_in(segment.span()).unwrap()).collect()
}

/// DFU 1.1, table 4.2: bits 0 to 3 are download, upload, manifestation tolerant, will detach.
/// A unit that is not tolerant cannot be read after the end; it leaves by itself (bit 3) or is
/// reset. Where its upload is the image and no hand is needed it is read once more.
#[test]
fn plain_dfu_ends_as_the_attributes_say() {
    let sheet = sheet("gannet.toml");
    let g1 = sheet.variant("g1").unwrap();
    let file = image(&[(0x5000, 5000)]);
    for (attributes, can_read, wanted, restart) in [
        (Some(0b0111), true, "compare write finish read-back restart confirm", RestartMethod::BusReset),
        (Some(0b1111), true, "compare write finish read-back restart confirm", RestartMethod::BusReset),
        (Some(0b0011), true, "compare write finish restart confirm read-once-more", RestartMethod::BusReset),
        (Some(0b1011), true, "compare write finish restart confirm read-once-more", RestartMethod::Itself),
        (Some(0b1001), false, "write finish restart confirm", RestartMethod::Itself),
        (Some(0b0101), false, "write finish restart confirm", RestartMethod::BusReset),
        (None, true, "compare write finish read-back restart confirm", RestartMethod::NotKnownYet),
    ] {
        let attributes = attributes.map(Attributes);
        let geometry = WriteLimits { attributes, can_read, ..geometry(&g1.flash) };
        let plan = Plan::draft(&input(&sheet, g1, &file, geometry)).unwrap();
        assert_eq!((kinds(&plan).as_str(), plan.restart()), (wanted, restart), "{attributes:?} {can_read}");
        assert!(plan.is_streamed() && plan.untouched.is_empty());
        assert_eq!(plan.rereads(), wanted.contains("read-once-more"));
        assert!(!plan.erases_by_request() && !plan.checks_by_device() && !plan.compares_shown_file());
    }
}

/// A stream is equal as a whole or written as a whole.
#[test]
fn plain_dfu_writes_nothing_only_if_all_is_equal() {
    let sheet = sheet("gannet.toml");
    let g1 = sheet.variant("g1").unwrap();
    let file = image(&[(0x5000, 5000)]);
    let all = sectors_of(&g1.flash, &file);
    assert_eq!(all.len(), 3);
    let geometry = WriteLimits { attributes: Some(Attributes(7)), ..geometry(&g1.flash) };
    let unseen = input(&sheet, g1, &file, geometry);
    for (content, wanted, sectors) in [
        (KnownContent::Equal(&all), "restart confirm", 0),
        (KnownContent::Equal(&all[..2]), "write finish read-back restart confirm", 3),
        (KnownContent::Equal(&[]), "write finish read-back restart confirm", 3),
        (KnownContent::Rewrite, "write finish read-back restart confirm", 3),
    ] {
        let plan = Plan::draft(&PlanInput { content, ..unseen }).unwrap();
        assert_eq!((kinds(&plan).as_str(), plan.sectors().len()), (wanted, sectors), "{content:?}");
        assert_eq!(plan.comparison(), None);
    }
    let entered = Plan::draft(&PlanInput { needs_entry: true, ..unseen }).unwrap();
    assert!(kinds(&entered).starts_with("enter identify compare write"));
    // On such a route only the unit decides what is erased.
    let keep = ["settings".to_owned()];
    for refused in [PlanInput { erase_all: true, ..unseen }, PlanInput { keep: &keep, ..unseen }] {
        assert!(matches!(Plan::draft(&refused), Err(PlanError::UnitDecides { .. })));
    }
    let none = WriteLimits { block_size: Some(0), ..geometry };
    assert_eq!(Plan::draft(&PlanInput { geometry: none, ..unseen }).unwrap_err(), PlanError::NoBlockSize);
}

/// With addresses only what differs is erased, written and read back.
#[test]
fn addressed_dfu_leaves_equal_sectors_out() {
    let sheet = sheet("tern.toml");
    let r1 = sheet.variant("r1").unwrap();
    let start = r1.image.region.span.start().get();
    let file = image(&[(start, 0x1000), (start + 0x2000, 16)]);
    let all = sectors_of(&r1.flash, &file);
    let unseen = input(&sheet, r1, &file, geometry(&r1.flash));
    let lengths = |plan: &Plan| plan.runs().iter().map(|run| run.span().len()).collect::<Vec<_>>();
    let plan = Plan::draft(&unseen).unwrap();
    assert_eq!(kinds(&plan), "compare erase write read-back restart confirm");
    assert_eq!(plan.comparison().unwrap().1, all);
    // The image's second part gets a run of its own; its block is filled up.
    assert_eq!(lengths(&plan), [0x1000, 0x400]);
    assert!(plan.erases_by_request() && !plan.is_streamed() && plan.held_back().is_none());
    for (content, can_read, erase_all, wanted) in [
        (KnownContent::Unseen, false, false, "erase write restart confirm"),
        (KnownContent::Rewrite, true, false, "erase write read-back restart confirm"),
        (KnownContent::Equal(&all), true, false, "restart confirm"),
        (KnownContent::Equal(&all[1..]), true, false, "erase write read-back restart confirm"),
        (KnownContent::Unseen, true, true, "erase write read-back restart confirm"),
    ] {
        let geometry = WriteLimits { can_read, ..unseen.geometry };
        let plan = Plan::draft(&PlanInput { content, geometry, erase_all, ..unseen }).unwrap();
        assert_eq!(kinds(&plan), wanted, "{content:?} {can_read} {erase_all}");
    }
    let one_left = Plan::draft(&PlanInput { content: KnownContent::Equal(&all[1..]), ..unseen }).unwrap();
    assert_eq!((one_left.sectors(), &lengths(&one_left)[..]), (&all[..1], &[all[0].len()][..]));
    // Everything but the bootloader, which this sheet has.
    let cleared = Plan::draft(&PlanInput { erase_all: true, ..unseen }).unwrap();
    let bootloader = r1.regions.iter().find(|region| region.name == "bootloader").unwrap().span;
    assert!(cleared.sectors().len() > all.len());
    assert!(cleared.sectors().iter().all(|sector| sector.common(bootloader).is_none()));
    assert_eq!(cleared.untouched, ["bootloader"]);
    // A kept region stays even then, so the part cannot be erased with one request.
    let keep = ["settings".to_owned()];
    let settings = r1.regions.iter().find(|region| region.name == "settings").unwrap().span;
    let kept = Plan::draft(&PlanInput { erase_all: true, keep: &keep, ..unseen }).unwrap();
    assert!(cleared.sectors().iter().any(|sector| sector.common(settings).is_some()));
    assert!(kept.sectors().iter().all(|sector| sector.common(settings).is_none()));
    assert!(kinds(&kept).starts_with("erase write"));
    assert_eq!(kept.untouched, ["bootloader", "settings"]);
    let outside = image(&[(0x100, 16)]);
    assert!(matches!(Plan::draft(&PlanInput { image: &outside, ..unseen }), Err(PlanError::NoSector(_))));
}

/// A UF2 unit leaves at the last block, so that block waits until the others were read back.
#[test]
fn uf2_holds_the_last_block_back() {
    let sheet = sheet("petrel.toml");
    let pb1 = sheet.variant("pb1").unwrap();
    let start = pb1.image.region.span.start().get();
    let file = image(&[(start, 600)]);
    let geometry = WriteLimits { block_size: Some(256), ..geometry(&pb1.flash) };
    let unseen = input(&sheet, pb1, &file, geometry);
    let plan = Plan::draft(&unseen).unwrap();
    assert_eq!(kinds(&plan), "compare write read-back finish restart confirm");
    // 600 bytes are three blocks of 256; the third is held back.
    assert_eq!(plan.held_back(), Some(span(start + 512, 256)));
    assert_eq!(plan.runs().iter().map(|run| run.span()).collect::<Vec<_>>(), [span(start, 768)]);
    assert_eq!((plan.restart(), plan.is_streamed()), (RestartMethod::Itself, false));
    let one_block = image(&[(start, 256)]);
    let plan = Plan::draft(&PlanInput { image: &one_block, content: KnownContent::Rewrite, ..unseen }).unwrap();
    assert_eq!(kinds(&plan), "write finish restart confirm", "nothing is left to read back before the last block");
    let equal = sectors_of(&pb1.flash, &file);
    let plan = Plan::draft(&PlanInput { content: KnownContent::Equal(&equal), ..unseen }).unwrap();
    assert_eq!((kinds(&plan).as_str(), plan.restart()), ("restart confirm", RestartMethod::Eject));
    let again = Plan::draft(&PlanInput { content: KnownContent::Rewrite, ..unseen }).unwrap().sending_again();
    assert_eq!(kinds(&again), "send-again write read-back finish restart confirm");
}

/// The dialect's operations decide which steps a plan has.
#[test]
fn a_dialect_has_the_steps_that_it_offers() {
    let sheet = spoken("dunlin.toml", &["dunlin.dialect.toml", "linnet.dialect.toml"]);
    let variant = &sheet.variants[0];
    let file = image(&[(variant.image.region.span.start().get(), 3000)]);
    let plain = DialectCapabilities {
        align: 1,
        pad: false,
        order: Order::Ascending,
        erase: Some(EraseBy::Page),
        erases_itself: None,
        stream: false,
        check: None,
        decides: false,
        ends: false,
        restarts: true,
        needs_end: false,
    };
    let all = sectors_of(&variant.flash, &file);
    let none = DialectCapabilities { erase: None, ..plain };
    #[rustfmt::skip]
    let cases = [
        (plain, true, "compare erase write read-back restart confirm", RestartMethod::Request),
        (plain, false, "erase write restart confirm", RestartMethod::Request),
        (DialectCapabilities { erase: Some(EraseBy::All), ..plain }, true,
            "compare erase-all write read-back restart confirm", RestartMethod::Request),
        (DialectCapabilities { erases_itself: Some(Erases::Covered), ..none }, true,
            "compare unit-erases write read-back restart confirm", RestartMethod::Request),
        (DialectCapabilities { erases_itself: Some(Erases::FirstWrite), ..none }, true,
            "compare unit-erases write read-back restart confirm", RestartMethod::Request),
        (DialectCapabilities { restarts: false, ..plain }, true,
            "compare erase write read-back restart confirm", RestartMethod::PowerCycle),
        (DialectCapabilities { ends: true, ..plain }, true,
            "compare erase write finish read-back restart confirm", RestartMethod::Request),
        (DialectCapabilities { check: Some(ChecksumScope::Written), ..plain }, false,
            "erase write device-check restart confirm", RestartMethod::Request),
        (DialectCapabilities { check: Some(ChecksumScope::Written), decides: true, ..plain }, false,
            "compare erase write device-check restart confirm", RestartMethod::Request),
    ];
    for (offer, can_read, wanted, restart) in cases {
        let geometry = WriteLimits { can_read, offer: Some(offer), ..geometry(&variant.flash) };
        let plan = Plan::draft(&input(&sheet, variant, &file, geometry)).unwrap();
        assert_eq!((kinds(&plan).as_str(), plan.restart()), (wanted, restart), "{offer:?}");
        assert_eq!(plan.checks_by_device(), wanted.contains("device-check"));
        // Nothing to write: the end is told only to a unit that needs it to leave.
        let equal = PlanInput { content: KnownContent::Equal(&all), ..input(&sheet, variant, &file, geometry) };
        assert_eq!(kinds(&Plan::draft(&equal).unwrap()), "restart confirm", "{offer:?}");
        let needs_end = DialectCapabilities { ends: true, needs_end: true, ..offer };
        let geometry = WriteLimits { offer: Some(needs_end), ..geometry };
        assert_eq!(kinds(&Plan::draft(&PlanInput { geometry, ..equal }).unwrap()), "finish restart confirm");
    }
}

/// A unit that erases a sector at its first chunk keeps the equal ones; one that erases all that an image
/// covers keeps none, and also loses the gaps.
#[test]
fn equal_sectors_are_written_again_where_the_unit_erases_them() {
    let sheet = spoken("dunlin.toml", &["dunlin.dialect.toml", "linnet.dialect.toml"]);
    let variant = &sheet.variants[0];
    let start = variant.image.region.span.start().get();
    let size = variant.flash.sectors_in(variant.image.region.span).unwrap()[0].len();
    // Two segments with an empty sector between them; the first sector is equal.
    let len = usize::try_from(size).unwrap();
    let file = image(&[(start, 2 * len), (start + 3 * size, len)]);
    let sector = |number: u64| Span::new(Address::new(start + number * size), size).unwrap();
    let equal = [sector(0)];
    let dialect = variant.routes[0].kind.dialect().unwrap();
    for (erases, wanted) in [(Erases::FirstWrite, vec![1, 3]), (Erases::Covered, vec![0, 1, 2, 3])] {
        let offer = DialectCapabilities {
            erase: None,
            erases_itself: Some(erases),
            ..DialectCapabilities::of(&dialect.dialect)
        };
        let geometry = WriteLimits { can_read: true, offer: Some(offer), ..geometry(&variant.flash) };
        let job = PlanInput { content: KnownContent::Equal(&equal), ..input(&sheet, variant, &file, geometry) };
        let sectors = Plan::draft(&job).unwrap().sectors().to_vec();
        assert_eq!(sectors, wanted.into_iter().map(sector).collect::<Vec<_>>(), "{erases:?}");
    }
}

/// The executor gets the operations on memory and nothing else, in the plan's order.
#[test]
fn only_operations_on_memory_reach_the_executor() {
    let sheet = sheet("tern.toml");
    let r1 = sheet.variant("r1").unwrap();
    let file = image(&[(r1.image.region.span.start().get(), 100)]);
    let plan = Plan::draft(&PlanInput { needs_entry: true, ..input(&sheet, r1, &file, geometry(&r1.flash)) }).unwrap();
    assert_eq!(kinds(&plan), "enter identify compare erase write read-back restart confirm");
    assert!(plan.undo(UndoPhase::Entered).is_empty() && plan.undo(UndoPhase::End).is_empty());
    let mut undone = plan.clone();
    undone.append_undo(&[vaka_core::sheet::Undo {
        action: "Set BOOT back.".to_owned(),
        when: UndoPhase::End,
        after: Vec::new(),
        shows: None,
    }]);
    assert_eq!(undone.undo(UndoPhase::End)[0].action, "Set BOOT back.");
    assert_eq!(undone.defer_undo().len(), 1);
    assert_eq!(undone, plan, "what was taken is gone");
    let approval = approved(&sheet, r1);
    let approved = plan.approve(&approval).unwrap();
    let steps: Vec<MemoryStep<'_>> = approved.memory_steps().map(|(_, operation)| operation).collect();
    assert!(matches!(
        steps[..],
        [MemoryStep::Erase(_), MemoryStep::Write(_), MemoryStep::ReadBack { vouched: true, .. }]
    ));
}

/// The approval of a final verdict that fits.
fn approved(sheet: &Sheet, variant: &Variant) -> vaka_core::matching::Approval {
    use vaka_core::matching::{MatchInput, judge};
    use vaka_core::memory::layout::Layout;
    use vaka_core::unit::{DfuAlternate, DfuFacts, UnitFacts, UsbId};
    let file = std::fs::read(demo::firmware("tern-r1-1.5.0.hex")).unwrap();
    let image = vaka_image::read(&file, vaka_image::ReadOptions::default()).unwrap();
    let layout = Layout::parse("@Tide Flash/0x0A000000/48*003Kg");
    let alternate = DfuAlternate { number: 0, name: None, layout };
    let dfu = DfuFacts { interface: 0, in_dfu_mode: true, alternates: vec![alternate], functional: None };
    let unit = UnitFacts {
        id: UsbId { vendor: 0x1209, product: 2 }.into(),
        release: vaka_base::version::ReleaseNumber(0x0100),
        maker: None,
        product: None,
        serial: None,
        dfu: vec![dfu],
        volume: None,
        told: Vec::new(),
        lines: Vec::new(),
    };
    let case = MatchInput { unit: Some(&unit), label: Some(variant), ..MatchInput::new(sheet, &image) };
    let verdict = judge(&case);
    let conflicts: Vec<String> = verdict.conflicts().map(|evidence| evidence.sentence()).collect();
    verdict.approval().unwrap_or_else(|| panic!("{conflicts:?}"))
}

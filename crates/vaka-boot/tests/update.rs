//! The whole update in process, in virtual time: every fault at every
//! transfer, and every state in which an earlier program may have left a unit.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

use std::ops::Range;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use vaka_boot::bench::Bench;
use vaka_boot::pace::Pace;
use vaka_boot::update::{self, Nobody, Request};
use vaka_core::address::Address;
use vaka_core::event::{After, Check, Code, Event, Failure, Report};
use vaka_core::image::{self, Image, ReadOptions, hex};
use vaka_core::sheet::Sheet;
use vaka_sim::clock::VirtualClock;
use vaka_sim::fault::{Fault, FaultKind};
use vaka_sim::in_process::SimBus;
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::unit::{Condition, Hand};
use vaka_sim::usb;
use vaka_sim::world::lock;
use vaka_sim::{SharedWorld, World};
use vaka_usb::{Bus, Clock, Setup};

const SHEET: &str = include_str!("../../../demo/sheets/tern.toml");
const HEX: &[u8] = include_bytes!("../../../demo/firmware/out/tern-r1-1.5.0.hex");
/// By `objcopy`, from the same link as the HEX file.
const BINARY: &[u8] = include_bytes!("../../../demo/firmware/out/tern-r1-1.5.0.bin");

struct Scene {
    world: SharedWorld,
    clock: Arc<VirtualClock>,
    sheets: Vec<Sheet>,
    before: Vec<u8>,
}

impl Scene {
    fn new(faults: Vec<Fault>) -> Self {
        Self::with_sheet(faults, SHEET)
    }

    fn with_sheet(faults: Vec<Fault>, sheet: &str) -> Self {
        let clock = Arc::new(VirtualClock::default());
        let mut world = World::new(clock.clone());
        world.plug("1-1", Box::new(Tern::in_boot_mode(Revision::R1, "T1-00217")), faults);
        let before = world.unit("1-1").unwrap().flash().bytes().to_vec();
        Self { world: world.shared(), clock, sheets: vec![Sheet::parse("tern.toml", sheet).unwrap()], before }
    }

    fn bus(&self) -> SimBus {
        SimBus::new(self.world.clone(), self.clock.clone())
    }

    fn update(&self) -> (Report, Vec<Event>) {
        self.update_with(HEX)
    }

    fn update_with(&self, file: &[u8]) -> (Report, Vec<Event>) {
        let bench = Bench::new(vec![Arc::new(self.bus())], &self.sheets);
        let request = Request {
            file,
            options: ReadOptions::default(),
            unit: None,
            label: Some("r1".into()),
            wait: Duration::from_secs(5),
            agreed: Vec::new(),
            plan_only: false,
            read_back: true,
        };
        let stop = AtomicBool::new(false);
        let mut events = Vec::new();
        let mut tell = |event| events.push(event);
        let report = update::run(&bench, &request, &mut Nobody, &mut Pace::new(&*self.clock, &mut tell, &stop));
        (report, events)
    }

    fn hand(&self, hand: Hand) {
        assert!(lock(&self.world).hand("1-1", &hand));
    }

    /// What a person does with a unit that is stuck: pulls it, and plugs it
    /// in again with SET held.
    fn back_into_update_mode(&self) {
        self.hand(Hand::Pull);
        self.hand(Hand::Hold("SET".into()));
        self.hand(Hand::Plug);
        self.clock.sleep(Duration::from_secs(1));
        self.hand(Hand::Release("SET".into()));
    }

    fn condition(&self) -> Condition {
        lock(&self.world).unit("1-1").unwrap().condition()
    }

    fn memory(&self, range: Range<u32>) -> Vec<u8> {
        let mut world = lock(&self.world);
        world.unit("1-1").unwrap().flash().read(range.start, range.len()).unwrap().to_vec()
    }

    fn holds_image(&self) -> bool {
        let start = Tern::application_region(Revision::R1).start;
        self.memory(start..start + u32::try_from(BINARY.len()).unwrap()) == BINARY
    }

    #[track_caller]
    fn assert_unharmed(&self, what: &str) {
        assert_ne!(self.condition(), Condition::Bricked, "{what}");
        for region in [Tern::bootloader_region(Revision::R1), Tern::settings_region(Revision::R1)] {
            let before = &self.before[(region.start - 0x0A00_0000) as usize..(region.end - 0x0A00_0000) as usize];
            assert_eq!(self.memory(region), before, "{what}");
        }
    }
}

fn failure(events: &[Event]) -> Option<&Failure> {
    events.iter().find_map(|event| match event {
        Event::Error(failure) => Some(failure),
        _ => None,
    })
}

/// Class transfers of an update without faults.
fn transfers() -> u64 {
    let scene = Scene::new(Vec::new());
    let (report, _) = scene.update();
    assert_eq!((report.code, report.check, report.after), (Code::Done, Check::ReadBack, After::Confirmed));
    assert!(scene.holds_image());
    let log = lock(&scene.world).log("1-1").len();
    u64::try_from(log).unwrap()
}

#[test]
fn no_fault_at_any_transfer_makes_a_false_success_or_harms_the_unit() {
    let kinds = [
        FaultKind::Stall,
        FaultKind::Silence,
        FaultKind::Short,
        FaultKind::Pull(None),
        FaultKind::Pull(Some(Duration::from_millis(700))),
    ];
    let count = transfers();
    assert!(count > 100, "{count}");
    let mut failed = 0;
    for at in 1..=count {
        for kind in &kinds {
            let what = format!("{kind:?} at transfer {at} of {count}");
            let scene = Scene::new(vec![Fault { at, kind: kind.clone() }]);
            let (report, events) = scene.update();
            scene.assert_unharmed(&what);
            let succeeded = report.code == Code::Done;
            assert_eq!(succeeded, failure(&events).is_none(), "{what}: {report:?}");
            if succeeded {
                assert!(scene.holds_image(), "{what}: a false success");
                scene.clock.sleep(Duration::from_secs(1));
                assert_eq!(scene.condition(), Condition::Application, "{what}");
                continue;
            }
            failed += 1;
            let said = failure(&events).unwrap();
            assert!(said.state.is_some() && said.cure.is_some(), "{what}: {said:?}");
            assert!(matches!(report.code, Code::Transfer | Code::NotBack), "{what}: {said:?}");
            scene.back_into_update_mode();
            let (again, events) = scene.update();
            assert_eq!(again.code, Code::Done, "{what}, second run: {:?}", failure(&events));
            assert!(scene.holds_image(), "{what}, second run");
            scene.assert_unharmed(&what);
        }
    }
    // Most of them must have been felt, or the faults did not happen.
    assert!(failed > count * 3, "{failed}");
}

/// Brings the unit's DFU interface into a state, as an earlier program might
/// have left it, by raw requests; returns the state that it tells.
fn leave_in(scene: &Scene, requests: &[(u8, u16, &[u8])]) -> u8 {
    let mut device = scene.bus().open("1-1").unwrap();
    let second = Duration::from_secs(1);
    for (request, value, data) in requests {
        let setup = |kind| Setup { kind, request: *request, value: *value, index: 0 };
        // Some of these are refused on purpose.
        let _ = match request {
            2 => device.control_in(setup(0xA1), 1024, second).map(drop),
            3 => device.control_in(setup(0xA1), 6, second).map(drop),
            _ => device.control_out(setup(0x21), data, second),
        };
    }
    // The program ends without giving the device back: nothing is reset.
    std::mem::forget(device);
    let world = scene.world.clone();
    let setup = usb::Setup { kind: 0xA1, request: 5, value: 0, index: 0, length: 1 };
    let mut world = lock(&world);
    let enumeration = world.unit("1-1").unwrap().face().unwrap().0;
    let state = match world.control("1-1", enumeration, setup, &[]) {
        Some(usb::Answer::Data(bytes)) => bytes[0],
        _ => 4,
    };
    world.release("1-1");
    state
}

/// A second segment far behind the first: its own sector, run and address
/// command, and what lies between them stays.
#[test]
fn an_image_with_a_gap_is_written_in_two_runs() {
    let image = image::read(HEX, ReadOptions::default()).unwrap();
    let extra: Vec<u8> = (0..=255).cycle().take(2000).collect();
    // 0x0A01_0801: a sector and two blocks behind 0x0A01_0000, and odd.
    let at = 0x0A01_0801;
    let options = ReadOptions { at: Some(Address::new(u64::from(at))), ..ReadOptions::default() };
    let both = Image::join(&[image, image::read(&extra, options).unwrap()]).unwrap().unwrap();
    let scene = Scene::new(Vec::new());
    let (report, events) = scene.update_with(&hex::write(&both));
    assert_eq!((report.code, report.check), (Code::Done, Check::ReadBack), "{:?}", failure(&events));
    assert!(scene.holds_image());
    assert_eq!(scene.memory(at..at + 2000), extra);
    assert_eq!(scene.memory(0x0A00_7800..0x0A01_0000), vec![0xFF; 0x8800], "as it was found: erased");
    scene.assert_unharmed("two runs");
    // 21 blocks; and from 0x0A01_0800 on 2001 bytes in two blocks of 1 KiB.
    assert_eq!((report.transfers.blocks, report.transfers.runs), (23, 2));
    assert_eq!(report.transfers.write, 3 * (23 + 2));
}

/// The padding of the last block is written, so it is checked as well.
#[test]
fn a_bit_that_is_lost_in_the_padding_is_found() {
    let scene = Scene::new(Vec::new());
    let end = Tern::application_region(Revision::R1).start + u32::try_from(BINARY.len()).unwrap();
    lock(&scene.world).unit("1-1").unwrap().flash_mut().wear(end + 100);
    let (report, events) = scene.update();
    assert_eq!((report.code, report.check), (Code::Differs, Check::None), "{:?}", failure(&events));
    assert_eq!(report.bytes_checked, BINARY.len() as u64, "all of the image is equal");
    let said = &failure(&events).unwrap().message;
    assert!(said.contains("1 byte differs") && said.contains("the image has 0xFF, the unit 0x7F"), "{said}");
}

#[test]
fn every_state_an_earlier_program_left_leads_to_a_good_update() {
    let set_address: &[u8] = &[0x21, 0x00, 0x24, 0x00, 0x0A];
    let erase_bootloader: &[u8] = &[0x41, 0x00, 0x00, 0x00, 0x0A];
    type Requests<'a> = &'a [(u8, u16, &'a [u8])];
    let cases: &[(u8, Requests<'_>)] = &[
        (2, &[]),
        // An erase of the bootloader that waits for its status: asking for
        // the status would start it.
        (3, &[(1, 0, erase_bootloader)]),
        (5, &[(1, 0, set_address), (3, 0, &[]), (3, 0, &[])]),
        (9, &[(2, 2, &[])]),
        (6, &[(1, 0, &[])]),
        // An unexpected request, an unknown command, an address outside.
        (10, &[(0, 0, &[])]),
        (10, &[(1, 0, &[0x77]), (3, 0, &[])]),
        (10, &[(1, 0, &[0x21, 0, 0, 0, 0]), (3, 0, &[])]),
    ];
    for (state, requests) in cases {
        let scene = Scene::new(Vec::new());
        assert_eq!(leave_in(&scene, requests), *state, "{requests:02X?}");
        let (report, events) = scene.update();
        assert_eq!(report.code, Code::Done, "{requests:02X?}: {:?}", failure(&events));
        assert!(scene.holds_image());
        scene.assert_unharmed(&format!("{requests:02X?}"));
    }
}

#[test]
fn the_time_is_what_the_unit_asked_for_and_hardly_more() {
    let scene = Scene::new(Vec::new());
    let (report, _) = scene.update();
    let spent = |name: &str| {
        let found = report.durations_ms.iter().find(|(step, _)| step.words() == name);
        found.map(|(_, ms)| *ms).unwrap()
    };
    // By hand: 7 sectors of 3 KiB at 10 ms a KiB and a tenth more; 21 blocks of
    // 1 KiB at 8 ms and a tenth more, rounded up; 2 ms for each address
    // command, of which writing and reading take one.
    assert_eq!(spent("erase"), 7 * 33);
    assert_eq!(spent("write"), 21 * 9 + 2);
    assert_eq!(spent("read back"), 2);
}

#[test]
fn not_back_is_told_apart() {
    let pulled = Scene::new(Vec::new());
    // Erase, write, read back and the leave request take some 0.6 s; then the
    // unit is dark for a quarter of a second.
    lock(&pulled.world).hand_later("1-1", Duration::from_millis(700), Hand::Pull);
    let other_id = Scene::with_sheet(Vec::new(), &SHEET.replace("id = \"1209:0001\"", "id = \"1209:0007\""));
    let other_name =
        Scene::with_sheet(Vec::new(), &SHEET.replace("product = \"Tern tide gauge\"", "product = \"Tern\""));
    // The sheet looks for the version where the image has its length.
    let other_version = Scene::with_sheet(Vec::new(), &SHEET.replace("offset = 0x4C", "offset = 0x44"));
    for (scene, words) in [
        (pulled, "nothing showed up on its port within 10 s"),
        (other_id, "it came back as 1209:0001, which is not its application"),
        (other_name, "it came back at 1-1 as \"Tern tide gauge\", not as \"Tern\""),
        (other_version, "it came back at 1-1 with version 1.5.0; the image has"),
    ] {
        let (report, events) = scene.update();
        let said = failure(&events).unwrap();
        assert!(said.message.contains(words), "{said:?}");
        assert_eq!((report.code, report.after, report.check), (Code::NotBack, After::NotBack, Check::ReadBack));
        assert!(scene.holds_image());
    }
}

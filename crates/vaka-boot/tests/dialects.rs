//! The demo's units with bootloaders of their own, in process and in virtual time:
//! every fault at every transfer, and units that answer something else.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::sync::atomic::AtomicBool;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use support::products::PRODUCTS;
use support::{FAULT_KINDS, Scene, failure, sheet_with};
use vaka_boot::bench::buses::Bench;
use vaka_boot::context::Context;
use vaka_boot::failure::FailureKind;
use vaka_boot::operator::Unattended;
use vaka_boot::protocol::session_error::SessionError;
use vaka_boot::update::{self, Request};

use vaka_boot::event::Event;
use vaka_core::event::{ExitCode, Report, RestartState};
use vaka_core::sheet::Sheet;
use vaka_sim::bootloader::disk::{Deviation, Quirks};
use vaka_sim::fault::Fault;
use vaka_sim::flash::StuckBit;
use vaka_sim::unit::auk::auk;
use vaka_sim::unit::avocet;
use vaka_sim::unit::dunlin::dunlin;
use vaka_sim::unit::fulmar::fulmar;
use vaka_sim::unit::skua::skua;
use vaka_sim::unit::{Condition, Unit, UserAction};
use vaka_usb::{Bus, BusError, Clock, DeviceInfo, EndpointInfo, Setup, TransferError, UsbDevice};

#[test]
fn no_fault_at_any_transfer_makes_a_false_success_or_harms_the_unit() {
    for product in &PRODUCTS {
        let whole = product.booted(Vec::new());
        let (report, events) = whole.update();
        let expected = (ExitCode::Done, product.check, RestartState::Confirmed);
        assert_eq!((report.code, report.check, report.after), expected, "{}: {:?}", product.name, failure(&events));
        assert!(whole.holds_image(), "{}", product.name);
        let count = whole.transfers();
        let mut failed = 0;
        for at in (1..=count).filter(|at| *at < 20 || at % 41 == 0 || *at > count - 8) {
            for kind in &FAULT_KINDS {
                let what = format!("{}, {kind:?} at transfer {at} of {count}", product.name);
                failed += u64::from(product.booted(vec![Fault { at, kind: kind.clone() }]).is_survived(&what));
            }
        }
        // Most of them must have been felt, or the faults did not happen.
        assert!(failed > 30, "{}: {failed} of {count}", product.name);
    }
}

/// From the application, where that can be asked to leave.
#[test]
fn an_application_is_asked_in_a_dialect_of_its_own() {
    let has_signal = |product: &&support::products::Product| product.sheet.contains("signal = \"dialect\"");
    for product in PRODUCTS.iter().filter(has_signal) {
        let scene = product.scene((product.unit)("X-00001"), Vec::new());
        let (report, events) = scene.update();
        assert_eq!((report.code, report.after), (ExitCode::Done, RestartState::Confirmed), "{:?}", failure(&events));
        assert!(scene.holds_image(), "{}", product.name);
        let (report, _) = scene.update_with(scene.file, |request| request.rewrite = false);
        assert_eq!(report.bytes_written, 0, "{}: it already exists", product.name);
    }
}

/// A bit of flash that does not take what is programmed: the unit's own sum tells, and so
/// does reading back.
#[test]
fn flash_that_does_not_hold_what_was_written_is_found() {
    for product in &PRODUCTS {
        let mut unit = (product.unit)("X-00001").in_boot_mode();
        let start = unit.regions()[1].start;
        // The first byte of the image that has some bit clear.
        let at = product.file.iter().position(|byte| *byte != 0xFF).unwrap();
        let bit = u8::try_from(product.file[at].trailing_ones()).unwrap();
        unit.flash_mut().add_stuck_bit(StuckBit { address: start + u32::try_from(at).unwrap(), bit });
        let scene = product.scene(unit, Vec::new());
        let (report, events) = scene.update();
        assert_eq!(report.code, ExitCode::Differs, "{}: {:?}", product.name, failure(&events));
        assert_eq!(scene.condition(), Condition::Boot, "{}: it must not be started", product.name);
    }
}

/// Auk's sheet and dialect, each changed in some places.
fn changed_auk(sheet: &[(&str, &str)], dialect: &[(&str, &str)]) -> Sheet {
    let change = |text: &str, changes: &[(&str, &str)]| {
        changes.iter().fold(text.to_owned(), |text, (from, to)| {
            assert!(text.contains(from), "it no longer holds: {from}");
            text.replacen(from, to, 1)
        })
    };
    let auk = &PRODUCTS[1];
    sheet_with(&change(auk.sheet, sheet), &[&change(auk.dialects[0], dialect), auk.dialects[1]])
}

fn auk_with(sheet: Sheet) -> Scene {
    Scene::loaded(auk("A-00044").in_boot_mode(), Vec::new(), sheet, PRODUCTS[1].file, "KEY")
}

/// Two variants share one boot id: the bootloader's report decides, without a prompt.
#[test]
fn what_a_bootloader_tells_decides_between_variants() {
    let twins = |first: &str, second: &str| {
        let of_sheet = PRODUCTS[1].sheet;
        let variant = &of_sheet[of_sheet.find("[[variant]]").unwrap()..of_sheet.find("[[route]]").unwrap()];
        let route = &of_sheet[of_sheet.find("[[route]]").unwrap()..];
        let other = variant.replace("\"h1\"", "\"h2\"").replace("SKI-AUK", "SKI-AUK 2");
        let of = |id: &str, chip: &str| {
            route.replace("writes =", &format!("variants = [\"{id}\"]\nwrites =")).replace("0x41A7", chip)
        };
        let both = format!("{other}{}{}", of("h1", first), of("h2", second));
        changed_auk(&[(route, &both)], &[])
    };
    for (first, second, variant) in [("0x41A7", "0x41A8", "h1"), ("0x41A8", "0x41A7", "h2")] {
        let (report, events) = auk_with(twins(first, second)).update();
        assert_eq!(report.code, ExitCode::Done, "{:?}", failure(&events));
        assert_eq!(report.variant.unwrap().as_str(), variant);
    }
    let scene = auk_with(twins("0x41A8", "0x41A9"));
    let (report, _) = scene.update();
    assert_eq!(report.code, ExitCode::Refused);
    assert!(!scene.holds_image());
}

#[test]
fn a_protected_unit_is_refused_before_anything_is_changed() {
    let protection = "[protection]\nsend = \"0x3A, u8 = tag\"\nreply = \"0xBA, u8 = tag, u8 in status, u16le _, u8 level, u32le _\"\n\
                      protected = \"level == 3\"\n\n[restart]";
    let scene = auk_with(changed_auk(&[], &[("[restart]", protection)]));
    let (report, events) = scene.update();
    let said = failure(&events).unwrap();
    assert!(report.code == ExitCode::Refused && matches!(&*said.kind, FailureKind::ReadProtected { .. }), "{said:?}");
    scene.assert_unharmed("a protected unit");
    assert!(!scene.holds_image());
}

/// The unit reports a smaller writable range than the sheet's route.
#[test]
fn a_unit_that_can_write_less_is_refused() {
    let geometry = "align = 32\nstart = 0x0D002000\nsize = \"flash_size / 16\"";
    let scene = auk_with(changed_auk(&[], &[("align = 32", geometry)]));
    let (report, events) = scene.update();
    let said = failure(&events).unwrap();
    assert!(report.code != ExitCode::Done && format!("{said:?}").contains("0xD002000..0xD003000"), "{said:?}");
    assert!(!scene.holds_image());
}

/// A unit with damaged firmware shows nothing; its pads force the boot mode.
#[test]
fn a_silent_unit_is_recovered() {
    let product = &PRODUCTS[3];
    let scene = product.scene(skua("K-00008").damaged(), Vec::new());
    assert_eq!(scene.condition(), Condition::Silent);
    let (report, events) = scene.update();
    assert_eq!(report.code, ExitCode::NoUnit, "{:?}", failure(&events));
    let told =
        events.iter().any(|event| matches!(event, Event::ManualStep { step, .. } if step.action.contains("BRIDGE")));
    assert!(told, "the remedy for a silent unit is missing");
    scene.back_into_update_mode();
    let (report, events) = scene.update();
    assert_eq!((report.code, report.after), (ExitCode::Done, RestartState::Confirmed), "{:?}", failure(&events));
    assert!(scene.holds_image());
}

/// A Dunlin that is plugged in while the tool waits is caught within 200 ms, in time
/// before its loader goes on; one that was plugged in before is not.
#[test]
fn a_short_window_is_met_if_the_tool_waits_before() {
    let product = &PRODUCTS[0];
    let scene = product.scene(dunlin("N-00301").unplugged(), Vec::new());
    {
        let mut world = vaka_sim::world::lock(&scene.world);
        world.act_later(support::PORT, Duration::from_secs(3), UserAction::Plug);
    }
    let (report, events) = scene.update();
    assert_eq!((report.code, report.after), (ExitCode::Done, RestartState::Confirmed), "{:?}", failure(&events));
    assert!(scene.holds_image());
    let waited = events.iter().any(|event| {
        matches!(event, Event::Waiting { waiting_for, left_ms: Some(_) }
            if waiting_for == "Dunlin salinity probe: if it is already connected, unplug it and plug it back in")
    });
    assert!(waited, "it was not said how to meet the window");
    // Too early: its application runs by now, and no action pulls the cable.
    let late = product.scene(dunlin("N-00301"), Vec::new());
    let (report, events) = late.update();
    let hand = events
        .iter()
        .any(|event| matches!(event, Event::ManualStep { step, .. } if step.action.contains("Pull the cable")));
    assert!(hand && report.code == ExitCode::NoUnit, "{:?}", failure(&events));
}

/// From the unit's appearance to the first request that it gets.
#[test]
fn a_unit_is_asked_within_200_ms_of_its_appearance() {
    let product = &PRODUCTS[0];
    let scene = product.scene(dunlin("N-00301").unplugged(), Vec::new());
    let plugged = Duration::from_millis(2345);
    vaka_sim::world::lock(&scene.world).act_later(support::PORT, plugged, UserAction::Plug);
    let (bus, asked) = (Arc::new(scene.bus()), Arc::new(Mutex::new(None)));
    let watched =
        Tampered { bus, asked: asked.clone(), clock: scene.clock.clone(), tamper: None, seen: Arc::default() };
    let (report, events) = run(&scene, watched);
    assert_eq!(report.code, ExitCode::Done, "{:?}", failure(&events));
    // It shows up 250 ms after it got power.
    let appeared = plugged + Duration::from_millis(250);
    let asked = asked.lock().unwrap().unwrap();
    assert!(asked >= appeared && asked - appeared <= Duration::from_millis(200), "{:?}", asked - appeared);
}

/// How one answer is bent.
#[derive(Clone, Copy, Debug)]
enum Bent {
    Garbage,
    Short,
    Long,
    /// It comes only after the time limit.
    Late,
    /// The answer before it comes again.
    Other,
    /// From here on bytes come and come, and never the end of a frame.
    Endless,
}

const BENT: [Bent; 5] = [Bent::Garbage, Bent::Short, Bent::Long, Bent::Late, Bent::Other];

/// No mark of any framing here.
const ENDLESS: u8 = 0x55;

/// A bus whose units answer something else once.
struct Tampered {
    bus: Arc<dyn Bus>,
    clock: Arc<dyn Clock>,
    /// When the first request of the unit's own came.
    asked: Arc<Mutex<Option<Duration>>>,
    tamper: Option<(u64, Bent)>,
    /// Answers so far.
    seen: Arc<Mutex<Answers>>,
}

#[derive(Default)]
struct Answers {
    count: u64,
    before: Vec<u8>,
    late: Option<Vec<u8>>,
}

impl Bus for Tampered {
    fn name(&self) -> &str {
        self.bus.name()
    }

    fn list(&self) -> Result<Vec<DeviceInfo>, BusError> {
        self.bus.list()
    }

    fn open(&self, port: &str) -> Result<Box<dyn UsbDevice>, BusError> {
        let device = self.bus.open(port)?;
        let (clock, asked, seen) = (self.clock.clone(), self.asked.clone(), self.seen.clone());
        Ok(Box::new(Liar { device, clock, asked, tamper: self.tamper, seen }))
    }
}

struct Liar {
    device: Box<dyn UsbDevice>,
    clock: Arc<dyn Clock>,
    asked: Arc<Mutex<Option<Duration>>>,
    tamper: Option<(u64, Bent)>,
    seen: Arc<Mutex<Answers>>,
}

impl Liar {
    fn bend(&self, answer: Vec<u8>, room: usize, timeout: Duration) -> Result<Vec<u8>, TransferError> {
        let mut seen = self.seen.lock().unwrap();
        seen.count += 1;
        let before = std::mem::replace(&mut seen.before, answer.clone());
        let Some((_, bent)) = self.tamper.filter(|(at, _)| *at == seen.count) else { return Ok(answer) };
        Ok(match bent {
            Bent::Garbage => answer.iter().map(|byte| byte ^ 0xA5).collect(),
            Bent::Short => answer[..answer.len() / 2].to_vec(),
            Bent::Long => answer.iter().copied().chain([0x77; 5]).take(room).collect(),
            Bent::Other => before,
            Bent::Endless => vec![ENDLESS; room],
            Bent::Late => {
                seen.late = Some(answer);
                self.clock.sleep(timeout);
                return Err(TransferError::Timeout);
            }
        })
    }

    /// The number of a reply without an end.
    fn endless(&self) -> Option<u64> {
        let mut seen = self.seen.lock().unwrap();
        self.tamper.filter(|(at, bent)| *at <= seen.count && matches!(bent, Bent::Endless))?;
        seen.count += 1;
        Some(seen.count)
    }

    fn was_asked(&self) {
        let now = self.clock.now();
        self.asked.lock().unwrap().get_or_insert(now);
    }
}

impl UsbDevice for Liar {
    fn control_in(&mut self, setup: Setup, length: u16, timeout: Duration) -> Result<Vec<u8>, TransferError> {
        let answer = self.device.control_in(setup, length, timeout)?;
        let own = setup.kind & 0x60 != 0;
        if own {
            self.was_asked();
        }
        // Only uploads and vendor requests carry a dialect's answers.
        let carries = setup.kind == 0xC0 || (setup.kind, setup.request) == (0xA1, 2);
        if carries { self.bend(answer, usize::from(length), timeout) } else { Ok(answer) }
    }

    fn control_out(&mut self, setup: Setup, data: &[u8], timeout: Duration) -> Result<(), TransferError> {
        self.device.control_out(setup, data, timeout)
    }

    fn claim(&mut self, interface: u8, alternate: u8) -> Result<(), TransferError> {
        self.device.claim(interface, alternate)
    }

    fn read_endpoint(
        &mut self,
        pipe: EndpointInfo,
        length: usize,
        timeout: Duration,
    ) -> Result<Vec<u8>, TransferError> {
        if let Some(late) = self.seen.lock().unwrap().late.take() {
            return Ok(late);
        }
        if let Some(count) = self.endless() {
            // More than 64 KiB within any time limit.
            if count % 8 == 0 {
                self.clock.sleep(Duration::from_millis(1));
            }
            return Ok(vec![ENDLESS; length]);
        }
        let answer = self.device.read_endpoint(pipe, length, timeout)?;
        self.bend(answer, length, timeout)
    }

    fn write_endpoint(&mut self, pipe: EndpointInfo, data: &[u8], timeout: Duration) -> Result<(), TransferError> {
        self.was_asked();
        self.device.write_endpoint(pipe, data, timeout)
    }

    fn clear_halt(&mut self, pipe: EndpointInfo) -> Result<(), TransferError> {
        self.device.clear_halt(pipe)
    }

    fn wait_for_disconnect(&mut self, within: Duration) -> bool {
        self.device.wait_for_disconnect(within)
    }

    fn reset(&mut self) -> Result<(), TransferError> {
        self.device.reset()
    }
}

fn run(scene: &Scene, bus: Tampered) -> (Report, Vec<Event>) {
    let bench = Bench::new(vec![Arc::new(bus)], &scene.sheets);
    let request = Request { wait: Duration::from_secs(5), rewrite: true, ..Request::new(scene.file) };
    let (stop, mut events) = (AtomicBool::new(false), Vec::new());
    let mut tell = |event| events.push(event);
    let report = update::run(&bench, &request, &mut Unattended, &mut Context::new(&*scene.clock, &mut tell, &stop));
    (report, events)
}

fn tampered(scene: &Scene, tamper: Option<(u64, Bent)>) -> (Report, Vec<Event>, u64) {
    let seen: Arc<Mutex<Answers>> = Arc::default();
    let bus = Tampered {
        bus: Arc::new(scene.bus()),
        clock: scene.clock.clone(),
        asked: Arc::default(),
        tamper,
        seen: seen.clone(),
    };
    let (report, events) = run(scene, bus);
    let count = seen.lock().unwrap().count;
    (report, events, count)
}

#[test]
fn an_answer_that_is_something_else_never_passes_for_a_success() {
    for product in &PRODUCTS {
        let (report, events, count) = tampered(&product.booted(Vec::new()), None);
        assert_eq!(report.code, ExitCode::Done, "{}: {:?}", product.name, failure(&events));
        let (mut failed, mut shown) = (0, 0);
        for at in (1..=count).filter(|at| *at < 20 || at % 9 == 0 || *at > count - 6) {
            for bent in BENT {
                let what = format!("{}, {bent:?} answer {at} of {count}", product.name);
                let scene = product.booted(Vec::new());
                let (report, events, _) = tampered(&scene, Some((at, bent)));
                scene.assert_unharmed(&what);
                if report.code == ExitCode::Done {
                    assert!(scene.holds_image(), "{what}: a false success");
                    continue;
                }
                failed += 1;
                let said = failure(&events).unwrap();
                assert!(!said.remedies.is_empty(), "{what}: {said:?}");
                let fields = events.iter().find_map(|event| match event {
                    Event::Frame { fields, .. } => Some(fields),
                    _ => None,
                });
                // Field by field: what was expected stands beside what came.
                if let Some(fields) = fields {
                    shown += 1;
                    assert!(fields.iter().any(|field| !field.bytes.is_empty()), "{what}: {fields:?}");
                }
            }
        }
        // A status of the mass-storage transport is not a frame of the dialect.
        let shows = product.name == "avocet" || shown > 5;
        assert!(failed > 10 && shows, "{}: {failed} failed, {shown} shown", product.name);
    }
}

#[test]
fn a_garbled_answer_is_shown_field_by_field() {
    let product = &PRODUCTS[1];
    let (_, _, count) = tampered(&product.booted(Vec::new()), None);
    // In the middle of the writing, which is not tried again by itself.
    let garbled = (1..count).find_map(|at| {
        let (report, events, _) = tampered(&product.booted(Vec::new()), Some((at, Bent::Garbage)));
        let FailureKind::Session { error: SessionError::Frame(mismatch), .. } = *failure(&events)?.kind.clone() else {
            return None;
        };
        (report.code == ExitCode::Transfer && mismatch.exchange == "write").then_some((mismatch.words, events))
    });
    let (message, events) = garbled.unwrap();
    assert!(message.contains("expected") && message.contains("received"), "{message}");
    let fields = events.iter().find_map(|event| match event {
        Event::Frame { fields, .. } => Some(fields.clone()),
        _ => None,
    });
    let wrong = fields.unwrap().into_iter().find(|field| field.is_mismatch).unwrap();
    assert!(wrong.meaning.contains("expected"), "{wrong:?}");
}

#[test]
fn a_unit_that_never_stops_talking_is_not_listened_to_for_ever() {
    let product = &PRODUCTS[2];
    let (_, _, count) = tampered(&product.booted(Vec::new()), None);
    for at in [1, count / 2, count - 1] {
        let scene = product.booted(Vec::new());
        let (report, ..) = tampered(&scene, Some((at, Bent::Endless)));
        scene.assert_unharmed(product.name);
        assert_ne!(report.code, ExitCode::Done, "from answer {at} on");
    }
    // Where a mark ends a frame, its end never comes.
    let marked = "[framing]\nkind = 'delimiter'\nend = \"'\\n'\"\n[crc.line]";
    let dialect = product.dialects[0].replacen("[crc.line]", marked, 1);
    let sheet = sheet_with(product.sheet, &[&dialect, product.dialects[1]]);
    let scene = Scene::loaded(fulmar("F-00001").in_boot_mode(), Vec::new(), sheet, product.file, product.button);
    let (_, events, _) = tampered(&scene, Some((1, Bent::Endless)));
    let said = failure(&events).unwrap();
    let told = format!("{said:?}");
    let held = told.split_once("only ").and_then(|(_, rest)| rest.split(' ').next()?.parse::<u32>().ok());
    assert!(held.is_some_and(|bytes| bytes <= 66_000), "not only the last 64 KiB and a packet were held: {said:?}");
}

/// Deviations that the mass-storage transport allows do not matter to vendor commands; violations at any
/// command are never a false success.
#[test]
fn vendor_commands_survive_departures_from_their_transport() {
    use Deviation::{BogusResidue, Changed, EmptyFirst, NoData, NoReason, OldTag, OwnSignature, Phase, StallFirst};
    let product = PRODUCTS.iter().find(|product| product.name == "avocet").unwrap();
    let scene_with = |odd| {
        let quirks = Quirks { odd, ..Quirks::default() };
        product.scene(avocet::odd("V-00012", quirks).in_boot_mode(), Vec::new())
    };
    let harmless = [EmptyFirst, StallFirst, OwnSignature, BogusResidue, Changed];
    for oddity in [EmptyFirst, StallFirst, OwnSignature, BogusResidue, Changed, OldTag, Phase, NoData, NoReason] {
        let mut failed = 0;
        for at in (1..90).step_by(3) {
            let what = format!("{oddity:?} at command {at}");
            let scene = scene_with(Some((at, oddity)));
            let (report, events) = scene.update();
            scene.assert_unharmed(&what);
            match report.code {
                ExitCode::Done => assert!(scene.holds_image(), "{what}: a false success"),
                code => {
                    failed += 1;
                    assert!(!harmless.contains(&oddity), "{what}: {code:?} {:?}", failure(&events));
                }
            }
        }
        assert!(harmless.contains(&oddity) || oddity == NoData || failed > 2, "{oddity:?}: {failed} failed");
    }
}

//! Whatever files, labels, addresses, agreements, faults and hands come
//! together: no unit is bricked, nothing beside the application changes, and
//! success is true. Seeded, in virtual time.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

mod support;

use std::ops::Range;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use vaka_boot::bench::buses::Bench;
use vaka_boot::context::Context;
use vaka_boot::operator::Unattended;
use vaka_boot::update::{self, Request};
use vaka_core::event::{ExitCode, RunOutcome};
use vaka_core::input::InputFile;
use vaka_core::sheet::Sheet;
use vaka_image::address::Address;
use vaka_image::{ReadOptions, hex, srec, uf2};
use vaka_sim::World;
use vaka_sim::clock::VirtualClock;
use vaka_sim::fault::{Fault, FaultKind};
use vaka_sim::in_process::SimBus;
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::unit::{Condition, UserAction};
use vaka_sim::world::lock;
use vaka_testkit::Random;
use vaka_usb::Clock;

const CASES: u32 = 1500;

macro_rules! demo {
    ($name:literal) => {
        &include_bytes!(concat!("../../../demo/firmware/out/tern-", $name))[..]
    };
}

/// Good files for either board, and files made of them that should not pass.
fn files() -> Vec<Vec<u8>> {
    let mut files: Vec<Vec<u8>> = [
        demo!("r1-1.5.0.hex"),
        demo!("r2-1.5.0.hex"),
        demo!("r1-1.4.0.srec"),
        demo!("r2-1.4.0.srec"),
        demo!("r1-1.5.0.elf"),
        demo!("r2-1.5.0.elf"),
        demo!("r1-1.5.0.bin"),
        demo!("r2-1.5.0.bin"),
    ]
    .map(<[u8]>::to_vec)
    .to_vec();
    let r1 = vaka_image::read(demo!("r1-1.5.0.hex"), ReadOptions::default()).unwrap();
    let r2 = vaka_image::read(demo!("r2-1.5.0.hex"), ReadOptions::default()).unwrap();
    // The other board's image moved to this one's start, and to the bootloader's.
    for start in [0x0A00_0000, 0x0A00_2400, 0x0A00_3000, 0x0A02_2000] {
        files.push(hex::write(&r1.moved(Address::new(start)).unwrap()));
        files.push(srec::write(&r2.moved(Address::new(start)).unwrap()));
    }
    files.push(uf2::write(&r1, None).unwrap());
    files.push(uf2::write(&r2, Some(7)).unwrap());
    // A board word that lies.
    files.push(hex::write(&r2.patched(Address::new(0x0A00_3040), b"TRN1")));
    files
}

struct Case {
    revision: Revision,
    request: Request<'static>,
    world: vaka_sim::SharedWorld,
    clock: Arc<VirtualClock>,
    words: String,
}

fn case(random: &mut Random, files: &[Vec<u8>]) -> Case {
    let revision = random.pick(&[Revision::R1, Revision::R2]);
    let booted = random.below(3) > 0;
    let unit = if booted { Tern::in_boot_mode(revision, "T-1") } else { Tern::new(revision, "T-1") };
    let mut faults = Vec::new();
    for _ in 0..random.below(3) {
        let back = Duration::from_millis(random.below(3000) as u64);
        let kinds = [
            FaultKind::Stall,
            FaultKind::Timeout,
            FaultKind::Short,
            FaultKind::Pull(None),
            FaultKind::Pull(Some(back)),
        ];
        faults.push(Fault { at: 1 + random.below(160) as u64, kind: random.pick(&kinds) });
    }
    let mut file = random.pick(files);
    if random.once_in(4) {
        let place = random.below(file.len());
        file[place] ^= 1 << random.below(8);
    }
    let starts = [0x0A00_0000, 0x0A00_2400, 0x0A00_2400, 0x0A00_3000, 0x0A00_3000, 0x0A00_2401, 0];
    let at = (vaka_image::read(&file, ReadOptions::default()) == Err(vaka_image::ReadError::NoAddress))
        .then(|| Address::new(random.pick(&starts)));
    let consents = ["older-version", "larger-memory", "layout", "no-sheet"].map(String::from);
    let labels =
        [None, Some("r1"), Some("r1"), Some("r2"), Some("r2"), Some("SKI-TERN R1"), Some("OYS-240"), Some("r3")];
    let request = Request {
        files: vec![InputFile {
            options: ReadOptions { at, ..ReadOptions::default() },
            ..InputFile::of(vaka_image::FirmwareFile::parse(&file))
        }],
        label: random.pick(&labels).map(String::from),
        wait: Duration::from_secs(3),
        consents: consents[..random.below(5)].to_vec(),
        plan_only: random.once_in(10),
        read_back: random.below(4) > 0,
        keep: Vec::new(),
        shelf: None,
        erase_all: random.once_in(10),
        ..Request::new(&[])
    };
    let clock = Arc::new(VirtualClock::default());
    let mut world = World::new(clock.clone());
    let words = format!("{revision:?}, booted {booted}, {faults:?}, at {at:?}, label {:?}", request.label);
    world.plug("1-1", Box::new(unit), faults);
    // A user presses the buttons in any order at any time.
    for (after, hand) in [(500, "hold SET"), (700, "tap RESET"), (900, "release SET")] {
        if random.below(5) > 0 {
            world.act_later(
                "1-1",
                Duration::from_millis(after + random.below(300) as u64),
                hand.parse::<UserAction>().unwrap(),
            );
        }
    }
    Case { revision, request, world: world.shared(), clock, words }
}

#[test]
fn any_combination_of_faults_no_unit_is_harmed() {
    // Without what would prove that a file is whole: more of what is wrong gets to the unit.
    let text = include_str!("../../../demo/sheets/tern.toml");
    let proves = |line: &&str| !line.starts_with("length = ") && !line.starts_with("checksum = ");
    let text: Vec<&str> = text.lines().filter(proves).collect();
    let sheets = vec![Sheet::parse("tern.toml", &text.join("\n")).unwrap()];
    let files = files();
    let mut random = Random(0x7E4E_0D15);
    let mut ends = std::collections::BTreeMap::new();
    for number in 0..CASES {
        let Case { revision, request, world, clock, words } = case(&mut random, &files);
        let words = format!("case {number}: {words}");
        let memory = |range: Range<u32>| {
            let mut world = lock(&world);
            world.unit("1-1").unwrap().flash().read(range.start, range.len()).unwrap().to_vec()
        };
        let kept = [Tern::bootloader_region(revision), Tern::settings_region(revision)];
        let before: Vec<Vec<u8>> = kept.iter().cloned().map(&memory).collect();
        let application = memory(Tern::application_region(revision));
        let bench = Bench::new(vec![Arc::new(SimBus::new(world.clone(), clock.clone()))], &sheets);
        let stop = AtomicBool::new(false);
        let mut ignore = |_| {};
        let report = update::run(&bench, &request, &mut Unattended, &mut Context::new(&*clock, &mut ignore, &stop));
        clock.sleep(Duration::from_secs(5));
        assert_ne!(lock(&world).unit("1-1").unwrap().condition(), Condition::Bricked, "{words}");
        let after: Vec<Vec<u8>> = kept.iter().cloned().map(&memory).collect();
        assert!(after == before, "{words}: bootloader or settings changed");
        match report.outcome {
            RunOutcome::Refused | RunOutcome::Planned => {
                assert!(memory(Tern::application_region(revision)) == application, "{words}: changed");
            }
            RunOutcome::Updated if report.code == ExitCode::Done => {
                let image = request.files[0].file.image(request.files[0].options, &[]).unwrap();
                let start = Tern::application_region(revision).start;
                assert_eq!(image.start(), Address::new(u64::from(start)), "{words}");
                for segment in image.segments() {
                    let start = segment.start().to_u32().unwrap();
                    let end = start + u32::try_from(segment.data().len()).unwrap();
                    assert!(memory(start..end) == segment.data(), "{words}: a false success");
                }
            }
            _ => {}
        }
        *ends.entry(u8::from(report.code)).or_insert(0) += 1;
    }
    // All kinds of ends must have been met, or the cases are too tame.
    for code in [0, 3, 4, 5, 7, 8] {
        assert!(ends.get(&code).is_some_and(|count| *count > 2), "{ends:?}");
    }
}

//! Units as their sheets state them: flash, firmware, manual steps.

#![allow(clippy::unwrap_used)] // a panic in a test is its message

use std::sync::Arc;
use std::time::Duration;

use vaka_core::sheet::Sheet;
use vaka_sheet_sim::{Design, DesignError, SheetUnit};
use vaka_sim::scene::StartMode;
use vaka_sim::unit::{Condition, Unit};
use vaka_testkit::demo;

fn design(text: &str, variant: &str) -> Result<Arc<Design>, DesignError> {
    let sheet = Sheet::parse("s.toml", text).unwrap_or_else(|error| panic!("{error}"));
    Design::new(Arc::new(sheet), variant).map(Arc::new)
}

/// A unit, and the time after each action.
struct Hands {
    unit: SheetUnit,
    now: Duration,
}

impl Hands {
    fn new(text: &str, variant: &str, mode: StartMode) -> Self {
        Self { unit: SheetUnit::new(design(text, variant).unwrap(), "T-00001", mode, None), now: Duration::ZERO }
    }

    /// Does these actions, and lets the unit start.
    fn act(&mut self, actions: &[&str]) -> Condition {
        for action in actions {
            self.now += Duration::from_millis(100);
            self.unit.act(self.now, &action.parse().unwrap());
        }
        self.now += Duration::from_secs(1);
        self.unit.advance(self.now);
        self.unit.condition()
    }

    /// The product id on the bus.
    fn product(&self) -> Option<u16> {
        self.unit.descriptors().map(|(_, shown)| shown.ids().1)
    }
}

#[test]
fn flash_that_no_simulated_unit_has_is_refused() {
    let tern = demo::sheet_text("tern.toml");
    assert_eq!(design(&tern, "r9").unwrap_err(), DesignError::NoVariant("r9".into()));
    let huge = tern.replace("sectors = 48", "sectors = 30_000");
    assert_eq!(design(&huge, "r1").unwrap_err(), DesignError::Flash(30_000 * 3072));
    // The last sector ends with the last address of 32 bits.
    let zone = "flash = [{ start = 0x0A00_0000, sectors = 48, size = \"3 KiB\" }";
    let high = tern.replace(zone, &format!("{zone}, {{ start = 0xFFFF_F000, sectors = 1, size = \"4 KiB\" }}"));
    assert_eq!(design(&high, "r1").unwrap_err(), DesignError::TooHigh);
}

/// Two chips of a product have the same addresses: one of them is simulated, and the other is named.
#[test]
fn a_part_with_the_same_addresses_is_left_out() {
    let heron = demo::sheet_text("heron.toml");
    assert!(design(&heron, "d1").unwrap().left_out.is_empty());
    let same = heron.replace("0x0042_0000", "0x0040_0000").replace("0x0042_2000", "0x0040_2000");
    let left_out = &design(&same, "d1").unwrap().left_out;
    assert!(left_out.iter().any(|part| part.part == "part interface"), "{left_out:?}");
}

/// The application starts from the firmware of the factory, not from damaged firmware; that of the other
/// board bricks the unit, and so does a changed bootloader that nothing can restore.
#[test]
fn firmware_is_judged_by_the_rules_of_the_sheet() {
    let tern = demo::sheet_text("tern.toml");
    let modes = [StartMode::Application, StartMode::Damaged, StartMode::Blank];
    let found = modes.map(|mode| Hands::new(&tern, "r1", mode).unit.condition());
    assert_eq!(found, [Condition::Application, Condition::Silent, Condition::Silent]);
    let petrel = demo::sheet_text("petrel.toml");
    let put = |at: u32, bytes: &[u8]| {
        let mut hands = Hands::new(&petrel, "pb1", StartMode::Application);
        hands.unit.flash_mut().erase(at..at + 64 * 1024);
        hands.unit.flash_mut().put(at, bytes);
        hands.act(&["pull", "plug"])
    };
    let image = |name: &str| std::fs::read(demo::firmware(name)).unwrap();
    assert_eq!(put(0x0C10_4000, &image("petrel-pb1-2.4.0.bin")), Condition::Application);
    assert_eq!(put(0x0C10_4000, &image("petrel-pb2-2.4.0.bin")), Condition::Bricked);
    let mut damaged = image("petrel-pb1-2.4.0.bin");
    damaged[0x100] ^= 1;
    assert_eq!(put(0x0C10_4000, &damaged), Condition::Silent);
    let mut hands = Hands::new(&petrel, "pb1", StartMode::Application);
    hands.unit.flash_mut().put(0x0C10_0000, &[0; 4]);
    assert_eq!(hands.act(&["pull", "plug"]), Condition::Bricked);
    hands.unit.revive(hands.now);
    assert_eq!(hands.act(&[]), Condition::Application);
}

/// Steps lead to update mode in their order only; one that is optional may be left out; a step that holds
/// the unit in update mode does so until it is undone.
#[test]
fn manual_steps_count_in_their_order() {
    let tern = demo::sheet_text("tern.toml");
    let (application, chip, loader) = (Some(0x0001), Some(0x0002), Some(0x0011));
    for (actions, product) in [
        (&["do step-1"][..], chip),
        (&["do step-2"], loader),
        (&["do battery", "do jumper", "do cable"], chip),
        // There may be no battery.
        (&["do jumper", "do cable"], chip),
        (&["do cable"], application),
        (&["do cable", "do jumper"], application),
        (&["do jumper", "slip cable application"], application),
        (&["slip step-1 nothing"], None),
        (&["slip step-1 other"], Some(0x00FE)),
        (&["slip step-1 nothing", "do step-1"], chip),
    ] {
        let mut hands = Hands::new(&tern, "r1", StartMode::Application);
        hands.act(actions);
        assert_eq!(hands.product(), product, "{actions:?}");
    }
    let held = tern.replace(
        "undo = { do = \"Set jumper J3 back to BAT.\", after = [\"cable\"] }",
        "undo = { do = \"Set jumper J3 back to BAT.\", when = \"written\" }",
    );
    let mut hands = Hands::new(&held, "r1", StartMode::Application);
    hands.act(&["do jumper", "do cable"]);
    let leave = |hands: &mut Hands| {
        // DFU 1.1: a download without data, and the status request that starts it.
        let setup = |kind, request, length| vaka_sim::usb::Setup { kind, request, value: 0, index: 0, length };
        hands.unit.control(hands.now, setup(0x21, 1, 0), &[]);
        hands.unit.control(hands.now, setup(0xA1, 3, 6), &[]);
        hands.act(&[]);
        hands.act(&[]);
    };
    leave(&mut hands);
    assert_eq!(hands.product(), chip, "the jumper is still set");
    hands.act(&["undo jumper"]);
    leave(&mut hands);
    assert_eq!(hands.product(), application);
}

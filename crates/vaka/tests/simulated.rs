//! Every product of the demo, written by hand and made from its sheet: both pass the same updates.
//!
//! The table is `tests/simulated.txt`, for reading; with `VAKA_WRITE_TABLES` set it is written. What counts
//! is the true memory of the unit, which is compared with the image.

#![allow(clippy::unwrap_used)]

#[path = "../../vaka-boot/tests/support/mod.rs"]
mod support;

use std::fmt::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use vaka_boot::bench::buses::Bench;
use vaka_boot::context::Context;
use vaka_boot::operator::Unattended;
use vaka_boot::update::{self, Request};
use vaka_core::event::ExitCode;
use vaka_core::input::InputFile;
use vaka_core::sheet::{Dialects, Sheet};
use vaka_dialect::{Dialect, no_files};
use vaka_image::FirmwareFile;
use vaka_sheet_sim::{Design, SheetUnit};
use vaka_sim::clock::VirtualClock;
use vaka_sim::fault::{Fault, FaultKind};
use vaka_sim::in_process::SimBus;
use vaka_sim::scene::{Scene, StartMode};
use vaka_sim::unit::{Condition, Unit, UserAction};
use vaka_sim::world::lock;
use vaka_sim::{SharedWorld, World};
use vaka_usb::Clock;

const PORT: &str = "1-1";

/// A product, and how the user brings each of its two units into update mode.
struct Product {
    product: &'static str,
    variant: &'static str,
    label: Option<&'static str>,
    part: Option<&'static str>,
    /// The image, and a raw binary of the same content.
    image: &'static str,
    binary: &'static str,
    /// Where the image is.
    start: u32,
    by_hand: &'static [&'static str],
    by_sheet: &'static [&'static str],
}

#[rustfmt::skip]
const PRODUCTS: [Product; 10] = [
    Product { product: "tern", variant: "r1", label: Some("r1"), part: None, image: "tern-r1-1.5.0.hex", binary: "tern-r1-1.5.0.bin", start: 0x0A00_2400, by_hand: &["hold SET", "tap RESET", "release SET"], by_sheet: &["do step-1"] },
    Product { product: "tern", variant: "r2", label: Some("r2"), part: None, image: "tern-r2-1.5.0.hex", binary: "tern-r2-1.5.0.bin", start: 0x0A00_3000, by_hand: &["hold SET", "tap RESET", "release SET"], by_sheet: &["do step-1"] },
    Product { product: "gannet", variant: "g1", label: None, part: None, image: "gannet-1.3.0.dfu", binary: "gannet-1.3.0.bin", start: 0x5000, by_hand: &[], by_sheet: &[] },
    Product { product: "petrel", variant: "pb1", label: None, part: None, image: "petrel-pb1-2.4.0.uf2", binary: "petrel-pb1-2.4.0.bin", start: 0x0C10_4000, by_hand: &["pull", "hold MARK", "plug", "release MARK"], by_sheet: &["do step-1", "do step-2"] },
    Product { product: "heron", variant: "d1", label: None, part: Some("display"), image: "heron-display-3.1.0.hex", binary: "heron-display-3.1.0.bin", start: 0x0040_0000, by_hand: &[], by_sheet: &[] },
    Product { product: "dunlin", variant: "n1", label: None, part: None, image: "dunlin-1.1.0.hex", binary: "dunlin-1.1.0.bin", start: 0x1C00, by_hand: &["pull", "plug"], by_sheet: &["do step-1"] },
    Product { product: "auk", variant: "h1", label: None, part: None, image: "auk-2.1.0.hex", binary: "auk-2.1.0.bin", start: 0x0D00_2000, by_hand: &[], by_sheet: &[] },
    Product { product: "avocet", variant: "s1", label: None, part: None, image: "avocet-1.1.0.hex", binary: "avocet-1.1.0.bin", start: 0x0E00_1000, by_hand: &[], by_sheet: &[] },
    Product { product: "fulmar", variant: "f1", label: None, part: None, image: "fulmar-4.2.0.hex", binary: "fulmar-4.2.0.bin", start: 0x0600_3000, by_hand: &[], by_sheet: &[] },
    Product { product: "skua", variant: "b1", label: None, part: None, image: "skua-bridge-1.7.0.hex", binary: "skua-bridge-1.7.0.bin", start: 0x0900_1000, by_hand: &["pull", "hold BRIDGE", "plug", "release BRIDGE"], by_sheet: &["do step-1"] },
];

fn demo(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo").join(name)
}

fn firmware(name: &str) -> Vec<u8> {
    std::fs::read(demo("firmware/out").join(name)).unwrap()
}

fn sheet(product: &str) -> Sheet {
    let files = std::fs::read_dir(demo("sheets")).unwrap().map(|entry| entry.unwrap().path());
    let dialects = files.filter(|path| path.to_str().unwrap().ends_with(".dialect.toml"));
    let text = |path: &Path| std::fs::read_to_string(path).unwrap();
    let dialect = |path: PathBuf| Arc::new(Dialect::parse("d", &text(&path), &no_files).unwrap());
    let dialects: Dialects = dialects.map(dialect).map(|dialect| (dialect.name.clone(), dialect)).collect();
    Sheet::parse_with("s", &text(&demo("sheets").join(format!("{product}.toml"))), &dialects).unwrap()
}

/// The two makes of a unit.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Make {
    ByHand,
    FromSheet,
}

/// A unit on a bench in virtual time.
struct Bed<'p> {
    product: &'p Product,
    make: Make,
    sheet: Sheet,
    clock: Arc<VirtualClock>,
    world: SharedWorld,
}

impl<'p> Bed<'p> {
    fn new(product: &'p Product, make: Make, faults: Vec<Fault>) -> Self {
        let (clock, sheet) = (Arc::new(VirtualClock::default()), sheet(product.product));
        let mut world = World::new(clock.clone());
        match make {
            Make::ByHand => {
                let has_variants = matches!(product.product, "tern" | "petrel");
                let variant = if has_variants { format!("variant = \"{}\"\n", product.variant) } else { String::new() };
                let head = format!("[[unit]]\nproduct = \"{}\"\n{variant}", product.product);
                let faults: Vec<String> = faults
                    .iter()
                    .map(|fault| {
                        let Fault { at, kind: FaultKind::Pull(Some(back)) } = fault else { panic!() };
                        format!("{{ at = {at}, kind = \"pull\", back_after_ms = {} }}", back.as_millis())
                    })
                    .collect();
                let scene =
                    format!("{head}port = \"{PORT}\"\nserial = \"X-00400\"\nfaults = [{}]\n", faults.join(", "));
                Scene::parse(&scene).unwrap().build(&mut world);
            }
            Make::FromSheet => {
                let design = Arc::new(Design::new(Arc::new(sheet.clone()), product.variant).unwrap());
                let unit = SheetUnit::new(design, "X-00400", StartMode::Application, None);
                world.plug(PORT, Box::new(unit) as Box<dyn Unit>, faults);
            }
        }
        Self { product, make, sheet, clock, world: world.shared() }
    }

    /// Updates the unit; the user does what is asked for after a second.
    fn update(&self, image: &[u8]) -> ExitCode {
        let hands = if self.make == Make::ByHand { self.product.by_hand } else { self.product.by_sheet };
        for (index, hand) in (0..).zip(hands) {
            let after = Duration::from_millis(1000 + 400 * index);
            lock(&self.world).act_later(PORT, after, hand.parse::<UserAction>().unwrap());
        }
        let sheets = std::slice::from_ref(&self.sheet);
        let parts: Vec<Sheet> = match self.product.part {
            Some(part) => vec![self.sheet.only_part(part).unwrap()],
            None => sheets.to_vec(),
        };
        let bus = Arc::new(SimBus::new(self.world.clone(), self.clock.clone()));
        let (stop, mut tell) = (AtomicBool::new(false), |_| {});
        let mut cx = Context::new(&*self.clock, &mut tell, &stop);
        let request = Request {
            files: vec![InputFile::of(FirmwareFile::parse(image))],
            label: self.product.label.map(Into::into),
            wait: Duration::from_secs(8),
            ..Request::new(&[])
        };
        let report = update::run(&Bench::new(vec![bus], &parts), &request, &mut Unattended, &mut cx);
        self.clock.sleep(Duration::from_secs(2));
        report.code
    }

    fn memory(&self) -> Vec<u8> {
        lock(&self.world).unit(PORT).unwrap().flash().bytes().to_vec()
    }

    fn holds(&self, binary: &[u8]) -> bool {
        let mut world = lock(&self.world);
        world.unit(PORT).unwrap().flash().read(self.product.start, binary.len()) == Some(binary)
    }

    fn condition(&self) -> Condition {
        lock(&self.world).unit(PORT).unwrap().condition()
    }

    fn transfers(&self) -> u64 {
        lock(&self.world).transfers(PORT)
    }
}

/// The right image is written and confirmed; that of another product is refused, and nothing changes.
fn ordinary(product: &Product, make: Make) -> (ExitCode, ExitCode, u64) {
    let what = format!("{} {} {make:?}", product.product, product.variant);
    let bed = Bed::new(product, make, Vec::new());
    let before = bed.memory();
    let other = if product.product == "tern" { "gannet-1.3.0.dfu" } else { "tern-r1-1.5.0.hex" };
    let refused = bed.update(&firmware(other));
    assert!(bed.memory() == before, "{what}: the unit was changed by another product's image");
    let bed = Bed::new(product, make, Vec::new());
    let done = bed.update(&firmware(product.image));
    assert!(bed.holds(&firmware(product.binary)), "{what}: {done:?}");
    assert_eq!(bed.condition(), Condition::Application, "{what}");
    (done, refused, bed.transfers())
}

/// The cable is pulled at a sample of transfers: no success without the content, and the second run ends
/// well. Returns how many of the first runs ended well.
fn interrupted(product: &Product, make: Make, transfers: u64) -> usize {
    const SAMPLE: u64 = 8;
    let (image, binary) = (firmware(product.image), firmware(product.binary));
    let mut survived = 0;
    for index in 1..=SAMPLE {
        let at = 1 + index * transfers / (SAMPLE + 1);
        let what = format!("{} {} {make:?}, pulled at transfer {at}", product.product, product.variant);
        let fault = Fault { at, kind: FaultKind::Pull(Some(Duration::from_millis(700))) };
        let bed = Bed::new(product, make, vec![fault]);
        let first = bed.update(&image);
        if first == ExitCode::Done {
            survived += 1;
            assert!(bed.holds(&binary), "{what}: a false success");
            continue;
        }
        lock(&bed.world).clear_faults(PORT);
        let second = bed.update(&image);
        assert_eq!(second, ExitCode::Done, "{what}: after {first:?}");
        assert!(bed.holds(&binary), "{what}: the second run");
        assert_ne!(bed.condition(), Condition::Bricked, "{what}");
    }
    survived
}

#[test]
fn both_makes_of_every_product_pass_the_same_updates() {
    let mut table = String::from(
        "product      unit         update   another product   8 pulled cables: first runs that end well\n",
    );
    for product in &PRODUCTS {
        for make in [Make::ByHand, Make::FromSheet] {
            let (done, refused, transfers) = ordinary(product, make);
            assert_eq!((done, refused), (ExitCode::Done, ExitCode::Refused), "{} {make:?}", product.product);
            let survived = interrupted(product, make, transfers);
            let name = format!("{} {}", product.product, product.variant);
            let unit = if make == Make::ByHand { "by hand" } else { "from sheet" };
            writeln!(table, "{name:<12} {unit:<12} {:<8} {:<17} {survived}", "done", "refused").unwrap();
        }
    }
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/simulated.txt");
    if std::env::var_os("VAKA_WRITE_TABLES").is_some() {
        std::fs::write(&path, &table).unwrap();
    }
    assert_eq!(table, std::fs::read_to_string(path).unwrap());
}

/// A sheet for the template of a carrier: 64 KiB of flash from 0, and a unit that is in update mode.
fn sheet_of_template(name: &str, template: &str) -> Sheet {
    let dialect = Dialect::parse("t", template, &no_files).unwrap();
    let text = format!(
        "sheet = 1\n[product]\nid = \"made\"\nname = \"Made\"\nmaker = \"Skerrow Instruments\"\n\
         [application]\nid = \"1209:0051\"\n\
         [[variant]]\nid = \"m1\"\nname = \"Made\"\nflash = [{{ start = 0, sectors = 64, size = \"1 KiB\" }}]\n\
         [variant.image]\nregion = \"application\"\nbinary_at = 0x2000\n\
         marks = [{{ offset = 0, text = \"MADE\", meaning = \"board word\" }}]\n\
         [[variant.region]]\nname = \"bootloader\"\nstart = 0\nsize = \"8 KiB\"\n\
         [[variant.region]]\nname = \"application\"\nstart = 0x2000\nsize = \"56 KiB\"\n\
         [[route]]\nkind = \"dialect\"\ndialect = \"{}\"\nid = \"1209:0052\"\ntells = {{ chip = 0x5102 }}\nwrites = [\"application\"]\n\
         [[route.entry]]\ndo = \"Plug it in.\"\nsee = \"Nothing.\"\n",
        dialect.name
    );
    let dialects: Dialects = [(dialect.name.clone(), Arc::new(dialect))].into();
    Sheet::parse_with(name, &text, &dialects).unwrap()
}

/// The unit of every template takes an image through its carrier, byte by byte.
#[test]
fn the_template_of_every_carrier_makes_a_unit() {
    let image: Vec<u8> =
        b"MADE".iter().copied().chain((0..5000_u32).map(|n| (n * 7 + n / 256).to_le_bytes()[0])).collect();
    for kind in vaka_dialect::carrier::KINDS.iter().filter(|kind| kind.name != "can") {
        // The size of a page is nowhere else.
        let template =
            kind.template.to_owned() + if kind.name == "scsi" { "[simulate]\nvalues = { page = 1024 }\n" } else { "" };
        let sheet = sheet_of_template(kind.name, &template);
        let clock = Arc::new(VirtualClock::default());
        let mut world = World::new(clock.clone());
        let design = Arc::new(Design::new(Arc::new(sheet.clone()), "m1").unwrap());
        assert!(design.left_out.is_empty(), "{}: {:?}", kind.name, design.left_out);
        let unit = SheetUnit::new(design, "X-1", StartMode::Update, None);
        world.plug(PORT, Box::new(unit), Vec::new());
        let world = world.shared();
        let sheets = [sheet];
        let bench = Bench::new(vec![Arc::new(SimBus::new(world.clone(), clock.clone()))], &sheets);
        let mut events = Vec::new();
        let (stop, mut tell) = (AtomicBool::new(false), |event| events.push(event));
        let mut cx = Context::new(&*clock, &mut tell, &stop);
        let file = InputFile {
            options: vaka_image::ReadOptions {
                at: Some(vaka_image::address::Address::new(0x2000)),
                ..vaka_image::ReadOptions::default()
            },
            ..InputFile::of(FirmwareFile::parse(&image))
        };
        let request = Request { files: vec![file], wait: Duration::from_secs(5), ..Request::new(&[]) };
        let report = update::run(&bench, &request, &mut Unattended, &mut cx);
        assert_eq!(report.code, ExitCode::Done, "{}: {events:#?}", kind.name);
        let memory = lock(&world).unit(PORT).unwrap().flash().bytes().to_vec();
        assert!(memory[0x2000..].starts_with(&image), "{}", kind.name);
    }
}

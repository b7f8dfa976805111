//! Updates a simulated tide gauge through the library, and prints what happens.
//!
//! `cargo run -p vaka-boot --example update`. With a real unit, the bus is `vaka_usb::native::NativeBus`.

#![allow(clippy::print_stdout)] // it prints what happens

use std::error::Error;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use vaka_boot::bench::buses::Bench;
use vaka_boot::context::Context;
use vaka_boot::event::Event;
use vaka_boot::operator::Unattended;
use vaka_boot::update::{self, Request};
use vaka_core::event::{Check, ExitCode, RestartState, StepState};
use vaka_core::sheet::Sheet;
use vaka_sim::World;
use vaka_sim::server::Server;
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::world::lock;
use vaka_usb::SystemClock;
use vaka_usb::usbip::UsbIpBus;

fn main() -> Result<(), Box<dyn Error>> {
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo");
    let sheet = Sheet::parse("tern.toml", &std::fs::read_to_string(demo.join("sheets/tern.toml"))?)?;
    let image = std::fs::read(demo.join("firmware/out/tern-r1-1.5.0.hex"))?;

    let mut world = World::new(Arc::new(SystemClock));
    world.plug("1-1", Box::new(Tern::in_boot_mode(Revision::R1, "T1-00217")), Vec::new());
    let world = world.shared();
    let server = Server::start(world.clone(), ([127, 0, 0, 1], 0).into())?;

    // The bench: the buses with the units, and the sheets that describe them.
    let sheets = [sheet];
    let bench = Bench::new(vec![Arc::new(UsbIpBus::new(&server.bus())?)], &sheets);
    // Without a label the run is refused: both boards of the product look the same on the bus.
    let request = Request { label: Some("r1".to_owned()), wait: Duration::from_secs(5), ..Request::new(&image) };

    let mut tell = |event: Event| match event {
        Event::Verdict { verdict, .. } => println!("verdict: {:?} for {:?}", verdict.outcome, verdict.variant),
        Event::Step { step, state: StepState::Done, text, .. } => println!("{}: {text}", step.as_str()),
        Event::Error(failure) => println!("failed: {:?}; remedies: {:?}", failure.kind, failure.remedies),
        _ => {}
    };
    // Set it from another thread to stop at the next safe point.
    let stop = AtomicBool::new(false);
    let mut context = Context::new(&SystemClock, &mut tell, &stop);
    let report = update::run(&bench, &request, &mut Unattended, &mut context);

    println!("{:?}: {} bytes equal, {:?}", report.outcome, report.bytes_checked, report.after);
    let is_complete =
        (report.code, report.check, report.after) == (ExitCode::Done, Check::ReadBack, RestartState::Confirmed);
    // The true memory of the simulated unit.
    let binary = std::fs::read(demo.join("firmware/out/tern-r1-1.5.0.bin"))?;
    let is_there =
        lock(&world).unit("1-1").is_some_and(|unit| unit.flash().read(0x0A00_2400, binary.len()) == Some(&binary[..]));
    if is_complete && is_there { Ok(()) } else { Err("the update is not complete".into()) }
}

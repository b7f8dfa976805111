//! How soon a unit is spoken to that shows up while it is waited for.
//!
//! `cargo bench -p vaka-boot --bench appear` plugs simulated units in, over USB/IP, while the
//! whole job waits for them, and prints the time from the moment that the unit is on the
//! bus to the first transfer that reaches it. Fails (exit status 1) if the median is not
//! under 200 ms.

#![allow(clippy::unwrap_used, clippy::print_stdout, missing_docs)] // a program for one purpose

mod noting;

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use noting::{First, Noting};
use vaka_boot::bench::buses::Bench;
use vaka_boot::context::Context;
use vaka_boot::operator::Unattended;
use vaka_boot::update::{self, Request};
use vaka_core::sheet::Sheet;
use vaka_sim::World;
use vaka_sim::server::Server;
use vaka_sim::unit::UserAction;
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::world::lock;
use vaka_usb::SystemClock;
use vaka_usb::usbip::UsbIpBus;

const RUNS: usize = 41;
const LIMIT: Duration = Duration::from_millis(200);
/// The time of the simulated unit from power-on to its appearance on the bus.
const START: Duration = Duration::from_millis(250);

/// Waits for a unit, plugs it in after `pause`, and measures.
fn once(pause: Duration) -> Duration {
    let mut world = World::new(Arc::new(SystemClock));
    world.plug("1-1", Box::new(Tern::in_boot_mode(Revision::R1, "T1-00217").unplugged()), Vec::new());
    let world = world.shared();
    let server = Server::start(world.clone(), ([127, 0, 0, 1], 0).into()).unwrap();
    let first = First::default();
    let bus = Arc::new(Noting(UsbIpBus::new(&server.bus()).unwrap(), first.clone()));
    let sheets = [Sheet::parse("tern.toml", include_str!("../../../demo/sheets/tern.toml")).unwrap()];
    let stop = AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let bench = Bench::new(vec![bus], &sheets);
            let file = include_bytes!("../../../demo/firmware/out/tern-r1-1.5.0.hex");
            let request = Request { label: Some("r1".into()), wait: Duration::from_secs(20), ..Request::new(file) };
            update::run(&bench, &request, &mut Unattended, &mut Context::new(&SystemClock, &mut |_| {}, &stop));
        });
        std::thread::sleep(pause);
        let plugged = Instant::now();
        let mut hands = lock(&world);
        hands.act("1-1", &UserAction::Hold("SET".into()));
        hands.act("1-1", &UserAction::Plug);
        drop(hands);
        let deadline = plugged + Duration::from_secs(10);
        let at = loop {
            if let Some(at) = *first.lock().unwrap() {
                break at;
            }
            assert!(Instant::now() < deadline, "it was never spoken to");
            std::thread::sleep(Duration::from_micros(200));
        };
        stop.store(true, Ordering::SeqCst);
        at - (plugged + START)
    })
}

fn main() {
    // Not in step with how often the bus is looked at.
    let mut times: Vec<Duration> =
        (0..RUNS).map(|run| once(Duration::from_millis(300 + 7 * u64::try_from(run).unwrap()))).collect();
    times.sort();
    let ms = |at: usize| times[at].as_secs_f64() * 1000.0;
    println!(
        "from appearance to first transfer over USB/IP, {RUNS} runs: median {:.1} ms, {:.1} to {:.1} ms (limit {} ms)",
        ms(RUNS / 2),
        ms(0),
        ms(RUNS - 1),
        LIMIT.as_millis()
    );
    if times[RUNS / 2] >= LIMIT {
        std::process::exit(1);
    }
}

//! `vaka diagnose`: checks this machine and its bench, with a remedy for each finding.

use std::collections::BTreeMap;
use std::sync::Mutex;
use std::sync::PoisonError;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};

use vaka_base::duration;
use vaka_boot::bench::buses::Bench;
use vaka_core::event::{Event, ExitCode, Finding, Severity};
use vaka_usb::native::NativeBus;
use vaka_usb::{Bus, HotplugEvent, PolledWatch, SystemClock};

use super::print_line;
use crate::args::{Common, Diagnose, OutputFormat};
use crate::cli_error::Outcome;
use crate::diagnose::{host, log, units};
use crate::environment;
use crate::output_options::OutputOptions;
use crate::render::json;
use crate::signals;

/// Interval for checking stop requests.
const LOOK_UP: Duration = Duration::from_millis(100);

pub fn run(args: &Diagnose, common: &Common, setting: &OutputOptions) -> Outcome {
    let (sheets, sheets_finding) = match environment::sheets(common) {
        Ok(sheets) => {
            let finding = host::sheets(&sheets);
            (sheets, finding)
        }
        // The rest is worth looking at all the same.
        Err(problem) => {
            let finding = Finding::problem("sheets", "product sheets", problem.0.message);
            (Vec::new(), Finding { remedy: problem.0.remedy, ..finding })
        }
    };
    let bench = environment::bench(common, &sheets)?;
    let has_own = bench.buses().iter().any(|bus| bus.name() == NativeBus::NAME);
    let mut found = vec![sheets_finding, host::journal(), host::locks()];
    if has_own {
        found.push(host::usb());
        found.extend(host::nodes());
        found.extend(log::findings());
    }
    for bus in bench.buses() {
        found.extend(units::bus(&bench, &**bus));
    }
    if let Some(time) = args.listen {
        found.extend(listen(&bench, time));
    }
    found.sort_by_key(|finding| std::cmp::Reverse(finding.severity));
    let worst = found.iter().map(|finding| finding.severity).max();
    match setting.format {
        OutputFormat::Json => found.into_iter().for_each(|finding| json::line::<Event>(&Event::Finding(finding))),
        OutputFormat::Text => print(&found, setting),
    }
    Ok(if worst == Some(Severity::Problem) { ExitCode::Access } else { ExitCode::Done })
}

/// Watches all buses for devices that reconnect too often.
fn listen(bench: &Bench<'_>, time: Duration) -> Vec<Finding> {
    crate::render::wrap::err!(
        "Watching the buses for {}. Move the cable a little if you suspect it.",
        duration::words(time)
    );
    let began = Instant::now();
    let drops: Mutex<BTreeMap<String, log::FlapCounter>> = Mutex::default();
    let watch = |bus: &dyn Bus| {
        let mut watch = PolledWatch::from_nothing(bus, &SystemClock);
        while began.elapsed() < time && !signals::flag().load(Ordering::SeqCst) {
            let Ok(changes) = watch.next(LOOK_UP) else { return };
            let mut drops = drops.lock().unwrap_or_else(PoisonError::into_inner);
            for change in changes {
                match change {
                    HotplugEvent::Detached(device) => {
                        drops.entry(bench.place(&device.location)).or_default().left(began.elapsed());
                    }
                    HotplugEvent::Attached(device) => {
                        drops.entry(bench.place(&device.location)).or_default().came((device.vendor, device.product));
                    }
                }
            }
        }
    };
    std::thread::scope(|scope| {
        for bus in bench.buses() {
            scope.spawn(|| watch(&**bus));
        }
    });
    let drops = drops.into_inner().unwrap_or_else(PoisonError::into_inner);
    let often = |(port, drops): (&String, &log::FlapCounter)| {
        let most = drops.often()?;
        let within = duration::words(log::OFTEN.1);
        let says = format!("the device reconnected {most} times within {within}");
        Some(Finding::problem("cable", port, says).remedy(log::LEAD))
    };
    let found: Vec<Finding> = drops.iter().filter_map(often).collect();
    match found.is_empty() {
        true => {
            let says = format!("no device reconnected repeatedly within {}", duration::words(began.elapsed()));
            vec![Finding::ok("cable", "the bench", says)]
        }
        false => found,
    }
}

/// Prints problems first, then notes, then everything that is in order.
fn print(found: &[Finding], setting: &OutputOptions) {
    let heads = [(Severity::Problem, "Obstacles:"), (Severity::Note, "Possible causes:"), (Severity::Ok, "Correct:")];
    for (weight, head) in heads {
        let of_weight: Vec<&Finding> = found.iter().filter(|finding| finding.severity == weight).collect();
        if of_weight.is_empty() || (weight == Severity::Ok && setting.quiet) {
            continue;
        }
        print_line(head);
        for finding in of_weight {
            print_line(&format!("  {}: {}", finding.about, finding.message));
            finding
                .remedy
                .iter()
                .flat_map(|remedy| remedy.lines())
                .for_each(|line| print_line(&format!("      {line}")));
        }
        print_line("");
    }
    let problems = found.iter().filter(|finding| finding.severity == Severity::Problem).count();
    match problems {
        0 => print_line("No obstacles found."),
        1 => print_line("1 obstacle found."),
        count => print_line(&format!("{count} obstacles found.")),
    }
}

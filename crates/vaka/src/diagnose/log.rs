//! Findings about cables and power from the kernel log and from watching a bus.

use std::collections::BTreeMap;
use std::time::Duration;

use vaka_base::duration;
use vaka_core::event::Finding;
use vaka_usb::kernel_log::{self, KernelEvent, KernelEventKind};

/// How far back the log is read. Chosen by us: recent attempts of the user.
const BACK: Duration = Duration::from_secs(15 * 60);

/// A device that disconnects this often in this time is not unplugged by hand. Chosen by us.
pub const OFTEN: (usize, Duration) = (4, Duration::from_secs(30));

/// Advice about a cable.
pub const LEAD: &str = "Try another cable that works with a good unit; then another port, without a hub.";

/// Recent enumeration failures, and devices that reconnect too often.
pub fn findings() -> Vec<Finding> {
    let (notes, now) = match (kernel_log::read(), kernel_log::uptime()) {
        (Ok(notes), Some(now)) => (notes, now),
        (Err(why), _) => {
            let says = format!("the kernel log cannot be read ({why}), so failed enumerations are not detected");
            let remedy = "Run 'sudo vaka diagnose' once, or watch the bus: vaka diagnose --listen 20s";
            return vec![Finding::note("kernel-log", "this machine", says).remedy(remedy)];
        }
        (Ok(_), None) => return Vec::new(),
    };
    let recent: Vec<KernelEvent> = notes.into_iter().filter(|note| note.at + BACK >= now).collect();
    let mut found = of_notes(&recent, now);
    if found.is_empty() {
        let says = format!(
            "no failed enumeration and no repeated reconnection in the last {}",
            duration::words(BACK.min(now))
        );
        found.push(Finding::ok("kernel-log", "this machine", says));
    }
    found
}

/// Findings from kernel events, port by port.
fn of_notes(notes: &[KernelEvent], now: Duration) -> Vec<Finding> {
    let mut ports: BTreeMap<&str, Vec<&KernelEvent>> = BTreeMap::new();
    for note in notes {
        ports.entry(&note.port).or_default().push(note);
    }
    let mut found = Vec::new();
    for (port, notes) in ports {
        let when = |note: &KernelEvent| format!("{} ago", duration::words(now.saturating_sub(note.at)));
        let count = |says: &dyn Fn(&KernelEventKind) -> bool| notes.iter().filter(|note| says(&note.says)).count();
        let troubles: Vec<&&KernelEvent> =
            notes.iter().filter(|note| matches!(note.says, KernelEventKind::Trouble(_))).collect();
        if let Some(KernelEvent { says: KernelEventKind::Trouble(words), .. }) = troubles.last().map(|note| **note) {
            let says = format!(
                "a device could not be enumerated, {} in the log, the last {}: {words}",
                vaka_base::text::count(troubles.len(), "line"),
                troubles.last().map(|note| when(note)).unwrap_or_default()
            );
            let remedy = format!("{LEAD} A unit with damaged firmware may cause this too: force its boot mode.");
            found.push(Finding::problem("enumeration", port, says).remedy(remedy));
        }
        let mut drops = FlapCounter::default();
        for note in &notes {
            match note.says {
                KernelEventKind::Left => drops.left(note.at),
                KernelEventKind::Came(vendor, product) => drops.came((vendor, product)),
                _ => {}
            }
        }
        if let Some(most) = drops.often() {
            let says = format!("the device reconnected {most} times within {}", duration::words(OFTEN.1));
            found.push(Finding::problem("cable", port, says).remedy(LEAD));
        }
        if count(&|says| *says == KernelEventKind::OverCurrent) > 0 {
            let says = "the port was switched off because the device drew too much current";
            let remedy = "Unplug it; check unit and cable for a short circuit before you try another port.";
            found.push(Finding::problem("power", port, says).remedy(remedy));
        }
        if count(&|says| *says == KernelEventKind::Underpowered) > 0 {
            let says = "the system did not switch it on: it requests more current than this port or hub supplies";
            found.push(
                Finding::problem("power", port, says).remedy("Use a self-powered hub, or a port of the machine."),
            );
        }
        if count(&|says| *says == KernelEventKind::Slow) > 0 {
            let says = "it supports a higher speed than this port or hub";
            found.push(
                Finding::note("speed", port, says)
                    .remedy("No action is required; another port or cable may be faster."),
            );
        }
    }
    found
}

/// Counts how often the same device leaves a port and returns. An update changes the ids with the
/// mode; a bad cable does not.
#[derive(Debug, Default)]
pub struct FlapCounter {
    is: Option<(u16, u16)>,
    left: Option<Duration>,
    times: Vec<Duration>,
}

impl FlapCounter {
    /// A device was detached.
    pub fn left(&mut self, at: Duration) {
        self.left = Some(at);
    }

    /// A device with these ids was attached.
    pub fn came(&mut self, ids: (u16, u16)) {
        let before = self.is.replace(ids);
        self.times.extend(self.left.take().filter(|_| before == Some(ids)));
    }

    /// The highest number of disconnects within the time, if that is too often.
    pub fn often(&self) -> Option<usize> {
        let (often, within) = OFTEN;
        let from = |from: &Duration| self.times.iter().filter(|at| *at >= from && **at <= *from + within).count();
        self.times.iter().map(from).max().filter(|most| *most >= often)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn note(at: u64, port: &str, says: KernelEventKind) -> KernelEvent {
        KernelEvent { at: Duration::from_secs(at), port: port.to_owned(), says }
    }

    #[test]
    fn signs_of_a_bad_lead_are_reported_from_an_ordinary_day() {
        let words = |notes: &[KernelEvent]| -> Vec<(&'static str, String)> {
            let found = of_notes(notes, Duration::from_secs(1000));
            found.into_iter().map(|finding| (finding.topic, finding.message)).collect()
        };
        // Updates after each other: the ids change with the mode.
        let both = |at: &u64, id| {
            [note(*at, "1-2", KernelEventKind::Left), note(at + 1, "1-2", KernelEventKind::Came(0x1209, id))]
        };
        let ordinary: Vec<KernelEvent> =
            (900..990).step_by(10).flat_map(|at| both(&at, 2).into_iter().chain(both(&(at + 4), 1))).collect();
        assert_eq!(words(&ordinary), []);
        let drops = |times: &[u64]| -> Vec<KernelEvent> { times.iter().flat_map(|at| both(at, 1)).collect() };
        let found = words(&drops(&[895, 900, 905, 911, 920]));
        assert_eq!(found, [("cable", "the device reconnected 4 times within 30 s".to_owned())]);
        // At this rate it can be a user.
        assert_eq!(words(&drops(&[800, 820, 840, 860, 880, 900])), []);
        let trouble = KernelEventKind::Trouble("device descriptor read/64, error -71".to_owned());
        let found = words(&[note(970, "1-3", trouble.clone()), note(990, "1-3", trouble)]);
        assert_eq!(found.len(), 1);
        assert_eq!(found[0].0, "enumeration");
        assert!(found[0].1.contains("2 lines in the log, the last 10 s ago: device descriptor read/64, error -71"));
        let power =
            words(&[note(990, "1-3", KernelEventKind::OverCurrent), note(991, "1-4", KernelEventKind::Underpowered)]);
        assert_eq!(power.iter().map(|found| found.0).collect::<Vec<_>>(), ["power", "power"]);
    }
}

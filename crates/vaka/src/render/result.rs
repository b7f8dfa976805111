//! The result of an update as text.

use std::time::Duration;

use vaka_base::duration;
use vaka_base::size::Grouped;
use vaka_base::text;
use vaka_core::event::{Check, Report, RestartState, RunOutcome, StepName};

use super::style::{BAD, GOOD};
use super::wrap::out;

/// How much is printed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Detail {
    /// One line.
    Line,
    /// The checks and the unit's present state.
    Summary,
    /// Transfers, times and padding too.
    Full,
}

/// Prints the result of an update that reached its end; other outcomes have their own error.
pub fn print(report: &Report, detail: Detail) {
    match report.outcome {
        RunOutcome::Planned => {
            out!("Plan only; nothing was done.");
        }
        RunOutcome::Updated | RunOutcome::Unchanged if detail == Detail::Line => {
            out!("{} Check {}.", sentence(report), check_name(report.check));
        }
        RunOutcome::Updated | RunOutcome::Unchanged => updated(report, detail),
        RunOutcome::Refused | RunOutcome::Failed | RunOutcome::Stopped => {}
    }
}

fn updated(report: &Report, detail: Detail) {
    let (first, style) = match (report.outcome, report.after) {
        (RunOutcome::Unchanged, RestartState::Confirmed) => ("Already present.", GOOD),
        (_, RestartState::Restarted | RestartState::Confirmed | RestartState::Seen) => ("Done.", GOOD),
        (RunOutcome::Unchanged, _) => ("Already present, but not running.", BAD),
        _ => ("Written, but not running.", BAD),
    };
    out!("\n{style}{first}{style:#} {}", sentence(report));
    out!("  check      {}", check_text(report));
    let after = match report.after {
        RestartState::Confirmed => "confirmed: the application returned as the product sheet describes",
        RestartState::Seen => "seen: the operator confirmed the signs in the product sheet",
        RestartState::Restarted => "restarted: it left update mode; no further sign is available",
        RestartState::NotBack => "not back: the application did not return as the product sheet describes",
        RestartState::NotRestarted => "not restarted",
    };
    out!("  after      {after}");
    if let Some(node) = &report.through {
        let kind = if node.starts_with('/') { "serial port of the unit" } else { "CAN interface" };
        out!("  through    {node}, the system's {kind}");
    }
    if let Some(programmer) = &report.programmer {
        out!("  through    {programmer}, wired to the unit's chip");
    }
    if detail == Detail::Full {
        transfers(report);
        times(report);
    }
    for (index, undone) in report.undo.iter().enumerate() {
        let name = if index == 0 { "undo" } else { "" };
        let done = if undone.done { " (done)" } else { "" };
        out!("  {name:<10} {}{done}", undone.action);
    }
    if let Some(next) = &report.application {
        let serial = next.serial.as_ref().map(|serial| format!(", serial number {serial}")).unwrap_or_default();
        let nodes = if next.nodes.is_empty() { String::new() } else { format!(" ({})", next.nodes.join(", ")) };
        out!("  now        {} at {}{nodes}{serial}", next.id, next.port);
    }
}

/// `Tern tide gauge r1 at 1-1 runs 1.5.0.`
fn sentence(report: &Report) -> String {
    let product = report.product.as_deref().unwrap_or("the unit");
    let variant = report.variant.as_ref().map(|variant| format!(" {variant}")).unwrap_or_default();
    let place = report.application.as_ref().map(|next| next.port.as_str()).or(report.unit.as_deref());
    let unit = format!("{product}{variant} at {}", place.unwrap_or("?"));
    let version = report.application.as_ref().and_then(|next| next.version.as_ref());
    let runs = version.map_or("; it reports no version".to_owned(), |version| format!(" {version}"));
    match (report.outcome, report.after) {
        (RunOutcome::Unchanged, RestartState::Confirmed) => {
            format!("{unit} runs{runs}; nothing was erased or written.")
        }
        (_, RestartState::Confirmed | RestartState::Seen) => format!("{unit} runs{runs}."),
        (_, RestartState::Restarted) => format!("{unit} left update mode; its application was not observed."),
        (_, RestartState::NotBack | RestartState::NotRestarted) => format!("{unit}."),
    }
}

/// The name of a check in the output.
pub fn check_name(check: Check) -> &'static str {
    match check {
        Check::ReadBack => "read-back",
        Check::DeviceChecked => "device-checked",
        Check::Accepted => "accepted",
        Check::None => "none",
    }
}

fn times(report: &Report) {
    let time =
        |(step, ms): &(StepName, u64)| format!("{} {}", step.as_str(), duration::measured(Duration::from_millis(*ms)));
    let times: Vec<String> = report.durations_ms.iter().map(time).collect();
    out!("  time       {}", times.join(", "));
    if report.bytes_padded > 0 {
        let checked = if report.check == Check::ReadBack { ", also read back" } else { "" };
        out!("  padding    the last blocks were padded with {} bytes of 0xFF{checked}", Grouped(report.bytes_padded));
    }
}

/// The check of the content, in numbers.
fn check_text(report: &Report) -> String {
    let (written, checked) = (Grouped(report.bytes_written), Grouped(report.bytes_checked));
    match report.check {
        Check::ReadBack if report.bytes_skipped > 0 => {
            let skipped = Grouped(report.bytes_skipped);
            format!("read-back: all {checked} bytes are equal; {written} were written, {skipped} were already present")
        }
        Check::ReadBack if report.bytes_checked == report.bytes_written => {
            format!("read-back: all {written} written bytes are equal")
        }
        Check::ReadBack => {
            format!("read-back: {checked} of {written} written bytes were read back and are equal")
        }
        Check::DeviceChecked => {
            format!(
                "device-checked: the unit's own checksum of {checked} of {written} written bytes equals the image's"
            )
        }
        Check::Accepted => {
            format!("accepted: {written} bytes were sent without an error; {checked} were read back")
        }
        Check::None => "none".to_owned(),
    }
}

/// `1 transfer`, `3 transfers`.
pub fn count(number: u64, noun: &str) -> String {
    text::count(usize::try_from(number).unwrap_or(usize::MAX), noun)
}

fn transfers(report: &Report) {
    let moved = report.transfers;
    let runs = match moved.runs {
        0 => String::new(),
        runs => format!(" and {}", count(runs, "address command")),
    };
    out!(
        "  transfers  {}write {} for {}{runs}; erase {}, {} {}",
        if moved.compare > 0 { format!("compare {}; ", moved.compare) } else { String::new() },
        moved.write,
        count(moved.blocks, "block"),
        moved.erase,
        if report.check == Check::DeviceChecked { "check" } else { "read back" },
        moved.read_back
    );
}

//! Many units at once: a line for each, and a count at the end.

use std::collections::BTreeMap;
use std::io::Write;
use std::time::Instant;

use indicatif::{MultiProgress, ProgressBar, ProgressStyle};
use serde::Serialize;
use vaka_base::{duration, text};
use vaka_boot::bench::candidate::Candidate;
use vaka_core::event::{Check, Event, ExitCode, FailureText, Report, RestartState, RunOutcome, SelectedRelease};

use super::Renderer;
use super::json::{self, Json};
use super::text::Text;
use crate::args::Format;
use crate::environment::OutputOptions;

/// How a unit was finished.
pub enum Completion<'a> {
    /// Earlier in this run.
    Before,
    /// Now, and so.
    Now(&'a Report),
}

/// The number of units by result.
#[derive(Default)]
pub struct Counts {
    pub updated: usize,
    pub unchanged: usize,
    pub failed: usize,
    pub stopped: usize,
    pub again: usize,
}

impl Counts {
    pub fn all(&self) -> usize {
        self.updated + self.unchanged + self.failed + self.stopped
    }

    pub fn note(&mut self, report: &Report) {
        match (report.code, report.outcome) {
            (ExitCode::Stopped, _) => self.stopped += 1,
            (ExitCode::Done, RunOutcome::Unchanged) => self.unchanged += 1,
            (ExitCode::Done, _) => self.updated += 1,
            _ => self.failed += 1,
        }
    }

    pub fn worst(&self) -> ExitCode {
        match (self.failed, self.stopped) {
            (0, 0) => ExitCode::Done,
            (0, _) => ExitCode::Stopped,
            _ => ExitCode::Transfer,
        }
    }
}

/// The lines of all units under way.
pub struct Screen {
    setting: OutputOptions,
    bars: MultiProgress,
    units: BTreeMap<String, Unit>,
}

struct Unit {
    /// Location for display: the configured name or the port.
    at: String,
    began: Instant,
    product: String,
    bar: Option<ProgressBar>,
    /// The failure.
    error: Option<FailureText>,
}

#[derive(Serialize)]
#[serde(tag = "event", rename = "line")]
struct Summary {
    units: usize,
    updated: usize,
    unchanged: usize,
    failed: usize,
    stopped: usize,
    done_before: usize,
}

impl Screen {
    pub fn new(setting: OutputOptions) -> Self {
        Self { setting, bars: MultiProgress::new(), units: BTreeMap::new() }
    }

    /// Prints the selected release.
    pub fn release(&self, release: SelectedRelease) {
        match self.setting.format {
            Format::Json => Json.event(Event::Release(release)),
            Format::Text => Text::new(self.setting).event(Event::Release(release)),
        }
    }

    /// Units can be connected from now on.
    pub fn ready(&self) {
        self.note("Ready: connect units. Ctrl-C ends the run.");
    }

    /// Marks a port as free: it has been empty longer than any restart, so the next unit is
    /// another one.
    pub fn free(&self, place: &str) {
        self.note(&format!("{:<10}  ready for the next unit", text::sanitize(place)));
    }

    /// Starts a unit.
    pub fn begins(&mut self, place: &str, called: Option<&str>, candidate: &Candidate<'_>) {
        let at = text::sanitize(called.unwrap_or(place));
        let product = candidate.sheets.first().map_or_else(String::new, |sheet| sheet.product.name.clone());
        let bar = (self.setting.live && !self.setting.quiet).then(|| {
            let bar = self.bars.add(ProgressBar::new(100));
            if let Ok(style) = ProgressStyle::with_template("{prefix:<10}  {msg:<40}  {bar:24} {percent:>3}%") {
                bar.set_style(style.progress_chars("=> "));
            }
            bar.set_prefix(at.clone());
            bar.set_message(product.clone());
            bar
        });
        if bar.is_none() {
            self.note(&format!("{at:<10}  {product}  started"));
        }
        self.units.insert(place.to_owned(), Unit { at, began: Instant::now(), product, bar, error: None });
    }

    /// Prints a line on standard error, above the bars if there are any.
    fn note(&self, line: &str) {
        if self.setting.quiet || self.setting.format == Format::Json {
            return;
        }
        // Without bars their line printer would discard the line.
        if !self.setting.live || self.bars.println(line).is_err() {
            let _ = writeln!(anstream::stderr().lock(), "{line}");
        }
    }

    /// Processes an event of a unit.
    pub fn event(&mut self, place: &str, event: Event) {
        if self.setting.format == Format::Json {
            return Json.event(event);
        }
        let Some(unit) = self.units.get_mut(place) else { return };
        match event {
            Event::Progress { step, done, total, .. } => {
                if let Some(bar) = &unit.bar {
                    bar.set_length(total.max(1));
                    bar.set_position(done);
                    bar.set_message(format!("{}: {}", unit.product, step.as_str()));
                }
            }
            Event::ManualStep { step, .. } => {
                let line = format!("{:<10}  {}  manual step: {}", unit.at, unit.product, step.action);
                self.note(&line);
            }
            Event::Error(failure) => unit.error = Some(failure),
            _ => {}
        }
    }

    /// A unit is through.
    pub fn ended(&mut self, place: &str, done: Completion<'_>) {
        let Some(unit) = self.units.remove(place) else { return };
        if let Some(bar) = &unit.bar {
            bar.finish_and_clear();
            self.bars.remove(bar);
        }
        if self.setting.format == Format::Json {
            return;
        }
        let time = duration::measured(unit.began.elapsed());
        let at = &unit.at;
        let line = match done {
            Completion::Before => format!("{at:<10}  {}  already finished; nothing was written", unit.product),
            Completion::Now(report) => {
                let variant = report.variant.as_ref().map(|variant| format!(" {variant}")).unwrap_or_default();
                let serial =
                    report.application.as_ref().and_then(|next| next.serial.as_ref()).or(report.serial.as_ref());
                let serial = serial.map(|serial| format!("  {serial}")).unwrap_or_default();
                let name = report.product.as_ref().unwrap_or(&unit.product);
                format!("{at:<10}  {name}{variant}{serial}  {}  {time}", words(report, unit.error.as_ref()))
            }
        };
        // The state of a failed unit, and the remedy.
        let more = unit.error.iter().flat_map(|failure| [&failure.state, &failure.remedy]).flatten();
        let lines: Vec<String> = [line].into_iter().chain(more.map(|words| format!("{:<10}  {words}", ""))).collect();
        let print = || drop(writeln!(anstream::stdout().lock(), "{}", lines.join("\n")));
        self.bars.suspend(print);
    }

    /// Prints the results of all units.
    pub fn summary(&self, counts: &Counts) {
        if self.setting.format == Format::Json {
            return json::line(&Summary {
                units: counts.all(),
                updated: counts.updated,
                unchanged: counts.unchanged,
                failed: counts.failed,
                stopped: counts.stopped,
                done_before: counts.again,
            });
        }
        let named = [
            (counts.updated, "updated"),
            (counts.unchanged, "unchanged"),
            (counts.failed, "FAILED"),
            (counts.stopped, "stopped"),
        ];
        let parts: Vec<String> =
            named.iter().filter(|(count, _)| *count > 0).map(|(count, word)| format!("{count} {word}")).collect();
        let parts = if parts.is_empty() { "none came".to_owned() } else { parts.join(", ") };
        let _ = writeln!(anstream::stdout().lock(), "{}: {parts}", vaka_base::text::count(counts.all(), "unit"));
    }
}

fn words(report: &Report, error: Option<&FailureText>) -> String {
    let check = match report.check {
        Check::ReadBack => ", read-back",
        Check::DeviceChecked => ", device-checked",
        Check::Accepted => ", accepted",
        Check::None => "",
    };
    let after = match report.after {
        RestartState::Confirmed => ", confirmed",
        RestartState::Seen => ", seen",
        RestartState::Restarted => ", restarted",
        RestartState::NotBack => ", NOT BACK",
        RestartState::NotRestarted => "",
    };
    match (report.code, report.outcome) {
        (ExitCode::Done, RunOutcome::Unchanged) => format!("already present{after}"),
        (ExitCode::Done, _) => format!("updated{check}{after}"),
        _ => format!("FAILED: {}", error.map_or("see the journal", |failure| failure.message.as_str())),
    }
}

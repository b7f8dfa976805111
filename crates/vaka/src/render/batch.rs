//! Many units at once: a line for each, and a count at the end.

use std::cell::Cell;
use std::collections::BTreeMap;
use std::io::Write;
use std::time::{Duration, Instant};

use anstyle::Style;
use indicatif::{MultiProgress, ProgressBar, ProgressDrawTarget, ProgressState, ProgressStyle};
use serde::Serialize;
use vaka_base::{duration, text};
use vaka_boot::bench::candidate::Candidate;
use vaka_core::event::{
    Check, Event, ExitCode, FailureText, Report, RestartState, RunOutcome, SelectedRelease, StepState,
};
use vaka_core::matching::Question;
use vaka_core::unit_state::UnitState;

use super::json::{self, Json};
use super::large;
use super::result::check_name;
use super::style::{BAD, GOOD};
use super::text::Text;
use super::verdict;
use super::wrap::width;
use super::wrap::{err, out};
use super::{Renderer, progress};
use crate::args::OutputFormat;
use crate::output_options::OutputOptions;

/// How a unit was finished.
pub enum Completion<'a> {
    /// Earlier in this run.
    Before,
    /// Now, and so.
    Now(&'a Report),
}

/// Whether the run changed no byte of its unit.
fn is_untouched(report: &Report) -> bool {
    report.state.is_none_or(UnitState::is_unchanged)
}

/// The number of units by result.
#[derive(Default)]
pub struct Counts {
    pub updated: usize,
    pub unchanged: usize,
    /// The plan was printed and nothing was done.
    pub planned: usize,
    /// The image does not fit, or the evidence does not decide it.
    pub refused: usize,
    /// It was not found in update mode, and nothing was changed in it.
    pub absent: usize,
    pub failed: usize,
    pub stopped: usize,
    pub again: usize,
}

impl Counts {
    pub fn all(&self) -> usize {
        self.updated + self.unchanged + self.planned + self.refused + self.absent + self.failed + self.stopped
    }

    pub fn note(&mut self, report: &Report) {
        match (report.code, report.outcome) {
            (ExitCode::Stopped, _) => self.stopped += 1,
            (ExitCode::Done, RunOutcome::Unchanged) => self.unchanged += 1,
            (ExitCode::Done, RunOutcome::Planned) => self.planned += 1,
            (ExitCode::Done, _) => self.updated += 1,
            (ExitCode::Refused, _) => self.refused += 1,
            (ExitCode::NoUnit, _) if is_untouched(report) => self.absent += 1,
            _ => self.failed += 1,
        }
    }

    pub fn worst(&self) -> ExitCode {
        let by_severity = [
            (self.failed, ExitCode::Transfer),
            (self.stopped, ExitCode::Stopped),
            (self.refused, ExitCode::Refused),
            (self.absent, ExitCode::NoUnit),
        ];
        let worst = by_severity.into_iter().find(|(count, _)| *count > 0);
        worst.map_or(if self.all() == 0 { ExitCode::NoUnit } else { ExitCode::Done }, |(_, code)| code)
    }

    /// `12 units: 10 updated, 1 refused, 1 FAILED`
    fn words(&self) -> String {
        let named = [
            (self.updated, "updated"),
            (self.unchanged, "unchanged"),
            (self.planned, "planned"),
            (self.refused, "refused"),
            (self.absent, "not found in update mode"),
            (self.failed, "FAILED"),
            (self.stopped, "stopped"),
        ];
        let parts: Vec<String> =
            named.iter().filter(|(count, _)| *count > 0).map(|(count, word)| format!("{count} {word}")).collect();
        let parts = if parts.is_empty() { "none came".to_owned() } else { parts.join(", ") };
        format!("{}: {parts}", text::count(self.all(), "unit"))
    }
}

/// The lines of all units under way.
pub struct Screen {
    setting: OutputOptions,
    bars: MultiProgress,
    /// The running count, below the bars.
    count: Option<ProgressBar>,
    units: BTreeMap<String, Unit>,
    /// Whether no bars are drawn, since the user types a label.
    is_asking: Cell<bool>,
}

struct Unit {
    /// Location for display: the configured name or the port.
    at: String,
    began: Instant,
    product: String,
    bar: Option<ProgressBar>,
    /// Progress of the present step in percent.
    percent: u64,
    /// The plan in one line.
    plan: Option<String>,
    /// The failure.
    error: Option<FailureText>,
}

#[derive(Serialize)]
#[serde(tag = "event", rename = "line")]
struct Summary {
    units: usize,
    updated: usize,
    unchanged: usize,
    planned: usize,
    refused: usize,
    absent: usize,
    failed: usize,
    stopped: usize,
    done_before: usize,
}

impl Screen {
    pub fn new(setting: OutputOptions) -> Self {
        Self { setting, bars: MultiProgress::new(), count: None, units: BTreeMap::new(), is_asking: Cell::new(false) }
    }

    /// Prints the selected release.
    pub fn release(&self, release: SelectedRelease) {
        match self.setting.format {
            OutputFormat::Json => Json.event(Event::Release(release)),
            OutputFormat::Text => Text::new(self.setting).event(Event::Release(release)),
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
            let bar = ProgressBar::new(100);
            let bar = match &self.count {
                Some(count) => self.bars.insert_before(count, bar),
                None => self.bars.add(bar),
            };
            bar.set_style(bar_style());
            bar.set_prefix(at.clone());
            bar.set_message(product.clone());
            bar
        });
        if bar.is_none() {
            self.note(&format!("{at:<10}  {product}  started"));
        }
        self.units.insert(
            place.to_owned(),
            Unit { at, began: Instant::now(), product, bar, percent: 0, plan: None, error: None },
        );
    }

    /// The label of a unit is awaited; with the question if the update needs it.
    pub fn awaits_label(&self, place: &str, candidate: &Candidate<'_>, question: Option<&Question>) {
        let product = candidate.sheets.first().map_or("", |sheet| &sheet.product.name);
        let at = text::sanitize(place);
        // The typed line would move them.
        self.draw_bars(false);
        self.note(&format!(
            "{at:<10}  {product}  READ ITS LABEL: scan or type it, then press Enter (- if it has none)"
        ));
        for choice in question.iter().flat_map(|question| &question.choices) {
            let reads: Vec<String> =
                choice.look_at.iter().map(|look| format!("\"{}\" on the {}", look.reads, look.place)).collect();
            self.note(&format!("{:<10}    {}  {}", "", choice.variant, reads.join(", ")));
        }
        self.ring();
    }

    /// Draws the bars, or does not while the user types.
    pub fn draw_bars(&self, is_drawn: bool) {
        if !self.setting.live || self.is_asking.replace(!is_drawn) != is_drawn {
            return;
        }
        if is_drawn {
            self.bars.set_draw_target(ProgressDrawTarget::stderr());
        } else {
            let _ = self.bars.clear();
            self.bars.set_draw_target(ProgressDrawTarget::hidden());
        }
    }

    /// A line was taken as the label of a unit.
    pub fn took_label(&self, place: &str, label: &str, variant: &str) {
        self.note(&format!("{:<10}  label \"{}\": {variant}", text::sanitize(place), text::sanitize(label)));
    }

    /// A line is not a label of the unit; another one is awaited.
    pub fn refused_label(&self, place: &str, failure: &FailureText) {
        let remedy = failure.remedy.as_deref().unwrap_or_default();
        self.note(&format!("{:<10}  {} {remedy}", text::sanitize(place), failure.message));
        self.ring();
    }

    /// Rings the bell of the terminal. Source: ECMA-48, 8.3.3.
    fn ring(&self) {
        if self.has_large() {
            let _ = std::io::stderr().write_all(b"\x07");
        }
    }

    /// Whether the user is at a terminal, where results are shown in large letters.
    fn has_large(&self) -> bool {
        self.setting.live && !self.setting.quiet && self.setting.format == OutputFormat::Text
    }

    /// Shows the result of a unit so that it can be read from two metres.
    fn show_large(&self, at: &str, report: &Report) {
        if !self.has_large() {
            return;
        }
        let (word, style) = match (report.code, report.outcome) {
            (ExitCode::Done, RunOutcome::Planned) => return,
            (ExitCode::Done, _) => ("OK", GOOD),
            (ExitCode::Stopped, _) => ("STOP", BAD),
            (ExitCode::Refused, _) => ("NO", BAD),
            _ => ("FAIL", BAD),
        };
        for line in large::lines(&format!("{word} {at}"), usize::from(width())) {
            out!("{style}{line}{style:#}");
        }
        self.ring();
    }

    /// Prints a line on standard error, above the bars if there are any.
    pub fn note(&self, line: &str) {
        if self.setting.quiet || self.setting.format == OutputFormat::Json {
            return;
        }
        // Without bars their line printer would discard the line.
        if !self.setting.live || self.is_asking.get() || self.bars.println(line).is_err() {
            err!("{line}");
        }
    }

    /// Processes an event of a unit.
    pub fn event(&mut self, place: &str, event: Event) {
        if self.setting.format == OutputFormat::Json {
            return Json.event(event);
        }
        let Some(unit) = self.units.get_mut(place) else { return };
        match event {
            Event::Progress { step, done, total, .. } => {
                unit.percent = done * 100 / total.max(1);
                if let Some(bar) = &unit.bar {
                    bar.set_length(total.max(1));
                    bar.set_position(done);
                    bar.set_message(format!("{}: {}", unit.product, step.as_str()));
                }
            }
            Event::Step { state: StepState::Started, .. } => unit.percent = 0,
            Event::Lost { left_ms, .. } => {
                let left = Duration::from_millis(left_ms);
                match &unit.bar {
                    Some(bar) => {
                        bar.set_style(lost_style(unit.percent, left));
                        bar.enable_steady_tick(Duration::from_millis(500));
                    }
                    None => {
                        let left = progress::whole_seconds(left);
                        let line = format!(
                            "{:<10}  CABLE LOST at {} %, plug it in again (within {left})",
                            unit.at, unit.percent
                        );
                        self.note(&line);
                    }
                }
            }
            Event::Attached(_) => {
                if let Some(bar) = &unit.bar {
                    bar.disable_steady_tick();
                    bar.set_style(bar_style());
                }
            }
            Event::Plan { plan, .. } => {
                unit.plan = Some(format!("for {} {}", plan.variant, verdict::plan_words(&plan)))
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
        if self.setting.format == OutputFormat::Json {
            return;
        }
        let time = duration::measured(unit.began.elapsed());
        let at = &unit.at;
        let line = match done {
            Completion::Before => {
                format!("{at:<10}  {}  already finished, by its serial number; nothing was written", unit.product)
            }
            Completion::Now(report) => {
                let variant = report.variant.as_ref().map(|variant| format!(" {variant}")).unwrap_or_default();
                let serial =
                    report.application.as_ref().and_then(|next| next.serial.as_ref()).or(report.serial.as_ref());
                let serial = serial.map(|serial| format!("  {serial}")).unwrap_or_default();
                let name = report.product.as_ref().unwrap_or(&unit.product);
                let style = if matches!(report.code, ExitCode::Done) { Style::new() } else { BAD };
                let words = words(report, &unit);
                format!("{at:<10}  {name}{variant}{serial}  {style}{words}{style:#}  {time}")
            }
        };
        // The state of a failed unit, and the remedy.
        let more = unit.error.iter().flat_map(|failure| [&failure.state, &failure.remedy]).flatten();
        let lines: Vec<String> = [line].into_iter().chain(more.map(|words| format!("{:<10}  {words}", ""))).collect();
        let print = || {
            out!("{}", lines.join("\n"));
            if let Completion::Now(report) = done {
                self.show_large(&unit.at, report);
            }
        };
        self.bars.suspend(print);
    }

    /// Prints the results of all units.
    pub fn summary(&self, counts: &Counts) {
        if self.setting.format == OutputFormat::Json {
            return json::line(&Summary {
                units: counts.all(),
                updated: counts.updated,
                unchanged: counts.unchanged,
                planned: counts.planned,
                refused: counts.refused,
                absent: counts.absent,
                failed: counts.failed,
                stopped: counts.stopped,
                done_before: counts.again,
            });
        }
        if let Some(bar) = &self.count {
            bar.finish_and_clear();
        }
        out!("{}", counts.words());
    }

    /// Shows the running count.
    pub fn running(&mut self, counts: &Counts) {
        if self.setting.quiet || self.setting.format == OutputFormat::Json {
            return;
        }
        if !self.setting.live {
            return self.note(&counts.words());
        }
        let bar = self.count.get_or_insert_with(|| {
            let bar = self.bars.add(ProgressBar::new_spinner());
            bar.set_style(template("{msg:.bold}"));
            bar
        });
        bar.set_message(counts.words());
        bar.tick();
    }
}

fn template(form: &str) -> ProgressStyle {
    ProgressStyle::with_template(form).unwrap_or_else(|_| ProgressStyle::default_spinner())
}

/// The style of a unit's bar.
fn bar_style() -> ProgressStyle {
    let length = width().saturating_sub(62).clamp(8, 24);
    template(&format!("{{prefix:<10}}  {{msg:<40}}  {{bar:{length}}} {{percent:>3}} %")).progress_chars("=> ")
}

/// `CABLE LOST at 10 %, plug it in again (24 s left)`, counting down.
fn lost_style(percent: u64, left: Duration) -> ProgressStyle {
    let end = Instant::now() + left;
    let words = move |_: &ProgressState, out: &mut dyn std::fmt::Write| {
        let left = progress::whole_seconds(end.saturating_duration_since(Instant::now()));
        let _ = write!(out, "CABLE LOST at {percent} %, plug it in again ({left} left)");
    };
    template("{prefix:<10}  {words:.red.bold}").with_key("words", words)
}

fn words(report: &Report, unit: &Unit) -> String {
    let check = match report.check {
        Check::None => String::new(),
        check => format!(", {}", check_name(check)),
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
        (ExitCode::Done, RunOutcome::Planned) => format!("plan {}", unit.plan.as_deref().unwrap_or_default()),
        (ExitCode::Done, _) => format!("updated{check}{after}"),
        (code, _) => {
            let word = match code {
                ExitCode::Refused => "refused",
                ExitCode::NoUnit if is_untouched(report) => "not updated",
                _ => "FAILED",
            };
            let message = unit.error.as_ref().map_or("see the journal", |failure| failure.message.as_str());
            match message.strip_prefix("Failed ") {
                Some(rest) if word == "FAILED" => format!("{word} {rest}"),
                _ => format!("{word}: {message}"),
            }
        }
    }
}

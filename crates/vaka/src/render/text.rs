//! Events as text: results on standard output, progress and questions on standard error.

use std::time::{Duration, Instant};

use anstyle::Style;
use vaka_base::duration;
use vaka_core::attached_unit::AttachedUnit;
use vaka_core::event::{Event, FailureText, FrameField, Report, SelectedRelease, StageState, StepName, StepState};
use vaka_core::matching::{Outcome, Phase};
use vaka_core::plan::Plan;
use vaka_core::sheet::ManualStep;
use vaka_core::unit::Mode;

use super::result::{self, Detail};
use super::style::{BAD, BOLD, DIM, GOOD};
use super::verdict::{self, Verdicts};
use super::wrap::{err, out};
use super::{Renderer, lines, progress, table};
use crate::output_options::OutputOptions;

/// Interval between lines of progress where bars cannot be drawn.
const PROGRESS_LINE: Duration = Duration::from_secs(5);

/// Prints the error that ended a command.
pub fn failure(failure: &FailureText) {
    for (index, line) in lines(failure).iter().enumerate() {
        let style = if index == 0 { BAD } else { Style::new() };
        err!("{style}{line}{style:#}");
    }
}

/// Prints events as text.
pub struct Text {
    setting: OutputOptions,
    /// When the step began, and when its last line was printed.
    lines: Option<(Instant, Instant)>,
    verdicts: Verdicts,
    /// Locations of the units that were printed.
    attached: Vec<String>,
    /// Whether the user moves the unit, so that each attached and detached unit is of interest.
    is_manual: bool,
}

impl Text {
    pub fn new(setting: OutputOptions) -> Self {
        Self { setting, lines: None, verdicts: Verdicts::default(), attached: Vec::new(), is_manual: false }
    }

    fn progress(&mut self, step: StepName, region: &str, done: u64, total: u64) {
        if self.setting.quiet {
            return;
        }
        if self.setting.live {
            progress::bytes(step.as_str(), region, done, total);
            return;
        }
        let now = Instant::now();
        let (begin, last) = *self.lines.get_or_insert((now, now));
        if now - last >= PROGRESS_LINE {
            self.lines = Some((begin, now));
            err!("  {:<9}  {}", step.as_str(), progress::line(done, total, now - begin));
        }
    }

    fn step(&mut self, step: StepName, state: StepState, text: &str, transfers: Option<u64>) {
        progress::clear();
        self.lines = None;
        use StepName as S;
        let moves_bytes = matches!(step, S::Read | S::Compare | S::Erase | S::Write | S::ReadBack | S::DeviceCheck);
        let line = format!("  {:<9}  {text}", step.as_str());
        match state {
            _ if self.setting.quiet => {}
            StepState::Started if self.setting.details => {
                err!("{line}");
            }
            StepState::Started if self.setting.live && !moves_bytes => progress::countdown(&line, None),
            StepState::Started => {}
            StepState::Done => {
                self.is_manual &= step != StepName::Enter;
                // The result of the comparison has a line of its own.
                if step == StepName::Compare && transfers.is_some() && !self.setting.details {
                    return;
                }
                let count = transfers.filter(|_| self.setting.details);
                let count = count.map_or(String::new(), |count| format!(", {}", result::count(count, "transfer")));
                err!("{line}{count}");
            }
        }
    }

    fn attached(&mut self, unit: &AttachedUnit) {
        let is_new = !self.attached.contains(&unit.unit);
        if is_new || self.is_manual || self.setting.details {
            err!("{}", attached_unit(unit));
        }
        if is_new {
            self.attached.push(unit.unit.clone());
        }
    }

    fn plan(&self, plan: &Plan, phase: Phase) {
        match phase {
            _ if self.setting.details => verdict::plan_list(plan, phase),
            Phase::Final => verdict::plan_line(plan),
            Phase::Provisional => {}
        }
    }

    fn waiting(&self, waiting_for: &str, left: Option<Duration>) {
        let text = format!("Waiting for {waiting_for}");
        if self.setting.live {
            progress::countdown(&text, left);
            return;
        }
        let left = left.map(|left| format!(" ({} left)", duration::words(left)));
        err!("{DIM}{text}{}{DIM:#}", left.unwrap_or_default());
    }

    fn result(&self, report: &Report) {
        let detail = match () {
            () if self.setting.quiet => Detail::Line,
            () if self.setting.details => Detail::Full,
            () => Detail::Summary,
        };
        result::print(report, detail);
    }
}

impl Renderer for Text {
    fn event(&mut self, event: Event) {
        match event {
            Event::Progress { step, region, done, total, .. } => self.progress(step, &region, done, total),
            Event::Step { step, state, text, transfers, .. } => self.step(step, state, &text, transfers),
            // Printed with the verdict as one table.
            Event::Evidence { .. } => {}
            other => {
                if !matches!(other, Event::Waiting { .. }) {
                    progress::clear();
                }
                self.line(other);
            }
        }
    }
}

impl Text {
    fn line(&mut self, event: Event) {
        let quiet = self.setting.quiet;
        match event {
            Event::Attached(unit) if !quiet => self.attached(&unit),
            Event::Detached { unit, id } if !quiet && (self.is_manual || self.setting.details) => {
                err!("{unit}: {id} disconnected");
            }
            Event::Verdict { verdict, .. } if !(quiet && verdict.outcome == Outcome::Fits) => {
                self.verdicts.print(&verdict, self.setting.details);
            }
            Event::Plan { plan, phase, .. } if !quiet => self.plan(&plan, phase),
            Event::Release(release) if !quiet => release_lines(&release),
            Event::Stage { number, of, name, text, state } if !quiet => stage_line(number, of, &name, &text, state),
            Event::Exported { file, sha256, tool } => {
                err!("{BOLD}For {tool}:{BOLD:#} {file}  (SHA-256 {sha256})");
            }
            Event::ManualStep { number, of, step, .. } => {
                self.is_manual = true;
                manual_step(number, of, &step);
            }
            Event::Waiting { waiting_for, left_ms } if !quiet => {
                self.waiting(&waiting_for, left_ms.map(Duration::from_millis));
            }
            Event::Warning { text } => {
                err!("{BOLD}Note:{BOLD:#} {text}");
            }
            Event::Frame { exchange, problem, fields } => frame(&exchange, &problem, &fields),
            Event::Error(found) => failure(&found),
            Event::Result(report) => self.result(&report),
            _ => {}
        }
    }
}

/// Lines about the release, its signer and alternatives.
fn release_lines(release: &SelectedRelease) {
    let SelectedRelease { product, version, date, channel, build, .. } = release;
    out!("{BOLD}Release {product} {version}{BOLD:#} of {date} ({channel}), build {build}, from {}", release.file);
    out!("  signed by  {}", release.signer.as_deref().unwrap_or("no key"));
    let more = [("loses", &release.loses), ("builds", &release.other_builds), ("others", &release.others)];
    for (name, list) in more {
        for (index, line) in list.iter().enumerate() {
            out!("  {:<9}  {line}", if index == 0 { name } else { "" });
        }
    }
}

fn stage_line(number: usize, of: usize, name: &str, text: &str, state: StageState) {
    match state {
        StageState::Planned => {
            out!("  stage {number} of {of}  {name}: {text}");
        }
        StageState::Past => {
            out!("Stage {number} of {of}, {name}: already completed.");
        }
        StageState::Started => {
            out!("\n{BOLD}Stage {number} of {of}: {name}{BOLD:#}");
        }
        StageState::Done => {
            out!("{GOOD}Stage {number} of {of} is done.{GOOD:#}");
        }
    }
}

/// A frame that does not match: the mismatch, and all fields.
fn frame(exchange: &str, words: &str, fields: &[FrameField]) {
    err!("{BOLD}Note:{BOLD:#} the reply in '{exchange}' is unexpected, {words}.");
    let row = |field: &FrameField| {
        let mark = if field.is_mismatch { "→" } else { "" };
        vec![mark.to_owned(), field.field.clone(), field.bytes.clone(), field.meaning.clone()]
    };
    for line in table::plain(&["", "field", "received", ""], fields.iter().map(row).collect()).lines() {
        err!("  {line}");
    }
}

/// `1-1: Tern tide gauge, update mode (1209:0002)`
fn attached_unit(unit: &AttachedUnit) -> String {
    let name = unit.product.clone().unwrap_or_else(|| "an unknown device".to_owned());
    let version = unit.version.as_ref().map(|version| format!(", version {version}")).unwrap_or_default();
    let mode = if unit.mode == Mode::Unknown { String::new() } else { format!(", {} mode", unit.mode) };
    format!("{}: {name}{mode} ({}){version}", unit.unit, unit.id)
}

fn manual_step(number: usize, of: usize, step: &ManualStep) {
    let advised = if step.advised { " (advised)" } else { "" };
    let only_if = step.only_if.as_ref().map(|when| format!("only if {when}: ")).unwrap_or_default();
    err!("{BOLD}Manual step {number} of {of}{advised}: {only_if}{}{BOLD:#}", step.action);
    if let Some(why) = &step.why {
        err!("  Why: {why}");
    }
    if let Some(see) = &step.see {
        err!("  Then: {see}");
    }
    if let Some(place) = &step.documented {
        err!("  See: {place}");
    }
}

//! Events as text: results on standard output, progress and questions on standard error.

use std::io::Write;
use std::time::{Duration, Instant};

use anstyle::{AnsiColor, Style};
use indicatif::{ProgressBar, ProgressStyle};
use vaka_base::duration;
use vaka_base::size::{Bytes, Grouped};
use vaka_base::text;
use vaka_core::event::{
    AttachedUnit, Check, Event, FailureText, FrameField, Report, RestartState, RunOutcome, SelectedRelease, StageState,
    StepName, StepState,
};
use vaka_core::matching::{Evidence, Outcome, Phase, Source, Subject, Verdict, Weight};
use vaka_core::plan::{Plan, Step};
use vaka_core::sheet::{EntryStep, ManualStep};
use vaka_core::unit::Mode;

use super::{Renderer, lines, table};
use crate::environment::OutputOptions;

const BOLD: Style = Style::new().bold();
const BAD: Style = AnsiColor::Red.on_default().bold();
const GOOD: Style = AnsiColor::Green.on_default().bold();
const DIM: Style = Style::new().dimmed();

/// Interval between lines of progress where bars cannot be drawn.
const PROGRESS_LINE: Duration = Duration::from_secs(5);

/// Writes to standard output. A closed pipe must not abort the update.
macro_rules! out {
    ($($arg:tt)*) => { let _ = writeln!(anstream::stdout().lock(), $($arg)*); };
}

/// Writes to standard error.
macro_rules! err {
    ($($arg:tt)*) => { let _ = writeln!(anstream::stderr().lock(), $($arg)*); };
}

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
    bar: Option<ProgressBar>,
    /// When the step began, and when its last line was printed.
    lines: Option<(Instant, Instant)>,
}

impl Text {
    pub fn new(setting: OutputOptions) -> Self {
        Self { setting, bar: None, lines: None }
    }

    /// Ends the bar, so that a line can be printed.
    fn end_bar(&mut self) {
        if let Some(bar) = self.bar.take() {
            bar.finish_and_clear();
        }
    }

    fn progress(&mut self, step: StepName, region: &str, done: u64, total: u64) {
        if self.setting.quiet {
            return;
        }
        if self.setting.live {
            let bar = self.bar.get_or_insert_with(|| bar(step, region, total));
            bar.set_position(done);
            return;
        }
        let now = Instant::now();
        let (begin, last) = *self.lines.get_or_insert((now, now));
        if now - last >= PROGRESS_LINE {
            self.lines = Some((begin, now));
            err!("  {:<9}  {}", step.as_str(), progress_line(done, total, now - begin));
        }
    }

    fn step(&mut self, step: StepName, state: StepState, text: &str, transfers: Option<u64>) {
        self.end_bar();
        self.lines = None;
        use StepName as S;
        let moves_bytes = matches!(step, S::Read | S::Compare | S::Erase | S::Write | S::ReadBack | S::DeviceCheck);
        match state {
            _ if self.setting.quiet => {}
            StepState::Started if self.setting.verbose || !moves_bytes => {
                err!("  {:<9}  {text}", step.as_str());
            }
            StepState::Started => {}
            StepState::Done => {
                let count = transfers.filter(|_| self.setting.verbose);
                let count = count.map_or(String::new(), |count| format!(", {count} transfers"));
                err!("  {:<9}  {text}{count}", step.as_str());
            }
        }
    }
}

/// `12 KiB of 21 KiB, 57%, 13.2 KiB/s, 0.7 s left`
fn progress_line(done: u64, total: u64, time: Duration) -> String {
    #[allow(clippy::cast_precision_loss)] // for a person's eye
    let (rate, rest) = (done as f64 / time.as_secs_f64().max(0.001), total.saturating_sub(done) as f64);
    let left = Duration::try_from_secs_f64(rest / rate.max(1.0)).unwrap_or_default();
    let percent = done * 100 / total.max(1);
    let (done, total) = (Bytes(done), Bytes(total));
    format!("{done} of {total}, {percent}%, {:.1} KiB/s, {} left", rate / 1024.0, duration::words(left))
}

fn bar(step: StepName, region: &str, total: u64) -> ProgressBar {
    let bar = ProgressBar::new(total);
    let form = "  {prefix:<9}  {bar:32} {percent:>3}%  {bytes} of {total_bytes}  {bytes_per_sec}  {eta} left  {msg}";
    if let Ok(style) = ProgressStyle::with_template(form) {
        bar.set_style(style.progress_chars("=> "));
    }
    bar.set_prefix(step.as_str());
    bar.set_message(region.to_owned());
    bar
}

impl Renderer for Text {
    fn event(&mut self, event: Event) {
        match event {
            Event::Progress { step, region, done, total, .. } => self.progress(step, &region, done, total),
            Event::Step { step, state, text, transfers, .. } => self.step(step, state, &text, transfers),
            // Printed with the verdict as one table.
            Event::Evidence { .. } => {}
            other => {
                self.end_bar();
                self.line(other);
            }
        }
    }
}

impl Text {
    fn line(&mut self, event: Event) {
        let quiet = self.setting.quiet;
        match event {
            Event::Attached(unit) if !quiet => {
                err!("{}", seen(&unit));
            }
            Event::Detached { unit, id } if !quiet => {
                err!("{unit}: {id} disconnected");
            }
            Event::Verdict { verdict, .. } => verdict_table(&verdict, &self.setting),
            Event::Plan { plan, phase, .. } => plan_list(&plan, phase),
            Event::Release(release) => release_lines(&release),
            Event::Stage { number, of, name, text, state } => stage_line(number, of, &name, &text, state),
            Event::Exported { file, sha256, tool } => {
                err!("{BOLD}For {tool}:{BOLD:#} {file}  (SHA-256 {sha256})");
            }
            Event::ManualStep { number, of, step, .. } => manual_step(number, of, &step),
            Event::Waiting { waiting_for, left_ms } if !quiet => {
                let left = left_ms.map(|ms| format!(" ({} left)", duration::words(Duration::from_millis(ms))));
                err!("{DIM}Waiting for {waiting_for}{}{DIM:#}", left.unwrap_or_default());
            }
            Event::Warning { text } => {
                err!("{BOLD}Note:{BOLD:#} {text}");
            }
            Event::Frame { exchange, problem, fields } => frame(&exchange, &problem, &fields, &self.setting),
            Event::Error(found) => failure(&found),
            Event::Result(report) => result(&report),
            _ => {}
        }
    }
}

/// Lines about the release, its signer and alternatives.
fn release_lines(release: &SelectedRelease) {
    let SelectedRelease { product, version, date, channel, build, .. } = release;
    out!("{BOLD}Release {product} {version}{BOLD:#} of {date} ({channel}), build {build}, from {}", release.file);
    out!("  signed by  {}", release.signer.as_deref().unwrap_or("nobody"));
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
fn frame(exchange: &str, words: &str, fields: &[FrameField], setting: &OutputOptions) {
    err!("{BOLD}Note:{BOLD:#} the reply in '{exchange}' is unexpected, {words}.");
    let row = |field: &FrameField| {
        let mark = if field.is_mismatch { "→" } else { "" };
        vec![mark.to_owned(), field.field.clone(), field.bytes.clone(), field.meaning.clone()]
    };
    for line in table::plain(setting.width, &["", "field", "received", ""], fields.iter().map(row).collect()).lines() {
        err!("  {line}");
    }
}

/// `1-1: Tern tide gauge, update mode (1209:0002)`
fn seen(unit: &AttachedUnit) -> String {
    let name = unit.product.clone().unwrap_or_else(|| "an unknown device".to_owned());
    let version = unit.version.as_ref().map(|version| format!(", version {version}")).unwrap_or_default();
    let mode = if unit.mode == Mode::Unknown { String::new() } else { format!(", {} mode", unit.mode) };
    format!("{}: {name}{mode} ({}){version}", unit.unit, unit.id)
}

/// The table of evidence and its conclusion.
pub fn verdict_table(verdict: &Verdict, setting: &OutputOptions) {
    let about = |evidence: &Evidence| match evidence.about {
        Subject::Unit => "unit",
        Subject::Label => "person",
        Subject::File => "file",
    };
    // Before the variant is known, each candidate has rows of its own.
    let open = verdict.variant.is_none();
    let row = |evidence: &Evidence| {
        let is_allowed = |id: &String| verdict.consents.iter().any(|consents| consents.id == *id);
        let means = match &evidence.weight {
            Weight::ConflictsUnlessAllowed(id) if is_allowed(id) => format!("allowed: {}", evidence.means),
            Weight::ConflictsUnlessAllowed(_) if evidence.source == Source::Loss => format!("LOSS: {}", evidence.means),
            Weight::Conflicts | Weight::ConflictsUnlessAllowed(_) => format!("CONFLICT: {}", evidence.means),
            _ => evidence.means.clone(),
        };
        let mut cells =
            vec![about(evidence).to_owned(), evidence.source.as_str().to_owned(), evidence.says.clone(), means];
        if open {
            cells.insert(0, evidence.variant.as_ref().map_or("any".to_owned(), ToString::to_string));
        }
        cells
    };
    let head: &[&str] =
        if open { &["for", "looked at", "", "says", "means"] } else { &["looked at", "", "says", "means"] };
    out!();
    let rows: Vec<Vec<String>> = verdict.evidence.iter().map(row).collect();
    for (index, line) in table::plain(setting.width, head, rows).lines().enumerate() {
        let style = match line {
            _ if index == 0 => DIM,
            line if line.contains("CONFLICT: ") || line.contains("LOSS: ") => BAD,
            _ => Style::new(),
        };
        out!("{style}{line}{style:#}");
    }
    out!();
    conclusion(verdict);
}

fn conclusion(verdict: &Verdict) {
    let phase = match verdict.phase {
        Phase::Final => "",
        Phase::Provisional => " so far (provisional until update mode)",
    };
    let variant = verdict.variant.as_ref().map(|variant| format!(" {variant}")).unwrap_or_default();
    match verdict.outcome {
        Outcome::Fits => {
            let fill = verdict.occupancy.as_ref().map(|fill| format!(" It takes {fill}.")).unwrap_or_default();
            out!("{GOOD}The image fits{variant}{GOOD:#}{phase}.{fill}");
        }
        Outcome::Conflicts if verdict.conflicts().all(|evidence| evidence.source == Source::Loss) => {
            out!("{BAD}The image fits{variant}, but requires consent first.{BAD:#}");
        }
        Outcome::Conflicts => {
            out!("{BAD}The image does not fit{variant}.{BAD:#}");
        }
        Outcome::Undecided => {
            let fits: Vec<&str> = verdict.compatible.iter().map(|id| id.as_str()).collect();
            out!(
                "{BOLD}Undecided{BOLD:#}{phase}: the image would fit {}, but the evidence does not identify the unit.",
                fits.join(" or ")
            );
            if verdict.self_identifying {
                out!("In update mode the unit identifies itself by its board information.");
                return;
            }
            out!("The label on the unit decides:");
            for choice in verdict.question.iter().flat_map(|question| &question.choices) {
                out!("  --variant {}  if it reads {}", choice.variant, choice.labels());
            }
        }
    }
    for agreement in &verdict.missing_consents {
        out!("To proceed anyway: --allow {}  ({})", agreement.id, agreement.to);
    }
    for agreement in &verdict.consents {
        out!("Allowed {}: {}", agreement.id, agreement.to);
    }
}

fn plan_list(plan: &Plan, phase: Phase) {
    let word = if phase == Phase::Provisional { "Plan so far" } else { "Plan" };
    out!("\n{BOLD}{word}{BOLD:#} for {}, route {}:", plan.variant, plan.route);
    for (number, step) in (1..).zip(&plan.steps) {
        out!("  {number}. {step}");
        if let Step::Enter { entry, .. } = step {
            for step in entry {
                match step {
                    EntryStep::Manual(step) => {
                        out!("     manual step: {}", step.action);
                    }
                    EntryStep::Signal(signal) if entry.len() > 1 => {
                        out!("     host signal: {signal}");
                    }
                    EntryStep::Signal(_) => {}
                }
            }
        }
    }
    if !plan.untouched.is_empty() {
        out!("  Not touched: {}.", plan.untouched.join(", "));
    }
    out!();
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

fn result(report: &Report) {
    match report.outcome {
        RunOutcome::Planned => {
            out!("Plan only; nothing was done.");
        }
        RunOutcome::Updated | RunOutcome::Unchanged => updated(report),
        RunOutcome::Refused | RunOutcome::Failed | RunOutcome::Stopped => {}
    }
}

fn updated(report: &Report) {
    let product = report.product.as_deref().unwrap_or("the unit");
    let variant = report.variant.as_ref().map(|variant| format!(" {variant}")).unwrap_or_default();
    let version =
        report.application.as_ref().and_then(|next| next.version.as_ref()).map(|version| format!(" {version}"));
    let place = report.unit.as_deref().unwrap_or("?");
    match (report.outcome, report.after) {
        (RunOutcome::Unchanged, RestartState::Confirmed) => {
            out!(
                "\n{GOOD}Already present.{GOOD:#} {product}{variant} at {place} runs{}; nothing was erased or written.",
                version.unwrap_or_else(|| " its application".into())
            );
        }
        (_, RestartState::Restarted) => {
            out!(
                "\n{GOOD}Done.{GOOD:#} {product}{variant} at {place} left update mode; its application was not observed."
            );
        }
        (_, RestartState::Confirmed | RestartState::Seen) => {
            out!(
                "\n{GOOD}Done.{GOOD:#} {product}{variant} at {place} runs{}.",
                version.unwrap_or_else(|| " its application".into())
            );
        }
        (outcome, _) => {
            let there = if outcome == RunOutcome::Unchanged { "Already there" } else { "Written" };
            out!("\n{BAD}{there}, but not running.{BAD:#} {product}{variant} at {place}.");
        }
    }
    out!("  check      {}", check_text(report));
    let after = match report.after {
        RestartState::Confirmed => "confirmed: the application returned as described in the product sheet",
        RestartState::Seen => "seen: the operator confirmed the signs in the product sheet",
        RestartState::Restarted => "restarted: it left update mode; no further sign is available",
        RestartState::NotBack => "not back: the application did not return as described in the product sheet",
        RestartState::NotRestarted => "not restarted",
    };
    out!("  after      {after}");
    transfers(report);
    let times: Vec<String> = report
        .durations_ms
        .iter()
        .map(|(step, ms)| format!("{} {}", step.as_str(), duration::measured(Duration::from_millis(*ms))))
        .collect();
    out!("  time       {}", times.join(", "));
    if report.bytes_padded > 0 {
        let checked = if report.check == Check::ReadBack { ", also read back" } else { "" };
        out!("  padding    the last blocks were padded with {} bytes of 0xFF{checked}", Grouped(report.bytes_padded));
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

/// The check of the content, in numbers.
fn check_text(report: &Report) -> String {
    let (written, checked) = (Grouped(report.bytes_written), Grouped(report.bytes_checked));
    match report.check {
        Check::ReadBack if report.bytes_skipped > 0 => {
            let skipped = Grouped(report.bytes_skipped);
            format!(
                "read-back: all {checked} bytes were read from the unit and are equal; {written} were written, {skipped} were already present"
            )
        }
        Check::ReadBack => {
            format!("read-back: {checked} of {written} bytes written were read from the unit and are equal")
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

fn transfers(report: &Report) {
    let moved = report.transfers;
    let count = |count: u64, noun| text::count(usize::try_from(count).unwrap_or(usize::MAX), noun);
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_of_progress_says_bytes_rate_and_time_left() {
        // 12 KiB in 6 s are 2 KiB/s; 9 KiB more take 4.5 s.
        let line = progress_line(12 * 1024, 21 * 1024, Duration::from_secs(6));
        assert_eq!(line, "12 KiB of 21 KiB, 57%, 2.0 KiB/s, 4.5 s left");
        assert!(progress_line(0, 0, Duration::ZERO).contains("0%"));
    }
}

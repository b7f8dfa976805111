//! The run of an updater in plain words, for people who do not know this program.

use vaka_base::size::Grouped;
use vaka_core::event::{Check, Event, FailureText, Report, RestartState, RunOutcome, SelectedRelease};

use crate::output_options::OutputOptions;
use crate::render::style::{BAD, BOLD, GOOD};
use crate::render::wrap::out;
use crate::render::{self, Renderer};

/// Prints greeting and summary itself, and everything between them as every command does.
pub struct Plain {
    inner: Box<dyn Renderer>,
    setting: OutputOptions,
    product: String,
    version: String,
    notes: Vec<String>,
}

impl Plain {
    /// For an update of `product`, with the release's notes.
    pub fn new(setting: OutputOptions, product: &str, notes: Vec<String>) -> Self {
        let (inner, product) = (render::renderer(&setting), product.to_owned());
        Self { inner, setting, product, version: String::new(), notes }
    }

    fn greet(&mut self, release: &SelectedRelease) {
        self.version.clone_from(&release.version);
        if self.setting.quiet {
            return;
        }
        out!("{BOLD}{}: update to version {}{BOLD:#}", self.product, release.version);
        out!("  This file is complete and unchanged.");
        out!("  Made on    {}, signed by {}", release.date, release.signer.as_deref().unwrap_or("no key"));
        for (title, lines) in [("News", &self.notes), ("Takes away", &release.loses)] {
            for (index, line) in lines.iter().filter(|line| !line.is_empty()).enumerate() {
                out!("  {:<10} {line}", if index == 0 { title } else { "" });
            }
        }
        out!("");
    }

    fn summary(&self, report: &Report) {
        let (headline, is_good) = headline(report);
        let style = if is_good { GOOD } else { BAD };
        out!("\n{style}{headline}{style:#}");
        let of_application = report.application.as_ref().and_then(|application| application.serial.as_ref());
        let serial = of_application
            .or(report.serial.as_ref())
            .map(|serial| format!(", serial number {serial}"))
            .unwrap_or_default();
        let variant = report.variant.as_ref().map(|variant| format!(" {variant}")).unwrap_or_default();
        out!("  Unit     {}{variant}{serial}", self.product);
        out!("  Version  {}", self.version_line(report));
        out!("  Checked  {}", checked(report));
        for (index, undo) in report.undo.iter().filter(|undo| !undo.done).enumerate() {
            out!("  {:<7}  {}", if index == 0 { "To do" } else { "" }, undo.action);
        }
    }

    fn version_line(&self, report: &Report) -> String {
        let before = report.version_before.as_ref().map(|version| format!("; before: {version}")).unwrap_or_default();
        match report.application.as_ref().and_then(|application| application.version.as_ref()) {
            Some(version) => format!("{version}, as the unit reports{before}"),
            None => format!("the update is {}; the unit did not report its version{before}", self.version),
        }
    }
}

fn headline(report: &Report) -> (&'static str, bool) {
    match (report.outcome, report.after) {
        (RunOutcome::Unchanged, RestartState::Confirmed) => ("The unit has this version already.", true),
        (_, RestartState::Confirmed) => ("The update is installed and runs.", true),
        (_, RestartState::Seen) => ("The update is installed, and the unit shows the signs that you confirmed.", true),
        (_, RestartState::Restarted) => ("The update is installed. Whether it runs cannot be seen from here.", true),
        (_, RestartState::NotBack) => ("The update is written, but the unit did not start it.", false),
        (_, RestartState::NotRestarted) => ("The update is written, but the unit was not restarted.", false),
    }
}

/// The check of the content in plain words: only what was checked.
fn checked(report: &Report) -> String {
    let (written, checked) = (Grouped(report.bytes_written), Grouped(report.bytes_checked));
    match report.check {
        Check::ReadBack if report.bytes_skipped > 0 || report.bytes_checked == report.bytes_written => {
            format!("all {checked} bytes were read back from the unit and are equal to the update")
        }
        Check::ReadBack => format!("{checked} of {written} bytes were read back from the unit and are equal"),
        Check::DeviceChecked => {
            format!("the unit's own checksum of {checked} of {written} bytes is that of the update")
        }
        Check::Accepted => format!("the unit took {written} bytes without an error; {checked} were read back"),
        Check::None => "nothing".to_owned(),
    }
}

impl Renderer for Plain {
    fn event(&mut self, event: Event) {
        match event {
            Event::Release(release) => self.greet(&release),
            Event::Warning { text } => match advice(&text) {
                text if text.is_empty() => {}
                text => self.inner.event(Event::Warning { text }),
            },
            Event::Error(failure) => self.inner.event(Event::Error(without_commands(failure))),
            Event::Result(report)
                if !self.setting.quiet && matches!(report.outcome, RunOutcome::Updated | RunOutcome::Unchanged) =>
            {
                render::progress::clear();
                self.summary(&report);
            }
            other => self.inner.event(other),
        }
    }
}

/// The failure without advice to run commands that an updater does not have.
fn without_commands(failure: FailureText) -> FailureText {
    let remedy = failure.remedy.as_deref().map(advice).filter(|remedy| !remedy.is_empty());
    FailureText { remedy, ..failure }
}

fn advice(remedy: &str) -> String {
    let sentences = remedy.split_inclusive(". ").filter(|sentence| !sentence.contains("vaka "));
    sentences.collect::<String>().trim_end().to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn advice_names_no_command_that_is_missing() {
        let advised = "Check the cable. Run 'vaka survey' to see its mode. Then start this program again.";
        assert_eq!(advice(advised), "Check the cable. Then start this program again.");
        assert_eq!(advice("Run 'vaka survey'."), "");
    }
}

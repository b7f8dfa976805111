//! Bars and countdowns, redrawn in place on standard error.

use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressState, ProgressStyle};
use vaka_base::duration;
use vaka_base::size::Bytes;

use super::wrap::width;

/// The first transfers say nothing about the rate.
const RATE_AFTER: Duration = Duration::from_millis(500);

/// The bar or countdown on the screen; a program has one standard error.
static DRAWN: Mutex<Option<Drawn>> = Mutex::new(None);

struct Drawn {
    bar: ProgressBar,
    /// Deadline of a countdown.
    end: Option<Instant>,
}

impl Drawn {
    fn shows(&self, prefix: &str) -> bool {
        self.bar.prefix() == prefix
    }
}

/// Removes the bar or countdown, so that other text can be printed.
pub fn clear() {
    if let Some(drawn) = DRAWN.lock().unwrap_or_else(PoisonError::into_inner).take() {
        drawn.bar.finish_and_clear();
    }
}

fn draw(bar: ProgressBar, end: Option<Instant>) {
    clear();
    *DRAWN.lock().unwrap_or_else(PoisonError::into_inner) = Some(Drawn { bar, end });
}

/// Draws the progress of a step in bytes.
pub fn bytes(step: &str, region: &str, done: u64, total: u64) {
    let drawn = DRAWN.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(drawn) = drawn.as_ref().filter(|drawn| drawn.shows(step)) {
        drawn.bar.set_position(done);
        return;
    }
    drop(drawn);
    let bar = bar(step, region, total);
    bar.set_position(done);
    draw(bar, None);
}

fn bar(step: &str, region: &str, total: u64) -> ProgressBar {
    let bar = ProgressBar::new(total);
    // Beside the bar stand at most 70 columns.
    let length = width().saturating_sub(70).clamp(8, 32);
    let form = format!("  {{prefix:<9}}  {{bar:{length}}} {{numbers}}");
    if let Ok(style) = ProgressStyle::with_template(&form) {
        let region = region.to_owned();
        let numbers = move |state: &ProgressState, out: &mut dyn std::fmt::Write| {
            let _ = write!(out, "{}  {region}", line(state.pos(), state.len().unwrap_or(0), state.elapsed()));
        };
        bar.set_style(style.progress_chars("=> ").with_key("numbers", numbers));
    }
    bar.set_prefix(step.to_owned());
    bar
}

/// `12 KiB of 21 KiB, 57 %, 13.2 KiB/s, 1 s left`; without rate at the start, without time at the
/// end.
pub fn line(done: u64, total: u64, time: Duration) -> String {
    let percent = done * 100 / total.max(1);
    let mut text = format!("{} of {}, {percent} %", Bytes(done), Bytes(total));
    if time < RATE_AFTER || done == 0 {
        return text;
    }
    #[allow(clippy::cast_precision_loss)] // only printed
    let (rate, rest) = (done as f64 / time.as_secs_f64(), total.saturating_sub(done) as f64);
    text += &format!(", {:.1} KiB/s", rate / 1024.0);
    if done < total {
        text += &format!(", {} left", whole_seconds(Duration::try_from_secs_f64(rest / rate).unwrap_or_default()));
    }
    text
}

/// A remaining time in seconds, rounded up: never zero.
pub fn whole_seconds(time: Duration) -> String {
    let seconds = time.as_millis().div_ceil(1000).max(1);
    match u64::try_from(seconds).unwrap_or(u64::MAX) {
        seconds @ 0..60 => format!("{seconds} s"),
        seconds => duration::words(Duration::from_secs(seconds)),
    }
}

/// Draws a line that counts down to its deadline, if it has one.
pub fn countdown(text: &str, left: Option<Duration>) {
    let end = left.map(|left| Instant::now() + left);
    let is_same = |old: Option<Instant>| match (old, end) {
        (Some(old), Some(end)) => old.max(end) - old.min(end) < Duration::from_secs(1),
        (old, end) => old.is_none() && end.is_none(),
    };
    let drawn = DRAWN.lock().unwrap_or_else(PoisonError::into_inner);
    if drawn.as_ref().is_some_and(|drawn| drawn.shows(text) && is_same(drawn.end)) {
        return;
    }
    drop(drawn);
    let bar = ProgressBar::new_spinner();
    if let Ok(style) = ProgressStyle::with_template("{prefix:.dim}{left:.dim}") {
        let left = move |_: &ProgressState, out: &mut dyn std::fmt::Write| {
            if let Some(end) = end {
                let left = end.saturating_duration_since(Instant::now());
                let _ = write!(out, " ({} left)", whole_seconds(left));
            }
        };
        bar.set_style(style.with_key("left", left));
    }
    bar.set_prefix(text.to_owned());
    bar.enable_steady_tick(Duration::from_millis(250));
    draw(bar, end);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_of_progress_says_bytes_rate_and_time_left() {
        // 12 KiB in 6 s are 2 KiB/s; 9 KiB more take 4.5 s.
        let (done, total) = (12 * 1024, 21 * 1024);
        let cases = [
            (done, total, 6000, "12 KiB of 21 KiB, 57 %, 2.0 KiB/s, 5 s left"),
            (done, total, 100, "12 KiB of 21 KiB, 57 %"),
            (total, total, 6000, "21 KiB of 21 KiB, 100 %, 3.5 KiB/s"),
            (0, 0, 0, "0 bytes of 0 bytes, 0 %"),
        ];
        for (done, total, ms, expected) in cases {
            assert_eq!(line(done, total, Duration::from_millis(ms)), expected);
        }
    }
}

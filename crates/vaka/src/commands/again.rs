//! `vaka update --again`: the loop of build, update and look.

use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant, SystemTime};

use vaka_base::checksum::sha256;
use vaka_boot::bench::selector::Selector;
use vaka_boot::operator::{EarlierVariant, Operator};
use vaka_core::event::{Event, ExitCode, Report};
use vaka_core::matching::Question;
use vaka_core::release::Release;
use vaka_image::{FirmwareFile, Format};

use super::{console, update};
use crate::args::{Common, Console, Update};
use crate::cli_error::{CliError, Outcome};
use crate::environment::announce;
use crate::origin;
use crate::output_options::OutputOptions;
use crate::{input_file, prompt, render, signals, update_files};

/// Interval for looking at the files.
const LOOK: Duration = Duration::from_millis(100);

/// A file without a proof of its own is complete if it has not changed for this time. Chosen by us: longer than the
/// pauses of a linker.
const STILL: Duration = Duration::from_secs(1);

pub fn run(args: &Update, common: &Common, setting: &OutputOptions) -> Outcome {
    if args.save.is_some() && !args.dated {
        return Err(CliError::usage("With --again each backup needs a name of its own: add --dated."));
    }
    if let Some(folder) = args.files.iter().map(|file| update_files::path(file)).find(|path| path.is_dir()) {
        return Err(CliError::usage(format!(
            "{}: --again needs the file of the build, not a folder.",
            folder.display()
        )));
    }
    let mut common = common.clone();
    let mut operator = SameUnit { inner: prompt::at(&common), answer: None, earlier: None };
    let mut builds = Builds::new(&args.files);
    builds.take();
    // An error before the work on a unit, such as a wrong option, ends the command.
    let mut report = update::once(args, &common, setting, &mut operator)?;
    loop {
        if report.code == ExitCode::Stopped || signals::flag().load(Ordering::SeqCst) {
            return Ok(report.code);
        }
        stay_with(&report, &mut common);
        if !wait(&mut builds, args, &common, setting) {
            return Ok(report.code);
        }
        signals::end_with_message();
        announce(&common, format!("new build of {}", names(&args.files)));
        match update::once(args, &common, setting, &mut operator) {
            Ok(next) => report = next,
            Err(problem) => {
                render::problem(&problem, setting);
                report.code = problem.code();
            }
        }
    }
}

/// The next update is for the unit on the same port.
fn stay_with(report: &Report, common: &mut Common) {
    let place = report.application.as_ref().map(|application| &application.port).or(report.unit.as_ref());
    if let Some(place) = place.filter(|_| !matches!(common.unit, Some(Selector::Node(_) | Selector::Programmer(_)))) {
        common.unit = Some(Selector::Port(place.clone()));
    }
}

/// Waits for a new build, and shows the output of the unit meanwhile if that is wanted; false after Ctrl-C.
fn wait(builds: &mut Builds, args: &Update, common: &Common, setting: &OutputOptions) -> bool {
    signals::end_quietly();
    let waiting_for = format!("a new build of {}", names(&args.files));
    render::renderer(setting).event(Event::Waiting { waiting_for, left_ms: None });
    let is_over = AtomicBool::new(false);
    std::thread::scope(|scope| {
        let watch = scope.spawn(|| {
            let has_come = builds.wait();
            is_over.store(true, Ordering::SeqCst);
            has_come
        });
        if args.console
            && let Err(problem) = console::listen(&Console::default(), common, setting, &is_over)
        {
            render::problem(&problem, setting);
        }
        watch.join().unwrap_or(false)
    })
}

fn names(files: &[PathBuf]) -> String {
    files.iter().map(|file| file.display().to_string()).collect::<Vec<_>>().join(", ")
}

/// The files of a build.
struct Builds {
    paths: Vec<PathBuf>,
    /// The contents that were used last.
    used: Vec<Option<[u8; 32]>>,
}

impl Builds {
    fn new(files: &[PathBuf]) -> Self {
        let paths = files.iter().map(|file| update_files::path(file)).collect();
        Self { paths, used: Vec::new() }
    }

    /// The present contents are used now.
    fn take(&mut self) {
        self.used = self.paths.iter().map(|path| digest(path)).collect();
    }

    /// Waits until all files are complete and one of them has another content; false after Ctrl-C.
    fn wait(&mut self) -> bool {
        let mut last = self.look();
        let mut since = Instant::now();
        // A content that was seen and is not a new build is not read again.
        let mut seen = Vec::new();
        while !signals::flag().load(Ordering::SeqCst) {
            std::thread::sleep(LOOK);
            let now = self.look();
            if now != last {
                (last, since) = (now, Instant::now());
                continue;
            }
            if now == seen || now.iter().any(Option::is_none) {
                continue;
            }
            if since.elapsed() >= STILL || self.paths.iter().all(|path| proves_whole(path)) {
                let before = std::mem::take(&mut self.used);
                self.take();
                if self.used != before && self.look() == now {
                    return true;
                }
                self.used = before;
                seen = if self.look() == now { now } else { Vec::new() };
            }
        }
        false
    }

    /// Sizes and times of the files, without reading them.
    fn look(&self) -> Vec<Option<(u64, SystemTime)>> {
        let of = |path: &PathBuf| {
            let found = std::fs::metadata(path).ok()?;
            Some((found.len(), found.modified().ok()?))
        };
        self.paths.iter().map(of).collect()
    }
}

fn digest(path: &Path) -> Option<[u8; 32]> {
    input_file::firmware(path).ok().map(sha256)
}

/// Whether the format of a file proves that it is complete. An ELF file does not: some linkers write it in any order.
fn proves_whole(path: &Path) -> bool {
    let Ok(bytes) = input_file::firmware(path) else { return false };
    if Release::is_one(&bytes) {
        return Release::open(std::sync::Arc::new(bytes), origin::VERSION).is_ok();
    }
    let Ok(firmware) = FirmwareFile::parse(&bytes).firmware(None) else { return false };
    match firmware.format {
        Format::IntelHex | Format::SRecord | Format::Uf2 => true,
        Format::Dfu => firmware.sets.iter().all(|set| set.image.facts().dfu.is_some()),
        Format::Elf | Format::Binary => false,
    }
}

/// The operator of one unit. The label of the unit is asked for once: later the journal tells by the serial number that
/// it is the same unit.
struct SameUnit {
    inner: Box<dyn Operator>,
    /// The answer of this run, as variant.
    answer: Option<String>,
    earlier: Option<EarlierVariant>,
}

impl Operator for SameUnit {
    fn recall(&mut self, earlier: &EarlierVariant) {
        self.earlier = Some(earlier.clone());
        self.inner.recall(earlier);
    }

    fn read_label(&mut self, question: &Question) -> Option<String> {
        let earlier = self.earlier.take().map(|earlier| earlier.variant);
        if earlier.is_some() && earlier == self.answer {
            return earlier;
        }
        let answer = self.inner.read_label(question)?;
        let is_it = |reads: &str| reads.eq_ignore_ascii_case(&answer);
        let mut choices = question.choices.iter();
        let chosen = choices.find(|choice| {
            is_it(choice.variant.as_str()) || choice.look_at.iter().any(|look| answer.contains(&look.reads))
        });
        self.answer = chosen.map(|choice| choice.variant.to_string());
        Some(answer)
    }

    fn is_there(&self) -> bool {
        self.inner.is_there()
    }

    fn choose(&mut self, units: &[String]) -> Option<usize> {
        self.inner.choose(units)
    }

    fn sees(&mut self, signs: &[String]) -> Option<bool> {
        self.inner.sees(signs)
    }

    fn confirm_success(&mut self, step: &str) -> Option<bool> {
        self.inner.confirm_success(step)
    }

    fn await_done(&mut self, action: &str) -> bool {
        self.inner.await_done(action)
    }

    fn take_ack(&mut self) -> bool {
        self.inner.take_ack()
    }
}

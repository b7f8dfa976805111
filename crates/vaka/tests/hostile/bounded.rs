//! A run with limits on time and memory, and what it must end with.

use std::io::Read;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use crate::support::{Ended, root};

/// The longest run of a case.
const TIME: Duration = Duration::from_secs(10);
/// The largest address space of a run, in KiB.
const MEMORY: u64 = 1 << 20;

/// The required end of a case: its exit status, and words that it says.
pub struct Expected<'a> {
    pub codes: &'a [i32],
    pub words: &'a [&'a str],
}

/// The program with limits, in a folder that also has its state.
pub fn program(folder: &Path, args: &[&str]) -> Command {
    let mut command = Command::new("sh");
    command.args(["-c", &format!("ulimit -v {MEMORY}; exec \"$0\" \"$@\""), env!("CARGO_BIN_EXE_vaka")]).args(args);
    command.current_dir(folder).env_remove("VAKA_BUS").env_remove("COLUMNS");
    command.env("VAKA_SHEETS", root().join("demo/sheets"));
    for name in ["XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_RUNTIME_DIR"] {
        command.env(name, folder.join("home"));
    }
    command.env("MALLOC_ARENA_MAX", "2");
    command
}

/// Runs a command within the limits. `Err` has what is wrong.
pub fn run(command: &mut Command) -> Result<Ended, String> {
    let mut child = command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let mut streams: [Box<dyn Read + Send>; 2] =
        [Box::new(child.stdout.take().unwrap()), Box::new(child.stderr.take().unwrap())];
    let [out, err] = &mut streams;
    let end = Instant::now() + TIME;
    std::thread::scope(|scope| {
        let out = scope.spawn(|| text(out));
        let err = scope.spawn(|| text(err));
        let status = loop {
            match child.try_wait().unwrap() {
                Some(status) => break Ok(status),
                None if Instant::now() >= end => {
                    child.kill().unwrap();
                    child.wait().unwrap();
                    break Err(format!("it runs longer than {TIME:?}"));
                }
                None => std::thread::sleep(Duration::from_millis(5)),
            }
        };
        let (stdout, stderr) = (out.join().unwrap(), err.join().unwrap());
        let status = status.map_err(|why| format!("{why}:\n{stdout}\n{stderr}"))?;
        let code = status.code().ok_or_else(|| format!("it ended by a signal: {status}\n{stdout}\n{stderr}"))?;
        Ok(Ended { code, stdout, stderr })
    })
}

fn text(from: &mut dyn Read) -> String {
    let mut bytes = Vec::new();
    from.read_to_end(&mut bytes).unwrap();
    String::from_utf8_lossy(&bytes).into_owned()
}

/// The problem of a case, if any: a panic, the limits, or another outcome than expected.
pub fn problem(command: &mut Command, expected: &Expected<'_>) -> Option<String> {
    let ended = match run(command) {
        Ok(ended) => ended,
        Err(why) => return Some(why),
    };
    let all = format!("{}{}", ended.stdout, ended.stderr);
    let why = if all.contains("panicked at") || all.contains("overflowed its stack") {
        "it panics".to_owned()
    } else if all.contains("memory allocation of") {
        format!("it needs more than {MEMORY} KiB")
    } else if let Some(hidden) = all.chars().find(|c| is_hidden(*c)) {
        format!("it prints {}", hidden.escape_unicode())
    } else if !expected.codes.contains(&ended.code) {
        format!("exit status {} instead of {:?}", ended.code, expected.codes)
    } else if let Some(word) = expected.words.iter().find(|word| !all.contains(**word)) {
        format!("'{word}' is not said")
    } else {
        return None;
    };
    Some(format!("{why}:\n{all}"))
}

/// Whether a character may not be printed: control characters, and those that hide or reorder text.
pub fn is_hidden(c: char) -> bool {
    const HIDDEN: &str = "\u{ad}\u{34f}\u{61c}\u{200b}\u{202e}\u{2066}\u{3164}\u{fe0f}\u{feff}\u{e0041}\u{e0100}";
    HIDDEN.contains(c) || c.is_control() && !matches!(c, '\n' | '\t')
}

/// Runs all cases, several at a time, and fails with all problems at once. `check` returns what is
/// wrong with a case.
#[track_caller]
pub fn all<C: Sync>(cases: &[(String, C)], check: impl Fn(&C) -> Option<String> + Sync) {
    const WORKERS: usize = 4;
    let next = AtomicUsize::new(0);
    let problems = Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        for _ in 0..WORKERS {
            scope.spawn(|| {
                while let Some((name, case)) = cases.get(next.fetch_add(1, Ordering::Relaxed)) {
                    let why = check(case).map(|why| format!("== {name}: {why}"));
                    problems.lock().unwrap().extend(why);
                }
            });
        }
    });
    let problems = problems.into_inner().unwrap();
    assert!(problems.is_empty(), "{} of {} cases:\n{}", problems.len(), cases.len(), problems.join("\n"));
}

//! Programs of the system that some tests need.

use std::process::{Command, Stdio};

/// Whether a program is installed. A test that needs a missing program is skipped, unless the
/// environment variable `VAKA_TESTS_NEED_PROGRAMS` is set.
///
/// # Panics
/// If the program is missing and the variable is set.
pub fn is_there(program: &str) -> bool {
    let version = Command::new(program).arg("--version").stdout(Stdio::null()).stderr(Stdio::null()).status();
    let is_there = version.is_ok();
    assert!(is_there || std::env::var_os("VAKA_TESTS_NEED_PROGRAMS").is_none(), "'{program}' is missing");
    if !is_there {
        #[allow(clippy::print_stderr)] // the reader of a test's output
        {
            eprintln!("skipped: '{program}' is missing");
        }
    }
    is_there
}

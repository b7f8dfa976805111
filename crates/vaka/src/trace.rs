//! `--trace FILE`: all that went over the wire, in one file. The format is
//! specified in `docs/formats/trace.md`.

use std::io::{BufWriter, Write};
use std::path::Path;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::time::Instant;

use vaka_usb::trace::{Record, Sink};
use vaka_usb::trace_format::{FORMAT, TraceLine};

use crate::cli_error::CliError;
use crate::origin;
use crate::output_file::{self, Readers};
use crate::render::json;
use vaka_messages::OutputKind;

/// Writes records as JSON Lines. A failed write does not end the work; the result reports it.
struct Writer {
    /// The reason of the first failed write.
    failed: Mutex<Option<String>>,
    out: Mutex<BufWriter<Box<dyn Write + Send>>>,
    began: Instant,
}

/// The trace of this run; a second bus of it goes into the same file.
static WRITER: OnceLock<Arc<Writer>> = OnceLock::new();

/// Starts the trace of this run, or returns the one already started.
pub fn begin(path: &Path) -> Result<Arc<dyn Sink>, CliError> {
    if let Some(writer) = WRITER.get() {
        return Ok(writer.clone());
    }
    // A trace has the whole content of a unit.
    let file = output_file::create(path, Readers::Owner)
        .map_err(|error| CliError::unwritten(path, error, OutputKind::Trace))?;
    let writer =
        Arc::new(Writer { failed: Mutex::default(), out: Mutex::new(BufWriter::new(file)), began: Instant::now() });
    let words: Vec<String> =
        std::env::args_os().skip(1).map(|word| vaka_base::text::sanitize(&word.to_string_lossy())).collect();
    writer.line(&TraceLine {
        trace: Some(FORMAT),
        vaka: Some(origin::VERSION.to_owned()),
        system: Some(std::env::consts::OS.to_owned()),
        time: Some(jiff::Timestamp::now().to_string()),
        command: Some(words.join(" ")),
        ..TraceLine::default()
    });
    Ok(WRITER.get_or_init(|| writer).clone())
}

/// Why the trace of this run is incomplete, if it is.
pub fn failure() -> Option<String> {
    let failed = WRITER.get()?.failed.lock().unwrap_or_else(PoisonError::into_inner).clone();
    failed.map(|why| format!("the trace: {why}"))
}

impl Writer {
    fn line(&self, line: &TraceLine) {
        let mut out = self.out.lock().unwrap_or_else(PoisonError::into_inner);
        // A run that is killed leaves all lines but the one that it was in.
        let written = json::to_string(line).map_err(std::io::Error::from);
        if let Err(error) = written.and_then(|line| writeln!(out, "{line}")).and_then(|()| out.flush()) {
            let mut failed = self.failed.lock().unwrap_or_else(PoisonError::into_inner);
            failed.get_or_insert_with(|| error.to_string());
        }
    }
}

impl Sink for Writer {
    fn take(&self, record: &Record<'_>) {
        self.line(&TraceLine::of(record, self.began.elapsed()));
    }
}

//! `--trace FILE`: all that went over the wire, in one file. The format is
//! specified in `docs/formats/trace.md`.

use std::fs::File;
use std::io::{BufWriter, Write};
use std::path::Path;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::time::{Duration, Instant};

use serde_json::{Value, json};
use vaka_base::text;
use vaka_core::event::{Code, Failure};
use vaka_usb::DeviceInfo;
use vaka_usb::TransferError;
use vaka_usb::trace::{Record, Sink};

use crate::problem::Problem;

/// The version of the format.
const FORMAT: u32 = 1;

/// Writes records as JSON Lines. A line that cannot be written stops nothing; the result says
/// so.
struct Writer {
    /// Why a line could not be written, the first time that happened.
    failed: Mutex<Option<String>>,
    out: Mutex<BufWriter<File>>,
    began: Instant,
}

/// The trace of this run; a second bus of it goes into the same file.
static WRITER: OnceLock<Arc<Writer>> = OnceLock::new();

/// Begins the trace of this run, or gives the one that was begun.
pub fn begin(path: &Path) -> Result<Arc<dyn Sink>, Problem> {
    if let Some(writer) = WRITER.get() {
        return Ok(writer.clone());
    }
    let file = File::create_new(path).map_err(|error| match error.kind() {
        std::io::ErrorKind::AlreadyExists => {
            let failure = Failure::new(Code::Refused, format!("{} is there already.", path.display()));
            Problem(failure.state("Nothing was done.").cure("Name another file for the trace."))
        }
        _ => Problem::file(path, &error),
    })?;
    let writer =
        Arc::new(Writer { failed: Mutex::default(), out: Mutex::new(BufWriter::new(file)), began: Instant::now() });
    let words: Vec<String> =
        std::env::args_os().skip(1).map(|word| vaka_base::text::tame(&word.to_string_lossy())).collect();
    writer.line(&json!({
        "trace": FORMAT,
        "vaka": env!("CARGO_PKG_VERSION"),
        "system": std::env::consts::OS,
        "time": jiff::Timestamp::now(),
        "command": words.join(" "),
    }));
    Ok(WRITER.get_or_init(|| writer).clone())
}

/// Why the trace of this run is not whole, if it is not.
pub fn failure() -> Option<String> {
    let failed = WRITER.get()?.failed.lock().unwrap_or_else(PoisonError::into_inner).clone();
    failed.map(|why| format!("the trace: {why}"))
}

impl Writer {
    fn line(&self, value: &Value) {
        let mut out = self.out.lock().unwrap_or_else(PoisonError::into_inner);
        // A run that is killed leaves all lines but the one that it was in.
        if let Err(error) = writeln!(out, "{value}").and_then(|()| out.flush()) {
            let mut failed = self.failed.lock().unwrap_or_else(PoisonError::into_inner);
            failed.get_or_insert_with(|| error.to_string());
        }
    }
}

impl Sink for Writer {
    fn take(&self, record: &Record<'_>) {
        let mut value = encode(record);
        value["t"] = json!(milliseconds(self.began.elapsed()));
        self.line(&value);
    }
}

/// With three places, as microseconds.
fn milliseconds(time: Duration) -> f64 {
    (time.as_secs_f64() * 1e6).round() / 1e3
}

/// One word for what a transfer ended with; the replay knows the first four.
fn error_word(error: &TransferError) -> String {
    match error {
        TransferError::Stall => "stall".to_owned(),
        TransferError::Timeout => "timeout".to_owned(),
        TransferError::Gone => "gone".to_owned(),
        TransferError::TooMuch => "too-much".to_owned(),
        other => vaka_base::text::tame(&other.to_string()),
    }
}

fn ended<T>(mut value: Value, result: &Result<T, TransferError>, took: Duration) -> Value {
    if let Err(error) = result {
        value["error"] = json!(error_word(error));
    }
    value["took"] = json!(milliseconds(took));
    value
}

fn encode(record: &Record<'_>) -> Value {
    match record {
        Record::List { bus, devices } => {
            json!({ "list": devices.iter().map(device).collect::<Vec<_>>(), "bus": bus })
        }
        Record::Open { device, port, error: None } => json!({ "open": device, "port": port }),
        Record::Open { device, port, error: Some(error) } => {
            json!({ "open": device, "port": port, "error": vaka_base::text::tame(&error.to_string()) })
        }
        Record::ControlIn { device, setup, reply, took } => {
            let reply_hex = reply.as_ref().map(|bytes| text::hex(bytes)).unwrap_or_default();
            ended(json!({ "device": device, "setup": text::hex(setup), "reply": reply_hex }), reply, *took)
        }
        Record::ControlOut { device, setup, data, done, took } => {
            ended(json!({ "device": device, "setup": text::hex(setup), "data": text::hex(data) }), done, *took)
        }
        Record::PipeIn { device, endpoint, reply, took } => {
            let reply_hex = reply.as_ref().map(|bytes| text::hex(bytes)).unwrap_or_default();
            ended(json!({ "device": device, "pipe": format!("{endpoint:02x}"), "reply": reply_hex }), reply, *took)
        }
        Record::PipeOut { device, endpoint, data, done, took } => {
            ended(json!({ "device": device, "pipe": format!("{endpoint:02x}"), "data": text::hex(data) }), done, *took)
        }
        Record::Act { device, what, done } => match done {
            Ok(()) => json!({ "device": device, "act": what }),
            Err(error) => json!({ "device": device, "act": what, "error": error_word(error) }),
        },
        Record::Operation { device, dialect, name, given } => {
            let given: serde_json::Map<String, Value> =
                given.iter().map(|(name, value)| (name.clone(), json!(value))).collect();
            json!({ "device": device, "dialect": dialect, "operation": name, "given": given })
        }
        Record::Close { device } => json!({ "device": device, "act": "close" }),
    }
}

fn device(info: &DeviceInfo) -> Value {
    let classes = info.interfaces.iter().map(|i| format!("{:02x}{:02x}{:02x}", i.class, i.subclass, i.protocol));
    json!({
        "port": info.location.port,
        "address": info.address,
        "speed": format!("{:?}", info.speed).to_lowercase(),
        "id": format!("{:04x}:{:04x}", info.vendor, info.product),
        "release": format!("{:04x}", info.release),
        "interfaces": classes.collect::<Vec<_>>(),
    })
}

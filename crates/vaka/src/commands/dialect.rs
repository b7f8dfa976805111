//! `vaka dialect`: tools for describing a vendor bootloader.

use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use serde_json::json;
use vaka_base::{duration, text};
use vaka_core::event::{ExitCode, milliseconds};
use vaka_dialect::{Dialect, OperationName};
use vaka_dialect::{carrier, protocols};

use super::{dialect_try, print_line, print_raw, print_result};
use crate::args::{Common, DialectCommand, OutputFormat};
use crate::cli_error::CliError;
use crate::cli_error::Outcome;
use crate::environment;
use crate::files;
use crate::input_file;
use crate::output_options::OutputOptions;
use crate::render::frames::{frame_event, frame_rows};
use crate::render::{json, table};
use crate::trace_replay::{self, ReplayResult};
use vaka_messages::CommandError;

pub fn run(command: &DialectCommand, common: &Common, setting: &OutputOptions) -> Outcome {
    match command {
        DialectCommand::New { carrier, protocol, out } => new(carrier.as_deref(), protocol.as_deref(), out.as_deref()),
        DialectCommand::Check { files } => check(files, setting),
        DialectCommand::Show { file } => show(&environment::dialect(file)?, setting.format),
        DialectCommand::Trace { file, trace, operation } => {
            frames(&environment::dialect(file)?, trace, operation.as_deref(), setting.format)
        }
        DialectCommand::Try { file, steps } => dialect_try::run(file, steps, common, setting),
        DialectCommand::Replay { file, trace } => replay(&environment::dialect(file)?, trace, setting.format),
    }
}

fn new(carrier: Option<&str>, protocol: Option<&str>, out: Option<&Path>) -> Outcome {
    let kind = carrier::KINDS.iter().find(|kind| Some(kind.name) == carrier);
    let ready = protocols::READY.iter().find(|ready| Some(ready.name) == protocol);
    let text = ready.map(|ready| ready.text).or(kind.map(|kind| kind.template)).unwrap_or_default();
    let Some(path) = out else {
        print_raw(text);
        return Ok(ExitCode::Done);
    };
    files::store_new(path, text)?;
    print_line(&format!("{}: dialect template written; complete it, then run: vaka dialect check {0}", path.display()));
    Ok(ExitCode::Done)
}

fn check(files: &[std::path::PathBuf], setting: &OutputOptions) -> Outcome {
    let mut worst = ExitCode::Done;
    for file in files {
        match environment::dialect(file) {
            Ok(dialect) => {
                let has: Vec<&str> = OperationName::ALL
                    .into_iter()
                    .filter(|name| dialect.operation(*name).is_some())
                    .map(OperationName::word)
                    .collect();
                let warnings: Vec<String> = dialect
                    .warnings
                    .iter()
                    .map(|warning| format!("line {}, column {}: {}", warning.line, warning.column, warning.message))
                    .collect();
                let event = json!({
                    "event": "dialect",
                    "file": file,
                    "name": dialect.name,
                    "operations": has,
                    "warnings": warnings,
                });
                print_result(setting.format, &event, || {
                    print_line(&format!("{}: valid dialect '{}': {}", file.display(), dialect.name, has.join(", ")));
                    warnings.iter().for_each(|warning| print_line(&format!("  {warning}")));
                });
            }
            Err(problem) => {
                crate::render::problem(&problem, setting);
                worst = ExitCode::File;
            }
        }
    }
    Ok(worst)
}

fn show(dialect: &Dialect, format: OutputFormat) -> Outcome {
    if format == OutputFormat::Json {
        for (name, value) in dialect.parameters() {
            let (name, value) = (dialect.name_text(name), value.to_string());
            json::line(&json!({ "event": "parameter", "name": name, "value": value }));
        }
        for secret in &dialect.secrets {
            json::line(&json!({ "event": "question", "name": secret.key, "question": secret.question }));
        }
        let mut operation = String::new();
        for row in dialect.rows() {
            // The rows name their operation once.
            if !row.operation.is_empty() {
                operation = row.operation;
            }
            let step = row.step.trim();
            let event = json!({ "event": "operation", "operation": operation, "step": step, "fields": row.fields });
            json::line(&event);
        }
        return Ok(ExitCode::Done);
    }
    let about = dialect.about.as_ref().map(|about| format!(": {about}")).unwrap_or_default();
    print_line(&format!("{}{about}", dialect.name));
    print_line(&format!("  carrier  {}", dialect.carrier.kind().description));
    for (name, value) in dialect.parameters() {
        print_line(&format!("  parameter {} = {value}", dialect.name_text(name)));
    }
    for secret in &dialect.secrets {
        print_line(&format!("  asks for {}: {}", secret.key, secret.question));
    }
    for row in dialect.envelope_rows() {
        print_line(&format!("  around each frame {}  {}", row.step, row.fields));
    }
    print_line("");
    let rows = dialect.rows().into_iter().map(|row| vec![row.operation, row.step, row.fields]).collect();
    table::plain(&["operation", "step", "fields"], rows).lines().for_each(print_line);
    Ok(ExitCode::Done)
}

fn played(dialect: &Dialect, trace: &Path) -> Result<Vec<ReplayResult>, CliError> {
    let text = input_file::record(trace)?;
    let played = trace_replay::play(&Arc::new(dialect.clone()), &text);
    Ok(played.map_err(|reason| CommandError::Replay { path: trace.to_owned(), reason })?)
}

/// Every frame, field by field.
fn frames(dialect: &Dialect, trace: &Path, only: Option<&str>, format: OutputFormat) -> Outcome {
    if let Some(only) = only.filter(|only| OperationName::parse(only).is_none()) {
        let known: Vec<&str> = OperationName::ALL.into_iter().map(OperationName::word).collect();
        let message =
            format!("There is no operation '{}'; existing operations: {}.", text::sanitize(only), known.join(", "));
        return Err(CliError::usage(message));
    }
    let mut worst = ExitCode::Done;
    let mut rows = Vec::new();
    for played in played(dialect, trace)? {
        if only.is_some_and(|only| only != played.operation) {
            continue;
        }
        let mut operation = played.operation.clone();
        for seen in &played.frames {
            if format == OutputFormat::Json {
                json::line(&frame_event(&played.operation, seen));
                continue;
            }
            frame_rows(&mut operation, seen, &mut rows);
        }
        if let Some(fault) = played.fault {
            if format == OutputFormat::Json {
                json::line(&json!({ "event": "replay-fault", "operation": played.operation, "message": fault }));
            }
            let frame = "(stopped)".to_owned();
            rows.push(vec![std::mem::take(&mut operation), frame, String::new(), String::new(), fault]);
            worst = ExitCode::Differs;
        }
    }
    if format == OutputFormat::Text {
        let head = ["operation", "frame", "field", "bytes", "says"];
        table::plain(&head, rows).lines().for_each(print_line);
    }
    Ok(worst)
}

/// All runs of one operation.
struct ReplaySummary {
    operation: String,
    times: usize,
    frames: usize,
    faults: usize,
    /// The waits of the dialect between transfers, and the time that the record has there.
    waited: Duration,
    recorded: Duration,
}

fn summary(all: &[ReplayResult]) -> Vec<ReplaySummary> {
    let mut rows: Vec<ReplaySummary> = Vec::new();
    for played in all {
        let at = rows.iter().position(|row| row.operation == played.operation).unwrap_or_else(|| {
            let (operation, none) = (played.operation.clone(), Duration::ZERO);
            rows.push(ReplaySummary { operation, times: 0, frames: 0, faults: 0, waited: none, recorded: none });
            rows.len() - 1
        });
        let row = &mut rows[at];
        row.times += 1;
        row.frames += played.frames.len();
        row.faults += usize::from(played.fault.is_some());
        row.waited += played.waits.iter().map(|(waited, _)| *waited).sum();
        row.recorded += played.waits.iter().map(|(_, recorded)| *recorded).sum();
    }
    rows
}

/// Says where the dialect waits another time than the record shows, once for each operation.
fn note_waits(all: &[ReplayResult]) {
    let mut noted: Vec<&str> = Vec::new();
    for played in all {
        // The host adds its own time to each wait.
        let differs = |(waited, recorded): &&(Duration, Duration)| {
            *waited > *recorded + Duration::from_millis(1) || *recorded > *waited * 2 + Duration::from_millis(100)
        };
        let Some((waited, recorded)) = played.waits.iter().find(differs) else { continue };
        if !noted.contains(&played.operation.as_str()) {
            noted.push(&played.operation);
            let (waited, recorded) = (duration::measured(*waited), duration::measured(*recorded));
            let name = &played.operation;
            print_line(&format!("Note: in '{name}' the dialect waits {waited}, where the record has {recorded}."));
        }
    }
}

fn replay(dialect: &Dialect, trace: &Path, format: OutputFormat) -> Outcome {
    let all = played(dialect, trace)?;
    let rows = summary(&all);
    if format == OutputFormat::Json {
        for row in &rows {
            json::line(&json!({
                "event": "replayed",
                "operation": row.operation,
                "times": row.times,
                "frames": row.frames,
                "different": row.faults,
                "waited_ms": milliseconds(row.waited),
                "recorded_ms": milliseconds(row.recorded),
            }));
        }
        for played in all.iter().filter(|played| played.fault.is_some()) {
            json::line(&json!({ "event": "replay-fault", "operation": played.operation, "message": played.fault }));
        }
        let is_same = all.iter().all(|played| played.fault.is_none());
        return Ok(if is_same { ExitCode::Done } else { ExitCode::Differs });
    }
    let time = |time: Duration| if time.is_zero() { "-".to_owned() } else { duration::measured(time) };
    let cells = |row: ReplaySummary| {
        let says = match row.faults {
            0 => "as recorded".to_owned(),
            faults => format!("{} DIFFERENT", text::count(faults, "time")),
        };
        vec![row.operation, row.times.to_string(), row.frames.to_string(), time(row.waited), time(row.recorded), says]
    };
    let head = ["operation", "times", "frames", "waits", "recorded", ""];
    table::plain(&head, rows.into_iter().map(cells).collect()).lines().for_each(print_line);
    note_waits(&all);
    let Some(first) = all.iter().find(|played| played.fault.is_some()) else {
        print_line("\nThe dialect sends the recorded frames and parses all replies.");
        return Ok(ExitCode::Done);
    };
    print_line(&format!(
        "\nThe first difference is in '{}': {}.",
        first.operation,
        first.fault.as_deref().unwrap_or_default()
    ));
    if let Some(last) = first.frames.last() {
        let mut rows = Vec::new();
        frame_rows(&mut String::new(), last, &mut rows);
        let rows = rows.into_iter().map(|row| row[1..].to_vec()).collect();
        table::plain(&["frame", "field", "bytes", "says"], rows).lines().for_each(print_line);
    }
    Ok(ExitCode::Differs)
}

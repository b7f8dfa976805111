//! `vaka dialect try`: single exchanges with a unit, field by field.

use std::collections::BTreeMap;
use std::io::{BufRead, IsTerminal};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use serde_json::json;
use vaka_base::text;
use vaka_boot::bench::buses::Bench;
use vaka_boot::bench::open_error::bus_failure;
use vaka_boot::context::Context;
use vaka_boot::protocol::dialect::{Interpreter, Reconnect, TracedFrame};
use vaka_boot::protocol::session_error::SessionError;
use vaka_core::event::ExitCode;
use vaka_core::matching::consent::CHANGE_UNIT;
use vaka_core::sheet::{DialectRoute, Variant};
use vaka_dialect::{Dialect, OperationName, Script, Value};
use vaka_usb::{DeviceInfo, SystemClock};

use super::print_line;
use super::sheet::the_unit;
use crate::args::{Common, OutputFormat};
use crate::cli_error::{CliError, Outcome};
use crate::environment;
use crate::output_options::OutputOptions;
use crate::render::frames::{frame_event, frame_rows};
use crate::render::wrap::err;
use crate::render::{self, json, table};
use crate::{secrets, signals};
use vaka_messages::CommandError;

pub fn run(file: &Path, steps: &[String], common: &Common, setting: &OutputOptions) -> Outcome {
    let dialect = environment::dialect(file)?;
    let sheets = environment::sheets(common)?;
    let bench = environment::bench(common, &sheets)?;
    let device = the_unit(&bench, common)?;
    let described = described(&bench, &device, &dialect);
    let dialect = Arc::new(match &described {
        Some((route, _)) => dialect.with(&parameters(&route.dialect))?,
        None => dialect,
    });
    let mut renderer = render::renderer(setting);
    let mut tell = |event| renderer.event(vaka_messages::event(event));
    let mut cx = Context::new(&SystemClock, &mut tell, signals::flag());
    let _held = bench.hold(&device.location, &mut cx)?;
    let usb = bench.open_for(&device, &dialect, None).map_err(|error| bus_failure(&error))?;
    let serial = bench.serial_access(&device, &dialect);
    let bus = bench.bus(&device.location).ok_or_else(|| CliError::internal("the unit's bus is gone"))?.clone();
    let place = bench.place(&device.location);
    let opened = Interpreter::open(usb, dialect.clone(), Some(Reconnect { bus, device, serial }), &mut cx);
    let mut talk = opened.map_err(|error| failed(&place, &error))?;
    talk.supply(Some(secrets::source(common)));
    if let Some((_, given)) = described {
        let names = dialect.given();
        let names = [names.origin, names.region_start, names.region_size];
        talk.give(names.into_iter().zip(given.map(|number| Value::Int(i128::from(number)))).collect());
    }
    let (format, mut is_first) = (setting.format, true);
    talk.watch(Box::new(move |frame| show(&frame, format, std::mem::take(&mut is_first))));
    let is_allowed = common.allow.iter().any(|id| id == CHANGE_UNIT);
    let mut session = Session { talk, dialect, place, is_allowed, setting: *setting };
    let done = match steps {
        [] => session.lines(&mut cx),
        steps => steps.iter().try_fold(ExitCode::Done, |_, text| session.line(text, &mut cx)),
    };
    session.talk.rest(&mut cx);
    done
}

/// An open unit, and how its frames are shown.
struct Session {
    talk: Interpreter,
    dialect: Arc<Dialect>,
    place: String,
    /// Whether exchanges that may erase or write are sent.
    is_allowed: bool,
    setting: OutputOptions,
}

impl Session {
    /// Runs the lines of standard input; an error does not end them. The exit status is that of the last
    /// error.
    fn lines(&mut self, cx: &mut Context<'_>) -> Outcome {
        if std::io::stdin().is_terminal() {
            let operations = OperationName::ALL.into_iter().filter(|name| self.dialect.operation(*name).is_some());
            let operations: Vec<&str> = operations.map(OperationName::word).collect();
            let others: Vec<&str> = self.dialect.callable().collect();
            err!("Type an operation ({}), an exchange or steps; Ctrl-D ends.", operations.join(", "));
            if !others.is_empty() {
                err!("Exchanges and steps: {}.", others.join(", "));
            }
        }
        let mut code = ExitCode::Done;
        for line in std::io::stdin().lock().lines() {
            let line = line.map_err(|error| CliError::file(Path::new("standard input"), error))?;
            if signals::flag().load(Ordering::SeqCst) {
                return Ok(ExitCode::Stopped);
            }
            if line.trim().is_empty() {
                continue;
            }
            if let Err(error) = self.line(&line, cx) {
                code = error.code();
                render::problem(&error, &self.setting);
            }
        }
        Ok(code)
    }

    fn line(&mut self, line: &str, cx: &mut Context<'_>) -> Outcome {
        let reason = |reason| CommandError::Steps { text: line.to_owned(), reason };
        let script = self.dialect.script(line).map_err(reason)?;
        if self.dialect.may_change(&script) && !self.is_allowed {
            return Err(CommandError::MayChange { text: line.to_owned() }.into());
        }
        match script {
            Script::Steps(steps) => self.ask()?.run_steps(&steps, cx).map_err(|error| failed(&self.place, &error))?,
            Script::Operation(name, given) => {
                if self.dialect.needs_secret(name) {
                    self.ask()?;
                }
                let given = given.into_iter().map(|(key, of)| Ok((key, self.talk.memory().value(&of)?)));
                let given = given.collect::<Result<Vec<_>, vaka_dialect::EvaluationError>>();
                let given = given.map_err(|error| reason(error.to_string()))?;
                self.talk.run(name, given, cx).map_err(|error| failed(&self.place, &error))?;
                self.tell(name);
            }
        }
        Ok(ExitCode::Done)
    }

    /// Asks for the values that the user supplies.
    fn ask(&mut self) -> Result<&mut Interpreter, CliError> {
        self.talk.ask().map_err(|error| failed(&self.place, &error))?;
        Ok(&mut self.talk)
    }

    /// Prints the properties that an operation reports.
    fn tell(&self, name: OperationName) {
        let tells = self.dialect.operation(name).map_or(&[][..], |operation| &operation.tells);
        for tell in tells {
            let Ok(value) = self.talk.memory().value(&tell.value) else { continue };
            self.print_value(&tell.name, &value);
        }
    }

    fn print_value(&self, name: &str, value: &Value) {
        let value = text::sanitize(&value.to_string());
        match self.setting.format {
            OutputFormat::Json => json::line(&json!({ "event": "reported", "name": name, "value": value })),
            OutputFormat::Text => print_line(&format!("{name} = {value}")),
        }
    }
}

/// The route of a sheet that claims the unit for this dialect, with the start of the flash, and the
/// start and size of the written region.
fn described<'b>(bench: &Bench<'b>, device: &DeviceInfo, dialect: &Dialect) -> Option<(&'b DialectRoute, [u64; 3])> {
    let found = bench.recognise(device)?;
    let id = found.id();
    let variants = found.sheets.iter().flat_map(|sheet| sheet.variants_with_route(id));
    let of = |variant: &'b Variant| {
        let route = variant.route(id)?.kind.dialect().filter(|route| route.dialect.name == dialect.name)?;
        let (region, flash) = (variant.image.region.span, variant.flash.zones().first()?);
        Some((route, [flash.span().start().get(), region.start().get(), region.len()]))
    };
    variants.filter_map(of).next()
}

/// The values of the parameters of a dialect.
fn parameters(dialect: &Dialect) -> BTreeMap<String, Value> {
    dialect.parameters().map(|(name, value)| (dialect.name_text(name).to_owned(), value.clone())).collect()
}

/// One frame, as it is sent or received; the first one with a head.
fn show(frame: &TracedFrame, format: OutputFormat, is_first: bool) {
    if format == OutputFormat::Json {
        return json::line(&frame_event(frame.operation.word(), frame));
    }
    let mut rows = Vec::new();
    frame_rows(&mut String::new(), frame, &mut rows);
    let rows = rows.into_iter().map(|row| row[1..].to_vec()).collect();
    let text = table::plain(&["frame", "field", "bytes", "says"], rows);
    text.lines().skip(usize::from(!is_first)).for_each(print_line);
}

fn failed(place: &str, error: &SessionError) -> CliError {
    CommandError::Exchange { place: place.to_owned(), error: error.clone() }.into()
}

//! `vaka console`: the serial output of an application.

use std::io::{IsTerminal, Write};
use std::path::Path;
use std::sync::atomic::AtomicBool;
use std::time::{Duration, Instant};

use serde_json::json;
use vaka_boot::bench::buses::Bench;
use vaka_boot::bench::discovery::{self, UnitQuery};
use vaka_boot::bench::open_error::{bus_failure, held};
use vaka_boot::bench::returning;
use vaka_boot::bench::tracking::TrackedUnit;
use vaka_boot::bench::unit_event;
use vaka_boot::context::Context;
use vaka_boot::protocol::serial::LineReader;
use vaka_boot::protocol::session_error::SessionError;
use vaka_core::event::{ExitCode, FailureText};
use vaka_core::unit::Mode;
use vaka_usb::{BusError, DeviceInfo, SystemClock};

use super::{print_raw, print_result};
use crate::args::{Common, Console, OutputFormat};
use crate::cli_error::{CliError, Outcome};
use crate::environment;
use crate::lock::Locks;
use crate::output_file::{self, Readers};
use crate::output_options::OutputOptions;
use crate::{prompt, render, signals};
use vaka_messages::{CommandError, OutputKind};

/// Maximum time of one read before other events are checked.
const SLICE: Duration = Duration::from_millis(50);

/// Time without another user before the port is opened again. Chosen by us: longer than the pause
/// between two steps of an update.
const QUIET: Duration = Duration::from_millis(500);

/// Why a port was released.
enum End {
    /// The awaited text was printed.
    Found,
    /// The time for the awaited text is over.
    Late,
    /// Stopped by the user.
    Stopped,
    /// The unit left the bus.
    Left,
    /// Another process wants the port.
    Wanted(String),
}

pub fn run(args: &Console, common: &Common, setting: &OutputOptions) -> Outcome {
    listen(args, common, setting, signals::flag())
}

/// Shows the output of a unit until `stop` is set.
pub fn listen(args: &Console, common: &Common, setting: &OutputOptions, stop: &AtomicBool) -> Outcome {
    let sheets = environment::sheets(common)?;
    let bench = environment::bench(common, &sheets)?;
    signals::end_quietly();
    let mut renderer = render::renderer(setting);
    let mut tell = |event| renderer.event(vaka_messages::event(event));
    let mut cx = Context::new(&SystemClock, &mut tell, stop);
    let hunt = UnitQuery::any(&bench, common.unit.as_ref(), common.unit.is_some());
    let unit = discovery::find(&bench, &hunt, common.wait, &mut *prompt::at(common), &mut cx)?.device;
    match talk(ConsoleSession::new(args, common)?, &bench, unit, common.wait, &mut cx) {
        // Ctrl-C is the normal end of a console.
        Err(failure) if failure.code() == ExitCode::Stopped => Ok(ExitCode::Done),
        ended => Ok(ended.map(|()| ExitCode::Done)?),
    }
}

/// Listens, and reopens the port after every release.
fn talk(
    mut console: ConsoleSession<'_>,
    bench: &Bench<'_>,
    mut unit: DeviceInfo,
    wait: Duration,
    cx: &mut Context<'_>,
) -> Result<(), CliError> {
    loop {
        let may_stay = match console.listen(bench, &unit, cx)? {
            End::Found | End::Stopped => return Ok(()),
            End::Late => return Err(console.late().into()),
            End::Left => {
                console.note("the unit disconnected; waiting for it");
                false
            }
            End::Wanted(by) => {
                console.note(&format!("port released: {by} wants the unit"));
                while_wanted(&unit, cx);
                true
            }
        };
        unit = returning::come_back(bench, TrackedUnit { unit: &unit, serial: None }, may_stay, wait, cx)?;
    }
}

/// Waits until no other process has wanted the unit for a while.
fn while_wanted(unit: &DeviceInfo, cx: &Context<'_>) {
    let mut quiet_since = Instant::now();
    while quiet_since.elapsed() < QUIET && !cx.stop_requested() {
        if Locks::wanted(&unit.location).is_some() {
            quiet_since = Instant::now();
        }
        std::thread::sleep(SLICE);
    }
}

/// The reason for a missing port.
enum NoPort {
    Left,
    Failed(FailureText),
}

/// The port of a unit with the data on `interface`, and the name of the system's port if that is used.
fn port(bench: &Bench<'_>, unit: &DeviceInfo, interface: Option<u8>) -> Result<Option<(LineReader, String)>, NoPort> {
    let place = bench.place(&unit.location);
    let unusable = |error: SessionError| match error {
        SessionError::Disconnected => NoPort::Left,
        SessionError::Busy(by) => NoPort::Failed(vaka_messages::failure(&held(&place, &by))),
        error => NoPort::Failed(CommandError::Port { place: place.clone(), error }.text()),
    };
    let device = bench.open_serial(unit, interface, None).map_err(|error| match error {
        BusError::NotFound(_) => NoPort::Left,
        error => NoPort::Failed(vaka_messages::failure(&bus_failure(&error))),
    })?;
    let through = device.node().map(|node| format!(" through {}", node.display())).unwrap_or_default();
    Ok(LineReader::open(device, interface).map_err(unusable)?.map(|port| (port, through)))
}

/// Input and output of a console.
struct ConsoleSession<'a> {
    args: &'a Console,
    format: OutputFormat,
    record: Option<Box<dyn Write + Send>>,
    /// Lines to send once.
    once: Vec<String>,
    /// Whether the user can type lines.
    is_typed: bool,
    deadline: Option<Instant>,
}

impl<'a> ConsoleSession<'a> {
    fn new(args: &'a Console, common: &Common) -> Result<Self, CliError> {
        let create = |path: &Path| {
            output_file::create(path, Readers::Usual).map_err(|error| CliError::unwritten(path, error, OutputKind::New))
        };
        let record = args.record.as_deref().map(create).transpose()?;
        let is_typed = !common.unattended && std::io::stdin().is_terminal();
        let deadline = args.until.as_ref().map(|_| Instant::now() + args.within);
        Ok(Self { args, format: common.format, record, once: args.send.clone(), is_typed, deadline })
    }

    /// Listens until the port must be released.
    fn listen(&mut self, bench: &Bench<'_>, unit: &DeviceInfo, cx: &Context<'_>) -> Result<End, CliError> {
        let place = bench.place(&unit.location);
        let mut port = match port(bench, unit, self.args.interface) {
            Ok(Some(port)) => port,
            // In update mode it may have no port; its application returns.
            Ok(None) if unit_event::seen(bench, unit).mode == Mode::Update => return Ok(self.wait(cx)),
            Ok(None) => {
                return Err(CommandError::NoPort { place }.into());
            }
            Err(NoPort::Left) => return Ok(End::Left),
            Err(NoPort::Failed(failure)) => return Err(failure.into()),
        };
        self.note(&format!("listening to the unit at {place}{}", port.1));
        let port = &mut port.0;
        loop {
            if let Some(end) = self.is_over(cx) {
                return Ok(end);
            }
            if let Some(by) = Locks::wanted(&unit.location) {
                return Ok(End::Wanted(by));
            }
            let typed = if self.is_typed { prompt::lines() } else { Vec::new() };
            for line in self.once.drain(..).chain(typed) {
                if port.send(&line).is_err() {
                    return Ok(End::Left);
                }
            }
            let Ok(lines) = port.lines(SLICE) else { return Ok(End::Left) };
            for line in lines {
                self.hear(&line);
                if self.args.until.as_ref().is_some_and(|words| line.contains(words.as_str())) {
                    return Ok(End::Found);
                }
            }
        }
    }

    fn is_over(&self, cx: &Context<'_>) -> Option<End> {
        if cx.stop_requested() {
            return Some(End::Stopped);
        }
        self.deadline.filter(|deadline| Instant::now() >= *deadline).map(|_| End::Late)
    }

    /// Waits while a unit in update mode has no output.
    fn wait(&self, cx: &Context<'_>) -> End {
        std::thread::sleep(SLICE * 4);
        self.is_over(cx).unwrap_or(End::Left)
    }

    fn late(&self) -> CommandError {
        CommandError::NoLine { words: self.args.until.clone().unwrap_or_default(), waited: self.args.within }
    }

    fn hear(&mut self, line: &str) {
        let time = jiff::Zoned::now();
        if let Some(record) = &mut self.record {
            let _ = writeln!(record, "{}  {line}", time.timestamp());
        }
        let event = json!({ "event": "console", "text": line });
        print_result(self.format, &event, || {
            print_raw(&format!("{}  {line}", time.strftime("%H:%M:%S%.3f")));
        });
    }

    /// Prints a note that is not output of the unit.
    fn note(&mut self, words: &str) {
        if let Some(record) = &mut self.record {
            let _ = writeln!(record, "{}  -- {words}", jiff::Timestamp::now());
        }
        let event = json!({ "event": "warning", "text": words });
        print_result(self.format, &event, || crate::render::wrap::err!("-- {words}"));
    }
}

//! `vaka simulate`

use std::io::BufRead;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use vaka_core::event::ExitCode;
use vaka_sim::replay::Trace;
use vaka_sim::scene::{self, Scene, StartMode};
use vaka_sim::server::Server;
use vaka_sim::unit::UserAction;
use vaka_sim::world::lock;
use vaka_sim::{SharedWorld, World};
use vaka_usb::SystemClock;

use super::print_line;
use crate::args::{Simulate, SimulatedMode};
use crate::cli_error::CliError;
use crate::cli_error::Outcome;
use crate::input_file;
use crate::signals;
use crate::simulated;
use vaka_messages::CommandError;

const HELP: &str = "Commands: state | hold PORT BUTTON | tap PORT BUTTON | release PORT BUTTON | pull PORT | plug PORT | cable PORT bad | cable PORT good | wire PORT right | wire PORT crossed | wire PORT off | do PORT STEP | undo PORT STEP | slip PORT STEP application | slip PORT STEP nothing | slip PORT STEP other | revive PORT | memory PORT FILE | disk PORT FILE | traffic PORT | quit";

pub fn run(args: &Simulate) -> Outcome {
    let mut world = World::new(Arc::new(SystemClock));
    let units = match (&args.replay, &args.sheet) {
        (Some(path), _) => replay(path, &mut world)?,
        (None, Some(path)) => of_sheet(path, args, &mut world)?,
        (None, None) => scene(args, &mut world)?,
    };
    let world = world.shared();
    let server = Server::start(world.clone(), args.listen)
        .map_err(|error| CommandError::Listen { address: args.listen, error })?;
    // A reader of the first line may end the program at once.
    signals::end_quietly();
    print_line(&format!("Simulated units at {}", server.bus()));
    if !args.listen.ip().is_loopback() {
        print_line("Everyone who can reach this address can use them.");
    }
    units.iter().for_each(|unit| print_line(&format!("  {unit}")));
    print_line("");
    print_line(&format!("In another terminal: vaka survey --bus {}", server.bus()));
    print_line(HELP);
    print_line("Ctrl-C ends it.");
    take_commands(world);
    while !signals::flag().load(Ordering::SeqCst) {
        std::thread::sleep(Duration::from_millis(50));
    }
    Ok(ExitCode::Done)
}

/// Plugs in the units of a scene; returns a line about each.
fn scene(args: &Simulate, world: &mut World) -> Result<Vec<String>, CliError> {
    let text = match &args.scene {
        Some(path) => input_file::text(path)?,
        None => scene::DEFAULT.to_owned(),
    };
    let scene = Scene::parse(&text).map_err(|error| {
        let name = args.scene.as_ref().map_or("the built-in scene".into(), |path| path.display().to_string());
        CommandError::Scene { name, reason: error.to_string() }
    })?;
    scene.build(world);
    let mut lines: Vec<String> = scene.units().map(|(port, unit)| format!("{port}  {unit}")).collect();
    let folder = args.scene.as_deref().and_then(Path::parent).unwrap_or(Path::new(""));
    for unit in scene.sheet_units() {
        lines.extend(simulated::plug(unit, folder, world)?);
    }
    Ok(lines)
}

/// Plugs in units of a maintainer's own product; returns lines about each.
fn of_sheet(path: &Path, args: &Simulate, world: &mut World) -> Result<Vec<String>, CliError> {
    let sheet = simulated::sheet(path)?;
    let variants = match &args.variant {
        Some(id) => vec![id.clone()],
        None => sheet.variants.iter().map(|variant| variant.id.to_string()).collect(),
    };
    let mode = match args.mode {
        SimulatedMode::Application => StartMode::Application,
        SimulatedMode::Update => StartMode::Update,
        SimulatedMode::Damaged => StartMode::Damaged,
        SimulatedMode::Blank => StartMode::Blank,
        SimulatedMode::Unplugged => StartMode::Unplugged,
    };
    let mut lines = Vec::new();
    let all = variants.iter().flat_map(|variant| std::iter::repeat_n(variant, args.count.into()));
    for (number, variant) in (1..).zip(all) {
        let mut spec = scene::SheetUnitSpec::default();
        (spec.variant, spec.image) = (Some(variant.clone()), args.image.clone());
        (spec.port, spec.serial, spec.mode) = (format!("1-{number}"), simulated::serial(number), mode);
        lines.extend(simulated::plug_of(&sheet, path, &spec, Path::new(""), world)?);
    }
    Ok(lines)
}

/// Plugs in the units of a recorded run; returns a line about each.
fn replay(path: &Path, world: &mut World) -> Result<Vec<String>, CliError> {
    let text = input_file::record(path)?;
    let trace = Trace::parse(&text)
        .map_err(|error| CommandError::Damaged { path: path.to_owned(), reason: error.to_string() })?;
    if trace.is_truncated {
        print_line("The trace is incomplete; it is replayed up to its end.");
    }
    let units = trace.ports().map(|port| format!("{port}  as recorded: run the recorded command again")).collect();
    trace.build(world);
    Ok(units)
}

/// Executes commands from standard input until its end or `quit`.
fn take_commands(world: SharedWorld) {
    std::thread::spawn(move || {
        for line in std::io::stdin().lock().lines().map_while(Result::ok) {
            match command(&world, line.trim()) {
                Ok(false) => {}
                Ok(true) => signals::flag().store(true, Ordering::SeqCst),
                Err(error) => print_line(&format!("{error}\n{HELP}")),
            }
        }
    });
}

/// Carries out one command; true if it was `quit`.
fn command(world: &SharedWorld, line: &str) -> Result<bool, String> {
    let words: Vec<&str> = line.split_whitespace().collect();
    match words[..] {
        [] => {}
        ["quit"] => return Ok(true),
        ["state"] => state(world),
        ["memory", port, file] => memory(world, port, Path::new(file))?,
        ["disk", port, file] => disk(world, port, Path::new(file))?,
        ["traffic", port] => traffic(world, port)?,
        ["revive", port] => {
            let now = vaka_usb::Clock::now(&SystemClock);
            lock(world).unit(port).ok_or_else(|| no_port(port))?.revive(now);
            print_line(&format!("{port}: restored to factory state"));
        }
        [verb, port, ref rest @ ..] => {
            let action = ([&[verb], rest].concat().join(" ")).parse::<UserAction>()?;
            check_step(world, port, &action)?;
            if !lock(world).act(port, &action) {
                return Err(no_port(port));
            }
            print_line(&format!("{port}: {verb} {}", rest.join(" ")));
        }
        _ => return Err(format!("'{line}' is not a command")),
    }
    Ok(false)
}

/// A step that an action names is one of the unit's.
fn check_step(world: &SharedWorld, port: &str, action: &UserAction) -> Result<(), String> {
    let (UserAction::Do(name) | UserAction::Undo(name) | UserAction::Slip(name, _)) = action else { return Ok(()) };
    let steps = lock(world).unit(port).ok_or_else(|| no_port(port))?.manual_steps();
    match steps.contains(name) {
        true => Ok(()),
        false if steps.is_empty() => Err(format!("the unit at {port} has no manual steps by name")),
        false => Err(format!("the unit at {port} has no step '{name}'; its steps are: {}", steps.join(", "))),
    }
}

fn no_port(port: &str) -> String {
    format!("there is no port '{port}'")
}

/// Prints the true condition of each unit.
fn state(world: &SharedWorld) {
    let mut world = lock(world);
    for port in world.ports() {
        if let Some(unit) = world.unit(&port) {
            print_line(&format!("  {port}: {:?}", unit.condition()).to_lowercase());
        }
    }
}

/// Writes a unit's true memory to a file.
fn memory(world: &SharedWorld, port: &str, file: &Path) -> Result<(), String> {
    let (base, bytes) = {
        let mut world = lock(world);
        let flash = world.unit(port).ok_or_else(|| no_port(port))?.flash();
        (flash.base(), flash.bytes().to_vec())
    };
    std::fs::write(file, &bytes).map_err(|error| format!("{}: {error}", file.display()))?;
    print_line(&format!("{port}: {} bytes from 0x{base:08X} in {}", bytes.len(), file.display()));
    Ok(())
}

/// Writes the content of a unit's disk to a file.
fn disk(world: &SharedWorld, port: &str, file: &Path) -> Result<(), String> {
    let bytes = lock(world).unit(port).ok_or_else(|| no_port(port))?.disk().to_vec();
    std::fs::write(file, &bytes).map_err(|error| format!("{}: {error}", file.display()))?;
    print_line(&format!("{port}: {} bytes of its disk in {}", bytes.len(), file.display()));
    Ok(())
}

/// Prints the number of commands and written sectors of a unit's disk. Source: *USB Mass Storage
/// Class, Bulk-Only Transport 1.0*, section 5.1; SBC, WRITE(10).
fn traffic(world: &SharedWorld, port: &str) -> Result<(), String> {
    let world = lock(world);
    if !world.ports().iter().any(|known| known == port) {
        return Err(no_port(port));
    }
    let wrappers = || world.bulk_log(port).iter().filter(|(_, head)| head.starts_with(b"USBC"));
    let written = wrappers().filter(|(_, head)| head.get(15) == Some(&0x2A));
    let sectors: u64 = written.map(|(_, head)| u64::from(u16::from_be_bytes([head[22], head[23]]))).sum();
    print_line(&format!("{port}: {} commands, {sectors} sectors written", wrappers().count()));
    Ok(())
}

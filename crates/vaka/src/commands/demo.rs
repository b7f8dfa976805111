//! `vaka demo`: the real commands, on stand-ins, with the demo world's files.

use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Arc;

use anstyle::Style;
use vaka_core::event::{Code, Failure};
use vaka_sim::scene::Scene;
use vaka_sim::server::Server;
use vaka_sim::unit::Condition;
use vaka_sim::unit::tern::{Revision, Tern};
use vaka_sim::world::lock;
use vaka_sim::{SharedWorld, World};
use vaka_usb::SystemClock;

use super::say;
use crate::Outcome;
use crate::args::Demo;
use crate::problem::Problem;

const BOLD: Style = Style::new().bold();

/// Name and purpose of each example.
const SCENES: [(&str, &str); 1] =
    [("tern", "a tide gauge with two board revisions behind one boot id: the right image, and the wrong one")];

const SHEET: &str = include_str!("../../../../demo/sheets/tern.toml");
const R1_HEX: &str = include_str!("../../../../demo/firmware/out/tern-r1-1.5.0.hex");
const R2_HEX: &str = include_str!("../../../../demo/firmware/out/tern-r2-1.5.0.hex");
/// What `objcopy` made of the same link as the HEX file.
const R1_BIN: &[u8] = include_bytes!("../../../../demo/firmware/out/tern-r1-1.5.0.bin");

pub fn run(args: &Demo) -> Outcome {
    if args.list {
        for (name, purpose) in SCENES {
            say(&format!("{name:<8} {purpose}"));
        }
        return Ok(Code::Done);
    }
    match args.scene.as_str() {
        "tern" => tern(),
        other => {
            let failure = Failure::new(Code::Usage, format!("There is no example '{other}'."));
            Err(failure.cure("'vaka demo --list' names them.").into())
        }
    }
}

const TERN: &str = r#"
[[unit]]
product = "tern"
variant = "r1"
port = "1-1"
serial = "T1-00217"
mode = "update"
"#;

fn tern() -> Outcome {
    let show = Show::new(TERN)?;
    show.file("sheets/tern.toml", SHEET)?;
    show.file("tern-r1-1.5.0.hex", R1_HEX)?;
    show.file("tern-r2-1.5.0.hex", R2_HEX)?;

    say("Skerrow Instruments ships a tide gauge, the Tern, as two boards that look alike: r1 and r2.");
    say("A stand-in for one of them sits on a stand-in bus, in its update mode. Which one is it?");
    show.run("survey", Code::Done)?;

    say("Both boards show the same boot id. Vaka does not guess:");
    show.run("update tern-r1-1.5.0.hex --unattended", Code::Refused)?;

    say("The label on the board reads SKI-TERN R1. With that it can be decided:");
    show.run("update tern-r1-1.5.0.hex --variant r1", Code::Done)?;
    show.truth("after the update")?;

    say("Now the costliest mistake in this work, the other board's file:");
    show.run("update tern-r2-1.5.0.hex --variant r1", Code::Refused)?;
    show.truth("after the refusal")?;

    say("Next: 'vaka standins' serves such units for you to try; README.md goes on from there.");
    Ok(Code::Done)
}

/// A world with a server, and a folder that goes when the demo ends.
struct Show {
    world: SharedWorld,
    server: Server,
    folder: tempfile::TempDir,
    before: Vec<u8>,
}

/// The demo's own set-up failed.
fn broken(what: impl std::fmt::Display) -> Problem {
    Problem::internal(format!("The demo cannot be set up: {what}."))
}

impl Show {
    fn new(scene: &str) -> Result<Self, Problem> {
        let mut world = World::new(Arc::new(SystemClock));
        Scene::parse(scene).map_err(broken)?.build(&mut world);
        let before = world.unit("1-1").map(|unit| unit.flash().bytes().to_vec()).unwrap_or_default();
        let world = world.shared();
        let server = Server::start(world.clone(), ([127, 0, 0, 1], 0).into()).map_err(broken)?;
        let folder = tempfile::tempdir().map_err(broken)?;
        Ok(Self { world, server, folder, before })
    }

    fn file(&self, name: &str, content: &str) -> Result<(), Problem> {
        let path = self.folder.path().join(name);
        std::fs::create_dir_all(path.parent().unwrap_or(Path::new("."))).map_err(broken)?;
        std::fs::write(path, content).map_err(broken)
    }

    /// Runs a command as a person would, with this very program, and sees
    /// that it ends as it should.
    fn run(&self, command: &str, wanted: Code) -> Result<(), Problem> {
        say(&format!("\n{BOLD}$ vaka {command}{BOLD:#}"));
        let program = std::env::current_exe().map_err(broken)?;
        let status = Command::new(program)
            .args(command.split(' '))
            .env("VAKA_BUS", self.server.bus())
            .env("VAKA_SHEETS", "sheets")
            .current_dir(self.folder.path())
            .stdin(Stdio::null())
            .status()
            .map_err(broken)?;
        let found = status.code();
        if found != Some(i32::from(u8::from(wanted))) {
            let wanted = u8::from(wanted);
            return Err(Problem::internal(format!(
                "The demo's command ended with {status} instead of exit status {wanted}."
            )));
        }
        let meaning = if wanted == Code::Refused { "refused" } else { "all went well" };
        say(&format!("(exit status {}: {meaning})\n", u8::from(wanted)));
        Ok(())
    }

    /// Looks into the stand-in itself, which no transfer can bend.
    fn truth(&self, when: &str) -> Result<(), Problem> {
        let mut world = lock(&self.world);
        let unit = world.unit("1-1").ok_or_else(|| broken("no unit"))?;
        let condition = unit.condition();
        let flash = unit.flash();
        let start = Tern::application_region(Revision::R1).start;
        let application = flash.read(start, R1_BIN.len()) == Some(R1_BIN);
        let kept =
            [Tern::bootloader_region(Revision::R1), Tern::settings_region(Revision::R1)].into_iter().all(|region| {
                let range = (region.start - flash.base()) as usize..(region.end - flash.base()) as usize;
                flash.bytes()[range.clone()] == self.before[range]
            });
        let runs = condition == Condition::Application;
        if !(application && kept && runs) {
            return Err(Problem::internal("The stand-in's own memory is not as the command said."));
        }
        say(&format!(
            "The stand-in itself, asked {when}: its flash holds the 1.5.0 that the linker made for r1, byte for"
        ));
        say("byte; bootloader and settings are as they left the factory; the application runs.\n");
        Ok(())
    }
}

//! `vaka update FILE`

use std::io::{IsTerminal, Write};
use std::sync::Arc;

use vaka_boot::bench::Bench;
use vaka_boot::pace::Pace;
use vaka_boot::update::{self, Nobody, Person, Request, Save};
use vaka_core::event::{Event, Failure};
use vaka_core::image::Image;
use vaka_core::matching::Question;
use vaka_core::unit::MemoryChoice;
use vaka_usb::SystemClock;

use super::convert;
use crate::Outcome;
use crate::args::{Common, Output, Strength, Update};
use crate::lock::Locks;
use crate::setting::{self, Setting};
use crate::{interrupt, render};

pub fn run(args: &Update, common: &Common, setting: &Setting) -> Outcome {
    let bytes = setting::firmware(&args.file)?;
    let sheets = setting::sheets(common)?;
    if sheets.is_empty() && !common.agree.iter().any(|id| id == "no-sheet") {
        return Err(setting::no_sheets());
    }
    let mut options = args.choose.options();
    let file = setting::unwrapped(&args.file, &bytes, &sheets, &mut options)?;
    let bench = Bench::new(setting::buses(common)?, &sheets).guarded(Arc::new(Locks));
    let output = Output { to: None, fill: None, family: None, dfu_ids: None, replace: false };
    if let Some(path) = &args.save {
        convert::may_write(path, &output)?;
    }
    let keep = |image: &Image| -> Result<String, Failure> {
        let path = args.save.as_deref().unwrap_or(std::path::Path::new(""));
        convert::write(image, path, &output).map_err(|problem| problem.0)?;
        Ok(path.display().to_string())
    };
    let request = Request {
        file: file.payload,
        options,
        unit: common.unit.clone(),
        label: common.variant.clone(),
        memory: args.memory.as_deref().map(MemoryChoice::parse).unwrap_or_default(),
        clear_all: args.clear_all,
        rewrite: args.rewrite,
        wait: common.wait,
        agreed: common.agree.clone(),
        plan_only: args.plan,
        read_back: args.check == Strength::Strongest,
        save: args.save.is_some().then_some(Save(&keep)),
    };
    let mut renderer = render::renderer(setting);
    let mut tell = |event: Event| renderer.event(event);
    let mut pace = Pace::new(&SystemClock, &mut tell, interrupt::flag());
    let report = update::run(&bench, &request, &mut *person(common), &mut pace);
    Ok(report.code)
}

/// Somebody at the terminal, unless the command line says that nobody is.
pub fn person(common: &Common) -> Box<dyn Person> {
    let there = std::io::stdin().is_terminal() && std::io::stderr().is_terminal();
    if there && !common.unattended { Box::new(AtTerminal) } else { Box::new(Nobody) }
}

struct AtTerminal;

impl Person for AtTerminal {
    fn read_label(&mut self, question: &Question) -> Option<String> {
        let mut err = anstream::stderr();
        let _ = writeln!(err, "\nLook at the unit. What is printed on it?");
        for choice in &question.choices {
            let against = choice.against.as_ref().map(|why| format!("   (would conflict: {why})"));
            let _ = writeln!(err, "  {}  {}{}", choice.variant, choice.name, against.unwrap_or_default());
            for look in &choice.look_at {
                let _ = writeln!(err, "      \"{}\" on the {}", look.reads, look.place);
            }
        }
        let _ = write!(err, "Type the variant or the printed text; nothing stops here: ");
        let _ = err.flush();
        let mut answer = String::new();
        interrupt::end_at_once(true);
        let read = std::io::stdin().read_line(&mut answer);
        interrupt::end_at_once(false);
        let answer = answer.trim().to_owned();
        read.is_ok_and(|_| !answer.is_empty()).then_some(answer)
    }
}

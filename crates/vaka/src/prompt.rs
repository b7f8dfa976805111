//! The operator at the terminal.

use std::io::{BufRead, IsTerminal, Write};
use std::sync::mpsc::{self, Receiver, TryRecvError};
use std::sync::{Mutex, OnceLock, PoisonError};

use vaka_base::text;
use vaka_boot::operator::{EarlierVariant, Operator, Unattended};
use vaka_core::matching::Question;
use vaka_core::sheet::LabelLocation;

use crate::args::Common;
use crate::echo;
use crate::render::progress;
use crate::render::wrap::err;
use crate::signals;

/// The operator at the terminal; unattended if the command line or the terminal requires it.
pub fn at(common: &Common) -> Box<dyn Operator> {
    if is_answered(common) { Box::new(AtTerminal::default()) } else { Box::new(Unattended) }
}

/// Whether an operator at the terminal answers prompts.
pub fn is_answered(common: &Common) -> bool {
    std::io::stdin().is_terminal() && std::io::stderr().is_terminal() && !common.unattended
}

/// Prompts for a line that the terminal does not show; `None` if there is none.
pub fn hidden(question: &str) -> Option<String> {
    echo::hide();
    let answer = asked(question);
    echo::show();
    err!("");
    answer
}

#[derive(Default)]
struct AtTerminal {
    /// The variant that the unit had before.
    earlier: Option<EarlierVariant>,
}

/// Typed lines. One thread reads them for the whole run, so that a step can wait for the bus and
/// the keyboard at once.
fn typed() -> &'static Mutex<Receiver<String>> {
    static TYPED: OnceLock<Mutex<Receiver<String>>> = OnceLock::new();
    TYPED.get_or_init(|| {
        let (sender, lines) = mpsc::channel();
        std::thread::spawn(move || {
            let lines = std::io::stdin().lock().lines().map_while(Result::ok);
            lines.map(|line| sender.send(line)).take_while(Result::is_ok).for_each(drop);
        });
        Mutex::new(lines)
    })
}

/// The typed lines that were not read yet.
pub fn lines() -> Vec<String> {
    typed().lock().unwrap_or_else(PoisonError::into_inner).try_iter().collect()
}

/// The input that is there at the moment.
pub enum Typed {
    Line(String),
    Nothing,
    /// Standard input has ended.
    End,
}

/// The next typed line, without waiting for it.
pub fn poll() -> Typed {
    match typed().lock().unwrap_or_else(PoisonError::into_inner).try_recv() {
        Ok(line) => Typed::Line(line),
        Err(TryRecvError::Empty) => Typed::Nothing,
        Err(TryRecvError::Disconnected) => Typed::End,
    }
}

/// Prompts for a line; `None` if there is none.
fn asked(question: &str) -> Option<String> {
    progress::clear();
    let mut err = anstream::stderr();
    // Whoever sees the question can already stop at it.
    signals::end_at_once(true);
    let _ = write!(err, "{} ", text::visible_lines(question));
    let _ = err.flush();
    let answer = typed().lock().unwrap_or_else(PoisonError::into_inner).recv();
    signals::end_at_once(false);
    answer.ok().map(|answer| answer.trim().to_owned())
}

/// Asks until the answer is yes or no.
fn yes_or_no(question: &str) -> Option<bool> {
    loop {
        match asked(question)?.to_lowercase().as_str() {
            "y" | "yes" => return Some(true),
            "n" | "no" => return Some(false),
            _ => {}
        }
    }
}

/// Asks whether to continue; only an explicit yes is consent.
pub fn agree(question: &str) -> bool {
    yes_or_no(question) == Some(true)
}

impl Operator for AtTerminal {
    fn is_there(&self) -> bool {
        true
    }

    fn recall(&mut self, earlier: &EarlierVariant) {
        self.earlier = Some(earlier.clone());
    }

    fn choose(&mut self, units: &[String]) -> Option<usize> {
        progress::clear();
        err!("\n{} units fit:", units.len());
        for (number, unit) in (1..).zip(units) {
            err!("  {number}  {unit}");
        }
        err!("To tell them apart, unplug one: 'vaka survey --watch' in another terminal shows its port.");
        loop {
            let answer = asked("Which one? Type its number, or press Enter to stop:")?;
            match answer.parse::<usize>() {
                _ if answer.is_empty() => return None,
                Ok(number) if (1..=units.len()).contains(&number) => return Some(number - 1),
                _ => {}
            }
        }
    }

    fn take_ack(&mut self) -> bool {
        !lines().is_empty()
    }

    fn sees(&mut self, what: &[String]) -> Option<bool> {
        progress::clear();
        err!("\nLook at the unit. Does it show this?");
        for line in what {
            err!("  {line}");
        }
        yes_or_no("yes or no:")
    }

    fn confirm_success(&mut self, _: &str) -> Option<bool> {
        yes_or_no("Did it succeed? yes or no:")
    }

    fn await_done(&mut self, _: &str) -> bool {
        asked("Press Enter when done.").is_some()
    }

    fn read_label(&mut self, question: &Question) -> Option<String> {
        progress::clear();
        err!("\nRead the label on the unit. Which one is it?");
        for choice in &question.choices {
            let against = choice.against.as_ref().map(|why| format!("   (would conflict: {why})"));
            err!("  {}  {}{}", choice.variant, choice.name, against.unwrap_or_default());
            for look in &choice.look_at {
                err!("      \"{}\" on the {}", look.reads, look.place);
            }
        }
        let answer = match self.earlier.take() {
            None => asked("Type the variant or the label text, or press Enter to stop:")?,
            Some(EarlierVariant { variant, day }) => {
                err!("  This unit was updated as {variant} on {day}.");
                let question =
                    format!("Press Enter for {variant}, or type the variant or the label text, or - to stop:");
                match asked(&question)?.as_str() {
                    "" => return Some(variant),
                    "-" => return None,
                    answer => answer.to_owned(),
                }
            }
        };
        let reads = |look: &&LabelLocation| look.reads.eq_ignore_ascii_case(&answer);
        let mut places = question.choices.iter().filter_map(|choice| choice.look_at.iter().find(reads));
        let seen = places.next().map(|look| look.place.clone());
        // Board and chip must agree, so after one label the others are asked for.
        let others = question.choices.iter().flat_map(|choice| &choice.look_at);
        let mut others: Vec<&str> = others.map(|look| look.place.as_str()).collect();
        others.sort_unstable();
        others.dedup();
        others.retain(|place| seen.as_deref().is_some_and(|seen| seen != *place));
        let more = others.iter().map(|place| asked(&format!("And what does the {place} say?")));
        let all = [Some(answer)].into_iter().chain(more).collect::<Option<Vec<String>>>()?;
        Some(all.join("; ")).filter(|answer| !answer.is_empty())
    }
}

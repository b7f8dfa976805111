//! Verdicts and plans as text: one line each, or in full.

use anstyle::Style;
use vaka_base::size::{Bytes, Grouped};
use vaka_base::text;
use vaka_core::matching::{Evidence, Outcome, Phase, Source, Subject, Verdict, Weight};
use vaka_core::plan::{Plan, Step};
use vaka_core::sheet::EntryStep;
use vaka_image::address::Span;

use super::style::{BAD, BOLD, DIM, GOOD};
use super::table;
use super::wrap::out;

/// Prints verdicts; a second verdict about the same unit shows only what it adds.
#[derive(Default)]
pub struct Verdicts {
    last: Option<Last>,
}

struct Last {
    verdict: Verdict,
    has_table: bool,
}

impl Verdicts {
    /// Prints the verdict: in full if it needs a decision or `details` are wanted, else in one line.
    pub fn print(&mut self, verdict: &Verdict, details: bool) {
        let identifies_later = verdict.outcome == Outcome::Undecided && verdict.self_identifying;
        let has_table = details || !(verdict.outcome == Outcome::Fits || identifies_later);
        let last = self.last.take().filter(|last| last.verdict.phase == Phase::Provisional);
        match (has_table, &last) {
            (true, Some(last)) if last.has_table => changes(verdict, &last.verdict),
            (true, _) => in_full(verdict),
            (false, Some(last)) if verdict.outcome == Outcome::Fits => second_line(verdict, &last.verdict),
            (false, _) if identifies_later => conclusion(verdict),
            (false, _) => line(verdict),
        }
        self.last = Some(Last { verdict: verdict.clone(), has_table });
    }
}

/// The table of evidence and its conclusion.
pub fn in_full(verdict: &Verdict) {
    print_table(verdict, &verdict.evidence.iter().collect::<Vec<_>>());
    out!("");
    conclusion(verdict);
}

/// The observations that an earlier verdict did not have, and the conclusion.
fn changes(verdict: &Verdict, last: &Verdict) {
    let (same, new): (Vec<&Evidence>, Vec<&Evidence>) =
        verdict.evidence.iter().partition(|evidence| last.evidence.contains(evidence));
    print_table(verdict, &new);
    if !same.is_empty() {
        out!("{DIM}  {} unchanged{DIM:#}", text::count(same.len(), "observation"));
    }
    out!("");
    conclusion(verdict);
}

/// `Fits r1: 9 observations agree; decided by the printed label.`
fn line(verdict: &Verdict) {
    let weighs = |evidence: &&Evidence| matches!(evidence.weight, Weight::Agrees | Weight::Decisive);
    let agree = verdict.evidence.iter().filter(weighs).count();
    let deciding = sources(verdict.evidence.iter().filter(|evidence| evidence.weight == Weight::Decisive));
    let decided =
        if deciding.is_empty() { String::new() } else { format!("; decided by the {}", deciding.join(" and the ")) };
    let so_far = if verdict.phase == Phase::Provisional { " so far" } else { "" };
    let agree = text::count(agree, "observation") + if agree == 1 { " agrees" } else { " agree" };
    out!("{GOOD}Fits{}{GOOD:#}{so_far}: {agree}{decided}.", variant(verdict));
    consents(verdict);
}

/// `Still fits g1 in update mode; also seen: boot id, protocol.`
fn second_line(verdict: &Verdict, last: &Verdict) {
    let new = sources(verdict.evidence.iter().filter(|evidence| !last.evidence.contains(evidence)));
    let also = if new.is_empty() { String::new() } else { format!("; also seen: {}", new.join(", ")) };
    let still = if last.outcome == Outcome::Fits { "Still fits" } else { "Fits" };
    out!("{GOOD}{still}{}{GOOD:#} in update mode{also}.", variant(verdict));
    if verdict.consents != last.consents {
        consents(verdict);
    }
}

/// The sources of evidence, each once.
fn sources<'e>(evidence: impl Iterator<Item = &'e Evidence>) -> Vec<&'static str> {
    let mut sources = Vec::new();
    for source in evidence.map(|evidence| evidence.source.as_str()) {
        if !sources.contains(&source) {
            sources.push(source);
        }
    }
    sources
}

fn variant(verdict: &Verdict) -> String {
    verdict.variant.as_ref().map(|variant| format!(" {variant}")).unwrap_or_default()
}

fn print_table(verdict: &Verdict, evidence: &[&Evidence]) {
    // Before the variant is known, each candidate has rows of its own.
    let open = verdict.variant.is_none();
    let head: &[&str] =
        if open { &["for", "looked at", "", "says", "means"] } else { &["looked at", "", "says", "means"] };
    out!("");
    let rows = evidence.iter().map(|evidence| row(verdict, evidence)).collect();
    let mut is_bad = false;
    for (index, line) in table::plain(head, rows).lines().enumerate() {
        let continues = line.starts_with("      ");
        // Until a variant is claimed, a conflict with one of several is expected.
        is_bad = !open && (line.contains("CONFLICT: ") || line.contains("LOSS: ") || (continues && is_bad));
        let style = match index {
            0 => DIM,
            _ if is_bad => BAD,
            _ => Style::new(),
        };
        out!("{style}{line}{style:#}");
    }
}

fn row(verdict: &Verdict, evidence: &Evidence) -> Vec<String> {
    let about = match evidence.about {
        Subject::Unit => "unit",
        Subject::Label => "label",
        Subject::File => "file",
    };
    let is_allowed = |id: &String| verdict.consents.iter().any(|consent| consent.id == *id);
    let means = match &evidence.weight {
        Weight::ConflictsUnlessAllowed(id) if is_allowed(id) => format!("allowed: {}", evidence.means),
        Weight::ConflictsUnlessAllowed(_) if evidence.source == Source::Loss => format!("LOSS: {}", evidence.means),
        Weight::Conflicts | Weight::ConflictsUnlessAllowed(_) => format!("CONFLICT: {}", evidence.means),
        _ => evidence.means.clone(),
    };
    let mut cells = vec![about.to_owned(), evidence.source.as_str().to_owned(), evidence.says.clone(), means];
    if verdict.variant.is_none() {
        cells.insert(0, evidence.variant.as_ref().map_or("any".to_owned(), ToString::to_string));
    }
    cells
}

fn conclusion(verdict: &Verdict) {
    let phase = match verdict.phase {
        Phase::Final => "",
        Phase::Provisional => " so far (provisional until update mode)",
    };
    let variant = variant(verdict);
    match verdict.outcome {
        Outcome::Fits => {
            let fill = verdict.occupancy.as_ref().map(|fill| format!(" It takes {fill}.")).unwrap_or_default();
            out!("{GOOD}The image fits{variant}{GOOD:#}{phase}.{fill}");
        }
        Outcome::Conflicts if verdict.conflicts().all(|evidence| evidence.source == Source::Loss) => {
            out!("{BAD}The image fits{variant}, but requires consent first.{BAD:#}");
        }
        Outcome::Conflicts => {
            out!("{BAD}The image does not fit{variant}.{BAD:#}");
        }
        Outcome::Undecided => {
            let fits: Vec<&str> = verdict.compatible.iter().map(|id| id.as_str()).collect();
            out!(
                "{BOLD}Undecided{BOLD:#}{phase}: the image would fit {}, but the evidence does not identify the unit.",
                fits.join(" or ")
            );
            if verdict.self_identifying {
                out!("In update mode the unit identifies itself by its board information.");
                return;
            }
            out!("The label on the unit decides:");
            for choice in verdict.question.iter().flat_map(|question| &question.choices) {
                out!("  --variant {}  if it reads {}", choice.variant, choice.labels());
            }
        }
    }
    for consent in &verdict.missing_consents {
        out!("To proceed anyway: --allow {}  ({})", consent.id, consent.to);
    }
    consents(verdict);
}

fn consents(verdict: &Verdict) {
    for consent in &verdict.consents {
        out!("Allowed {}: {}", consent.id, consent.to);
    }
}

/// The plan, a line for each step.
pub fn plan_list(plan: &Plan, phase: Phase) {
    let word = if phase == Phase::Provisional { "Plan so far" } else { "Plan" };
    out!("\n{BOLD}{word}{BOLD:#} for {}, route {}:", plan.variant, plan.route);
    for (number, step) in (1..).zip(&plan.steps) {
        out!("  {number}. {step}");
        if let Step::Enter { entry, .. } = step {
            for step in entry {
                match step {
                    EntryStep::Manual(step) => {
                        out!("     manual step: {}", step.action);
                    }
                    EntryStep::Signal(signal) if entry.len() > 1 => {
                        out!("     host signal: {signal}");
                    }
                    EntryStep::Signal(_) => {}
                }
            }
        }
    }
    if !plan.untouched.is_empty() {
        out!("  Not touched: {}.", plan.untouched.join(", "));
    }
    out!("");
}

/// `Plan (dfu): compare 7 sectors, erase 21 KiB, write 21 504 bytes, read back, restart.`
pub fn plan_line(plan: &Plan) {
    out!("Plan {}", plan_words(plan));
}

/// The plan without its first word.
pub fn plan_words(plan: &Plan) -> String {
    let steps: Vec<String> = plan.steps.iter().filter_map(in_words).collect();
    let untouched = match &plan.untouched[..] {
        [] => String::new(),
        regions => format!(" Not touched: {}.", regions.join(", ")),
    };
    format!("({}): {}.{untouched}", plan.route, steps.join(", "))
}

/// A step in a few words; `None` if it needs none.
fn in_words(step: &Step) -> Option<String> {
    let bytes = |spans: &[Span]| spans.iter().map(|span| span.len()).sum::<u64>();
    Some(match step {
        Step::Enter { .. } => "enter update mode".to_owned(),
        Step::Identify | Step::Finish { .. } | Step::Confirm { .. } | Step::UnitErases { everything: false, .. } => {
            return None;
        }
        Step::Keep { regions, .. } => format!("preserve {}", regions.join(" and ")),
        Step::Compare { sectors, .. } => format!("compare {}", text::count(sectors.len(), "sector")),
        Step::Erase { sectors } => format!("erase {}", Bytes(bytes(sectors))),
        Step::EraseAll { .. } | Step::UnitErases { everything: true, .. } => "erase everything".to_owned(),
        Step::SendAgain => "send all blocks again".to_owned(),
        Step::Write { runs } => {
            let bytes = runs.iter().map(|run| run.span().len()).sum();
            format!("write {} bytes", Grouped(bytes))
        }
        Step::ReadBack { .. } => "read back".to_owned(),
        Step::DeviceCheck { .. } => "compare the unit's checksum".to_owned(),
        Step::LookAgain { file } => format!("read {file} back"),
        Step::ReadOnceMore { .. } => "enter update mode again to read back".to_owned(),
        Step::Restart { .. } => "restart".to_owned(),
        Step::Undo { .. } => "undo the manual steps".to_owned(),
    })
}

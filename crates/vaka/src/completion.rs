//! Values that a shell completes: units on the bench, variants, parts, consents, examples, topics and
//! keys.

use clap::Command;
use clap_complete::CompletionCandidate;
use clap_complete::engine::ArgValueCandidates;
use vaka_boot::bench::buses::Bench;
use vaka_core::matching::consent::CONSENTS;
use vaka_core::sheet::Sheet;

use crate::args::{Common, change_each};
use crate::commands::demo;
use crate::help::TOPICS;
use crate::{config, environment, keyring};

type Candidates = fn() -> Vec<CompletionCandidate>;

/// Adds the candidates to the arguments that have them.
pub fn add_candidates(command: Command) -> Command {
    let general: [(&str, Candidates); 4] =
        [("unit", units), ("variant", variants), ("part", parts), ("allow", consents)];
    let own: [(&str, &str, Candidates); 4] =
        [("demo", "scene", scenes), ("help", "topic", topics), ("pack", "key", keys), ("keys show", "name", keys)];
    change_each(command, "", &|command, path| {
        let own = own.iter().filter(|(of, ..)| *of == path).map(|(_, id, candidates)| (id, candidates));
        let all = general.iter().map(|(id, candidates)| (id, candidates)).chain(own);
        all.fold(command, |command, (id, candidates)| with_candidates(command, id, *candidates))
    })
}

fn with_candidates(command: Command, id: &str, candidates: Candidates) -> Command {
    let has_it = command.get_arguments().any(|arg| arg.get_id() == id);
    match has_it {
        true => command.mut_arg(id, |arg| arg.add(ArgValueCandidates::new(candidates))),
        false => command,
    }
}

fn candidate(value: &str, help: &str) -> CompletionCandidate {
    CompletionCandidate::new(value).help(Some(help.to_owned().into()))
}

/// The options from environment and configuration; a shell passes no others.
fn common() -> Option<Common> {
    let list = |name: &str| std::env::var(name).ok().map(|value| value.split(',').map(str::to_owned).collect());
    let sheets = std::env::var_os("VAKA_SHEETS").map(Into::into);
    let mut common = Common { bus: list("VAKA_BUS").unwrap_or_default(), sheets, quiet: true, ..Common::default() };
    config::apply(&mut common).ok()?;
    Some(common)
}

fn sheets() -> Vec<Sheet> {
    common().and_then(|common| environment::sheets(&common).ok()).unwrap_or_default()
}

/// Units in the lists of all buses; none is opened.
fn units() -> Vec<CompletionCandidate> {
    let Some(common) = common() else { return Vec::new() };
    let sheets = environment::sheets(&common).unwrap_or_default();
    let Ok(buses) = environment::buses(&common) else { return Vec::new() };
    let bench = Bench::new(buses, &sheets).with_places(&common.places);
    let devices = bench.devices().unwrap_or_default();
    let name = |device: &_| {
        let unit = vaka_boot::bench::unit_event::seen(&bench, device);
        candidate(&format!("port={}", unit.unit), &unit.product.unwrap_or_else(|| unit.id.to_string()))
    };
    devices.iter().map(name).collect()
}

fn variants() -> Vec<CompletionCandidate> {
    let sheets = sheets();
    let all = sheets.iter().flat_map(|sheet| &sheet.variants);
    all.map(|variant| candidate(variant.id.as_str(), &variant.name)).collect()
}

fn parts() -> Vec<CompletionCandidate> {
    let sheets = sheets();
    sheets.iter().flat_map(|sheet| &sheet.parts).map(|part| candidate(&part.id, &part.name)).collect()
}

fn consents() -> Vec<CompletionCandidate> {
    // Ids with capitals stand for names.
    let fixed = CONSENTS.iter().filter(|(id, _)| !id.contains(char::is_uppercase));
    fixed.map(|(id, risk)| candidate(id, risk)).collect()
}

fn scenes() -> Vec<CompletionCandidate> {
    demo::SCENES.iter().map(|(name, purpose)| candidate(name, purpose)).collect()
}

fn topics() -> Vec<CompletionCandidate> {
    TOPICS.iter().map(|topic| candidate(topic.name, topic.about)).collect()
}

fn keys() -> Vec<CompletionCandidate> {
    keyring::all().unwrap_or_default().iter().map(|key| candidate(&key.name, &key.key.to_string())).collect()
}

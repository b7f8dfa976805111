//! `vaka check FILE` for a release: signer, content and consistency.

use std::path::Path;

use serde::Serialize;
use vaka_base::size::Bytes;
use vaka_boot::release_install::ReleaseInstall;
use vaka_core::event::ExitCode;
use vaka_core::release::manifest::{Entry, Stage};
use vaka_core::release::statement::Said;
use vaka_core::release::{Release, inconsistencies, sheet_for};
use vaka_core::sheet::Sheet;

use super::check_unit::{CheckSubject, with_unit};
use super::print_line;
use crate::args::{Common, OutputFormat};
use crate::cli_error::Outcome;
use crate::output_options::OutputOptions;
use crate::render::json;
use crate::{keyring, release_store};

#[derive(Serialize)]
#[serde(tag = "event", rename = "release-file")]
struct ReleaseCheck<'a> {
    file: String,
    manifest: &'a vaka_core::release::manifest::Manifest,
    signer: Option<String>,
    trusted: bool,
    inconsistencies: Vec<String>,
}

pub fn run(path: &Path, sheets: &[Sheet], common: &Common, setting: &OutputOptions) -> Outcome {
    let release = release_store::read(path)?;
    let sheet = release_store::sheet(&release, path, sheets.to_vec())?;
    let found: Vec<String> = inconsistencies(&release, &sheet).iter().map(ToString::to_string).collect();
    let all = keyring::all()?;
    let known = release
        .signer
        .as_ref()
        .and_then(|key| all.into_iter().find(|known| known.key == *key && known.is_for(&release.manifest.product)));
    match setting.format {
        OutputFormat::Json => json::line(&ReleaseCheck {
            file: path.display().to_string(),
            manifest: &release.manifest,
            signer: release.signer.as_ref().map(ToString::to_string),
            trusted: known.is_some(),
            inconsistencies: found.clone(),
        }),
        OutputFormat::Text => print(path, &release, known.map(|known| known.name).as_deref(), &found),
    }
    if !found.is_empty() {
        return Ok(ExitCode::File);
    }
    match common.unit {
        Some(_) => beside_a_unit(&release, &sheet, common, setting),
        None => Ok(ExitCode::Done),
    }
}

/// The verdict for a unit, by the first stage that applies to it.
fn beside_a_unit(release: &Release, sheet: &Sheet, common: &Common, setting: &OutputOptions) -> Outcome {
    let build = vaka_core::release::manifest::STANDARD;
    let staged = ReleaseInstall { buses: &[], guard: None, secrets: None, sheet, release, build };
    let stages = release.manifest.stages.iter().filter(|stage| stage.external.is_none());
    let of_stage = |stage: &Stage| Some((sheet_for(sheet, stage)?, stage.clone()));
    let mut all: Vec<(Sheet, Stage)> = stages.filter_map(of_stage).collect();
    // Ordinary updates use the last stage.
    all.reverse();
    let mut worst = ExitCode::Refused;
    for (sheet, stage) in all {
        let offered = staged.offered(&stage, &sheet)?;
        if release.manifest.stages.len() > 1 {
            print_line(&format!("\nStage {}:", stage.name));
        }
        let code = with_unit(&CheckSubject::Release(&offered), &[sheet], common, setting)?;
        worst = if code == ExitCode::Done { ExitCode::Done } else { worst };
    }
    Ok(worst)
}

/// Prints one aligned fact.
fn line(name: &str, value: &str) {
    print_line(&format!("  {name:<10}{value}"));
}

fn print(path: &Path, release: &Release, known: Option<&str>, found: &[String]) {
    let manifest = &release.manifest;
    print_line(&path.display().to_string());
    line(
        "is",
        &format!(
            "a release: {} {} of {}, channel {}",
            manifest.product, manifest.version, manifest.date, manifest.channel
        ),
    );
    line(
        "signed by",
        &match (&release.signer, known) {
            (None, _) => "NOBODY: its origin is not known".to_owned(),
            (Some(key), Some(name)) => format!("{name} ({key}), trusted; the signature is valid"),
            (Some(key), None) => format!("key {key}, NOT TRUSTED here; the signature is valid"),
        },
    );
    if let Some(needs) = &manifest.needs_vaka {
        line("needs", &format!("Vaka {needs} or newer"));
    }
    if let Some(oldest) = &manifest.updates_from {
        line("updates", &format!("units of version {oldest} and newer"));
    }
    if let Some(expires) = &manifest.expires {
        line("expires", &format!("after {expires}"));
    }
    for statement in manifest.keys.iter().filter_map(|written| written.verify().ok()) {
        let said = match &statement.said {
            Said::Revoked => format!("key {} is revoked since {}", statement.about, statement.date),
            Said::ReplacedBy(new) => format!("key {} is replaced by {new} since {}", statement.about, statement.date),
        };
        line("states", &format!("{said}: {} (signed by key {})", statement.why, statement.signer));
    }
    for (index, note) in release.notes().iter().enumerate() {
        line(if index == 0 { "notes" } else { "" }, note);
    }
    for loss in &manifest.loses {
        line("loses", &format!("{} (--allow lose-{})", loss.what, loss.id));
    }
    for (number, stage) in (1..).zip(&manifest.stages) {
        let by = stage
            .external
            .as_ref()
            .map(|external| format!(", with external tool {}", external.tool))
            .unwrap_or_default();
        print_line(&format!("  Stage {number} of {}, {}{by}", manifest.stages.len(), stage.name));
        stage.images.iter().for_each(|image| entry(release, image));
    }
    match found {
        [] if manifest.stages.iter().any(|stage| stage.external.is_some()) => {
            line(
                "verdict",
                "consistent: every image that Vaka installs fits its variants; those for other tools are not examined",
            );
        }
        [] => line("verdict", "consistent: every image fits its variants"),
        _ => found.iter().enumerate().for_each(|(index, what)| line(if index == 0 { "WRONG" } else { "" }, what)),
    }
}

fn entry(release: &Release, entry: &Entry) {
    let files = entry.files.iter().map(|file| {
        let size = Bytes(release.manifest.members.get(&file.file).map_or(0, |member| member.size));
        let at = file.at.map(|at| format!(" at {at}")).unwrap_or_default();
        format!("{}{at}, {size}", file.file)
    });
    let facts: Vec<String> = entry.facts.iter().map(|(name, value)| format!("{name} {value}")).collect();
    let facts = if facts.is_empty() { String::new() } else { format!("  ({})", facts.join(", ")) };
    let part = entry.part.as_ref().map(|part| format!("{part}, ")).unwrap_or_default();
    let files: Vec<String> = files.collect();
    line("", &format!("{part}{} [{}]: {}{facts}", entry.variants.join(", "), entry.build, files.join("; ")));
}

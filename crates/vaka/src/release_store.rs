//! Releases as files: finding, reading, trusting, and the sheet that goes with one.

use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use vaka_core::matching::consent;

use vaka_core::event::SelectedRelease;
use vaka_core::release::manifest::Manifest;
use vaka_core::release::{Release, ReleaseQuery, VersionSelector, choose, inconsistencies};
use vaka_core::sheet::{Dialects, Sheet};
use vaka_dialect::Dialect;

use crate::args::{Common, Releases};
use crate::cli_error::CliError;
use crate::input_file;
use crate::journal;
use crate::keyring;
use vaka_messages::CommandError;

/// The ending of release file names.
pub const ENDING: &str = "vaka";

/// A release with its path.
pub struct Found {
    pub path: PathBuf,
    pub release: Release,
    /// Other releases of the same product, as text.
    pub others: Vec<String>,
}

/// The releases among the given files and folders. `None` if a single file was given that is not
/// a release.
pub fn named(files: &[PathBuf], wanted: &Releases, common: &Common) -> Result<Option<Found>, CliError> {
    let paths = paths(files)?;
    if let ([one], [path]) = (files, &paths[..])
        && one.is_file()
        && !Release::is_one(&input_file::firmware(path)?)
    {
        return Ok(None);
    }
    let mut releases = Vec::new();
    for path in paths {
        releases.push((read(&path)?, path));
    }
    let manifests: Vec<Manifest> = releases.iter().map(|(release, _)| release.manifest.clone()).collect();
    let product = product(common, &manifests);
    let choosing = ReleaseQuery {
        product: product.as_deref(),
        channel: wanted.channel.as_deref(),
        version: version(wanted, product.as_deref()),
    };
    let pick = choose(&manifests, &choosing).map_err(CommandError::NoReleaseSelected)?;
    let others = pick.others.iter().map(|at| manifests[*at].in_words()).collect();
    let (release, path) = releases.swap_remove(pick.index);
    Ok(Some(Found { path, release, others }))
}

/// The files that were named; of a folder, its releases.
fn paths(files: &[PathBuf]) -> Result<Vec<PathBuf>, CliError> {
    let mut all = Vec::new();
    for file in files {
        if !file.is_dir() {
            all.push(file.clone());
            continue;
        }
        let entries = std::fs::read_dir(file).map_err(|error| CliError::file(file, error))?;
        let mut found: Vec<PathBuf> = entries
            .flatten()
            .map(|entry| entry.path())
            .filter(|path| path.extension().is_some_and(|ending| ending == ENDING))
            .collect();
        found.sort();
        if found.is_empty() {
            return Err(CommandError::NoReleaseIn { path: file.clone(), ending: ENDING }.into());
        }
        all.extend(found);
    }
    Ok(all)
}

/// Reads one release; an invalid or changed one is always refused.
pub fn read(path: &Path) -> Result<Release, CliError> {
    let bytes = input_file::firmware(path)?;
    let damaged = |error: vaka_core::release::ReleaseError| CommandError::Release {
        path: path.to_owned(),
        reason: error.to_string(),
    };
    Ok(Release::read(&bytes, env!("CARGO_PKG_VERSION")).map_err(damaged)?)
}

/// The product, if `--unit name=…` names one of the available products.
fn product(common: &Common, manifests: &[Manifest]) -> Option<String> {
    use vaka_boot::bench::selector::Selector;
    let (Some(Selector::Name(name) | Selector::Any(name)), true) = (&common.unit, manifests.len() > 1) else {
        return None;
    };
    manifests.iter().map(|manifest| &manifest.product).find(|product| product.eq_ignore_ascii_case(name)).cloned()
}

fn version(wanted: &Releases, product: Option<&str>) -> VersionSelector {
    match &wanted.version {
        Some(version) => VersionSelector::Version(version.clone()),
        None if wanted.known_good => VersionSelector::KnownGood(known_good(product)),
        None => VersionSelector::Newest,
    }
}

/// Versions whose last stage was installed successfully here, according to the journal.
fn known_good(product: Option<&str>) -> Vec<String> {
    let records = journal::path().and_then(|path| journal::read(&path).ok()).map(|(records, _)| records);
    let is_good = |record: &&journal::Record| {
        let of = record.started.release.as_ref();
        record.is_good()
            && record.result().after.as_deref() == Some("confirmed")
            && of.is_some_and(|of| of.stage == of.stages && product.is_none_or(|product| of.product == product))
    };
    let good = records.iter().flatten().filter(is_good);
    good.filter_map(|record| record.started.release.as_ref().map(|of| of.version.clone())).collect()
}

/// Checks whether the release may be used: signed with a trusted key, or consented to.
pub fn trusted(release: &Release, common: &Common) -> Result<String, CliError> {
    let consents = |id: &str| common.allow.iter().any(|consents| consents == id);
    let Some(key) = &release.signer else {
        return match consents(consent::UNSIGNED) {
            true => Ok("no key (accepted by --allow)".to_owned()),
            false => Err(CommandError::Unsigned { consent: consent::UNSIGNED.to_owned() }.into()),
        };
    };
    if let Some(known) = keyring::all().iter().find(|known| known.key == *key) {
        return Ok(format!("{} ({key})", known.name));
    }
    let id = format!("signer-{key}");
    match consents(&id) {
        true => Ok(format!("unknown key {key}; accepted by --allow")),
        false => Err(CommandError::UnknownSigner { key: key.to_string(), consent: id }.into()),
    }
}

/// The sheet for a release: the given one for its product, else its own.
pub fn sheet(release: &Release, path: &Path, given: Vec<Sheet>) -> Result<Sheet, CliError> {
    if let Some(sheet) = given.into_iter().find(|sheet| sheet.product.id == release.manifest.product) {
        return Ok(sheet);
    }
    own_sheet(release, path)
}

fn own_sheet(release: &Release, path: &Path) -> Result<Sheet, CliError> {
    let member = |name: &str| {
        let text = std::str::from_utf8(release.member(name)).map_err(|_| "it is not text");
        text.map_err(|what| CommandError::Damaged { path: path.to_owned(), reason: format!("{name}: {what}") })
    };
    let named = |name: &str| format!("{}, {name}", path.display());
    let is_dialect = |name: &&String| name.ends_with(".dialect.toml");
    let mut dialects = Dialects::new();
    for name in release.manifest.sheets.iter().filter(is_dialect) {
        let folder = name.rsplit_once('/').map(|(folder, _)| format!("{folder}/")).unwrap_or_default();
        let beside = |file: &str| {
            let helper = release.members.get(&format!("{folder}{file}"));
            let missing = || io::Error::new(io::ErrorKind::NotFound, format!("{file} is not in the release"));
            helper.cloned().ok_or_else(missing)
        };
        let dialect = Dialect::parse(&named(name), member(name)?, &beside)?;
        dialects.insert(dialect.name.clone(), Arc::new(dialect));
    }
    for name in release.manifest.sheets.iter().filter(|name| name.ends_with(".toml") && !is_dialect(name)) {
        let sheet = Sheet::parse_with(&named(name), member(name)?, &dialects)?;
        if sheet.product.id == release.manifest.product {
            return Ok(sheet);
        }
    }
    let product = release.manifest.product.clone();
    Err(CommandError::NoSheetInRelease { path: path.to_owned(), product }.into())
}

/// Refuses an inconsistent release.
pub fn check_consistency(release: &Release, sheet: &Sheet, path: &Path) -> Result<(), CliError> {
    let found = inconsistencies(release, sheet);
    match found.is_empty() {
        true => Ok(()),
        false => Err(CommandError::Inconsistent { path: path.to_owned(), found }.into()),
    }
}

/// The selected build.
pub fn build<'r>(release: &'r Release, wanted: &str) -> Result<&'r str, CliError> {
    let builds = release.manifest.builds();
    builds.iter().find(|build| **build == wanted).copied().ok_or_else(|| {
        let builds = builds.iter().map(|build| (*build).to_owned()).collect();
        CommandError::NoBuild { wanted: wanted.to_owned(), builds }.into()
    })
}

/// The event about the selected release.
pub fn seen(found: &Found, build: &str, signer: String) -> SelectedRelease {
    let manifest = &found.release.manifest;
    let others = manifest.builds().into_iter().filter(|other| *other != build).map(str::to_owned);
    SelectedRelease {
        file: found.path.display().to_string(),
        product: manifest.product.clone(),
        version: manifest.version.clone(),
        date: manifest.date.clone(),
        channel: manifest.channel.clone(),
        build: build.to_owned(),
        other_builds: others.collect(),
        signer: Some(signer),
        loses: manifest.loses.iter().map(|loss| loss.what.clone()).collect(),
        others: found.others.clone(),
    }
}

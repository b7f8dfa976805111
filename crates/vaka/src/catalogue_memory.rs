//! The catalogues that this user has seen: their numbers, so that an older one is refused, and the withdrawn releases.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use vaka_base::text;
use vaka_base::version::Version;
use vaka_core::attached_unit::WithdrawnVersion;
use vaka_core::release::Release;
use vaka_core::release::catalogue::{ListedRelease, SignedCatalogue, Withdrawal};

use crate::cli_error::CliError;
use crate::{input_file, keyring, private_file, state_dir};
use vaka_messages::CommandError;

/// The newest catalogue of a key and a product that was seen.
#[derive(Clone, Debug, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
struct Seen {
    /// The key, as hex digits; of keys that replaced each other, the first.
    key: String,
    product: String,
    number: u64,
    /// SHA-256 of the list.
    sha256: String,
    date: String,
    /// The folder or web address.
    from: String,
    #[serde(default)]
    withdrawn: Vec<SeenWithdrawal>,
}

/// A withdrawn release.
#[derive(Clone, Debug, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
struct SeenWithdrawal {
    version: String,
    sha256: String,
    date: String,
    why: String,
}

impl SeenWithdrawal {
    fn of(listed: &ListedRelease) -> Option<Self> {
        let Withdrawal { date, why } = listed.withdrawn.clone()?;
        Some(Self { version: listed.version.clone(), sha256: listed.sha256.clone(), date, why })
    }

    fn stated(&self) -> Withdrawal {
        Withdrawal { date: self.date.clone(), why: self.why.clone() }
    }
}

fn path() -> Result<PathBuf, CliError> {
    let folder = state_dir::folder().ok_or_else(|| CliError::internal("This system has no state folder."))?;
    Ok(folder.join("catalogues.json"))
}

/// All that were seen.
///
/// # Errors
/// The file cannot be read: an older catalogue would seem new.
fn all() -> Result<Vec<Seen>, CliError> {
    let path = path()?;
    if fs::symlink_metadata(&path).is_err_and(|error| error.kind() == io::ErrorKind::NotFound) {
        return Ok(Vec::new());
    }
    let content = input_file::text(&path)?;
    serde_json::from_str(&content).map_err(|error| {
        let reason = text::sanitize(&error.to_string());
        CommandError::SeenCatalogues { path, reason }.into()
    })
}

/// Checks a catalogue against those seen before, for some of its products, and remembers it.
///
/// # Errors
/// A newer one was seen, or another one with this number; or the memory cannot be read or written.
pub fn remember(catalogue: &SignedCatalogue, products: &[&str], from: &str) -> Result<(), CliError> {
    let SignedCatalogue { list, signer, sha256 } = catalogue;
    let key = keyring::first_key(signer)?.to_hex();
    let path = path()?;
    // Another command may remember a catalogue at this moment.
    let _lock = lock(&path).map_err(|error| CliError::file(&path, error))?;
    let before = all()?;
    let is_of = |seen: &Seen, product: &str| seen.key == key && seen.product == product;
    for product in products {
        let Some(seen) = before.iter().find(|seen| is_of(seen, product)) else { continue };
        if list.number < seen.number {
            let (number, newest, date) = (list.number, seen.number, seen.date.clone());
            return Err(CommandError::OldCatalogue { number, newest, date }.into());
        }
        if list.number == seen.number && *sha256 != seen.sha256 {
            return Err(CommandError::TwoCatalogues { number: list.number }.into());
        }
    }
    let mut now = before.clone();
    now.retain(|seen| !products.iter().any(|product| is_of(seen, product)));
    now.extend(products.iter().map(|product| Seen {
        key: key.clone(),
        product: (*product).to_owned(),
        number: list.number,
        sha256: sha256.clone(),
        date: list.date.clone(),
        from: from.to_owned(),
        withdrawn: list.releases.iter().filter(|one| one.product == *product).filter_map(SeenWithdrawal::of).collect(),
    }));
    let content = serde_json::to_vec_pretty(&now).map_err(|error| CliError::internal(error.to_string()))?;
    private_file::write(&path, &content).map_err(|error| CliError::file(&path, error))
}

/// Excludes other processes from the memory while the file is open.
fn lock(memory: &Path) -> io::Result<fs::File> {
    private_file::create_folder(memory.parent().unwrap_or(memory))?;
    let path = memory.with_extension("lock");
    let file = private_file::open(private_file::options().write(true).create(true), &path)?;
    private_file::plain(&file.metadata()?)?;
    file.lock()?;
    Ok(file)
}

/// The seen catalogues of a product whose signer is trusted for it now.
fn believed(product: &str) -> Result<Vec<Seen>, CliError> {
    let trusted = keyring::all()?.into_iter().filter(|key| key.is_for(product));
    let keys = trusted.map(|key| Ok(keyring::first_key(&key.key)?.to_hex())).collect::<Result<Vec<_>, CliError>>()?;
    let mut seen = all()?;
    seen.retain(|seen| seen.product == product && keys.contains(&seen.key));
    Ok(seen)
}

/// The withdrawal of a release, if a catalogue that was seen says so.
///
/// # Errors
/// The memory, the keys or the release cannot be read.
pub fn withdrawal_of(release: &Release, path: &Path) -> Result<Option<Withdrawal>, CliError> {
    let seen = believed(&release.manifest.product)?;
    // The digest of a large file takes its time, and the version tells most releases apart.
    let of_version = |withdrawn: &&SeenWithdrawal| withdrawn.version == release.manifest.version;
    let withdrawn: Vec<_> = seen.iter().flat_map(|seen| &seen.withdrawn).filter(of_version).collect();
    if withdrawn.is_empty() {
        return Ok(None);
    }
    let sha256 = release.sha256().map_err(|error| CliError::release(path, &error))?;
    Ok(withdrawn.into_iter().find(|release| release.sha256 == sha256).map(SeenWithdrawal::stated))
}

/// The withdrawal of a version of a product, with the catalogue that says so.
///
/// # Errors
/// The memory or the keys cannot be read.
pub fn withdrawal_of_version(product: &str, version: &Version) -> Result<Option<WithdrawnVersion>, CliError> {
    let mut found = believed(product)?.into_iter().filter_map(|seen| {
        let withdrawn = seen.withdrawn.into_iter().find(|release| Version::parse(&release.version) == *version)?;
        Some(WithdrawnVersion { date: withdrawn.date, why: withdrawn.why, from: seen.from })
    });
    Ok(found.next())
}

//! Keys of this user: private ones that sign releases, and public ones that are
//! trusted. Files in the configuration folder, in PEM, so that openssl reads them.

use std::collections::BTreeSet;
use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use etcetera::BaseStrategy;
use serde::{Deserialize, Serialize};
use vaka_base::{document, text};
use vaka_core::release::signature::{PrivateKey, PublicKey};
use vaka_core::release::statement::{Said, Statement, WrittenStatement};

use crate::cli_error::CliError;
use crate::input_file;
use crate::output_file::{self, Existing};
use crate::private_file;
use vaka_messages::CommandError;

const PRIVATE: &str = ".key.pem";
const PUBLIC: &str = ".pub.pem";
/// Longest name of a key.
const MOST_NAME: usize = 64;
/// The products of a trusted key.
const PURPOSE: &str = ".toml";

/// A trusted key with its local name.
pub struct TrustedKey {
    pub name: String,
    pub key: PublicKey,
    /// The products whose releases it may sign; `None` for an own key: all.
    pub products: Option<Vec<String>>,
    /// The last day on which it is trusted.
    pub until: Option<String>,
    /// The statement by which it is revoked.
    pub revoked: Option<Statement>,
}

impl TrustedKey {
    /// Whether its private half is stored here.
    pub fn is_own(&self) -> bool {
        self.products.is_none()
    }

    /// Whether its releases of a product are trusted today.
    pub fn is_for(&self, product: &str) -> bool {
        self.is_valid() && self.products.as_ref().is_none_or(|products| products.iter().any(|one| one == product))
    }

    /// Whether it is neither revoked nor expired.
    pub fn is_valid(&self) -> bool {
        self.revoked.is_none() && self.until.as_ref().is_none_or(|until| today() <= *until)
    }
}

/// This day, as `2026-11-23`: such texts are ordered like days.
pub fn today() -> String {
    jiff::Zoned::now().date().to_string()
}

/// The products of a trusted key: a file beside it.
#[derive(Default, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
struct Purpose {
    products: Vec<String>,
    /// The last day on which the key is trusted.
    #[serde(skip_serializing_if = "Option::is_none")]
    until: Option<String>,
}

fn folder(name: &str) -> Result<PathBuf, CliError> {
    let base = etcetera::choose_base_strategy();
    let base = base.map_err(|_| CliError::internal("This system has no configuration folder."))?;
    Ok(base.config_dir().join("vaka").join(name))
}

fn is_name(name: &str) -> bool {
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_');
    !name.is_empty() && name.len() <= MOST_NAME && name.chars().all(plain)
}

fn checked(name: &str) -> Result<&str, CliError> {
    let message = || {
        format!("'{}' is not a valid key name: only letters, digits, '-' and '_' are allowed.", text::sanitize(name))
    };
    if is_name(name) { Ok(name) } else { Err(CliError::usage(message())) }
}

/// Creates a key pair; returns the public half and the path of the private one.
pub fn make(name: &str) -> Result<(PublicKey, PathBuf), CliError> {
    let folder = folder("keys")?;
    let path = folder.join(format!("{}{PRIVATE}", checked(name)?));
    if path.exists() {
        return Err(CommandError::KeyExists { path }.into());
    }
    let mut random = [0; 32];
    getrandom::fill(&mut random)
        .map_err(|error| CliError::internal(format!("No random numbers are available: {error}.")))?;
    let key = PrivateKey::from_random(random);
    let unusable = |error: vaka_core::release::signature::KeyError| CliError::internal(format!("{error}."));
    let (private, public) = (key.to_pem().map_err(unusable)?, key.public().to_pem().map_err(unusable)?);
    fs::create_dir_all(&folder).map_err(|error| CliError::file(&folder, error))?;
    private_file::create_new(&path)
        .and_then(|mut file| file.write_all(private.as_bytes()))
        .map_err(|error| CliError::file(&path, error))?;
    let beside = folder.join(format!("{name}{PUBLIC}"));
    fs::write(&beside, public).map_err(|error| CliError::file(&beside, error))?;
    Ok((key.public(), path))
}

/// The private key of a name, or in a file.
pub fn private(name: &str) -> Result<PrivateKey, CliError> {
    let own = folder("keys").ok().map(|folder| folder.join(format!("{name}{PRIVATE}")));
    let path = own.filter(|path| is_name(name) && path.is_file()).unwrap_or_else(|| PathBuf::from(name));
    let pem = input_file::text(&path)?;
    PrivateKey::from_pem(&pem).map_err(|error| unusable(&path, &error.to_string()))
}

fn unusable(path: &Path, what: &str) -> CliError {
    CommandError::Key { path: path.to_owned(), reason: what.to_owned() }.into()
}

/// The public half of a stored key, in PEM.
pub fn public(name: &str) -> Result<String, CliError> {
    let unknown = || CliError::from(CommandError::NoKey { name: name.to_owned() });
    let known = all()?.into_iter().find(|known| known.name == name).ok_or_else(unknown)?;
    known.key.to_pem().map_err(|_| unknown())
}

/// The public key in a file.
pub fn public_in(path: &Path) -> Result<PublicKey, CliError> {
    let pem = input_file::text(path)?;
    PublicKey::from_pem(&pem).map_err(|error| unusable(path, &error.to_string()))
}

/// Trusts a public key for releases of some products, in addition to those for which it is trusted.
pub fn trust(
    file: &Path,
    name: Option<&str>,
    products: &[String],
    until: Option<&str>,
) -> Result<TrustedKey, CliError> {
    let key = public_in(file)?;
    if let Some(statement) = revocation(&key)? {
        return Err(CommandError::RevokedKey { key: key.to_string(), date: statement.date, why: statement.why }.into());
    }
    let stem = file.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let stem = stem.split('.').next().unwrap_or_default().to_owned();
    let name = checked(name.unwrap_or(&stem))?.to_owned();
    store(name, key, products.iter().cloned().collect(), until)
}

/// Stores a trusted key with its products.
fn store(
    name: String,
    key: PublicKey,
    mut products: BTreeSet<String>,
    until: Option<&str>,
) -> Result<TrustedKey, CliError> {
    let folder = folder("trusted")?;
    fs::create_dir_all(&folder).map_err(|error| CliError::file(&folder, error))?;
    let path = folder.join(format!("{name}.pem"));
    let other = input_file::text(&path).ok().and_then(|pem| PublicKey::from_pem(&pem).ok());
    let mut until = until.map(str::to_owned);
    match other {
        Some(other) if other != key => return Err(CommandError::OtherKeyTrusted { name }.into()),
        Some(_) => {
            let earlier = purpose(&folder, &name);
            products.extend(earlier.products);
            // Further products do not lift a limit.
            until = until.or(earlier.until);
        }
        None => {}
    }
    let purpose = Purpose { products: products.into_iter().collect(), until };
    let text = toml::to_string(&purpose).map_err(|error| CliError::internal(error.to_string()))?;
    let pem = key.to_pem().map_err(|error| unusable(&path, &error.to_string()))?;
    // Without its products a key is trusted for none.
    for (path, content) in [(folder.join(format!("{name}{PURPOSE}")), text), (path, pem)] {
        let written = output_file::write_here(&path, Existing::Replace, &[content.as_bytes()]);
        written.map_err(|error| CliError::file(&path, error))?;
    }
    Ok(TrustedKey { name, key, products: Some(purpose.products), until: purpose.until, revoked: None })
}

/// The products of a trusted key; none if that is not known.
fn purpose(folder: &Path, name: &str) -> Purpose {
    let text = input_file::text(&folder.join(format!("{name}{PURPOSE}")));
    text.ok().and_then(|text| document::read(&text).ok()).unwrap_or_default()
}

/// Trusts a key no more.
pub fn revoke_trust(name: &str) -> Result<(), CliError> {
    let path = folder("trusted")?.join(format!("{}.pem", checked(name)?));
    // A purpose without its key has no effect.
    let _ = fs::remove_file(path.with_file_name(format!("{name}{PURPOSE}")));
    fs::remove_file(&path).map_err(|error| match error.kind() {
        std::io::ErrorKind::NotFound => CommandError::NotTrusted { name: name.to_owned() }.into(),
        _ => CliError::file(&path, error),
    })
}

/// All trusted keys: own keys and those of others.
///
/// # Errors
/// The accepted statements cannot be read, so that a revoked key would seem trusted.
pub fn all() -> Result<Vec<TrustedKey>, CliError> {
    let statements = statements()?;
    let revoked = |key: &PublicKey| statements.iter().find(|said| is_revocation(said, key)).cloned();
    let own = of_folder("keys", PUBLIC).into_iter().map(|(name, key)| {
        let revoked = revoked(&key);
        TrustedKey { name, key, products: None, until: None, revoked }
    });
    let others = of_folder("trusted", ".pem").into_iter().map(|(name, key)| {
        let purpose = folder("trusted").map(|folder| purpose(&folder, &name)).unwrap_or_default();
        let revoked = revoked(&key);
        TrustedKey { name, key, products: Some(purpose.products), until: purpose.until, revoked }
    });
    Ok(own.chain(others).collect())
}

fn is_revocation(statement: &Statement, key: &PublicKey) -> bool {
    statement.said == Said::Revoked && statement.about == *key
}

/// The statement by which a key is revoked, if there is one.
///
/// # Errors
/// As of [`all`].
pub fn revocation(key: &PublicKey) -> Result<Option<Statement>, CliError> {
    Ok(statements()?.into_iter().find(|said| is_revocation(said, key)))
}

/// The first of the keys that replaced each other up to this one.
///
/// # Errors
/// As of [`all`].
pub fn first_key(key: &PublicKey) -> Result<PublicKey, CliError> {
    let statements = statements()?;
    let before = |key: &PublicKey| {
        statements.iter().find(|one| matches!(&one.said, Said::ReplacedBy(new) if new == key)).map(|one| &one.about)
    };
    let mut first = key;
    // Each statement is followed once, so that keys that replaced each other in a circle have an end.
    for _ in 0..statements.len() {
        first = before(first).unwrap_or(first);
    }
    Ok(first.clone())
}

/// The file of accepted statements, in the folder of trusted keys.
const STATEMENTS: &str = "statements.json";

fn written_statements() -> Result<Vec<WrittenStatement>, CliError> {
    let path = folder("trusted")?.join(STATEMENTS);
    if fs::symlink_metadata(&path).is_err_and(|error| error.kind() == io::ErrorKind::NotFound) {
        return Ok(Vec::new());
    }
    let text = input_file::text(&path)?;
    serde_json::from_str(&text).map_err(|error| damaged_statements(&path, &error.to_string()))
}

fn damaged_statements(path: &Path, reason: &str) -> CliError {
    CommandError::Statements { path: path.to_owned(), reason: text::sanitize(reason) }.into()
}

/// The accepted statements. Each was checked when it was accepted, and is again.
fn statements() -> Result<Vec<Statement>, CliError> {
    let verify = |written: &WrittenStatement| {
        let path = folder("trusted")?.join(STATEMENTS);
        written.verify().map_err(|error| damaged_statements(&path, &error.to_string()))
    };
    written_statements()?.iter().map(verify).collect()
}

/// Accepts the statements of a release that are new and whose signer may make them; returns a line
/// about each. Only keys that are known here count, and of each key the first statement of a kind,
/// so that the file of statements stays small. A key may be revoked by itself, or by a key that is
/// trusted for one of its products; it may be replaced by its own signature only, while it is
/// trusted.
///
/// # Errors
/// The statements cannot be read or stored.
pub fn accept(offered: &[WrittenStatement]) -> Result<Vec<String>, CliError> {
    let mut lines = Vec::new();
    // Replacements first: a release may replace a key and revoke it.
    let (replaced, revoked): (Vec<_>, Vec<_>) = offered.iter().partition(|one| one.replaced_by.is_some());
    for written in replaced.into_iter().chain(revoked) {
        let Ok(statement) = written.verify() else { continue };
        let mut known = written_statements()?;
        let is_same_kind = |other: &WrittenStatement| {
            other.about == written.about && other.replaced_by.is_some() == written.replaced_by.is_some()
        };
        if known.iter().any(is_same_kind) || !may_say(&statement)? {
            continue;
        }
        lines.push(follow(&statement)?);
        known.push(written.clone());
        let path = folder("trusted")?.join(STATEMENTS);
        let parent = path.parent().unwrap_or(&path);
        fs::create_dir_all(parent).map_err(|error| CliError::file(parent, error))?;
        let text = serde_json::to_vec_pretty(&known).map_err(|error| CliError::internal(error.to_string()))?;
        let stored = output_file::write_here(&path, Existing::Replace, &[&text]);
        stored.map_err(|error| CliError::file(&path, error))?;
    }
    Ok(lines)
}

/// Whether the signer of a statement may make it here.
fn may_say(statement: &Statement) -> Result<bool, CliError> {
    let all = all()?;
    let about: Vec<&TrustedKey> = all.iter().filter(|key| key.key == statement.about).collect();
    Ok(match &statement.said {
        Said::ReplacedBy(new) => revocation(new)?.is_none() && about.iter().any(|key| key.is_valid() && !key.is_own()),
        Said::Revoked if statement.signer == statement.about => !about.is_empty(),
        Said::Revoked => {
            let products = about.iter().flat_map(|key| key.products.iter().flatten());
            let mut products = products.map(String::as_str);
            let signers: Vec<&TrustedKey> = all.iter().filter(|key| key.key == statement.signer).collect();
            products.any(|product| signers.iter().any(|signer| signer.is_for(product)))
        }
    })
}

/// Does what a statement says; returns a line about it.
fn follow(statement: &Statement) -> Result<String, CliError> {
    let Statement { about, said, date, why, .. } = statement;
    let Said::ReplacedBy(new) = said else {
        return Ok(format!("Key {about} is revoked since {date}: {why}. Its releases are refused from now on."));
    };
    let all = all()?;
    let old = all.iter().find(|key| key.key == *about && !key.is_own());
    let old = old.ok_or_else(|| CliError::internal("the replaced key is not known"))?;
    let products: BTreeSet<String> = old.products.iter().flatten().cloned().collect();
    let line = format!(
        "Key {new} replaces key '{}' ({about}) for {}, signed by that key: {why}.",
        old.name,
        products.iter().cloned().collect::<Vec<_>>().join(", ")
    );
    store(free_name(&old.name, &all), new.clone(), products, old.until.as_deref())?;
    Ok(line)
}

/// A name for the key that replaces another one: `skerrow-2`.
fn free_name(old: &str, all: &[TrustedKey]) -> String {
    let stem: String = old.chars().take(MOST_NAME - 6).collect();
    let mut names = (2..).map(|number: u32| format!("{stem}-{number}"));
    names.find(|name| all.iter().all(|key| key.name != *name)).unwrap_or(stem)
}

fn of_folder(name: &str, ending: &str) -> Vec<(String, PublicKey)> {
    let entries = folder(name).ok().and_then(|folder| fs::read_dir(folder).ok());
    let mut found: Vec<(String, PublicKey)> = entries
        .into_iter()
        .flatten()
        .flatten()
        .filter_map(|entry| {
            let name = entry.file_name().to_string_lossy().strip_suffix(ending)?.to_owned();
            Some((name, PublicKey::from_pem(&fs::read_to_string(entry.path()).ok()?).ok()?))
        })
        .collect();
    found.sort_by(|a, b| a.0.cmp(&b.0));
    found
}

//! Keys of this user: private ones that sign releases, and public ones that are
//! trusted. Files in the configuration folder, in PEM, so that openssl reads them.

use std::collections::BTreeSet;
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};

use etcetera::BaseStrategy;
use serde::{Deserialize, Serialize};
use vaka_base::{document, text};
use vaka_core::release::signature::{PrivateKey, PublicKey};

use crate::cli_error::CliError;
use crate::input_file;
use crate::output_file::{self, Existing};
use crate::private_file;
use vaka_messages::CommandError;

const PRIVATE: &str = ".key.pem";
const PUBLIC: &str = ".pub.pem";
/// The products of a trusted key.
const PURPOSE: &str = ".toml";

/// A trusted key with its local name.
pub struct TrustedKey {
    pub name: String,
    pub key: PublicKey,
    /// The products whose releases it may sign; `None` for an own key: all.
    pub products: Option<Vec<String>>,
}

impl TrustedKey {
    /// Whether its private half is stored here.
    pub fn is_own(&self) -> bool {
        self.products.is_none()
    }

    /// Whether its releases of a product are trusted.
    pub fn is_for(&self, product: &str) -> bool {
        self.products.as_ref().is_none_or(|products| products.iter().any(|one| one == product))
    }
}

/// The products of a trusted key: a file beside it.
#[derive(Default, Deserialize, Serialize)]
#[serde(deny_unknown_fields)]
struct Purpose {
    products: Vec<String>,
}

fn folder(name: &str) -> Result<PathBuf, CliError> {
    let base = etcetera::choose_base_strategy();
    let base = base.map_err(|_| CliError::internal("This system has no configuration folder."))?;
    Ok(base.config_dir().join("vaka").join(name))
}

fn is_name(name: &str) -> bool {
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_');
    !name.is_empty() && name.len() <= 64 && name.chars().all(plain)
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
    let known = all().into_iter().find(|known| known.name == name).ok_or_else(unknown)?;
    known.key.to_pem().map_err(|_| unknown())
}

/// Trusts a public key for releases of some products, in addition to those for which it is trusted.
pub fn trust(file: &Path, name: Option<&str>, products: &[String]) -> Result<TrustedKey, CliError> {
    let pem = input_file::text(file)?;
    let key = PublicKey::from_pem(&pem).map_err(|error| unusable(file, &error.to_string()))?;
    let stem = file.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let stem = stem.split('.').next().unwrap_or_default().to_owned();
    let name = checked(name.unwrap_or(&stem))?.to_owned();
    let folder = folder("trusted")?;
    fs::create_dir_all(&folder).map_err(|error| CliError::file(&folder, error))?;
    let path = folder.join(format!("{name}.pem"));
    let other = input_file::text(&path).ok().and_then(|pem| PublicKey::from_pem(&pem).ok());
    let mut products: BTreeSet<String> = products.iter().cloned().collect();
    match other {
        Some(other) if other != key => return Err(CommandError::OtherKeyTrusted { name }.into()),
        Some(_) => products.extend(purpose(&folder, &name).products),
        None => {}
    }
    let purpose = Purpose { products: products.into_iter().collect() };
    let text = toml::to_string(&purpose).map_err(|error| CliError::internal(error.to_string()))?;
    let pem = key.to_pem().map_err(|error| unusable(file, &error.to_string()))?;
    // Without its products a key is trusted for none.
    for (path, content) in [(folder.join(format!("{name}{PURPOSE}")), text), (path, pem)] {
        let written = output_file::write_here(&path, Existing::Replace, &[content.as_bytes()]);
        written.map_err(|error| CliError::file(&path, error))?;
    }
    Ok(TrustedKey { name, key, products: Some(purpose.products) })
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
pub fn all() -> Vec<TrustedKey> {
    let own = of_folder("keys", PUBLIC).into_iter().map(|(name, key)| TrustedKey { name, key, products: None });
    let others = of_folder("trusted", ".pem").into_iter().map(|(name, key)| {
        let products = folder("trusted").map(|folder| purpose(&folder, &name)).unwrap_or_default().products;
        TrustedKey { name, key, products: Some(products) }
    });
    own.chain(others).collect()
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

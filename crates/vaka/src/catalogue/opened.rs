//! A catalogue that was read, checked and remembered.

use std::fs;

use vaka_core::release::catalogue::{Catalogue, FILE, ListedRelease, MOST_BYTES, SignedCatalogue};
use vaka_core::release::{Candidate, ReleaseQuery, VersionSelector, choose};

use super::cache;
use super::http::{self, HttpError, Part};
use crate::args::{Common, Place};
use crate::cli_error::CliError;
use crate::{catalogue_memory, environment, input_file, keyring, origin, private_file, release_trust};
use vaka_messages::{CommandError, SignedFile};

/// A catalogue whose signer is trusted for at least one of its products.
#[derive(Debug)]
pub struct CheckedCatalogue {
    pub place: Place,
    pub catalogue: SignedCatalogue,
    /// The signer, for people.
    pub signer: String,
    /// The products for which the signer is trusted.
    products: Vec<String>,
    /// The other products.
    pub left_out: Vec<String>,
}

impl CheckedCatalogue {
    /// The releases that count: those of products for which the signer is trusted.
    pub fn releases(&self) -> impl Iterator<Item = &ListedRelease> {
        let list = &self.catalogue.list.releases;
        list.iter().filter(|listed| self.products.contains(&listed.product))
    }
}

/// Reads the catalogue of a place, and remembers it.
///
/// # Errors
/// It is not valid, its signer is not trusted, or a newer one was seen.
pub fn open(place: &Place, common: &Common) -> Result<CheckedCatalogue, CliError> {
    let bytes = match place {
        Place::Folder(_) => present(place)?,
        Place::Web(base) => present_or_last(base, common)?,
    };
    let opened = checked(place, verified(place, bytes.clone())?, common)?;
    if let Place::Web(base) = place {
        // Without a cache the catalogue is used all the same.
        let _ = cache::catalogue(base).and_then(|path| private_file::write(&path, &bytes));
    }
    Ok(opened)
}

/// Reads the present catalogue of a place, whoever signed it. It is not remembered.
///
/// # Errors
/// It is not valid, or cannot be read now.
pub fn read(place: &Place) -> Result<SignedCatalogue, CliError> {
    verified(place, present(place)?)
}

/// A catalogue with a valid signature.
fn verified(place: &Place, bytes: Vec<u8>) -> Result<SignedCatalogue, CliError> {
    Catalogue::open(bytes)
        .map_err(|error| CommandError::Catalogue { place: place.to_string(), reason: error.to_string() }.into())
}

/// The bytes of the catalogue that is in a place now.
fn present(place: &Place) -> Result<Vec<u8>, CliError> {
    let folder = match place {
        Place::Folder(folder) => folder,
        Place::Web(base) => return downloaded(base).map_err(|error| not_downloaded(base, &error)),
    };
    let path = folder.join(FILE);
    if folder.is_dir() && !path.exists() {
        return Err(CommandError::NoCatalogue { place: place.to_string() }.into());
    }
    input_file::bytes(&path, MOST_BYTES).map_err(|error| CliError::file(&path, error))
}

/// The same of a web address; without a connection, those of the last download.
fn present_or_last(base: &str, common: &Common) -> Result<Vec<u8>, CliError> {
    let error = match downloaded(base) {
        Ok(bytes) => return Ok(bytes),
        Err(error) => error,
    };
    let cached = cache::catalogue(base).ok().filter(|_| error.is_passing()).and_then(|path| fs::read(path).ok());
    let bytes = cached.ok_or_else(|| not_downloaded(base, &error))?;
    environment::announce(common, format!("{base}{FILE}: {error}. The catalogue of the last download is used."));
    Ok(bytes)
}

fn downloaded(base: &str) -> Result<Vec<u8>, HttpError> {
    let mut bytes = Vec::new();
    http::get(&format!("{base}{FILE}"), 0, &mut |part| {
        if let Part::Data(data) = part {
            bytes.extend(data);
        }
        if bytes.len() as u64 > MOST_BYTES { Err(HttpError::TooLarge(MOST_BYTES)) } else { Ok(()) }
    })?;
    Ok(bytes)
}

fn not_downloaded(base: &str, error: &HttpError) -> CliError {
    if *error == HttpError::Status(404) {
        return CommandError::NoCatalogue { place: base.to_owned() }.into();
    }
    let (url, stopped) = (format!("{base}{FILE}"), *error == HttpError::Stopped);
    CommandError::Download { url, reason: error.to_string(), kept: 0, stopped }.into()
}

/// Checks signer and number of a catalogue.
fn checked(place: &Place, catalogue: SignedCatalogue, common: &Common) -> Result<CheckedCatalogue, CliError> {
    for line in keyring::accept(&catalogue.list.keys)? {
        // A change of trust is never silent.
        environment::announce(common, line);
    }
    let (mut products, mut signer, mut refused) = (Vec::new(), None, None);
    let mut left_out = Vec::new();
    for product in catalogue.list.products() {
        match release_trust::trusted_signer(SignedFile::Catalogue, &catalogue.signer, product, common) {
            Ok(name) => {
                products.push(product.to_owned());
                signer = Some(name);
            }
            Err(error) => {
                left_out.push(product.to_owned());
                refused = refused.or(Some(error));
            }
        }
    }
    let Some(signer) = signer else {
        let empty = CommandError::Catalogue { place: place.to_string(), reason: "it lists no release".to_owned() };
        return Err(refused.unwrap_or_else(|| empty.into()));
    };
    let of: Vec<&str> = products.iter().map(String::as_str).collect();
    catalogue_memory::remember(&catalogue, &of, &place_to_remember(place))?;
    let list = &catalogue.list;
    if list.is_stale(&keyring::today()) {
        let text = format!(
            "The catalogue of {} is stale: it was made to last until {}. Newer releases and withdrawals may be hidden; ask its publisher for a newer one.",
            list.date, list.fresh_until
        );
        environment::announce(common, text);
    }
    Ok(CheckedCatalogue { place: place.clone(), catalogue, signer, products, left_out })
}

/// A folder is remembered by its full path: the next command may run elsewhere.
fn place_to_remember(place: &Place) -> String {
    match place {
        Place::Folder(folder) => fs::canonicalize(folder).unwrap_or_else(|_| folder.clone()).display().to_string(),
        Place::Web(base) => base.clone(),
    }
}

/// The release that the user wants, and the others, as text.
///
/// # Errors
/// No release can be selected, or it is withdrawn.
pub fn pick<'a>(
    opened: &'a CheckedCatalogue,
    query: &ReleaseQuery<'_>,
    common: &Common,
) -> Result<(&'a ListedRelease, Vec<String>), CliError> {
    let is_named = matches!(query.version, VersionSelector::Version(_));
    let (mut usable, mut not_used) = (Vec::new(), Vec::new());
    for listed in opened.releases() {
        let reason = match (&listed.withdrawn, &listed.needs_vaka) {
            (Some(withdrawn), _) if !is_named => format!("withdrawn on {}: {}", withdrawn.date, withdrawn.why),
            (_, Some(needs)) if !origin::is_at_least(needs) => format!("it requires Vaka {needs}"),
            _ => {
                usable.push(listed);
                continue;
            }
        };
        if query.product.is_none_or(|product| product == listed.product) {
            not_used.push(format!("not used: {} ({reason})", listed.file));
        }
    }
    let candidates: Vec<Candidate<'_>> = usable.iter().map(|listed| Candidate::listed(listed)).collect();
    let pick = choose(&candidates, query)
        .map_err(|error| CommandError::NoReleaseSelected { error, not_used: not_used.clone() })?;
    let listed = usable[pick.index];
    release_trust::check_withdrawal(&listed.version, listed.withdrawn.clone(), common)?;
    let others = pick.others.iter().map(|at| candidates[*at].in_words()).chain(not_used);
    Ok((listed, others.collect()))
}

//! Whether a release or a catalogue may be used: its signer, its last day, and its withdrawal.

use std::path::Path;

use vaka_core::matching::consent;
use vaka_core::release::Release;
use vaka_core::release::catalogue::Withdrawal;
use vaka_core::release::signature::PublicKey;

use crate::args::Common;
use crate::catalogue_memory;
use crate::cli_error::CliError;
use crate::keyring::{self, TrustedKey};
use vaka_messages::{CommandError, SignedFile};

fn is_allowed(id: &str, common: &Common) -> bool {
    common.allow.iter().any(|allowed| allowed == id)
}

/// Checks whether the release may be used: signed with a trusted key, or consented to. Returns the signer, for people.
///
/// # Errors
/// It may not be used.
pub fn trusted(release: &Release, path: &Path, common: &Common) -> Result<String, CliError> {
    check_expiry(release, common)?;
    let withdrawn = catalogue_memory::withdrawal_of(release, path)?;
    check_withdrawal(&release.manifest.version, withdrawn, common)?;
    match &release.signer {
        Some(key) => trusted_signer(SignedFile::Release, key, &release.manifest.product, common),
        None if is_allowed(consent::UNSIGNED, common) => Ok("no key (accepted by --allow)".to_owned()),
        None => Err(CommandError::Unsigned { consent: consent::UNSIGNED.to_owned() }.into()),
    }
}

/// Checks whether a file of a product may be used that was signed by a key. Returns the signer, for people.
///
/// # Errors
/// The key is revoked, or neither trusted nor consented to.
pub fn trusted_signer(file: SignedFile, key: &PublicKey, product: &str, common: &Common) -> Result<String, CliError> {
    check_revocation(key)?;
    let known: Vec<TrustedKey> = keyring::all()?.into_iter().filter(|known| known.key == *key).collect();
    if let Some(known) = known.iter().find(|known| known.is_for(product)) {
        return Ok(format!("{} ({key})", known.name));
    }
    let id = format!("signer-{key}");
    if is_allowed(&id, common) {
        return Ok(format!("unknown key {key}; accepted by --allow"));
    }
    let products = known.into_iter().flat_map(|known| known.products.unwrap_or_default()).collect();
    let (key, product) = (key.to_string(), product.to_owned());
    Err(CommandError::UnknownSigner { file, key, consent: id, product, products }.into())
}

/// Refuses a release that its publisher has withdrawn, unless the user consented.
///
/// # Errors
/// It is withdrawn.
pub fn check_withdrawal(version: &str, withdrawn: Option<Withdrawal>, common: &Common) -> Result<(), CliError> {
    match withdrawn.filter(|_| !is_allowed(consent::WITHDRAWN_RELEASE, common)) {
        Some(Withdrawal { date, why }) => {
            let (version, consent) = (version.to_owned(), consent::WITHDRAWN_RELEASE.to_owned());
            Err(CommandError::WithdrawnRelease { version, date, why, consent }.into())
        }
        None => Ok(()),
    }
}

/// Refuses a release after its last day, unless the user consented.
///
/// # Errors
/// It is expired.
pub fn check_expiry(release: &Release, common: &Common) -> Result<(), CliError> {
    let expired = release.manifest.expires.as_ref().filter(|day| keyring::today() > **day);
    match expired.filter(|_| !is_allowed(consent::EXPIRED_RELEASE, common)) {
        Some(day) => {
            let consent = consent::EXPIRED_RELEASE.to_owned();
            Err(CommandError::ExpiredRelease { day: day.clone(), consent }.into())
        }
        None => Ok(()),
    }
}

/// Refuses a key that is known as revoked. No consent helps: whoever has the key may have made the release.
///
/// # Errors
/// It is revoked.
pub fn check_revocation(key: &PublicKey) -> Result<(), CliError> {
    match keyring::revocation(key)? {
        Some(statement) => {
            Err(CommandError::RevokedKey { key: key.to_string(), date: statement.date, why: statement.why }.into())
        }
        None => Ok(()),
    }
}

//! Signed statements about keys, which travel with releases: a key is revoked, or replaced by
//! another one.
//!
//! A statement has a signature of its own, so that it can be passed on by releases of other
//! signers. The signed bytes are a short text (see `docs/formats/release.md`).

use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::date::is_date;
use super::signature::{PrivateKey, PublicKey, SIGNATURE_LEN};
use vaka_base::text;

/// The first line of the signed text.
const TITLE: &str = "vaka key statement 1";

/// Content of a statement.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Said {
    /// It must not be trusted any more.
    Revoked,
    /// Its owner signs with this key from now on.
    ReplacedBy(PublicKey),
}

/// A statement whose signature is valid.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Statement {
    /// The key that the statement is about.
    pub about: PublicKey,
    /// Content.
    pub said: Said,
    /// Date, such as `2026-11-23`.
    pub date: String,
    /// The reason, for people.
    pub why: String,
    /// The signer.
    pub signer: PublicKey,
}

/// A statement as it is written. Keys and signature are hex digits.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct WrittenStatement {
    /// The key that the statement is about: 64 digits.
    pub about: String,
    /// The key that replaces it; `None` if it is revoked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub replaced_by: Option<String>,
    /// Date, such as `2026-11-23`.
    pub date: String,
    /// The reason, for people.
    pub why: String,
    /// The signer: 64 digits.
    pub signer: String,
    /// The signature: 128 digits.
    pub signature: String,
}

/// Why a statement is not valid.
#[derive(Clone, Copy, Debug, Error, PartialEq, Eq)]
#[non_exhaustive]
pub enum StatementError {
    /// A key is not an Ed25519 key in hex digits.
    #[error("a key in it is invalid")]
    Key,
    /// The date or the reason is invalid.
    #[error("its date or its reason is invalid")]
    Text,
    /// The signature does not match.
    #[error("its signature does not match")]
    Signature,
    /// Only the owner of a key can name the one that replaces it.
    #[error("a replacement must be signed by the key that is replaced")]
    Signer,
}

impl WrittenStatement {
    /// Signs a statement.
    pub fn sign(about: &PublicKey, said: &Said, date: &str, why: &str, signer: &PrivateKey) -> Self {
        let replaced_by = match said {
            Said::Revoked => None,
            Said::ReplacedBy(key) => Some(key.to_hex()),
        };
        let unsigned = Self {
            about: about.to_hex(),
            replaced_by,
            date: date.to_owned(),
            why: why.to_owned(),
            signer: signer.public().to_hex(),
            signature: String::new(),
        };
        let signature = text::hex(&signer.sign(&unsigned.signed_bytes()));
        Self { signature, ..unsigned }
    }

    /// The bytes that are signed: lines with a word and a value.
    fn signed_bytes(&self) -> Vec<u8> {
        let said = match &self.replaced_by {
            None => format!("revoked {}", self.about),
            Some(key) => format!("replaced {} by {key}", self.about),
        };
        format!("{TITLE}\n{said}\ndate {}\nwhy {}\n", self.date, self.why).into_bytes()
    }

    /// Checks the statement. Whether its signer may make it is up to the caller.
    ///
    /// # Errors
    /// [`StatementError`].
    pub fn verify(&self) -> Result<Statement, StatementError> {
        let key = |digits: &str| PublicKey::from_hex(digits).ok_or(StatementError::Key);
        let (about, signer) = (key(&self.about)?, key(&self.signer)?);
        let said = match &self.replaced_by {
            None => Said::Revoked,
            Some(_) if about != signer => return Err(StatementError::Signer),
            Some(digits) => Said::ReplacedBy(key(digits)?),
        };
        if !is_date(&self.date) || self.why.is_empty() || text::sanitize(&self.why) != self.why {
            return Err(StatementError::Text);
        }
        let signature = text::parse_hex(&self.signature).and_then(|bytes| <[u8; SIGNATURE_LEN]>::try_from(bytes).ok());
        let signature = signature.ok_or(StatementError::Signature)?;
        if !signer.verify(&self.signed_bytes(), &signature) {
            return Err(StatementError::Signature);
        }
        Ok(Statement { about, said, date: self.date.clone(), why: self.why.clone(), signer })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn keys() -> [PrivateKey; 3] {
        [1, 2, 3].map(|byte| PrivateKey::from_random([byte; 32]))
    }

    #[test]
    fn a_statement_is_valid_as_it_was_signed_and_no_other() {
        let [old, new, other] = keys();
        let revoked = WrittenStatement::sign(&old.public(), &Said::Revoked, "2026-11-20", "stolen", &other);
        let statement = revoked.verify().unwrap();
        assert_eq!((statement.about, statement.signer), (old.public(), other.public()));
        let said = Said::ReplacedBy(new.public());
        let replaced = WrittenStatement::sign(&old.public(), &said, "2026-11-20", "a new laptop", &old);
        assert_eq!(replaced.verify().unwrap().said, said);
        for good in [&revoked, &replaced] {
            let changes: [fn(&mut WrittenStatement); 6] = [
                |it| it.about = it.signer.replace(char::is_alphabetic, "0"),
                |it| it.replaced_by = Some(it.about.clone()),
                |it| it.date = "2026-11-21".into(),
                |it| it.why.push('!'),
                |it| it.signature.replace_range(..2, "00"),
                |it| it.signature.clear(),
            ];
            for (number, change) in changes.iter().enumerate() {
                let mut changed = good.clone();
                change(&mut changed);
                assert!(changed.verify().is_err(), "change {number}");
            }
        }
    }

    #[test]
    fn only_the_owner_replaces_a_key() {
        let [old, new, other] = keys();
        let said = Said::ReplacedBy(new.public());
        let stolen = WrittenStatement::sign(&old.public(), &said, "2026-11-20", "mine now", &other);
        assert_eq!(stolen.verify(), Err(StatementError::Signer));
        for (date, why) in [("2026-11-31", "a"), ("2026-11-20", ""), ("2026-11-20", "a\nrevoked b")] {
            let wrong = WrittenStatement::sign(&old.public(), &said, date, why, &old);
            assert_eq!(wrong.verify(), Err(StatementError::Text));
        }
    }
}

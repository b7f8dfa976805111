//! Values that the user supplies at run time, such as an unlock code.

use std::path::PathBuf;

use serde::Deserialize;
use vaka_base::text;

use super::value::Name;

/// Largest secret in bytes. Chosen by us: more than any key or password.
const MOST: usize = 4096;

/// The form in which a secret is given.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum SecretForm {
    /// The bytes of a text.
    #[default]
    Text,
    /// Pairs of hex digits.
    Hex,
}

/// A value that the user supplies.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Secret {
    /// Its name in expressions.
    pub name: Name,
    /// The same as a text.
    pub key: String,
    /// Its description for the user, such as `unlock code on the label`.
    pub question: String,
    /// The form in which it is given.
    pub form: SecretForm,
    /// Number of bytes, if fixed.
    pub size: Option<usize>,
    /// The file that the product sheet names for it.
    pub file: Option<PathBuf>,
}

impl Secret {
    /// The bytes of a given text. Blanks around it do not count.
    ///
    /// # Errors
    /// A sentence that does not contain the text: it is empty, is not in the form, or has another
    /// size.
    pub fn parse(&self, given: &str) -> Result<Vec<u8>, String> {
        let given = given.trim();
        let bytes = match self.form {
            SecretForm::Text => given.as_bytes().to_vec(),
            SecretForm::Hex => {
                let digits: String = given.chars().filter(|c| !c.is_whitespace()).collect();
                text::parse_hex(digits.as_bytes()).ok_or("it must be pairs of hex digits")?
            }
        };
        match self.size {
            _ if bytes.is_empty() => Err("it is empty".to_owned()),
            Some(size) if bytes.len() != size => {
                Err(format!("it must have {}, and has {}", text::count(size, "byte"), bytes.len()))
            }
            _ if bytes.len() > MOST => Err(format!("it has more than {MOST} bytes")),
            _ => Ok(bytes),
        }
    }
}

//! Values that dialects ask the user for: from a file of the command line, from the file that the
//! product sheet names, or typed at the terminal.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use vaka_base::text;
use vaka_boot::secrets::SecretSource;
use vaka_dialect::Secret;
use vaka_usb::DeviceInfo;

use crate::args::{Common, GivenSecret};
use crate::input_file;
use crate::prompt;

/// Largest file with a secret in bytes. Chosen by us: a key as hex digits, with room.
const MOST_FILE: u64 = 64 * 1024;

/// The secrets of one run. A typed value is kept for the unit, so that it is asked for once.
struct RunSecrets {
    files: Vec<GivenSecret>,
    can_ask: bool,
    typed: Mutex<BTreeMap<(String, String), Vec<u8>>>,
}

/// The source of secrets for the options of a command.
pub fn source(common: &Common) -> Arc<dyn SecretSource> {
    let can_ask = prompt::is_answered(common);
    Arc::new(RunSecrets { files: common.secret.clone(), can_ask, typed: Mutex::default() })
}

/// The source of secrets where several units are updated at once, so that no question is asked.
pub fn from_files(common: &Common) -> Arc<dyn SecretSource> {
    Arc::new(RunSecrets { files: common.secret.clone(), can_ask: false, typed: Mutex::default() })
}

impl SecretSource for RunSecrets {
    fn secret(&self, secret: &Secret, unit: Option<&DeviceInfo>) -> Result<Vec<u8>, String> {
        let given = self.files.iter().find(|given| given.name == secret.key).map(|given| &given.file);
        // The sheet's file may be missing, such as in a release: then the user is asked.
        let of_sheet = secret.file.as_ref().filter(|file| file.exists());
        if let Some(file) = given.or(of_sheet) {
            return from_file(secret, file);
        }
        if !self.can_ask {
            return Err("it was not supplied".to_owned());
        }
        let unit = unit.map(|unit| unit.serial.clone().unwrap_or_else(|| unit.location.to_string()));
        let key = (unit.unwrap_or_default(), secret.key.clone());
        let mut typed = self.typed.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = typed.get(&key) {
            return Ok(known.clone());
        }
        let answer = prompt::hidden(&format!("Type the {}, which is not shown:", secret.question));
        let bytes = secret.parse(&answer.ok_or("it was not typed")?)?;
        typed.insert(key, bytes.clone());
        Ok(bytes)
    }
}

fn from_file(secret: &Secret, file: &Path) -> Result<Vec<u8>, String> {
    let name = text::sanitize(&file.display().to_string());
    let bytes = input_file::bytes(file, MOST_FILE).map_err(|error| format!("{name}: {error}"))?;
    let text = String::from_utf8(bytes).map_err(|_| format!("{name}: this is not a text in UTF-8"))?;
    secret.parse(&text).map_err(|reason| format!("{name}: {reason}"))
}

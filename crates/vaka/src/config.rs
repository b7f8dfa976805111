//! The user's settings: `config.toml` in the configuration folder.
//!
//! The format is specified in `docs/formats/config.md`.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use etcetera::BaseStrategy;
use serde::Deserialize;
use vaka_base::document;
use vaka_boot::bench::selector::Selector;

use crate::args::Common;
use crate::cli_error::CliError;
use crate::input_file;
use vaka_messages::CommandError;

/// The configuration file.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Config {
    /// Default buses.
    #[serde(default)]
    bus: Vec<String>,
    /// Default folder of product sheets, relative to the file's folder.
    sheets: Option<PathBuf>,
    /// Names for places on the bench: a port, as `survey` prints it, or `BUS/PORT`.
    #[serde(default)]
    places: BTreeMap<String, String>,
}

/// The configuration folder.
pub fn folder() -> Option<PathBuf> {
    Some(etcetera::choose_base_strategy().ok()?.config_dir().join("vaka"))
}

/// Adds the configuration to the command line, which takes precedence.
///
/// # Errors
/// The file cannot be read or is malformed.
pub fn apply(common: &mut Common) -> Result<(), CliError> {
    let Some(path) = folder().map(|folder| folder.join("config.toml")).filter(|path| path.is_file()) else {
        return Ok(());
    };
    let text = input_file::text(&path)?;
    let config = read(&text).map_err(|reason| CommandError::Config { path: path.clone(), reason })?;
    if common.bus.is_empty() {
        common.bus = config.bus;
    }
    if common.sheets.is_none() {
        let folder = path.parent().unwrap_or(Path::new(""));
        common.sheets = config.sheets.map(|sheets| folder.join(sheets));
    }
    if let Some(unit) = &common.unit {
        common.unit = Some(placed(unit, &config.places));
    }
    common.places = config.places;
    Ok(())
}

/// Reads the file.
pub(crate) fn read(text: &str) -> Result<Config, String> {
    let config: Config = document::read(text).map_err(|errors| document::by_line(text, &errors))?;
    for (name, port) in &config.places {
        let is_name =
            !name.is_empty() && name.chars().all(|c| c.is_alphanumeric() || matches!(c, '-' | '_' | '.' | ' '));
        if !is_name {
            return Err(format!(
                "'{}' is not a valid name: only letters, digits, blanks, '-', '_' and '.' are allowed",
                sanitize(name)
            ));
        }
        if port.is_empty() || port.chars().any(char::is_control) {
            return Err(format!("the place '{name}' has no port"));
        }
        if config.places.iter().any(|(other, of)| other != name && of == port) {
            return Err(format!("the port {port} has two names, '{name}' is one of them"));
        }
    }
    Ok(config)
}

fn sanitize(text: &str) -> String {
    vaka_base::text::sanitize(text)
}

/// Replaces the name of a location in a selector by its port.
fn placed(unit: &Selector, places: &BTreeMap<String, String>) -> Selector {
    match unit {
        Selector::Port(name) | Selector::Any(name) => {
            places.get(name).map_or_else(|| unit.clone(), |port| Selector::Port(port.clone()))
        }
        other => other.clone(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_take_the_place_of_ports() {
        let config = read("[places]\nleft = \"1-1.2\"\n\"rack 3\" = \"usbip://bench:3240/1-4\"\n").unwrap();
        let unit = |text: &str| placed(&text.parse::<Selector>().unwrap(), &config.places);
        assert_eq!(unit("port=left"), Selector::Port("1-1.2".into()));
        assert_eq!(unit("rack 3"), Selector::Port("usbip://bench:3240/1-4".into()));
        assert_eq!(unit("port=1-9"), Selector::Port("1-9".into()));
        assert_eq!(unit("serial=left"), Selector::Serial("left".into()));
    }

    #[test]
    fn what_is_wrong_is_said_with_its_line() {
        for (text, words) in [
            ("bus = [\"usb\"]\nbuss = 1\n", "line 2, key `buss`: is not a known key; did you mean `bus`?"),
            ("places = 3", "line 1"),
            ("[places]\n\"a\\u0007\" = \"1-1\"", "is not a valid name"),
            ("[places]\na = \"\"", "has no port"),
            ("[places]\na = \"1-1\"\nb = \"1-1\"", "two names"),
        ] {
            let error = read(text).unwrap_err();
            assert!(error.contains(words), "{text}: {error}");
        }
    }
}

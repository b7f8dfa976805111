//! The files of the demo.

use std::path::{Path, PathBuf};

/// The demo's folder.
pub fn folder() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo")
}

/// The path of a firmware file.
pub fn firmware(name: &str) -> PathBuf {
    folder().join("firmware/out").join(name)
}

/// The text of a file in the folder of demo sheets.
///
/// # Panics
/// If the file does not exist.
pub fn sheet_text(name: &str) -> String {
    let path = folder().join("sheets").join(name);
    std::fs::read_to_string(&path).unwrap_or_else(|error| panic!("{}: {error}", path.display()))
}

//! Storage of preserved content while its sectors are erased: a file in the state folder, which a
//! later run finds if this one is interrupted.

use std::path::PathBuf;

use vaka_boot::update::PreservedStore;
use vaka_core::event::FailureText;
use vaka_image::{Image, ReadOptions, hex};

use crate::cli_error::CliError;
use crate::private_file;
use crate::state_dir;

/// One HEX file for each unit.
#[derive(Debug)]
pub struct StateFolder;

fn path(unit: &str) -> Option<PathBuf> {
    Some(state_dir::folder()?.join("kept").join(state_dir::file_name(unit, "hex")))
}

impl PreservedStore for StateFolder {
    fn put(&self, unit: &str, image: &Image) -> Result<String, FailureText> {
        let path = path(unit).ok_or_else(|| CliError::internal("this system has no state folder").0)?;
        let folder = path.parent().unwrap_or(&path);
        let stored = private_file::create_folder(folder).and_then(|()| private_file::write(&path, &hex::write(image)));
        stored.map_err(|error| CliError::file(&path, error).0)?;
        Ok(path.display().to_string())
    }

    fn left(&self, unit: &str) -> Option<Image> {
        let bytes = std::fs::read(path(unit)?).ok()?;
        vaka_image::read(&bytes, ReadOptions::default()).ok()
    }

    fn clear(&self, unit: &str) {
        if let Some(path) = path(unit) {
            // A remaining file is found and reported by the next run.
            let _ = std::fs::remove_file(path);
        }
    }
}

//! Folders of images: choosing one by its date.

use std::path::{Path, PathBuf};

use jiff::civil::Date;
use jiff::tz::TimeZone;
use vaka_core::matching::rank_variants;
use vaka_core::sheet::Sheet;
use vaka_image::ReadOptions;

use crate::args::Common;
use crate::backup::date_in;
use crate::cli_error::CliError;
use crate::environment::{self, announce};
use crate::{files, input_file, release_store};
use vaka_messages::CommandError;

/// The endings of image files that a folder is searched for.
const ENDINGS: [&str; 14] =
    ["bin", "hex", "ihx", "ihex", "srec", "s19", "s28", "s37", "mot", "uf2", "dfu", "elf", "axf", "out"];

/// The given paths. A folder without releases is replaced by its newest image of an earlier day than `before` that fits
/// the variant, or any variant of the sheets.
///
/// # Errors
/// There is no such image, or two of the same time.
pub fn selected(given: &[PathBuf], before: Option<Date>, common: &Common) -> Result<Vec<PathBuf>, CliError> {
    let [folder] = given else { return Ok(given.to_vec()) };
    let Some(before) = before.filter(|_| folder.is_dir() && !release_store::has_releases(folder)) else {
        return Ok(given.to_vec());
    };
    let sheets = environment::sheets(common)?;
    let mut images: Vec<(jiff::Timestamp, PathBuf)> =
        input_file::in_folder(folder, &is_image)?.into_iter().filter_map(|path| Some((date(&path)?, path))).collect();
    images.retain(|(time, _)| time.to_zoned(TimeZone::system()).date() < before);
    images.sort();
    let mut left_out = Vec::new();
    while let Some((time, path)) = images.pop() {
        if let Err(reason) = fits(&path, &sheets, common) {
            left_out.push(format!("{} ({reason})", name(&path)));
            continue;
        }
        if let Some((_, other)) =
            images.last().filter(|(other, path)| *other == time && fits(path, &sheets, common).is_ok())
        {
            let paths = [name(&path), name(other)];
            return Err(CommandError::SameDate { paths }.into());
        }
        let day = time.to_zoned(TimeZone::system()).strftime("%-d %B %Y, %H:%M:%S").to_string();
        let rest = if left_out.is_empty() { String::new() } else { format!("; not used: {}", left_out.join(", ")) };
        announce(common, format!("{} of {day} is the newest before {before}{rest}.", path.display()));
        return Ok(vec![path]);
    }
    Err(CommandError::NoImageBefore { path: folder.clone(), day: before.to_string(), left_out }.into())
}

fn is_image(path: &Path) -> bool {
    let ending = path.extension().and_then(|ending| ending.to_str()).map(str::to_ascii_lowercase);
    ending.is_some_and(|ending| ENDINGS.contains(&ending.as_str()))
}

/// The time in the name of a file, or else that of its last change.
fn date(path: &Path) -> Option<jiff::Timestamp> {
    let changed = || path.metadata().ok()?.modified().ok()?.try_into().ok();
    date_in(&name(path)).or_else(changed)
}

fn name(path: &Path) -> String {
    path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default()
}

/// Whether the image in a file can be for the variant that the user named, or else for any.
fn fits(path: &Path, sheets: &[Sheet], common: &Common) -> Result<(), String> {
    let named =
        |sheet: &Sheet| common.variant.as_deref().and_then(|label| sheet.variant_by_label(label)).map(|v| v.id.clone());
    let mut reason = None;
    for sheet in sheets {
        let wanted = named(sheet);
        // A raw binary begins where the sheet says.
        let at = sheet.variants.iter().find_map(|variant| variant.image.binary_at);
        let image = match files::read(path, ReadOptions { at, ..ReadOptions::default() }) {
            Ok(image) => image,
            Err(error) => return Err(error.0.message.trim_end_matches('.').to_owned()),
        };
        for choice in rank_variants(sheet, &image) {
            if wanted.as_ref().is_some_and(|wanted| *wanted != choice.variant) {
                continue;
            }
            match choice.against {
                None => return Ok(()),
                Some(against) => reason = reason.or(Some(against)),
            }
        }
    }
    if sheets.is_empty() { Ok(()) } else { Err(reason.unwrap_or_else(|| "for none of the products".to_owned())) }
}

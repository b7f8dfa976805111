//! `vaka convert IN… OUT`

use vaka_core::event::ExitCode;
use vaka_image::Image;

use super::{print_line, print_result};
use crate::args::{Convert, OutputFormat};
use crate::cli_error::CliError;
use crate::cli_error::Outcome;
use crate::files;
use vaka_messages::CommandError;

pub fn run(args: &Convert, format: OutputFormat) -> Outcome {
    let mut images = Vec::new();
    for path in &args.files {
        images.push(files::read(path, args.choose.options())?);
    }
    let several = args.files.len() > 1;
    let edited = |what: &str, error: vaka_image::edit::EditError| CommandError::NotConverted {
        what: what.to_owned(),
        reason: error.to_string(),
    };
    let names = || args.files.iter().map(|path| path.display().to_string()).collect::<Vec<_>>().join(", ");
    let mut image = match images.len() {
        1 => images.remove(0),
        _ => Image::join(&images)
            .map_err(|error| edited(&names(), error))?
            .ok_or_else(|| CliError::internal("no image was read"))?,
    };
    if let Some(range) = args.range {
        image = image.cut(range).map_err(|error| edited(&names(), error))?;
    }
    if let Some(start) = args.move_to {
        image = image.moved(start).map_err(|error| edited(&names(), error))?;
    }
    let written = files::write(&image, &args.out, &args.output)?;
    let inputs = if several { format!("{} files, ", args.files.len()) } else { String::new() };
    print_result(format, &written, || print_line(&format!("{inputs}{written}")));
    Ok(ExitCode::Done)
}

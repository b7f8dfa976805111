//! `vaka stamp IN OUT`

use serde_json::json;
use vaka_core::event::ExitCode;
use vaka_image::stamp::{self, StampFields, StampSearch};

use super::{print_line, print_result};
use crate::args::{OutputFormat, Stamp};
use crate::cli_error::Outcome;
use crate::files;
use vaka_messages::CommandError;

pub fn run(args: &Stamp, format: OutputFormat) -> Outcome {
    let image = files::read(&args.file, args.choose.options())?;
    let text = StampFields {
        product: args.product.clone(),
        part: args.part.clone(),
        variants: args.variants.clone(),
        version: args.version.clone(),
        build: args.build.clone(),
        built: args.built.clone(),
        facts: args.fact.clone(),
    };
    let path = || args.file.clone();
    let failed = |error: stamp::StampError| CommandError::Stamp { path: path(), reason: error.to_string() };
    let (stamped, done) = match stamp::find(&image, None) {
        StampSearch::None if text == StampFields::default() => {
            return Err(CommandError::NoStampText { path: path() }.into());
        }
        StampSearch::None => (stamp::append(&image, &text).map_err(failed)?, "appended and sealed"),
        StampSearch::One(found) if text != StampFields::default() && text != found.text => {
            return Err(CommandError::OtherStamp { path: path(), at: found.at }.into());
        }
        _ => (stamp::seal(&image).map_err(failed)?, "sealed"),
    };
    let written = files::write(&stamped, &args.out, &args.output)?;
    if let StampSearch::One(found) = stamp::find(&stamped, None) {
        let event = json!({ "event": "stamped", "at": found.at, "start": found.start, "stamp": found.text });
        print_result(format, &event, || print_line(&format!("Stamp at {} {done}.", found.at)));
    }
    print_result(format, &written, || print_line(&written.to_string()));
    Ok(ExitCode::Done)
}

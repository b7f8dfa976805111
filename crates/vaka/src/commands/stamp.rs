//! `vaka stamp IN OUT`

use vaka_core::event::ExitCode;
use vaka_image::stamp::{self, Found, Text};

use super::say;
use crate::args::Stamp;
use crate::cli_error::Outcome;
use crate::files;
use vaka_messages::CommandError;

pub fn run(args: &Stamp) -> Outcome {
    let image = files::read(&args.file, args.choose.options())?;
    let text = Text {
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
        Found::None if text == Text::default() => {
            return Err(CommandError::NoStampText { path: path() }.into());
        }
        Found::None => (stamp::append(&image, &text).map_err(failed)?, "appended and sealed"),
        Found::One(found) if text != Text::default() && text != found.text => {
            return Err(CommandError::OtherStamp { path: path(), at: found.at }.into());
        }
        _ => (stamp::seal(&image).map_err(failed)?, "sealed"),
    };
    let written = files::write(&stamped, &args.out, &args.output)?;
    if let Found::One(found) = stamp::find(&stamped, None) {
        say(&format!("Stamp at {} {done}.", found.at));
    }
    say(&written);
    Ok(ExitCode::Done)
}

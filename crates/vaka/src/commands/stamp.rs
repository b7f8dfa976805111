//! `vaka stamp IN OUT`

use vaka_core::event::{ExitCode, FailureText};
use vaka_image::stamp::{self, Found, Text};

use super::say;
use crate::args::Stamp;
use crate::cli_error::Outcome;
use crate::cli_error::Problem;
use crate::files;

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
    let name = args.file.display();
    let failed = |error: stamp::StampError| {
        Problem(FailureText::new(ExitCode::File, format!("{name}: {error}.")).state("Nothing was written."))
    };
    let (stamped, done) = match stamp::find(&image, None) {
        Found::None if text == Text::default() => {
            let failure = FailureText::new(
                ExitCode::Refused,
                format!("{name}: it holds no stamp, and nothing says what one should say."),
            );
            return Err(failure.cure("Give --product, --for, --version and so on to append one.").into());
        }
        Found::None => (stamp::append(&image, &text).map_err(failed)?, "appended and sealed"),
        Found::One(found) if text != Text::default() && text != found.text => {
            let failure = FailureText::new(
                ExitCode::Refused,
                format!("{name}: it holds a stamp, at {}, that says something else.", found.at),
            );
            return Err(failure
                .cure("Give no texts to seal the stamp that is there, or change it where the firmware is built.")
                .into());
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

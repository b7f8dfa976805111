//! `vaka check FILE --unit …`: the verdict for one unit.

use vaka_boot::bench::discovery::{self, UnitQuery};
use vaka_boot::bench::open_error::open_failure;
use vaka_boot::context::Context;
use vaka_boot::update::{ReleaseImage, reported_version, variant_by_label};
use vaka_boot::warning::Warning;
use vaka_core::event::{Event, ExitCode};
use vaka_core::matching::{Claim, MatchInput, Outcome as Fit, Verdict, filter_by_board_info, judge};
use vaka_core::sheet::{Sheet, Variant};
use vaka_image::Image;
use vaka_usb::SystemClock;

use crate::args::{Common, OutputFormat};
use crate::cli_error::Outcome;
use crate::environment;
use crate::output_options::OutputOptions;
use crate::render::{self, json};
use crate::{prompt, signals};

/// The subject of a check with a unit.
pub enum CheckSubject<'a> {
    /// The image of a file.
    File(&'a Image),
    /// The images of a release, one for each variant.
    Release(&'a [ReleaseImage]),
}

impl CheckSubject<'_> {
    /// The image for the possible variants, with the statements of its release.
    fn image(&self, open: &[&Variant]) -> Option<(&Image, Option<&Claim>)> {
        match self {
            Self::File(image) => Some((image, None)),
            Self::Release(all) => {
                let of = |variant: &&Variant| all.iter().find(|offered| offered.variant == variant.id.as_str());
                open.iter().find_map(of).map(|offered| (&offered.image, Some(&offered.claim)))
            }
        }
    }
}

/// The verdict for a unit. Reads descriptors only; changes nothing.
pub fn with_unit(looked: &CheckSubject<'_>, sheets: &[Sheet], common: &Common, setting: &OutputOptions) -> Outcome {
    let bench = environment::bench(common, sheets)?;
    let mut renderer = render::renderer(setting);
    let mut tell = |event| renderer.event(vaka_messages::event(event));
    let mut cx = Context::new(&SystemClock, &mut tell, signals::flag());
    let found = discovery::find(
        &bench,
        &UnitQuery::any(&bench, common.unit.as_ref(), false),
        common.wait,
        &mut *prompt::at(common),
        &mut cx,
    )?;
    let place = bench.place(found.location());
    if !bench.can_probe(&found) {
        cx.warn(Warning::Program(vaka_messages::reset_on_close()));
    }
    let opened = bench.look(&found.device, &mut cx).map_err(|error| open_failure(&error, &place))?;
    let facts = opened.identity.facts.clone();
    drop(opened);
    let label = common.variant.as_deref().map(|label| variant_by_label(&found, label)).transpose()?;
    let mut worst = ExitCode::Refused;
    for sheet in found.sheets.iter().filter(|sheet| label.is_none_or(|(of, _)| std::ptr::eq(of, **sheet))) {
        let label = label.map(|(_, variant)| variant);
        let running = reported_version(&found, sheet, &facts, label);
        let open =
            label.map_or_else(|| filter_by_board_info(&facts, found.variants_of(sheet)), |variant| vec![variant]);
        let Some((image, claim)) = looked.image(&open) else { continue };
        let case = MatchInput {
            sheet,
            unit: Some(&facts),
            image,
            label,
            running: running.as_ref(),
            erase_all: false,
            keep: &[],
            consents: &common.allow,
            claim,
            table: None,
        };
        let verdict: Verdict = judge(&case);
        if verdict.outcome == Fit::Fits {
            worst = ExitCode::Done;
        }
        match setting.format {
            OutputFormat::Json => json::line::<Event>(&Event::Verdict { unit: Some(place.clone()), verdict }),
            OutputFormat::Text => render::verdict::in_full(&verdict),
        }
    }
    Ok(worst)
}

//! What is done to a unit apart from an ordinary update, such as giving it a new
//! bootloader.

use std::collections::BTreeMap;

use super::{Application, ImageRules, Route, Sheet, VariantId};
use crate::unit::UnitFacts;
use vaka_base::version::Version;

/// One stage, with ways and images of its own.
#[derive(Clone, Debug)]
pub struct Stage {
    /// Its short name, for releases.
    pub id: String,
    /// Its full name.
    pub name: String,
    /// Whether it may write the bootloader.
    pub replaces_bootloader: bool,
    /// What the unit shows once it is done.
    pub shows: Application,
    /// An application of this version or newer runs only on units that are past it.
    pub implied_by: Option<Version>,
    /// The ways of each variant.
    pub routes: BTreeMap<VariantId, Vec<Route>>,
    /// What the images of each variant look like; at least one, each in a region of
    /// its own.
    pub images: BTreeMap<VariantId, Vec<ImageRules>>,
}

impl Stage {
    /// Whether a unit is past this stage: it shows what comes after, and what it tells
    /// is not older than what the stage would write; or its application runs only on
    /// such units. `application` is where that tells its version.
    pub fn is_past(&self, unit: &UnitFacts, writes: Option<&Version>, application: &Application) -> bool {
        if self.shows.is(unit.id) {
            let told = self.shows.version.of(unit);
            return writes.is_none_or(|writes| told.is_some_and(|told| told >= *writes));
        }
        let runs = application.version.of(unit).filter(|_| application.is(unit.id));
        self.implied_by.as_ref().zip(runs).is_some_and(|(implied, runs)| runs >= *implied)
    }
}

impl Sheet {
    /// The stage with this name.
    pub fn stage(&self, id: &str) -> Option<&Stage> {
        self.stages.iter().find(|stage| stage.id == id)
    }

    /// The sheet as it is for a stage: its ways and its images in place of the ordinary
    /// ones. A variant that the stage is not for has neither, and is not in it.
    pub fn for_stage(&self, stage: &Stage) -> Self {
        let mut sheet = self.clone();
        sheet.comes_back = Some(stage.shows.clone());
        sheet.variants.retain_mut(|variant| {
            let images = stage.images.get(&variant.id).map_or(&[][..], Vec::as_slice);
            let (Some(routes), Some((first, rest))) = (stage.routes.get(&variant.id), images.split_first()) else {
                return false;
            };
            variant.routes.clone_from(routes);
            variant.image = first.clone();
            variant.further = rest.to_vec();
            true
        });
        sheet
    }
}

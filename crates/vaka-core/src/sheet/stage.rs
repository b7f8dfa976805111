//! Stages apart from an ordinary update, such as installing a new bootloader.

use crate::sheet::model::{Sheet, Stage};

impl Sheet {
    /// The stage with this name.
    pub fn stage(&self, id: &str) -> Option<&Stage> {
        self.stages.iter().find(|stage| stage.id == id)
    }

    /// The sheet for a stage: with the stage's routes and images. Variants that are not part of
    /// the stage are left out.
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

//! The stages of a sheet, and the rules for their images.

use std::collections::BTreeMap;

use super::parse::{Checked, Checker};
use super::raw::{RawStage, RawVariant};
use super::raw_value::Spanned;
use super::{ImageRules, Region, Stage, Variant};
use vaka_base::text;
use vaka_base::version::Version;

/// The name by which a stage means the variant's own image.
const OWN: &str = "application";

impl Checker<'_> {
    pub(super) fn stages(
        &self,
        raw: &[RawStage],
        raw_variants: &[RawVariant],
        variants: &[Variant],
    ) -> Checked<Vec<Stage>> {
        let named = raw_variants.iter().zip(variants).map(|(raw, variant)| self.stage_images(raw, variant));
        let named = named.collect::<Checked<Vec<_>>>()?;
        let mut stages: Vec<Stage> = Vec::new();
        for stage in raw {
            let id = self.id("id", &stage.id)?;
            if stages.iter().any(|other| other.id == id) {
                return Err(self.error(&stage.id.span(), "id", format!("another stage has the id '{id}'")));
            }
            let mut images = BTreeMap::new();
            for (variant, named) in variants.iter().zip(&named) {
                let found = self.images_of(stage, variant, named)?;
                if !found.is_empty() {
                    images.insert(variant.id.clone(), found);
                }
            }
            if images.is_empty() {
                let message = "no variant has these images; describe them as [[variant.stage_image]]".into();
                return Err(self.error(&stage.images.span(), "images", message));
            }
            stages.push(Stage {
                id,
                name: self.words("name", &stage.name)?,
                replaces_bootloader: stage.replaces_bootloader.unwrap_or(false),
                shows: self.stage_shows(&stage.shows)?,
                implied_by: stage
                    .implied_by
                    .as_ref()
                    .map(|v| self.words("implied_by", v))
                    .transpose()?
                    .map(|v| Version::parse(&v)),
                routes: BTreeMap::new(),
                images,
            });
        }
        Ok(stages)
    }

    fn stage_images(&self, raw: &RawVariant, variant: &Variant) -> Checked<BTreeMap<String, ImageRules>> {
        let own = ImageRules { is_required: true, ..variant.image.clone() };
        let mut images = BTreeMap::from([(OWN.to_owned(), own)]);
        for image in &raw.stage_image {
            let Some(name) = &image.name else {
                return Err(self.error(&image.region.span(), "region", "`name` is required".into()));
            };
            let known = self.id("name", name)?;
            if let Some(required) = &image.required {
                let message =
                    "a stage installs all its images: only [variant.image] and [[variant.further_image]] have it";
                return Err(self.error(&required.span(), "required", message.into()));
            }
            let rules = ImageRules { is_required: true, ..self.image(image, &variant.regions)? };
            if images.insert(known.clone(), rules).is_some() {
                return Err(self.error(&name.span(), "name", format!("another image has the name '{known}'")));
            }
        }
        Ok(images)
    }

    /// The further images of an ordinary update. Each has a region of its own.
    pub(super) fn further_images(
        &self,
        raw: &RawVariant,
        own: &ImageRules,
        regions: &[Region],
    ) -> Checked<Vec<ImageRules>> {
        let mut images: Vec<ImageRules> = Vec::new();
        for image in &raw.further_image {
            if let Some(name) = &image.name {
                return Err(self.error(&name.span(), "name", "is a key of [[variant.stage_image]]".into()));
            }
            let rules = self.image(image, regions)?;
            if rules.is_opaque {
                let message = "only [variant.image] can be opaque".into();
                return Err(self.error(&image.region.span(), "opaque", message));
            }
            if [own].into_iter().chain(&images).any(|other| other.region.name == rules.region.name) {
                let message = format!("another image of the variant uses the region '{}'", rules.region.name);
                return Err(self.error(&image.region.span(), "region", message));
            }
            images.push(rules);
        }
        if own.is_opaque && !images.is_empty() {
            let message = "an opaque image is the only one of its update".into();
            return Err(self.error(&raw.id.span(), "opaque", message));
        }
        Ok(images)
    }

    /// The images of a stage for one variant: all of them, or none if the stage is not
    /// for it.
    fn images_of(
        &self,
        stage: &RawStage,
        variant: &Variant,
        named: &BTreeMap<String, ImageRules>,
    ) -> Checked<Vec<ImageRules>> {
        let mut images: Vec<ImageRules> = Vec::new();
        let mut missing: Option<&Spanned<String>> = None;
        for name in stage.images.get_ref() {
            let Some(image) = named.get(name.get_ref()) else {
                missing = Some(name);
                continue;
            };
            if let Some(other) = images.iter().find(|other| other.region.span.common(image.region.span).is_some()) {
                let message = format!("two images of the stage use the region '{}'", other.region.name);
                return Err(self.error(&name.span(), "images", message));
            }
            images.push(image.clone());
        }
        let is_meant =
            stage.images.get_ref().iter().any(|name| name.get_ref() != OWN && named.contains_key(name.get_ref()));
        match missing {
            Some(name) if is_meant => {
                let message = format!(
                    "variant '{}' has no [[variant.stage_image]] '{}'",
                    variant.id,
                    text::sanitize(name.get_ref())
                );
                Err(self.error(&name.span(), "images", message))
            }
            Some(_) => Ok(Vec::new()),
            None => Ok(images),
        }
    }

    /// Every stage can be reached.
    pub(super) fn stages_have_routes(&self, raw: &[RawStage], stages: &[Stage]) -> Checked<()> {
        for (raw, stage) in raw.iter().zip(stages) {
            if let Some(variant) = stage.images.keys().find(|variant| !stage.routes.contains_key(variant)) {
                let message = format!("no [[route]] with stage = \"{}\" is for variant '{variant}'", stage.id);
                return Err(self.error(&raw.id.span(), "id", message));
            }
        }
        Ok(())
    }
}

//! Rules about versions, facts, losses, and the statements of a release.

use super::claim::Claim;
use super::consent;
use super::evidence::{Evidence, Source, Subject, Weight};
use super::rules::{Observation, file_observation, piece, pieces, unit_observation};
use crate::sheet::{BOOTLOADER, Fact, HAND_OVER, Region, Sheet, Variant};
use vaka_base::size::Bytes;
use vaka_base::version::Version;
use vaka_image::Image;
use vaka_image::address::Span;
use vaka_image::stamp::{self, StampSearch};

/// The version in the image: at the offset that the sheet gives, or in the UF2 tags.
pub fn image_version(variant: &Variant, image: &Image) -> Option<Version> {
    if let Some(opaque) = &image.facts().opaque {
        return opaque.version.clone();
    }
    let placed = || {
        let image = piece(variant, &variant.image, image)?;
        variant.image.version.as_ref()?.read(&image)
    };
    let tagged = || image.facts().tags.as_ref()?.version.as_deref().map(Version::parse);
    placed().or_else(tagged)
}

/// The address of the application's version in flash, if the sheet gives it.
pub fn version_place(variant: &Variant) -> Option<Span> {
    let region = variant.image.region.span;
    variant.image.version.as_ref()?.span(region.start())?.common(region)
}

/// The version in a unit's flash at [`version_place`].
pub fn version_in_flash(variant: &Variant, bytes: &[u8]) -> Option<Version> {
    variant.image.version.as_ref()?.parse(bytes)
}

/// Evidence against replacing the version `before`: it is newer than the image, or older than the release updates. It
/// requires the consent `older-version` or `skipped-version`. An image without a version has that of the release.
pub fn replaced_version(variant: &Variant, image: &Image, claim: Option<&Claim>, before: &Version) -> Option<Evidence> {
    let skipped = || claim.and_then(|claim| skipped(variant, claim, Some(before))).filter(Evidence::is_conflict);
    if let (None, Some(claim)) = (image_version(variant, image), claim) {
        let claimed = Version::parse(&claim.version);
        let seen = file_observation(variant, Source::Manifest, claimed.as_str());
        return (claimed < *before).then(|| older(seen, before)).or_else(skipped);
    }
    version(variant, image, Some(before)).filter(Evidence::is_conflict).or_else(skipped)
}

/// Compares the unit's version with the oldest that the release updates.
pub(super) fn skipped(variant: &Variant, claim: &Claim, running: Option<&Version>) -> Option<Evidence> {
    let oldest = Version::parse(claim.updates_from.as_ref()?);
    let seen = file_observation(variant, Source::Manifest, format!("updates from {oldest} on"));
    Some(match running {
        None => seen.weighs(Weight::Neutral, "the unit's version is not known"),
        Some(old) if *old < oldest => {
            let means = format!("the unit has {old}: first install a release between them");
            seen.weighs(Weight::unless_allowed(consent::SKIPPED_VERSION), means)
        }
        Some(old) => seen.weighs(Weight::Neutral, format!("the unit has {old}")),
    })
}

/// Evidence of an older version.
fn older(seen: Observation<'_>, before: &Version) -> Evidence {
    seen.weighs(Weight::unless_allowed(consent::OLDER_VERSION), format!("older than the unit's {before}"))
}

/// Compares the file's version with the one that the application reported.
pub(super) fn version(variant: &Variant, image: &Image, running: Option<&Version>) -> Option<Evidence> {
    let Some(new) = image_version(variant, image) else {
        let named = image.facts().named_version.as_ref()?;
        let seen = file_observation(variant, Source::Version, format!("{named} by its name"));
        let unit = running
            .map_or("the unit's version is not known".to_owned(), |running| format!("the unit's version is {running}"));
        return Some(seen.weighs(Weight::Neutral, format!("a file name proves nothing; {unit}")));
    };
    let seen = file_observation(variant, Source::Version, new.as_str());
    if let Some((minimum_version, why)) =
        variant.image.minimum_version.as_ref().filter(|(minimum_version, _)| new < *minimum_version)
    {
        let why = why.as_ref().map(|why| format!(": {why}")).unwrap_or_default();
        return Some(seen.conflicts(format!("below {minimum_version}, the minimum version of {}{why}", variant.id)));
    }
    Some(match running {
        None => seen.weighs(Weight::Neutral, "the unit's version is not known"),
        Some(old) if new < *old => older(seen, old),
        Some(old) if new == *old => {
            seen.weighs(Weight::Neutral, format!("the unit has {old} too; its content may differ"))
        }
        Some(old) => seen.weighs(Weight::Neutral, format!("newer than the unit's {old}")),
    })
}

/// Requires consent: no product sheet describes this device.
pub(super) fn undescribed(sheet: &Sheet, variant: &Variant) -> Option<Evidence> {
    if sheet.is_described {
        return None;
    }
    let seen = unit_observation(variant, Source::Sheet, "none");
    let means = "no product sheet describes it: only the unit's own report shows where firmware goes, and nothing shows whether this file fits";
    Some(seen.weighs(Weight::unless_allowed(consent::NO_SHEET), means))
}

/// The losses if everything is erased first. The bootloader is never erased.
pub(super) fn losses(sheet: &Sheet, variant: &Variant, image: &Image, keep: &[String]) -> Vec<Evidence> {
    let covered = |span: Span| -> u64 { image.parts_in(span).map(|(part, _)| part.len()).sum() };
    let lost = |span: Span| span.len() - covered(span);
    let loss = |name: &str, span: Span| {
        let seen = unit_observation(variant, Source::Loss, format!("{name}, {}", Bytes(lost(span))));
        let means = "erased with everything else, and not restored by this file";
        seen.weighs(Weight::unless_allowed(format!("lose-{name}")), means)
    };
    if !sheet.is_described {
        let all = variant.regions.iter().map(|region| lost(region.span)).sum();
        let seen = unit_observation(variant, Source::Loss, format!("everything, {} outside the image", Bytes(all)));
        let means = "erased with everything else: settings, and a bootloader if there is one";
        return vec![seen.weighs(Weight::unless_allowed(consent::LOSE_EVERYTHING), means)];
    }
    let goes = |region: &&Region| region.name != BOOTLOADER && !keep.contains(&region.name);
    let is_written = |region: &&Region| pieces(variant, image).any(|(rules, _)| rules.region.name == region.name);
    let others = variant.regions.iter().filter(goes).filter(|region| !is_written(region));
    let mut losses: Vec<Evidence> =
        others.filter(|region| lost(region.span) > 0).map(|region| loss(&region.name, region.span)).collect();
    let unnamed: u64 = variant.flash.zones().iter().map(|zone| zone.span().len()).sum::<u64>()
        - variant.regions.iter().map(|region| region.span.len()).sum::<u64>();
    if unnamed > 0 {
        let seen = unit_observation(variant, Source::Loss, format!("flash in no region, {}", Bytes(unnamed)));
        let means = "erased with everything else; the product sheet does not describe it";
        losses.push(seen.weighs(Weight::unless_allowed(consent::LOSE_UNNAMED), means));
    }
    losses
}

/// The facts in the image's stamp and those of the release.
pub(super) fn facts(variant: &Variant, image: &Image, claim: Option<&Claim>) -> Vec<Evidence> {
    let mut evidence = Vec::new();
    for (rules, image) in pieces(variant, image) {
        if let StampSearch::One(stamp) = stamp::find(&image, rules.stamp_offset) {
            let stamped = stamp.text.facts.iter();
            let facts = stamped.map(|(name, value)| Fact { name: name.clone(), value: value.clone() });
            evidence.extend(facts.map(|said| fact(variant, &said, "the stamp's")));
        }
    }
    let claimed = claim.into_iter().flat_map(|claim| &claim.facts);
    evidence.extend(claimed.map(|said| fact(variant, said, "the release's")));
    evidence
}

/// Compares one fact with the sheet.
fn fact(variant: &Variant, said: &Fact, whose: &str) -> Evidence {
    let seen = file_observation(variant, Source::Fact, format!("{} {}", said.name, said.value));
    match variant.facts.iter().find(|known| known.name == said.name) {
        Some(known) if known.agrees(&said.value) => seen.agrees(format!("{}'s, according to {whose}", variant.id)),
        Some(known) => seen.conflicts(format!("{}'s {} is {}", variant.id, known.name, known.value)),
        // A loader's hand-over is compared with the image that it hands over to.
        None if said.name == HAND_OVER => seen.weighs(Weight::Neutral, "the address at which it starts the next stage"),
        None => seen.weighs(Weight::Neutral, format!("according to {whose}; the product sheet does not have it")),
    }
}

/// Compares the statements of the release with the variant.
pub(super) fn claim(sheet: &Sheet, variant: &Variant, claim: &Claim) -> Evidence {
    let build = claim.build.as_ref().map(|build| format!(", build {build}")).unwrap_or_default();
    let seen = file_observation(variant, Source::Manifest, format!("{} {}{build}", claim.product, claim.version));
    if claim.product != sheet.product.id {
        return seen.conflicts(format!("the product in the sheet is {}", sheet.product.id));
    }
    match claim.variants.iter().any(|id| id == variant.id.as_str()) {
        true => seen.agrees(format!("for {}", claim.variants.join(", "))),
        false => seen.conflicts(format!("for {}; not for {}", claim.variants.join(", "), variant.id)),
    }
}

/// The losses that the release announces. Each requires its own consent.
pub(super) fn told_losses(claim: &Claim) -> Vec<Evidence> {
    let loss = |(id, what): &(String, String)| Evidence {
        about: Subject::File,
        source: Source::Loss,
        says: what.clone(),
        means: "lost according to the release".to_owned(),
        weight: Weight::unless_allowed(format!("lose-{id}")),
        variant: None,
    };
    claim.losses.iter().map(loss).collect()
}

/// A variant without a route: the instruction that the sheet gives instead.
pub(super) fn no_route(variant: &Variant) -> Option<Evidence> {
    let instead = variant.instead.as_ref()?;
    Some(unit_observation(variant, Source::Protocol, "no way over USB").conflicts(instead.clone()))
}

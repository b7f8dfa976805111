//! The units on the bench for which a catalogue may list releases.

use std::collections::BTreeSet;

use vaka_base::version::Version;
use vaka_boot::bench::selector::Selector;
use vaka_boot::bench::unit_event;
use vaka_core::release::catalogue::ListedRelease;
use vaka_core::sheet::{Ids, Sheet};

use super::opened::CheckedCatalogue;
use crate::args::Common;
use crate::cli_error::CliError;
use crate::environment;

/// A unit of one of the products.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AttachedProduct {
    /// Its location.
    pub place: String,
    /// The product's id.
    pub product: String,
    /// The variants that it may be; none if no sheet describes it here.
    pub variants: Vec<String>,
    /// The version of its application, if it is known.
    pub version: Option<Version>,
}

impl AttachedProduct {
    /// Whether a release has an image for it.
    pub fn is_for(&self, listed: &ListedRelease) -> bool {
        let has = |variant: &String| listed.variants.contains(variant);
        self.product == listed.product && (self.variants.is_empty() || self.variants.iter().any(has))
    }
}

/// The attached units of the products in the catalogue. A unit is recognised by a product sheet, or else by the ids in
/// the catalogue.
///
/// # Errors
/// A bus cannot be read.
pub fn attached(
    opened: &CheckedCatalogue,
    sheets: &[Sheet],
    common: &Common,
) -> Result<Vec<AttachedProduct>, CliError> {
    let bench = environment::bench(common, sheets)?;
    let devices = bench.select(common.unit.as_ref().filter(|unit| !is_product(opened, unit)), true);
    let devices = devices.map_err(|error| vaka_boot::bench::open_error::bus_failure(&error))?;
    let mut found: Vec<AttachedProduct> = Vec::new();
    for device in devices.into_iter().map(|unit| unit.device) {
        let seen = unit_event::seen(&bench, &device);
        let mut add = |product: &str, variants: Vec<String>| {
            let one = AttachedProduct {
                place: seen.unit.clone(),
                product: product.to_owned(),
                variants,
                version: seen.version.clone(),
            };
            if !found.contains(&one) {
                found.push(one);
            }
        };
        match bench.recognise(&device).filter(|candidate| !candidate.sheets.is_empty()) {
            Some(candidate) => {
                for sheet in &candidate.sheets {
                    let variants = candidate.variants_of(sheet).into_iter().map(|variant| variant.id.to_string());
                    add(&sheet.product.id, variants.collect());
                }
            }
            None => {
                let has_id = |listed: &&ListedRelease| {
                    let mut ids = listed.ids.iter().filter_map(|ids| ids.parse::<Ids>().ok());
                    ids.any(|ids| ids.is(seen.id))
                };
                opened.releases().filter(has_id).for_each(|listed| add(&listed.product, Vec::new()));
            }
        }
    }
    Ok(found)
}

/// Whether a selector names a product of the catalogue and not a unit.
fn is_product(opened: &CheckedCatalogue, selector: &Selector) -> bool {
    named_product(opened, selector).is_some()
}

fn named_product<'a>(opened: &'a CheckedCatalogue, selector: &Selector) -> Option<&'a str> {
    let (Selector::Name(name) | Selector::Any(name)) = selector else { return None };
    opened.releases().map(|listed| listed.product.as_str()).find(|product| product.eq_ignore_ascii_case(name))
}

/// The product that the user wants, if the catalogue has several: the one that `--unit name=…` names, else the only one
/// of which a unit is attached.
///
/// # Errors
/// As of [`attached`].
pub fn wanted_product(
    opened: &CheckedCatalogue,
    sheets: &[Sheet],
    common: &Common,
) -> Result<Option<String>, CliError> {
    if let Some(product) = common.unit.as_ref().and_then(|unit| named_product(opened, unit)) {
        return Ok(Some(product.to_owned()));
    }
    let all: BTreeSet<&str> = opened.releases().map(|listed| listed.product.as_str()).collect();
    if all.len() < 2 {
        return Ok(None);
    }
    let attached: BTreeSet<String> = attached(opened, sheets, common)?.into_iter().map(|unit| unit.product).collect();
    Ok(if attached.len() == 1 { attached.into_iter().next() } else { None })
}

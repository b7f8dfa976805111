//! One unit as its sheet states it: flash, modes, firmware, manual steps.

use std::ops::Range;
use std::sync::Arc;

use vaka_base::version::{ReleaseNumber, Version};
use vaka_core::sheet::{
    BOOTLOADER, DescriptorPattern, EntryStep, ImageRules, ManualStep, Route, Sheet, Signal, Stage, Variant,
    VersionSource,
};
use vaka_dialect::{Carrier, Dialect};
use vaka_image::Image;
use vaka_image::address::Span;
use vaka_sim::flash::{Flash, FlashZone};
use vaka_sim::unit::firmware::filler_bytes;

use crate::dialect::{Engine, Role};
use crate::firmware::{self, Content};
use crate::procedures::{NamedStep, Procedures};

/// Largest flash from the first byte to the last. Chosen by us: more than a microcontroller has.
const MAX_FLASH: u64 = 64 << 20;

/// A part of a sheet that the simulation leaves out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unsupported {
    /// The part.
    pub part: String,
    /// Why it is left out, or what the unit does instead.
    pub reason: String,
}

/// Why a sheet makes no unit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum DesignError {
    /// The sheet has no such variant.
    NoVariant(String),
    /// The flash spans too many bytes.
    Flash(u64),
    /// The flash ends above the addresses of a simulated unit.
    TooHigh,
    /// The variant has no route.
    NoRoute,
    /// The application has no USB ids and is not a node of a CAN bus.
    NoApplication,
}

/// One route of a unit.
#[derive(Clone, Debug)]
pub(crate) struct DesignRoute {
    pub(crate) route: Route,
    /// Index of the variant, of several with a part each.
    pub(crate) part: usize,
    /// Index of the stage, if the route is not one of ordinary updates.
    pub(crate) stage: Option<usize>,
}

/// A unit as its sheet states it.
#[derive(Clone, Debug)]
pub struct Design {
    pub(crate) sheet: Arc<Sheet>,
    /// The variant, or one of each part.
    pub(crate) parts: Vec<Variant>,
    pub(crate) routes: Vec<DesignRoute>,
    /// The routes through a programmer.
    programmers: Vec<DesignRoute>,
    /// The parts of the sheet that the simulation leaves out.
    pub left_out: Vec<Unsupported>,
}

impl Design {
    /// A unit of a variant; of other parts it has the first variant.
    ///
    /// # Errors
    /// [`DesignError`].
    pub fn new(sheet: Arc<Sheet>, variant: &str) -> Result<Self, DesignError> {
        let own = sheet.variant(variant).ok_or_else(|| DesignError::NoVariant(variant.to_owned()))?;
        let (mut parts, mut left_out) = (vec![own.clone()], Vec::new());
        for other in &sheet.variants {
            let Some(part) = other.part.clone().filter(|_| !parts.iter().any(|known| known.part == other.part)) else {
                continue;
            };
            if parts.iter().any(|known| overlap(known, other)) {
                let reason = "its flash has addresses of another part, and a simulated unit has one flash".to_owned();
                left_out.push(Unsupported { part: format!("part {part}"), reason });
            } else {
                parts.push(other.clone());
            }
        }
        let mut design = Self { sheet, parts, routes: Vec::new(), programmers: Vec::new(), left_out };
        design.check_flash()?;
        design.collect_routes();
        design.check_variants();
        if design.routes.is_empty() && design.programmers.is_empty() {
            return Err(DesignError::NoRoute);
        }
        let is_node =
            design.application_dialect().is_some_and(|(dialect, _)| matches!(dialect.carrier, Carrier::Can(_)));
        if design.application_ids().is_none() && !is_node {
            return Err(DesignError::NoApplication);
        }
        Ok(design)
    }

    /// Firmware that satisfies the rules of a variant, with a lower version than any release.
    pub fn factory_image(variant: &Variant) -> Option<Image> {
        firmware::factory(variant, &variant.image, "factory")
    }

    /// The name of the variant.
    pub fn name(&self) -> &str {
        &self.parts[0].name
    }

    /// Whether it is a node of a CAN bus in some mode.
    pub fn is_node(&self) -> bool {
        let is_can = |dialect: &Dialect| matches!(dialect.carrier, Carrier::Can(_));
        let mut routes = self.routes.iter().filter_map(|route| route.route.kind.dialect());
        routes.any(|route| is_can(&route.dialect)) || self.application_dialect().is_some_and(|(own, _)| is_can(&own))
    }

    /// The USB ids of an adapter that the product names, if its units are nodes.
    pub fn adapter_ids(&self) -> Option<(u16, u16)> {
        let ids = self.sheet.product.adapters.first()?.example()?;
        Some((ids.vendor, ids.product))
    }

    /// The ways into update mode that begin with the user: ids and kind of each route, and the names of its
    /// steps, first those of the entry, then those of the recovery if there are some.
    pub fn entry_ways(&self) -> Vec<(String, Vec<String>, Vec<String>)> {
        let known = self.steps();
        let names = |steps: Vec<&ManualStep>| {
            let named = |step: &ManualStep| {
                let by_action = known.iter().find(|named| named.step.action == step.action).map(|named| &named.name);
                step.id.as_ref().or(by_action).cloned()
            };
            steps.into_iter().filter_map(named).collect::<Vec<String>>()
        };
        let way = |own: &DesignRoute| {
            let (entry, recovery) = (names(own.route.manual_steps()), names(own.route.recovery.iter().collect()));
            let stage = own.stage.map(|stage| format!(", for stage {}", self.sheet.stages[stage].name));
            let mode = format!("{} by {}{}", own.route.id, own.route.kind, stage.unwrap_or_default());
            (!entry.is_empty() || !recovery.is_empty()).then_some((mode, entry, recovery))
        };
        let mut ways: Vec<_> = self.routes.iter().filter_map(way).collect();
        ways.dedup();
        ways
    }

    /// Its manual steps, each name once.
    pub fn steps(&self) -> Vec<NamedStep> {
        self.procedures().steps().into_iter().cloned().collect()
    }

    pub(crate) fn procedures(&self) -> Procedures {
        Procedures::new(self.routes.iter().map(|route| &route.route))
    }

    fn check_flash(&self) -> Result<(), DesignError> {
        let spans = self.parts.iter().flat_map(|part| part.flash.zones()).map(|zone| zone.span());
        let (start, end) =
            spans.fold((u64::MAX, 0), |(start, end), span| (start.min(span.start().get()), end.max(span.end().get())));
        match end.saturating_sub(start) {
            _ if end > u64::from(u32::MAX) => Err(DesignError::TooHigh),
            len if len > MAX_FLASH => Err(DesignError::Flash(len)),
            _ => Ok(()),
        }
    }

    fn collect_routes(&mut self) {
        for (part, variant) in self.parts.iter().enumerate() {
            let own = variant.routes.iter().map(|route| (None, route));
            let stages = self.sheet.stages.iter().enumerate();
            let of_stages = stages.flat_map(|(index, stage)| {
                let routes = stage.routes.get(&variant.id);
                routes.into_iter().flatten().map(move |route| (Some(index), route))
            });
            for (stage, route) in own.chain(of_stages) {
                let list = if route.kind.programmer().is_some() { &mut self.programmers } else { &mut self.routes };
                list.push(DesignRoute { route: route.clone(), part, stage });
            }
        }
    }

    fn check_variants(&mut self) {
        let open = |route: usize| {
            let dialect = self.routes[route].route.kind.dialect()?;
            let engine = Engine::new(&dialect.dialect, self.role(route), &dialect.tells, (1, 1));
            Some((dialect.dialect.name.clone(), engine.open_names()))
        };
        let opens: Vec<(String, Vec<String>)> = (0..self.routes.len()).filter_map(open).collect();
        let confirm = self.sheet.application.confirm.as_ref();
        let spoken = self.application_dialect().map(|(dialect, _)| dialect.name.clone());
        let is_left_out = confirm.is_some_and(|confirm| Some(&confirm.name) != spoken.as_ref());
        let mut add = |part: String, reason: &str| {
            let new = Unsupported { part, reason: reason.to_owned() };
            if !self.left_out.contains(&new) {
                self.left_out.push(new);
            }
        };
        for (dialect, name) in
            opens.into_iter().flat_map(|(dialect, names)| names.into_iter().map(move |name| (dialect.clone(), name)))
        {
            add(
                format!("{name} of dialect {dialect}"),
                &format!(
                    "the unit reports 0, because the sheet does not state it; add {name} to `values` in [simulate] of the dialect"
                ),
            );
        }
        if is_left_out {
            add(
                "confirmation of the application".to_owned(),
                "an application is simulated with one dialect, that of its entry",
            );
        }
        for variant in &self.parts {
            if variant.slots.is_some() {
                add(format!("slots of {}", variant.id), "the unit always runs its first slot");
            }
            if variant.table.is_some() {
                add(format!("table of {}", variant.id), "the unit's table is erased");
            }
            let rules = &variant.image;
            let source = self.sheet.version_source(variant);
            if *source != VersionSource::Nowhere && rules.version.is_none() && rules.stamp_offset.is_none() {
                add(
                    format!("version of {}", variant.id),
                    "the sheet does not state where an image has its version, so only a stamp tells it to the unit",
                );
            }
        }
    }

    /// Erased flash.
    pub(crate) fn blank_flash(&self) -> Flash {
        let zones = self.parts.iter().flat_map(|part| part.flash.zones());
        let number = |address: u64| u32::try_from(address).unwrap_or(u32::MAX);
        let zone = |zone: &vaka_core::memory::Zone| FlashZone {
            start: number(zone.span().start().get()),
            count: zone.count(),
            sector_size: zone.sector_size(),
        };
        let mut zones: Vec<FlashZone> = zones.map(zone).collect();
        zones.sort_by_key(|zone| zone.start);
        zones.dedup();
        Flash::with_zones(zones)
    }

    /// Flash as from the factory, with the unit's own number in it.
    pub(crate) fn factory_flash(&self, serial: &str, given: Option<&Image>) -> Flash {
        let mut flash = self.blank_flash();
        for region in self.bootloader_spans() {
            flash.put(region.start, &filler_bytes(serial, region.len()));
        }
        for variant in &self.parts {
            for rules in variant.images().filter(|rules| rules.is_required) {
                if let Some(image) = firmware::factory(variant, rules, serial) {
                    put(&mut flash, &image);
                }
            }
        }
        if let Some(image) = given {
            put(&mut flash, image);
        }
        flash
    }

    /// The ranges of the unit's own bootloaders.
    pub(crate) fn bootloader_spans(&self) -> Vec<Range<u32>> {
        let regions = self.parts.iter().flat_map(|part| &part.regions);
        regions.filter(|region| region.name == BOOTLOADER).filter_map(|region| range(region.span)).collect()
    }

    /// The firmware of a part.
    pub(crate) fn firmware(&self, part: usize, flash: &Flash) -> Content {
        let variant = &self.parts[part];
        let others = self.others(variant).map(|other| &other.image);
        let main = firmware::inspect(flash, variant, &variant.image, others);
        let further = variant.further.iter().filter(|rules| rules.is_required);
        let is_whole = |rules: &ImageRules| {
            matches!(firmware::inspect(flash, variant, rules, std::iter::empty()), Content::Sound(_))
        };
        match main {
            Content::Sound(_) if !further.into_iter().all(is_whole) => Content::Damaged,
            main => main,
        }
    }

    fn others<'d>(&'d self, variant: &'d Variant) -> impl Iterator<Item = &'d Variant> {
        self.sheet.variants.iter().filter(|other| other.id != variant.id)
    }

    /// The installed stage, of those that replace a bootloader: its images are in flash.
    pub(crate) fn installed_stage(&self, flash: &Flash) -> Option<&Stage> {
        let variant = &self.parts[0];
        let others = |stage: &'_ Stage| {
            let others = self.others(variant).filter_map(|other| stage.images.get(&other.id)?.first());
            others.cloned().collect::<Vec<_>>()
        };
        let is_installed = |stage: &&Stage| {
            let Some(images) = stage.images.get(&variant.id) else { return false };
            let mut required = images.iter().filter(|rules| rules.is_required);
            let others = others(stage);
            required.all(|rules| matches!(firmware::inspect(flash, variant, rules, others.iter()), Content::Sound(_)))
        };
        self.sheet.stages.iter().filter(|stage| stage.replaces_bootloader).find(is_installed)
    }

    /// The version of what a stage has installed, if that is sound.
    pub(crate) fn stage_version(&self, stage: &Stage, flash: &Flash) -> Option<Version> {
        let variant = &self.parts[0];
        let rules = stage.images.get(&variant.id)?.first()?;
        match firmware::inspect(flash, variant, rules, std::iter::empty()) {
            Content::Sound(version) => version,
            _ => None,
        }
    }

    /// The version of a part's firmware, if it is sound.
    pub(crate) fn version(&self, part: usize, flash: &Flash) -> Option<Version> {
        match self.firmware(part, flash) {
            Content::Sound(version) => version,
            _ => None,
        }
    }

    /// The ids while the application runs.
    pub(crate) fn application_ids(&self) -> Option<(u16, u16)> {
        let variant = &self.parts[0];
        let own = variant.shows.id.as_ref().or(self.sheet.application.id.as_ref());
        own?.example().map(|id| (id.vendor, id.product))
    }

    /// Required descriptors of the application.
    pub(crate) fn application_signs(&self) -> DescriptorPattern {
        self.sheet.application.signs.with(&self.parts[0].shows.signs)
    }

    /// The route over a disk that the application itself shows.
    pub(crate) fn route_in_application(&self) -> Option<usize> {
        let ids = self.parts[0].shows.id.as_ref().or(self.sheet.application.id.as_ref())?;
        let is_own = |route: &DesignRoute| route.route.id.overlap(ids) && route.route.kind.volume().is_some();
        self.routes.iter().position(is_own)
    }

    /// The routes that the application enters on a signal of a kind.
    pub(crate) fn signalled(&self, is_kind: impl Fn(&Signal) -> bool) -> Vec<usize> {
        let has = |route: &DesignRoute| {
            route.route.entry.iter().any(|step| matches!(step, EntryStep::Signal(signal) if is_kind(signal)))
        };
        (0..self.routes.len()).filter(|index| has(&self.routes[*index])).collect()
    }

    /// The dialect of the running application: that of an entry, with its route, or the one in which it
    /// confirms that it works. An application speaks one.
    pub(crate) fn application_dialect(&self) -> Option<(Arc<Dialect>, Option<usize>)> {
        let entered = self.signalled(|signal| matches!(signal, Signal::Dialect { .. }));
        let of = |route: usize| {
            self.routes[route].route.entry.iter().find_map(|step| match step {
                EntryStep::Signal(Signal::Dialect { dialect }) => Some((dialect.clone(), Some(route))),
                _ => None,
            })
        };
        let confirm = || self.sheet.application.confirm.clone().map(|dialect| (dialect, None));
        entered.into_iter().find_map(of).or_else(confirm)
    }

    /// The first route through a programmer, and what the programmer may write.
    pub(crate) fn programmer_route(&self) -> Option<(&Route, Role)> {
        let first = self.programmers.first()?;
        let name = &first.route.kind.programmer()?.name;
        let same = |own: &&DesignRoute| own.route.kind.programmer().is_some_and(|other| other.name == *name);
        let writes = self.programmers.iter().filter(same).flat_map(|own| &own.route.writes);
        let writable = writes.filter_map(|region| range(region.span)).collect();
        let origin = self.parts[first.part].flash.extent().and_then(|span| span.start().to_u32()).unwrap_or(0);
        Some((&first.route, Role::Update { writable, origin }))
    }

    /// Whether a unit without its own bootloader can get one: through the chip's own boot mode, or through a
    /// programmer.
    pub(crate) fn can_get_bootloader(&self) -> bool {
        !self.programmers.is_empty() || self.routes.iter().any(|route| route.stage.is_some())
    }

    /// The role of a unit in the dialect of a route.
    pub(crate) fn role(&self, route: usize) -> Role {
        let own = &self.routes[route];
        let first = self.written_region(route);
        let others = own.route.writes.iter().filter_map(|region| range(region.span)).filter(|range| *range != first);
        let writable = [first.clone()].into_iter().chain(others).collect();
        let origin = self.parts[own.part].flash.extent().and_then(|span| span.start().to_u32()).unwrap_or(0);
        Role::Update { writable, origin }
    }

    /// The region that a route writes first: that of the image, if it is one of them.
    pub(crate) fn written_region(&self, route: usize) -> Range<u32> {
        let DesignRoute { route, part, .. } = &self.routes[route];
        let image = &self.parts[*part].image.region;
        let region = route.writes.iter().find(|region| region.name == image.name).or(route.writes.first());
        region.and_then(|region| range(region.span)).unwrap_or(0..0)
    }
}

/// Whether the flash of two variants has addresses in common.
fn overlap(one: &Variant, other: &Variant) -> bool {
    let spans = |variant: &Variant| variant.flash.zones().iter().map(|zone| zone.span()).collect::<Vec<_>>();
    spans(one).iter().any(|own| spans(other).iter().any(|theirs| own.common(*theirs).is_some()))
}

/// Puts the bytes of an image into flash.
fn put(flash: &mut Flash, image: &Image) {
    for part in image.segments() {
        if let Some(at) = part.start().to_u32() {
            flash.put(at, part.data());
        }
    }
}

/// Addresses as the flash counts them.
pub(crate) fn range(span: Span) -> Option<Range<u32>> {
    let end = u32::try_from(span.end().get()).ok()?;
    Some(span.start().to_u32()?..end)
}

/// A version as a release number; 0 if it is not one.
pub(crate) fn release(version: Option<&Version>) -> u16 {
    version.and_then(|version| version.as_str().parse::<ReleaseNumber>().ok()).map_or(0, |release| release.0)
}

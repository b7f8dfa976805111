//! A unit in update mode that is open for reading.

use std::any::Any;
use std::time::Duration;

use vaka_core::event::{ExitCode, RestartState};
use vaka_core::memory::SectorMap;
use vaka_core::sheet::{ExitMethod, Region, Route, RouteKind, Sheet, Variant};
use vaka_core::unit::Mode;
use vaka_image::address::Span;
use vaka_usb::DeviceInfo;

use super::reading::{MemoryChunks, failed, read_spans};
use crate::bench::buses::Bench;
use crate::bench::candidate::dfu_mode;
use crate::bench::returning;
use crate::bench::tracking::TrackedUnit;
use crate::context::Context;
use crate::failure::{Activity, Failure, FailureKind};
use crate::protocol::session::{Protection, Session};
use crate::remedy::Remedy;
use crate::update::confirm::{self, ExpectedApplication};
use crate::update::request_restart;
use crate::warning::Warning;

/// A unit that was opened in update mode.
pub struct ReadSession<'a> {
    pub(super) bench: &'a Bench<'a>,
    pub(super) session: Box<dyn Session>,
    pub(super) unit: DeviceInfo,
    pub(super) place: String,
    pub(super) serial: Option<String>,
    pub(super) sheet: Option<&'a Sheet>,
    pub(super) variant: Option<&'a Variant>,
    pub(super) route: Option<&'a Route>,
    pub(super) sectors: Option<SectorMap>,
    /// The readable ranges in the regions of the route, if known.
    pub(super) whole: Vec<Span>,
    pub(super) can_read: bool,
    /// Whether the application was running before.
    pub(super) entered: bool,
    /// The lock against other processes.
    pub(super) _guard: Box<dyn Any + Send>,
}

/// Time for a unit without a sheet to return after its restart. Chosen by us, equal to the
/// default of a sheet.
const UNKNOWN_BACK: Duration = Duration::from_secs(10);

impl<'a> ReadSession<'a> {
    /// The product, if a sheet describes it.
    pub fn sheet(&self) -> Option<&'a Sheet> {
        self.sheet
    }

    /// The serial number, if reported.
    pub fn serial(&self) -> Option<&str> {
        self.serial.as_deref()
    }

    /// The variant, once it is settled.
    pub fn variant(&self) -> Option<&'a Variant> {
        self.variant
    }

    /// The location of the unit.
    pub fn place(&self) -> &str {
        &self.place
    }

    /// The sectors, as the unit reports them, or else as in the sheet.
    pub fn sectors(&self) -> Option<&SectorMap> {
        self.sectors.as_ref()
    }

    /// A region of its variant.
    ///
    /// # Errors
    /// The product sheet has no region with this name.
    pub fn region(&self, name: &str) -> Result<&'a Region, Failure> {
        let regions = self.variant.map_or(&[][..], |variant| &variant.regions);
        regions.iter().find(|region| region.name == name).ok_or_else(|| {
            let known = regions.iter().map(|region| region.name.clone()).collect();
            Failure::new(FailureKind::NoSuchRegion { name: name.to_owned() }).remedy(Remedy::KnownRegions(known))
        })
    }

    /// The default ranges: the regions of the route, or all memory that an undescribed unit
    /// reports.
    pub fn whole(&self) -> Vec<Span> {
        if !self.whole.is_empty() {
            return self.whole.clone();
        }
        match (self.route, &self.sectors) {
            (Some(route), _) => route.writes.iter().map(|region| region.span).collect(),
            (None, Some(map)) => {
                map.zones().iter().filter(|zone| zone.access().read).map(vaka_core::memory::Zone::span).collect()
            }
            (None, None) => Vec::new(),
        }
    }

    pub(super) fn check_readable(&mut self, cx: &mut Context<'_>) -> Result<(), Failure> {
        let refused = |kind, remedy| Err(Failure::new(kind).unchanged().remedy(remedy));
        let place = self.place.clone();
        if !(self.can_read && self.session.limits().can_read) {
            return refused(FailureKind::NotReadable { place }, Remedy::CannotBeRead);
        }
        let Some(first) = self.whole().first().map(|span| span.start()) else { return Ok(()) };
        let readable_ranges =
            self.session.readable_ranges(first, cx).map_err(|error| failed(&error, &self.place, Activity::Probing))?;
        if let Some(readable_ranges) = readable_ranges {
            let regions = self.whole();
            self.whole =
                readable_ranges.iter().flat_map(|part| regions.iter().filter_map(|r| r.common(*part))).collect();
            if self.whole.is_empty() {
                return refused(FailureKind::NoApplication { place }, Remedy::NothingToRead);
            }
        }
        match self.session.protection(first, cx).map_err(|error| failed(&error, &self.place, Activity::Probing))? {
            Protection::Unprotected | Protection::Unknown => Ok(()),
            Protection::Protected(reason) => refused(FailureKind::ReadProtected { reason }, Remedy::WouldBeErased),
            Protection::Unreadable(reason) => refused(FailureKind::ReadRefused { reason }, Remedy::CannotBeReadThough),
        }
    }

    /// Reads addresses, with progress. A unit with a stream is read from its beginning.
    ///
    /// # Errors
    /// Reading fails, or is interrupted by the user. Nothing was changed.
    pub fn read(&mut self, spans: &[Span], cx: &mut Context<'_>) -> Result<MemoryChunks, Failure> {
        let secret = self.variant.iter().flat_map(|variant| &variant.regions).filter(|region| !region.may_read);
        let mut wanted_secret = secret.filter(|region| spans.iter().any(|span| span.common(region.span).is_some()));
        if let Some(region) = wanted_secret.next() {
            let kind = FailureKind::RegionNotReadable { region: region.name.clone(), span: region.span };
            return Err(Failure::new(kind).unchanged().remedy(Remedy::ReadElsewhere));
        }
        let streamed = matches!(self.route.map(|route| &route.kind), Some(RouteKind::PlainDfu { .. }));
        let wanted = if streamed { self.range_from_start(spans)? } else { spans.to_vec() };
        let parts = read_spans(&mut *self.session, &wanted, &self.place, cx);
        self.session.rest(cx);
        parts.map_err(|error| error.failure)
    }

    /// The range from the start of the unit's stream to the last requested byte.
    fn range_from_start(&self, spans: &[Span]) -> Result<Vec<Span>, Failure> {
        let start = self.whole().first().map(|span| span.start());
        let end = spans.iter().map(|span| span.end()).max();
        let whole = self.whole().first().copied();
        let stretch = start.zip(end).and_then(|(start, end)| Span::between(start, end));
        let inside = stretch.filter(|stretch| whole.is_some_and(|whole| whole.covers(*stretch)));
        let failure = || Failure::new(FailureKind::StreamOnly).unchanged().remedy(Remedy::ReadWholeRegion);
        inside.map(|span| vec![span]).ok_or_else(failure)
    }

    /// Releases the unit in update mode.
    pub fn stay(mut self, cx: &mut Context<'_>) {
        self.session.rest(cx);
    }

    /// Releases the unit: back to its application if that was running before, else in update
    /// mode.
    pub fn leave(mut self, cx: &mut Context<'_>) {
        let held = self.route.is_some_and(|route| route.kind.programmer().is_some());
        let left = if self.entered {
            self.restart(cx).map(drop)
        } else if held {
            // A programmer holds its chip in reset only for the work. The chip may be blank, so
            // that no application is awaited.
            self.session.rest(cx);
            request_restart(&mut *self.session, None, false, cx).map(drop).map_err(Failure::unchanged)
        } else {
            self.session.rest(cx);
            Ok(())
        };
        if let Err(failure) = left {
            let Failure { kind, remedies, .. } = failure;
            cx.warn(Warning::NotReturnedToApplication { failure: kind, remedies });
        }
    }

    /// Leaves update mode without writing, and waits for the application. Returns a description
    /// of it; `None` if no sheet describes the application.
    ///
    /// # Errors
    /// The unit did not leave, or its application did not return.
    pub fn restart(self, cx: &mut Context<'_>) -> Result<String, Failure> {
        let Self { mut session, route, sheet, variant, bench, unit, sectors, .. } = self;
        let leaves =
            route.and_then(|route| route.kind.volume()).is_none_or(|volume| volume.leave != ExitMethod::Nothing);
        // Without an address a unit starts wherever the last transfer left its pointer: a unit
        // that no sheet describes is started at the beginning of its memory.
        let start = || sectors.as_ref()?.zones().first().map(|zone| zone.span().start());
        let at = route.map_or_else(start, |route| route.restart_at);
        let before = bench.devices().ok();
        request_restart(&mut *session, at, false, cx).map_err(Failure::unchanged)?;
        drop(session);
        let Some((sheet, route)) = sheet.zip(route) else { return describe_reappeared(bench, &unit, cx) };
        let expected = ExpectedApplication { leaves, ..ExpectedApplication::of(sheet, variant, route) };
        let seen = match route.kind.programmer() {
            Some(_) => confirm::confirm_anywhere(bench, &expected, before.as_deref(), cx),
            None => confirm::confirm(bench, &expected, &unit, cx),
        };
        if seen.after == RestartState::NotBack {
            let failure = Failure::new(FailureKind::NotBack { observed: seen.words, status: None });
            return Err(failure.unchanged().remedy(Remedy::SetSwitchesBack));
        }
        Ok(seen.words)
    }
}

/// Describes a unit without a sheet that returned: its ids are needed for a first sheet.
fn describe_reappeared(bench: &Bench<'_>, unit: &DeviceInfo, cx: &mut Context<'_>) -> Result<String, Failure> {
    let followed = TrackedUnit { unit, serial: None };
    let place = bench.place(&unit.location);
    match returning::come_back(bench, followed, false, UNKNOWN_BACK, cx) {
        Err(failure) if failure.code != ExitCode::NoUnit => Err(failure),
        Err(_) => Ok(format!(
            "it left update mode, and no device has appeared at {place}; without a product sheet the expected device is not known"
        )),
        Ok(device) if dfu_mode(&device) == Some(Mode::Update) => {
            let failure = Failure::new(FailureKind::BackInUpdateMode { place });
            Err(failure.unchanged().remedy(Remedy::MaybeNoApplication))
        }
        Ok(device) => {
            let facts = bench.facts(&device);
            let name = facts.product.map(|name| format!(" \"{name}\"")).unwrap_or_default();
            Ok(format!(
                "{}{name} appeared at {place}; without a product sheet it is not known whether that is its application",
                facts.id
            ))
        }
    }
}

//! Downgrade check for a unit that could not report its version.

use vaka_base::version::Version;
use vaka_core::matching::{replaced_version, version_in_flash, version_place};
use vaka_core::sheet::RouteKind;
use vaka_image::address::Address;

use super::drafted::UpdateTask;
use super::stop::Stop;
use super::update_run::UpdateRun;
use crate::event::Event;
use crate::failure::{Failure, FailureKind, VersionOrigin};
use crate::protocol::session::Session;
use crate::remedy::Remedy;

impl UpdateRun<'_, '_> {
    /// Requires the consent `older-version` or `skipped-version` based on the version in flash, or else in the
    /// journal, if the unit did not report its version.
    pub(super) fn check_downgrade(&mut self, task: &UpdateTask<'_>, session: &mut dyn Session) -> Result<(), Stop> {
        let settled = &task.resolved;
        let is_first = !std::mem::replace(&mut self.progress.attempts.version_checked, true);
        if !is_first || self.progress.report.version_before.is_some() || settled.sheet.comes_back.is_some() {
            return Ok(());
        }
        let found = self.version_in_flash(task, session)?;
        let origin = if found.is_some() { VersionOrigin::Flash } else { VersionOrigin::Journal };
        let found = found.or_else(|| {
            let serials = self.progress.serials();
            let serials: Vec<&str> = serials.iter().map(String::as_str).collect();
            self.request.history.and_then(|history| {
                history.newest_version(&settled.sheet.product.name, settled.variant.part.as_deref(), &serials)
            })
        });
        let Some(before) = found else { return Ok(()) };
        let claim = self.request.offered.first().map(|offered| &offered.claim);
        let against = replaced_version(settled.variant, &settled.image, claim, &before);
        self.progress.report.version_before = Some(before);
        let needed = against.as_ref().and_then(|against| against.weight.consent()).map(str::to_owned);
        let Some(needed) = needed.filter(|id| !self.has_consent(id)) else { return Ok(()) };
        let Some(against) = against else { return Ok(()) };
        self.cx.tell(Event::Evidence { unit: self.progress.report.unit.clone(), evidence: against.clone() });
        let failure = Failure::new(FailureKind::Older { against: Box::new(against), origin });
        Err(failure.remedy(Remedy::Consent(vec![needed])).into())
    }

    /// The version in the unit's flash, if the sheet gives its address and the unit can be read
    /// there.
    fn version_in_flash(&mut self, task: &UpdateTask<'_>, session: &mut dyn Session) -> Result<Option<Version>, Stop> {
        let settled = &task.resolved;
        let Some(place) = version_place(settled.variant).filter(|_| session.limits().can_read) else { return Ok(None) };
        if matches!(&settled.route.kind, RouteKind::PlainDfu { uploads_image: false, .. }) {
            return Ok(None);
        }
        // The other slot runs, and this one holds any earlier version.
        if settled.sheet.variant(settled.variant.id.as_str()).is_some_and(|variant| variant.slots.is_some()) {
            return Ok(None);
        }
        let rules = &settled.variant.image;
        let start = rules.region.span.start();
        let marks = rules.marks.iter().filter_map(|mark| start.checked_add(mark.offset + mark.bytes.len() as u64));
        let end = marks.fold(place.end(), Address::max);
        let mut bytes = Vec::new();
        let mut at = start;
        while at < end {
            let left = end.offset_from(at).unwrap_or(0);
            let len = u32::try_from(left).unwrap_or(u32::MAX).min(session.limits().read_size);
            match session.read(at, len, self.cx) {
                Ok(read) => bytes.extend(read),
                Err(error) if error.loss().is_some() => return Err(self.not_opened(&error, &task.unit)),
                // The unit does not expose this address.
                Err(_) => {
                    session.rest(self.cx);
                    return Ok(None);
                }
            }
            at = at.checked_add(u64::from(len)).unwrap_or(end);
        }
        // The next read of a stream starts at its beginning; other units need nothing.
        if matches!(&settled.route.kind, RouteKind::PlainDfu { .. }) {
            session.rest(self.cx);
        }
        let part = |offset: u64, len: u64| {
            let from = usize::try_from(offset).ok()?;
            bytes.get(from..from.checked_add(usize::try_from(len).ok()?)?)
        };
        // Without its marks the application is not complete, and its version is not valid.
        if !rules.marks.iter().all(|mark| part(mark.offset, mark.bytes.len() as u64) == Some(&mark.bytes[..])) {
            return Ok(None);
        }
        let offset = place.start().offset_from(start).unwrap_or(0);
        Ok(part(offset, place.len()).and_then(|bytes| version_in_flash(settled.variant, bytes)))
    }
}

//! Backup and preservation of present content before anything is erased.

use vaka_base::size::Bytes;
use vaka_core::event::{StepName, StepState};
use vaka_core::plan::ApprovedPlan;
use vaka_image::ERASED;
use vaka_image::Image;
use vaka_image::address::{Address, Span};

use super::drafted::UpdateTask;
use super::errors::internal;
use super::request::SaveFn;
use super::resolved::Resolved;
use super::stop::{StepError, Stop};
use super::update_run::UpdateRun;
use crate::failure::{Failure, FailureKind, SaveObstacle};
use crate::protocol::session::Session;
use crate::read_session::{self, MemoryChunks};
use crate::remedy::Remedy;
use crate::warning::Warning;

impl UpdateRun<'_, '_> {
    /// Saves the content of the route's regions, once in a run.
    pub(super) fn save(&mut self, task: &UpdateTask<'_>, session: &mut dyn Session) -> Result<(), Stop> {
        let wanted = self.request.save.filter(|_| self.progress.content.backup_name.is_none());
        let Some(SaveFn(save)) = wanted else { return Ok(()) };
        let spans = self.spans_to_save(&task.resolved, session)?;
        let parts = match spans.is_empty() {
            true => Vec::new(),
            false => self.read(&spans, session).map_err(|error| error.of_unit(&task.unit))?,
        };
        let image = Image::from_memory(&parts).and_then(|image| image.trim_trailing_blank(16));
        let Some(image) = image else {
            self.cx.warn(Warning::NothingToSave { is_blank: !spans.is_empty() });
            self.progress.content.backup_name = Some(String::new());
            return Ok(());
        };
        let name = save(&image, &self.progress.report).map_err(Failure::from)?;
        self.progress.report.backup = Some(name.clone());
        self.emit_step(StepName::Read, StepState::Done, format!("saved: {name}"));
        self.progress.content.backup_name = Some(name);
        Ok(())
    }

    /// The readable addresses of the route's regions: a unit may expose only its application.
    fn spans_to_save(&mut self, resolved: &Resolved<'_>, session: &mut dyn Session) -> Result<Vec<Span>, Failure> {
        let refused = |obstacle| Failure::new(FailureKind::CannotSave(obstacle)).unchanged().remedy(Remedy::DoNotSave);
        if !session.limits().can_read {
            return Err(refused(SaveObstacle::Unreadable));
        }
        let shown =
            session.readable_ranges(resolved.image.start(), self.cx).map_err(|_| refused(SaveObstacle::ReadFailed))?;
        let regions = resolved.route.writes.iter().map(|region| region.span);
        Ok(match shown {
            None => regions.collect(),
            Some(shown) => regions.flat_map(|region| common(region, &shown)).collect(),
        })
    }

    /// Reads the preserved parts of the sectors to be erased; returns the image with them. `None`
    /// if nothing is preserved.
    pub(super) fn preserve(
        &mut self,
        task: &UpdateTask<'_>,
        plan: &ApprovedPlan,
        session: &mut dyn Session,
    ) -> Result<Option<Image>, Stop> {
        let spans = plan.plan().kept();
        if spans.is_empty() {
            return Ok(None);
        }
        let unit = self.progress.unit_name();
        let pending =
            || self.request.shelf.and_then(|shelf| shelf.left(&unit)).filter(|pending| holds_all(pending, spans));
        let preserved = match self.progress.content.preserved.take().or_else(pending) {
            Some(preserved) => {
                self.cx.warn(Warning::PreservedEarlier);
                preserved
            }
            None => {
                let parts = self.read(spans, session).map_err(|error| error.of_unit(&task.unit))?;
                let image =
                    Image::from_memory(&parts).ok_or_else(|| internal("the preserved content is not an image"))?;
                self.store_preserved(&unit, &image)?;
                image
            }
        };
        let image = merged(&task.resolved.image, spans, &preserved)?;
        self.progress.content.preserved = Some(preserved);
        Ok(Some(image))
    }

    /// Stores the preserved content so that it survives this process.
    fn store_preserved(&mut self, unit: &str, image: &Image) -> Result<(), Failure> {
        let Some(shelf) = self.request.shelf else { return Ok(()) };
        let name = shelf.put(unit, image)?;
        let bytes = Bytes(image.len());
        self.emit_step(StepName::Read, StepState::Done, format!("{bytes} preserved; backup in {name}"));
        Ok(())
    }

    fn read(&mut self, spans: &[Span], session: &mut dyn Session) -> Result<MemoryChunks, StepError> {
        let parts = read_session::read_spans(session, spans, self.progress.place(), self.cx);
        session.rest(self.cx);
        parts
    }

    /// Discards the stored content: it is in the unit again.
    pub(super) fn discard_preserved(&mut self) {
        if let (Some(_), Some(shelf)) = (self.progress.content.preserved.take(), self.request.shelf) {
            shelf.clear(&self.progress.unit_name());
        }
    }
}

fn common(region: Span, shown: &[Span]) -> Vec<Span> {
    shown.iter().filter_map(|part| part.common(region)).collect()
}

/// The image with the preserved content of these addresses. An earlier run may have preserved
/// more than this one needs; erased flash needs no writing.
fn merged(image: &Image, spans: &[Span], preserved: &Image) -> Result<Image, Failure> {
    let own = image.segments().iter().map(|segment| (segment.start(), segment.data().to_vec()));
    let beside = spans.iter().filter_map(|span| without_blank_ends(span.start(), preserved.bytes(*span)?));
    let merged = Image::from_memory(&own.chain(beside).collect::<Vec<_>>());
    merged.ok_or_else(|| internal("the image and the preserved content overlap"))
}

/// Bytes at an address without the 0xFF at both ends; `None` if only 0xFF remains.
fn without_blank_ends(at: Address, bytes: &[u8]) -> Option<(Address, Vec<u8>)> {
    let is_content = |byte: &u8| *byte != ERASED;
    let (first, last) = (bytes.iter().position(is_content)?, bytes.iter().rposition(is_content)?);
    Some((at.checked_add(first as u64)?, bytes[first..=last].to_vec()))
}

fn holds_all(image: &Image, spans: &[Span]) -> bool {
    spans.iter().all(|span| image.bytes(*span).is_some())
}

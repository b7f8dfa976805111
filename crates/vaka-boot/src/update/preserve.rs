//! What of the present content is saved or kept, before anything is erased.

use vaka_base::size::Bytes;
use vaka_core::event::{ExitCode, Failure, StepName, StepState};
use vaka_core::plan::ApprovedPlan;
use vaka_image::ERASED;
use vaka_image::Image;
use vaka_image::address::{Address, Span};

use super::errors::internal;
use super::request::Save;
use super::resolved::Resolved;
use super::run::UpdateRun;
use crate::protocol::session::Session;
use crate::read_session;

impl UpdateRun<'_, '_> {
    /// Keeps what the unit holds in the regions that the route writes, once.
    pub(super) fn save(&mut self, settled: &Resolved<'_>, session: &mut dyn Session) -> Result<(), Failure> {
        let Some(Save(keep)) = self.request.save.filter(|_| self.saved.is_none()) else { return Ok(()) };
        let refused = |words: &str| {
            Failure::new(ExitCode::Refused, words.to_owned())
                .state("Nothing was changed in the unit.")
                .cure("Leave out --save if the present content is not needed.")
        };
        if !session.limits().can_read {
            return Err(refused("The unit cannot be read, so its present content cannot be saved."));
        }
        let regions = settled.route.writes.iter().map(|region| region.span);
        let extent = session
            .extent(settled.image.start(), self.cx)
            .map_err(|_| refused("The unit's present content could not be read, so it cannot be saved."))?;
        // A unit may show no more than its application.
        let spans: Vec<Span> = match extent {
            None => regions.collect(),
            Some(shown) => regions
                .flat_map(|region| shown.iter().filter_map(move |part| part.common(region)).collect::<Vec<_>>())
                .collect(),
        };
        if spans.is_empty() {
            self.cx.warn("The unit shows no application, and nothing was saved.");
            self.saved = Some(String::new());
            return Ok(());
        }
        let place = self.report.unit.clone().unwrap_or_default();
        let parts = read_session::read_spans(session, &spans, &place, self.cx);
        session.rest(self.cx);
        let image = Image::of_memory(&parts?).and_then(|image| image.without_blank_end(16));
        let Some(image) = image else {
            self.cx.warn("The unit holds nothing there: it is blank, and nothing was saved.");
            self.saved = Some(String::new());
            return Ok(());
        };
        let name = keep(&image)?;
        self.tell_step(StepName::Read, StepState::Done, format!("saved: {name}"));
        self.saved = Some(name);
        Ok(())
    }

    /// Reads what is kept of the sectors that will be erased, and makes it a part
    /// of what is written.
    pub(super) fn keep<'s>(
        &mut self,
        settled: &Resolved<'s>,
        plan: &ApprovedPlan,
        session: &mut dyn Session,
    ) -> Result<Option<Resolved<'s>>, Failure> {
        let spans = plan.plan().kept();
        if spans.is_empty() {
            return Ok(None);
        }
        let unit = self.unit_name();
        let left = || self.request.shelf.and_then(|shelf| shelf.left(&unit)).filter(|left| holds_all(left, spans));
        let kept = match self.kept.take().or_else(left) {
            Some(kept) => {
                self.cx.warn("What is kept was read before a break; those bytes are written, not what is there now.");
                kept
            }
            None => {
                let place = self.report.unit.clone().unwrap_or_default();
                let parts = read_session::read_spans(session, spans, &place, self.cx);
                session.rest(self.cx);
                let image = Image::of_memory(&parts?).ok_or_else(|| internal("what is kept is no image"))?;
                if let Some(shelf) = self.request.shelf {
                    let name = shelf.put(&unit, &image)?;
                    let bytes = Bytes(image.len());
                    self.tell_step(
                        StepName::Read,
                        StepState::Done,
                        format!("{bytes} to keep, meanwhile also in {name}"),
                    );
                }
                image
            }
        };
        let whole = settled.image.segments().iter().map(|segment| (segment.start(), segment.data().to_vec()));
        // An earlier run may have kept more than this one is asked to.
        // Erased flash needs no writing.
        let beside = spans.iter().filter_map(|span| without_blank_ends(span.start(), kept.bytes(*span)?));
        let image = Image::of_memory(&whole.chain(beside).collect::<Vec<_>>());
        let image = image.ok_or_else(|| internal("the image and what is kept overlap"))?;
        self.kept = Some(kept);
        let Resolved { sheet, variant, route, verdict, .. } = settled;
        Ok(Some(Resolved { sheet, variant, route, image, verdict: verdict.clone() }))
    }

    /// What was kept is in the unit again.
    pub(super) fn is_in_again(&mut self) {
        if let (Some(_), Some(shelf)) = (self.kept.take(), self.request.shelf) {
            shelf.clear(&self.unit_name());
        }
    }

    /// The unit's serial number in update mode, or else its place.
    fn unit_name(&self) -> String {
        self.boot_serial.clone().or_else(|| self.report.unit.clone()).unwrap_or_default()
    }
}

/// Bytes at an address without the 0xFF at both ends; `None` if nothing else is there.
fn without_blank_ends(at: Address, bytes: &[u8]) -> Option<(Address, Vec<u8>)> {
    let is_content = |byte: &u8| *byte != ERASED;
    let (first, last) = (bytes.iter().position(is_content)?, bytes.iter().rposition(is_content)?);
    Some((at.checked_add(first as u64)?, bytes[first..=last].to_vec()))
}

fn holds_all(image: &Image, spans: &[Span]) -> bool {
    spans.iter().all(|span| image.bytes(*span).is_some())
}

//! Reading the memory of an open session.

use std::sync::Arc;

use vaka_base::size::Bytes;
use vaka_core::event::{StepName, StepState};
use vaka_image::Image;
use vaka_image::address::{Address, Span};

use crate::bench::open_error::held;
use crate::context::{Context, stopped};
use crate::event::Event;
use crate::failure::{Activity, Failure, FailureKind};
use crate::protocol::session::Session;
use crate::protocol::session_error::SessionError;
use crate::remedy::Remedy;
use crate::update::StepError;

/// Memory that was read, as (address, bytes) pairs.
pub type MemoryChunks = Vec<(Address, Vec<u8>)>;

/// Reads addresses of an open session, with progress.
pub(crate) fn read_spans(
    session: &mut dyn Session,
    spans: &[Span],
    place: &str,
    cx: &mut Context<'_>,
) -> Result<MemoryChunks, StepError> {
    let total: u64 = spans.iter().map(|span| span.len()).sum();
    let step = |state, text: String| Event::Step {
        unit: place.to_owned(),
        step: StepName::Read,
        state,
        text,
        bytes: Some(total),
        transfers: None,
    };
    cx.tell(step(StepState::Started, format!("read {}", Bytes(total))));
    let started = cx.now();
    let (unit, region): (Arc<str>, Arc<str>) = (place.into(), "memory".into());
    let mut done = 0;
    let mut parts = MemoryChunks::new();
    for span in spans {
        let mut bytes = Vec::new();
        let mut at = span.start();
        while at < span.end() {
            if cx.stop_requested() {
                return Err(stopped().unchanged().into());
            }
            let left = span.end().offset_from(at).unwrap_or(0);
            let len = u32::try_from(left).unwrap_or(u32::MAX).min(session.limits().read_size);
            let read = session.read(at, len, cx);
            bytes.extend(read.map_err(|error| StepError {
                failure: failed(&error, place, Activity::Reading(at)),
                loss: error.loss(),
            })?);
            at = at.checked_add(u64::from(len)).unwrap_or(span.end());
            done += u64::from(len);
            let (unit, step, region) = (unit.clone(), StepName::Read, region.clone());
            cx.tell(Event::Progress { unit, step, region, done, total });
        }
        parts.push((span.start(), bytes));
    }
    let time = vaka_base::duration::measured(cx.now() - started);
    cx.tell(step(StepState::Done, format!("{} in {time}", Bytes(total))));
    Ok(parts)
}

/// The memory at these addresses, as an image.
pub fn image_of(parts: &MemoryChunks, spans: &[Span]) -> Option<Image> {
    let all = Image::from_memory(parts)?;
    let cut: MemoryChunks =
        spans.iter().flat_map(|span| all.parts_in(*span)).map(|(part, bytes)| (part.start(), bytes.to_vec())).collect();
    Image::from_memory(&cut)
}

/// The failure of a session that only reads.
pub(super) fn failed(error: &SessionError, place: &str, activity: Activity) -> Failure {
    if let SessionError::Busy(by) = error {
        return held(place, by);
    }
    let kind = FailureKind::ReadSession { place: place.to_owned(), activity, error: error.clone() };
    Failure::new(kind).unchanged().remedy(error.own_remedy().unwrap_or(Remedy::ReplugAndReenter))
}

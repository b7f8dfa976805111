//! Carries out the memory steps of an approved plan: erase, write, read back.
//!
//! The ledger belongs to the whole run and the statistics to the attempt; the caller owns both,
//! so they are valid even if a step fails halfway. A failure has the cause and location; the
//! caller adds the state of the unit.

use std::sync::Arc;
use std::time::Duration;

use vaka_base::duration;
use vaka_base::size::Bytes;
use vaka_core::event::{Difference, ExitCode, StepName, StepState, Transfers, milliseconds};
use vaka_core::plan::{ApprovedPlan, Ledger, MemoryStep, Run, Step};
use vaka_image::ERASED;
use vaka_image::Image;
use vaka_image::address::{Address, Span};
use vaka_image::span_set::SpanSet;

use crate::context::Context;
use crate::context::stopped;
use crate::event::Event;
use crate::failure::{Activity, Failure, FailureKind};
use crate::protocol::session::{FinishOutcome, Session};
use crate::protocol::session_error::SessionError;
use crate::remedy::Remedy;
use crate::update::stop::StepError;
use crate::warning::{ReadBackDoubt, Warning};

/// Keep reading a differing sector if at most this many blocks remain: seeking to the next sector
/// costs an address command, which takes as long as some blocks. Chosen by us.
const WORTH_A_JUMP: u64 = 6;

/// The executed work in numbers.
#[derive(Clone, Debug, Default)]
pub(super) struct Statistics {
    /// Padding that was written.
    pub(super) padded: u64,
    /// Bytes that were compared before any change.
    pub(super) compared: u64,
    /// The behaviour of the unit at the end of the download.
    pub(super) finished: Option<FinishOutcome>,
    /// Transfers by phase.
    pub(super) transfers: Transfers,
    /// Milliseconds by step.
    pub(super) durations: Vec<(StepName, u64)>,
}

/// One run of the executor.
pub(super) struct Executor<'a, 'b> {
    /// The plan.
    pub(super) plan: &'a ApprovedPlan,
    /// The bytes.
    pub(super) image: &'a Image,
    /// The unit's location, for events.
    pub(super) unit: Arc<str>,
    /// The regions that are written, for events.
    pub(super) region: Arc<str>,
    /// Whether the unit may return its earlier content until it is reset, so that a difference
    /// proves nothing yet.
    pub(super) gives_earlier_content: bool,
    /// The record of all erases, writes and comparisons of this run.
    pub(super) ledger: &'a mut Ledger,
    /// The executed work in numbers.
    pub(super) tally: &'a mut Statistics,
    /// The unit.
    pub(super) session: &'a mut dyn Session,
    /// Time and events.
    pub(super) cx: &'a mut Context<'b>,
}

impl Executor<'_, '_> {
    /// Erases, writes and reads back according to the plan.
    ///
    /// # Errors
    /// The failure and the state of the unit, which stays idle in update mode.
    pub(super) fn run(&mut self) -> Result<(), StepError> {
        let plan = self.plan;
        let (sectors, runs) = (plan.plan().sectors(), plan.plan().runs());
        if !runs.is_empty() {
            let rehearsed = self.session.rehearse(self.image, sectors, runs, self.cx);
            rehearsed.map_err(|error| failed(Activity::BeginningToWrite(self.image.start()), &error))?;
        }
        let done = plan.memory_steps().try_for_each(|(step, operation)| self.run_step(step, operation));
        if done.is_err() {
            self.session.rest(self.cx);
        }
        done
    }

    fn run_step(&mut self, step: &Step, operation: MemoryStep<'_>) -> Result<(), StepError> {
        let length = |spans: &[Span]| spans.iter().map(|span| span.len()).sum();
        match operation {
            MemoryStep::Erase(sectors) => {
                let bytes = length(sectors);
                self.step(StepName::Erase, step, bytes, |this| this.erase(sectors, bytes))
            }
            MemoryStep::EraseAll(sectors) => {
                let bytes = length(sectors);
                self.step(StepName::Erase, step, bytes, |this| this.erase_all(sectors, bytes))
            }
            MemoryStep::Write(runs) => {
                let bytes = runs.iter().map(|run| run.span().len()).sum();
                self.step(StepName::Write, step, bytes, |this| this.write(runs, bytes))
            }
            MemoryStep::Finish => self.step(StepName::Finish, step, 0, Self::finish),
            // A unit that disconnected cannot be read, despite its capability.
            MemoryStep::ReadBack { .. } if self.wait_for_disconnect() => Ok(()),
            MemoryStep::ReadBack { spans, vouched } => {
                let bytes = length(spans);
                self.step(StepName::ReadBack, step, bytes, |this| this.read_back(spans, bytes, vouched))
            }
            MemoryStep::DeviceCheck(spans) => {
                let bytes = length(spans);
                self.step(StepName::DeviceCheck, step, bytes, |this| this.device_check(spans, bytes))
            }
        }
    }

    fn wait_for_disconnect(&self) -> bool {
        matches!(self.tally.finished, Some(FinishOutcome::Detached | FinishOutcome::LostDuringFinish))
    }

    /// Executes the comparison of the plan, if any: returns the sectors that already match the
    /// image. Other content of these sectors is ignored.
    ///
    /// # Errors
    /// Reading fails, or is interrupted by the user. Nothing was changed.
    pub(super) fn equal_sectors(&mut self) -> Result<Vec<Span>, StepError> {
        let plan = self.plan.plan();
        let Some((step, sectors)) = plan.comparison() else { return Ok(Vec::new()) };
        let bytes = sectors.iter().map(|sector| self.bytes_of_image(*sector)).sum();
        let mut equal = Vec::new();
        let looked = self.step(StepName::Compare, step, bytes, |this| {
            equal = match plan.is_streamed() {
                true => this.compare_stream(sectors)?,
                false => this.compare_sectors(sectors, bytes)?,
            };
            Ok(())
        });
        if looked.is_err() {
            self.session.rest(self.cx);
        }
        looked.map(|()| equal)
    }

    /// Reads spans of a unit that re-entered update mode, and compares them.
    ///
    /// # Errors
    /// The content differs, or it cannot be read. Nothing was changed.
    pub(super) fn reverify(&mut self, spans: &[Span]) -> Result<(), StepError> {
        self.gives_earlier_content = false;
        let step = Step::ReadOnceMore { spans: spans.to_vec() };
        let bytes = spans.iter().map(|span| span.len()).sum();
        let read = self.step(StepName::ReadBack, &step, bytes, |this| this.read_back(spans, bytes, true));
        self.session.rest(self.cx);
        read
    }

    /// Reads every sector as far as the image goes.
    fn compare_sectors(&mut self, sectors: &[Span], total: u64) -> Result<Vec<Span>, StepError> {
        let mut equal = Vec::new();
        let mut done = 0;
        for sector in sectors {
            let parts = self.image.parts_in(*sector).map(|(part, _)| part);
            let (first, last) = parts.fold((sector.end(), sector.start()), |(first, last), part| {
                (first.min(part.start()), last.max(part.end()))
            });
            let mut at = first;
            let mut differs = false;
            if !self.session.limits().can_read {
                self.check_interrupt()?;
                differs = !self.checksum_matches(first, last)?;
                self.tally.compared += last.offset_from(first).unwrap_or(0);
                at = last;
            }
            while at < last {
                self.check_interrupt()?;
                let len = self.block_len(at, last);
                differs |= !self.matches_image(at, len)?;
                at = at.checked_add(u64::from(len)).unwrap_or(last);
                let left = last.offset_from(at).unwrap_or(0);
                if differs && left > u64::from(self.session.limits().read_size) * WORTH_A_JUMP {
                    break;
                }
            }
            if differs {
                self.ledger.record_difference(*sector);
            } else {
                self.record_equal(*sector);
                equal.push(*sector);
            }
            done += self.bytes_of_image(*sector);
            self.progress(StepName::Compare, done, total);
        }
        Ok(equal)
    }

    /// Compares the content of a unit that returns it as one stream, up to the first difference:
    /// the content is either equal or completely rewritten.
    fn compare_stream(&mut self, sectors: &[Span]) -> Result<Vec<Span>, StepError> {
        let span = self.image.span();
        let mut at = span.start();
        while at < span.end() {
            self.check_interrupt()?;
            let len = self.block_len(at, span.end());
            if !self.matches_image(at, len)? {
                self.ledger.record_difference(span);
                self.session.rest(self.cx);
                return Ok(Vec::new());
            }
            at = at.checked_add(u64::from(len)).unwrap_or(span.end());
            self.progress(StepName::Compare, at.offset_from(span.start()).unwrap_or(0), span.len());
        }
        self.session.rest(self.cx);
        self.record_equal(span);
        Ok(sectors.to_vec())
    }

    /// Records that a span of the unit matches the image.
    fn record_equal(&mut self, span: Span) {
        self.image.parts_in(span).for_each(|(part, _)| self.ledger.record_equal(part));
    }

    fn block_len(&self, at: Address, end: Address) -> u32 {
        let left = end.offset_from(at).unwrap_or(0);
        u32::try_from(left).unwrap_or(u32::MAX).min(self.session.limits().read_size)
    }

    /// Whether the unit's own checksum of these addresses equals that of the image; gaps of the
    /// image count as erased.
    fn checksum_matches(&mut self, from: Address, to: Address) -> Result<bool, StepError> {
        let len = to.offset_from(from).unwrap_or(0);
        let mut data = vec![ERASED; usize::try_from(len).unwrap_or_default()];
        self.image.copy_to(from, &mut data);
        match self.session.agrees(from, &data, self.cx) {
            Ok(equal) => Ok(equal),
            Err(error) => Err(failed(Activity::AskingForChecksum(from), &error)),
        }
    }

    /// Compares the unit's checksum of the written content.
    fn device_check(&mut self, spans: &[Span], total: u64) -> Result<(), StepError> {
        let mut done = 0;
        for span in spans {
            self.check_interrupt()?;
            if !self.checksum_matches(span.start(), span.end())? {
                self.ledger.record_difference(*span);
                return Err(Self::disagrees(*span).into());
            }
            self.record_equal(*span);
            done += span.len();
            self.progress(StepName::DeviceCheck, done, total);
        }
        Ok(())
    }

    fn disagrees(span: Span) -> Failure {
        Failure::new(FailureKind::ChecksumDiffers { span }).remedy(Remedy::RunAgainOrFlashWorn)
    }

    /// Whether the unit matches the image there. If reading is rejected, it counts as different
    /// and is written.
    fn matches_image(&mut self, at: Address, len: u32) -> Result<bool, StepError> {
        let found = match self.session.read(at, len, self.cx) {
            Ok(found) => found,
            Err(
                SessionError::DfuStatus { .. }
                | SessionError::RejectedByDialect { .. }
                | SessionError::ProtocolViolation(_),
            ) => {
                self.session.rest(self.cx);
                return Ok(false);
            }
            Err(error) => return Err(failed(Activity::Comparing(at), &error)),
        };
        self.tally.compared += found.len() as u64;
        let mut wanted = found.clone();
        self.image.copy_to(at, &mut wanted);
        Ok(wanted == found)
    }

    /// Begins and ends a step, and measures it.
    fn step(
        &mut self,
        name: StepName,
        step: &Step,
        bytes: u64,
        work: impl FnOnce(&mut Self) -> Result<(), StepError>,
    ) -> Result<(), StepError> {
        let (started, before) = (self.cx.now(), self.session.transfers());
        self.emit_started(name, step, bytes);
        let done = work(self);
        let transfers = self.session.transfers() - before;
        match name {
            StepName::Compare => self.tally.transfers.compare = transfers,
            StepName::Erase => self.tally.transfers.erase = transfers,
            StepName::Write => self.tally.transfers.write = transfers,
            StepName::Finish => self.tally.transfers.finish = transfers,
            StepName::DeviceCheck => self.tally.transfers.read_back += transfers,
            _ => self.tally.transfers.read_back = transfers,
        }
        let time = self.cx.now() - started;
        self.tally.durations.push((name, milliseconds(time)));
        if done.is_ok() {
            // A comparison stops where a difference decides.
            let bytes = if name == StepName::Compare { self.tally.compared } else { bytes };
            let words = match bytes {
                0 => format!("done in {}", duration::measured(time)),
                bytes => format!("{} in {}{}", Bytes(bytes), duration::measured(time), rate(bytes, time)),
            };
            self.emit_done(name, words, bytes, transfers);
        }
        done
    }

    fn emit_started(&mut self, name: StepName, step: &Step, bytes: u64) {
        let (unit, text) = (self.unit.to_string(), step.to_string());
        let state = StepState::Started;
        self.cx.tell(Event::Step { unit, step: name, state, text, bytes: Some(bytes), transfers: None });
    }

    fn emit_done(&mut self, step: StepName, text: String, bytes: u64, transfers: u64) {
        let (unit, state) = (self.unit.to_string(), StepState::Done);
        self.cx.tell(Event::Step { unit, step, state, text, bytes: Some(bytes), transfers: Some(transfers) });
    }

    fn progress(&mut self, step: StepName, done: u64, total: u64) {
        let (unit, region) = (self.unit.clone(), self.region.clone());
        self.cx.tell(Event::Progress { unit, step, region, done, total });
    }

    fn erase(&mut self, sectors: &[Span], total: u64) -> Result<(), StepError> {
        let mut done = 0;
        let at_once = match self.session.limits().erases_ranges {
            true => Span::joined(sectors.iter().copied()),
            false => sectors.to_vec(),
        };
        for range in &at_once {
            self.check_interrupt()?;
            self.ledger.start_erase(*range);
            self.session.erase(*range, self.cx).map_err(|error| failed(Activity::Erasing(range.start()), &error))?;
            self.ledger.finish_erase(*range);
            done += range.len();
            self.progress(StepName::Erase, done, total);
        }
        Ok(())
    }

    fn erase_all(&mut self, sectors: &[Span], total: u64) -> Result<(), StepError> {
        self.check_interrupt()?;
        sectors.iter().for_each(|sector| self.ledger.start_erase(*sector));
        let first = sectors.first().map_or(self.image.start(), |sector| sector.start());
        self.session.erase_all(self.cx).map_err(|error| failed(Activity::ErasingAll(first), &error))?;
        sectors.iter().for_each(|sector| self.ledger.finish_erase(*sector));
        self.progress(StepName::Erase, total, total);
        Ok(())
    }

    fn finish(&mut self) -> Result<(), StepError> {
        let end = self.image.span().end();
        self.session.prepare_end(self.image);
        let held_back = self.plan.plan().held_back();
        held_back.into_iter().for_each(|last| self.ledger.start_write(last));
        let finished = match self.session.finish(self.cx) {
            Ok(finished) => finished,
            Err(error) => {
                self.note_refusal(&error, held_back);
                return Err(failed(Activity::Finishing(end), &error));
            }
        };
        self.tally.finished = Some(finished);
        match (finished, held_back) {
            (FinishOutcome::LostDuringFinish, None) => self.ledger.lose_track(),
            (FinishOutcome::LostDuringFinish, Some(_)) | (_, None) => {}
            (_, Some(last)) => self.ledger.finish_write(last),
        }
        Ok(())
    }

    fn write(&mut self, runs: &[Run], total: u64) -> Result<(), StepError> {
        let mut done = 0;
        let erases_itself = !self.plan.plan().erases_by_request();
        if erases_itself && self.session.erases_at_once() {
            let sectors = self.plan.plan().sectors();
            sectors.iter().for_each(|sector| self.ledger.start_erase(*sector));
        }
        let begun = self.session.begin(self.image, runs, self.cx);
        begun.map_err(|error| failed(Activity::BeginningToWrite(self.image.start()), &error))?;
        let held_back = self.plan.plan().held_back();
        let addressed = !self.plan.plan().is_streamed() && held_back.is_none();
        let mut entered = SpanSet::default();
        for run in runs {
            self.tally.transfers.runs += u64::from(addressed);
            for block in run.blocks() {
                self.check_interrupt()?;
                let len = block.span.len();
                let mut data = vec![ERASED; usize::try_from(len).unwrap_or_default()];
                self.image.copy_to(block.span.start(), &mut data);
                let new = match erases_itself {
                    true => self.enter_sectors(block.span, &mut entered),
                    false => Vec::new(),
                };
                self.ledger.start_write(block.span);
                match self.session.write(block.span.start(), &data, self.cx) {
                    Ok(()) => {
                        new.into_iter().for_each(|sector| self.ledger.finish_erase(sector));
                        self.ledger.finish_write(block.span);
                    }
                    Err(error) => {
                        self.note_refusal(&error, Some(block.span));
                        return Err(failed(Activity::Writing(block.span.start()), &error));
                    }
                }
                // The session keeps this block until the end.
                held_back.into_iter().for_each(|last| self.ledger.withhold_write(last));
                let of_image = self.bytes_of_image(block.span);
                self.tally.padded += len - of_image;
                self.tally.transfers.blocks += 1;
                done += len;
                self.progress(StepName::Write, done, total);
            }
        }
        Ok(())
    }

    /// Records the erase of the sectors of a block that this attempt has not written to yet, for
    /// a unit that erases them by itself.
    fn enter_sectors(&mut self, block: Span, entered: &mut SpanSet) -> Vec<Span> {
        let sectors = self.plan.plan().sectors();
        let is_new = |sector: &&Span| sector.common(block).is_some() && !entered.contains_span(**sector);
        let new: Vec<Span> = sectors.iter().filter(is_new).copied().collect();
        for sector in &new {
            entered.insert(*sector);
            self.ledger.start_erase(*sector);
        }
        new
    }

    fn bytes_of_image(&self, span: Span) -> u64 {
        self.image.parts_in(span).map(|(part, _)| part.len()).sum()
    }

    /// Reads back and compares. If uploads are not assured to return the written content,
    /// mismatches are reported as a warning and the bytes count as unverified.
    fn read_back(&mut self, spans: &[Span], total: u64, vouched: bool) -> Result<(), StepError> {
        match self.compare_all(spans, total) {
            Ok(None) => Ok(()),
            Ok(Some(difference)) if vouched => Err(Self::differs(difference).into()),
            Err(error) if vouched || error.failure.code == ExitCode::Stopped => Err(error),
            other => {
                spans.iter().for_each(|span| self.ledger.discard_equal(*span));
                let doubt = match other {
                    Ok(difference) => difference.map(|difference| ReadBackDoubt::Differs(difference.first)),
                    Err(error) => Some(ReadBackDoubt::Failed(error.failure.kind)),
                };
                doubt.into_iter().for_each(|doubt| self.cx.warn(Warning::ReadBackProvesNothing(doubt)));
                self.session.rest(self.cx);
                Ok(())
            }
        }
    }

    /// Reads all of `spans`; returns the first difference, if any.
    fn compare_all(&mut self, spans: &[Span], total: u64) -> Result<Option<Difference>, StepError> {
        let mut done = 0;
        let mut difference: Option<Difference> = None;
        for span in spans {
            let mut at = span.start();
            while at < span.end() {
                self.check_interrupt()?;
                let len = self.block_len(at, span.end());
                let found =
                    self.session.read(at, len, self.cx).map_err(|error| failed(Activity::ReadingBack(at), &error))?;
                self.compare(at, &found, &mut difference);
                at = at.checked_add(u64::from(len)).unwrap_or(span.end());
                done += u64::from(len);
                self.progress(StepName::ReadBack, done, total);
            }
        }
        Ok(difference)
    }

    /// Compares read content with written content. Padding mismatches count too: they show that
    /// the erase did not hold. In a block that differs no byte counts as checked: equal bytes may
    /// be equal by chance.
    fn compare(&mut self, at: Address, found: &[u8], difference: &mut Option<Difference>) {
        let Some(block) = Span::new(at, found.len() as u64) else { return };
        let mut wanted = vec![ERASED; found.len()];
        self.image.copy_to(at, &mut wanted);
        if wanted == found {
            return self.record_equal(block);
        }
        match self.gives_earlier_content {
            true => self.ledger.discard_equal(block),
            false => self.ledger.record_difference(block),
        }
        for (offset, (wanted, found)) in (0u64..).zip(wanted.iter().zip(found)) {
            if wanted == found {
                continue;
            }
            let Some(byte) = at.checked_add(offset).and_then(|at| Span::new(at, 1)) else { continue };
            let sectors = self.plan.plan().sectors();
            let sector = sectors.iter().find(|sector| sector.covers(byte)).copied().unwrap_or(byte);
            let first = Difference { first: byte.start(), expected: *wanted, found: *found, bytes: 0, sector };
            difference.get_or_insert(first).bytes += 1;
        }
    }

    fn differs(difference: Difference) -> Failure {
        Failure::new(FailureKind::Differs(difference)).remedy(Remedy::RunAgainOrAddressWorn)
    }

    fn check_interrupt(&self) -> Result<(), StepError> {
        if self.cx.stop_requested() { Err(stopped().into()) } else { Ok(()) }
    }

    /// A refusal with a reason is an answer: the write was not done.
    fn note_refusal(&mut self, error: &SessionError, span: Option<Span>) {
        span.filter(|_| error.is_reasoned_refusal()).into_iter().for_each(|span| self.ledger.refuse_write(span));
    }
}

/// A step that failed in the session.
pub(super) fn failed(activity: Activity, error: &SessionError) -> StepError {
    let failure = Failure::new(FailureKind::Session { activity, error: error.clone() });
    StepError { failure: failure.remedy(remedy_of(error)), loss: error.loss() }
}

/// The remedy for a failed step.
fn remedy_of(error: &SessionError) -> Remedy {
    match error {
        SessionError::DfuStatus { status, .. } => Remedy::DfuStatus(*status),
        SessionError::NeedsAction { remedy, .. } => (**remedy).clone(),
        SessionError::SecretMissing { name, .. } => Remedy::SupplySecret(name.clone()),
        SessionError::Stopped => Remedy::RunAgainToResume,
        SessionError::RejectedByDialect { .. } | SessionError::CommandFailed(_) => Remedy::ReadDialect,
        SessionError::Frame(_) | SessionError::Dialect { .. } => Remedy::TraceFrames,
        SessionError::Busy(_) => Remedy::GetAccess,
        SessionError::Disconnected => Remedy::CheckCableAndReenter,
        SessionError::Transport(_) => Remedy::CheckConnection,
        SessionError::Timeout(_) => Remedy::ReplugAndReenter,
        SessionError::Can(error) => Remedy::CanBus(error.clone()),
        SessionError::SharedNodeId { .. } => Remedy::SeparateNodes,
        SessionError::WaitsForReset | SessionError::ProtocolViolation(_) => Remedy::ReenterOrFaulty,
    }
}

fn rate(bytes: u64, time: Duration) -> String {
    // A shorter time says more about the first transfers than about the rate.
    if time < Duration::from_millis(100) {
        return String::new();
    }
    let seconds = time.as_secs_f64();
    #[allow(clippy::cast_precision_loss)] // only printed
    let rate = bytes as f64 / 1024.0 / seconds;
    format!(", {rate:.1} KiB/s")
}

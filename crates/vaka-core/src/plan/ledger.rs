//! The ledger of everything that one run did to a unit's memory.

use crate::unit_state::UnitState;
use vaka_image::address::Span;
use vaka_image::span_set::SpanSet;

/// A record of everything that one run did to a unit's memory, over all its attempts.
///
/// The executor reports each action before and after it happens. The record survives a
/// disconnect, so that the state of the unit never depends on the last attempt alone.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Ledger {
    /// Addresses where an erase or a write was started.
    touched: SpanSet,
    /// Addresses whose erase was acknowledged.
    erased: SpanSet,
    /// Written bytes that the unit acknowledged, and that were not erased since.
    written: SpanSet,
    /// Bytes in doubt: a write, or an erase of image bytes, was requested and neither
    /// acknowledged nor rejected, nor compared since.
    in_doubt: SpanSet,
    /// Bytes that were compared and are equal to the image, and were not changed since.
    equal: SpanSet,
    /// A request was sent that erases the whole part.
    erases_everything: bool,
    /// Whether a request was sent whose effect on the memory was not observed.
    effect_unknown: bool,
}

impl Ledger {
    /// Records that an erase of `span` is about to start, by request or by the unit itself.
    pub fn start_erase(&mut self, span: Span) {
        self.touched.insert(span);
        // Until the erase is acknowledged, the unit may still have its former content.
        let held = [self.written.spans(), self.equal.spans()].concat();
        held.iter().filter_map(|held| held.common(span)).for_each(|held| self.in_doubt.insert(held));
        for known in [&mut self.erased, &mut self.written, &mut self.equal] {
            known.remove(span);
        }
    }

    /// The unit acknowledged the erase of `span`.
    pub fn finish_erase(&mut self, span: Span) {
        self.in_doubt.remove(span);
        self.erased.insert(span);
    }

    /// A request that erases the whole part is about to be sent.
    pub fn start_erase_everything(&mut self) {
        self.erases_everything = true;
        for known in [&mut self.erased, &mut self.written, &mut self.in_doubt, &mut self.equal] {
            *known = SpanSet::default();
        }
    }

    /// A write of `span` is about to be requested.
    pub fn start_write(&mut self, span: Span) {
        self.withhold_write(span);
        self.in_doubt.insert(span);
    }

    /// The write of `span` is part of the work, and is requested later.
    pub fn withhold_write(&mut self, span: Span) {
        self.touched.insert(span);
        for known in [&mut self.written, &mut self.in_doubt, &mut self.equal] {
            known.remove(span);
        }
    }

    /// The unit answered that it refused the write of `span`.
    pub fn refuse_write(&mut self, span: Span) {
        self.in_doubt.remove(span);
    }

    /// The unit acknowledged the write of `span`.
    pub fn finish_write(&mut self, span: Span) {
        self.in_doubt.remove(span);
        self.written.insert(span);
    }

    /// Records that all of `span` was compared and equals the image.
    pub fn record_equal(&mut self, span: Span) {
        self.in_doubt.remove(span);
        self.equal.insert(span);
    }

    /// Records that `span` was compared and differs from the image.
    pub fn record_difference(&mut self, span: Span) {
        for known in [&mut self.written, &mut self.in_doubt, &mut self.equal] {
            known.remove(span);
        }
    }

    /// Records that a comparison of `span` proved nothing: none of its bytes count as checked.
    pub fn discard_equal(&mut self, span: Span) {
        self.equal.remove(span);
    }

    /// Records that the effect of a request was not observed, so the content is unknown.
    pub fn lose_track(&mut self) {
        self.effect_unknown = true;
        self.equal = SpanSet::default();
    }

    /// The content of the unit was compared as a whole, so earlier doubts are settled.
    pub fn regain_track(&mut self) {
        self.effect_unknown = false;
    }

    /// Whether the run has started to change the unit.
    pub fn has_changed_unit(&self) -> bool {
        !self.touched.is_empty() || self.erases_everything
    }

    /// Whether the run has started to erase or write any byte of `span`.
    pub fn has_touched(&self, span: Span) -> bool {
        self.erases_everything || self.touched.intersects(span)
    }

    /// The number of bytes of `spans` whose erase was acknowledged or that were overwritten
    /// since.
    pub fn bytes_erased(&self, spans: &[Span]) -> u64 {
        spans.iter().map(|span| self.erased.len_within(*span)).sum()
    }

    /// The number of bytes of `image` that this run wrote: acknowledged, or found equal where a
    /// write was started.
    pub fn bytes_written(&self, image: &[Span]) -> u64 {
        let mut written = self.written.clone();
        for span in self.equal.spans() {
            self.touched.spans().iter().filter_map(|touched| touched.common(*span)).for_each(|s| written.insert(s));
        }
        image.iter().map(|span| written.len_within(*span)).sum()
    }

    /// Bytes of `image` that were compared and are equal.
    pub fn bytes_checked(&self, image: &[Span]) -> u64 {
        image.iter().map(|span| self.equal.len_within(*span)).sum()
    }

    /// Bytes of `image` that were equal already, in places that this run did not touch.
    ///
    /// # Examples
    /// ```
    /// use vaka_core::plan::Ledger;
    /// use vaka_core::unit_state::UnitState;
    /// use vaka_image::address::{Address, Span};
    ///
    /// let image = [Span::between(Address::new(0), Address::new(256)).unwrap()];
    /// let mut ledger = Ledger::default();
    /// // Equal without a write: it was there already.
    /// ledger.record_equal(image[0]);
    /// assert_eq!((ledger.bytes_skipped(&image), ledger.bytes_written(&image)), (256, 0));
    /// # let _ = UnitState::Unknown;
    /// ```
    pub fn bytes_skipped(&self, image: &[Span]) -> u64 {
        let mut skipped = self.equal.clone();
        self.touched.spans().iter().for_each(|span| skipped.remove(*span));
        image.iter().map(|span| skipped.len_within(*span)).sum()
    }

    /// The number of bytes of `image` in the unit, as far as known: written or equal.
    pub fn bytes_present(&self, image: &[Span]) -> u64 {
        let mut present = self.written.clone();
        present.extend(&self.equal);
        image.iter().map(|span| present.len_within(*span)).sum()
    }

    /// Whether the unit may contain all of `image`, although some writes were not acknowledged.
    fn may_be_whole(&self, image: &[Span]) -> bool {
        let mut possible = self.written.clone();
        possible.extend(&self.equal);
        possible.extend(&self.in_doubt);
        !self.in_doubt.is_empty() && image.iter().all(|span| possible.len_within(*span) == span.len())
    }

    /// The state of the unit's content, combined with its last observed mode. A restart is not
    /// considered.
    ///
    /// # Examples
    /// ```
    /// use vaka_core::plan::Ledger;
    /// use vaka_core::unit_state::UnitState;
    /// use vaka_image::address::{Address, Span};
    ///
    /// let image = [Span::between(Address::new(0), Address::new(256)).unwrap()];
    /// let mut ledger = Ledger::default();
    /// assert_eq!(ledger.content(&image, true), UnitState::UnchangedInUpdateMode);
    /// ledger.start_write(image[0]);
    /// ledger.finish_write(image[0]);
    /// assert_eq!(ledger.content(&image, true), UnitState::WrittenNotChecked);
    /// ledger.record_equal(image[0]);
    /// assert_eq!(ledger.content(&image, true), UnitState::CheckedNotStarted);
    /// ```
    pub fn content(&self, image: &[Span], in_update_mode: bool) -> UnitState {
        let total: u64 = image.iter().map(|span| span.len()).sum();
        let is_whole = total > 0 && self.bytes_checked(image) == total;
        match (self.has_changed_unit(), in_update_mode) {
            (_, _) if self.effect_unknown => UnitState::Unknown,
            (false, false) => UnitState::Unchanged,
            (false, true) => UnitState::UnchangedInUpdateMode,
            _ if is_whole => UnitState::CheckedNotStarted,
            _ if total > 0 && self.bytes_present(image) == total => UnitState::WrittenNotChecked,
            _ if self.may_be_whole(image) => UnitState::Unknown,
            _ if self.bytes_written(image) == 0 => UnitState::PartlyErased,
            _ => UnitState::PartlyWritten,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use vaka_image::address::Address;

    fn span(start: u64, len: u64) -> Span {
        Span::new(Address::new(start), len).unwrap()
    }

    /// Two sectors of 16 bytes; the image fills the first and half of the second.
    const SECTORS: [(u64, u64); 2] = [(0, 16), (16, 16)];

    #[test]
    fn the_state_follows_from_everything_that_was_done() {
        use UnitState::{
            CheckedNotStarted, PartlyErased, PartlyWritten, Unchanged, UnchangedInUpdateMode, Unknown,
            WrittenNotChecked,
        };
        let image = [span(0, 24)];
        let [first, second] = SECTORS.map(|(start, len)| span(start, len));
        let mut ledger = Ledger::default();
        assert_eq!(ledger.content(&image, false), Unchanged);
        assert_eq!(ledger.content(&image, true), UnchangedInUpdateMode);
        ledger.record_equal(span(0, 16));
        assert_eq!((ledger.content(&image, true), ledger.bytes_skipped(&image)), (UnchangedInUpdateMode, 16));
        ledger.start_erase(second);
        assert_eq!(ledger.content(&image, true), PartlyErased);
        ledger.finish_erase(second);
        ledger.start_write(span(16, 4));
        assert_eq!((ledger.content(&image, true), ledger.bytes_written(&image)), (PartlyErased, 0));
        // The last missing write may have been executed.
        ledger.start_write(span(20, 4));
        assert_eq!((ledger.content(&image, true), ledger.bytes_written(&image)), (Unknown, 0));
        ledger.refuse_write(span(20, 4));
        assert_eq!(ledger.content(&image, true), PartlyErased);
        ledger.withhold_write(span(16, 8));
        assert_eq!(ledger.content(&image, true), PartlyErased);
        ledger.finish_write(span(16, 8));
        assert_eq!((ledger.content(&image, true), ledger.bytes_written(&image)), (WrittenNotChecked, 8));
        ledger.record_equal(span(16, 8));
        assert_eq!((ledger.content(&image, true), ledger.bytes_checked(&image)), (CheckedNotStarted, 24));
        // A second attempt that erases the first sector changes all of that.
        ledger.start_erase(first);
        assert_eq!((ledger.content(&image, true), ledger.bytes_checked(&image)), (Unknown, 8));
        ledger.finish_erase(first);
        assert_eq!((ledger.content(&image, true), ledger.bytes_checked(&image)), (PartlyWritten, 8));
        ledger.record_difference(span(16, 8));
        assert_eq!((ledger.content(&image, true), ledger.bytes_written(&image)), (PartlyErased, 0));
        ledger.lose_track();
        assert_eq!(ledger.content(&image, true), Unknown);
    }

    /// A block whose acknowledgement was lost counts as written once it is found equal.
    #[test]
    fn a_block_without_acknowledgement_counts_once_it_is_found() {
        let image = [span(0, 24)];
        let mut ledger = Ledger::default();
        ledger.start_erase(span(0, 16));
        ledger.start_write(span(0, 16));
        ledger.record_equal(span(0, 16));
        assert_eq!((ledger.bytes_written(&image), ledger.bytes_skipped(&image)), (16, 0));
        ledger.start_erase_everything();
        assert_eq!(ledger.content(&image, true), UnitState::PartlyErased);
    }
}

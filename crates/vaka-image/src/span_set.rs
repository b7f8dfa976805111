//! A set of addresses, as disjoint ranges in rising order.

use crate::address::Span;

/// A set of addresses.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SpanSet {
    /// Disjoint, not empty, not adjacent, in rising order.
    spans: Vec<Span>,
}

impl SpanSet {
    /// Adds every address of `span`.
    ///
    /// # Examples
    /// ```
    /// use vaka_image::address::{Address, Span};
    /// use vaka_image::span_set::SpanSet;
    ///
    /// let span = |from, to| Span::between(Address::new(from), Address::new(to)).unwrap();
    /// let mut set = SpanSet::default();
    /// set.insert(span(0, 16));
    /// set.insert(span(8, 32));
    /// assert_eq!(set.spans(), [span(0, 32)]);
    /// ```
    pub fn insert(&mut self, span: Span) {
        if span.is_empty() {
            return;
        }
        let from = self.spans.partition_point(|other| other.end() < span.start());
        let to = self.spans.partition_point(|other| other.start() <= span.end());
        let merged = match self.spans[from..to] {
            [] => span,
            ref touching => {
                let start = touching[0].start().min(span.start());
                let end = touching[touching.len() - 1].end().max(span.end());
                Span::between(start, end).unwrap_or(span)
            }
        };
        self.spans.splice(from..to, [merged]);
    }

    /// Removes every address of `span`.
    ///
    /// # Examples
    /// ```
    /// use vaka_image::address::{Address, Span};
    /// use vaka_image::span_set::SpanSet;
    ///
    /// let span = |from, to| Span::between(Address::new(from), Address::new(to)).unwrap();
    /// let mut set = SpanSet::default();
    /// set.insert(span(0, 32));
    /// set.remove(span(8, 16));
    /// assert_eq!(set.spans(), [span(0, 8), span(16, 32)]);
    /// ```
    pub fn remove(&mut self, span: Span) {
        if span.is_empty() {
            return;
        }
        let cut = |other: &Span| {
            let before = Span::between(other.start(), other.end().min(span.start()));
            let after = Span::between(other.start().max(span.end()), other.end());
            [before, after].into_iter().flatten().filter(|part| !part.is_empty()).collect::<Vec<_>>()
        };
        self.spans = self.spans.iter().flat_map(cut).collect();
    }

    /// Whether the set contains every address of `span`.
    ///
    /// # Examples
    /// ```
    /// use vaka_image::address::{Address, Span};
    /// use vaka_image::span_set::SpanSet;
    ///
    /// let span = |from, to| Span::between(Address::new(from), Address::new(to)).unwrap();
    /// let mut set = SpanSet::default();
    /// set.insert(span(0, 32));
    /// assert!(set.contains_span(span(8, 32)) && !set.contains_span(span(8, 33)));
    /// ```
    pub fn contains_span(&self, span: Span) -> bool {
        span.is_empty() || self.spans.iter().any(|other| other.covers(span))
    }

    /// Whether the set contains any address of `span`.
    ///
    /// # Examples
    /// ```
    /// use vaka_image::address::{Address, Span};
    /// use vaka_image::span_set::SpanSet;
    ///
    /// let span = |from, to| Span::between(Address::new(from), Address::new(to)).unwrap();
    /// let mut set = SpanSet::default();
    /// set.insert(span(0, 32));
    /// assert!(set.intersects(span(31, 64)) && !set.intersects(span(32, 64)));
    /// ```
    pub fn intersects(&self, span: Span) -> bool {
        self.spans.iter().any(|other| other.common(span).is_some())
    }

    /// The number of addresses of `span` in the set.
    ///
    /// # Examples
    /// ```
    /// use vaka_image::address::{Address, Span};
    /// use vaka_image::span_set::SpanSet;
    ///
    /// let span = |from, to| Span::between(Address::new(from), Address::new(to)).unwrap();
    /// let mut set = SpanSet::default();
    /// set.insert(span(0, 8));
    /// set.insert(span(16, 24));
    /// assert_eq!(set.len_within(span(4, 20)), 8);
    /// ```
    pub fn len_within(&self, span: Span) -> u64 {
        self.spans.iter().filter_map(|other| other.common(span)).map(Span::len).sum()
    }

    /// The ranges, disjoint and in rising order.
    pub fn spans(&self) -> &[Span] {
        &self.spans
    }

    /// Whether the set is empty.
    pub fn is_empty(&self) -> bool {
        self.spans.is_empty()
    }

    /// Adds every address of another set.
    pub fn extend(&mut self, other: &Self) {
        other.spans.iter().for_each(|span| self.insert(*span));
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use proptest::prelude::*;

    use super::*;
    use crate::address::Address;

    fn span(start: u64, len: u64) -> Span {
        Span::new(Address::new(start), len).unwrap()
    }

    proptest! {
        /// The set behaves like a set of single addresses.
        #[test]
        fn agrees_with_a_set_of_addresses(steps in prop::collection::vec((any::<bool>(), 0_u64..40, 0_u64..12), 0..24), probe in (0_u64..40, 0_u64..12)) {
            let (mut set, mut model) = (SpanSet::default(), BTreeSet::new());
            for (inserts, start, len) in steps {
                if inserts {
                    set.insert(span(start, len));
                    model.extend(start..start + len);
                } else {
                    set.remove(span(start, len));
                    model.retain(|at| !(start..start + len).contains(at));
                }
                let listed: Vec<u64> = set.spans().iter().flat_map(|s| s.start().get()..s.end().get()).collect();
                prop_assert_eq!(listed, model.iter().copied().collect::<Vec<_>>());
                prop_assert!(set.spans().windows(2).all(|pair| pair[0].end() < pair[1].start()));
            }
            let (start, len) = probe;
            let within = (start..start + len).filter(|at| model.contains(at)).count() as u64;
            prop_assert_eq!(set.len_within(span(start, len)), within);
            prop_assert_eq!(set.intersects(span(start, len)), within > 0);
            prop_assert_eq!(set.contains_span(span(start, len)), within == len);
        }
    }
}

//! Sets of ids as spans: what two of them have in common, and what one has alone.

use super::IdSpan;

/// A set of ids, as spans in order that neither touch nor overlap.
///
/// ```
/// use nest_core::value::{IdSpan, IdSpans};
/// let span = |first, last| IdSpan::new(first, last).unwrap();
/// let held: IdSpans = [span(100, 199), span(150, 250)].into_iter().collect();
/// assert_eq!(held.spans(), [span(100, 250)]);
/// assert_eq!(held.outside(span(90, 110)), [span(90, 99)]);
/// assert_eq!(held.within(span(240, 300)), [span(240, 250)]);
/// ```
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct IdSpans(Vec<IdSpan>);

impl FromIterator<IdSpan> for IdSpans {
    fn from_iter<I: IntoIterator<Item = IdSpan>>(spans: I) -> Self {
        let mut spans: Vec<IdSpan> = spans.into_iter().collect();
        spans.sort_unstable();
        let mut merged: Vec<IdSpan> = Vec::with_capacity(spans.len());
        for span in spans {
            match merged.last_mut() {
                Some(last) if u64::from(span.first()) <= u64::from(last.last()) + 1 => {
                    *last = last.up_to(span.last().max(last.last()));
                }
                _ => merged.push(span),
            }
        }
        IdSpans(merged)
    }
}

impl IdSpans {
    /// The spans, in order.
    pub fn spans(&self) -> &[IdSpan] {
        &self.0
    }

    /// Whether there is no id.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Those of the spans that have an id of `span`.
    fn touching(&self, span: IdSpan) -> impl Iterator<Item = IdSpan> {
        let from = self.0.partition_point(|held| held.last() < span.first());
        self.0[from..].iter().copied().take_while(move |held| held.first() <= span.last())
    }

    /// Whether one of the ids is in `span`.
    pub fn overlaps(&self, span: IdSpan) -> bool {
        self.touching(span).next().is_some()
    }

    /// How many of the ids are in `span`.
    pub fn count_within(&self, span: IdSpan) -> u64 {
        self.touching(span).filter_map(|held| held.common(span)).map(IdSpan::count).sum()
    }

    /// The parts of `span` whose ids are in the set.
    pub fn within(&self, span: IdSpan) -> Vec<IdSpan> {
        self.touching(span).filter_map(|held| held.common(span)).collect()
    }

    /// The parts of `span` whose ids are not in the set.
    pub fn outside(&self, span: IdSpan) -> Vec<IdSpan> {
        let mut outside = Vec::new();
        let mut next = Some(span.first());
        for held in self.touching(span) {
            if let (Some(first), Some(last)) = (next, held.first().checked_sub(1)) {
                outside.extend(IdSpan::new(first, last));
            }
            next = held.last().checked_add(1);
        }
        outside.extend(next.and_then(|first| IdSpan::new(first, span.last())));
        outside
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn span() -> impl Strategy<Value = IdSpan> {
        (0u32..60, 0u32..20).prop_map(|(first, more)| IdSpan::new(first, first + more).unwrap())
    }

    proptest! {
        /// What spans say of a set is what its ids say, one by one.
        #[test]
        fn spans_are_the_ids_that_they_stand_for(
            all in proptest::collection::vec(span(), 0..6),
            asked in span(),
        ) {
            let set: IdSpans = all.iter().copied().collect();
            let is_in = |id: u32| all.iter().any(|span| span.contains(id));
            let holds = |parts: &[IdSpan], id: u32| parts.iter().any(|part| part.contains(id));
            for id in 0..90 {
                let inside = asked.contains(id);
                prop_assert_eq!(holds(&set.within(asked), id), inside && is_in(id));
                prop_assert_eq!(holds(&set.outside(asked), id), inside && !is_in(id));
                prop_assert_eq!(holds(set.spans(), id), is_in(id));
            }
            let count = (0..90).filter(|id| asked.contains(*id) && is_in(*id)).count() as u64;
            prop_assert_eq!(set.count_within(asked), count);
            prop_assert_eq!(set.overlaps(asked), count > 0);
        }
    }

    #[test]
    fn the_largest_ids_have_no_next_one() {
        let all = IdSpan::new(0, u32::MAX).unwrap();
        let set: IdSpans = [all].into_iter().collect();
        assert!(set.outside(all).is_empty());
        assert_eq!(IdSpans::default().outside(all), [all]);
        assert!(IdSpans::default().is_empty() && !set.is_empty());
    }
}

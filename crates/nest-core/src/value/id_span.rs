//! Spans of ids, as the policy writes them.

use std::fmt;

/// An inclusive span of ids, written `first-last`, or as the number where it is one.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, serde::Serialize, serde::Deserialize,
)]
#[serde(try_from = "Bounds")]
pub struct IdSpan {
    first: u32,
    last: u32,
}

/// A span as a file of the state folder says it: nothing is known of the bounds yet.
#[derive(serde::Deserialize)]
struct Bounds {
    first: u32,
    last: u32,
}

impl TryFrom<Bounds> for IdSpan {
    type Error = String;

    fn try_from(Bounds { first, last }: Bounds) -> Result<Self, String> {
        IdSpan::new(first, last).ok_or_else(|| format!("the span {first}-{last} runs backwards"))
    }
}

impl IdSpan {
    /// The lowest id.
    #[inline]
    pub const fn first(self) -> u32 {
        self.first
    }

    /// The highest id, never below the lowest.
    #[inline]
    pub const fn last(self) -> u32 {
        self.last
    }

    /// The span of one id.
    #[inline]
    pub const fn single(id: u32) -> Self {
        IdSpan { first: id, last: id }
    }

    /// A span that the program itself names.
    ///
    /// # Panics
    /// While the program is built, where it runs backwards.
    pub const fn fixed(first: u32, last: u32) -> Self {
        assert!(first <= last, "BUG: a fixed span runs backwards");
        IdSpan { first, last }
    }

    /// The span from its lowest id to `last`, or to its lowest alone where that is below.
    #[inline]
    #[must_use]
    pub fn up_to(self, last: u32) -> Self {
        IdSpan { first: self.first, last: last.max(self.first) }
    }

    /// The smallest span that holds all ids of both.
    #[inline]
    #[must_use]
    pub fn hull(self, other: IdSpan) -> Self {
        IdSpan { first: self.first.min(other.first), last: self.last.max(other.last) }
    }

    /// The ids of both.
    pub fn common(self, other: IdSpan) -> Option<Self> {
        IdSpan::new(self.first.max(other.first), self.last.min(other.last))
    }

    /// A span from `first` to `last`, or `None` when it would run backwards.
    pub fn new(first: u32, last: u32) -> Option<Self> {
        (first <= last).then_some(IdSpan { first, last })
    }

    /// The span of `count` ids that begins at `first`; `None` when `count` is 0
    /// or the span would run past the largest id.
    pub fn counted(first: u32, count: u64) -> Option<Self> {
        let last = u64::from(first) + count.checked_sub(1)?;
        Some(IdSpan { first, last: u32::try_from(last).ok()? })
    }

    /// How many ids the span holds.
    pub fn count(self) -> u64 {
        u64::from(self.last) - u64::from(self.first) + 1
    }

    /// Whether the span holds `id`.
    pub fn contains(self, id: u32) -> bool {
        self.first <= id && id <= self.last
    }

    /// Whether the two spans share an id.
    pub fn overlaps(self, other: IdSpan) -> bool {
        self.first <= other.last && other.first <= self.last
    }

    /// Reads `first-last`, or one number for a span of one.
    ///
    /// # Errors
    /// A sentence for the administrator when it is neither.
    pub fn parse(text: &str) -> Result<Self, String> {
        let wrong = || format!("\"{text}\" is no span of ids; write it as \"1000-59999\"");
        let (first, last) = text.split_once('-').unwrap_or((text, text));
        let read = |part: &str| super::read_plain_id(part.trim().as_bytes()).ok_or_else(wrong);
        let (first, last) = (read(first)?, read(last)?);
        IdSpan::new(first, last)
            .ok_or_else(|| format!("\"{text}\" runs backwards: {first} is above {last}"))
    }
}

impl fmt::Display for IdSpan {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.first == self.last {
            true => write!(f, "{}", self.first),
            false => write!(f, "{}-{}", self.first, self.last),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spans_are_inclusive() {
        let span = IdSpan::parse("1000-59999").unwrap();
        assert_eq!(span.count(), 59000);
        assert!(span.contains(1000) && span.contains(59999) && !span.contains(60000));
        assert_eq!(span.to_string(), "1000-59999");
        assert!(span.overlaps(IdSpan::parse("59999").unwrap()));
        assert!(!span.overlaps(IdSpan::parse("60000-60001").unwrap()));
    }

    #[test]
    fn a_counted_span_stops_at_the_largest_id() {
        assert_eq!(IdSpan::counted(10, 5), IdSpan::new(10, 14));
        assert_eq!(IdSpan::counted(u32::MAX, 1), IdSpan::new(u32::MAX, u32::MAX));
        assert_eq!(IdSpan::counted(u32::MAX, 2), None);
        assert_eq!(IdSpan::counted(10, 0), None);
    }

    #[test]
    fn what_is_no_span_is_told() {
        assert!(IdSpan::parse("9-3").unwrap_err().contains("backwards"));
        assert!(IdSpan::parse("all").unwrap_err().contains("1000-59999"));
        assert!(IdSpan::parse("").is_err());
    }
}

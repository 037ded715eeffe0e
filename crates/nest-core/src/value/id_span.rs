//! Spans of ids, as the policy writes them.

use std::fmt;

/// An inclusive span of ids, written `first-last`.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, serde::Serialize, serde::Deserialize,
)]
pub struct IdSpan {
    /// The lowest id of the span.
    pub first: u32,
    /// The highest id of the span; never below `first`.
    pub last: u32,
}

impl IdSpan {
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
        write!(f, "{}-{}", self.first, self.last)
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

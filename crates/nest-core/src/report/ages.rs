//! How many fall between two ages.

/// How long something is ago.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Age {
    /// So many days; less than none where the clock went back since.
    Days(i64),
    /// No number of days says it; this does.
    Other(&'static str),
}

/// One of the bars of a plot.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AgeBar {
    /// What falls into it: `up to 30 days`, `never`.
    pub label: &'static str,
    /// The most days of it; nothing where there is no most, or no days.
    pub most: Option<i64>,
    /// How many there are.
    pub count: usize,
}

/// Up to how many days each bar goes; the last has no end.
const BARS: [(&str, Option<i64>); 7] = [
    ("up to 7 days", Some(7)),
    ("up to 30 days", Some(30)),
    ("up to 90 days", Some(90)),
    ("up to half a year", Some(182)),
    ("up to a year", Some(365)),
    ("up to 3 years", Some(1095)),
    ("over 3 years", None),
];

/// Days before today are none that have been.
const AHEAD: &str = "in the future";

/// Counts ages: each bar has what is older than those of the bar before. What is no number of
/// days has bars of its own behind them, in the order in which it is first met.
pub fn by_age(ages: impl IntoIterator<Item = Age>) -> Vec<AgeBar> {
    let bar = |(label, most)| AgeBar { label, most, count: 0 };
    let mut bars: Vec<AgeBar> = BARS.into_iter().map(bar).collect();
    for age in ages {
        let label = match age {
            Age::Days(days) if days < 0 => AHEAD,
            Age::Days(days) => {
                let holds = |(_, most): &&(&str, Option<i64>)| most.is_none_or(|most| days <= most);
                BARS.iter().find(holds).map_or(AHEAD, |(label, _)| label)
            }
            Age::Other(label) => label,
        };
        match bars.iter_mut().find(|bar| bar.label == label) {
            Some(bar) => bar.count += 1,
            None => bars.push(AgeBar { label, most: None, count: 1 }),
        }
    }
    bars
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_age_falls_into_one_bar() {
        let days = [0, 7, 8, 30, 365, 366, 4000, -1].map(Age::Days);
        let bars = by_age(days.into_iter().chain([Age::Other("never"), Age::Other("never")]));
        let counts: Vec<_> = bars.iter().map(|bar| (bar.label, bar.count)).collect();
        assert_eq!(
            counts,
            [
                ("up to 7 days", 2),
                ("up to 30 days", 2),
                ("up to 90 days", 0),
                ("up to half a year", 0),
                ("up to a year", 1),
                ("up to 3 years", 1),
                ("over 3 years", 1),
                ("in the future", 1),
                ("never", 2),
            ]
        );
        assert!(by_age([]).iter().all(|bar| bar.count == 0));
    }
}

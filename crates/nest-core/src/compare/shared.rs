//! Numbers and ranges that several names have.

use std::collections::{BTreeMap, BTreeSet};

use super::judge::{most_first, union};
use super::tally::{Said, Way};
use super::{About, Difference, Differing, Field, SaidBy};
use crate::order;

/// Numbers that belong to one name here and to another there. Two names that share a number on
/// the same sides are what `check` tells of one machine.
pub(super) fn numbers<'t>(
    all: &[(&'t str, Vec<&'t Way>)],
    number: impl Fn(&'t Way) -> Option<&'t str>,
    about: impl Fn(u32) -> About,
    is_wanted: impl Fn(&str) -> bool,
) -> Vec<Differing> {
    let mut holders: BTreeMap<u32, Vec<(&str, &[u32])>> = BTreeMap::new();
    for (name, ways) in all {
        for way in ways {
            if let Some(id) = number(way).and_then(|number| number.parse().ok()) {
                holders.entry(id).or_default().push((name, &way.sides));
            }
        }
    }
    let shared = holders.into_iter().filter_map(|(id, said)| {
        let names: BTreeSet<&str> = said.iter().map(|(name, _)| *name).collect();
        if names.len() < 2 || !names.iter().any(|name| is_wanted(name)) {
            return None;
        }
        let by = |name: &&str| SaidBy {
            value: (*name).to_owned(),
            sides: union(said.iter().filter(|(of, _)| of == name).map(|(_, sides)| *sides)),
            expected: false,
        };
        let values: Vec<SaidBy> = names.iter().map(by).collect();
        if values.iter().all(|value| value.sides == values[0].sides) {
            return None;
        }
        let on = union(values.iter().map(|value| &value.sides[..]));
        let (of, values) = (on.len(), most_first(values));
        let fields = vec![Difference { field: Field::Name, values }];
        Some(Differing { about: about(id), on, of, fields })
    });
    shared.collect()
}

/// A range, and whose it is on which sides.
struct Held<'t> {
    first: u32,
    last: u32,
    name: &'t str,
    sides: &'t [u32],
}

/// Ranges of several people that overlap although their homes are the same files everywhere:
/// what one's containers wrote would be the other's.
pub(super) fn ranges<'t>(
    all: &[(&'t str, Vec<&'t Way>)],
    said: Said,
    about: impl Fn(u32, u32) -> About,
    shared_homes: bool,
) -> Vec<Differing> {
    // By the machine that the homes come from: what is on others is kept apart.
    let mut held: BTreeMap<&str, Vec<Held<'t>>> = BTreeMap::new();
    for (name, ways) in all {
        for way in ways {
            let from =
                way.of_user(Said::HomeFrom).map(|from| from.split(':').next().unwrap_or(from));
            let Some(from) = from.or_else(|| shared_homes.then_some("")) else { continue };
            let from = if shared_homes { "" } else { from };
            let spans = way.of_user(said).unwrap_or_default().split_whitespace();
            let spans = spans.filter_map(|span| {
                let (first, count) = span.split_once('+')?;
                let (first, count): (u32, u64) = (first.parse().ok()?, count.parse().ok()?);
                let last = (u64::from(first) + count.max(1) - 1).min(u64::from(u32::MAX));
                let last = u32::try_from(last).unwrap_or(u32::MAX);
                Some(Held { first, last, name, sides: &way.sides })
            });
            held.entry(from).or_default().extend(spans);
        }
    }
    held.into_values().flat_map(|held| overlapping(held, &about)).collect()
}

/// Runs of ranges of which each overlaps the one before, where they are several people's.
fn overlapping(mut held: Vec<Held<'_>>, about: &impl Fn(u32, u32) -> About) -> Vec<Differing> {
    order::sort_by_key(&mut held, |held| (held.first, held.last));
    let mut runs: Vec<(u32, Vec<Held<'_>>)> = Vec::new();
    for range in held {
        match runs.last_mut() {
            Some((last, run)) if range.first <= *last => {
                *last = range.last.max(*last);
                run.push(range);
            }
            _ => runs.push((range.last, vec![range])),
        }
    }
    let several = |run: &[Held<'_>]| run.iter().any(|range| range.name != run[0].name);
    let told = |(last, run): (u32, Vec<Held<'_>>)| {
        let mut said: BTreeMap<String, Vec<&[u32]>> = BTreeMap::new();
        for range in &run {
            let value = format!("{}-{} of {}", range.first, range.last, range.name);
            said.entry(value).or_default().push(range.sides);
        }
        let values = said.into_iter().map(|(value, sides)| SaidBy {
            value,
            sides: union(sides.into_iter()),
            expected: false,
        });
        let values = most_first(values.collect());
        let on = union(values.iter().map(|value| &value.sides[..]));
        let (of, first) = (on.len(), run[0].first);
        let fields = vec![Difference { field: Field::Ranges, values }];
        Differing { about: about(first, last), on, of, fields }
    };
    runs.into_iter().filter(|(_, run)| several(run)).map(told).collect()
}

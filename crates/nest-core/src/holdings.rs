//! Everything that holds or covers a number, as uid and as gid; and the numbers of
//! a tree as a map.

use bstr::BString;

use crate::allot::IdMap;
use crate::plan::{Ground, reserved};
use crate::table::{File, Table};
use crate::value::{IdSpan, is_reserved};

/// One thing that holds or covers a number.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Holding {
    /// `uid`, `gid`, or both.
    pub what: &'static str,
    /// How, in words.
    pub words: String,
    /// The line that says so.
    pub place: Option<(File, usize)>,
}

/// What holds or covers a number.
///
/// # Errors
/// Why the name services gave no answer, which is not a no.
pub fn holdings(ground: Ground<'_>, id: u32) -> Result<Vec<Holding>, String> {
    let Ground { book, policy, world, .. } = ground;
    let mut all = Vec::new();
    let mut push = |what, words: String, place| all.push(Holding { what, words, place });
    let number = |file: File, start| book.lines(file).map_or(0, |lines| lines.number(start));
    for (line, user) in book.users.records().filter(|(_, user)| user.uid() == Some(id)) {
        let at = (File::Passwd, number(File::Passwd, line.start));
        push("uid", format!("the user {}", BString::from(user.name)), Some(at));
    }
    for (line, group) in book.groups.records().filter(|(_, group)| group.gid() == Some(id)) {
        let at = (File::Group, number(File::Group, line.start));
        push("gid", format!("the group {}", BString::from(group.name)), Some(at));
    }
    for (file, what) in [(File::Subuid, "uid"), (File::Subgid, "gid")] {
        for (line, range) in book.sub_ids(file).into_iter().flat_map(Table::records) {
            let Some(span) = range.span().filter(|span| span.contains(id)) else { continue };
            let owner = BString::from(range.owner);
            let inside = id - span.first;
            let words = format!("{inside} inside the containers of {owner}, who has {span}");
            push(what, words, Some((file, number(file, line.start))));
        }
    }
    let held = |what| all_named(&all, what);
    let (users, groups) = (held("uid"), held("gid"));
    if !users && let Some(name) = world.service_user_by_uid(id)? {
        let words = format!("the user {name} of the system's name services");
        all.push(Holding { what: "uid", words, place: None });
    }
    if !groups && let Some(name) = world.service_group_by_gid(id)? {
        let words = format!("the group {name} of the system's name services");
        all.push(Holding { what: "gid", words, place: None });
    }
    let retired = world.retired();
    for (what, ids) in
        [("uid", &retired.users), ("gid", &retired.groups), ("both", &retired.ranges)]
    {
        for of in ids.iter().filter(|of| of.span.contains(id)) {
            let words = match of.span.count() {
                1 => format!("retired: it was {}'s", of.name),
                _ => format!("retired: it was one of {}'s {}", of.name, of.span),
            };
            all.push(Holding { what, words, place: None });
        }
    }
    for avoid in policy.ids_avoid.iter().filter(|avoid| avoid.span.contains(id)) {
        let why = if avoid.why.is_empty() { "no reason is given" } else { &avoid.why };
        let words = format!("avoided by the policy, {}: {why}", avoid.span);
        all.push(Holding { what: "both", words, place: None });
    }
    if is_reserved(id) {
        let words = format!("reserved: {}", reserved(id));
        all.push(Holding { what: "both", words, place: None });
    }
    Ok(all)
}

fn all_named(all: &[Holding], what: &str) -> bool {
    all.iter().any(|holding| holding.what == what)
}

/// A span of numbers that is allotted from, or kept from it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SpanUse {
    /// What it is for.
    pub name: &'static str,
    /// Its numbers.
    pub span: IdSpan,
    /// How many of them somebody holds.
    pub used: u64,
    /// How many are free.
    pub free: u64,
    /// The next to be given; nothing where none is free.
    pub next: Option<u32>,
    /// How full each of equal parts of it is, from 0 to 8.
    pub parts: Vec<u8>,
}

/// The spans of the policy, each with its use, as a map of so many parts.
///
/// # Errors
/// Why the name services gave no answer.
pub fn spans(ground: Ground<'_>, parts: usize) -> Result<Vec<SpanUse>, String> {
    let Ground { book, policy, world, .. } = ground;
    let map = IdMap::new(book, policy, world);
    let uids = book.users.records().filter_map(|(_, user)| user.uid());
    let gids = book.groups.records().filter_map(|(_, group)| group.gid());
    let mut singles: Vec<u32> = uids.chain(gids).collect();
    singles.sort_unstable();
    singles.dedup();
    let mut ranges: Vec<IdSpan> = [&book.subuid, &book.subgid]
        .into_iter()
        .flatten()
        .flat_map(Table::records)
        .filter_map(|(_, range)| range.span())
        .collect();
    ranges.sort();
    let merged = merge(&ranges);
    let of_singles = |span: IdSpan| -> Vec<IdSpan> {
        let inside = singles.iter().filter(|id| span.contains(**id));
        inside.map(|id| IdSpan { first: *id, last: *id }).collect()
    };
    let mut all = Vec::new();
    let people = policy.people_ids;
    let services = policy.services_ids;
    all.push(of("people", people, &of_singles(people), map.lowest(people)?, parts));
    all.push(of("services", services, &of_singles(services), map.highest(services)?, parts));
    let next = map.range(policy.people_ranges.max(1))?.map(|span| span.first);
    all.push(of("subordinate", policy.ranges_span, &merged, next, parts));
    Ok(all)
}

/// Spans in order, those that touch or overlap as one.
fn merge(spans: &[IdSpan]) -> Vec<IdSpan> {
    let mut merged: Vec<IdSpan> = Vec::new();
    for span in spans {
        match merged.last_mut() {
            Some(last) if u64::from(span.first) <= u64::from(last.last) + 1 => {
                last.last = last.last.max(span.last);
            }
            _ => merged.push(*span),
        }
    }
    merged
}

fn of(
    name: &'static str,
    span: IdSpan,
    held: &[IdSpan],
    next: Option<u32>,
    parts: usize,
) -> SpanUse {
    let overlap = |first: u64, last: u64| -> u64 {
        held.iter()
            .map(|held| {
                let (from, to) = (u64::from(held.first).max(first), u64::from(held.last).min(last));
                if from <= to { to - from + 1 } else { 0 }
            })
            .sum()
    };
    let (first, last) = (u64::from(span.first), u64::from(span.last));
    let used = overlap(first, last);
    let count = span.count();
    let parts = (0..parts as u64).map(|at| {
        let (from, to) =
            (first + at * count / parts as u64, first + (at + 1) * count / parts as u64);
        let size = to.saturating_sub(from).max(1);
        let held = overlap(from, (from + size - 1).min(last));
        // One number in a large part still shows.
        (held * 8).div_ceil(size).min(8) as u8
    });
    let parts: Vec<u8> = parts.collect();
    SpanUse { name, span, used, free: count - used, next, parts }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::book::tests::book;
    use crate::policy::Policy;
    use crate::surroundings::RetiredId;
    use crate::test_support::World;
    use crate::value::Day;

    #[test]
    fn everything_behind_a_number_is_told() {
        let book = book(&[
            (File::Passwd, "maren:x:1004:1004:::\nmarlo:x:01004:7:::\n"),
            (File::Group, "pilots:x:1004:\n"),
            (File::Subuid, "maren:1000:10\n"),
        ]);
        let policy = Policy::read("p", "[ids]\navoid = [\"1000-1010 the directory's\"]").unwrap();
        let one = |id| RetiredId { span: IdSpan { first: id, last: id }, name: "perrin".into() };
        let mut world = World::default();
        world.retired.groups.push(one(1004));
        let today = Day(20_781);
        let ground = Ground { book: &book, policy: &policy, world: &world, today, change: None };
        let told: Vec<String> = holdings(ground, 1004)
            .unwrap()
            .into_iter()
            .map(|holding| format!("{}: {}", holding.what, holding.words))
            .collect();
        assert_eq!(
            told,
            [
                "uid: the user maren",
                "uid: the user marlo",
                "gid: the group pilots",
                "uid: 4 inside the containers of maren, who has 1000-1009",
                "gid: retired: it was perrin's",
                "both: avoided by the policy, 1000-1010: the directory's",
            ]
        );
        assert!(holdings(ground, 65_534).unwrap()[0].words.starts_with("reserved: "));
        assert!(holdings(ground, 4000).unwrap().is_empty());
    }

    #[test]
    fn a_map_is_drawn_to_scale() {
        let span = IdSpan { first: 100, last: 199 };
        let held = merge(&[
            IdSpan { first: 90, last: 104 },
            IdSpan { first: 105, last: 109 },
            IdSpan { first: 150, last: 150 },
        ]);
        assert_eq!(held.len(), 2);
        let of = of("people", span, &held, None, 10);
        assert_eq!((of.used, of.free), (11, 89));
        assert_eq!(of.parts, [8, 0, 0, 0, 0, 1, 0, 0, 0, 0]);
    }
}

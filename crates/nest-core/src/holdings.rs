//! Everything that holds or covers a number, as uid and as gid; and the numbers of
//! a tree as a map.

use bstr::BString;

use crate::allot::IdMap;
use crate::context::PlanContext;
use crate::drafting::wanted_id::reserved;
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
pub fn holdings(context: PlanContext<'_>, id: u32) -> Result<Vec<Holding>, String> {
    let PlanContext { book, policy, world, .. } = context;
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
    /// How many more are retired.
    pub retired: u64,
    /// How many more the policy avoids.
    pub avoided: u64,
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
pub fn spans(context: PlanContext<'_>, parts: usize) -> Result<Vec<SpanUse>, String> {
    let PlanContext { book, policy, world, .. } = context;
    let map = IdMap::new(book, policy, world);
    let uids = book.users.records().filter_map(|(_, user)| user.uid());
    let gids = book.groups.records().filter_map(|(_, group)| group.gid());
    let mut singles: Vec<u32> = uids.chain(gids).collect();
    singles.sort_unstable();
    singles.dedup();
    let ranges: Vec<IdSpan> = [&book.subuid, &book.subgid]
        .into_iter()
        .flatten()
        .flat_map(Table::records)
        .filter_map(|(_, range)| range.span())
        .collect();
    let one = |id: u32| IdSpan { first: id, last: id };
    let singles: Vec<IdSpan> = singles.into_iter().map(one).collect();
    let retired = world.retired();
    let of_people = retired.users.iter().chain(&retired.groups).map(|id| id.span).collect();
    let of_ranges = retired.ranges.iter().map(|id| id.span).collect();
    let avoided: Vec<IdSpan> = policy.ids_avoid.iter().map(|avoid| avoid.span).collect();
    let everything = [&singles[..], &ranges].concat();
    let people = HeldIds {
        used: merge(singles),
        retired: merge(of_people),
        avoided: merge(avoided.clone()),
    };
    let ranges = HeldIds {
        used: merge(everything),
        retired: merge(of_ranges),
        avoided: people.avoided.clone(),
    };
    let (for_people, for_services) = (policy.people_ids, policy.services_ids);
    let next = map.range(policy.people_ranges.max(1))?.map(|span| span.first);
    Ok(vec![
        of("people", for_people, &people, map.lowest(for_people)?, parts),
        of("services", for_services, &people, map.highest(for_services)?, parts),
        of("subordinate", policy.ranges_span, &ranges, next, parts),
    ])
}

/// What holds the numbers of a span, each in order and apart.
struct HeldIds {
    used: Vec<IdSpan>,
    retired: Vec<IdSpan>,
    avoided: Vec<IdSpan>,
}

/// Spans in order, those that touch or overlap as one.
fn merge(mut spans: Vec<IdSpan>) -> Vec<IdSpan> {
    spans.sort();
    let mut merged: Vec<IdSpan> = Vec::new();
    for span in &spans {
        match merged.last_mut() {
            Some(last) if u64::from(span.first) <= u64::from(last.last) + 1 => {
                last.last = last.last.max(span.last);
            }
            _ => merged.push(*span),
        }
    }
    merged
}

/// How many of the numbers from `first` to `last` some spans hold.
fn overlap(held: &[IdSpan], first: u64, last: u64) -> u64 {
    // They are in order: those before and after need not be looked at.
    let from = held.partition_point(|held| u64::from(held.last) < first);
    held[from..]
        .iter()
        .take_while(|held| u64::from(held.first) <= last)
        .map(|held| u64::from(held.last).min(last) - u64::from(held.first).max(first) + 1)
        .sum()
}

fn of(
    name: &'static str,
    span: IdSpan,
    held: &HeldIds,
    next: Option<u32>,
    parts: usize,
) -> SpanUse {
    let all = merge([&held.used[..], &held.retired].concat());
    let everything = merge([&all[..], &held.avoided].concat());
    let (first, last) = (u64::from(span.first), u64::from(span.last));
    let used = overlap(&held.used, first, last);
    let retired = overlap(&all, first, last) - used;
    let avoided = overlap(&everything, first, last) - used - retired;
    let count = span.count();
    let part = |at: u64| -> u8 {
        let from = first + at * count / parts as u64;
        let to = first + (at + 1) * count / parts as u64;
        let size = to.saturating_sub(from).max(1);
        // One number in a large part still shows.
        (overlap(&everything, from, (from + size - 1).min(last)) * 8).div_ceil(size).min(8) as u8
    };
    let parts = (0..parts as u64).map(part).collect();
    let free = count - used - retired - avoided;
    SpanUse { name, span, used, retired, avoided, free, next, parts }
}

/// A subordinate range, or the gap between two.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RangeOrGap {
    /// `uid` or `gid`.
    pub what: &'static str,
    /// Its numbers.
    pub span: IdSpan,
    /// Whose it is, as written; nothing for a gap.
    pub owner: Option<Vec<u8>>,
    /// Whether it has numbers of a range before it.
    pub overlaps: bool,
}

/// The subordinate ranges of both files in order of their numbers, with the gaps
/// between them.
pub fn ranges(context: PlanContext<'_>) -> Vec<RangeOrGap> {
    let mut all = Vec::new();
    for (file, what) in [(File::Subuid, "uid"), (File::Subgid, "gid")] {
        let mut of: Vec<(IdSpan, Vec<u8>)> = context
            .book
            .sub_ids(file)
            .into_iter()
            .flat_map(Table::records)
            .filter_map(|(_, range)| Some((range.span()?, range.owner.to_vec())))
            .collect();
        of.sort();
        let mut end: Option<u32> = None;
        for (span, owner) in of {
            if let Some(end) = end
                && u64::from(span.first) > u64::from(end) + 1
            {
                let span = IdSpan { first: end + 1, last: span.first - 1 };
                all.push(RangeOrGap { what, span, owner: None, overlaps: false });
            }
            let overlaps = end.is_some_and(|end| span.first <= end);
            end = end.max(Some(span.last));
            all.push(RangeOrGap { what, span, owner: Some(owner), overlaps });
        }
    }
    all
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
        let context =
            PlanContext { book: &book, policy: &policy, world: &world, today, change: None };
        let told: Vec<String> = holdings(context, 1004)
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
        assert!(holdings(context, 65_534).unwrap()[0].words.starts_with("reserved: "));
        assert!(holdings(context, 4000).unwrap().is_empty());
    }

    #[test]
    fn gaps_and_overlaps_show_between_the_ranges() {
        let book = book(&[(File::Subuid, "a:100:10\nb:105:10\n7:200:1\n")]);
        let (policy, world) = (Policy::default(), World::default());
        let today = Day(20_781);
        let context =
            PlanContext { book: &book, policy: &policy, world: &world, today, change: None };
        let told: Vec<_> = ranges(context)
            .into_iter()
            .map(|range| (range.span.to_string(), range.owner, range.overlaps))
            .collect();
        let owned = |owner: &str| Some(owner.as_bytes().to_vec());
        assert_eq!(
            told,
            [
                ("100-109".into(), owned("a"), false),
                ("105-114".into(), owned("b"), true),
                ("115-199".into(), None, false),
                ("200-200".into(), owned("7"), false),
            ]
        );
    }

    #[test]
    fn a_map_is_drawn_to_scale() {
        let span = IdSpan { first: 100, last: 199 };
        let between = |first, last| IdSpan { first, last };
        let used = merge(vec![between(105, 109), between(90, 104), between(150, 150)]);
        assert_eq!(used.len(), 2);
        let (retired, avoided) = (vec![between(150, 151)], vec![between(190, 300)]);
        let of = of("people", span, &HeldIds { used, retired, avoided }, None, 10);
        assert_eq!((of.used, of.retired, of.avoided, of.free), (11, 1, 10, 78));
        assert_eq!(of.parts, [8, 0, 0, 0, 0, 2, 0, 0, 0, 8]);
    }
}

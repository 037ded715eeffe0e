//! Everything that holds or covers a number, as uid and as gid; and the numbers of
//! a tree as a map.

use bstr::{BStr, BString};

use crate::account::AccountKind;
use crate::allot::Allotter;
use crate::context::PlanContext;
use crate::order;
use crate::table::{File, Table};
use crate::value::{Gid, IdSpan, IdSpans, Uid, is_reserved, reserved_for, reserved_spans};

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
    for (line, user) in book.users.records().filter(|(_, user)| user.uid() == Some(Uid(id))) {
        let at = (File::Passwd, number(File::Passwd, line.start));
        push("uid", format!("the user {}", BString::from(user.name)), Some(at));
    }
    for (line, group) in book.groups.records().filter(|(_, group)| group.gid() == Some(Gid(id))) {
        let at = (File::Group, number(File::Group, line.start));
        push("gid", format!("the group {}", BString::from(group.name)), Some(at));
    }
    for (file, what) in [(File::Subuid, "uid"), (File::Subgid, "gid")] {
        for (line, range) in book.sub_ids(file).into_iter().flat_map(Table::records) {
            let Some(span) = range.span().filter(|span| span.contains(id)) else { continue };
            let owner = BString::from(range.owner);
            let inside = id - span.first();
            let words = format!("{inside} inside the containers of {owner}, who has {span}");
            push(what, words, Some((file, number(file, line.start))));
        }
    }
    let held = |what| all_named(&all, what);
    let (users, groups) = (held("uid"), held("gid"));
    if !users && let Some(name) = world.service_user_by_uid(Uid(id))? {
        let words = format!("the user {name} of the system's name services");
        all.push(Holding { what: "uid", words, place: None });
    }
    if !groups && let Some(name) = world.service_group_by_gid(Gid(id))? {
        let words = format!("the group {name} of the system's name services");
        all.push(Holding { what: "gid", words, place: None });
    }
    let retired = world.retired();
    let single = |name: &BStr| format!("retired: it was {name}'s");
    for (what, name) in [("uid", retired.user(Uid(id))), ("gid", retired.group(Gid(id)))] {
        let words = name.map(single);
        all.extend(words.map(|words| Holding { what, words, place: None }));
    }
    for range in retired.ranges.iter().filter(|range| range.span.contains(id)) {
        let words = match range.span.count() {
            1 => single(range.name.as_ref()),
            _ => format!("retired: it was one of {}'s {}", range.name, range.span),
        };
        all.push(Holding { what: "both", words, place: None });
    }
    for avoid in policy.ids_avoid.iter().filter(|avoid| avoid.span.contains(id)) {
        let why = if avoid.why.is_empty() { "no reason is given" } else { &avoid.why };
        let words = format!("avoided by the policy, {}: {why}", avoid.span);
        all.push(Holding { what: "both", words, place: None });
    }
    if is_reserved(id) {
        let words = format!("reserved: {}", reserved_for(id));
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
    /// How many more the policy avoids, or mean something of their own.
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
    let mut allotter = Allotter::new(book, policy, world);
    let uids = book.users.records().filter_map(|(_, user)| user.uid().map(u32::from));
    let gids = book.groups.records().filter_map(|(_, group)| group.gid().map(u32::from));
    let mut singles: Vec<u32> = uids.chain(gids).collect();
    singles.sort_unstable();
    singles.dedup();
    let ranges: Vec<IdSpan> = [&book.subuid, &book.subgid]
        .into_iter()
        .flatten()
        .flat_map(Table::records)
        .filter_map(|(_, range)| range.span())
        .collect();
    let one = |id: u32| IdSpan::single(id);
    let singles: Vec<IdSpan> = singles.into_iter().map(one).collect();
    let retired = world.retired();
    let of_people = retired.users.iter().chain(&retired.groups).map(|id| IdSpan::single(id.id));
    let of_ranges = retired.ranges.iter().map(|range| range.span);
    let avoided = policy.ids_avoid.iter().map(|avoid| avoid.span);
    let avoided: IdSpans = avoided.chain(reserved_spans()).collect();
    // A number of either kind is given where neither kind has it.
    let used: IdSpans = singles.into_iter().chain(ranges).collect();
    let retired: IdSpans = of_people.chain(of_ranges).collect();
    let held = HeldIds { used, retired, avoided };
    let next = allotter.next_range(policy.people_ranges.max(1))?.map(IdSpan::first);
    let (for_people, for_services) = (policy.people_ids, policy.services_ids);
    let people_next = allotter.next(AccountKind::Person)?;
    let services_next = allotter.next(AccountKind::Service)?;
    Ok(vec![
        of("people", for_people, &held, people_next, parts),
        of("services", for_services, &held, services_next, parts),
        of("subordinate", policy.ranges_span, &held, next, parts),
    ])
}

/// The numbers that would be given next.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct NextIds {
    /// To people.
    pub people: Vec<u32>,
    /// To services.
    pub services: Vec<u32>,
    /// As subordinate ranges.
    pub ranges: Vec<IdSpan>,
}

/// The next so many numbers of each span; fewer where so many are not left.
///
/// # Errors
/// Why the name services gave no answer.
pub fn next(context: PlanContext<'_>, count: usize) -> Result<NextIds, String> {
    let PlanContext { book, policy, world, .. } = context;
    let mut allotter = Allotter::new(book, policy, world);
    let mut next = NextIds::default();
    for (kind, ids) in
        [(AccountKind::Person, &mut next.people), (AccountKind::Service, &mut next.services)]
    {
        while ids.len() < count
            && let Some(id) = allotter.next(kind)?
        {
            ids.push(id);
            allotter.set_aside(id);
        }
    }
    let size = policy.people_ranges.max(1);
    while next.ranges.len() < count
        && let Some(span) = allotter.next_range(size)?
    {
        next.ranges.push(span);
        // What is free once is taken once.
        allotter.take_range(span)?;
    }
    Ok(next)
}

/// Numbers that are held outside the spans that new ones are taken from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OutsideUse {
    /// What accounts and groups are there.
    pub kind: AccountKind,
    /// The numbers.
    pub ids: IdSpans,
}

/// The numbers of accounts and groups outside the spans, by what they are there. A kind of
/// which there are none is left out.
pub fn outside(context: PlanContext<'_>) -> Vec<OutsideUse> {
    let PlanContext { book, policy, .. } = context;
    let uids = book.users.records().filter_map(|(_, user)| user.uid().map(u32::from));
    let gids = book.groups.records().filter_map(|(_, group)| group.gid().map(u32::from));
    let spans = [policy.people_ids, policy.services_ids];
    let mut of: [Vec<IdSpan>; 2] = [Vec::new(), Vec::new()];
    for id in uids.chain(gids).filter(|id| !spans.iter().any(|span| span.contains(*id))) {
        let person = policy.is_person(id);
        of[usize::from(!person)].push(IdSpan::single(id));
    }
    let kinds = [AccountKind::Person, AccountKind::Service];
    let all = kinds.into_iter().zip(of).filter(|(_, ids)| !ids.is_empty());
    all.map(|(kind, ids)| OutsideUse { kind, ids: ids.into_iter().collect() }).collect()
}

/// What holds the numbers of a span.
struct HeldIds {
    used: IdSpans,
    retired: IdSpans,
    avoided: IdSpans,
}

/// The ids of two sets.
fn both(one: &IdSpans, other: &IdSpans) -> IdSpans {
    one.spans().iter().chain(other.spans()).copied().collect()
}

fn of(
    name: &'static str,
    span: IdSpan,
    held: &HeldIds,
    next: Option<u32>,
    parts: usize,
) -> SpanUse {
    let all = both(&held.used, &held.retired);
    let everything = both(&all, &held.avoided);
    let used = held.used.count_within(span);
    let retired = all.count_within(span) - used;
    let avoided = everything.count_within(span) - used - retired;
    let count = span.count();
    let part = |at: u64| -> u8 {
        let from = at * count / parts as u64;
        let size = ((at + 1) * count / parts as u64).saturating_sub(from).max(1);
        let first = u64::from(span.first()) + from;
        let part = u32::try_from(first).ok().and_then(|first| IdSpan::counted(first, size));
        let taken =
            part.and_then(|part| part.common(span)).map(|part| everything.count_within(part));
        // One number in a large part still shows.
        (taken.unwrap_or(0) * 8).div_ceil(size).min(8) as u8
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
        order::sort(&mut of);
        let mut end: Option<u32> = None;
        for (span, owner) in of {
            if let Some(end) = end
                && u64::from(span.first()) > u64::from(end) + 1
            {
                let gap = IdSpan::new(end + 1, span.first() - 1);
                let gap = gap.map(|span| RangeOrGap { what, span, owner: None, overlaps: false });
                all.extend(gap);
            }
            let overlaps = end.is_some_and(|end| span.first() <= end);
            end = end.max(Some(span.last()));
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
    use crate::retired_ids::RetiredId;
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
        let one = |id| RetiredId { id, name: "perrin".into(), since: None };
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
                ("200".into(), owned("7"), false),
            ]
        );
    }

    #[test]
    fn a_map_is_drawn_to_scale() {
        let span = IdSpan::fixed(100, 199);
        let between = |first, last| IdSpan::new(first, last).unwrap();
        let set = |spans: &[IdSpan]| spans.iter().copied().collect::<IdSpans>();
        let used = set(&[between(105, 109), between(90, 104), between(150, 150)]);
        let (retired, avoided) = (set(&[between(150, 151)]), set(&[between(190, 300)]));
        let of = of("people", span, &HeldIds { used, retired, avoided }, None, 10);
        assert_eq!((of.used, of.retired, of.avoided, of.free), (11, 1, 10, 78));
        assert_eq!(of.parts, [8, 0, 0, 0, 0, 2, 0, 0, 0, 8]);
    }
}

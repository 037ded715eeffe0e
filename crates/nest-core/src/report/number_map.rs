//! Where the numbers are: what holds which, in lanes of one scale, and the parts of them that
//! are worth a closer look.

use bstr::BString;

use crate::context::PlanContext;
use crate::order;
use crate::table::{File, Table};
use crate::value::IdSpan;
use crate::words::first_of;

/// What a lane is about.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, strum::Display, strum::IntoStaticStr,
)]
#[strum(serialize_all = "kebab-case")]
pub enum LaneKind {
    /// User numbers.
    Uids,
    /// Group numbers.
    Gids,
    /// Subordinate uids.
    UidRanges,
    /// Subordinate gids.
    GidRanges,
    /// Numbers that are kept back for deleted accounts.
    Retired,
    /// Numbers that the policy keeps free.
    Avoided,
}

/// Numbers that follow each other and are held in one way.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mark {
    /// From the first to the last.
    pub span: IdSpan,
    /// How many of them are held; of less than all some lie between them.
    pub count: u64,
    /// By whom or why, in words.
    pub words: String,
}

/// One lane of the map.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Lane {
    /// What it is about.
    pub kind: LaneKind,
    /// What is held, in order.
    pub marks: Vec<Mark>,
}

/// All numbers that are held.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NumberMap {
    /// The lanes, each with something in it.
    pub lanes: Vec<Lane>,
    /// The parts in which something is, in order.
    pub parts: Vec<IdSpan>,
}

/// A lane has at most so many marks: those that lie closest become one.
const MOST_MARKS: usize = 2000;

/// There are at most so many parts: those that lie closest become one.
const MOST_PARTS: usize = 6;

/// Of those who hold a mark so many are named.
const NAMED: usize = 4;

/// Who holds a number, or numbers.
type Held = (IdSpan, BString);

/// The numbers that users, groups, ranges, deleted accounts and the policy hold.
pub fn number_map(context: PlanContext<'_>) -> NumberMap {
    let PlanContext { book, policy, world, .. } = context;
    let uids = book.users.records();
    let uids = uids.filter_map(|(_, user)| Some((IdSpan::single(user.uid()?.0), user.name.into())));
    let gids = book.groups.records();
    let gids =
        gids.filter_map(|(_, group)| Some((IdSpan::single(group.gid()?.0), group.name.into())));
    let ranges = |file| {
        let of = book.sub_ids(file).into_iter().flat_map(Table::records);
        of.filter_map(|(_, range)| Some((range.span()?, BString::from(range.owner)))).collect()
    };
    let retired = world.retired();
    let singles = retired.users.iter().chain(&retired.groups);
    let singles = singles.map(|id| (IdSpan::single(id.id), id.name.clone()));
    let spans = retired.ranges.iter().map(|range| (range.span, range.name.clone()));
    let avoided = policy.ids_avoid.iter().map(|avoid| (avoid.span, avoid.why.clone().into()));
    let lanes: [(LaneKind, Vec<Held>); 6] = [
        (LaneKind::Uids, uids.collect()),
        (LaneKind::Gids, gids.collect()),
        (LaneKind::UidRanges, ranges(File::Subuid)),
        (LaneKind::GidRanges, ranges(File::Subgid)),
        (LaneKind::Retired, singles.chain(spans).collect()),
        (LaneKind::Avoided, avoided.collect()),
    ];
    let lanes = lanes.into_iter().filter(|(_, held)| !held.is_empty());
    let lanes: Vec<Lane> =
        lanes.map(|(kind, held)| Lane { kind, marks: marks(held, MOST_MARKS) }).collect();
    // What is only kept free, and may be half of all numbers, is nothing to look closer at.
    let looked_at = lanes.iter().filter(|lane| lane.kind != LaneKind::Avoided);
    let spans = looked_at.flat_map(|lane| lane.marks.iter().map(|mark| mark.span)).collect();
    NumberMap { parts: parts(spans, MOST_PARTS), lanes }
}

/// The numbers of a lane as marks: what touches is one, and so is what lies closest, where there
/// would be more than `most`.
fn marks(mut held: Vec<Held>, most: usize) -> Vec<Mark> {
    order::sort(&mut held);
    // Each run of spans that touch or overlap, with how many numbers are in it.
    let mut runs: Vec<(IdSpan, u64, Vec<BString>)> = Vec::new();
    for (span, name) in held {
        match runs.last_mut() {
            Some((run, count, names)) if touches(*run, span) => {
                let more = u64::from(span.last().saturating_sub(run.last()));
                *count += more;
                *run = joined(*run, span);
                names.push(name);
            }
            _ => runs.push((span, span.count(), vec![name])),
        }
    }
    let widest = widest_kept(runs.iter().map(|(span, ..)| *span), most);
    let mut marks: Vec<(IdSpan, u64, Vec<BString>)> = Vec::new();
    for (span, count, names) in runs {
        match marks.last_mut() {
            Some((last, all, named)) if gap(*last, span) < widest => {
                (*last, *all) = (joined(*last, span), *all + count);
                named.extend(names);
            }
            _ => marks.push((span, count, names)),
        }
    }
    let mark = |(span, count, mut names): (IdSpan, u64, Vec<BString>)| {
        names.dedup();
        Mark { span, count, words: first_of(&names, NAMED).to_string() }
    };
    marks.into_iter().map(mark).collect()
}

/// How wide a gap has to be to stay one, so that at most so many spans are left.
fn widest_kept(spans: impl Iterator<Item = IdSpan> + Clone, most: usize) -> u64 {
    let next = spans.clone().skip(1);
    let mut gaps: Vec<u64> = spans.zip(next).map(|(one, next)| gap(one, next)).collect();
    if gaps.len() < most {
        return 0;
    }
    gaps.sort_unstable_by(|a, b| b.cmp(a));
    gaps[most - 1] + 1
}

/// The parts in which spans are: apart is what has a gap beside it that is as wide as itself and
/// more than a few numbers.
fn parts(mut spans: Vec<IdSpan>, most: usize) -> Vec<IdSpan> {
    const FEW: u64 = 50;
    order::sort(&mut spans);
    let mut parts: Vec<IdSpan> = Vec::new();
    for span in spans {
        match parts.last_mut() {
            Some(part) if gap(*part, span) < part.count().max(FEW) => *part = joined(*part, span),
            _ => parts.push(span),
        }
    }
    let widest = widest_kept(parts.iter().copied(), most);
    let mut left: Vec<IdSpan> = Vec::new();
    for part in parts {
        match left.last_mut() {
            Some(last) if gap(*last, part) < widest => *last = joined(*last, part),
            _ => left.push(part),
        }
    }
    left
}

/// How many numbers lie between two spans, the earlier first.
fn gap(one: IdSpan, next: IdSpan) -> u64 {
    u64::from(next.first()).saturating_sub(u64::from(one.last()) + 1)
}

fn touches(one: IdSpan, next: IdSpan) -> bool {
    gap(one, next) == 0
}

/// Both spans, and what lies between them; the one that begins earlier first.
fn joined(one: IdSpan, next: IdSpan) -> IdSpan {
    IdSpan::fixed(one.first(), one.last().max(next.last()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::book::tests::book;
    use crate::policy::Policy;
    use crate::retired_ids::RetiredId;
    use crate::test_support::World;
    use crate::value::Day;

    fn held(spans: &[(u32, u32)]) -> Vec<Held> {
        let one = |(first, last): &(u32, u32)| (IdSpan::fixed(*first, *last), "ann".into());
        spans.iter().map(one).collect()
    }

    fn spans(marks: &[Mark]) -> Vec<(String, u64)> {
        marks.iter().map(|mark| (mark.span.to_string(), mark.count)).collect()
    }

    #[test]
    fn what_touches_is_one_mark_and_what_overlaps_is_counted_once() {
        let all = [(5, 5), (3, 4), (10, 19), (15, 24), (40, 40)];
        let told = [("3-5".to_owned(), 3), ("10-24".to_owned(), 15), ("40".to_owned(), 1)];
        assert_eq!(spans(&marks(held(&all), 10)), told);
        let two = [("3-24".to_owned(), 18), ("40".to_owned(), 1)];
        assert_eq!(spans(&marks(held(&all), 2)), two, "the closest become one");
        assert_eq!(spans(&marks(held(&all), 1)), [("3-40".to_owned(), 19)]);
        let ends = [(0, 0), (u32::MAX, u32::MAX)];
        assert_eq!(marks(held(&ends), 10).len(), 2);
    }

    #[test]
    fn the_parts_are_where_something_is() {
        let all = |spans: &[(u32, u32)]| spans.iter().map(|(a, b)| IdSpan::fixed(*a, *b)).collect();
        let told = |parts: Vec<IdSpan>| parts.iter().map(ToString::to_string).collect::<Vec<_>>();
        let used: Vec<IdSpan> = all(&[(0, 13), (33, 33), (998, 999), (1000, 1006), (1500, 1500)]);
        assert_eq!(told(parts(used.clone(), 6)), ["0-33", "998-1006", "1500"]);
        assert_eq!(told(parts(used, 2)), ["0-33", "998-1500"]);
        assert!(parts(Vec::new(), 6).is_empty());
    }

    #[test]
    fn a_map_has_lanes_for_what_there_is() {
        let book = book(&[
            (File::Passwd, "root:x:0:0:::\nmaren:x:1004:1004:::\nperrin:x:1005:1004:::\nx:y:z\n"),
            (File::Group, "maren:x:1004:\n"),
            (File::Subuid, "maren:100000:65536\n"),
        ]);
        let policy = Policy::read("p", "[ids]\navoid = [\"2000-2999 the directory's\"]").unwrap();
        let mut world = World::default();
        let retired = RetiredId { id: 1007, name: "odalys".into(), since: None };
        world.retired.users.push(retired);
        let today = Day(20_781);
        let context =
            PlanContext { book: &book, policy: &policy, world: &world, today, change: None };
        let map = number_map(context);
        let told: Vec<(String, Vec<String>)> = map
            .lanes
            .iter()
            .map(|lane| {
                let marks = lane.marks.iter();
                let marks = marks.map(|mark| format!("{} {}", mark.span, mark.words)).collect();
                (lane.kind.to_string(), marks)
            })
            .collect();
        let one = |kind: &str, marks: &[&str]| {
            (kind.to_owned(), marks.iter().map(|mark| (*mark).to_owned()).collect::<Vec<_>>())
        };
        assert_eq!(
            told,
            [
                one("uids", &["0 root", "1004-1005 maren, perrin"]),
                one("gids", &["1004 maren"]),
                one("uid-ranges", &["100000-165535 maren"]),
                one("retired", &["1007 odalys"]),
                one("avoided", &["2000-2999 the directory's"]),
            ]
        );
        let parts: Vec<String> = map.parts.iter().map(ToString::to_string).collect();
        assert_eq!(parts, ["0", "1004-1007", "100000-165535"]);
    }
}

//! Subordinate ids: overlapping-range, duplicate-range, range-over-account.

use std::cell::LazyCell;

use bstr::BStr;
use hashbrown::{HashMap, HashSet};

use super::repair::mends;
use super::{Checker, Example, Family, Mark, Mend, PLAIN, Pass, Remedy, Rule, Severity};
use crate::context::PlanContext;
use crate::order;
use crate::table::{
    File, Line, Lines, NameHasher, Passwd, SubId, SubIdField, SubIds, Sum, Table, each_line,
};
use crate::value::{IdSet, IdSpan, Uid};

pub(super) const PASSES: &[Pass] = &[
    (&[&OVERLAPPING_RANGE], overlaps),
    (&[&DUPLICATE_RANGE], doubled),
    (&[&RANGE_OVER_ACCOUNT], over_accounts),
    (&[&ONE_SIDED_RANGE], one_sided),
];

static OVERLAPPING_RANGE: Rule = Rule {
    name: "overlapping-range",
    severity: Severity::Error,
    family: Family::Ranges,
    reads: &[File::Subuid, File::Subgid],
    finds: "two subordinate ranges that share ids",
    why: "The containers of one user own, read and change the files of the other's.",
    remedy: "Give one of the users another range, and its containers new ids: copper-nest change \
                 user NAME --move-range FIRST-LAST.",
    bad: Example::with(&[
        (
            File::Passwd,
            "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\nkeeper:x:1005:1004::/home/keeper:/bin/sh\n",
        ),
        (File::Shadow, "maren:!:20781:0::7:::\nkeeper:!:20781::::::\n"),
        (File::Subuid, "maren:2001010688:65536\nkeeper:2001010788:65536\n"),
    ]),
    good: Example::with(&[(File::Subuid, "maren:2001010688:65536\nmaren:2001076224:65536\n")]),
    ..PLAIN
};

static DUPLICATE_RANGE: Rule = Rule {
    name: "duplicate-range",
    severity: Severity::Error,
    family: Family::Ranges,
    reads: &[File::Subuid, File::Subgid],
    finds: "a range that stands twice",
    why: "Whoever takes it away takes it away once: the other line goes on granting it.",
    remedy: "Take one of the two lines out.",
    bad: Example::with(&[(File::Subuid, "maren:2001010688:65536\nmaren:2001010688:65536\n")]),
    good: Example::with(&[(File::Subuid, "maren:2001010688:65536\n")]),
    mend: Mend::Line(mends::repeated),
    taken_out: true,
    ..PLAIN
};

static RANGE_OVER_ACCOUNT: Rule = Rule {
    name: "range-over-account",
    severity: Severity::Error,
    family: Family::Ranges,
    reads: &[File::Passwd, File::Group, File::Subuid, File::Subgid],
    finds: "a range that covers the number of an account or a group",
    why: "The owner of the range can become that account inside a container, and read and write its files.",
    remedy: "Give the owner another range: copper-nest change user NAME --move-range FIRST-LAST.",
    bad: Example::with(&[(File::Subuid, "maren:1000:65536\n")]),
    good: Example::with(&[(File::Subuid, "maren:2001010688:65536\n")]),
    ..PLAIN
};

static ONE_SIDED_RANGE: Rule = Rule {
    name: "one-sided-range",
    severity: Severity::Note,
    family: Family::Orphans,
    reads: &[File::Subuid, File::Subgid],
    finds: "a range that stands in one of etc/subuid and etc/subgid only",
    why: "Container tools take the same ids for users and for groups: without the other half \
              most of them refuse to start.",
    remedy: "Give the owner the same range in both: copper-nest change user NAME --ranges SPAN.",
    bad: Example::with(&[
        (File::Subuid, "maren:2001010688:65536\n"),
        (File::Subgid, "maren:2001076224:65536\n"),
    ]),
    good: Example::with(&[
        (File::Subuid, "maren:2001010688:65536\n"),
        (File::Subgid, "maren:2001010688:65536\n"),
    ]),
    ..PLAIN
};

fn one_sided(checker: &mut Checker<'_>) {
    let context = checker.context;
    let book = context.book;
    let (Some(uids), Some(gids)) = (&book.subuid, &book.subgid) else { return };
    if uids.lines().is_like(gids.lines()) || have_the_same_lines(uids.lines(), gids.lines()) {
        return;
    }
    for (table, other) in [(uids, gids), (gids, uids)] {
        let known: HashSet<(&[u8], IdSpan)> =
            other.records().filter_map(|(_, range)| Some((range.owner, range.span()?))).collect();
        let path = other.lines().file().path();
        // Only where one is odd is it asked what else its owner has.
        let all = LazyCell::new(|| {
            let mut all: HashMap<&[u8], Vec<String>> = HashMap::new();
            for (_, range) in table.records() {
                let span = range.span().map(|span| span.to_string());
                all.entry(range.owner).or_default().extend(span);
            }
            all
        });
        for (line, range) in table.records() {
            let Some(span) = range.span() else { continue };
            if known.contains(&(range.owner, span)) || is_roots(context, &range) {
                continue;
            }
            // By name here and by number there is the same owner.
            let Some((_, user)) = owner_of(context, &range) else { continue };
            let number = user.uid().map(|uid| uid.to_string().into_bytes()).unwrap_or_default();
            if known.contains(&(user.name, span)) || known.contains(&(&number[..], span)) {
                continue;
            }
            let name = BStr::new(user.name);
            let message = format!("{span} is {name}'s here, and not in {path}.");
            let all = all.get(range.owner).map(|all| all.join(";")).unwrap_or_default();
            let remedy =
                Remedy::of_command([b"change", b"user", name, b"--ranges", all.as_bytes()]);
            checker.find(
                &ONE_SIDED_RANGE,
                (table.lines(), line),
                SubIdField::First,
                message,
                remedy,
            );
        }
    }
}

/// Whether two files hold the same lines, in whatever order: by the sums of their hashes.
fn have_the_same_lines(one: &Lines, other: &Lines) -> bool {
    let hasher = NameHasher::default();
    let sum = |lines: &Lines| {
        let parts = lines.sweep(Sum::default, |sum: &mut Sum, _, text| {
            each_line(text, |row| sum.add(hasher.hash_all([row.line])));
        });
        parts.into_iter().fold(Sum::default(), |mut all, part| {
            all.extend(part);
            all
        })
    };
    let (one, other) = rayon::join(|| sum(one), || sum(other));
    one == other
}

/// The account that has a range.
fn owner_of<'b>(context: PlanContext<'b>, range: &SubId<'_>) -> Option<(Line<'b>, Passwd<'b>)> {
    let book = context.book;
    range.owner_uid().and_then(|uid| book.user_by_uid(uid)).or_else(|| book.user(range.owner))
}

/// Goes through both files of ranges, or those of which it may be that something is wrong.
fn each_file(
    checker: &mut Checker<'_>,
    odd: [bool; 2],
    find: fn(&mut Checker<'_>, &Table<SubIds>),
) {
    let book = checker.context.book;
    for (table, _) in [&book.subuid, &book.subgid].into_iter().zip(odd).filter(|(_, odd)| *odd) {
        table.iter().for_each(|table| find(checker, table));
    }
}

fn doubled(checker: &mut Checker<'_>) {
    each_file(checker, checker.prefilter.overlapping, doubled_in);
}

fn doubled_in(checker: &mut Checker<'_>, table: &Table<SubIds>) {
    let lines = table.lines();
    // Nearly always no range begins where another does.
    let mut firsts = IdSet::default();
    let spans = || table.records().filter_map(|(line, range)| Some((range.span()?, line, range)));
    let again: HashSet<u32> = spans()
        .filter(|(span, ..)| !firsts.insert(span.first()))
        .map(|(span, ..)| span.first())
        .collect();
    if again.is_empty() {
        return;
    }
    let mut first: HashMap<(&[u8], IdSpan), usize> = HashMap::new();
    for (span, line, range) in spans().filter(|(span, ..)| again.contains(&span.first())) {
        let other = *first.entry((range.owner, span)).or_insert(line.start);
        if other == line.start {
            continue;
        }
        let (owner, number) = (BStr::new(range.owner), lines.number(other));
        let message = format!("line {number} gives {span} to {owner} already.");
        let remedy = Remedy::repair(&DUPLICATE_RANGE);
        checker.find(&DUPLICATE_RANGE, (lines, line), Mark::Line, message, remedy);
    }
}

fn over_accounts(checker: &mut Checker<'_>) {
    each_file(checker, checker.prefilter.covering, over_accounts_in);
}

fn over_accounts_in(checker: &mut Checker<'_>, table: &Table<SubIds>) {
    let ids = &checker.prefilter.held;
    for (line, range) in table.records() {
        let Some(span) = range.span() else { continue };
        let Some(id) = ids.highest_in(span.first(), span.last()) else { continue };
        if is_roots(checker.context, &range) {
            continue;
        }
        let owner = BStr::new(range.owner);
        let message = format!(
            "{span} covers {id}, the number of an account or a group: {owner} can become it."
        );
        let (at, remedy) = ((table.lines(), line), another_range(checker.context, &range));
        checker.find(&RANGE_OVER_ACCOUNT, at, SubIdField::First, message, remedy);
    }
}

/// Whether a range is root's, which can become anybody without it: what root hands into
/// containers may be ids of people too.
fn is_roots(context: PlanContext<'_>, range: &SubId<'_>) -> bool {
    let uid = range.owner_uid().or_else(|| {
        let (_, user) = context.book.user(range.owner)?;
        user.uid()
    });
    uid == Some(Uid::ROOT)
}

/// A range of its own. The old ids are retired, and not given to anybody.
fn another_range(context: PlanContext<'_>, range: &SubId<'_>) -> Vec<Remedy> {
    let by_uid = range.owner_uid().and_then(|uid| context.book.user_by_uid(uid));
    let owner = by_uid.map_or(range.owner, |(_, user)| user.name);
    let Some(span) = range.span() else { return Vec::new() };
    let span = span.to_string();
    Remedy::of_command([b"change", b"user", owner, b"--move-range", span.as_bytes()])
}

fn overlaps(checker: &mut Checker<'_>) {
    each_file(checker, checker.prefilter.overlapping, overlaps_in);
}

fn overlaps_in(checker: &mut Checker<'_>, table: &Table<SubIds>) {
    let mut spans: Vec<(IdSpan, Line<'_>, SubId<'_>)> =
        table.records().filter_map(|(line, range)| Some((range.span()?, line, range))).collect();
    spans.retain(|(.., range)| !is_roots(checker.context, range));
    order::sort_by_key(&mut spans, |(span, line, _)| (span.first(), line.start));
    // The range so far that reaches furthest: whatever begins inside it overlaps.
    let mut furthest: Option<(IdSpan, Line<'_>, SubId<'_>)> = None;
    for (span, line, range) in spans {
        if let Some((other_span, other_line, other)) = furthest
            && other_span.overlaps(span)
            // The same line twice is a duplicate, and harmless.
            && (other_span != span || other.owner != range.owner)
        {
            let shared = span.first()..=span.last().min(other_span.last());
            let message = format!(
                "{}-{} are also {}'s ({}, line {}): their containers share files.",
                shared.start(),
                shared.end(),
                BStr::new(other.owner),
                other_span,
                table.lines().number(other_line.start)
            );
            let (at, remedy) = ((table.lines(), line), another_range(checker.context, &range));
            checker
                .find(&OVERLAPPING_RANGE, at, SubIdField::First, message, remedy)
                .relate(table.lines(), other_line);
        }
        if furthest.is_none_or(|(reach, ..)| span.last() > reach.last()) {
            furthest = Some((span, line, range));
        }
    }
}

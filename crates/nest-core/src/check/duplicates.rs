//! Things that must be unique: duplicate-name, duplicate-uid, duplicate-gid,
//! duplicate-member, case-twin, shared-home.

use bstr::BStr;
use hashbrown::{HashMap, HashSet};

use super::repair::mends;
use super::{
    Checker, Example, Family, Mark, Mend, PLAIN, Pass, Remedy, Rule, Severity, another_number,
    free_name,
};
use crate::account::means_no_home;
use crate::table::{
    Column, File, Group, GroupField, Line, Lines, Passwd, PasswdField, Record, doubled_numbers,
};

pub(super) const PASSES: &[Pass] = &[
    (&[&DUPLICATE_NAME], names),
    (&[&DUPLICATE_UID], uids),
    (&[&DUPLICATE_GID], gids),
    (&[&DUPLICATE_MEMBER], doubled_members),
    (&[&CASE_TWIN], case_twins),
    (&[&SHARED_HOME], shared_homes),
];

static DUPLICATE_NAME: Rule = Rule {
    name: "duplicate-name",
    severity: Severity::Error,
    family: Family::Duplicates,
    reads: &[File::Passwd, File::Group, File::Shadow, File::Gshadow],
    finds: "two lines of a file with one name",
    why: "Only the first is found by name. The second still owns files, and a change \
              may reach the one or the other.",
    remedy: "Decide which line is right and take the other out, or give it another name.",
    bad: Example::with(&[(
        File::Passwd,
        "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\nmaren:x:1009:1004:Maren Solvik:/home/maren:/bin/sh\n",
    )]),
    mend: Mend::Line(mends::repeated),
    taken_out: true,
    blocks: true,
    ..PLAIN
};

static DUPLICATE_UID: Rule = Rule {
    name: "duplicate-uid",
    severity: Severity::Error,
    family: Family::Duplicates,
    reads: &[File::Passwd],
    finds: "two users with one uid",
    why: "To the kernel they are one and the same: each owns, reads and deletes the \
              other's files, and ends the other's processes.",
    remedy: "Give one of them a uid of its own, and the files that belong to it.",
    bad: Example::with(&[
        (
            File::Passwd,
            "odalys:x:1002:100::/home/maren:/bin/bash\ntavish:x:1002:100::/home/maren:/bin/sh\n",
        ),
        (File::Group, "users:x:100:\n"),
        (File::Shadow, "odalys:!:20781:0::7:::\ntavish:!:20781:0::7:::\n"),
    ]),
    ..PLAIN
};

static DUPLICATE_GID: Rule = Rule {
    name: "duplicate-gid",
    severity: Severity::Error,
    family: Family::Duplicates,
    reads: &[File::Group],
    finds: "two groups with one gid",
    why: "To the kernel they are one and the same: the members of one reach the files \
              of the other, whatever the lists say.",
    remedy: "Give one of them a gid of its own, and the files that belong to it.",
    bad: Example::with(&[(File::Group, "maren:x:1004:\npilots:x:1004:\n")]),
    ..PLAIN
};

static DUPLICATE_MEMBER: Rule = Rule {
    name: "duplicate-member",
    severity: Severity::Warning,
    family: Family::Duplicates,
    reads: &[File::Group],
    finds: "a member whom a list names twice",
    why: "Whoever takes the name out once leaves it in: access that was withdrawn stays.",
    remedy: "Take the name out of the list once.",
    bad: Example::with(&[(File::Group, "maren:x:1004:\npilots:x:210:maren,maren\n")]),
    good: Example::with(&[(File::Group, "maren:x:1004:\npilots:x:210:maren\n")]),
    mend: Mend::Line(mends::once),
    ..PLAIN
};

static CASE_TWIN: Rule = Rule {
    name: "case-twin",
    severity: Severity::Warning,
    family: Family::Duplicates,
    reads: &[File::Passwd, File::Group],
    finds: "two names that differ in capitals only",
    why: "Mail, some file systems and many directories do not tell capitals apart: the two get one mailbox, or one folder.",
    remedy: "Rename one of the two.",
    bad: Example::with(&[
        (
            File::Passwd,
            "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\nMaren:x:1005:1004::/nonexistent:/bin/sh\n",
        ),
        (File::Shadow, "maren:!:20781:0::7:::\nMaren:!:20781::::::\n"),
    ]),
    ..PLAIN
};

pub(super) static SHARED_HOME: Rule = Rule {
    name: "shared-home",
    severity: Severity::Warning,
    family: Family::Duplicates,
    reads: &[File::Passwd],
    finds: "two people with one home",
    why: "Each reads and writes the other's files, or is kept out of them; deleting one account takes the other's home with it.",
    remedy: "Give one of them a home of its own: copper-nest change user NAME --home PATH --record-only.",
    bad: Example::with(&[
        (
            File::Passwd,
            "maren:x:1004:1004:Maren Solvik:/home/maren:/bin/bash\nperrin:x:1005:1004::/home/maren:/bin/sh\n",
        ),
        (File::Shadow, "maren:!:20781:0::7:::\nperrin:!:20781::::::\n"),
    ]),
    ..PLAIN
};

fn names(checker: &mut Checker<'_>) {
    let book = checker.context.book;
    for file in [File::Passwd, File::Shadow, File::Group, File::Gshadow] {
        let Some(lines) = book.lines(file) else { continue };
        for &(first, again) in book.names().doubled(file) {
            let (first, line) = (lines.at(first as usize), lines.at(again as usize));
            let (name, number) = (BStr::new(line.name()), lines.number(first.start));
            let message =
                format!("line {number} says {name} already, and only that one is found by name.");
            let remedy = match first.bytes == line.bytes && line.is_whole(file) {
                true => Remedy::repair(&DUPLICATE_NAME),
                false => Remedy::take_out(file, lines.number(line.start)),
            };
            checker
                .find(&DUPLICATE_NAME, (lines, line), Column::NAME, message, remedy)
                .relate(lines, first);
        }
    }
}

fn uids(checker: &mut Checker<'_>) {
    let users = &checker.context.book.users;
    let all =
        || users.records().filter_map(|(line, user)| Some((user.uid()?.0, line.start as u32)));
    if checker.prefilter.uid_twice {
        // A second root is another rule's.
        let doubled = doubled_numbers(all).into_iter().filter(|(uid, ..)| *uid != 0);
        let why = "each of them owns the other's files";
        numbers(checker, (&DUPLICATE_UID, PasswdField::Uid.into()), users.lines(), doubled, why);
    }
}

fn gids(checker: &mut Checker<'_>) {
    let groups = &checker.context.book.groups;
    let all =
        || groups.records().filter_map(|(line, group)| Some((group.gid()?.0, line.start as u32)));
    if checker.prefilter.gid_twice {
        let doubled = doubled_numbers(all).into_iter();
        let why = "the members of each reach the files of the other";
        numbers(checker, (&DUPLICATE_GID, GroupField::Gid.into()), groups.lines(), doubled, why);
    }
}

/// Tells of numbers that two lines share. One name twice is another rule's.
fn numbers(
    checker: &mut Checker<'_>,
    (rule, column): (&'static Rule, Column),
    lines: &Lines,
    doubled: impl Iterator<Item = (u32, u32, u32)>,
    why: &str,
) {
    let what = if lines.file().is_of_groups() { "gid" } else { "uid" };
    for (id, first, again) in doubled {
        let (mut first, mut line) = (lines.at(first as usize), lines.at(again as usize));
        // Root's own number is root's, wherever its line stands.
        if line.name() == b"root" {
            (first, line) = (line, first);
        }
        let (other, number) = (BStr::new(first.name()), lines.number(first.start));
        if other != line.name() {
            let message = format!("{what} {id} is also {other} (line {number}): {why}.");
            let remedy = another_number(lines.file(), line.name());
            checker.find(rule, (lines, line), column, message, remedy).relate(lines, first);
        }
    }
}

fn doubled_members(checker: &mut Checker<'_>) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    let mut seen: HashSet<&[u8]> = HashSet::new();
    for start in &prefilter.lists {
        let line = context.book.groups.lines().at(*start as usize);
        let Some(group) = Group::read(line.record()).filter(|_| line.is_record()) else { continue };
        seen.clear();
        // Once for each name, however often it stands there.
        let mut told: Vec<&[u8]> = Vec::new();
        for member in group.members().filter(|member| !seen.insert(member)) {
            if told.contains(&member) {
                continue;
            }
            told.push(member);
            let (name, group) = (BStr::new(member), BStr::new(group.name));
            let message = format!("{group} lists {name} more than once.");
            let remedy = Remedy::repair(&DUPLICATE_MEMBER);
            let mark = Mark::Member(GroupField::Members.into(), name.to_owned());
            let lines = context.book.groups.lines();
            checker.find(&DUPLICATE_MEMBER, (lines, line), mark, message, remedy);
        }
    }
}

fn case_twins(checker: &mut Checker<'_>) {
    let book = checker.context.book;
    case_twins_in(checker, book.users.lines());
    case_twins_in(checker, book.groups.lines());
}

fn case_twins_in(checker: &mut Checker<'_>, lines: &Lines) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    // Only a name with a capital can be another one's twin.
    let capital = |name: &[u8]| name.iter().any(u8::is_ascii_uppercase);
    let odd = prefilter.lines(context.book, lines.file()).filter(Line::is_record);
    let large: HashSet<Vec<u8>> = odd
        .filter(|line| capital(line.name()))
        .map(|line| line.name().to_ascii_lowercase())
        .collect();
    if large.is_empty() {
        return;
    }
    let mut first: HashMap<Vec<u8>, Line<'_>> = HashMap::new();
    for line in lines.iter().filter(Line::is_record) {
        let small = line.name().to_ascii_lowercase();
        if !large.contains(small.as_slice()) {
            continue;
        }
        let other = *first.entry(small).or_insert(line);
        if other.name() != line.name() {
            let (name, twin) = (BStr::new(line.name()), BStr::new(other.name()));
            let number = lines.number(other.start);
            let message = format!("{name} and {twin} (line {number}) differ in capitals only.");
            let remedy = Remedy::rename(lines.file(), name, &free_name(context.book, name));
            checker
                .find(&CASE_TWIN, (lines, line), Column::NAME, message, remedy)
                .relate(lines, other);
        }
    }
}

/// Whether the last part of a home is its own user's name: it is shared only with
/// one whose is not.
pub(super) fn is_own_home(name: &[u8], home: &[u8]) -> bool {
    is_last_part(home, name) && !name.contains(&b'/')
}

/// Whether a path ends in a slash and a name.
#[inline]
pub(super) fn is_last_part(path: &[u8], name: &[u8]) -> bool {
    let slash = path.len().wrapping_sub(name.len() + 1);
    path.get(slash) == Some(&b'/') && path.ends_with(name)
}

fn shared_homes(checker: &mut Checker<'_>) {
    if !checker.prefilter.other_home {
        return;
    }
    let context = checker.context;
    let (book, policy) = (context.book, context.policy);
    let lines = book.users.lines();
    let person = |user: &Passwd<'_>| {
        user.uid().is_some_and(|uid| policy.is_person(uid)) && !means_no_home(user.home)
    };
    let people = || book.users.records().map(|(_, user)| user).filter(person);
    let other = people().filter(|user| !is_own_home(user.name, user.home));
    let odd: HashSet<&[u8]> = other.map(|user| user.home).collect();
    if odd.is_empty() {
        return;
    }
    let mut first: HashMap<&[u8], (Line<'_>, &[u8])> = HashMap::new();
    for (line, user) in book.users.records().filter(|(_, user)| person(user)) {
        if !odd.contains(user.home) {
            continue;
        }
        let (other, other_name) = *first.entry(user.home).or_insert((line, user.name));
        if other_name == user.name {
            continue;
        }
        let (name, home) = (BStr::new(user.name), BStr::new(user.home));
        let (other_name, number) = (BStr::new(other_name), lines.number(other.start));
        let message = format!("{home} is the home of {other_name} (line {number}) too.");
        let own = policy.home_of(name);
        let change: [&[u8]; 6] =
            [b"change", b"user", name, b"--home", own.as_ref(), b"--record-only"];
        let remedy = Remedy::of_command(change);
        checker
            .find(&SHARED_HOME, (lines, line), PasswdField::Home, message, remedy)
            .relate(lines, other);
    }
}

//! Things that must be unique: duplicate-name, duplicate-uid, duplicate-gid,
//! duplicate-member, case-twin, shared-home.

use bstr::BStr;
use hashbrown::{HashMap, HashSet};

use super::lines::found;
use super::prefilter::Prefilter;
use super::remedy::{another_number, free_name};
use super::repair::mends;
use super::rule::{Example, Family, Mend, PLAIN, Rule, Severity};
use super::{Finding, Mark, Out, Related, Remedy, Selection};
use crate::account::means_no_home;
use crate::context::PlanContext;
use crate::secret::shown;
use crate::table::{
    Column, File, Group, GroupField, Groups, Line, Lines, Passwd, PasswdField, Record, Table,
    Users, doubled_numbers,
};

pub(super) const RULES: &[&Rule] =
    &[&DUPLICATE_NAME, &DUPLICATE_UID, &DUPLICATE_GID, &DUPLICATE_MEMBER, &CASE_TWIN, &SHARED_HOME];

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

static SHARED_HOME: Rule = Rule {
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

pub(super) fn judge(context: PlanContext<'_>, selection: &Selection, prefilter: &Prefilter) -> Out {
    let book = context.book;
    let mut out = Out::default();
    if let Some(rule) = selection.wanted(&DUPLICATE_NAME) {
        for file in [File::Passwd, File::Shadow, File::Group, File::Gshadow] {
            let Some(lines) = book.lines(file) else { continue };
            for &(first, again) in book.names().doubled(file) {
                let (line, number) = (lines.at(again as usize), lines.number(first as usize));
                let name = BStr::new(line.name());
                let message = format!(
                    "line {number} says {name} already, and only that one is found by name."
                );
                let remedy =
                    match lines.at(first as usize).bytes == line.bytes && line.is_whole(file) {
                        true => Remedy::repair(rule),
                        false => Remedy::take_out(file, lines.number(line.start)),
                    };
                let finding = found(rule, lines, line, Mark::Field(Column::NAME), message, remedy);
                out.findings.push(relate(finding, lines, number as u32 - 1));
            }
        }
    }
    let (uid, gid) = (selection.wanted(&DUPLICATE_UID), selection.wanted(&DUPLICATE_GID));
    if let Some(rule) = uid.filter(|_| prefilter.uid_twice) {
        let doubled = doubled_numbers(|| uids(&book.users));
        for (first, again) in doubled {
            let pair = (book.users.record(first as usize), book.users.record(again as usize));
            let (Some(first_user), Some(user)) = pair else {
                continue;
            };
            // One name twice is another rule's, and so is a second root.
            if first_user.name == user.name || user.uid() == Some(0) {
                continue;
            }
            let message = format!(
                "uid {} is also {} (line {}): each of them owns the other's files.",
                user.uid().unwrap_or_default(),
                BStr::new(first_user.name),
                first + 1
            );
            let remedy = another_number(File::Passwd, user.name);
            let lines = book.users.lines();
            let finding = found(
                rule,
                lines,
                lines.get(again as usize),
                Mark::Field(PasswdField::Uid.into()),
                message,
                remedy,
            );
            out.findings.push(relate(finding, lines, first));
        }
    }
    if let Some(rule) = gid.filter(|_| prefilter.gid_twice) {
        let doubled = doubled_numbers(|| gids(&book.groups));
        for (first, again) in doubled {
            let pair = (book.groups.record(first as usize), book.groups.record(again as usize));
            let (Some(first_group), Some(group)) = pair else {
                continue;
            };
            if first_group.name == group.name {
                continue;
            }
            let message = format!(
                "gid {} is also {} (line {}): the members of each reach the files of the other.",
                group.gid().unwrap_or_default(),
                BStr::new(first_group.name),
                first + 1
            );
            let remedy = another_number(File::Group, group.name);
            let lines = book.groups.lines();
            let finding = found(
                rule,
                lines,
                lines.get(again as usize),
                Mark::Field(GroupField::Gid.into()),
                message,
                remedy,
            );
            out.findings.push(relate(finding, lines, first));
        }
    }
    if let Some(rule) = selection.wanted(&DUPLICATE_MEMBER) {
        doubled_members(rule, context, prefilter, &mut out);
    }
    if let Some(rule) = selection.wanted(&CASE_TWIN) {
        case_twins(rule, context, prefilter, book.users.lines(), &mut out);
        case_twins(rule, context, prefilter, book.groups.lines(), &mut out);
    }
    if let Some(rule) = selection.wanted(&SHARED_HOME).filter(|_| prefilter.other_home) {
        shared_homes(rule, context, &mut out);
    }
    out
}

fn doubled_members(
    rule: &'static Rule,
    context: PlanContext<'_>,
    prefilter: &Prefilter,
    out: &mut Out,
) {
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
            let remedy = Remedy::repair(rule);
            let mark = Mark::Member(GroupField::Members.into(), name.to_owned());
            let lines = context.book.groups.lines();
            out.findings.push(found(rule, lines, line, mark, message, remedy));
        }
    }
}

fn case_twins(
    rule: &'static Rule,
    context: PlanContext<'_>,
    prefilter: &Prefilter,
    lines: &Lines,
    out: &mut Out,
) {
    // Only a name with a capital can be another one's twin.
    let capital = |name: &[u8]| name.iter().any(u8::is_ascii_uppercase);
    let names = || lines.iter().enumerate().filter(|(_, line)| line.is_record());
    let odd = prefilter.lines(context.book, lines.file()).filter(Line::is_record);
    let large: HashSet<Vec<u8>> = odd
        .filter(|line| capital(line.name()))
        .map(|line| line.name().to_ascii_lowercase())
        .collect();
    if large.is_empty() {
        return;
    }
    let mut first: HashMap<Vec<u8>, usize> = HashMap::new();
    for (at, line) in names() {
        let name = line.name().to_ascii_lowercase();
        if !large.contains(name.as_slice()) {
            continue;
        }
        match first.get(&name) {
            None => _ = first.insert(name, at),
            Some(other) if lines.get(*other).name() != line.name() => {
                let twin = BStr::new(lines.get(*other).name());
                let name = BStr::new(line.name());
                let message =
                    format!("{name} and {twin} (line {}) differ in capitals only.", other + 1);
                let free = free_name(context.book, name);
                let remedy = Remedy::rename(lines.file(), name, &free);
                let finding = found(rule, lines, line, Mark::Field(Column::NAME), message, remedy);
                out.findings.push(relate(finding, lines, *other as u32));
            }
            Some(_) => {}
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

fn shared_homes(rule: &'static Rule, context: PlanContext<'_>, out: &mut Out) {
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
    let mut first: HashMap<&[u8], usize> = HashMap::new();
    for at in 0..lines.len() {
        let Some(user) = book.users.record(at).filter(&person) else { continue };
        if !odd.contains(user.home) {
            continue;
        }
        let other = *first.entry(user.home).or_insert(at);
        let other_name = BStr::new(lines.get(other).name());
        if other == at || other_name == user.name {
            continue;
        }
        let (name, home) = (BStr::new(user.name), BStr::new(user.home));
        let message = format!("{home} is the home of {other_name} (line {}) too.", other + 1);
        let own = policy.home_of(name);
        let change: [&[u8]; 6] =
            [b"change", b"user", name, b"--home", own.as_ref(), b"--record-only"];
        let remedy = Remedy::of_command(change);
        let finding = found(
            rule,
            lines,
            lines.get(at),
            Mark::Field(PasswdField::Home.into()),
            message,
            remedy,
        );
        out.findings.push(relate(finding, lines, other as u32));
    }
}

fn relate(mut finding: Finding, lines: &Lines, other: u32) -> Finding {
    finding.related.push(Related {
        file: lines.file(),
        line: other as usize + 1,
        text: shown(lines.file(), lines.get(other as usize).bytes),
    });
    finding
}

fn uids(users: &Table<Users>) -> impl Iterator<Item = (u32, u32)> {
    (0..users.lines().len()).filter_map(|at| Some((users.record(at)?.uid()?, at as u32)))
}

fn gids(groups: &Table<Groups>) -> impl Iterator<Item = (u32, u32)> {
    (0..groups.lines().len()).filter_map(|at| Some((groups.record(at)?.gid()?, at as u32)))
}

//! Who is in which group: ghost-member, ghost-admin, member-mismatch,
//! no-primary-group, listed-in-primary, empty-group.

use std::collections::BTreeSet;

use bstr::{BStr, ByteSlice};
use rayon::prelude::*;

use super::repair::mends;
use super::{
    Checker, Command, Example, Family, Mark, Mend, PLAIN, Pass, Prefilter, Remedy, Rule, Severity,
    free_name, knows_gid, knows_user,
};
use crate::account::{AccountKind, kind_of};
use crate::context::PlanContext;
use crate::secret::{is_kept, told};
use crate::table::{File, Group, GroupField, Gshadow, GshadowField, PasswdField, Record};
use crate::value::{members, nearest};
use crate::words::list;

pub(super) const PASSES: &[Pass] = &[
    (&[&GHOST_MEMBER], ghosts),
    (&[&GHOST_ADMIN], ghost_admins),
    (&[&MEMBER_MISMATCH], mismatches),
    (&[&NO_PRIMARY_GROUP], primary_groups),
    (&[&LISTED_IN_PRIMARY], listed_in_primary),
    (&[&EMPTY_GROUP], empty_groups),
];

static GHOST_MEMBER: Rule = Rule {
    name: "ghost-member",
    severity: Severity::Error,
    family: Family::Memberships,
    reads: &[File::Passwd, File::Group],
    finds: "a name in a group's list of members that no account has",
    why: "It does nothing today; the next account of that name is in the group at once, \
              without anybody deciding it.",
    remedy: "Take the name out of the list, or correct its spelling.",
    bad: Example::with(&[(File::Group, "maren:x:1004:\npilots:x:210:maren,tavis\n")]),
    good: Example::with(&[(File::Group, "maren:x:1004:\npilots:x:210:maren\n")]),
    mend: Mend::Line(mends::ghost),
    ..PLAIN
};

static GHOST_ADMIN: Rule = Rule {
    name: "ghost-admin",
    severity: Severity::Error,
    family: Family::Memberships,
    reads: &[File::Passwd, File::Gshadow],
    finds: "a name among a group's administrators that no account has",
    why: "The next account of that name may add members to the group, without anybody deciding it.",
    remedy: "Take the name out: copper-nest change group GROUP --drop-group-admin NAME.",
    bad: Example::with(&[(File::Gshadow, "maren:!:tavis:\n")]),
    good: Example::with(&[(File::Gshadow, "maren:!:maren:\n")]),
    by_line: true,
    mend: Mend::Line(mends::ghost),
    ..PLAIN
};

static MEMBER_MISMATCH: Rule = Rule {
    name: "member-mismatch",
    severity: Severity::Warning,
    family: Family::Memberships,
    reads: &[File::Group, File::Gshadow],
    finds: "a group whose members differ between group and gshadow",
    why: "Signing in goes by etc/group. Programs that switch groups go by etc/gshadow, \
              and let in people who left, or keep members out.",
    remedy: "Make the list in etc/gshadow the same as the one in etc/group.",
    bad: Example::with(&[
        (File::Group, "maren:x:1004:\npilots:x:210:maren\n"),
        (File::Gshadow, "maren:!::\npilots:!::\n"),
    ]),
    good: Example::with(&[
        (File::Group, "maren:x:1004:\npilots:x:210:maren\n"),
        (File::Gshadow, "maren:!::\npilots:!::maren\n"),
    ]),
    mend: Mend::Beside(mends::same_members),
    ..PLAIN
};

static NO_PRIMARY_GROUP: Rule = Rule {
    name: "no-primary-group",
    severity: Severity::Error,
    family: Family::Memberships,
    reads: &[File::Passwd, File::Group],
    finds: "a user whose primary gid no group has",
    why: "New files of that user belong to a bare number; the next group that gets the \
              number gets the files.",
    remedy: "Create the group with that gid, or give the user another primary group.",
    bad: Example::with(&[(File::Group, "users:x:100:\n")]),
    ..PLAIN
};

static LISTED_IN_PRIMARY: Rule = Rule {
    name: "listed-in-primary",
    severity: Severity::Note,
    family: Family::Memberships,
    reads: &[File::Passwd, File::Group],
    finds: "a user whom the list of its own primary group names",
    why: "It does no harm, and outlives the primary group: after another one is given, the user stays in the old one.",
    remedy: "Take the name out of the list, if that is not meant.",
    bad: Example::with(&[(File::Group, "maren:x:1004:maren\n")]),
    ..PLAIN
};

static EMPTY_GROUP: Rule = Rule {
    name: "empty-group",
    severity: Severity::Note,
    family: Family::Memberships,
    reads: &[File::Passwd, File::Group],
    finds: "a group of people that nobody is in",
    why: "It may wait for somebody; or the last one left, and files that are still the group's \
              wait for whoever joins next. Groups of services are not judged.",
    remedy: "Delete it, if nobody is to come: copper-nest delete group NAME.",
    bad: Example::with(&[(File::Group, "maren:x:1004:\nregatta:x:1050:\n")]),
    good: Example::with(&[(File::Group, "maren:x:1004:\nregatta:x:1050:maren\n")]),
    ..PLAIN
};

/// A nearest name is looked for this often; then the findings are too many for
/// slips of the fingers.
const SUGGESTIONS: usize = 20;

/// The members of groups that are wanted, with where their lines begin. Most of the
/// work is looking names up: it is spread, a stretch of lines each.
fn listed<'b>(
    context: PlanContext<'b>,
    prefilter: &Prefilter,
    wanted: impl Fn(Group<'b>, &'b [u8]) -> bool + Sync,
) -> Vec<(usize, &'b [u8])> {
    let (lines, wanted) = (context.book.groups.lines(), &wanted);
    let stretches = prefilter.lists.par_iter().with_min_len(1024);
    let of_line = |start: &u32| {
        let at = *start as usize;
        let line = lines.at(at);
        let group = Group::read(line.record()).filter(|_| line.is_record());
        let all = group
            .into_iter()
            .flat_map(|group| members(group.members).filter(move |member| wanted(group, member)));
        all.map(move |member| (at, member))
    };
    stretches.flat_map_iter(of_line).collect()
}

fn ghosts(checker: &mut Checker<'_>) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    let (book, group) = (context.book, context.book.groups.lines());
    let names = book.names();
    // A service's group that lists its own name waits for the service to be installed.
    let waits = |group: &Group<'_>, member: &[u8]| {
        group.name == member && kind_of(context.policy, group.gid()) == AccountKind::Service
    };
    let ghosts = listed(context, prefilter, |group, member| {
        names.find(File::Passwd, member).is_none() && !waits(&group, member)
    });
    let mut suggestions = 0;
    for (at, member) in ghosts {
        match knows_user(context, prefilter, member.into()) {
            Ok(true) => continue,
            Ok(false) => {}
            Err(why) => {
                checker.skip(&GHOST_MEMBER, why);
                return;
            }
        }
        let line = group.at(at);
        let name = BStr::new(member);
        // A space at the end of the line is another rule's.
        let plain = member.trim_ascii();
        let is_last = line.bytes.ends_with(member) && line.bytes.last() == member.last();
        if plain.len() < member.len() && is_last && names.find(File::Passwd, plain).is_some() {
            continue;
        }
        suggestions += 1;
        let near = (suggestions <= SUGGESTIONS)
            .then(|| nearest(member, book.users.records().map(|(_, user)| user.name)))
            .flatten();
        let message = match near {
            Some(near) => {
                format!("no account is called {name}. The nearest is {}.", BStr::new(near))
            }
            None => format!("no account is called {name}."),
        };
        let (message, remedy) = checker.or_lost((File::Passwd, member), message, || {
            let drop = Command::own([b"change", b"group", line.name(), b"--drop-member", name]);
            let mut remedy = Remedy::of_one(drop);
            if let Some(near) = near {
                let instead = Command::own([
                    b"change",
                    b"group",
                    line.name(),
                    b"--add-member",
                    near,
                    b"--drop-member",
                    name,
                ]);
                remedy.push(Remedy::or(format!("if {} is meant", BStr::new(near)), instead));
            }
            remedy
        });
        let mark = Mark::Member(GroupField::Members.into(), name.to_owned());
        checker.find(&GHOST_MEMBER, (group, line), mark, message, remedy);
    }
}

fn ghost_admins(checker: &mut Checker<'_>) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    let book = context.book;
    let Some(table) = &book.gshadow else { return };
    for (line, gshadow) in prefilter.records::<Gshadow<'_>>(book, File::Gshadow) {
        let unknown = members(gshadow.admins)
            .filter(|admin| book.names().find(File::Passwd, admin).is_none());
        for admin in unknown {
            match knows_user(context, prefilter, admin.into()) {
                Ok(true) => continue,
                Ok(false) => {}
                Err(why) => return checker.skip(&GHOST_ADMIN, why),
            }
            let (name, group) = (BStr::new(admin), BStr::new(gshadow.name));
            let message = format!("no account is called {name}, who administers {group}.");
            let (message, remedy) = checker.or_lost((File::Passwd, admin), message, || {
                let drop: [&[u8]; 5] =
                    [b"change", b"group", gshadow.name, b"--drop-group-admin", admin];
                Remedy::of_command(drop)
            });
            let mark = Mark::Member(GshadowField::Admins.into(), name.to_owned());
            checker.find(&GHOST_ADMIN, (table.lines(), line), mark, message, remedy);
        }
    }
}

fn listed_in_primary(checker: &mut Checker<'_>) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    let book = context.book;
    let lines = book.groups.lines();
    let gid_of = |name: &[u8]| book.user(name).and_then(|(_, user)| user.gid());
    let own = |group: Group<'_>, member: &[u8]| {
        group.gid().is_some_and(|gid| gid_of(member) == Some(gid))
    };
    for (at, member) in listed(context, prefilter, own) {
        let line = lines.at(at);
        let (name, group) = (BStr::new(member), BStr::new(line.name()));
        let message = format!("{group} is the primary group of {name}, and lists it too.");
        let remedy = Remedy::of_command([b"change", b"group", group, b"--drop-member", member]);
        let mark = Mark::Member(GroupField::Members.into(), name.to_owned());
        checker.find(&LISTED_IN_PRIMARY, (lines, line), mark, message, remedy);
    }
}

fn mismatches(checker: &mut Checker<'_>) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    let (book, groups) = (context.book, context.book.groups.lines());
    let Some(table) = &book.gshadow else { return };
    for line in prefilter.differing.iter().map(|start| groups.at(*start as usize)) {
        let Some(group) = Group::read(line.record()).filter(|_| line.is_record()) else { continue };
        let Some(at) = book.names().find(File::Gshadow, group.name) else { continue };
        let other = table.lines().at(at);
        let Some(gshadow) = Gshadow::read(other.record()) else { continue };
        if gshadow.members == group.members {
            continue;
        }
        let ours: BTreeSet<&[u8]> = group.members().collect();
        let theirs: BTreeSet<&[u8]> = gshadow.members().collect();
        // That a space stands in one of the two is other rules'.
        let plain = |names: &BTreeSet<&'_ [u8]>| -> BTreeSet<Vec<u8>> {
            names.iter().map(|name| name.trim_ascii().to_vec()).collect()
        };
        if ours == theirs || plain(&ours) == plain(&theirs) {
            continue;
        }
        let mut parts = Vec::new();
        for (one, other, file) in [(&ours, &theirs, File::Group), (&theirs, &ours, File::Gshadow)] {
            let names: Vec<_> = one.difference(other).map(|name| told(file, name)).collect();
            if !names.is_empty() {
                parts.push(format!("{} only in {}", list(names).as_bstr(), file.path()));
            }
        }
        let message =
            format!("the members differ between etc/group and etc/gshadow: {}.", parts.join("; "));
        let number = table.lines().number(at);
        let remedy = match is_kept(File::Gshadow, other.bytes) {
            true => Remedy::repair(&MEMBER_MISMATCH),
            false => Remedy::take_out(File::Gshadow, number),
        };
        checker
            .find(&MEMBER_MISMATCH, (groups, line), GroupField::Members, message, remedy)
            .relate(table.lines(), other);
    }
}

fn primary_groups(checker: &mut Checker<'_>) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    let book = context.book;
    if prefilter.primary.is_within(&prefilter.gids) {
        return;
    }
    for (line, user) in book.users.records() {
        let Some(gid) = user.gid().filter(|gid| !prefilter.gids.contains(gid.0)) else { continue };
        match knows_gid(context, prefilter, gid) {
            Ok(true) => continue,
            Ok(false) => {}
            Err(why) => return checker.skip(&NO_PRIMARY_GROUP, why),
        }
        let name = BStr::new(user.name);
        let message = format!("no group has gid {gid}, the primary group of {name}.");
        let (message, remedy) = checker.or_lost((File::Group, user.name), message, || {
            let fresh = match book.named(File::Group, user.name).is_empty() {
                true => user.name.into(),
                false => free_name(book, user.name.into()),
            };
            let number = gid.to_string();
            let create = Command::own([b"create", b"group", &fresh, b"--gid", number.as_bytes()]);
            let mut remedy = Remedy::of_one(create);
            if let Some((_, group)) = book.group(b"users") {
                let other = Command::own([b"regroup", name, b"--primary", group.name]);
                remedy.push(Remedy::or("to use a group there is", other));
            }
            remedy
        });
        checker.find(
            &NO_PRIMARY_GROUP,
            (book.users.lines(), line),
            PasswdField::Gid,
            message,
            remedy,
        );
    }
}

/// Only groups of people are judged: a system brings many that wait for a member.
fn empty_groups(checker: &mut Checker<'_>) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    let book = context.book;
    if prefilter.gids.is_within(&prefilter.primary) {
        return;
    }
    for (line, group) in book.groups.records() {
        let Some(gid) = group.gid().filter(|gid| context.policy.is_person(*gid)) else { continue };
        if prefilter.primary.contains(gid.0) || group.members().next().is_some() {
            continue;
        }
        let name = BStr::new(group.name);
        let message = format!("nobody is in {name}, and it is nobody's primary group.");
        let remedy = Remedy::of_command([b"delete", b"group", name]);
        checker.find(
            &EMPTY_GROUP,
            (book.groups.lines(), line),
            GroupField::Members,
            message,
            remedy,
        );
    }
}

//! Lines whose counterpart is missing: shadow-orphan, missing-shadow,
//! gshadow-orphan, missing-gshadow, range-orphan.

use bstr::BStr;
use rayon::prelude::*;

use super::brief::BriefFindings;
use super::repair::{carries_hash, mends};
use super::{
    Checker, Example, Family, Finding, Mend, PLAIN, Pass, Remedy, Rule, Severity, another_name,
    found, knows_user, lost,
};
use crate::account::turns_away;
use crate::context::PlanContext;
use crate::secret::is_kept;
use crate::table::{
    File, Group, GroupField, GshadowField, Line, Lines, Passwd, PasswdField, Record, ShadowField,
    SubId, SubIdField,
};
use crate::words::counted;

pub(super) const PASSES: &[Pass] = &[
    (&[&SHADOW_ORPHAN], shadow_orphans),
    (&[&MISSING_SHADOW], missing_shadow),
    (&[&RANGE_ORPHAN], range_orphans),
    (&[&GSHADOW_ORPHAN], gshadow_orphans),
    (&[&MISSING_GSHADOW], missing_gshadow),
];

static SHADOW_ORPHAN: Rule = Rule {
    name: "shadow-orphan",
    severity: Severity::Error,
    family: Family::Orphans,
    reads: &[File::Passwd, File::Shadow],
    finds: "a shadow line without a user",
    why: "The next user who gets that name gets the old password with it.",
    remedy: "Take the line out of etc/shadow.",
    bad: Example::with(&[(File::Shadow, "maren:!:20781:0::7:::\nhesper:!:19000:0::7:::\n")]),
    mend: Mend::Line(mends::orphan),
    ..PLAIN
};

static MISSING_SHADOW: Rule = Rule {
    name: "missing-shadow",
    severity: Severity::Error,
    family: Family::Orphans,
    reads: &[File::Passwd, File::Shadow],
    finds: "a user whose password is said to be in shadow, but is not",
    why: "Nobody can sign in as that user by password, and its account can neither \
              age nor expire.",
    remedy: "Add a line to etc/shadow; NAME:!:::::::  sets no password.",
    bad: Example::with(&[(File::Shadow, "root:*:20781::::::\n")]),
    mend: Mend::Beside(mends::shadow_line),
    ..PLAIN
};

static RANGE_ORPHAN: Rule = Rule {
    name: "range-orphan",
    severity: Severity::Warning,
    family: Family::Orphans,
    reads: &[File::Passwd, File::Subuid, File::Subgid],
    finds: "a subordinate range whose owner does not exist",
    why: "The next user who gets that name or number can act as every id in the range, \
              and owns the files that old containers left.",
    remedy: "Take the line out of etc/subuid or etc/subgid.",
    bad: Example::with(&[(File::Subuid, "hesper:2001010688:65536\n")]),
    good: Example::with(&[(File::Subuid, "1004:2001010688:65536\n")]),
    mend: Mend::Line(mends::range_orphan),
    ..PLAIN
};

static GSHADOW_ORPHAN: Rule = Rule {
    name: "gshadow-orphan",
    severity: Severity::Error,
    family: Family::Orphans,
    reads: &[File::Group, File::Gshadow],
    finds: "a gshadow line without a group",
    why: "The next group of that name gets the old administrators and the old password with it.",
    remedy: "Take the line out of etc/gshadow.",
    bad: Example::with(&[(File::Gshadow, "maren:!::\nhesper:!:maren:\n")]),
    good: Example::with(&[(File::Gshadow, "maren:!::\n")]),
    mend: Mend::Line(mends::orphan),
    ..PLAIN
};

static MISSING_GSHADOW: Rule = Rule {
    name: "missing-gshadow",
    severity: Severity::Warning,
    family: Family::Orphans,
    reads: &[File::Group, File::Gshadow],
    finds: "a group without a line in gshadow, where there is such a file",
    why: "Programs that look the group up there find no administrators and no members, and some refuse to edit it.",
    remedy: "Add a line to etc/gshadow; NAME:!::  sets no password.",
    bad: Example::with(&[
        (File::Group, "maren:x:1004:\npilots:x:210:\n"),
        (File::Gshadow, "maren:!::\n"),
    ]),
    good: Example::with(&[
        (File::Group, "maren:x:1004:\npilots:x:210:\n"),
        (File::Gshadow, "maren:!::\npilots:!::\n"),
    ]),
    mend: Mend::Beside(mends::gshadow_line),
    ..PLAIN
};

/// What there is to say about the records of `file` whose name no line of `other` has.
/// They may be very many: it is spread.
fn unnamed<'b>(
    checker: &mut Checker<'b>,
    (file, other): (File, File),
    say: impl Fn(&'b Lines, Line<'b>) -> Option<Finding> + Send + Sync,
) {
    let Some(lines) = checker.context.book.lines(file) else { return };
    let starts = checker.context.book.names().lacking(file, other);
    if checker.selection.in_brief {
        let parts: Vec<BriefFindings> = starts
            .par_chunks(1 << 16)
            .map(|starts| {
                let mut part = BriefFindings::default();
                let found = starts.iter().filter_map(|start| say(lines, lines.at(*start as usize)));
                found.for_each(|finding| part.push(&finding));
                part
            })
            .collect();
        parts.into_iter().for_each(|part| checker.brief.extend(part));
        return;
    }
    let starts = starts.into_par_iter();
    checker.findings.par_extend(starts.filter_map(|start| say(lines, lines.at(start as usize))));
}

fn shadow_orphans(checker: &mut Checker<'_>) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    let in_brief = checker.selection.in_brief;
    unnamed(checker, (File::Shadow, File::Passwd), |shadow, line| {
        if context.world.elsewhere().has_user(line.name().into()) {
            return None;
        }
        let message = format!(
            "no account is called {}; the next one of that name would get this password.",
            BStr::new(line.name())
        );
        let loss = prefilter.lost(context).loss_of(File::Passwd, line.name());
        let (message, remedy) =
            lost::tell((context, in_brief), loss, File::Passwd, message, || {
                orphan_remedy(&SHADOW_ORPHAN, shadow, line)
            });
        Some(found(
            in_brief,
            &SHADOW_ORPHAN,
            shadow,
            line,
            ShadowField::Name.into(),
            message,
            remedy,
        ))
    });
}

/// A line that nobody can read, or that holds a hash, is not taken out unasked: what it held is
/// not kept.
fn orphan_remedy(rule: &'static Rule, lines: &Lines, line: Line<'_>) -> Vec<Remedy> {
    if line.is_whole(lines.file()) && !carries_hash(lines.file(), line.bytes) {
        return Remedy::repair(rule);
    }
    let other = if lines.file().is_of_groups() { "etc/group" } else { "etc/passwd" };
    let mut remedies = Remedy::take_out(lines.file(), lines.number(line.start));
    remedies
        .extend(Remedy::by_hand(format!("or put its line in {other} back, if it should be there")));
    remedies
}

fn gshadow_orphans(checker: &mut Checker<'_>) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    let in_brief = checker.selection.in_brief;
    unnamed(checker, (File::Gshadow, File::Group), |gshadow, line| {
        let name = BStr::new(line.name());
        if context.world.elsewhere().has_group(name) {
            return None;
        }
        let message = format!(
            "no group is called {name}; the next one of that name would get its administrators."
        );
        let loss = prefilter.lost(context).loss_of(File::Group, name);
        let (message, remedy) = lost::tell((context, in_brief), loss, File::Group, message, || {
            orphan_remedy(&GSHADOW_ORPHAN, gshadow, line)
        });
        Some(found(
            in_brief,
            &GSHADOW_ORPHAN,
            gshadow,
            line,
            GshadowField::Name.into(),
            message,
            remedy,
        ))
    });
}

fn missing_gshadow(checker: &mut Checker<'_>) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    if context.book.gshadow.is_none() {
        return;
    }
    let in_brief = checker.selection.in_brief;
    unnamed(checker, (File::Group, File::Gshadow), |groups, line| {
        let group = Group::read(line.record())?;
        let name = BStr::new(group.name);
        let message = format!("etc/gshadow has no line for the group {name}.");
        let loss = prefilter.lost(context).loss_of(File::Gshadow, name);
        let (message, remedy) =
            lost::tell((context, in_brief), loss, File::Gshadow, message, || {
                let added = [group.name, b"!", b"", group.members].join(&b':');
                let at = (groups, line);
                remedy_of_lacking(&MISSING_GSHADOW, context, at, File::Gshadow, &added)
            });
        Some(found(
            in_brief,
            &MISSING_GSHADOW,
            groups,
            line,
            GroupField::Name.into(),
            message,
            remedy,
        ))
    });
}

/// What adds the line that another file lacks; nothing does, as long as it would hold what
/// is no name.
fn remedy_of_lacking(
    rule: &'static Rule,
    context: PlanContext<'_>,
    (lines, line): (&Lines, Line<'_>),
    file: File,
    added: &[u8],
) -> Vec<Remedy> {
    if is_kept(file, added) {
        return Remedy::repair(rule);
    }
    match file == File::Gshadow && is_kept(file, &[line.name(), b":!::"].concat()) {
        true => Remedy::by_hand("take out of its list what is no name"),
        false => another_name(context, lines, line),
    }
}

fn missing_shadow(checker: &mut Checker<'_>) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    let book = context.book;
    if book.unreadable.contains_key(&File::Shadow) {
        return;
    }
    if book.shadow.is_none() {
        // In an image that nobody signs in to no password is missing.
        let signs_in = |user: &Passwd<'_>| {
            let person = user.uid().is_some_and(|uid| context.policy.is_person(uid));
            person && user.is_shadowed() && !turns_away(user.effective_shell())
        };
        let users = book.users.records().filter(|(_, user)| signs_in(user)).count();
        if users > 0 {
            let who = counted(users, "person", "people");
            let message = format!("there is no such file, and {who} should have a password in it.");
            let remedy = Remedy::by_hand("put a copy of it back");
            checker.find_about(&MISSING_SHADOW, File::Shadow, message, remedy);
        }
        return;
    }
    let in_brief = checker.selection.in_brief;
    unnamed(checker, (File::Passwd, File::Shadow), |users, line| {
        let user = Passwd::read(line.record()).filter(Passwd::is_shadowed)?;
        let name = BStr::new(user.name);
        let message = format!("etc/shadow has no line for {name}: no password lets it in.");
        let loss = prefilter.lost(context).loss_of(File::Shadow, name);
        let (message, remedy) =
            lost::tell((context, in_brief), loss, File::Shadow, message, || {
                let added = [user.name, b":!:0::::::"].concat();
                remedy_of_lacking(&MISSING_SHADOW, context, (users, line), File::Shadow, &added)
            });
        Some(found(
            in_brief,
            &MISSING_SHADOW,
            users,
            line,
            PasswdField::Password.into(),
            message,
            remedy,
        ))
    });
}

fn range_orphans(checker: &mut Checker<'_>) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    let in_brief = checker.selection.in_brief;
    let book = context.book;
    for (table, unowned) in [&book.subuid, &book.subgid].into_iter().zip(&prefilter.unowned) {
        let Some(table) = table else { continue };
        for line in unowned.iter().map(|start| table.lines().at(*start as usize)) {
            let Some(range) = SubId::read(line.record()).filter(|_| line.is_record()) else {
                continue;
            };
            let by_name = || book.names().find(File::Passwd, range.owner).is_some();
            let by_number = range.owner_uid().is_some_and(|uid| prefilter.uids.contains(uid.0));
            if by_number || by_name() {
                continue;
            }
            if context.world.elsewhere().range_owners.contains(BStr::new(range.owner)) {
                continue;
            }
            match knows_user(context, prefilter, range.owner.into()) {
                Ok(false) => {
                    let owner = BStr::new(range.owner);
                    let nobody = match range.owner_uid() {
                        Some(uid) => format!("no account has uid {uid}; the next one with it"),
                        None => format!("no account is called {owner}; the next one of that name"),
                    };
                    let message = format!("{nobody} would get these ids.");
                    let loss = prefilter.lost(context).loss_of(File::Passwd, range.owner);
                    let (message, remedy) =
                        lost::tell((context, in_brief), loss, File::Passwd, message, || {
                            Remedy::repair(&RANGE_ORPHAN)
                        });
                    let at = (table.lines(), line);
                    checker.find(&RANGE_ORPHAN, at, SubIdField::Owner, message, remedy);
                }
                Ok(true) => {}
                Err(why) => {
                    checker.skip(&RANGE_ORPHAN, why);
                    return;
                }
            }
        }
    }
}

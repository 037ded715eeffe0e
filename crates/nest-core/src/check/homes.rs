//! Home directories of people: missing-home, home-owner, home-open-to-others,
//! home-not-absolute.

use bstr::BStr;

use super::lines::found;
use super::prefilter::Prefilter;
use super::rule::{Besides, Example, Family, Mend, PLAIN, Rule, Severity};
use super::{Command, Finding, Mark, Out, Remedy, Selection};
use crate::account::{NO_HOME, means_no_home};
use crate::context::PlanContext;
use crate::surroundings::FileKind;
use crate::table::{File, Line, Passwd, PasswdField};

pub(super) const RULES: &[&Rule] =
    &[&MISSING_HOME, &HOME_OWNER, &HOME_NOT_ABSOLUTE, &HOME_OPEN_TO_OTHERS];

static MISSING_HOME: Rule = Rule {
    name: "missing-home",
    severity: Severity::Warning,
    family: Family::Homes,
    looks_at_tree: true,
    reads: &[File::Passwd],
    finds: "a person whose home is not there",
    why: "Signing in lands in / or fails, and the next directory made at that place may \
              be somebody else's.",
    remedy: "Make the directory and give it to the user, or correct the path. A person \
                 who is to have none gets /nonexistent.",
    bad: Example::beside(Besides::Lacks("/home/maren")),
    mend: Mend::Home,
    ..PLAIN
};

static HOME_OWNER: Rule = Rule {
    name: "home-owner",
    severity: Severity::Error,
    family: Family::Homes,
    looks_at_tree: true,
    reads: &[File::Passwd],
    finds: "a person's home that belongs to somebody else",
    why: "The user can't use it, and its owner decides what the user's shell starts.",
    remedy: "Give the directory to the user, after looking at whose it is and why.",
    bad: Example::beside(Besides::Owner { path: "/home/maren", uid: 1005 }),
    ..PLAIN
};

static HOME_NOT_ABSOLUTE: Rule = Rule {
    name: "home-not-absolute",
    severity: Severity::Error,
    family: Family::Homes,
    reads: &[File::Passwd],
    finds: "a home that does not begin at /",
    why: "Programs take it from wherever they happen to be: a sign-in lands in another directory each time.",
    remedy: "Give the whole path: copper-nest change user NAME --home PATH --record-only.",
    bad: Example::with(&[(File::Passwd, "maren:x:1004:1004:Maren Solvik:home/maren:/bin/bash\n")]),
    by_line: true,
    ..PLAIN
};

static HOME_OPEN_TO_OTHERS: Rule = Rule {
    name: "home-open-to-others",
    severity: Severity::Warning,
    family: Family::Homes,
    looks_at_tree: true,
    reads: &[File::Passwd],
    finds: "a person's home that lets everybody in, where the policy would not",
    why: "Others read what is in it; where they may write, they decide what its owner's shell \
              starts. What may be open is said by people.home_permissions in the policy.",
    remedy: "Take the others' rights away: chmod o= HOME. If homes are to be open, say so in \
                 the policy.",
    bad: Example::beside(Besides::Mode { path: "/home/maren", mode: 0o755 }),
    ..PLAIN
};

pub(super) fn judge(context: PlanContext<'_>, selection: &Selection, prefilter: &Prefilter) -> Out {
    let (missing, owner) = (selection.wanted(&MISSING_HOME), selection.wanted(&HOME_OWNER));
    let open = selection.wanted(&HOME_OPEN_TO_OTHERS);
    let mut out = Out::default();
    if let Some(rule) = selection.wanted(&HOME_NOT_ABSOLUTE) {
        let users = &context.book.users;
        let relative = |user: &Passwd<'_>| !user.home.is_empty() && !user.home.starts_with(b"/");
        let odd = prefilter.records::<Passwd<'_>>(context.book, File::Passwd);
        for (line, user) in odd.filter(|(_, user)| relative(user)) {
            let (name, home) = (BStr::new(user.name), BStr::new(user.home));
            let message = format!("the home of {name}, {home}, does not begin at /.");
            let own = [b"/", user.home].concat();
            let change: [&[u8]; 6] = [b"change", b"user", name, b"--home", &own, b"--record-only"];
            let remedy = Remedy::of_command(change);
            out.findings.push(found(
                rule,
                users.lines(),
                line,
                Mark::Field(PasswdField::Home.into()),
                message,
                remedy,
            ));
        }
    }
    if missing.is_none() && owner.is_none() && open.is_none() {
        return out;
    }
    let owners = context.world.owners_are_real();
    if let (Some(rule), Err(why)) = (owner, &owners) {
        out.skip(rule, why.as_str());
    }
    let lines = context.book.users.lines();
    let mut unseen = None;
    for (line, user) in context.book.users.records() {
        let Some(uid) = user.uid() else { continue };
        let judged = context.policy.is_person(uid) && !means_no_home(user.home);
        if !judged || !user.home.starts_with(b"/") {
            continue;
        }
        let (name, home) = (BStr::new(user.name), BStr::new(user.home));
        let facts = match context.world.facts(home) {
            Ok(facts) => facts,
            Err(why) => {
                unseen.get_or_insert((0, format!("{home}: {why}"))).0 += 1;
                continue;
            }
        };
        let fault = match facts {
            None => Some(format!("{home} is not there.")),
            Some(facts) if facts.kind != FileKind::Directory => {
                Some(format!("{home} is {}, not a directory.", facts.kind))
            }
            Some(_) => None,
        };
        match (fault, facts) {
            (Some(message), _) => {
                let mut remedy = match facts {
                    None => missing.map(Remedy::repair).unwrap_or_default(),
                    Some(_) => Vec::new(),
                };
                let none: [&[u8]; 6] =
                    [b"change", b"user", name, b"--home", NO_HOME.as_bytes(), b"--record-only"];
                let none = Command::own(none);
                match remedy.is_empty() {
                    true => remedy = Remedy::of_commands([none]),
                    false => remedy.push(Remedy::or("if it is to have none", [none])),
                }
                out.findings.extend(missing.map(|rule| {
                    found(rule, lines, line, Mark::Field(PasswdField::Home.into()), message, remedy)
                }));
            }
            (None, Some(facts)) => {
                if let Some(rule) = open {
                    out.findings.extend(open_home(rule, context, line, &user, facts.mode));
                }
                if facts.uid == uid || owners.is_err() {
                    continue;
                }
                let whose = match context.book.user_by_uid(facts.uid) {
                    Some((_, other)) => format!("{} ({})", BStr::new(other.name), facts.uid),
                    None => format!("uid {}, which nobody has", facts.uid),
                };
                let message = format!("{home} belongs to {whose}, not to {name} ({uid}).");
                let from = facts.uid.to_string();
                let give = match facts.uid {
                    0 => Command::own([b"reassign", b"0", name, home, b"--even-root"]),
                    _ => Command::own([b"reassign", from.as_bytes(), name, home]),
                };
                let own = context.policy.home_of(name);
                let change: [&[u8]; 6] =
                    [b"change", b"user", name, b"--home", &own, b"--record-only"];
                // A place of the system's is nobody's home, and stays as it is.
                let mut remedy = match is_below_another(home) {
                    true => Remedy::of_commands([give]),
                    false => Remedy::of_commands([Command::own(change)]),
                };
                let look = Command::own([b"trace", b"id", from.as_bytes(), home]);
                remedy.push(Remedy::or("to look first at what is in it", [look]));
                out.findings.extend(owner.map(|rule| {
                    found(rule, lines, line, Mark::Field(PasswdField::Home.into()), message, remedy)
                }));
            }
            (None, None) => {}
        }
    }
    if let Some((count, first)) = unseen {
        let why = format!("{count} homes could not be looked at, first {first}");
        for rule in [missing, owner, open].into_iter().flatten() {
            out.skip(rule, why.as_str());
        }
    }
    out
}

/// Whether a path is at least two steps below the root, as homes are.
fn is_below_another(home: &[u8]) -> bool {
    home.split(|&byte| byte == b'/').filter(|part| !part.is_empty()).count() > 1
}

/// A home that lets in others than the policy would.
fn open_home(
    rule: &'static Rule,
    context: PlanContext<'_>,
    line: Line<'_>,
    user: &Passwd<'_>,
    mode: u32,
) -> Option<Finding> {
    let allowed = context.policy.people_home_permissions.0;
    let more = mode & 0o007 & !allowed;
    if more == 0 {
        return None;
    }
    let can = match more {
        more if more & 0o002 != 0 => "everybody may write in it",
        more if more & 0o004 != 0 => "everybody may look into it",
        _ => "everybody may pass through it",
    };
    let home = BStr::new(user.home);
    let message = format!("{home} has mode {mode:04o}: {can}.");
    let remedy = Remedy::of_commands([Command::System("chmod o=", vec![home.to_owned()])]);
    let lines = context.book.users.lines();
    Some(found(rule, lines, line, Mark::Field(PasswdField::Home.into()), message, remedy))
}

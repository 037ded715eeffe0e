//! Home directories of people: missing-home, home-owner, home-open-to-others,
//! home-not-absolute.

use bstr::BStr;
use hashbrown::HashMap;

use super::duplicates::SHARED_HOME;
use super::{
    Besides, Checker, Command, Example, Family, Mend, PLAIN, Pass, Remedy, Rule, Severity,
};
use crate::account::{NO_HOME, means_no_home, turns_away};
use crate::context::PlanContext;
use crate::drafting::system_fault;
use crate::table::{File, Line, Passwd, PasswdField};
use crate::value::{FileKind, Uid, parent_of};
use crate::words::counted;

pub(super) const PASSES: &[Pass] = &[
    (&[&MISSING_HOME, &HOME_OWNER, &HOME_NOT_ABSOLUTE, &HOME_OPEN_TO_OTHERS], homes),
    (&[&EMPTY_HOME], empty),
    (&[&SHARED_HOME], one_place),
];

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
    bad: Example::beside(Besides::Owner { path: "/home/maren", uid: Uid(1005) }),
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

static EMPTY_HOME: Rule = Rule {
    name: "empty-home",
    severity: Severity::Warning,
    family: Family::Homes,
    reads: &[File::Passwd],
    finds: "a person whose home field is empty",
    why: "Programs take it for / or for wherever they are: files are left there, and keys are \
              looked for there.",
    remedy: "Name the home, or /nonexistent: copper-nest change user NAME --home PATH \
                 --record-only.",
    bad: Example::with(&[(File::Passwd, "maren:x:1004:1004:Maren Solvik::/bin/bash\n")]),
    by_line: true,
    ..PLAIN
};

fn empty(checker: &mut Checker<'_>) {
    let context = checker.context;
    let users = &context.book.users;
    let odd = checker.prefilter.records::<Passwd<'_>>(context.book, File::Passwd);
    let empty = odd.filter(|(_, user)| user.home.is_empty() && !turns_away(user.effective_shell()));
    for (line, user) in empty {
        if !user.uid().is_some_and(|uid| uid == Uid::ROOT || context.policy.is_person(uid)) {
            continue;
        }
        let name = BStr::new(user.name);
        let own = match user.uid() {
            Some(Uid::ROOT) => "/root".into(),
            _ => context.policy.home_of(name),
        };
        let message = format!("the home field of {name} is empty.");
        let change: [&[u8]; 6] = [b"change", b"user", name, b"--home", &own, b"--record-only"];
        let none: [&[u8]; 6] =
            [b"change", b"user", name, b"--home", NO_HOME.as_bytes(), b"--record-only"];
        let mut ways = Remedy::of_command(change);
        ways.push(Remedy::or("if it is to have none", Command::own(none)));
        checker.find(&EMPTY_HOME, (users.lines(), line), PasswdField::Home, message, ways);
    }
}

/// Homes that are one directory, however their paths are written: through links, through .. or
/// by another mount.
fn one_place(checker: &mut Checker<'_>) {
    let context = checker.context;
    if checker.selection.files_only {
        return;
    }
    let lines = context.book.users.lines();
    let mut first: HashMap<(u64, u64), (Line<'_>, Passwd<'_>)> = HashMap::new();
    for (line, user) in context.book.users.records() {
        let person = user.uid().is_some_and(|uid| context.policy.is_person(uid));
        if !person || means_no_home(user.home) || !user.home.starts_with(b"/") {
            continue;
        }
        let Some(identity) = context.world.identity(user.home.into()) else { continue };
        let (other, twin) = *first.entry(identity).or_insert((line, user));
        // One path twice is found by the files alone.
        if twin.name == user.name || twin.home == user.home {
            continue;
        }
        let (home, name) = (BStr::new(user.home), BStr::new(user.name));
        let (shared, twin) = (BStr::new(twin.home), BStr::new(twin.name));
        let number = lines.number(other.start);
        let message = format!(
            "{home} is the same directory as {shared}, the home of {twin} (line {number})."
        );
        let own = context.policy.home_of(name);
        let place = if own == home { [&own[..], b".own"].concat() } else { own };
        let change: [&[u8]; 6] = [b"change", b"user", name, b"--home", &place, b"--record-only"];
        checker
            .find(
                &SHARED_HOME,
                (lines, line),
                PasswdField::Home,
                message,
                Remedy::of_command(change),
            )
            .relate(lines, other);
    }
}

fn not_absolute(checker: &mut Checker<'_>) {
    let Some(rule) = checker.wanted(&HOME_NOT_ABSOLUTE) else { return };
    let users = &checker.context.book.users;
    let relative = |user: &Passwd<'_>| !user.home.is_empty() && !user.home.starts_with(b"/");
    let odd = checker.prefilter.records::<Passwd<'_>>(checker.context.book, File::Passwd);
    for (line, user) in odd.filter(|(_, user)| relative(user)) {
        let (name, home) = (BStr::new(user.name), BStr::new(user.home));
        let message = format!("the home of {name}, {home}, does not begin at /.");
        // What lacks but its slash is plain; else the policy knows a place.
        let slashed = [b"/", user.home].concat();
        let is_own = slashed.rsplit(|byte| *byte == b'/').next() == Some(user.name);
        let is_own = is_own && is_below_another(&slashed);
        let own = if is_own { slashed } else { checker.context.policy.home_of(name) };
        let change: [&[u8]; 6] = [b"change", b"user", name, b"--home", &own, b"--record-only"];
        let (at, remedy) = ((users.lines(), line), Remedy::of_command(change));
        checker.find(rule, at, PasswdField::Home, message, remedy);
    }
}

/// The rules that look at each home: it is looked at once.
fn homes(checker: &mut Checker<'_>) {
    let context = checker.context;
    not_absolute(checker);
    let missing = checker.wanted(&MISSING_HOME);
    if [&HOME_OWNER, &HOME_OPEN_TO_OTHERS]
        .into_iter()
        .chain(missing)
        .all(|rule| checker.wanted(rule).is_none())
    {
        return;
    }
    let owners = context.world.owners_are_real();
    if let (Some(rule), Err(why)) = (checker.wanted(&HOME_OWNER), &owners) {
        checker.skip(rule, why.as_str());
    }
    let lines = context.book.users.lines();
    let (mut unseen, mut later) = (None, None);
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
                unseen.get_or_insert((0_u64, format!("{home}: {why}"))).0 += 1;
                continue;
            }
        };
        let message = match facts {
            None => format!("{home} is not there."),
            Some(facts) if facts.kind != FileKind::Directory => {
                format!("{home} is {}, not a directory.", facts.kind)
            }
            Some(facts) => {
                open_home(checker, line, home, facts.mode);
                if facts.uid != uid && owners.is_ok() {
                    foreign_home(checker, (line, user, uid.0), facts.uid.0);
                }
                continue;
            }
        };
        let Some(rule) = missing else { continue };
        if let Some(why) = facts.is_none().then(|| context.world.comes_later(home)).flatten() {
            later.get_or_insert((0_u64, format!("{home}: {why}"))).0 += 1;
            continue;
        }
        let none: [&[u8]; 6] =
            [b"change", b"user", name, b"--home", NO_HOME.as_bytes(), b"--record-only"];
        let none = Command::own(none);
        let remedy = match facts {
            Some(_) => Remedy::of_one(none),
            None => {
                [Remedy::repair(rule), vec![Remedy::or("if it is to have none", none)]].concat()
            }
        };
        checker.find(rule, (lines, line), PasswdField::Home, message, remedy);
    }
    if let Some((count, first)) = later {
        let homes = counted(count, "home", "homes");
        checker.skip(&MISSING_HOME, format!("{homes} may come later, first {first}"));
    }
    if let Some((count, first)) = unseen {
        let why =
            format!("{} could not be looked at, first {first}", counted(count, "home", "homes"));
        for rule in [&MISSING_HOME, &HOME_OWNER, &HOME_OPEN_TO_OTHERS] {
            if checker.wanted(rule).is_some() {
                checker.skip(rule, why.as_str());
            }
        }
    }
}

/// A home that belongs to somebody else.
fn foreign_home(
    checker: &mut Checker<'_>,
    (line, user, uid): (Line<'_>, Passwd<'_>, u32),
    owner: u32,
) {
    let context = checker.context;
    let Some(rule) = checker.wanted(&HOME_OWNER) else { return };
    let (name, home) = (BStr::new(user.name), BStr::new(user.home));
    let whose = match context.book.user_by_uid(Uid(owner)) {
        Some((_, other)) => format!("{} ({owner})", BStr::new(other.name)),
        None => format!("uid {owner}, which nobody has"),
    };
    let message = format!("{home} belongs to {whose}, not to {name} ({uid}).");
    let from = owner.to_string();
    let among_homes = parent_of(home) == parent_of(&context.policy.home_of(name));
    let give = match owner {
        0 => Command::own([b"reassign", b"user", b"0", name, home, b"--even-root"]),
        _ => Command::own([b"reassign", b"user", from.as_bytes(), name, home]),
    };
    // A place of the system's is nobody's home, and stays as it is.
    let mut remedy = match (system_fault(home), owner) {
        (Some(_), _) => Remedy::of_one(own_home(context, name)),
        // What is kept by root elsewhere may well be meant: a chroot, or the files of a server.
        (None, 0) if !among_homes => {
            let by_hand = "find out whether root keeps it on purpose, as for a chroot";
            [Remedy::by_hand(by_hand), vec![Remedy::or("if it does not", give)]].concat()
        }
        (None, _) => Remedy::of_one(give),
    };
    let look = Command::own([b"trace", b"id", from.as_bytes(), home]);
    remedy.push(Remedy::or("to look first at what is in it", look));
    let at = (context.book.users.lines(), line);
    checker.find(rule, at, PasswdField::Home, message, remedy);
}

/// Whether a path is at least two steps below the root, as homes are.
fn is_below_another(home: &[u8]) -> bool {
    home.split(|&byte| byte == b'/').filter(|part| !part.is_empty()).count() > 1
}

/// The command that gives an account a home of its own.
pub(super) fn own_home(context: PlanContext<'_>, name: &[u8]) -> Command {
    let own = context.policy.home_of(name);
    let change: [&[u8]; 6] = [b"change", b"user", name, b"--home", &own, b"--record-only"];
    Command::own(change)
}

/// A home that lets in others than the policy would. A directory of the system is as open as
/// it has to be.
fn open_home(checker: &mut Checker<'_>, line: Line<'_>, home: &BStr, mode: u32) {
    let Some(rule) = checker.wanted(&HOME_OPEN_TO_OTHERS) else { return };
    if system_fault(home).is_some() {
        return;
    }
    let allowed = checker.context.policy.people_home_permissions.0;
    let more = mode & 0o007 & !allowed;
    let can = match more {
        more if more & 0o002 != 0 => "everybody may write in it",
        more if more & 0o004 != 0 => "everybody may look into it",
        0 => return,
        _ => "everybody may pass through it",
    };
    let message = format!("{home} has mode {mode:04o}: {can}.");
    let remedy = Remedy::of_one(Command::System("chmod o=".to_owned(), vec![home.to_owned()]));
    let at = (checker.context.book.users.lines(), line);
    checker.find(rule, at, PasswdField::Home, message, remedy);
}

//! The account files themselves: loose-mode, wrong-owner, missing-file,
//! unfinished-change.

use bstr::BString;

use super::{
    Accepted, Besides, CheckReport, Checker, Command, Example, Family, Finding, Mend, PLAIN, Pass,
    Remedy, Rule, Selection, Severity, rule,
};
use crate::context::PlanContext;
use crate::ownership::{Access, Owner};
use crate::policy::Accept;
use crate::surroundings::Facts;
use crate::table::File;
use crate::value::{Gid, Uid};

pub(super) const PASSES: &[Pass] = &[
    (&[&UNFINISHED_CHANGE], unfinished),
    (&[&LOOSE_MODE, &WRONG_OWNER, &CLOSED_MODE], access),
    (&[&MISSING_FILE], missing),
    (&[&IDLE_ACCEPTANCE], |_| {}),
];

static UNFINISHED_CHANGE: Rule = Rule {
    name: "unfinished-change",
    severity: Severity::Error,
    family: Family::Files,
    looks_at_tree: true,
    finds: "a change that a crash cut off",
    why: "Some of the account files may be as before it and some as after it.",
    remedy: "Finish it, or roll it back: copper-nest recover does what is right.",
    bad: Example::beside(Besides::Unfinished(14)),
    ..PLAIN
};

pub(super) static LOOSE_MODE: Rule = Rule {
    name: "loose-mode",
    severity: Severity::Error,
    family: Family::Files,
    looks_at_tree: true,
    finds: "an account file that more may read or alter than should",
    why: "Whoever can alter one of these files is root; whoever can read the hashes guesses \
              passwords at leisure. Files with hashes are to be 0640 at most, the others 0644.",
    remedy: "copper-nest repair takes the surplus permissions away.",
    bad: Example::beside(Besides::Mode { path: "/etc/shadow", mode: 0o644 }),
    mend: Mend::Access,
    ..PLAIN
};

pub(super) static CLOSED_MODE: Rule = Rule {
    name: "closed-mode",
    severity: Severity::Warning,
    family: Family::Files,
    looks_at_tree: true,
    finds: "passwd or group that not everybody can read",
    why: "Every program looks names and numbers up there: whoever can't read them is nobody to \
              its own shell, and much does not start.",
    remedy: "copper-nest repair lets everybody read it.",
    bad: Example::beside(Besides::Mode { path: "/etc/passwd", mode: 0o600 }),
    mend: Mend::Access,
    ..PLAIN
};

static WRONG_OWNER: Rule = Rule {
    name: "wrong-owner",
    severity: Severity::Error,
    family: Family::Files,
    looks_at_tree: true,
    finds: "an account file that is not root's",
    why: "Its owner can alter it, and become whoever it likes. The group of a file with hashes \
              is root's, or shadow, whose programs check passwords.",
    remedy: "copper-nest repair gives it to root.",
    bad: Example::beside(Besides::Owner { path: "/etc/group", uid: Uid(1005) }),
    mend: Mend::Access,
    ..PLAIN
};

static MISSING_FILE: Rule = Rule {
    name: "missing-file",
    severity: Severity::Note,
    family: Family::Files,
    finds: "passwd, shadow, group or gshadow that is not there",
    why: "Some systems do without shadow or gshadow. Where there should be one, passwords are \
              in files that everybody reads, and groups have no administrators.",
    remedy: "Where the file should be, make it empty, and let copper-nest repair fill in the \
                 lines that are missing.",
    good: Example::with(&[(File::Gshadow, "maren:!::\n")]),
    ..PLAIN
};

static IDLE_ACCEPTANCE: Rule = Rule {
    name: "idle-acceptance",
    severity: Severity::Note,
    family: Family::Files,
    finds: "a finding that the policy accepts, and that is not there any more",
    why: "What was accepted once for a reason would be passed over in silence when it comes \
              back for another.",
    remedy: "Take the entry out of [check] accept in etc/copper-nest/policy.toml.",
    bad: Example::beside(Besides::Accepts("second-root:keeper")),
    ..PLAIN
};

/// The permissions that a file everybody reads may have at most.
const OPEN: u32 = 0o644;

/// Those of a file with hashes. Its group is root's or [`SHADOW`].
const CLOSED: u32 = 0o640;

/// A group that programs run in which check passwords, where there is one.
const SHADOW: &[u8] = b"shadow";

fn missing(checker: &mut Checker<'_>) {
    let book = checker.context.book;
    for file in [File::Passwd, File::Shadow, File::Group, File::Gshadow] {
        if book.lines(file).is_none() && !book.unreadable.contains_key(&file) {
            let (message, remedies) = not_there(file);
            checker.find_about(&MISSING_FILE, file, message, remedies);
        }
    }
}

fn unfinished(checker: &mut Checker<'_>) {
    let Some(what) = checker.context.world.unfinished() else { return };
    let message = format!("{what} was cut off by a crash and stands unfinished.");
    let remedy = Remedy::of_command([b"recover"]);
    checker.find_about(&UNFINISHED_CHANGE, File::Passwd, message, remedy).subject = what.into();
}

/// The access to an account file as it should be; what is right already stays.
pub(crate) fn right_access(context: PlanContext<'_>, file: File, is: Facts) -> Access {
    let shadow = context.book.group(SHADOW).and_then(|(_, group)| group.gid());
    // The largest number is no group to the kernel.
    let shadow = shadow.filter(|gid| gid.0 != u32::MAX);
    let most = if file.is_secret() { CLOSED } else { OPEN };
    let gid = match file.is_secret() && is.gid != Gid::ROOT && Some(is.gid) != shadow {
        true if is.mode & 0o040 != 0 => shadow.unwrap_or(Gid::ROOT),
        _ => is.gid,
    };
    // Where names and numbers are looked up everybody reads.
    let least = if matches!(file, File::Passwd | File::Group) { 0o444 } else { 0 };
    Access { owner: Owner { uid: Uid::ROOT, gid }, mode: is.mode & most | least }
}

fn access(checker: &mut Checker<'_>) {
    let context = checker.context;
    let (loose, owner) = (checker.wanted(&LOOSE_MODE), checker.wanted(&WRONG_OWNER));
    let owners = context.world.owners_are_real();
    if let (Some(rule), Err(why)) = (owner, &owners) {
        checker.skip(rule, why.as_str());
    }
    for file in File::ALL {
        let path = BString::from(format!("/{}", file.path()));
        let is = match context.world.facts(path.as_ref()) {
            Ok(Some(is)) => is,
            Ok(None) => continue,
            Err(why) => {
                for rule in [loose, owner].into_iter().flatten() {
                    checker.skip(rule, format!("{}: {why}", file.path()));
                }
                continue;
            }
        };
        let right = right_access(context, file, is);
        let closed = matches!(file, File::Passwd | File::Group) && is.mode & 0o004 == 0;
        if let Some(rule) = checker.wanted(&CLOSED_MODE).filter(|_| closed) {
            let message = format!("mode {:04o}: only root can look names up in it.", is.mode);
            checker.find_about(rule, file, message, Remedy::repair(rule));
        }
        if let Some(rule) = loose.filter(|_| is.mode & !right.mode != 0) {
            let more = is.mode & !right.mode;
            let can = match more {
                more if more & 0o002 != 0 => "everybody may alter it",
                more if more & 0o020 != 0 => "its whole group may alter it",
                more if more & 0o004 != 0 => "everybody may read the hashes in it",
                _ => "it is no program",
            };
            let message =
                format!("mode {:04o}: {can}. It is to be {:04o}.", is.mode, is.mode & right.mode);
            checker.find_about(rule, file, message, Remedy::repair(rule));
        }
        let Some(rule) = owner.filter(|_| owners.is_ok()) else { continue };
        let Owner { uid, gid } = right.owner;
        if (uid, gid) != (is.uid, is.gid) {
            let message = match uid == is.uid {
                false => format!("it belongs to uid {}, who can alter it; it is root's.", is.uid),
                true => format!("gid {} may read the hashes in it; that is for {gid}.", is.gid),
            };
            checker.find_about(rule, file, message, Remedy::repair(rule));
        }
    }
}

/// What it means that an account file is not there, and what to do.
fn not_there(file: File) -> (String, Vec<Remedy>) {
    let (holds, mode) = match file {
        File::Shadow => {
            ("passwords are where everybody can read them", "install -m 0600 /dev/null")
        }
        File::Gshadow => ("groups have no administrators", "install -m 0600 /dev/null"),
        File::Group => ("no group has a name", "install -m 0644 /dev/null"),
        _ => ("nobody has an account", "install -m 0644 /dev/null"),
    };
    let message = format!("there is no such file: {holds}.");
    let path = BString::from(format!("/{}", file.path()));
    let make = Command::System(mode.to_owned(), vec![path]);
    let remedy = match file {
        // The lines that are to be in it come with the next repair.
        File::Shadow | File::Gshadow => Remedy::of_one(make),
        _ => Remedy::by_hand("put a copy of it back"),
    };
    (message, remedy)
}

/// Takes out what the policy accepts, and tells which of that is not found any more.
pub(super) fn accept(context: PlanContext<'_>, selection: &Selection, report: &mut CheckReport) {
    let accept = &context.policy.check_accept;
    if accept.is_empty() {
        return;
    }
    let mut matched = vec![false; accept.len()];
    let mut left = Vec::with_capacity(report.findings.len());
    for mut finding in std::mem::take(&mut report.findings) {
        let matches =
            |accept: &&Accept| accept.rule == finding.rule.name && accept.is_of(&finding.subject);
        for (at, _) in accept.iter().enumerate().filter(|(_, accept)| matches(accept)) {
            matched[at] = true;
        }
        let over = |accept: &&Accept| accept.until.is_some_and(|until| until < context.today);
        match accept.iter().find(|accept| matches(accept) && !over(accept)) {
            Some(by) => report.accepted.push(Accepted { finding, by: by.clone() }),
            None => {
                // What was accepted for a time counts again.
                let ended = accept.iter().find(|accept| matches(accept));
                if let Some(until) = ended.and_then(|accept| accept.until) {
                    finding.message += &format!(" It was accepted until {until}.");
                }
                left.push(finding);
            }
        }
    }
    report.findings = left;
    if !selection.wants(&IDLE_ACCEPTANCE) {
        return;
    }
    for (accept, matched) in accept.iter().zip(matched) {
        let ran = rule(&accept.rule).is_some_and(|rule| {
            selection.wants(rule) && report.skipped.iter().all(|skipped| skipped.rule != rule.name)
        });
        if matched || !ran {
            continue;
        }
        let Accept { rule, subject, .. } = accept;
        let origin = context.policy.origin("check.accept");
        let message =
            format!("{rule} of {subject} is accepted ({origin}), and not found any more.");
        let remedy = Remedy::by_hand(format!("take {rule}:{subject} out of [check] accept"));
        report.findings.push(Finding {
            place: Some("/etc/copper-nest/policy.toml".into()),
            subject: format!("{rule}:{subject}").into(),
            ..Finding::about(&IDLE_ACCEPTANCE, File::Passwd, message, remedy)
        });
    }
}

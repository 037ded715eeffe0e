//! What earlier accounts left: home-orphan, mail-orphan, retired-id-in-use.

use std::collections::HashSet;

use bstr::{BStr, BString, ByteSlice};

use super::{
    Besides, Checker, Command, Example, Family, Mark, PLAIN, Pass, Remedy, Rule, Severity,
    another_number, knows_user,
};
use crate::context::PlanContext;
use crate::surroundings::Facts;
use crate::table::{File, Group, GroupField, Passwd, PasswdField, Record};
use crate::value::{FileKind, Gid, Uid};

pub(super) const PASSES: &[Pass] =
    &[(&[&HOME_ORPHAN], homes), (&[&MAIL_ORPHAN], mail), (&[&RETIRED_ID_IN_USE], retired_ids)];

pub(super) static HOME_ORPHAN: Rule = Rule {
    name: "home-orphan",
    severity: Severity::Warning,
    family: Family::Orphans,
    looks_at_tree: true,
    reads: &[File::Passwd],
    finds: "a directory among the homes that is no account's home",
    why: "The account went and its files stayed. The next account that gets the number \
              which owns them owns them too, and nobody looks after them until then.",
    remedy: "Find out whose files they are (copper-nest trace), then give them to somebody \
                 (copper-nest reassign), make the account again over them \
                 (copper-nest create user --adopt-home), or set them aside, where only root gets \
                 (copper-nest repair --set-aside).",
    bad: Example::beside(Besides::Entry {
        folder: "/home",
        name: "perrin",
        kind: FileKind::Directory,
    }),
    ..PLAIN
};

pub(super) static MAIL_ORPHAN: Rule = Rule {
    name: "mail-orphan",
    severity: Severity::Note,
    family: Family::Orphans,
    looks_at_tree: true,
    reads: &[File::Passwd],
    finds: "a mail spool file that bears no account's name",
    why: "The next account of that name would get the mail of the earlier one.",
    remedy: "Hand the mail on, or set the file aside: copper-nest repair --set-aside.",
    bad: Example::beside(Besides::Entry {
        folder: "/var/mail",
        name: "perrin",
        kind: FileKind::File,
    }),
    ..PLAIN
};

static RETIRED_ID_IN_USE: Rule = Rule {
    name: "retired-id-in-use",
    severity: Severity::Error,
    family: Family::Orphans,
    looks_at_tree: true,
    reads: &[File::Passwd, File::Group],
    finds: "a uid or gid of a deleted account that somebody holds again",
    why: "Deleted accounts leave files behind, and a file belongs to a number: whoever has \
              the number now owns them.",
    remedy: "Give the new holder another number; or look through the files that carry it \
                 (copper-nest trace id), and where they may be the new holder's, purge the old \
                 account under a policy that frees its numbers.",
    bad: Example::beside(Besides::Retired { uid: Uid(1004), name: "perrin" }),
    ..PLAIN
};

/// The directory in which a pattern such as `/home/{name}` has its things.
fn directory_of(pattern: &str) -> Option<&BStr> {
    let (before, after) = pattern.split_once("{name}")?;
    let directory = before.strip_suffix('/').filter(|_| after.is_empty())?;
    Some(if directory.is_empty() { "/".into() } else { directory.into() })
}

/// What is in that directory; why not is told once.
fn entries(
    rule: &'static Rule,
    checker: &mut Checker<'_>,
    pattern: &str,
) -> Vec<(BString, BString, Facts)> {
    // The root of the tree holds much else.
    let Some(directory) = directory_of(pattern).filter(|directory| *directory != "/") else {
        return Vec::new();
    };
    match checker.context.world.entries(directory) {
        Ok(entries) => entries
            .into_iter()
            // Hidden ones are where things are set aside, or wait to be named.
            .filter(|(name, _)| !name.starts_with(b".") && name != "lost+found")
            .map(|(name, facts)| {
                let path = [directory.as_bytes(), b"/", &name[..]].concat();
                (name, path.into(), facts)
            })
            .collect(),
        Err(why) => {
            checker.skip(rule, format!("{directory} can't be looked at: {why}"));
            Vec::new()
        }
    }
}

fn owner(context: PlanContext<'_>, facts: &Facts) -> String {
    match context.book.user_by_uid(facts.uid) {
        Some((_, user)) => format!("{} ({})", BStr::new(user.name), facts.uid),
        None => format!("number {}, which nobody has", facts.uid),
    }
}

fn homes(checker: &mut Checker<'_>) {
    let context = checker.context;
    let entries = entries(&HOME_ORPHAN, checker, &context.policy.people_home);
    if entries.is_empty() {
        return;
    }
    // A home, or a directory on the way to one, is somebody's.
    let mut known: HashSet<&[u8]> = HashSet::new();
    for (_, user) in context.book.users.records() {
        let mut path = user.home;
        while !path.is_empty() && known.insert(path) {
            path = &path[..path.rfind_byte(b'/').unwrap_or(0)];
        }
    }
    for (name, path, facts) in entries {
        if facts.kind == FileKind::Directory && !known.contains(&path[..]) {
            // A home that is packed in a directory bears its account's name and an ending.
            let account = name.strip_suffix(b".homedir").map_or(name.as_bstr(), BStr::new);
            match is_somebodys(checker, account, facts.uid) {
                Ok(true) => continue,
                Ok(false) => {}
                Err(why) => return checker.skip(&HOME_ORPHAN, why),
            }
            let owner = owner(context, &facts);
            let message = format!("{path} is no account's home; it belongs to {owner}.");
            let (message, remedy) =
                checker.or_lost((File::Passwd, &name), message, || put_aside(&path, facts.uid));
            find_at(&HOME_ORPHAN, checker, (path, name), message, remedy);
        }
    }
}

fn mail(checker: &mut Checker<'_>) {
    let context = checker.context;
    for (name, path, facts) in entries(&MAIL_ORPHAN, checker, &context.policy.mail_spool) {
        if facts.kind == FileKind::File && context.book.named(File::Passwd, &name).is_empty() {
            match is_somebodys(checker, name.as_bstr(), facts.uid) {
                Ok(true) => continue,
                Ok(false) => {}
                Err(why) => return checker.skip(&MAIL_ORPHAN, why),
            }
            let message = format!("{path} is the mail of {name}, whom the files do not know.");
            let (message, remedy) =
                checker.or_lost((File::Passwd, &name), message, || put_aside(&path, facts.uid));
            find_at(&MAIL_ORPHAN, checker, (path, name), message, remedy);
        }
    }
}

/// Whether what bears a name belongs to an account that others than the account files know.
///
/// # Errors
/// Why that can't be told.
fn is_somebodys(checker: &Checker<'_>, name: &BStr, uid: Uid) -> Result<bool, String> {
    let context = checker.context;
    let known = knows_user(context, checker.prefilter, name)?;
    Ok(known || context.world.elsewhere().has_uid(uid))
}

/// Out of the way, where only root gets, until somebody has looked at it.
fn put_aside(path: &BString, uid: Uid) -> Vec<Remedy> {
    let mut remedy = Remedy::of_command([b"repair", b"--set-aside", path]);
    let trace = Command::own([b"trace", b"id", uid.to_string().as_bytes()]);
    remedy.push(Remedy::or("to see what else is that number's", trace));
    remedy
}

/// Tells of a fault at a path in the tree.
pub(super) fn find_at(
    rule: &'static Rule,
    checker: &mut Checker<'_>,
    (path, subject): (BString, BString),
    message: String,
    remedies: Vec<Remedy>,
) {
    let finding = checker.find_about(rule, File::Passwd, message, remedies);
    (finding.place, finding.subject) = (Some(path), subject);
}

fn retired_ids(checker: &mut Checker<'_>) {
    let context = checker.context;
    if let Err(why) = context.world.retired_is_known() {
        return checker.skip(&RETIRED_ID_IN_USE, why);
    }
    let retired = context.world.retired();
    for (file, what, any) in [
        (File::Passwd, "uid", !retired.users.is_empty()),
        (File::Group, "gid", !retired.groups.is_empty()),
    ] {
        let Some(lines) = context.book.lines(file).filter(|_| any) else { continue };
        for line in lines.iter().filter(|line| line.is_record()) {
            let (id, holder) =
                match file {
                    File::Passwd => Passwd::read(line.record())
                        .map(|user| (user.uid().map(u32::from), user.name)),
                    _ => Group::read(line.record())
                        .map(|group| (group.gid().map(u32::from), group.name)),
                }
                .unwrap_or((None, b""));
            let Some((id, earlier)) = id.and_then(|id| {
                let was = match file {
                    File::Passwd => retired.user(Uid(id)),
                    _ => retired.group(Gid(id)),
                };
                Some((id, was?))
            }) else {
                continue;
            };
            let holder = BStr::new(holder);
            let message = format!(
                "{what} {id} was {earlier}'s and is retired: files that {earlier} left are {holder}'s now."
            );
            let mark = Mark::Field(match file {
                File::Passwd => PasswdField::Uid.into(),
                _ => GroupField::Gid.into(),
            });
            let mut remedy = another_number(file, holder);
            let trace = Command::own([b"trace", b"id", id.to_string().as_bytes()]);
            remedy.push(Remedy::or("to see what it got", trace));
            checker.find(&RETIRED_ID_IN_USE, (lines, line), mark, message, remedy);
        }
    }
}

//! What lies around the account files: open-directory, exposed-copy, files-not-asked,
//! mail-owner, name-without-account.

use bstr::{BStr, BString, ByteSlice};

use super::{
    Besides, Checker, Command, Example, Family, Finding, PLAIN, Pass, Remedy, Rule, Severity,
    knows_user,
};
use crate::surroundings::{list_mentions, verb_of};
use crate::table::File;
use crate::value::{FileKind, Gid, Uid};

pub(super) const PASSES: &[Pass] = &[
    (&[&OPEN_DIRECTORY], open_directories),
    (&[&EXPOSED_COPY], copies),
    (&[&FILES_NOT_ASKED], not_asked),
    (&[&MAIL_OWNER], mail),
    (&[&NAME_WITHOUT_ACCOUNT], names),
];

static OPEN_DIRECTORY: Rule = Rule {
    name: "open-directory",
    severity: Severity::Error,
    family: Family::Files,
    looks_at_tree: true,
    finds: "/, /etc, /home or /root that others than root can write",
    why: "Whoever can write in /etc puts a file of their own in the place of passwd; whoever can \
              write in /home puts a directory there before its user comes.",
    remedy: "Take the others' rights away: chmod go-w PATH.",
    bad: Example::beside(Besides::Mode { path: "/etc", mode: 0o777 }),
    good: Example::beside(Besides::Mode { path: "/etc", mode: 0o755 }),
    ..PLAIN
};

static EXPOSED_COPY: Rule = Rule {
    name: "exposed-copy",
    severity: Severity::Error,
    family: Family::Files,
    looks_at_tree: true,
    finds: "a copy of shadow or gshadow that others can read: a backup, an editor's leftover",
    why: "It holds the hashes that the file itself hides, and whoever reads it guesses passwords \
              at leisure.",
    remedy: "Remove it, or close it: chmod 0600 PATH. Take the passwords for known if it was there \
                 for long.",
    bad: Example::beside(Besides::Belongs { path: "/etc/shadow.bak", uid: Uid::ROOT, mode: 0o644 }),
    good: Example::beside(Besides::Belongs { path: "/etc/shadow-", uid: Uid::ROOT, mode: 0o600 }),
    ..PLAIN
};

static FILES_NOT_ASKED: Rule = Rule {
    name: "files-not-asked",
    severity: Severity::Error,
    family: Family::Files,
    looks_at_tree: true,
    finds: "an nsswitch.conf that does not ask the account files",
    why: "Whatever stands in them, nobody finds it: root itself is unknown, and no sign-in works.",
    remedy: "Write files into the line of etc/nsswitch.conf, before the other sources.",
    bad: Example::beside(Besides::Asks("ldap")),
    good: Example::beside(Besides::Nothing),
    ..PLAIN
};

static MAIL_OWNER: Rule = Rule {
    name: "mail-owner",
    severity: Severity::Warning,
    family: Family::Homes,
    looks_at_tree: true,
    reads: &[File::Passwd],
    finds: "a mail spool file or crontab that belongs to another account than its name says",
    why: "Its owner reads the mail, or says what runs under the other's name; and the account \
              itself is kept out of it.",
    remedy: "Give the file to the account it is named after, after looking at whose it is.",
    bad: Example::beside(Besides::Belongs { path: "/var/mail/maren", uid: Uid(1005), mode: 0o600 }),
    good: Example::beside(Besides::Belongs {
        path: "/var/mail/maren",
        uid: Uid(1004),
        mode: 0o600,
    }),
    ..PLAIN
};

static NAME_WITHOUT_ACCOUNT: Rule = Rule {
    name: "name-without-account",
    severity: Severity::Warning,
    family: Family::Orphans,
    looks_at_tree: true,
    reads: &[File::Passwd],
    finds: "a name in sudoers, a crontab or sshd_config that no account has",
    why: "It grants nothing today; the next account of that name has it at once, without \
              anybody deciding it.",
    remedy: "Take the name out of that line, or correct its spelling.",
    bad: Example::beside(Besides::Mentions("tavis")),
    good: Example::beside(Besides::Mentions("maren")),
    ..PLAIN
};

/// Directories that root alone writes in.
const ROOTS: [&str; 4] = ["/", "/etc", "/home", "/root"];

/// About a place of the tree.
fn find_at<'f>(
    checker: &'f mut Checker<'_>,
    rule: &'static Rule,
    place: BString,
    message: String,
    remedies: Vec<Remedy>,
) -> &'f mut Finding {
    let finding = checker.find_about(rule, File::Passwd, message, remedies);
    (finding.subject, finding.place) = (place.clone(), Some(place));
    finding
}

fn open_directories(checker: &mut Checker<'_>) {
    for path in ROOTS {
        let Ok(Some(facts)) = checker.context.world.facts(path.into()) else { continue };
        if facts.kind != FileKind::Directory {
            continue;
        }
        let who = match facts.mode {
            mode if mode & 0o002 != 0 => "everybody".to_owned(),
            mode if mode & 0o020 != 0 && facts.gid != Gid::ROOT => format!("gid {}", facts.gid),
            _ => continue,
        };
        let message = format!("{path} has mode {:04o}: {who} can write in it.", facts.mode);
        let shut = Command::System("chmod go-w".to_owned(), vec![path.into()]);
        find_at(checker, &OPEN_DIRECTORY, path.into(), message, Remedy::of_one(shut));
    }
}

/// Where copies are left.
const COPIES: [&str; 2] = ["/etc", "/var/backups"];

/// Whether a name is that of a copy of a file with hashes.
fn is_copy(name: &[u8]) -> bool {
    let plain = name.trim_start_with(|c| matches!(c, '.' | '#' | '~'));
    let rest = plain.strip_prefix(b"gshadow").or_else(|| plain.strip_prefix(b"shadow"));
    // What goes on with a letter is another word.
    let is_word = |rest: &[u8]| rest.first().is_some_and(u8::is_ascii_alphanumeric);
    match rest {
        Some(b"") => plain.len() < name.len(),
        Some(rest) => !is_word(rest),
        None => false,
    }
}

fn copies(checker: &mut Checker<'_>) {
    let shadow = checker.context.book.group(b"shadow").and_then(|(_, group)| group.gid());
    for folder in COPIES {
        let entries = match checker.context.world.entries(folder.into()) {
            Ok(entries) => entries,
            Err(why) => {
                checker.skip(&EXPOSED_COPY, format!("{folder} can't be looked at: {why}"));
                continue;
            }
        };
        for (name, facts) in entries {
            if facts.kind != FileKind::File || !is_copy(&name) {
                continue;
            }
            let who = match facts.mode {
                mode if mode & 0o004 != 0 => "everybody".to_owned(),
                mode if mode & 0o040 != 0
                    && facts.gid != Gid::ROOT
                    && Some(facts.gid) != shadow =>
                {
                    format!("gid {}", facts.gid)
                }
                _ => continue,
            };
            let path = BString::from([folder.as_bytes(), b"/", &name[..]].concat());
            let message =
                format!("{path} seems to be a copy of the hashes, and {who} can read it.");
            let shut = Command::System("chmod 0600".to_owned(), vec![path.clone()]);
            find_at(checker, &EXPOSED_COPY, path, message, Remedy::of_one(shut));
        }
    }
}

fn not_asked(checker: &mut Checker<'_>) {
    let Some((place, sources)) = checker.context.world.files_not_asked() else { return };
    let message = format!("accounts are looked up in {sources} alone, and not in the files.");
    let remedy = Remedy::by_hand(format!("write files into {place}, before the other sources"));
    let path = "/etc/nsswitch.conf".into();
    find_at(checker, &FILES_NOT_ASKED, path, message, remedy);
}

/// Where crontabs are.
const CRONTABS: [&str; 2] = ["/var/spool/cron/crontabs", "/var/spool/cron"];

fn mail(checker: &mut Checker<'_>) {
    let context = checker.context;
    if let Err(why) = context.world.owners_are_real() {
        return checker.skip(&MAIL_OWNER, why);
    }
    let spool = context.policy.mail_spool.strip_suffix("/{name}").unwrap_or_default();
    let folders = [(spool, "mail", false)].into_iter();
    let crontabs = CRONTABS.iter().map(|path| (*path, "crontab", true));
    for (folder, what, roots_may) in folders.chain(crontabs).filter(|(path, ..)| !path.is_empty()) {
        let entries = match context.world.entries(folder.into()) {
            Ok(entries) => entries,
            Err(why) => {
                checker.skip(&MAIL_OWNER, format!("{folder} can't be looked at: {why}"));
                continue;
            }
        };
        for (name, facts) in entries.into_iter().filter(|(_, facts)| facts.kind == FileKind::File) {
            let Some((_, user)) = context.book.user(&name) else { continue };
            let Some(uid) = user.uid().filter(|uid| *uid != facts.uid) else { continue };
            if roots_may && facts.uid == Uid::ROOT {
                continue;
            }
            let whose = match context.book.user_by_uid(facts.uid) {
                Some((_, other)) => BStr::new(other.name).to_string(),
                None => format!("uid {}", facts.uid),
            };
            let path = BString::from([folder.as_bytes(), b"/", &name[..]].concat());
            let message =
                format!("{path} is the {what} of {name} ({uid}), and belongs to {whose}.");
            let from = facts.uid.to_string();
            let give = match facts.uid {
                Uid::ROOT => {
                    Command::own([b"reassign", b"user", b"0", &name, &path, b"--even-root"])
                }
                _ => Command::own([b"reassign", b"user", from.as_bytes(), &name, &path]),
            };
            find_at(checker, &MAIL_OWNER, path, message, Remedy::of_one(give)).subject = name;
        }
    }
}

fn names(checker: &mut Checker<'_>) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    for (name, places) in context.world.names_granted() {
        if context.book.user(&name).is_some() {
            continue;
        }
        match knows_user(context, prefilter, name.as_bstr()) {
            Ok(true) => continue,
            Ok(false) => {}
            Err(why) => return checker.skip(&NAME_WITHOUT_ACCOUNT, why),
        }
        let Some(first) = places.first() else { continue };
        let place = BString::from(format!("/{}", first.file));
        let lines = list_mentions(&places);
        // A crontab is not on a line, but called so itself.
        let (message, what_to_do) = match places.iter().all(|place| place.line == 0) {
            true => (
                format!("{lines} is the crontab of {name}, and no account is called that."),
                format!("remove {lines}, or call it after the account that it is for"),
            ),
            false => (
                format!("{lines} {} {name}, and no account is called that.", verb_of(&places)),
                format!("take {name} out of {lines}, or correct the name"),
            ),
        };
        let (message, remedy) =
            checker.or_lost((File::Passwd, &name), message, || Remedy::by_hand(what_to_do));
        find_at(checker, &NAME_WITHOUT_ACCOUNT, place, message, remedy).subject = name;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn copies_are_told_by_their_names() {
        for name in ["shadow-", "shadow.bak", ".shadow.swp", "shadow~", "#shadow#", "gshadow.old"] {
            assert!(is_copy(name.as_bytes()), "{name}");
        }
        for name in ["shadow", "gshadow", "shadowd.conf", "passwd-", "moonshadow"] {
            assert!(!is_copy(name.as_bytes()), "{name}");
        }
    }
}

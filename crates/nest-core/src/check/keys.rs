//! Keys to sign in with: exposed-keys, key-despite-lock, shared-key, weak-key.

use std::cell::LazyCell;

use bstr::{BStr, BString, ByteSlice};
use hashbrown::HashMap;
use rayon::prelude::*;

use super::homes::own_home;
use super::{Besides, Checker, Command, Example, Family, PLAIN, Pass, Remedy, Rule, Severity};
use crate::account::{means_no_home, turns_away};
use crate::context::PlanContext;
use crate::drafting::system_fault;
use crate::sign_in::{KeyFound, keys_found, sign_in_by_book};
use crate::surroundings::Facts;
use crate::table::{File, Line, Passwd, PasswdField, ShadowField};
use crate::value::{Day, Gid, PasswordField, Uid};

pub(super) const PASSES: &[Pass] = &[
    (&[&EXPOSED_KEYS], exposed),
    (&[&KEY_DESPITE_LOCK], locked),
    (&[&SHARED_KEY, &WEAK_KEY], each_key),
];

static EXPOSED_KEYS: Rule = Rule {
    name: "exposed-keys",
    severity: Severity::Error,
    family: Family::SignIn,
    looks_at_tree: true,
    reads: &[File::Passwd],
    finds: "a home, a .ssh in it or a file of keys that others than its account can write",
    why: "Whoever can write there puts a key of their own in, and is that account: root's and \
              services' homes are looked at too.",
    remedy: "Take the others' rights away, and look through the keys: chmod go-w PATH.",
    bad: Example::beside(Besides::Mode { path: "/home/maren/.ssh", mode: 0o777 }),
    ..PLAIN
};

static KEY_DESPITE_LOCK: Rule = Rule {
    name: "key-despite-lock",
    severity: Severity::Warning,
    family: Family::SignIn,
    looks_at_tree: true,
    reads: &[File::Passwd, File::Shadow],
    finds: "an account whose password is locked, or that expired, and that a key lets in",
    why: "Somebody locked it to keep its owner out, and the key goes on opening the door.",
    remedy: "Keep it out by every way: copper-nest suspend user NAME; or unlock the password.",
    bad: Example {
        other: &[(
            File::Shadow,
            "maren:!$y$j9T$TQrrklxsv3nFULfgn4vfq1$uF6Yp8T5sCFlkFK8AI5yNLvAOEZl4Pn70F8hFaZBvz2:20781:0::7:::\n",
        )],
        besides: Besides::Keys(1),
    },
    good: Example {
        other: &[(File::Shadow, "maren:!:20781:0::7:::\n")],
        besides: Besides::Keys(1),
    },
    ..PLAIN
};

static SHARED_KEY: Rule = Rule {
    name: "shared-key",
    severity: Severity::Note,
    family: Family::SignIn,
    looks_at_tree: true,
    reads: &[File::Passwd],
    finds: "an SSH key that lets in as more than one account",
    why: "What is done under one of these names may have been done by whoever has the other; \
              and a key that is lost opens all of them.",
    remedy: "Give each account a key of its own: copper-nest change user NAME --drop-key; or \
                 accept it with a reason, where one person has several accounts.",
    bad: Example {
        other: &[(
            File::Passwd,
            "maren:x:1004:1004::/home/maren:/bin/sh\ntavish:x:1005:1004::/home/tavish:/bin/sh\n",
        )],
        besides: Besides::Keys(1),
    },
    good: Example::beside(Besides::Keys(1)),
    ..PLAIN
};

static WEAK_KEY: Rule = Rule {
    name: "weak-key",
    severity: Severity::Warning,
    family: Family::SignIn,
    looks_at_tree: true,
    reads: &[File::Passwd],
    finds: "an SSH key that is too short, or of a kind that is broken",
    why: "Whoever can compute the secret half signs in as that account: RSA of fewer than 2048 \
              bits is within reach (NIST SP 800-131A), and of DSA SSH servers take none any more.",
    remedy: "Add a new one, and drop this: copper-nest change user NAME --add-key FILE --drop-key \
                 FINGERPRINT.",
    bad: Example::beside(Besides::WeakKey),
    ..PLAIN
};

/// What is looked at below a home.
const BELOW: [&[u8]; 2] = [b"/.ssh", b"/.ssh/authorized_keys"];

fn exposed(checker: &mut Checker<'_>) {
    let context = checker.context;
    let lines = context.book.users.lines();
    let owners = context.world.owners_are_real().is_ok();
    // The one whose primary group has a gid; nobody where several are.
    let alone = LazyCell::new(|| {
        let mut alone: HashMap<u32, Option<&[u8]>> = HashMap::new();
        for (_, user) in context.book.users.records() {
            let Some(gid) = user.gid() else { continue };
            alone.entry(gid.0).and_modify(|one| *one = None).or_insert(Some(user.name));
        }
        alone
    });
    let shares = |name: &[u8], gid: Gid| alone.get(&gid.0).is_some_and(|one| *one != Some(name));
    for (line, user) in context.book.users.records() {
        let Some(uid) = user.uid() else { continue };
        if means_no_home(user.home) || !user.home.starts_with(b"/") || user.home == b"/" {
            continue;
        }
        // Of a service that nobody signs in as only the keys matter, if it has any.
        let signs_in = !turns_away(user.effective_shell());
        let home = BString::from(user.home);
        for (at, below) in [&b""[..]].iter().chain(&BELOW).enumerate() {
            let path: BString = [home.as_slice(), below].concat().into();
            let Ok(Some(facts)) = context.world.facts(path.as_bstr()) else { break };
            if at == 0 && !signs_in {
                continue;
            }
            let by_owner = owners && at > 0;
            let Some(who) = writer(context, (&user, uid), &facts, by_owner, shares) else {
                continue;
            };
            // That a person's home lets everybody write is another rule's.
            if at == 0 && facts.mode & 0o002 != 0 && context.policy.is_person(uid) {
                continue;
            }
            let message = format!("{who} can write {path}, and so put a key of their own there.");
            let shut = Command::System("chmod go-w".to_owned(), vec![path.clone()]);
            let remedy = match facts.mode & 0o022 {
                // A directory of the system stays as it is: it is nobody's home.
                _ if at == 0 && system_fault(&home).is_some() => {
                    Remedy::of_one(own_home(context, user.name))
                }
                0 => {
                    let owner = [user.uid, b":", user.gid].concat();
                    Remedy::by_hand(format!("give {path} to {}", BStr::new(&owner)))
                }
                _ => Remedy::of_one(shut),
            };
            let found =
                checker.find(&EXPOSED_KEYS, (lines, line), PasswdField::Home, message, remedy);
            found.place = (at > 0).then_some(path);
            break;
        }
    }
}

/// Who else can write at a place of an account's; nothing where nobody but it and root can.
fn writer(
    context: PlanContext<'_>,
    (user, uid): (&Passwd<'_>, Uid),
    facts: &Facts,
    by_owner: bool,
    shares: impl Fn(&[u8], Gid) -> bool,
) -> Option<String> {
    let book = context.book;
    if facts.mode & 0o002 != 0 {
        return Some("everybody".to_owned());
    }
    if by_owner && facts.uid != uid && facts.uid != Uid::ROOT {
        let owner = book.user_by_uid(facts.uid);
        return Some(match owner {
            Some((_, owner)) => BStr::new(owner.name).to_string(),
            None => format!("uid {}", facts.uid),
        });
    }
    if facts.mode & 0o020 == 0 || facts.gid.0 == 0 {
        return None;
    }
    // A group that nobody else is in lets nobody else in.
    let group = book.group_by_gid(facts.gid);
    let listed = group.is_some_and(|(_, group)| group.members().any(|member| member != user.name));
    let (_, group) = group.filter(|_| listed || shares(user.name, facts.gid))?;
    Some(format!("the group {}", BStr::new(group.name)))
}

fn locked(checker: &mut Checker<'_>) {
    let context = checker.context;
    let book = context.book;
    let Some(table) = &book.shadow else { return };
    for (line, shadow) in table.records() {
        let expired = shadow.aging().expires.filter(|day| *day <= context.today && *day > Day(1));
        let is_locked = matches!(shadow.field(), PasswordField::Locked(_));
        if !is_locked && expired.is_none() {
            continue;
        }
        let Some((_, user)) = book.user(shadow.name) else { continue };
        let is_first = book.shadow(shadow.name).is_some_and(|(first, _)| same(first, line));
        if !is_first || !sign_in_by_book(context, user).by_key() {
            continue;
        }
        let name = BStr::new(shadow.name);
        let (message, field) = match expired {
            Some(day) => (
                format!("{name} expired on {day}, and can sign in by key all the same."),
                ShadowField::Expires,
            ),
            None => (
                format!("the password of {name} is locked, and a key lets it in all the same."),
                ShadowField::Password,
            ),
        };
        let remedy = Remedy::of_command([b"suspend", b"user", name]);
        checker.find(&KEY_DESPITE_LOCK, (table.lines(), line), field, message, remedy);
    }
}

fn each_key(checker: &mut Checker<'_>) {
    let context = checker.context;
    let lines = context.book.users.lines();
    let users: Vec<_> = context.book.users.records().collect();
    let found: Vec<_> = users
        .into_par_iter()
        .map(|(line, user)| (line, user, keys_found(context, user)))
        .filter(|(.., keys)| !keys.is_empty())
        .collect();
    let mut holders: HashMap<String, &[u8]> = HashMap::new();
    for (line, user, keys) in found {
        let name = BStr::new(user.name);
        let mut told: Vec<String> = Vec::new();
        for found in keys.into_iter().filter(KeyFound::works) {
            let key = &found.key;
            if told.contains(&key.fingerprint) {
                continue;
            }
            told.push(key.fingerprint.clone());
            let drop: [&[u8]; 5] =
                [b"change", b"user", name, b"--drop-key", key.fingerprint.as_bytes()];
            let place = format!("{}:{}", found.file, key.line);
            if let Some(weak) = key.weakness() {
                let message = format!("the key {} of {name} ({place}) {weak}.", key.in_short());
                let remedy = Remedy::of_command(drop);
                checker.find(&WEAK_KEY, (lines, line), PasswdField::Name, message, remedy);
            }
            match holders.get(&key.fingerprint) {
                Some(other) => {
                    let other = BStr::new(other);
                    let message = format!(
                        "the key {} ({place}) lets in as {name}, and as {other} too.",
                        key.in_short()
                    );
                    let remedy = Remedy::of_command(drop);
                    checker.find(&SHARED_KEY, (lines, line), PasswdField::Name, message, remedy);
                }
                None => _ = holders.insert(key.fingerprint.clone(), user.name),
            }
        }
    }
}

fn same(one: Line<'_>, other: Line<'_>) -> bool {
    one.start == other.start
}

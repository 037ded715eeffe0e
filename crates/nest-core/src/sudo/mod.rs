//! Who may become root by sudo: sudoers(5), as sudo(8) goes by it.
//!
//! - `grammar`, `cursor`: reading the files, and the words of a line
//! - `judge`: what they give to an account

mod cursor;
mod grammar;
mod judge;

use std::collections::HashMap;

use bstr::{BStr, BString, ByteSlice};

pub use self::judge::{AskedFor, Gives, Grant};
use crate::configuration::{ConfigFiles, Place};
use crate::value::{Gid, Uid};

/// What sudo is configured to do.
#[derive(Debug, Clone, Default)]
pub struct Sudoers {
    rules: Vec<UserRule>,
    aliases: HashMap<(AliasKind, BString), Vec<Item>>,
    settings: Vec<Setting>,
    /// Lines that sudo would not understand, and goes past.
    pub faulty: Vec<(Place, BString)>,
    /// What could not be read, and why.
    pub unread: Vec<String>,
    /// How many files were read.
    pub files: usize,
    /// What the machine is called: by itself, and as etc/hosts calls it first.
    hosts: Vec<BString>,
}

/// What an alias stands for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
enum AliasKind {
    User,
    RunAs,
    Host,
    Command,
}

/// A word of a list.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
struct Item {
    /// A `!` stands before it.
    negated: bool,
    word: BString,
}

/// Whom a setting is about.
#[derive(Debug, Clone, PartialEq, Eq)]
enum SettingScope {
    All,
    Users(Vec<Item>),
    Hosts(Vec<Item>),
    /// Some commands, or some whom they run as.
    Other,
}

/// A line of `Defaults`.
#[derive(Debug, Clone)]
struct Setting {
    scope: SettingScope,
    name: BString,
    on: bool,
    value: Option<BString>,
}

/// A line that gives something to somebody.
#[derive(Debug, Clone)]
struct UserRule {
    place: Place,
    /// The line as it is.
    text: BString,
    users: Vec<Item>,
    privileges: Vec<Privilege>,
}

/// What it gives on some hosts.
#[derive(Debug, Clone)]
struct Privilege {
    hosts: Vec<Item>,
    commands: Vec<CommandRule>,
}

/// A command, as whom it may be run, and how.
#[derive(Debug, Clone, Default)]
struct CommandRule {
    /// As these users; nothing where it is not said, and nobody but oneself where it is empty.
    run_as: Option<Vec<Item>>,
    command: Item,
    /// Whether a password is asked, where it is said.
    asks: Option<bool>,
    /// From when on, and until when, in the words of the file.
    not_before: Option<BString>,
    not_after: Option<BString>,
}

/// Who asks.
pub struct Asker<'a> {
    /// The name.
    pub name: &'a [u8],
    /// The number, where the line has one.
    pub uid: Option<Uid>,
    /// The groups, with the gids: those that list it, and the primary one.
    pub groups: &'a dyn Fn() -> Vec<(Gid, &'a [u8])>,
}

impl Sudoers {
    /// Reads the configuration of a tree that is the machine `host`.
    pub fn read(files: &dyn ConfigFiles, host: &BStr) -> Self {
        let mut sudoers = grammar::read(files, host);
        sudoers.hosts = vec![host.into()];
        // Where sudo asks for whole names, as Debian's does, it goes by what this says.
        match files.read("etc/hosts".into()) {
            Ok(known) => sudoers.hosts.extend(known.and_then(|known| first_name(&known, host))),
            Err(why) => sudoers.unread.push(format!("etc/hosts {why}")),
        }
        sudoers
    }
}

/// The first name on the line of hosts(5) that names a host.
fn first_name(hosts: &[u8], host: &BStr) -> Option<BString> {
    let lines = hosts.lines().map(|line| line.split_once_str("#").map_or(line, |(said, _)| said));
    let mut names = lines.map(|line| line.fields().skip(1).collect::<Vec<_>>());
    let line = names.find(|names| names.iter().any(|name| name.eq_ignore_ascii_case(host)))?;
    line.first().map(|name| BString::from(*name))
}

/// Accounts that lines may be about.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Named {
    /// This user.
    User(BString),
    /// Whoever has this uid.
    Uid(Uid),
    /// Whoever is in this group.
    Group(BString),
    /// Whoever is in a group of this gid.
    Gid(Gid),
    /// Everybody.
    Everybody,
}

impl Named {
    /// Whether somebody is meant.
    pub(crate) fn means(&self, asker: &Asker<'_>) -> bool {
        match self {
            Named::Everybody => true,
            Named::User(name) => *name == asker.name,
            Named::Uid(uid) => asker.uid == Some(*uid),
            Named::Group(name) => (asker.groups)().iter().any(|(_, group)| *name == **group),
            Named::Gid(gid) => (asker.groups)().iter().any(|(of, _)| of == gid),
        }
    }
}

impl Sudoers {
    /// Every account and group that a line gives something to, with the lines.
    pub fn named(&self) -> Vec<(Named, &Place)> {
        let mut all = Vec::new();
        for rule in &self.rules {
            self.name_in(&rule.users, &mut Vec::new(), &mut |named| all.push((named, &rule.place)));
        }
        all
    }

    fn name_in(&self, items: &[Item], within: &mut Vec<BString>, tell: &mut dyn FnMut(Named)) {
        for item in items.iter().filter(|item| !item.negated) {
            match self.alias(AliasKind::User, &item.word, within) {
                Some(items) => {
                    within.push(item.word.clone());
                    self.name_in(items, within, tell);
                    within.pop();
                }
                None => named(&item.word).into_iter().for_each(&mut *tell),
            }
        }
    }

    /// The items of an alias that is not within itself.
    fn alias(&self, kind: AliasKind, word: &BString, within: &[BString]) -> Option<&[Item]> {
        let is_alias = word.first().is_some_and(u8::is_ascii_uppercase);
        let items = self.aliases.get(&(kind, word.clone())).filter(|_| is_alias)?;
        (!within.contains(word)).then_some(items)
    }
}

/// What a word of a list of users means; nothing for netgroups and other directories' groups.
fn named(word: &BString) -> Option<Named> {
    let number = |digits: &[u8]| std::str::from_utf8(digits).ok()?.parse::<u32>().ok();
    if word == "ALL" {
        return Some(Named::Everybody);
    }
    if let Some(group) = word.strip_prefix(b"%") {
        return match group.strip_prefix(b"#") {
            Some(digits) => number(digits).map(|gid| Named::Gid(Gid(gid))),
            None if group.starts_with(b":") => None,
            None => Some(Named::Group(group.into())),
        };
    }
    match word.strip_prefix(b"#") {
        Some(digits) => number(digits).map(|uid| Named::Uid(Uid(uid))),
        None if word.starts_with(b"+") => None,
        None => Some(Named::User(word.clone())),
    }
}

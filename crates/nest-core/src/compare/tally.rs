//! What is said of each name, and by which sides.
//!
//! Of ten thousand machines nearly all say the same: each way in which something is said is kept
//! once, with the sides that say it, so that memory goes by the ways and not by the machines.

use std::collections::HashMap;

use hashbrown::HashTable;
use xxhash_rust::xxh3::xxh3_64;

use crate::order;
use crate::snapshot::{GroupsSaid, Snapshot, SnapshotGroup, SnapshotUser, Text};

/// Between the values of one way. No text holds it, as control characters are escaped.
const BETWEEN: char = '\x1f';

/// Between the entries of a list.
const COMMA: &str = ", ";

/// What is said of users, in this order.
#[derive(Debug, Clone, Copy)]
pub(super) enum Said {
    Kind,
    Uid,
    Primary,
    FullName,
    Home,
    Shell,
    Groups,
    Root,
    SignIn,
    Expires,
    Keys,
    Uids,
    Gids,
    HomeFrom,
}

/// What is said of groups, in this order.
#[derive(Debug, Clone, Copy)]
pub(super) enum SaidOfGroup {
    Kind,
    Gid,
    Admins,
}

/// One way in which something is said.
#[derive(Debug)]
pub(super) struct Way {
    /// The name, and what is said of it.
    text: Box<str>,
    /// By whom, in their order.
    pub sides: Vec<u32>,
    /// How many files each of these counted; empty where nobody did.
    pub files: Vec<u64>,
}

impl Way {
    /// The name.
    pub fn name(&self) -> &str {
        self.text.split(BETWEEN).next().unwrap_or_default()
    }

    /// A value; nothing where they don't say.
    fn value(&self, at: usize) -> Option<&str> {
        self.text.split(BETWEEN).nth(at + 1)?.strip_prefix('=')
    }

    /// What is said of a user.
    pub fn of_user(&self, said: Said) -> Option<&str> {
        self.value(said as usize)
    }

    /// What is said of a group.
    pub fn of_group(&self, said: SaidOfGroup) -> Option<&str> {
        self.value(said as usize)
    }

    /// The files that a side counted; one where nobody did: the account itself.
    pub fn files_of(&self, at: usize) -> u64 {
        self.files.get(at).map_or(1, |files| files.saturating_add(1))
    }
}

/// What is said of all names.
#[derive(Debug, Default)]
pub struct Tally {
    users: HashTable<Way>,
    groups: HashTable<Way>,
    policies: HashTable<Way>,
}

impl Tally {
    /// Takes in what a side says. The sides come in their order, or tallies of runs of them are
    /// added to each other in that.
    pub fn add(&mut self, side: u32, snapshot: &Snapshot<'_>) {
        let mut buffer = String::new();
        let mut listed: HashMap<&str, Vec<&str>> = HashMap::with_capacity(snapshot.users.len());
        for group in &snapshot.groups {
            for member in &group.members {
                listed.entry(member).or_default().push(&group.name);
            }
        }
        for user in &snapshot.users {
            let groups = listed.get_mut(&*user.name).map(|groups| {
                groups.sort_unstable();
                groups.dedup();
                &groups[..]
            });
            write_user(&mut buffer, user, groups.unwrap_or_default());
            say(&mut self.users, &buffer, &[side], &user.files.map_or(vec![], |files| vec![files]));
        }
        for group in &snapshot.groups {
            write_group(&mut buffer, group);
            say(
                &mut self.groups,
                &buffer,
                &[side],
                &group.files.map_or(vec![], |files| vec![files]),
            );
        }
        if let Some(policy) = &snapshot.policy {
            buffer.clear();
            buffer.push_str(policy);
            say(&mut self.policies, &buffer, &[side], &[]);
        }
    }

    /// Adds what sides say that come after those of this one.
    pub fn append(&mut self, later: Tally) {
        let tables = [
            (&mut self.users, later.users),
            (&mut self.groups, later.groups),
            (&mut self.policies, later.policies),
        ];
        for (mine, theirs) in tables {
            for way in theirs {
                say(mine, &way.text, &way.sides, &way.files);
            }
        }
    }

    /// Leaves out what a side said.
    pub fn leave_out(&mut self, side: u32) {
        for table in [&mut self.users, &mut self.groups, &mut self.policies] {
            table.retain(|way| {
                if let Ok(at) = way.sides.binary_search(&side) {
                    way.sides.remove(at);
                    if at < way.files.len() {
                        way.files.remove(at);
                    }
                }
                !way.sides.is_empty()
            });
        }
    }

    /// What is said of users, by name.
    pub(super) fn users(&self) -> Vec<(&str, Vec<&Way>)> {
        by_name(&self.users)
    }

    /// What is said of groups, by name.
    pub(super) fn groups(&self) -> Vec<(&str, Vec<&Way>)> {
        by_name(&self.groups)
    }

    /// The policies, by digest.
    pub(super) fn policies(&self) -> Vec<(&str, Vec<&Way>)> {
        by_name(&self.policies)
    }
}

/// The ways by name, both sorted, so that the same is told in the same order.
fn by_name(table: &HashTable<Way>) -> Vec<(&str, Vec<&Way>)> {
    let mut ways: Vec<&Way> = table.iter().collect();
    ways.sort_unstable_by(|a, b| a.text.cmp(&b.text));
    let mut all: Vec<(&str, Vec<&Way>)> = Vec::new();
    for way in ways {
        match all.last_mut() {
            Some((name, ways)) if *name == way.name() => ways.push(way),
            _ => all.push((way.name(), vec![way])),
        }
    }
    // Between a name and what comes after it stands a sign that sorts before most others, not
    // before all.
    order::sort_by_key(&mut all, |(name, _)| *name);
    all
}

/// Notes that sides say something in this way.
fn say(table: &mut HashTable<Way>, text: &str, sides: &[u32], files: &[u64]) {
    let hash_of = |text: &str| xxh3_64(text.as_bytes());
    let entry = table.entry(hash_of(text), |way| &*way.text == text, |way| hash_of(&way.text));
    let way = entry
        .or_insert_with(|| Way { text: text.into(), sides: Vec::new(), files: Vec::new() })
        .into_mut();
    if !files.is_empty() {
        // Who came before and did not count has one file each.
        way.files.resize(way.sides.len(), 0);
        way.files.extend_from_slice(files);
    }
    // A name that stands twice in a file is told once.
    let new = sides.iter().filter(|side| way.sides.last().is_none_or(|last| last < side));
    way.sides.extend(new.copied().collect::<Vec<_>>());
    if !way.files.is_empty() {
        way.files.resize(way.sides.len(), 0);
    }
}

/// Writes what is said of a user.
fn write_user(buffer: &mut String, user: &SnapshotUser<'_>, listed: &[&str]) {
    buffer.clear();
    buffer.push_str(&user.name);
    let mut writing = Writing(buffer);
    writing.text(user.kind.as_ref());
    writing.number(user.uid);
    match (&user.primary, user.gid) {
        (None, Some(gid)) => writing.some(|buffer| {
            buffer.push_str("gid ");
            buffer.push_str(itoa::Buffer::new().format(gid));
        }),
        (primary, _) => writing.text(primary.as_ref()),
    }
    writing.text(user.full_name.as_ref());
    writing.text(user.home.as_ref());
    writing.text(user.shell.as_ref());
    match &user.groups {
        GroupsSaid::ByGroups => writing.list(listed.iter().copied()),
        GroupsSaid::Named(groups) => writing.list(groups.iter().map(|group| &**group)),
        GroupsSaid::Nothing => writing.none(),
    }
    match &user.root {
        Some(root) => writing.list(root.iter().map(|way| &**way)),
        None => writing.none(),
    }
    writing.text(user.sign_in.as_ref());
    writing.text(user.expires.as_ref());
    match &user.keys {
        Some(keys) => writing.list(keys.iter().map(|key| &**key)),
        None => writing.none(),
    }
    writing.spans(&user.uids);
    writing.spans(&user.gids);
    writing.text(user.home_from.as_ref());
}

/// Writes what is said of a group.
fn write_group(buffer: &mut String, group: &SnapshotGroup<'_>) {
    buffer.clear();
    buffer.push_str(&group.name);
    let mut writing = Writing(buffer);
    writing.text(group.kind.as_ref());
    writing.number(group.gid);
    match &group.admins {
        Some(admins) => writing.list(admins.iter().map(|admin| &**admin)),
        None => writing.none(),
    }
}

/// A way on its way into a buffer.
struct Writing<'b>(&'b mut String);

impl Writing<'_> {
    fn none(&mut self) {
        self.0.push(BETWEEN);
    }

    fn some(&mut self, write: impl FnOnce(&mut String)) {
        self.0.push(BETWEEN);
        self.0.push('=');
        write(self.0);
    }

    fn text(&mut self, text: Option<&Text<'_>>) {
        match text {
            Some(text) => self.some(|buffer| buffer.push_str(text)),
            None => self.none(),
        }
    }

    fn number(&mut self, number: Option<u32>) {
        match number {
            Some(number) => self.some(|buffer| buffer.push_str(itoa::Buffer::new().format(number))),
            None => self.none(),
        }
    }

    fn list<'t>(&mut self, texts: impl Iterator<Item = &'t str>) {
        self.some(|buffer| {
            for (at, text) in texts.enumerate() {
                if at > 0 {
                    buffer.push_str(COMMA);
                }
                buffer.push_str(text);
            }
        });
    }

    fn spans(&mut self, spans: &[(u32, u64)]) {
        self.some(|buffer| {
            for (first, count) in spans {
                buffer.push_str(itoa::Buffer::new().format(*first));
                buffer.push('+');
                buffer.push_str(itoa::Buffer::new().format(*count));
                buffer.push(' ');
            }
        });
    }
}

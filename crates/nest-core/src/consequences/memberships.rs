//! Who is in which group before a plan and after it: listed, by primary group, or by another
//! group of the same gid.

use std::collections::BTreeSet;

use hashbrown::{HashMap, HashSet};

use crate::book::Book;
use crate::table::{Edit, File, Group, Record};
use crate::value::Gid;

/// The groups of some gids, at one moment.
#[derive(Default)]
pub(super) struct Groups<'a> {
    by_gid: HashMap<u32, Vec<Group<'a>>>,
    /// Whom the groups of a gid list.
    listed: HashMap<u32, HashSet<&'a [u8]>>,
}

/// A group line before and after.
#[derive(Clone, Copy)]
pub(super) struct GroupChange<'a> {
    pub before: Option<Group<'a>>,
    pub after: Option<Group<'a>>,
}

/// What becomes of the lines of groups. One that goes and comes again is one change.
pub(super) fn group_changes(edits: &[Edit]) -> Vec<GroupChange<'_>> {
    let mut changes: Vec<GroupChange<'_>> = Vec::new();
    let mut gone: HashMap<&[u8], usize> = HashMap::new();
    for edit in edits.iter().filter(|edit| edit.file == File::Group) {
        let before = edit.before.as_ref().and_then(|line| Group::read(line.trim_ascii_start()));
        let mut after =
            edit.lines_after().filter_map(|(_, line)| Group::read(line.trim_ascii_start()));
        let first = after.next();
        if let (Some(before), None) = (before, first) {
            gone.insert(before.name, changes.len());
        }
        changes.push(GroupChange { before, after: first });
        changes.extend(after.map(|group| GroupChange { before: None, after: Some(group) }));
    }
    for at in 0..changes.len() {
        let GroupChange { before: None, after: Some(group) } = changes[at] else { continue };
        if let Some(gone) = gone.remove(group.name) {
            changes[at].before = changes[gone].before.take();
        }
    }
    changes.retain(|change| change.before.is_some() || change.after.is_some());
    changes
}

impl<'a> Groups<'a> {
    /// The groups of these gids before and after.
    pub fn before_and_after(
        book: &'a Book,
        edits: &'a [Edit],
        changes: &[GroupChange<'a>],
        gids: &BTreeSet<u32>,
    ) -> (Self, Self) {
        let (mut before, mut after) = (Groups::default(), Groups::default());
        if gids.is_empty() {
            return (before, after);
        }
        let edited = edits.iter().filter(|edit| edit.file == File::Group && edit.before.is_some());
        let edited: HashSet<usize> = edited.map(|edit| edit.range.start).collect();
        for (line, group) in book.groups_of_gids(gids) {
            before.add(group);
            if !edited.contains(&line.start) {
                after.add(group);
            }
        }
        let come = changes.iter().filter_map(|change| change.after);
        come.filter(|group| group.gid().is_some_and(|gid| gids.contains(&gid.0)))
            .for_each(|group| after.add(group));
        (before, after)
    }

    fn add(&mut self, group: Group<'a>) {
        let Some(Gid(gid)) = group.gid() else { return };
        self.by_gid.entry(gid).or_default().push(group);
        self.listed.entry(gid).or_default().extend(group.members());
    }

    /// The groups of a gid.
    pub fn of(&self, gid: u32) -> &[Group<'a>] {
        self.by_gid.get(&gid).map_or(&[], Vec::as_slice)
    }

    /// All gids.
    pub fn gids(&self) -> impl Iterator<Item = u32> {
        self.by_gid.keys().copied()
    }

    /// Whether an account with this primary group has a gid.
    pub fn gives(&self, gid: u32, name: &[u8], primary: Option<Gid>) -> bool {
        primary == Some(Gid(gid)) || self.listed.get(&gid).is_some_and(|all| all.contains(name))
    }

    /// By what an account has the gid of a group that does not list it, in words; nothing
    /// where the group does.
    pub fn by_what(&self, group: &Group<'_>, name: &[u8], primary: Option<Gid>) -> String {
        if group.members().any(|member| member == name) {
            return String::new();
        }
        if primary.is_some() && primary == group.gid() {
            return "as its primary group".to_owned();
        }
        let mut others = group.gid().map_or(&[][..], |gid| self.of(gid.0)).iter();
        let other = others.find(|other| other.members().any(|member| member == name));
        let other =
            other.map_or_else(String::new, |other| String::from_utf8_lossy(other.name).into());
        format!("by the gid that {other} has too")
    }
}

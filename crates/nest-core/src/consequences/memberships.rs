//! Who is in which group before a plan and after it: listed, by primary group, or by another
//! group of the same gid.

use std::collections::BTreeSet;

use bstr::BStr;
use hashbrown::{HashMap, HashSet};

use crate::context::PlanContext;
use crate::table::{Edit, File, Group, Record};
use crate::value::Gid;

/// The groups of some gids, at one moment.
#[derive(Default)]
pub(super) struct Groups<'a> {
    by_gid: HashMap<u32, Vec<ListedGroup<'a>>>,
    /// Those that make administrators.
    admins: Vec<u32>,
}

/// A group, and whom it lists.
pub(super) struct ListedGroup<'a> {
    pub group: Group<'a>,
    /// The names on a long list.
    members: Option<HashSet<&'a [u8]>>,
}

/// A list that is shorter than this, in bytes, is gone through for each name.
const SHORT: usize = 256;

impl<'a> ListedGroup<'a> {
    pub fn of(group: Group<'a>) -> Self {
        let members = (group.members.len() > SHORT).then(|| group.members().collect());
        ListedGroup { group, members }
    }

    pub fn lists(&self, name: &[u8]) -> bool {
        match &self.members {
            Some(members) => members.contains(name),
            None => self.group.members().any(|member| member == name),
        }
    }
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
    /// Adds the groups of these gids, as they are before and after.
    pub fn add_all(
        context: PlanContext<'a>,
        edits: &'a [Edit],
        changes: &[GroupChange<'a>],
        gids: &BTreeSet<u32>,
        (before, after): (&mut Self, &mut Self),
    ) {
        if gids.is_empty() {
            return;
        }
        let edited = edits.iter().filter(|edit| edit.file == File::Group && edit.before.is_some());
        let edited: HashSet<usize> = edited.map(|edit| edit.range.start).collect();
        for (line, group) in context.book.groups_of_gids(gids) {
            before.add(context, group);
            if !edited.contains(&line.start) {
                after.add(context, group);
            }
        }
        let come = changes.iter().filter_map(|change| change.after);
        come.filter(|group| group.gid().is_some_and(|gid| gids.contains(&gid.0)))
            .for_each(|group| after.add(context, group));
    }

    fn add(&mut self, context: PlanContext<'_>, group: Group<'a>) {
        let Some(Gid(gid)) = group.gid() else { return };
        if context.policy.makes_admins(group.name) {
            self.admins.push(gid);
        }
        self.by_gid.entry(gid).or_default().push(ListedGroup::of(group));
    }

    /// The groups of a gid.
    pub fn of(&self, gid: u32) -> &[ListedGroup<'a>] {
        self.by_gid.get(&gid).map_or(&[], Vec::as_slice)
    }

    /// Whether one of them makes administrators.
    pub fn has_admins(&self) -> bool {
        !self.admins.is_empty()
    }

    /// The gid of administrators that an account has.
    pub fn admin_gid(&self, name: &[u8], primary: Option<Gid>) -> Option<u32> {
        self.admins.iter().copied().find(|gid| self.gives(*gid, name, primary))
    }

    /// Whether an account with this primary group has a gid.
    pub fn gives(&self, gid: u32, name: &[u8], primary: Option<Gid>) -> bool {
        primary == Some(Gid(gid)) || self.of(gid).iter().any(|group| group.lists(name))
    }

    /// By what an account is in a group that does not list it, in words; nothing where the
    /// group does.
    pub fn by_what(&self, group: &ListedGroup<'_>, name: &[u8], primary: Option<Gid>) -> String {
        let gid = group.group.gid();
        if group.lists(name) {
            return String::new();
        }
        if primary.is_some() && primary == gid {
            return "as its primary group".to_owned();
        }
        let mut others = gid.map_or(&[][..], |gid| self.of(gid.0)).iter();
        let other = others.find(|other| other.lists(name)).map(|other| BStr::new(other.group.name));
        other.map(|other| format!("by the gid that {other} has too")).unwrap_or_default()
    }
}

//! Who is in which group before a plan and after it: listed, by primary group, or by another
//! group of the same gid.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, OnceLock};

use bstr::{BStr, BString};
use hashbrown::{HashMap, HashSet};

use super::touched::Members;
use super::{Affected, Person};
use crate::account::admin_groups;
use crate::change::{AccessChange, AccessKind, Plan};
use crate::context::PlanContext;
use crate::surroundings::list_mentions;
use crate::table::{Edit, File, Group, Passwd, Record};
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
        let members = (group.members.len() > SHORT).then(|| {
            let count = memchr::memchr_iter(b',', group.members).count() + 1;
            let mut members = HashSet::with_capacity(count);
            members.extend(group.members());
            members
        });
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
        let other = other.expect("BUG: an account is in a group by nothing");
        format!("by the gid that {other} has too")
    }
}

/// The groups as a plan leaves them, for asking who is in which. There may be very many, and
/// hardly ever is one asked for.
pub(super) struct GroupsAfter<'a> {
    changes: Arc<[GroupChange<'a>]>,
    index: OnceLock<GroupIndex<'a>>,
}

/// The groups that become others.
struct GroupIndex<'a> {
    /// Those that go or alter.
    gone: HashSet<(&'a [u8], Option<Gid>)>,
    /// The gids that those that come or are altered give, by the names on their lists.
    by_member: HashMap<&'a [u8], Vec<Gid>>,
    /// Their names, by gid.
    names: HashMap<Gid, &'a [u8]>,
}

impl<'a> GroupsAfter<'a> {
    pub fn new(changes: Arc<[GroupChange<'a>]>) -> Self {
        GroupsAfter { changes, index: OnceLock::new() }
    }

    fn index(&self) -> &GroupIndex<'a> {
        self.index.get_or_init(|| GroupIndex::of(&self.changes))
    }

    /// The gids of an account, each with its name.
    pub fn gids_of(&self, context: PlanContext<'a>, user: &Passwd<'_>) -> Vec<(Gid, &'a [u8])> {
        let (book, index) = (context.book, self.index());
        let stays = |group: &Group<'a>| !index.gone.contains(&(group.name, group.gid()));
        let listed = book.groups_listing(user.name).into_iter().map(|(_, group)| group);
        let listed = listed.filter(stays).filter_map(|group| group.gid());
        let come = index.by_member.get(user.name).into_iter().flatten().copied();
        let gids: BTreeSet<u32> = listed.chain(come).chain(user.gid()).map(u32::from).collect();
        let held = book.groups_of_gids(&gids).into_iter().map(|(_, group)| group).filter(stays);
        let held = held.filter_map(|group| Some((group.gid()?, group.name)));
        let come = gids.iter().filter_map(|gid| index.names.get_key_value(&Gid(*gid)));
        let mut named = BTreeMap::new();
        for (gid, name) in held.chain(come.map(|(gid, name)| (*gid, *name))) {
            named.entry(gid).or_insert(name);
        }
        named.into_iter().collect()
    }
}

impl<'a> GroupIndex<'a> {
    fn of(changes: &[GroupChange<'a>]) -> Self {
        let gone = changes.iter().filter_map(|change| change.before);
        let gone = gone.map(|group| (group.name, group.gid())).collect();
        let (mut by_member, mut names) = (HashMap::<_, Vec<Gid>>::new(), HashMap::new());
        for group in changes.iter().filter_map(|change| change.after) {
            let Some(gid) = group.gid() else { continue };
            names.entry(gid).or_insert(group.name);
            group.members().for_each(|name| by_member.entry(name).or_default().push(gid));
        }
        GroupIndex { gone, by_member, names }
    }
}

/// Of so many groups that go it is asked whether others have their gids.
const FEW_GROUPS: usize = 64;

/// The groups that are at stake, before and after.
pub(super) struct Memberships<'a> {
    pub before: Groups<'a>,
    pub after: Groups<'a>,
}

impl<'a> Memberships<'a> {
    pub fn new(
        context: PlanContext<'a>,
        plan: &'a Plan,
        groups: &[GroupChange<'a>],
        members: &Members<'_>,
        accounts: &[Affected<'a>],
    ) -> Self {
        let mut gids: BTreeSet<u32> = members.values().flatten().copied().collect();
        // Another group may have the gid of one that goes.
        let gone = groups.iter().filter(|change| change.after.is_none());
        let mut gone = gone.filter_map(|change| change.before).take(FEW_GROUPS).peekable();
        let any = gone.peek().is_some();
        let names: HashSet<&[u8]> =
            accounts.iter().take_while(|_| any).map(Affected::name).collect();
        let own = |group: &Group<'_>| names.contains(group.name);
        gids.extend(gone.filter(|group| !own(group)).filter_map(|group| Some(group.gid()?.0)));
        let (mut before, mut after) = (Groups::default(), Groups::default());
        let mut add = |gids: &BTreeSet<u32>| {
            Groups::add_all(context, &plan.edits, groups, gids, (&mut before, &mut after));
            before.has_admins() || after.has_admins()
        };
        let at_stake = add(&gids);
        // Whether somebody administers the machine all the same is only asked where it
        // matters.
        let loses = |account: &Affected<'_>| {
            let can = |person: &Option<Person<'_>>| person.as_ref().is_some_and(Person::can_work);
            account.itself
                && can(&account.before)
                && (!can(&account.after) || account.end_set().is_some())
        };
        if at_stake || accounts.iter().any(loses) {
            let of_admins = admin_groups(context.book, context.policy);
            let others = of_admins.iter().filter_map(Group::gid).map(u32::from);
            add(&others.filter(|gid| !gids.contains(gid)).collect());
        }
        Memberships { before, after }
    }

    /// Tells which groups an account is in afterwards, and which no longer.
    pub fn tell(
        &self,
        context: PlanContext<'_>,
        account: &Affected<'a>,
        members: &Members<'a>,
        access: &mut Vec<AccessChange>,
    ) {
        let policy = context.policy;
        let name = account.name();
        let (before, after) = (account.before.as_ref(), account.after.as_ref());
        let is_member = |name: &[u8]| members.contains_key(name);
        let before_name = before.map_or(name, |person| person.user.name);
        if account.was_admin == account.is_admin && !is_member(name) && !is_member(before_name) {
            return;
        }
        if account.was_admin != account.is_admin {
            let groups = if account.is_admin { &self.after } else { &self.before };
            let person = if account.is_admin { after } else { before };
            let group = person.and_then(|person| groups.admin_group_of(context, person));
            let group = group.expect("BUG: an administrator is in no group of administrators");
            let why = match account.is_admin {
                true => by_line(context, group.as_ref()),
                false => String::new(),
            };
            let (kind, gains) = (AccessKind::Administrator, account.is_admin);
            access.push(AccessChange { name: name.into(), kind, gains, group, why });
        }
        let names = before.map(|person| person.user.name).into_iter().chain([name]);
        let gids: BTreeSet<u32> =
            names.filter_map(|name| members.get(name)).flatten().copied().collect();
        let sides = [(&self.before, before), (&self.after, after)];
        let [was, is] = sides.map(|(groups, person)| {
            let given = gids.iter().filter(|gid| {
                person
                    .is_some_and(|person| groups.gives(**gid, person.user.name, person.user.gid()))
            });
            given.flat_map(|gid| groups.of(*gid)).collect::<Vec<&ListedGroup<'a>>>()
        });
        let is_told = |group: &Group<'_>| {
            account.was_admin != account.is_admin && policy.makes_admins(group.name)
        };
        let is_special =
            |group: &Group<'_>| policy.is_like_root(group.name) || policy.makes_admins(group.name);
        // A group that is called otherwise, or has another gid, is the same one; but for what
        // its name gives.
        let is_same = |one: &Group<'_>, other: &Group<'_>| match is_special(one) {
            true => other.name == one.name,
            false => other.is_same(one),
        };
        for (ours, others, gains) in [(&is, &was, true), (&was, &is, false)] {
            for listed in ours {
                let group = &listed.group;
                if is_told(group) || others.iter().any(|other| is_same(group, &other.group)) {
                    continue;
                }
                let by_what = |person: &Person<'_>| {
                    self.after.by_what(listed, person.user.name, person.user.gid())
                };
                let kind = match policy.is_like_root(group.name) {
                    true => AccessKind::LikeRoot,
                    false => AccessKind::Group,
                };
                let why = after.filter(|_| gains).map(by_what).unwrap_or_default();
                let (name, group) = (name.into(), group.name.into());
                access.push(AccessChange { name, kind, gains, group, why });
            }
        }
    }

    /// Tells of members that the account files do not know: a directory's users.
    pub fn tell_strangers(
        &self,
        accounts: &[Affected<'a>],
        members: &Members<'a>,
        access: &mut Vec<AccessChange>,
    ) {
        let people = accounts.iter().flat_map(|account| [&account.before, &account.after]);
        let known: HashSet<&[u8]> = people.flatten().map(|person| person.user.name).collect();
        for (name, gids) in members.iter().filter(|(name, _)| !known.contains(*name)) {
            for gid in gids {
                let [was, is] =
                    [&self.before, &self.after].map(|groups| groups.gives(*gid, name, None));
                let groups = if is { &self.after } else { &self.before };
                if was == is {
                    continue;
                }
                for listed in groups.of(*gid).iter().filter(|listed| listed.lists(name)) {
                    let (name, group) = ((*name).into(), listed.group.name.into());
                    let (kind, why) = (AccessKind::Group, String::new());
                    access.push(AccessChange { name, kind, gains: is, group, why });
                }
            }
        }
    }
}

impl Groups<'_> {
    /// The administrators' group that an account is in.
    pub fn admin_group_of(&self, context: PlanContext<'_>, person: &Person<'_>) -> Option<BString> {
        let gid = self.admin_gid(person.user.name, person.user.gid())?;
        let mut names = self.of(gid).iter().map(|listed| listed.group.name);
        names.find(|name| context.policy.makes_admins(name)).map(BString::from)
    }

    pub fn is_admin(&self, person: Option<&Person<'_>>) -> bool {
        person.is_some_and(|person| self.admin_gid(person.user.name, person.user.gid()).is_some())
    }
}

/// The lines that give a group's members the right to administer, in words.
pub(super) fn by_line(context: PlanContext<'_>, group: &BStr) -> String {
    let mut places = context.world.mentions_of_group(group);
    places.retain(|place| place.file.starts_with("etc/sudoers"));
    if !places.is_empty() {
        return format!("by {} %{group}", list_mentions(&places));
    }
    match context.world.sudoers_is_known() {
        Ok(()) => format!("by the group {group}"),
        Err(why) => format!("by the group {group}; by which line is not known: {why}"),
    }
}

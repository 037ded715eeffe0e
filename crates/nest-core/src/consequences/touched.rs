//! Whom a plan touches: by lines of their own, by their keys, or by the groups that they are
//! in.

use std::collections::BTreeMap;

use hashbrown::{HashMap, HashSet};
use rayon::prelude::*;
use smallvec::SmallVec;

use super::Affected;
use super::homes::Homes;
use super::memberships::{GroupChange, ListedGroup};
use crate::change::Plan;
use crate::context::PlanContext;
use crate::table::{File, Group, Passwd, Record, Shadow, name_on};
use crate::value::{Gid, PasswordField, Uid};
use crate::windows::{edits_stack, edits_windows, names_in};

/// Who is in other groups afterwards, and which gids it is about, each once.
pub(super) type Members<'a> = HashMap<&'a [u8], SmallVec<[u32; 2]>>;

/// Notes that somebody is in a group of this gid otherwise.
fn note<'a>(members: &mut Members<'a>, name: &'a [u8], gid: u32) {
    let gids = members.entry(name).or_default();
    if !gids.contains(&gid) {
        gids.push(gid);
    }
}

/// Whom a plan touches.
pub(super) struct Touched<'a> {
    /// Whose lines or keys change, by the names before and after.
    pub lines: BTreeMap<&'a [u8], Option<&'a [u8]>>,
    /// Who comes, in order.
    pub come: Vec<&'a [u8]>,
    /// The names of both as they are afterwards.
    pub wanted: HashSet<&'a [u8]>,
    /// Of whom only the groups change.
    pub members: Vec<&'a [u8]>,
}

/// The accounts of which it is to be told whether they can sign in.
pub(super) fn told_of(plan: &Plan) -> HashSet<&[u8]> {
    let subjects = plan.subjects.iter().filter(|subject| subject.asks_for_sign_in());
    subjects.map(|subject| subject.name.as_slice()).collect()
}

/// Whom a plan touches. Left out are new accounts of whom there is nothing to tell: without
/// a password or a key, and in no group but their own.
pub(super) fn touched<'a>(
    context: PlanContext<'a>,
    plan: &'a Plan,
    homes: &Homes<'_>,
    groups: &[GroupChange<'a>],
    members: &Members<'a>,
) -> Touched<'a> {
    let made = groups.iter().filter(|change| change.before.is_none());
    let mut of_groups: HashSet<(&[u8], Option<Gid>)> = HashSet::with_capacity(groups.len());
    of_groups.extend(made.filter_map(|change| change.after).map(|group| (group.name, group.gid())));
    let made = of_groups;
    let has_password = |line: &[u8]| {
        let field = Shadow::read(line).map(|shadow| shadow.field());
        matches!(field, Some(PasswordField::Set(_) | PasswordField::Open))
    };
    let edits = || plan.edits.iter();
    let shadow = edits().filter(|edit| edit.file == File::Shadow);
    let with_password: HashSet<&[u8]> = shadow
        .flat_map(|edit| edit.lines_after().map(|(_, line)| line))
        .filter(|line| has_password(line))
        .map(name_on)
        .collect();
    let told = told_of(plan);
    let is_plain = |line: &[u8]| {
        Passwd::read(line).is_some_and(|user| {
            user.is_shadowed()
                && !told.contains(user.name)
                && user.uid() != Some(Uid::ROOT)
                && made.contains(&(user.name, user.gid()))
                && homes.is_made_without_keys(user.home)
                && !with_password.contains(user.name)
                && !members.contains_key(user.name)
        })
    };
    let (mut lines, mut coming) = (BTreeMap::new(), Vec::new());
    for edit in edits().filter(|edit| edit.file == File::Passwd) {
        let before = edit.before.as_ref().map(|line| name_on(line));
        let mut after = edit.lines_after().map(|(_, line)| line);
        if let Some(before) = before {
            let after = after.next().map(name_on);
            let known = lines.entry(before).or_insert(None);
            *known = after.or(*known);
        }
        let after: Vec<&[u8]> = after.collect();
        coming.par_extend(after.into_par_iter().filter(|line| !is_plain(line)).map(name_on));
    }
    let mut come = coming;
    come.par_sort_unstable();
    come.dedup();
    for edit in edits().filter(|edit| edit.file == File::Shadow && edit.before.is_some()) {
        let name = edit.before.as_ref().map_or(&b""[..], |line| name_on(line));
        lines.entry(name).or_insert(Some(name));
    }
    // What comes without having been there is a line anew, of an account that stays.
    for (before, after) in &mut lines {
        if come.binary_search(before).is_ok() {
            *after = after.or(Some(before));
        }
    }
    come.retain(|name| !lines.contains_key(name));
    // Of a name that stands there twice another line may stay.
    for (before, after) in lines.iter_mut().filter(|(_, after)| after.is_none()) {
        if context.book.named(File::Passwd, before).len() > 1 {
            *after = Some(before);
        }
    }
    for name in homes.owners(context.book) {
        lines.entry(name).or_insert(Some(name));
    }
    for edit in plan.text_edits().filter(|edit| edits_windows(edit)) {
        // Whoever signs in is asked by a stack.
        let of_stack = edits_stack(edit).then(|| context.book.users.records());
        let all = of_stack.into_iter().flatten().map(|(_, user)| user.name);
        for name in all.chain(names_in(edit)).filter(|name| come.binary_search(name).is_err()) {
            if context.book.user(name).is_some() {
                lines.entry(name).or_insert(Some(name));
            }
        }
    }
    let mut wanted: HashSet<&[u8]> = HashSet::with_capacity(lines.len() + come.len());
    wanted.extend(lines.values().flatten().chain(&come).copied());
    let is_known = |name: &&&[u8]| wanted.contains(**name) || lines.contains_key(**name);
    let mut members: Vec<&[u8]> = members.keys().filter(|name| !is_known(name)).copied().collect();
    members.sort_unstable();
    Touched { lines, come, wanted, members }
}

/// Adds those who have another primary group. One that comes or goes with its user, or gets
/// another number with it, is nobody else's.
pub(super) fn regrouped<'a>(
    groups: &[GroupChange<'a>],
    accounts: &[Affected<'a>],
    members: &mut Members<'a>,
) {
    if !accounts.iter().any(|account| account.itself) {
        return;
    }
    let gid = |group: Option<Group<'_>>| group.and_then(|group| group.gid());
    let own = groups.iter().filter(|change| gid(change.before) != gid(change.after));
    let own: HashSet<(&[u8], Option<Gid>)> = own
        .flat_map(|change| [change.before, change.after])
        .flatten()
        .map(|group| (group.name, group.gid()))
        .collect();
    for account in accounts.iter().filter(|account| account.itself) {
        let [before, after] = [&account.before, &account.after]
            .map(|person| person.as_ref().map(|person| (person.user.name, person.user.gid())));
        if before.map(|(_, gid)| gid) != after.map(|(_, gid)| gid) {
            let gids = [before, after].into_iter().flatten().filter(|of| !own.contains(of));
            let gids: Vec<u32> = gids.filter_map(|(_, gid)| Some(gid?.0)).collect();
            if !gids.is_empty() {
                let name = account.name();
                gids.into_iter().for_each(|gid| note(members, name, gid));
            }
        }
    }
}

/// Who is listed otherwise afterwards, and in the groups of which gids.
pub(super) fn listed_otherwise<'a>(groups: &[GroupChange<'a>], members: &mut Members<'a>) {
    for GroupChange { before, after } in groups {
        let gid = |group: &Option<Group<'_>>| group.and_then(|group| group.gid());
        let same = gid(before) == gid(after) && before.map(|of| of.name) == after.map(|of| of.name);
        for (ours, others) in [(before, after), (after, before)] {
            let Some(ours) = ours else { continue };
            let Some(Gid(gid)) = ours.gid() else { continue };
            // A long list is gone through once, and only where somebody is on the other.
            let others = others.filter(|_| same && !ours.members.is_empty()).map(ListedGroup::of);
            let stays = |name: &[u8]| others.as_ref().is_some_and(|all| all.lists(name));
            for name in ours.members().filter(|name| !stays(name)) {
                note(members, name, gid);
            }
        }
    }
}

/// Adds whose primary group is called otherwise afterwards, where that gives or takes something.
pub(super) fn renamed_for<'a>(
    context: PlanContext<'a>,
    groups: &[GroupChange<'a>],
    members: &mut Members<'a>,
) {
    let PlanContext { book, policy, world, .. } = context;
    for change in groups {
        let (Some(before), Some(after)) = (change.before, change.after) else { continue };
        let gives =
            |group: &Group<'_>| policy.is_like_root(group.name) || policy.makes_admins(group.name);
        let matters = || gives(&before) || gives(&after) || world.ssh().asks_for_groups();
        let Some(gid) = before.gid().filter(|_| before.name != after.name && matters()) else {
            continue;
        };
        for (_, user) in book.users_by_gid(gid) {
            note(members, user.name, gid.0);
        }
    }
}

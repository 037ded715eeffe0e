//! What is left by half: a group that somebody leaves and stays in, a right that is taken away
//! and stands elsewhere all the same.

use std::cell::LazyCell;
use std::collections::BTreeSet;

use bstr::{BStr, BString};
use hashbrown::HashMap;

use super::memberships::{GroupChange, ListedGroup, Memberships, by_line};
use super::{Affected, Consequences};
use crate::change::{AccessChange, AccessKind, Caution, Plan};
use crate::context::PlanContext;
use crate::powers::Powers;
use crate::table::{File, Gshadow, Record, name_on};
use crate::value::{Gid, members};

/// Of more groups than these whose administrators are asked for nobody wants to know.
const MOST_GROUPS: usize = 8;

/// Of more accounts than these nobody wants to know whose own group is empty.
const MOST_ACCOUNTS: usize = 8;

/// What is to be said of it.
pub(super) fn cautions(
    context: PlanContext<'_>,
    plan: &Plan,
    consequences: &Consequences<'_>,
    memberships: &Memberships<'_>,
) -> Vec<Caution> {
    let stay = || {
        let accounts = consequences.accounts.iter();
        accounts.filter(|account| account.before.is_some() && account.after.is_some())
    };
    // They may be very many, and hardly ever is one asked for.
    let by_name: LazyCell<HashMap<&[u8], &Affected<'_>>, _> =
        LazyCell::new(|| stay().map(|account| (account.name(), account)).collect());
    let mut cautions = Vec::new();
    for change in consequences.groups.iter() {
        let GroupChange { before: Some(before), after } = change else { continue };
        let Some(after) = after else {
            let others = before.gid().map_or(&[][..], |gid| memberships.after.of(gid.0));
            // One that stands there twice stays as it is.
            let other = others.iter().find(|other| other.group.name != before.name);
            if let (Some(gid), Some(other)) = (before.gid(), other) {
                let (group, other) = (before.name.into(), other.group.name.into());
                cautions.push(Caution::GidStillGiven { group, gid, other });
            }
            continue;
        };
        let asks = consequences.groups.len() <= MOST_GROUPS;
        let admins = if asks { admins_after(context, plan, after.name) } else { Vec::new() };
        if before.members.is_empty() {
            continue;
        }
        let listed = ListedGroup::of(*after);
        for name in before.members().filter(|name| !listed.lists(name)) {
            let Some(account) = by_name.get(name) else { continue };
            let Some(person) = &account.after else { continue };
            let (gid, primary) =
                (after.gid().filter(|gid| before.gid() == Some(*gid)), person.user.gid());
            let (name, group) = (BString::from(name), BString::from(after.name));
            let gives = |Gid(gid): Gid| memberships.after.gives(gid, &name, primary);
            if gid.is_some_and(gives) {
                let by = memberships.after.by_what(&listed, &name, primary);
                cautions.push(Caution::StaysIn { name, group, by });
            } else if admins.contains(&name) {
                cautions.push(Caution::StillGroupAdmin { name, group });
            }
        }
    }
    administer_nothing(context, consequences, &mut cautions);
    let leaves = consequences
        .access
        .iter()
        .filter(|change| !change.gains && context.policy.makes_admins(&change.group));
    for account in leaves.filter_map(|change| by_name.get(change.name.as_slice())) {
        administers_all_the_same(context, account, memberships, &mut cautions);
    }
    if stay().nth(MOST_ACCOUNTS).is_none() {
        for account in stay() {
            own_group_is_empty(context, account, memberships, &mut cautions);
        }
    }
    cautions.sort_by_cached_key(ToString::to_string);
    cautions
}

/// Who administers a group after a plan.
fn admins_after(context: PlanContext<'_>, plan: &Plan, group: &[u8]) -> Vec<BString> {
    let edits = plan.edits.iter().filter(|edit| edit.file == File::Gshadow);
    let mut come = edits.flat_map(|edit| edit.lines_after().map(|(_, line)| line));
    let edited = come.find(|line| name_on(line) == group).and_then(Gshadow::read);
    let line = edited.or_else(|| context.book.gshadow(group).map(|(_, line)| line));
    line.iter().flat_map(|line| members(line.admins)).map(BString::from).collect()
}

/// Somebody joins a group that is said to administer, and nothing gives it anything.
fn administer_nothing(
    context: PlanContext<'_>,
    consequences: &Consequences<'_>,
    cautions: &mut Vec<Caution>,
) {
    let becomes = |change: &&AccessChange| {
        change.gains && change.kind == AccessKind::Administrator && !change.group.is_empty()
    };
    let groups: BTreeSet<&BString> =
        consequences.access.iter().filter(becomes).map(|change| &change.group).collect();
    if groups.is_empty() {
        return;
    }
    let powers = Powers::of(context);
    cautions.extend(groups.into_iter().filter_map(|group| {
        let why = powers.group_fault(group.as_ref())?;
        Some(Caution::AdministersNothing { group: group.clone(), why })
    }));
}

/// Somebody leaves one group of administrators and is in another, or is named in sudoers.
fn administers_all_the_same(
    context: PlanContext<'_>,
    account: &Affected<'_>,
    memberships: &Memberships<'_>,
    cautions: &mut Vec<Caution>,
) {
    let name = BStr::new(account.name());
    let group = account.after.as_ref();
    if let Some(group) = group.and_then(|person| memberships.after.admin_group_of(context, person))
    {
        let by = by_line(context, group.as_ref());
        cautions.push(Caution::StillAdmin { name: name.into(), by });
    }
    let mut places = context.world.mentions(name);
    places.retain(|place| place.file.starts_with("etc/sudoers"));
    if !places.is_empty() {
        cautions.push(Caution::StillNamed { name: name.into(), places });
    }
    if let Err(why) = context.world.sudoers_is_known() {
        cautions.push(Caution::SudoersUnread { name: name.into(), why });
    }
}

/// Somebody gets another primary group, and the own one is nobody's then.
fn own_group_is_empty(
    context: PlanContext<'_>,
    account: &Affected<'_>,
    memberships: &Memberships<'_>,
    cautions: &mut Vec<Caution>,
) {
    let (Some(before), Some(after)) = (&account.before, &account.after) else { return };
    let Some(gid) = before.user.gid().filter(|gid| after.user.gid() != Some(*gid)) else { return };
    let own =
        memberships.after.of(gid.0).iter().find(|listed| listed.group.name == before.user.name);
    let Some(own) = own.filter(|own| own.group.members().next().is_none()) else { return };
    if context.book.users_by_gid(gid).iter().any(|(_, user)| user.name != before.user.name) {
        return;
    }
    let group = BString::from(own.group.name);
    cautions.push(Caution::GroupEmpty { name: account.name().into(), group });
}

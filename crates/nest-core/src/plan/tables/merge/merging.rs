//! What both trees hold of what comes.

use std::collections::{BTreeSet, HashSet};

use bstr::{BStr, BString};

use super::conflicts::is_root;
use super::decisions::{Action, Decided, Decisions};
use super::{Coming, Merge};
use crate::account::{Account, AccountIndex, AccountKind, admin_groups};
use crate::book::Book;
use crate::context::PlanContext;
use crate::group_account::{GroupAccount, GroupIndex, GroupKind};
use crate::powers::Powers;
use crate::roster::{Fault, RosterSource, Wrong, unfit_name};
use crate::table::Passwd;
use crate::value::UserOrGroup;

/// What both trees hold of what comes.
pub(super) struct Merging<'a> {
    pub context: PlanContext<'a>,
    pub there: &'a Book,
    pub decisions: &'a Decisions,
    /// The users that come, each name once.
    pub users: Vec<Account<'a>>,
    /// The groups that come with them: their own excepted.
    pub groups: Vec<GroupAccount<'a>>,
    /// The groups that are of one user alone, by that.
    pub own: HashSet<&'a [u8]>,
    /// Groups that administer there.
    pub admins: HashSet<&'a [u8]>,
    /// Uids that several have there, but for the first of them.
    pub sharing: HashSet<&'a [u8]>,
    /// What can't come, in words.
    pub left_out: Vec<String>,
    pub numbers_are_written: bool,
    /// What gives power over this machine.
    pub powers: Powers<'a>,
}

/// Whether being in a group of this name makes somebody administrator here, or as good as root.
fn gives_root(context: PlanContext<'_>, powers: &Powers<'_>, name: &[u8]) -> bool {
    let policy = context.policy;
    let is_here = || context.book.group(name).is_some();
    policy.makes_admins(name)
        || policy.is_like_root(name)
        || is_here() && powers.group_fault(BStr::new(name)).is_none()
}

impl<'a> Merging<'a> {
    pub fn of(context: PlanContext<'a>, request: &'a Merge<'_>) -> Self {
        let (policy, there) = (context.policy, request.other);
        let mut left_out = Vec::new();
        let (mut names, mut uids) = (HashSet::new(), HashSet::new());
        let (mut users, mut sharing) = (Vec::new(), HashSet::new());
        for account in AccountIndex::new(there, policy).accounts() {
            let user = account.user;
            if !request.kinds.contains(&account.kind) || is_root(&user) || !names.insert(user.name)
            {
                continue;
            }
            if let Some(why) = unfit_name(user.name) {
                left_out.push(format!("{}: the name {why}", BStr::new(user.name)));
                continue;
            }
            if user.uid().is_some_and(|uid| !uids.insert(uid)) {
                sharing.insert(user.name);
            }
            users.push(account);
        }
        let index = GroupIndex::new(there, policy);
        let own: HashSet<&[u8]> = index
            .groups()
            .filter(|group| group.kind == GroupKind::Private)
            .map(|group| group.group.name)
            .collect();
        let admins: HashSet<&[u8]> =
            admin_groups(there, policy).into_iter().map(|group| group.name).collect();
        let come: HashSet<&[u8]> = users.iter().map(|account| account.user.name).collect();
        let mut seen = HashSet::new();
        let groups = index.groups().filter(|group| {
            let name = group.group.name;
            let is_of_kind = match group.kind {
                GroupKind::Private => false,
                GroupKind::People => request.kinds.contains(&AccountKind::Person),
                GroupKind::Services => request.kinds.contains(&AccountKind::Service),
            };
            let mut all = group.listed.iter().chain(&group.primary);
            let is_theirs = is_of_kind || all.any(|name| come.contains(name));
            is_theirs && group.group.gid().is_some_and(|gid| gid.0 != 0) && seen.insert(name)
        });
        // Those that administer are joined by who is to administer here, and made by nobody.
        let powers = Powers::of(context);
        let is_plain = |name: &[u8]| {
            let administers = admins.contains(name) || gives_root(context, &powers, name);
            !administers && unfit_name(name).is_none()
        };
        let groups: Vec<GroupAccount<'a>> = groups
            .filter(|group| !own.contains(group.group.name) && is_plain(group.group.name))
            .collect();
        Merging {
            context,
            there,
            decisions: &request.decisions,
            users,
            groups,
            own,
            admins,
            sharing,
            left_out,
            numbers_are_written: request.numbers_are_written,
            powers,
        }
    }

    /// Names that something is decided about, and that do not come.
    pub fn strangers(&self) -> Vec<BString> {
        let users: BTreeSet<&[u8]> = self.users.iter().map(|account| account.user.name).collect();
        let groups: BTreeSet<&[u8]> = self.groups.iter().map(|group| group.group.name).collect();
        let of_users = self.decisions.users.keys().filter(|name| !users.contains(&name[..]));
        let of_groups = self.decisions.groups.keys().filter(|name| !groups.contains(&name[..]));
        of_users.chain(of_groups).cloned().collect()
    }

    /// Those who are to be somebody who is here, and there is no such one.
    pub fn nobodies(&self, sources: &[RosterSource], coming: &[Coming]) -> Vec<Fault> {
        let (here, there) = (self.context.book, self.there);
        let mut faults = Vec::new();
        for one in coming.iter().filter(|one| one.action == Action::Same) {
            let (is_here, line) = match one.thing {
                UserOrGroup::User => {
                    (here.user(&one.here).is_some(), there.user(&one.there).map(|(line, _)| line))
                }
                UserOrGroup::Group => {
                    (here.group(&one.here).is_some(), there.group(&one.there).map(|(line, _)| line))
                }
            };
            if !is_here {
                let Coming { thing, there, here, .. } = one;
                let message =
                    format!("{there} is to be the {thing} {here}, and there is none here");
                let source = &sources[usize::from(*thing == UserOrGroup::Group)];
                let wrong = Wrong::new(message, "as = one who is here, or action = \"create\"");
                faults.push(source.fault_at(line.map_or(0, |line| line.start), wrong));
            }
        }
        faults
    }

    /// What becomes of a user about whom nothing is decided and nothing has to be.
    pub fn expected(&self, account: &Account<'_>) -> Decided {
        let is_here = self.context.book.user(account.user.name).is_some();
        let action = if is_here { Action::Same } else { Action::Create };
        Decided { action, ..Decided::default() }
    }

    pub fn decided(&self, account: &Account<'_>) -> Decided {
        let decided = self.decisions.of(UserOrGroup::User, BStr::new(account.user.name));
        decided.cloned().unwrap_or_else(|| self.expected(account))
    }

    pub fn decided_group(&self, group: &GroupAccount<'_>) -> Decided {
        let name = BStr::new(group.group.name);
        let is_here = self.context.book.group(name).is_some();
        let action = if is_here { Action::Same } else { Action::Create };
        let decided = self.decisions.of(UserOrGroup::Group, name).cloned();
        decided.unwrap_or(Decided { action, ..Decided::default() })
    }

    /// Whether its primary group is its own.
    pub fn has_own_group(&self, account: &Account<'_>) -> bool {
        account.primary == Some(account.user.name) && self.own.contains(account.user.name)
    }

    pub fn shares(&self, account: &Account<'_>) -> bool {
        self.sharing.contains(account.user.name)
    }

    /// Whether one that comes before it has its number here as there.
    pub fn shares_on(&self, account: &Account<'_>) -> bool {
        let uid_of = |account: &Account<'_>| {
            let decided = self.decided(account);
            let uid = decided.id.or(account.user.uid().map(|uid| uid.0));
            uid.filter(|_| decided.action == Action::Create)
        };
        let mine = uid_of(account);
        let before = self.users.iter().take_while(|other| other.user.name != account.user.name);
        self.shares(account) && mine.is_some() && before.map(uid_of).any(|other| other == mine)
    }

    /// The groups by which it administers there, or would here.
    pub fn admin_groups_of(&self, account: &Account<'a>) -> Vec<&'a BStr> {
        let primary = account.primary.into_iter();
        let all = account.groups.iter().map(|group| group.name).chain(primary);
        let administers = |name: &&[u8]| self.admins.contains(name) || self.gives_root_here(name);
        let mut found: Vec<&BStr> = all.filter(administers).map(BStr::new).collect();
        found.dedup();
        found
    }

    /// Whether being in a group that is called so here makes somebody administrator.
    pub fn gives_root_here(&self, name: &[u8]) -> bool {
        gives_root(self.context, &self.powers, name)
    }

    pub fn administers(&self, account: &Account<'a>) -> bool {
        !self.admin_groups_of(account).is_empty()
    }

    pub fn is_admin_here(&self, user: &Passwd<'_>) -> bool {
        let PlanContext { book, policy, .. } = self.context;
        let groups = admin_groups(book, policy);
        let is_in = |group: &crate::table::Group<'_>| {
            group.gid() == user.gid() || group.members().any(|name| name == user.name)
        };
        groups.iter().any(is_in)
    }
}

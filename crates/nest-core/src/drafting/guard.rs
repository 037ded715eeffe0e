//! What stands before taking access away: one's own account, root, the last
//! administrator, a service, an account at work.

use std::collections::HashSet;

use bstr::BStr;

use crate::account::{AccountKind, admin_group, kind_of};
use crate::context::PlanContext;
use crate::drafting::find::FoundUser;
use crate::refusal::{Reason, Refusal, Result};
use crate::request::GuardOverrides;
use crate::sign_in::can_sign_in;
use crate::value::{Uid, UserName};

/// What a request does to an account, as far as the guards go.
#[derive(Debug, Clone, Copy)]
pub(crate) struct GuardedAction<'a> {
    /// What is refused: `maren was not suspended`.
    pub what: &'a str,
    /// The command as it was given, for the ways round.
    pub again: &'a str,
    /// Whether running processes stand in the way.
    pub busy: bool,
    /// All accounts of the request: none of them counts as another
    /// administrator.
    pub together: &'a Together,
}

/// Accounts that a request takes access away from all at once.
#[derive(Debug, Default)]
pub(crate) struct Together(HashSet<UserName>);

impl<'n> FromIterator<&'n UserName> for Together {
    fn from_iter<I: IntoIterator<Item = &'n UserName>>(names: I) -> Self {
        Together(names.into_iter().cloned().collect())
    }
}

/// Who is in the administrators' group, listed or by primary group, in order.
#[derive(Debug)]
pub(crate) struct Admins<'a> {
    all: Vec<&'a [u8]>,
    known: HashSet<&'a [u8]>,
}

impl<'a> Admins<'a> {
    /// Nothing where there is no such group.
    pub fn of(context: PlanContext<'a>) -> Option<Self> {
        let group = admin_group(context.book, context.policy)?;
        let mut all: Vec<&[u8]> = group.members().collect();
        let primary = context.book.users.records().filter(|(_, user)| user.gid() == group.gid());
        all.extend(primary.map(|(_, user)| user.name));
        let known = all.iter().copied().collect();
        Some(Admins { all, known })
    }
}

/// Stands before a request that takes access away from an account.
///
/// # Errors
/// The [`Refusal`], which names the way round.
pub(crate) fn guard(
    context: PlanContext<'_>,
    admins: Option<&Admins<'_>>,
    found: &FoundUser<'_>,
    overrides: GuardOverrides,
    action: GuardedAction<'_>,
) -> Result<()> {
    let PlanContext { policy, world, .. } = context;
    let name = BStr::new(found.user.name);
    let refuse = |reason, option: &str| {
        Err(Refusal::new(action.what, reason)
            .or("do it all the same", format!("{} {option}", action.again)))
    };
    if found.uid == Uid::ROOT && !overrides.root {
        return refuse(Reason::IsRoot, "--even-root");
    }
    if !overrides.me && world.is_live() && world.me() == Some(Uid(found.uid.0)) {
        return refuse(Reason::IsMe, "--even-me");
    }
    let service =
        kind_of(policy, Some(found.uid)) == AccountKind::Service && found.uid != Uid::ROOT;
    if service && !overrides.service {
        return refuse(Reason::IsService { uid: found.uid }, "--service");
    }
    if !overrides.last_admin
        && admins.is_some_and(|admins| is_last_admin(context, admins, found, action.together))
    {
        return Err(Refusal::new(action.what, Reason::LastAdmin)
            .or_else("make somebody else one first", admin_hint(context, name))
            .or("or do it all the same", format!("{} --even-last-admin", action.again)));
    }
    if action.busy && !overrides.busy {
        let processes = world.processes(found.uid);
        if !processes.is_empty() {
            return refuse(Reason::Busy { processes }, "--even-if-busy");
        }
    }
    Ok(())
}

fn admin_hint(context: PlanContext<'_>, name: &BStr) -> String {
    let group = admin_group(context.book, context.policy);
    let group = group.map_or("the administrators' group".into(), |group| {
        format!("the group {}", BStr::new(group.name))
    });
    format!("somebody other than {name} has to be in {group} and able to sign in")
}

/// Whether the account can sign in as administrator, and no other can.
fn is_last_admin(
    context: PlanContext<'_>,
    admins: &Admins<'_>,
    found: &FoundUser<'_>,
    together: &Together,
) -> bool {
    let book = context.book;
    let can = |name: &[u8]| book.user(name).is_some_and(|(_, user)| can_sign_in(context, &user));
    if !admins.known.contains(found.user.name) && found.uid != Uid::ROOT || !can(found.user.name) {
        return false;
    }
    let goes = |name: &[u8]| name == found.user.name || together.0.contains(BStr::new(name));
    let root = book.user_by_uid(Uid::ROOT).map(|(_, user)| user.name);
    !admins.all.iter().copied().chain(root).any(|name| !goes(name) && can(name))
}

//! What stands before taking access away: one's own account, root, the last
//! administrator, a service, an account at work.

use bstr::{BStr, BString};

use super::find::FoundUser;
use super::{Ground, Reason, Refusal};
use crate::account::{AccountKind, admin_group, kind_of};
use crate::sign_in::can_sign_in;

/// Which guards the administrator has waved through.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Even {
    /// `--even-me`
    pub me: bool,
    /// `--even-root`
    pub root: bool,
    /// `--even-last-admin`
    pub last_admin: bool,
    /// `--service`
    pub service: bool,
    /// `--even-if-busy`
    pub busy: bool,
}

/// What a request does to an account, as far as the guards go.
#[derive(Debug, Clone, Copy)]
pub(super) struct Threat<'a> {
    /// What is refused: `maren was not suspended`.
    pub what: &'a str,
    /// The command as it was given, for the ways round.
    pub again: &'a str,
    /// Whether running processes stand in the way.
    pub busy: bool,
    /// All accounts of the request: none of them counts as another
    /// administrator.
    pub together: &'a [BString],
}

/// Stands before a request that takes access away from an account.
///
/// # Errors
/// The [`Refusal`], which names the way round.
pub(super) fn guard(
    ground: Ground<'_>,
    found: &FoundUser<'_>,
    even: Even,
    threat: Threat<'_>,
) -> Result<(), Box<Refusal>> {
    let Ground { policy, world, .. } = ground;
    let name = BStr::new(found.user.name);
    let refuse = |reason, option: &str| {
        Err(Refusal::new(threat.what, reason)
            .or("do it all the same", format!("{} {option}", threat.again)))
    };
    if found.uid == 0 && !even.root {
        return refuse(Reason::IsRoot, "--even-root");
    }
    if !even.me && world.is_live() && world.me() == Some(found.uid) {
        return refuse(Reason::IsMe, "--even-me");
    }
    let service = kind_of(policy, Some(found.uid)) == AccountKind::Service && found.uid != 0;
    if service && !even.service {
        return refuse(Reason::IsService { uid: found.uid }, "--service");
    }
    if !even.last_admin && is_last_admin(ground, found, threat.together) {
        return Err(Refusal::new(threat.what, Reason::LastAdmin)
            .or_else("make somebody else one first", admin_hint(ground, name))
            .or("or do it all the same", format!("{} --even-last-admin", threat.again)));
    }
    if threat.busy && !even.busy {
        let processes = world.processes(found.uid);
        if !processes.is_empty() {
            return refuse(Reason::Busy { processes }, "--even-if-busy");
        }
    }
    Ok(())
}

fn admin_hint(ground: Ground<'_>, name: &BStr) -> String {
    let group = admin_group(ground.book, ground.policy);
    let group = group.map_or("the administrators' group".into(), |group| {
        format!("the group {}", BStr::new(group.name))
    });
    format!("somebody other than {name} has to be in {group} and able to sign in")
}

/// Whether the account can sign in as administrator, and no other can.
fn is_last_admin(ground: Ground<'_>, found: &FoundUser<'_>, together: &[BString]) -> bool {
    let Ground { book, policy, .. } = ground;
    let Some(admins) = admin_group(book, policy) else { return false };
    let can = |name: &[u8]| book.user(name).is_some_and(|(_, user)| can_sign_in(ground, &user));
    let mut members: Vec<&[u8]> = admins.members().collect();
    let primary = book.users.records().filter(|(_, user)| user.gid() == admins.gid());
    members.extend(primary.map(|(_, user)| user.name));
    let root = book.user_by_uid(0).map(|(_, user)| user.name);
    if !members.contains(&found.user.name) && found.uid != 0 || !can(found.user.name) {
        return false;
    }
    let goes = |name: &[u8]| name == found.user.name || together.iter().any(|other| other == name);
    !members.into_iter().chain(root).any(|name| !goes(name) && can(name))
}

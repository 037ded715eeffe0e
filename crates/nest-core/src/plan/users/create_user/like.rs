//! What a new account gets from one that there is.

use bstr::{BStr, BString};

use crate::account::{AccountKind, admin_groups, kind_of_user};
use crate::change::Decision;
use crate::context::PlanContext;
use crate::drafting::{find_user, private_group};
use crate::refusal::{Reason, Refusal, Result};
use crate::request::{AgingFields, CreateUser};
use crate::value::{GroupName, Uid};
use crate::words::list;

/// The request with what it leaves out taken from the account that it names: groups, but never
/// those that administer; shell, the way of its primary group, and how its password ages.
///
/// # Errors
/// The [`Refusal`]: there is no such account, or it is none to take after.
pub(super) fn filled_in(
    context: PlanContext<'_>,
    request: &CreateUser,
    what: &str,
) -> Result<CreateUser> {
    let mut request = request.clone();
    let Some(other) = request.like.take() else { return Ok(request) };
    let other = BStr::new(&other);
    let found = find_user(context, other, what)?;
    let (book, policy) = (context.book, context.policy);
    let shadow = found.shadow.map(|(_, shadow)| shadow);
    let (kind, _) = kind_of_user(policy, &found.user, || shadow);
    if found.uid == Uid::ROOT || kind != request.kind() {
        let is = match (found.uid, kind) {
            (Uid::ROOT, _) => "root",
            (_, AccountKind::Service) => "a service",
            (_, AccountKind::Person) => "a person",
        };
        return Err(Refusal::new(what, Reason::NotAlike { name: other.to_owned(), is }));
    }
    let admins = admin_groups(book, policy);
    let administers = |group: &[u8]| {
        admins.iter().any(|admins| admins.name == group)
            || policy.admins_like_root.iter().any(|like| like.as_bytes() == group)
    };
    let listed: Vec<&[u8]> =
        book.groups_listing(other).into_iter().map(|(_, group)| group.name).collect();
    let (left, taken): (Vec<&[u8]>, Vec<&[u8]>) =
        listed.into_iter().partition(|group| administers(group));
    let taken: Vec<&[u8]> = taken
        .into_iter()
        .filter(|group| !request.join.iter().any(|join| *join == **group))
        .collect();
    let mut from = vec!["its shell, aging and way of primary group".to_owned()];
    if !taken.is_empty() {
        from.insert(0, format!("its groups {}", list(&taken)));
    }
    if !left.is_empty() {
        from.push(format!("not {}, which administers: that takes --admin", list(&left)));
    }
    from.push("not its expiry".to_owned());
    request.copied.push(Decision::new("like", other, from.join("; ")));
    request.join.extend(taken.into_iter().map(GroupName::from));
    if request.shell.is_none() {
        request.shell = Some(found.user.effective_shell().into());
    }
    let own = private_group(context, &found).ok().flatten();
    let has_own = own.is_some_and(|group| group.gid() == Some(found.gid));
    if request.primary.is_none() && !has_own {
        let name = book.group_by_gid(found.gid).map(|(_, group)| BString::from(group.name));
        request.primary = Some(name.unwrap_or_else(|| found.gid.to_string().into()).into());
    }
    if let Some(shadow) = shadow.filter(|_| kind == AccountKind::Person) {
        request.details.get_or_insert_default().aging = AgingFields {
            hold: Some(shadow.hold.into()),
            renew: Some(shadow.renew.into()),
            remind: Some(shadow.remind.into()),
            late: Some(shadow.late.into()),
        };
        let value = match shadow.aging().renew {
            None => "need not be renewed".to_owned(),
            Some(days) => format!("must be renewed after {days} days"),
        };
        request.copied.push(Decision::new("aging", value, format!("as {other}'s")));
    }
    Ok(request)
}

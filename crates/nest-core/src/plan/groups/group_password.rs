//! Passwords of groups.

use bstr::{BStr, BString};

use crate::change::{Caution, Subject};
use crate::context::PlanContext;
use crate::drafting::Draft;
use crate::drafting::find::find_group;
use crate::drafting::group_lists::Lists;
use crate::plan::Plan;
use crate::refusal::Refusal;
use crate::value::Scheme;

/// A group's password to be set or taken away.
#[derive(Debug, Clone, Default)]
pub struct GroupPassword {
    /// The group.
    pub name: BString,
    /// The hash; nothing takes the password away.
    pub hash: Option<BString>,
}

/// Looks whether the group is there, before anybody is asked for a password.
///
/// # Errors
/// The [`Refusal`].
pub fn check_group_password(context: PlanContext<'_>, name: &BStr) -> Result<(), Box<Refusal>> {
    find_group(context, name, &format!("the password of the group {name} was not changed"))
        .map(drop)
}

/// Plans the setting of a group's password.
///
/// # Errors
/// The [`Refusal`].
pub fn group_password(
    context: PlanContext<'_>,
    request: &GroupPassword,
) -> Result<Plan, Box<Refusal>> {
    let name = BStr::new(&request.name);
    let what = format!("the password of the group {name} was not changed");
    let name = BStr::new(find_group(context, name, &what)?.name);
    let mut plan = Plan { summary: format!("password group {name}"), ..Plan::default() };
    let mut subject = Subject::new(name.to_owned());
    match &request.hash {
        Some(hash) => {
            let scheme = Scheme::of(hash).map_or("unknown", Scheme::name);
            subject.decide("password", scheme, "only the hash is kept");
            subject.decide("lets in", "whoever knows it", "members need none");
        }
        None => subject.decide("password", "none", "only members are let in"),
    }
    let mut draft = Draft::new(context.book);
    let mut lists = Lists { context, draft: &mut draft, cautions: &mut plan.cautions };
    match &request.hash {
        Some(hash) => lists.set_password(name, hash),
        None => lists.take_password(name),
    };
    plan.edits = draft.finish();
    plan.nothing = plan.edits.is_empty();
    if request.hash.is_some() {
        plan.cautions.push(Caution::GroupPassword { group: name.into() });
    }
    plan.subjects.push(subject);
    plan.next.push(format!("show group {name}"));
    Ok(plan)
}

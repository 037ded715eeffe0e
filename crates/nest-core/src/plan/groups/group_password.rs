//! Passwords of groups.

use bstr::{BStr, BString};

use crate::book::Lookups;
use crate::change::{Caution, Plan, Subject};
use crate::context::PlanContext;
use crate::drafting::{PlanBuilder, find_group};
use crate::policy::Policy;
use crate::refusal::Result;
use crate::request::Request;
use crate::value::{GroupName, Scheme};

/// A group's password to be set or taken away.
#[derive(Debug, Clone, Default)]
pub struct GroupPassword {
    /// The group.
    pub name: GroupName,
    /// The hash; nothing takes the password away.
    pub hash: Option<BString>,
}

impl Request for GroupPassword {
    fn lookups(&self, _: &Policy) -> Lookups {
        Lookups::whole()
    }
}

/// Looks whether the group is there, before anybody is asked for a password.
///
/// # Errors
/// A [`crate::refusal::Refusal`] where there is no such group, or no place for its password.
pub fn check_group_password(context: PlanContext<'_>, name: &BStr) -> Result<()> {
    find_group(context, name, &format!("the password of the group {name} was not changed"))
        .map(drop)
}

/// Plans the setting of a group's password.
///
/// # Errors
/// A [`crate::refusal::Refusal`] where there is no such group, or its line can't be edited.
pub fn group_password(context: PlanContext<'_>, request: &GroupPassword) -> Result<Plan> {
    let name = BStr::new(&request.name);
    let what = format!("the password of the group {name} was not changed");
    let name = BStr::new(find_group(context, name, &what)?.name);
    let mut builder = PlanBuilder::new(context, format!("password group {name}"));
    let mut subject = Subject::new(name.to_owned());
    match &request.hash {
        Some(hash) => {
            let scheme = Scheme::of(hash).map_or("unknown", Scheme::name);
            subject.decide("password", scheme, "only the hash is kept");
            subject.decide("lets in", "whoever knows it", "members need none");
        }
        None => subject.decide("password", "none", "only members are let in"),
    }
    match &request.hash {
        Some(hash) => {
            builder.lists().set_password(name, hash);
            builder.caution(Caution::GroupPassword { group: name.into() });
        }
        None => _ = builder.lists().take_password(name),
    }
    Ok(builder.finish_with(subject, format!("show group {name}")))
}

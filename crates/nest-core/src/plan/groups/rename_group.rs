//! Giving a group another name.

use bstr::{BStr, BString};

use crate::book::Lookups;
use crate::change::{Caution, Label, Plan, Subject};
use crate::context::PlanContext;
use crate::drafting::{PlanBuilder, check_new_group_name, find_group};
use crate::policy::Policy;
use crate::refusal::{Reason, Refusal, Result};
use crate::request::{GuardOverrides, Request};
use crate::table::{Column, File};
use crate::value::GroupName;

/// A group to be renamed.
#[derive(Debug, Clone, Default)]
pub struct RenameGroup {
    /// The name it has.
    pub old: GroupName,
    /// The name it gets.
    pub new: GroupName,
    /// Guards waved through.
    pub overrides: GuardOverrides,
}

impl Request for RenameGroup {
    fn lookups(&self, _: &Policy) -> Lookups {
        Lookups::whole()
    }

    fn overrides(&self) -> GuardOverrides {
        self.overrides
    }
}

/// Plans the renaming of a group.
///
/// # Errors
/// The first [`Refusal`].
pub fn rename_group(context: PlanContext<'_>, request: &RenameGroup) -> Result<Plan> {
    let (wanted, new) = (BStr::new(&request.old), BStr::new(&request.new));
    let what = format!("the group {wanted} was not renamed");
    let group = find_group(context, wanted, &what)?;
    let old = BStr::new(group.name);
    if old == new {
        return Err(Refusal::new(what, Reason::SameName));
    }
    let cautions = check_new_group_name(context, new, &what)?;
    let admins = context.policy.makes_admins(old);
    let members: Vec<BString> = group.members().map(BString::from).collect();
    if admins && !members.is_empty() && !request.overrides.last_admin {
        return Err(Refusal::new(what, Reason::AdminGroup { members })
            .or_else("first let the policy and sudoers name", format!("{new} as well"))
            .or_again("then do it all the same", "--even-last-admin"));
    }
    let mut builder = PlanBuilder::new(context, format!("rename group {old} {new}"));
    builder.plan.cautions = cautions;
    let mut subject = Subject::new(old.to_owned());
    subject.decide("name", new, format!("was {old}"));
    let gid = BStr::new(group.gid).to_string();
    subject.decide(Label::GID, gid, "as it was: files stay the group's");
    for file in [File::Group, File::Gshadow] {
        for line in context.book.named(file, old) {
            builder.set_fields(file, line, &[(Column::NAME, new)]);
        }
    }
    let settings = settings_naming(context.policy, old);
    if !settings.is_empty() {
        builder.caution(Caution::PolicyNames { name: old.into(), settings });
    }
    let places = context.world.mentions_of_group(old);
    if !places.is_empty() {
        builder.caution(Caution::Dangling { old: old.into(), new: new.into(), places });
    }
    Ok(builder.finish_with(subject, format!("show group {new}")))
}

/// The settings of the policy that name a group.
pub(crate) fn settings_naming(policy: &Policy, group: &[u8]) -> String {
    let named = |all: &[String]| all.iter().any(|name| name.as_bytes() == group);
    let settings = [
        ("admins.groups", named(&policy.admins_groups)),
        ("people.groups", named(&policy.people_groups)),
        (
            "people.primary",
            !policy.people_private_group && policy.people_primary.as_bytes() == group,
        ),
    ];
    let settings: Vec<&str> =
        settings.into_iter().filter(|(_, named)| *named).map(|(setting, _)| setting).collect();
    settings.join(", ")
}

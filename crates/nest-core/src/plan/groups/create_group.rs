//! Making groups.

use std::collections::HashSet;

use bstr::BStr;

use crate::account::AccountKind;
use crate::allot::{IdUse, Taker, Wanted};
use crate::change::{Caution, Label, Plan, Subject};
use crate::context::PlanContext;
use crate::drafting::{
    NewNumber, NewPrimary, PlanBuilder, change_primary, check_new_group_name, find_member,
    find_user, gather_next_sign_ins, why_chosen,
};
use crate::refusal::{Reason, Refusal, Result};
use crate::request::CreateGroup;
use crate::table::File;
use crate::value::{Gid, UserName};
use crate::words::first_of;

/// Plans the making of a group.
///
/// # Errors
/// The first [`Refusal`].
pub fn create_group(context: PlanContext<'_>, request: &CreateGroup) -> Result<Plan> {
    let name = BStr::new(&request.name);
    let what = format!("the group {name} was not created");
    for file in [File::Passwd, File::Group] {
        if context.book.lines(file).is_some_and(|lines| lines.is_empty()) {
            return Err(Refusal::new(what, Reason::Empty(file)));
        }
    }
    let mut builder = PlanBuilder::new(context, format!("create group {name}"));
    builder.plan.cautions = check_new_group_name(context, name, &what)?;
    let mut subject = Subject::new(name.to_owned());
    let number = choose_gid(&mut builder, request, &what, &mut subject)?;
    let cautions = &mut builder.plan.cautions;
    let members = members(context, &request.members, request.unlisted, &what, cautions)?;
    let admins = self::members(context, &request.admins, request.unlisted, &what, cautions)?;
    // A file that is not there is needed for administrators only.
    let has_gshadow = context.book.gshadow.is_some();
    let password: &[u8] = if has_gshadow || !admins.is_empty() { b"x" } else { b"!" };
    let gid = number.to_string();
    let (members_list, admins_list) = (bstr::join(",", &members), bstr::join(",", &admins));
    let line = [name, password, gid.as_bytes(), &members_list].join(&b':');
    builder.edits.add(File::Group, line);
    if !has_gshadow && !admins.is_empty() {
        builder.lists().make_file();
    }
    if has_gshadow || !admins.is_empty() {
        let line = [name, b"!".as_slice(), &admins_list, &members_list].join(&b':');
        builder.edits.add(File::Gshadow, line);
    }
    tell("members", &members, "nobody yet", &mut subject);
    if !admins.is_empty() {
        tell("admins", &admins, "", &mut subject);
    }
    for user in &request.primary_of {
        let found = find_user(context, user.as_ref(), &what)?;
        let new = NewPrimary { name, gid: Gid(number), leaves: &[], regroup_home: None };
        let mut moved = Subject::new(user.clone());
        change_primary(&mut builder, &found, new, &mut moved);
        builder.tell(moved);
    }
    for member in members {
        builder.caution(Caution::NextSignIn { name: member.to_owned() });
    }
    gather_next_sign_ins(&mut builder.plan.cautions);
    Ok(builder.finish_with(
        subject,
        match request.members.is_empty() {
            true => format!("regroup NAME --join {name}"),
            false => format!("show group {name}"),
        },
    ))
}

fn tell(label: &'static str, names: &[&BStr], none: &str, subject: &mut Subject) {
    const MOST: usize = 12;
    let value = if names.is_empty() { none.into() } else { first_of(names, MOST) };
    subject.decide(label, value, "");
}

/// Looks every name up, each once. Returns them as they will be listed.
///
/// # Errors
/// The [`Refusal`], of `what`.
pub(crate) fn members<'r>(
    context: PlanContext<'_>,
    names: &'r [UserName],
    unlisted: bool,
    what: &str,
    cautions: &mut Vec<Caution>,
) -> Result<Vec<&'r BStr>> {
    let mut seen = HashSet::new();
    let mut found = Vec::new();
    if names.len() > 4 {
        context.book.names();
    }
    for name in names {
        if !seen.insert(name) {
            cautions.push(Caution::NamedTwice { name: name.clone().into() });
            continue;
        }
        let name = BStr::new(name);
        cautions.extend(find_member(context, name, unlisted, what)?);
        found.push(name);
    }
    Ok(found)
}

/// The gid that was asked for, or the one that the policy chooses.
///
/// # Errors
/// The [`Refusal`], of `what`.
pub(crate) fn choose_gid(
    builder: &mut PlanBuilder<'_>,
    request: &CreateGroup,
    what: &str,
    subject: &mut Subject,
) -> Result<u32> {
    let (policy, name) = (builder.context.policy, request.name.as_ref());
    let kind = if request.service { AccountKind::Service } else { AccountKind::Person };
    let by = Taker { name, reuse: request.reuse_id };
    let wanted = request.gid.map(|id| Wanted { id: id.0, share: request.share_id, by });
    let new = NewNumber { of: IdUse::Gid, kind, wanted, name };
    let gid = new.choose(policy, &mut builder.allotter, &mut builder.plan.cautions);
    let gid = gid.map_err(|fault| new.refusal(fault, what, &format!("create group {name}")))?;
    let why = wanted.map_or_else(|| why_chosen(policy, kind), |_| "as asked".to_owned());
    subject.decide(Label::GID, gid.to_string(), why);
    Ok(gid)
}

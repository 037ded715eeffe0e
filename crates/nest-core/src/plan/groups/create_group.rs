//! Making groups.

use std::collections::HashSet;

use bstr::{BStr, BString};

use crate::allot::IdMap;
use crate::change::{Caution, Subject};
use crate::context::PlanContext;
use crate::drafting::Draft;
use crate::drafting::find::find_member;
use crate::drafting::group_lists::Lists;
use crate::drafting::new_name::check_new_group_name;
use crate::drafting::primary::gather_next_sign_ins;
use crate::drafting::wanted_id::check_wanted_gid;
use crate::plan::Plan;
use crate::plan::users::create_user::setting_key;
use crate::refusal::{Reason, Refusal};
use crate::request::CreateGroup;
use crate::table::File;
use crate::words::first_of;

/// Plans the making of a group.
///
/// # Errors
/// The first [`Refusal`].
pub fn create_group(context: PlanContext<'_>, request: &CreateGroup) -> Result<Plan, Box<Refusal>> {
    let name = BStr::new(&request.name);
    let what = format!("the group {name} was not created");
    for file in [File::Passwd, File::Group] {
        if context.book.lines(file).is_some_and(|lines| lines.is_empty()) {
            return Err(Refusal::new(what, Reason::Empty(file)));
        }
    }
    let mut plan = Plan { summary: format!("create group {name}"), ..Plan::default() };
    plan.cautions = check_new_group_name(context, name, &what)?;
    let mut subject = Subject::new(name.to_owned());
    let gid = choose_gid(context, request, &what, None, &mut plan, &mut subject)?;
    let again = format!("create group {name}{}", request.again);
    let cautions = &mut plan.cautions;
    let members = members(context, &request.members, request.unlisted, &what, &again, cautions)?;
    let admins = crate::plan::groups::create_group::members(
        context,
        &request.admins,
        request.unlisted,
        &what,
        &again,
        cautions,
    )?;
    let list = bstr::join(",", &members);
    let mut draft = Draft::new(context.book);
    // A file that is not there is needed for administrators only.
    let has_gshadow = context.book.gshadow.is_some();
    let password: &[u8] = if has_gshadow || !admins.is_empty() { b"x" } else { b"!" };
    let gid = gid.to_string();
    draft.add(File::Group, [name, password, gid.as_bytes(), &list].join(&b':'));
    if has_gshadow {
        let admins = bstr::join(",", &admins);
        draft.add(File::Gshadow, [name, b"!".as_slice(), &admins, &list].join(&b':'));
    } else if !admins.is_empty() {
        let admins = bstr::join(",", &admins);
        Lists { context, draft: &mut draft, cautions }.make_file();
        draft.add(File::Gshadow, [name, b"!".as_slice(), &admins, &list].join(&b':'));
    }
    tell("members", &members, "nobody yet", &mut subject);
    if !admins.is_empty() {
        tell("admins", &admins, "", &mut subject);
    }
    for member in members {
        plan.cautions.push(Caution::NextSignIn { name: member.to_owned() });
    }
    gather_next_sign_ins(&mut plan.cautions);
    plan.edits = draft.finish();
    plan.subjects.push(subject);
    plan.next.push(match request.members.is_empty() {
        true => format!("regroup NAME --join {name}"),
        false => format!("show group {name}"),
    });
    Ok(plan)
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
    names: &'r [BString],
    unlisted: bool,
    what: &str,
    again: &str,
    cautions: &mut Vec<Caution>,
) -> Result<Vec<&'r BStr>, Box<Refusal>> {
    let mut seen = HashSet::new();
    let mut found = Vec::new();
    if names.len() > 4 {
        context.book.names();
    }
    for name in names {
        if !seen.insert(name) {
            cautions.push(Caution::NamedTwice { name: name.clone() });
            continue;
        }
        let name = BStr::new(name);
        cautions.extend(find_member(context, name, unlisted, what, again)?);
        found.push(name);
    }
    Ok(found)
}

/// The gid that was asked for, or the next free one of `ids`, which is gathered
/// where it is not at hand.
///
/// # Errors
/// The [`Refusal`], of `what`.
pub(crate) fn choose_gid(
    context: PlanContext<'_>,
    request: &CreateGroup,
    what: &str,
    ids: Option<&IdMap<'_>>,
    plan: &mut Plan,
    subject: &mut Subject,
) -> Result<u32, Box<Refusal>> {
    let (policy, name) = (context.policy, &request.name);
    let refuse = |reason| Refusal::new(what, reason);
    let (span, setting, kind) = match request.service {
        true => (policy.services_ids, "services.ids", "services"),
        false => (policy.people_ids, "people.ids", "people"),
    };
    if let Some(gid) = request.gid {
        let again = format!("create group {name}");
        plan.cautions.extend(check_wanted_gid(context, gid, request.share_id, what, &again)?);
        if !span.contains(gid) {
            let (name, what) = (name.clone(), "gid");
            plan.cautions.push(Caution::OutsideSpan { what, name, id: gid, kind, span });
        }
        subject.decide("gid", gid.to_string(), "as asked");
        return Ok(gid);
    }
    let free = |ids: &IdMap<'_>| match request.service {
        true => ids.highest(span),
        false => ids.lowest(span),
    };
    let found = match ids {
        Some(ids) => free(ids),
        None => free(&IdMap::new(context.book, policy, context.world)),
    };
    let found = found.map_err(|why| refuse(Reason::ServiceFailed(why)))?;
    let Some(gid) = found else {
        let setting = policy.origin(setting);
        return Err(refuse(Reason::SpanFull { span, setting })
            .or("choose one outside it", format!("create group {name} --gid N"))
            .or_else(
                "or widen the span",
                format!("{} in etc/copper-nest/policy.toml", setting_key(kind)),
            ));
    };
    let why = match request.service {
        false => format!("first never-used id in {span}"),
        true => format!("highest never-used id in {span}, the services'"),
    };
    subject.decide("gid", gid.to_string(), why);
    Ok(gid)
}

//! Making users.

mod batch;
mod belongings;
mod groups;
mod ids;
mod like;
mod made;
mod write;

pub(crate) use batch::{AccountBatch, AccountIds, Given};
pub(crate) use write::{AccountLines, Writer};

use hashbrown::HashSet;

use crate::change::Plan;
use crate::context::PlanContext;
use crate::refusal::{Reason, Refusal, Result};
use crate::request::CreateUser;
use crate::table::File;
use crate::value::{Expiry, GecosParts, check_keys, unfit};
use crate::words::list;

/// Plans the batch of users: all of them, or none.
///
/// # Errors
/// The first [`Refusal`].
pub fn create_user(context: PlanContext<'_>, request: &CreateUser) -> Result<Plan> {
    let names = list(&request.names);
    let what = match request.names.len() {
        1 => format!("{names} was not created"),
        _ => "nobody was created".to_owned(),
    };
    let request = &like::filled_in(context, request, &what)?;
    let fault = empty_file(context).or_else(|| contradiction(request));
    let fault = fault.or_else(|| check_values(context, request).into_iter().next());
    fault.map_or(Ok(()), |reason| Err(Refusal::new(&what, reason)))?;
    let mut batch = AccountBatch::new(context, format!("create user {names}"));
    batch.note_missing_files();
    for span in &request.spans {
        let free = batch.builder.allotter.take_range(*span);
        let free = free.map_err(|why| Refusal::new(&what, Reason::ServiceFailed(why)))?;
        if !free {
            return Err(Refusal::new(&what, Reason::RangeTaken { span: *span })
                .or("let the policy choose one", format!("create user {names}"))
                .or("or see what is free", "list ranges"));
        }
    }
    let mut seen = HashSet::new();
    for (at, name) in request.names.iter().enumerate() {
        let several = request.names.len() > 1;
        let hash = request.hashes.get(at).and_then(Option::as_ref);
        let twice = !seen.insert(name);
        let made = match twice {
            true => Err(vec![*Refusal::new(format!("{name} was not created"), Reason::NameTwice)]),
            false => batch.plan_account(request, name.as_ref(), hash),
        };
        if let Some(mut refusal) = made.err().and_then(|all| all.into_iter().next()) {
            if several {
                refusal.what = format!("nobody was created, because of {name}");
            }
            return Err(Box::new(refusal));
        }
    }
    Ok(batch.finish())
}

/// An account file with nothing in it, where there has to be something.
pub(crate) fn empty_file(context: PlanContext<'_>) -> Option<Reason> {
    let files = [File::Passwd, File::Group, File::Shadow];
    let empty = |file: &File| context.book.lines(*file).is_some_and(|lines| lines.is_empty());
    files.into_iter().find(empty).map(Reason::Empty)
}

/// Options that can't go together.
fn contradiction(request: &CreateUser) -> Option<Reason> {
    if request.names.len() > 1 {
        let single = [
            ("--uid", request.uid.is_some()),
            ("--home", request.home.is_some()),
            ("--full-name", request.full_name.is_some()),
            ("--ranges SPAN", !request.spans.is_empty()),
        ];
        if let Some((option, _)) = single.into_iter().find(|(_, given)| *given) {
            return Some(Reason::OneOnly(option));
        }
    }
    let pairs = [
        ("--no-home", request.no_home, "--adopt-home", request.adopt_home),
        ("--no-home", request.no_home, "--skeleton", request.skeleton.is_some()),
        ("--adopt-home", request.adopt_home, "--skeleton", request.skeleton.is_some()),
    ];
    let (one, _, other, _) = pairs.into_iter().find(|(_, a, _, b)| *a && *b)?;
    Some(Reason::Contradiction(one, other))
}

/// What can be judged without looking at any account.
pub(crate) fn check_values(context: PlanContext<'_>, request: &CreateUser) -> Vec<Reason> {
    let mut faults = Vec::new();
    if let Some(text) = &request.expires {
        match Expiry::parse(text, context.today) {
            Ok(Expiry::On(day)) if day <= context.today => faults.push(Reason::ExpiryPast(day)),
            Ok(Expiry::On(_)) if context.book.shadow.is_none() => {
                faults.push(Reason::NoShadowForExpiry);
            }
            Ok(_) => {}
            Err(fault) => faults.push(fault.into()),
        }
    }
    if let Some(full_name) = &request.full_name {
        faults.extend(check_full_name(full_name).err());
    }
    if let Some(details) = &request.details {
        faults.extend(gecos_faults(&details.gecos));
        if details.suspended.is_some() && context.book.shadow.is_none() {
            faults.push(Reason::NoShadowForExpiry);
        }
    }
    faults.extend(request.window.faults().into_iter().map(Reason::from));
    for keys in &request.keys {
        let fault = |fault| Reason::BadKeys { path: keys.path.clone(), fault };
        faults.extend(check_keys(&keys.text).map_err(fault).err());
    }
    faults
}

/// What the GECOS field can't hold in a full name.
pub(crate) fn check_full_name(full_name: &[u8]) -> Result<(), Reason> {
    let fault = unfit(full_name);
    fault.map_or(Ok(()), |fault| Err(Reason::BadGecos { part: "full_name", fault }))
}

/// What it can't hold in the parts after that.
pub(crate) fn gecos_faults(parts: &GecosParts) -> impl Iterator<Item = Reason> {
    parts.faults().into_iter().map(|(part, fault)| Reason::BadGecos { part, fault })
}

#[cfg(test)]
mod tests;

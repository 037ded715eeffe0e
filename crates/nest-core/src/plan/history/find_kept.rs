//! Finding a deleted account or group that is kept.

use bstr::{BStr, BString};

use crate::context::PlanContext;
use crate::refusal::{NotKept, Refusal, Result};
use crate::retired::RetiredAccount;
use crate::value::{UserOrGroup, nearest, read_plain_id};

/// The same, of what can be restored: lines alone that repair took out are no account.
///
/// # Errors
/// The [`Refusal`], of `what`.
pub(crate) fn find_restorable<'a>(
    context: PlanContext<'a>,
    thing: UserOrGroup,
    wanted: &BStr,
    what: &str,
) -> Result<&'a RetiredAccount> {
    let found = find_kept(context, thing, wanted, what, "restore")?;
    if !found.kept.is_of_lines() {
        return Ok(found);
    }
    let reason = NotKept::LinesOnly { thing, name: found.kept.name.clone() };
    Err(Refusal::new(what, reason.into()).or("put them back", format!("undo {}", found.change)))
}

/// A deleted account by name, by number, or by the folder it is kept in where
/// name and number were held twice; of several each is named with the verb that is asked for.
///
/// # Errors
/// The [`Refusal`], of `what`: nothing of that name is kept, or several are.
pub(crate) fn find_kept<'a>(
    context: PlanContext<'a>,
    thing: UserOrGroup,
    wanted: &BStr,
    what: &str,
    verb: &str,
) -> Result<&'a RetiredAccount> {
    let refuse = |reason| Refusal::new(what, reason);
    if context.change.is_none() {
        return Err(refuse(NotKept::NothingIsKept.into()));
    }
    let all = context.world.kept().map_err(|why| refuse(NotKept::KeptUnreadable(why).into()))?;
    let folder_of = || all.iter().filter(|kept| kept.kept.thing == thing);
    let folder = |kept: &RetiredAccount| BString::from(kept.folder.name.as_str());
    if let Some(found) = folder_of().find(|kept| folder(kept) == wanted) {
        return Ok(found);
    }
    let mut found: Vec<&RetiredAccount> =
        folder_of().filter(|kept| kept.kept.name == wanted).collect();
    if found.is_empty()
        && let Some(id) = read_plain_id(wanted)
    {
        found = folder_of().filter(|kept| kept.kept.id == id).collect();
    }
    match found[..] {
        [one] => Ok(one),
        [] => {
            let names = folder_of().map(|kept| kept.kept.name.as_slice());
            let near = nearest(wanted, names).map(ToOwned::to_owned);
            Err(refuse(NotKept::NoneKept { thing, name: wanted.to_owned(), near }.into())
                .or("see what is kept", "list retired"))
        }
        ref several => {
            let mut refusal = refuse(
                NotKept::SeveralKept { name: wanted.to_owned(), count: several.len() }.into(),
            );
            let same_id = several.iter().all(|kept| kept.kept.id == several[0].kept.id);
            for kept in several {
                let day = kept.time.split('T').next().unwrap_or_default();
                let label = format!("the one with id {}, deleted {day}", kept.kept.id);
                let by = match same_id {
                    false => kept.kept.id.to_string(),
                    true => folder(kept).to_string(),
                };
                refusal = refusal.or(label, format!("{verb} {thing} {by}"));
            }
            Err(refusal)
        }
    }
}

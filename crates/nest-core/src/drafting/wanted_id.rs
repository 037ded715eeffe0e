//! An id of the administrator's own choice.

use bstr::BStr;

use crate::allot::{Holder, holder_of_gid, holder_of_uid};
use crate::change::Caution;
use crate::context::PlanContext;
use crate::refusal::{Reason, Refusal};
use crate::value::is_reserved;

/// Whether a user may have this uid. `again` is the command without the choice.
/// Returns what has to be told.
///
/// # Errors
/// The [`Refusal`], of `what`.
pub(crate) fn check_wanted_uid(
    context: PlanContext<'_>,
    name: &BStr,
    uid: u32,
    share_id: bool,
    what: &str,
    again: &str,
) -> Result<Vec<Caution>, Box<Refusal>> {
    let PlanContext { book, world, policy, .. } = context;
    let refuse = |reason| Refusal::new(what, reason);
    let mut cautions = Vec::new();
    if is_reserved(uid) {
        return Err(refuse(Reason::IdReserved { what: "uid", id: uid, why: reserved(uid) }));
    }
    match holder_of_uid(book, world, uid) {
        Some(Holder::User(other)) if share_id => {
            cautions.push(Caution::SharedUid { uid, other });
            if uid == 0 {
                cautions.push(Caution::SecondRoot { name: name.into() });
            }
        }
        Some(holder @ Holder::User(_)) => {
            return Err(refuse(Reason::IdTaken { what: "uid", id: uid, holder })
                .or("let the policy choose one", again)
                .or("or share it all the same", format!("{again} --uid {uid} --share-id")));
        }
        Some(holder) => {
            return Err(refuse(Reason::IdTaken { what: "uid", id: uid, holder })
                .or("let the policy choose one", again));
        }
        None => {
            let held = world.service_user_by_uid(uid);
            let held = held.map_err(|why| refuse(Reason::ServiceFailed(why)))?;
            if let Some(holder) = held {
                return Err(refuse(Reason::IdInService { what: "uid", id: uid, holder }));
            }
            cautions.extend(policy.ids_avoid.iter().find(|avoid| avoid.span.contains(uid)).map(
                |avoid| Caution::Avoided {
                    what: "uid",
                    id: uid,
                    span: avoid.span,
                    why: avoid.why.clone(),
                },
            ));
        }
    }
    Ok(cautions)
}

/// Whether a group may have this gid. `again` is the command without the choice.
/// Returns what has to be told.
///
/// # Errors
/// The [`Refusal`], of `what`.
pub(crate) fn check_wanted_gid(
    context: PlanContext<'_>,
    gid: u32,
    share_id: bool,
    what: &str,
    again: &str,
) -> Result<Vec<Caution>, Box<Refusal>> {
    let PlanContext { book, world, policy, .. } = context;
    let refuse = |reason| Refusal::new(what, reason);
    if is_reserved(gid) {
        return Err(refuse(Reason::IdReserved { what: "gid", id: gid, why: reserved(gid) }));
    }
    match holder_of_gid(book, world, gid) {
        Some(Holder::Group(other)) if share_id => {
            return Ok(vec![Caution::SharedGid { gid, other }]);
        }
        Some(holder @ Holder::Group(_)) => {
            return Err(refuse(Reason::IdTaken { what: "gid", id: gid, holder })
                .or("share it all the same", format!("{again} --gid {gid} --share-id")));
        }
        Some(holder) => return Err(refuse(Reason::IdTaken { what: "gid", id: gid, holder })),
        None => {}
    }
    let held = world.service_group_by_gid(gid);
    if let Some(holder) = held.map_err(|why| refuse(Reason::ServiceFailed(why)))? {
        return Err(refuse(Reason::IdInService { what: "gid", id: gid, holder }));
    }
    let avoid = policy.ids_avoid.iter().find(|avoid| avoid.span.contains(gid));
    let caution = avoid.map(|avoid| Caution::Avoided {
        what: "gid",
        id: gid,
        span: avoid.span,
        why: avoid.why.clone(),
    });
    Ok(caution.into_iter().collect())
}

/// What a reserved id means.
pub(crate) fn reserved(id: u32) -> &'static str {
    match id {
        65534 => "the kernel shows it for ids it can't show",
        65535 => "it meant \"no id\" when ids had 16 bits, and some programs still read it so",
        _ => "it means \"no id\" to the kernel",
    }
}

//! Giving files of one owner to another.

use bstr::{BStr, BString};

use crate::book::Lookups;
use crate::change::{Caution, Plan, Step, Subject};
use crate::context::PlanContext;
use crate::drafting::find_user;
use crate::ownership::Reown;
use crate::policy::Policy;
use crate::refusal::{Reason, Refusal, Result};
use crate::request::Request;
use crate::retired::Became;
use crate::surroundings::Site;
use crate::value::{
    TreePath, Uid, UserName, UserOrGroup, bytes_in_words, is_reserved, join, path_fault,
    read_plain_id, reserved_for,
};
use crate::words::counted;

/// Files to be given to somebody else.
#[derive(Debug, Clone, Default)]
pub struct Reassign {
    /// Whose they are: a user, one that was deleted, or a number.
    pub from: UserName,
    /// Whose they become.
    pub to: UserName,
    /// Where to look; everywhere when empty.
    pub paths: Vec<BString>,
    /// Files with more than one name too.
    pub hard_links: bool,
    /// Even root's.
    pub even_root: bool,
}

impl Request for Reassign {
    fn lookups(&self, _: &Policy) -> Lookups {
        Lookups::whole()
    }
}

/// Plans the giving.
///
/// # Errors
/// The first [`Refusal`].
pub fn reassign(context: PlanContext<'_>, request: &Reassign) -> Result<Plan> {
    let (from, to) = (BStr::new(&request.from), BStr::new(&request.to));
    let what = "no file was reassigned";
    let refuse = |reason| Refusal::new(what, reason);
    let deleted = deleted_uids(context, from);
    let old = match number(context, from, what) {
        Err(_) if deleted.len() == 1 => deleted[0],
        Err(refusal) => {
            let which = |refusal: Box<Refusal>, uid: &Uid| {
                refusal.or(format!("the one with uid {uid}"), format!("reassign {uid} {to}"))
            };
            return Err(deleted.iter().fold(refusal, which));
        }
        Ok(uid) => uid,
    };
    let new = number(context, to, what)?;
    if old == new {
        return Err(refuse(Reason::SameOwner { uid: old }));
    }
    let places: String = request.paths.iter().map(|path| format!(" {path}")).collect();
    let command = format!("reassign {from} {to}{places}");
    if old == Uid::ROOT && !request.even_root {
        return Err(
            refuse(Reason::RootsFiles).or("do it all the same", format!("{command} --even-root"))
        );
    }
    let mut paths: Vec<TreePath> = Vec::new();
    for path in &request.paths {
        let fault = match path_fault(path) {
            Some(fault) => Some(fault.to_owned()),
            None => match context.world.site(path.as_ref()) {
                Site::Taken(_) => None,
                Site::ThroughLink { link, real } => {
                    Some(format!("goes through the link {link}; give the path it leads to, {real}"))
                }
                Site::Unknown(why) => Some(format!("can't be looked at: {why}")),
                _ => Some("does not exist in this tree".to_owned()),
            },
        };
        if let Some(fault) = fault {
            return Err(refuse(Reason::NoSuchPlace { path: path.clone(), fault }));
        }
        paths.push(TreePath::judged(path));
    }
    if paths.is_empty() {
        paths.push(TreePath::root());
    }
    let hard_links = request.hard_links;
    let (group, of_change, everywhere) = (false, None, true);
    let reown = Reown { paths, group, from: old.0, to: new.0, of_change, everywhere, hard_links };
    let found = context.world.carriers(&reown);
    let (carried, notes) = found.map_err(|why| refuse(Reason::NotCounted(why)))?;
    let mut plan = Plan { summary: command, ..Plan::default() };
    let mut subject = Subject::new(from.to_owned());
    let behind = |name: &BStr, uid: Uid| match read_plain_id(name) {
        Some(_) => match context.book.user_by_uid(uid) {
            Some((_, user)) => format!("uid {uid}, {}", BStr::new(user.name)),
            None => match context.world.retired().user(uid) {
                Some(name) => format!("uid {uid}, retired: it was {name}'s"),
                None => format!("uid {uid}, which nobody has"),
            },
        },
        None if deleted.contains(&uid) => format!("{name}, uid {uid}, deleted"),
        None => format!("{name}, uid {uid}"),
    };
    subject.decide("from", behind(from, old), "");
    subject.decide("to", behind(to, new), "");
    let shown = reown.paths.iter().map(|path| path.to_string()).collect::<Vec<_>>();
    subject.decide("below", shown.join(", "), "on every local file system there; no link followed");
    let (files, size) = (carried.files, bytes_in_words(carried.bytes));
    let files = counted(files, "file", "files");
    subject.decide("gives", format!("{files}, {size}"), "their groups stay");
    if carried.linked > 0 {
        let why = match hard_links {
            true => "given too: every other name of theirs goes with them",
            false => "left: another name may be anywhere; --hard-links gives them too",
        };
        subject.decide("linked", format!("{} with more names", carried.linked), why);
    }
    if context.book.user_by_uid(new).is_none() {
        plan.cautions.push(Caution::NobodyHas { uid: new });
    }
    plan.cautions.extend(notes.into_iter().map(Caution::Noted));
    plan.nothing = carried.files == 0;
    if !plan.nothing {
        plan.cautions.extend(set_aside(context, old, &reown.paths));
        plan.steps.push(Step::Reown(reown));
    }
    plan.subjects.push(subject);
    plan.next.push(format!("trace id {old}"));
    Ok(plan)
}

/// What is set aside for an account of this uid, and lies below the paths: it is kept to
/// be restored, and carries the number too.
fn set_aside(context: PlanContext<'_>, uid: Uid, paths: &[TreePath]) -> Vec<Caution> {
    let kept = match context.world.kept() {
        Ok(kept) => kept.iter().map(|account| &account.kept),
        Err(why) => {
            let note = format!("what is set aside there can't be told: {why}");
            return vec![Caution::Noted(note)];
        }
    };
    let of_uid = kept.filter(|kept| kept.thing == UserOrGroup::User && kept.id == uid.0);
    let places = of_uid.flat_map(|kept| {
        kept.belongings.iter().filter_map(move |belonging| match &belonging.became {
            Became::SetAside { place } => Some((&kept.name, place)),
            _ => None,
        })
    });
    let given = places.filter(|(_, place)| {
        paths.iter().any(|path| *path == **place || place.starts_with(&join(path, b"")))
    });
    let say = |(name, place)| {
        Caution::Noted(format!(
            "{place} is given too, and is kept for restore user {name}: to leave it, name the \
             paths to be given"
        ))
    };
    given.map(say).collect()
}

/// The uids of deleted users of this name that nobody has by now. None where somebody
/// is called so again: in the files, or by the name services.
fn deleted_uids(context: PlanContext<'_>, name: &BStr) -> Vec<Uid> {
    let PlanContext { book, world, .. } = context;
    let of_name = world.retired().users.iter().filter(|id| id.name == name);
    let mut uids: Vec<Uid> = of_name.map(|id| Uid(id.id)).collect();
    let again =
        |name: &BStr| book.user(name).is_some() || world.service_knows_user(name) != Ok(false);
    if uids.is_empty() || again(name) {
        return Vec::new();
    }
    uids.sort_unstable();
    uids.dedup();
    uids.retain(|&uid| {
        book.user_by_uid(uid).is_none() && world.service_user_by_uid(uid) == Ok(None)
    });
    uids
}

/// A user's uid, or a number.
fn number(context: PlanContext<'_>, who: &BStr, what: &str) -> Result<Uid> {
    match read_plain_id(who) {
        Some(uid) if is_reserved(uid) => {
            let why = reserved_for(uid);
            Err(Refusal::new(what, Reason::IdReserved { what: "uid", id: uid, why }))
        }
        Some(uid) => Ok(Uid(uid)),
        None => Ok(find_user(context, who, what)?.uid),
    }
}

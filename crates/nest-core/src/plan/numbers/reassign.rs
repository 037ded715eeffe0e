//! Giving files of one owner, or of one group, to another.

use bstr::{BStr, BString};

use crate::book::Lookups;
use crate::change::{Caution, Plan, Step, Subject};
use crate::context::PlanContext;
use crate::drafting::{find_group, find_user, gid_of};
use crate::ownership::{IdMapping, Reown};
use crate::policy::Policy;
use crate::refusal::{Reason, Refusal, Result};
use crate::request::Request;
use crate::retired::Became;
use crate::retired_ids::RetiredId;
use crate::surroundings::Site;
use crate::value::{
    Gid, TreePath, Uid, UserOrGroup, bytes_in_words, is_reserved, join, path_fault, read_plain_id,
    reserved_for,
};
use crate::words::counted;

/// What is given: files by their owner, by their group, or by both.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, strum::Display)]
#[strum(serialize_all = "lowercase")]
pub enum GivenBy {
    /// What carries the uid of a user.
    #[default]
    User,
    /// What carries the gid of a group.
    Group,
    /// What carries the uid of a user or the gid of the user's own group.
    Account,
}

/// Files to be given to somebody else.
#[derive(Debug, Clone, Default)]
pub struct Reassign {
    /// By what the files are found.
    pub by: GivenBy,
    /// Whose they are: a user or group, one that was deleted, or a number.
    pub from: BString,
    /// Whose they become.
    pub to: BString,
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

const WHAT: &str = "no file was reassigned";

fn refuse(reason: Reason) -> Box<Refusal> {
    Refusal::new(WHAT, reason)
}

/// Plans the giving.
///
/// # Errors
/// The first [`Refusal`].
pub fn reassign(context: PlanContext<'_>, request: &Reassign) -> Result<Plan> {
    let (from, to) = (BStr::new(&request.from), BStr::new(&request.to));
    let owners = Owners { context, by: request.by, to };
    let (old, new) = owners.both(from)?;
    if old == new {
        return Err(refuse(Reason::SameOwner(old.in_words())));
    }
    let below: String = request.paths.iter().map(|path| format!(" {path}")).collect();
    let command = format!("reassign {} {from} {to}{below}", request.by);
    if (old.uid == Some(0) || old.gid == Some(0)) && !request.even_root {
        return Err(
            refuse(Reason::RootsFiles).or("do it all the same", format!("{command} --even-root"))
        );
    }
    let paths = places(context, &request.paths, WHAT)?;
    let pair = |old: Option<u32>, new: Option<u32>| IdMapping::from(Vec::from_iter(old.zip(new)));
    let reown = Reown {
        paths,
        uids: pair(old.uid, new.uid),
        gids: pair(old.gid, new.gid),
        everywhere: true,
        hard_links: request.hard_links,
        ..Reown::default()
    };
    let found = context.world.carriers(&reown);
    let (carried, notes) = found.map_err(|why| refuse(Reason::NotCounted(why)))?;
    let mut plan = Plan { summary: command, ..Plan::default() };
    let mut subject = Subject::new(from.to_owned());
    subject.decide("from", owners.behind(from, old), "");
    subject.decide("to", owners.behind(to, new), "");
    let shown = reown.paths.iter().map(|path| path.to_string()).collect::<Vec<_>>();
    subject.decide("below", shown.join(", "), "on every local file system there; no link followed");
    let (files, size) = (counted(carried.files, "file", "files"), bytes_in_words(carried.bytes));
    let why = match request.by {
        GivenBy::User => "their groups stay".to_owned(),
        GivenBy::Group => "their owners stay".to_owned(),
        GivenBy::Account => {
            let sum = |counts: &std::collections::BTreeMap<u32, u64>| counts.values().sum::<u64>();
            format!("{} by their owner, {} by their group", sum(&carried.uids), sum(&carried.gids))
        }
    };
    subject.decide("gives", format!("{files}, {size}"), why);
    if carried.linked > 0 {
        let why = match request.hard_links {
            true => "given too: every other name of theirs goes with them",
            false => "left: another name may be anywhere; --hard-links gives them too",
        };
        subject.decide("linked", format!("{} with more names", carried.linked), why);
    }
    if let Some(uid) = new.uid.map(Uid).filter(|uid| context.book.user_by_uid(*uid).is_none()) {
        plan.cautions.push(Caution::NobodyHas { uid });
    }
    if let Some(gid) = new.gid.map(Gid).filter(|gid| context.book.group_by_gid(*gid).is_none()) {
        plan.cautions.push(Caution::NoGroupHas { gid });
    }
    plan.cautions.extend(notes.into_iter().map(Caution::Noted));
    plan.nothing = carried.files == 0;
    if !plan.nothing {
        if let Some(uid) = old.uid {
            plan.cautions.extend(set_aside(context, Uid(uid), &reown.paths));
        }
        plan.steps.push(Step::Reown(reown));
    }
    plan.subjects.push(subject);
    let left = old.uid.or(old.gid).unwrap_or_default();
    plan.next.push(format!("trace id {left}"));
    Ok(plan)
}

/// Where files are looked for: everywhere where nothing is said.
///
/// # Errors
/// The [`Refusal`], of `what`: there is no such place.
pub(super) fn places(
    context: PlanContext<'_>,
    asked: &[BString],
    what: &str,
) -> Result<Vec<TreePath>> {
    let mut paths: Vec<TreePath> = Vec::new();
    for path in asked {
        let fault = match path_fault(path) {
            Some(fault) => Some(fault.to_owned()),
            None => match context.world.site(path.as_ref()) {
                Site::Taken(_) => None,
                Site::ThroughLink { link, real } => {
                    Some(format!("goes through the link {link}; give the path it leads to, {real}"))
                }
                Site::Unknown(why) => Some(format!("can't be looked at: {why}")),
                Site::Free | Site::NoParent(_) | Site::ParentIsNoDirectory(_) => {
                    Some("does not exist in this tree".to_owned())
                }
            },
        };
        if let Some(fault) = fault {
            let reason = Reason::NoSuchPlace { path: path.clone(), fault };
            return Err(Refusal::new(what, reason));
        }
        paths.push(TreePath::judged(path));
    }
    if paths.is_empty() {
        paths.push(TreePath::root());
    }
    Ok(paths)
}

/// The numbers of an owner.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Numbers {
    uid: Option<u32>,
    gid: Option<u32>,
}

impl Numbers {
    fn in_words(self) -> String {
        let part = |what: &str, id: Option<u32>| id.map(|id| format!("{what} {id}"));
        let parts: Vec<String> =
            [part("uid", self.uid), part("gid", self.gid)].into_iter().flatten().collect();
        parts.join(" and ")
    }
}

/// Finds out whose files are meant.
struct Owners<'a> {
    context: PlanContext<'a>,
    by: GivenBy,
    to: &'a BStr,
}

impl Owners<'_> {
    /// The numbers that are looked for, and those in their place.
    fn both(&self, from: &BStr) -> Result<(Numbers, Numbers)> {
        let mut old = Numbers { uid: None, gid: None };
        let mut new = old;
        if self.by != GivenBy::Group {
            old.uid = Some(self.old(from, UserOrGroup::User)?);
            new.uid = Some(self.number(self.to, UserOrGroup::User)?);
        }
        match self.by {
            GivenBy::User => {}
            GivenBy::Group => {
                old.gid = Some(self.old(from, UserOrGroup::Group)?);
                new.gid = Some(self.number(self.to, UserOrGroup::Group)?);
            }
            GivenBy::Account => {
                old.gid = self.own_gid(from);
                if old.gid.is_some() {
                    let to = self.to;
                    let no_group = || refuse(Reason::NoOwnGroup { user: to.to_owned() });
                    new.gid = Some(self.own_gid(to).ok_or_else(|| {
                        let way = format!("reassign user {from} {to}");
                        no_group().or("give what it owns alone", way)
                    })?);
                }
            }
        }
        Ok((old, new))
    }

    /// The number of an owner, or the one that somebody had who was deleted.
    fn old(&self, from: &BStr, thing: UserOrGroup) -> Result<u32> {
        let refusal = match self.number(from, thing) {
            Ok(id) => return Ok(id),
            Err(refusal) => refusal,
        };
        match self.deleted(from, thing)[..] {
            [id] => Ok(id),
            ref ids => Err(ids.iter().fold(refusal, |refusal, id| {
                let (what, to) = (word(thing), self.to);
                let way = format!("reassign {} {id} {to}", self.by);
                refusal.or(format!("the one with {what} {id}"), way)
            })),
        }
    }

    /// The gid of the group that is called like a user; the very number of a number.
    fn own_gid(&self, name: &BStr) -> Option<u32> {
        if let Some(id) = read_plain_id(name) {
            return match self.context.book.user_by_uid(Uid(id)) {
                Some((_, user)) => self.own_gid(BStr::new(user.name)),
                None => Some(id),
            };
        }
        let book = self.context.book;
        match book.group(name).and_then(|(_, group)| group.gid()) {
            Some(gid) => Some(gid.0),
            None => self.deleted(name, UserOrGroup::Group).first().copied(),
        }
    }

    /// The number of somebody who is there, or a number.
    fn number(&self, who: &BStr, thing: UserOrGroup) -> Result<u32> {
        match read_plain_id(who) {
            Some(id) if is_reserved(id) => {
                let (what, why) = (word(thing), reserved_for(id));
                Err(refuse(Reason::IdReserved { what, id, why }))
            }
            Some(id) => Ok(id),
            None if thing == UserOrGroup::User => Ok(find_user(self.context, who, WHAT)?.uid.0),
            None => {
                let group = find_group(self.context, who, WHAT)?;
                Ok(gid_of(self.context, &group, WHAT)?.0)
            }
        }
    }

    /// The numbers of those of this name who were deleted, and that nobody has by now. None
    /// where somebody is called so again: in the files, or by the name services.
    fn deleted(&self, name: &BStr, thing: UserOrGroup) -> Vec<u32> {
        let PlanContext { book, world, .. } = self.context;
        let retired = match thing {
            UserOrGroup::User => &world.retired().users,
            UserOrGroup::Group => &world.retired().groups,
        };
        let again = match thing {
            UserOrGroup::User => {
                book.user(name).is_some() || world.service_knows_user(name) != Ok(false)
            }
            UserOrGroup::Group => {
                book.group(name).is_some() || world.service_knows_group(name) != Ok(false)
            }
        };
        if again {
            return Vec::new();
        }
        let is_free = |id: &u32| match thing {
            UserOrGroup::User => {
                book.user_by_uid(Uid(*id)).is_none()
                    && world.service_user_by_uid(Uid(*id)) == Ok(None)
            }
            UserOrGroup::Group => {
                book.group_by_gid(Gid(*id)).is_none()
                    && world.service_group_by_gid(Gid(*id)) == Ok(None)
            }
        };
        let of_name = retired.iter().filter(|id: &&RetiredId| id.name == name);
        let mut ids: Vec<u32> = of_name.map(|id| id.id).collect();
        ids.sort_unstable();
        ids.dedup();
        ids.retain(is_free);
        ids
    }

    /// Who is behind some numbers, in words.
    fn behind(&self, name: &BStr, numbers: Numbers) -> String {
        let (words, by) = (numbers.in_words(), self.by);
        if read_plain_id(name).is_none() {
            let thing = if by == GivenBy::Group { UserOrGroup::Group } else { UserOrGroup::User };
            let id = numbers.uid.or(numbers.gid).unwrap_or_default();
            return match self.deleted(name, thing).contains(&id) {
                true => format!("{name}, {words}, deleted"),
                false => format!("{name}, {words}"),
            };
        }
        let PlanContext { book, world, .. } = self.context;
        let retired = world.retired();
        let (holder, earlier) = match (numbers.uid, numbers.gid) {
            (Some(uid), _) => (
                book.user_by_uid(Uid(uid)).map(|(_, user)| BStr::new(user.name)),
                retired.user(Uid(uid)),
            ),
            (None, Some(gid)) => (
                book.group_by_gid(Gid(gid)).map(|(_, group)| BStr::new(group.name)),
                retired.group(Gid(gid)),
            ),
            (None, None) => (None, None),
        };
        match (holder, earlier) {
            (Some(name), _) => format!("{words}, {name}"),
            (None, Some(name)) => format!("{words}, retired: it was {name}'s"),
            (None, None) => format!("{words}, which nobody has"),
        }
    }
}

fn word(thing: UserOrGroup) -> &'static str {
    match thing {
        UserOrGroup::User => "uid",
        UserOrGroup::Group => "gid",
    }
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

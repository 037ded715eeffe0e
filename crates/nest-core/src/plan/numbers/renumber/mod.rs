//! Giving many users and groups other numbers at once, with all their files. It is judged by
//! what the files say in the end, so that numbers can be exchanged.
//!
//! - `moves`: which rows there are, and what they come to
//! - `judge`: what stands in their way
//! - `copied`: files that come from another system, with the numbers that are used there

mod copied;
mod judge;
mod moves;
#[cfg(test)]
mod tests;

use bstr::{BStr, BString};
use hashbrown::{HashMap, HashSet};
use rayon::prelude::*;

use self::moves::{Move, Moves};
use crate::book::Lookups;
use crate::change::{Caution, Decision, NumberChange, Plan, Step, Subject, gather_alike};
use crate::context::PlanContext;
use crate::drafting::{NewFields, PlanBuilder};
use crate::order;
use crate::ownership::{IdMapping, Reown};
use crate::plan::numbers::reassign::places;
use crate::policy::Policy;
use crate::refusal::{Reason, Refusal, Result};
use crate::request::{GuardOverrides, Request};
use crate::roster::NumberTable;
use crate::surroundings::Carried;
use crate::suspended::Suspended;
use crate::table::{File, Group, GroupField, Line, PasswdField, Record, SubIdField};
use crate::value::{Gid, Uid, UserOrGroup, bytes_in_words};
use crate::words::counted;

/// Numbers that users and groups are to have.
#[derive(Debug, Default)]
pub struct Renumber {
    /// The rows.
    pub table: NumberTable,
    /// They are what another tree has: names that are not here are passed over.
    pub like: bool,
    /// Names that keep their numbers.
    pub except: Vec<BString>,
    /// Where files are looked for; everywhere when empty.
    pub paths: Vec<BString>,
    /// Only on the file systems of those.
    pub stay: bool,
    /// A group that is a user's own keeps its gid unless a row says otherwise.
    pub keep_gid: bool,
    /// Numbers may be ones that others had and that are retired.
    pub reuse_id: bool,
    /// What was decided about each is wanted; else only the totals.
    pub detailed: bool,
    /// The command in a few words.
    pub summary: String,
    /// Guards waved through.
    pub overrides: GuardOverrides,
}

impl Request for Renumber {
    fn lookups(&self, _: &Policy) -> Lookups {
        let names: Vec<&BString> = self.table.rows.iter().map(|row| &row.name).collect();
        let ids = self.table.rows.iter().map(|row| row.id);
        Lookups::whole().names(&names).with_belongings().ids(ids)
    }

    fn overrides(&self) -> GuardOverrides {
        self.overrides
    }
}

const WHAT: &str = "nothing was renumbered";

/// Plans it: all of it, or nothing.
///
/// # Errors
/// A [`Refusal`] with everything that stands in the way of any row.
pub fn renumber(context: PlanContext<'_>, request: &Renumber) -> Result<Plan> {
    if request.table.rows.iter().any(|row| row.was.is_some()) {
        return copied::renumber_copied(context, request);
    }
    let paths = places(context, &request.paths, WHAT)?;
    let mut moves = Moves::of(context, request);
    let mut builder = PlanBuilder::new(context, request.summary.clone());
    moves.judge(&mut builder);
    let Moves { all, mut faults, unchanged, elsewhere, shared, ways, .. } = moves;
    if !faults.is_empty() {
        order::sort(&mut faults);
        faults.dedup();
        let refusal = Refusal::new(WHAT, Reason::Roster { faults, span_full: 0 });
        return Err(ways
            .iter()
            .fold(refusal, |refusal, (option, label)| refusal.or_again(*label, *option)));
    }
    let [uids, gids] = [UserOrGroup::User, UserOrGroup::Group].map(|thing| {
        let of = all.iter().filter(|one| one.thing == thing && one.old != one.new);
        of.map(|one| (one.old, one.new)).collect::<Vec<_>>()
    });
    // Whose the files of a shared number are can't be told.
    let alone = |thing: UserOrGroup, pairs: &[(u32, u32)]| -> IdMapping {
        let pairs = pairs.iter().filter(|(old, _)| !shared.contains_key(&(thing, *old)));
        pairs.copied().collect::<Vec<_>>().into()
    };
    let reown = Reown {
        paths,
        uids: alone(UserOrGroup::User, &uids),
        gids: alone(UserOrGroup::Group, &gids),
        follows: true,
        of_change: None,
        everywhere: !request.stay,
        hard_links: true,
    };
    let edited = Edited { uids: uids.into(), gids: reown.gids.clone() };
    let regrouped = edited.write(&mut builder, &all);
    carry_notes(context, &mut builder.plan, &all);
    let moved = || all.iter().filter(|one| one.old != one.new);
    let nothing = moved().next().is_none();
    let carried = match nothing {
        true => Carried::default(),
        false => {
            let found = context.world.carriers(&reown);
            let (carried, notes) =
                found.map_err(|why| Refusal::new(WHAT, Reason::NotCounted(why)))?;
            builder.plan.cautions.extend(notes.into_iter().map(Caution::Noted));
            carried
        }
    };
    for ((thing, id), other) in &shared {
        builder.caution(match thing {
            UserOrGroup::User => Caution::FilesShared { uid: Uid(*id), other: (*other).into() },
            UserOrGroup::Group => Caution::GidStays { gid: Gid(*id), other: (*other).into() },
        });
    }
    carried_already(&mut builder.plan, &all, &carried);
    next_sign_ins(context, &mut builder.plan, &all, &regrouped);
    gather_alike(&mut builder.plan.cautions);
    let counts = Counts { unchanged, elsewhere, rows: request.table.rows.len() };
    builder.plan.totals = totals(context, &counts, &all, &reown, &carried);
    builder.plan.numbers = moved().map(|one| number_change(one, &carried)).collect();
    // Of very many nobody wants to know where each stands.
    for one in moved().filter(|_| request.detailed) {
        let mut subject = Subject::new(one.name);
        subject.place = one.row.map(|row| request.table.place(row)).unwrap_or_default();
        let (what, new) = (word(one.thing), one.new.to_string());
        subject.decide(what, new, format!("was {}", one.old));
        builder.tell(subject);
    }
    if !reown.uids.is_empty() || !reown.gids.is_empty() {
        builder.step(Step::Reown(reown));
    }
    let mut plan = builder.finish("check");
    plan.nothing = nothing;
    Ok(plan)
}

/// `uid` or `gid`.
fn word(thing: UserOrGroup) -> &'static str {
    match thing {
        UserOrGroup::User => "uid",
        UserOrGroup::Group => "gid",
    }
}

/// Which numbers become which in the lines.
struct Edited {
    uids: IdMapping,
    /// But for those that another group keeps.
    gids: IdMapping,
}

impl Edited {
    /// Edits the lines. Returns who gets another primary gid.
    fn write<'a>(&self, builder: &mut PlanBuilder<'a>, all: &[Move<'a>]) -> HashSet<&'a BStr> {
        let book = builder.context.book;
        let moved = |thing| all.iter().filter(move |one| one.thing == thing && one.old != one.new);
        let uids = moved(UserOrGroup::User).map(|one| (one.line, PasswdField::Uid, one.new));
        let primary: Vec<(Line<'a>, &'a BStr, u32)> = self
            .gids
            .pairs()
            .par_iter()
            .flat_map_iter(|(old, new)| {
                let users = book.users_by_gid(Gid(*old)).into_iter();
                users.map(|(line, user)| (line, BStr::new(user.name), *new))
            })
            .collect();
        let gids = primary.iter().map(|(line, _, gid)| (*line, PasswdField::Gid, *gid));
        let mut users: Vec<_> = uids.chain(gids).collect();
        users.par_sort_unstable_by_key(|(line, ..)| line.start);
        let of_user = users.par_chunk_by(|(one, ..), (other, ..)| one.start == other.start);
        builder.edits.alter_many(File::Passwd, of_user.map(in_one_line).collect());
        let groups = moved(UserOrGroup::Group).map(|one| (one.line, GroupField::Gid, one.new));
        builder.edits.alter_many(File::Group, groups.map(|one| in_one_line(&[one])).collect());
        // Ranges that name their owner by number go with it.
        let by_number: Vec<(File, Line<'a>, u32)> = self
            .uids
            .pairs()
            .par_iter()
            .flat_map_iter(|&(old, new)| {
                let mut text = itoa::Buffer::new();
                let old = text.format(old).as_bytes();
                let lines = [File::Subuid, File::Subgid].map(|file| (file, book.named(file, old)));
                let all = move |(file, lines): (File, Vec<Line<'a>>)| {
                    lines.into_iter().map(move |line| (file, line, new))
                };
                lines.into_iter().flat_map(all)
            })
            .collect();
        for (file, line, new) in by_number {
            let new = new.to_string();
            builder.set_fields(file, line, &[(SubIdField::Owner, new.as_bytes())]);
        }
        let mut names = HashSet::with_capacity(primary.len());
        names.extend(primary.into_iter().map(|(_, name, _)| name));
        names
    }
}

/// The numbers that fields of one line get, as text.
fn in_one_line<'a, C: Copy>(fields: &[(Line<'a>, C, u32)]) -> (Line<'a>, NewFields<C>) {
    let texts = fields.iter().map(|(_, field, id)| (*field, id.to_string().into_bytes()));
    (fields[0].0, texts.collect())
}

/// What was noted of suspended accounts goes with their numbers.
fn carry_notes(context: PlanContext<'_>, plan: &mut Plan, all: &[Move<'_>]) {
    let notes = context.world.suspended();
    if notes.is_empty() {
        return;
    }
    let users = all.iter().filter(|one| one.thing == UserOrGroup::User && one.old != one.new);
    let moved: HashMap<&BStr, &Move<'_>> = users.map(|one| (one.name, one)).collect();
    for note in notes {
        if let Some(one) = moved.get(BStr::new(&note.name))
            && note.uid.0 == one.old
        {
            plan.steps.push(Step::ForgetSuspended(note.clone()));
            let note = Suspended { uid: Uid(one.new), ..note.clone() };
            plan.steps.push(Step::NoteSuspended(note));
        }
    }
}

/// Files that carry one of the new numbers already are somebody's from then on.
fn carried_already(plan: &mut Plan, all: &[Move<'_>], carried: &Carried) {
    for one in all.iter().filter(|one| one.old != one.new) {
        let there = match one.thing {
            UserOrGroup::User => &carried.uids_there,
            UserOrGroup::Group => &carried.gids_there,
        };
        if let Some(&count) = there.get(&one.new) {
            let (what, id, name) = (word(one.thing), one.new, one.name.into());
            plan.cautions.push(Caution::CarriedAlready { what, id, name, count });
        }
    }
}

/// From when on the numbers of groups count for those who are in them.
fn next_sign_ins(
    context: PlanContext<'_>,
    plan: &mut Plan,
    all: &[Move<'_>],
    regrouped: &HashSet<&BStr>,
) {
    let mut names: HashSet<&BStr> = regrouped.clone();
    names.reserve(all.len());
    for one in all.iter().filter(|one| one.old != one.new) {
        match one.thing {
            UserOrGroup::User => _ = names.insert(one.name),
            UserOrGroup::Group => {
                let group = Group::read(one.line.record());
                let members = group.iter().flat_map(Group::members);
                names.extend(
                    members.filter(|name| context.book.user(name).is_some()).map(BStr::new),
                );
            }
        }
    }
    match names.len() {
        0 => {}
        1 => plan
            .cautions
            .extend(names.iter().next().map(|name| Caution::NextSignIn { name: (*name).into() })),
        count => plan.cautions.push(Caution::NextSignIns { count }),
    }
}

fn number_change(one: &Move<'_>, carried: &Carried) -> NumberChange {
    let counts = match one.thing {
        UserOrGroup::User => &carried.uids,
        UserOrGroup::Group => &carried.gids,
    };
    let files = counts.get(&one.old).copied().unwrap_or(0);
    NumberChange { of: one.thing, name: one.name.into(), old: one.old, new: one.new, files }
}

/// How many rows came to what.
struct Counts {
    unchanged: usize,
    elsewhere: usize,
    rows: usize,
}

fn totals(
    context: PlanContext<'_>,
    counts: &Counts,
    all: &[Move<'_>],
    reown: &Reown,
    carried: &Carried,
) -> Vec<Decision> {
    let mut totals = Vec::new();
    let mut say = |label: &'static str, value: String, why: String| {
        totals.push(Decision::new(label, value, why));
    };
    let of = |thing| all.iter().filter(|one| one.thing == thing && one.old != one.new).count();
    let rows = counted(counts.rows, "row", "rows");
    let mut parts = vec![format!("of {rows}")];
    if counts.unchanged > 0 {
        let have = if counts.unchanged == 1 { "has its number" } else { "have their numbers" };
        parts.push(format!("{} {have} already", counts.unchanged));
    }
    if counts.elsewhere > 0 {
        parts.push(format!("{} not here", counts.elsewhere));
    }
    let along = all.iter().filter(|one| one.along).count();
    let users = of(UserOrGroup::User);
    say("users", users.to_string(), parts.join(", "));
    let why = match along {
        0 => String::new(),
        1 => "1 of them as a user's own".to_owned(),
        along => format!("{along} of them as users' own"),
    };
    say("groups", of(UserOrGroup::Group).to_string(), why);
    let paths: Vec<String> = reown.paths.iter().map(ToString::to_string).collect();
    let places = match reown.everywhere {
        true => "on every local file system there",
        false => "on the file systems of those alone",
    };
    say("below", paths.join(", "), places.to_owned());
    let (files, size) = (counted(carried.files, "file", "files"), bytes_in_words(carried.bytes));
    let others = counted(carried.others, "file of others stays", "files of others stay");
    say("files", format!("{files}, {size}"), others);
    if carried.listed > 0 {
        let value = counted(carried.listed, "file", "files");
        say("lists", value, "access control lists that name them".to_owned());
    }
    if carried.set_id > 0 {
        let value = counted(carried.set_id, "file", "files");
        say("set-id", value, "keep their set-id bits".to_owned());
    }
    let ranged = with_ranges(context, all);
    if ranged > 0 {
        let value = counted(ranged, "user keeps them", "users keep them");
        say("ranges", value, "and files in containers their numbers".to_owned());
    }
    totals
}

/// How many of the users that get other numbers have subordinate ids.
fn with_ranges(context: PlanContext<'_>, all: &[Move<'_>]) -> usize {
    let users = all.par_iter().filter(|one| one.thing == UserOrGroup::User && one.old != one.new);
    let has = |one: &&Move<'_>| {
        let is_named = |file, owner: &[u8]| !context.book.named(file, owner).is_empty();
        let number = one.old.to_string();
        let files = [File::Subuid, File::Subgid];
        files.into_iter().any(|file| is_named(file, one.name))
            || files.into_iter().any(|file| is_named(file, number.as_bytes()))
    };
    users.filter(has).count()
}

//! Which rows there are, and which number becomes which by each.

use std::collections::BTreeMap;

use bstr::{BStr, BString};
use hashbrown::hash_map::Entry;
use hashbrown::{HashMap, HashSet};
use rayon::prelude::*;

use super::Renumber;
use crate::context::PlanContext;
use crate::drafting::{find_group, find_user, gid_of};
use crate::refusal::Refusal;
use crate::roster::{Fault, NumberRow, Wrong};
use crate::table::{File, Line};
use crate::value::{Gid, UserOrGroup};

/// A user or a group, and the number that it gets.
pub(super) struct Move<'a> {
    pub thing: UserOrGroup,
    pub name: &'a BStr,
    pub line: Line<'a>,
    pub old: u32,
    /// The one that it has already, where a row says so.
    pub new: u32,
    /// The row that says so; that of its user for a group that goes along.
    pub row: Option<&'a NumberRow>,
    /// A group that goes along with its user.
    pub along: bool,
}

/// What a row is about.
enum Found<'a> {
    /// A user or a group: its name, its line and its number.
    There(&'a [u8], Line<'a>, u32),
    /// Nothing has that name.
    Nowhere,
    /// One whose lines can't be edited.
    Wrong(Box<Refusal>),
}

fn find<'a>(context: PlanContext<'a>, row: &NumberRow) -> Found<'a> {
    let name = BStr::new(&row.name);
    let file = match row.thing {
        UserOrGroup::User => File::Passwd,
        UserOrGroup::Group => File::Group,
    };
    if context.book.named(file, name).is_empty() {
        return Found::Nowhere;
    }
    let found = match row.thing {
        UserOrGroup::User => {
            find_user(context, name, "").map(|found| (found.user.name, found.line, found.uid.0))
        }
        UserOrGroup::Group => find_group(context, name, "").and_then(|group| {
            let gid = gid_of(context, &group, "")?;
            let line = context.book.group(group.name).map(|(line, _)| line);
            Ok((group.name, line.expect("BUG: a group was found without its line"), gid.0))
        }),
    };
    match found {
        Ok((name, line, id)) => Found::There(name, line, id),
        Err(refusal) => Found::Wrong(refusal),
    }
}

/// What is said of a name that nothing has, with the nearest there is.
fn what_is_wrong(context: PlanContext<'_>, row: &NumberRow) -> Option<Box<Refusal>> {
    let name = BStr::new(&row.name);
    match row.thing {
        UserOrGroup::User => find_user(context, name, "").err(),
        UserOrGroup::Group => find_group(context, name, "").err(),
    }
}

/// What the rows of a table come to.
pub(super) struct Moves<'a> {
    pub context: PlanContext<'a>,
    pub request: &'a Renumber,
    pub all: Vec<Move<'a>>,
    pub faults: Vec<Fault>,
    /// Rows that say what is so already.
    pub unchanged: usize,
    /// Rows of names that are not here.
    pub elsewhere: usize,
    /// Options that would do away with some of the faults, and what they mean.
    pub ways: BTreeMap<&'static str, &'static str>,
    /// Numbers that somebody keeps who is in no row: who.
    pub shared: BTreeMap<(UserOrGroup, u32), &'a [u8]>,
}

/// So many names are searched for something near that are not there.
const MOST_NEAREST: usize = 8;

impl<'a> Moves<'a> {
    pub fn of(context: PlanContext<'a>, request: &'a Renumber) -> Self {
        let mut moves = Moves {
            context,
            request,
            all: Vec::new(),
            faults: request.table.faults.clone(),
            unchanged: 0,
            elsewhere: 0,
            ways: BTreeMap::new(),
            shared: BTreeMap::new(),
        };
        moves.read_rows();
        moves.take_groups_along();
        moves
    }

    fn read_rows(&mut self) {
        let except: HashSet<&BString> = self.request.except.iter().collect();
        let mut seen: HashMap<(UserOrGroup, &BString), &NumberRow> = HashMap::new();
        let mut rows: Vec<&'a NumberRow> = Vec::new();
        for row in &self.request.table.rows {
            if except.contains(&row.name) {
                continue;
            }
            match seen.entry((row.thing, &row.name)) {
                Entry::Vacant(entry) => {
                    entry.insert(row);
                    rows.push(row);
                }
                // Of a tree the first line counts, as everywhere.
                Entry::Occupied(_) if self.request.like => {}
                Entry::Occupied(first) => {
                    let place = self.request.table.place(first.get());
                    let message = format!("{} {} is in {place} already", row.thing, row.name);
                    self.fault_of_name(row, Wrong::new(message, "one row for each name"));
                }
            }
        }
        let context = self.context;
        // What is looked up at once is looked up before several ask for it.
        context.book.is_nowhere(b"");
        let found: Vec<Found<'a>> = rows.par_iter().map(|row| find(context, row)).collect();
        let mut missing = 0;
        for (row, found) in rows.into_iter().zip(found) {
            match found {
                Found::Nowhere if self.request.like => self.elsewhere += 1,
                Found::Nowhere => {
                    missing += 1;
                    let message = match what_is_wrong(context, row) {
                        Some(refusal) if missing <= MOST_NEAREST => refusal.reason.to_string(),
                        _ => format!("there is no {} {}", row.thing, row.name),
                    };
                    self.fault_of_name(row, Wrong::new(message, ""));
                }
                Found::Wrong(refusal) => {
                    self.fault_of_name(row, Wrong::new(refusal.reason.to_string(), ""));
                }
                Found::There(name, line, old) => {
                    self.unchanged += usize::from(old == row.id);
                    self.all.push(Move {
                        thing: row.thing,
                        name: BStr::new(name),
                        line,
                        old,
                        new: row.id,
                        row: Some(row),
                        along: false,
                    });
                }
            }
        }
    }

    /// A group that is a user's own, and had the same number, goes along with it unless a row
    /// says otherwise.
    fn take_groups_along(&mut self) {
        let book = self.context.book;
        let in_table: HashMap<&BStr, u32> = self
            .all
            .iter()
            .filter(|one| one.thing == UserOrGroup::Group)
            .map(|one| (one.name, one.new))
            .collect();
        let is_own = |user: &Move<'a>| {
            let group = book.group(user.name).map(|(_, group)| group);
            let group = group.filter(|group| {
                group.gid() == Some(Gid(user.old)) && group.members().all(|name| user.name == name)
            });
            let others = || book.users_by_gid(Gid(user.old)).into_iter();
            group.is_some() && others().all(|(_, other)| user.name == other.name)
        };
        let mut along = Vec::new();
        let users = self.all.par_iter().filter(|one| one.thing == UserOrGroup::User);
        let own: Vec<&Move<'a>> = match self.request.keep_gid {
            true => Vec::new(),
            false => users.filter(|user| is_own(user)).collect(),
        };
        for user in own {
            let Some((line, _)) = book.group(user.name) else { continue };
            match in_table.get(user.name) {
                Some(gid) if *gid != user.new => {
                    let message = format!(
                        "{}'s own group gets gid {gid}, and the user uid {}",
                        user.name, user.new
                    );
                    self.ways.insert("--keep-gid", "let users and groups of their own part");
                    let wrong = Wrong::new(message, "the same number for both");
                    self.faults
                        .extend(user.row.map(|row| self.request.table.fault_of_id(row, wrong)));
                }
                Some(_) => {}
                None if user.old == user.new
                    || self.request.except.contains(&user.name.to_owned()) => {}
                None => along.push(Move {
                    thing: UserOrGroup::Group,
                    along: true,
                    line,
                    ..Move { ..user.copied() }
                }),
            }
        }
        self.all.extend(along);
    }

    pub fn fault_of_name(&mut self, row: &NumberRow, wrong: Wrong) {
        self.faults.push(self.request.table.fault_of_name(row, wrong));
    }

    /// Whether something is wrong already with the number of a row.
    pub fn is_at_fault(&self, row: Option<&NumberRow>) -> bool {
        if self.faults.is_empty() {
            return false;
        }
        let place = row.map(|row| self.request.table.fault_of_id(row, Wrong::new("", "")));
        place.is_some_and(|place| {
            let same = |fault: &Fault| (fault.line, fault.at) == (place.line, place.at);
            self.faults.iter().any(|fault| same(fault) && fault.file == place.file)
        })
    }

    pub fn fault_of_id(&mut self, row: Option<&NumberRow>, wrong: Wrong) {
        self.faults.extend(row.map(|row| self.request.table.fault_of_id(row, wrong)));
    }
}

impl<'a> Move<'a> {
    fn copied(&self) -> Move<'a> {
        Move { ..*self }
    }
}

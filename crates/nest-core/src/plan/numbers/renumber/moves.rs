//! Which rows there are, and which number becomes which by each.

use std::collections::{BTreeMap, HashMap, HashSet};

use bstr::{BStr, BString};

use super::Renumber;
use crate::context::PlanContext;
use crate::drafting::{find_group, find_user, gid_of};
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
        let mut missing = 0;
        for row in &self.request.table.rows {
            if except.contains(&row.name) {
                continue;
            }
            if let Some(first) = seen.insert((row.thing, &row.name), row) {
                // Of a tree the first line counts, as everywhere.
                if self.request.like {
                    seen.insert((row.thing, &row.name), first);
                    continue;
                }
                let place = self.request.table.place(first);
                let message = format!("{} {} is in {place} already", row.thing, row.name);
                self.fault_of_name(row, Wrong::new(message, "one row for each name"));
                continue;
            }
            let file = match row.thing {
                UserOrGroup::User => File::Passwd,
                UserOrGroup::Group => File::Group,
            };
            if self.context.book.named(file, &row.name).is_empty() {
                if self.request.like {
                    self.elsewhere += 1;
                    continue;
                }
                missing += 1;
                if missing > MOST_NEAREST {
                    let message = format!("there is no {} {}", row.thing, row.name);
                    self.fault_of_name(row, Wrong::new(message, ""));
                    continue;
                }
            }
            self.read_row(row);
        }
    }

    fn read_row(&mut self, row: &'a NumberRow) {
        let (context, name) = (self.context, BStr::new(&row.name));
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
            Err(refusal) => {
                self.fault_of_name(row, Wrong::new(refusal.reason.to_string(), ""));
            }
            Ok((name, line, old)) => {
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
        let mut own: HashMap<u32, &BStr> = HashMap::new();
        for user in self.all.iter().filter(|one| one.thing == UserOrGroup::User) {
            if let Some((_, group)) = book.group(user.name)
                && group.gid() == Some(Gid(user.old))
                && group.members().all(|member| user.name == member)
            {
                own.insert(user.old, user.name);
            }
        }
        // Whose primary group it is too keeps it from being anybody's own.
        let users = (!own.is_empty()).then(|| book.users.records());
        for (_, user) in users.into_iter().flatten() {
            let gid = user.gid().map_or(u32::MAX, |gid| gid.0);
            if own.get(&gid).is_some_and(|name| *name != user.name) {
                own.remove(&gid);
            }
        }
        let mut along = Vec::new();
        for user in self.all.iter().filter(|one| one.thing == UserOrGroup::User) {
            if own.get(&user.old) != Some(&user.name) || self.request.keep_gid {
                continue;
            }
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

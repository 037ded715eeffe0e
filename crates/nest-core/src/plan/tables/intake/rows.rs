//! Rows against one another: what all of them name, and what two of them ask for.

use std::hash::BuildHasher;
use std::sync::Arc;

use bstr::{BStr, BString, ByteSlice};
use hashbrown::hash_table::Entry;
use hashbrown::{DefaultHashBuilder, HashMap, HashTable};

use crate::book::LookupSet;
use crate::order;
use crate::plan::tables::intake::{Intake, IntakePlanner, OthersBecome, RowNames, check_row};
use crate::refusal::{Reason, Refusal};
use crate::roster::{Column, RosterRow, RowBuffer, RowRequest, Wrong};
use crate::value::path_fault;

/// Rows by their names: of each the first.
#[derive(Default)]
pub(crate) struct Rows {
    rows: HashTable<u32>,
    hashes: DefaultHashBuilder,
}

impl Rows {
    fn with_room(rows: usize) -> Self {
        Rows { rows: HashTable::with_capacity(rows), ..Rows::default() }
    }

    /// The first row of a name.
    pub fn get(&self, names: &RowNames<'_>, name: &BStr) -> Option<usize> {
        let is_it = |at: &u32| names[*at as usize].as_deref() == Some(name);
        self.rows.find(self.hashes.hash_one(Some(name)), is_it).map(|at| *at as usize)
    }

    /// Adds a row of this name, unless there is one: then that is returned.
    fn insert(&mut self, names: &RowNames<'_>, name: &BStr, row: usize) -> Option<usize> {
        let hash = |at: &u32| self.hashes.hash_one(names[*at as usize].as_deref());
        let is_it = |at: &u32| names[*at as usize].as_deref() == Some(name);
        match self.rows.entry(self.hashes.hash_one(Some(name)), is_it, hash) {
            Entry::Occupied(first) => Some(*first.get() as usize),
            Entry::Vacant(place) => {
                place.insert(row as u32);
                None
            }
        }
    }
}

impl IntakePlanner<'_, '_> {
    /// Goes through the files once for everything the rows name.
    pub(crate) fn look_up_batch(&self) {
        let Intake { roster, .. } = self.request;
        // So are those whom no row names, if something becomes of them.
        let others = self.request.others.as_ref();
        let others = others.filter(|others| others.what != OthersBecome::Told);
        // Who is not to be found is told when it comes to that.
        let others = others.and_then(|others| self.meant(&others.among, "").ok());
        let others = others.unwrap_or_default();
        // Only a pass over each file; for a few rows, searching is quicker.
        if roster.rows.len() + others.len() < 8 {
            return;
        }
        let policy = self.context.policy;
        // Of a file that holds less than the rows everything is kept.
        let small = self.context.book.users.lines().file_length() < 64 * roster.rows.len();
        let mut wanted = if small { LookupSet::all_names() } else { LookupSet::default() };
        let words = policy.people_groups.iter().chain(&policy.admins_groups);
        let words = words.chain([&policy.people_primary]).map(|word| word.as_bytes());
        words.chain([&b"mail"[..]]).for_each(|word| wanted.seek_name(word));
        self.names.iter().flatten().for_each(|name| wanted.seek_name(name));
        others.iter().for_each(|name| wanted.seek_name(name));
        let sought_for = |row: &&RosterRow| !small || row.gives_id();
        let mut buffer = RowBuffer::default();
        for (row, name) in roster.rows.iter().zip(&*self.names).filter(|(row, _)| sought_for(row)) {
            let user = self.request.user_on(row, &mut buffer);
            match (&row.what, user) {
                (_, Some(user)) => {
                    user.primary.iter().for_each(|primary| wanted.seek_name(primary));
                    wanted.ids.extend(user.uid.map(u32::from));
                    match (&user.home, name) {
                        (Some(home), _) => wanted.seek_home(home.trim_end_with(|c| c == '/')),
                        (None, Some(name)) => wanted.seek_home(&policy.home_of(name)),
                        (None, None) => {}
                    }
                    user.join.iter().for_each(|group| wanted.seek_name(group));
                }
                (RowRequest::User(_), None) => {}
                (RowRequest::Group(group), _) => {
                    group.admins.iter().for_each(|admin| wanted.seek_name(admin));
                    wanted.ids.extend(group.gid.map(u32::from));
                    group.members.iter().for_each(|member| wanted.seek_name(member));
                }
            }
        }
        self.context.book.look_up_batch(wanted);
    }

    /// Numbers that rows ask for are not given to others.
    pub(crate) fn set_numbers_aside(&mut self) {
        let (mut uids, mut gids) = (HashMap::new(), HashMap::new());
        let request = self.request;
        let rows = || request.roster.rows.iter().enumerate();
        for (at, row) in rows().filter(|(_, row)| row.gives_id()) {
            let (taken, id, column) = match &row.what {
                RowRequest::User(_) => {
                    let uid = request.user(row).and_then(|user| user.uid);
                    (&mut uids, uid.map(u32::from), Column::Uid)
                }
                RowRequest::Group(group) => (&mut gids, group.gid.map(u32::from), Column::Gid),
            };
            let Some(id) = id else { continue };
            self.batch.builder.allotter.set_aside(id);
            let shares = match &row.what {
                RowRequest::User(_) => request.user(row).is_some_and(|user| user.share_id),
                RowRequest::Group(group) => group.share_id,
            };
            if let Some(other) = taken.insert(id, at).filter(|_| !shares) {
                let other = &request.roster.rows[other];
                let line = request.roster.line(other);
                let of =
                    request.roster.name(other).map(|name| format!(", {name}")).unwrap_or_default();
                let message = format!("{column} {id} is asked for on line {line} already{of}");
                let instead = "another number, or none to have the next free one";
                self.fault(row, column, Wrong::new(message, instead));
            }
        }
        for (at, row) in rows().filter(|(_, row)| row.given.contains(Column::Ranges)) {
            let Some(user) = request.user(row) else { continue };
            if user.spans.is_empty() {
                continue;
            }
            let name = self.names[at].as_ref();
            let exists = name.is_some_and(|name| self.context.book.user(name).is_some());
            for span in user.spans.iter().filter(|_| !exists) {
                match self.batch.builder.allotter.take_range(*span) {
                    Ok(true) => {}
                    Ok(false) => {
                        self.refused(row, &Refusal::new("", Reason::RangeTaken { span: *span }));
                    }
                    Err(why) => self.refused(row, &Refusal::new("", Reason::ServiceFailed(why))),
                }
            }
        }
    }

    /// Names that stand in two rows.
    pub(crate) fn find_doubles(&mut self) {
        let (request, names) = (self.request, Arc::clone(&self.names));
        let mut groups = Rows::default();
        self.rows = Rows::with_room(names.len());
        for (at, row) in request.roster.rows.iter().enumerate() {
            let Some(name) = &names[at] else { continue };
            let seen = match row.what {
                RowRequest::User(_) => &mut self.rows,
                RowRequest::Group(_) => &mut groups,
            };
            let Some(first) = seen.insert(&names, name, at) else { continue };
            let line = request.roster.line(&request.roster.rows[first]);
            let message = format!("{name} stands on line {line} already");
            self.doubles.insert(at);
            self.fault(row, Column::Name, Wrong::new(message, "one row for each"));
        }
    }

    /// What else is wrong with rows whose name stands in one above: with their values, and
    /// with the groups that they name.
    pub(crate) fn look_at_doubles(&mut self) {
        let mut doubles: Vec<usize> = self.doubles.iter().copied().collect();
        order::sort(&mut doubles);
        for at in doubles {
            let row = &self.request.roster.rows[at];
            let Some(user) = self.request.user(row) else { continue };
            let (mut reasons, _) = check_row(self.context, &user, BStr::new(""));
            for (what, path) in [("shell", &user.shell), ("home", &user.home)] {
                let fault = path.as_ref().and_then(|path| Some((path, path_fault(path)?)));
                reasons.extend(fault.map(|(path, fault)| Reason::BadPath {
                    what,
                    path: path.clone(),
                    fault,
                }));
            }
            for reason in reasons {
                self.refused(row, &Refusal::new("", reason));
            }
            let own = self.names[at].as_deref().map(ToOwned::to_owned);
            let groups = user.primary.iter().chain(&user.join);
            for group in groups.filter(|group| Some(&***group) != own.as_ref()) {
                if let Err(refusal) = self.batch.find_group(group.as_ref(), "") {
                    self.refused(row, &refusal);
                }
            }
        }
    }

    /// Homes that two rows ask for; of those that the policy gives each is another's.
    pub(crate) fn find_shared_homes(&mut self) {
        let (request, policy) = (self.request, self.context.policy);
        let rows = &request.roster.rows;
        let asks = |row: &RosterRow| row.given.contains(Column::Home);
        // Where no homes are made several may be in one place, as services are.
        if request.no_home || !rows.iter().any(asks) {
            return;
        }
        let mut seen: HashMap<BString, usize> = HashMap::new();
        for (at, row) in rows.iter().enumerate() {
            let (Some(user), Some(name)) = (request.user(row), &self.names[at]) else { continue };
            let made = !user.service && (user.record_home || !user.no_home);
            let home = match &user.home {
                Some(home) => home.trim_end_with(|c| c == '/').into(),
                None if made => BString::from(policy.home_of(name)),
                None => continue,
            };
            if self.rows.get(&self.names, name) != Some(at) {
                continue;
            }
            if let Some(first) = seen.get(&home) {
                let line = request.roster.line(&rows[*first]);
                let message = format!("the home {home} is line {line}'s already");
                self.fault(row, Column::Home, Wrong::new(message, "another path"));
            } else {
                seen.insert(home, at);
            }
        }
    }
}

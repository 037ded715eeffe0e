//! The names of rows: given, found by the full name, or made from it.

use std::borrow::Cow;
use std::sync::Arc;

use bstr::BString;
use hashbrown::{HashMap, HashSet};

use crate::allot::propose_login;
use crate::plan::tables::intake::{Existing, IntakePlanner, RowNames};
use crate::roster::{Column, Wrong};

impl IntakePlanner<'_, '_> {
    /// Names every row. Names that are given come first: none that is made may be
    /// one of them.
    pub(crate) fn name_rows(&mut self) {
        let rows = &self.request.roster.rows;
        let given = rows.iter().map(|row| self.request.roster.name(row));
        let mut names: RowNames<'_> = given.map(|name| name.map(Cow::Borrowed)).collect();
        if !names.iter().all(Option::is_some) {
            self.make_names(&mut names);
        }
        self.names = Arc::new(names);
    }

    fn make_names(&mut self, names: &mut RowNames<'_>) {
        let rows = &self.request.roster.rows;
        let book = self.context.book;
        let named = names.iter().flatten();
        let mut taken: HashSet<BString> = named.map(|name| name.clone().into_owned()).collect();
        let known = self.known_people(names);
        for (at, row) in rows.iter().enumerate() {
            let Some(user) = self.request.user(row) else { continue };
            let (None, Some(full_name)) = (&names[at], &user.full_name) else { continue };
            match known.get(full_name).map(Vec::as_slice) {
                Some([one, ..]) if self.request.existing == Existing::Refuse => {
                    let message = format!("{one} is called {full_name} already");
                    let instead =
                        "a name, if this is somebody else; --existing keep or update, if not";
                    self.fault(row, Column::FullName, Wrong::new(message, instead));
                    continue;
                }
                Some([one]) if !taken.contains(one) => {
                    taken.insert(one.clone());
                    names[at] = Some(Cow::Owned(one.clone()));
                    continue;
                }
                Some([_, _, ..]) => {
                    let message = format!("several accounts are called {full_name}");
                    self.fault(row, Column::FullName, Wrong::new(message, "a name as well"));
                    continue;
                }
                _ => {}
            }
            let world = self.context.world;
            let free = |name: &BString| {
                !taken.contains(name)
                    && book.user(name).is_none()
                    && book.group(name).is_none()
                    && !world.service_knows_user(name.as_ref()).unwrap_or(false)
            };
            match propose_login(self.context.policy, full_name.as_ref(), free) {
                Ok(proposed) => {
                    let name = proposed.names[0].clone();
                    taken.insert(name.clone());
                    names[at] = Some(Cow::Owned(name));
                }
                Err(fault) => {
                    self.fault(
                        row,
                        Column::FullName,
                        Wrong::new(fault.to_string(), "a name as well"),
                    );
                }
            }
        }
    }

    /// Who has which full name: a row without a name is about the one account of its full name,
    /// where rows may be about accounts that exist.
    fn known_people(&self, names: &RowNames<'_>) -> HashMap<BString, Vec<BString>> {
        let mut known: HashMap<BString, Vec<BString>> = HashMap::new();
        let rows = self.request.roster.rows.iter().zip(names);
        let nameless = rows.filter(|(_, name)| name.is_none());
        let wanted: HashSet<BString> =
            nameless.filter_map(|(row, _)| self.request.user(row)?.full_name.clone()).collect();
        for (_, user) in self.context.book.users.records() {
            if let Some(full_name) = wanted.get(&BString::from(user.full_name())) {
                known.entry(full_name.clone()).or_default().push(user.name.into());
            }
        }
        known
    }
}

//! The lists of members and administrators that accounts come back to.

use bstr::{BString, ByteSlice};

use crate::context::PlanContext;
use crate::drafting::Draft;
use crate::retired::{KeptPlace, with_member_back};
use crate::table::{Edit, File, with_fields};
use crate::value::replace_member;

/// The lists that several accounts come back to.
#[derive(Default)]
pub(crate) struct ListsBack {
    places: Vec<(KeptPlace, BString, BString)>,
}

impl ListsBack {
    pub(crate) fn add(&mut self, place: &KeptPlace, old: &BString, new: &BString) {
        self.places.push((place.clone(), old.clone(), new.clone()));
    }

    /// The edits that put everybody back to their places.
    pub(crate) fn edits(&self, context: PlanContext<'_>) -> Vec<Edit> {
        let mut draft = Draft::new(context.book);
        for (place, old, new) in &self.places {
            let line = match place.file {
                File::Group => context.book.group(&place.group).map(|(line, _)| line),
                _ => context.book.gshadow(&place.group).map(|(line, _)| line),
            };
            let Some(line) = line else { continue };
            let at = if place.admins { 2 } else { 3 };
            let current = draft.current(place.file, line);
            let now = current.split_str(":").nth(at).unwrap_or_default().to_vec();
            let list = match old == new {
                true => with_member_back(&now, &place.list, old),
                false => {
                    let list = replace_member(&place.list, old, new);
                    with_member_back(&now, &list.unwrap_or_default(), new)
                }
            };
            if let Some(list) = list {
                draft.alter(place.file, line, with_fields(&current, &[(at, &list)]));
            }
        }
        draft.finish()
    }
}

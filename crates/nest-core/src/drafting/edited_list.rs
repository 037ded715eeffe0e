//! One list of members or administrators while it is edited, name by name.

use bstr::BString;
use hashbrown::HashMap;

use crate::value::members;

/// A list of a line of the book, and what has become of it. Ten thousand names may join or
/// leave one after the other: from the second on they are looked up by an index.
pub(super) struct EditedList<'a> {
    original: &'a [u8],
    entries: Vec<&'a [u8]>,
    /// Which of the entries left.
    gone: Vec<bool>,
    /// Names that joined, in order; those that left again are empty.
    joined: Vec<BString>,
    /// Where each name stands: among the entries, then among those that joined.
    places: Option<HashMap<BString, Vec<usize>>>,
    edits: usize,
}

impl<'a> EditedList<'a> {
    /// The list as it is written.
    pub fn new(original: &'a [u8]) -> Self {
        let entries: Vec<&[u8]> = members(original).collect();
        let gone = vec![false; entries.len()];
        EditedList { original, entries, gone, joined: Vec::new(), places: None, edits: 0 }
    }

    /// Where a name stands by now.
    fn places_of(&mut self, name: &[u8]) -> Vec<usize> {
        self.edits += 1;
        let all = || self.entries.iter().copied().chain(self.joined.iter().map(|name| &name[..]));
        if self.edits > 1 && self.places.is_none() {
            let mut places: HashMap<BString, Vec<usize>> = HashMap::new();
            for (at, name) in all().enumerate() {
                places.entry_ref(bstr::BStr::new(name)).or_default().push(at);
            }
            self.places = Some(places);
        }
        let places = match &self.places {
            Some(places) => places.get(bstr::BStr::new(name)).cloned().unwrap_or_default(),
            None => {
                all().enumerate().filter(|(_, other)| *other == name).map(|(at, _)| at).collect()
            }
        };
        places.into_iter().filter(|at| !self.gone.get(*at).copied().unwrap_or(false)).collect()
    }

    /// Adds a name at the end. Returns whether the list lacked it.
    pub fn join(&mut self, name: &[u8]) -> bool {
        if !self.places_of(name).is_empty() {
            return false;
        }
        let at = self.entries.len() + self.joined.len();
        self.joined.push(name.into());
        self.gone.resize(at, false);
        self.gone.push(false);
        if let Some(places) = &mut self.places {
            places.entry_ref(bstr::BStr::new(name)).or_default().push(at);
        }
        true
    }

    /// Takes a name out, however often it stands there. Returns whether it did.
    pub fn leave(&mut self, name: &[u8]) -> bool {
        let places = self.places_of(name);
        places.iter().for_each(|at| self.gone[*at] = true);
        !places.is_empty()
    }

    /// Whether the list as it was held empty entries or spaces, which no edited list has.
    pub fn was_ragged(&self) -> bool {
        let tidy = self.entries.iter().map(|name| name.trim_ascii_end());
        bstr::join(",", tidy) != self.original
    }

    /// The list as it is by now.
    pub fn text(&self) -> Vec<u8> {
        let entries = self.entries.iter().map(|name| name.trim_ascii_end());
        let all = entries.chain(self.joined.iter().map(|name| &name[..]));
        let left = all.zip(&self.gone).filter(|(_, gone)| !**gone).map(|(name, _)| name);
        bstr::join(",", left)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::value::{with_member, without_member};

    proptest! {
        /// However many names come and go, each is as if it were the only one.
        #[test]
        fn edits_are_those_of_single_names(
            entries in proptest::collection::vec("[ab]| [ab]|", 0..6),
            names in proptest::collection::vec(("[abc]", any::<bool>()), 0..8),
        ) {
            let list = entries.join(",");
            let mut edited = EditedList::new(list.as_bytes());
            let mut plain = list.as_bytes().to_vec();
            let mut any = false;
            for (name, joins) in &names {
                let name = name.as_bytes();
                let after = match joins {
                    true => with_member(&plain, name),
                    false => without_member(&plain, name),
                };
                let altered = if *joins { edited.join(name) } else { edited.leave(name) };
                prop_assert_eq!(altered, after.is_some());
                any |= altered;
                if let Some((list, _)) = after {
                    plain = list;
                }
            }
            if any {
                prop_assert_eq!(edited.text(), plain);
            }
        }
    }

    #[test]
    fn a_ragged_list_is_told() {
        assert!(EditedList::new(b"a,, b,").was_ragged() && EditedList::new(b"a ,b").was_ragged());
        assert!(!EditedList::new(b"a,b").was_ragged() && !EditedList::new(b"").was_ragged());
    }
}

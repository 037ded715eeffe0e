//! The groups that a plan makes, by name.

use std::hash::BuildHasher;

use bstr::{BStr, BString};
use hashbrown::{DefaultHashBuilder, HashTable};

use crate::value::Gid;

/// The names and gids of groups in the making. Of very many the names stand in one
/// text: each by itself would take an allocation, and several times the room.
#[derive(Default)]
pub(crate) struct Made {
    names: BString,
    /// Where each name ends in the text, and its gid.
    groups: Vec<(usize, u32)>,
    by_name: HashTable<u32>,
    hashes: DefaultHashBuilder,
}

impl Made {
    /// Makes room for so many more.
    pub fn reserve(&mut self, groups: usize) {
        self.groups.reserve(groups);
        let hash =
            |at: &u32| self.hashes.hash_one(name_of(&self.names, &self.groups, *at as usize));
        self.by_name.reserve(groups, hash);
    }

    /// The gid of a group in the making.
    pub fn get(&self, name: &BStr) -> Option<u32> {
        let is_it = |at: &u32| self.name(*at as usize) == name;
        let found = self.by_name.find(self.hashes.hash_one(name), is_it);
        found.map(|at| self.groups[*at as usize].1)
    }

    /// Adds a group whose name none of them has.
    pub fn insert(&mut self, name: &BStr, gid: Gid) {
        let at = self.groups.len() as u32;
        self.names.extend_from_slice(name);
        self.groups.push((self.names.len(), gid.0));
        let hash =
            |at: &u32| self.hashes.hash_one(name_of(&self.names, &self.groups, *at as usize));
        self.by_name.insert_unique(self.hashes.hash_one(name), at, hash);
    }

    fn name(&self, at: usize) -> &BStr {
        name_of(&self.names, &self.groups, at)
    }
}

fn name_of<'m>(names: &'m BString, groups: &[(usize, u32)], at: usize) -> &'m BStr {
    let start = at.checked_sub(1).map_or(0, |before| groups[before].0);
    names[start..groups[at].0].into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_group_is_found_by_its_name() {
        let mut made = Made::default();
        let name = |at: u32| BString::from(format!("crew{at}"));
        for at in 0..900 {
            made.insert(name(at).as_ref(), Gid(at));
        }
        for at in 0..900 {
            assert_eq!(made.get(name(at).as_ref()), Some(at));
        }
        for absent in ["", "crew", "crew900", "rew1"] {
            assert_eq!(made.get(absent.into()), None, "{absent}");
        }
    }
}

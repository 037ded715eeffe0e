//! Whose files are, who may do what with them, and giving them to somebody else.

use serde::{Deserialize, Serialize};

use crate::order;
use crate::value::{Gid, TreePath, Uid};
use crate::words::counted;

/// An owner and a group, as numbers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Owner {
    /// The uid.
    pub uid: Uid,
    /// The gid.
    pub gid: Gid,
}

/// Whose a file is, and who may do what with it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Access {
    /// The owner and the group.
    #[serde(flatten)]
    pub owner: Owner,
    /// The permission bits.
    pub mode: u32,
}

/// Numbers that become others: each with the one it becomes, in the order of the first. No two
/// become the same.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(from = "Vec<(u32, u32)>", into = "Vec<(u32, u32)>")]
pub struct IdMapping(Vec<(u32, u32)>);

impl From<Vec<(u32, u32)>> for IdMapping {
    fn from(mut pairs: Vec<(u32, u32)>) -> Self {
        pairs.retain(|(from, to)| from != to);
        order::sort(&mut pairs);
        pairs.dedup_by_key(|(from, _)| *from);
        IdMapping(pairs)
    }
}

impl From<IdMapping> for Vec<(u32, u32)> {
    fn from(mapping: IdMapping) -> Self {
        mapping.0
    }
}

impl IdMapping {
    /// One number that becomes another.
    pub fn single(from: u32, to: u32) -> Self {
        vec![(from, to)].into()
    }

    /// What a number becomes, where it becomes another one.
    #[inline]
    pub fn get(&self, id: u32) -> Option<u32> {
        let at = self.0.binary_search_by_key(&id, |(from, _)| *from);
        at.ok().map(|at| self.0[at].1)
    }

    /// The same, the other way round.
    #[must_use]
    pub fn back(&self) -> Self {
        self.0.iter().map(|(from, to)| (*to, *from)).collect::<Vec<_>>().into()
    }

    /// Each number with the one it becomes.
    pub fn pairs(&self) -> &[(u32, u32)] {
        &self.0
    }

    /// Whether none becomes another.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

/// Numbers that files carry, and the ones they will carry.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(from = "ReownForm")]
pub struct Reown {
    /// Where to look: these files and directories and all below, no link followed.
    pub paths: Vec<TreePath>,
    /// Uids that become others.
    pub uids: IdMapping,
    /// Gids that become others.
    pub gids: IdMapping,
    /// The numbers are other ones of the same accounts: what they could do with a file they
    /// still can, so that set-id bits, capabilities and entries of access control lists go
    /// along. Else the files are somebody else's from then on.
    pub follows: bool,
    /// The change that this takes back: of files that were given away those alone are meant.
    pub of_change: Option<u64>,
    /// Whether other local file systems that are mounted below are entered.
    pub everywhere: bool,
    /// Whether files with more than one name are meant too.
    pub hard_links: bool,
}

/// The form in which it is written; and that of earlier builds, which knew of one number.
#[derive(Deserialize)]
struct ReownForm {
    paths: Vec<TreePath>,
    #[serde(default)]
    uids: IdMapping,
    #[serde(default)]
    gids: IdMapping,
    #[serde(default)]
    follows: bool,
    of_change: Option<u64>,
    #[serde(default)]
    everywhere: bool,
    #[serde(default)]
    hard_links: bool,
    group: Option<bool>,
    from: Option<u32>,
    to: Option<u32>,
}

impl From<ReownForm> for Reown {
    fn from(form: ReownForm) -> Self {
        let ReownForm { paths, uids, gids, follows, of_change, everywhere, hard_links, .. } = form;
        let mut reown = Reown { paths, uids, gids, follows, of_change, everywhere, hard_links };
        if let (Some(group), Some(from), Some(to)) = (form.group, form.from, form.to) {
            let mapping = if group { &mut reown.gids } else { &mut reown.uids };
            *mapping = IdMapping::single(from, to);
        }
        reown
    }
}

impl Reown {
    /// The same, the other way round.
    #[must_use]
    pub fn back(&self) -> Self {
        Reown { uids: self.uids.back(), gids: self.gids.back(), ..self.clone() }
    }

    /// What the numbers of a file become, each where it becomes another.
    #[inline]
    pub fn of(&self, owner: Owner) -> (Option<Uid>, Option<Gid>) {
        (self.uids.get(owner.uid.0).map(Uid), self.gids.get(owner.gid.0).map(Gid))
    }

    /// Which numbers become which, in words: `uid 1001 to 2001 and gid 1001 to 2001`.
    pub fn in_words(&self) -> String {
        let kinds = [("uid", "uids", &self.uids), ("gid", "gids", &self.gids)];
        let words = kinds.into_iter().filter_map(|(one, many, mapping)| match mapping.pairs() {
            [] => None,
            [(from, to)] => Some(format!("{one} {from} to {to}")),
            pairs => Some(counted(pairs.len(), one, many).to_string()),
        });
        words.collect::<Vec<_>>().join(" and ")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_earlier_builds_wrote_is_understood() {
        let old = r#"{"paths": ["/home/maren"], "group": true, "from": 210, "to": 1400,
            "of_change": null, "everywhere": true, "hard_links": false}"#;
        let reown: Reown = serde_json::from_str(old).unwrap();
        assert_eq!(reown.gids.get(210), Some(1400));
        assert!(reown.uids.is_empty() && reown.everywhere && !reown.follows);
        let again: Reown = serde_json::from_str(&serde_json::to_string(&reown).unwrap()).unwrap();
        assert_eq!(again, reown);
        assert_eq!(reown.back().in_words(), "gid 1400 to 210");
    }

    #[test]
    fn a_mapping_is_turned_round() {
        let mapping = IdMapping::from(vec![(3, 1), (1, 2), (2, 3), (7, 7)]);
        assert_eq!(mapping.pairs(), [(1, 2), (2, 3), (3, 1)]);
        let there_and_back = |id| mapping.get(id).and_then(|id| mapping.back().get(id));
        assert_eq!([1, 2, 3, 7].map(there_and_back), [Some(1), Some(2), Some(3), None]);
    }
}

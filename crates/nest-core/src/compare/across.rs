//! Each user across the sides, and what there is on each of them.

use super::tally::{Said, SaidOfGroup, Way};
use super::{Side, Tally};
use crate::order;

/// A user name across the sides.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Across {
    /// The name.
    pub name: String,
    /// Whether all say that it is a service.
    pub is_service: bool,
    /// The full name that most say; may be empty.
    pub full_name: String,
    /// The numbers that it has, those of most first.
    pub uids: Vec<String>,
    /// The sides that it is on.
    pub on: Vec<u32>,
    /// The sides on which it can sign in.
    pub sign_in: Vec<u32>,
    /// The sides on which it can become root.
    pub root: Vec<u32>,
}

/// What there is on one side.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct OnSide {
    /// People.
    pub people: usize,
    /// Services.
    pub services: usize,
    /// Groups.
    pub groups: usize,
    /// Users who can sign in.
    pub sign_in: usize,
    /// Users who can become root.
    pub root: usize,
}

/// Each user across the sides, by name; and what there is on each side.
pub fn across(tally: &Tally, sides: &[Side]) -> (Vec<Across>, Vec<OnSide>) {
    let mut on_sides = vec![OnSide::default(); sides.len()];
    let mut count = |sides: &[u32], what: fn(&mut OnSide) -> &mut usize| {
        for side in sides {
            if let Some(on) = on_sides.get_mut(*side as usize) {
                *what(on) += 1;
            }
        }
    };
    let mut all = Vec::new();
    for (name, mut ways) in tally.users() {
        // What most say comes first.
        order::sort_by_key(&mut ways, |way| std::cmp::Reverse(way.sides.len()));
        let is_service = |way: &Way| way.of_user(Said::Kind) == Some("service");
        let can_sign_in = |way: &Way| {
            let said = way.of_user(Said::SignIn);
            said.is_some_and(|said| !said.starts_with("no:"))
        };
        let can_become_root =
            |way: &Way| way.of_user(Said::Root).is_some_and(|root| !root.is_empty());
        let mut across = Across {
            name: name.to_owned(),
            is_service: ways.iter().all(|way| is_service(way)),
            full_name: ways.iter().find_map(|way| way.of_user(Said::FullName)).unwrap_or("").into(),
            ..Across::default()
        };
        for way in ways {
            match is_service(way) {
                true => count(&way.sides, |on| &mut on.services),
                false => count(&way.sides, |on| &mut on.people),
            }
            if can_sign_in(way) {
                count(&way.sides, |on| &mut on.sign_in);
                across.sign_in.extend(&way.sides);
            }
            if can_become_root(way) {
                count(&way.sides, |on| &mut on.root);
                across.root.extend(&way.sides);
            }
            across.on.extend(&way.sides);
            let uid = way.of_user(Said::Uid).unwrap_or_default();
            if !uid.is_empty() && across.uids.iter().all(|known| known != uid) {
                across.uids.push(uid.to_owned());
            }
        }
        for sides in [&mut across.on, &mut across.sign_in, &mut across.root] {
            sides.sort_unstable();
            sides.dedup();
        }
        all.push(across);
    }
    for (_, ways) in tally.groups() {
        // A side that says two things of one group has it once.
        let mut sides: Vec<u32> = ways
            .iter()
            .filter(|way| way.of_group(SaidOfGroup::Gid).is_some())
            .flat_map(|way| way.sides.iter().copied())
            .collect();
        sides.sort_unstable();
        sides.dedup();
        count(&sides, |on| &mut on.groups);
    }
    (all, on_sides)
}

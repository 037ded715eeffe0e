//! Numbers by which the same names have the same numbers everywhere, and the fewest files change
//! hands: of each number the one who leaves the most files behind keeps it.

use std::collections::{BTreeMap, BTreeSet, HashMap, VecDeque};

use super::tally::{Said, SaidOfGroup, Way};
use super::{CompareOptions, Tally};
use crate::policy::Policy;
use crate::value::UserOrGroup;

/// A number that a name is to have everywhere.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Agreed {
    /// Whether it is about a user or a group.
    pub thing: UserOrGroup,
    /// The name.
    pub name: String,
    /// The number.
    pub id: u32,
    /// The sides on which it has another one now.
    pub sides: Vec<u32>,
}

/// What has to become other numbers.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Agreement {
    /// Those with other numbers on some side, by name; users first.
    pub all: Vec<Agreed>,
    /// How many files change hands, as far as they were counted; each account counts as one.
    pub files: u64,
    /// What there is no number for, or what can't be lined up, in words.
    pub left: Vec<String>,
}

/// Lines the numbers up. What [`CompareOptions::against`] says is gone by; services keep theirs
/// unless they are compared too, and nobody gets one of those.
pub fn agree(tally: &Tally, options: CompareOptions, policy: &Policy) -> Agreement {
    let mut agreement = Agreement::default();
    let users = tally.users();
    let of_users = Numbers::of(&users, options, |way| {
        (way.of_user(Said::Uid), way.of_user(Said::Kind) == Some("service"))
    });
    let uids = of_users.line_up(policy, &BTreeSet::new(), &mut agreement.left);
    let groups = tally.groups();
    // Somebody's own group goes along with the user.
    let own = |way: &Way| way.of_group(SaidOfGroup::Kind) == Some("private");
    let (own, groups): (Vec<_>, Vec<_>) =
        groups.into_iter().partition(|(_, ways)| ways.iter().all(|way| own(way)));
    let own_gids: BTreeSet<u32> = own
        .iter()
        .flat_map(|(name, ways)| {
            let gids = ways.iter().filter_map(|way| way.of_group(SaidOfGroup::Gid)?.parse().ok());
            gids.chain(uids.get(name).copied())
        })
        .collect();
    let of_groups = Numbers::of(&groups, options, |way| {
        (way.of_group(SaidOfGroup::Gid), way.of_group(SaidOfGroup::Kind) == Some("services"))
    });
    let gids = of_groups.line_up(policy, &own_gids, &mut agreement.left);
    of_users.tell(UserOrGroup::User, &uids, &mut agreement);
    of_groups.tell(UserOrGroup::Group, &gids, &mut agreement);
    agreement
}

/// The sides that give a name one number, each with how many files carry that.
type Carried = Vec<(u32, u64)>;

/// The numbers of names.
struct Numbers<'t> {
    /// Of each name that may get another: its numbers, each with the sides and their files.
    names: BTreeMap<&'t str, BTreeMap<u32, Carried>>,
    /// Numbers that others have, who keep them.
    kept: BTreeSet<u32>,
    /// What some names have to have.
    given: BTreeMap<&'t str, u32>,
}

impl<'t> Numbers<'t> {
    fn of(
        all: &[(&'t str, Vec<&'t Way>)],
        options: CompareOptions,
        look: impl Fn(&'t Way) -> (Option<&'t str>, bool),
    ) -> Self {
        let (mut names, mut kept, mut given) = (BTreeMap::new(), BTreeSet::new(), BTreeMap::new());
        for (name, ways) in all {
            let stays = !options.services && ways.iter().all(|way| look(way).1);
            let mut ids: BTreeMap<u32, Carried> = BTreeMap::new();
            for way in ways {
                let Some(id) = look(way).0.and_then(|id| id.parse().ok()) else { continue };
                let files = way.sides.iter().enumerate();
                let files = files.map(|(at, side)| (*side, way.files_of(at)));
                ids.entry(id).or_default().extend(files);
            }
            if let Some(against) = options.against {
                let says = |(side, _): &(u32, u64)| *side == against;
                if let Some((id, _)) = ids.iter().find(|(_, sides)| sides.iter().any(says)) {
                    given.insert(*name, *id);
                }
            }
            match stays || *name == "root" {
                true => kept.extend(ids.into_keys()),
                false => _ = names.insert(*name, ids),
            }
        }
        Numbers { names, kept, given }
    }

    /// The number that each name gets.
    fn line_up(
        &self,
        policy: &Policy,
        others: &BTreeSet<u32>,
        left: &mut Vec<String>,
    ) -> BTreeMap<&'t str, u32> {
        let mut taken: BTreeSet<u32> = self.kept.union(others).copied().collect();
        let mut lined_up: BTreeMap<&str, u32> = BTreeMap::new();
        for (name, id) in &self.given {
            if self.names.contains_key(name) && taken.insert(*id) {
                lined_up.insert(name, *id);
            }
        }
        let rest: Vec<&str> =
            self.names.keys().copied().filter(|name| !lined_up.contains_key(name)).collect();
        let worth = |name: &str| -> Vec<(u32, u64)> {
            let ids = self.names[name].iter().filter(|(id, _)| !taken.contains(id));
            ids.map(|(id, sides)| (*id, sides.iter().map(|(_, files)| files).sum())).collect()
        };
        let wishes: Vec<Vec<(u32, u64)>> = rest.iter().map(|name| worth(name)).collect();
        let chosen = Matching::of(&wishes).chosen;
        taken.extend(chosen.iter().flatten());
        // Whoever gets none of its own gets one that nobody has anywhere.
        let anywhere = self.names.values().flat_map(BTreeMap::keys);
        taken.extend(anywhere);
        let avoided = |id: u32| policy.ids_avoid.iter().any(|avoid| avoid.span.contains(id));
        let mut free = (policy.people_ids.first()..=policy.people_ids.last())
            .filter(|id| !taken.contains(id) && !avoided(*id));
        for (name, id) in rest.into_iter().zip(chosen) {
            match id.or_else(|| free.next()) {
                Some(id) => _ = lined_up.insert(name, id),
                None => left.push(format!("there is no free number for {name}")),
            }
        }
        lined_up
    }

    /// Tells who gets another number where.
    fn tell(&self, thing: UserOrGroup, numbers: &BTreeMap<&str, u32>, agreement: &mut Agreement) {
        for (name, ids) in &self.names {
            let Some(&id) = numbers.get(name) else { continue };
            let others = ids.iter().filter(|(other, _)| **other != id);
            let mut sides = Vec::new();
            for (side, files) in others.flat_map(|(_, sides)| sides) {
                sides.push(*side);
                agreement.files += files;
            }
            sides.sort_unstable();
            if !sides.is_empty() {
                agreement.all.push(Agreed { thing, name: (*name).to_owned(), id, sides });
            }
        }
    }
}

/// Who gets which number, so that what they are worth together is the most: a matching of the
/// greatest weight, made by taking in one name after the other, each along the path of
/// exchanges that gains most.
struct Matching {
    /// The number of each name; none where somebody else makes more of each.
    chosen: Vec<Option<u32>>,
}

impl Matching {
    fn of(wishes: &[Vec<(u32, u64)>]) -> Self {
        let mut chosen: Vec<Option<u32>> = vec![None; wishes.len()];
        let mut holder: HashMap<u32, usize> = HashMap::new();
        for name in 0..wishes.len() {
            // Nearly always the best wish is free.
            let best =
                wishes[name].iter().max_by_key(|(id, worth)| (*worth, std::cmp::Reverse(*id)));
            let Some((best, _)) = best else { continue };
            if !holder.contains_key(best) {
                holder.insert(*best, name);
                chosen[name] = Some(*best);
                continue;
            }
            Matching::exchange(name, wishes, &mut chosen, &mut holder);
        }
        Matching { chosen }
    }

    /// Takes a name in whose best wish somebody has.
    fn exchange(
        name: usize,
        wishes: &[Vec<(u32, u64)>],
        chosen: &mut [Option<u32>],
        holder: &mut HashMap<u32, usize>,
    ) {
        let worth = |name: usize, id: u32| -> i64 {
            let of = wishes[name].iter().find(|(wish, _)| *wish == id);
            of.map_or(0, |(_, worth)| i64::try_from(*worth).unwrap_or(i64::MAX / 4))
        };
        // The most that is gained when this name is left without a number so far, and by which
        // number of whom it came to that.
        let mut gain: HashMap<usize, i64> = HashMap::from([(name, 0)]);
        let mut from: HashMap<usize, (usize, u32)> = HashMap::new();
        // The best end: somebody is left without one, or takes one that is free.
        let (mut best, mut end) = (0, (name, None));
        let mut open = VecDeque::from([name]);
        while let Some(at) = open.pop_front() {
            let so_far = gain[&at];
            if so_far > best {
                (best, end) = (so_far, (at, None));
            }
            for (id, own) in &wishes[at] {
                let own = i64::try_from(*own).unwrap_or(i64::MAX / 4);
                match holder.get(id) {
                    None if so_far + own > best => (best, end) = (so_far + own, (at, Some(*id))),
                    None => {}
                    Some(other) if *other == at => {}
                    Some(other) => {
                        let new = so_far + own - worth(*other, *id);
                        if gain.get(other).is_none_or(|known| new > *known) {
                            gain.insert(*other, new);
                            from.insert(*other, (at, *id));
                            open.push_back(*other);
                        }
                    }
                }
            }
        }
        let (mut at, mut gets) = end;
        loop {
            chosen[at] = gets;
            if let Some(id) = gets {
                holder.insert(id, at);
            }
            if at == name {
                break;
            }
            let (earlier, id) = from[&at];
            (at, gets) = (earlier, Some(id));
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn worth(wishes: &[Vec<(u32, u64)>], chosen: &[Option<u32>]) -> u64 {
        let of = |(wishes, id): (&Vec<(u32, u64)>, &Option<u32>)| {
            wishes.iter().find(|(wish, _)| Some(*wish) == *id).map_or(0, |(_, worth)| *worth)
        };
        wishes.iter().zip(chosen).map(of).sum()
    }

    /// The most, by trying all.
    fn most(wishes: &[Vec<(u32, u64)>], taken: &mut Vec<u32>) -> u64 {
        let Some((first, rest)) = wishes.split_first() else { return 0 };
        let mut best = most(rest, taken);
        for (id, worth) in first {
            if !taken.contains(id) {
                taken.push(*id);
                best = best.max(worth + most(rest, taken));
                taken.pop();
            }
        }
        best
    }

    proptest! {
        #[test]
        fn no_other_choice_moves_fewer_files(
            wishes in proptest::collection::vec(
                proptest::collection::btree_map(0_u32..5, 1_u64..9, 0..4), 0..6)
        ) {
            let wishes: Vec<Vec<(u32, u64)>> =
                wishes.into_iter().map(|wishes| wishes.into_iter().collect()).collect();
            let chosen = Matching::of(&wishes).chosen;
            let mut ids: Vec<u32> = chosen.iter().flatten().copied().collect();
            let all = ids.len();
            ids.sort_unstable();
            ids.dedup();
            prop_assert_eq!(ids.len(), all);
            prop_assert_eq!(worth(&wishes, &chosen), most(&wishes, &mut Vec::new()));
        }
    }
}

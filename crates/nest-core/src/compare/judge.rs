//! In what sides differ.

use std::collections::{BTreeMap, HashMap};

use super::shared;
use super::tally::{Said, SaidOfGroup, Way};
use super::{About, CompareOptions, Comparison, Difference, Differing, Field, SaidBy, Side, Tally};
use crate::order;

/// What is compared of users.
const OF_USERS: [(Field, Said); 10] = [
    (Field::Uid, Said::Uid),
    (Field::Primary, Said::Primary),
    (Field::FullName, Said::FullName),
    (Field::Home, Said::Home),
    (Field::Shell, Said::Shell),
    (Field::Groups, Said::Groups),
    (Field::Root, Said::Root),
    (Field::SignIn, Said::SignIn),
    (Field::Expires, Said::Expires),
    (Field::Keys, Said::Keys),
];

/// What is compared of groups.
const OF_GROUPS: [(Field, SaidOfGroup); 2] =
    [(Field::Gid, SaidOfGroup::Gid), (Field::Admins, SaidOfGroup::Admins)];

/// Holds all sides against each other, or against the one that is as it should be.
pub fn compare(tally: &Tally, sides: &[Side], options: CompareOptions) -> Comparison {
    let users = wanted(tally.users(), options, |way| way.of_user(Said::Kind) != Some("service"));
    let groups = wanted(tally.groups(), options, |way| match way.of_group(SaidOfGroup::Kind) {
        Some("services") => false,
        // Somebody's own group is compared where they are.
        Some("private") => users.binary_search_by(|(user, _)| (*user).cmp(way.name())).is_ok(),
        _ => true,
    });
    let telling = |tells: fn(&Side) -> bool| -> Vec<u32> {
        (0..).zip(sides).filter(|(_, side)| tells(side)).map(|(at, _)| at).collect()
    };
    let (tell_users, tell_groups) =
        (telling(|side| side.tells_users), telling(|side| side.tells_groups));
    let judging = Judging { against: options.against };
    let mut all = Vec::new();
    let mut uids: HashMap<&str, Vec<SaidBy>> = HashMap::new();
    for (name, ways) in &users {
        let of = |(field, said): (Field, Said)| {
            let values = values(ways, |way| way.of_user(said));
            if field == Field::Uid {
                uids.insert(name, values.clone());
            }
            judging.difference(field, values)
        };
        let fields: Vec<Difference> = OF_USERS.into_iter().filter_map(of).collect();
        all.extend(judging.differing(About::User((*name).to_owned()), ways, &tell_users, fields));
    }
    for (name, ways) in &groups {
        let of = |(field, said): (Field, SaidOfGroup)| {
            let values = values(ways, |way| way.of_group(said));
            // The number of somebody's own group that is the same as theirs was told with that.
            let told = field == Field::Gid && uids.get(name).is_some_and(|uids| *uids == values);
            if told { None } else { judging.difference(field, values) }
        };
        let fields: Vec<Difference> = OF_GROUPS.into_iter().filter_map(of).collect();
        let own = ways.iter().all(|way| way.of_group(SaidOfGroup::Kind) == Some("private"));
        let with_user = own && users.binary_search_by(|(user, _)| user.cmp(name)).is_ok();
        let tell = if with_user { &[][..] } else { &tell_groups[..] };
        all.extend(judging.differing(About::Group((*name).to_owned()), ways, tell, fields));
    }
    let everybody = tally.users();
    let everything = tally.groups();
    let is_wanted = |all: &[(&str, Vec<&Way>)], name: &str| {
        all.binary_search_by(|(known, _)| (*known).cmp(name)).is_ok()
    };
    let by_number = [
        shared::numbers(
            &everybody,
            |way| way.of_user(Said::Uid),
            About::Uid,
            |name| is_wanted(&users, name),
        ),
        shared::numbers(
            &everything,
            |way| way.of_group(SaidOfGroup::Gid),
            About::Gid,
            |name| is_wanted(&groups, name),
        ),
    ];
    let [by_uid, mut by_gid] = by_number;
    // The number of somebody's own group is told with theirs.
    by_gid.retain(|one| {
        let same = by_uid.iter().find(|other| other.about.name() == one.about.name());
        same.is_none_or(|same| same.fields != one.fields)
    });
    all.extend(by_uid.into_iter().chain(by_gid).map(|one| judging.mark(one)));
    all.extend(shared::ranges(&everybody, Said::Uids, About::Uids, options.shared_homes));
    all.extend(shared::ranges(&everybody, Said::Gids, About::Gids, options.shared_homes));
    let policies = tally.policies();
    let said = policies.iter().flat_map(|(digest, ways)| {
        ways.iter().map(|way| ((*digest).to_owned(), way.sides.clone()))
    });
    let said: Vec<SaidBy> =
        said.map(|(value, sides)| SaidBy { value, sides, expected: false }).collect();
    let on = union(said.iter().map(|said| &said.sides[..]));
    if let Some(difference) = judging.difference(Field::Policy, most_first(said)) {
        let of = on.len();
        all.push(Differing { about: About::Policy, on, of, fields: vec![difference] });
    }
    Comparison { all, users: users.len(), groups: groups.len() }
}

/// Those that are compared: of whom any side says that it is one of people, or nobody says what
/// it is.
fn wanted<'t>(
    mut all: Vec<(&'t str, Vec<&'t Way>)>,
    options: CompareOptions,
    is_wanted: impl Fn(&Way) -> bool,
) -> Vec<(&'t str, Vec<&'t Way>)> {
    all.retain(|(_, ways)| options.services || ways.iter().any(|way| is_wanted(way)));
    all
}

/// Each value that is said, and by whom; what most say first.
fn values<'t>(ways: &[&'t Way], value: impl Fn(&'t Way) -> Option<&'t str>) -> Vec<SaidBy> {
    let mut said: BTreeMap<&str, Vec<&[u32]>> = BTreeMap::new();
    for way in ways {
        if let Some(value) = value(way) {
            said.entry(value).or_default().push(&way.sides);
        }
    }
    let said = said.into_iter().map(|(value, sides)| SaidBy {
        value: value.to_owned(),
        sides: union(sides.into_iter()),
        expected: false,
    });
    most_first(said.collect())
}

pub(super) fn most_first(mut said: Vec<SaidBy>) -> Vec<SaidBy> {
    order::sort_by(&mut said, |a, b| {
        b.sides.len().cmp(&a.sides.len()).then_with(|| a.value.cmp(&b.value))
    });
    said
}

/// All the sides of some lists, each once and in order.
pub(super) fn union<'s>(lists: impl Iterator<Item = &'s [u32]>) -> Vec<u32> {
    let mut all: Vec<u32> = lists.flatten().copied().collect();
    all.sort_unstable();
    all.dedup();
    all
}

struct Judging {
    against: Option<u32>,
}

impl Judging {
    /// What they differ in; nothing where they don't, or where none differs from what should be.
    fn difference(&self, field: Field, mut values: Vec<SaidBy>) -> Option<Difference> {
        if values.len() < 2 {
            return None;
        }
        if let Some(against) = self.against {
            // Where it does not say what should be, nothing is other than that.
            let at = values.iter().position(|said| said.sides.binary_search(&against).is_ok())?;
            let mut expected = values.remove(at);
            expected.expected = true;
            values.insert(0, expected);
        }
        Some(Difference { field, values })
    }

    /// What they differ in about one name: whether it is there comes first.
    fn differing(
        &self,
        about: About,
        ways: &[&Way],
        tell: &[u32],
        mut fields: Vec<Difference>,
    ) -> Option<Differing> {
        let on = union(ways.iter().map(|way| &way.sides[..]));
        let off: Vec<u32> =
            tell.iter().filter(|side| on.binary_search(side).is_err()).copied().collect();
        let of = if tell.is_empty() { on.len() } else { tell.len() };
        if !off.is_empty() {
            let said = |value: &str, sides: &[u32]| SaidBy {
                value: value.to_owned(),
                sides: sides.to_vec(),
                expected: false,
            };
            let values = most_first(vec![said("yes", &on), said("no", &off)]);
            if let Some(difference) = self.difference(Field::Present, values) {
                fields.insert(0, difference);
            }
        }
        (!fields.is_empty()).then_some(Differing { about, on, of, fields })
    }

    /// Marks whose a number should be.
    fn mark(&self, mut differing: Differing) -> Differing {
        if let Some(against) = self.against {
            for said in differing.fields.iter_mut().flat_map(|field| &mut field.values) {
                said.expected = said.sides.binary_search(&against).is_ok();
            }
            differing.fields.iter_mut().for_each(|field| {
                order::sort_by_key(&mut field.values, |said| std::cmp::Reverse(said.expected));
            });
        }
        differing
    }
}

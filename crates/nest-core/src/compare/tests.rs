//! What sides differ in.

use proptest::prelude::*;

use super::*;
use crate::policy::Policy;
use crate::snapshot::{Snapshot, SnapshotGroup, SnapshotUser, Text};
use crate::value::UserOrGroup;

fn text(text: &str) -> Text<'static> {
    text.to_owned().into()
}

fn user(name: &str, uid: u32) -> SnapshotUser<'static> {
    SnapshotUser {
        name: text(name),
        uid: Some(uid),
        primary: Some(text(name)),
        shell: Some(text("/bin/bash")),
        kind: Some(text(if uid < 1000 { "service" } else { "person" })),
        expires: Some(text("never")),
        ..SnapshotUser::default()
    }
}

fn group(name: &str, gid: u32, members: &[&str]) -> SnapshotGroup<'static> {
    let kind = if gid < 200 { "services" } else { "people" };
    SnapshotGroup {
        name: text(name),
        gid: Some(gid),
        kind: Some(text(kind)),
        members: members.iter().map(|name| text(name)).collect(),
        admins: Some(vec![]),
        files: None,
    }
}

/// Machines, and in what they differ: each difference a line.
struct Machines(Vec<(Vec<SnapshotUser<'static>>, Vec<SnapshotGroup<'static>>)>);

impl Machines {
    fn tally(&self) -> (Tally, Vec<Side>) {
        let mut tally = Tally::default();
        for (at, (users, groups)) in self.0.iter().enumerate() {
            let policy = Some(text("policy"));
            let (users, groups) = (users.clone(), groups.clone());
            let snapshot = Snapshot { users, groups, policy, ..Snapshot::default() };
            tally.add(u32::try_from(at).unwrap(), &snapshot);
        }
        let side = |at: usize| Side { name: at.to_string(), tells_users: true, tells_groups: true };
        (tally, (0..self.0.len()).map(side).collect())
    }

    fn differ(&self, options: CompareOptions) -> Vec<String> {
        let (tally, sides) = self.tally();
        lines(&compare(&tally, &sides, options))
    }
}

fn lines(comparison: &Comparison) -> Vec<String> {
    let mut lines = Vec::new();
    for one in &comparison.all {
        for field in &one.fields {
            let value = |said: &SaidBy| {
                let mark = if said.expected { "!" } else { "" };
                format!("{mark}{} {:?}", said.value, said.sides)
            };
            let values: Vec<String> = field.values.iter().map(value).collect();
            lines.push(format!("{} {}: {}", one.about, field.field, values.join("; ")));
        }
    }
    lines
}

#[test]
fn what_most_say_comes_first_and_what_is_the_same_is_not_told() {
    let maren = || user("maren", 1004);
    let machines = Machines(vec![
        (vec![maren(), user("tidegauge", 999)], vec![group("pilots", 210, &["maren"])]),
        (vec![user("maren", 1017), user("perrin", 1004)], vec![group("pilots", 210, &[])]),
        (vec![maren()], vec![group("pilots", 211, &["maren"]), group("mail", 8, &[])]),
    ]);
    assert_eq!(
        machines.differ(CompareOptions::default()),
        [
            "user maren uid: 1004 [0, 2]; 1017 [1]",
            "user maren groups: pilots [0, 2];  [1]",
            "user perrin present: no [0, 2]; yes [1]",
            "group pilots gid: 210 [0, 1]; 211 [2]",
            "uid 1004 name: maren [0, 2]; perrin [1]",
        ]
    );
    let against = CompareOptions { against: Some(1), services: true, ..CompareOptions::default() };
    assert_eq!(
        machines.differ(against),
        [
            "user maren uid: !1017 [1]; 1004 [0, 2]",
            "user maren groups: ! [1]; pilots [0, 2]",
            "user perrin present: !yes [1]; no [0, 2]",
            "user tidegauge present: !no [1, 2]; yes [0]",
            "group mail present: !no [0, 1]; yes [2]",
            "group pilots gid: !210 [0, 1]; 211 [2]",
            "uid 1004 name: !perrin [1]; maren [0, 2]",
        ]
    );
}

#[test]
fn what_a_side_does_not_say_is_not_compared() {
    let mut quiet = user("maren", 1004);
    quiet.shell = None;
    quiet.expires = None;
    quiet.kind = None;
    quiet.groups = crate::snapshot::GroupsSaid::Nothing;
    let machines = Machines(vec![
        (vec![user("maren", 1004)], vec![group("pilots", 210, &["maren"])]),
        (vec![quiet], vec![]),
    ]);
    let (tally, mut sides) = machines.tally();
    sides[1].tells_groups = false;
    let found = compare(&tally, &sides, CompareOptions::default());
    assert_eq!(lines(&found), [""; 0]);
    assert_eq!((found.users, found.groups), (1, 1));
}

#[test]
fn two_names_of_one_number_on_the_same_machines_are_for_check_to_tell() {
    let both = || vec![user("maren", 1004), user("keeper", 1004)];
    let machines = Machines(vec![(both(), vec![]), (both(), vec![])]);
    assert_eq!(machines.differ(CompareOptions::default()), [""; 0]);
}

#[test]
fn ranges_matter_where_the_homes_are_the_same_files() {
    let with = |name: &str, uid, first, from: Option<&str>| {
        let mut user = user(name, uid);
        user.uids = vec![(first, 65536)];
        user.home_from = from.map(text);
        user
    };
    let machines = |from: Option<&str>, other: Option<&str>| {
        Machines(vec![
            (vec![with("maren", 1004, 100_000, from), with("perrin", 1005, 165_536, from)], vec![]),
            (
                vec![with("maren", 1004, 165_536, other), with("perrin", 1005, 100_000, other)],
                vec![],
            ),
        ])
    };
    let options = CompareOptions::default();
    let told = "uids 100000-165535 ranges: 100000-165535 of maren [0]; 100000-165535 of perrin [1]";
    let shared = machines(Some("harbour:/home/x"), Some("harbour:/home/y"));
    assert_eq!(shared.differ(options)[..1], [told]);
    assert_eq!(shared.differ(options).len(), 2);
    assert_eq!(machines(Some("harbour:/h"), Some("quay:/h")).differ(options).len(), 0);
    assert_eq!(machines(None, None).differ(options).len(), 0);
    let shared = CompareOptions { shared_homes: true, ..options };
    assert_eq!(machines(None, Some("quay:/h")).differ(shared).len(), 2);
}

#[test]
fn a_side_that_is_left_out_leaves_nothing_behind() {
    let machines = Machines(vec![
        (vec![user("maren", 1004)], vec![]),
        (vec![user("maren", 1017), user("perrin", 1005)], vec![]),
        (vec![user("maren", 1004)], vec![]),
    ]);
    let (mut tally, mut sides) = machines.tally();
    tally.leave_out(1);
    (sides[1].tells_users, sides[1].tells_groups) = (false, false);
    let found = compare(&tally, &sides, CompareOptions::default());
    assert_eq!((lines(&found).len(), found.users), (0, 1));
}

#[test]
fn whoever_leaves_most_files_behind_keeps_the_number() {
    let with = |name: &str, uid, files| {
        let mut user = user(name, uid);
        user.files = Some(files);
        user
    };
    let machines = Machines(vec![
        (vec![with("maren", 1004, 10), with("perrin", 1005, 10)], vec![]),
        (vec![with("maren", 1017, 5000), with("perrin", 1004, 30)], vec![]),
        (vec![with("maren", 1004, 20), user("tidegauge", 1000 - 1)], vec![]),
    ]);
    let (tally, _) = machines.tally();
    let found = agree(&tally, CompareOptions::default(), &Policy::default());
    let told: Vec<_> =
        found.all.iter().map(|agreed| (&*agreed.name, agreed.id, &agreed.sides[..])).collect();
    assert_eq!(told, [("maren", 1017, &[0, 2][..]), ("perrin", 1004, &[0])]);
    // Each account is one file more.
    assert_eq!((found.files, found.left.len()), (11 + 21 + 11, 0));
    // What is as it should be stays, whatever that costs.
    let against = CompareOptions { against: Some(0), ..CompareOptions::default() };
    let found = agree(&tally, against, &Policy::default());
    let told: Vec<_> = found.all.iter().map(|agreed| (&*agreed.name, agreed.id)).collect();
    assert_eq!(told, [("maren", 1004), ("perrin", 1005)]);
    let tables = written_numbers(&found);
    assert_eq!(tables[&1], "kind,name,id\nuser,maren,1004\nuser,perrin,1005\n");
}

fn machines() -> impl Strategy<Value = Vec<Vec<(u8, u16)>>> {
    let users = proptest::collection::btree_map(0_u8..6, 0_u16..6, 0..5);
    let users = users.prop_map(|users| users.into_iter().collect::<Vec<_>>());
    proptest::collection::vec(users, 2..6)
}

proptest! {
    /// Once the tables were gone by nobody has two numbers, and no number two people.
    #[test]
    fn lined_up_machines_agree_on_all_numbers(machines in machines()) {
        let of = |users: &Vec<(u8, u16)>| -> Vec<SnapshotUser<'static>> {
            users.iter().map(|(name, uid)| user(&format!("u{name}"), 1000 + u32::from(*uid))).collect()
        };
        let mut machines = Machines(machines.iter().map(|users| (of(users), vec![])).collect());
        let (tally, _) = machines.tally();
        let agreement = agree(&tally, CompareOptions::default(), &Policy::default());
        prop_assert!(agreement.left.is_empty());
        let mut moved = 0;
        for agreed in &agreement.all {
            prop_assert_eq!(agreed.thing, UserOrGroup::User);
            for side in &agreed.sides {
                let users = &mut machines.0[*side as usize].0;
                let user = users.iter_mut().find(|user| *user.name == *agreed.name).unwrap();
                prop_assert_ne!(user.uid, Some(agreed.id));
                user.uid = Some(agreed.id);
                moved += 1;
            }
        }
        prop_assert_eq!(moved, agreement.files);
        for line in machines.differ(CompareOptions::default()) {
            prop_assert!(line.contains(" present: "), "{}", line);
        }
    }

    /// In whatever runs the sides come in, the same is told.
    #[test]
    fn runs_of_sides_add_up(machines in machines(), cut in 0_usize..6) {
        let of = |users: &Vec<(u8, u16)>| Snapshot {
            users: users.iter().map(|(name, uid)| user(&format!("u{name}"), u32::from(*uid))).collect(),
            ..Snapshot::default()
        };
        let all: Vec<Snapshot<'_>> = machines.iter().map(of).collect();
        let cut = cut.min(all.len());
        let (mut one, mut first, mut rest) =
            (Tally::default(), Tally::default(), Tally::default());
        for (at, snapshot) in (0_u32..).zip(&all) {
            one.add(at, snapshot);
            let part = if (at as usize) < cut { &mut first } else { &mut rest };
            part.add(at, snapshot);
        }
        first.append(rest);
        let side = Side { name: String::new(), tells_users: true, tells_groups: true };
        let sides = vec![side; all.len()];
        let options = CompareOptions { services: true, ..CompareOptions::default() };
        prop_assert_eq!(compare(&one, &sides, options), compare(&first, &sides, options));
    }
}

#[test]
fn each_name_is_followed_across_the_machines() {
    let powerful = SnapshotUser {
        root: Some(vec![text("the group slipway")]),
        sign_in: Some(text("password and key")),
        ..user("maren", 1004)
    };
    let moved = SnapshotUser { sign_in: Some(text("no: suspended")), ..user("maren", 1017) };
    let machines = Machines(vec![
        (vec![powerful.clone(), user("tidegauge", 99)], vec![group("pilots", 210, &["maren"])]),
        (vec![moved], vec![group("pilots", 210, &[]), group("slipway", 211, &[])]),
        (vec![powerful], vec![]),
    ]);
    let (tally, sides) = machines.tally();
    let (all, on) = across(&tally, &sides);
    let maren = Across {
        name: "maren".to_owned(),
        uids: vec!["1004".to_owned(), "1017".to_owned()],
        on: vec![0, 1, 2],
        sign_in: vec![0, 2],
        root: vec![0, 2],
        ..Across::default()
    };
    let tidegauge = Across {
        name: "tidegauge".to_owned(),
        is_service: true,
        uids: vec!["99".to_owned()],
        on: vec![0],
        ..Across::default()
    };
    assert_eq!(all, [maren, tidegauge]);
    let counts = |people, services, groups, sign_in, root| OnSide {
        people,
        services,
        groups,
        sign_in,
        root,
    };
    assert_eq!(on, [counts(1, 1, 1, 1, 1), counts(1, 0, 2, 0, 0), counts(1, 0, 0, 1, 1)]);
}

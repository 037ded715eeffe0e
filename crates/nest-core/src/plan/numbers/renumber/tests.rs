use proptest::prelude::*;

use super::*;
use crate::book::tests::book;
use crate::policy::Policy;
use crate::retired_ids::RetiredId;
use crate::roster::{Form, RosterSource};
use crate::test_support::World;
use crate::value::Day;

const PASSWD: &str = "\
root:x:0:0::/root:/bin/sh
sunniva:x:1000:1000::/home/sunniva:/bin/sh
tavish:x:1001:1001::/home/tavish:/bin/sh
odalys:x:1002:210::/home/odalys:/bin/sh
";
const GROUP: &str = "\
root:x:0:
pilots:x:210:tavish
sunniva:x:1000:
tavish:x:1001:
crew:x:1002:
";

fn planned(world: &World, rows: &str, ask: impl FnOnce(&mut Renumber)) -> Result<Plan> {
    let files = [
        (File::Passwd, PASSWD),
        (File::Group, GROUP),
        (File::Subuid, "tavish:5000:100\n1001:6000:10\n"),
    ];
    let book = book(&files);
    let table = format!("kind,name,id\n{rows}");
    let source = RosterSource::new("t", Form::Csv, table.into_bytes());
    let table = NumberTable::read(vec![source]);
    let mut request = Renumber { table, detailed: true, ..Renumber::default() };
    ask(&mut request);
    let (policy, today) = (Policy::default(), Day(20_781));
    let context = PlanContext { book: &book, policy: &policy, world, today, change: Some(7) };
    renumber(context, &request)
}

fn plan(rows: &str) -> Plan {
    planned(&World::default(), rows, |_| {}).unwrap()
}

/// Everything that is wrong.
fn faults(world: &World, rows: &str) -> Vec<String> {
    let refusal = planned(world, rows, |_| {}).unwrap_err();
    let Reason::Roster { faults, .. } = &refusal.reason else { panic!("{refusal}") };
    faults.iter().map(|fault| fault.message.clone()).collect()
}

fn now(plan: &Plan) -> Vec<String> {
    let lines = plan.edits.iter().filter_map(|edit| edit.after.as_ref());
    lines.map(ToString::to_string).collect()
}

fn reown(plan: &Plan) -> &Reown {
    let reown = plan.steps.iter().find_map(|step| match step {
        Step::Reown(reown) => Some(reown),
        _ => None,
    });
    reown.expect("no file changes hands")
}

#[test]
fn numbers_are_exchanged_and_go_round() {
    let plan = plan("user,sunniva,1001\nuser,tavish,1000\n");
    let lines = now(&plan);
    for line in [
        "sunniva:x:1001:1001::/home/sunniva:/bin/sh",
        "tavish:x:1000:1000::/home/tavish:/bin/sh",
        "sunniva:x:1001:",
        "tavish:x:1000:",
        "1000:6000:10",
    ] {
        assert!(lines.iter().any(|other| other == line), "no {line} in {lines:?}");
    }
    let reown = reown(&plan);
    assert_eq!(reown.uids.pairs(), [(1000, 1001), (1001, 1000)]);
    assert_eq!(reown.gids.pairs(), [(1000, 1001), (1001, 1000)]);
    assert!(reown.follows && reown.everywhere && reown.hard_links);
    let retires = |step: &Step| matches!(step, Step::RetireIds(_) | Step::ReviveIds(_));
    assert!(!plan.steps.iter().any(retires), "every number has a holder");
}

#[test]
fn a_chain_leaves_its_last_number_retired() {
    // odalys' own number is that of another group, which stays.
    let rows = "user,odalys,1500\nuser,tavish,1002\ngroup,tavish,1600\ngroup,pilots,300\n";
    let plan = planned(&World::default(), rows, |request| request.keep_gid = true).unwrap();
    assert_eq!(reown(&plan).uids.pairs(), [(1001, 1002), (1002, 1500)]);
    assert_eq!(reown(&plan).gids.pairs(), [(210, 300), (1001, 1600)]);
    let lines = now(&plan);
    assert!(lines.contains(&"odalys:x:1500:300::/home/odalys:/bin/sh".to_owned()), "{lines:?}");
}

#[test]
fn each_row_is_judged_by_who_has_the_number_in_the_end() {
    let mut world = World::default();
    let one = |id| RetiredId { id, name: "perrin".into(), since: None };
    world.retired.users.push(one(1700));
    world.retired.groups.push(one(1700));
    for (rows, says) in [
        ("user,sunniva,1001\n", "uid 1001 is tavish's (etc/passwd:3), and no row gives tavish"),
        ("user,sunniva,1500\nuser,tavish,1500\n", "uid 1500 is sunniva's already"),
        ("user,sunniva,1500\nuser,sunniva,1501\n", "user sunniva is in t:2 already"),
        ("user,sunniva,5050\n", "uid 5050 lies in the subordinate range 5000-5099 of tavish"),
        ("user,sunniva,65534\n", "uid 65534 is reserved"),
        ("user,sunniva,4294967295\n", "uid 4294967295 is reserved"),
        ("user,sunniva,0\n", "uid 0 is root's: sunniva would be root"),
        ("user,root,4\n", "root is root by its uid"),
        ("user,hesper,4\n", "there is no user hesper"),
        ("user,sunniva,1700\n", "uid 1700 was perrin's, and is retired"),
        ("user,sunniva,1500\ngroup,sunniva,1501\n", "sunniva's own group gets gid 1501"),
        // The group that would go along finds its number taken.
        ("user,sunniva,1002\nuser,odalys,1500\n", "sunniva's own group: gid 1002 is"),
        ("user,sunniva,210\n", "sunniva's own group: gid 210 is"),
    ] {
        let faults = faults(&world, rows);
        assert!(faults.iter().any(|fault| fault.starts_with(says)), "{says}: {faults:?}");
    }
    let reuse = |request: &mut Renumber| request.reuse_id = true;
    let plan = planned(&world, "user,sunniva,1700\n", reuse).unwrap();
    let revived = plan.steps.iter().any(|step| matches!(step, Step::ReviveIds(_)));
    assert!(revived, "{:?}", plan.steps);
    // One's own is taken back.
    let mut world = World::default();
    world.retired.users.push(RetiredId { id: 1800, name: "sunniva".into(), since: None });
    let keep = |request: &mut Renumber| request.keep_gid = true;
    assert!(planned(&world, "user,sunniva,1800\n", keep).is_ok());
}

#[test]
fn names_that_are_excepted_keep_their_numbers() {
    let except = |request: &mut Renumber| request.except = vec!["tavish".into()];
    let rows = "user,sunniva,1500\nuser,tavish,1600\ngroup,tavish,1600\n";
    let plan = planned(&World::default(), rows, except).unwrap();
    assert_eq!(reown(&plan).uids.pairs(), [(1000, 1500)]);
    assert_eq!(plan.numbers.len(), 2);
}

#[test]
fn what_was_noted_of_a_suspended_account_goes_along() {
    let mut world = World::default();
    let (was_locked, was_open) = (false, false);
    for (name, uid) in [("tavish", 1001), ("sunniva", 7)] {
        world.suspended.push(Suspended {
            name: name.into(),
            uid: Uid(uid),
            expires: None,
            was_locked,
            was_open,
            reason: String::new(),
            since: Day(20_700),
        });
    }
    let plan = planned(&world, "user,tavish,1500\nuser,sunniva,1600\n", |_| {}).unwrap();
    let noted: Vec<u32> = plan
        .steps
        .iter()
        .filter_map(|step| match step {
            Step::NoteSuspended(note) => Some(note.uid.0),
            _ => None,
        })
        .collect();
    assert_eq!(noted, [1500], "of another account of the name nothing is carried");
}

proptest! {
    /// Whatever numbers some people get among themselves: each has its own in the end, and no
    /// other line is touched.
    #[test]
    fn everybody_has_the_number_asked_for_in_the_end(
        order in Just((0..6_u32).collect::<Vec<_>>()).prop_shuffle(),
        moved in proptest::collection::vec(any::<bool>(), 6),
    ) {
        let passwd: String =
            (0..6).map(|at| format!("crew{at}:x:{}:100::/:/bin/sh\n", 2000 + at)).collect();
        let book = book(&[(File::Passwd, &passwd), (File::Group, "users:x:100:\n")]);
        let wanted = |at: usize| 2000 + order[at] + if moved[at] { 50 } else { 0 };
        let rows: String = (0..6).map(|at| format!("user,crew{at},{}\n", wanted(at))).collect();
        let text = format!("kind,name,id\n{rows}");
        let source = RosterSource::new("t", Form::Csv, text.into_bytes());
        let request =
            Renumber { table: NumberTable::read(vec![source]), ..Renumber::default() };
        let (policy, world, today) = (Policy::default(), World::default(), Day(20_781));
        let context = PlanContext { book: &book, policy: &policy, world: &world, today, change: None };
        let plan = renumber(context, &request).unwrap();
        for at in 0..6 {
            let name = format!("crew{at}:");
            let edit = plan.edits.iter().find(|edit| {
                edit.before.as_ref().is_some_and(|line| line.starts_with(name.as_bytes()))
            });
            let line = format!("crew{at}:x:{}:100::/:/bin/sh", wanted(at));
            match edit {
                Some(edit) => prop_assert_eq!(edit.after.as_ref().unwrap(), &line),
                None => prop_assert_eq!(wanted(at), 2000 + at as u32),
            }
        }
        prop_assert!(plan.edits.iter().all(|edit| edit.file == File::Passwd));
    }
}

use super::*;
use crate::book::tests::book;
use crate::retired_ids::RetiredId;
use crate::test_support::World;
use crate::value::Day;

const HERE: &str = "\
root:x:0:0::/root:/bin/sh
sunniva:x:1000:1000:Sunniva Hale:/home/sunniva:/bin/sh
tavish:x:1001:1001:Tavish Rowe:/home/tavish:/bin/sh
";
const GROUPS_HERE: &str = "root:x:0:\nsudo:x:27:sunniva\npilots:x:1300:tavish\n\
                           sunniva:x:1000:\ntavish:x:1001:\n";

/// Two trees, and what is asked of them.
fn with<T>(
    passwd: &str,
    group: &str,
    decisions: Decisions,
    world: &World,
    ask: impl FnOnce(PlanContext<'_>, &Merge<'_>) -> T,
) -> T {
    let here = book(&[(File::Passwd, HERE), (File::Group, GROUPS_HERE)]);
    let there = book(&[(File::Passwd, passwd), (File::Group, group)]);
    let policy = Policy::default();
    let context =
        PlanContext { book: &here, policy: &policy, world, today: Day(20_781), change: Some(7) };
    let request = Merge {
        other: &there,
        shown: "/srv/old".to_owned(),
        suspended: &[],
        windows: &Windows::default(),
        kinds: vec![AccountKind::Person],
        decisions,
        numbers_are_written: false,
        detailed: true,
        overrides: GuardOverrides::default(),
    };
    ask(context, &request)
}

fn proposals(passwd: &str, group: &str, world: &World) -> Vec<(String, Decided)> {
    let found = with(passwd, group, Decisions::default(), world, |context, request| {
        conflicts(context, request).unwrap()
    });
    found.into_iter().map(|one| (one.name.to_string(), one.proposal)).collect()
}

#[test]
fn what_one_is_proposed_to_get_is_proposed_to_no_other() {
    let passwd = "sunniva:x:1000:1000:Sunniva Berg::/bin/sh\n\
                  sunniva2:x:1001:1001:Another:/home/s:/bin/sh\n\
                  wendel:x:1002:1002:Wendel:/home/w:/bin/sh\n";
    let group = "sunniva:x:1000:\nsunniva2:x:1001:\nwendel:x:1002:\n";
    let all = proposals(passwd, group, &World::default());
    let (names, ids): (Vec<_>, Vec<_>) =
        all.iter().map(|(name, one)| (name.as_str(), one.id)).unzip();
    // Who has a free number keeps it.
    assert_eq!(names, ["sunniva", "sunniva2"]);
    assert_eq!(ids, [Some(1003), Some(1004)]);
    // The name that another has there is none.
    assert_eq!(all[0].1.name, Some("sunniva3".into()));
}

#[test]
fn numbers_that_were_somebody_elses_are_not_had() {
    let mut world = World::default();
    world.retired.users.push(RetiredId { id: 1500, name: "hesper".into(), since: None });
    world.retired.users.push(RetiredId { id: 1501, name: "odile".into(), since: None });
    let passwd =
        "maren:x:1500:1500:Maren:/home/m:/bin/sh\nodile:x:1501:1501:Odile:/home/o:/bin/sh\n";
    let all = proposals(passwd, "maren:x:1500:\nodile:x:1501:\n", &world);
    let names: Vec<&str> = all.iter().map(|(name, _)| name.as_str()).collect();
    assert_eq!(names, ["maren"]);
}

#[test]
fn nobody_becomes_administrator_without_a_line_that_says_so() {
    let passwd = "maren:x:1500:1500:Maren:/home/m:/bin/sh\n";
    let group = "maren:x:1500:\nsudo:x:27:maren\npilots:x:1300:maren\n";
    let joined = |admin| {
        let state = with(passwd, group, Decisions::default(), &World::default(), |context, it| {
            state_of(context.book, it.other)
        });
        let users = [("maren".into(), Decided { admin, ..Decided::default() })].into();
        let decisions = Decisions { state, users, ..Decisions::default() };
        with(passwd, group, decisions, &World::default(), |context, request| {
            let merged = merge(context, request).unwrap();
            let edits = merged.plan.edits.into_iter().filter(|edit| edit.file == File::Group);
            let lines: Vec<String> =
                edits.filter_map(|edit| edit.after).map(|line| line.to_string()).collect();
            (lines.contains(&"sudo:x:27:sunniva,maren".to_owned()), lines)
        })
    };
    let (is_admin, lines) = joined(false);
    assert!(!is_admin && lines.contains(&"pilots:x:1300:tavish,maren".to_owned()), "{lines:?}");
    let (is_admin, lines) = joined(true);
    assert!(is_admin, "{lines:?}");
    // Said of nobody, it has to be decided.
    let all = proposals(passwd, group, &World::default());
    assert_eq!(all, [("maren".to_owned(), Decided::default())]);
}

/// The lines that a merge writes into a file, by the proposals.
fn lines_of_merge(passwd: &str, group: &str, file: File) -> Vec<String> {
    let world = World::default();
    let decisions = with(passwd, group, Decisions::default(), &world, |context, request| {
        let found = conflicts(context, request).unwrap();
        Decisions::proposed(state_of(context.book, request.other), &found)
    });
    with(passwd, group, decisions, &world, |context, request| {
        let merged = merge(context, request).unwrap();
        let edits = merged.plan.edits.into_iter().filter(|edit| edit.file == file);
        let text: Vec<String> =
            edits.filter_map(|edit| edit.after).map(|text| text.to_string()).collect();
        text.iter().flat_map(|text| text.lines()).map(str::to_owned).collect()
    })
}

#[test]
fn a_primary_group_is_no_way_to_become_administrator() {
    let passwd = "maren:x:1500:27:Maren:/home/m:/bin/sh\n";
    let lines = lines_of_merge(passwd, "sudo:x:27:\n", File::Passwd);
    assert_eq!(lines, ["maren:!:1500:1500:Maren:/home/m:/bin/sh"]);
    let all = proposals(passwd, "sudo:x:27:\n", &World::default());
    assert_eq!(all, [("maren".to_owned(), Decided::default())]);
}

#[test]
fn who_shares_a_number_shares_it_with_nobody_here() {
    let passwd = "maren:x:1000:1000:Maren:/home/m:/bin/sh\ntwin:x:1000:1000:Twin:/home/t:/bin/sh\n";
    let lines = lines_of_merge(passwd, "maren:x:1000:\n", File::Passwd);
    let uids: Vec<&str> = lines.iter().filter_map(|line| line.split(':').nth(2)).collect();
    assert_eq!(uids, ["1003", "1003"], "{lines:?}");
}

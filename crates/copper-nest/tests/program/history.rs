//! The account files as they were on an earlier day.

use crate::harness::{Run, TestTree};

/// Runs a command on a day in November 2026.
fn on(tree: &TestTree, day: u32, words: &str) -> Run {
    let noon = 1_795_521_600 + (i64::from(day) - 24) * 86_400;
    let words: Vec<&str> = words.split(' ').collect();
    let mut command = tree.command(&words);
    command.env("SOURCE_DATE_EPOCH", noon.to_string());
    let run = Run::of(&mut command);
    assert_eq!(run.status, 0, "{words:?}: {}", run.stderr);
    run
}

/// A tree with a change on each of some days.
fn busy() -> TestTree {
    let tree = TestTree::new();
    on(&tree, 3, "create user maren --full-name Maren --join pilots --no-home");
    on(&tree, 5, "change user maren --shell /bin/sh");
    on(&tree, 5, "rename user tavish tavi");
    on(&tree, 9, "regroup maren --leave pilots --join slipway");
    on(&tree, 12, "suspend user maren");
    on(&tree, 20, "delete user maren --files keep --yes");
    tree
}

#[test]
fn each_day_says_what_the_files_said_at_its_end() {
    let tree = busy();
    let columns = "--columns name,shell,groups,expires --at";
    let users = |day: &str| tree.done(&format!("list users {columns} {day}")).stdout;
    let maren = |day: &str| {
        let line = users(day);
        line.lines().find(|line| line.starts_with("maren")).map(str::to_owned)
    };
    assert_eq!(maren("2026-11-02"), None);
    assert_eq!(maren("2026-11-03").unwrap(), "maren\t/bin/bash\tpilots\tnever");
    assert_eq!(maren("2026-11-04"), maren("2026-11-03"));
    assert_eq!(maren("2026-11-05").unwrap(), "maren\t/bin/sh\tpilots\tnever");
    assert_eq!(maren("2026-11-09").unwrap(), "maren\t/bin/sh\tslipway\tnever");
    assert_eq!(maren("2026-11-19").unwrap(), "maren\t/bin/sh\tslipway\t");
    assert_eq!(maren("2026-11-20"), None);
    assert!(users("2026-11-04").contains("tavish\t") && users("2026-11-05").contains("tavi\t"));
    assert_eq!(maren("-15d"), maren("2026-11-09"));
    let json = tree.json("list users --at 2026-11-05");
    assert_eq!((&json["at"], &json["change"]), (&"2026-11-05".into(), &3.into()));
    let run = tree.done("list users --in pilots --at 2026-11-03 --columns name");
    assert_eq!(run.stdout, "tavish\nmaren\n");
}

#[test]
fn one_user_is_shown_with_the_lines_of_then_and_no_hash() {
    let tree = busy();
    let run = tree.done("show user maren --at 2026-11-09");
    for line in [
        "maren   at the end of 2026-11-09, after change 4",
        "  full name   Maren",
        "  groups      slipway",
        "  shell       /bin/sh",
        "maren:x:1002:1002:Maren:",
        "list changes --about maren",
    ] {
        run.says(line);
    }
    let run = tree.done("show user sunniva --at 2026-11-09");
    assert!(!run.stdout.contains("$y$"), "{}", run.stdout);
    run.says("sunniva:(hash):20602");
    let way = tree.refused(
        "show user maren --at 2026-11-02",
        3,
        "there was no user maren at the end of 2026-11-02",
    );
    way.complains("list users --at 2026-11-02");
    assert_eq!(tree.json("show user maren --at 2026-11-03")["users"][0]["groups"][0], "pilots");
}

#[test]
fn what_is_not_known_is_told() {
    let tree = TestTree::new();
    let run = tree.done("list users --at 2026-11-01");
    run.complains("no record of a change is kept: this is what the files say now");
    let tree = busy();
    let run = tree.done("list users --at 2025-01-01");
    run.complains("the records go back to change 1, of 2026-11-03 12:00: what was before it is taken from then");
    tree.refused("list users --at 2026-12-24", 3, "2026-12-24 is yet to come");
    tree.refused("list users --at soon", 3, "soon");
    tree.refused("list users --at 2026-11-03 --sign-in yes", 2, "cannot be used with");
    // What other hands did in between is said, and taken for having been there.
    tree.append("etc/passwd", "stranger:x:1500:100::/home/stranger:/bin/sh\n");
    on(&tree, 22, "create group gulls");
    let run = tree.done("list users --at 2026-11-09");
    run.complains("etc/passwd was edited by other hands since change 6: 1 line came.");
    run.says("stranger\t");
    // A record that is gone leaves a gap that nothing is made up for.
    tree.remove("var/lib/copper-nest/changes/4.json");
    tree.refused("list users --at 2026-11-05", 3, "the record of change 4 is gone");
    assert!(tree.done("list users --at 2026-11-12").stdout.contains("maren\t"));
}

#[test]
fn a_clock_that_went_back_does_not_change_the_order() {
    let tree = TestTree::new();
    on(&tree, 9, "create user maren --no-home");
    on(&tree, 5, "create user perrin --no-home");
    let names = |day: &str| tree.done(&format!("list users --columns name --at {day}")).stdout;
    assert_eq!(names("2026-11-06"), "sunniva\ntavish\nmaren\nperrin\n");
    assert_eq!(names("2026-11-04"), "sunniva\ntavish\n");
}

#[test]
fn changes_between_two_days_are_listed() {
    let tree = busy();
    let changes = |words: &str| tree.done(&format!("list changes --columns change {words}")).stdout;
    assert_eq!(changes("--between 2026-11-05 2026-11-09"), "4\n3\n2\n");
    assert_eq!(changes("--between 2026-11-20 2026-11-20"), "6\n");
    assert_eq!(changes("--between -30d -21d"), "1\n");
    tree.refused(
        "list changes --between 2026-11-09 2026-11-05",
        3,
        "2026-11-09 is after 2026-11-05",
    );
    tree.refused("list changes --between 2026-11-09", 2, "2 values required");
}

#[test]
fn a_day_is_the_one_that_stands_beside_the_change() {
    let tree = TestTree::new();
    on(&tree, 3, "create user maren --no-home");
    let record = tree.path("var/lib/copper-nest/changes/1.json");
    let text = std::fs::read_to_string(&record).unwrap();
    // By the clock of the machine, half an hour before the 4th, when it was that long in UTC.
    let there = text.replace("2026-11-03T12:00:00+00:00", "2026-11-03T23:30:00-05:00");
    assert_ne!(there, text);
    std::fs::write(&record, there).unwrap();
    let rows = |words: &str| tree.done(words).stdout.lines().count();
    assert_eq!(rows("list changes --between 2026-11-03 2026-11-03"), 1);
    assert_eq!(rows("list changes --since 2026-11-04"), 0);
    assert!(tree.done("list users --at 2026-11-03").stdout.contains("maren"));
    assert!(!tree.done("list users --at 2026-11-02").stdout.contains("maren"));
    assert_eq!(tree.json("report --since 2026-01-01")["history"][1]["day"], "2026-11-03");
}

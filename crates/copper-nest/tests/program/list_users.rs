//! `list users`.

use crate::harness::TestTree;

fn names(tree: &TestTree, words: &str) -> Vec<String> {
    let run = tree.done(words);
    run.stdout.lines().map(|line| line.split('\t').next().unwrap().to_owned()).collect()
}

#[test]
fn people_are_listed_by_default_and_others_on_request() {
    let tree = TestTree::new();
    assert_eq!(names(&tree, "list users"), ["sunniva", "tavish"]);
    assert_eq!(names(&tree, "list users --kind people"), ["sunniva", "tavish"]);
    assert_eq!(
        names(&tree, "list users --kind services"),
        ["root", "daemon", "nobody", "tidegauge"]
    );
    assert_eq!(names(&tree, "list users --kind all").len(), 6);
    assert_eq!(names(&tree, "list users --admin"), ["root", "sunniva"]);
    assert_eq!(names(&tree, "list users --admin --kind people"), ["sunniva"]);
}

#[test]
fn members_are_listed_however_they_are_members() {
    let tree = TestTree::new();
    assert_eq!(names(&tree, "list users --in pilots"), ["tavish"]);
    assert_eq!(names(&tree, "list users --in tidegauge"), ["tidegauge"]);
    assert_eq!(names(&tree, "list users --in 210"), ["tavish"]);
    assert_eq!(names(&tree, "list users --in slipway"), [""; 0]);
    tree.refused("list users --in pilot", 3, "there is no group pilot");
}

#[test]
fn a_pipe_gets_one_user_a_line_and_machines_the_same_objects_as_show_user() {
    let tree = TestTree::new();
    let run = tree.done("list users");
    let wanted = "tavish\t1001\tperson\ttavish\tpilots\t/home/tavish\t/bin/bash\tTavish Rowe\tlocked\t2026-05-29\t2027-03-23\t";
    assert_eq!(run.stdout.lines().nth(1), Some(wanted));
    let all = tree.json("list users --kind all");
    assert_eq!(all.as_array().unwrap().len(), 6);
    for user in all.as_array().unwrap() {
        let name = user["name"].as_str().unwrap();
        assert_eq!(*user, tree.json(&format!("show user {name}")));
    }
}

#[test]
fn a_terminal_gets_a_table() {
    let tree = TestTree::new();
    let run = tree.done("--color always list users");
    assert!(run.stdout.contains("\x1b[38;5;131m name"), "{:?}", run.stdout);
    assert!(run.stdout.contains("2 users of 6"));
}

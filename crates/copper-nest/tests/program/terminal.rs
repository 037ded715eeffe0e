//! At a terminal: questions, receipts, passwords, widths and colours.

use std::process::{Command, Stdio};

use crate::harness::{NOW, Run, TestTree, program};
use crate::people::{GOOD, typed};

#[test]
fn a_question_takes_a_line_and_the_receipt_is_printed_once() {
    let tree = TestTree::new();
    let Some(run) = typed(&tree, "maybe\\n|y\\n", "delete user tavish") else { return };
    assert_eq!(run.status, 0, "{}", run.stdout);
    let question = "Do this? yes or no [no] (^C: nothing is changed):";
    assert_eq!(run.stdout.matches(question).count(), 2, "{}", run.stdout);
    assert_eq!(run.stdout.matches("etc/subuid:2").count(), 1, "{}", run.stdout);
    assert_eq!(run.stdout.matches("delete user tavish").count(), 1, "{}", run.stdout);
    run.says("change 1. To take it back: copper-nest --tree");
    // What is only known afterwards is told all the same.
    tree.write("etc/group", tree.read("etc/group") + "tern:x:1500:\n");
    let run = typed(&tree, "yes\\n", "restore user tavish").unwrap();
    assert_eq!(run.status, 0, "{}", run.stdout);
    run.says("was edited by other hands since change 1: 1 line came.");
}

#[test]
fn what_is_no_yes_changes_nothing() {
    let tree = TestTree::new();
    let before = tree.snapshot();
    for (keys, status) in [("\\n", 3), ("no\\n", 3), ("\\x04", 3), ("y\\x03", 254)] {
        let Some(run) = typed(&tree, keys, "delete user tavish") else { return };
        assert_eq!(run.status, status, "{keys}: {}", run.stdout);
        assert_eq!(status == 3, run.stdout.contains("nothing was changed."), "{}", run.stdout);
        assert!(tree.snapshot() == before, "{keys}");
    }
}

#[test]
fn what_was_erased_for_good_is_typed_by_name() {
    let tree = TestTree::new();
    let words = "delete user tavish --files erase";
    let Some(run) = typed(&tree, "yes\\n", words) else { return };
    assert_eq!(run.status, 3, "{}", run.stdout);
    run.says("Type tavish to erase these files for good (^C: nothing is erased):");
    assert!(tree.path("home/tavish").exists());
    assert_eq!(typed(&tree, "tavish\\n", words).unwrap().status, 0);
    assert!(!tree.path("home/tavish").exists());
}

#[test]
fn passwords_that_differ_are_asked_for_again_and_those_before_are_kept() {
    let tree = TestTree::new();
    let other = "gannet-Ledge.52 skua";
    let words = "password user tavish sunniva";
    let keys = [GOOD, GOOD, other, GOOD, other, other].map(|line| format!("{line}\\n"));
    let Some(run) = typed(&tree, &keys.join("|"), words) else { return };
    assert_eq!(run.status, 0, "{}", run.stdout);
    assert_eq!(run.stdout.matches("new password of tavish:").count(), 1);
    assert_eq!(run.stdout.matches("new password of sunniva:").count(), 2);
    run.says("the two were not the same; once more");
    assert!(tree.read("etc/shadow").matches("$y$").count() >= 2);
}

#[test]
fn the_demo_goes_step_by_step() {
    let tree = TestTree::new();
    let at = tree.root().with_file_name("gullhaven");
    let words = format!("demo {} --step", at.display());
    // Where it is to be laid out is said; --tree would mean nothing.
    let mut python = Command::new("python3");
    python.args(["-c", crate::people::TYPE, "\\n|q\\n", env!("CARGO_BIN_EXE_copper-nest")]);
    python.args(words.split(' ')).env("SOURCE_DATE_EPOCH", NOW);
    if !crate::harness::has_program("python3") {
        crate::harness::passed_over("the_demo_goes_step_by_step", "python3");
        return;
    }
    let run = Run::of(&mut python);
    assert_eq!(run.status, 0, "{}", run.stdout);
    run.says("step 1 of ").says("list users").says("step 2 of ");
    assert!(!run.stdout.contains("show policy"), "{}", run.stdout);
    run.says("The tree is yours to play with:");
}

#[test]
fn the_demo_asks_nothing_at_a_terminal() {
    let tree = TestTree::new();
    let at = tree.root().with_file_name("gullhaven");
    let mut python = Command::new("python3");
    python.args(["-c", crate::people::TYPE, "", env!("CARGO_BIN_EXE_copper-nest"), "demo"]);
    python.arg(&at).env("SOURCE_DATE_EPOCH", NOW);
    if !crate::harness::has_program("python3") {
        crate::harness::passed_over("the_demo_asks_nothing_at_a_terminal", "python3");
        return;
    }
    let run = Run::of(&mut python);
    assert_eq!(run.status, 0, "{}", run.stdout);
    run.says("The tree is yours to play with:");
}

/// Runs a command as for a terminal of so many columns.
fn at_width(tree: &TestTree, columns: &str, words: &str) -> Run {
    let mut command = program();
    command.args(["--tree"]).arg(tree.root()).args(words.split(' ')).args(["--color", "always"]);
    Run::of(command.env("COLUMNS", columns).stdin(Stdio::null()))
}

/// How wide a line is without what steers colours.
fn width(line: &str) -> usize {
    let mut rest = line;
    let mut width = 0;
    while let Some(at) = rest.find('\x1b') {
        width += rest[..at].chars().count();
        rest = rest[at..].split_once('m').map_or("", |(_, rest)| rest);
    }
    width + rest.chars().count()
}

#[test]
fn tables_fit_where_they_are_shown() {
    let tree = TestTree::new();
    tree.done("create user maren --no-home");
    tree.done("delete user maren --yes");
    let lists = [
        "list users",
        "list groups",
        "list ids",
        "list ranges",
        "list retired",
        "list changes",
        "list admins",
    ];
    for columns in [40, 80, 200] {
        for words in lists {
            let run = at_width(&tree, &columns.to_string(), words);
            assert_eq!(run.status, 0, "{}", run.stderr);
            for line in run.stdout.lines() {
                // A word that is longer than the terminal is wide stays whole.
                let longest = line.split(' ').map(width).max().unwrap_or(0);
                let fits = width(line) <= columns || longest + 16 > columns || words == "list ids";
                assert!(fits, "{words} at {columns}: {line}");
            }
        }
    }
    // A terminal that says nonsense of itself is none to break on.
    for columns in ["0", "1", "65535", "many", "-3"] {
        for words in lists.iter().chain(&["check", "show user tavish", "show policy", "list rules"])
        {
            let run = at_width(&tree, columns, words);
            assert!([0, 1].contains(&run.status), "{words} at {columns}: {}", run.stderr);
            assert!(!run.stdout.is_empty());
        }
    }
}

#[test]
fn help_is_coloured_as_it_is_asked_for() {
    let help = |words: &[&str]| Run::of(program().args(words)).stdout;
    for words in [["--color", "never", "--help"], ["list", "users", "--help"]] {
        assert!(!help(&words).contains('\x1b'), "{words:?}");
    }
    assert!(help(&["list", "users", "--help", "--color=always"]).contains('\x1b'));
    let forced = |choice: &str| {
        let mut command = program();
        command.args(["list", "--help", "--color", choice]).env("CLICOLOR_FORCE", "1");
        Run::of(&mut command).stdout.contains('\x1b')
    };
    assert!(forced("auto") && !forced("never"));
}

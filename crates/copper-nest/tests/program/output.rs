//! What is printed where nobody looks on: gathered, whole, and in order.

use std::process::Command;

use crate::harness::{Run, TestTree, program};

/// A tree with so many findings that they do not fit a pipe.
fn neglected() -> TestTree {
    let tree = TestTree::new();
    let lines: String = (0..3000).map(|at| format!("ghost{at}:!:20600:0::7:::\n")).collect();
    tree.append("etc/shadow", lines);
    tree
}

/// Runs a line of sh in which `$NEST` is the program on a tree.
fn sh(tree: &TestTree, script: &str) -> Run {
    let mut command = Command::new("sh");
    let nest = format!("{} --tree {}", program().get_program().display(), tree.root().display());
    command.args(["-c", script]).env("NEST", nest).env("SOURCE_DATE_EPOCH", "1795586400");
    Run::of(&mut command)
}

#[test]
fn a_reader_that_has_enough_ends_the_program_quietly() {
    let tree = neglected();
    for verb in ["check --all", "--format json check", "list rules", "show policy"] {
        let run = sh(&tree, &format!("$NEST {verb} | head -n 1"));
        assert_eq!((run.status, run.stderr.as_str()), (0, ""), "{verb}");
        assert_eq!(run.stdout.lines().count(), 1, "{verb}: {}", run.stdout);
    }
}

#[test]
fn all_of_it_arrives() {
    let tree = neglected();
    let run = tree.run("check --all");
    assert_eq!(run.stdout.matches("no account is called ghost").count(), 3000);
    assert!(run.stdout.contains("called ghost0;") && run.stdout.contains("called ghost2999;"));
    assert!(run.stdout.ends_with('\n'));
}

#[test]
fn what_is_printed_and_what_is_told_keep_their_order() {
    let tree = TestTree::new();
    let run = sh(&tree, "$NEST --format json show user nobodyhere 2>&1");
    assert_eq!(run.status, 3);
    let (document, told) = run.stdout.split_once("\n}\n").unwrap();
    assert!(document.starts_with('{') && document.contains("nobodyhere"), "{document}");
    assert!(told.contains("nobodyhere") && !told.contains('{'), "{told}");
    // The words of the demo and what its commands print are written by different programs.
    let harbour = tree.root().with_file_name("harbour");
    let demo = sh(&tree, &format!("${{NEST%% *}} demo {} 2>&1", harbour.display()));
    let first = demo.stdout.find("$ copper-nest --tree").unwrap();
    let heading = demo.stdout.find("is laid out in").unwrap();
    let second = demo.stdout[first + 1..].find("$ copper-nest --tree").unwrap();
    assert!(heading < first && second > 200, "{}", &demo.stdout[..600]);
}

#[test]
fn what_can_not_be_printed_is_told_and_a_change_counts_all_the_same() {
    let tree = TestTree::new();
    for verb in ["list users", "--format json show user tavish"] {
        let run = sh(&tree, &format!("$NEST {verb} > /dev/full"));
        assert_eq!(run.status, 6, "{verb}");
        assert_eq!(run.stderr.matches("what was to be printed could not be").count(), 1, "{verb}");
    }
    let run = sh(&tree, "$NEST create user maren --no-home > /dev/full");
    assert_eq!(run.status, 0, "{}", run.stderr);
    assert!(run.stderr.contains("could not be"), "{}", run.stderr);
    assert!(tree.read("etc/passwd").contains("\nmaren:"));
}

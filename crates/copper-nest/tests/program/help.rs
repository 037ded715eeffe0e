//! The first minutes: help, versions, and a policy to begin with.

use crate::harness::{Run, TestTree, program};

/// The names of the commands below one, as its help lists them.
fn below(words: &[&str]) -> Vec<String> {
    let help = Run::of(program().args(words).arg("--help")).stdout;
    let listed = help.split("\nCommands:\n").nth(1).unwrap_or_default();
    let listed = listed.split("\n\n").next().unwrap_or_default();
    let name = |line: &str| {
        let word = line.strip_prefix("  ").filter(|rest| !rest.starts_with(' '))?;
        word.split(' ').next().map(str::to_owned)
    };
    listed.lines().filter_map(name).filter(|name| name != "help").collect()
}

#[test]
fn help_tells_what_a_command_is_about_from_what_goes_for_all() {
    let mut read = 0;
    let mut open: Vec<Vec<String>> = below(&[]).into_iter().map(|name| vec![name]).collect();
    while let Some(path) = open.pop() {
        let words: Vec<&str> = path.iter().map(String::as_str).collect();
        let help = Run::of(program().args(&words).arg("--help"));
        assert_eq!((help.status, help.stderr.as_str()), (0, ""), "{words:?}");
        let (own, for_all) = help.stdout.split_once("\nOptions for all commands:\n").unwrap();
        for option in ["--tree", "--state", "--format", "--dry-run", "--wait", "--color"] {
            assert!(for_all.contains(option) && !own.contains(&format!("      {option} ")));
        }
        // Whatever takes a value names it.
        for line in help.stdout.lines().filter(|line| line.trim_start().starts_with("--")) {
            assert!(!line.contains("<VALUE>"), "{words:?}: {line}");
        }
        open.extend(below(&words).into_iter().map(|name| [path.clone(), vec![name]].concat()));
        read += 1;
    }
    assert!(read > 40, "{read}");
}

#[test]
fn one_and_many_mean_the_same_command() {
    let tree = TestTree::new();
    for (one, other) in [
        ("list user", "list users"),
        ("list group", "list groups"),
        ("show users tavish", "show user tavish"),
        ("show groups pilots", "show group pilots"),
        ("export user", "export users"),
        ("create users maren odile --dry-run", "create user maren odile --dry-run"),
        (
            "delete groups slipway --dry-run --even-service",
            "delete group slipway --dry-run --even-service",
        ),
    ] {
        assert_eq!(tree.done(one).stdout, tree.done(other).stdout, "{one}");
    }
}

#[test]
fn a_build_says_which_it_is() {
    for words in [["--version", "--verbose"], ["-v", "--version"], ["-V", "-v"]] {
        let told = Run::of(program().args(words)).stdout;
        assert!(told.starts_with(concat!(
            "copper-nest ",
            env!("CARGO_PKG_VERSION"),
            "\ncommit   "
        )));
        assert!(told.contains("\nbuilt    ") && told.contains(", for "), "{told}");
    }
    let short = Run::of(program().arg("--version")).stdout;
    assert_eq!(short, concat!("copper-nest ", env!("CARGO_PKG_VERSION"), "\n"));
}

#[test]
fn the_policy_in_force_is_a_file_that_can_be_used() {
    let tree = TestTree::new();
    let policy = "[people]\nhome = \"/crew/{name}\"\nranges = 0\n[ids]\navoid = [\"5000-5999 theirs\"]\n\
                  [check]\nseverity = { \"empty-group\" = \"off\" }\n";
    tree.write("etc/copper-nest/policy.toml", policy);
    let values = |shown: serde_json::Value| {
        let all = shown.as_array().unwrap().clone();
        all.into_iter().map(|one| (one["key"].clone(), one["value"].clone())).collect::<Vec<_>>()
    };
    let before = values(tree.json("show policy"));
    let written = tree.done("show policy --format toml").stdout;
    assert!(written.contains("# Where a new home goes.\nhome = \"/crew/{name}\"\n"), "{written}");
    tree.write("etc/copper-nest/policy.toml", &written);
    assert_eq!(values(tree.json("show policy")), before);
    tree.done("check --policy-only").says("etc/copper-nest/policy.toml is sound.");
    tree.refused("list users --format toml", 2, "only show policy writes --format toml");
}

#[test]
fn a_policy_is_judged_by_itself_all_of_it_at_once() {
    let tree = TestTree::new();
    tree.done("check --policy-only").says("there is no etc/copper-nest/policy.toml");
    let draft = tree.root().with_file_name("draft.toml");
    std::fs::write(&draft, "[people]\nids = 5\nshell = 3\n").unwrap();
    let words = format!("check --policy-only --policy {}", draft.display());
    let run = tree.run(&words);
    assert_eq!(run.status, 1, "{}", run.stderr);
    assert_eq!(run.stdout.lines().count(), 2, "{}", run.stdout);
    let told = tree.json(&words);
    assert_eq!(told["faults"][1]["line"], 3, "{told}");
    // So are names of rules that are none.
    let text = "[check]\naccept = [\"ghost:a  b\", \"gost:a  b\"]\n";
    std::fs::write(&draft, text).unwrap();
    assert_eq!(tree.run(&words).stdout.lines().count(), 2);
    assert_eq!(tree.run(&format!("{words} --only ghost-member")).status, 2);
}

//! What shells offer while a command is being typed.

use std::process::Command;

use crate::harness::{Run, TestTree, passed_over, program};

/// What is offered for the last of these words.
fn offered(words: &[&str]) -> Vec<String> {
    let mut command = program();
    command.env("COPPER_NEST_COMPLETE", "bash").env("_CLAP_IFS", "\n");
    command.env("_CLAP_COMPLETE_INDEX", words.len().to_string());
    let run = Run::of(command.arg("--").arg("copper-nest").args(words));
    assert_eq!((run.status, run.stderr.as_str()), (0, ""));
    run.stdout.lines().map(str::to_owned).filter(|word| !word.starts_with("--")).collect()
}

#[test]
fn names_come_from_the_tree_that_the_line_is_about() {
    let tree = TestTree::new();
    let root = tree.root().display().to_string();
    let on = |words: &[&str]| offered(&[&["--tree", &root], words].concat());
    assert_eq!(on(&["show", "user", "t"]), ["tidegauge", "tavish"]);
    assert_eq!(on(&["regroup", "tavish", "--join", "pilots,sl"]), ["pilots,slipway"]);
    assert_eq!(on(&["change", "group", "pilots", "--add-member", "su"]), ["sunniva"]);
    assert_eq!(on(&["check", "--only", "ghost-m"]), ["ghost-member"]);
    assert_eq!(on(&["show", "rule", "second-r"]), ["second-root"]);
    assert_eq!(on(&["undo", ""]), Vec::<String>::new());
    tree.done("delete user tavish --yes");
    assert_eq!(on(&["undo", ""]), ["1"]);
    assert_eq!(on(&["restore", "user", ""]), ["tavish"]);
    assert_eq!(on(&["purge", "user", "t"]), ["tavish"]);
    assert_eq!(on(&["delete", "user", "t"]), ["tidegauge"]);
    assert!(on(&["create", "user", "t"]).is_empty(), "a new name is nobody's");
    let elsewhere = format!("--tree={root}/nowhere");
    assert!(offered(&[&elsewhere, "show", "user", ""]).is_empty());
    assert!(offered(&["re"]).contains(&"regroup".to_owned()));
}

#[test]
fn only_what_fits_the_line_is_offered() {
    let tree = TestTree::new();
    let root = tree.root().display().to_string();
    let on = |words: &[&str]| offered(&[&["--tree", &root], words].concat());
    assert_eq!(on(&["regroup", "tavish", "--leave", ""]), ["pilots", "tavish"]);
    assert_eq!(on(&["change", "group", "pilots", "--drop-member", ""]), ["tavish"]);
    if crate::harness::is_root() {
        assert_eq!(on(&["change", "group", "sudo", "--drop-group-admin", ""]), [""; 0]);
        assert_eq!(on(&["change", "group", "pilots", "--drop-group-admin", ""]), ["tavish"]);
    }
    assert_eq!(on(&["change", "user", "tavish", "--shell", "/bin/b"]), ["/bin/bash"]);
    assert_eq!(on(&["delete", "user", "tavish", "--files", "e"]), ["erase"]);
    assert_eq!(on(&["delete", "user", "tavish", "--files", "give:s"]), ["give:sunniva"]);
    // Paths are those of the tree.
    assert_eq!(on(&["change", "user", "tavish", "--home", "/home/t"]), ["/home/tavish/"]);
    assert_eq!(on(&["create", "user", "maren", "--home", "/et"]), ["/etc/"]);
    assert_eq!(on(&["resume", "user", ""]), [""; 0]);
    tree.done("suspend user tavish");
    assert_eq!(on(&["resume", "user", ""]), ["tavish"]);
    // A file that is not of the tree is the shell's to complete.
    tree.write("crew.csv", "name\n");
    let table = tree.path("crew.cs").display().to_string();
    assert_eq!(on(&["intake", &table]), [format!("{table}v")]);
}

#[test]
fn the_scripts_work_in_their_shells() {
    let tree = TestTree::new();
    let built = std::path::Path::new(env!("CARGO_BIN_EXE_copper-nest")).parent().unwrap();
    let bash = format!(
        "PATH={}:$PATH; source <(copper-nest completions bash)
         COMP_WORDS=(copper-nest --tree {} show user tav); COMP_CWORD=5; COMP_TYPE=9
         _copper_nest copper-nest tav user; echo \"${{COMPREPLY[@]}}\"",
        built.display(),
        tree.root().display()
    );
    let run = Run::of(Command::new("bash").args(["-c", &bash]));
    assert_eq!(run.stdout.trim(), "tavish", "{}", run.stderr);
    for shell in ["bash", "zsh", "fish"] {
        let script = Run::of(program().args(["completions", shell]));
        assert!(script.stdout.contains("COPPER_NEST_COMPLETE"), "{}", script.stdout);
        let file = tree.root().with_file_name(shell);
        std::fs::write(&file, &script.stdout).unwrap();
        match Command::new(shell).arg("-n").arg(&file).status() {
            Ok(status) => assert!(status.success(), "{shell}"),
            Err(_) => passed_over("the completions' script", shell),
        }
    }
}

/// What bash itself makes of a line, with its own way of breaking words.
fn by_bash(tree: &TestTree, words: &[&str], current: &str) -> Vec<String> {
    let script = "
        nest=$1; shift
        copper-nest() { \"$nest\" \"$@\"; }
        source <(copper-nest completions bash)
        COMP_WORDS=(\"$@\"); COMP_CWORD=$(($# - 1)); COMP_TYPE=9
        _copper_nest copper-nest \"$CURRENT\" '' 2>/dev/null
        printf '%s\\n' \"${COMPREPLY[@]}\"";
    let mut bash = Command::new("bash");
    bash.args(["-c", script, "bash", env!("CARGO_BIN_EXE_copper-nest"), "copper-nest"]);
    bash.args(words).env("CURRENT", current).env("HOME", tree.root().parent().unwrap());
    let run = Run::of(&mut bash);
    run.stdout.lines().map(|line| line.trim_end().to_owned()).collect()
}

#[test]
fn bash_completes_with_an_option_and_its_value_in_one_word() {
    if !crate::harness::has_program("bash") {
        return passed_over("bash_completes", "bash");
    }
    let tree = TestTree::new();
    let root = tree.root().display().to_string();
    let home = "~/tree";
    let quoted = format!("'{root}'");
    for at in [root.as_str(), home, &quoted, &format!("\"{root}\"")] {
        let words = ["--tree", "=", at, "show", "user", "ta"];
        assert_eq!(by_bash(&tree, &words, "ta"), ["tavish"], "{at}");
        assert_eq!(by_bash(&tree, &["--tree", at, "show", "user", "ta"], "ta"), ["tavish"], "{at}");
    }
    // Of a value that is being typed only itself comes back.
    let words = ["--tree", "=", &root, "regroup", "tavish", "--join", "=", "sli"];
    assert_eq!(by_bash(&tree, &words, "sli"), ["slipway"]);
    let words = ["--tree", &root, "list", "groups", "--columns", "ad"];
    assert_eq!(by_bash(&tree, &words, "ad"), ["admins"]);
}

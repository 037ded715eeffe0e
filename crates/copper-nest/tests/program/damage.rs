//! Account files that are missing, damaged or out of reach.

use std::os::unix::fs::symlink;
use std::os::unix::process::CommandExt;

use crate::harness::{PASSWD, Run, TestTree, is_root};

#[test]
fn files_that_must_be_there() {
    for file in ["etc/passwd", "etc/group"] {
        let tree = TestTree::new();
        tree.remove(file);
        for words in ["create user maren", "show user tavish", "check", "list users"] {
            tree.refused(words, 3, &format!("there is no {file} in"));
        }
        std::fs::create_dir(tree.path(file)).unwrap();
        for words in ["create user maren", "check"] {
            tree.refused(words, 6, &format!("{file} can't be read: it is a directory"));
        }
    }
}

#[test]
fn without_shadow_an_account_can_still_be_made() {
    let tree = TestTree::new();
    tree.remove("etc/shadow");
    tree.refused(
        "create user maren --expires +90d",
        3,
        "this tree has no etc/shadow, and an expiry is kept nowhere else",
    );
    let run = tree.done("create user maren");
    run.says("this tree has no etc/shadow: no password can be set, and passwords and accounts don't age or expire");
    assert_eq!(tree.line("etc/passwd", 7), "maren:!:1002:1002::/home/maren:/bin/bash");
    assert!(!tree.exists("etc/shadow"));
    tree.done("show user maren").says("none is set");
    let run = tree.run("check --only missing-shadow");
    assert_eq!(run.status, 1);
    run.says("etc/shadow: error missing-shadow: there is no such file, and 2 people should have a password in it.");
}

#[test]
fn without_gshadow_and_ranges_an_account_can_still_be_made() {
    let tree = TestTree::new();
    for file in ["etc/gshadow", "etc/subuid", "etc/subgid"] {
        tree.remove(file);
    }
    let run = tree.done("create user maren --join pilots");
    run.says("this tree has no etc/gshadow: groups have neither administrators nor passwords");
    assert_eq!(run.value("ranges"), "none this tree has no etc/subuid and etc/subgid");
    assert_eq!(tree.line("etc/group", 13), "maren:!:1002:");
    assert!(!tree.exists("etc/gshadow") && !tree.exists("etc/subuid"));
    tree.done("create user perrin --ranges 100");
    assert_eq!(tree.read("etc/subuid"), "perrin:2001010688:100\n");
    assert_eq!(tree.mode("etc/subgid"), 0o644);
}

#[test]
fn files_of_no_bytes_are_not_filled() {
    for file in ["etc/passwd", "etc/group", "etc/shadow"] {
        let tree = TestTree::new();
        tree.write(file, "");
        tree.refused(
            "create user maren",
            5,
            &format!("{file} is empty (0 bytes), which no sound system has"),
        );
        let run = tree.run("check --files-only --only empty-file");
        assert_eq!(run.status, 1);
        run.says(&format!("{file}: error empty-file: the file is empty (0 bytes)"));
    }
    let tree = TestTree::new();
    tree.write("etc/subuid", "");
    tree.write("etc/gshadow", "");
    tree.done("create user maren");
    assert_eq!(tree.read("etc/gshadow"), "maren:!::\n");
}

#[test]
fn a_damaged_line_of_that_name_stops_the_edit_and_other_damage_does_not() {
    let tree = TestTree::new();
    tree.append("etc/passwd", "maren:x:1500\n\0\0\0\nlong:x:1:1:");
    tree.append("etc/passwd", "y".repeat(1 << 20));
    tree.refused("create user maren", 5, "etc/passwd:7 names it too, but is malformed");
    let before = tree.bytes("etc/passwd");
    tree.done("create user perrin").says("etc/passwd:10    adds   perrin:x:1002:1002");
    let mut wanted = before;
    wanted.extend_from_slice(b"\nperrin:x:1002:1002::/home/perrin:/bin/bash\n");
    assert!(tree.bytes("etc/passwd") == wanted, "the damage was not carried along");
    let run = tree.run("check --files-only --only malformed-line");
    run.says("etc/passwd:8: error malformed-line: the line holds NUL bytes");
    run.says("etc/passwd:9: error malformed-line: the line has 5 fields, not 7");
    let shown = Run::of(tree.command(&["--color", "always"]).args(["check", "--files-only"]));
    assert!(shown.stdout.contains("… (1048587 characters)"));
    assert!(shown.stdout.len() < 20_000, "a megabyte was printed");
}

#[test]
fn links_inside_the_tree_are_followed_and_stay() {
    let tree = TestTree::new();
    std::fs::create_dir(tree.path("srv")).unwrap();
    std::fs::rename(tree.path("etc/passwd"), tree.path("srv/accounts")).unwrap();
    symlink("/srv/accounts", tree.path("etc/passwd")).unwrap();
    std::fs::rename(tree.path("etc/group"), tree.path("srv/groups")).unwrap();
    symlink("../../../srv/groups", tree.path("etc/group")).unwrap();
    tree.done("create user maren");
    assert!(tree.path("etc/passwd").is_symlink() && tree.path("etc/group").is_symlink());
    assert!(tree.read("srv/accounts").ends_with("maren:x:1002:1002::/home/maren:/bin/bash\n"));
    assert!(tree.read("srv/groups").ends_with("maren:x:1002:\n"));
    assert_eq!(std::fs::read_dir(tree.path("srv")).unwrap().count(), 2);
}

#[test]
fn a_link_out_of_the_tree_leads_nowhere() {
    let tree = TestTree::new();
    let outside = tempfile::NamedTempFile::new().unwrap();
    std::fs::write(outside.path(), PASSWD).unwrap();
    tree.remove("etc/passwd");
    symlink(outside.path(), tree.path("etc/passwd")).unwrap();
    tree.refused("create user maren", 3, "there is no etc/passwd in");
    assert_eq!(std::fs::read_to_string(outside.path()).unwrap(), PASSWD);
    // A home directory that points out of the tree is refused as a link.
    let tree = TestTree::new();
    std::fs::remove_dir_all(tree.path("home")).unwrap();
    let elsewhere = crate::harness::folder();
    symlink(elsewhere.path(), tree.path("home")).unwrap();
    tree.refused("create user maren", 3, "goes through the link /home");
    assert_eq!(std::fs::read_dir(elsewhere.path()).unwrap().count(), 0);
}

#[test]
fn unreadable_files_are_told_and_looked_past() {
    let tree = TestTree::new();
    tree.chmod("etc/shadow", 0);
    // Root reads everything: be somebody else for this.
    if is_root() {
        tree.chown("etc", 65534, 65534);
    }
    let run = |words: &str| {
        let mut command = tree.command(&words.split(' ').collect::<Vec<_>>());
        if is_root() {
            command.uid(65534).gid(65534);
        }
        Run::of(&mut command)
    };
    let refused = run("create user maren");
    assert_eq!(refused.status, 6, "{}", refused.stderr);
    assert!(
        refused.stderr.contains("etc/shadow can't be read: Permission denied"),
        "{}",
        refused.stderr
    );
    let shown = run("show user tavish");
    shown.says("not known: etc/shadow can't be read, Permission denied");
    shown.says("By key: ");
    let checked = run("check --files-only");
    assert_eq!((checked.status, checked.stdout.as_str()), (1, ""));
    assert!(checked.stderr.contains("Not judged: "), "{}", checked.stderr);
}

/// The same as root: a directory in the place of a file can't be read either.
#[test]
fn a_directory_in_the_place_of_shadow_is_told_and_looked_past() {
    let tree = TestTree::new();
    tree.remove("etc/shadow");
    std::fs::create_dir(tree.path("etc/shadow")).unwrap();
    tree.refused("create user maren", 6, "etc/shadow can't be read: it is a directory");
    let run = tree.done("show user tavish");
    run.says("not known: etc/shadow can't be read, it is a directory");
    let run = tree.run("check --files-only");
    assert_eq!(run.status, 1);
    assert!(run.stderr.contains("Not judged: malformed-line, missing-newline, "), "{}", run.stderr);
    assert!(run.stderr.contains(", missing-shadow ("), "{}", run.stderr);
    let why = "(etc/shadow can't be read: it is a directory)";
    assert_eq!(run.stderr.matches(why).count(), 1, "{}", run.stderr);
    assert_eq!(tree.run("check --files-only --allow-skipped").status, 0);
    let shown = tree.json("show user tavish");
    assert_eq!(shown["password"], serde_json::Value::Null);
}

//! `merge`: another tree's accounts, and what has to be decided about them.

use std::fs;
use std::os::unix::fs::MetadataExt;

use crate::harness::{TestTree, assert_same, is_root, passed_over};

const HASH: &str = "$y$j9T$Gk8rTqW1xZ0aLmNvB3cD5/$oMUdqLIIUbNlp.5ERqT8mq/0KPAoLbWTEaHGlGEYnd1";

/// Another system, with an account for each thing that can stand in the way here.
fn harbour() -> TestTree {
    let tree = TestTree::empty();
    let shadow = |names: &[(&str, &str)]| -> String {
        let line = |(name, rest): &(&str, &str)| format!("{name}:{rest}\n");
        names.iter().map(line).collect()
    };
    let dated = format!("{HASH}:20500:0:365:7:30:22000:");
    for (path, text) in [
        (
            "etc/passwd",
            "root:x:0:0:root:/root:/bin/sh\n\
             maren:x:1500:1500:Maren Solvik,Quay 3,,:/home/maren:/bin/sh\n\
             sunniva:x:1600:1600:Sunniva Berg:/home/sunniva:/bin/sh\n\
             trowe:x:1601:1601:Tavish Rowe:/home/trowe:/bin/sh\n\
             odile:x:1001:1001:Odile Strand:/home/odile:/bin/sh\n\
             pilots:x:1602:1602:Pilot Office:/home/pilots:/bin/sh\n\
             wendel:x:1603:1900:Wendel Falk:/home/wendel:/bin/sh\n"
                .to_owned(),
        ),
        (
            "etc/group",
            "root:x:0:\nsudo:x:27:maren,wendel\npilots:x:1602:\nslipway:x:1900:maren,odile,trowe\n\
             tides:x:1000:odile\nmaren:x:1500:\nsunniva:x:1600:\ntrowe:x:1601:\nodile:x:1001:\n"
                .to_owned(),
        ),
        (
            "etc/shadow",
            shadow(&[
                ("root", "*:20600::::::"),
                ("maren", &dated),
                ("sunniva", "!:20600::::::"),
                ("trowe", "!:20600::::::"),
                ("odile", &format!("{HASH}:20600:0::7:::")),
                ("pilots", "!:20600::::::"),
                ("wendel", "!:20600::::::"),
            ]),
        ),
        (
            "etc/gshadow",
            "root:*::\nsudo:*::maren,wendel\npilots:!::\nslipway:!:maren:maren,odile,trowe\n\
             tides:!::odile\nmaren:!::\nsunniva:!::\ntrowe:!::\nodile:!::\n"
                .to_owned(),
        ),
        ("etc/subuid", "maren:2001000000:65536\nodile:2002000000:1000\n".to_owned()),
        ("etc/subgid", "maren:2001000000:65536\nodile:2002000000:1000\n".to_owned()),
    ] {
        tree.write(path, text);
    }
    fs::create_dir_all(tree.path("var/lib")).unwrap();
    tree
}

/// The tree that they come to, with somebody who has the range.
fn here() -> TestTree {
    let tree = TestTree::new();
    tree.write("etc/subuid", "tavish:2001000000:65536\n");
    tree.write("etc/subgid", "tavish:2001000000:65536\n");
    tree
}

fn shown(tree: &TestTree) -> String {
    tree.root().display().to_string()
}

fn file(tree: &TestTree, name: &str) -> String {
    tree.root().with_file_name(name).display().to_string()
}

#[test]
fn what_has_to_be_decided_is_listed_with_a_proposal() {
    let (tree, there) = (here(), harbour());
    let (other, decisions) = (shown(&there), file(&tree, "harbour.toml"));
    let before = tree.snapshot_with_state();
    let run = tree.refused(
        &format!("merge {other}"),
        3,
        "nothing was merged: 10 things are to be decided",
    );
    for (says, proposed) in [
        ("maren is administrator there, by sudo", "admin = false"),
        ("maren's range 2001000000-2001065535 is not free here", "ranges = [\"2001"),
        (
            "sunniva is Sunniva Berg there, and Sunniva Hale here (etc/passwd:5)",
            "as = \"sunniva2\"",
        ),
        ("sunniva's home /home/sunniva is sunniva's here", "home = \"/home/sunniva2\""),
        ("trowe is Tavish Rowe, who is called tavish here", "action = \"same\", as = \"tavish\""),
        ("odile's uid 1001 is tavish's here", "uid = 1003"),
        ("pilots is a group here", "as = \"pilots2\""),
        ("wendel is administrator there, by sudo", "admin = false"),
        ("slipway has gid 1900 there and 211 here", "action = \"same\""),
        ("tides's gid 1000 is the group sunniva's here", "gid = 1002"),
    ] {
        let at = run.stderr.find(says).unwrap_or_else(|| panic!("{says}\n{}", run.stderr));
        let rest = &run.stderr[at..];
        let next = rest.lines().nth(1).unwrap();
        assert!(next.trim_start().starts_with(&format!("proposed {proposed}")), "{says}: {next}");
    }
    let words = format!("merge {other} --dry-run --decisions {decisions}");
    tree.done(&words).says("wendel").says("dry run: nothing was changed");
    assert_same(&before, &tree.snapshot_with_state());
    // The same input gives the same file.
    let again = file(&tree, "again.toml");
    tree.done(&format!("merge {other} --dry-run --decisions {again}"));
    assert_eq!(fs::read_to_string(&decisions).unwrap(), fs::read_to_string(&again).unwrap());
    let json = tree.run(&format!("merge {other} --format json"));
    assert_eq!(json.json()["error"]["kind"], "undecided");
    assert_eq!(json.json()["error"]["faults"].as_array().unwrap().len(), 10);
}

#[test]
fn decisions_are_taken_and_all_is_one_change() {
    let (tree, there) = (here(), harbour());
    let run = there.run_words(&["suspend", "user", "odile", "--reason", "on leave"]);
    assert_eq!(run.status, 0, "{}", run.stderr);
    let (other, decisions) = (shown(&there), file(&tree, "harbour.toml"));
    tree.done(&format!("merge {other} --dry-run --decisions {decisions}"));
    let text = fs::read_to_string(&decisions).unwrap();
    // maren is to be administrator, pilots stays where it is.
    let text = text.replacen("admin = false", "admin = true", 1);
    let text = text.replacen("action = \"create\"\nas = \"pilots2\"", "action = \"skip\"", 1);
    fs::write(&decisions, text).unwrap();
    let before = tree.snapshot();
    let numbers = file(&tree, "numbers.csv");
    let run = tree.done(&format!("merge {other} --decisions {decisions} --numbers-to {numbers}"));
    run.says("1: trowe").says("1: pilots");
    assert!(run.stdout.contains("wendel is administrator there, and not here"), "{}", run.stdout);
    assert!(!run.stdout.contains("maren is administrator there"), "{}", run.stdout);
    let has = |path: &str, line: &str| {
        assert!(
            tree.read(path).lines().any(|it| it == line),
            "{path} {line}:\n{}",
            tree.read(path)
        );
    };
    has("etc/passwd", "maren:x:1500:1500:Maren Solvik,Quay 3,,:/home/maren:/bin/sh");
    has("etc/shadow", &format!("maren:{HASH}:20500:0:365:7:30:22000:"));
    has("etc/passwd", "sunniva2:x:1600:1600:Sunniva Berg:/home/sunniva2:/bin/sh");
    has("etc/passwd", "odile:x:1003:1003:Odile Strand:/home/odile:/bin/sh");
    has("etc/shadow", &format!("odile:!{HASH}:20600:0::7::1:"));
    has("etc/passwd", "wendel:x:1603:211:Wendel Falk:/home/wendel:/bin/sh");
    has("etc/group", "sudo:x:27:sunniva,maren");
    has("etc/group", "slipway:x:211:maren,odile,tavish");
    has("etc/group", "tides:x:1002:odile");
    has("etc/gshadow", "slipway:!:maren:maren,odile,tavish");
    has("etc/subuid", "odile:2002000000:1000");
    assert!(!tree.read("etc/passwd").contains("pilots"));
    tree.done("show user odile").says("on leave");
    tree.done("resume user odile");
    has("etc/shadow", &format!("odile:{HASH}:20600:0::7:::"));
    tree.done("undo --yes");
    let table = fs::read_to_string(&numbers).unwrap();
    assert_eq!(
        table,
        "kind,name,was,id\ngroup,slipway,1900,211\ngroup,tides,1000,1002\n\
         user,tavish,1601,1001\nuser,odile,1001,1003\ngroup,odile,1001,1003\n"
    );
    // Nothing else came in between: it goes back whole.
    tree.done("undo 1 --yes");
    assert_same(&before, &tree.snapshot());
}

#[test]
fn copied_files_get_the_numbers_of_this_tree() {
    if !is_root() {
        return passed_over(
            "copied_files_get_the_numbers_of_this_tree",
            "root, to give files away",
        );
    }
    let (tree, there) = (here(), harbour());
    let (other, decisions) = (shown(&there), file(&tree, "harbour.toml"));
    let numbers = file(&tree, "numbers.csv");
    tree.done(&format!("merge {other} --dry-run --decisions {decisions}"));
    tree.done(&format!("merge {other} --decisions {decisions} --numbers-to {numbers}"))
        .says("once the homes are copied: copper-nest");
    tree.write("home/odile/notes", "tides\n");
    for (path, uid, gid) in [("home/odile", 1001, 1001), ("home/odile/notes", 1001, 1900)] {
        tree.chown(path, uid, gid);
    }
    tree.write("home/sunniva/log", "harbour\n");
    tree.chown("home/sunniva/log", 1001, 1000);
    let before = tree.snapshot();
    tree.refused(&format!("renumber {numbers}"), 3, "--paths does not say where they are");
    tree.refused(&format!("renumber {numbers} --paths /home"), 3, "holds the homes of others too");
    tree.refused(&format!("renumber {numbers} --paths /"), 3, "sunniva");
    assert_same(&before, &tree.snapshot());
    tree.done(&format!("renumber {numbers} --paths /home/odile --yes")).says("2 files");
    let owner = |path: &str| {
        let facts = fs::symlink_metadata(tree.path(path)).unwrap();
        (facts.uid(), facts.gid())
    };
    assert_eq!(owner("home/odile"), (1003, 1003));
    assert_eq!(owner("home/odile/notes"), (1003, 211));
    assert_eq!(owner("home/sunniva/log"), (1001, 1000));
    tree.done(&format!("renumber {numbers} --paths /home/odile --yes")).says("nothing");
    tree.done("undo --yes");
    assert_same(&before, &tree.snapshot());
    for (text, says) in [
        ("kind,name,was,id\nuser,odile,1001,1999\n", "user odile has the number 1003, not 1999"),
        ("kind,name,was,id\nuser,nobdy,1001,1999\n", "there is no user nobdy"),
        ("kind,name,was,id\nuser,odile,,1003\nuser,tavish,7,1001\n", "this row has no was"),
        ("kind,name,was,id\nuser,odile,x,1003\n", "\"x\" is no number"),
        ("kind,name,was,id\nuser,odile,7,1003\nuser,tavish,7,1001\n", "goes to odile already"),
    ] {
        fs::write(&numbers, text).unwrap();
        tree.refused(&format!("renumber {numbers} --paths /home/odile"), 3, says);
    }
}

#[test]
fn a_tree_without_conflicts_comes_as_it_is() {
    let (tree, there) = (TestTree::new(), TestTree::empty());
    for path in ["etc/passwd", "etc/group", "etc/shadow", "etc/gshadow"] {
        there.write(path, tree.read(path));
    }
    fs::create_dir_all(there.path("var/lib")).unwrap();
    let before = tree.snapshot();
    // The very same accounts are the same.
    tree.done(&format!("merge {}", shown(&there))).says("the same").says("nothing");
    assert_same(&before, &tree.snapshot());
    let words = "create user maren --no-home --uid 1500 --join slipway --ranges none --full-name";
    let run = there.run_words(&words.split(' ').chain(["Maren Solvik"]).collect::<Vec<_>>());
    assert_eq!(run.status, 0, "{}", run.stderr);
    tree.done(&format!("merge {}", shown(&there))).says("1 new").says("as they were there");
    let line = |tree: &TestTree, path: &str| {
        let text = tree.read(path);
        text.lines().find(|line| line.starts_with("maren:")).map(str::to_owned)
    };
    for path in ["etc/passwd", "etc/shadow", "etc/group", "etc/gshadow"] {
        assert_eq!(line(&tree, path), line(&there, path), "{path}");
    }
    assert!(tree.read("etc/group").contains("slipway:x:211:maren"));
    // Once more nobody comes.
    let before = tree.snapshot();
    tree.done(&format!("merge {}", shown(&there))).says("nothing");
    assert_same(&before, &tree.snapshot());
}

#[test]
fn decisions_that_do_not_fit_are_refused() {
    let (tree, there) = (here(), harbour());
    let (other, decisions) = (shown(&there), file(&tree, "harbour.toml"));
    tree.refused(&format!("merge {other} --decisions {decisions}"), 3, "there is no file");
    tree.refused("merge /no/such/tree", 3, "/no/such/tree");
    tree.refused(&format!("merge {}", shown(&tree)), 3, "is this very tree");
    tree.done(&format!("merge {other} --dry-run --decisions {decisions}"));
    let whole = fs::read_to_string(&decisions).unwrap();
    let before = tree.snapshot_with_state();
    let state = whole.lines().find(|line| line.starts_with("state")).unwrap().to_owned();
    let edited = |from: &str, to: &str| whole.replacen(from, to, 1);
    for (text, says) in [
        (String::new(), "missing field `state`"),
        (edited("action = ", "acton = "), "acton"),
        (edited("uid = 1003", "uid = 1000"), "uid 1000 is"),
        (edited("uid = 1003", "uid = 0"), "uid 0"),
        (edited("as = \"tavish\"", "as = \"perrin\""), "perrin"),
        (edited("as = \"sunniva2\"", "as = \"sunniva\""), "sunniva"),
        (format!("{whole}\n[[user]]\nname = \"nobdy\"\naction = \"skip\"\n"), "nobdy"),
        (state.clone(), "10 things are to be decided"),
        (whole.replacen(&state, "state = \"another\"", 1), "for another state of the trees"),
    ] {
        fs::write(&decisions, &text).unwrap();
        tree.refused(&format!("merge {other} --decisions {decisions}"), 3, says);
        assert_same(&before, &tree.snapshot_with_state());
    }
    fs::write(&decisions, &whole).unwrap();
    there.append("etc/group", "late:x:1950:\n");
    let run = tree.refused(
        &format!("merge {other} --decisions {decisions}"),
        3,
        "for another state of the trees",
    );
    assert!(run.stderr.contains("/harbour-"), "{}", run.stderr);
    // What is there is not written over.
    let numbers = tree.path("etc/passwd").display().to_string();
    let words = format!("merge {other} --numbers-to {numbers}");
    tree.refused(&words, 3, "exists already, and is not overwritten");
}

#[test]
fn a_group_that_sudoers_gives_everything_is_joined_by_decision_alone() {
    let (tree, there) = (here(), harbour());
    tree.write("usr/bin/sudo", "a program\n");
    tree.chmod("usr/bin/sudo", 0o4755);
    tree.write("etc/sudoers", "root ALL=(ALL:ALL) ALL\n%slipway ALL=(ALL:ALL) ALL\n");
    tree.chmod("etc/sudoers", 0o440);
    let (other, decisions) = (shown(&there), file(&tree, "harbour.toml"));
    let run = tree.run(&format!("merge {other}"));
    assert!(run.stderr.contains("odile is administrator there, by slipway"), "{}", run.stderr);
    tree.done(&format!("merge {other} --dry-run --decisions {decisions}"));
    tree.done(&format!("merge {other} --decisions {decisions}"));
    assert!(tree.read("etc/group").contains("slipway:x:211:\n"), "{}", tree.read("etc/group"));
    assert!(tree.read("etc/gshadow").contains("slipway:!::\n"), "{}", tree.read("etc/gshadow"));
    assert!(!tree.read("etc/passwd").contains(":211:"), "{}", tree.read("etc/passwd"));
}

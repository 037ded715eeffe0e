//! A state folder that came with a stranger's tree: whatever names stand in it, nothing
//! outside the tree is read for them, written or removed.

use std::os::unix::fs::symlink;
use std::path::Path;

use serde_json::Value;

use crate::harness::{Host, Run, TestTree, has_program, is_root, is_sampled, passed_over};
use crate::killed::leave_torn;

const STATE: &str = "var/lib/copper-nest";

/// What is run on a tree with something planted in it.
const COMMANDS: [&str; 8] = [
    "recover --yes",
    "create user perrin --yes",
    "undo --yes",
    "undo 2 --yes",
    "restore user maren --yes",
    "purge user maren --yes",
    "delete user tavish --files archive --yes",
    "list changes",
];

/// Names that lead out of a folder, or are none.
fn names(host: &Path) -> Vec<String> {
    let climb = format!("{}{}", "../".repeat(12), host.join("x").display());
    vec![
        host.join("x").display().to_string(),
        host.join("inner").display().to_string(),
        climb,
        "..".into(),
        String::new(),
        "y".repeat(300),
    ]
}

/// Every string in a document, by the way to it.
fn strings(value: &Value, at: &str, all: &mut Vec<String>) {
    match value {
        Value::String(_) => all.push(at.to_owned()),
        Value::Array(values) => {
            for (index, value) in values.iter().enumerate() {
                strings(value, &format!("{at}/{index}"), all);
            }
        }
        Value::Object(values) => {
            for (key, value) in values {
                strings(value, &format!("{at}/{}", key.replace('~', "~0").replace('/', "~1")), all);
            }
        }
        _ => {}
    }
}

/// Plants names in each place of a file of the state folder, one after the other.
fn plant_everywhere(base: &TestTree, file: &str, host: &Host, commands: &[&str]) -> usize {
    let text = base.read(&format!("{STATE}/{file}"));
    let document: Value = serde_json::from_str(&text).unwrap();
    let mut places = Vec::new();
    strings(&document, "", &mut places);
    let mut planted = 0;
    for place in places {
        for name in names(host.path()) {
            let mut document = document.clone();
            let old = document.pointer(&place).unwrap().as_str().unwrap().to_owned();
            // What stands before a slash may have to stay for the rest to be looked at.
            let start = old.split_once('/').map_or("", |(start, _)| start).to_owned();
            for name in [name.clone(), format!("{start}/{name}")] {
                planted += 1;
                // No multiple of how many names there are: each comes to each place in turn.
                if !is_sampled(planted, 7) {
                    continue;
                }
                *document.pointer_mut(&place).unwrap() = Value::String(name.clone());
                let tree = base.copy();
                let mut document = document.clone();
                // As if it had been made for this tree.
                if document.get("tree").is_some() {
                    document["tree"] = identity(&tree);
                }
                tree.write(&format!("{STATE}/{file}"), document.to_string());
                for words in commands {
                    let run = tree.run(words);
                    assert_sane(&run, &format!("{words} with {name:?} at {place} of {file}"));
                }
                host.assert_untouched(&format!("{name:?} at {place} of {file}"));
            }
        }
    }
    planted
}

/// What a journal says of the tree it is about.
fn identity(tree: &TestTree) -> Value {
    use std::os::unix::fs::MetadataExt;
    let facts = std::fs::metadata(tree.root()).unwrap();
    serde_json::json!({
        "path": tree.root(), "identity": [facts.dev(), facts.ino()],
    })
}

fn assert_sane(run: &Run, place: &str) {
    assert!((0..=7).contains(&run.status), "{place}: {} {}", run.status, run.stderr);
    assert!(!run.stderr.contains("panicked"), "{place}: {}", run.stderr);
}

fn with_maren() -> TestTree {
    let tree = TestTree::new();
    tree.done("create user maren --join pilots");
    tree
}

#[test]
fn names_in_a_journal_lead_nowhere() {
    if !is_root() || !has_program("strace") {
        return passed_over("names_in_a_journal_lead_nowhere", "root and strace");
    }
    let host = Host::new();
    let gone = with_maren();
    gone.done("delete user maren --files archive --yes");
    for (tree, words, call, at) in [
        (with_maren(), "delete user maren --files archive --yes", "renameat2", 1),
        (gone, "restore user maren", "renameat2", 1),
        (with_maren(), "change user maren --uid 1500", "renameat2", 1),
        (TestTree::new(), "create user maren", "fchmod", 2),
    ] {
        assert!(leave_torn(&tree, words, call, at));
        let file = if call == "fchmod" { "journal/begun.json" } else { "journal/ready.json" };
        // The record in it is a file of its own in the end, and has its own test.
        let mut document: Value =
            serde_json::from_str(&tree.read(&format!("{STATE}/{file}"))).unwrap();
        document["record"] = Value::Null;
        tree.write(&format!("{STATE}/{file}"), document.to_string());
        let planted = plant_everywhere(&tree, file, &host, &COMMANDS[..2]);
        assert!(planted >= 40, "{words}: {planted}");
    }
}

#[test]
fn names_in_records_and_kept_accounts_lead_nowhere() {
    if !is_root() {
        return passed_over("names_in_records_and_kept_accounts_lead_nowhere", "root");
    }
    let host = Host::new();
    let tree = with_maren();
    tree.write("var/mail/maren", "");
    tree.chown("var/mail/maren", 1002, 8);
    tree.done("delete user maren --files archive --yes");
    assert!(plant_everywhere(&tree, "changes/2.json", &host, &["undo 2 --yes"]) > 200);
    let account = "retired/user/maren.1002.2/account.json";
    let commands = ["restore user maren", "purge user maren --yes"];
    assert!(plant_everywhere(&tree, account, &host, &commands) > 100);
    assert!(plant_everywhere(&tree, "ids.json", &host, &["create user perrin"]) >= 12);
    let tree = with_maren();
    tree.done("delete user maren --yes");
    assert!(plant_everywhere(&tree, account, &host, &commands) > 100);
    tree.done("suspend user tavish --reason leave --yes");
    assert!(plant_everywhere(&tree, "suspended.json", &host, &["resume user tavish"]) >= 12);
}

#[test]
fn links_in_the_state_folder_lead_nowhere() {
    let host = Host::new();
    let plain = with_maren();
    plain.done("delete user maren --files archive --yes");
    for (at, place) in [
        "journal",
        "changes",
        "changes/1.json",
        "changes/2.json",
        "changes/.3.json.new",
        "retired",
        "retired/user",
        "retired/user/maren.1002.2",
        "retired/user/maren.1002.2/account.json",
        "retired/user/maren.1002.2/home.tar.zst",
        "retired/user/.tavish.1001.3.new",
        "ids.json",
        ".ids.json.new",
        "left.json",
        ".left.json.new",
        "suspended.json",
        ".journal.done",
    ]
    .into_iter()
    .enumerate()
    {
        for (number, to) in ["", "inner", "x", "none"].into_iter().enumerate() {
            if !is_sampled(at + number, 3) {
                continue;
            }
            let tree = plain.copy();
            let path = tree.path(&format!("{STATE}/{place}"));
            match path.is_dir() {
                true => std::fs::remove_dir_all(&path).unwrap(),
                false => drop(std::fs::remove_file(&path)),
            }
            symlink(host.path().join(to), &path).unwrap();
            for words in COMMANDS {
                assert_sane(&tree.run(words), &format!("{words}, {place} -> {to}"));
            }
            host.assert_untouched(&format!("{place} -> {to}"));
        }
    }
}

#[test]
fn an_account_whose_name_is_a_path_has_no_files_named_after_it() {
    let host = Host::new();
    let long = "x".repeat(230);
    for name in [host.path().join("inner").display().to_string(), "..".into(), ".".into(), long] {
        let tree = TestTree::new();
        tree.append("etc/passwd", format!("{name}:x:1098:1098::/home/odd:/bin/sh\n"));
        tree.append("etc/shadow", format!("{name}:!:20600::::::\n"));
        tree.append("etc/group", format!("{name}:x:1098:\n"));
        let line = tree.read("etc/passwd").lines().count();
        let says = "is no name of a file: it holds a slash, is a dot, or is too long";
        for words in [
            vec!["delete", "user", "--yes", "--", &name],
            vec!["delete", "user", "--files", "archive", "--yes", "--", &name],
            vec!["rename", "user", "--", &name, "odd"],
            vec!["change", "user", "--uid", "1099", "--", &name],
        ] {
            let run = tree.refused_words(&words, 3, says);
            let way = format!("repair --take-out etc/passwd:{line}");
            assert!(run.stderr.contains(&way), "{}", run.stderr);
        }
        // What is offered works as it is.
        tree.done(&format!("repair --take-out etc/passwd:{line} --yes"));
        let group = tree.read("etc/group").lines().count();
        let run = tree.refused_words(&["delete", "group", "--yes", "--", &name], 3, says);
        assert!(run.stderr.contains(&format!("etc/group:{group}")), "{}", run.stderr);
        host.assert_untouched(&name);
    }
}

#[test]
fn a_copied_journal_is_looked_at_before_it_is_carried_out() {
    if !has_program("strace") {
        return passed_over("a_copied_journal_is_looked_at_before_it_is_carried_out", "strace");
    }
    let tree = TestTree::new();
    assert!(leave_torn(&tree, "create user maren", "renameat2", 3));
    let copy = tree.copy();
    let says = format!("it is about another tree, {}", tree.root().display());
    let run = copy.refused("create user perrin", 3, &says);
    assert!(run.stderr.contains("this one may be a copy of it"), "{}", run.stderr);
    assert_eq!(copy.json("create user perrin")["error"]["kind"], "other-tree");
    let shown = copy.done("list users");
    assert!(shown.stderr.contains("but in another tree"), "{}", shown.stderr);
    // What is offered works, and what would be done is shown.
    let dry = copy.done("recover --dry-run");
    dry.says("stands unfinished, and would be finished.").says("  replacing etc/passwd");
    dry.says(&format!("It is about another tree, {}", tree.root().display()));
    assert_eq!(copy.json("recover --dry-run")["unfinished"]["would_be"], "finished");
    assert_eq!(copy.run("recover").status, 3);
    copy.done("recover --yes").says("is now finished");
    copy.done("create user perrin");
    // The tree itself goes on by itself.
    tree.done("create user perrin");
}

#[test]
fn a_journal_in_another_state_folder_is_named() {
    if !has_program("strace") {
        return passed_over("a_journal_in_another_state_folder_is_named", "strace");
    }
    let (tree, state) = (TestTree::new(), crate::harness::folder());
    let other = crate::harness::folder();
    let here = format!("--state {}", state.path().display());
    assert!(leave_torn(&tree, &format!("{here} create user maren"), "renameat2", 3));
    let says = format!("its journal is in the state folder {}", state.path().display());
    for elsewhere in ["", "--state none", &format!("--state {}", other.path().display())] {
        let run = tree.refused(&format!("{elsewhere} create user perrin"), 3, &says);
        let way = format!("{here} recover");
        assert!(run.stderr.contains(&way), "{}", run.stderr);
        tree.refused(&format!("{elsewhere} recover"), 3, &says);
    }
    tree.done(&format!("{here} recover")).says("is now finished");
    assert!(!tree.exists("etc/.copper-nest-state"));
    tree.done("create user perrin");
    // And the other way round.
    let tree = TestTree::new();
    assert!(leave_torn(&tree, "create user maren", "renameat2", 3));
    tree.refused(
        &format!("{here} create user perrin"),
        3,
        "in the state folder var/lib/copper-nest",
    );
    tree.done("recover");
    tree.done(&format!("{here} create user perrin"));
    assert!(!tree.exists("etc/.copper-nest-state"));
}

#[test]
fn what_a_stranger_wrote_steers_no_terminal() {
    if !has_program("strace") {
        return passed_over("what_a_stranger_wrote_steers_no_terminal", "strace");
    }
    let tree = TestTree::new();
    assert!(leave_torn(&tree, "create user maren", "renameat2", 3));
    let path = format!("{STATE}/journal/ready.json");
    let odd = "create \\u001b]0;x\\u0007 user";
    tree.write(&path, tree.read(&path).replace("create user maren", odd));
    for words in
        ["list users", "recover --dry-run", "check", "recover", "list changes", "show change 1"]
    {
        let run = tree.run(words);
        let text = format!("{}{}", run.stdout, run.stderr);
        assert!(!text.contains('\u{1b}') && !text.contains('\u{7}'), "{words}: {text:?}");
    }
    // And so with every text of a record and of a kept account.
    let base = with_maren();
    base.done("delete user maren --yes");
    for (file, words) in [
        ("changes/2.json", "show change 2"),
        ("changes/2.json", "list changes"),
        ("changes/2.json", "undo 2 --yes"),
        ("retired/user/maren.1002.2/account.json", "list retired"),
        ("retired/user/maren.1002.2/account.json", "show user maren --retired"),
        ("retired/user/maren.1002.2/account.json", "restore user maren"),
    ] {
        let path = format!("{STATE}/{file}");
        let document: Value = serde_json::from_str(&base.read(&path)).unwrap();
        let mut places = Vec::new();
        strings(&document, "", &mut places);
        for place in places {
            let mut document = document.clone();
            let old = document.pointer(&place).unwrap().as_str().unwrap().to_owned();
            *document.pointer_mut(&place).unwrap() = format!("{old}\u{1b}[2J\u{7}").into();
            let tree = base.copy();
            tree.write(&path, document.to_string());
            let run = tree.run(words);
            let text = format!("{}{}", run.stdout, run.stderr);
            assert!(!text.contains(['\u{1b}', '\u{7}']), "{words}, {place} of {file}: {text:?}");
        }
    }
}

#[test]
fn one_damaged_file_keeps_none_of_the_others() {
    let base = with_maren();
    base.done("create user odalys");
    base.done("delete user maren --yes");
    base.done("regroup tavish --join slipway");
    base.done("suspend user odalys --reason leave --yes");
    for (file, text, says) in [
        ("changes/1.json", "{\"version\": 1", "is damaged ("),
        ("changes/2.json", "{\"version\": 9}", "was written by a newer version"),
        ("changes/77.json", "{}", "is damaged ("),
        ("retired/user/odd.1.1/account.json", "[]", "is damaged ("),
        ("retired/user/odd.1.1/account.json", "{\"version\": 4}", "was written by a newer version"),
        ("ids.json", "{\"version\": 1, \"users\": 3}", "is damaged ("),
        ("ids.json", "{\"version\": 3}", "was written by a newer version"),
        ("suspended.json", "", "is damaged ("),
    ] {
        let tree = base.copy();
        let path = format!("{STATE}/{file}");
        tree.write(&path, text);
        let told = format!("{path} is passed over: it {says}");
        let mut times = 0;
        for words in [
            "list changes",
            "list retired",
            "list users",
            "check --files-only",
            "regroup sunniva --join pilots",
            "undo --yes",
            "list ids",
        ] {
            let run = tree.run(words);
            assert!(matches!(run.status, 0 | 1), "{words}, {file}: {}{}", run.stdout, run.stderr);
            let count = run.stderr.matches(&told).count();
            assert!(count <= 1, "{words}, {file}: {}", run.stderr);
            times += count;
        }
        assert!(times >= 1, "{file}: nobody is told");
        // What can't go on without it says so, and leaves all as it was.
        match file {
            "ids.json" => {
                let run = tree.refused("create user perrin", 6, "ids.json ");
                assert_eq!(run.stderr.matches("ids.json").count(), 1, "{}", run.stderr);
                tree.refused("delete user tavish --yes", 6, "ids.json ");
                // Whoever comes back takes no number that could be somebody else's.
                let other = tree.copy();
                let told = format!("{path} is passed over: it {says}");
                assert!(tree.done("restore user maren").stderr.contains(&told));
                assert!(other.done("undo 3 --yes").stderr.contains(&told));
                for tree in [&tree, &other] {
                    assert!(tree.read("etc/passwd").contains("\nmaren:x:1002:"));
                    assert_eq!(tree.read(&path), text, "it is left to be mended");
                    // What was made by the change that is taken back, and used, is retired.
                    tree.write("home/maren/notes", "low water\n");
                    tree.refused("undo 1 --yes", 6, "ids.json ");
                }
            }
            "suspended.json" => {
                tree.refused("suspend user tavish --reason x --yes", 6, "suspended.json ");
            }
            _ => {
                tree.done("create user perrin");
                tree.done("restore user maren");
            }
        }
    }
    // Strays that are no records are no matter at all.
    let tree = base.copy();
    tree.write(&format!("{STATE}/changes/notes.txt"), "");
    tree.write(&format!("{STATE}/changes/18446744073709551615.json"), "{}");
    tree.write(&format!("{STATE}/changes/007.json"), "{}");
    std::fs::create_dir(tree.path(&format!("{STATE}/changes/9.json"))).unwrap();
    tree.write(&format!("{STATE}/retired/user/file"), "");
    let run = tree.done("create user perrin");
    assert_eq!(run.stderr, "");
    run.says("done: change 6.");
}

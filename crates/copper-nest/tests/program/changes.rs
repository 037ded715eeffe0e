//! The record of changes, and taking changes back.

use std::os::unix::fs::MetadataExt;

use crate::harness::{Run, TestTree, is_root, passed_over};

const STATE: &str = "var/lib/copper-nest";

fn record(tree: &TestTree, number: u64) -> serde_json::Value {
    serde_json::from_str(&tree.read(&format!("{STATE}/changes/{number}.json"))).unwrap()
}

#[test]
fn a_change_is_recorded_for_root_alone() {
    let tree = TestTree::new();
    tree.done("create user maren --join pilots");
    let record = record(&tree, 1);
    assert_eq!(record["told"]["summary"], "create user maren");
    assert_eq!(record["time"], "2026-11-24T06:00:00+00:00");
    let arguments = record["arguments"].as_array().unwrap();
    assert_eq!(arguments[2..], ["create", "user", "maren", "--join", "pilots"]);
    assert_eq!(record["told"]["steps"][0]["left_as"]["files"], 3);
    assert_eq!(tree.mode(STATE), 0o700);
    for file in ["changes/1.json", "left.json"] {
        assert_eq!(tree.mode(&format!("{STATE}/{file}")), 0o600, "{file}");
    }
    assert!(!tree.exists(&format!("{STATE}/journal")));
    let shown = tree.done("show change 1");
    shown.says("create user maren\n").says("  etc/group:8      was    pilots:x:210:tavish\n");
    let typed = format!("copper-nest --tree {} create user maren", tree.root().display());
    shown.says(&typed);
}

#[test]
fn changes_are_listed_newest_first_and_by_name() {
    let tree = TestTree::new();
    tree.done("create user maren");
    tree.done("create user perrin --join pilots");
    tree.done("undo --yes");
    let numbers = |run: &Run| -> Vec<String> {
        run.stdout.lines().map(|line| line.split('\t').next().unwrap().to_owned()).collect()
    };
    assert_eq!(numbers(&tree.done("list changes")), ["3", "2", "1"]);
    assert_eq!(numbers(&tree.done("list changes --about perrin")), ["3", "2"]);
    assert_eq!(numbers(&tree.done("list changes --about pilots")), ["3", "2"]);
    assert_eq!(tree.done("list changes --since 2026-11-25").stdout, "");
    tree.done("list changes --since today").says("\tundone by 3\t\n");
    let list = tree.json("list changes");
    assert_eq!(list["changes"][1]["undone_by"], 3);
    assert_eq!(list["changes"][0]["undoes"], 2);
    assert_eq!(
        tree.json("show change 3")["steps"][0],
        "removes /home/perrin, unused since it was made"
    );
    tree.refused("show change 9", 3, "there is no change 9; the newest is 3");
    tree.refused(
        "list changes --since never",
        3,
        "is no day; write it as 2026-03-31, today or -7d",
    );
}

#[test]
fn undoing_an_account_leaves_no_trace() {
    let tree = TestTree::new();
    let before = tree.snapshot();
    tree.done("create user maren --join pilots,slipway");
    let run = tree.done("undo --yes");
    run.says("removes      /home/maren");
    run.says("free again   uid 1002, gid 1002 and ids 2001141760-2001207295");
    crate::harness::assert_same(&before, &tree.snapshot());
    tree.done("create user perrin");
    assert_eq!(tree.line("etc/passwd", 7), "perrin:x:1002:1002::/home/perrin:/bin/bash");
}

#[test]
fn undoing_again_goes_further_back_and_an_undo_can_be_undone() {
    let tree = TestTree::new();
    let before = tree.snapshot();
    tree.done("create user maren --join pilots");
    tree.done("create user perrin");
    let both = tree.snapshot();
    tree.done("undo --yes").says("undo 2\n");
    tree.done("undo --yes").says("undo 1\n");
    crate::harness::assert_same(&before, &tree.snapshot());
    tree.refused("undo --yes", 3, "there is no change to take back");
    tree.refused("undo 2 --yes", 3, "change 3 has taken it back already");
    tree.done("undo 4 --yes").says("made again   /home/maren");
    tree.done("undo 3 --yes");
    crate::harness::assert_same(&both, &tree.snapshot());
    // Numbers that were used are retired, and in use again when their account is.
    tree.write("home/maren/notes", "low water\n");
    tree.done("undo 5 --yes").says("retired   uid 1002, gid 1002");
    tree.done("undo 7 --yes").says("back in use   uid 1002, gid 1002");
    let ids = tree.read(&format!("{STATE}/ids.json"));
    assert!(!ids.contains("1002") && !ids.contains("maren"), "{ids}");
}

#[test]
fn a_home_that_has_been_used_is_set_aside_whole() {
    let tree = TestTree::new();
    tree.done("create user maren");
    tree.write("home/maren/letter", "dear\n");
    let run = tree.done("undo --yes");
    run.says("/home/.set-aside/maren.1002.2   used since it was made: 4 files");
    assert_eq!(tree.read("home/.set-aside/maren.1002.2/letter"), "dear\n");
    assert_eq!(tree.mode("home/.set-aside"), 0o700);
    assert!(!tree.exists("home/maren"));
    tree.done("undo 2 --yes");
    assert_eq!(tree.read("home/maren/letter"), "dear\n");
    assert!(tree.read("etc/passwd").contains("\nmaren:x:1002:1002:"));
}

#[test]
fn a_planted_set_aside_stops_the_undo() {
    let tree = TestTree::new();
    tree.done("create user maren");
    tree.write("home/maren/letter", "dear\n");
    std::fs::create_dir(tree.path("home/.set-aside")).unwrap();
    tree.chmod("home/.set-aside", 0o777);
    tree.refused(
        "undo --yes",
        6,
        "/home/.set-aside is there already, and is no directory of root's alone; all is as it was",
    );
}

#[test]
fn a_line_that_has_changed_stops_the_undo_and_both_are_shown() {
    let tree = TestTree::new();
    tree.done("change user tavish --shell /bin/sh");
    tree.done("create user perrin");
    tree.done("change user tavish --shell /usr/sbin/nologin");
    let refused = tree.refused("undo 1 --yes", 3, "etc/passwd:6 has changed since");
    let line = "tavish:x:1001:1001:Tavish Rowe:/home/tavish:";
    for says in ["it was left as   LINE/bin/sh\n", "and is now       LINE/usr/sbin/nologin"] {
        let says = says.replace("LINE", line);
        assert!(refused.stderr.contains(&says), "{}", refused.stderr);
    }
    let passwd = tree.read("etc/passwd").replace("1002:1002::", "1002:1002:Perrin Ash:");
    tree.write("etc/passwd", passwd);
    tree.refused("undo 2 --yes", 3, "etc/passwd:7 has changed since");
}

#[test]
fn what_others_changed_in_the_same_line_stays() {
    let tree = TestTree::new();
    tree.done("regroup sunniva --join pilots");
    tree.done("create user maren --join pilots");
    tree.done("regroup tavish --leave pilots");
    tree.done("undo 1 --yes").says("line 8 of etc/group has changed since, and keeps what else");
    assert_eq!(tree.line("etc/group", 8), "pilots:x:210:maren");
    assert_eq!(tree.line("etc/gshadow", 8), "pilots:!:tavish:maren");
    // And is taken back in its turn.
    tree.done("undo 4 --yes");
    assert_eq!(tree.line("etc/group", 8), "pilots:x:210:sunniva,maren");
    tree.done("undo 2 --yes");
    assert_eq!(tree.line("etc/group", 8), "pilots:x:210:sunniva");
    tree.done("change user tavish --full-name Tav");
    tree.done("change user tavish --shell /bin/sh");
    tree.done("undo 7 --yes").says("line 6 of etc/passwd has changed since");
    assert!(tree.line("etc/passwd", 6).ends_with(":Tavish Rowe:/home/tavish:/bin/sh"));
}

#[test]
fn a_password_does_not_come_back_by_its_day_alone() {
    let tree = TestTree::new();
    tree.fed("password user sunniva --from-stdin", b"kelp-Harbour.91 tern");
    tree.done("change user sunniva --password-renew 90");
    let before = tree.line("etc/shadow", 5);
    tree.refused("undo 1 --yes", 3, "etc/shadow:5 has changed since");
    assert_eq!(tree.line("etc/shadow", 5), before);
}

#[test]
fn unrelated_later_changes_stay() {
    let tree = TestTree::new();
    tree.done("create user maren");
    tree.done("create user perrin --join pilots");
    let passwd = tree.read("etc/passwd");
    tree.done("undo 1 --yes");
    let kept: String = passwd
        .lines()
        .filter(|line| !line.starts_with("maren:"))
        .map(|line| format!("{line}\n"))
        .collect();
    assert_eq!(tree.read("etc/passwd"), kept);
    assert_eq!(tree.line("etc/group", 8), "pilots:x:210:tavish,perrin");
}

#[test]
fn taking_back_asks_and_without_a_terminal_wants_yes() {
    let tree = TestTree::new();
    tree.done("create user maren");
    let run = tree.refused("undo", 3, "there is no terminal to ask at");
    assert!(run.stderr.contains("undo 1 --yes"), "{}", run.stderr);
    let dry = tree.json("undo --dry-run");
    assert_eq!((&dry["dry_run"], &dry["change"]), (&true.into(), &serde_json::Value::Null));
}

#[test]
fn lines_only_leaves_the_home_alone() {
    let tree = TestTree::new();
    tree.done("create user maren");
    tree.done("undo --lines-only --yes").says("1 step on the tree stays as done");
    assert!(tree.exists("home/maren/.profile") && !tree.read("etc/passwd").contains("maren"));
}

#[test]
fn other_hands_are_noticed_once_and_listed() {
    let tree = TestTree::new();
    tree.done("create user maren");
    let passwd = tree.read("etc/passwd").replace("Tavish Rowe", "Tavish A. Rowe");
    tree.write("etc/passwd", format!("{passwd}guest:x:1500:100::/:/bin/sh\n"));
    let says = "etc/passwd was edited by other hands since change 1: 1 line came, 1 line altered";
    tree.done("list changes").says(says);
    tree.done("create user perrin").says(says);
    let again = tree.done("create user brannoc");
    assert!(!again.stdout.contains("other hands"), "{}", again.stdout);
    let list = tree.json("list changes");
    assert_eq!(list["other_hands"], serde_json::json!([]));
    assert_eq!(list["changes"][1]["other_hands"][0]["lines"]["came"], 1);
}

#[test]
fn a_file_that_was_only_copied_was_not_edited() {
    let tree = TestTree::new();
    tree.done("create user maren");
    let passwd = tree.bytes("etc/passwd");
    tree.remove("etc/passwd");
    tree.write("etc/passwd", passwd);
    assert!(!tree.done("list changes").stdout.contains("other hands"));
}

#[test]
fn old_records_go_and_numbers_are_never_given_again() {
    let tree = TestTree::new();
    tree.done("create user maren");
    tree.done("create user perrin");
    let later = |words: &str| {
        let mut command = tree.command(&words.split(' ').collect::<Vec<_>>());
        // 401 days later.
        let run = Run::of(command.env("SOURCE_DATE_EPOCH", "1830146400"));
        assert_eq!(run.status, 0, "{}", run.stderr);
    };
    later("create user brannoc");
    assert!(!tree.exists(&format!("{STATE}/changes/1.json")));
    assert!(tree.exists(&format!("{STATE}/changes/3.json")));
    std::fs::remove_dir_all(tree.path(&format!("{STATE}/changes"))).unwrap();
    later("create user corwin");
    assert!(tree.exists(&format!("{STATE}/changes/4.json")));
}

#[test]
fn without_state_nothing_is_kept() {
    let tree = TestTree::new();
    tree.done("--state none create user maren").says("done: 6 lines in 6 files, 1 step");
    assert!(!tree.exists(STATE) && !tree.exists("etc/.copper-nest-journal"));
    tree.refused("--state none undo --yes", 3, "no changes are kept");
    let elsewhere = crate::harness::folder();
    let state = elsewhere.path().join("state");
    tree.done(&format!("--state {} create user perrin", state.display())).says("done: change 1.");
    assert!(state.join("changes/1.json").exists() && !tree.exists(STATE));
}

#[test]
fn records_that_make_no_sense_are_refused() {
    let tree = TestTree::new();
    tree.done("create user maren");
    let path = format!("{STATE}/changes/1.json");
    let sound = tree.read(&path);
    for (text, says) in [
        (sound[..sound.len() / 2].to_owned(), "1.json is damaged (EOF"),
        (
            sound.replace("\"version\": 1", "\"version\": 7"),
            "1.json was written by a newer version of this program (format 7, and 1 is known)",
        ),
        (sound.replace("\"number\": 1", "\"number\": 5"), "it says that it is change 5"),
        (sound.replace("\"told\"", "\"tolled\""), "1.json is damaged ("),
    ] {
        tree.write(&path, text);
        tree.refused("undo 1 --yes", 3, says);
    }
    // An edit by hand that makes sense is held against the files like any other.
    tree.write(&path, sound.replace("maren:x:1002:1002", "maren:x:0:1002"));
    tree.refused("undo 1 --yes", 3, "etc/passwd:7 has changed since");
}

#[test]
fn a_state_folder_that_others_can_write_is_refused() {
    let tree = TestTree::new();
    tree.done("create user maren");
    tree.chmod(STATE, 0o777);
    tree.refused("create user perrin", 3, "can be written by others (mode 0777)");
    tree.chmod(STATE, 0o700);
    if is_root() {
        tree.chown(STATE, 1000, 1000);
        tree.refused(
            "create user perrin",
            3,
            "the state folder var/lib/copper-nest belongs to uid 1000",
        );
    } else {
        passed_over("a state folder of somebody else's", "root");
    }
    let file = TestTree::new();
    file.write(STATE, "");
    file.refused("create user perrin", 3, "is not a directory");
}

#[test]
fn a_record_holds_no_hash() {
    let tree = TestTree::new();
    let old = "tavish:!$6$Gullhaven2$0123456789abcdef";
    tree.done("create user maren --join pilots");
    tree.write(
        "etc/gshadow",
        tree.read("etc/gshadow").replace("pilots:!:", "pilots:$6$Crew$hashhashhashhash:"),
    );
    tree.done("create user perrin --join pilots");
    tree.done("undo --yes");
    assert!(tree.read("etc/shadow").contains(old));
    assert!(
        tree.read("etc/gshadow").contains("pilots:$6$Crew$hashhashhashhash:tavish:tavish,maren\n")
    );
    for entry in std::fs::read_dir(tree.path(&format!("{STATE}/changes"))).unwrap() {
        let path = entry.unwrap().path();
        let text = std::fs::read_to_string(&path).unwrap();
        assert!(!text.contains("$6$"), "{}", path.display());
        assert_eq!(path.metadata().unwrap().mode() & 0o077, 0);
    }
}

#[test]
fn the_digests_of_large_files_are_those_of_what_stands_there() {
    let tree = TestTree::new();
    let crew = |line: &dyn Fn(usize) -> String| (0..40_000).map(line).collect::<String>();
    tree.append(
        "etc/passwd",
        crew(&|at| format!("crew{at}:x:{}:100::/home/c{at}:/bin/sh\n", 70_000 + at)),
    );
    tree.append("etc/group", crew(&|at| format!("crew{at}:x:{}:\n", 70_000 + at)));
    tree.append("etc/shadow", crew(&|at| format!("crew{at}:!:20600:0::7:::\n")));
    for words in
        ["create user maren --ranges none", "create user perrin --join pilots", "undo --yes"]
    {
        tree.done(words);
    }
    for number in 1..=3 {
        let left = record(&tree, number)["left"].clone();
        assert_eq!(left.as_object().unwrap().len(), 6, "change {number}: {left}");
        if number < 3 {
            continue;
        }
        for (file, left) in left.as_object().unwrap() {
            let text = tree.bytes(file);
            assert_eq!(left["digest"], nest_core::drift::digest(&text), "{file}");
            assert_eq!(left["size"], text.len(), "{file}");
        }
    }
    assert!(!tree.done("list changes").stdout.contains("other hands"));
    tree.append("etc/passwd", "guest:x:1500:100::/:/bin/sh\n");
    tree.done("list changes").says("etc/passwd was edited by other hands since change 3");
}

//! `export snapshot`, and `compare`.

use std::fs;
use std::path::Path;

use serde_json::Value;

use crate::harness::{Run, TestTree, folder, is_root, passed_over};

/// A tree of the machine of this name.
fn machine(name: &str) -> TestTree {
    let tree = TestTree::new();
    tree.write("etc/hostname", format!("{name}\n"));
    tree
}

/// Puts a snapshot of a tree into a folder.
fn into(tree: &TestTree, folder: &Path, file: &str) {
    tree.done(&format!("export snapshot --to {}", folder.join(file).display()));
}

/// Three machines that drifted apart, and a folder with their snapshots.
fn drifted() -> (Vec<TestTree>, tempfile::TempDir) {
    let trees = vec![machine("harbour"), machine("quay"), machine("slip")];
    trees[1].done("change user sunniva --uid 1017 --yes");
    trees[2].done("rename user tavish tavi --yes");
    trees[2].done("change user sunniva --shell /bin/sh --yes");
    let snapshots = folder();
    for (tree, name) in trees.iter().zip(["harbour", "quay", "slip"]) {
        into(tree, snapshots.path(), &format!("{name}.json"));
    }
    (trees, snapshots)
}

/// Compares with these words after the name of the folder.
fn compare(snapshots: &Path, words: &str) -> Run {
    TestTree::empty().run(&format!("compare --from {} {words}", snapshots.display()))
}

/// The rows of a comparison: kind, name, field, value and sides.
fn rows(run: &Run) -> Vec<String> {
    let wanted = |line: &str| {
        let cells: Vec<&str> = line.split('\t').collect();
        [cells[0], cells[1], cells[2], cells[3], cells[7]].join(" ")
    };
    run.stdout.lines().map(wanted).collect()
}

#[test]
fn a_snapshot_has_no_hash_and_is_the_same_each_time() {
    let tree = machine("harbour");
    tree.write("home/sunniva/.ssh/authorized_keys", crate::harness::KEY);
    let text = tree.done("export snapshot").stdout;
    for secret in ["$y$", "Gullhaven2", "AAAAC3", "0123456789abcdef"] {
        assert!(!text.contains(secret), "{secret} in {text}");
    }
    assert_eq!(text, tree.done("export snapshot --format json").stdout);
    let document: Value = serde_json::from_str(&text).unwrap();
    assert_eq!((&document["host"], &document["version"]), (&"harbour".into(), &1.into()));
    assert_eq!(document["time"], "2026-11-24T06:00:00+00:00");
    let sunniva = document["users"].as_array().unwrap().iter().find(|it| it["name"] == "sunniva");
    let sunniva = sunniva.unwrap();
    assert_eq!(sunniva["uids"][0], serde_json::json!([2_001_010_688, 65536]));
    assert!(text.len() < 4000, "{}", text.len());
    // What only tells machines of one name apart is not their id.
    tree.write("etc/machine-id", "0123456789abcdef0123456789abcdef\n");
    let with = tree.done("export snapshot").stdout;
    assert!(with.contains("\"machine\":\"") && !with.contains("0123456789abcdef0"), "{with}");
}

#[test]
fn a_snapshot_is_packed_where_that_is_asked_for_and_overwrites_nothing() {
    let tree = machine("harbour");
    let place = folder();
    let file = place.path().join("harbour.json.zst");
    let run = tree.done(&format!("export snapshot --to {}", file.display()));
    assert!(run.stdout.contains(": ") && run.stdout.contains(" bytes"), "{}", run.stdout);
    let packed = fs::read(&file).unwrap();
    assert_eq!(packed[..4], [0x28, 0xb5, 0x2f, 0xfd]);
    assert!(packed.len() < tree.done("export snapshot").stdout.len() / 2);
    let words = format!("export snapshot --to {}", file.display());
    tree.refused(&words, 3, "harbour.json.zst exists already, and is not overwritten");
    let run = tree.run(&format!("compare {} {}", file.display(), tree.root().display()));
    assert_eq!((run.status, &*run.stdout), (0, ""), "{}", run.stderr);
}

#[test]
fn files_are_counted_on_request() {
    if !is_root() {
        return passed_over("files_are_counted_on_request", "root, to give files other owners");
    }
    let tree = machine("harbour");
    for file in ["chart", "tides"] {
        tree.write(&format!("srv/{file}"), "x");
        tree.chown(&format!("srv/{file}"), 1001, 210);
    }
    let text = tree.done("export snapshot --count-files").stdout;
    let document: Value = serde_json::from_str(&text).unwrap();
    let files = |list: &str, name: &str| {
        let all = document[list].as_array().unwrap();
        all.iter().find(|one| one["name"] == name).unwrap()["files"].clone()
    };
    assert_eq!((files("users", "tavish"), files("groups", "pilots")), (3.into(), 2.into()));
    assert_eq!(files("users", "tidegauge"), 0);
    assert!(!tree.done("export snapshot").stdout.contains("\"files\""));
}

#[test]
fn what_differs_is_told_with_who_says_what() {
    let (_trees, snapshots) = drifted();
    let run = compare(snapshots.path(), "");
    assert_eq!(run.status, 1, "{}", run.stderr);
    assert_eq!(
        rows(&run),
        [
            "user sunniva uid 1000 harbour,slip",
            "user sunniva uid 1017 quay",
            "user sunniva shell /bin/bash harbour,quay",
            "user sunniva shell /bin/sh slip",
            "user tavi present no harbour,quay",
            "user tavi present yes slip",
            "user tavish present yes harbour,quay",
            "user tavish present no slip",
            "uid 1001 name tavish harbour,quay",
            "uid 1001 name tavi slip",
        ]
    );
    let text = compare(snapshots.path(), "--color always");
    let text = anstream::adapter::strip_str(&text.stdout).to_string();
    for line in [
        "user sunniva   on all 3",
        "  uid    1000       on 2: harbour, slip",
        "         1017       on 1: quay",
        "user tavi   on 1 of 3",
        "3 sides with 3 users and 3 groups: 3 users and 1 number differ",
    ] {
        assert!(text.contains(line), "{line} in\n{text}");
    }
    let text = compare(snapshots.path(), "--by host --color always");
    let text = anstream::adapter::strip_str(&text.stdout).to_string();
    assert!(
        text.contains("quay   1 difference\n  user sunniva  uid 1017  1000 on 2 of 3"),
        "{text}"
    );
    let words: Vec<&str> = text.split_whitespace().collect();
    let words = words.join(" ");
    assert!(words.contains("user tavi is here not on 2 of 3"), "{text}");
    assert!(words.contains("user tavish is not here on 2 of 3"), "{text}");
    let csv = compare(snapshots.path(), "--as csv").stdout;
    assert!(csv.starts_with("kind,name,field,value,count,of,expected,sides\n"), "{csv}");
    assert!(csv.contains("user,sunniva,uid,1000,2,3,,\"harbour,slip\"\n"), "{csv}");
    let json = compare(snapshots.path(), "--format json").stdout;
    let lines: Vec<Value> = json.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!((&lines[0]["differing"], lines.len()), (&4.into(), 5));
    assert_eq!(lines[1]["fields"][0]["values"][1]["sides"], serde_json::json!(["quay"]));
}

#[test]
fn one_side_can_be_as_it_should_be() {
    let (trees, snapshots) = drifted();
    let harbour = trees[0].root().display();
    let run = compare(snapshots.path(), &format!("--against {harbour}"));
    assert_eq!(run.status, 1, "{}", run.stderr);
    let expected: Vec<&str> =
        run.stdout.lines().filter(|line| line.split('\t').nth(6) == Some("yes")).collect();
    assert_eq!(expected.len(), 5, "{}", run.stdout);
    assert!(expected[0].starts_with("user\tsunniva\tuid\t1000\t3\t4\tyes\t"), "{}", run.stdout);
    // The same file is not held against itself, and where nothing differs that is the status.
    let alone = folder();
    into(&trees[0], alone.path(), "harbour.json");
    fs::copy(alone.path().join("harbour.json"), alone.path().join("again.json")).unwrap();
    let against = alone.path().join("harbour.json");
    let run = compare(alone.path(), &format!("--against {}", against.display()));
    assert_eq!((run.status, &*run.stdout), (0, ""), "{}", run.stderr);
    let run = compare(alone.path(), "--against /no/such.json");
    assert_eq!(run.status, 3);
    run.complains("/no/such.json can't be gone by: it can't be read");
}

#[test]
fn tables_trees_and_earlier_states_are_sides_too() {
    let tree = machine("harbour");
    tree.done("create user maren --no-home --yes");
    tree.done("change user maren --shell /bin/sh --yes");
    tree.done("delete user tavish --files keep --yes");
    let here = tree.root().display();
    let at = |number: u64| rows(&tree.run(&format!("compare change:{number} {here}")));
    assert_eq!(at(3), [""; 0]);
    assert_eq!(at(2), ["user tavish present no harbour", "user tavish present yes change:2"]);
    let shell = "user maren shell /bin/bash change:1";
    assert!(at(1).iter().any(|row| row == shell), "{:?}", at(1));
    assert!(at(0).iter().any(|row| row == "user maren present no change:0"), "{:?}", at(0));
    let run = tree.run(&format!("compare change:9 {here}"));
    run.complains("not compared: change:9: there is no change 9: the newest is 3");
    let table = tree.path("crew.csv");
    tree.write("crew.csv", "name,shell,join\nmaren,/bin/zsh,pilots\nsunniva,/bin/bash,sudo\n");
    let run = tree.run(&format!("compare {} {here}", table.display()));
    assert_eq!(
        rows(&run),
        [
            "user maren shell /bin/sh harbour",
            "user maren shell /bin/zsh crew.csv",
            "user maren groups  harbour",
            "user maren groups pilots crew.csv",
        ],
        "{}",
        run.stderr
    );
}

#[test]
fn what_was_not_compared_is_told_and_is_the_status() {
    let (_trees, snapshots) = drifted();
    let place = snapshots.path();
    fs::write(place.join("notes.txt"), "remember quay").unwrap();
    fs::write(place.join("package.json"), "{\"name\": \"tides\"}").unwrap();
    let whole = fs::read_to_string(place.join("quay.json")).unwrap();
    fs::write(place.join("cut.json"), &whole[..whole.len() / 2]).unwrap();
    fs::write(place.join("newer.json"), whole.replacen("\"version\":1", "\"version\":2", 1))
        .unwrap();
    let old = whole.replace("2026-11-24T06", "2026-11-20T06").replace("\"quay\"", "\"pier\"");
    fs::write(place.join("pier.json"), old).unwrap();
    fs::write(place.join("expected"), "# ours\nharbour\nquay\nslip\npier\nlock\n").unwrap();
    let words = format!("--not-older 2d --expected {}", place.join("expected").display());
    let run = compare(place, &words);
    assert_eq!(run.status, 6, "{}", run.stderr);
    for told in [
        "notes.txt was passed over: it does not end in .json or .json.zst",
        "package.json: it is no snapshot, but a document that does not say what it is",
        "cut.json: it is cut off in line ",
        "newer.json: it is of version 2, and this program reads up to 1",
        "not compared: pier: its snapshot is of 2026-11-20 06:00, which is too old",
        "not compared: lock: it was expected, and there is no snapshot of it",
    ] {
        run.complains(told);
    }
    assert!(!run.stderr.contains("not compared: slip"), "{}", run.stderr);
    assert!(!run.stdout.contains("pier"), "{}", run.stdout);
    for name in ["package.json", "cut.json", "newer.json", "pier.json"] {
        fs::remove_file(place.join(name)).unwrap();
    }
    let same = folder();
    fs::copy(place.join("quay.json"), same.path().join("quay.json")).unwrap();
    fs::write(same.path().join("slip.json"), whole.replace("\"quay\"", "\"slip\"")).unwrap();
    assert_eq!(compare(same.path(), "").status, 0);
    assert_eq!(compare(same.path(), &words).status, 1);
    let run = compare(same.path(), "--not-older soon");
    assert_eq!(run.status, 2);
    run.complains("\"soon\" is no age; write 2d or 36h, say");
}

#[test]
fn one_machine_counts_once_and_two_of_one_name_are_told_apart() {
    let trees = [machine("quay"), machine("quay"), machine("quay")];
    trees[0].write("etc/machine-id", "0123456789abcdef0123456789abcdef\n");
    trees[1].write("etc/machine-id", "0123456789abcdef0123456789abcdef\n");
    trees[2].write("etc/machine-id", "fedcba9876543210fedcba9876543210\n");
    trees[1].done("change user sunniva --shell /bin/sh --yes");
    let snapshots = folder();
    for (tree, name) in trees.iter().zip(["a", "b", "c"]) {
        into(tree, snapshots.path(), &format!("{name}.json"));
    }
    let older = snapshots.path().join("b.json");
    let text = fs::read_to_string(&older).unwrap().replace("2026-11-24T06", "2026-11-23T06");
    fs::write(&older, text).unwrap();
    let run = compare(snapshots.path(), "");
    assert_eq!((run.status, &*run.stdout), (0, ""), "{}", run.stderr);
    run.complains(
        "b.json: there is a newer snapshot of quay, and this one of 2026-11-23 06:00 was left out",
    );
    run.complains("2 sides call themselves \"quay\": they are named by where they come from");
    trees[2].done("change user sunniva --shell /bin/sh --yes");
    fs::remove_file(snapshots.path().join("c.json")).unwrap();
    into(&trees[2], snapshots.path(), "c.json");
    let told = rows(&compare(snapshots.path(), ""));
    assert!(told[1].contains("/bin/sh quay (") && told[1].ends_with("c.json)"), "{told:?}");
}

#[test]
fn snapshots_come_one_after_the_other_too() {
    let (_trees, snapshots) = drifted();
    let text = |name: &str| fs::read_to_string(snapshots.path().join(name)).unwrap();
    let all = [text("harbour.json"), text("quay.json")].concat();
    let tree = TestTree::empty();
    let run = tree.fed("compare --from -", all.as_bytes());
    assert_eq!(rows(&run).len(), 2, "{}{}", run.stdout, run.stderr);
    let run = tree.fed("compare --from -", &all.as_bytes()[..all.len() - 9]);
    assert_eq!(run.status, 3);
    run.complains("snapshot 2 of standard input is cut off");
    for (words, says) in [
        ("compare", "there is nothing to compare: name trees, snapshots or tables"),
        ("compare change:1x /", "change:1x names no change; write change:12, say"),
        ("compare --from -", "there is one side only"),
    ] {
        let run = tree.fed(words, text("quay.json").as_bytes());
        assert!(matches!(run.status, 2 | 3), "{words}: {}", run.status);
        run.complains(says);
    }
    let quay = snapshots.path().join("quay.json");
    let twice = format!("compare {0} {0}", quay.display());
    tree.run(&twice).complains("a side is named twice");
    let link = snapshots.path().join("link");
    std::os::unix::fs::symlink(&quay, &link).unwrap();
    let words = format!("compare {} {}", quay.display(), link.display());
    tree.run(&words).complains("a side is named twice");
    std::fs::remove_file(&link).unwrap();
    let run = tree.run(&format!("compare {} {}", snapshots.path().display(), quay.display()));
    run.complains("is no tree: it has no etc/passwd. A folder of snapshots is named with --from");
}

#[test]
fn the_tables_line_the_machines_up() {
    if !is_root() {
        return passed_over("the_tables_line_the_machines_up", "root, to give files other owners");
    }
    let trees = [machine("harbour"), machine("quay"), machine("slip")];
    trees[0].done("create user maren --uid 1004 --yes");
    trees[1].done("create user perrin --uid 1004 --yes");
    trees[1].done("create user maren --uid 1006 --yes");
    trees[2].done("create user maren --uid 1006 --yes");
    trees[2].done("create group gulls --gid 212");
    trees[1].done("create group gulls --gid 213");
    for at in 0..30 {
        trees[0].write(&format!("home/maren/chart{at}"), "");
        trees[0].chown(&format!("home/maren/chart{at}"), 1004, 1004);
    }
    let place = folder();
    let snapshots = place.path().join("snapshots");
    fs::create_dir(&snapshots).unwrap();
    for (tree, name) in trees.iter().zip(["harbour", "quay", "slip"]) {
        let to = snapshots.join(format!("{name}.json"));
        tree.done(&format!("export snapshot --count-files --to {}", to.display()));
    }
    let (numbers, crew) = (place.path().join("numbers"), place.path().join("crew.csv"));
    let words = format!("--renumbering {} --roster {}", numbers.display(), crew.display());
    let run = compare(&snapshots, &words);
    assert_eq!(run.status, 1, "{}", run.stderr);
    // The 30 charts of maren's stay as they are, and who has fewer files moves.
    assert!(!numbers.join("harbour.csv").exists());
    let of_quay = fs::read_to_string(numbers.join("quay.csv")).unwrap();
    assert!(of_quay.contains("user,maren,1004\n"), "{of_quay}");
    let table = fs::read_to_string(&crew).unwrap();
    assert!(table.contains("maren,1004,") && !table.contains("perrin"), "{table}");
    run.complains("left out: 1 person who is on fewer than half of the machines");
    run.complains("crew.csv: 3 people");
    assert_eq!(compare(&snapshots, &words).status, 3);
    for (tree, name) in trees.iter().zip(["harbour", "quay", "slip"]) {
        let table = numbers.join(format!("{name}.csv"));
        if table.exists() {
            tree.done(&format!("renumber {} --yes", table.display()));
        }
        tree.done(&format!("intake {} --existing keep --no-home --yes", crew.display()));
        fs::remove_file(snapshots.join(format!("{name}.json"))).unwrap();
        into(tree, &snapshots, &format!("{name}.json"));
    }
    let told = rows(&compare(&snapshots, ""));
    let numbers =
        |row: &&String| row.contains(" uid ") || row.contains(" gid ") || row.contains(" name ");
    assert_eq!(told.iter().filter(numbers).count(), 0, "{told:?}");
    let maren = told.iter().filter(|row| row.contains("maren present"));
    assert_eq!(maren.count(), 0, "{told:?}");
}

#[test]
fn hostile_snapshots_steer_nothing() {
    let (trees, snapshots) = drifted();
    let text = trees[0].done("export snapshot").stdout;
    let hostile = text
        .replace("\"harbour\"", "\"har\\u001b[2Jbour\"")
        .replace("\"name\":\"tavish\"", "\"name\":\"\\u202etav\\u001fish\"");
    fs::write(snapshots.path().join("hostile.json"), hostile).unwrap();
    for words in ["", "--by host --color always", "--as csv", "--format json"] {
        let run = compare(snapshots.path(), words);
        assert_eq!(run.status, 1, "{}", run.stderr);
        let plain = run.stdout.replace("\u{1b}[38;5;", "").replace("\u{1b}[0m", "");
        assert!(!plain.contains(['\u{1b}', '\u{1f}', '\u{202e}']), "{words}: {plain:?}");
    }
    let run = compare(snapshots.path(), "");
    assert!(run.stdout.contains("\\x1b[2J"), "{}", run.stdout);
}

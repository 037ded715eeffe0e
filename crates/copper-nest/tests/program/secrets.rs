//! A hash that has slipped out of its place in a line is in no text and in no file that
//! this program writes.

use crate::harness::{TestTree, is_sampled};

const SALT: &str = "Gk8rTqW1xZ0aLmNvB3cD5";

/// Lines as an editor, a script or a merge leaves them: the file, the line that is
/// altered, and what it becomes.
fn slips() -> Vec<(&'static str, &'static str, String)> {
    let hash = format!("$6${SALT}$oMUdqLIIUbNlp.5ERqT8mq/0KPAoLbWTEaHGlGEYnd1");
    let shadow = |line: String| ("etc/shadow", "tavish:", line);
    let gshadow = |line: String| ("etc/gshadow", "pilots:", line);
    vec![
        shadow(format!("tavish{hash}:20602:0:365:7:30:20900:")),
        shadow(format!("tavish{hash}::20602:0:365:7:30:20900:")),
        shadow(format!("{hash}::20602:0:365:7:30:20900:")),
        shadow(format!("{hash}:20602:0:365:7:30:20900:")),
        shadow(format!("tavish::{hash}:0:365:7:30:20900:")),
        shadow(format!("tavish:!:20602:0:{hash}:7:30:20900:")),
        shadow(format!("tavish {hash}:20602:0:365:7:30:20900:")),
        shadow(format!("tavish:{hash}:20602:0:365:7:30:20900:\ntavish:{hash}:1::::::")),
        shadow(format!("hesper:{hash}:20602:0:365:7:30:20900:")),
        shadow(hash.clone()),
        shadow(format!("#tavish:{hash}:20602:0:365:7:30:20900:")),
        gshadow(format!("pilots:{hash}:tavish:tavish")),
        gshadow(format!("pilots:!:{hash}:tavish")),
        gshadow(format!("pilots:!:tavish,{hash}:tavish")),
        gshadow(format!("pilots:!::tavish,{hash}")),
        gshadow(format!("pilots{hash}::tavish")),
        gshadow(format!("{hash}:!::tavish")),
        gshadow(hash.clone()),
        ("etc/group", "pilots:", format!("pilots:{hash}:210:tavish")),
        ("etc/group", "pilots:", format!("pilots:x:210:tavish,{hash}")),
        ("etc/passwd", "tavish:", format!("tavish:{hash}:1001:1001::/home/tavish:/bin/sh")),
        ("etc/passwd", "tavish:", format!("tavish:x:1001:1001:{hash}:/home/tavish:/bin/sh")),
        // The old form, which has no marks.
        shadow(format!("tavish::{SALT:.12}.:0:365:7:30:20900:")),
        gshadow(format!("pilots:!:{SALT:.12}.:tavish")),
    ]
}

fn tree_with((file, start, line): (&str, &str, &str)) -> TestTree {
    let tree = TestTree::new();
    let text = tree.read(file);
    let lines = text.lines().map(|old| if old.starts_with(start) { line } else { old });
    tree.write(file, lines.collect::<Vec<_>>().join("\n") + "\n");
    if file == "etc/shadow" {
        tree.chmod(file, 0o640);
    }
    tree
}

#[test]
fn a_hash_that_slipped_is_in_no_text_and_no_record() {
    let secret = &SALT[..12];
    let mut told = 0;
    for (at, (file, start, line)) in slips().into_iter().enumerate() {
        if !is_sampled(at, 3) {
            continue;
        }
        let tree = tree_with((file, start, &line));
        for words in [
            "check",
            "check --format json",
            "check --format sarif",
            "check --remember",
            "check --since-last",
            "repair --dry-run",
            "repair --dry-run --format json -v",
            "list users --kind all",
            "list groups --kind all --format json",
            "show user tavish",
            "show user tavish --format json",
            "show group pilots",
            "show group pilots --format json",
            "regroup tavish --join slipway",
            "change group pilots --add-member sunniva --format json",
            "delete user tavish --yes -v",
            "show user tavish --retired",
            "repair --yes",
            "list changes --format json",
            "show change 1",
            "show change 1 --format json",
            "undo --yes",
            "export users",
            "export groups",
        ] {
            let run = tree.run(words);
            for text in [&run.stdout, &run.stderr] {
                assert!(!text.contains(secret), "{words}, with {line:?}:\n{text}");
            }
            assert!(run.status != 101, "{words}: {}", run.stderr);
            told += usize::from(run.stdout.contains("(hash)"));
        }
        for (path, (.., contents)) in tree.snapshot_with_state() {
            let name = path.file_name().unwrap().to_string_lossy().into_owned();
            let own = path.starts_with(tree.path("etc")) || name == "account.json";
            let holds = bstr::ByteSlice::contains_str(&contents[..], secret);
            assert!(own || !holds, "{} holds it, with {line:?}", path.display());
        }
    }
    assert!(told > if is_sampled(1, 3) { 40 } else { 12 }, "{told}");
}

#[test]
fn what_was_hidden_is_not_put_back_as_if_it_were_the_text() {
    let tree = TestTree::new();
    let hash = format!("$6${SALT}$oMUdqLIIUbNlp.5ERqT8mq/0KPAoLb");
    let list = tree.read("etc/gshadow").replace("pilots:!:tavish:", &format!("pilots:!:{hash}:"));
    tree.write("etc/gshadow", list);
    tree.done("change group pilots --add-member sunniva");
    let now = tree.read("etc/gshadow");
    tree.refused("undo --yes", 3, "stood what may be a hash, in a place where none belongs");
    assert_eq!(tree.read("etc/gshadow"), now);
}

#[test]
fn repair_takes_nothing_away_that_undo_could_not_give_back() {
    let secret = &SALT[..12];
    let mut ways = 0;
    for (file, start, line) in slips() {
        let tree = tree_with((file, start, &line));
        let before = tree.read(file);
        // A hash in its own place may go with its line, which is said.
        let slipped = |text: &str| -> Vec<String> {
            let holds = |line: &&str| {
                line.split(':').enumerate().any(|(at, field)| at != 1 && field.contains(secret))
            };
            text.lines().filter(holds).map(str::to_owned).collect()
        };
        let repaired = tree.done("repair --yes");
        assert_eq!(slipped(&tree.read(file)), slipped(&before), "{line:?}: {}", repaired.stdout);
        if !repaired.stdout.contains("nothing was changed") {
            tree.done("undo --yes");
        }
        assert_eq!(slipped(&tree.read(file)), slipped(&before), "{line:?}");
        // What is offered instead works.
        for finding in tree.json("check --files-only")["findings"].as_array().unwrap() {
            let remedies = finding["remedies"].as_array().unwrap();
            let commands = remedies.iter().filter_map(|remedy| remedy["command"].as_str());
            for (_, place) in commands.filter_map(|it| it.split_once("repair --take-out ")) {
                let run = tree.done(&format!("repair --dry-run --take-out {place}"));
                run.says("drops");
                let words = place;
                let place = words.split(' ').next().unwrap();
                let (path, number) = place.split_once(':').unwrap();
                let at = number.parse::<usize>().unwrap() - 1;
                let line = tree.read(path).lines().nth(at).map(str::to_owned);
                if !slipped(&line.clone().unwrap()).is_empty() {
                    run.says("for undo to put back");
                    let before = tree.bytes(path);
                    tree.done(&format!("repair --yes --take-out {words}"));
                    assert_ne!(tree.bytes(path), before, "{line:?}");
                    tree.done("undo --yes");
                    assert_eq!(tree.bytes(path), before, "{line:?}");
                    ways += 1;
                }
            }
        }
    }
    assert!(ways > 10, "{ways}");
    // A line that repair mends by itself does not go.
    let line = "hesper:!:20602:0:365:7:30:20900:";
    let tree = tree_with(("etc/shadow", "tavish:", line));
    let place = tree.read("etc/shadow").lines().position(|other| other == line).unwrap() + 1;
    tree.refused(
        &format!("repair --yes --take-out etc/shadow:{place}"),
        3,
        "nothing is wrong with",
    );
}

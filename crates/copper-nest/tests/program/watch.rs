//! `check` over time, over many trees, and for code-review systems.

use serde_json::Value;

use crate::harness::{Run, TestTree, assert_same, program};

fn with_a_ghost() -> TestTree {
    let tree = TestTree::new();
    tree.append("etc/group", "deck:x:300:skipper\n");
    tree.append("etc/gshadow", "deck:!::skipper\n");
    tree
}

#[test]
fn only_what_is_new_is_shown_and_what_is_gone() {
    let tree = with_a_ghost();
    let before = tree.snapshot_with_state();
    tree.refused("check --since-last", 3, "nothing was remembered yet");
    assert_eq!(tree.run("check --files-only").status, 1);
    assert_same(&before, &tree.snapshot_with_state());
    let first = tree.run("check --files-only --remember --since-last");
    assert_eq!((first.status, first.stdout.lines().count()), (1, 1), "all is new at first");
    assert!(first.stderr.contains("nothing was remembered before: all is new"), "{}", first.stderr);
    let same = tree.run("check --files-only --since-last");
    assert_eq!((same.status, same.stdout.as_str()), (0, ""), "{}", same.stderr);
    assert!(same.stderr.contains("nothing new since 2026-11-24T"), "{}", same.stderr);
    assert!(same.stderr.contains("; 1 error is known already."), "{}", same.stderr);
    let known = tree.json("check --files-only --since-last");
    assert_eq!(known["known"], serde_json::json!({"error": 1, "warning": 0, "note": 0}));
    // A dry run remembers nothing.
    let remembered = tree.bytes("var/lib/copper-nest/found.json");
    let dry = tree.run("check --files-only --remember --only second-root --dry-run");
    assert!(dry.stderr.contains("nothing was remembered"), "{}", dry.stderr);
    assert_eq!(tree.bytes("var/lib/copper-nest/found.json"), remembered);
    // What was not looked for this time is not forgotten.
    tree.run("check --files-only --remember --only second-root");
    let same = tree.run("check --files-only --since-last");
    assert!(same.stderr.contains("1 error is known already."), "{}", same.stderr);
    // A line above moves the finding, which stays the same one; another comes.
    tree.write("etc/group", format!("hull:x:290:\n{}", tree.read("etc/group")));
    tree.write("etc/gshadow", format!("hull:!::\n{}", tree.read("etc/gshadow")));
    tree.append("etc/passwd", "keeper:x:0:0::/root:/bin/sh\n");
    tree.append("etc/shadow", "keeper:*:1::::::\n");
    let new = tree.run("check --files-only --since-last");
    assert_eq!((new.status, new.stdout.lines().count()), (1, 1), "{}", new.stdout);
    new.says("second-root");
    let report = tree.json("check --files-only --since-last");
    assert_eq!(report["findings"].as_array().unwrap().len(), 1);
    assert_eq!(report["gone"], serde_json::json!([]));
    assert!(report["since"].as_str().unwrap().starts_with("2026-11-24T"));
    tree.write("etc/group", tree.read("etc/group").replace("skipper", ""));
    tree.write("etc/gshadow", tree.read("etc/gshadow").replace("skipper", ""));
    let gone = tree.run("check --files-only --since-last");
    gone.says("gone: etc/group:13: error ghost-member: no account is called skipper.");
    // What was not judged this time is not gone.
    let narrow = tree.run("check --files-only --since-last --only second-root");
    assert!(!narrow.stdout.contains("gone:"), "{}", narrow.stdout);
    assert_eq!(tree.run("check --files-only --remember").status, 1);
    assert_eq!(tree.run("check --files-only --since-last").status, 0);
    assert_eq!(tree.mode("var/lib/copper-nest/found.json"), 0o600);
    tree.write("var/lib/copper-nest/found.json", "{\"version\":9}");
    tree.refused("check --since-last", 6, "found.json was written by a newer version");
    tree.refused("--state none check --remember", 3, "nowhere to remember");
}

#[test]
fn trees_are_checked_side_by_side_and_the_highest_status_counts() {
    let (sound, ghost, bare) = (TestTree::new(), with_a_ghost(), TestTree::empty());
    let all = |more: &[&str]| {
        let mut command = program();
        for tree in [&sound, &ghost, &bare] {
            command.arg("--tree").arg(tree.root());
        }
        Run::of(command.args(["check", "--files-only"]).args(more))
    };
    let text = all(&[]);
    assert_eq!(text.status, 3, "{}{}", text.stdout, text.stderr);
    let lines: Vec<&str> = text.stdout.lines().collect();
    assert_eq!(lines[0], sound.root().to_str().unwrap());
    assert_eq!(lines[1], "  nothing found in 6 files.");
    assert_eq!(lines[2], ghost.root().to_str().unwrap());
    assert!(lines[3].starts_with("  etc/group:13: error ghost-member:"), "{}", lines[3]);
    assert!(text.stderr.starts_with(bare.root().to_str().unwrap()), "{}", text.stderr);
    let json = all(&["--format", "json"]);
    let lines: Vec<Value> =
        json.stdout.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(lines.len(), 3);
    assert_eq!(lines[0]["counts"]["error"], 0);
    assert_eq!(lines[1]["tree"], ghost.root().to_str().unwrap());
    assert_eq!(lines[1]["findings"][0]["rule"], "ghost-member");
    assert!(lines[2]["error"]["message"].is_string());
    let list = sound.root().join("../trees");
    let (one, two) = (sound.root().display(), ghost.root().display());
    std::fs::write(&list, format!("{one}\n\n{two}\n")).unwrap();
    let run = Run::of(program().args(["check", "--files-only", "--trees-from"]).arg(&list));
    assert_eq!((run.status, run.stdout.lines().count()), (1, 5), "{}", run.stdout);
    std::fs::write(&list, "\n").unwrap();
    let run = Run::of(program().args(["check", "--trees-from"]).arg(&list));
    assert_eq!(run.status, 3, "{}", run.stderr);
    assert!(run.stderr.contains("names no tree"), "{}", run.stderr);
    for (words, says) in [
        (&["list", "users"][..], "this command is about one tree: name one --tree"),
        (&["check", "--remember"], "--remember is about one tree"),
    ] {
        let mut command = program();
        command.arg("--tree").arg(sound.root()).arg("--tree").arg(ghost.root()).args(words);
        let run = Run::of(&mut command);
        assert_eq!(run.status, 2, "{}", run.stderr);
        assert!(run.stderr.contains(says), "{}", run.stderr);
    }
}

#[test]
fn code_review_systems_get_paths_lines_columns_and_help() {
    let tree = with_a_ghost();
    tree.append("etc/passwd", "håkan:x:9:ten:::\n");
    let run = tree.run("check --files-only --format sarif");
    assert_eq!(run.status, 1);
    let log = run.json();
    assert_eq!(log["version"], "2.1.0");
    let run = &log["runs"][0];
    let base = run["originalUriBaseIds"]["TREE"]["uri"].as_str().unwrap();
    assert_eq!(base, format!("file://{}/", tree.root().display()));
    let rules = run["tool"]["driver"]["rules"].as_array().unwrap();
    assert_eq!(rules.len(), nest_core::check::RULES.len());
    for rule in rules {
        for text in ["shortDescription", "fullDescription", "help"] {
            let text = rule[text]["text"].as_str().unwrap();
            assert!(text.len() > 20 && text.ends_with('.'), "{text}");
        }
    }
    let results = run["results"].as_array().unwrap();
    for result in results {
        let at = result["ruleIndex"].as_u64().unwrap();
        assert_eq!(rules[usize::try_from(at).unwrap()]["id"], result["ruleId"]);
    }
    let of = |rule: &str| results.iter().find(|result| result["ruleId"] == rule).unwrap();
    let ghost = of("ghost-member");
    assert_eq!(ghost["level"], "error");
    let place = &ghost["locations"][0]["physicalLocation"];
    assert_eq!(place["artifactLocation"]["uri"], "etc/group");
    let region = serde_json::json!({"startLine": 13, "startColumn": 12, "endColumn": 19});
    assert_eq!(place["region"], region);
    let text = ghost["message"]["text"].as_str().unwrap();
    assert!(text.contains("skipper") && text.contains("change group deck --drop-member skipper"));
    // Columns count characters as UTF-16 does.
    let number = &of("bad-number")["locations"][0]["physicalLocation"]["region"];
    assert_eq!((&number["startColumn"], &number["endColumn"]), (&11.into(), &14.into()));
    tree.refused("--format sarif list users", 2, "only check writes --format sarif");
}

#[test]
fn a_terminal_is_spared_what_is_all_the_same() {
    let tree = TestTree::new();
    let many: String =
        (0..25).map(|at| format!("hand{at}:x:{}:100::/nonexistent:/bin/sh\n", 2000 + at)).collect();
    tree.append("etc/passwd", many);
    let short = tree.run("--color always check --files-only");
    let plain = anstream::adapter::strip_str(&short.stdout).to_string();
    assert_eq!(plain.matches("missing-shadow, error").count(), 20);
    assert!(plain.contains("and 5 more of missing-shadow: copper-nest"), "{plain}");
    assert!(plain.contains("check --only missing-shadow --all\n"), "{plain}");
    let all = tree.run("--color always check --files-only --all");
    assert_eq!(all.stdout.matches("missing-shadow, error").count(), 25);
    assert_eq!(tree.run("check --files-only").stdout.lines().count(), 26, "a pipe gets all");
}

#[test]
fn what_is_accepted_is_listed_and_counts_again_when_its_time_is_over() {
    let tree = with_a_ghost();
    let accept = |until: &str| {
        let entry = format!(
            "{{ rule = \"ghost-member\", subject = \"d*k\", reason = \"comes in spring\", \
             by = \"Odalys\", until = {until} }}"
        );
        tree.write("etc/copper-nest/policy.toml", format!("[check]\naccept = [{entry}]\n"));
    };
    accept("2027-06-30");
    assert_eq!(tree.run("check --files-only").status, 0);
    let listed = tree.run("check --files-only --accepted");
    listed.says("error ghost-member: no account is called skipper.");
    listed.says("[accepted: comes in spring, says Odalys, until 2027-06-30]");
    let report = tree.json("check --files-only");
    assert_eq!(report["accepted"][0]["by"], "Odalys");
    assert_eq!(report["accepted"][0]["until"], "2027-06-30");
    for key in ["host", "tree", "time", "program", "policy"] {
        assert!(report[key].is_string(), "{key}");
    }
    assert!(report["rules"].as_array().unwrap().iter().any(|rule| rule == "ghost-member"));
    let sarif = tree.run("check --files-only --format sarif").json();
    let results = sarif["runs"][0]["results"].as_array().unwrap();
    let suppressed = results.iter().find(|one| one["ruleId"] == "ghost-member").unwrap();
    assert_eq!(suppressed["suppressions"][0]["status"], "accepted");
    let why = suppressed["suppressions"][0]["justification"].as_str().unwrap();
    assert_eq!(why, "comes in spring (Odalys), until 2027-06-30");
    accept("2026-11-23");
    let over = tree.run("check --files-only");
    assert_eq!(over.status, 1);
    over.says("no account is called skipper. It was accepted until 2026-11-23.");
    // A rule that is off does not run, but when it is asked for.
    tree.write("etc/copper-nest/policy.toml", "[check]\nseverity = { ghost-member = \"off\" }\n");
    assert_eq!(tree.run("check --files-only").status, 0);
    assert_eq!(tree.run("check --files-only --only ghost-member").status, 1);
    tree.write("etc/copper-nest/policy.toml", "[check]\nseverity = { ghost-member = \"note\" }\n");
    assert_eq!(tree.run("check --files-only").status, 0);
    tree.run("check --files-only").says("note ghost-member");
    tree.write("etc/copper-nest/policy.toml", "[check]\nseverity = { ghost-membr = \"off\" }\n");
    tree.refused(
        "create user maren",
        3,
        "there is no rule ghost-membr; the nearest is ghost-member",
    );
}

#[test]
fn what_is_accepted_and_gone_is_told() {
    let tree = with_a_ghost();
    let policy = "etc/copper-nest/policy.toml";
    tree.write(policy, "[check]\naccept = [\"ghost-member:deck  comes in spring\"]\n");
    let run = tree.run("check --files-only --fail-on note");
    assert_eq!((run.status, run.stdout.as_str()), (0, ""), "{}", run.stderr);
    assert!(run.stderr.contains("1 finding is left out, as the policy accepts it."));
    tree.write("etc/group", tree.read("etc/group").replace("skipper", ""));
    tree.write("etc/gshadow", tree.read("etc/gshadow").replace("skipper", ""));
    let run = tree.run("check --files-only --fail-on note --skip empty-group");
    assert_eq!(run.status, 1);
    run.says("policy.toml: note idle-acceptance: ghost-member of deck is accepted (check.accept, etc/copper-nest/policy.toml:2), and not found any more.");
    // A rule that did not run says nothing about what it would have found.
    let run = tree.run("check --files-only --fail-on note --skip ghost-member,empty-group");
    assert_eq!((run.status, run.stdout.as_str()), (0, ""));
}

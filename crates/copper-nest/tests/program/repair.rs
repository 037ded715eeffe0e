//! `repair`, and the remedies that `check` prints.

use std::collections::BTreeSet;

use nest_core::check::RULES;
use serde_json::Value;

use crate::harness::{TestTree, assert_same, has_program, is_root, passed_over, paste};
use crate::labels::{labelled, set};

const WEAK: &str = "$1$Gullhave$0123456789abcdefghijkl";
const OTHER: &str = "$y$j9T$Gk8rTqW1xZ0aLmNvB3cD5/$rsJmLIUDq1PN5VP0a35yIivRkNWbAlYEJJNtmbMaNQD";
const STRONG: &str = "$y$j9T$TQrrklxsv3nFULfgn4vfq1$uF6Yp8T5sCFlkFK8AI5yNLvAOEZl4Pn70F8hFaZBvz2";

/// Trees in which, taken together, every rule finds something.
fn neglected() -> Vec<TestTree> {
    let tree = TestTree::new();
    tree.append(
        "etc/passwd",
        format!(
            "keeper:x:0:0::/root:/bin/sh\nodalys:x:1001:100::/home/odalys:/bin/bash\n\
             perrin:x:01005:4711::/home/tavish:/bin/bash\nbroken:x:7\n\
             own:x:1009:100::/:/bin/sh\nTavish:x:1011:0::home/tavish:/bin/ash\n\
             brannoc:{STRONG}:1012:100::/home/brannoc:/usr/bin/fish\n\
             berthcam:x:998:999::/srv/cam:/bin/sh\n\
             hull:x:ten:999::/nonexistent:/usr/sbin/nologin\n\
             77 up:x:1013:100::/nonexistent:/bin/sh\n-\n"
        ),
    );
    tree.append(
        "etc/shadow",
        format!(
            "hesper:!:1::::::\nkeeper::1::::::\nodalys:{WEAK}:30000:90:30:7:::\n\
             Tavish:!:soon::::::\nbrannoc:!:1::::::\nberthcam:{STRONG}:1::::::\n\
             hull:!:1::::::\n77 up:!:1::::::\n"
        ),
    );
    tree.append(
        "etc/group",
        "crew:x:210:tavis\ncrew:x:212:\n deck:x:300:tavish,tavish,sunniva\nregatta:x:1050:\n\
         regatta:x:1050:\nheld:x:1500:sunniva\nsonar:x:301:berthcam",
    );
    tree.append("etc/gshadow", "crew:!::tavish\ndeck:!:tavis:sunniva,tavish\nlost:!::\n");
    tree.append(
        "etc/subuid",
        "hesper:2001200000:5\nodalys:2001076300:10\ntavish:1000:10\nsunniva:2001010688:65536",
    );
    tree.append("etc/group", "\npilots2:x:213:sunniva\nown:x:1060:\nhand:x:1071:hand\n");
    tree.append(
        "etc/passwd",
        "own:x:1060:1060::/home/own:/bin/bash\nhand:x:1070:1071::/nonexistent:/bin/bash\n",
    );
    tree.append("etc/shadow", "own:!:1::::::\nhand:!:1::::::\n");
    std::fs::create_dir_all(tree.path("home/odalys")).unwrap();
    tree.chmod("home/odalys", 0o755);
    std::fs::create_dir_all(tree.path("home/gone")).unwrap();
    tree.write("var/mail/gone", "a letter\n");
    tree.write("usr/bin/fish", "no program\n");
    tree.chmod("usr/bin/fish", 0o644);
    tree.write(
        "var/lib/copper-nest/ids.json",
        r#"{"version":1,"users":[],"groups":[{"id":1500,"name":"held"}],"ranges":[]}"#,
    );
    tree.chmod("etc/shadow", 0o644);
    tree.chown("etc/group", 1000, 0);
    tree.write(
        "etc/copper-nest/policy.toml",
        "[check]\naccept = [\"second-root:watch  agreed\"]\n",
    );
    let bare = TestTree::new();
    bare.remove("etc/gshadow");
    let headless = TestTree::new();
    headless.write("etc/group", crate::harness::GROUP.replace("sudo:x:27:sunniva", "sudo:x:27:"));
    headless.write("etc/gshadow", crate::harness::GSHADOW.replace("sudo:*::sunniva", "sudo:*::"));
    let crashed = TestTree::new();
    crate::killed::leave_unfinished(&crashed);
    let mut trees = vec![tree, bare, headless, crashed];
    trees.extend(neglected_around());
    trees
}

/// Trees in which what lies around the files is at fault, or passwd and shadow as a whole.
fn neglected_around() -> Vec<TestTree> {
    let around = TestTree::new();
    around.write("etc/shadow.bak", "root:*:1::::::\n");
    around.chmod("etc/shadow.bak", 0o644);
    around.chmod("root", 0o777);
    around.chmod("etc/group", 0o600);
    around.write("etc/sudoers", "skipper ALL=(ALL) ALL\n");
    around.write("var/mail/tavish", "a letter\n");
    around.chown("var/mail/tavish", 1000, 8);
    std::fs::create_dir_all(around.path("home/tavish/.ssh")).unwrap();
    around.chmod("home/tavish/.ssh", 0o777);
    around.append(
        "etc/passwd",
        "odalys:x:1002:100:::/bin/bash\nperrin:x:1003:0::/nonexistent:/bin/sh\n\
         r00t:x:1004:100::/nonexistent:/bin/sh\nmaren:x:1005:100::/home/maren:/usr/bin/tidesh\n",
    );
    around.append(
        "etc/shadow",
        format!(
            "odalys:harbour-light:1::::::\nperrin:{STRONG}:1::::::\nr00t:{STRONG}:1::::::\n\
             maren:!{OTHER}:1::::::\n"
        ),
    );
    around.append("etc/group", "disk:x:6:perrin\n");
    around.append("etc/gshadow", "disk:*::perrin\n");
    around.write("usr/bin/tidesh", "a shell\n");
    around.chmod("usr/bin/tidesh", 0o755);
    around.write("home/maren/.ssh/authorized_keys", crate::harness::KEY);
    for path in ["home/maren", "home/maren/.ssh", "home/maren/.ssh/authorized_keys"] {
        around.chown(path, 1005, 100);
        around.chmod(path, 0o700);
    }
    // Some 300 days ago.
    let mut last = vec![0; 292 * 1001];
    last[292 * 1000..292 * 1000 + 4].copy_from_slice(&1_770_000_000_u32.to_le_bytes());
    around.write(crate::last_seen::BY_UID, last);
    around.write("etc/copper-nest/policy.toml", "[check]\nunseen_days = 90\n");
    let weak = crate::keys::WEAK;
    around.write("home/sunniva/.ssh/authorized_keys", format!("{weak}{}", crate::harness::KEY));
    for path in ["home/sunniva/.ssh", "home/sunniva/.ssh/authorized_keys"] {
        around.chown(path, 1000, 1000);
        around.chmod(path, 0o700);
    }
    std::fs::create_dir_all(around.path("etc/security")).unwrap();
    around.write(
        "etc/security/time.conf",
        "# copper-nest: hours of sunniva\n*;*;sunniva;Mo0800-1000\n\
         # copper-nest: hours of former\n*;*;former;Mo0800-1000\n\
         # copper-nest: hours of tavish\n*;*;tavish;Mo0800-1000\n*;*;tavish;Tu0800-1000\n",
    );
    around.write(
        "etc/shadow",
        around.read("etc/shadow").replace("tidegauge:!:", "tidegauge:$6$cut:"),
    );
    let unasked = TestTree::new();
    unasked.write("etc/nsswitch.conf", "passwd: ldap\ngroup: files\n");
    let emptied = TestTree::new();
    emptied.write("etc/shadow", "");
    let rootless = TestTree::new();
    rootless.write(
        "etc/passwd",
        crate::harness::PASSWD.lines().skip(4).fold(String::new(), |all, line| all + line + "\n"),
    );
    let compat = TestTree::new();
    compat.append("etc/passwd", "+\n");
    vec![around, unasked, emptied, rootless, compat]
}

/// Everything that check finds.
fn findings(tree: &TestTree) -> Vec<Value> {
    tree.json("check --allow-skipped")["findings"].as_array().unwrap().clone()
}

fn of(finding: &Value, key: &str) -> String {
    finding[key].as_str().unwrap_or_default().to_owned()
}

/// What tells findings apart, whatever their lines.
fn kind(finding: &Value) -> (String, String, String) {
    (of(finding, "rule"), of(finding, "file"), of(finding, "subject"))
}

#[test]
fn every_remedy_that_check_prints_mends_what_it_is_for() {
    if !is_root() {
        return passed_over("every_remedy", "root, to give files other owners");
    }
    let mut seen = BTreeSet::new();
    let mut failed = Vec::new();
    let mut trees = neglected();
    match labelled("every_remedy").filter(|_| has_program("setfattr")) {
        Some(tree) => {
            set(&tree, "home/sunniva", "home_root_t");
            trees.push(tree);
        }
        None => {
            passed_over("every_remedy: home-label", "setfattr, and the right to set labels");
            seen.insert("home-label".to_owned());
        }
    }
    for tree in trees {
        let before = findings(&tree);
        for finding in &before {
            seen.insert(of(finding, "rule"));
            for (at, remedy) in finding["remedies"].as_array().unwrap().iter().enumerate() {
                let Some(command) = remedy["command"].as_str() else { continue };
                let fresh = tree.copy();
                let here = fresh.root().display().to_string();
                let command = command.replace(&tree.root().display().to_string(), &here);
                let pasted = paste(&command);
                let said = [pasted.stdout, pasted.stderr].concat();
                let count =
                    |all: &[Value]| all.iter().filter(|one| kind(one) == kind(finding)).count();
                // Further ways may only look; the first one mends.
                let mended = at > 0 || count(&findings(&fresh)) < count(&before);
                let asks = at > 0 && said.contains("no terminal to ask for a password");
                // What stands unfinished is put right first, and not on a copy.
                let copied = said.contains("this one may be a copy of it");
                if !(pasted.status == 0 && mended || asks || copied) {
                    failed.push(format!("{:?}\n  {command}\n  {said}", kind(finding)));
                }
            }
        }
    }
    assert!(failed.is_empty(), "{} of them:\n{}", failed.len(), failed.join("\n"));
    let missing: Vec<_> =
        RULES.iter().map(|rule| rule.name).filter(|name| !seen.contains(*name)).collect();
    assert_eq!(missing, [""; 0], "no tree shows these");
}

#[test]
fn repair_mends_what_is_safe_as_one_change_that_undo_takes_back() {
    if !is_root() {
        return passed_over("repair_mends", "root, to give files other owners");
    }
    let tree = neglected().swap_remove(0);
    let (before, found) = (tree.snapshot(), findings(&tree));
    let run = tree.done("repair --dry-run");
    assert_same(&before, &tree.snapshot());
    run.says("etc/shadow:7").says("dry run: nothing was changed.");
    let asked = tree.run("repair");
    assert_eq!(asked.status, 3, "without a terminal it wants --yes: {}", asked.stderr);
    let run = tree.done("repair --yes");
    run.says("left to you, as it takes a decision");
    // What has a decision to it is printed, and is what check finds.
    let left: Vec<Value> = findings(&tree);
    for finding in &left {
        run.says(&format!(
            "{}: {}",
            of(finding, "rule"),
            of(finding, "message").trim_end_matches('.')
        ));
    }
    let decided = |rule: &str| left.iter().any(|finding| of(finding, "rule") == rule);
    for rule in [
        "stray-space",
        "missing-newline",
        "duplicate-member",
        "shadow-orphan",
        "gshadow-orphan",
        "range-orphan",
        "missing-shadow",
        "missing-gshadow",
        "ghost-member",
        "ghost-admin",
        "member-mismatch",
        "open-password",
        "exposed-hash",
        "loose-mode",
        "wrong-owner",
    ] {
        assert!(found.iter().any(|finding| of(finding, "rule") == rule), "{rule} was not there");
        assert!(!decided(rule), "{rule} is still there");
    }
    assert!(decided("missing-home") && decided("duplicate-uid") && decided("malformed-line"));
    assert_eq!((tree.mode("etc/shadow"), tree.owner("etc/group")), (0o640, (0, 0)));
    // Nobody gains access: what was open is locked, what came is locked.
    assert!(tree.read("etc/shadow").contains("keeper:!:1:"));
    assert!(tree.read("etc/shadow").contains("\nperrin:!:20781:"));
    assert!(tree.read("etc/shadow").contains(&format!("\nbrannoc:{STRONG}:")));
    assert!(tree.read("etc/passwd").contains("\nbrannoc:x:1012:"));
    let after = tree.snapshot();
    let again = tree.done("repair --yes");
    again.says("nothing is mended without a decision: nothing was changed.");
    assert_same(&after, &tree.snapshot());
    let undone = tree.done("undo --yes");
    undone.says("change 1");
    // But for the end of a last line, which stays.
    let unfinished = tree.path("etc/subuid");
    let mut before = before;
    before.entry(unfinished).and_modify(|was| was.3.push(b'\n'));
    assert_same(&before, &tree.snapshot());
}

#[test]
fn rules_are_chosen_and_homes_are_made_only_when_asked() {
    let tree = TestTree::new();
    tree.append("etc/group", " deck:x:300:tavish,tavish\n");
    tree.append("etc/gshadow", "deck:!::tavish\n");
    std::fs::remove_dir(tree.path("home/tavish")).unwrap();
    let run = tree.done("repair --yes --only duplicate-member");
    assert_eq!(tree.line("etc/group", 13), " deck:x:300:tavish");
    run.says("repair 1 fault in 1 file").says("lists tavish once");
    tree.done("repair --yes --skip stray-space").says("nothing was changed");
    tree.done("repair --yes");
    assert_eq!(tree.line("etc/group", 13), "deck:x:300:tavish");
    assert!(!tree.exists("home/tavish"), "homes are not made unasked");
    if is_root() {
        tree.done("repair --yes --only missing-home").says("makes the home");
        assert_eq!((tree.owner("home/tavish"), tree.mode("home/tavish")), ((1001, 1001), 0o700));
        tree.done("undo --yes");
        assert!(!tree.exists("home/tavish"));
    }
    tree.refused(
        "repair --only duplicate-uid",
        3,
        "what duplicate-uid finds takes a decision, and is not mended by repair",
    );
    tree.refused("repair --only stray-spce", 3, "the nearest is stray-space");
}

#[test]
fn only_a_line_that_is_at_fault_is_taken_out() {
    let tree = TestTree::new();
    tree.append("etc/passwd", "broken:x:7\n+\ntavish:x:1009:100::/nonexistent:/bin/sh\n");
    let before = tree.snapshot();
    tree.refused(
        "repair --yes --take-out etc/passwd:6",
        3,
        "etc/passwd:6 was not taken out: nothing is wrong with etc/passwd:6",
    );
    tree.refused("repair --yes --take-out etc/passwd:99", 3, "etc/passwd has 9 lines");
    tree.refused("repair --yes --take-out etc/passwd:0", 3, "etc/passwd has 9 lines");
    for place in ["etc/passwd", "passwd:7", "etc/passwd:-1", "etc/passwd:x", ""] {
        let run = tree.run_words(&["repair", "--yes", "--take-out", place]);
        assert_eq!(run.status, 2, "{place}: {}", run.stderr);
    }
    // All of them, or none.
    tree.refused("repair --yes --take-out etc/passwd:7 --take-out etc/passwd:5", 3, "etc/passwd:5");
    tree.done("repair --yes --take-out etc/passwd:7 --take-out /etc/passwd:9").says("broken:x:7");
    assert_eq!(tree.line("etc/passwd", 7), "+");
    assert_eq!(tree.read("etc/passwd").lines().count(), 7);
    tree.done("undo --yes");
    assert_same(&before, &tree.snapshot());
}

#[test]
fn where_a_directory_is_asked_too_strangers_stay() {
    let tree = TestTree::new();
    tree.append("etc/group", "deck:x:300:skipper\n");
    tree.append("etc/gshadow", "deck:!::skipper\n");
    tree.append("etc/subuid", "skipper:2001300000:10\n");
    tree.write("etc/nsswitch.conf", "passwd: files sss\n");
    tree.done("repair --yes").says("nothing was changed");
    tree.write("etc/nsswitch.conf", "passwd: files\n");
    let run = tree.done("repair --yes");
    run.says("takes skipper out of the list");
    assert_eq!(tree.line("etc/group", 13), "deck:x:300:");
    assert!(!tree.read("etc/subuid").contains("skipper"));
}

#[test]
fn a_hash_is_moved_only_to_where_none_waits() {
    let tree = TestTree::new();
    tree.append("etc/passwd", format!("odalys:{STRONG}:1012:100::/nonexistent:/bin/sh\n"));
    tree.append("etc/shadow", format!("odalys:{WEAK}:1::::::\n"));
    let run = tree.done("repair --yes");
    run.says("exposed-hash");
    assert!(tree.read("etc/passwd").contains(&format!("odalys:{STRONG}:")), "two to choose from");
    tree.write("etc/shadow", tree.read("etc/shadow").replace(WEAK, "*"));
    let before = tree.snapshot();
    let run = tree.done("repair --yes");
    assert!(!run.stdout.contains("Gullhaven$"), "{}", run.stdout);
    run.says("To take it back:");
    assert!(tree.read("etc/shadow").contains(&format!("odalys:{STRONG}:1:")));
    for entry in std::fs::read_dir(tree.path("var/lib/copper-nest/changes")).unwrap() {
        let text = std::fs::read_to_string(entry.unwrap().path()).unwrap();
        assert!(!text.contains("0123456789abcdef"), "a hash is in the record");
    }
    tree.done("undo --yes");
    assert_same(&before, &tree.snapshot());
}

#[test]
fn repair_of_any_bytes_ends_and_then_finds_nothing_more_to_do() {
    let mut seed = 0x9e37_79b9_7f4a_7c15u64;
    let mut random = || {
        seed ^= seed << 13;
        seed ^= seed >> 7;
        seed ^= seed << 17;
        seed
    };
    let letters = b"rota:x:0\n+-#,! \xff\0$1";
    for round in 0..25 {
        let tree = TestTree::new();
        for file in ["passwd", "shadow", "group", "gshadow", "subuid", "subgid"] {
            let length = random() as usize % 400;
            let text: Vec<u8> =
                (0..length).map(|_| letters[random() as usize % letters.len()]).collect();
            tree.append(&format!("etc/{file}"), text);
        }
        let before = tree.snapshot();
        let run = tree.run("repair --yes");
        assert_eq!(run.status, 0, "round {round}: {}", run.stderr);
        let again = tree.done("repair --yes");
        assert!(again.stdout.contains("nothing was changed"), "round {round}: {}", again.stdout);
        if !run.stdout.contains("nothing was changed") {
            let undone = tree.run("undo --yes");
            assert_eq!(undone.status, 0, "round {round}: {}", undone.stderr);
            let after = tree.snapshot();
            for (path, was) in &before {
                // A hash that went with its line does not come back.
                let secret = path.ends_with("shadow") || path.ends_with("gshadow");
                let text = |snapshot: &[u8]| {
                    let text = String::from_utf8_lossy(snapshot).into_owned();
                    let lines = text.lines().map(|line| {
                        let mut fields: Vec<&str> = line.split(':').collect();
                        if secret && fields.len() > 3 {
                            fields[1] = "";
                        }
                        fields.join(":")
                    });
                    lines.collect::<Vec<_>>()
                };
                assert_eq!(text(&was.3), text(&after[path].3), "round {round}: {path:?}");
            }
        }
    }
}

#[test]
fn what_follows_from_lines_that_are_missing_is_no_fault_to_mend() {
    // Emptied, cut off, commented out, shorter than what goes with it.
    let passwd = crate::harness::PASSWD;
    let half = &passwd[..passwd.len() / 2];
    let commented = passwd.replace("tavish:", "#tavish:");
    let marked = passwd.replace("tavish:x:1001:1001:", "\u{feff}tavish:x:1001:1001:");
    for text in ["", half, &commented, &marked] {
        let tree = TestTree::new();
        tree.write("etc/passwd", text);
        let before = tree.snapshot();
        let run = tree.run("repair --yes");
        assert_eq!(run.status, 0, "{text:?}: {}", run.stderr);
        for file in ["etc/shadow", "etc/group", "etc/gshadow", "etc/subuid", "etc/subgid"] {
            let path = tree.path(file);
            let was = String::from_utf8_lossy(&before[&path].3).into_owned();
            assert_eq!(tree.read(file), was, "{text:?}: {file}\n{}", run.stdout);
        }
    }
    // Nor is a command offered that would do it.
    let tree = TestTree::new();
    tree.write("etc/passwd", "");
    for finding in tree.json("check --files-only")["findings"].as_array().unwrap() {
        let remedy = finding["remedy"].as_str().unwrap_or_default();
        assert!(!remedy.contains("repair --only shadow-orphan"), "{remedy}");
        assert!(!remedy.contains("repair --only range-orphan"), "{remedy}");
    }
    let tree = TestTree::new();
    tree.write("etc/shadow", "");
    let before = tree.read("etc/shadow");
    tree.run("repair --yes");
    assert_eq!(tree.read("etc/shadow"), before, "no password is made up for one that is lost");
}

#[test]
fn no_safe_mend_drops_a_hash() {
    let tree = TestTree::new();
    tree.append("etc/shadow", format!("hesper:{STRONG}:20602::::::\nodile:!:20602::::::\n"));
    tree.append("etc/gshadow", format!("lost:{STRONG}::\n"));
    let run = tree.done("repair --yes");
    assert!(tree.read("etc/shadow").contains("hesper:$y$"), "{}", run.stdout);
    assert!(tree.read("etc/gshadow").contains("lost:$y$"), "{}", run.stdout);
    assert!(!tree.read("etc/shadow").contains("odile"), "a line without a hash goes");
    // What is offered takes it out, and says what that means.
    let report = tree.json("check --files-only --only shadow-orphan");
    let remedy = report["findings"][0]["remedies"].to_string();
    assert!(remedy.contains("repair --take-out etc/shadow:7"), "{remedy}");
    let before = tree.read("etc/shadow");
    let run = tree.done("repair --take-out etc/shadow:7 --yes");
    run.says("1 line with a hash, for undo to put back, for 180 days");
    assert!(!tree.read("etc/shadow").contains("hesper"));
    // The hash is kept as a deleted account's is, and comes back with the line.
    tree.refused("restore user hesper", 3, "only lines are kept");
    tree.done("undo --yes");
    assert_eq!(tree.read("etc/shadow"), before);
    assert_eq!(tree.run("list retired").stdout, "");
}

#[test]
fn an_end_that_was_missing_is_taken_back_with_the_lines_after_it() {
    let tree = TestTree::new();
    tree.append("etc/passwd", "perrin:x:1005:100::/nonexistent:/bin/sh\n");
    let shadow = tree.read("etc/shadow");
    tree.write("etc/shadow", shadow.trim_end());
    let before = tree.bytes("etc/shadow");
    tree.done("repair --yes").says("missing-newline").says("missing-shadow");
    assert!(tree.read("etc/shadow").ends_with("\n"), "{}", tree.read("etc/shadow"));
    tree.done("undo --yes");
    assert_eq!(tree.bytes("etc/shadow"), before);
}

#[test]
fn a_line_that_nobody_can_read_is_written_anew_and_undo_gives_it_back() {
    let tree = TestTree::new();
    tree.append("etc/passwd", "perrin:x:1005:100:/nonexistent:/bin/sh\n");
    tree.append("etc/shadow", format!("perrin:{STRONG}:1\n"));
    let before = tree.snapshot();
    let report = tree.json("check --files-only --only malformed-line");
    let message = of(&report["findings"][0], "message");
    assert_eq!(message, "the line has 6 fields, not 7: the full name seems to be missing.");
    // The command that is offered is the line as it probably should be.
    let command = of(&report["findings"][0], "remedy");
    assert!(command.ends_with("repair --set etc/passwd:7 perrin:x:1005:100::/nonexistent:/bin/sh"));
    let run = paste(&format!("{command} --yes"));
    assert_eq!(run.status, 0, "{}", run.stderr);
    run.says("malformed-line   line 7: writes it anew");
    assert_eq!(tree.line("etc/passwd", 7), "perrin:x:1005:100::/nonexistent:/bin/sh");
    // A hash is never printed, and can be given all the same.
    let hidden = of(&report["findings"][1], "remedy");
    assert!(hidden.contains("repair --set etc/shadow:7 -"), "{hidden}");
    let whole = format!("perrin:{STRONG}:1::::::\n");
    let run = tree.fed("repair --set etc/shadow:7 - --yes", whole.as_bytes());
    assert_eq!(run.status, 0, "{}", run.stderr);
    assert!(!run.stdout.contains("TQrrk") && tree.read("etc/shadow").contains(&whole));
    tree.done("undo --yes");
    tree.done("undo 1 --yes");
    for path in ["etc/passwd", "etc/shadow"] {
        assert_eq!(tree.bytes(path), before[&tree.path(path)].3, "{path}");
    }
    // What could not be read either, what is in order, and what is not there is refused.
    tree.refused("repair --set etc/passwd:7 perrin:x:1005 --yes", 3, "has 3 fields, not 7");
    tree.refused("repair --set etc/passwd:7 +:x:1:1::/:/bin/sh --yes", 3, "as no record does");
    tree.refused(
        "repair --set etc/passwd:7 p:x:0x7:1::/:/bin/sh --yes",
        3,
        "a number that is none",
    );
    tree.refused("repair --set etc/passwd:1 r:x:0:0::/:/bin/sh --yes", 3, "nothing is wrong with");
    tree.refused(
        "repair --set etc/passwd:70 r:x:0:0::/:/bin/sh --yes",
        3,
        "etc/passwd has 7 lines",
    );
    tree.refused("repair --set etc/hosts:1 x --yes", 2, "is no line of an account file");
}

#[test]
fn what_a_gone_account_left_is_set_aside_and_undo_puts_it_back() {
    if !is_root() {
        return passed_over("what_a_gone_account_left", "root, to give files other owners");
    }
    let tree = TestTree::new();
    tree.write("home/hesper/letter", "dear\n");
    tree.write("var/mail/hesper", "From: tavish\n");
    tree.chown("home/hesper", 4711, 4711);
    let before = tree.snapshot();
    let told = tree.run("check --only home-orphan,mail-orphan");
    told.says("/home/hesper is no account's home");
    let words = "repair --set-aside /home/hesper --set-aside /var/mail/hesper";
    tree.run(&format!("{words} --dry-run")).says("set aside as /home/.set-aside/hesper.4711.1");
    assert_same(&before, &tree.snapshot());
    tree.done(&format!("{words} --yes")).says("/home/.set-aside/hesper.4711.1");
    assert_eq!(tree.read("home/.set-aside/hesper.4711.1/letter"), "dear\n");
    assert_eq!((tree.mode("home/.set-aside"), tree.mode("var/mail/.set-aside")), (0o700, 0o700));
    assert!(!tree.exists("home/hesper") && !tree.exists("var/mail/hesper"));
    assert_eq!(tree.run("check --only home-orphan,mail-orphan").stdout, "");
    // Nobody's but root's is what is there now.
    tree.run("undo 1 --yes");
    assert_same(&before, &tree.snapshot_without(".set-aside"));
    // What is somebody's, the system's, or not there is nothing to set aside.
    for path in
        ["/home/sunniva", "/home", "/etc", "/", "home/hesper", "/home/nobodys", "/home/hesper/"]
    {
        let refused = tree.refused(
            &format!("repair --set-aside {path}"),
            3,
            "is not what an account left that is gone",
        );
        assert!(refused.stderr.contains("check"), "{}", refused.stderr);
    }
    tree.write("home/.set-aside/x", "");
    tree.chmod("home/.set-aside", 0o777);
    tree.refused("repair --set-aside /home/hesper", 3, "is there already");
    assert!(tree.exists("home/hesper/letter"));
}

#[test]
fn a_group_of_their_own_is_made_and_given_by_one_command() {
    let tree = TestTree::new();
    let passwd = tree.read("etc/passwd").replace("sunniva:x:1000:1000:", "sunniva:x:1000:0:");
    tree.write("etc/passwd", passwd);
    let group: String = tree
        .read("etc/group")
        .lines()
        .filter(|line| !line.starts_with("sunniva:"))
        .map(|line| format!("{line}\n"))
        .collect();
    tree.write("etc/group", group);
    let told = tree.json("check --only root-group");
    let command = told["findings"][0]["remedies"][1]["command"].as_str().unwrap();
    assert!(
        command.contains("create group sunniva") && command.ends_with("--primary-of sunniva"),
        "{command}"
    );
    let run = paste(command);
    assert_eq!(run.status, 0, "{}", run.stderr);
    run.says("the old primary group, which is root's");
    let group = tree.read("etc/group");
    let own = group.lines().find(|line| line.starts_with("sunniva2:")).unwrap();
    let gid = own.split(':').nth(2).unwrap();
    assert!(tree.read("etc/passwd").contains(&format!("sunniva:x:1000:{gid}:")));
    assert!(group.contains("root:x:0:\n"), "{group}");
    assert_eq!(tree.run("check --only root-group").stdout, "");
    tree.refused("create group sonar --primary-of nobdy", 3, "nobdy");
}

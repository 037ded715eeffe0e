//! `check`, `list rules`, `show rule`.

use crate::harness::{Run, TestTree, is_root};

/// Nobody knows the password.
const HASH: &str = "$y$j9T$Gk8rTqW1xZ0aLmNvB3cD5/$rsJmLIUDq1PN5VP0a35yIivRkNWbAlYEJJNtmbMaNQD";

/// A tree with a fault for nearly every rule.
fn faulty() -> TestTree {
    let tree = TestTree::new();
    tree.append(
        "etc/passwd",
        "keeper:x:0:0::/root:/bin/sh\nodalys:x:1001:100::/home/odalys:/bin/bash\n\
         perrin:x:01005:4711::/home/tavish:/bin/bash\nbroken:x:7\ntavish:x:1009:100::/:/bin/sh\n",
    );
    tree.append("etc/shadow", "hesper:!:1::::::\nkeeper::1::::::\nodalys:!:soon::::::\n");
    tree.append("etc/group", "crew:x:210:tavis\ncrew:x:212:\n");
    tree.append("etc/gshadow", "crew:!::tavish\n");
    tree.append("etc/subuid", "hesper:2001200000:5\nodalys:2001076300:10\n4711:3000000000:1\n");
    tree
}

#[test]
fn a_sound_tree_has_no_finding() {
    let tree = TestTree::new();
    let run = tree.run("check --fail-on note --allow-skipped");
    assert_eq!((run.status, run.stdout.as_str()), (0, ""), "{}", run.stderr);
    assert!(run.stderr.starts_with("nothing found in 6 files."), "{}", run.stderr);
    if is_root() {
        assert_eq!(tree.run("check").status, 0);
    }
}

/// Large files are gone through by several threads, and not all of them are held in
/// memory: what is found is the same.
#[test]
fn faults_are_found_in_large_files_too() {
    let tree = TestTree::new();
    let (mut passwd, mut group, mut shadow, mut ranges) =
        (String::new(), String::new(), String::new(), String::new());
    for at in 0..45_000usize {
        let (name, id) = (format!("hand{at}"), 2000 + at);
        passwd.push_str(&format!("{name}:x:{id}:{id}::/home/{name}:/bin/sh\n"));
        group.push_str(&format!("{name}:x:{id}:\n"));
        let at = at * 7919 % 45_000;
        let (name, first) = (format!("hand{at}"), 3_000_000_000 + at * 8);
        ranges.push_str(&format!("{name}:{first}:8\n"));
        // Every four thousandth has a hash that is soon guessed.
        let hash = match at % 4000 == 17 {
            true => format!("$1$saltsalt${at:0>22}"),
            false => format!("$y$j9T$saltsalt${at:0>43}"),
        };
        shadow.push_str(&format!("{name}:{hash}:20000:0:::::\n"));
    }
    let gshadow = group.replace(":x:", ":!:");
    let gshadow = gshadow.lines().map(|line| line.split(':').next().unwrap_or_default());
    let gshadow = gshadow.map(|name| format!("{name}:!::\n")).collect::<String>();
    shadow.push_str("hand5:!:20000::::::\nnobody-knows::20000::::::\n");
    ranges.push_str("hand6:3000000004:8\nnobody-knows:4000000000:1\n");
    for (file, text) in [
        ("etc/passwd", &passwd),
        ("etc/group", &group),
        ("etc/shadow", &shadow),
        ("etc/gshadow", &gshadow),
        ("etc/subuid", &ranges),
    ] {
        tree.append(file, text);
    }
    // Of a file that was altered just now it can't be told whether it still is.
    std::thread::sleep(std::time::Duration::from_millis(60));
    let run = tree.run("check --files-only --skip shared-home,one-sided-range");
    let found: Vec<&str> = run.stdout.lines().collect();
    let last = 6 + 45_000;
    let line_of = |at: usize| 7 + (0..45_000).position(|line| line * 7919 % 45_000 == at).unwrap();
    for finding in [
        format!(
            "etc/shadow:{}: error duplicate-name: line {} says hand5 already",
            last + 1,
            line_of(5)
        ),
        format!("etc/shadow:{}: error shadow-orphan: no account is called nobody-knows", last + 2),
        format!("etc/shadow:{}: error open-password: the password field of nobody-knows", last + 2),
        format!("etc/subuid:{}: warning range-orphan: no account is called nobody-knows", last - 2),
        format!("etc/shadow:{}: warning weak-hash: ", line_of(4017)),
    ] {
        let told = found.iter().any(|line| line.starts_with(&finding));
        assert!(told, "no {finding}\nin\n{}\n{}", run.stdout, run.stderr);
    }
    let count = |rule: &str| found.iter().filter(|line| line.contains(rule)).count();
    assert_eq!((count("weak-hash"), count("overlapping-range")), (12, 2), "{}", run.stdout);
    assert_eq!(found.len(), 18, "{}", run.stdout);
}

/// So many that they are put into words by several threads: they come in order, each once.
#[test]
fn thousands_of_findings_come_in_order() {
    const ALL: usize = 3000;
    let tree = TestTree::new();
    let passwd = (0..ALL).map(|at| format!("hand{at}:x:{0}:100::/home:/bin/sh\n", 2000 + at));
    tree.append("etc/passwd", passwd.collect::<String>());
    let run = tree.run("check --files-only --only missing-shadow");
    let mut lines = run.stdout.lines();
    for at in 0..ALL {
        let finding = format!(
            "etc/passwd:{}: error missing-shadow: etc/shadow has no line for hand{at}: \
             no password lets it in.",
            at + 7
        );
        assert_eq!(lines.next(), Some(finding.as_str()));
    }
    assert_eq!((lines.next(), run.status), (None, 1));
    let json = tree.run("check --files-only --only missing-shadow --format json");
    assert_eq!(json.stdout.matches("\"rule\": \"missing-shadow\"").count(), ALL);
}

#[test]
fn each_fault_is_found_on_its_line() {
    let tree = faulty();
    let run = tree.run("check --files-only");
    assert_eq!(run.status, 1);
    for finding in [
        "etc/passwd:7: error second-root: keeper has uid 0 and is root under another name, like root (line 1).",
        "etc/passwd:8: error duplicate-uid: uid 1001 is also tavish (line 6): each of them owns the other's files.",
        "etc/passwd:9: error bad-number: uid \"01005\" is not a plain number; the C library reads it as 1005.",
        "etc/passwd:9: warning shared-home: /home/tavish is the home of tavish (line 6) too.",
        "etc/passwd:9: error missing-shadow: etc/shadow has no line for perrin: no password lets it in.",
        "etc/passwd:9: error no-primary-group: no group has gid 4711, the primary group of perrin.",
        "etc/passwd:10: error malformed-line: the line has 3 fields, not 7: programs pass it over or misread it.",
        "etc/passwd:11: error duplicate-name: line 6 says tavish already, and only that one is found by name.",
        "etc/shadow:7: error shadow-orphan: no account is called hesper; the next one of that name would get this password.",
        "etc/shadow:8: error open-password: the password field of keeper is empty: no password is asked.",
        "etc/shadow:9: error bad-number: the day of the last change, \"soon\", is no number: the C library passes the line over.",
        "etc/group:13: error duplicate-gid: gid 210 is also pilots (line 8): the members of each reach the files of the other.",
        "etc/group:13: error ghost-member: no account is called tavis. The nearest is tavish.",
        "etc/group:13: warning member-mismatch: the members differ between etc/group and etc/gshadow: tavis only in etc/group; tavish only in etc/gshadow.",
        "etc/group:14: error duplicate-name: line 13 says crew already, and only that one is found by name.",
        "etc/subuid:3: warning range-orphan: no account is called hesper; the next one of that name would get these ids.",
        "etc/subuid:4: error overlapping-range: 2001076300-2001076309 are also tavish's (2001076224-2001141759, line 2): their containers share files.",
        "etc/subuid:5: warning range-orphan: no account has uid 4711; the next one with it would get these ids.",
    ] {
        assert!(run.stdout.lines().any(|line| line == finding), "no {finding}\nin\n{}", run.stdout);
    }
    assert_eq!(run.stdout.lines().count(), 20, "{}", run.stdout);
    assert!(run.stderr.starts_with("14 errors, 5 warnings, 1 note in 6 files."), "{}", run.stderr);
}

#[test]
fn on_a_terminal_the_faulty_field_is_marked() {
    let tree = faulty();
    let run = tree.run("--color always check --files-only --only ghost-member,duplicate-uid");
    let plain: String = anstream::adapter::strip_str(&run.stdout).to_string();
    let plain = plain.replace(&format!(" --tree {}", tree.root().display()), "");
    let wanted = "\
etc/passwd
   8  odalys:x:1001:100::/home/odalys:/bin/bash
               ────  duplicate-uid, error
      uid 1001 is also tavish (line 6): each of them owns the other's files.
      line 6  tavish:x:1001:1001:Tavish Rowe:/home/tavish:/bin/bash
      copper-nest change user odalys --uid 1002

etc/group
  13  crew:x:210:tavis
                 ─────  ghost-member, error
      no account is called tavis. The nearest is tavish.
      copper-nest change group crew --drop-member tavis
      if tavish is meant:
      copper-nest change group crew --add-member tavish --drop-member tavis

2 errors in 6 files.
";
    assert_eq!(plain, wanted);
}

#[test]
fn homes_are_looked_at_unless_told_otherwise() {
    let tree = TestTree::new();
    std::fs::remove_dir(tree.path("home/sunniva")).unwrap();
    tree.write("home/sunniva", "not a directory\n");
    std::fs::remove_dir(tree.path("home/tavish")).unwrap();
    let run = tree.run("check --fail-on warning --allow-skipped");
    assert_eq!(run.status, 1);
    run.says("etc/passwd:5: warning missing-home: /home/sunniva is a file, not a directory.");
    run.says("etc/passwd:6: warning missing-home: /home/tavish is not there.");
    assert_eq!(tree.run("check --fail-on warning --files-only").status, 0);
    assert_eq!(tree.run("check --allow-skipped").status, 0, "a warning is no error");
    if is_root() {
        std::fs::create_dir(tree.path("home/tavish")).unwrap();
        tree.chown("home/tavish", 1000, 1000);
        let run = tree.run("check --only home-owner");
        run.says("etc/passwd:6: error home-owner: /home/tavish belongs to sunniva (1000), not to tavish (1001).");
    }
}

#[test]
fn rules_are_chosen_by_name() {
    let tree = faulty();
    let only = tree.run("check --files-only --only second-root,ghost-member");
    assert_eq!(only.stdout.lines().count(), 2);
    let all = tree.run("check --files-only").stdout.lines().count();
    let skip = tree.run("check --files-only --skip second-root,ghost-member");
    assert_eq!(skip.stdout.lines().count(), all - 2);
    tree.refused(
        "check --only ghost-membr",
        3,
        "there is no rule ghost-membr; the nearest is ghost-member",
    );
    assert_eq!(tree.run("check --files-only --only range-orphan").status, 0);
    assert_eq!(tree.run("check --files-only --only range-orphan --fail-on warning").status, 1);
}

#[test]
fn machines_get_findings_counts_and_what_was_skipped() {
    let tree = faulty();
    let report = tree.json("check --files-only");
    assert_eq!(report["counts"], serde_json::json!({"error": 14, "warning": 5, "note": 1}));
    let first = &report["findings"][0];
    assert_eq!(first["rule"], "second-root");
    assert_eq!((&first["file"], &first["line"]), (&"etc/passwd".into(), &7.into()));
    assert_eq!((&first["severity"], &first["subject"]), (&"error".into(), &"keeper".into()));
    let command = first["remedies"][0]["command"].as_str().unwrap();
    assert_eq!(first["remedy"], command);
    assert!(command.ends_with("change user keeper --uid 1002"), "{command}");
    assert_eq!(report["skipped"], serde_json::json!([]));
    assert_eq!(report["accepted"], serde_json::json!([]));
}

#[test]
fn where_a_directory_is_asked_too_an_unknown_member_is_not_judged() {
    let tree = faulty();
    tree.write("etc/nsswitch.conf", "passwd: files sss\n");
    let run = tree.run("check --files-only --only ghost-member");
    assert_eq!((run.status, run.stdout.as_str()), (1, ""));
    let why = "ghost-member (etc/nsswitch.conf asks sss for users too, who can't be asked here)";
    assert!(run.stderr.contains(why), "{}", run.stderr);
    assert_eq!(tree.run("check --files-only --only ghost-member --allow-skipped").status, 0);
    let report = tree.json("check --files-only --only ghost-member");
    assert_eq!(report["skipped"][0]["rule"], "ghost-member");
}

#[test]
fn a_tree_unpacked_without_root_says_that_owners_mean_nothing() {
    if !is_root() {
        return crate::harness::passed_over(
            "a_tree_unpacked_without_root",
            "root, to give files away",
        );
    }
    let tree = TestTree::new();
    for path in ["etc", "etc/passwd", "etc/group"] {
        tree.chown(path, 4711, 4711);
    }
    let run = tree.run("check --only home-owner");
    assert_eq!(run.status, 1);
    assert!(
        run.stderr.contains(
            "Not judged: home-owner (needs root: this tree was unpacked by somebody else)"
        ),
        "{}",
        run.stderr
    );
}

#[test]
fn rules_explain_themselves() {
    let tree = TestTree::new();
    let run = tree.done("show rule ghost-member");
    run.says("ghost-member   error, of the family memberships").says("pilots:x:210:maren,tavis");
    assert_eq!(tree.json("show rule ghost-member")["severity"], "error");
    let run = tree.done("list rules");
    assert_eq!(run.stdout.lines().count(), nest_core::check::RULES.len());
    run.says("missing-home\twarning\thomes\ta person whose home is not there");
    assert_eq!(tree.json("list rules").as_array().unwrap().len(), nest_core::check::RULES.len());
    tree.done("--color always list rules").says("memberships");
    tree.refused("show rule ghost", 3, "there is no rule ghost");
}

/// The files of real systems: no error that their administrator would wave away.
#[test]
fn the_files_of_this_machine_are_sound_enough() {
    if !crate::harness::is_root() {
        return crate::harness::passed_over(
            "the_files_of_this_machine_are_sound_enough",
            "root, to give files owners",
        );
    }
    let tree = TestTree::new();
    for file in ["passwd", "group", "shadow", "gshadow", "subuid", "subgid"] {
        match std::fs::read(format!("/etc/{file}")) {
            Ok(text) => tree.write(&format!("etc/{file}"), text),
            Err(_) if tree.exists(&format!("etc/{file}")) => tree.remove(&format!("etc/{file}")),
            Err(_) => {}
        }
    }
    let before = tree.snapshot();
    // On the day that it is: packages may have made accounts since the tests were written.
    let mut command = tree.command(&[
        "check",
        "--files-only",
        "--skip",
        "missing-shadow,open-password,second-root",
    ]);
    let run = Run::of(command.env_remove("SOURCE_DATE_EPOCH"));
    assert_eq!((run.status, run.stdout.as_str()), (0, ""), "{}", run.stderr);
    for words in ["list users --kind all", "show user root", "show user 0 --fields"] {
        tree.done(words);
    }
    tree.done("create user maren --uid 31999 --no-home -n");
    crate::harness::assert_same(&before, &tree.snapshot());
}

#[test]
fn any_bytes_end_with_an_answer() {
    let tree = TestTree::new();
    let mut seed = 0x2545_f491_4f6c_dd1du64;
    let mut random = || {
        seed ^= seed << 13;
        seed ^= seed >> 7;
        seed ^= seed << 17;
        seed
    };
    let letters = b"rota:x:0\n+-#,! \xff\0$1";
    for _ in 0..40 {
        for file in ["passwd", "shadow", "group", "gshadow", "subuid", "subgid"] {
            let length = random() as usize % 600;
            let text: Vec<u8> =
                (0..length).map(|_| letters[random() as usize % letters.len()]).collect();
            tree.write(&format!("etc/{file}"), text);
        }
        let run: Run = tree.run("check --files-only");
        assert!(run.status == 0 || run.status == 1, "{}", run.stderr);
        tree.run("--color always check --files-only --format json").json();
        assert!([0, 3, 5].contains(&tree.run("create user maren -n --join root").status));
    }
}

#[test]
fn every_rule_is_found_in_its_example_and_not_in_the_sound_one() {
    for rule in nest_core::check::RULES.iter().filter(|rule| !rule.looks_at_tree) {
        let run = |example: &nest_core::check::Example| {
            let tree = TestTree::empty();
            for (file, text) in example.files() {
                tree.write(file.path(), text);
            }
            let words = format!("check --only {} --fail-on note --allow-skipped", rule.name);
            (tree.run(&words), tree.json(&words))
        };
        if matches!(rule.name, "unfinished-change" | "idle-acceptance") {
            continue;
        }
        let (shown, report) = run(&rule.bad);
        assert_eq!(shown.status, 1, "{}: {}{}", rule.name, shown.stdout, shown.stderr);
        let finding = &report["findings"][0];
        assert_eq!(finding["rule"], rule.name);
        assert_eq!(finding["severity"], rule.severity.to_string());
        for part in ["message", "remedy", "subject", "file"] {
            assert!(!finding[part].as_str().unwrap().is_empty(), "{} {part}", rule.name);
        }
        let message = finding["message"].as_str().unwrap();
        shown.says(message.trim_end_matches('.')).says(rule.name);
        assert!(!shown.stdout.contains("Gullhaven$"), "{}: {}", rule.name, shown.stdout);
        let (shown, report) = run(&rule.good);
        assert_eq!(shown.status, 0, "{}: {}", rule.name, shown.stdout);
        assert_eq!(report["findings"].as_array().unwrap().len(), 0, "{}", rule.name);
    }
}

#[test]
fn a_neglected_tree_is_told_line_by_line() {
    let tree = TestTree::new();
    tree.append("etc/passwd", "Tavish:x:1002:0:Tavish Two:home/tavish:/bin/sh\n-\n");
    tree.append("etc/shadow", format!("Tavish:{HASH}:30000:90:30:7:::\n"));
    tree.append("etc/group", " crew:x:300:tavish,tavish,sunniva\nsonar:x:301:");
    tree.append("etc/gshadow", "crew:!:tavis:tavish,sunniva\nhesper:!::\n");
    tree.append("etc/subuid", "tavish:1000:10\nsunniva:2001010688:65536\n");
    let report = tree.json("check --files-only --fail-on note");
    let told: Vec<String> = report["findings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| {
            let text = |key: &str| one[key].as_str().unwrap().to_owned();
            format!("{}:{} {}", text("file"), one["line"], text("rule"))
        })
        .collect();
    let wanted = [
        "etc/passwd:7 case-twin",
        "etc/passwd:7 root-group",
        "etc/passwd:7 home-not-absolute",
        "etc/passwd:8 compat-line",
        "etc/shadow:7 aging-order",
        "etc/shadow:7 future-change",
        "etc/group:13 stray-space",
        "etc/group:13 duplicate-member",
        "etc/group:14 missing-newline",
        "etc/group:14 missing-gshadow",
        "etc/gshadow:13 ghost-admin",
        "etc/gshadow:14 gshadow-orphan",
        "etc/subuid:3 range-over-account",
        "etc/subuid:3 one-sided-range",
        "etc/subuid:4 duplicate-range",
    ];
    for one in wanted {
        assert!(told.contains(&one.to_owned()), "no {one} in {told:#?}");
    }
    assert_eq!(told.len(), wanted.len(), "{told:#?}");
    let text = tree.run("check --files-only");
    assert_eq!(text.status, 1, "errors are among them");
    assert_eq!(tree.run("check --files-only --only compat-line").status, 0, "a note is no error");
    text.says("etc/passwd:7: warning root-group").says("etc/gshadow:13: error ghost-admin");
}

/// What a terminal of so many columns is shown, without its colours.
fn at_width(tree: &TestTree, columns: usize, words: &str) -> String {
    let mut command = tree.command(&words.split(' ').collect::<Vec<_>>());
    command.env("COLUMNS", columns.to_string());
    let run = Run::of(&mut command);
    anstream::adapter::strip_str(&run.stdout).to_string()
}

#[test]
fn text_goes_by_the_width_of_the_terminal() {
    let tree = TestTree::new();
    let far = "a long way from the harbour office, beyond the lighthouse and the old mill";
    tree.append("etc/passwd", format!("maren:x:1002:4711:{far}:/home/maren:/bin/bash\n"));
    tree.append("etc/shadow", "maren:!:1::::::\n");
    let wide = at_width(&tree, 140, "--color always check --only no-primary-group");
    assert!(
        wide.contains(&format!("   7  maren:x:1002:4711:{far}:/home/maren:/bin/bash\n")),
        "{wide}"
    );
    let middle = at_width(&tree, 80, "--color always check --only no-primary-group");
    let line = middle.lines().find(|line| line.starts_with("   7  ")).unwrap();
    assert!(line.chars().count() <= 80 && line.ends_with('…'), "{middle}");
    assert!(line.contains("maren:x:1002:4711:"), "what is at fault is shown: {middle}");
    let narrow = at_width(&tree, 50, "--color always check --only no-primary-group");
    for field in ["   7  maren\n", "      1002\n", "      4711\n", "      /home/maren\n"] {
        assert!(narrow.contains(field), "{narrow}");
    }
    // No number, name or command is broken.
    assert!(narrow.contains("create group maren --gid 4711\n"), "{narrow}");
    // A table that has no room has one field a line.
    let table = at_width(&tree, 50, "--color always list users");
    assert!(table.contains("\n\n") && table.contains("maren") && table.contains("1002"), "{table}");
    assert!(table.lines().all(|line| !line.contains("maren") || !line.contains("1002")), "{table}");
}

#[test]
fn what_nobody_sees_is_written_as_codes() {
    let tree = TestTree::new();
    tree.append("etc/passwd", "tav\u{200b}ish:x:1002:100::/nonexistent:/bin/sh\n");
    tree.append("etc/passwd", "ta\u{475}ish:x:1003:100::/nonexistent:/bin/sh\n");
    tree.append("etc/shadow", "tav\u{200b}ish:!:1::::::\nta\u{475}ish:!:1::::::\n");
    let run = tree.run("check --files-only --only look-alike-name");
    run.says("etc/passwd:7: warning look-alike-name: the name tav\\u{200b}ish holds U+200B, which nobody sees.");
    run.says("etc/passwd:8: warning look-alike-name: the name ta\u{475}ish looks like tavish.");
    let report = tree.json("check --files-only --only look-alike-name");
    let remedy = report["findings"][0]["remedy"].as_str().unwrap();
    assert!(remedy.contains("rename user -- $'tav\\xe2\\x80\\x8bish'"), "{remedy}");
    // And it works when it is pasted.
    assert_eq!(crate::harness::paste(remedy).status, 0);
    assert_eq!(tree.run("check --files-only --only look-alike-name").stdout.lines().count(), 1);
}

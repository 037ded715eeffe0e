//! The report: that it says what the lists say, that nothing in a file becomes part of the page,
//! and where it goes.

use std::fs;

use base64ct::{Base64, Encoding};
use serde_json::{Value, json};
use sha2::{Digest, Sha256};

use crate::harness::{KEY, Run, TestTree, is_root, paste};
use crate::people::typed;

/// The page of a tree.
fn page(tree: &TestTree) -> String {
    let run = tree.run("report");
    assert_eq!(run.status, 0, "{}", run.stderr);
    run.stdout
}

#[test]
fn the_data_is_what_the_lists_give() {
    let tree = TestTree::new();
    tree.write("root/.ssh/authorized_keys", KEY);
    tree.done("create user maren --full-name Maren --join slipway --no-home --note HR-412");
    tree.done("delete user tavish --yes");
    let report = tree.json("report");
    for (command, keys) in [
        ("list users --kind all", &["users"][..]),
        ("list groups --kind all", &["groups"]),
        ("list admins", &["admins", "unclear"]),
        ("list ids", &["spans"]),
        ("list ranges", &["ranges"]),
        ("list retired", &["retired"]),
        ("list changes", &["changes", "other_hands"]),
        ("check", &["findings", "counts", "accepted", "skipped", "rules", "host", "policy"]),
        ("show policy", &["settings"]),
    ] {
        let list = tree.json(command);
        for key in keys {
            // A document that is about a list alone is that list.
            let told = if list.is_array() { &list } else { &list[*key] };
            assert!(!told.is_null(), "{command} has no {key}");
            assert_eq!(&report[*key], told, "{key} of {command}");
        }
    }
    let rows = |words: &str| tree.done(words).stdout.lines().count();
    let totals = &report["totals"];
    assert_eq!(totals["people"], rows("list users"));
    assert_eq!(totals["services"], rows("list users --kind services"));
    assert_eq!(totals["groups"], rows("list groups --kind all"));
    assert_eq!(totals["can_sign_in"], rows("list users --kind all --sign-in yes"));
    assert_eq!(totals["changes"], rows("list changes"));
    assert_eq!(totals["suspended"], rows("list users --suspended"));
    let whole = tree.json("list admins --whole");
    assert_eq!(totals["can_become_root"], whole["admins"].as_array().unwrap().len());
    assert_eq!(totals["findings"], report["counts"]);
}

#[test]
fn what_is_added_up_is_told_as_data_too() {
    let tree = TestTree::new();
    tree.done("create user maren --join slipway --no-home --expires +30d");
    tree.done("delete user tavish --yes");
    let report = tree.json("report");
    assert_eq!(
        report["matrix"],
        json!({"groups": ["sudo", "slipway"], "people": [
            {"name": "sunniva", "primary": null, "listed": ["sudo"]},
            {"name": "maren", "primary": null, "listed": ["slipway"]},
        ]})
    );
    let coming = report["ends"]["coming"].as_array().unwrap();
    assert!(coming.iter().any(|end| end["what"] == "account" && end["names"] == json!(["maren"])));
    let bars = |of: &str| -> Vec<(String, u64)> {
        let bars = report["ages"][of].as_array().unwrap().iter();
        let told =
            bars.map(|bar| (bar["label"].as_str().unwrap().into(), bar["count"].as_u64().unwrap()));
        told.filter(|(_, count)| *count > 0).collect()
    };
    let told = [("up to 7 days".to_owned(), 1), ("before the records".to_owned(), 1)];
    assert_eq!(bars("accounts"), told);
    let lanes = report["map"]["lanes"].as_array().unwrap();
    let retired = lanes.iter().find(|lane| lane["what"] == "retired").unwrap();
    assert!(retired["marks"].to_string().contains("tavish"), "{retired}");
    // The page has the same in words.
    let page = page(&tree);
    assert!(page.contains("up to 7 days: 1, before the records: 1"), "{page}");
    assert!(page.contains("account expires"), "{page}");
}

#[test]
fn a_renamed_account_is_as_old_as_it_was() {
    let tree = TestTree::new();
    tree.done("create user maren --no-home");
    tree.done("rename user maren odalys");
    let bars = &tree.json("report")["ages"]["accounts"];
    assert_eq!(bars[0]["count"], 1, "{bars:#}");
}

#[test]
fn the_time_line_goes_by_what_the_files_said_on_each_day() {
    let tree = TestTree::new();
    // 2026-11-01, the 10th and the 20th, and other hands in between.
    for (day, words) in [
        (20_758, "create user maren --no-home"),
        (20_767, "create user odalys perrin --no-home"),
        (20_777, "delete user tavish --yes"),
    ] {
        let now = (i64::from(day) * 86_400 + 3600).to_string();
        let mut command = tree.command(&words.split(' ').collect::<Vec<_>>());
        let run = Run::of(command.env("SOURCE_DATE_EPOCH", now));
        assert_eq!(run.status, 0, "{}", run.stderr);
        if day == 20_767 {
            tree.append("etc/passwd", "tern:x:1900:1900:::/bin/sh\n");
        }
    }
    let at = |words: &str| {
        let mut command = tree.command(&words.split(' ').collect::<Vec<_>>());
        Run::of(command.env("SOURCE_DATE_EPOCH", (20_781 * 86_400).to_string()))
    };
    let report: Value = serde_json::from_str(&at("report --format json").stdout).unwrap();
    let history = report["history"].as_array().unwrap();
    let told: Vec<(u64, &str, u64, bool)> = history
        .iter()
        .map(|one| {
            let number = |key: &str| one[key].as_u64().unwrap();
            let hands = one["other_hands"].as_bool().unwrap();
            (number("change"), one["day"].as_str().unwrap(), number("users"), hands)
        })
        .collect();
    assert_eq!(told.len(), 4);
    assert_eq!((told[3].0, told[3].1, told[3].3), (3, "2026-11-20", true));
    for (_, day, users, _) in &told[1..] {
        let then = at(&format!("list users --kind all --at {day}"));
        assert_eq!(then.stdout.lines().count() as u64, *users, "{day}");
    }
    let page = at("report").stdout;
    assert!(page.contains("other hands were at the files before change 3"), "{page}");
    assert!(page.contains(&format!(">{} users</text>", told[3].2)), "{page}");
}

#[test]
fn nothing_in_a_file_becomes_part_of_the_page() {
    let tree = TestTree::new();
    let hostile = "<script>window.tried=1</script>";
    let sneaky = "</script><img src=x onerror=window.tried=2>\u{202e}\"'&";
    tree.append(
        "etc/passwd",
        format!("ann:x:1500:1500:{hostile}:/home/ann:/bin/sh\n<b>:x:1501:1501:{sneaky}::/bin/sh\n"),
    );
    tree.append("etc/group", format!("</script>:x:1600:ann\n{hostile}:x:1601:sunniva\n"));
    tree.append("etc/subuid", format!("{hostile}:900000:65536\n"));
    let note = format!("--note={hostile}</q>");
    let run = tree.run_words(&["create", "user", "maren", "--no-home", "--even-damaged", &note]);
    if run.status != 0 {
        let run = tree.run_words(&["create", "user", "maren", "--no-home", &note]);
        assert_eq!(run.status, 0, "{}", run.stderr);
    }
    let page = page(&tree);
    for raw in [hostile, "<img", "<b>:", "onerror=window.tried=2>", "\u{202e}"] {
        assert!(!page.contains(raw), "{raw}");
    }
    assert!(page.contains("&#60;script&#62;window.tried=1") || page.contains("&lt;script&gt;"));
    assert!(page.contains("u{202e}"), "what can't be seen is written out");
    // What the script of the page reads ends no element either.
    let from = page.find("id=\"matrix-data\">").unwrap();
    let data = &page[from + 17..page[from..].find("</script>").unwrap() + from];
    let data: Value = serde_json::from_str(data).unwrap();
    assert!(data["groups"].to_string().contains("</script>"), "{data}");
}

#[test]
fn the_page_may_load_and_run_nothing_but_itself() {
    let page = page(&TestTree::new());
    let policy = page.split("Content-Security-Policy\" content=\"").nth(1).unwrap();
    let policy = policy.split('"').next().unwrap().replace("&#39;", "'");
    assert!(policy.starts_with("default-src 'none'; style-src 'sha256-"), "{policy}");
    assert!(!policy.contains("unsafe") && !policy.contains("http"), "{policy}");
    // Every element that does something is one that the policy knows by its hash.
    let mut known = 0;
    for (open, close) in [("<style>", "</style>"), ("<script>", "</script>")] {
        for part in page.split(open).skip(1) {
            let text = part.split(close).next().unwrap();
            let hash = Base64::encode_string(&Sha256::digest(text.as_bytes()));
            assert!(policy.contains(&format!("'sha256-{hash}'")), "{text}");
            known += 1;
        }
    }
    assert_eq!(known, 3);
    for word in
        [" style=\"", " onclick", "src=", "<link", "@import", "url(", "http-equiv=\"refresh"]
    {
        assert!(!page.contains(word), "{word}");
    }
    let links: Vec<&str> = page.split("href=\"").skip(1).map(|rest| &rest[..1]).collect();
    assert!(links.iter().all(|first| *first == "#"), "{links:?}");
}

#[test]
fn no_hash_and_no_key_is_on_it() {
    let tree = TestTree::new();
    tree.write("root/.ssh/authorized_keys", KEY);
    let shadow = tree.read("etc/shadow");
    let hashes: Vec<&str> = shadow
        .lines()
        .filter_map(|line| line.split(':').nth(1))
        .filter(|field| field.len() > 12)
        .collect();
    assert!(!hashes.is_empty());
    let key = KEY.split(' ').nth(1).unwrap();
    for words in ["report", "report --format json"] {
        let text = tree.run(words).stdout;
        for secret in hashes.iter().chain(&[key]) {
            assert!(!text.contains(secret), "{words}");
        }
    }
    // Not even where one has slipped into a name.
    let hash = hashes.iter().find(|hash| hash.starts_with('$')).unwrap();
    tree.append("etc/passwd", format!("ann:x:1500:1500:{hash}::/bin/sh\n"));
    assert!(!page(&tree).contains(hash));
}

#[test]
fn where_there_is_a_page_already_it_is_asked() {
    let tree = TestTree::new();
    let at = tree.root().with_file_name("report.html");
    let to = format!("report --to {}", at.display());
    tree.done(&to).says("report.html: ").says("open it with a browser");
    let first = fs::read(&at).unwrap();
    use std::os::unix::fs::PermissionsExt;
    assert_eq!(fs::metadata(&at).unwrap().permissions().mode() & 0o777, 0o600);
    tree.done("create user maren --no-home");
    let refused = tree.run(&to);
    assert_eq!(refused.status, 3, "{}", refused.stderr);
    refused.complains("exists already, and was not written over");
    let [again] = &refused.ways()[..] else { panic!("{}", refused.stderr) };
    assert!(again.starts_with("copper-nest ") && again.ends_with(" --yes"), "{again}");
    assert_eq!(fs::read(&at).unwrap(), first);
    if let Some(run) = typed(&tree, "no\\n", &to) {
        assert_eq!(run.status, 3, "{}", run.stdout);
        run.says("exists already; write over it? yes or no [no]");
        assert_eq!(fs::read(&at).unwrap(), first);
        let run = typed(&tree, "yes\\n", &to).unwrap();
        assert_eq!(run.status, 0, "{}", run.stdout);
        assert_ne!(fs::read(&at).unwrap(), first);
        fs::write(&at, "other").unwrap();
    }
    let run = paste(again);
    assert_eq!(run.status, 0, "{again}\n{}", run.stderr);
    assert!(fs::read_to_string(&at).unwrap().contains("maren"));
    // A link is not followed: what it leads to stays as it is.
    let other = tree.root().with_file_name("other");
    fs::write(&other, "mine").unwrap();
    fs::remove_file(&at).unwrap();
    std::os::unix::fs::symlink(&other, &at).unwrap();
    tree.done(&format!("{to} --yes"));
    assert_eq!(fs::read_to_string(&other).unwrap(), "mine");
    assert!(fs::read_to_string(&at).unwrap().starts_with("<!doctype html>"));
}

#[test]
fn what_can_not_be_written_to_is_refused_before_anything_is_read() {
    let tree = TestTree::new();
    let root = tree.root().display();
    for (to, says) in [
        ("/dev/null".to_owned(), "is no file: name one, or - for standard output"),
        (format!("{root}/etc"), "is a folder: name a file in it"),
        (
            format!("{root}/nowhere/report.html"),
            "report.html can't be written: No such file or directory.",
        ),
        (format!("{root}/etc/passwd/report.html"), "can't be looked at"),
    ] {
        let run = tree.run(&format!("report --to {to}"));
        assert!(
            run.status != 0 && run.stderr.contains(says),
            "{to}: {} {}",
            run.status,
            run.stderr
        );
        assert!(!run.stderr.contains("os error"), "{}", run.stderr);
    }
    let run = tree.run("report --to r.html --format json");
    assert_eq!(run.status, 2, "{}", run.stderr);
    run.complains("--to is for the page");
    tree.refused("report --since 2026-13-40", 3, "is no day");
    let run = tree.run("report --from snapshots --since -7d");
    assert_eq!(run.status, 2, "{}", run.stderr);
    tree.refused("report --since +3d", 3, "is yet to come");
    assert_eq!(tree.run("report --to -").stdout, tree.run("report").stdout);
    if let Some(run) = typed(&tree, "", "report") {
        assert_eq!(run.status, 2, "{}", run.stdout);
        run.says("a page is nothing to read on a terminal").says("report --to report.html");
    }
    // A folder that can't be written: root can write everywhere.
    use std::os::unix::fs::PermissionsExt;
    use std::os::unix::process::CommandExt;
    let folder = tree.root().with_file_name("closed");
    fs::create_dir(&folder).unwrap();
    fs::set_permissions(&folder, PermissionsExt::from_mode(0o555)).unwrap();
    tree.chmod("etc/shadow", 0o644);
    tree.chmod("etc/gshadow", 0o644);
    let to = folder.join("report.html");
    let mut command = tree.command(&["report", "--to", to.to_str().unwrap()]);
    if is_root() {
        let above = tree.root().parent().unwrap();
        fs::set_permissions(above, PermissionsExt::from_mode(0o755)).unwrap();
        command.uid(65_534).gid(65_534);
    }
    let run = Run::of(&mut command);
    assert!(run.status != 0 && run.stderr.contains("can't be written"), "{}", run.stderr);
    assert!(!to.exists() && fs::read_dir(&folder).unwrap().next().is_none());
}

#[test]
fn what_is_not_there_is_told_and_stops_nothing() {
    // Without any account, and without any change.
    let tree = TestTree::empty();
    for file in ["passwd", "shadow", "group", "gshadow"] {
        tree.write(&format!("etc/{file}"), "");
    }
    let page = page(&tree);
    assert!(page.contains("Nobody is in a group but the own."), "{page}");
    assert!(page.contains("<p>None.</p>"), "{page}");
    assert_eq!(tree.json("report")["totals"]["people"], 0);
    // Without a place for changes.
    let tree = TestTree::new();
    let run = tree.run("report --state none --format json");
    assert_eq!(run.status, 0, "{}", run.stderr);
    assert_eq!(run.json()["changes"], json!([]));
    // Lines that can't be read are told on the page, as whoever looks at it sees nothing else.
    tree.append("etc/passwd", "half a line\n");
    assert!(self::page(&tree).contains("can&#39;t be read, and is not listed"));
    // Without the file that passwords are in, half of it would be wrong.
    tree.remove("etc/shadow");
    fs::create_dir(tree.path("etc/shadow")).unwrap();
    let run = tree.run("report");
    assert!(run.status != 0 && run.stdout.is_empty(), "{}", run.stdout);
}

#[test]
fn gaps_in_the_records_and_a_clock_that_went_back_are_told() {
    let tree = TestTree::new();
    for name in ["maren", "odalys", "perrin", "liv"] {
        tree.done(&format!("create user {name} --no-home"));
    }
    let records = tree.path("var/lib/copper-nest/changes");
    let folder = if records.is_dir() { records } else { tree.path("var/lib/copper-nest") };
    let of = |number: u64| {
        let name = |entry: &fs::DirEntry| entry.file_name().to_string_lossy().into_owned();
        let entries = fs::read_dir(&folder).unwrap().map(Result::unwrap);
        let mut found = entries.filter(|entry| name(entry).starts_with(&format!("{number}.")));
        found.next().map(|entry| entry.path())
    };
    let Some(second) = of(2) else { panic!("no record of change 2 in {}", folder.display()) };
    fs::remove_file(second).unwrap();
    let third = of(3).unwrap();
    let text = fs::read_to_string(&third).unwrap();
    let from = text.find("\"time\"").unwrap();
    let year = from + text[from..].find("20").unwrap();
    let older = format!("{}2021{}", &text[..year], &text[year + 4..]);
    fs::write(&third, older).unwrap();
    let report = tree.json("report");
    let notes = report["notes"].to_string();
    assert!(notes.contains("the record of change 2 is gone"), "{notes}");
    assert!(notes.contains("the clock went back before change 3"), "{notes}");
    page(&tree);
}

#[test]
fn it_stays_small_whatever_there_is() {
    let tree = TestTree::new();
    for (count, most) in [(1_000, 2 << 20), (20_000, 15 << 20)] {
        let (mut passwd, mut shadow, mut group, mut ranges) = Default::default();
        use std::fmt::Write;
        let (passwd, shadow, group, ranges): (&mut String, &mut String, &mut String, &mut String) =
            (&mut passwd, &mut shadow, &mut group, &mut ranges);
        for at in 0..count {
            let uid = 1000 + at;
            writeln!(
                passwd,
                "hand{at:05}:x:{uid}:{uid}:Hand of the harbour {at}:/home/hand{at:05}:/bin/bash"
            )
            .unwrap();
            writeln!(shadow, "hand{at:05}:$6$saltsalt$abcdefgh:{}:0:365:7:::", 20_000 + at % 700)
                .unwrap();
            writeln!(group, "hand{at:05}:x:{uid}:").unwrap();
            writeln!(ranges, "hand{at:05}:{}:65536", 600_100_000 + at * 65536).unwrap();
        }
        for team in 0..200 {
            let members =
                (0..count).filter(|at| (at * 7 + team) % 90 == 0).map(|at| format!("hand{at:05}"));
            let members: Vec<String> = members.take(200).collect();
            writeln!(group, "team{team:03}:x:{}:{}", 70_000 + team, members.join(",")).unwrap();
        }
        tree.write("etc/passwd", &*passwd);
        tree.write("etc/shadow", &*shadow);
        tree.write("etc/group", &*group);
        tree.write("etc/subuid", &*ranges);
        tree.write("etc/subgid", &*ranges);
        tree.write("etc/gshadow", "");
        let page = page(&tree);
        assert!(page.len() < most, "{count}: {} bytes", page.len());
        assert!(page.contains(&format!("hand{:05}", count - 1)), "everybody is on it");
    }
}

#[test]
fn many_machines_are_told_of_on_one_page() {
    let (harbour, quay) = (TestTree::new(), TestTree::new());
    harbour.write("etc/hostname", "harbour\n");
    quay.write("etc/hostname", "quay\n");
    quay.done("change user tavish --uid 1700");
    quay.append("etc/passwd", "keeper:x:0:0:Night watch:/root:/bin/bash\n");
    let folder = harbour.root().with_file_name("snapshots");
    fs::create_dir(&folder).unwrap();
    for (tree, name) in [(&harbour, "harbour"), (&quay, "quay")] {
        tree.done(&format!("export snapshot --to {}/{name}.json", folder.display()));
    }
    fs::write(folder.join("notes.txt"), "x").unwrap();
    fs::write(folder.join("cut.json"), "{\"document\":\"snapshot\",\"ver").unwrap();
    let report = harbour.json(&format!("report --from {}", folder.display()));
    let machines = report["machines"].as_array().unwrap();
    let names: Vec<&str> = machines.iter().map(|one| one["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["harbour", "quay"]);
    assert_eq!(machines[1]["people"], 2);
    assert_eq!(report["not_compared"][0]["name"], format!("{}/cut.json", folder.display()));
    let user = |name: &str| {
        let users = report["across"].as_array().unwrap();
        users.iter().find(|user| user["name"] == name).unwrap().clone()
    };
    assert_eq!(user("keeper")["root_on"], json!(["quay"]));
    assert_eq!(
        (user("tavish")["uids"].clone(), user("tavish")["on"].clone()),
        (json!([1001, 1700]), json!(2))
    );
    // It differs in what compare finds.
    let compared =
        harbour.run(&format!("compare --from {} --kind all --format json", folder.display()));
    let differences: Vec<Value> = compared
        .stdout
        .lines()
        .skip(1)
        .map(|line| {
            let mut one: Value = serde_json::from_str(line).unwrap();
            one.as_object_mut().unwrap().retain(|key, _| key != "document" && key != "version");
            one
        })
        .collect();
    assert_eq!(report["differences"], json!(differences));
    let run = harbour.run(&format!("report --from {}", folder.display()));
    run.complains("not compared:").complains("notes.txt was passed over");
    for words in ["<bdi>harbour</bdi>", "1001, 1700", "cut.json"] {
        assert!(run.stdout.contains(words), "{words}");
    }
    harbour
        .done(&format!("report {}/quay.json", folder.display()))
        .says("<h1><bdi>Machines</bdi></h1>");
    harbour.refused(
        &format!("report {}/cut.json", folder.display()),
        3,
        "there is nothing to tell of",
    );
}

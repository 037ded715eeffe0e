//! `intake` and `export`.

use std::os::unix::fs::PermissionsExt;
use std::process::Stdio;

use crate::harness::{Run, TestTree, is_root};

const CREW: &str = "\
name,full_name,uid,primary,join,home,service,expires,ranges
maren,Maren Solvik,,,pilots;slipway,,,,
,Åse Rønning,,,pilots,,,2027-03-31,none
corwin,Corwin Tell,1500,users,,/srv/corwin,,,
windvane,,,,,,yes,,
";

/// A tree, and beside it a file with this text.
fn with(name: &str, text: impl AsRef<[u8]>) -> (TestTree, String) {
    let tree = TestTree::new();
    let file = tree.root().with_file_name(name);
    std::fs::write(&file, text).unwrap();
    std::fs::create_dir(tree.path("srv")).unwrap();
    (tree, file.display().to_string())
}

#[test]
fn all_rows_are_one_change_and_one_undo() {
    if !crate::harness::is_root() {
        return crate::harness::passed_over(
            "all_rows_are_one_change_and_one_undo",
            "root, to give files owners",
        );
    }
    let (tree, crew) = with("crew.csv", CREW);
    let before = tree.snapshot();
    let dry = tree.done(&format!("intake {crew} -n"));
    assert_eq!(dry.value("users"), "4 new of 4 rows");
    assert_eq!(dry.value("uids"), "1002-1500, services: 998");
    dry.says(" 2    new  ase       1003  ase 1003, pilots").says("dry run: nothing was changed");
    crate::harness::assert_same(&before, &tree.snapshot());
    assert!(!tree.exists("var/lib/copper-nest"), "a dry run writes nothing");
    let run = tree.done(&format!("intake {crew}"));
    run.says("done: change 1.").says("homes     3 new").says("--verbose shows each row");
    assert!(!run.stdout.contains("/home/maren"), "{}", run.stdout);
    let passwd = tree.read("etc/passwd");
    for line in [
        "maren:x:1002:1002:Maren Solvik:/home/maren:/bin/bash",
        "ase:x:1003:1003:Åse Rønning:/home/ase:/bin/bash",
        "corwin:x:1500:100:Corwin Tell:/srv/corwin:/bin/bash",
        "windvane:x:998:998::/nonexistent:/usr/sbin/nologin",
    ] {
        assert!(passwd.contains(line), "{passwd}");
    }
    assert_eq!(tree.line("etc/group", 8), "pilots:x:210:tavish,maren,ase");
    assert_eq!(tree.line("etc/gshadow", 8), "pilots:!:tavish:tavish,maren,ase");
    assert!(tree.exists("srv/corwin/bin/tides") && tree.exists("home/ase/.profile"));
    assert_eq!(tree.done("check --files-only --allow-skipped").stdout.matches("error").count(), 0);
    tree.done("show change 1").says("users     4 new");
    let told = tree.done("show change 1 --verbose");
    told.says("row         1").says("adds   maren:x:1002:1002:");
    tree.done("undo --yes --even-service");
    crate::harness::assert_same(&before, &tree.snapshot());
}

#[test]
fn twice_the_same_changes_nothing() {
    for (name, text) in [
        ("crew.csv", CREW),
        (
            "crew.json",
            r#"[{"name": "maren", "join": ["pilots"], "uid": 1100}, {"full_name": "Bo Ek"}]"#,
        ),
        (
            "crew.toml",
            "[[user]]\nname = 'maren'\nexpires = 2027-03-31\n[[group]]\nname = 'divers'\nmember = ['maren']\n",
        ),
    ] {
        let (tree, file) = with(name, text);
        tree.done(&format!("intake {file}"));
        let after = tree.snapshot_with_state();
        for existing in ["keep", "update", "update --exact-groups"] {
            let again = tree.done(&format!("intake {file} --existing {existing} --yes"));
            again.says("everything is so already: nothing was changed.").says("0 new");
        }
        let refused = tree.refused(&format!("intake {file}"), 3, "exists already, etc/passwd:7");
        let keep = format!("intake {file} --existing keep");
        assert!(refused.stderr.contains(&keep), "{}", refused.stderr);
        crate::harness::assert_same(&after, &tree.snapshot_with_state());
    }
}

#[test]
fn every_fault_is_told_at_once_and_nothing_is_touched() {
    let text = "name,uid,join,home\nmaren,10x4,slipwy,\nmaren,,,\ntavish,,,/root/../x\n";
    let (tree, file) = with("crew.csv", text);
    let run =
        tree.refused(&format!("intake {file}"), 3, "nothing was taken in: 4 things are wrong");
    for words in [
        "2:7  uid   \"10x4\" is no uid",
        "put a whole number from 0 to 4294967293",
        "2:12  join  there is no group slipwy; the nearest is slipway",
        "3:1  name  maren stands on line 2 already",
        "4:1  name  the user tavish exists already, etc/passwd:6",
        "make the missing groups",
    ] {
        assert!(run.stderr.contains(words), "no {words} in\n{}", run.stderr);
    }
    let error = &tree.json(&format!("intake {file}"))["error"];
    assert_eq!(error["kind"], "roster");
    assert_eq!(error["faults"].as_array().unwrap().len(), 4);
    assert_eq!(error["faults"][1]["column"], "join");
    assert_eq!(
        (&error["faults"][1]["line"], &error["faults"][1]["character"]),
        (&2.into(), &12.into())
    );
}

#[test]
fn what_is_no_table_is_refused() {
    let (tree, file) = with("crew.csv", "");
    tree.refused(&format!("intake {file}"), 3, "it is empty");
    let etc = tree.path("etc").display().to_string();
    tree.refused(&format!("intake {etc} --from csv"), 3, "can't be read: Is a directory");
    tree.refused(&format!("intake {file}.gone --from csv"), 3, "can't be read: No such file");
    tree.refused("intake -", 3, "it can't be told how standard input is written");
    let other = file.replace(".csv", ".txt");
    std::fs::write(&other, CREW).unwrap();
    tree.refused(&format!("intake {other}"), 3, "it ends in none of .csv, .json, .toml and .ldif");
    tree.done(&format!("intake {other} --from csv -n"));
    tree.refused(&format!("intake {file} --exact-groups"), 2, "needs --existing update");
    tree.refused(
        &format!("intake {file} --no-home --skeleton /etc/skel"),
        2,
        "cannot be used with",
    );
    tree.refused("intake - - --from csv", 2, "can be read once only");
}

#[test]
fn standard_input_and_pipes_are_read_too() {
    let tree = TestTree::new();
    let table = b"name\r\nmaren\r\n\r\nodile\r\n";
    let run = tree.fed("intake - --from csv --no-home", table);
    assert_eq!(run.status, 0, "{}", run.stderr);
    run.says("intake standard input").says("homes     0 new");
    assert!(tree.read("etc/passwd").contains("odile:x:1003:1003::/home/odile:/bin/bash"));
    assert!(!tree.exists("home/odile"));
    let fifo = tree.root().with_file_name("crew.csv");
    nix::unistd::mkfifo(&fifo, nix::sys::stat::Mode::S_IRWXU).unwrap();
    let writer = fifo.clone();
    let writer = std::thread::spawn(move || std::fs::write(writer, "name\nisolde\n"));
    tree.done(&format!("intake {}", fifo.display()));
    writer.join().unwrap().unwrap();
    assert!(tree.exists("home/isolde"));
}

#[test]
fn a_span_that_runs_out_in_a_late_row_is_told_before_anything_is_made() {
    let rows: String = (0..1200).map(|at| format!("crew{at}\n")).collect();
    let (tree, file) = with("crew.csv", format!("name\n{rows}"));
    tree.write("etc/copper-nest/policy.toml", "[people]\nids = \"1000-2000\"\nranges = 0\n");
    let run = tree.refused(&format!("intake {file}"), 3, "1001:1  ");
    assert!(run.stderr.contains("no id is free in 1000-2000"), "{}", run.stderr);
    assert!(run.stderr.contains("no number is left for 200 further rows either"), "{}", run.stderr);
    let rows: Vec<&str> = run.stderr.lines().filter(|line| line.contains("1000-2000")).collect();
    assert_eq!(rows.len(), 1, "{}", run.stderr);
}

#[test]
fn missing_groups_are_made_when_that_is_asked() {
    let (tree, file) =
        with("crew.csv", "name,primary,join\nmaren,divers,sonar;pilots\nodile,odile,sonar\n");
    tree.refused(&format!("intake {file}"), 3, "there is no group sonar");
    let run = tree.done(&format!("intake {file} --groups-too"));
    run.says("groups    2 new     divers, sonar");
    let group = tree.read("etc/group");
    assert!(
        group.contains("sonar:x:1003:maren,odile") && group.contains("odile:x:1005:"),
        "{group}"
    );
    assert!(tree.read("etc/gshadow").contains("sonar:!::maren,odile"));
}

#[test]
fn first_passwords_go_to_a_file_of_roots_alone() {
    let (tree, file) = with("crew.csv", CREW);
    let folder = tree.root().with_file_name("first");
    std::fs::create_dir(&folder).unwrap();
    let to = folder.join("passwords.csv");
    let shown = to.display();
    tree.done(&format!("intake {file} --passwords-to {shown} -n"));
    assert!(!to.exists(), "a dry run makes no file");
    let run = tree.done(&format!("intake {file} --passwords-to {shown}"));
    run.says("by a first password, which must be changed")
        .says("3 first passwords, readable for root alone");
    // No service needs one.
    assert!(tree.read("etc/shadow").contains("windvane:!:"));
    assert_eq!(std::fs::metadata(&to).unwrap().permissions().mode() & 0o7777, 0o600);
    let passwords = std::fs::read_to_string(&to).unwrap();
    let shadow = tree.read("etc/shadow");
    for line in passwords.lines().skip(1) {
        let (name, password) = line.split_once(',').unwrap();
        let fields: Vec<&str> = shadow
            .lines()
            .find(|line| line.starts_with(&format!("{name}:")))
            .unwrap()
            .split(':')
            .collect();
        if let Some(hash) = crate::people::crypt(password, fields[1]) {
            assert_eq!(hash, fields[1], "{name}");
        }
        assert_eq!(fields[2], "0", "{name} must change it");
        assert!(!run.stdout.contains(password) && !run.stderr.contains(password));
        assert!(
            !std::fs::read_to_string(tree.path("var/lib/copper-nest/changes/1.json"))
                .unwrap()
                .contains(password)
        );
    }
    assert_eq!(passwords.lines().count(), 4);
    // Where it can't be, nothing happens.
    let other = tree.root().with_file_name("other.csv");
    std::fs::write(&other, "name\nodile\n").unwrap();
    let other = other.display();
    tree.refused(
        &format!("intake {other} --passwords-to {shown}"),
        3,
        "exists already, and is not overwritten",
    );
    tree.refused(&format!("intake {other} --passwords-to {shown} -n"), 3, "exists already");
    assert_eq!(std::fs::read_to_string(&to).unwrap(), passwords);
    std::fs::set_permissions(&folder, PermissionsExt::from_mode(0o777)).unwrap();
    let open = folder.join("open.csv");
    tree.refused(
        &format!("intake {other} --passwords-to {}", open.display()),
        3,
        "where others can put a file of theirs",
    );
    std::fs::set_permissions(&folder, PermissionsExt::from_mode(0o700)).unwrap();
    tree.refused(
        &format!("intake {file} --passwords-to {}", open.display()),
        3,
        "exists already, etc/passwd",
    );
    assert!(!open.exists());
    // The change fails after the file was made: it is gone again.
    let held = std::fs::OpenOptions::new()
        .write(true)
        .create(true)
        .truncate(false)
        .open(tree.path("etc/.pwd.lock"))
        .unwrap();
    rustix::fs::fcntl_lock(&held, rustix::fs::FlockOperation::NonBlockingLockExclusive).unwrap();
    let run = tree.run(&format!("intake {other} --passwords-to {} --wait 0", open.display()));
    assert_eq!(run.status, 4, "{}", run.stderr);
    assert!(!open.exists());
}

#[test]
fn accounts_are_brought_to_their_rows() {
    let text = "name,full_name,join,shell,uid,primary,home\n\
                tavish,Tavish R. Rowe,slipway,/bin/sh,1400,users,/home/rowe\nsunniva,,sudo,,,,\n";
    let (tree, file) = with("crew.csv", text);
    let run = tree.done(&format!("intake {file} --existing update --yes --verbose"));
    for words in ["uid         1400", "was 1001", "moved from /home/tavish", "joins       slipway"]
    {
        run.says(words);
    }
    assert_eq!(run.value("users"), "0 new, 1 changed, 1 as they were of 2 rows");
    assert_eq!(tree.line("etc/passwd", 6), "tavish:x:1400:100:Tavish R. Rowe:/home/rowe:/bin/sh");
    assert_eq!(tree.line("etc/group", 9), "slipway:x:211:tavish");
    assert_eq!(tree.line("etc/group", 8), "pilots:x:210:tavish", "nobody asked for that to go");
    if is_root() {
        assert_eq!(tree.owner("home/rowe"), (1400, 1001));
    }
    let exact = format!("intake {file} --existing update --exact-groups --yes");
    tree.done(&exact).says("1 changed");
    assert_eq!(tree.line("etc/group", 8), "pilots:x:210:");
    std::fs::write(&file, "name,join\nsunniva,pilots\n").unwrap();
    let refused = tree.refused(&exact, 3, "because of row 1 of ");
    assert!(refused.stderr.contains("sunniva would no longer be administrator"));
    std::fs::write(&file, "name,service\nsunniva,yes\n").unwrap();
    tree.refused(&exact, 3, "sunniva is a person, which its uid says");
}

#[test]
fn what_is_written_out_is_taken_in_as_it_was() {
    let from = TestTree::new();
    for words in [
        "create group divers --gid 1300",
        "create user maren --join pilots,divers --admin --expires 2027-03-31",
        "create user corwin --primary divers --no-home --shell /bin/sh",
        "create user odile --uid 1200 --primary 1300 --ranges none",
        "create group tides --gid 1301 --member maren,odile --group-admin maren",
    ] {
        from.done(words);
    }
    from.append("etc/group", "own:x:1302:\n");
    from.append("etc/gshadow", "own:!::\n");
    from.append("etc/passwd", "own:x:1299:1302:Own Group:/nonexistent:/bin/sh\n");
    from.append("etc/shadow", "own:!:20602:0::7:::\n");
    for form in ["csv", "json", "toml"] {
        let (users, groups) = (format!("users.{form}"), format!("groups.{form}"));
        let place = |name: &str| from.root().with_file_name(name).display().to_string();
        let run = from.run(&format!("export users --to {} --with-hashes", place(&users)));
        run.says("readable for root alone");
        // What is left out is told, by the status too.
        assert_eq!(run.status, 1);
        assert!(run.stderr.contains("the password field of tavish"), "{}", run.stderr);
        from.done(&format!("export groups divers tides own pilots --to {}", place(&groups)));
        let mode = std::fs::metadata(place(&users)).unwrap().permissions().mode() & 0o7777;
        assert_eq!(mode, 0o600);
        let to = TestTree::new();
        for name in ["sunniva", "tavish"] {
            to.done(&format!("delete user {name} --files erase --yes --even-last-admin"));
        }
        to.done("delete group pilots --even-service --yes");
        // What was deleted here holds its numbers; on a new tree nothing does.
        std::fs::remove_dir_all(to.path("var/lib/copper-nest")).unwrap();
        to.done(&format!("intake {} {} --no-home", place(&groups), place(&users)));
        let listed = |tree: &TestTree, words: &str| {
            let mut all = tree.json(words);
            for one in all.as_array_mut().unwrap() {
                for key in ["password", "sign_in", "home", "lines"] {
                    one.as_object_mut().unwrap().remove(key);
                }
                if let Some(groups) = one.get_mut("groups").and_then(|groups| groups.as_array_mut())
                {
                    groups.sort_by_key(|group| group.to_string());
                }
            }
            all.as_array_mut().unwrap().sort_by_key(|one| one["name"].to_string());
            all
        };
        assert_eq!(listed(&from, "list users"), listed(&to, "list users"), "{form}");
        assert_eq!(listed(&from, "list groups"), listed(&to, "list groups"), "{form}");
        let hash = |tree: &TestTree| {
            let shadow = tree.read("etc/shadow");
            let line = shadow.lines().find(|line| line.starts_with("sunniva:")).unwrap();
            line.split(':').nth(1).unwrap().to_owned()
        };
        assert_eq!(hash(&from), hash(&to));
    }
}

#[test]
fn hashes_leave_only_for_a_file_and_nothing_is_overwritten() {
    let tree = TestTree::new();
    tree.refused("export users --with-hashes", 2, "--to <FILE>");
    let run = tree.done("export users");
    assert!(!run.stdout.contains('$') && !run.stdout.contains("password_hash"), "{}", run.stdout);
    assert_eq!(run.stdout.lines().count(), 3);
    let there = tree.path("etc/passwd").display().to_string();
    tree.refused(
        &format!("export users --as csv --to {there}"),
        3,
        "exists already, and is not overwritten",
    );
    tree.refused(&format!("export users --to {there}"), 2, "ends in none of");
    tree.refused("export users maron", 3, "there is no user maron");
    tree.refused("export groups pilot", 3, "there is no group pilot");
    tree.done("suspend user tavish");
    tree.append("etc/passwd", b"soren:x:1300:1300:S\xf8ren:/home/soren:/bin/sh\n");
    let run = tree.run("export users --format json");
    assert_eq!((run.status, &run.json()[1]["suspended"]), (1, &"yes".into()));
    assert!(run.stderr.contains("the full_name of soren, which is not UTF-8"), "{}", run.stderr);
    assert_eq!(run.json()[2]["uid"], 1300);
    let services = tree.done("export users --kind services --as toml");
    services.says("[[user]]\nname = \"tidegauge\"").says("home = \"none\"").says("service = true");
}

#[test]
fn a_name_is_proposed_for_a_full_name() {
    let tree = TestTree::new();
    let run = tree.refused_words(
        &["create", "user", "--full-name", "Tavish Ødegård"],
        3,
        "no name was given; tavisho would be proposed for Tavish Ødegård",
    );
    assert!(
        run.stderr.contains("create user todegard --full-name 'Tavish Ødegård'"),
        "{}",
        run.stderr
    );
    let run = tree.run_words(&["create", "user", "--full-name", "Tavish Ødegård", "--yes"]);
    assert_eq!(run.status, 0, "{}", run.stderr);
    assert!(run.stderr.contains("tavisho is the login name proposed"), "{}", run.stderr);
    assert!(tree.read("etc/passwd").contains("tavisho:x:1002:1002:Tavish Ødegård:/home/tavisho:"));
    tree.refused_words(&["create", "user", "--full-name", "\u{10ffff}"], 3, "none of its letters");
    tree.refused("create user", 2, "no name was given");
    let lost = tree.run_words(&["create", "user", "--full-name", "Bo\u{10ffff} Ek", "-n"]);
    assert!(lost.stderr.contains("that was left out"), "{}", lost.stderr);
}

#[test]
fn whoever_stops_it_leaves_neither_accounts_nor_passwords() {
    let rows: String = (0..300).map(|at| format!("crew{at}\n")).collect();
    let (tree, file) = with("crew.csv", format!("name\n{rows}"));
    let before = tree.snapshot();
    let to = tree.root().with_file_name("first.csv");
    let words = ["intake", &file, "--passwords-to", &to.display().to_string()];
    let mut child = tree.command(&words).stderr(Stdio::piped()).spawn().unwrap();
    while !to.exists() {
        assert!(child.try_wait().unwrap().is_none(), "it ended before it made the file");
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    std::thread::sleep(std::time::Duration::from_millis(20));
    let pid = rustix::process::Pid::from_child(&child);
    rustix::process::kill_process(pid, rustix::process::Signal::INT).unwrap();
    let run = Run::from(child.wait_with_output().unwrap());
    assert_eq!(run.status, 6, "{}", run.stderr);
    assert!(run.stderr.contains("interrupted; nothing was changed"), "{}", run.stderr);
    assert!(!to.exists());
    crate::harness::assert_same(&before, &tree.snapshot());
}

#[test]
fn machines_read_what_was_taken_in() {
    let (tree, crew) = with("crew.csv", CREW);
    let dry = tree.json(&format!("intake {crew} -n"));
    assert_eq!((&dry["dry_run"], &dry["change"]), (&true.into(), &().into()));
    assert_eq!(dry["totals"]["users"], "4 new");
    let done = tree.json(&format!("intake {crew}"));
    assert_eq!(done["change"], 1);
    let edits = done["edits"].as_array().unwrap();
    let passwd = edits.iter().filter(|edit| edit["file"] == "etc/passwd");
    assert_eq!(passwd.count(), 4);
    assert_eq!(done["steps"].as_array().unwrap().len(), 3);
    assert_eq!(done["next"][0], format!("copper-nest --tree {} list users", tree.root().display()));
    let quiet = tree.done(&format!("intake {crew} --existing keep --quiet"));
    assert_eq!((quiet.stdout.as_str(), quiet.stderr.as_str()), ("", ""));
}

#[test]
fn a_long_table_is_told_by_its_totals_and_taken_back_whole() {
    let rows: String = (0..1500).map(|at| format!("crew{at},pilots\n")).collect();
    let (tree, file) = with("crew.csv", format!("name,join\n{rows}"));
    let before = tree.snapshot();
    let run = tree.done(&format!("intake {file} --no-home"));
    assert!(run.stdout.lines().count() < 20, "{}", run.stdout);
    run.says("crew0 and 1499 more   each joins pilots\n");
    run.says("users     1500 new").says("1002-2501").says("paths are only recorded");
    let record = tree.read("var/lib/copper-nest/changes/1.json");
    assert!(record.contains("\"adds\"") && record.contains("\"subjects\": []"));
    assert_eq!(tree.json("show change 1")["edits"].as_array().unwrap().len(), 1500 * 6 + 2);
    assert_eq!(tree.line("etc/group", 8).split(',').count(), 1501);
    let about = tree.done("list changes --about crew1499");
    about.says("intake ");
    tree.done("create user maren --no-home");
    tree.done("delete user crew7 --yes");
    // One of them has gone since: that is told, and undoing stops.
    tree.refused("undo 1 --yes", 3, "crew7");
    tree.done("restore user crew7");
    tree.done("delete user maren --yes");
    tree.done("undo 1 --yes");
    let after = tree.snapshot_without(".set-aside");
    for file in ["etc/passwd", "etc/group", "etc/shadow", "etc/gshadow", "etc/subuid"] {
        let path = tree.path(file);
        assert_eq!(before[&path], after[&path], "{file}");
    }
}

#[test]
fn homes_are_taken_over_or_only_recorded() {
    if !crate::harness::is_root() {
        return crate::harness::passed_over(
            "homes_are_taken_over_or_only_recorded",
            "root, to give files owners",
        );
    }
    let (tree, file) = with("crew.csv", "name,home\nmaren,\ncorwin,/srv/corwin\nodile,none\n");
    tree.write("home/maren/notes", "here before");
    tree.write("srv/corwin/notes", "here before");
    let run = tree.refused(&format!("intake {file}"), 3, "2:7  home  /home/maren exists already");
    assert!(run.stderr.contains("--adopt-home takes homes over"), "{}", run.stderr);
    let run = tree.done(&format!("intake {file} --adopt-home --verbose"));
    run.says("adopted as it is");
    assert_eq!(tree.read("home/maren/notes"), "here before");
    assert!(!tree.exists("home/maren/.profile") && !tree.exists("home/odile"));
    if is_root() {
        assert_eq!(tree.owner("srv/corwin"), (1003, 1003));
    }
    tree.done("undo --yes");
    tree.done(&format!("intake {file} --no-home"));
    assert!(
        tree.read("etc/passwd").contains("odile:x:1006:1006::/nonexistent:"),
        "{}",
        tree.read("etc/passwd")
    );
    std::fs::write(&file, "name,ssh_key\nfenja,\"ssh-ed25519 AAAA\"\n").unwrap();
    tree.refused(&format!("intake {file}"), 3, "2:7  ssh_key  the value: line 1 is no public key");
    let key = crate::harness::KEY.trim();
    std::fs::write(&file, format!("name,ssh_key\nfenja,{key}\n")).unwrap();
    tree.done(&format!("intake {file}"));
    assert_eq!(tree.read("home/fenja/.ssh/authorized_keys"), format!("{key}\n"));
    tree.done(&format!("intake {file} --existing update --yes")).says("nothing was changed");
}

#[test]
fn a_table_can_renumber_nobody_by_mistake() {
    let (tree, file) = with("groups.csv", "name,gid,member\npilots,300,sunniva\n");
    let update = format!("intake {file} --existing update --yes");
    let run = tree.refused(&update, 3, "the group pilots has the gid 210");
    assert!(run.stderr.contains("renumber it first: change group pilots --gid"), "{}", run.stderr);
    std::fs::write(&file, "name,gid,member,group_admin\npilots,210,sunniva,sunniva\n").unwrap();
    tree.done(&update);
    assert_eq!(tree.line("etc/group", 8), "pilots:x:210:tavish,sunniva");
    assert_eq!(tree.line("etc/gshadow", 8), "pilots:!:tavish,sunniva:tavish,sunniva");
    tree.done(&format!("intake {file} --existing update --exact-groups --yes"));
    assert_eq!(tree.line("etc/group", 8), "pilots:x:210:sunniva");
}

/// A long table with something in every column, and so many rows that only their
/// totals are told.
fn long_table(odd: impl Fn(usize) -> Option<String>) -> String {
    let row = |at: usize| {
        odd(at).unwrap_or_else(|| match at % 7 {
            0 => format!("crew{at},Hand {at},,,pilots;slipway,,,,,,,"),
            1 => format!("crew{at},,{},,pilots,/srv/crew{at},/bin/sh,,,,,", 20_000 + at),
            2 => format!("gauge{at},,,,,,,yes,,,,"),
            3 => format!("crew{at},,,pilots,,none,,,2027-03-31,,,"),
            4 => format!("crew{at},Hånd {at},,,crew0,,,,never,none,,"),
            5 => format!("crew{at},,,,,,,,,131072,,!"),
            _ => format!("crew{at},,,,,,,,,,yes,{HASH}"),
        })
    };
    let title = "name,full_name,uid,primary,join,home,shell,service,expires,ranges,must_change,password_hash";
    let rows: Vec<String> = (0..1400).map(row).collect();
    format!("{title}\n{}\n", rows.join("\n"))
}

const HASH: &str = "$y$j9T$TQrrklxsv3nFULfgn4vfq1$uF6Yp8T5sCFlkFK8AI5yNLvAOEZl4Pn70F8hFaZBvz2";

#[test]
fn a_long_table_makes_the_lines_that_row_by_row_would_make() {
    let (tree, file) = with("crew.csv", long_table(|_| None));
    let other = tree.copy();
    let before = tree.snapshot();
    tree.done(&format!("intake {file} --no-home"));
    // Asked for every detail, each row is planned as a whole.
    other.done(&format!("intake {file} --no-home --verbose"));
    for name in ["passwd", "shadow", "group", "gshadow", "subuid", "subgid"] {
        let name = format!("etc/{name}");
        assert!(tree.read(&name).lines().count() > 300, "{name}");
        assert_eq!(tree.read(&name), other.read(&name), "{name}");
    }
    let edits = |tree: &TestTree| tree.json("show change 1")["edits"].clone();
    assert_eq!(edits(&tree), edits(&other));
    let record = tree.read("var/lib/copper-nest/changes/1.json");
    assert!(!record.contains("TQrr") && record.contains("(hash)"));
    assert_eq!(tree.mode("var/lib/copper-nest/changes/1.json"), 0o600);
    tree.done("undo --yes --even-service");
    let after = tree.snapshot();
    for name in ["etc/passwd", "etc/group", "etc/shadow", "etc/gshadow"] {
        assert_eq!(before[&tree.path(name)], after[&tree.path(name)], "{name}");
    }
}

#[test]
fn a_long_table_has_the_faults_that_row_by_row_would_be_found() {
    let odd = |at: usize| match at {
        100 => Some("tavish,,,,,,,,,,,".to_owned()),
        301 => Some("bad name,,,,,,,,,,,".to_owned()),
        402 => Some("late,,,crew999,,,,,,,,".to_owned()),
        503 => Some("shelled,,,,,,bin/sh,,,,,".to_owned()),
        604 => Some("joiner,,,,pilotes,,,,,,,".to_owned()),
        705 => Some("homely,,,,,srv/x,,,,,,".to_owned()),
        806 => Some("past,,,,,,,,2020-13-01,,,".to_owned()),
        907 => Some("root2,,0,,,,,,,,,".to_owned()),
        1008 => Some("colon,a:b,,,,,,,,,,".to_owned()),
        1109 => Some("crew0,,,,,,,,,,,".to_owned()),
        _ => None,
    };
    let (tree, file) = with("crew.csv", long_table(odd));
    let before = tree.snapshot();
    let silent = tree.run(&format!("intake {file} --no-home"));
    let whole = tree.run(&format!("intake {file} --no-home --verbose"));
    assert_eq!((silent.status, whole.status), (3, 3));
    assert_eq!(silent.stderr, whole.stderr.replace(" --verbose", ""));
    for line in ["102:", "303:", "404:", "505:", "606:", "707:", "808:", "909:", "1010:", "1111:"] {
        assert!(silent.stderr.contains(&format!("  {line}")), "{line}\n{}", silent.stderr);
    }
    crate::harness::assert_same(&before, &tree.snapshot());
}

//! What is said, where it was wrong or nothing was: of groups, numbers and tables.

use crate::harness::TestTree;

#[test]
fn a_number_that_is_given_for_a_name_leads_on() {
    let tree = TestTree::new();
    for words in [
        "regroup 1001 --join users",
        "change user 1001 --shell /bin/sh",
        "suspend user 1001",
        "rename user 1001 torben",
        "password user 1001 --none",
        "delete user 1001 --yes",
    ] {
        // Each way round is pasted, and leads on.
        let refused = tree.refused(words, 3, "there is no user 1001");
        let ways = refused.ways();
        let by_name = words.replace("1001", "tavish");
        assert!(ways.iter().any(|way| way.ends_with(&by_name)), "{ways:?}");
    }
    tree.refused("regroup 7777 --join users", 3, "see them all");
}

#[test]
fn whose_primary_group_it_is_is_in_it_already() {
    let tree = TestTree::new();
    let run = tree.done("change group tavish --add-member tavish");
    assert_eq!(run.value("in already"), "tavish it is the primary group");
    run.says("nothing was changed");
    assert!(tree.read("etc/group").contains("\ntavish:x:1001:\n"));
}

#[test]
fn who_is_in_another_group_of_that_number_is_in_it() {
    let tree = TestTree::new();
    tree.append("etc/group", "crew:x:210:sunniva\n");
    tree.append("etc/gshadow", "crew:!::sunniva\n");
    for group in ["pilots", "crew", "210"] {
        let run = tree.done(&format!("list users --in {group}"));
        let names: Vec<&str> =
            run.stdout.lines().filter_map(|line| line.split('\t').next()).collect();
        assert_eq!(names, ["sunniva", "tavish"], "{group}");
    }
}

#[test]
fn lines_that_can_not_be_read_are_told_beside_a_list() {
    let tree = TestTree::new();
    for (file, line) in
        [("etc/passwd", "maren\n"), ("etc/group", "crew:x\n"), ("etc/subuid", "tavish:5\n\n")]
    {
        tree.append(file, line);
    }
    let says = |words: &str, place: &str| {
        let run = tree.done(words);
        let said = format!("{place} can't be read, and is not listed");
        assert!(run.stderr.contains(&said), "{words}: {}", run.stderr);
    };
    says("list users", "etc/passwd:7");
    says("list groups", "etc/group:13");
    says("list ranges", "etc/subuid:3");
    says("list ids", "etc/passwd:7");
    says("list ids", "etc/subuid:3");
    let sound = TestTree::new();
    assert_eq!(sound.done("list ids").stderr, "");
}

#[test]
fn that_ids_are_avoided_is_said_where_none_is_left() {
    let tree = TestTree::new();
    let policy = "[people]\nids = \"1000-1005\"\n[ids]\navoid = [\"1002-1005\"]\n";
    tree.write("etc/copper-nest/policy.toml", policy);
    let refused = tree.refused("create user maren", 3, "4 of them are avoided, by ids.avoid");
    assert!(refused.stderr.contains("or avoid fewer"), "{}", refused.stderr);
    let taken = policy.replace("1005\"\n[", "1001\"\n[");
    tree.write("etc/copper-nest/policy.toml", taken);
    let refused = tree.refused("create user maren", 3, "no id is free in 1000-1001");
    assert!(!refused.stderr.contains("avoid"), "{}", refused.stderr);
}

#[test]
fn what_is_wrong_with_every_row_alike_is_told_once() {
    let tree = TestTree::new();
    std::fs::remove_dir_all(tree.path("etc/skel")).unwrap();
    let table = tree.root().with_file_name("crew.csv");
    std::fs::write(&table, "name\nada\nben\ncyd\n").unwrap();
    let words = format!("intake {}", table.display());
    let refused = tree.refused(&words, 3, "3 things are wrong");
    assert_eq!(refused.stderr.matches("the skeleton /etc/skel").count(), 1, "{}", refused.stderr);
    assert!(refused.stderr.contains("(in 2 other rows too)"), "{}", refused.stderr);
}

#[test]
fn an_intake_offers_only_what_it_has() {
    let tree = TestTree::new();
    let table = tree.root().with_file_name("crew.csv");
    std::fs::write(&table, "name,primary\ntavish,users\n").unwrap();
    let run = tree.done(&format!("intake {} --existing update --verbose", table.display()));
    assert_eq!(run.value("old files"), "keep gid 1001 in /home/tavish too");
    // Of services none can sign in, whatever their passwords.
    std::fs::write(&table, "name,shell\nmaren,/usr/sbin/nologin\n").unwrap();
    let run = tree.done(&format!("intake {}", table.display()));
    assert_eq!(run.value("sign-in"), "by no way: their shells let nobody in");
}

#[test]
fn a_file_of_first_passwords_is_there_only_with_passwords_in_it() {
    let tree = TestTree::new();
    let beside = |name: &str| tree.root().with_file_name(name);
    let (table, passwords) = (beside("crew.csv"), beside("first.csv"));
    std::fs::write(&table, "name\ntavish\n").unwrap();
    let (table, file) = (table.display(), passwords.display());
    let words = format!("intake {table} --existing keep --passwords-to {file}");
    tree.done(&words).says("no first passwords: nobody is new");
    assert!(!passwords.exists());
    // Nor is one left by whoever is killed before they are made.
    std::fs::write(beside("crew.csv"), "name\nmaren\n").unwrap();
    tree.done(&words).says("1 first password, readable for root alone");
    let text = std::fs::read_to_string(&passwords).unwrap();
    assert!(text.starts_with("name,password\nmaren,"), "{text}");
    tree.refused(&words.replace("keep", "update"), 3, "exists already, and is not overwritten");
}

#[test]
fn an_undo_of_an_undo_says_what_it_comes_to() {
    let tree = TestTree::new();
    tree.done("create user maren");
    tree.done("undo --yes");
    assert_eq!(tree.done("undo 2 --yes").value("comes to"), "create user maren, done again");
    let again = tree.done("undo 3 --yes");
    assert_eq!(again.value("comes to"), "create user maren, taken back again");
    let listed = tree.done("list changes").stdout;
    for line in [
        "\tundo 3: create user maren, taken back again\t",
        "\tundo 2: create user maren, done again\t",
        "\tundo 1: create user maren\t",
    ] {
        assert!(listed.contains(line), "{listed}");
    }
}

#[test]
fn a_purge_is_not_said_to_have_lines_to_take_back() {
    let tree = TestTree::new();
    tree.done("delete user tavish --yes");
    tree.done("purge user tavish --yes");
    let refused = tree.refused("undo 2 --yes", 3, "was purged, and nothing brings that back");
    assert!(!refused.stderr.contains("--lines-only"), "{}", refused.stderr);
}

#[test]
fn what_is_not_utf_8_is_escaped_for_machines_and_said_to_be() {
    let tree = TestTree::new();
    tree.append("etc/passwd", b"caf\xe9:x:1500:210:S\xf8lvi:/home/x\xe9:/bin/sh\n");
    tree.append("etc/shadow", b"caf\xe9:!:20600::::::\n");
    let shown = tree.json("show user 1500");
    assert_eq!(shown["name"], r"caf\xe9");
    assert_eq!(shown["full_name"], r"S\xf8lvi");
    assert_eq!(shown["home"]["path"], r"/home/x\xe9");
    assert_eq!(shown["escaped"], true);
    assert_eq!(tree.json("show group pilots")["primary_members"][0], r"caf\xe9");
    assert_eq!(tree.json("show group pilots")["escaped"], true);
    assert!(tree.json("show user tavish").get("escaped").is_none());
}

#[test]
fn a_policy_is_shown_to_machines_as_values() {
    let tree = TestTree::new();
    tree.write("etc/copper-nest/policy.toml", "[ids]\navoid = [\"5000-5999 theirs\"]\n");
    let shown = tree.json("show policy");
    let value = |key: &str| {
        let all = shown.as_array().unwrap();
        all.iter().find(|one| one["key"] == key).unwrap()["value"].clone()
    };
    assert_eq!(value("people.ids"), "1000-59999");
    assert_eq!(value("people.private_group"), true);
    assert_eq!(value("people.ranges"), 65536);
    assert_eq!(value("ids.avoid"), serde_json::json!(["5000-5999 theirs"]));
    assert_eq!(value("check.severity"), serde_json::json!({}));
}

#[test]
fn who_is_not_root_is_told_so_by_every_command() {
    let tree = TestTree::new();
    if !crate::harness::is_root() {
        return crate::harness::passed_over("who_is_not_root_is_told_so", "root");
    }
    tree.done("create user maren");
    tree.chmod("..", 0o755);
    for words in ["list changes", "show change 1", "list retired", "undo 1 --yes"] {
        let mut command = std::process::Command::new("setpriv");
        command.args(["--reuid", "65534", "--clear-groups", env!("CARGO_BIN_EXE_copper-nest")]);
        command.arg("--tree").arg(tree.root()).args(words.split(' '));
        let run = crate::harness::Run::of(&mut command);
        assert_eq!(run.status, 3, "{words}: {}", run.stderr);
        assert!(!run.stderr.contains("state folder"), "{words}: {}", run.stderr);
    }
}

#[test]
fn what_stands_in_the_way_of_erasing_is_named_and_a_state_folder_that_was_there_stays() {
    let tree = TestTree::new();
    tree.write("var/mail/tavish", "mail\n");
    if crate::harness::is_root() {
        tree.chown("var/mail/tavish", 1001, 8);
    }
    let planted = "var/mail/.tavish.copper-nest-gone";
    std::fs::create_dir(tree.path(planted)).unwrap();
    for is_there in [true, false] {
        let state = tree.root().with_file_name(format!("state-{is_there}"));
        if is_there {
            std::fs::create_dir(&state).unwrap();
        }
        let words = format!("--state {} delete user tavish --files erase --yes", state.display());
        let way = format!("/{planted} is in the way");
        tree.refused(&words, 6, &way);
        assert_eq!(state.exists(), is_there);
    }
    std::fs::remove_dir(tree.path(planted)).unwrap();
    tree.done("delete user tavish --files erase --yes");
    assert!(!tree.exists("var/mail/tavish"));
}

#[test]
fn an_environment_that_makes_no_sense_stops_nothing() {
    let tree = TestTree::new();
    tree.done("create user maren");
    for (name, value) in
        [("TZ", ":/dev/zero"), ("TZ", "/dev/zero"), ("RAYON_NUM_THREADS", "100000")]
    {
        let mut command = std::process::Command::new("timeout");
        command.args(["60", env!("CARGO_BIN_EXE_copper-nest"), "--tree"]).arg(tree.root());
        let run = crate::harness::Run::of(command.args(["list", "changes"]).env(name, value));
        assert_eq!(run.status, 0, "{name}={value}: {}", run.stderr);
        run.says("create user maren");
    }
}

#[test]
fn what_repair_leaves_is_told_to_machines_too() {
    let tree = TestTree::new();
    tree.append("etc/passwd", "zed:x:1000:1000::/home/sunniva:/bin/sh\n");
    let left = |document: &serde_json::Value| {
        let left = document["left"].as_array().unwrap();
        left.iter().map(|one| one["rule"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    let repaired = tree.json("repair --yes");
    assert_eq!(repaired["change"], 1);
    assert!(left(&repaired).contains(&"duplicate-uid".to_owned()), "{repaired}");
    let again = tree.run("repair --yes");
    again.says("nothing is mended without a decision").says("duplicate-uid");
    assert!(left(&tree.json("repair --yes")).contains(&"duplicate-uid".to_owned()));
}

#[test]
fn files_of_configuration_are_named_as_the_account_files_are() {
    let tree = TestTree::new();
    let policy = "[check]\naccept = [\"ghost-member:crew:odile  she is on her way\"]\n";
    tree.write("etc/copper-nest/policy.toml", policy);
    tree.run("check").says("etc/copper-nest/policy.toml: note idle-acceptance");
    assert!(!tree.run("check").stdout.contains("/etc/"));
}

#[test]
fn what_is_no_number_is_told_from_one() {
    let tree = TestTree::new();
    for words in ["undo abc", "show change abc", "list users --expiring soon", "--wait x list ids"]
    {
        let refused = tree.refused(words, 2, "write a whole number, 0 or more");
        assert!(!refused.stderr.contains("digit found"), "{}", refused.stderr);
    }
    tree.refused("create user", 2, "no name was given: write it behind the command");
    let empty = tree.root().with_file_name("names");
    std::fs::write(&empty, "# nobody\n").unwrap();
    let words = format!("suspend user --names-from {}", empty.display());
    tree.refused(&words, 2, "names holds no name");
}

#[test]
fn options_that_mean_nothing_to_the_demonstration_are_refused() {
    for words in ["-q demo", "--wait 3 demo", "--format json demo", "--tree / --state none demo"] {
        let mut command = crate::harness::program();
        let run = crate::harness::Run::of(command.args(words.split(' ')));
        assert_eq!(run.status, 2, "{words}: {}", run.stdout);
        assert!(!run.stdout.contains("Gullhaven"), "{words}: {}", run.stdout);
        assert!(run.stderr.contains("means nothing there"), "{words}: {}", run.stderr);
    }
}

#[test]
fn paths_outside_the_tree_can_be_used_as_they_are() {
    let tree = TestTree::new();
    tree.write("srv/charts", "deep\n");
    if crate::harness::is_root() {
        tree.chown("srv/charts", 4242, 4242);
    } else {
        return crate::harness::passed_over("paths_outside_the_tree", "root");
    }
    let listed = tree.done("trace orphans --files --null --outside").stdout;
    let expected = format!("{}\0", tree.path("srv/charts").display());
    assert_eq!(listed, expected);
    assert_eq!(tree.done("trace orphans --files --null").stdout, "/srv/charts\0");
}

#[test]
fn the_numbers_that_the_system_has_for_its_errors_are_not_told() {
    let tree = TestTree::new();
    if !crate::harness::is_root() {
        return crate::harness::passed_over("the_numbers_of_errors", "root");
    }
    tree.chmod("..", 0o755);
    for words in ["show user sunniva", "list users", "check", "trace orphans", "list retired"] {
        let mut command = std::process::Command::new("setpriv");
        command.args(["--reuid", "65534", "--clear-groups", env!("CARGO_BIN_EXE_copper-nest")]);
        command.arg("--tree").arg(tree.root()).args(words.split(' '));
        let run = crate::harness::Run::of(&mut command);
        let said = format!("{}{}", run.stdout, run.stderr);
        assert!(!said.contains("(os error"), "{words}: {said}");
    }
    let shown = tree.run("show user tavish").stdout;
    assert!(shown.contains("password    sha512, locked"), "{shown}");
}

#[test]
fn what_is_made_and_what_is_suspended_is_told_to_machines() {
    let tree = TestTree::new();
    let made = tree.json("create user maren");
    let user = &made["users"][0];
    assert_eq!((&user["name"], &user["uid"]), (&"maren".into(), &1002.into()), "{made}");
    assert_eq!(user["home"], "/home/maren", "{made}");
    tree.done("suspend user tavish");
    let shown = tree.json("show user tavish");
    assert_eq!(shown["expires"], serde_json::Value::Null);
    assert_eq!(shown["suspension"]["expires"], "2027-03-23", "{shown}");
}

#[test]
fn a_name_that_stands_twice_is_told_with_both_lines() {
    let tree = TestTree::new();
    tree.append("etc/passwd", "tavish:x:1009:100::/home/t:/bin/sh\n");
    tree.refused("suspend user tavish", 5, "etc/passwd:7 says tavish again, after line 6");
}

#[test]
fn the_command_that_a_rule_names_can_be_pasted() {
    let tree = TestTree::new();
    let shown = tree.done("show rule ghost-member").stdout;
    let joined = shown.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(joined.contains("repair --only ghost-member found"), "{shown}");
}

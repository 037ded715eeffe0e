//! `create user`: what it decides, what it writes, what it says.

use crate::harness::{GROUP, KEY, PASSWD, SHADOW, TestTree, is_root, lives_in_the_tree};

#[test]
fn one_account_reaches_every_file() {
    let tree = TestTree::new();
    let run = tree.run_words(&[
        "create",
        "user",
        "maren",
        "--full-name",
        "Maren Solvik",
        "--join",
        "pilots,slipway",
    ]);
    assert_eq!(run.status, 0, "{}", run.stderr);
    let added = "maren:x:1002:1002:Maren Solvik:/home/maren:/bin/bash\n";
    assert_eq!(tree.read("etc/passwd"), format!("{PASSWD}{added}"));
    assert_eq!(tree.read("etc/shadow"), format!("{SHADOW}maren:!:20781:0::7:::\n"));
    let group = GROUP
        .replace("pilots:x:210:tavish", "pilots:x:210:tavish,maren")
        .replace("slipway:x:211:", "slipway:x:211:maren");
    assert_eq!(tree.read("etc/group"), format!("{group}maren:x:1002:\n"));
    assert_eq!(tree.line("etc/gshadow", 8), "pilots:!:tavish:tavish,maren");
    assert_eq!(tree.line("etc/gshadow", 9), "slipway:!::maren");
    assert_eq!(tree.line("etc/gshadow", 13), "maren:!::");
    assert_eq!(tree.line("etc/subuid", 3), "maren:2001141760:65536");
    assert_eq!(tree.read("etc/subgid"), tree.read("etc/subuid"));
    let names: Vec<_> = std::fs::read_dir(tree.path("etc"))
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .filter(|name| name.contains("copper-nest"))
        .collect();
    assert!(names.is_empty(), "left over: {names:?}");
}

#[test]
fn the_receipt_tells_each_decision_and_each_line() {
    let tree = TestTree::new();
    let run = tree.run_words(&[
        "create",
        "user",
        "maren",
        "--full-name",
        "Maren Solvik",
        "--join",
        "pilots",
    ]);
    let at = tree.root().display();
    let wanted = format!(
        "\
create user maren

  uid         1002          first never-used id in 1000-59999
  primary     maren 1002    a new group of its own
  member of   pilots
  home        /home/maren   3 files from /etc/skel, mode 0700
  shell       /bin/bash     people.shell, built in
  ranges      2001141760-2001207295
  sign-in     by password: no, no password is set. By key: no, /home/maren/.ssh holds none

  access
    maren   joins pilots

  etc/passwd:7     adds   maren:x:1002:1002:Maren Solvik:/home/maren:/bin/bash
  etc/shadow:7     adds   maren:!:20781:0::7:::
  etc/group:8      was    pilots:x:210:tavish
                   now    pilots:x:210:tavish,maren
  etc/group:13     adds   maren:x:1002:
  etc/gshadow:8    was    pilots:!:tavish:tavish
                   now    pilots:!:tavish:tavish,maren
  etc/gshadow:13   adds   maren:!::
  etc/subuid:3     adds   maren:2001141760:65536
  etc/subgid:3     adds   maren:2001141760:65536

done: change 1. To take it back: copper-nest --tree {at} undo 1
next: copper-nest --tree {at} password user maren
"
    );
    let stdout: Vec<&str> =
        run.stdout.lines().filter(|line| !line.contains("not set, for lack")).collect();
    let stdout = format!("{}\n", stdout.join("\n")).replace("\n\n\n", "\n\n");
    assert_eq!(stdout, wanted);
    assert_eq!(run.stderr, "");
}

#[test]
fn the_home_is_a_copy_of_the_skeleton() {
    let tree = TestTree::new();
    tree.chmod("etc/skel/.profile", 0o640);
    tree.done("create user maren");
    assert_eq!(tree.read("home/maren/.profile"), "export EDITOR=vi\n");
    assert_eq!(tree.mode("home/maren"), 0o700);
    assert_eq!(tree.mode("home/maren/.profile"), 0o640);
    assert_eq!(tree.mode("home/maren/bin/tides"), 0o755);
    assert_eq!(
        std::fs::read_link(tree.path("home/maren/.login")).unwrap().to_str(),
        Some(".profile")
    );
    if is_root() {
        for path in ["", "/.profile", "/bin", "/bin/tides", "/.login"] {
            assert_eq!(tree.owner(&format!("home/maren{path}")), (1002, 1002), "{path}");
        }
        assert_eq!(tree.owner("etc/skel/.profile"), (0, 0));
    }
}

#[test]
fn homes_can_be_elsewhere_empty_absent_or_adopted() {
    if lives_in_the_tree("homes_can_be_elsewhere_empty_absent_or_adopted") {
        return;
    }
    let tree = TestTree::new();
    let run = tree.done("create user maren --home /var/lib/maren/ --skeleton none");
    run.says("/var/lib/maren   empty, mode 0700");
    assert_eq!(std::fs::read_dir(tree.path("var/lib/maren")).unwrap().count(), 0);
    assert!(tree.line("etc/passwd", 7).ends_with("::/var/lib/maren:/bin/bash"));

    tree.done("create user perrin --no-home").says("as asked; the field says /nonexistent");
    assert!(tree.line("etc/passwd", 8).ends_with(":/nonexistent:/bin/bash"));
    tree.done("create user brannoc --no-home --home /srv/brannoc");
    assert!(tree.line("etc/passwd", 9).ends_with(":/srv/brannoc:/bin/bash"));
    assert!(!tree.exists("srv/brannoc") && !tree.exists("home/brannoc"));

    tree.write("home/odalys/letter.txt", "kept\n");
    tree.done("create user odalys --adopt-home").says("/home/odalys exists and is adopted");
    assert_eq!(tree.read("home/odalys/letter.txt"), "kept\n");
    assert!(!tree.exists("home/odalys/.profile"));
    if is_root() {
        assert_eq!(tree.owner("home/odalys"), (1005, 1005));
        assert_eq!(tree.owner("home/odalys/letter.txt"), (0, 0));
    }
}

#[test]
fn a_service_gets_an_id_from_the_top_and_no_home() {
    let tree = TestTree::new();
    let run = tree.done("create user berthcam --service");
    assert_eq!(run.value("uid"), "998 highest never-used id in 100-999, the services'");
    assert_eq!(tree.line("etc/passwd", 7), "berthcam:x:998:998::/nonexistent:/usr/sbin/nologin");
    assert_eq!(tree.line("etc/shadow", 7), "berthcam:!:20781::::::");
    assert_eq!(tree.line("etc/subuid", 3), "");
    let run = tree.done("create user windvane --service --home /var/lib/windvane --ranges 10");
    assert_eq!(run.value("home"), "/var/lib/windvane empty, mode 0700");
    assert_eq!(tree.line("etc/subgid", 3), "windvane:2001141760:10");
}

#[test]
fn several_names_are_one_change() {
    let tree = TestTree::new();
    tree.write("names", "# the crew\nperrin\n\n  brannoc \n");
    let names = tree.path("names");
    let run = tree.run_words(&["create", "user", "maren", "--names-from", names.to_str().unwrap()]);
    assert_eq!(run.status, 0, "{}", run.stderr);
    run.says("create user maren, perrin, brannoc").says("done: change 1. ");
    let uids: Vec<String> = (7..=9)
        .map(|line| tree.line("etc/passwd", line).split(':').nth(2).unwrap().into())
        .collect();
    assert_eq!(uids, ["1002", "1003", "1004"]);
    assert_eq!(tree.line("etc/subuid", 5), "brannoc:2001272832:65536");

    let many: Vec<String> = (0..12).map(|at| format!("crew{at}")).collect();
    let run = tree.done(&format!("create user {} --ranges none", many.join(" ")));
    run.says("  crew11         1016   /home/crew11").says("--verbose shows each decision");
}

#[test]
fn one_wrong_name_of_several_makes_none() {
    let tree = TestTree::new();
    tree.refused("create user maren Perrin brannoc", 3, "nobody was created, because of Perrin");
    tree.refused("create user maren tavish", 3, "nobody was created, because of tavish");
    tree.refused("create user maren perrin maren", 3, "the name comes twice in one call");
}

#[test]
fn groups_are_joined_and_replaced_as_asked() {
    let tree = TestTree::new();
    let run = tree.done("create user maren --primary pilots --join slipway,slipway --admin");
    assert_eq!(run.value("primary"), "pilots 210 as asked");
    assert_eq!(run.value("member of"), "slipway, sudo");
    assert!(tree.line("etc/passwd", 7).starts_with("maren:x:1002:210:"));
    assert_eq!(tree.line("etc/group", 4), "sudo:x:27:sunniva,maren");
    assert_eq!(tree.line("etc/gshadow", 4), "sudo:*::sunniva,maren");
    assert_eq!(tree.line("etc/group", 13), "");
    tree.done("create user perrin --primary 211");
    assert!(tree.line("etc/passwd", 8).starts_with("perrin:x:1003:211:"));
}

#[test]
fn a_uid_of_ones_own_choice_is_taken_and_commented() {
    let tree = TestTree::new();
    let run = tree.done("create user maren --uid 70000");
    run.says("uid 70000 lies outside the people 1000-59999");
    assert!(tree.line("etc/passwd", 7).starts_with("maren:x:70000:70000:"));
    // 211 is a group's, so the private group takes another number.
    let run = tree.done("create user perrin --uid 211");
    assert_eq!(run.value("primary"), "perrin 1002 a new group of its own; gid 211 is taken");
    let run = tree.done("create user keeper --uid 0 --share-id");
    run.says("uid 0 is root's too").says("keeper has uid 0: it is root under another name");
}

#[test]
fn expiry_is_the_first_day_without_access() {
    let tree = TestTree::new();
    let run = tree.done("create user maren --expires 2027-03-31");
    assert_eq!(run.value("expires"), "2027-03-31 the first day on which it no longer works");
    assert_eq!(tree.line("etc/shadow", 7), "maren:!:20781:0::7::20908:");
    tree.done("create user perrin --expires +90d");
    assert_eq!(tree.line("etc/shadow", 8), "perrin:!:20781:0::7::20871:");
    tree.done("create user brannoc --expires never");
    assert_eq!(tree.line("etc/shadow", 9), "brannoc:!:20781:0::7:::");
}

#[test]
fn keys_are_put_where_the_ssh_server_looks() {
    if lives_in_the_tree("keys_are_put_where_the_ssh_server_looks") {
        return;
    }
    let tree = TestTree::new();
    tree.write("keys", format!("# the office\n{KEY}"));
    let keys = tree.path("keys").display().to_string();
    let run = tree.done(&format!("create user maren --ssh-key {keys}"));
    assert_eq!(run.value("ssh"), format!("1 key from {keys}, in /home/maren/.ssh/authorized_keys"));
    run.says("by password: no, no password is set. By key: yes, 1 key");
    assert_eq!(tree.read("home/maren/.ssh/authorized_keys"), format!("# the office\n{KEY}"));
    assert_eq!(tree.mode("home/maren/.ssh"), 0o700);
    assert_eq!(tree.mode("home/maren/.ssh/authorized_keys"), 0o600);
    if is_root() {
        assert_eq!(tree.owner("home/maren/.ssh/authorized_keys"), (1002, 1002));
    }
    let shown = tree.json("show user maren");
    assert_eq!(shown["sign_in"]["keys"], true);

    std::fs::create_dir(tree.path("home/perrin")).unwrap();
    tree.done(&format!("create user perrin --adopt-home --ssh-key {keys}"));
    assert_eq!(tree.mode("home/perrin/.ssh"), 0o700);
    assert_eq!(tree.mode("home/perrin/.ssh/authorized_keys"), 0o600);
}

#[test]
fn the_policy_decides_what_is_not_said() {
    let tree = TestTree::new();
    tree.write(
        "etc/copper-nest/policy.toml",
        "[people]\nids = \"3000-3009\"\nhome = \"/srv/{name}\"\nhome_permissions = \"0751\"\n\
         shell = \"/bin/sh\"\nprivate_group = false\nprimary = \"users\"\ngroups = [\"slipway\"]\n\
         ranges = 1000\n[passwords]\nrenew_days = 365\nhold_days = 1\nremind_days = 14\n\
         late_days = 30\n[mail]\ncreate = true\n[ranges]\nspan = \"500000-600000\"\n",
    );
    std::fs::create_dir(tree.path("srv")).unwrap();
    let run = tree.done("create user maren");
    assert_eq!(run.value("primary"), "users 100 people.primary, etc/copper-nest/policy.toml:7");
    assert_eq!(run.value("shell"), "/bin/sh people.shell, etc/copper-nest/policy.toml:5");
    assert_eq!(tree.line("etc/passwd", 7), "maren:x:3000:100::/srv/maren:/bin/sh");
    assert_eq!(tree.line("etc/shadow", 7), "maren:!:20781:1:365:14:30::");
    assert_eq!(tree.line("etc/group", 9), "slipway:x:211:maren");
    assert_eq!(tree.line("etc/subuid", 3), "maren:500000:1000");
    assert_eq!(tree.mode("srv/maren"), 0o751);
    assert_eq!(tree.read("var/mail/maren"), "");
    assert_eq!(tree.mode("var/mail/maren"), 0o660);
    if is_root() {
        assert_eq!(tree.owner("var/mail/maren"), (3000, 8));
    }
    tree.write("var/mail/perrin", "an old letter\n");
    tree.done("create user perrin").says("/var/mail/perrin exists already and stays as it is");
    assert_eq!(tree.read("var/mail/perrin"), "an old letter\n");
}

#[test]
fn retired_numbers_and_names_are_remembered() {
    let tree = TestTree::new();
    tree.write(
        "var/lib/copper-nest/ids.json",
        r#"{"version": 1, "users": [{"id": 1002, "name": "hesper"}], "groups": [{"id": 1003, "name": "hesper"}],
            "ranges": [{"first": 2001141760, "count": 65536, "name": "hesper"}]}"#,
    );
    let run = tree.done("create user maren");
    assert_eq!(run.value("uid"), "1004 first never-used id in 1000-59999");
    assert_eq!(run.value("ranges"), "2001207296-2001272831");
    tree.refused("create user perrin --uid 1002", 3, "uid 1002 was hesper's, and is retired");
    tree.done("create user hesper")
        .says("an earlier account was called hesper (id 1002, now retired)");
    // Without a state folder nothing is known of retired numbers.
    tree.done("--state none create user perrin --uid 1002 -n");
    tree.write("var/lib/copper-nest/ids.json", "{");
    tree.refused("create user brannoc", 6, "ids.json is damaged");
}

#[test]
fn mentions_elsewhere_are_told() {
    let tree = TestTree::new();
    tree.write("etc/sudoers", "# maren\nroot ALL=(ALL) ALL\nmaren ALL=(ALL) ALL\n");
    tree.write("etc/ssh/sshd_config.d/crew.conf", "AllowUsers tavish maren\n");
    tree.write("etc/sudoers.d/other", "marena ALL=(ALL) ALL\n");
    tree.append("etc/group", "stewards:x:300:maren\n");
    let run = tree.done("create user maren");
    run.says("etc/sudoers:3, etc/ssh/sshd_config.d/crew.conf:1 already name maren");
    run.says("etc/group:13 already lists maren in stewards");
}

#[test]
fn lines_that_no_edit_names_keep_every_byte() {
    let tree = TestTree::new();
    let passwd =
        b"# the crew\n\nroot:x:0:0:root:/root:/bin/bash\r\n  odd  :x: 7:7:S\xf8lvi:/:/bin/sh\n\
        broken line\n+netgroup::::::\ntavish:x:1001:1001::/home/tavish:/bin/sh\n+::::::";
    tree.write("etc/passwd", passwd);
    tree.write("etc/group", "pilots:x:210: tavish,,x,\nusers:x:100:");
    let run = tree.done("create user maren --join pilots --no-home");
    run.says("the list of members of pilots held empty entries or spaces");
    let added =
        [&passwd[..passwd.len() - 7], b"maren:x:1000:1000::/nonexistent:/bin/bash\n+::::::"]
            .concat();
    assert_eq!(tree.bytes("etc/passwd"), added);
    assert_eq!(
        tree.read("etc/group"),
        "pilots:x:210:tavish,x,maren\nusers:x:100:\nmaren:x:1000:\n"
    );
}

#[test]
fn a_dry_run_tells_everything_and_does_nothing() {
    let tree = TestTree::new();
    let before = tree.snapshot();
    let run = tree.done("create user maren --join pilots --dry-run");
    run.says("adds   maren:x:1002:1002::/home/maren:/bin/bash")
        .says("dry run: nothing was changed.");
    crate::harness::assert_same(&before, &tree.snapshot());
    assert!(!tree.exists("etc/.pwd.lock"));
}

#[test]
fn machines_get_the_same_as_json() {
    let tree = TestTree::new();
    let dry = tree.json("create user maren --join pilots -n");
    assert_eq!(dry["dry_run"], true);
    let run = tree.json("create user maren --join pilots");
    assert_eq!(run["dry_run"], false);
    assert_eq!(run["summary"], "create user maren");
    assert_eq!((&run["change"], &dry["change"]), (&1.into(), &serde_json::Value::Null));
    assert_eq!(run["edits"], dry["edits"]);
    let pilots = &run["edits"][2];
    assert_eq!(pilots["file"], "etc/group");
    assert_eq!(pilots["line"], 8);
    assert_eq!(pilots["before"], "pilots:x:210:tavish");
    assert_eq!(pilots["after"], "pilots:x:210:tavish,maren");
    assert_eq!(run["steps"][0], "makes /home/maren from /etc/skel, mode 0700, owner 1002:1002");
    assert!(run["next"][0].as_str().unwrap().ends_with("password user maren"));
    let refusal = tree.json("create user maren");
    assert_eq!(refusal["error"]["kind"], "user-exists");
    assert!(refusal["error"]["message"].as_str().unwrap().contains("etc/passwd:7 already has"));
    assert!(refusal["error"]["remedy"].as_str().unwrap().ends_with("show user maren"));
}

#[test]
fn the_same_call_on_the_same_tree_gives_the_same_bytes() {
    let trees = [TestTree::new(), TestTree::new()];
    for tree in &trees {
        tree.done("create user maren perrin --join pilots");
    }
    for path in ["etc/passwd", "etc/shadow", "etc/group", "etc/gshadow", "etc/subuid", "etc/subgid"]
    {
        assert_eq!(trees[0].bytes(path), trees[1].bytes(path), "{path}");
    }
}

#[test]
fn quiet_means_quiet() {
    let tree = TestTree::new();
    let run = tree.done("create user maren --quiet");
    assert_eq!((run.stdout.as_str(), run.stderr.as_str()), ("", ""));
}

#[test]
fn like_a_colleague_is_in_its_groups_but_administers_nothing() {
    let tree = TestTree::new();
    tree.write(
        "etc/group",
        tree.read("etc/group").replace("slipway:x:211:", "slipway:x:211:sunniva"),
    );
    tree.write(
        "etc/passwd",
        tree.read("etc/passwd").replace("/home/tavish:/bin/bash", "/home/tavish:/bin/sh"),
    );
    let said = tree.done("create user maren --like sunniva");
    said.says("its groups slipway").says("not sudo, which administers: that takes --admin");
    said.says("not its expiry");
    let group = tree.read("etc/group");
    assert!(group.contains("slipway:x:211:sunniva,maren\n"), "{group}");
    assert!(group.contains("sudo:x:27:sunniva\n"), "{group}");
    // What is said goes before; aging comes along, expiry does not.
    tree.done("create user corwin --like tavish").says("must be renewed after 365 days");
    assert!(tree.read("etc/shadow").contains("corwin:!:20781:0:365:7:30::\n"));
    assert!(tree.read("etc/passwd").contains(":/home/corwin:/bin/sh\n"));
    tree.done("create user isolde --like tavish --shell /bin/bash --join slipway");
    assert!(tree.read("etc/passwd").contains(":/home/isolde:/bin/bash\n"));
    assert!(tree.read("etc/group").contains("pilots:x:210:tavish,corwin,isolde\n"));
    let before = tree.snapshot();
    tree.refused("create user runa --like nosuch", 3, "there is no user nosuch");
    tree.refused(
        "create user runa --like root",
        3,
        "root is root, and the new account would not be",
    );
    tree.refused("create user runa --like tidegauge", 3, "tidegauge is a service");
    crate::harness::assert_same(&before, &tree.snapshot());
}

#[test]
fn many_get_first_passwords_in_a_file_of_roots() {
    if !crate::harness::is_root() {
        return crate::harness::passed_over("first passwords", "root, whose file it is");
    }
    let tree = TestTree::new();
    let names = tree.root().with_file_name("names");
    let secrets = tree.root().with_file_name("first.csv");
    std::fs::write(&names, "maren\ncorwin\n").unwrap();
    let words = format!("--names-from {} --passwords-to {}", names.display(), secrets.display());
    let dry = tree.done(&format!("create user {words} -n"));
    assert!(!secrets.exists(), "{}", dry.stdout);
    tree.done(&format!("create user {words}")).says("2 first passwords, readable for root alone");
    let mode = std::os::unix::fs::PermissionsExt::mode(
        &std::fs::metadata(&secrets).unwrap().permissions(),
    );
    assert_eq!(mode & 0o777, 0o600);
    let text = std::fs::read_to_string(&secrets).unwrap();
    assert_eq!(text.lines().count(), 3, "{text}");
    for name in ["maren", "corwin"] {
        let shadow = tree.read("etc/shadow");
        let line = shadow.lines().find(|line| line.starts_with(name)).unwrap();
        let fields: Vec<&str> = line.split(':').collect();
        assert!(fields[1].starts_with("$y$") && fields[2] == "0", "{line}");
    }
    // What is there is not written over, and nothing is changed then.
    let before = tree.snapshot();
    tree.refused(&format!("password user {words}"), 3, "exists already");
    crate::harness::assert_same(&before, &tree.snapshot());
    std::fs::remove_file(&secrets).unwrap();
    // A service that only the file names gets none.
    std::fs::write(&names, "maren\ntidegauge\n").unwrap();
    let said = tree.done(&format!("password user {words}"));
    assert!(
        said.stderr.contains("services that only the file names: tidegauge"),
        "{}",
        said.stderr
    );
    said.says("1 first password");
    assert!(tree.read("etc/shadow").contains("tidegauge:!:"));
    let left = std::fs::read_to_string(&secrets).unwrap();
    assert!(left.contains("maren,") && !left.contains("tidegauge"), "{left}");
    std::fs::remove_file(&secrets).unwrap();
    tree.refused(
        &format!("password user nosuch --passwords-to {}", secrets.display()),
        3,
        "no user",
    );
    assert!(!secrets.exists());
}

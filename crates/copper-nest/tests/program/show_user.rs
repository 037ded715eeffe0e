//! `show user`: every field, every line, and whether the account can sign in.

use crate::harness::{KEY, NOW, Run, TestTree, is_root, passed_over};

#[test]
fn a_user_is_shown_with_everything_the_files_say() {
    let tree = TestTree::new();
    let run = tree.done("show user tavish");
    let owner = if is_root() { "tavish" } else { "" };
    if is_root() {
        assert_eq!(run.value("home"), format!("/home/tavish 0700, owned by {owner}, 0 files"));
    }
    let wanted = "\
tavish   Tavish Rowe, a person

  uid         1001
  kind        person: people.ids 1000-59999
  primary     tavish 1001
  member of   pilots 210
";
    assert!(run.stdout.starts_with(wanted), "{}", run.stdout);
    let wanted = "\
  shell       /bin/bash
  ranges      2001076224-2001141759, uids and gids
  password    sha512, locked, set 2026-05-29, must be renewed by 2027-05-29
  account     expires on 2027-03-23, the first day on which it no longer works
  sign-in     by password: no, the password is locked. By key: no, /home/tavish/.ssh holds none
  hours       any
  places      anywhere
  last seen   not known: no log of sign-ins is kept here
  powers      none: nothing lets it become root

  etc/passwd:6     tavish:x:1001:1001:Tavish Rowe:/home/tavish:/bin/bash
  etc/shadow:6     tavish:!(hash):20602:0:365:7:30:20900:
  etc/group:8      pilots:x:210:tavish
  etc/group:11     tavish:x:1001:
  etc/gshadow:8    pilots:!:tavish:tavish
  etc/gshadow:11   tavish:!::
  etc/subuid:2     tavish:2001076224:65536
  etc/subgid:2     tavish:2001076224:65536
";
    assert!(run.stdout.ends_with(wanted), "{}", run.stdout);
    assert_eq!(tree.done("show user 1001").stdout, run.stdout);
}

#[test]
fn no_output_ever_holds_a_hash() {
    let tree = TestTree::new();
    tree.append("etc/shadow", "broken:$6$Broken$hashhashhash\n");
    tree.append(
        "etc/passwd",
        "old:$1$old$hashhashhash:1005:1001::/:/bin/sh\nbroken:x:1006:1001::/:/bin/sh\n",
    );
    tree.append("etc/gshadow", "divers:$6$Divers$hashhashhash::tavish\n");
    for words in [
        "show user tavish",
        "show user tavish --fields",
        "show user sunniva",
        "show user old",
        "show user old --fields",
        "show user broken",
        "list users --kind all",
        "check",
        "-v -v check",
        "create user maren --join pilots -n",
    ] {
        for format in ["text", "json"] {
            let run = tree.run(&format!("--format {format} --color always {words}"));
            for secret in ["Gk8rTq", "Gullhaven2", "Broken$", "$1$old", "Divers$", "hashhash"] {
                assert!(!run.stdout.contains(secret), "{words}: {}", run.stdout);
                assert!(!run.stderr.contains(secret), "{words}: {}", run.stderr);
            }
        }
    }
}

#[test]
fn the_record_is_explained_field_by_field() {
    let tree = TestTree::new();
    let run = tree.done("show user tavish --fields");
    for words in [
        "3  uid       1001                      the number that files and processes carry; 1001 is a person",
        "4  gid       1001                      the gid of the primary group, tavish",
        "2  password  (hash)                    ! before a hash made with sha512: locked",
        "3  changed   20602                     the password was last changed on 2026-05-29",
        "5  renew     365                       365 days after which it must be changed",
        "7  late      30                        30 days of grace after that",
        "8  expires   20900                     the account no longer works from 2027-03-23",
        "9  reserved  (empty)                   not used",
    ] {
        run.says(words);
    }
    tree.done("show user root --fields").says("empty: the account does not expire");
}

#[test]
fn machines_get_stable_keys() {
    let tree = TestTree::new();
    let user = tree.json("show user tavish");
    let keys: Vec<&String> = user.as_object().unwrap().keys().collect();
    let wanted = [
        "name",
        "uid",
        "kind",
        "kind_by",
        "full_name",
        "primary_group",
        "groups",
        "admin",
        "home",
        "shell",
        "password",
        "expires",
        "suspended",
        "suspension",
        "ranges",
        "sign_in",
        "hours",
        "places",
        "last_seen",
        "last_seen_known",
        "signed_in",
        "keys",
        "powers",
    ];
    assert_eq!(keys, wanted);
    assert_eq!(user["primary_group"], serde_json::json!({"name": "tavish", "gid": 1001}));
    assert_eq!(user["groups"], serde_json::json!([{"name": "pilots", "gid": 210}]));
    assert_eq!(user["home"], serde_json::json!({"path": "/home/tavish", "exists": true}));
    assert_eq!(
        user["password"],
        serde_json::json!({
            "state": "locked", "scheme": "sha512", "changed": "2026-05-29", "renew_days": 365,
            "hold_days": 0, "remind_days": 7, "late_days": 30,
        })
    );
    assert_eq!(user["expires"], "2027-03-23");
    assert_eq!(
        user["ranges"]["gid"],
        serde_json::json!([{"start": 2001076224u32, "count": 65536}])
    );
    assert_eq!(user["sign_in"]["password"], false);
    assert_eq!(user["sign_in"]["reasons"][0], "the password is locked");
    let sunniva = tree.json("show user sunniva");
    assert_eq!((&sunniva["admin"], &sunniva["kind"]), (&true.into(), &"person".into()));
    assert_eq!(sunniva["sign_in"]["password"], true);
    assert_eq!(tree.json("show user tidegauge")["kind"], "service");
    assert_eq!(tree.json("show user root")["admin"], true);
}

/// Puts `shadow` in the place of sunniva's line and shows her sign-in line.
fn sign_in(tree: &TestTree, shadow: &str) -> String {
    let hash = "$6$Gullhaven2$0123456789abcdef";
    let rest: Vec<String> = tree
        .read("etc/shadow")
        .lines()
        .filter(|line| !line.starts_with("sunniva:"))
        .map(str::to_owned)
        .collect();
    let line = format!("sunniva:{}", shadow.replace("HASH", hash));
    tree.write("etc/shadow", format!("{}\n{line}\n", rest.join("\n")));
    tree.done("show user sunniva").value("sign-in")
}

#[test]
fn the_sign_in_line_gives_each_reason() {
    let tree = TestTree::new();
    let no_key = "By key: no, /home/sunniva/.ssh holds none";
    let must_change = format!(
        "by password: yes, and it must be changed then. {no_key}. Until it is changed cron starts \
         none of its jobs"
    );
    for (shadow, says) in [
        ("HASH:20600:0::7:::", format!("by password: yes. {no_key}")),
        ("!:20600:0::7:::", format!("by password: no, no password is set. {no_key}")),
        ("!HASH:20600:0::7:::", format!("by password: no, the password is locked. {no_key}")),
        (
            "*:20600:0::7:::",
            format!("by password: no, the password field (*) matches no password. {no_key}"),
        ),
        (":20600:0::7:::", format!("by password: yes, and none is asked for. {no_key}")),
        ("HASH:0:0::7:::", must_change.clone()),
        ("HASH:20600:0:90:7:::", must_change),
        (
            "HASH:20600:0:90:7:30::",
            "no: the password is too old: it had to be changed by 2026-09-24".into(),
        ),
        ("HASH:20600:0::7::20781:", "no: the account expired on 2026-11-24".into()),
        ("HASH:20600:0::7::20782:", format!("by password: yes. {no_key}")),
    ] {
        assert_eq!(sign_in(&tree, shadow), says, "{shadow}");
    }
    tree.write("etc/nologin", "low water\n");
    assert_eq!(sign_in(&tree, "HASH:1:0::7:::"), "no: etc/nologin keeps everybody but root out");
    tree.done("show user root").says("by password: no, the password field (*)");
    tree.remove("etc/nologin");
    tree.remove("bin/bash");
    assert_eq!(sign_in(&tree, "HASH:1:0::7:::"), "no: the shell /bin/bash does not exist");
    let run = tree.done("show user tidegauge");
    assert_eq!(
        run.value("sign-in"),
        "nobody gets in: the shell /usr/sbin/nologin lets nobody in, no password is set"
    );
}

#[test]
fn keys_count_where_the_ssh_server_would_trust_them() {
    let tree = TestTree::new();
    tree.write("home/sunniva/.ssh/authorized_keys", format!("{KEY}# old\n{KEY}nonsense\n"));
    tree.chmod("home/sunniva/.ssh", 0o700);
    tree.chmod("home/sunniva/.ssh/authorized_keys", 0o600);
    if is_root() {
        // As whom the server reads them.
        let line = tree.done("show user sunniva").value("sign-in");
        assert!(line.contains("/home/sunniva/.ssh is closed to uid 1000"), "{line}");
        tree.chown("home/sunniva/.ssh", 1000, 1000);
        tree.chown("home/sunniva/.ssh/authorized_keys", 1000, 1000);
    }
    let line = tree.done("show user sunniva").value("sign-in");
    assert_eq!(line, "by password: yes. By key: yes, 2 keys");
    tree.write("home/sunniva/.ssh/authorized_keys2", format!("command=\"echo a b\" {KEY}"));
    if is_root() {
        tree.chown("home/sunniva/.ssh/authorized_keys2", 1000, 1000);
    }
    let line = tree.done("show user sunniva").value("sign-in");
    assert_eq!(line, "by password: yes. By key: yes, 3 keys, 1 of them for one command only");
    tree.remove("home/sunniva/.ssh/authorized_keys2");
    let old = format!("expiry-time=\"20261101\" {KEY}");
    let text = tree.read("home/sunniva/.ssh/authorized_keys");
    tree.write("home/sunniva/.ssh/authorized_keys", old);
    let line = tree.done("show user sunniva").value("sign-in");
    assert!(
        line.ends_with("By key: no, each key in /home/sunniva/.ssh/authorized_keys has expired")
    );
    tree.write("home/sunniva/.ssh/authorized_keys", text);
    tree.write("run/nologin", "");
    let line = tree.done("show user sunniva").value("sign-in");
    assert_eq!(line, "no: run/nologin keeps everybody but root out");
    tree.remove("run/nologin");
    tree.done("change user sunniva --must-change");
    let line = tree.done("show user sunniva").value("sign-in");
    let asks = "2 keys, and a new password is asked for; not without a terminal";
    assert!(line.contains(asks), "{line}");
    tree.chmod("home/sunniva", 0o770);
    let line = tree.done("show user sunniva").value("sign-in");
    let loose = "By key: no, /home/sunniva can be written by others, and the SSH server then ignores the keys.";
    assert!(line.contains(loose), "{line}");
    if is_root() {
        // Debian's server lets a group write in which nobody else is.
        tree.chown("home/sunniva", 1000, 1000);
        tree.write("etc/debian_version", "12.11\n");
        let line = tree.done("show user sunniva").value("sign-in");
        assert!(line.contains("By key: yes, 2 keys"), "{line}");
        tree.chmod("home/sunniva", 0o700);
        tree.chown("home/sunniva/.ssh/authorized_keys", 1001, 1001);
        let line = tree.done("show user sunniva").value("sign-in");
        assert!(line.contains("belongs to uid 1001"), "{line}");
    }
}

#[test]
fn what_is_wrong_with_an_account_is_said_in_place() {
    let tree = TestTree::new();
    tree.append(
        "etc/passwd",
        "perrin:x:1005:4711:Perrin Ash,Pier 2,,:/home/perrin:\n1006:x:1006:100::/:/bin/sh\n",
    );
    let run = tree.done("show user perrin");
    assert_eq!(run.value("primary"), "4711, which no group has");
    assert_eq!(run.value("home"), "/home/perrin does not exist");
    assert_eq!(run.value("shell"), "empty, which means /bin/sh");
    assert_eq!(run.value("member of"), "no other group");
    assert_eq!(run.value("ranges"), "none");
    assert_eq!(
        run.value("sign-in"),
        "by password: no, etc/shadow has no line for it that can be read. By key: no, the home /home/perrin is missing"
    );
    assert_eq!(tree.json("show user perrin")["full_name"], "Perrin Ash");
    tree.append("etc/subuid", "1005:3000000000:10\n");
    assert_eq!(tree.done("show user perrin").value("ranges"), "uids 3000000000-3000000009");
}

#[test]
fn a_name_that_is_not_there_is_answered_with_the_nearest() {
    let tree = TestTree::new();
    let run = tree.refused("show user tavis", 3, "there is no user tavis; the nearest is tavish");
    assert!(run.stderr.contains("show user tavish"));
    tree.refused("show user corwin", 3, "there is no user corwin");
    tree.refused("show user 4711", 3, "no account here has uid 4711");
    tree.append("etc/passwd", "perrin:x:1005\n");
    tree.refused("show user perrin", 5, "etc/passwd:7 is perrin's, but it is malformed");
    assert_eq!(tree.json("show user tavis")["error"]["kind"], "no-user");
}

#[test]
fn nothing_in_the_files_steers_the_terminal() {
    let tree = TestTree::new();
    tree.append("etc/passwd", b"perrin:x:1005:100:\x1b[2JPerrin \xf8:/home/perrin:/bin/sh\n");
    for words in ["show user perrin", "show user perrin --fields", "list users"] {
        let run = tree.done(words);
        assert!(!run.stdout.contains('\x1b'), "{words}");
        run.says("\\x1b[2JPerrin \\xf8");
    }
}

#[test]
fn a_large_file_is_read_only_as_far_as_needed_and_says_the_same() {
    let small = TestTree::new();
    let large = TestTree::new();
    // A comment of some megabytes before each file makes it large.
    for file in ["passwd", "shadow", "group", "gshadow", "subuid", "subgid"] {
        let path = format!("etc/{file}");
        let text = large.read(&path);
        large.write(&path, format!("{text}{}", "# nothing of note here\n".repeat(90_000)));
    }
    for name in ["tavish", "sunniva", "1001", "root"] {
        let words = format!("show user {name}");
        assert_eq!(small.done(&words).stdout, large.done(&words).stdout, "{name}");
        assert_eq!(small.json(&words), large.json(&words));
    }
    large.refused("show user tavis", 3, "the nearest is tavish");
    large.done("create user maren --join pilots");
    assert!(large.read("etc/passwd").ends_with("here\nmaren:x:1002:1002::/home/maren:/bin/bash\n"));
    assert!(large.read("etc/shadow").ends_with("here\nmaren:!:20781:0::7:::\n"));
    assert_eq!(large.line("etc/gshadow", 8), "pilots:!:tavish:tavish,maren");
    assert_eq!(large.line("etc/shadow", 5), small.line("etc/shadow", 5));
}

#[test]
fn what_shadow_says_is_not_known_to_whom_it_is_closed() {
    let test = "what_shadow_says_is_not_known";
    if !is_root() {
        return passed_over(test, "root, to become somebody else");
    }
    let tree = TestTree::new();
    tree.chmod("..", 0o755);
    tree.chmod("home/sunniva", 0o755);
    // The program's own folder may be root's alone.
    let program = tree.path("../nest");
    std::fs::copy(env!("CARGO_BIN_EXE_copper-nest"), &program).unwrap();
    let run = |words: &str| {
        let mut command = std::process::Command::new("setpriv");
        command.args(["--reuid", "4711", "--regid", "4711", "--clear-groups"]).arg(&program);
        command.arg("--tree").arg(tree.root()).args(words.split(' '));
        Run::of(command.env("SOURCE_DATE_EPOCH", NOW))
    };
    let shown = run("show user sunniva");
    let line = shown.value("sign-in");
    assert_eq!(
        line,
        "by password: not known, etc/shadow can't be read. By key: no, /home/sunniva/.ssh holds none"
    );
    let sign_in = &run("show user sunniva --format json").json()["sign_in"];
    assert!(sign_in["password"].is_null() && sign_in["must_change"].is_null(), "{sign_in}");
    assert!(run("list users").stdout.lines().all(|line| line.contains("\tnot known\t")));
    for words in ["list users --sign-in yes", "list users --expiring 30", "export users"] {
        let refused = run(words);
        assert_eq!(refused.status, 3, "{words}: {}", refused.stdout);
        assert!(
            refused.stderr.contains("etc/shadow can't be read (Permission denied)"),
            "{}",
            refused.stderr
        );
    }
}

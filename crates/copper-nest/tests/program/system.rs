//! The operating system's own readers must see what the program shows: the C
//! library's lookups, and Python's modules over them, in a mount namespace in
//! which the tree's files are bound over `/etc`.

use std::process::Command;

use serde_json::Value;

use crate::harness::{KEY, Run, TestTree, has_program, is_root, passed_over};

const READ: &str = r#"
import grp, json, pwd, subprocess, sys
try:
    import warnings
    warnings.simplefilter("ignore")
    import spwd
except ImportError:
    spwd = None

def line(*words):
    return subprocess.run(words, capture_output=True).stdout.decode("utf-8", "surrogateescape").strip()

def account(user):
    entry = {
        "name": user.pw_name, "uid": user.pw_uid, "gid": user.pw_gid, "gecos": user.pw_gecos,
        "home": user.pw_dir, "shell": user.pw_shell,
        "groups": sorted([g.gr_name, g.gr_gid] for g in grp.getgrall() if user.pw_name in g.gr_mem),
        "primary": grp.getgrgid(user.pw_gid).gr_name,
        "getent": line("getent", "passwd", user.pw_name),
        "shadow": line("getent", "shadow", user.pw_name),
        "ids": sorted(map(int, line("id", "-G", user.pw_name).split())),
    }
    if spwd:
        shadow = {s.sp_namp: s for s in reversed(spwd.getspall())}
        s = shadow.get(user.pw_name)
        entry["spwd"] = s and [s.sp_lstchg, s.sp_min, s.sp_max, s.sp_warn, s.sp_inact, s.sp_expire]
    return entry

print(json.dumps([account(user) for user in pwd.getpwall()]))
"#;

/// What a program in Python reads where the files of a tree are bound over those of the
/// system; nothing where that can't be done, which is said.
pub fn read_in_place(test: &str, tree: &TestTree, program: &str) -> Option<Run> {
    let programs = ["unshare", "mount", "python3", "getent", "id"];
    if !is_root() || !programs.iter().all(|program| has_program(program)) {
        passed_over(test, &format!("root and {}", programs.join(", ")));
        return None;
    }
    let probe = Command::new("unshare").args(["-m", "true"]).status();
    if !probe.is_ok_and(|status| status.success()) {
        passed_over(test, "the right to make a mount namespace");
        return None;
    }
    tree.write("read.py", program);
    tree.write("etc/nsswitch.conf", "passwd: files\ngroup: files\nshadow: files\n");
    let at = tree.root().display();
    let script = format!(
        "for file in passwd shadow group gshadow nsswitch.conf; do mount --bind {at}/etc/$file /etc/$file; done
         exec python3 {at}/read.py"
    );
    let run = Run::of(Command::new("unshare").args(["-m", "sh", "-euc", &script]));
    assert_eq!(run.status, 0, "{}", run.stderr);
    Some(run)
}

fn system_sees(tree: &TestTree) -> Option<Value> {
    Some(read_in_place("the system's own readers", tree, READ)?.json())
}

/// What the system sees must be what `show user` says, for every account.
fn assert_agrees(tree: &TestTree, system: &Value) {
    for seen in system.as_array().unwrap() {
        let name = seen["name"].as_str().unwrap();
        let ours = tree.json(&format!("show user {name}"));
        assert_eq!(ours["uid"], seen["uid"], "{name}");
        assert_eq!(ours["primary_group"]["gid"], seen["gid"], "{name}");
        assert_eq!(ours["primary_group"]["name"], seen["primary"], "{name}");
        assert_eq!(ours["home"]["path"], seen["home"], "{name}");
        let shell = match seen["shell"].as_str().unwrap() {
            "" => "/bin/sh",
            shell => shell,
        };
        assert_eq!(ours["shell"], shell, "{name}");
        let gecos = seen["gecos"].as_str().unwrap();
        assert_eq!(ours["full_name"], gecos.split(',').next().unwrap(), "{name}");
        let mut groups: Vec<Value> = ours["groups"]
            .as_array()
            .unwrap()
            .iter()
            .map(|group| serde_json::json!([group["name"], group["gid"]]))
            .collect();
        groups.sort_by_key(Value::to_string);
        let mut theirs = seen["groups"].as_array().unwrap().clone();
        theirs.sort_by_key(Value::to_string);
        assert_eq!(groups, theirs, "{name}");
        let mut gids: Vec<u64> = ours["groups"]
            .as_array()
            .unwrap()
            .iter()
            .map(|group| group["gid"].as_u64().unwrap())
            .collect();
        gids.push(seen["gid"].as_u64().unwrap());
        gids.sort_unstable();
        gids.dedup();
        assert_eq!(serde_json::json!(gids), seen["ids"], "{name}");
        let shown = tree.done(&format!("show user {name}"));
        shown.says(seen["getent"].as_str().unwrap());
        let shadow = seen["shadow"].as_str().unwrap();
        let hidden = shown.stdout.lines().find(|line| line.trim_start().starts_with("etc/shadow:"));
        assert_eq!(hidden.is_some(), !shadow.is_empty(), "{name}");
        assert_shadow_agrees(&ours, seen);
    }
}

/// The aging fields; a line that the C library passes over counts for nothing.
fn assert_shadow_agrees(ours: &Value, seen: &Value) {
    let name = &seen["name"];
    if seen.get("spwd").is_none() {
        return passed_over("the aging fields", "a Python that reads shadow");
    }
    let numbers = seen["spwd"].as_array();
    let number = |at: usize| numbers.and_then(|all| all[at].as_i64()).filter(|number| *number >= 0);
    let password = &ours["password"];
    let day = |day: Option<i64>| day.map(|day| nest_core::value::Day(day).to_string());
    assert_eq!(password["changed"].as_str().map(str::to_owned), day(number(0)), "{name}");
    assert_eq!(password["hold_days"].as_i64(), number(1), "{name}");
    assert_eq!(password["renew_days"].as_i64(), number(2).filter(|days| *days < 99999), "{name}");
    assert_eq!(password["remind_days"].as_i64(), number(3), "{name}");
    assert_eq!(password["late_days"].as_i64(), number(4), "{name}");
    assert_eq!(ours["expires"].as_str().map(str::to_owned), day(number(5)), "{name}");
}

#[test]
fn the_system_sees_what_the_program_shows() {
    let tree = TestTree::new();
    tree.write("keys", KEY);
    let keys = tree.path("keys").display().to_string();
    tree.done("create user maren --join pilots,slipway --expires +90d");
    tree.done(&format!("create user perrin brannoc --primary users --admin --ssh-key {keys}"));
    tree.done("create user berthcam --service");
    let run = tree.run_words(&[
        "create",
        "user",
        "odalys",
        "--full-name",
        "Odalys Brink",
        "--shell",
        "/bin/sh",
    ]);
    assert_eq!(run.status, 0, "{}", run.stderr);
    let Some(system) = system_sees(&tree) else { return };
    assert_eq!(system.as_array().unwrap().len(), 11);
    assert_agrees(&tree, &system);
}

/// Odd spellings that the C library reads in its own way.
#[test]
fn the_system_and_the_program_read_odd_lines_alike() {
    let tree = TestTree::new();
    tree.append(
        "etc/passwd",
        "# a comment\n\n  perrin:x:+1005: 100:Perrin,Pier 2,,:/home/perrin:\n\
         isolde:x:01006:100::/:/bin/sh\ncorwin:x:1007:100::/:/bin/sh\njorunn:x:1008:100::/:/bin/sh\n",
    );
    tree.append(
        "etc/shadow",
        "perrin:!:20000:-1:99999:7:::\nisolde:*:0::::::\ncorwin:!:+20000: 1:0090:4294967295::20900:\n\
         jorunn:!:soon::::::\n",
    );
    tree.append("etc/group", "divers:x:300: isolde,,perrin\n");
    let Some(system) = system_sees(&tree) else { return };
    assert_eq!(system.as_array().unwrap().len(), 10);
    for seen in system.as_array().unwrap() {
        let name = seen["name"].as_str().unwrap();
        let ours = tree.json(&format!("show user {name}"));
        assert_eq!(
            (&ours["uid"], &ours["primary_group"]["gid"]),
            (&seen["uid"], &seen["gid"]),
            "{name}"
        );
        let groups = ours["groups"].as_array().unwrap().len();
        assert_eq!(groups, seen["groups"].as_array().unwrap().len(), "{name}");
        assert_shadow_agrees(&ours, seen);
    }
}

/// The master files that come with the system's base package, where they are.
#[test]
fn the_master_files_of_the_base_system_are_taken() {
    let masters = ["/usr/share/base-passwd/passwd.master", "/usr/share/base-passwd/group.master"];
    if !masters.iter().all(|path| std::path::Path::new(path).exists()) {
        return passed_over("the_master_files_of_the_base_system", masters[0]);
    }
    let tree = TestTree::new();
    tree.write("etc/passwd", std::fs::read(masters[0]).unwrap());
    tree.write("etc/group", std::fs::read(masters[1]).unwrap());
    for file in ["etc/shadow", "etc/gshadow", "etc/subuid", "etc/subgid"] {
        tree.remove(file);
    }
    let run = tree.run("check --files-only --skip missing-file");
    assert_eq!((run.status, run.stdout.as_str()), (0, ""), "{}", run.stderr);
    tree.done("create user maren --admin").says("this tree has no etc/shadow");
    assert!(tree.read("etc/passwd").ends_with("maren:!:1000:1000::/home/maren:/bin/bash\n"));
    assert_eq!(tree.done("list users --admin").stdout.lines().count(), 2);
    tree.done("show user nobody");
}

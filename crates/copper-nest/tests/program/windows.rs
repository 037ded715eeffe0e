//! Hours and places: PAM's own modules as the judges, in a mount namespace with the tree's files
//! bound over `/etc`, and the clock that libfaketime sets.

use std::fmt::Write as _;
use std::path::{Path, PathBuf};

use serde_json::Value;

use crate::commit::in_namespace;
use crate::harness::{TestTree, assert_same, has_program, lives_in_the_tree, passed_over};

/// A yescrypt hash of some password.
const HASH: &str = "$y$j9T$TQrrklxsv3nFULfgn4vfq1$uF6Yp8T5sCFlkFK8AI5yNLvAOEZl4Pn70F8hFaZBvz2";
const MINUTES: u32 = 7 * 24 * 60;
/// A Monday, 00:00 in UTC.
const MONDAY: u64 = 1_796_601_600;
const DAYS: [&str; 7] = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];

/// Numbers that look like chance, the same each time.
struct Dice(u64);

impl Dice {
    fn below(&mut self, bound: u32) -> u32 {
        self.0 =
            self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        ((self.0 >> 33) % u64::from(bound)) as u32
    }
}

/// Hours, and a minute at which they begin or end.
fn some_hours(dice: &mut Dice) -> (String, u32) {
    let mut text = String::new();
    let mut edge = 0;
    for at in 0..1 + dice.below(3) {
        let (day, until) = (dice.below(7), dice.below(7));
        let start = dice.below(24 * 60);
        let mut end = if dice.below(4) == 0 { 24 * 60 } else { dice.below(24 * 60) };
        if end == start {
            end = start + 1;
        }
        let days = match dice.below(4) {
            0 => DAYS[day as usize].to_owned(),
            1 => format!("{}+{}", DAYS[day as usize], DAYS[until as usize]),
            2 => "daily".to_owned(),
            _ => format!("{}-{}", DAYS[day as usize], DAYS[until as usize]),
        };
        let comma = if at > 0 { ", " } else { "" };
        let clock = |minute: u32| format!("{:02}:{:02}", minute / 60, minute % 60);
        write!(text, "{comma}{days} {}-{}", clock(start), clock(end)).unwrap();
        let over = if end <= start { 24 * 60 } else { 0 };
        edge = day * 24 * 60 + if dice.below(2) == 0 { start } else { end + over };
    }
    (text, edge)
}

fn faketime() -> Option<PathBuf> {
    let folders = ["/usr/lib/x86_64-linux-gnu/faketime", "/usr/lib/aarch64-linux-gnu/faketime"];
    let more = ["/usr/lib/faketime", "/usr/lib64/faketime"];
    let paths =
        folders.iter().chain(&more).map(|folder| Path::new(folder).join("libfaketime.so.1"));
    paths.into_iter().find(|path| path.exists())
}

/// A tree whose services ask for hours and places, and for nothing else.
fn asking_tree(accounts: usize) -> TestTree {
    let tree = TestTree::new();
    std::fs::create_dir_all(tree.path("etc/security")).unwrap();
    std::fs::create_dir_all(tree.path("etc/pam.d")).unwrap();
    tree.write("etc/security/time.conf", "# hours\n");
    tree.write("etc/security/access.conf", "# places\n");
    let stack = "account required pam_time.so\naccount required pam_access.so\n\
                 account required pam_permit.so\n";
    tree.write("etc/pam.d/login", stack);
    tree.write("etc/pam.d/sshd", stack);
    tree.write("etc/nsswitch.conf", "passwd: files\ngroup: files\nshadow: files\nhosts: files\n");
    for at in 0..accounts {
        tree.append("etc/passwd", format!("crew{at}:x:{}:100::/:/bin/sh\n", 3000 + at));
        tree.append("etc/shadow", format!("crew{at}:{HASH}:20000:0::7:::\n"));
    }
    tree
}

/// What PAM says to questions, each a service, a user, more words, and the moment.
fn ask_pam(tree: &TestTree, questions: &[(&str, String, String, u64)]) -> Option<Vec<bool>> {
    if !has_program("pamtester") {
        passed_over("PAM", "pamtester");
        return None;
    }
    let Some(clock) = faketime() else {
        passed_over("PAM", "libfaketime");
        return None;
    };
    let at = tree.root().display();
    let mut script = format!(
        "for file in passwd shadow group gshadow nsswitch.conf security pam.d; do
             mount --bind {at}/etc/$file /etc/$file
         done
         [ ! -e {at}/etc/localtime ] || mount --bind {at}/etc/localtime /etc/localtime
         ask() {{
             moment=$1; shift
             if LD_PRELOAD={} FAKETIME_FMT=%s FAKETIME=$moment TZ= pamtester \"$@\" acct_mgmt >/dev/null 2>&1
             then echo yes; else echo no; fi
         }}
         unset TZ\n",
        clock.display()
    );
    script = script.replace(" TZ= pamtester", " pamtester");
    for (service, user, more, moment) in questions {
        writeln!(script, "ask {moment} {more} {service} {user}").unwrap();
    }
    let run = in_namespace("PAM", &script)?;
    assert_eq!(run.status, 0, "{}", run.stderr);
    let said: Vec<bool> = run.stdout.lines().map(|line| line == "yes").collect();
    assert_eq!(said.len(), questions.len(), "{}", run.stderr);
    Some(said)
}

/// What the program says of somebody at a moment.
fn sign_in(tree: &TestTree, user: &str, moment: u64) -> Value {
    let words = ["show", "user", user, "--format", "json"];
    let mut command = tree.command(&words);
    let run = crate::harness::Run::of(command.env("SOURCE_DATE_EPOCH", moment.to_string()));
    assert_eq!(run.status, 0, "{}", run.stderr);
    run.json()
}

#[test]
fn the_sign_in_line_agrees_with_pam_at_any_hour() {
    const CREW: usize = 220;
    let tree = asking_tree(CREW);
    let oslo = Path::new("/usr/share/zoneinfo/Europe/Oslo");
    // In winter an hour before UTC.
    let ahead = match oslo.exists() {
        true => {
            std::fs::copy(oslo, tree.path("etc/localtime")).unwrap();
            3600
        }
        false => 0,
    };
    let mut dice = Dice(7);
    let mut table = String::from("name,hours\n");
    let mut asked: Vec<(usize, u64)> = Vec::new();
    for at in 0..CREW {
        let (hours, edge) = some_hours(&mut dice);
        writeln!(table, "crew{at},\"{hours}\"").unwrap();
        let near = [edge, edge + MINUTES - 1, dice.below(MINUTES)];
        let minute = near[dice.below(3) as usize] % MINUTES;
        asked.push((at, MONDAY + u64::from(minute) * 60 + u64::from(dice.below(60)) - ahead));
    }
    tree.write("crew.csv", table);
    let path = tree.path("crew.csv");
    tree.done(&format!("-q intake {} --existing update", path.display()));
    // Lines of other hands that narrow what some may.
    let own = tree.read("etc/security/time.conf");
    tree.write(
        "etc/security/time.conf",
        format!(
            "*;*;crew1*|crew20*;Al0500-2300\nlogin;tty*;!crew3* & !root;!Su1200-1400\n\
             sshd;*;*;Mo0000-0001\n# all\n{own}login & !sshd;pts*;*;Mo0000-0001\n"
        ),
    );
    let questions: Vec<(&str, String, String, u64)> = asked
        .iter()
        .map(|(at, moment)| ("login", format!("crew{at}"), "-I tty=tty1".to_owned(), *moment))
        .collect();
    let Some(said) = ask_pam(&tree, &questions) else { return };
    assert!(said.contains(&true) && said.contains(&false), "it is not asked about both");
    for ((at, moment), lets_in) in asked.into_iter().zip(said) {
        let shown = sign_in(&tree, &format!("crew{at}"), moment);
        // Over SSH only in one minute of the week, which nobody is asked about.
        let by_us = shown["sign_in"]["now"].as_bool().unwrap();
        assert_eq!(by_us, lets_in, "crew{at} at {moment}: {}", shown["hours"]);
    }
}

#[test]
fn places_let_in_and_keep_out_as_pam_says() {
    let places = [
        ("10.20.0.0/16, console", vec!["10.20.0.7", "tty1"]),
        ("10.20.0.7", vec!["10.20.0.7"]),
        ("console", vec!["tty1"]),
        ("2001:db8::/32, 192.0.2.1", vec!["2001:db8::9", "192.0.2.1"]),
        ("anywhere", vec!["10.20.0.7", "10.21.0.7", "2001:db8::9", "192.0.2.1", "tty1"]),
        ("quay.example, console", vec!["quay.example", "tty1"]),
        ("128.0.0.0/1", vec!["192.0.2.1"]),
    ];
    let tree = asking_tree(places.len());
    for (at, (list, _)) in places.iter().enumerate() {
        let run = tree.run_words(&["-q", "change", "user", &format!("crew{at}"), "--places", list]);
        assert_eq!(run.status, 0, "{}", run.stderr);
    }
    let origins = ["10.20.0.7", "10.21.0.7", "2001:db8::9", "192.0.2.1", "quay.example", "tty1"];
    let mut questions = Vec::new();
    for at in 0..places.len() {
        for origin in origins {
            let user = format!("crew{at}");
            match origin {
                "tty1" => questions.push(("login", user, "-I tty=tty1".to_owned(), MONDAY)),
                from => {
                    questions.push(("sshd", user, format!("-I tty=ssh -I rhost={from}"), MONDAY))
                }
            }
        }
    }
    let Some(said) = ask_pam(&tree, &questions) else { return };
    for (at, ((list, lets_in), said)) in places.iter().zip(said.chunks(origins.len())).enumerate() {
        let shown = sign_in(&tree, &format!("crew{at}"), MONDAY);
        let mut over_ssh = false;
        for (origin, said) in origins.iter().zip(said) {
            let wanted = lets_in.contains(origin) || *list == "anywhere";
            assert_eq!(*said, wanted, "{list}, from {origin}");
            over_ssh |= *said && *origin != "tty1";
            if *origin == "tty1" {
                assert_eq!(shown["sign_in"]["password"], *said, "{list}");
            }
        }
        assert_eq!(shown["sign_in"]["password_over_ssh"], over_ssh, "{list}");
    }
}

const BOTH: [&str; 4] =
    ["--hours", "mon-fri 08:00-18:00, sat 09:00-12:00", "--places", "10.20.0.0/16, console"];

/// A tree with stacks of which login asks for hours, and modules to be asked.
fn harbour() -> TestTree {
    let tree = TestTree::new();
    for folder in ["etc/security", "etc/pam.d", "usr/lib/security"] {
        std::fs::create_dir_all(tree.path(folder)).unwrap();
    }
    tree.write("etc/security/time.conf", "# hours\r\n*;*;nobody\\\n;Al0000-2400\n");
    tree.write("etc/security/access.conf", "# places\n+:root:ALL");
    let common = "@include common-account\n";
    tree.write("etc/pam.d/common-account", "account required pam_unix.so\n");
    tree.write("etc/pam.d/login", format!("account required pam_time.so\n{common}"));
    tree.write("etc/pam.d/sshd", format!("auth required pam_unix.so\n# first\n{common}"));
    tree.write("etc/pam.d/cron", common);
    tree.write("usr/lib/security/pam_time.so", "");
    tree.write("usr/lib/security/pam_access.so", "");
    tree
}

/// Gives somebody a password.
fn with_password(tree: &TestTree, name: &str) {
    let shadow = tree.read("etc/shadow");
    let set = shadow.lines().map(|line| match line.split(':').next() {
        Some(known) if known == name => format!("{name}:{HASH}:20000:0::7:::\n"),
        _ => format!("{line}\n"),
    });
    tree.write("etc/shadow", set.collect::<String>());
}

fn change(tree: &TestTree, words: &[&str]) -> crate::harness::Run {
    let run = tree.run_words(words);
    assert_eq!(run.status, 0, "{words:?}: {}", run.stderr);
    run
}

#[test]
fn a_window_comes_goes_and_follows_its_account() {
    if lives_in_the_tree("undo of a window") {
        return;
    }
    let tree = harbour();
    let before = tree.snapshot_without(".set-aside");
    let mut words = vec!["change", "user", "tavish"];
    words.extend(BOTH);
    let said = change(&tree, &words);
    said.says("places kept   by no service yet").says("by the clock of the machine, UTC");
    said.says("hours kept").says("by login").says("not by sshd, cron");
    said.says("--enforce login,sshd adds it");
    let time = "# hours\r\n*;*;nobody\\\n;Al0000-2400\n# copper-nest: hours of tavish\n\
                *;*;tavish;MoTuWeThFr0800-1800|Sa0900-1200\n";
    assert_eq!(tree.read("etc/security/time.conf"), time);
    let own = "# copper-nest: places of tavish\n-:tavish:ALL EXCEPT 10.20.0.0/16 LOCAL\n";
    // The last line, which has no end, stays as it is.
    assert_eq!(tree.read("etc/security/access.conf"), format!("# places\n{own}+:root:ALL"));
    let shown = tree.json("show user tavish");
    assert_eq!(shown["hours"]["value"], "mon-fri 08:00-18:00, sat 09:00-12:00");
    assert_eq!(shown["hours"]["kept_by"], serde_json::json!(["login"]));
    assert_eq!(shown["places"]["kept_by"], serde_json::json!([]));
    // The same again changes nothing.
    change(&tree, &words).says("as it was");
    assert_eq!(tree.read("etc/security/time.conf"), time);
    // The new name, and the old one again.
    tree.done("rename user tavish odd-tavish").says("under the new name");
    assert!(tree.read("etc/security/time.conf").contains("hours of odd-tavish\n*;*;odd-tavish;Mo"));
    assert!(tree.read("etc/security/access.conf").contains("-:odd-tavish:ALL EXCEPT 10.20"));
    tree.done("undo 2 -y");
    assert_eq!(tree.read("etc/security/time.conf"), time);
    // Away with the account, and back with it.
    tree.done("delete user tavish -y").says("its own line goes too");
    assert!(!tree.read("etc/security/time.conf").contains("tavish"));
    assert!(!tree.read("etc/security/access.conf").contains("tavish"));
    tree.done("restore user tavish").says("its own line again");
    assert_eq!(tree.read("etc/security/time.conf"), time);
    // Undone, line by line.
    tree.done("undo 5 -y");
    tree.done("undo 4 -y");
    tree.done("undo 1 -y");
    assert_same(&before, &tree.snapshot_without(".set-aside"));
}

#[test]
fn services_are_made_to_ask_and_undo_takes_that_out_again() {
    if lives_in_the_tree("undo of a stack") {
        return;
    }
    let tree = harbour();
    change(&tree, &["change", "user", "tavish", BOTH[0], BOTH[1], BOTH[2], BOTH[3]]);
    let before = tree.snapshot();
    let said = tree.done("change user tavish --enforce login,sshd");
    said.says("hours kept").says("by login, sshd").says("not by cron");
    assert_eq!(
        tree.read("etc/pam.d/sshd"),
        "auth required pam_unix.so\n# first\naccount    required     pam_time.so\n\
         account    required     pam_access.so\n@include common-account\n"
    );
    // Without UsePAM the SSH server asks no stack, whatever that says.
    std::fs::create_dir_all(tree.path("etc/ssh")).unwrap();
    tree.write("etc/ssh/sshd_config", "UsePAM no\n");
    let shown = tree.json("show user tavish");
    assert_eq!(shown["hours"]["kept_by"], serde_json::json!(["login"]));
    std::fs::remove_dir_all(tree.path("etc/ssh")).unwrap();
    // Where it asks by now it is left alone.
    assert_eq!(tree.read("etc/pam.d/login").matches("pam_time").count(), 1);
    tree.done("undo 2 -y");
    assert_same(&before, &tree.snapshot());
    tree.refused("change user tavish --enforce quay", 3, "there is no service quay");
    tree.refused("change user sunniva --enforce sshd", 3, "neither hours nor places");
    tree.remove("usr/lib/security/pam_access.so");
    tree.refused("change user tavish --enforce sshd", 3, "pam_access.so is not installed");
    assert_same(&before, &{
        tree.write("usr/lib/security/pam_access.so", "");
        tree.snapshot()
    });
}

#[test]
fn a_stack_that_would_shut_everybody_out_is_refused() {
    let tree = harbour();
    with_password(&tree, "tavish");
    change(&tree, &["change", "user", "tavish", "--places", "console"]);
    tree.write(
        "etc/security/access.conf",
        "-:ALL:ALL\n# copper-nest: places of tavish\n-:tavish:ALL EXCEPT LOCAL\n",
    );
    let before = tree.snapshot();
    let words = "change user tavish --enforce login,sshd";
    let refused = tree.refused(words, 3, "could no longer sign in");
    assert_same(&before, &tree.snapshot());
    assert!(refused.stderr.contains("--even-"), "{}", refused.stderr);
    // Where root may, the rest is told.
    tree.write("etc/security/access.conf", "-:ALL EXCEPT root sunniva:ALL\n# copper-nest: places of tavish\n-:tavish:ALL EXCEPT LOCAL\n");
    change(&tree, &words.split(' ').collect::<Vec<_>>())
        .says("can no longer sign in: etc/security/access.conf:1 lets it in only from elsewhere");
}

#[test]
fn what_can_not_be_read_or_written_is_refused() {
    let tree = harbour();
    for (option, value, says) in [
        ("--hours", "fri 25:00-26:00", "no time of a day"),
        ("--hours", "8-18", "write it like 08:00-18:00"),
        ("--hours", ",", "for no restriction write any"),
        ("--places", "ALL", "meaning of its own"),
        ("--places", "my host", "is no place"),
        ("--places", "10.20.0.5/16", "10.20.0.0/16 is one"),
        ("--places", "quay:1", "is no place"),
    ] {
        let run = tree.run_words(&["change", "user", "tavish", option, value]);
        assert_eq!(run.status, 3, "{value}: {}", run.stderr);
        assert!(run.stderr.contains(says), "{value}: {}", run.stderr);
        let run = tree.run_words(&["create", "user", "isolde", option, value]);
        assert!(run.stderr.contains(says), "{value}: {}", run.stderr);
    }
    tree.append("etc/passwd", "all:x:4711:100::/:/bin/sh\n");
    tree.append("etc/passwd", "crew$:x:4712:100::/:/bin/sh\n");
    tree.refused("change user all --places console", 3, "can't hold the name all");
    let run = tree.run_words(&["change", "user", "crew$", "--hours", "mon 08:00-10:00"]);
    assert!(run.stderr.contains("can't hold the name crew$"), "{}", run.stderr);
    let passwd = before_passwd(&tree);
    tree.write("etc/passwd", passwd);
    std::fs::remove_dir_all(tree.path("etc/security")).unwrap();
    let run = tree.run_words(&["change", "user", "tavish", "--hours", "mon 08:00-10:00"]);
    assert!(run.stderr.contains("there is no etc/security"), "{}", run.stderr);
    std::fs::create_dir(tree.path("etc/security")).unwrap();
    change(&tree, &["change", "user", "tavish", "--hours", "mon 08:00-10:00"]);
    assert_eq!(
        tree.read("etc/security/time.conf"),
        "# copper-nest: hours of tavish\n*;*;tavish;Mo0800-1000\n"
    );
    assert_eq!(tree.mode("etc/security/time.conf"), 0o644);
    // A name in the other file is a group's too.
    tree.write(
        "etc/group",
        tree.read("etc/group").replace("tavish:x:1001:", "tavish:x:1001:sunniva"),
    );
    change(&tree, &["change", "user", "tavish", "--places", "console"])
        .says("there is a group tavish too, and the line counts for whoever is in it: sunniva");
    // What can't be read is left alone.
    tree.remove("etc/security/access.conf");
    std::fs::create_dir(tree.path("etc/security/access.conf")).unwrap();
    tree.refused("change user tavish --places console", 3, "etc/security/access.conf");
}

/// The file without the two accounts that were added.
fn before_passwd(tree: &TestTree) -> String {
    let passwd = tree.read("etc/passwd");
    let lines = passwd.lines().filter(|line| !line.contains(":471"));
    lines.map(|line| format!("{line}\n")).collect()
}

#[test]
fn tables_check_and_other_hands_know_of_it() {
    let tree = harbour();
    tree.write(
        "crew.csv",
        "name,hours,places\nisolde,\"mon-fri 06:00-14:00\",\"console\"\ncorwin,any,anywhere\n",
    );
    let path = tree.path("crew.csv").display().to_string();
    tree.done(&format!("intake {path}"));
    let written = tree.done("export users isolde --as csv").stdout;
    assert!(written.lines().next().unwrap().contains("hours,places"), "{written}");
    assert!(written.contains("mon-fri 06:00-14:00,console"), "{written}");
    // A table that is wrong says where.
    tree.write("crew.csv", "name,hours\nperrin,mon\n");
    tree.refused(
        &format!("intake {path}"),
        3,
        "2:8  hours  the hours can't be read: \"mon\" names no times",
    );
    // Lines of other hands that have a say.
    with_password(&tree, "isolde");
    tree.append("etc/security/time.conf", "*;*;isolde|corwin;Sa0000-2400\n");
    let said = change(&tree, &["change", "user", "isolde", "--hours", "tue 06:00-14:00"]);
    said.says("etc/security/time.conf:6 (*;*;isolde|corwin;Sa0000-2400)");
    let found = tree.run("check --only unmet-window,idle-window");
    assert!(found.stdout.contains("isolde can sign in at no time"), "{}", found.stdout);
    assert!(found.stdout.contains("isolde has places of its own"), "{}", found.stdout);
    // One who is gone, by other hands.
    let passwd = tree.read("etc/passwd");
    let gone = passwd.lines().filter(|line| !line.starts_with("isolde:"));
    tree.write("etc/passwd", gone.map(|line| format!("{line}\n")).collect::<String>());
    let found = tree.run("check --only idle-window");
    assert!(found.stdout.contains("and there is no such account"), "{}", found.stdout);
    let before = tree.snapshot();
    tree.refused("repair --drop-window isolde --drop-window runa -y", 3, "no places of runa");
    assert_same(&before, &tree.snapshot());
    tree.done("repair --drop-window isolde -y");
    assert!(!tree.read("etc/security/time.conf").contains("hours of isolde"));
    assert!(!tree.read("etc/security/access.conf").contains("isolde"));
    tree.refused("repair --drop-window isolde -y", 3, "no hours and no places of isolde");
    tree.refused("repair --drop-window corwin -y", 3, "there is an account corwin");
}

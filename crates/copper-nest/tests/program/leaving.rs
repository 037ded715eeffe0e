//! Deleting users, bringing them back, letting them go.

use std::os::unix::fs::{PermissionsExt, symlink};

use crate::harness::{Run, SHADOW, TestTree, assert_same, is_root, passed_over, under_strace};

const HASH: &str = "$y$j9T$Gk8rTqW1xZ0aLmNvB3cD5/$oMUdqLIIUbNlp.5ERqT8mq/0KPAoLbWTEaHGlGEYnd1";

/// A tree with a second person, maren, who has a full home, mail, a crontab, a
/// password and memberships in the middle of lists.
fn with_maren() -> TestTree {
    let tree = TestTree::new();
    std::fs::create_dir_all(tree.path("var/spool/cron/crontabs")).unwrap();
    tree.done("create user maren --join pilots,slipway");
    tree.done("create user odile --join pilots");
    tree.done("change group slipway --add-group-admin maren");
    set_hash(&tree, "maren");
    tree.write("home/maren/letters/one", "dear\n");
    symlink("/etc/passwd", tree.path("home/maren/out")).unwrap();
    tree.write("var/mail/maren", "mail\n");
    tree.write("var/spool/cron/crontabs/maren", "0 5 * * * tides\n");
    if is_root() {
        for mine in ["home/maren/letters", "home/maren/letters/one", "home/maren/out"] {
            tree.chown(mine, 1002, 1002);
        }
        tree.chown("var/mail/maren", 1002, 8);
        tree.chown("var/spool/cron/crontabs/maren", 1002, 0);
    }
    tree
}

fn set_hash(tree: &TestTree, name: &str) {
    let run = tree.fed(&format!("password user {name} --hashed"), HASH.as_bytes());
    assert_eq!(run.status, 0, "{}", run.stderr);
}

fn owners_count(test: &str) -> bool {
    if !is_root() {
        passed_over(test, "root");
    }
    is_root()
}

#[test]
fn a_deleted_user_comes_back_whole_in_any_way() {
    for files in ["set-aside", "keep", "archive"] {
        let tree = with_maren();
        let before = tree.snapshot();
        let run = tree.done(&format!("delete user maren --files {files} --yes"));
        assert_eq!(run.value("leaves"), "pilots, slipway");
        assert!(run.value("admin of").starts_with("slipway"));
        run.says("goes too: nobody else is in it").says("retired/user/maren.1002.");
        for gone in ["etc/passwd", "etc/shadow", "etc/group", "etc/gshadow", "etc/subuid"] {
            assert!(!tree.read(gone).contains("maren"), "{files} {gone}");
        }
        assert_eq!(tree.exists("home/maren"), files == "keep");
        assert_eq!(tree.exists("var/mail/maren"), files == "keep");
        assert!(!run.stdout.contains("$y$"));
        for change in std::fs::read_dir(tree.path("var/lib/copper-nest/changes")).unwrap() {
            let record = std::fs::read_to_string(change.unwrap().path()).unwrap();
            assert!(!record.contains("$y$j9T$Gk8"), "a hash is in a record");
        }
        let run = tree.done("restore user maren");
        run.says("member of     pilots, slipway").says("as before");
        assert_same(&before, &tree.snapshot_without(".set-aside"));
        // The same by undo, and by undoing the restoring and restoring again.
        tree.done("undo --yes");
        assert!(!tree.read("etc/passwd").contains("maren"));
        tree.done("restore user maren");
        assert_same(&before, &tree.snapshot_without(".set-aside"));
        tree.done(&format!("delete user maren --files {files} --yes"));
        tree.done("undo --yes");
        assert_same(&before, &tree.snapshot_without(".set-aside"));
        assert!(!tree.exists("var/lib/copper-nest/retired"));
    }
}

#[test]
fn what_is_set_aside_is_roots_alone() {
    let tree = with_maren();
    let run = tree.done("delete user maren --yes");
    run.says("/home/.set-aside/maren.1002.").says("only root can enter there");
    assert_eq!(tree.mode("home/.set-aside"), 0o700);
    assert_eq!(tree.mode("var/mail/.set-aside"), 0o700);
    tree.done("restore user maren");
    // Planted by somebody who may write there, or opened.
    tree.chmod("home/.set-aside", 0o755);
    tree.refused("delete user maren --yes", 3, "is no directory of root's alone: somebody has");
    std::fs::remove_dir(tree.path("home/.set-aside")).unwrap();
    symlink("/tmp", tree.path("home/.set-aside")).unwrap();
    tree.refused("delete user maren --yes", 3, "somebody has planted it");
}

#[test]
fn guards_and_wrong_names_stop_it() {
    let tree = with_maren();
    for (words, says) in [
        ("delete user root --yes", "no other account has uid 0: it is root"),
        ("delete user sunniva --yes", "no other account can sign in as administrator"),
        ("delete user tidegauge --yes", "it is a service (uid 999)"),
        ("delete user marn --yes", "there is no user marn; the nearest is maren"),
        ("delete user 1002 --yes", "show user maren"),
        ("delete user maren marn --yes", "nobody was deleted, because of marn"),
        ("delete user maren", "there is no terminal to ask at"),
        ("delete user maren --yes --state none", "there is nowhere to keep a deleted account"),
        ("delete user maren --yes --files give:marn", "there is no user marn"),
        ("delete user maren odile --yes --files give:odile", "it is deleted too"),
        ("delete user maren --yes --files give:tidegauge", "its home /nonexistent is not there"),
        ("restore user maren", "no deleted user maren is kept"),
        ("restore user maren --state none", "nothing is kept to restore from"),
        ("purge user maren --yes", "no deleted user maren is kept"),
        ("show user maren --retired", "no deleted user maren is kept"),
    ] {
        tree.refused(words, 3, says);
    }
    tree.refused("delete user maren --yes --files burn", 2, "is none of set-aside, keep");
    let names = (0..19).map(|_| "maren").collect::<Vec<_>>().join(" ");
    tree.refused(&format!("delete user {names} nobody1 --yes"), 3, "because of nobody1");
    tree.done("delete user tidegauge --even-service --yes").says("gid 999");
    tree.done("purge").says("past its days   nothing");
}

#[test]
fn homes_that_are_no_homes_are_refused_with_the_choice() {
    if !owners_count("homes_that_are_no_homes") {
        return;
    }
    let tree = with_maren();
    let line = tree.line("etc/passwd", 7);
    assert!(line.starts_with("maren:"));
    let with_home = |home: &str| {
        let text = tree.read("etc/passwd");
        let changed = text.replace(&line, &line.replace("/home/maren", home));
        tree.write("etc/passwd", changed);
        text
    };
    std::fs::create_dir_all(tree.path("srv/inner")).unwrap();
    symlink("../home/maren", tree.path("srv/link")).unwrap();
    std::fs::create_dir_all(tree.path("srv/roots")).unwrap();
    tree.write("srv/file", "");
    tree.chown("srv/file", 1002, 1002);
    for (home, says) in [
        ("/", "is the root of the tree"),
        ("/home", "is, or holds, the home of"),
        ("/etc", "is a directory of the system"),
        ("/usr", "is, or holds, the home of daemon too"),
        ("/srv/roots", "belongs to root, not to maren"),
        ("/home/tavish", "is, or holds, the home of tavish too"),
        ("/srv/link", "is a link: it leads elsewhere"),
        ("/srv/file", "is a file, not a directory"),
        ("/srv/inner", "belongs to root"),
    ] {
        let text = with_home(home);
        for files in ["set-aside", "archive", "erase", "give:odile"] {
            let words = format!("delete user maren --yes --files {files}");
            let run = tree.refused(&words, 3, says);
            assert!(run.stderr.contains("delete user maren --files keep"), "{}", run.stderr);
        }
        tree.done("delete user maren --yes --files keep").says("stays: it");
        tree.done("undo --yes");
        tree.write("etc/passwd", text);
    }
    for home in ["home/maren", "", "/nowhere/maren", "/srv/file/maren"] {
        let text = with_home(home);
        tree.done("delete user maren --yes -n").says("is not there");
        tree.write("etc/passwd", text);
    }
}

#[test]
fn archives_hold_everything_and_are_not_believed_blindly() {
    if !owners_count("archives_hold_everything") {
        return;
    }
    let tree = with_maren();
    let odd = <std::ffi::OsStr as std::os::unix::ffi::OsStrExt>::from_bytes(b"S\xf8lvi");
    std::fs::write(tree.path("home/maren").join(odd), "odd").unwrap();
    let _socket = std::os::unix::net::UnixListener::bind(tree.path("home/maren/sock")).unwrap();
    std::fs::set_permissions(tree.path("home/maren/letters"), PermissionsExt::from_mode(0o2750))
        .unwrap();
    let before = tree.snapshot();
    let run = tree.done("delete user maren --files archive --yes");
    run.says("1 socket in it was left out").says("and the archive compared with it");
    let archive = "var/lib/copper-nest/retired/user/maren.1002.5/home.tar.zst";
    assert_eq!(tree.mode(archive), 0o600);
    let mut bytes = tree.bytes(archive);
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    let good = tree.bytes(archive);
    tree.write(archive, &bytes);
    let state = tree.snapshot();
    let run = tree.run("restore user maren");
    assert_eq!(run.status, 6, "{}", run.stderr);
    assert!(run.stderr.contains("is not the one that was packed"), "{}", run.stderr);
    assert_same(&state, &tree.snapshot());
    tree.write(archive, &good);
    tree.done("restore user maren --new-id");
    let mut after = tree.snapshot();
    // A socket means nothing without the program that made it.
    let mut wanted = before;
    wanted.remove(&tree.path("home/maren/sock"));
    after.retain(|path, _| wanted.contains_key(path));
    assert_same(&wanted, &after);
}

#[test]
fn what_is_erased_or_given_does_not_come_back() {
    let tree = with_maren();
    let run = tree.done("delete user maren --files erase --yes");
    run.says("is erased for good").says("It can't be taken back: erased is erased");
    assert!(!tree.exists("home/maren") && !tree.exists("home/.set-aside"));
    assert!(!tree.exists("var/mail/maren") && !tree.exists("var/spool/cron/crontabs/maren"));
    tree.refused("undo 5 --yes", 3, "was erased, and is nowhere");
    let run = tree.done("restore user maren");
    run.says("not back").says("home /home/maren").says("it was erased");
    let tree = with_maren();
    let before = tree.snapshot();
    let run = tree.done("delete user maren --files give:odile --yes");
    run.says("/home/odile/maren").says("given to");
    assert_eq!(tree.read("home/odile/maren/letters/one"), "dear\n");
    assert_eq!(tree.read("home/odile/maren.mail"), "mail\n");
    if is_root() {
        assert_eq!(tree.owner("home/odile/maren/letters/one"), (1003, 1003));
        assert_eq!(tree.owner("home/odile/maren/out"), (1003, 1003));
    }
    tree.done("restore user maren -n").says("it was given to odile");
    tree.done("undo --yes");
    assert_same(&before, &tree.snapshot());
}

#[test]
fn without_state_files_are_kept_or_erased_and_nothing_else() {
    let tree = with_maren();
    std::fs::remove_dir_all(tree.path("var/lib/copper-nest")).unwrap();
    let run = tree.done("--state none delete user maren --files keep --yes");
    run.says("maren can't be restored").says("the next account may get that number");
    assert!(tree.exists("home/maren") && !tree.exists("var/lib/copper-nest"));
    tree.done("--state none delete user odile --files erase --yes");
    assert!(!tree.exists("home/odile"));
}

#[test]
fn a_restored_account_finds_its_way_among_changes() {
    let tree = with_maren();
    let gone = tree.done("delete user maren --yes");
    gone.says("set aside");
    tree.done("delete group slipway --even-service --yes");
    tree.done("regroup tavish --leave pilots");
    tree.done("create user brannoc");
    let run = tree.done("restore user maren");
    run.says("member of slipway").says("the group is deleted; to be in it, first: ").says("pilots");
    assert!(tree.read("etc/group").contains("pilots:x:210:maren,odile\n"));
    assert!(tree.read("etc/passwd").contains("brannoc"));
    let check = tree.run("check --skip shared-hash");
    assert!(!check.stdout.contains("maren"), "{}", check.stdout);
    // A name and a home that are taken by now.
    tree.done("delete user maren --yes");
    tree.done("create user maren");
    tree.refused("restore user maren", 3, "already has a user of that name");
    let run = tree.done("restore user maren --as marlo --without-password");
    run.says("/home/marlo").says("uid           1002");
    let shadow = tree.read("etc/shadow");
    assert!(shadow.contains("marlo:!:"), "{shadow}");
    assert!(tree.exists("home/marlo/letters/one") && tree.exists("var/mail/marlo"));
    assert!(tree.read("etc/group").contains("pilots:x:210:marlo,odile\n"));
    tree.done("delete user odile --yes");
    tree.write("home/odile", "in the way");
    tree.refused("restore user odile", 3, "/home/odile, where its home was, is a file of");
    tree.remove("home/odile");
    tree.append("etc/passwd", "squatter:x:1003:100::/nonexistent:/bin/sh\n");
    tree.refused("restore user odile", 3, "uid 1003 is squatter's");
    tree.done("restore user odile --new-id").says("another: 1003 is taken");
    if is_root() {
        let (uid, _) = tree.owner("home/odile");
        assert!(uid > 1003, "{uid}");
        assert_eq!(tree.owner("home/odile/.profile").0, uid);
    }
}

#[test]
fn two_of_one_name_are_told_apart() {
    let tree = TestTree::new();
    for _ in 0..2 {
        tree.done("create user maren");
        tree.done("delete user maren --yes");
    }
    let run = tree.refused("restore user maren", 3, "2 of the name maren were deleted");
    assert!(run.stderr.contains("restore user 1002"), "{}", run.stderr);
    tree.done("show user maren --retired").says("1002").says("1003");
    tree.done("restore user 1003").says("uid           1003");
    tree.refused("restore user 1003", 3, "no deleted user 1003 is kept");
    tree.refused("restore user 1002", 3, "already has a user of that name");
    let listed = tree.done("list retired").stdout;
    assert!(listed.starts_with("user\tmaren\t1002\t2026-11-24\t"), "{listed}");
    let json = tree.json("list retired");
    assert_eq!(json[0]["kept_until"], "2027-05-23");
    assert_eq!(json[0]["belongings"][0]["became"], "set-aside");
}

#[test]
fn what_goes_on_of_somebody_who_is_kept_out_is_told() {
    let tree = with_maren();
    if !owners_count("what_goes_on_of_somebody_who_is_kept_out_is_told") {
        return;
    }
    tree.write("var/lib/systemd/linger/maren", "");
    for (job, uid) in [("a01", 1002), ("a02", 1002), ("a03", 1003)] {
        tree.write(&format!("var/spool/cron/atjobs/{job}"), "tides\n");
        tree.chown(&format!("var/spool/cron/atjobs/{job}"), uid, 1);
    }
    tree.write("var/spool/at/spool/out", "");
    let run = tree.done("suspend user maren odile --dry-run");
    run.says("lingering services of maren go on by themselves");
    run.says("at jobs (2 in var/spool/cron/atjobs) of maren go on by themselves");
    run.says("at jobs (1 in var/spool/cron/atjobs) of odile go on by themselves");
    assert_eq!(run.stdout.matches("go on by themselves").count(), 3, "{}", run.stdout);
}

#[test]
fn many_who_leave_are_flushed_together_and_looked_for_once() {
    if !crate::harness::has_program("strace") {
        return passed_over("many_who_leave_are_flushed_together", "strace");
    }
    // How often each of these calls is made when so many go at once.
    let calls = |count: usize| {
        let tree = TestTree::new();
        tree.write("etc/systemd/system/tides.service", "[Service]\nUser=crew1\n");
        let names: Vec<String> = (1..=count).map(|at| format!("crew{at}")).collect();
        tree.done(&format!("create user {} --no-home", names.join(" ")));
        let mut words = vec!["delete", "user", "--files", "keep", "--yes"];
        words.extend(names.iter().map(String::as_str));
        let log = tree.root().join("../trace");
        let options = ["-e", "trace=fsync,fdatasync,syncfs,openat2"];
        let run = Run::of(&mut under_strace(&tree.command(&words), &options, &log));
        assert_eq!(run.status, 0, "{}", run.stderr);
        run.says("etc/systemd/system/tides.service:2");
        let log = std::fs::read_to_string(log).unwrap();
        ["sync(", "syncfs(", "tides.service", "\"etc/sudoers\""]
            .map(|call| log.matches(call).count())
    };
    let [few, many] = [calls(20), calls(60)];
    assert_eq!(few[..2], many[..2]);
    // A file may be opened again, when something else on the machine is renamed meanwhile; once a
    // name would be forty more.
    let alike = |(few, many): (&usize, &usize)| few.abs_diff(*many) < 20;
    assert!(few.iter().zip(&many).all(alike), "{few:?}, {many:?}");
    assert!(few.iter().all(|count| *count > 0), "{few:?}");
}

#[test]
fn a_suspended_account_comes_back_suspended_and_resumes_as_it_was() {
    let tree = with_maren();
    tree.done("change user maren --expires 2027-06-01");
    let before = tree.read("etc/shadow");
    tree.done("suspend user maren --reason leave");
    tree.done("delete user maren --yes").says("suspended");
    assert!(!tree.read("var/lib/copper-nest/suspended.json").contains("maren"));
    tree.done("restore user maren").says("was suspended and still is");
    tree.done("show user maren").says("suspended since 2026-11-24: leave");
    tree.done("resume user maren");
    assert_eq!(tree.read("etc/shadow"), before);
}

#[test]
fn what_is_past_its_days_is_purged_when_asked_and_never_before() {
    let tree = with_maren();
    tree.done("delete user maren --yes");
    tree.done("delete user odile --files archive --yes");
    tree.done("delete group slipway --even-service --yes");
    let later = |words: &str| {
        let mut command = tree.command(&words.split(' ').collect::<Vec<_>>());
        // A day more than half a year.
        Run::of(command.env("SOURCE_DATE_EPOCH", (1_795_500_000 + 181 * 86_400).to_string()))
    };
    tree.done("purge --yes").says("nothing");
    assert!(tree.exists("home/.set-aside/maren.1002.5"));
    let run = later("purge --dry-run");
    run.says("/home/.set-aside/maren.1002.5").says("retired/user/odile.1003.6/home.tar.zst");
    run.says("stay retired");
    let run = later("purge --yes");
    assert_eq!(run.status, 0, "{}", run.stderr);
    run.says("It can't be taken back");
    assert!(!tree.exists("home/.set-aside/maren.1002.5"));
    assert!(!tree.exists("var/lib/copper-nest/retired"));
    tree.refused("restore user maren", 3, "no deleted user maren is kept");
    assert_eq!(
        tree.done("create user brannoc").value("uid"),
        "1004 first never-used id in 1000-59999"
    );
    tree.refused("undo 8 --yes", 3, "was purged");
    // Under another policy the numbers are free then.
    let tree = with_maren();
    tree.write("etc/copper-nest/policy.toml", "[ids]\nfreed = \"after-retention\"\n");
    tree.done("delete user odile --yes");
    tree.done("purge user odile --yes").says("the policy lets them be given out again");
    assert!(tree.done("create user brannoc").value("uid").starts_with("1003 "));
}

#[test]
fn a_damaged_record_of_a_deleted_account_is_told_and_keeps_none_of_the_others() {
    let tree = with_maren();
    tree.done("delete user maren --yes");
    tree.done("delete user odile --yes");
    let account = "var/lib/copper-nest/retired/user/maren.1002.5/account.json";
    let text = tree.read(account);
    for (broken, says) in [
        ("", "is damaged (EOF"),
        ("{", "is damaged (EOF"),
        ("{\"version\": 9}", "was written by a newer version"),
        (&text[..text.len() / 2], "is damaged ("),
        (&text.replace("/home/.set-aside/maren", "/etc/skel"), "is not where /home/maren is set"),
    ] {
        tree.write(account, broken);
        let told = format!("{account} is passed over: it ");
        let run = tree.run("restore user maren");
        assert_eq!(run.status, 3, "{broken}: {}", run.stderr);
        assert!(run.stderr.contains(&told) && run.stderr.contains(says), "{}", run.stderr);
        let run = tree.done("list retired");
        run.says("odile");
        assert_eq!(run.stderr.matches(&told).count(), 1, "{}", run.stderr);
        tree.done("purge --dry-run");
    }
    tree.write(account, text);
    tree.done("restore user maren");
}

#[test]
fn ranges_and_numbers_of_the_deleted_are_not_given_out() {
    let tree = with_maren();
    let range = tree.done("show user maren").value("ranges");
    tree.done("delete user maren --yes");
    let again = tree.done("create user maren");
    assert_eq!(again.value("uid"), "1004 first never-used id in 1000-59999");
    assert_ne!(again.value("ranges").split_whitespace().last(), range.split(',').next());
    tree.refused("create user isolde --uid 1002", 3, "was maren's, and is retired");
    // Somebody takes it by hand.
    tree.append("etc/passwd", "isolde:x:1002:100::/nonexistent:/bin/sh\n");
    tree.append("etc/shadow", "isolde:!:20781::::::\n");
    let found = tree.run("check --only retired-id-in-use");
    assert_eq!(found.status, 1);
    found.says("uid 1002 was maren's and is retired: files that maren left are isolde's now");
}

#[test]
fn a_stray_home_and_stray_mail_are_noted() {
    let tree = TestTree::new();
    assert_eq!(tree.run("check --only home-orphan,mail-orphan").status, 0);
    std::fs::create_dir(tree.path("home/hesper")).unwrap();
    tree.write("var/mail/hesper", "");
    let run = tree.run("check --only home-orphan,mail-orphan --fail-on note");
    assert_eq!(run.status, 1);
    run.says("/home/hesper: warning home-orphan").says("/var/mail/hesper: note mail-orphan");
}

#[test]
fn several_leave_and_return_as_one_change() {
    let tree = with_maren();
    let before = tree.snapshot();
    let run = tree.done("delete user maren odile tavish --yes");
    run.says("change 5");
    assert_eq!(tree.read("etc/passwd").lines().count(), 5);
    assert!(tree.read("etc/group").contains("pilots:x:210:\n"));
    tree.done("restore user tavish odile maren");
    assert_same(&before, &tree.snapshot_without(".set-aside"));
    assert!(SHADOW.lines().all(|line| tree.read("etc/shadow").contains(line)));
}

#[test]
fn machines_read_what_people_are_told() {
    let tree = with_maren();
    let dry = tree.json("delete user maren -n --yes");
    assert_eq!((&dry["dry_run"], &dry["change"]), (&true.into(), &().into()));
    let steps = dry["steps"].to_string();
    assert!(steps.contains("sets /home/maren aside as /home/.set-aside/maren.1002.5"), "{steps}");
    let done = tree.json("delete user maren --yes");
    assert_eq!(done["change"], 5);
    let edits = done["edits"].as_array().unwrap();
    let passwd = edits.iter().find(|edit| edit["file"] == "etc/passwd").unwrap();
    assert_eq!(passwd["after"], serde_json::Value::Null);
    assert!(!done.to_string().contains("$y$"));
    let kept = tree.json("show user maren --retired");
    assert_eq!(kept[0]["groups"], serde_json::json!(["pilots", "slipway"]));
    assert_eq!(kept[0]["belongings"][0]["place"], "/home/.set-aside/maren.1002.5");
    assert!(!kept.to_string().contains("$y$"));
    let refusal = tree.run("restore user marn --format json");
    assert_eq!(refusal.status, 3);
    assert_eq!(refusal.json()["error"]["kind"], "none-kept");
    let shown = tree.done("show user maren --retired");
    shown.says("retired/user/maren.1002.5").says("slipway (administrator)").says("maren:(hash)");
}

#[test]
fn names_come_from_a_file_too_and_groups_are_purged() {
    let tree = with_maren();
    tree.write("leavers", "# this autumn\nmaren\n\nodile\n");
    let leavers = tree.path("leavers").display().to_string();
    // One that is named twice is one that leaves.
    let run = tree.done(&format!("delete user maren --names-from {leavers} --yes"));
    assert!(run.stdout.starts_with("delete user maren, odile\n"), "{}", run.stdout);
    assert_eq!(tree.done("list retired").stdout.lines().count(), 2);
    tree.done("delete group slipway --even-service --yes");
    tree.refused("purge group slipwa --yes", 3, "the nearest is slipway");
    tree.done("purge group slipway --yes").says("can't be restored any more");
    tree.refused("restore group slipway", 3, "no deleted group slipway is kept");
    assert_eq!(tree.done("list retired").stdout.lines().count(), 2);
}

#[test]
fn of_two_who_restore_at_once_one_does() {
    let tree = with_maren();
    let before = tree.snapshot();
    for _ in 0..5 {
        tree.done("delete user maren --yes");
        let runs: Vec<Run> = std::thread::scope(|scope| {
            let one = || scope.spawn(|| tree.run("restore user maren"));
            let both = [one(), one()];
            both.into_iter().map(|run| run.join().unwrap()).collect()
        });
        let mut statuses: Vec<i32> = runs.iter().map(|run| run.status).collect();
        statuses.sort_unstable();
        assert_eq!(statuses, [0, 3]);
        assert_same(&before, &tree.snapshot_without(".set-aside"));
    }
}

#[test]
fn what_is_offered_in_place_of_a_question_is_what_was_asked() {
    let tree = with_maren();
    let run = tree.refused("delete user maren --files erase", 3, "there is no terminal to ask at");
    let again =
        format!("copper-nest --tree {} delete user maren --files erase", tree.root().display());
    for option in ["--dry-run", "--yes"] {
        let wanted = format!("{again} {option}");
        assert!(run.stderr.contains(&wanted), "no {wanted} in {}", run.stderr);
    }
}

#[test]
fn a_creation_that_nobody_used_gives_its_numbers_back() {
    let tree = TestTree::new();
    let before = tree.snapshot();
    tree.done("create user maren odile");
    let run = tree.done("undo --yes");
    run.says("free again");
    assert_same(&before, &tree.snapshot());
    assert!(tree.done("create user maren").value("uid").starts_with("1002 "));
    // A file elsewhere carries the number: it stays where it was used.
    if owners_count("that files carry numbers") {
        tree.write("srv/tide", "high\n");
        tree.chown("srv/tide", 1002, 0);
        let run = tree.done("undo --yes");
        run.says("retired      uid 1002").says("free again   gid 1002");
        assert!(tree.done("create user maren").value("uid").starts_with("1003 "));
    }
    // What had been retired before is retired again.
    let tree = TestTree::new();
    tree.done("create user maren");
    tree.done("delete user maren --yes --files erase");
    tree.done("restore user maren");
    let run = tree.done("undo --yes");
    assert!(!run.stdout.contains("free again"), "{}", run.stdout);
    assert!(tree.done("create user odile").value("uid").starts_with("1003 "));
}

#[test]
fn what_an_undo_sets_aside_is_kept_like_what_a_deletion_does() {
    let with_letter = || {
        let tree = TestTree::new();
        std::fs::create_dir_all(tree.path("srv/boats")).unwrap();
        tree.done("create user maren --join pilots --home /srv/boats/m1");
        tree.write("srv/boats/m1/letter", "dear\n");
        tree
    };
    let tree = with_letter();
    // Whoever has a password by now is no account that was just made.
    set_hash(&tree, "maren");
    let run = tree.refused("undo 1 --yes", 3, "etc/shadow:7 has changed since");
    assert!(run.stderr.contains("delete user maren"), "{}", run.stderr);
    let tree = with_letter();
    let run = tree.done("undo 1 --yes");
    run.says("used since it was made").says("retired/user/maren.1002.2");
    let kept = tree.json("list retired");
    assert_eq!(kept[0]["name"], "maren");
    tree.done("restore user maren").says("back from /srv/boats/.set-aside/maren.1002.2");
    assert_eq!(tree.read("srv/boats/m1/letter"), "dear\n");
    assert!(tree.read("etc/group").contains("pilots:x:210:tavish,maren"));
    // Taken back, it is kept once more; purged, it is gone.
    tree.done("undo 3 --yes");
    assert_eq!(tree.json("list retired").as_array().unwrap().len(), 1);
    tree.done("purge user maren --yes");
    assert!(!tree.exists("srv/boats/m1") && !tree.read("etc/passwd").contains("maren"));
    assert_eq!(std::fs::read_dir(tree.path("srv/boats/.set-aside")).unwrap().count(), 0);
}

#[test]
fn what_is_live_is_not_purged_though_only_its_lines_came_back() {
    for files in ["set-aside", "archive"] {
        let tree = with_maren();
        let before = tree.snapshot_without(".set-aside");
        tree.done(&format!("delete user maren --files {files} --yes"));
        tree.done("undo --yes --lines-only").says("is not purged while maren is there");
        let run = tree.refused("purge user maren --yes", 3, "the user maren is there again");
        assert!(run.stderr.contains("restore user maren"), "{}", run.stderr);
        let mut later = tree.command(&["purge", "--yes"]);
        later.env("SOURCE_DATE_EPOCH", "1895500000");
        let run = Run::of(&mut later);
        assert_eq!(run.status, 0, "{}", run.stderr);
        run.says("it is there again");
        tree.done("restore user maren");
        assert_same(&before, &tree.snapshot_without(".set-aside"));
        assert_eq!(tree.json("list retired"), serde_json::json!([]));
    }
    // Of what was left where it is nothing stays behind.
    let tree = with_maren();
    let before = tree.snapshot();
    tree.done("delete user maren --files keep --yes");
    tree.done("undo --yes --lines-only");
    assert_same(&before, &tree.snapshot());
    assert_eq!(tree.json("list retired"), serde_json::json!([]));
    tree.done("undo 6 --yes --lines-only");
    assert_eq!(tree.json("list retired")[0]["name"], "maren");
}

#[test]
fn numbers_come_free_with_what_was_kept_also_when_the_policy_comes_later() {
    let tree = TestTree::new();
    tree.done("create user maren");
    tree.done("create group divers --gid 1500");
    tree.done("delete user maren --yes");
    tree.done("delete group divers --yes");
    tree.done("change user tavish --uid 1600 --keep-gid");
    tree.done("purge user maren --yes").says("stay retired");
    tree.done("purge").says("nothing");
    tree.refused("create user fenja --uid 1002", 3, "was maren's, and is retired");
    tree.write("etc/copper-nest/policy.toml", "[ids]\nfreed = \"after-retention\"\n");
    let dry = tree.done("purge --dry-run");
    dry.says("maren").says("uid 1002, gid 1002 and ids 2001141760-2001207295");
    // Kept still, or not retired for so long.
    for other in ["1500", "1001", "divers", "tavish"] {
        assert!(!dry.stdout.contains(other), "{other} in\n{}", dry.stdout);
    }
    tree.done("purge --yes");
    tree.done("create user fenja --uid 1002");
    assert_eq!(tree.line("etc/subuid", 3), "fenja:2001141760:65536");
    let policy = "[ids]\nfreed = \"after-retention\"\n[retired]\nkeep_days = 0\n";
    tree.write("etc/copper-nest/policy.toml", policy);
    tree.done("purge --yes").says("uid 1001").says("divers");
    tree.done("create user liv --uid 1001");
    tree.done("create group pier --gid 1500");
    let ids = tree.read("var/lib/copper-nest/ids.json");
    assert!(!ids.contains("\"id\""), "{ids}");
}

//! Files that somebody else may have made: devices, fifos, links, files without an end.

use std::os::unix::fs::symlink;
use std::path::Path;
use std::process::Stdio;
use std::time::{Duration, Instant};

use rustix::fs::{CWD, FileType, Mode, makedev, mknodat};

use crate::harness::{KEY, Run, TestTree, is_root, is_sampled, passed_over};

/// Runs the program, which has to come to an end soon.
fn soon(tree: &TestTree, words: &str) -> Run {
    let words: Vec<&str> = words.split_whitespace().collect();
    let mut command = tree.command(&words);
    let child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let process = rustix::process::Pid::from_child(&child);
    let (sender, ended) = std::sync::mpsc::channel::<()>();
    let watch = std::thread::spawn(move || {
        if ended.recv_timeout(Duration::from_secs(20)).is_err() {
            let _ = rustix::process::kill_process(process, rustix::process::Signal::KILL);
        }
    });
    let output = child.wait_with_output().unwrap();
    let _ = sender.send(());
    watch.join().unwrap();
    assert!(output.status.code().is_some(), "{words:?} came to no end");
    Run::from(output)
}

/// What puts something in the place of a file.
type Plant<'a> = &'a dyn Fn(&Path);

/// `/dev/zero`, which has no end.
fn plant_zero(path: &Path) {
    let _ = std::fs::remove_file(path);
    std::fs::create_dir_all(path.parent().unwrap()).unwrap();
    mknodat(CWD, path, FileType::CharacterDevice, Mode::from_raw_mode(0o666), makedev(1, 5))
        .unwrap();
}

fn plant_fifo(path: &Path) {
    let _ = std::fs::remove_file(path);
    mknodat(CWD, path, FileType::Fifo, Mode::from_raw_mode(0o666), 0).unwrap();
}

#[test]
fn keys_that_are_no_file_are_told_and_not_read() {
    let tree = TestTree::new();
    std::fs::create_dir(tree.path("home/sunniva/.ssh")).unwrap();
    let keys = tree.path("home/sunniva/.ssh/authorized_keys");
    let long = |path: &Path| {
        std::fs::write(path, KEY).unwrap();
        std::fs::File::options().write(true).open(path).unwrap().set_len(8 << 40).unwrap();
    };
    let link = |path: &Path| symlink("/dev/zero", path).unwrap();
    let mut plants: Vec<(Plant<'_>, &str)> = vec![
        (&link, "is a link, not a file"),
        (&plant_fifo, "is a fifo, not a file"),
        (&long, "is longer than 4.0 MB"),
    ];
    match is_root() {
        true => plants.push((&plant_zero, "is a device, not a file")),
        false => passed_over("a device in the place of keys", "root"),
    }
    for (plant, says) in plants {
        let _ = std::fs::remove_file(&keys);
        plant(&keys);
        let whole = format!("/home/sunniva/.ssh/authorized_keys {says}");
        let shown = soon(&tree, "show user sunniva");
        assert!(shown.value("sign-in").contains(&whole), "{}", shown.value("sign-in"));
        let json = soon(&tree, "show user sunniva --format json").json();
        assert!(json["sign_in"].to_string().contains(says), "{}", json["sign_in"]);
        for words in ["list users", "check", "list users --format json", "create user perrin"] {
            let run = soon(&tree, words);
            assert!(matches!(run.status, 0 | 1 | 3), "{words}: {}", run.stderr);
        }
    }
}

#[test]
fn configuration_that_is_no_file_holds_nothing_up() {
    if !is_root() {
        return passed_over("configuration_that_is_no_file_holds_nothing_up", "root");
    }
    for file in [
        "etc/copper-nest/policy.toml",
        "etc/shells",
        "etc/nsswitch.conf",
        "etc/sudoers",
        "etc/aliases",
        "etc/ssh/sshd_config",
        "etc/passwd",
        "etc/shadow",
        "etc/subuid",
        "var/lib/copper-nest/ids.json",
        "var/lib/copper-nest/left.json",
        "var/lib/copper-nest/changes/1.json",
        "var/lib/copper-nest/journal/ready.json",
        "etc/.copper-nest-state",
    ] {
        for plant in [&plant_zero as Plant<'_>, &plant_fifo] {
            let tree = TestTree::new();
            tree.done("create user maren");
            std::fs::create_dir_all(tree.path(file).parent().unwrap()).unwrap();
            plant(&tree.path(file));
            tree.chmod("var/lib/copper-nest", 0o700);
            for words in [
                "list users",
                "check",
                "show user maren",
                "create user perrin",
                "delete user tavish --yes",
                "rename user maren marlo",
                "list changes",
                "undo --yes",
                "recover --yes",
            ] {
                let run = soon(&tree, words);
                assert!((0..=7).contains(&run.status), "{words}, {file}: {}", run.stderr);
                assert!(!run.stderr.contains("panicked"), "{words}, {file}: {}", run.stderr);
            }
        }
    }
    let tree = TestTree::new();
    plant_zero(&tree.path("etc/copper-nest/policy.toml"));
    tree.refused("create user perrin", 3, "policy.toml can't be read: it is a device, not a file");
    let tree = TestTree::new();
    plant_zero(&tree.path("etc/sudoers"));
    let run = tree.done("create user perrin");
    let says = "etc/sudoers is passed over: it is a device, not a file\n";
    assert_eq!(run.stderr, says);
    // Who knows where accounts come from: nobody is called a ghost.
    plant_zero(&tree.path("etc/nsswitch.conf"));
    let group =
        tree.read("etc/group").replace("pilots:x:210:tavish", "pilots:x:210:tavish,skipper");
    tree.write("etc/group", group);
    let run = tree.run("check --only ghost-member");
    assert!(!run.stdout.contains("no account is called"), "{}", run.stdout);
    let says = "asks sources that can't be told (it is a device, not a file) for users too";
    assert!(run.stderr.contains(says), "{}", run.stderr);
}

#[test]
fn running_out_of_descriptors_is_no_reason_to_say_that_there_is_no_key() {
    let tree = TestTree::new();
    tree.write("home/sunniva/.ssh/authorized_keys", KEY);
    if is_root() {
        tree.chown("home/sunniva/.ssh", 1000, 1000);
        tree.chown("home/sunniva/.ssh/authorized_keys", 1000, 1000);
    }
    for limit in 5..26 {
        let mut command = std::process::Command::new("sh");
        command.arg("-c").arg(format!("ulimit -n {limit}; exec \"$@\"")).arg("sh");
        command.arg(env!("CARGO_BIN_EXE_copper-nest")).arg("--tree").arg(tree.root());
        command.args(["show", "user", "sunniva"]).env("SOURCE_DATE_EPOCH", crate::harness::NOW);
        let output = command.stdin(Stdio::null()).output().unwrap();
        let told = String::from_utf8_lossy(&output.stdout).into_owned();
        assert!(!told.contains("holds none"), "with {limit} descriptors: {told}");
    }
}

/// A program that some other user may run as root's would be, if copied as it is.
#[test]
fn a_skeleton_gives_no_set_id_bits_away() {
    let tree = TestTree::new();
    tree.write("etc/skel/bin/tides", "#!/bin/sh\n");
    tree.chmod("etc/skel/bin/tides", 0o6755);
    tree.chmod("etc/skel/bin", 0o2755);
    tree.write("etc/other", "");
    std::fs::hard_link(tree.path("etc/other"), tree.path("etc/skel/.other")).unwrap();
    let run = tree.done("create user perrin");
    run.says("2 in /etc/skel have set-id bits: the copies are the new user's, and get no such bit");
    run.says("1 file has another name besides the one in /etc/skel");
    assert_eq!(tree.mode("home/perrin/bin/tides"), 0o755);
    assert_eq!(tree.mode("home/perrin/bin"), 0o755);
    assert!(tree.json("create user odalys")["cautions"].to_string().contains("set-id bits"));
}

/// Deep, wide of mark or without end: what lies in a home.
mod homes {
    use super::*;
    use crate::harness::{bind, mount_memory, with_mounts_of_its_own};

    /// Makes so many directories in a home, each in the one before, with a file in each
    /// hundredth.
    fn nest(tree: &TestTree, depth: usize) {
        let mut here = std::fs::File::open(tree.path("home/maren")).unwrap();
        for at in 0..depth {
            rustix::fs::mkdirat(&here, "d", Mode::RWXU).unwrap();
            let flags = rustix::fs::OFlags::RDONLY | rustix::fs::OFlags::DIRECTORY;
            here = rustix::fs::openat(&here, "d", flags, Mode::empty()).unwrap().into();
            let (uid, gid) = (rustix::fs::Uid::from_raw(1002), rustix::fs::Gid::from_raw(1002));
            rustix::fs::fchown(&here, Some(uid), Some(gid)).unwrap();
            if at % 100 == 0 {
                mknodat(&here, "file", FileType::RegularFile, Mode::RUSR, 0).unwrap();
            }
        }
    }

    /// Removes what no path reaches.
    fn clear(tree: &TestTree) {
        let removed = std::process::Command::new("rm").arg("-rf").arg(tree.path("home")).status();
        assert!(removed.unwrap().success());
    }

    #[test]
    fn that_are_deeper_than_descriptors_and_paths_reach() {
        if !is_root() {
            return passed_over("that_are_deeper_than_descriptors_and_paths_reach", "root");
        }
        for (at, depth) in [6_000, 1_100].into_iter().enumerate() {
            if !is_sampled(at, 2) {
                continue;
            }
            let with_maren = || {
                let tree = TestTree::new();
                tree.done("create user maren");
                nest(&tree, depth);
                tree
            };
            let tree = with_maren();
            soon(&tree, "show user maren").says("maren");
            assert_eq!(soon(&tree, "change user maren --uid 1500").status, 0);
            assert_eq!(tree.owner(&format!("home/maren{}", "/d".repeat(1_000))), (1500, 1500));
            assert_eq!(soon(&tree, "undo --yes").status, 0);
            assert_eq!(tree.owner(&format!("home/maren{}", "/d".repeat(1_000))), (1002, 1002));
            assert_eq!(soon(&tree, "delete user maren --yes").status, 0);
            assert_eq!(soon(&tree, "restore user maren").status, 0);
            assert_eq!(soon(&tree, "delete user maren --yes").status, 0);
            assert_eq!(soon(&tree, "purge user maren --yes").status, 0);
            assert!(std::fs::read_dir(tree.path("home/.set-aside")).unwrap().next().is_none());
            let tree = with_maren();
            assert_eq!(soon(&tree, "delete user maren --files archive --yes").status, 0);
            assert!(!tree.exists("home/maren"));
            assert_eq!(soon(&tree, "restore user maren").status, 0);
            assert!(tree.exists(&format!("home/maren{}/file", "/d".repeat(1_001))));
            assert_eq!(soon(&tree, "delete user maren --files erase --yes").status, 0);
            assert!(!tree.exists("home/maren"));
            clear(&tree);
        }
    }

    #[test]
    fn with_a_file_that_nobody_can_change() {
        if !is_root() || !crate::harness::has_program("chattr") {
            return passed_over("with_a_file_that_nobody_can_change", "root and chattr");
        }
        let tree = TestTree::new();
        tree.done("create user maren");
        tree.write("home/maren/inner/stone", "");
        for path in ["home/maren/inner", "home/maren/inner/stone"] {
            tree.chown(path, 1002, 1002);
        }
        let mark = |how: &str| {
            let path = tree.path("home/maren/inner/stone");
            let set = std::process::Command::new("chattr").arg(how).arg(path).output().unwrap();
            set.status.success()
        };
        if !mark("+i") {
            return passed_over("with_a_file_that_nobody_can_change", "a disk that marks files");
        }
        // What can't be given stays, and is told; the rest goes on, and so does everything after.
        let run = tree.done("change user maren --uid 1500");
        run.says("1 file could not be given other numbers (uid 1002 to 1500 and gid 1002 to 1500)");
        run.says("/home/maren/inner/stone (Operation not permitted)");
        assert_eq!(tree.owner("home/maren/inner"), (1500, 1500));
        tree.done("recover");
        tree.done("undo --yes");
        tree.refused("delete user maren --files erase --yes", 3, "not even root can change it");
        let run = tree.done("reassign user 1002 sunniva /home/maren --yes");
        assert!(run.stdout.contains("could not be given"), "{}", run.stdout);
        assert!(mark("-i"));
    }

    #[test]
    fn with_somebody_elses_directory_shown_in_them() {
        with_mounts_of_its_own("a mount in a home", || {
            let tree = TestTree::new();
            tree.done("create user maren");
            std::fs::create_dir_all(tree.path("home/maren/inner/shown")).unwrap();
            std::fs::create_dir_all(tree.path("srv/data")).unwrap();
            tree.write("srv/data/precious", "precious\n");
            tree.chown("srv/data/precious", 1002, 1002);
            // Of the same file system: its device tells nothing.
            bind(&tree.path("srv/data"), &tree.path("home/maren/inner/shown"));
            let says = "has something mounted in it, at /home/maren/inner/shown";
            for words in [
                "delete user maren --yes",
                "delete user maren --files archive --yes",
                "delete user maren --files erase --yes",
                "delete user maren --files give:sunniva --yes",
                "rename user maren marlo",
                "change user maren --home /srv/maren",
            ] {
                tree.refused(words, 3, says);
            }
            // What is offered works, and leaves all of it where it is.
            let shown = tree.done("delete user maren --files keep --yes --dry-run");
            shown.says("stays: it has something mounted in it");
            let home = tree.done("show user maren").value("home");
            let says = "3 files, but for /home/maren/inner/shown (something is mounted there)";
            assert!(home.contains(says), "{home}");
            tree.done("rename user maren marlo --keep-home");
            tree.done("undo --yes");
            // Files behind it are not the home's to be given.
            tree.done("change user maren --uid 1500");
            assert_eq!(tree.owner("srv/data/precious"), (1002, 1002));
            assert_eq!(tree.owner("home/maren"), (1500, 1500));
            assert_eq!(tree.read("srv/data/precious"), "precious\n");
            // What is mounted in a home that was set aside already stops its erasing.
            let tree = TestTree::new();
            tree.done("create user maren");
            tree.done("delete user maren --yes");
            let aside = "home/.set-aside/maren.1002.2";
            std::fs::create_dir(tree.path(&format!("{aside}/shown"))).unwrap();
            tree.write("srv/data/precious", "precious\n");
            bind(&tree.path("srv/data"), &tree.path(&format!("{aside}/shown")));
            let says = format!("has something mounted in it, at /{aside}/shown");
            let run = tree.refused("purge user maren --yes", 3, &says);
            assert!(run.stderr.contains(&format!("umount /{aside}/shown")), "{}", run.stderr);
            tree.refused("restore user maren", 6, "something is mounted at");
            let mut later = tree.command(&["purge", "--yes"]);
            let run = Run::of(later.env("SOURCE_DATE_EPOCH", "1895500000"));
            assert_eq!(run.status, 0, "{}", run.stderr);
            run.says("stays");
            assert_eq!(tree.read("srv/data/precious"), "precious\n");
        });
    }

    #[test]
    fn with_a_hole_of_terabytes() {
        with_mounts_of_its_own("a home on another file system", || {
            let tree = TestTree::new();
            tree.done("create user maren");
            let file = std::fs::File::create(tree.path("home/maren/hole")).unwrap();
            file.set_len(4 << 40).unwrap();
            std::os::unix::fs::FileExt::write_all_at(&file, b"end", 3 << 40).unwrap();
            std::fs::create_dir(tree.path("srv")).unwrap();
            mount_memory(&tree.path("srv"), 64 << 20);
            let run = soon(&tree, "change user maren --home /srv/maren");
            assert_eq!(run.status, 0, "{}", run.stderr);
            assert_eq!(tree.path("srv/maren/hole").metadata().unwrap().len(), 4 << 40);
            assert_eq!(soon(&tree, "undo --yes").status, 0);
            assert_eq!(soon(&tree, "delete user maren --files archive --yes").status, 0);
            assert_eq!(soon(&tree, "restore user maren").status, 0);
        });
    }

    #[test]
    fn that_take_long_and_somebody_who_does_not_want_to_wait() {
        let tree = TestTree::new();
        tree.done("create user maren");
        let mut noise: Vec<u8> = Vec::with_capacity(64 << 20);
        let mut seed = 1_u64;
        while noise.len() < 64 << 20 {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963);
            noise.extend_from_slice(&seed.to_le_bytes());
        }
        for at in 0..10 {
            std::fs::write(tree.path(&format!("home/maren/noise{at}")), &noise).unwrap();
        }
        let before = tree.snapshot_with_state();
        let words = ["delete", "user", "maren", "--files", "archive", "--yes"];
        let child = tree.command(&words).stderr(Stdio::piped()).spawn().unwrap();
        std::thread::sleep(Duration::from_millis(700));
        let process = rustix::process::Pid::from_child(&child);
        rustix::process::kill_process(process, rustix::process::Signal::INT).unwrap();
        let told = Instant::now();
        let run = Run::from(child.wait_with_output().unwrap());
        assert!(told.elapsed() < Duration::from_secs(3), "{:?}", told.elapsed());
        assert_eq!((run.status, run.stderr.as_str()), (6, "interrupted; nothing was changed.\n"));
        crate::harness::assert_same(&before, &tree.snapshot_with_state());
    }
}

#[test]
fn directories_of_the_system_are_nobodys_home() {
    let tree = TestTree::new();
    tree.append("etc/passwd", "post:x:8:8:mail:/var/mail:/usr/sbin/nologin\n");
    tree.append("etc/shadow", "post:*:20600::::::\n");
    tree.write("var/mail/sunniva", "From tavish\n");
    std::fs::create_dir_all(tree.path("srv")).unwrap();
    if is_root() {
        tree.chown("var/mail", 8, 8);
    }
    let moving = "its home can't be moved: ";
    for (words, says) in [
        ("change user daemon --home /srv/daemon", "/usr/sbin is a directory of the system"),
        ("change user post --home /srv/post", "/var/mail is a directory of the system"),
    ] {
        let run = tree.refused(words, 3, &format!("{moving}{says}"));
        let way = format!("{words} --record-only");
        assert!(run.stderr.contains(&way), "{}", run.stderr);
        tree.done(&format!("{way} --even-service --dry-run"));
    }
    for (home, says) in [
        ("/etc", "it is a directory of the system"),
        ("/usr/sbin", "it is, or holds, the home of daemon too"),
        ("/var/lib", "it is a directory of the system"),
        ("/etc/skel", "it lies in /etc, which is the system's"),
        ("/home", "it is, or holds, the home of"),
    ] {
        let words = format!("create user zed --home {home} --adopt-home");
        let run = tree.refused(&words, 3, says);
        let way = format!("create user zed --home {home} --no-home");
        assert!(run.stderr.contains(&way), "{}", run.stderr);
        tree.done(&format!("{way} --dry-run"));
    }
    // A renaming takes the home along where it bears the name.
    let passwd =
        tree.read("etc/passwd").replace("post:x:8:8:mail:/var/mail", "mail:x:8:8:mail:/var/mail");
    tree.write("etc/passwd", passwd);
    tree.write("etc/shadow", tree.read("etc/shadow").replace("post:", "mail:"));
    let run = tree.refused("rename user mail letters --keep-group", 3, moving);
    assert!(run.stderr.contains("--keep-home"), "{}", run.stderr);
    tree.done("rename user mail letters --keep-group --keep-home --even-service");
    assert_eq!(tree.read("var/mail/sunniva"), "From tavish\n");
}

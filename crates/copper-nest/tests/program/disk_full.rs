//! A disk that fills up, files that may not grow, and nobody who hears.

use std::process::{Command, Stdio};

use crate::harness::{NOW, Run, TestTree, mount_memory, with_mounts_of_its_own};

#[test]
fn a_change_happens_with_its_record_or_not_at_all() {
    with_mounts_of_its_own("a disk that fills up", || {
        let (mut happened, mut refused) = (0, 0);
        for room in (0..=60).step_by(4) {
            let tree = TestTree::empty();
            let base = TestTree::new();
            mount_memory(tree.root(), 1 << 20);
            let mut copy = Command::new("cp");
            copy.arg("-a").arg(base.root().join(".")).arg(tree.root());
            assert!(copy.status().unwrap().success());
            tree.done("create group harbour");
            fill(&tree, room << 10);
            let before = tree.snapshot();
            let run = tree.run("create user perrin --skeleton none");
            match run.status {
                0 => {
                    happened += 1;
                    run.says("done: change 2.");
                    assert!(tree.exists("var/lib/copper-nest/changes/2.json"), "{}", run.stdout);
                }
                status => {
                    refused += 1;
                    assert_eq!(status, 6, "{}", run.stderr);
                    crate::harness::assert_same(&before, &tree.snapshot());
                    assert!(!tree.exists("var/lib/copper-nest/journal"));
                }
            }
            std::fs::remove_file(tree.path("filling")).unwrap();
            // No number is given twice, and nobody is blamed.
            let next = if run.status == 0 { 3 } else { 2 };
            let run = tree.done("create user odalys");
            run.says(&format!("done: change {next}."));
            assert!(!run.stdout.contains("other hands"), "{}", run.stdout);
            tree.done("undo --yes");
        }
        assert!(happened >= 2 && refused >= 2, "{happened} {refused}");
    });
}

/// Fills the disk but for so many bytes.
fn fill(tree: &TestTree, room: u64) {
    let stat = rustix::fs::statvfs(tree.root()).unwrap();
    let free = (stat.f_bavail * stat.f_frsize).saturating_sub(room);
    std::fs::write(tree.path("filling"), vec![1; usize::try_from(free).unwrap()]).unwrap();
}

#[test]
fn a_file_that_may_not_grow_is_an_error_like_any_other() {
    for blocks in [0, 1, 2, 4, 8] {
        let tree = TestTree::new();
        let before = tree.snapshot_with_state();
        let mut command = Command::new("sh");
        command.arg("-c").arg(format!("ulimit -f {blocks}; exec \"$@\"")).arg("sh");
        command.arg(env!("CARGO_BIN_EXE_copper-nest")).arg("--tree").arg(tree.root());
        command.args(["create", "user", "perrin", "--join", "pilots"]);
        let run = Run::of(command.env("SOURCE_DATE_EPOCH", NOW).stdin(Stdio::null()));
        if run.status == 0 {
            continue;
        }
        assert_eq!(run.status, 6, "{}{}", run.stdout, run.stderr);
        assert!(run.stderr.contains("File too large"), "{}", run.stderr);
        crate::harness::assert_same(&before, &tree.snapshot_with_state());
    }
}

#[test]
fn a_password_that_nobody_read_is_told() {
    let says = "nobody knows the generated password of tavish";
    for words in [
        "password user tavish --generate",
        "password user tavish --generate --quiet",
        "create user tavish2 --password generate",
        "password group pilots --generate",
    ] {
        let name = match words {
            words if words.contains("tavish2") => "tavish2",
            words if words.contains("group") => "pilots",
            _ => "tavish",
        };
        let says = says.replace("tavish", name);
        let words: Vec<&str> = words.split(' ').collect();
        // A disk that is full.
        let tree = TestTree::new();
        let full = std::fs::File::options().write(true).open("/dev/full").unwrap();
        let output = tree.command(&words).stdout(full).output().unwrap();
        let told = String::from_utf8_lossy(&output.stderr).into_owned();
        assert_eq!(output.status.code(), Some(6), "{words:?}: {told}");
        assert!(told.contains(&says) && told.contains(" --generate\n"), "{words:?}: {told}");
        // A reader that went away before anything was written.
        let tree = TestTree::new();
        let (reader, writer) = std::io::pipe().unwrap();
        drop(reader);
        let output = tree.command(&words).stdout(writer).output().unwrap();
        let told = String::from_utf8_lossy(&output.stderr).into_owned();
        assert_eq!(output.status.code(), Some(6), "{words:?}: {told}");
        assert!(told.contains(&says), "{words:?}: {told}");
        // What is offered works.
        let thing = if name == "pilots" { "group" } else { "user" };
        let again = tree.done(&format!("password {thing} {name} --generate"));
        again.says("shown this once: ");
    }
    // A receipt can be had again: it is no reason to fail.
    let tree = TestTree::new();
    let full = std::fs::File::options().write(true).open("/dev/full").unwrap();
    let output = tree.command(&["create", "user", "perrin"]).stdout(full).output().unwrap();
    assert_eq!(output.status.code(), Some(0));
}

#[test]
fn what_is_lost_after_a_crash_is_not_made_up_for() {
    if !crate::harness::has_program("strace") {
        return crate::harness::passed_over("what_is_lost_after_a_crash", "strace");
    }
    let torn = |at: usize| {
        let tree = TestTree::new();
        tree.done("create user maren");
        let before = tree.snapshot();
        assert!(crate::killed::leave_torn(&tree, "delete user maren --yes", "renameat2", at));
        (tree, before)
    };
    // What is kept and ids.json have their names by then, and nobody else has seen them.
    for (spoil, says) in [
        ("", "etc/subuid is not what was written"),
        ("gone", "etc/subuid is not there"),
        ("maren:1:1\n", "etc/subuid is not what was written"),
    ] {
        let put = |tree: &TestTree| match spoil {
            "gone" => tree.remove("etc/.subuid.copper-nest-new"),
            text => tree.write("etc/.subuid.copper-nest-new", text),
        };
        // Nothing was visible yet: it goes back, and says why.
        let (tree, before) = torn(1);
        put(&tree);
        let run = tree.done("recover");
        run.says("was rolled back").says(says);
        crate::harness::assert_same(&before, &tree.snapshot());
        tree.done("delete user maren --yes");
        // Half of it was: it stops, touches nothing, and says what stands where.
        let (tree, _) = torn(4);
        put(&tree);
        let run = tree.refused("recover", 3, says);
        assert!(run.stderr.contains("is half done and can't be finished"), "{}", run.stderr);
        assert!(run.stderr.contains("/etc/passwd"), "{}", run.stderr);
        assert!(run.stderr.contains("as it would be after the change"), "{}", run.stderr);
        tree.refused("create user perrin", 3, says);
        assert_eq!(tree.json("recover")["error"]["kind"], "lost-after-crash");
    }
    let tree = TestTree::new();
    tree.done("create user maren");
    tree.done("create user odalys");
    tree.done("delete user odalys --yes");
    let before = tree.snapshot_with_state();
    assert!(crate::killed::leave_torn(&tree, "delete user maren --yes", "renameat2", 1));
    tree.remove("var/lib/copper-nest/.ids.json.new");
    tree.done("recover").says("was rolled back").says("ids.json is not there");
    crate::harness::assert_same(&before, &tree.snapshot_with_state());
}

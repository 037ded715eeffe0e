//! Finding what is left on disk, and giving it away.

use std::os::unix::fs::{PermissionsExt, symlink};

use crate::commit::in_namespace;
use crate::harness::{Run, TestTree, assert_same, is_root, passed_over};

/// Files of somebody who is gone, of a container, and of those who are there.
fn with_strays(test: &str) -> Option<TestTree> {
    if !is_root() {
        passed_over(test, "root");
        return None;
    }
    let tree = TestTree::new();
    for (path, uid, gid) in [
        ("srv/charts/old", 1500, 1001),
        ("srv/charts/new", 1001, 1001),
        ("srv/log", 1001, 1501),
        ("srv/box/inside", 2_001_010_688 + 33, 2_001_010_688),
    ] {
        tree.write(path, "1234");
        tree.chown(path, uid, gid);
    }
    symlink("/srv/charts/old", tree.path("srv/link")).unwrap();
    tree.chown("srv/link", 1500, 1001);
    Some(tree)
}

#[test]
fn orphans_are_what_the_systems_find_calls_so_but_for_containers() {
    let Some(tree) = with_strays("orphans_are_what_the_systems_find_calls_so") else { return };
    let run = tree.done("trace orphans");
    run.says("3 files, 8 bytes")
        .says("uid 1500           2 files")
        .says("gid 1501           1 file");
    run.says("not orphans: in live subordinate ranges");
    run.says("sunniva's subordinate ids 2001010688-2001076223: 33 in a container");
    let files = tree.done("trace orphans --files").stdout;
    assert_eq!(files, "/srv/charts/old\n/srv/link\n/srv/log\n");
    let null = tree.done("trace orphans /srv/charts --files --null").stdout;
    assert_eq!(null, "/srv/charts/old\0");
    let json = tree.json("trace orphans --files");
    assert_eq!((&json["files"], &json["paths"][2]), (&3.into(), &"/srv/log".into()));
    assert_eq!(json["in_ranges"][0]["id"], 2_001_010_721_u32);
    // The system's own answer, with the tree's files in the place of its own.
    let at = tree.root().display();
    let script = format!(
        "for file in passwd group; do mount --bind {at}/etc/$file /etc/$file; done
         find {at}/srv -nouser -o -nogroup | sort"
    );
    let Some(found) = in_namespace("what find calls orphans", &script) else { return };
    let theirs: Vec<&str> =
        found.stdout.lines().filter(|path| !path.ends_with("/inside")).collect();
    let ours: Vec<String> = files.lines().map(|path| format!("{at}{path}")).collect();
    assert_eq!(theirs, ours);
}

#[test]
fn a_user_is_traced_also_when_it_was_deleted() {
    let Some(tree) = with_strays("a_user_is_traced") else { return };
    tree.write("etc/sudoers", "tavish ALL=/bin/tides\n");
    tree.write("var/mail/tavish", "");
    let run = tree.done("trace user tavish");
    run.says("tavish, uid 1001").says("etc/sudoers:1").says("/var/mail/tavish bears the name");
    run.says("etc/group:8      pilots:x:210:tavish");
    let by_number = tree.done("trace user 1001 --files").stdout;
    assert!(by_number.contains("/srv/charts/new\n"), "{by_number}");
    tree.done("delete user tavish --files keep --yes");
    let run = tree.done("trace user tavish");
    run.says("nobody: it was tavish's, and is retired").says("/srv/charts");
    tree.done("purge user tavish --yes");
    tree.done("trace user tavish").says("nobody: it was tavish's, and is retired");
    tree.done("trace id 1001").says("gid 1001");
    tree.refused("trace user hesper", 3, "there is no user hesper");
}

#[test]
fn places_that_can_not_be_walked_are_refused() {
    let Some(tree) = with_strays("places_that_can_not_be_walked") else { return };
    symlink("charts", tree.path("srv/way")).unwrap();
    symlink("loop", tree.path("srv/loop")).unwrap();
    for (words, says) in [
        ("trace orphans /nowhere", "/nowhere does not exist"),
        ("trace orphans srv", "srv is not absolute"),
        ("trace orphans /srv/../../..", "goes through .."),
        ("trace orphans /srv/way/old", "goes through the link /srv/way"),
        ("trace orphans /srv/loop/x", "goes through the link /srv/loop"),
        ("trace id x", "\"x\" is no id"),
        ("trace id -- -4", "\"-4\" is no id"),
        ("reassign user 1500 nosuch --yes", "there is no user nosuch"),
        ("reassign user 1500 1500 --yes", "both are uid 1500"),
        ("reassign user 1500 65535 --yes", "uid 65535 is reserved"),
        ("reassign user root tavish --yes", "root's files are the system itself"),
        ("reassign user 0 tavish /srv --yes", "root's files are the system itself"),
        ("reassign user 1500 tavish /nowhere --yes", "/nowhere does not exist"),
        ("reassign user 1500 tavish /srv/way/x --yes", "goes through the link /srv/way"),
        ("reassign user 1500 tavish srv --yes", "srv is not absolute"),
        ("reassign user 1500 tavish", "there is no terminal to ask at"),
    ] {
        tree.refused(words, 3, says);
    }
    let run = tree.run("--format json trace orphans --files --null");
    assert_eq!(run.status, 2);
    assert!(run.stderr.contains("--null and --format json are two forms"), "{}", run.stderr);
}

#[test]
fn a_file_counts_once_however_often_its_path_is_named() {
    let Some(tree) = with_strays("a_file_counts_once") else { return };
    let paths = "/srv /srv/charts /srv/charts/old /srv/./charts/ /srv";
    let run = tree.done(&format!("trace orphans {paths}"));
    run.says("3 files, 8 bytes").says("1 file         4 bytes   /srv/charts\n");
    let files = tree.done(&format!("trace orphans --files {paths}")).stdout;
    assert_eq!(files, "/srv/charts/old\n/srv/link\n/srv/log\n");
    assert_eq!(tree.done("trace orphans --files /srv/charts/.").stdout, "/srv/charts/old\n");
    let run = tree.done("reassign user 1500 tavish /srv /srv/charts /srv/charts/old /srv -n");
    assert!(run.value("gives").starts_with("2 files, 4 bytes"), "{}", run.stdout);
}

#[test]
fn more_paths_can_be_named_than_files_held_open() {
    let Some(tree) = with_strays("more_paths_can_be_named") else { return };
    let mut words: Vec<String> = ["trace", "id", "1500", "--files"].map(String::from).into();
    for at in 0..90 {
        tree.write(&format!("srv/{at:02}/deep/log"), "1");
        tree.chown(&format!("srv/{at:02}/deep/log"), 1500, 1001);
        words.push(format!("/srv/{at:02}"));
    }
    let plain = tree.command(&words);
    let mut few = std::process::Command::new("sh");
    few.args(["-c", "ulimit -n 50; exec \"$@\"", "sh"]).arg(plain.get_program());
    let run = Run::of(few.args(plain.get_args()));
    assert_eq!((run.status, run.stderr.as_str()), (0, ""));
    let logs: Vec<String> = (0..90).map(|at| format!("/srv/{at:02}/deep/log\n")).collect();
    assert_eq!(run.stdout, logs.concat());
}

#[test]
fn files_are_given_away_and_given_back() {
    let Some(tree) = with_strays("files_are_given_away") else { return };
    std::fs::hard_link(tree.path("srv/charts/old"), tree.path("srv/also")).unwrap();
    tree.write("srv/tool", "x");
    tree.chown("srv/tool", 1500, 1001);
    tree.chmod("srv/tool", 0o4755);
    tree.chown("srv/charts", 1500, 0);
    let before = tree.snapshot();
    let dry = tree.done("reassign user 1500 tavish -n");
    assert!(dry.value("gives").starts_with("3 files, 1 byte"), "{}", dry.stdout);
    dry.says("2 with more names").says("the kernel clears the set-id bits of 1 file");
    let run = tree.done("reassign user 1500 tavish --yes");
    assert_eq!(run.value("gives"), dry.value("gives"));
    assert_eq!(run.stdout.matches("set-id bits").count(), 1);
    assert_eq!(tree.owner("srv/link"), (1001, 1001));
    assert_eq!(tree.owner("srv/charts"), (1001, 0));
    assert_eq!(tree.owner("srv/charts/old"), (1500, 1001));
    assert_eq!((tree.owner("srv/tool"), tree.mode("srv/tool")), ((1001, 1001), 0o755));
    // One that has changed hands since stays.
    tree.chown("srv/tool", 0, 0);
    tree.done("undo --yes");
    assert_eq!(tree.owner("srv/tool"), (0, 0));
    tree.chown("srv/tool", 1500, 1001);
    tree.chmod("srv/tool", 0o4755);
    assert_same(&before, &tree.snapshot());
    tree.done("reassign user 1500 tavish /srv/charts --hard-links --yes").says("2 files");
    assert_eq!(tree.owner("srv/also"), (1001, 1001));
    tree.done("delete user tavish --files keep --even-last-admin --yes");
    tree.done("reassign user tavish sunniva /srv/charts -n").says("tavish, uid 1001, deleted");
    tree.done("undo --yes");
    tree.done("reassign user 4711 tavish --yes").says("everything is so already");
    tree.done("reassign user 1500 4711 --yes").says("nobody has uid 4711");
}

#[test]
fn what_is_mounted_is_walked_if_it_is_local_and_once() {
    let Some(tree) = with_strays("what_is_mounted_is_walked") else { return };
    for directory in ["mnt", "again", "proc"] {
        std::fs::create_dir(tree.path(directory)).unwrap();
    }
    tree.chmod("srv", 0o755);
    let at = tree.root().display();
    let script = format!(
        "mount -t tmpfs none {at}/mnt; touch {at}/mnt/stray; chown 1500:0 {at}/mnt/stray
         mount --bind {at}/srv {at}/again; mount -t proc none {at}/proc
         $NEST --tree {at} trace orphans --files
         echo; $NEST --tree {at} trace orphans --files --stay"
    );
    let Some(run) = in_namespace("what_is_mounted_is_walked", &script) else { return };
    assert_eq!(run.status, 0, "{}", run.stderr);
    let both = "/mnt/stray\n/srv/charts/old\n/srv/link\n/srv/log\n";
    let stay = "/srv/charts/old\n/srv/link\n/srv/log\n";
    assert_eq!(run.stdout, format!("{both}\n{stay}"), "{}", run.stderr);
    assert!(run.stderr.contains("/again (shown elsewhere in the tree too)"), "{}", run.stderr);
    assert!(run.stderr.contains("/proc (proc)"), "{}", run.stderr);
}

#[test]
fn what_can_not_be_read_is_told() {
    if is_root() {
        return passed_over("what_can_not_be_read_is_told", "somebody who is not root");
    }
    let tree = TestTree::new();
    std::fs::create_dir(tree.path("srv")).unwrap();
    std::fs::set_permissions(tree.path("srv"), PermissionsExt::from_mode(0o000)).unwrap();
    let run = tree.done("trace orphans");
    assert!(run.stderr.contains("could not be read: /srv"), "{}", run.stderr);
    std::fs::set_permissions(tree.path("srv"), PermissionsExt::from_mode(0o755)).unwrap();
}

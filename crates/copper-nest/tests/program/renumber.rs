//! Other numbers: many at once, and what goes with one.

use std::os::unix::fs::{PermissionsExt, symlink};

use crate::commit::in_namespace;
use crate::harness::{
    CAPABILITY, TestTree, access_list, assert_same, attribute, has_program, is_root, passed_over,
    set_attribute,
};

const ACCESS: &str = "system.posix_acl_access";
const DEFAULT: &str = "system.posix_acl_default";

/// A capability to open low ports, in effect: two 64-bit sets, little-endian.
const LOW_PORTS: [u8; 20] = [1, 0, 0, 2, 0, 4, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];

/// Files of both users, of others, and of containers.
fn with_files(test: &str) -> Option<TestTree> {
    if !is_root() {
        passed_over(test, "root");
        return None;
    }
    let tree = TestTree::new();
    for (path, uid, gid) in [
        ("home/sunniva/chart", 1000, 1000),
        ("home/tavish/chart", 1001, 1001),
        ("srv/both", 1000, 1001),
        ("srv/pilots", 0, 210),
        ("srv/others", 0, 0),
        ("srv/named", 0, 0),
        ("srv/box", 2_001_010_688 + 7, 2_001_010_688),
        ("srv/tool", 1001, 1001),
        ("srv/port", 1001, 1001),
    ] {
        tree.write(path, path);
        tree.chown(path, uid, gid);
    }
    std::fs::hard_link(tree.path("home/tavish/chart"), tree.path("srv/chart")).unwrap();
    symlink("/etc/passwd", tree.path("srv/link")).unwrap();
    tree.chown("srv/link", 1001, 1001);
    tree.chmod("srv/tool", 0o6755);
    Some(tree)
}

fn table(tree: &TestTree, rows: &str) -> String {
    tree.write("../numbers.csv", format!("kind,name,id\n{rows}"));
    format!("renumber {}", tree.path("../numbers.csv").display())
}

#[test]
fn numbers_are_exchanged_with_everything_that_carries_them() {
    let Some(tree) = with_files("numbers_are_exchanged") else { return };
    let list = access_list(&[1000], &[1001]);
    let lists = set_attribute(&tree.path("srv/named"), ACCESS, &list);
    if !lists || !set_attribute(&tree.path("srv/port"), CAPABILITY, &LOW_PORTS) {
        return passed_over("numbers_are_exchanged", "access control lists and capabilities");
    }
    assert!(set_attribute(&tree.path("home/tavish"), DEFAULT, &access_list(&[1000, 1001], &[])));
    tree.append("etc/subuid", "1001:2001500000:10\n");
    let before = tree.snapshot();
    // A circle, and a group that many have.
    let rows = "user,sunniva,1001\nuser,tavish,1000\ngroup,pilots,2210\n";
    let words = table(&tree, rows);
    let dry = tree.done(&format!("{words} --even-service -n"));
    dry.says("  user    sunniva   1000   1001       3\n  user    tavish    1001   1000       5\n");
    dry.says("  group   pilots     210   2210       1\n")
        .says("  group   tavish    1001   1000       6\n");
    assert_eq!(dry.value("files").split(',').next(), Some("9 files"), "{}", dry.stdout);
    dry.says("2 users keep them").says("access control lists that name them");
    assert_same(&before, &tree.snapshot());
    let run = tree.done(&format!("{words} --even-service --yes"));
    assert!(run.value("files").starts_with("9 files, 69 bytes"), "{}", run.stdout);
    for (path, owner) in [
        ("home/sunniva", (1001, 1001)),
        ("home/sunniva/chart", (1001, 1001)),
        ("home/tavish", (1000, 1000)),
        ("srv/chart", (1000, 1000)),
        ("srv/both", (1001, 1000)),
        ("srv/pilots", (0, 2210)),
        ("srv/link", (1000, 1000)),
        ("srv/others", (0, 0)),
        ("srv/box", (2_001_010_695, 2_001_010_688)),
        ("etc/passwd", (0, 0)),
    ] {
        assert_eq!(tree.owner(path), owner, "{path}");
    }
    assert_eq!((tree.owner("srv/tool"), tree.mode("srv/tool")), ((1000, 1000), 0o6755));
    assert_eq!(attribute(&tree.path("srv/port"), CAPABILITY).unwrap(), LOW_PORTS);
    assert_eq!(attribute(&tree.path("srv/named"), ACCESS).unwrap(), access_list(&[1001], &[1000]));
    let inherited = attribute(&tree.path("home/tavish"), DEFAULT).unwrap();
    assert_eq!(inherited, access_list(&[1000, 1001], &[]), "they have changed places");
    assert_eq!(
        tree.line("etc/passwd", 5),
        "sunniva:x:1001:1001:Sunniva Hale:/home/sunniva:/bin/bash"
    );
    assert_eq!(tree.line("etc/group", 8), "pilots:x:2210:tavish");
    assert_eq!(tree.line("etc/subuid", 3), "1000:2001500000:10");
    // What was made since goes back too, and what was there with another owner stays.
    tree.write("home/tavish/later", "");
    tree.chown("home/tavish/later", 1000, 1000);
    tree.chown("srv/both", 0, 0);
    tree.done("undo --yes");
    assert_eq!(tree.owner("home/tavish/later"), (1001, 1001));
    assert_eq!(tree.owner("srv/both"), (0, 0));
    tree.remove("home/tavish/later");
    tree.chown("srv/both", 1000, 1001);
    assert_same(&before, &tree.snapshot());
    let retired = tree.read("var/lib/copper-nest/ids.json");
    assert!(!retired.contains("2210"), "no file carries it: {retired}");
}

#[test]
fn every_row_that_can_not_be_had_is_told_at_once_and_nothing_is_done() {
    let tree = TestTree::new();
    tree.done("create user maren");
    tree.done("delete user maren --yes");
    let before = tree.snapshot();
    let every = "\
user,sunniva,1001
user,sunniva,1500
user,tavis,1600
user,tavish,2001010700
group,slipway,65534
group,sudo,4294967295
group,mail,65535
group,users,1700
group,shadow,1700
user,root,5
group,nogroup,0
crew,x,7
user,daemon,x
";
    let words = table(&tree, every);
    let run = tree.run(&format!("{words} --yes"));
    assert_eq!(run.status, 3, "{}", run.stderr);
    for says in [
        "user sunniva is in",
        "there is no user tavis; the nearest is tavish",
        "uid 2001010700 lies in the subordinate range 2001010688-2001076223 of sunniva",
        "gid 65534 is reserved",
        "gid 4294967295 is reserved",
        "gid 65535 is reserved",
        "gid 1700 is users's already",
        "root is root by its uid",
        "gid 0 is root's",
        "\"crew\" is no kind",
        "\"x\" is no number",
    ] {
        assert!(run.stderr.contains(says), "no {says:?} in\n{}", run.stderr);
    }
    assert_same(&before, &tree.snapshot());
    // Who is in no row keeps a number.
    let words = table(&tree, "user,sunniva,1001\n");
    tree.refused(&words, 3, "uid 1001 is tavish's (etc/passwd:6), and no row gives tavish another");
    // Retired numbers.
    let words = table(&tree, "user,sunniva,1002\n");
    let refused = tree.refused(&words, 3, "uid 1002 was maren's, and is retired");
    assert!(refused.stderr.contains("--reuse-id"), "{}", refused.stderr);
    tree.done(&format!("{words} --reuse-id -n")).says("uid 1002 was maren's");
    // An own group that parts from its user.
    let words = table(&tree, "user,sunniva,1500\ngroup,sunniva,1501\n");
    tree.refused(&words, 3, "sunniva's own group gets gid 1501, and the user uid 1500");
    tree.done(&format!("{words} --keep-gid -n")).says("group   sunniva   1000   1501");
    tree.refused("renumber /nowhere.csv", 3, "/nowhere.csv can't be read");
    tree.refused("renumber /etc/passwd", 3, "can't be told how /etc/passwd is written");
    let words = table(&tree, "user,sunniva,1500\n");
    tree.refused(&format!("{words} --paths /nowhere"), 3, "/nowhere does not exist");
    tree.refused(&words, 3, "there is no terminal to ask at");
    let words = table(&tree, "user,sunniva,1000\n");
    tree.done(&words).says("everything is so already");
    assert_eq!(tree.run("renumber").status, 2);
    assert_same(&before, &tree.snapshot());
}

#[test]
fn numbers_are_those_of_another_tree() {
    let Some(tree) = with_files("numbers_are_those_of_another_tree") else { return };
    let other = TestTree::new();
    let swap = |path: &str, text: &str| {
        let text = text.replace(":1000:1000:", ":N:N:").replace(":1001:1001:", ":1000:1000:");
        let text = text.replace(":N:N:", ":1001:1001:");
        other.write(path, text.replace("pilots:x:210:", "pilots:x:2210:"));
    };
    swap("etc/passwd", &tree.read("etc/passwd"));
    let group = tree.read("etc/group").replace("sunniva:x:1000:", "sunniva:x:N:");
    let group = group.replace("tavish:x:1001:", "tavish:x:1000:").replace(":N:", ":1001:");
    swap("etc/group", &format!("{group}elsewhere:x:4711:\n"));
    let like = format!("renumber --like {}", other.root().display());
    let run = tree.done(&format!("{like} --even-service --yes"));
    run.says("1 not here");
    assert_eq!(tree.owner("home/sunniva"), (1001, 1001));
    assert_eq!(tree.owner("srv/pilots"), (0, 2210));
    tree.done(&like).says("everything is so already");
    tree.done("undo --yes");
    let run = tree.done(&format!("{like} --except pilots -n"));
    assert!(!run.stdout.contains("2210"), "{}", run.stdout);
    let json = tree.json(&format!("{like} --except pilots -n"));
    let first = &json["numbers"][0];
    assert_eq!((&first["kind"], &first["name"]), (&"user".into(), &"sunniva".into()));
    assert_eq!((&first["old"], &first["new"]), (&1000.into(), &1001.into()));
    assert_eq!(first["files"], 3);
    tree.refused("renumber --like /nowhere", 3, "/nowhere");
}

#[test]
fn what_is_mounted_is_renumbered_and_what_can_not_be_written_is_told() {
    let Some(tree) = with_files("what_is_mounted_is_renumbered") else { return };
    for directory in ["mnt", "closed", "proc"] {
        std::fs::create_dir(tree.path(directory)).unwrap();
    }
    let words = table(&tree, "user,tavish,1500\n");
    let at = tree.root().display();
    let script = format!(
        "for at in mnt closed; do
           mount -t tmpfs none {at}/$at; touch {at}/$at/file; chown 1001:1001 {at}/$at/file; done
         mount -o remount,ro {at}/closed; mount -t proc none {at}/proc
         $NEST --tree {at} {words} --paths /srv --yes
         $NEST --tree {at} undo --yes -q
         $NEST --tree {at} {words} --stay --yes -q
         stat -c %u {at}/mnt/file {at}/srv/tool
         $NEST --tree {at} undo --yes -q
         $NEST --tree {at} {words} --yes
         stat -c %u:%g {at}/mnt/file {at}/closed/file {at}/srv/tool"
    );
    let Some(run) = in_namespace("what_is_mounted_is_renumbered", &script) else { return };
    assert_eq!(run.status, 0, "{}", run.stderr);
    assert!(run.stdout.ends_with("1500:1500\n1001:1001\n1500:1500\n"), "{}", run.stdout);
    assert!(run.stdout.contains("\n1001\n1500\n"), "--stay entered a mount: {}", run.stdout);
    run.says("/closed (tmpfs, read-only)").says("/proc (proc)");
}

#[test]
fn what_nobody_can_change_is_told_and_all_the_rest_is_done() {
    let Some(tree) = with_files("what_nobody_can_change_is_told") else { return };
    let fixed = tree.path("srv/tool");
    let mark = |flag: &str| {
        let marked = std::process::Command::new("chattr").arg(flag).arg(&fixed).output();
        marked.is_ok_and(|marked| marked.status.success())
    };
    if !has_program("chattr") || !mark("+i") {
        return passed_over("what_nobody_can_change_is_told", "files that can be made immutable");
    }
    let words = table(&tree, "user,tavish,1500\n");
    let run = tree.run(&format!("{words} --yes"));
    mark("-i");
    assert_eq!(run.status, 0, "{}", run.stderr);
    run.says("1 file could not be given other numbers");
    run.says("/srv/tool (Operation not permitted)");
    assert_eq!((tree.owner("srv/tool").0, tree.owner("srv/port").0), (1001, 1500));
}

#[test]
fn who_shares_a_number_leaves_the_files_with_it() {
    let Some(tree) = with_files("who_shares_a_number") else { return };
    tree.append("etc/passwd", "keeper:x:1001:1001::/home/tavish:/bin/sh\n");
    let words = table(&tree, "user,tavish,1500\n");
    let run = tree.done(&format!("{words} --keep-gid --yes"));
    run.says("uid 1001 stays keeper's: whose the files are can't be told");
    assert_eq!(tree.owner("home/tavish"), (1001, 1001));
    tree.done("undo --yes");
    // Both at once are no exchange, and the files go along.
    let words = table(&tree, "user,tavish,1500\nuser,keeper,1500\n");
    tree.done(&format!("{words} --keep-gid --yes"));
    assert_eq!(tree.owner("home/tavish"), (1500, 1001));
}

#[test]
fn an_own_group_goes_along_with_a_new_uid() {
    let Some(tree) = with_files("an_own_group_goes_along") else { return };
    let caps = set_attribute(&tree.path("home/tavish/chart"), CAPABILITY, &LOW_PORTS);
    tree.remove("srv/chart");
    tree.chmod("home/tavish/chart", 0o4755);
    let before = tree.snapshot();
    let run = tree.done("change user tavish --uid 1500");
    run.says("was 1001: the group of its own goes along");
    run.says("3 files elsewhere still carry uid 1001");
    assert_eq!(tree.line("etc/group", 11), "tavish:x:1500:");
    assert_eq!(tree.owner("home/tavish/chart"), (1500, 1500));
    assert_eq!(tree.mode("home/tavish/chart"), 0o4755, "its set-id bit is its own");
    if caps {
        assert!(attribute(&tree.path("home/tavish/chart"), CAPABILITY).is_some());
    }
    tree.write("home/tavish/later", "");
    tree.chown("home/tavish/later", 1500, 1500);
    tree.done("undo --yes");
    assert_eq!(tree.owner("home/tavish/later"), (1001, 1001), "what was made since goes back");
    tree.remove("home/tavish/later");
    assert_same(&before, &tree.snapshot());
    tree.done("change user tavish --uid 1500 --keep-gid").says("keeps its number");
    assert_eq!(tree.owner("home/tavish"), (1500, 1001));
    tree.done("undo --yes");
    tree.done("create group crew --gid 1500");
    let way = "change user tavish --uid 1500 --keep-gid";
    let refused = tree.refused("change user tavish --uid 1500", 3, "gid 1500 is the group crew's");
    assert!(refused.stderr.contains(way), "{}", refused.stderr);
    // Moved and renumbered at once, and both taken back.
    tree.done("change user tavish --uid 1600 --home /srv/tavish");
    assert_eq!(tree.owner("srv/tavish/chart"), (1600, 1600));
    tree.done("undo --yes");
    tree.done("undo --yes");
    assert_same(&before, &tree.snapshot());
}

#[test]
fn a_gid_goes_with_the_homes_of_all_who_are_in_the_group() {
    let Some(tree) = with_files("a_gid_goes_with_the_homes") else { return };
    tree.write("home/tavish/log", "");
    tree.chown("home/tavish/log", 1001, 210);
    let before = tree.snapshot();
    let run = tree.done("change group pilots --gid 215 --even-service");
    run.says("/home/tavish").says("1 file elsewhere still carries gid 210");
    assert_eq!((tree.owner("home/tavish/log"), tree.owner("srv/pilots")), ((1001, 215), (0, 210)));
    tree.done("trace group 210").says("1 file").says("nobody: it was pilots's, and is retired");
    tree.done("reassign group 210 pilots --yes").says("their owners stay");
    assert_eq!(tree.owner("srv/pilots"), (0, 215));
    tree.done("undo --yes");
    tree.done("undo 1 --even-service --yes");
    assert_same(&before, &tree.snapshot());
}

#[test]
fn an_account_is_traced_and_given_away_by_both_its_numbers() {
    let Some(tree) = with_files("an_account_is_traced_and_given_away") else { return };
    let before = tree.snapshot();
    let as_user = tree.done("trace user tavish").stdout;
    assert_eq!(tree.done("trace account tavish").stdout, as_user);
    let run = tree.done("reassign account tavish sunniva /srv -n");
    run.says("4 files").says("uid 1001 and gid 1001").says("3 by their owner, 4 by their group");
    tree.done("reassign account tavish sunniva /srv --hard-links --yes");
    assert_eq!(tree.owner("srv/both"), (1000, 1000));
    assert_eq!(tree.owner("srv/link"), (1000, 1000));
    assert_eq!(tree.owner("home/tavish"), (1001, 1001));
    assert_eq!((tree.owner("srv/tool").0, tree.mode("srv/tool")), (1000, 0o755));
    tree.done("undo --yes");
    tree.chmod("srv/tool", 0o6755);
    assert_same(&before, &tree.snapshot());
    tree.done("delete user tavish --files keep --yes");
    tree.done("reassign account tavish sunniva /srv -n").says("deleted");
    tree.done("reassign group tavish slipway /srv --yes").says("gid 1001, deleted");
    assert_eq!(tree.owner("srv/both"), (1000, 211));
    for (words, says) in [
        ("reassign group pilots pilots --yes", "both are gid 210"),
        ("reassign group nosuch pilots --yes", "there is no group nosuch"),
        ("reassign group 0 pilots --yes", "root's files are the system itself"),
        ("reassign account sunniva nobody --yes", "nobody has no group of its own"),
        ("trace group nosuch", "there is no group nosuch"),
    ] {
        tree.refused(words, 3, says);
    }
    assert_eq!(tree.run("reassign tavish sunniva").status, 2);
}

#[test]
fn a_tree_of_somebody_else_leads_nowhere() {
    let Some(tree) = with_files("a_tree_of_somebody_else") else { return };
    let outside = crate::harness::folder();
    std::fs::write(outside.path().join("file"), "").unwrap();
    std::os::unix::fs::chown(outside.path().join("file"), Some(1001), Some(1001)).unwrap();
    symlink(outside.path(), tree.path("home/tavish/way")).unwrap();
    let words = table(&tree, "user,tavish,1500\n");
    tree.done(&format!("{words} --yes"));
    let metadata = std::fs::metadata(outside.path().join("file")).unwrap();
    assert_eq!(std::os::unix::fs::MetadataExt::uid(&metadata), 1001);
    assert!(metadata.permissions().mode() & 0o400 != 0);
}

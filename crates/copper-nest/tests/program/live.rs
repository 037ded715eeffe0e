//! The running system: a mount namespace in which the tree stands for `/etc`,
//! `/home` and `/var`, so that the program takes it for the machine's own.

use crate::commit::in_namespace;
use crate::harness::{Run, TestTree};

const BIND: &str = "
for directory in etc home var; do mount --bind $TREE/$directory /$directory; done
NEST=\"$NEST --state $TREE/../state\"
";

/// Runs a script with the tree in the place of the machine's own files.
fn live(test: &str, tree: &TestTree, script: &str) -> Option<Run> {
    tree.write("etc/nsswitch.conf", "passwd: files\ngroup: files\nshadow: files\n");
    let at = tree.root().display();
    in_namespace(test, &format!("TREE={at}\n{BIND}\n{script}"))
}

#[test]
fn your_own_account_is_guarded() {
    let tree = TestTree::new();
    let script = "
        export SUDO_UID=1001
        $NEST suspend user tavish && exit 9
        $NEST password user tavish --none && exit 9
        $NEST change user tavish --expires +9d && exit 9
        $NEST suspend user tavish --even-me";
    let Some(run) = live("your_own_account_is_guarded", &tree, script) else { return };
    assert_eq!(run.status, 0, "{}", run.stderr);
    assert_eq!(run.stderr.matches("it is your own account").count(), 3, "{}", run.stderr);
    run.says("done: change 1.");
    let record = std::fs::read_to_string(tree.root().join("../state/changes/1.json")).unwrap();
    assert!(record.contains("\"uid\": 1001,\n    \"name\": \"tavish\""), "{record}");
}

#[test]
fn who_is_at_work_is_named_and_can_be_ended() {
    let tree = TestTree::new();
    let script = "
        setpriv --reuid 1001 --clear-groups sleep 300 &
        sleep 0.3
        $NEST rename user tavish torben && exit 9
        $NEST change user tavish --uid 1500 && exit 9
        $NEST change user tavish --home /home/new && exit 9
        $NEST suspend user tavish --end-processes
        wait";
    let Some(run) = live("who_is_at_work_is_named", &tree, script) else { return };
    assert_eq!(run.status, 0, "{}", run.stderr);
    assert_eq!(run.stderr.matches("1 process runs under it").count(), 3, "{}", run.stderr);
    assert!(run.stderr.contains("sleep 300"), "{}", run.stderr);
    run.says("1 process (").says("--end-processes ends it");
}

#[test]
fn the_systems_log_gets_a_line_a_change_and_no_secret() {
    let tree = TestTree::new();
    let listener = "import os, socket, sys
s = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM); s.bind(sys.argv[1]); s.settimeout(20)
open(sys.argv[2], 'w').close()
with open(sys.argv[2] + '.lines', 'w') as out:
    for _ in range(3): print(s.recv(4096).decode(), file=out, flush=True)";
    tree.write("listen.py", listener);
    let script = "
        mkdir $TREE/../dev
        mount -t tmpfs none $TREE/../dev
        for device in null urandom; do touch $TREE/../dev/$device; mount --bind /dev/$device $TREE/../dev/$device; done
        python3 $TREE/listen.py $TREE/../dev/log $TREE/../listening &
        while [ ! -e $TREE/../listening ]; do sleep 0.05; done
        mount --rbind $TREE/../dev /dev
        $NEST -q create user maren
        echo 'kelp-Harbour.91 tern' | $NEST -q password user maren --from-stdin
        $NEST -q undo 1 --yes && exit 9
        $NEST --tree $TREE -q change user maren --full-name Maren
        wait";
    let Some(run) = live("the_systems_log", &tree, script) else { return };
    assert_eq!(run.status, 0, "{}", run.stderr);
    let lines = std::fs::read_to_string(tree.root().join("../listening.lines")).unwrap();
    let lines: Vec<&str> = lines.lines().collect();
    assert!(lines[0].starts_with("<85>Nov 24 06:00:00 copper-nest["), "{lines:?}");
    assert!(lines[0].ends_with("change 1 by root (uid 0): create user maren"), "{lines:?}");
    assert!(lines[1].ends_with("change 2 by root (uid 0): password user maren"), "{lines:?}");
    assert!(lines[2].contains(&format!(" in {}: change user maren", tree.root().display())));
    assert!(!lines.concat().contains("kelp") && !lines.concat().contains("$y$"));
}

#[test]
fn a_place_that_can_not_hold_the_home_leaves_all_as_it_was() {
    let tree = TestTree::new();
    tree.write("home/tavish/chart", vec![b'x'; 300_000]);
    let before = tree.snapshot();
    let at = tree.root().display();
    for options in ["size=100k", "ro"] {
        let script = format!(
            "mkdir -p {at}/srv; mount -t tmpfs -o {options} none {at}/srv
             $NEST --tree {at} change user tavish --home /srv/tavish"
        );
        let Some(run) = in_namespace("a_place_that_can_not_hold_the_home", &script) else { return };
        assert_eq!(run.status, 6, "{}", run.stderr);
        assert!(run.stderr.contains("all is as it was"), "{}", run.stderr);
        std::fs::remove_dir(tree.path("srv")).unwrap();
        crate::harness::assert_same(&before, &tree.snapshot());
    }
}

//! Programs that read the account files while they are being changed.

use std::os::unix::fs::MetadataExt;
use std::sync::atomic::{AtomicBool, Ordering};

use crate::harness::{TestTree, is_sampled};
use crate::killed::fault_in;

/// Reads the files one after the other until `done`; returns how often it could
/// judge them, and what it found wrong.
fn read_on(tree: &TestTree, done: &AtomicBool) -> (usize, Option<String>) {
    let read = |name: &str| std::fs::read_to_string(tree.path(name)).unwrap();
    let inode = || tree.path("etc/passwd").metadata().unwrap().ino();
    let mut judged = 0;
    while !done.load(Ordering::Relaxed) {
        let before = (inode(), read("etc/passwd"));
        let (shadow, group) = (read("etc/shadow"), read("etc/group"));
        // Who reads three files in turn can only judge those of one moment.
        if (inode(), read("etc/passwd")) != before {
            continue;
        }
        judged += 1;
        let fault = fault_in(&before.1, &shadow, &group);
        if fault.is_some() {
            return (judged, fault);
        }
    }
    (judged, None)
}

#[test]
fn a_reader_in_a_loop_never_meets_half_a_user() {
    let tree = TestTree::new();
    let done = AtomicBool::new(false);
    std::thread::scope(|scope| {
        let reader = scope.spawn(|| read_on(&tree, &done));
        let changes = if is_sampled(1, 4) { 100 } else { 25 };
        for round in 0..changes {
            let name = format!("crew{round}");
            tree.done(&format!("-q create user {name} --join pilots --ranges none"));
            tree.done(&format!("-q rename user {name} mate{round}"));
            tree.done(&format!("-q change user mate{round} --primary users"));
            tree.done("-q undo --yes");
            tree.done("-q undo --yes");
            if reader.is_finished() {
                break;
            }
        }
        done.store(true, Ordering::Relaxed);
        let (judged, fault) = reader.join().unwrap();
        assert_eq!(fault, None, "after {judged} looks");
        assert!(judged > changes, "only {judged} looks");
    });
}

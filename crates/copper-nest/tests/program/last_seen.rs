//! When accounts were last signed in, by the logs of the tree.

use std::fs::File;
use std::os::unix::fs::FileExt;

use crate::harness::TestTree;

/// The system's log with a place for each uid.
pub const BY_UID: &str = "var/log/lastlog";
/// The database that took its place.
const DATABASE: &str = "var/lib/lastlog/lastlog2.db";

/// Seconds of 2026-06-01 08:30 in UTC, and of the year before.
const JUNE: i64 = 1_780_302_600;
const EARLIER: i64 = JUNE - 365 * 86_400;

/// A record of wtmp as a machine of today writes it; the other way round where it is `swapped`.
fn record(kind: u16, name: &str, at: i64, from: &str, swapped: bool) -> Vec<u8> {
    let mut record = vec![0; 384];
    let mut put = |place: usize, bytes: &[u8]| {
        let mut bytes = bytes.to_vec();
        if swapped {
            bytes.reverse();
        }
        record[place..place + bytes.len()].copy_from_slice(&bytes);
    };
    put(0, &kind.to_le_bytes());
    put(4, &4711_u32.to_le_bytes());
    put(340, &u32::try_from(at).unwrap().to_le_bytes());
    for (place, text) in [(8, "pts/3"), (44, name), (76, from)] {
        record[place..place + text.len()].copy_from_slice(text.as_bytes());
    }
    record
}

fn log_by_uid(tree: &TestTree, uid: u64, at: i64) {
    std::fs::create_dir_all(tree.path("var/log")).unwrap();
    let file =
        File::options().create(true).truncate(false).write(true).open(tree.path(BY_UID)).unwrap();
    let mut record = vec![0; 292];
    record[..4].copy_from_slice(&u32::try_from(at).unwrap().to_le_bytes());
    record[4..8].copy_from_slice(b"tty1");
    file.write_all_at(&record, uid * 292).unwrap();
}

fn seen(tree: &TestTree, name: &str) -> String {
    let run = tree.done(&format!("show user {name}"));
    let line = run.stdout.lines().find(|line| line.trim_start().starts_with("last seen")).unwrap();
    line.trim_start()["last seen".len()..].trim().to_owned()
}

#[test]
fn never_seen_and_no_log_are_told_apart() {
    let tree = TestTree::new();
    assert_eq!(seen(&tree, "sunniva"), "not known: no log of sign-ins is kept here");
    assert_eq!(tree.json("show user sunniva")["last_seen_known"], false);
    tree.refused("list users --unseen 30", 3, "no log of sign-ins is kept here");
    log_by_uid(&tree, 1000, JUNE);
    assert_eq!(seen(&tree, "sunniva"), "2026-06-01 08:30 on tty1");
    assert_eq!(seen(&tree, "tavish"), "never, as far as the logs go");
    let shown = tree.json("show user sunniva");
    assert_eq!(shown["last_seen"]["time"], "2026-06-01T08:30:00Z");
    let unseen = |days: &str| {
        let run = tree.done(&format!("list users --unseen {days}"));
        run.stdout
            .lines()
            .map(|line| line.split('\t').next().unwrap().to_owned())
            .collect::<Vec<_>>()
    };
    assert_eq!(unseen("30"), ["sunniva", "tavish"]);
    assert_eq!(unseen("3000"), ["tavish"]);
    let row = tree.done("list users").stdout;
    assert!(row.lines().next().unwrap().ends_with("\t2026-06-01"), "{row}");
    assert!(row.lines().nth(1).unwrap().ends_with("\tnever"), "{row}");
}

#[test]
fn the_latest_of_all_logs_counts_whichever_machine_wrote_them() {
    for swapped in [false, true] {
        let tree = TestTree::new();
        let mut text = record(2, "reboot", EARLIER, "", swapped);
        text.extend(record(7, "tavish", EARLIER, "10.20.0.7", swapped));
        text.extend(record(7, "sunniva", JUNE, "quay.example", swapped));
        text.extend(record(7, "tavish", EARLIER + 86_400, "10.20.0.8", swapped));
        text.extend(b"cut off");
        tree.write("var/log/wtmp", text);
        tree.write("var/log/wtmp.1", record(7, "sunniva", EARLIER, "old.example", swapped));
        assert_eq!(seen(&tree, "sunniva"), "2026-06-01 08:30 on pts/3 from quay.example");
        assert_eq!(seen(&tree, "tavish"), "2025-06-02 08:30 on pts/3 from 10.20.0.8");
        log_by_uid(&tree, 1000, JUNE + 60);
        assert_eq!(seen(&tree, "sunniva"), "2026-06-01 08:31 on tty1");
    }
}

#[test]
fn databases_are_read_and_damaged_ones_are_told() {
    let tree = TestTree::new();
    let make = |path: &str, script: &str| {
        std::fs::create_dir_all(tree.path(path).parent().unwrap()).unwrap();
        let database = rusqlite::Connection::open(tree.path(path)).unwrap();
        database.execute_batch(script).unwrap();
    };
    make(
        DATABASE,
        &format!(
            "CREATE TABLE Lastlog2 (Name TEXT PRIMARY KEY, Time INTEGER, TTY TEXT, RemoteHost TEXT, Service TEXT);
             INSERT INTO Lastlog2 VALUES ('sunniva', {EARLIER}, 'pts/1', '10.20.0.9', 'sshd'), ('tavish', NULL, NULL, NULL, NULL);"
        ),
    );
    let before = tree.snapshot();
    assert_eq!(seen(&tree, "sunniva"), "2025-06-01 08:30 on pts/1 from 10.20.0.9");
    assert_eq!(seen(&tree, "tavish"), "never, as far as the logs go");
    // Nothing is written beside it, not even a journal of the database's own.
    crate::harness::assert_same(&before, &tree.snapshot());
    make(
        "var/lib/wtmpdb/wtmp.db",
        &format!(
            "CREATE TABLE wtmp (ID INTEGER PRIMARY KEY, Type INTEGER, User TEXT, Login INTEGER, Logout INTEGER, TTY TEXT, RemoteHost TEXT, Service TEXT);
             INSERT INTO wtmp VALUES (1, 3, 'sunniva', {JUNE}000000, NULL, 'tty2', NULL, 'login'), (2, 3, 'sunniva', {EARLIER}000000, NULL, 'tty9', 'x', 'login'), (3, 1, 'boot', {JUNE}000000, NULL, '~', NULL, NULL);"
        ),
    );
    assert_eq!(seen(&tree, "sunniva"), "2026-06-01 08:30 on tty2");
    // One of a newer form, and one that is torn.
    make("var/lib/wtmpdb/wtmp.db", "ALTER TABLE wtmp RENAME COLUMN Login TO Since;");
    tree.write(DATABASE, "SQLite format 3\0 and no more");
    let told = seen(&tree, "sunniva");
    assert!(told.starts_with(&format!("not known: {DATABASE} can't be read: ")), "{told}");
    assert!(told.contains("var/lib/wtmpdb/wtmp.db can't be read: "), "{told}");
    std::fs::remove_file(tree.path("var/lib/wtmpdb/wtmp.db")).unwrap();
    std::fs::create_dir(tree.path("var/lib/wtmpdb/wtmp.db")).unwrap();
    assert!(seen(&tree, "sunniva").contains("is a directory, not a file"));
}

#[test]
fn a_sparse_log_of_very_many_uids_is_read_at_once() {
    let tree = TestTree::new();
    log_by_uid(&tree, 1000, JUNE);
    // Some 400 GB of apparent size.
    log_by_uid(&tree, 1_400_000_000, EARLIER);
    let begun = std::time::Instant::now();
    assert_eq!(seen(&tree, "sunniva"), "2026-06-01 08:30 on tty1");
    assert!(begun.elapsed().as_secs() < 30);
    tree.append("etc/passwd", "far:x:1400000000:100::/nonexistent:/bin/sh\n");
    assert_eq!(seen(&tree, "far"), "2025-06-01 08:30 on tty1");
}

#[test]
fn whoever_is_signed_in_is_told() {
    let tree = TestTree::new();
    let mut text = record(7, "sunniva", JUNE, "10.20.0.7", false);
    text.extend(record(8, "", JUNE, "", false));
    tree.write("run/utmp", text);
    tree.done("show user sunniva")
        .says("signed in   now, since 2026-06-01 08:30 on pts/3 from 10.20.0.7");
    assert_eq!(tree.json("show user tavish")["signed_in"].as_array().unwrap().len(), 0);
    let session = |name: &str, rest: &str| {
        tree.write(
            &format!("run/systemd/sessions/{name}"),
            format!("# a session\nUID=1001\n{rest}"),
        );
    };
    session(
        "7",
        &format!("USER=tavish\nCLASS=user\nSTATE=active\nTTY=tty2\nREALTIME={JUNE}123456\n"),
    );
    session("8", "USER=tavish\nCLASS=manager\nSTATE=active\n");
    session("9", "USER=tavish\nCLASS=user\nSTATE=closing\n");
    let shown = tree.json("show user tavish");
    assert_eq!(shown["signed_in"].as_array().unwrap().len(), 1);
    assert_eq!(shown["signed_in"][0]["terminal"], "tty2");
}

#[test]
fn check_tells_of_people_unseen_for_longer_than_the_policy_says() {
    let tree = TestTree::new();
    log_by_uid(&tree, 1000, EARLIER);
    let found = || tree.json("check --only unseen --allow-skipped");
    assert_eq!(found()["findings"].as_array().unwrap().len(), 0);
    tree.write("etc/copper-nest/policy.toml", "[check]\nunseen_days = 180\n");
    let report = found();
    let message = report["findings"][0]["message"].as_str().unwrap();
    assert!(message.starts_with("sunniva was last signed in on 2025-06-01, "), "{message}");
    tree.write("etc/copper-nest/policy.toml", "[check]\nunseen_days = 3000\n");
    assert_eq!(found()["findings"].as_array().unwrap().len(), 0);
    tree.write("etc/copper-nest/policy.toml", "[check]\nunseen_days = \"seldom\"\n");
    assert!(
        tree.run("check").stderr.contains("check.unseen_days: this has to be a number of days")
    );
    tree.write("etc/copper-nest/policy.toml", "[check]\nunseen_days = 180\n");
    tree.remove(BY_UID);
    assert!(found()["skipped"][0]["why"].as_str().unwrap().contains("no log of sign-ins"));
}

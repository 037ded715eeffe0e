//! Who may know an account besides the account files, and what may only be missing for now.

use crate::harness::TestTree;

/// A tree in which somebody is everywhere but in the account files.
fn with_odile() -> TestTree {
    let tree = TestTree::new();
    tree.write("etc/group", tree.read("etc/group").replace("users:x:100:", "users:x:100:odile"));
    tree.write("etc/gshadow", tree.read("etc/gshadow").replace("users:*::", "users:*:odile:odile"));
    tree.append("etc/subuid", "odile:2001200000:10\n");
    tree.append("etc/subgid", "odile:2001200000:10\n");
    tree.write("var/mail/odile", "a letter\n");
    std::fs::create_dir_all(tree.path("home/odile")).unwrap();
    tree.write("etc/sudoers", "odile ALL=(ALL) ALL\n");
    tree
}

/// What is found of her, and what could not be judged.
fn told(tree: &TestTree) -> (Vec<String>, Vec<String>) {
    let report = tree.json("check --allow-skipped");
    let of = |list: &str, key: &str| -> Vec<String> {
        let all = report[list].as_array().unwrap().iter();
        all.map(|one| one[key].as_str().unwrap().to_owned()).collect()
    };
    (of("findings", "rule"), of("skipped", "rule"))
}

const RULES: [&str; 7] = [
    "ghost-admin",
    "ghost-member",
    "home-orphan",
    "mail-orphan",
    "name-without-account",
    "range-orphan",
    "range-orphan",
];

#[test]
fn whom_other_files_know_is_no_ghost_and_leaves_no_orphan() {
    if !crate::harness::is_root() {
        return crate::harness::passed_over(
            "whom_other_files_know_is_no_ghost_and_leaves_no_orphan",
            "root, to give files owners",
        );
    }
    let tree = with_odile();
    let mut found = told(&tree).0;
    found.sort();
    assert_eq!(found, RULES);
    let record = "{\"userName\": \"odile\", \"uid\": 60123, \"realName\": \"Odile Marsh\"}";
    for (path, text) in [
        ("etc/userdb/odile.user", record),
        ("usr/lib/userdb/60123.user", record),
        ("usr/lib/passwd", "odile:x:60123:100:Odile Marsh:/home/odile:/bin/bash\n"),
        ("var/lib/extrausers/passwd", "odile:x:60123:100::/home/odile:/bin/bash\n"),
        ("var/lib/systemd/home/odile.identity", "{\"userName\": \"odile\"}"),
    ] {
        let tree = with_odile();
        tree.write(path, text);
        assert_eq!(told(&tree), (vec![], vec![]), "{path}");
        // Nor does repair touch what is hers.
        tree.done("repair --yes").says("nothing was changed");
    }
}

#[test]
fn where_a_directory_may_know_anybody_all_rules_alike_are_passed_over() {
    if !crate::harness::is_root() {
        return crate::harness::passed_over(
            "where_a_directory_may_know_anybody_all_rules_alike_are_passed_over",
            "root, to give files owners",
        );
    }
    for (file, text, why) in [
        ("etc/passwd", "+\n", "etc/passwd:7 brings in accounts of a directory"),
        ("etc/nsswitch.conf", "passwd: files ldap\n", "etc/nsswitch.conf asks ldap for users too"),
        (
            "etc/userdb/broken.user/x",
            "",
            "etc/userdb/broken.user, which may know more users, is a directory, not a file",
        ),
    ] {
        let tree = with_odile();
        match file {
            "etc/passwd" => tree.append(file, text),
            _ => tree.write(file, text),
        }
        let (found, mut skipped) = told(&tree);
        assert!(found.iter().all(|rule| rule == "compat-line"), "{found:?}");
        skipped.sort();
        skipped.dedup();
        let rules = [
            "ghost-admin",
            "ghost-member",
            "home-orphan",
            "mail-orphan",
            "name-without-account",
            "range-orphan",
        ];
        assert_eq!(skipped, rules, "{file}");
        let run = tree.run("check");
        assert_eq!(run.status, 1, "what could not be judged is told");
        assert!(run.stderr.contains(why), "{}", run.stderr);
        tree.done("repair --yes").says("nothing was changed");
    }
}

#[test]
fn a_primary_group_is_known_elsewhere_by_its_number_alone() {
    let tree = TestTree::new();
    let passwd = tree.read("etc/passwd").replace("tavish:x:1001:1001:", "tavish:x:1001:4711:");
    tree.write("etc/passwd", passwd);
    assert_eq!(told(&tree).0, ["no-primary-group", "empty-group"]);
    // Another group of the same name is not the one.
    tree.write("usr/lib/group", "tavish:x:4712:\n");
    assert_eq!(told(&tree).0, ["no-primary-group", "empty-group"]);
    tree.write("usr/lib/group", "harbour:x:4711:\n");
    assert_eq!(told(&tree).0, ["empty-group"]);
}

#[test]
fn homes_that_come_with_a_mount_are_not_missing() {
    if !crate::harness::is_root() {
        return crate::harness::passed_over(
            "homes_that_come_with_a_mount_are_not_missing",
            "root, to give files owners",
        );
    }
    for (path, text, why) in [
        ("etc/fstab", "# disks\n/dev/sdb1  /home  ext4  defaults  0 2\n", "etc/fstab:2"),
        ("etc/auto.master", "/home  /etc/auto.home\n", "etc/auto.master:1"),
        ("etc/systemd/system/home.mount", "[Mount]\nWhat=/dev/sdb1\nWhere=/home\n", "home.mount"),
    ] {
        let tree = TestTree::new();
        std::fs::remove_dir(tree.path("home/tavish")).unwrap();
        assert_eq!(told(&tree).0, ["missing-home"]);
        tree.write(path, text);
        assert_eq!(told(&tree), (vec![], vec!["missing-home".to_owned()]), "{path}");
        let run = tree.run("check");
        assert!(run.stderr.contains("1 home may come later, first /home/tavish"), "{}", run.stderr);
        assert!(run.stderr.contains(why), "{}", run.stderr);
    }
    // A direct map names the homes themselves.
    let tree = TestTree::new();
    std::fs::remove_dir(tree.path("home/tavish")).unwrap();
    tree.write("etc/auto.master", "/- auto.direct\n");
    tree.write("etc/auto.direct", "/home/tavish store:/tavish\n");
    assert_eq!(told(&tree).1, ["missing-home"]);
}

#[test]
fn ranges_of_containers_and_of_root_are_as_they_are_meant() {
    let tree = TestTree::new();
    for file in ["etc/subuid", "etc/subgid"] {
        tree.append(file, "containers:2147483648:65536\nroot:1000:1\nroot:2001010688:65536\n");
    }
    assert_eq!(told(&tree).0, [""; 0]);
    tree.write("etc/containers/storage.conf", "root-auto-userns-user = \"pods\"\n");
    tree.append("etc/subuid", "pods:2300000000:65536\nbins:2400000000:65536\n");
    assert_eq!(told(&tree).0, ["range-orphan"]);
}

#[test]
fn a_file_that_shrank_since_the_last_change_is_told_and_mends_nothing() {
    let tree = TestTree::new();
    for at in 0..12 {
        tree.done(&format!("create user hand{at} --no-home --ranges none"));
    }
    let whole = tree.read("etc/passwd");
    // Half of it went by another hand: of groups, so that no other file lacks a line.
    let groups = tree.read("etc/group");
    let some: String = groups.lines().take(10).map(|line| format!("{line}\n")).collect();
    tree.write("etc/group", &some);
    let run = tree.run("check --files-only");
    run.says("etc/group: warning shrunk-file: ");
    let before = [tree.read("etc/gshadow"), tree.read("etc/passwd")];
    tree.run("repair --yes");
    assert_eq!([tree.read("etc/gshadow"), tree.read("etc/passwd")], before);
    tree.write("etc/group", groups);
    tree.write("etc/passwd", whole);
    assert_eq!(tree.run("check --files-only").stdout, "");
}

//! A table that is the truth: what becomes of those whom it does not name, what rows say of
//! accounts that exist, and notes of changes.

use std::collections::BTreeMap;

use crate::harness::{TestTree, assert_same, lives_in_the_tree, paste};

const CREW: [&str; 14] = [
    "maren", "corwin", "isolde", "perrin", "brannoc", "odalys", "hesper", "fenja", "runa", "aldis",
    "torvin", "ylva", "edda", "sorrel",
];

/// A yescrypt hash of some password.
const HASH: &str = "$y$j9T$TQrrklxsv3nFULfgn4vfq1$uF6Yp8T5sCFlkFK8AI5yNLvAOEZl4Pn70F8hFaZBvz2";

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Is {
    In,
    Suspended,
    Deleted,
}

/// What the tree says about everybody who ever was in the table.
fn found(tree: &TestTree, uids: &BTreeMap<&str, String>) -> BTreeMap<String, Is> {
    let (passwd, shadow) = (tree.read("etc/passwd"), tree.read("etc/shadow"));
    let of = |name: &str| {
        let line = passwd.lines().find(|line| line.starts_with(&format!("{name}:")));
        let Some(line) = line else { return Is::Deleted };
        // Whoever comes back has the number that was theirs.
        assert_eq!(line.split(':').nth(2), Some(uids[name].as_str()), "{name}");
        let line = shadow.lines().find(|line| line.starts_with(&format!("{name}:"))).unwrap();
        if line.split(':').nth(7) == Some("1") { Is::Suspended } else { Is::In }
    };
    uids.keys().map(|name| ((*name).to_owned(), of(name))).collect()
}

#[test]
fn after_each_week_of_a_year_the_tree_is_what_the_table_says() {
    if lives_in_the_tree("a year of tables") {
        return;
    }
    let tree = TestTree::new();
    let path = tree.root().with_file_name("crew.csv");
    let mut chance = 42_u64;
    let mut below = |bound: u64| {
        chance =
            chance.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (chance >> 33) % bound
    };
    let mut uids: BTreeMap<&str, String> = BTreeMap::new();
    let mut model: BTreeMap<String, Is> = BTreeMap::new();
    for week in 0..52 {
        let mut table = String::from("Name;Full Name\nsunniva;\ntavish;\n");
        let named: Vec<&str> = CREW.into_iter().filter(|_| below(3) > 0).collect();
        for name in &named {
            table += &format!("{name};{} of the ferries\n", name.to_uppercase());
        }
        std::fs::write(&path, &table).unwrap();
        let others = if week % 7 < 4 { "suspend" } else { "delete" };
        let words = format!(
            "-q intake {} --existing update --others {others} --not-more-than 14 --yes",
            path.display()
        );
        tree.done(&words);
        let passwd = tree.read("etc/passwd");
        for name in &named {
            let line = passwd.lines().find(|line| line.starts_with(&format!("{name}:"))).unwrap();
            uids.entry(name).or_insert_with(|| line.split(':').nth(2).unwrap().to_owned());
            model.insert((*name).to_owned(), Is::In);
        }
        for (name, is) in &mut model {
            if named.contains(&name.as_str()) {
                continue;
            }
            *is = match (others, *is) {
                ("suspend", Is::In) => Is::Suspended,
                ("suspend", is) => is,
                _ => Is::Deleted,
            };
        }
        assert_eq!(found(&tree, &uids), model, "week {week}:\n{table}");
        let before = tree.snapshot_with_state();
        let again = tree.done(&words.replace("-q ", ""));
        again.says("everything is so already: nothing was changed");
        assert_same(&before, &tree.snapshot_with_state());
    }
    let mut numbers: Vec<&String> = uids.values().collect();
    numbers.sort();
    numbers.dedup();
    assert_eq!(numbers.len(), uids.len(), "a number was given twice");
    assert_eq!(
        tree.done("check --files-only --allow-skipped").stdout.matches(" error ").count(),
        0
    );
}

/// A tree, and a table beside it.
fn with(table: &str) -> (TestTree, String) {
    let tree = TestTree::new();
    let path = tree.root().with_file_name("crew.csv");
    std::fs::write(&path, table).unwrap();
    (tree, path.display().to_string())
}

#[test]
fn a_table_that_is_cut_off_empties_no_server() {
    let (tree, path) = with("name\nsunniva\n");
    for at in 0..40 {
        tree.append("etc/passwd", format!("hand{at}:x:{}:100::/:/bin/sh\n", 3000 + at));
        tree.append("etc/shadow", format!("hand{at}:!:20600::::::\n"));
    }
    let before = tree.snapshot();
    let words = format!("intake {path} --existing keep --others suspend --yes");
    let refused = tree.refused(&words, 3, "41 of 42 accounts would be suspended");
    assert!(refused.stderr.contains("the table may be cut off"), "{}", refused.stderr);
    assert_same(&before, &tree.snapshot());
    let way = refused.ways().into_iter().find(|way| way.contains("--not-more-than 41"));
    assert_eq!(paste(&way.unwrap()).status, 0);
    assert!(tree.read("etc/shadow").contains("hand7:!:20600:::::1:"));
}

#[test]
fn who_administers_is_not_left_out_unasked() {
    let (tree, path) = with("name\ntavish\n");
    let before = tree.snapshot();
    for others in ["suspend", "delete"] {
        let words = format!("intake {path} --existing keep --others {others} --yes");
        tree.refused(&words, 3, "--even-last-admin");
        assert_same(&before, &tree.snapshot());
    }
    // Only some groups are the table's.
    let words = format!("intake {path} --existing keep --others suspend --among slipway --yes");
    tree.done(&words).says("everything is so already");
    tree.refused(&format!("intake {path} --others tell"), 2, "--existing keep");
    let words = format!("intake {path} --existing keep --others tell --among nosuch");
    tree.refused(&words, 3, "there is no group nosuch");
}

#[test]
fn of_two_who_were_called_so_the_one_who_is_named_comes_back() {
    if lives_in_the_tree("a table after deletions") {
        return;
    }
    let (tree, path) = with("name,full_name\nsunniva,\ntavish,\nmaren,Maren Solvik\n");
    for (full_name, uid) in
        [("Maren Solvik", "1500"), ("Maren Rowe", "1501"), ("Maren Solvik", "1502")]
    {
        let made =
            tree.run_words(&["create", "user", "maren", "--full-name", full_name, "--uid", uid]);
        assert_eq!(made.status, 0, "{}", made.stderr);
        tree.done("-q delete user maren --yes");
    }
    let words = format!("intake {path} --existing keep --others delete --yes");
    tree.done(&words).says("restored");
    assert!(tree.read("etc/passwd").contains("maren:x:1502:1502:Maren Solvik:"));
    // Somebody else of that name is new.
    tree.done("-q delete user maren --yes");
    std::fs::write(&path, "name,full_name\nsunniva,\ntavish,\nmaren,Maren Vale\n").unwrap();
    tree.done(&words).says("1 new");
    assert!(tree.read("etc/passwd").contains(":Maren Vale:"));
    // Where it can't be told who is kept, nobody is made anew.
    let before = tree.snapshot();
    std::fs::write(&path, "name\nsunniva\ntavish\nmaren\nisolde\n").unwrap();
    let kept = tree.path("var/lib/copper-nest/retired/user");
    let aside = kept.with_file_name("aside");
    std::fs::rename(&kept, &aside).unwrap();
    std::os::unix::fs::symlink(&aside, &kept).unwrap();
    let refused = tree.run(&words);
    assert_eq!(refused.status, 3, "{}", refused.stdout);
    assert_same(&before, &tree.snapshot());
}

#[test]
fn a_row_means_what_it_says_of_accounts_that_exist() {
    let (tree, path) = with("name,join,admin,must_change\nsunniva,none,,\ntavish,none,no,yes\n");
    tree.write(
        "etc/group",
        tree.read("etc/group").replace("sudo:x:27:sunniva", "sudo:x:27:sunniva,tavish"),
    );
    tree.write(
        "etc/gshadow",
        tree.read("etc/gshadow").replace("sudo:*::sunniva", "sudo:*::sunniva,tavish"),
    );
    let words = format!("intake {path} --existing update -v");
    tree.refused(&words, 3, "--even-last-admin");
    let said = tree.done(&format!("{words} --even-last-admin"));
    said.says("leaves").says("as the row says").says("must be changed");
    let group = tree.read("etc/group");
    assert!(group.contains("sudo:x:27:\n") && group.contains("pilots:x:210:\n"), "{group}");
    assert!(tree.read("etc/shadow").contains("tavish:!$6$Gullhaven2$0123456789abcdef:0:"));
    tree.done(&format!("{words} --even-last-admin")).says("everything is so already");
    // What can't be done is said.
    std::fs::write(&path, "name,home\nsunniva,none\n").unwrap();
    tree.refused(&words, 3, "sunniva has a home, /home/sunniva");
    std::fs::write(&path, format!("name,password_hash\nsunniva,{HASH}\n")).unwrap();
    tree.done(&words).says("asks for what stays as it is, the password");
    // Nobody in a group, and nobody administering it.
    std::fs::write(&path, "name,member,group_admin\nslipway,tavish;sunniva,sunniva\n").unwrap();
    tree.done(&words).says("1 changed").says("joins").says("new admins");
    assert!(tree.read("etc/group").contains("slipway:x:211:tavish,sunniva"));
    std::fs::write(&path, "name,member,group_admin\nslipway,none,none\n").unwrap();
    tree.done(&words).says("leave").says("no admins");
    assert!(tree.read("etc/gshadow").contains("slipway:!::\n"));
    // Kept, and told where they differ; one person is not made twice.
    std::fs::write(&path, "name,uid,full_name\nsunniva,4711,Runa Vik\n").unwrap();
    tree.done(&format!("intake {path} --existing keep"))
        .says("sunniva is passed over, and is not as its row says")
        .says("uid 1000, not 4711");
    std::fs::write(&path, "full_name\nSunniva Hale\n").unwrap();
    tree.refused(&format!("intake {path}"), 3, "sunniva is called Sunniva Hale already");
}

#[test]
fn a_note_stays_with_its_change() {
    let tree = TestTree::new();
    let run = tree.run_words(&["create", "user", "maren", "--note", "HR-412: starts on Monday"]);
    assert_eq!(run.status, 0, "{}", run.stderr);
    tree.done("create user corwin --note hr-413");
    tree.done("show change 1").says("note        HR-412: starts on Monday");
    let listed = tree.done("list changes --note HR-41").stdout;
    assert_eq!(listed.lines().count(), 2, "{listed}");
    let listed = tree.done("list changes --note hr-412").stdout;
    assert!(listed.ends_with("\tHR-412: starts on Monday\n"), "{listed}");
    assert_eq!(tree.json("show change 2")["note"], "hr-413");
    tree.done("undo 2 --yes --note mistake");
    assert_eq!(tree.json("show change 3")["note"], "mistake");
    tree.refused("list users --note x", 2, "goes with a change");
    let run = tree.run_words(&["create", "user", "isolde", "--note", "two\nlines"]);
    assert_eq!(run.status, 2, "{}", run.stderr);
}

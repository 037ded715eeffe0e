//! What `export` writes makes the same accounts somewhere else: nothing is lost, or it is said.

use std::collections::BTreeSet;
use std::fmt::Write as _;

use crate::harness::{TestTree, is_root, passed_over};
use crate::stock::FAMILIES;

const FILES: [&str; 6] =
    ["etc/passwd", "etc/shadow", "etc/group", "etc/gshadow", "etc/subuid", "etc/subgid"];

/// The lines of a file, in order.
fn lines(tree: &TestTree, path: &str) -> Vec<String> {
    if !tree.exists(path) {
        return Vec::new();
    }
    let mut lines: Vec<String> = tree.read(path).lines().map(str::to_owned).collect();
    lines.sort();
    lines
}

/// A tree with the lines alone of those whom each system has a number for, root and nobody, of
/// another tree's files, and with what that has beside them.
fn with_root_alone(tree: &TestTree) -> TestTree {
    let bare = tree.copy();
    for path in FILES {
        if tree.exists(path) {
            let text = tree.read(path);
            let is_given = |name: &str| ["root", "nobody", "nogroup"].contains(&name);
            let of_root = text.lines().filter(|line| is_given(line.split(':').next().unwrap()));
            bare.write(
                path,
                of_root.fold(String::new(), |mut all, line| {
                    _ = writeln!(all, "{line}");
                    all
                }),
            );
        }
    }
    bare
}

/// Writes users and groups of a tree as tables, and takes them in where root is alone. Returns
/// that tree, and what was said to be left out.
fn moved(tree: &TestTree, form: &str) -> (TestTree, String) {
    let bare = with_root_alone(tree);
    let tables = crate::harness::folder();
    let [users, groups] =
        ["users", "groups"].map(|name| tables.path().join(format!("{name}.{form}")));
    let mut left_out = String::new();
    for (what, path) in [("users", &users), ("groups", &groups)] {
        let words = format!("export {what} --kind all --with-hashes --to {}", path.display());
        let run = tree.run(&words);
        assert_eq!(run.status, i32::from(!run.stderr.is_empty()), "{}", run.stderr);
        left_out += &run.stderr;
    }
    let words = format!(
        "intake {} {} --existing update --no-home --even-service --even-root",
        groups.display(),
        users.display()
    );
    let run = bare.run(&words);
    assert_eq!(run.status, 0, "{}\n{}", run.stdout, run.stderr);
    (bare, left_out)
}

#[test]
fn stock_systems_are_the_same_elsewhere() {
    if !is_root() {
        return passed_over("stock_systems_are_the_same_elsewhere", "root, to own what homes hold");
    }
    let mut told = BTreeSet::new();
    for family in FAMILIES {
        let tree = family.tree();
        if !tree.exists("etc/shadow") {
            continue;
        }
        if !tree.exists("etc/gshadow") {
            let group = tree.read("etc/group");
            let secret = |line: &str| {
                let fields: Vec<&str> = line.split(':').collect();
                let mark = if fields[2].len() < 4 { "*" } else { "!" };
                format!("{}:{mark}::{}\n", fields[0], fields[3])
            };
            tree.write("etc/gshadow", group.lines().map(secret).collect::<String>());
        }
        for form in ["csv", "json", "toml"] {
            let (there, left_out) = moved(&tree, form);
            if !left_out.is_empty() {
                told.insert(family.name);
                continue;
            }
            for path in FILES {
                assert_eq!(
                    lines(&tree, path),
                    lines(&there, path),
                    "{} {path} {form}",
                    family.name
                );
            }
        }
    }
    // Members who are accounts of another source, or of none; and password fields of passwd.
    let expected = [
        "Alpine",
        "Fedora CoreOS and other image-based systems",
        "a minimal image with a few programs",
    ];
    assert_eq!(told.into_iter().collect::<Vec<_>>(), expected);
}

/// A tree of people with everything that an account can have.
fn with_everything() -> TestTree {
    let tree = TestTree::new();
    for words in [
        "create group divers --gid 1400 --group-admin sunniva --member sunniva",
        "create user maren --no-home --expires 2031-03-31 --shell /bin/sh --uid 1500",
        "create user odile --no-home --uid 1600 --ranges none --primary divers --join slipway",
        "create user perrin --home /home/perrin --uid 1700",
        "create user hesper --no-home --uid 1500 --share-id --primary users --ranges none",
        "change user maren --password-hold 3 --password-renew 200 --password-remind 14 --password-late 9",
        "suspend user maren --reason 'on leave; back in spring'",
    ] {
        let words = shell_words::split(words).unwrap();
        assert_eq!(tree.run_words(&words).status, 0, "{words:?}");
    }
    let passwd = tree.read("etc/passwd");
    let gecos = [
        (
            "::/nonexistent:/bin/sh",
            ":Maren Solvik,Quay 3,+47 555 01,,berth 4, pier 2:/nonexistent:/bin/sh",
        ),
        (":Sunniva Hale:", ":Sunniva Hale,,,:"),
    ];
    let passwd = gecos.iter().fold(passwd, |text, (from, to)| text.replacen(from, to, 1));
    tree.write("etc/passwd", passwd);
    let shadow = tree.read("etc/shadow");
    // Somebody who left long ago, and a hash that was made a while ago.
    let shadow =
        shadow.replacen("$0123456789abcdef:20602", &format!("${}:20502", "a".repeat(86)), 1);
    tree.write("etc/shadow", shadow.replacen(":30:20900:", ":30:19000:", 1));
    tree.write("home/perrin/.ssh/authorized_keys", crate::harness::KEY);
    let gshadow = tree.read("etc/gshadow");
    let hash = format!("slipway:$5$Gullhaven2${}:", "b".repeat(43));
    tree.write("etc/gshadow", gshadow.replacen("slipway:!:", &hash, 1));
    tree
}

#[test]
fn people_are_the_same_elsewhere() {
    let tree = with_everything();
    for form in ["csv", "json", "toml"] {
        let (there, left_out) = moved(&tree, form);
        assert_eq!(left_out, "", "{form}");
        for path in FILES {
            assert_eq!(lines(&tree, path), lines(&there, path), "{path} {form}");
        }
        // Resumed, they are as before.
        for tree in [&tree.copy(), &there] {
            tree.done("show user maren").says("on leave; back in spring");
            tree.done("resume user maren").says("expires on 2031-03-31");
        }
    }
    // Taken in once more nothing is changed.
    let (there, _) = moved(&tree, "csv");
    let table = there.path("home.csv");
    let words = format!("export users --with-hashes --to {}", table.display());
    there.done(&words);
    let before = there.snapshot();
    there
        .done(&format!("intake {} --existing update --no-home", table.display()))
        .says("as they were");
    crate::harness::assert_same(&before, &there.snapshot());
}

#[test]
fn keys_and_details_are_rows_of_a_table() {
    let tree = with_everything();
    let run = tree.done("export users perrin --with-keys --as json");
    assert_eq!(run.json()[0]["ssh_key"], crate::harness::KEY.trim());
    let run = tree.done("export users maren --as json");
    let row = &run.json()[0];
    for (column, value) in [
        ("room", "Quay 3"),
        ("phone_work", "+47 555 01"),
        ("other", "berth 4, pier 2"),
        ("suspended", "on leave; back in spring"),
        ("expires", "2031-03-31"),
    ] {
        assert_eq!(row[column], value, "{row}");
    }
    assert_eq!((&row["hold"], &row["renew"], &row["late"]), (&3.into(), &200.into(), &9.into()));
    // People and the groups that they are in go together.
    let groups = tree.done("export groups").stdout;
    for (group, is_there) in [("sudo,27", true), ("divers,1400", true), ("tidegauge", false)] {
        assert_eq!(groups.contains(group), is_there, "{groups}");
    }
    let table = tree.path("crew.csv");
    std::fs::write(
        &table,
        "name,room,phone_home,hold,late,suspended,expires\n\
         sunniva,Bridge,none,2,none,,\n\
         odile,,,,,harbour closed,\n\
         maren,none,,,,no,\n\
         wendel,,,,30,left,2020-01-01\n",
    )
    .unwrap();
    let words = format!("intake {} --existing update --no-home -v", table.display());
    let run = tree.done(&words);
    run.says("Bridge").says("harbour closed");
    assert!(run.stdout.contains("wendel is made expired"), "{}", run.stdout);
    assert!(tree.read("etc/passwd").contains(":Sunniva Hale,Bridge,,:"));
    assert!(tree.read("etc/passwd").contains(":Maren Solvik,,+47 555 01,,berth 4, pier 2:"));
    tree.done("show user odile").says("harbour closed");
    let shadow = tree.read("etc/shadow");
    assert!(shadow.lines().any(|line| line.starts_with("wendel:!:") && line.ends_with(":30:1:")));
    assert!(
        shadow.lines().any(|line| line.starts_with("sunniva:$y$") && line.ends_with(":2::7:::"))
    );
    let again = tree.snapshot();
    tree.done(&words).says("as they were");
    crate::harness::assert_same(&again, &tree.snapshot());
    tree.done("undo --yes");
}

#[test]
fn what_no_table_holds_is_said_and_the_status_tells_it() {
    let tree = TestTree::new();
    tree.append("etc/passwd", "odd;one:x:1300:100::/home/o:/bin/sh\n");
    let run = tree.run("export users");
    assert_eq!(run.status, 1);
    assert!(run.stderr.contains("left out: odd;one: the name holds a semicolon"), "{}", run.stderr);
    assert!(!run.stdout.contains("odd"), "{}", run.stdout);
    let table = tree.path("crew.csv");
    for (header, value, says) in [
        ("changed", "+3d", "is no day"),
        ("changed", "2026-13-01", "is no day"),
        ("hold", "-1", "is no number of days"),
        ("renew", "many", "is no number of days"),
        ("room", "a:b", "the room holds a colon"),
        ("phone_work", "\"1,2\"", "the phone work holds a comma"),
        ("gecos", "a:b", "the gecos holds a colon"),
        ("share_id", "perhaps", "is neither yes nor no"),
        ("password_hash", "!$6$short", "the hash"),
        ("password_hash", "anchor", "the hash"),
    ] {
        std::fs::write(&table, format!("name,{header}\nwendel,{value}\n")).unwrap();
        tree.refused(&format!("intake {}", table.display()), 3, says);
    }
}

//! What is said, where it was wrong or nothing was: of groups, numbers and tables.

use crate::harness::TestTree;

#[test]
fn a_number_that_is_given_for_a_name_leads_on() {
    let tree = TestTree::new();
    for words in [
        "regroup 1001 --join users",
        "change user 1001 --shell /bin/sh",
        "suspend user 1001",
        "rename user 1001 torben",
        "password user 1001 --none",
        "delete user 1001 --yes",
    ] {
        // Each way round is pasted, and leads on.
        let refused = tree.refused(words, 3, "there is no user 1001");
        let ways = refused.ways();
        let by_name = words.replace("1001", "tavish");
        assert!(ways.iter().any(|way| way.ends_with(&by_name)), "{ways:?}");
    }
    tree.refused("regroup 7777 --join users", 3, "see them all");
}

#[test]
fn whose_primary_group_it_is_is_in_it_already() {
    let tree = TestTree::new();
    let run = tree.done("change group tavish --add-member tavish");
    assert_eq!(run.value("in already"), "tavish it is the primary group");
    run.says("nothing was changed");
    assert!(tree.read("etc/group").contains("\ntavish:x:1001:\n"));
}

#[test]
fn who_is_in_another_group_of_that_number_is_in_it() {
    let tree = TestTree::new();
    tree.append("etc/group", "crew:x:210:sunniva\n");
    tree.append("etc/gshadow", "crew:!::sunniva\n");
    for group in ["pilots", "crew", "210"] {
        let run = tree.done(&format!("list users --in {group}"));
        let names: Vec<&str> =
            run.stdout.lines().filter_map(|line| line.split('\t').next()).collect();
        assert_eq!(names, ["sunniva", "tavish"], "{group}");
    }
}

#[test]
fn lines_that_can_not_be_read_are_told_beside_a_list() {
    let tree = TestTree::new();
    for (file, line) in
        [("etc/passwd", "maren\n"), ("etc/group", "crew:x\n"), ("etc/subuid", "tavish:5\n\n")]
    {
        tree.append(file, line);
    }
    let says = |words: &str, place: &str| {
        let run = tree.done(words);
        let said = format!("{place} can't be read, and is not listed");
        assert!(run.stderr.contains(&said), "{words}: {}", run.stderr);
    };
    says("list users", "etc/passwd:7");
    says("list groups", "etc/group:13");
    says("list ranges", "etc/subuid:3");
    says("list ids", "etc/passwd:7");
    says("list ids", "etc/subuid:3");
    let sound = TestTree::new();
    assert_eq!(sound.done("list ids").stderr, "");
}

#[test]
fn that_ids_are_avoided_is_said_where_none_is_left() {
    let tree = TestTree::new();
    let policy = "[people]\nids = \"1000-1005\"\n[ids]\navoid = [\"1002-1005\"]\n";
    tree.write("etc/copper-nest/policy.toml", policy);
    let refused = tree.refused("create user maren", 3, "4 of them are avoided, by ids.avoid");
    assert!(refused.stderr.contains("or avoid fewer"), "{}", refused.stderr);
    let taken = policy.replace("1005\"\n[", "1001\"\n[");
    tree.write("etc/copper-nest/policy.toml", taken);
    let refused = tree.refused("create user maren", 3, "no id is free in 1000-1001");
    assert!(!refused.stderr.contains("avoid"), "{}", refused.stderr);
}

#[test]
fn what_is_wrong_with_every_row_alike_is_told_once() {
    let tree = TestTree::new();
    std::fs::remove_dir_all(tree.path("etc/skel")).unwrap();
    let table = tree.root().with_file_name("crew.csv");
    std::fs::write(&table, "name\nada\nben\ncyd\n").unwrap();
    let words = format!("intake {}", table.display());
    let refused = tree.refused(&words, 3, "3 things are wrong");
    assert_eq!(refused.stderr.matches("the skeleton /etc/skel").count(), 1, "{}", refused.stderr);
    assert!(refused.stderr.contains("(in 2 other rows too)"), "{}", refused.stderr);
}

#[test]
fn an_intake_offers_only_what_it_has() {
    let tree = TestTree::new();
    let table = tree.root().with_file_name("crew.csv");
    std::fs::write(&table, "name,primary\ntavish,users\n").unwrap();
    let run = tree.done(&format!("intake {} --existing update --verbose", table.display()));
    assert_eq!(run.value("old files"), "keep gid 1001 in /home/tavish too");
    // Of services none can sign in, whatever their passwords.
    std::fs::write(&table, "name,shell\nmaren,/usr/sbin/nologin\n").unwrap();
    let run = tree.done(&format!("intake {}", table.display()));
    assert_eq!(run.value("sign-in"), "by no way: their shells let nobody in");
}

#[test]
fn a_file_of_first_passwords_is_there_only_with_passwords_in_it() {
    let tree = TestTree::new();
    let beside = |name: &str| tree.root().with_file_name(name);
    let (table, passwords) = (beside("crew.csv"), beside("first.csv"));
    std::fs::write(&table, "name\ntavish\n").unwrap();
    let (table, file) = (table.display(), passwords.display());
    let words = format!("intake {table} --existing keep --passwords-to {file}");
    tree.done(&words).says("no first passwords: nobody is new");
    assert!(!passwords.exists());
    // Nor is one left by whoever is killed before they are made.
    std::fs::write(beside("crew.csv"), "name\nmaren\n").unwrap();
    tree.done(&words).says("1 first password, readable for root alone");
    let text = std::fs::read_to_string(&passwords).unwrap();
    assert!(text.starts_with("name,password\nmaren,"), "{text}");
    tree.refused(&words.replace("keep", "update"), 3, "exists already, and is not overwritten");
}

#[test]
fn an_undo_of_an_undo_says_what_it_comes_to() {
    let tree = TestTree::new();
    tree.done("create user maren");
    tree.done("undo --yes");
    assert_eq!(tree.done("undo 2 --yes").value("comes to"), "create user maren, done again");
    let again = tree.done("undo 3 --yes");
    assert_eq!(again.value("comes to"), "create user maren, taken back again");
    let listed = tree.done("list changes").stdout;
    for line in [
        "\tundo 3: create user maren, taken back again\t",
        "\tundo 2: create user maren, done again\t",
        "\tundo 1: create user maren\t",
    ] {
        assert!(listed.contains(line), "{listed}");
    }
}

#[test]
fn a_purge_is_not_said_to_have_lines_to_take_back() {
    let tree = TestTree::new();
    tree.done("delete user tavish --yes");
    tree.done("purge user tavish --yes");
    let refused = tree.refused("undo 2 --yes", 3, "was purged, and nothing brings that back");
    assert!(!refused.stderr.contains("--lines-only"), "{}", refused.stderr);
}

#[test]
fn what_is_not_utf_8_is_escaped_for_machines_and_said_to_be() {
    let tree = TestTree::new();
    tree.append("etc/passwd", b"caf\xe9:x:1500:210:S\xf8lvi:/home/x\xe9:/bin/sh\n");
    tree.append("etc/shadow", b"caf\xe9:!:20600::::::\n");
    let shown = tree.json("show user 1500");
    assert_eq!(shown["name"], r"caf\xe9");
    assert_eq!(shown["full_name"], r"S\xf8lvi");
    assert_eq!(shown["home"]["path"], r"/home/x\xe9");
    assert_eq!(shown["escaped"], true);
    assert_eq!(tree.json("show group pilots")["primary_members"][0], r"caf\xe9");
    assert_eq!(tree.json("show group pilots")["escaped"], true);
    assert!(tree.json("show user tavish").get("escaped").is_none());
}

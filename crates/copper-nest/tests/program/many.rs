//! The same change on many trees.

use serde_json::Value;

use crate::harness::{Run, TestTree, folder};
use crate::people::typed;

/// Three trees; on the third there is somebody called maren.
fn trees() -> [TestTree; 3] {
    let trees = [TestTree::new(), TestTree::new(), TestTree::new()];
    trees[2].done("create user maren --no-home");
    trees
}

/// Runs a command on all of them.
fn on_all(trees: &[TestTree], words: &str) -> Run {
    let others: String =
        trees[1..].iter().map(|tree| format!("--tree {} ", tree.root().display())).collect();
    trees[0].run(&format!("{others}{words}"))
}

fn has(tree: &TestTree, name: &str) -> bool {
    tree.read("etc/passwd").contains(&format!("{name}:"))
}

#[test]
fn what_is_the_same_on_all_is_shown_once_and_each_tree_says_what_came_of_it() {
    let trees = trees();
    let before: Vec<_> = trees.iter().map(TestTree::snapshot).collect();
    let run = on_all(&trees, "create user perrin --no-home --dry-run");
    assert_eq!(run.status, 0, "{}{}", run.stdout, run.stderr);
    // The third has another next number.
    assert_eq!(run.stdout.matches("\ncreate user perrin\n").count() + 1, 2, "{}", run.stdout);
    run.says("on 2 trees: ").says("dry run: it could be done on 3 of 3 trees");
    assert!(trees.iter().zip(&before).all(|(tree, before)| tree.snapshot() == *before));
    let run = on_all(&trees, "create user perrin --no-home");
    assert_eq!(run.status, 0, "{}{}", run.stdout, run.stderr);
    let done: Vec<&str> = run.stdout.lines().filter(|line| line.starts_with("done  ")).collect();
    assert_eq!(done.len(), 3, "{}", run.stdout);
    assert!(done[0].ends_with("change 1") && done[2].ends_with("change 2"), "{done:?}");
    run.says("done on 3 of 3 trees. To take it back: the same trees, and undo.");
    assert!(trees.iter().all(|tree| has(tree, "perrin")));
    let run = on_all(&trees, "undo --yes");
    assert_eq!(run.status, 0, "{}{}", run.stdout, run.stderr);
    assert!(trees.iter().all(|tree| !has(tree, "perrin")) && has(&trees[2], "maren"));
}

#[test]
fn where_it_is_refused_the_others_are_done_and_the_status_says_so() {
    let trees = trees();
    let run = on_all(&trees, "create user maren --no-home");
    assert_eq!(run.status, 3, "{}", run.stdout);
    run.says("done on 2 of 3 trees; on 1 it was not.");
    run.complains("maren was not created: etc/passwd:7 already has a user of that name");
    assert!(trees.iter().all(|tree| has(tree, "maren")));
    let run = on_all(&trees, "create user solvi --no-home --format json");
    let lines: Vec<Value> =
        run.stdout.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!(lines.len(), 3);
    assert!(lines.iter().all(|line| line["document"] == "receipt" && line["dry_run"] == false));
    assert_eq!(lines[2]["tree"], trees[2].root().display().to_string());
    let run = on_all(&trees, "create user solvi --no-home --format json");
    let first: Value = serde_json::from_str(run.stdout.lines().next().unwrap()).unwrap();
    assert_eq!((run.status, &first["error"]["kind"]), (3, &"user-exists".into()));
}

#[test]
fn what_takes_something_away_is_asked_about_once() {
    let trees = trees();
    let before: Vec<_> = trees.iter().map(TestTree::snapshot).collect();
    let run = on_all(&trees, "delete user tavish --files keep");
    assert_eq!(run.status, 3, "{}", run.stdout);
    run.complains("there is no terminal to ask at");
    assert!(trees.iter().zip(&before).all(|(tree, before)| tree.snapshot() == *before));
    let words = format!(
        "delete user tavish --files keep --tree {} --tree {}",
        trees[1].root().display(),
        trees[2].root().display()
    );
    let Some(run) = typed(&trees[0], "no\\n", &words) else { return };
    assert_eq!(run.status, 3, "{}", run.stdout);
    run.says("Do this on 3 trees? yes or no [no]");
    assert!(trees.iter().zip(&before).all(|(tree, before)| tree.snapshot() == *before));
    let run = typed(&trees[0], "yes\\n", &words).unwrap();
    assert_eq!(run.status, 0, "{}", run.stdout);
    // That each keeps it under another number makes no other plan of it.
    run.says("on 3 trees: ");
    assert_eq!(run.stdout.matches("Do this").count(), 1, "{}", run.stdout);
    assert!(trees.iter().all(|tree| !has(tree, "tavish")));
    // Erasing is asked about by name, and not on several at once.
    let run = on_all(&trees, "delete user sunniva --files erase --even-last-admin");
    run.complains("say --yes where all of it is to go");
    assert!(trees.iter().all(|tree| has(tree, "sunniva")));
}

#[test]
fn trees_come_from_a_file_and_input_is_the_same_for_all() {
    let trees = trees();
    let place = folder();
    let list = place.path().join("trees");
    let lines: String = trees.iter().map(|tree| format!("{}\n", tree.root().display())).collect();
    std::fs::write(&list, format!("# images\n{lines}{lines}")).unwrap();
    let words = format!("--trees-from {} password user tavish --hashed --yes", list.display());
    // Of a made-up password.
    let hash = "$y$j9T$TQrrklxsv3nFULfgn4vfq1$uF6Yp8T5sCFlkFK8AI5yNLvAOEZl4Pn70F8hFaZBvz2";
    let run = trees[0].fed(&words, format!("{hash}\n").as_bytes());
    assert_eq!(run.status, 0, "{}{}", run.stdout, run.stderr);
    run.says("done on 3 of 3 trees");
    assert!(trees.iter().all(|tree| tree.read("etc/shadow").contains(&format!("tavish:{hash}:"))));
    let table = b"name,full_name\nperrin,Perrin Ash\n";
    let words = format!("--trees-from {} intake - --from csv --no-home", list.display());
    let run = trees[0].fed(&words, table);
    assert_eq!(run.status, 0, "{}{}", run.stdout, run.stderr);
    assert!(trees.iter().all(|tree| has(tree, "perrin")));
    for (words, says) in [
        ("password user tavish", "on several trees at once a password comes from standard input"),
        ("password user tavish --generate", "--generate is about one tree"),
        ("list users", "this command is about one tree: name one --tree"),
        ("recover", "this command is about one tree: name one --tree"),
    ] {
        let run = on_all(&trees, words);
        assert!(matches!(run.status, 2 | 3), "{words}: {}", run.status);
        assert!(run.stderr.contains(says), "{words}: {}", run.stderr);
    }
    std::fs::write(&list, "").unwrap();
    let words = format!("--trees-from {} create user odalys", list.display());
    trees[0].refused(&words, 3, "names no tree: one a line");
    let words = "--trees-from /no/such create user odalys";
    trees[0].refused(words, 3, "/no/such can't be read");
    trees[0].refused(
        "--trees-from /no/such list users",
        2,
        "--trees-from does nothing with list users",
    );
}

#[test]
fn a_tree_that_is_named_in_several_ways_is_one() {
    let trees = trees();
    let place = folder();
    let link = place.path().join("link");
    std::os::unix::fs::symlink(trees[0].root(), &link).unwrap();
    let dotted = trees[0].root().join(".");
    let words = format!("--tree {} --tree {}", link.display(), dotted.display());
    let run = trees[0].done(&format!("{words} create group gulls"));
    run.says("done: change 1");
    let words = format!("{words} --tree {}", trees[1].root().display());
    let run = trees[0].done(&format!("{words} create group terns"));
    run.says("done on 2 of 2 trees");
}

#[test]
fn a_tree_that_fails_in_the_middle_leaves_the_others_done() {
    let trees = trees();
    let broken = TestTree::new();
    broken.remove("etc/group");
    let all = [&trees[0], &broken, &trees[1]];
    let others: String =
        all[1..].iter().map(|tree| format!("--tree {} ", tree.root().display())).collect();
    let run = all[0].run(&format!("{others}create group gulls"));
    assert_eq!(run.status, 3, "{}{}", run.stdout, run.stderr);
    run.says("done on 2 of 3 trees; on 1 it was not.");
    assert!(trees[1].read("etc/group").contains("gulls:"));
}

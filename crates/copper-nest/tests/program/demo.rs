//! `demo`.

use crate::harness::{Run, is_root, program};

#[test]
fn the_demo_runs_a_day_and_leaves_the_tree() {
    let folder = crate::harness::folder();
    let at = folder.path().join("gullhaven");
    let run = Run::of(program().arg("demo").arg(&at));
    assert_eq!(run.status, 0, "{}", run.stderr);
    let shown = at.display();
    for words in [
        format!("$ copper-nest --tree {shown} list users"),
        format!(
            "$ copper-nest --tree {shown} create user maren --full-name 'Maren Solvik' --join pilots,slipway"
        ),
        "uid         1004          first never-used id in 1000-59999".to_owned(),
        "etc/passwd:17: error duplicate-uid: uid 1002 is also odalys (line 15)".to_owned(),
        "the password of maren, shown this once: ".to_owned(),
        "rename user odalys odile".to_owned(),
        "account    does not expire   as before it was suspended".to_owned(),
        "undone by 8".to_owned(),
        "groups    1 new     summer".to_owned(),
        "users     5 new     of 5 rows".to_owned(),
        "/harbour.toml: 4 decisions proposed, to be read and edited".to_owned(),
        "users      3 new, 1 as they were       of 6 rows".to_owned(),
        format!("The tree is yours to play with: {shown}"),
    ] {
        run.says(&words);
    }
    assert!(run.stderr.contains("odalys was not created"), "{}", run.stderr);
    assert!(run.stderr.contains("tidegauge would be out of use"), "{}", run.stderr);
    assert!(run.stderr.contains("nothing was taken in: 12 things are wrong"), "{}", run.stderr);
    let passwd = std::fs::read_to_string(at.join("etc/passwd")).unwrap();
    assert!(passwd.contains("maren:x:1004:1005:Maren Solvik-Rowe:/home/maren:/bin/bash\n"));
    // Nothing that stands there is overwritten.
    let again = Run::of(program().arg("demo").arg(&at));
    assert_eq!(again.status, 3);
    assert!(again.stderr.contains("is not empty, and is left alone"), "{}", again.stderr);
}

#[test]
fn the_shipped_tree_has_a_dozen_faults_and_no_more_than_meant() {
    let folder = crate::harness::folder();
    let at = folder.path().join("gullhaven");
    let run = Run::of(program().arg("demo").arg(&at).arg("--layout-only"));
    assert_eq!(run.status, 0, "{}", run.stderr);
    let run = Run::of(program().arg("--tree").arg(&at).args([
        "check",
        "--format",
        "json",
        "--allow-skipped",
    ]));
    let report = run.json();
    let mut rules: Vec<&str> = report["findings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|finding| finding["rule"].as_str().unwrap())
        .collect();
    rules.sort_unstable();
    let mut wanted = vec![
        "duplicate-gid",
        "duplicate-uid",
        "ghost-member",
        "malformed-line",
        "member-mismatch",
        "missing-home",
        "missing-shadow",
        "no-primary-group",
        "open-password",
        "overlapping-range",
        "overlapping-range",
        "range-orphan",
        "range-orphan",
        "second-root",
        "service-shell",
        "shadow-orphan",
    ];
    if is_root() {
        wanted.insert(2, "home-owner");
        wanted.sort_unstable();
    }
    assert_eq!(rules, wanted);
    assert_eq!(report["accepted"].as_array().unwrap().len(), 1);
}

#[test]
fn what_the_demo_would_do_is_told_without_doing_any_of_it() {
    let folder = crate::harness::folder();
    let at = folder.path().join("gullhaven");
    let run = Run::of(program().args(["demo", "--dry-run"]).arg(&at));
    assert_eq!(run.status, 0, "{}", run.stderr);
    let shown = at.display();
    run.says(&format!("would be laid out in {shown}."));
    run.says("commands would be run on it, and on nothing else:");
    run.says(&format!("    copper-nest --tree {shown} suspend user tidegauge\n"));
    assert!(!at.exists());
    let temporary = Run::of(program().args(["demo", "-n"]).env("TMPDIR", folder.path()));
    temporary.says("would be laid out in a new temporary folder.");
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0);
    // Nobody could press Enter.
    let step = Run::of(program().args(["demo", "--step"]).arg(&at));
    assert_eq!(step.status, 2, "{}", step.stdout);
    assert!(step.stderr.contains("nobody is at a terminal"), "{}", step.stderr);
    assert!(!at.exists());
}

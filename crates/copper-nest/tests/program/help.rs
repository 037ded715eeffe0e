//! The first minutes: help, versions, and a policy to begin with.

use crate::harness::{Run, TestTree, program};

/// The names of the commands below one, as its help lists them.
fn below(words: &[&str]) -> Vec<String> {
    let help = Run::of(program().args(words).arg("--help")).stdout;
    let listed = help.split("\nCommands:\n").nth(1).unwrap_or_default();
    let listed = listed.split("\n\n").next().unwrap_or_default();
    let name = |line: &str| {
        let word = line.strip_prefix("  ").filter(|rest| !rest.starts_with(' '))?;
        word.split(' ').next().map(str::to_owned)
    };
    listed.lines().filter_map(name).filter(|name| name != "help").collect()
}

#[test]
fn help_tells_what_a_command_is_about_from_what_goes_for_all() {
    let mut read = 0;
    let mut open: Vec<Vec<String>> = below(&[]).into_iter().map(|name| vec![name]).collect();
    while let Some(path) = open.pop() {
        let words: Vec<&str> = path.iter().map(String::as_str).collect();
        let help = Run::of(program().args(&words).arg("--help"));
        assert_eq!((help.status, help.stderr.as_str()), (0, ""), "{words:?}");
        let (own, for_all) =
            help.stdout.split_once("\nOptions for all commands:\n").unwrap_or((&help.stdout, ""));
        for option in ["tree", "state", "format", "dry-run", "note", "wait", "color"] {
            let shown = for_all.contains(&format!("--{option}"));
            assert!(!own.contains(&format!("      --{option} ")), "{words:?}");
            if below(&words).is_empty() {
                assert_eq!(shown, copper_nest::is_taken(&words, option), "{words:?} --{option}");
            }
        }
        // Whatever takes a value names it.
        for line in help.stdout.lines().filter(|line| line.trim_start().starts_with("--")) {
            assert!(!line.contains("<VALUE>"), "{words:?}: {line}");
        }
        open.extend(below(&words).into_iter().map(|name| [path.clone(), vec![name]].concat()));
        read += 1;
    }
    assert!(read > 40, "{read}");
}

#[test]
fn one_and_many_mean_the_same_command() {
    let tree = TestTree::new();
    for (one, other) in [
        ("list user", "list users"),
        ("list group", "list groups"),
        ("show users tavish", "show user tavish"),
        ("show groups pilots", "show group pilots"),
        ("export user", "export users"),
        ("create users maren odile --dry-run", "create user maren odile --dry-run"),
        (
            "delete groups slipway --dry-run --even-service",
            "delete group slipway --dry-run --even-service",
        ),
    ] {
        assert_eq!(tree.done(one).stdout, tree.done(other).stdout, "{one}");
    }
}

#[test]
fn a_build_says_which_it_is() {
    for words in [["--version", "--verbose"], ["-v", "--version"], ["-V", "-v"]] {
        let told = Run::of(program().args(words)).stdout;
        assert!(told.starts_with(concat!(
            "copper-nest ",
            env!("CARGO_PKG_VERSION"),
            "\ncommit   "
        )));
        assert!(told.contains("\nbuilt    ") && told.contains(", for "), "{told}");
    }
    let short = Run::of(program().arg("--version")).stdout;
    assert_eq!(short, concat!("copper-nest ", env!("CARGO_PKG_VERSION"), "\n"));
}

#[test]
fn the_policy_in_force_is_a_file_that_can_be_used() {
    let tree = TestTree::new();
    let policy = "[people]\nhome = \"/crew/{name}\"\nranges = 0\n[ids]\navoid = [\"5000-5999 theirs\"]\n\
                  [check]\nseverity = { \"empty-group\" = \"off\" }\n";
    tree.write("etc/copper-nest/policy.toml", policy);
    let values = |shown: serde_json::Value| {
        let all = shown.as_array().unwrap().clone();
        all.into_iter().map(|one| (one["key"].clone(), one["value"].clone())).collect::<Vec<_>>()
    };
    let before = values(tree.json("show policy"));
    let written = tree.done("show policy --format toml").stdout;
    assert!(written.contains("# Where a new home goes.\nhome = \"/crew/{name}\"\n"), "{written}");
    tree.write("etc/copper-nest/policy.toml", &written);
    assert_eq!(values(tree.json("show policy")), before);
    tree.done("check --policy-only").says("etc/copper-nest/policy.toml is sound.");
    tree.refused("list users --format toml", 2, "[possible values: text, json]");
    tree.refused("--format toml list users", 2, "only show policy writes --format toml");
}

#[test]
fn a_policy_is_judged_by_itself_all_of_it_at_once() {
    let tree = TestTree::new();
    tree.done("check --policy-only").says("there is no etc/copper-nest/policy.toml");
    let draft = tree.root().with_file_name("draft.toml");
    std::fs::write(&draft, "[people]\nids = 5\nshell = 3\n").unwrap();
    let words = format!("check --policy-only --policy {}", draft.display());
    let run = tree.run(&words);
    assert_eq!(run.status, 1, "{}", run.stderr);
    assert_eq!(run.stdout.lines().count(), 2, "{}", run.stdout);
    let told = tree.json(&words);
    assert_eq!(told["faults"][1]["line"], 3, "{told}");
    // So are names of rules that are none.
    let text = "[check]\naccept = [\"ghost:a  b\", \"gost:a  b\"]\n";
    std::fs::write(&draft, text).unwrap();
    assert_eq!(tree.run(&words).stdout.lines().count(), 2);
    assert_eq!(tree.run(&format!("{words} --only ghost-member")).status, 2);
}

#[test]
fn an_option_that_does_nothing_is_refused_where_something_is_expected_of_it() {
    let tree = TestTree::new();
    for (words, option) in [
        ("list users --dry-run", "--dry-run"),
        ("-n show user tavish", "--dry-run"),
        ("show group pilots --quiet", "--quiet"),
        ("export users --wait 3", "--wait"),
        ("check --note because", "--note"),
        ("completions bash --quiet", "--quiet"),
    ] {
        tree.refused(words, 2, option);
    }
    // What may stand in an alias is passed over.
    tree.done("--yes --verbose show rule ghost-member");
    tree.done("--state none completions fish");
    // list changes has a note of its own.
    tree.done("list changes --note HR-412");
}

#[test]
fn an_option_that_is_not_there_is_no_name() {
    let tree = TestTree::new();
    let words = "create user maren --group pilots";
    tree.refused(words, 2, "unexpected argument '--group'");
    let said = tree.run(words).stderr;
    assert!(!said.contains("-- --group"), "{said}");
    // What comes near is still told, and how to name an account that begins with a dash.
    tree.refused("create user maren --hom /srv", 2, "--home");
    tree.refused("show user -odd", 2, "-- -o");
}

#[test]
fn rows_have_the_columns_that_are_asked_for() {
    let tree = TestTree::new();
    let shown = tree.done("list users --columns uid,name --header").stdout;
    assert_eq!(shown, "uid\tname\n1000\tsunniva\n1001\ttavish\n");
    let shown = tree.done("list groups --columns name,members").stdout;
    assert!(shown.contains("pilots\ttavish\n"), "{shown}");
    // Somebody at a terminal gets a table of them; with the header, rows.
    let shown = tree.done("list users --columns uid,name --color always").stdout;
    assert!(shown.contains("uid") && !shown.contains('\t'), "{shown}");
    let shown = tree.done("list users --columns uid,name --header --color always").stdout;
    assert!(shown.starts_with("uid\tname\n"), "{shown}");
    for (words, says) in [
        (
            "list users --columns uid,nam",
            "no column is called \"nam\"; the nearest is name. There are name, uid,",
        ),
        ("list users --columns uid,,name", "the value of --columns is empty"),
        ("list users --suspended --columns shell", "no column is called \"shell\""),
    ] {
        tree.refused(words, 2, says);
    }
}

#[test]
fn columns_are_of_text() {
    let tree = TestTree::new();
    for words in ["list users --columns uid", "list ids --next 3 --header"] {
        let refused = tree.run(&format!("{words} --format json"));
        assert_eq!(refused.status, 2);
        let message = &refused.json()["error"]["message"];
        assert!(message.as_str().unwrap().starts_with("--columns and --header go with text"));
    }
}

/// Every list has as many cells in a row as it has columns.
#[test]
fn the_rows_of_every_list_have_all_its_columns() {
    let tree = TestTree::new();
    tree.done("regroup tavish --admin");
    tree.done("suspend user tavish --reason away");
    tree.done("create user maren --no-home");
    tree.done("delete user maren --yes");
    for (list, columns) in copper_nest::lists() {
        let words = match list {
            "compare" => format!("compare change:0 {}", tree.root().display()),
            list => list.replace("COUNT", "2").replace("DATE", "today"),
        };
        // That sides differ is a status of its own.
        let done = |words: &str| {
            let run = tree.run(words);
            assert_eq!(run.status, i32::from(list == "compare"), "{words}: {}", run.stderr);
            run
        };
        let rows = done(&format!("{words} --header")).stdout;
        let names: Vec<&str> = columns.iter().map(|column| column.name).collect();
        assert_eq!(rows.lines().next().unwrap(), names.join("\t"), "{list}");
        for row in rows.lines() {
            assert_eq!(row.split('\t').count(), names.len(), "{list}: {row}");
        }
        if list != "list keys" {
            assert!(rows.lines().count() > 1, "{list}");
        }
        for name in names {
            done(&format!("{words} --columns {name}"));
        }
    }
}

//! `show policy`, and policy files that are wrong.

use crate::harness::TestTree;

const FILE: &str = "etc/copper-nest/policy.toml";

#[test]
fn every_setting_is_shown_with_its_source() {
    let tree = TestTree::new();
    tree.write(FILE, "[people]\n\nshell = \"/bin/sh\"\n");
    let run = tree.done("show policy");
    assert_eq!(run.value("ids"), "\"1000-59999\" built in");
    assert_eq!(run.value("shell"), format!("\"/bin/sh\" {FILE}:3"));
    for section in [
        "people",
        "services",
        "ids",
        "ranges",
        "names",
        "passwords",
        "admins",
        "retired",
        "changes",
        "mail",
        "check",
    ] {
        run.says(&format!("[{section}]\n"));
    }
    tree.done("show policy -v")
        .says("The uids of people; a new one gets the lowest that was never used.");
    let settings = tree.json("show policy");
    let shell =
        settings.as_array().unwrap().iter().find(|setting| setting["key"] == "people.shell");
    assert_eq!(shell.unwrap()["line"], 3);
    assert_eq!(settings[0]["source"], "built-in");
}

#[test]
fn another_file_can_be_named() {
    let tree = TestTree::new();
    tree.write("harbour.toml", "[people]\nshell = \"/bin/sh\"\n");
    let file = tree.path("harbour.toml").display().to_string();
    let run = tree.done(&format!("--policy {file} create user maren"));
    assert_eq!(run.value("shell"), format!("/bin/sh people.shell, {file}:2"));
    run.says(&format!("--policy {file} password user maren"));
    tree.refused(
        "--policy /no/such.toml create user perrin",
        3,
        "the policy /no/such.toml can't be read",
    );
}

#[test]
fn a_wrong_policy_stops_changes_and_nothing_else() {
    let tree = TestTree::new();
    for (text, says) in [
        (
            "[people]\nshel = \"/bin/sh\"\n",
            ":2: there is no setting people.shel; the nearest is people.shell",
        ),
        ("[peopel]\n", ":1: there is no section peopel; the nearest is people"),
        ("\nids = 1\n", ":2: the key ids stands outside a section"),
        ("[people]\nids = \"9-1\"\n", ":2: people.ids: \"9-1\" runs backwards"),
        ("[people]\nhome = \"/home/all\"\n", "holds no {name}: everybody would get the same one"),
        ("[people]\nranges = -1\n", "people.ranges: this has to be a whole number, 0 or more"),
        ("[people]\nshell = bash\n", ":2:"),
        ("[passwords]\nmin_score = 9\n", "this has to be a score from 0 to 4"),
        (
            "[passwords]\nscheme = \"rot13\"\n",
            "this has to be one of \"auto\", \"yescrypt\", \"sha512\"",
        ),
        ("[ids]\navoid = [\"some\"]\n", "ids.avoid: \"some\" is no span of ids"),
        ("[check]\naccept = [\"ghost-member\"]\n", "is not written as \"RULE:SUBJECT  reason\""),
        ("[people\n", ":1:"),
    ] {
        tree.write(FILE, text);
        tree.refused("create user maren", 3, says);
        // What only looks goes on, and says so.
        for words in ["show policy", "check --files-only", "show user tavish", "list ids"] {
            let run = tree.run(words);
            assert!(matches!(run.status, 0 | 1), "{words}: {}", run.stderr);
            assert!(run.stderr.contains(says), "{words}: {}", run.stderr);
            let goes_on = "the built-in settings are gone by until that is mended";
            assert_eq!(run.stderr.matches(goes_on).count(), 1, "{words}: {}", run.stderr);
        }
    }
    tree.write(FILE, b"[people]\nshell = \"\xff\"\n");
    tree.refused("create user maren", 3, "it is not UTF-8");
    tree.remove(FILE);
    std::fs::create_dir(tree.path(FILE)).unwrap();
    tree.refused("create user maren", 3, "the policy etc/copper-nest/policy.toml can't be read");
}

#[test]
fn all_faults_are_told_at_once_and_what_can_not_wait_goes_on() {
    let tree = TestTree::new();
    tree.write(
        FILE,
        "[people]\nshel = \"/bin/sh\"\nids = \"9-1\"\n\n[names]\nlogin = \"{f}{mid}\"\n",
    );
    let run = tree.refused("create user maren", 3, ":2: there is no setting people.shel");
    for fault in [":3: people.ids: \"9-1\" runs backwards", ":6: names.login: there is no {mid}"] {
        assert!(run.stderr.contains(fault), "{}", run.stderr);
    }
    tree.write(FILE, "[people]\nids = \"1000-70000\"\n[passwords]\nhold_days = 9\nrenew_days = 3\n[services]\nalso = [\"65000\"]\n");
    let run = tree.refused("create user maren", 3, "hold_days: a password could not be changed");
    assert!(run.stderr.contains(":7: services.also: 65000 overlaps"), "{}", run.stderr);
    // Nobody waits for a policy to be mended to keep somebody out, or to clear up after a crash.
    let run = tree.done("suspend user tavish");
    assert!(run.stderr.contains("services.also"), "{}", run.stderr);
    tree.done("recover");
    tree.refused("resume user tavish", 3, "services.also");
    let json = tree.json("show user tavish");
    assert_eq!(json["suspended"], true);
}

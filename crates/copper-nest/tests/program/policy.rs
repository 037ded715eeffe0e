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
fn a_wrong_policy_stops_everything_that_goes_by_it() {
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
        ("[people]\nranges = -1\n", "people.ranges: this is a whole number, 0 or more"),
        ("[people]\nshell = bash\n", ":2:"),
        ("[passwords]\nmin_score = 9\n", "this is a score from 0 to 4"),
        ("[passwords]\nscheme = \"rot13\"\n", "this is one of \"auto\", \"yescrypt\", \"sha512\""),
        ("[ids]\navoid = [\"some\"]\n", "ids.avoid: \"some\" is no span of ids"),
        ("[check]\naccept = [\"ghost-member\"]\n", "is not written as \"RULE:SUBJECT  reason\""),
        ("[people\n", ":1:"),
    ] {
        tree.write(FILE, text);
        for words in ["create user maren", "show policy", "check"] {
            tree.refused(words, 3, says);
        }
    }
    tree.write(FILE, b"[people]\nshell = \"\xff\"\n");
    tree.refused("show policy", 3, "it is not UTF-8");
    tree.remove(FILE);
    std::fs::create_dir(tree.path(FILE)).unwrap();
    tree.refused("show policy", 3, "the policy etc/copper-nest/policy.toml can't be read");
}

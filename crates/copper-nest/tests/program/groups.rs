//! Groups: making, filling, emptying, renumbering, deleting, restoring.

use crate::harness::{GROUP, TestTree, assert_same, is_root, passed_over};

fn group_line(tree: &TestTree, file: &str, name: &str) -> String {
    let text = tree.read(file);
    let start = format!("{name}:");
    text.lines().find(|line| line.starts_with(&start)).unwrap_or_default().to_owned()
}

#[test]
fn a_group_is_made_with_its_members_and_administrators() {
    let tree = TestTree::new();
    let run = tree.done("create group harbour --member tavish,sunniva,tavish --group-admin tavish");
    run.says("first never-used id in 1000-59999").says("tavish was named twice");
    assert_eq!(group_line(&tree, "etc/group", "harbour"), "harbour:x:1002:tavish,sunniva");
    assert_eq!(group_line(&tree, "etc/gshadow", "harbour"), "harbour:!:tavish:tavish,sunniva");
    tree.done("create group sonar --service");
    assert_eq!(group_line(&tree, "etc/group", "sonar"), "sonar:x:998:");
    let json = tree.json("show group harbour");
    assert_eq!(json["members"], serde_json::json!(["tavish", "sunniva"]));
    assert_eq!((&json["gid"], &json["kind"]), (&1002.into(), &"people".into()));
    assert_eq!((&json["admins"][0], &json["has_password"]), (&"tavish".into(), &false.into()));
}

#[test]
fn groups_that_can_not_be_are_refused() {
    let tree = TestTree::new();
    tree.append("etc/gshadow", "ghosts:!::\n");
    for (words, says) in [
        ("create group pilots", "etc/group:8 already has a group of that name (gid 210)"),
        ("create group ghosts", "etc/gshadow:13 already has a line for that name"),
        ("create group Divers", "the name holds 'D'"),
        ("create group 77", "is all digits"),
        ("create group a,b", "the name holds"),
        ("create group divers --gid 210", "gid 210 is the group pilots's"),
        ("create group divers --gid 65535", "gid 65535 is reserved"),
        ("create group divers --gid 2001010690", "lies in the subordinate range"),
        ("create group divers --gid=-1", "\"-1\" is no gid"),
        ("create group divers --gid x", "\"x\" is no gid"),
        ("create group divers --member marn", "there is no user marn"),
        ("create group divers --group-admin tavis", "the nearest is tavish"),
        ("regroup sunniva --join pilot", "there is no group pilot; the nearest is pilots"),
        ("regroup sunniva --join ghosts", "only etc/gshadow:13 is left over from one"),
        ("regroup marn --join pilots", "there is no user marn"),
        ("regroup sunniva marn --join pilots", "nobody's groups were changed, because of marn"),
        ("regroup sunniva --join pilots --leave 210", "--join and --leave both name pilots"),
        ("regroup sunniva --primary pilots --leave pilots", "--primary and --leave both name"),
        ("regroup tavish --leave tavish", "tavish is the primary group of tavish"),
        ("regroup sunniva --no-admin", "no other account can sign in as administrator"),
        ("change group sudo --drop-member sunniva", "no other account can sign in as"),
        ("change group tavish --drop-member tavish", "is the primary group of tavish"),
        ("change group pilots --add-member tavish --drop-member tavish", "both name tavish"),
        ("change group pilots --gid 1001", "gid 1001 is the group tavish's"),
        ("rename group pilots slipway", "already has a group of that name"),
        ("rename group pilots pilots", "that is its name already"),
        ("rename group sudo wheel", "it is an administrators' group, and sunniva administers"),
        ("delete group tavish --yes", "it is the primary group of tavish"),
        ("delete group sudo --yes --even-service", "it is an administrators' group"),
        ("delete group pilots --yes", "is one of the services'"),
        (
            "delete group slipway pilot --yes --even-service",
            "no group was deleted, because of pilot",
        ),
        ("delete group slipway --even-service", "there is no terminal to ask at"),
        ("restore group pilots", "no deleted group pilots is kept"),
        ("restore group pilots --state none", "nothing is kept to restore from"),
        ("password group pilot --none", "there is no group pilot"),
        ("show group pilot", "the nearest is pilots"),
        ("show group 4711", "no group here has gid 4711"),
        ("list groups --of marn", "there is no user marn"),
    ] {
        tree.refused(words, 3, says);
    }
    tree.refused("regroup sunniva", 2, "nothing to change was named");
    tree.refused("change group pilots", 2, "nothing to change was named");
    tree.refused("change user sunniva", 2, "nothing to change was named");
    tree.append("etc/group", "pilots:x:300:\n");
    tree.refused("regroup sunniva --join pilots", 5, "etc/group:13 says pilots again");
    tree.refused("delete group pilots --yes --even-service", 5, "etc/group:13 says pilots again");
}

#[test]
fn joining_and_leaving_are_said_where_there_is_nothing_to_do() {
    let tree = TestTree::new();
    let before = tree.snapshot();
    let run = tree.done("regroup tavish --join pilots,tavish --leave slipway");
    run.says("in already   pilots").says("it is the primary group").says("not in       slipway");
    run.says("everything is so already");
    assert_same(&before, &tree.snapshot());
    let run = tree.done("regroup tavish sunniva --join slipway --leave pilots");
    run.says("takes effect at tavish's next sign-in").says("leaves   pilots");
    assert_eq!(group_line(&tree, "etc/group", "slipway"), "slipway:x:211:tavish,sunniva");
    assert_eq!(group_line(&tree, "etc/gshadow", "pilots"), "pilots:!:tavish:");
    tree.done("undo --yes");
    assert_same(&before, &tree.snapshot());
}

#[test]
fn another_primary_group_keeps_the_old_one_unless_it_is_left() {
    let tree = TestTree::new();
    tree.done("create user maren --primary users");
    let run = tree.done("regroup maren --primary pilots");
    assert_eq!(run.value("primary"), "pilots 210 was users 100");
    run.says("keep gid 100").says("--regroup-home gives them the new one");
    run.says("the old primary group, kept as an ordinary one");
    assert_eq!(group_line(&tree, "etc/group", "users"), "users:x:100:maren");
    let run = tree.done("regroup maren --primary slipway --leave pilots,users");
    assert_eq!(group_line(&tree, "etc/group", "users"), "users:x:100:");
    assert_eq!(group_line(&tree, "etc/group", "pilots"), "pilots:x:210:tavish");
    run.says("was pilots 210");
    // A private group of one's own is never kept so.
    tree.done("regroup tavish --primary pilots");
    assert_eq!(group_line(&tree, "etc/group", "tavish"), "tavish:x:1001:");
    assert!(tree.line("etc/passwd", 6).contains(":1001:210:"));
}

#[test]
fn files_in_the_home_are_regrouped_when_asked_and_no_others() {
    if !is_root() {
        return passed_over("files_in_the_home_are_regrouped", "root");
    }
    let tree = TestTree::new();
    tree.write("home/tavish/chart", "x");
    tree.write("home/tavish/other", "x");
    tree.write("srv/chart", "x");
    tree.chown("home/tavish/chart", 1001, 1001);
    tree.chown("home/tavish/other", 1001, 211);
    tree.chown("srv/chart", 1001, 1001);
    std::fs::hard_link(tree.path("srv/chart"), tree.path("home/tavish/linked")).unwrap();
    let before = tree.snapshot();
    let run = tree.done("regroup tavish --primary pilots --regroup-home");
    run.says("get gid 210").says("1 file with more than one name left as it is");
    assert_eq!(tree.owner("home/tavish"), (1001, 210));
    assert_eq!(tree.owner("home/tavish/chart"), (1001, 210));
    assert_eq!(tree.owner("home/tavish/other"), (1001, 211));
    assert_eq!(tree.owner("srv/chart"), (1001, 1001));
    tree.done("undo --yes");
    assert_same(&before, &tree.snapshot());
    let run = tree.done("change group tavish --gid 1500");
    run.says("primary of   tavish").says("1 file elsewhere still carries gid 1001");
    assert!(tree.line("etc/passwd", 6).contains(":1001:1500:"));
    assert_eq!(tree.owner("home/tavish/chart"), (1001, 1500));
    tree.refused("create group divers --gid 1001", 3, "was tavish's, and is retired");
    tree.done("undo --yes");
    assert_same(&before, &tree.snapshot());
}

#[test]
fn a_ragged_list_stays_until_it_is_edited() {
    let tree = TestTree::new();
    let ragged = GROUP.replace("pilots:x:210:tavish", "pilots:x:210: tavish,,sunniva,");
    tree.write("etc/group", &ragged);
    tree.done("regroup sunniva --join slipway");
    assert_eq!(group_line(&tree, "etc/group", "pilots"), "pilots:x:210: tavish,,sunniva,");
    let run = tree.done("change group pilots --drop-member tavish");
    run.says("held empty entries or spaces; they are taken out");
    assert_eq!(group_line(&tree, "etc/group", "pilots"), "pilots:x:210:sunniva");
}

#[test]
fn lines_and_files_that_gshadow_lacks_are_made_on_the_way() {
    let tree = TestTree::new();
    let text = tree.read("etc/gshadow").replace("slipway:!::\n", "");
    tree.write("etc/gshadow", text);
    let run = tree.done("regroup tavish --join slipway");
    run.says("the group slipway had no line in etc/gshadow; one is made");
    assert_eq!(group_line(&tree, "etc/gshadow", "slipway"), "slipway:!::tavish");
    tree.remove("etc/gshadow");
    tree.done("regroup sunniva --join slipway");
    assert!(!tree.exists("etc/gshadow"), "lists alone need no such file");
    let run = tree.done("change group pilots --add-group-admin sunniva");
    run.says("this tree had no etc/gshadow").says("with a line for every group");
    assert_eq!(tree.mode("etc/gshadow"), 0o600);
    assert_eq!(tree.read("etc/gshadow").lines().count(), GROUP.lines().count());
    assert_eq!(group_line(&tree, "etc/gshadow", "pilots"), "pilots:!:sunniva:tavish");
    assert_eq!(tree.run("check --only member-mismatch").status, 0);
    tree.done("undo --yes");
    assert!(!tree.exists("etc/gshadow") || tree.read("etc/gshadow").is_empty());
}

#[test]
fn a_password_of_a_group_is_set_and_taken_away() {
    let tree = TestTree::new();
    let run = tree.fed("password group slipway --from-stdin", b"kelp-Harbour.91 tern\n");
    assert_eq!(run.status, 0, "{}", run.stderr);
    run.says("to list members is nearly always better");
    assert!(group_line(&tree, "etc/gshadow", "slipway").starts_with("slipway:$y$j9T$"));
    let record = tree.read("var/lib/copper-nest/changes/1.json");
    assert!(!run.stdout.contains("$y$") && !record.contains("$y$"));
    assert_eq!(tree.done("list groups --with-password").stdout.lines().count(), 1);
    tree.done("show group slipway").says("slipway:(hash)::").says("whoever knows it");
    tree.done("password group slipway --none");
    assert_eq!(group_line(&tree, "etc/gshadow", "slipway"), "slipway:!::");
    tree.done("password group slipway --none").says("everything is so already");
    // One that stands where everybody can read it.
    let exposed = GROUP.replace("slipway:x:", "slipway:$6$Gull$abcdefghijkl:");
    tree.write("etc/group", exposed);
    tree.done("password group slipway --none").says("(hash)");
    assert_eq!(group_line(&tree, "etc/group", "slipway"), "slipway:x:211:");
    let help = tree.done("password group --help");
    help.says("rarely what is wanted");
}

#[test]
fn a_deleted_group_comes_back_whole() {
    let tree = TestTree::new();
    let hash = "$y$j9T$Gk8rTqW1xZ0aLmNvB3cD5/$oMUdqLIIUbNlp.5ERqT8mq/0KPAoLbWTEaHGlGEYnd1";
    let gshadow = tree.read("etc/gshadow").replace("pilots:!", &format!("pilots:{hash}"));
    tree.write("etc/gshadow", gshadow);
    let before = tree.snapshot();
    tree.done("create user maren");
    let run = tree.done("delete group pilots --even-service --yes --count-files");
    run.says("gid 210").says("carry gid 210").says("drops  pilots:(hash):tavish:tavish");
    let changes = ["1", "2"].map(|n| tree.read(&format!("var/lib/copper-nest/changes/{n}.json")));
    assert!(changes.iter().all(|record| !record.contains("$y$")));
    assert!(
        tree.read("var/lib/copper-nest/retired/group/pilots.210.2/account.json").contains(hash)
    );
    assert_eq!(tree.mode("var/lib/copper-nest/retired/group/pilots.210.2/account.json"), 0o600);
    tree.refused("create group helm --gid 210", 3, "was pilots's, and is retired");
    tree.done("create group pilots --gid 210 -n").says("pilots counts as a service's group");
    tree.done("restore group pilots").says("as before");
    tree.done("undo 1 --yes");
    assert_same(&before, &tree.snapshot());
    assert!(!tree.exists("var/lib/copper-nest/retired"));
    // Undoing the deletion gives back the same, the hash included; and again.
    tree.done("delete group pilots --even-service --yes");
    tree.done("undo --yes");
    assert_same(&before, &tree.snapshot());
    tree.done("delete group pilots --even-service --yes");
    tree.done("restore group pilots");
    tree.done("undo --yes --even-service");
    assert_eq!(group_line(&tree, "etc/group", "pilots"), "");
    tree.done("restore group 210");
    assert_same(&before, &tree.snapshot());
}

#[test]
fn what_changed_meanwhile_is_told_when_a_group_comes_back() {
    let tree = TestTree::new();
    tree.done("delete group slipway --even-service --yes");
    tree.done("create group slipway");
    tree.refused("restore group slipway", 3, "already has a group of that name");
    tree.done("restore group slipway --as ways");
    assert_eq!(group_line(&tree, "etc/group", "ways"), "ways:x:211:");
    tree.done("delete group pilots --even-service --yes");
    tree.append("etc/group", "divers:x:210:\n");
    tree.refused("restore group pilots", 3, "gid 210 is the group divers's");
    let run = tree.done("restore group pilots --new-id");
    run.says("another: 210 is taken");
    assert!(group_line(&tree, "etc/group", "pilots").ends_with(":tavish"));
}

#[test]
fn a_member_that_went_is_left_out() {
    let tree = TestTree::new();
    tree.done("delete group pilots --even-service --yes");
    let others: Vec<&str> = crate::harness::PASSWD.lines().take(5).collect();
    tree.write("etc/passwd", format!("{}\n", others.join("\n")));
    let run = tree.done("restore group pilots");
    run.says("tavish (is gone)");
    assert_eq!(group_line(&tree, "etc/group", "pilots"), "pilots:x:210:");
    assert_eq!(group_line(&tree, "etc/gshadow", "pilots"), "pilots:!::");
}

#[test]
fn a_gid_that_two_groups_share_goes_with_neither() {
    let tree = TestTree::new();
    tree.append("etc/group", "stagecrew:x:210:sunniva\n");
    tree.append("etc/passwd", "perrin:x:1005:210::/home/perrin:/bin/sh\n");
    let run = tree.done("change group stagecrew --gid 1600 --even-service");
    run.says("gid 210 stays pilots's");
    assert!(tree.line("etc/passwd", 7).contains(":1005:210:"));
    tree.done("undo --yes");
    tree.done("delete group stagecrew --even-service --yes");
    tree.done("restore group stagecrew").says("as before, shared with pilots");
    tree.done("create group divers --gid 210 --share-id").says("gid 210 is pilots's too");
    let shown = tree.done("show group pilots");
    shown.says("stagecrew, divers: to the files they are one group").says("by primary  perrin");
}

#[test]
fn a_name_of_a_directory_joins_only_where_it_is_said() {
    let tree = TestTree::new();
    tree.refused("regroup ada --join pilots", 3, "regroup ada --join pilots --unlisted");
    tree.done("regroup ada --join pilots --unlisted").says("check will call that member a ghost");
    assert_eq!(tree.run("check --only ghost-member").status, 1);
    tree.done("change group pilots --drop-member ada");
    tree.write("etc/nsswitch.conf", "passwd: files ldap\n");
    tree.done("regroup ada --join pilots --unlisted").says("this tree also asks ldap for users");
    assert_eq!(tree.run("check --only ghost-member").status, 1, "skipped: ldap can't be asked");
    assert_eq!(tree.run("check --only ghost-member --allow-skipped").status, 0);
}

#[test]
fn renaming_names_the_places_that_still_name_it() {
    let tree = TestTree::new();
    tree.write("etc/sudoers", "root ALL=(ALL) ALL\n%pilots ALL=/bin/tides\n");
    tree.write("etc/ssh/sshd_config", "Port 22\nAllowGroups slipway pilots\n");
    tree.write("etc/systemd/system/tides.service", "[Service]\nGroup=pilots\nUser=pilots\n");
    tree.write("etc/udev/rules.d/90-sonar.rules", "KERNEL==\"sonar\", GROUP=\"pilots\"\n");
    tree.write("etc/copper-nest/policy.toml", "[people]\ngroups = [\"pilots\"]\n");
    let run = tree.done("rename group pilots navigators --even-service");
    for place in [
        "etc/sudoers:2",
        "etc/ssh/sshd_config:2",
        "etc/systemd/system/tides.service:2",
        "etc/udev/rules.d/90-sonar.rules:1",
        "the policy names pilots: people.groups",
    ] {
        run.says(place);
    }
    assert!(!run.stdout.contains("tides.service:3"), "{}", run.stdout);
    assert_eq!(group_line(&tree, "etc/gshadow", "navigators"), "navigators:!:tavish:tavish");
}

#[test]
fn administrators_are_the_same_everywhere() {
    let tree = TestTree::new();
    tree.done("regroup tavish --admin");
    tree.done("create user maren --admin");
    assert_eq!(tree.done("list users --admin").stdout.lines().count(), 4);
    tree.done("show group sudo").says("its members administer the machine");
    // The first of the policy's groups that exists; when none does, it is said.
    tree.write("etc/copper-nest/policy.toml", "[admins]\ngroups = [\"helm\", \"slipway\"]\n");
    tree.done("regroup tavish --admin").says("joins   slipway");
    tree.write("etc/copper-nest/policy.toml", "[admins]\ngroups = [\"helm\"]\n");
    for words in
        ["regroup tavish --admin", "regroup tavish --no-admin", "create user odile --admin"]
    {
        let says = "none of the administrators' groups exists: helm (admins.groups, etc/copper-nest/policy.toml:2";
        tree.refused(words, 3, says);
    }
}

#[test]
fn two_administrators_can_not_leave_at_once() {
    let tree = TestTree::new();
    tree.done("create user maren --admin --password none");
    let hash = crate::harness::SHADOW.lines().nth(4).unwrap().split(':').nth(1).unwrap();
    assert_eq!(tree.fed("password user maren --hashed", hash.as_bytes()).status, 0);
    tree.done("regroup sunniva --no-admin -n");
    tree.refused("regroup sunniva maren --no-admin", 3, "no other account can sign in");
    tree.refused("suspend user maren sunniva", 3, "no other account can sign in");
    tree.refused("change group sudo --drop-member maren,sunniva", 3, "no other account can");
}

#[test]
fn ten_thousand_members_fit_in_one_line() {
    let tree = TestTree::new();
    let names: Vec<String> = (0..10_000).map(|at| format!("crew{at}")).collect();
    let users: String = names
        .iter()
        .enumerate()
        .map(|(at, name)| format!("{name}:x:{}:100::/:/bin/sh\n", 5000 + at))
        .collect();
    tree.append("etc/passwd", users);
    let run = tree.done(&format!("create group all --member {}", names.join(",")));
    run.says("and 9988 more").says("the next sign-in of each of the 10000");
    tree.done("regroup tavish --join all");
    assert!(group_line(&tree, "etc/group", "all").ends_with("crew9999,tavish"));
    tree.done("show group all").says("and 9989 more (--verbose names all)");
}

#[test]
fn lists_of_groups_are_narrowed() {
    let tree = TestTree::new();
    let names = |words: &str| -> Vec<String> {
        let run = tree.done(words);
        run.stdout.lines().map(|line| line.split('\t').next().unwrap().to_owned()).collect()
    };
    assert_eq!(names("list groups").len(), GROUP.lines().count());
    assert_eq!(names("list groups --of tavish"), ["pilots", "tavish"]);
    assert_eq!(names("list groups --of 1001"), ["pilots", "tavish"]);
    assert_eq!(names("list groups --kind private").len(), 5);
    assert_eq!(names("list groups --empty"), ["mail", "shadow", "users", "slipway"]);
    let json = tree.json("list groups --of sunniva");
    assert_eq!(json[0]["name"], "sudo");
    assert_eq!(json[1]["primary_members"][0], "sunniva");
    let fields = tree.done("show group pilots --fields");
    fields.says("who may alter the list of members").says("tavish");
}

//! Every command that changes something, before each guard that can matter to it: the plan is
//! refused, nothing is changed, and the way round that is named works when it is pasted.

use std::collections::BTreeSet;

use crate::harness::{TestTree, is_root, passed_over, paste};

/// What is done first, then what is refused, and what waves it through.
type Row = (&'static [&'static str], &'static str, &'static str);

const ADMIN: &str = "--even-last-admin";
const SERVICE: &str = "--even-service";
const ROOT: &str = "--even-root";

/// `{csv}` is a table with these rows.
const TABLES: &[(&str, &str)] = &[
    ("{leaves}", "name,join\nsunniva,slipway\n"),
    ("{member}", "name,member\nsudo,tavish\n"),
    ("{shell}", "name,shell\nsunniva,/usr/sbin/nologin\n"),
    ("{ends}", "name,expires\nsunniva,+30d\n"),
    ("{primary}", "name,primary,service\ntidegauge,pilots,yes\n"),
    ("{root}", "name,uid,service\nroot,500,yes\n"),
    ("{ids}", "kind,name,id\nuser,tidegauge,990\n"),
    ("{gids}", "kind,name,id\ngroup,pilots,2210\n"),
    (
        "{dump}",
        "dn: uid=sunniva,ou=people,dc=gullhaven,dc=example\nobjectClass: posixAccount\n\
         uid: sunniva\ncn: Sunniva Hale\nuidNumber: 1000\ngidNumber: 1000\n\
         homeDirectory: /home/sunniva\n\n\
         dn: cn=sunniva,ou=groups,dc=gullhaven,dc=example\nobjectClass: posixGroup\n\
         cn: sunniva\ngidNumber: 1000\n",
    ),
];

/// The commands by their manual pages, each with its rows. One without rows gives access, or
/// none is left to lose; it says why.
const MATRIX: &[(&str, &str, &[Row])] = &[
    (
        "change-user",
        "",
        &[
            (&[], "change user sunniva --shell /usr/sbin/nologin", ADMIN),
            (&[], "change user sunniva --expires +30d", ADMIN),
            (&[], "change user root --uid 500", ROOT),
            (&[], "change user tidegauge --uid 990", SERVICE),
            (&[], "change user tidegauge --home /srv/gauge --record-only", SERVICE),
            (&[], "change user tidegauge --primary pilots", SERVICE),
            (&[], "change user tidegauge --expires +30d", SERVICE),
        ],
    ),
    (
        "rename-user",
        "",
        &[(&[], "rename user root toor", ROOT), (&[], "rename user tidegauge gauge", SERVICE)],
    ),
    (
        "regroup",
        "",
        &[
            (&[], "regroup sunniva --no-admin", ADMIN),
            (&[], "regroup sunniva tavish --leave sudo", ADMIN),
            (&[], "regroup tidegauge --primary pilots", SERVICE),
        ],
    ),
    ("password-user", "", &[(&[], "password user sunniva --none", ADMIN)]),
    (
        "suspend-user",
        "",
        &[
            (&[], "suspend user sunniva", ADMIN),
            (&[], "suspend user tavish sunniva --reason leave", ADMIN),
            (&[], "suspend user root", ROOT),
            (&[], "suspend user tidegauge", SERVICE),
        ],
    ),
    (
        "delete-user",
        "",
        &[
            (&[], "delete user sunniva --yes", ADMIN),
            (&[], "delete user sunniva --files keep --yes", ADMIN),
            (&[], "delete user root --files keep --yes", ROOT),
            (&[], "delete user tidegauge --yes", SERVICE),
        ],
    ),
    (
        "change-group",
        "",
        &[
            (&[], "change group sudo --drop-member sunniva", ADMIN),
            (&[], "change group pilots --gid 1400", SERVICE),
        ],
    ),
    (
        "rename-group",
        "",
        &[
            (&[], "rename group pilots helm", SERVICE),
            (&[], "rename group sudo helm --even-service", ADMIN),
        ],
    ),
    ("delete-group", "", &[(&[], "delete group slipway --yes", SERVICE)]),
    (
        "intake",
        "",
        &[
            (&[], "intake {leaves} --existing update --exact-groups --yes", ADMIN),
            (&[], "intake {member} --existing update --exact-groups --yes", ADMIN),
            (&[], "intake {shell} --existing update --yes", ADMIN),
            (&[], "intake {ends} --existing update --yes", ADMIN),
            (&[], "intake {primary} --existing update --yes", SERVICE),
            (&[], "intake {root} --existing update --yes", ROOT),
        ],
    ),
    ("handover", "", &[(&[], "handover {dump} sunniva --delete --even-unasked --yes", ADMIN)]),
    (
        "renumber",
        "",
        &[(&[], "renumber {ids} --yes", SERVICE), (&[], "renumber {gids} --yes", SERVICE)],
    ),
    (
        "undo",
        "",
        &[
            // What a change gave, its undo takes.
            (
                &[
                    "change user sunniva --shell /bin/false --even-last-admin",
                    "change user sunniva --shell /bin/bash",
                ],
                "undo --yes",
                ADMIN,
            ),
            (
                &["regroup sunniva --no-admin --even-last-admin", "regroup sunniva --admin"],
                "undo --yes",
                ADMIN,
            ),
            (
                &[
                    "change group sudo --drop-member sunniva --even-last-admin",
                    "change group sudo --add-member sunniva",
                ],
                "undo 2 --yes",
                ADMIN,
            ),
            (
                &["suspend user sunniva --even-last-admin", "resume user sunniva"],
                "undo --yes",
                ADMIN,
            ),
            (
                &["delete user sunniva --yes --even-last-admin", "restore user sunniva --yes"],
                "undo --yes",
                ADMIN,
            ),
            (
                &[
                    "rename user tavish torben --even-me",
                    "rename user torben tidewatch",
                    "change user tidewatch --uid 700",
                ],
                "undo --yes",
                SERVICE,
            ),
            (&["create user gauge --service"], "undo --yes", SERVICE),
            (&["create group divers --service"], "undo --yes", SERVICE),
            (&["rename group pilots helm --even-service"], "undo --yes", SERVICE),
            (&["change group pilots --gid 800 --even-service"], "undo --yes", SERVICE),
            (
                &["delete group slipway --yes --even-service", "restore group slipway --yes"],
                "undo --yes",
                SERVICE,
            ),
        ],
    ),
    ("repair", "it mends what gives and takes nothing, and takes out what is at fault", &[]),
    ("merge", "it only gives: who is here stays as they are", &[]),
    ("create-user", "it only gives", &[]),
    ("create-group", "it only gives", &[]),
    ("password-group", "a group's password is no way to sign in", &[]),
    ("resume-user", "it only gives", &[]),
    ("restore-user", "it only gives", &[]),
    ("restore-group", "it only gives", &[]),
    ("purge-user", "the account is gone already", &[]),
    ("purge-group", "the group is gone already", &[]),
    ("reassign-user", "it is about files; root's have a guard of their own", &[]),
    ("reassign-group", "it is about files; root's have a guard of their own", &[]),
    ("reassign-account", "it is about files; root's have a guard of their own", &[]),
    ("report", "it only looks; what it writes is to be looked at", &[]),
    ("compare", "it only looks; what it writes is for others to go by", &[]),
    ("recover", "the change was judged when it was made", &[]),
    ("demo", "it makes a tree of its own", &[]),
];

/// A tree with what a row needs, and the words of its command.
fn scene(first: &[&str], words: &str, folder: &std::path::Path) -> (TestTree, String) {
    let tree = TestTree::new();
    for words in first {
        tree.done(words);
    }
    let mut words = words.to_owned();
    for (name, text) in TABLES {
        let path = folder.join(format!("{}.csv", name.trim_matches(['{', '}'])));
        std::fs::write(&path, text).unwrap();
        words = words.replace(name, &path.display().to_string());
    }
    (tree, words)
}

#[test]
fn no_command_passes_a_guard_and_every_way_round_works() {
    if !is_root() {
        return passed_over("no_command_passes_a_guard", "root, to move homes of others");
    }
    let folder = crate::harness::folder();
    let mut failed = Vec::new();
    for (first, words, option) in MATRIX.iter().flat_map(|(.., rows)| *rows) {
        let (tree, words) = scene(first, words, folder.path());
        let before = tree.snapshot();
        let run = tree.run(&words);
        if run.status != 3 || !run.stderr.contains(option) || tree.snapshot() != before {
            failed.push(format!("{words}: {}\n{}{}", run.status, run.stdout, run.stderr));
            continue;
        }
        let way = run.ways().into_iter().find(|way| way.ends_with(option));
        let Some(way) = way else {
            failed.push(format!("{words}: no way round\n{}", run.stderr));
            continue;
        };
        let pasted = paste(&way);
        if pasted.status != 0 {
            failed.push(format!("{way}\n{}{}", pasted.stdout, pasted.stderr));
        }
    }
    assert!(failed.is_empty(), "{} of them:\n{}", failed.len(), failed.join("\n"));
}

#[test]
fn every_command_that_changes_something_has_its_row() {
    let pages: BTreeSet<String> =
        crate::manual::leaves().into_iter().map(|(path, _)| path.join("-")).collect();
    // A verb with things has no page of its own to be judged; what only looks loses nothing.
    let looks = ["list", "show", "check", "trace", "export", "completions"];
    let changes = |page: &&String| {
        let verb = page.split('-').next().unwrap();
        let has_things = pages.iter().any(|other| other.starts_with(&format!("{page}-")));
        !has_things && !looks.contains(&verb)
    };
    let changing: BTreeSet<&str> = pages.iter().filter(changes).map(String::as_str).collect();
    let known: BTreeSet<&str> = MATRIX.iter().map(|(page, ..)| *page).collect();
    assert_eq!(changing, known);
    for (page, why, rows) in MATRIX {
        assert_eq!(why.is_empty(), !rows.is_empty(), "{page}");
    }
}

/// A tree in which tavish has a password too.
fn both_have_passwords() -> TestTree {
    let tree = TestTree::new();
    tree.write("etc/shadow", tree.read("etc/shadow").replace("tavish:!$6$", "tavish:$6$"));
    tree
}

#[test]
fn groups_of_administrators_are_what_they_are_on_odd_trees_too() {
    const LAST: &str = "no other account can sign in as administrator";
    // Twice, by another number: both lines make administrators.
    let tree = both_have_passwords();
    tree.append("etc/group", "sudo:x:270:tavish\n");
    tree.done("suspend user sunniva");
    tree.refused("suspend user tavish", 3, LAST);
    // Without members, as somebody's primary group.
    let tree = both_have_passwords();
    tree.write("etc/group", tree.read("etc/group").replace("sudo:x:27:sunniva", "sudo:x:27:"));
    tree.write(
        "etc/passwd",
        tree.read("etc/passwd").replace("tavish:x:1001:1001", "tavish:x:1001:27"),
    );
    tree.done("suspend user sunniva");
    tree.refused("regroup tavish --primary pilots --leave sudo", 3, LAST);
    // Only in gshadow there is none.
    let tree = both_have_passwords();
    let group = tree.read("etc/group").replace("sudo:x:27:sunniva\n", "");
    tree.write("etc/group", group);
    tree.done("delete user sunniva --yes");
    tree.refused("regroup tavish --admin", 3, "none of the administrators' groups exists");
}

#[test]
fn what_both_takes_and_gives_is_judged_by_its_end() {
    let folder = crate::harness::folder();
    let table = folder.path().join("crew.csv");
    let text = "name,join\nsunniva,pilots\ntavish,sudo\n";
    std::fs::write(&table, text).unwrap();
    let words = format!("intake {} --existing update --exact-groups --yes", table.display());
    // Whoever takes over can't sign in.
    let run = TestTree::new().refused(&words, 3, "sunniva would no longer be administrator");
    assert!(run.stderr.contains("row 1 of"), "{}", run.stderr);
    let tree = both_have_passwords();
    tree.done(&words).says("tavish    becomes administrator");
}

#[test]
fn what_sudoers_says_is_not_known_where_it_can_not_be_read() {
    let tree = both_have_passwords();
    std::fs::create_dir_all(tree.path("etc/sudoers")).unwrap();
    let run = tree.done("regroup tavish --admin");
    run.says("by which line is not known: etc/sudoers is a directory");
    let run = tree.done("regroup tavish --no-admin");
    run.says("whether sudoers gives tavish something all the same is not known: etc/sudoers is a");
}

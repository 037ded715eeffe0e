//! What single rules find, and what they leave alone.

use super::*;
use crate::book::Book;
use crate::book::tests::book;
use crate::policy::Policy;
use crate::surroundings::Facts;
use crate::table::File;
use crate::test_support::World;
use crate::value::{Day, FileKind, Gid, Uid};

/// What a rule finds, each as `file:line marked: message`.
fn found_in(name: &str, book: &Book, world: &World) -> Vec<String> {
    let policy = Policy::default();
    let context = PlanContext { book, policy: &policy, world, today: Day(20781), change: None };
    let only = Selection { only: vec![rule(name).unwrap()], ..Selection::default() };
    let told = check(context, &only).findings.into_iter().map(|finding| {
        let marked = String::from_utf8_lossy(&finding.text[finding.marked()]).into_owned();
        format!("{}:{} {marked}: {}", finding.file.path(), finding.line, finding.message)
    });
    told.collect()
}

fn found(name: &str, files: &[(File, &str)]) -> Vec<String> {
    found_in(name, &book(files), &World::default())
}

#[test]
fn odd_lines_are_told_apart() {
    let group = "maren:x:1:\n crew:x:2:\nrest:x:3:a\r\n# a comment \n\n+ \nlast:x:4:b\t\n";
    let spaces = found("stray-space", &[(File::Group, group)]);
    assert_eq!(spaces.len(), 3, "{spaces:?}");
    assert!(spaces[0].starts_with("etc/group:2 ") && spaces[0].contains("begins the line"));
    assert!(spaces[1].starts_with("etc/group:3 ") && spaces[1].contains("carriage return"));
    assert!(spaces[2].starts_with("etc/group:7 ") && spaces[2].contains("white space ends"));
    let compat = found("compat-line", &[(File::Passwd, "+\n-perrin\n+maren::::::\nx:+\n")]);
    assert_eq!(compat.len(), 3, "{compat:?}");
    assert!(compat[1].contains("shuts out") && compat[2].contains("brings in"), "{compat:?}");
    let long = "a".repeat(33);
    let names = format!("ok.Name:x:1:\n{long}:x:2:\n77:x:3:\na b:x:4:\nno colon\n");
    let names = found("bad-name", &[(File::Group, &names)]);
    assert_eq!(names.len(), 4, "{names:?}");
    assert!(names[0].contains("33 bytes long") && names[1].contains("all digits"), "{names:?}");
    let end = |text| found("missing-newline", &[(File::Group, text)]).len();
    assert_eq!((end("a:x:1:"), end("a:x:1:\n"), end("")), (1, 0, 0));
}

#[test]
fn twins_and_doubles_name_the_first() {
    let twins = found(
        "case-twin",
        &[(File::Passwd, "maren:x:1:1:::\nTAV:x:2:2:::\nMaren:x:3:3:::\ntav:x:4:4:::\n")],
    );
    assert_eq!(
        twins,
        [
            "etc/passwd:3 Maren: Maren and maren (line 1) differ in capitals only.",
            "etc/passwd:4 tav: tav and TAV (line 2) differ in capitals only.",
        ]
    );
    let doubled =
        found("duplicate-member", &[(File::Group, "crew:x:7:a,b,a,c, a,b\nrest:x:8:a,b\n")]);
    assert_eq!(
        doubled,
        [
            "etc/group:1 a: crew lists a more than once.",
            "etc/group:1 b: crew lists b more than once."
        ]
    );
    let homes = "a:x:1000:1::/home/a:\nb:x:1001:1::/home/a:\nc:x:200:1::/home/a:\n\
                 d:x:1002:1::/nonexistent:\ne:x:1003:1::/nonexistent:\na:x:1000:1::/home/a:\n";
    let homes = found("shared-home", &[(File::Passwd, homes)]);
    assert_eq!(homes, ["etc/passwd:2 /home/a: /home/a is the home of a (line 1) too."]);
    let ranges = "a:100:10\nb:100:10\na:100:10\na:100:9\na:0100:10\n";
    let ranges = found("duplicate-range", &[(File::Subuid, ranges)]);
    assert_eq!(ranges.len(), 1, "{ranges:?}");
    assert!(ranges[0].ends_with("line 1 gives 100-109 to a already."), "{ranges:?}");
}

#[test]
fn groups_and_gshadow_go_together() {
    let group = (File::Group, "crew:x:7:\nrest:x:8:\nbroken\n");
    let gshadow = (File::Gshadow, "crew:!::\nhesper:!::\nbroken\n");
    assert_eq!(found("gshadow-orphan", &[group, gshadow]).len(), 1);
    assert_eq!(
        found("missing-gshadow", &[group, gshadow]),
        ["etc/group:2 rest: etc/gshadow has no line for the group rest."]
    );
    assert_eq!(found("missing-gshadow", &[group]), [""; 0], "without the file nothing is missing");
    let files = [(File::Passwd, "a:x:1:7:::\n"), (File::Gshadow, "crew:!:a,b:\n")];
    assert_eq!(
        found("ghost-admin", &files),
        ["etc/gshadow:1 b: no account is called b, who administers crew."]
    );
    let elsewhere = World { other_sources: Some("ldap".into()), ..World::default() };
    assert_eq!(found_in("ghost-admin", &book(&files), &elsewhere), [""; 0]);
    // The same lists, but of a name that is there twice.
    let swapped = [
        (File::Passwd, "a:x:1:9:::\nb:x:2:9:::\n"),
        (File::Group, "crew:x:7:a\ncrew:x:8:b\nrest:x:9:\n"),
        (File::Gshadow, "crew:!::b\nrest:!::\ncrew:!::a\n"),
    ];
    assert_eq!(
        found("member-mismatch", &swapped),
        ["etc/group:1 a: the members differ between etc/group and etc/gshadow: \
          a only in etc/group; b only in etc/gshadow."]
    );
    let listed = [(File::Passwd, "a:x:1:7:::\n"), (File::Group, "crew:x:7:b,a\nrest:x:8:a\n")];
    assert_eq!(
        found("listed-in-primary", &listed),
        ["etc/group:1 a: crew is the primary group of a, and lists it too."]
    );
}

#[test]
fn passwords_are_where_and_as_they_should_be() {
    let hash = "$6$Gullhaven$0123456789abcdef";
    let passwd = format!("a:{hash}:1000:1:::\nb:x:200:0:::\nc:*:1001:1:::\nroot:x:0:0:::\n");
    let group = format!("crew:!{hash}:7:\nrest:x:8:\n");
    let shadow = format!("a:{hash}:20782:9:9::::\nb:{hash}:20783:10:9::::\nroot:{hash}:1::9::::\n");
    let files = [(File::Passwd, passwd.as_str()), (File::Group, &group), (File::Shadow, &shadow)];
    let exposed = found("exposed-hash", &files);
    assert_eq!(exposed.len(), 2, "{exposed:?}");
    assert!(exposed.iter().all(|told| !told.contains("Gullhaven")), "{exposed:?}");
    assert!(exposed[1].starts_with("etc/group:1 !(hash)"), "{exposed:?}");
    assert_eq!(
        found("root-group", &files),
        ["etc/passwd:2 0: the primary group of b is root's: its files are shared with it."]
    );
    assert_eq!(
        found("service-password", &files),
        ["etc/shadow:2 (hash): b is a service, and can sign in by password."]
    );
    assert_eq!(
        found("aging-order", &files),
        ["etc/shadow:2 10: b must change the password after 9 days, and may not for 10."]
    );
    // Tomorrow is today elsewhere.
    assert_eq!(found("future-change", &files).len(), 1);
    let home = [(File::Passwd, "a:x:1:1::srv/a:\nb:x:2:2:::\nc:x:3:3::/:\n")];
    assert_eq!(found("home-not-absolute", &home).len(), 1);
    let over = [(File::Passwd, "a:x:1005:1:::\n"), (File::Subgid, "a:1000:5\na:1000:6\n")];
    let over = found("range-over-account", &over);
    assert_eq!(over.len(), 1, "{over:?}");
    assert!(over[0].contains("1000-1005 covers 1005"), "{over:?}");
}

#[test]
fn shells_are_judged_by_who_gets_to_them() {
    let hash = "$6$Gullhaven$0123456789abcdef";
    let passwd = "root:x:0:0:::/bin/ash\na:x:1000:1:::\nb:x:200:2:::/bin/sh\n\
                  c:x:201:3:::/usr/sbin/nologin\nd:x:202:4::/srv/d:/bin/sh\ne:x:1001:5:::/bin/false\n";
    let shadow = format!("b:{hash}:1::::::\nc:{hash}:1::::::\nd:*:1::::::\n");
    let book = book(&[(File::Passwd, passwd), (File::Shadow, &shadow)]);
    let mut world = World::default();
    let told = found_in("service-shell", &book, &world);
    let wanted = "etc/passwd:3 /bin/sh: b is a service, and can sign in by a password: its shell is /bin/sh.";
    assert_eq!(told, [wanted], "the others have no way to their shells");
    world.keys = 1;
    let told = found_in("service-shell", &book, &world);
    assert!(
        told.len() == 2 && told[1].contains("d is a service, and can sign in by key"),
        "{told:?}"
    );
    assert_eq!(found_in("unlisted-shell", &book, &world), [""; 0], "there is no list");
    world.shells = Some(vec!["/bin/sh".into(), "/bin/ash".into()]);
    assert_eq!(found_in("unlisted-shell", &book, &world), [""; 0], "no shell is /bin/sh");
    world.shells = Some(vec!["/bin/ash".into()]);
    let told = found_in("unlisted-shell", &book, &world);
    assert!(told.len() == 1 && told[0].starts_with("etc/passwd:2 "), "{told:?}");
    world.missing_programs.push("/bin/ash".into());
    assert_eq!(found_in("missing-shell", &book, &world), [""; 0], "without programs it is skipped");
    let facts = Facts { kind: FileKind::Directory, uid: Uid::ROOT, gid: Gid::ROOT, mode: 0o755 };
    world.facts.insert("/usr/bin".into(), Ok(facts));
    let told = found_in("missing-shell", &book, &world);
    assert_eq!(
        told,
        ["etc/passwd:1 /bin/ash: the shell /bin/ash is not there: root can't sign in."]
    );
}

#[test]
fn remedies_name_numbers_once_and_mend_what_is_in_the_way_first() {
    let files = [
        (File::Passwd, "a:x:1000:1:::\nb:x:1000:1:::\nc:x:1000:1:::\nc:x:1005:1:::\nbroken:x\n"),
        (File::Group, "one:x:1:\n"),
    ];
    let (book, policy, world) = (book(&files), Policy::default(), World::default());
    let context = crate::test_support::context(&book, &policy, &world);
    let only = ["duplicate-uid", "duplicate-name"].iter().map(|name| rule(name).unwrap()).collect();
    let report = check(context, &Selection { only, ..Selection::default() });
    let commands: Vec<String> = report
        .findings
        .iter()
        .filter_map(|finding| finding.remedies[0].command.as_ref())
        .map(|command| match command {
            Command::Own(words) => bstr::BString::from(bstr::join(" ", words)).to_string(),
            Command::Repair(rule) => format!("repair --only {}", rule.name),
            Command::System(words, _) => words.clone(),
        })
        .collect();
    assert_eq!(
        commands,
        // What can only be written anew stands before what names the same account.
        ["change user b --uid 1001"]
    );
}

/// So many lines that several threads look at them, in step and out of it.
#[test]
fn what_one_long_file_lacks_of_another_is_found() {
    const ALL: usize = 20_000;
    let lines = |wanted: &dyn Fn(usize) -> bool, line: &dyn Fn(usize) -> String| -> String {
        (0..ALL).filter(|at| wanted(*at)).map(line).collect()
    };
    let passwd =
        lines(&|_| true, &|at| format!("u{at}:x:{0}:{0}::/home/u{at}:/bin/sh\n", 1000 + at));
    let shadow_line = |at: usize| format!("u{at}:!:20600::::::\n");
    let numbers = |found: &[String]| -> Vec<usize> {
        let number = |line: &String| line.split(':').nth(1)?.split(' ').next()?.parse().ok();
        found.iter().filter_map(number).collect()
    };
    let missing = |at: usize| at % 5003 == 17;
    let lacking = lines(&|at| !missing(at), &shadow_line);
    let extra = format!("{}stray:!:1::::::\n", lines(&|_| true, &shadow_line));
    let moved = format!("{}{}", shadow_line(ALL - 1), lines(&|at| at < ALL - 1, &shadow_line));
    let none: [usize; 0] = [];
    let all: Vec<usize> = (0..ALL).filter(|at| missing(*at)).map(|at| at + 1).collect();
    for (shadow, lacks, unmatched) in [
        (&lines(&|_| true, &shadow_line), &none[..], &none[..]),
        (&moved, &none, &none),
        (&lacking, &all, &none),
        (&extra, &none, &[ALL + 1]),
    ] {
        let files = [(File::Passwd, passwd.as_str()), (File::Shadow, shadow)];
        assert_eq!(numbers(&found("missing-shadow", &files)), lacks);
        assert_eq!(numbers(&found("shadow-orphan", &files)), unmatched);
        // Both at once, as they run together.
        let rules = ["missing-shadow", "shadow-orphan"].map(|name| rule(name).unwrap());
        let (book, policy, world) = (book(&files), Policy::default(), World::default());
        let context = crate::test_support::context(&book, &policy, &world);
        let both = Selection { only: rules.to_vec(), ..Selection::default() };
        assert_eq!(check(context, &both).findings.len(), lacks.len() + unmatched.len());
    }
}

#[test]
fn a_rule_that_is_accepted_has_to_exist() {
    let verify = |text: &str| verify_named_rules(&Policy::read("p", text).unwrap());
    assert_eq!(verify("[check]\naccept = [\"ghost-member:x  y\"]\n"), []);
    let faults = verify("[check]\n\naccept = [\"ghost-membr:x  y\", \"gost:x  y\"]\n");
    assert_eq!(
        faults[0].to_string(),
        "p:3: check.accept: there is no rule ghost-membr; the nearest is ghost-member"
    );
    assert_eq!(faults.len(), 2, "{faults:?}");
}

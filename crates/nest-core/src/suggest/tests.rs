use std::sync::Arc;

use super::*;
use crate::book::{Book, Texts};
use crate::surroundings::Facts;
use crate::test_support::World;
use crate::value::Day;

fn there(kind: FileKind, mode: u32) -> Result<Facts, String> {
    Ok(Facts { kind, uid: Uid(1000), gid: Gid(1000), mode })
}

/// What is suggested to a tree with these files, in which these paths are there.
fn suggested(
    files: &[(File, &str)],
    release: &'static str,
    paths: &[(&str, u32)],
    but: &[&str],
    policy: &str,
) -> Suggested {
    let mut texts = Texts::default();
    for (file, text) in files {
        texts.set(*file, Arc::new((*text).to_owned()));
    }
    let book = Book::new(texts);
    let mut world = World::default();
    world.files.0.push(("/etc/os-release", release));
    world.facts = paths
        .iter()
        .map(|(path, mode)| ((*path).into(), there(FileKind::Directory, *mode)))
        .collect();
    world.missing_programs = but.iter().map(|path| (*path).into()).collect();
    let policy = Policy::read("policy.toml", policy).unwrap();
    let context = crate::test_support::context(&book, &policy, &world);
    suggest(context)
}

fn lines(suggested: &Suggested) -> Vec<String> {
    let line = |it: &Suggestion| format!("{} = {}: {}", it.key, it.value, it.why);
    suggested.suggestions.iter().map(line).collect()
}

const USUAL: &[(&str, u32)] = &[("/etc/skel", 0o755), ("/var/mail", 0o775)];

#[test]
fn a_tree_that_is_as_the_built_in_settings_have_it_is_left_alone() {
    let files = [
        (
            File::Passwd,
            "root:x:0:0::/root:/bin/bash\nmaren:x:1004:1004::/home/maren:/bin/bash\nperrin:x:1005:1005::/home/perrin:/bin/bash\n",
        ),
        (File::Group, "sudo:x:27:maren\nmaren:x:1004:\nperrin:x:1005:\n"),
        (File::Shadow, "maren:!:20000:0::7:::\nperrin:!:20000:0::7:::\n"),
    ];
    let found = suggested(&files, "PRETTY_NAME=\"Harbour 1\"\n", USUAL, &[], "");
    assert_eq!(lines(&found), [""; 0]);
    assert_eq!((found.system.as_str(), found.people), ("Harbour 1", 2));
    assert_eq!(found.file(), "");
    assert_eq!(suggested(&[], "", USUAL, &[], "").people, 0);
}

#[test]
fn what_most_people_have_is_suggested_with_how_many_they_are() {
    let passwd = "daemon:x:2:2::/sbin:/bin/sh\n\
         db:x:26:26::/var/lib/db:/bin/bash\n\
         Odile.V:x:501:100::/srv/crew/Odile.V:/bin/zsh\n\
         Per.L:x:502:100::/srv/crew/Per.L:/bin/zsh\n\
         tavish:x:1003:100::/srv/crew/tavish:/bin/zsh\n\
         ottar:x:1004:1004::/srv/crew/ottar:/bin/bash\n";
    let files = [
        (File::Passwd, passwd),
        (
            File::Group,
            "users:x:100:\nottar:x:1004:\nboats:x:300:Odile.V,Per.L,tavish,ottar\n\
             docker:x:301:Odile.V,Per.L,tavish,ottar\nwheel:x:10:\n",
        ),
        (
            File::Shadow,
            "Odile.V:!:20000:1:90:14:::\nPer.L:!:20000:1:90:14:::\ntavish:!:20000:1:90:14:::\n\
             ottar:!:20000:0::7:::\n",
        ),
        (File::Subuid, "Odile.V:100000:1000\nPer.L:101000:1000\n"),
    ];
    let homes = [
        ("/srv/crew/Odile.V", 0o750),
        ("/srv/crew/Per.L", 0o750),
        ("/srv/crew/tavish", 0o700),
        ("/srv/crew/ottar", 0o750),
        ("/var/spool/mail", 0o775),
        ("/var/spool/mail/Per.L", 0o600),
        ("/var/spool/mail/tavish", 0o600),
        ("/var/spool/mail/ottar", 0o600),
    ];
    let found = suggested(&files, "", &homes, &[], "");
    assert_eq!(
        lines(&found),
        [
            "people.ids = \"500-59999\": 2 people have uids below 1000, from 501 on",
            "people.home = \"/srv/crew/{name}\": all 4 people have it",
            "people.home_permissions = \"0750\": 3 of 4 homes have it",
            "people.skeleton = \"none\": there is no /etc/skel",
            "people.shell = \"/bin/zsh\": 3 of 4 people have it",
            "people.private_group = false: the primary group of 3 of 4 people is users",
            "people.groups = [\"boats\"]: all 4 people are in",
            "people.ranges = 1000: 2 of 4 people have it",
            "services.ids = \"100-499\": the numbers of people begin after it",
            "names.style = \"dotted\": 2 names are with dots or capitals",
            "passwords.renew_days = 90: 3 of 4 people have it",
            "passwords.hold_days = 1: 3 of 4 people have it",
            "passwords.remind_days = 14: 3 of 4 people have it",
            "mail.spool = \"/var/spool/mail/{name}\": there is no /var/mail",
            "mail.create = true: 3 of 4 people have it",
        ]
    );
    // It can be read as a policy, and says the same as what is in force then.
    let policy = Policy::read("policy.toml", &found.file()).unwrap();
    assert_eq!((policy.people_shell.as_str(), policy.people_ranges), ("/bin/zsh", 1000));
    // What the policy of the tree says is its own.
    let settled = suggested(&files, "", &homes, &[], "[people]\nshell = \"/bin/sh\"\n");
    assert_eq!((settled.suggestions.len(), settled.settled), (14, 1));
}

#[test]
fn where_nobody_is_yet_the_system_and_what_is_there_decide() {
    let alpine = [
        (File::Passwd, "root:x:0:0::/root:/bin/ash\n"),
        (File::Group, "wheel:x:10:root\nusers:x:100:games\n"),
    ];
    let but = ["/bin/bash", "/usr/bin/bash", "/usr/sbin/nologin"];
    let found = suggested(&alpine, "ID=alpine\nNAME=Alpine\n", USUAL, &but, "");
    assert_eq!(
        lines(&found),
        [
            "people.shell = \"/bin/ash\": there is no /bin/bash",
            "services.shell = \"/sbin/nologin\": there is no /usr/sbin/nologin",
        ]
    );
    let suse = "ID=\"harbour-leap\"\nID_LIKE='suse opensuse'\n";
    let found = suggested(&alpine, suse, &[("/usr/etc/skel", 0o755)], &[], "");
    assert_eq!(
        lines(&found),
        [
            "people.skeleton = \"/usr/etc/skel\": there is no /etc/skel",
            "people.private_group = false: systems of this family put people into the group users",
        ]
    );
}

#[test]
fn groups_that_sudoers_gives_everything_are_those_of_administrators() {
    let files = [
        (File::Passwd, "root:x:0:0::/root:/bin/bash\n"),
        (File::Group, "root:x:0:\nsudo:x:27:\nwheel:x:10:\nharbourmasters:x:400:\n"),
    ];
    let with = |sudoers: &'static str| {
        let mut texts = Texts::default();
        for (file, text) in files {
            texts.set(file, Arc::new(text.to_owned()));
        }
        let book = Book::new(texts);
        let mut world = World::default();
        world.files.0.push(("etc/sudoers", sudoers));
        for (path, mode) in USUAL {
            world.facts.insert((*path).into(), there(FileKind::Directory, *mode));
        }
        let policy = Policy::default();
        let (book, world, policy) = (&book, &world, &policy);
        lines(&suggest(PlanContext { book, policy, world, today: Day(20781), change: None }))
    };
    assert_eq!(with("%sudo ALL=(ALL:ALL) ALL\n"), [""; 0]);
    assert_eq!(with("root ALL=(ALL) ALL\n"), [""; 0]);
    assert_eq!(
        with("%wheel ALL=(ALL) ALL\n%harbourmasters ALL=(ALL) NOPASSWD: ALL\n%sudo ALL=/bin/ls\n"),
        ["admins.groups = [\"wheel\", \"harbourmasters\", \"sudo\"]: sudoers gives everything to \
             wheel, harbourmasters"]
    );
}

#[test]
fn names_that_would_steer_a_terminal_or_break_a_file_do_neither() {
    let passwd =
        "a\x1b:x:1001:100::/srv/x\"y/a\x1b:/bin/z\"sh\nb:x:1002:100::/srv/x\"y/b:/bin/z\"sh\n";
    let files = [(File::Passwd, passwd), (File::Group, "cr\x07ew:x:100:\n")];
    let found = suggested(&files, "PRETTY_NAME=\"\x1b[2J\"\n", USUAL, &[], "");
    let policy = Policy::read("policy.toml", &found.file()).unwrap();
    assert_eq!(policy.people_shell, "/bin/z\"sh");
    assert!(!found.file().contains('\x07'), "{}", found.file());
}

//! `list admins`: who can become root, and how. sudo itself is the judge.

use std::process::Command;

use crate::harness::{KEY, Run, TestTree, has_program, is_root, passed_over};

const HOST: &str = "skerry";

/// A tree with sudo and doas, and some crews.
fn tree() -> TestTree {
    let tree = TestTree::new();
    tree.append(
        "etc/passwd",
        "odalys:x:1002:1002::/home/odalys:/bin/sh\nmaren:x:1003:27::/home/maren:/bin/sh\n",
    );
    tree.append("etc/shadow", "odalys:!:20600::::::\nmaren:!:20600::::::\n");
    tree.append("etc/group", "odalys:x:1002:\ncrew:x:300:odalys,tavish\ndocker:x:301:odalys\n");
    tree.append("etc/gshadow", "odalys:!::\ncrew:!::odalys,tavish\ndocker:!::odalys\n");
    tree.write("etc/hostname", format!("{HOST}\n"));
    for program in ["usr/bin/sudo", "usr/bin/doas"] {
        tree.write(program, "stands for it\n");
        tree.chmod(program, 0o4755);
    }
    tree
}

fn sudoers(tree: &TestTree, text: &str) {
    tree.write("etc/sudoers", text);
    tree.chmod("etc/sudoers", 0o440);
}

/// The lines of the list, into a pipe: name, by, what, password.
fn listed(tree: &TestTree) -> Vec<String> {
    let run = tree.run("list admins");
    let row = |line: &str| {
        let cells: Vec<&str> = line.split('\t').collect();
        [cells[0], cells[3], cells[4], cells[5]].join(" | ")
    };
    run.stdout.lines().map(row).collect()
}

#[test]
fn each_way_to_root_is_listed_with_its_line() {
    let tree = tree();
    sudoers(
        &tree,
        "Defaults env_reset\n%sudo ALL=(ALL:ALL) ALL\n#1001 ALL = NOPASSWD: /usr/bin/tides, \\\n  /usr/bin/nets\n@includedir /etc/sudoers.d\n",
    );
    tree.write("etc/sudoers.d/crew", "%crew skerry = (root) ALL, !/bin/su\n%crew elsewhere = ALL\n+net ALL = ALL\nnonsense here\n");
    tree.write("etc/doas.conf", "permit nopass odalys\n");
    tree.write("root/.ssh/authorized_keys", format!("{KEY}\n"));
    let run = tree.run("list admins");
    let lines = listed(&tree);
    let wanted = [
        "root | uid 0 | everything | ",
        "root | the key maren@harbour in /root/.ssh/authorized_keys:1 | everything | none",
        "sunniva | etc/sudoers:2 %sudo | everything | own",
        "tavish | etc/sudoers:3 #1001 | /usr/bin/tides, /usr/bin/nets | none",
        "tavish | etc/sudoers.d/crew:1 %crew | everything but /bin/su | own",
        "odalys | etc/sudoers.d/crew:1 %crew | everything but /bin/su | own",
        "odalys | etc/doas.conf:1 odalys | everything | none",
        "odalys | the group docker | everything | none",
        "maren | etc/sudoers:2 %sudo | everything | own",
    ];
    let known = |line: &&String| !line.contains("not known");
    assert_eq!(lines.iter().filter(known).collect::<Vec<_>>(), wanted);
    // A netgroup may be anybody: that is said of those who are listed anyway, and of all else
    // by the line itself.
    assert!(
        run.stderr.contains("etc/sudoers.d/crew:4 is no line that sudo understands: nonsense here")
    );
    let document = tree.json("list admins --whole");
    let names: Vec<&str> = document["admins"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["name"].as_str().unwrap())
        .collect();
    assert_eq!(names, ["root", "sunniva", "tavish", "odalys", "maren"]);
    assert_eq!(document["admins"][1]["ways"][0]["line"], 2);
    let table = tree.run("list admins --as csv").stdout;
    assert!(table.starts_with("name,uid,kind,by,") && table.contains("%sudo ALL=(ALL:ALL) ALL"));
    // show user says the same of one.
    tree.run("show user odalys").says("everything as root, by etc/doas.conf:1 odalys");
    tree.run("show user tavish").says("etc/sudoers:3 #1001, without a password");
    let shown = tree.json("show user maren");
    assert_eq!(shown["powers"][0]["word"], "%sudo");
}

#[test]
fn a_group_that_is_given_nothing_is_told_before_somebody_joins_it() {
    let tree = tree();
    sudoers(&tree, "root ALL = ALL\n");
    let told = "the group sudo administers nothing: no line of sudoers gives everything to %sudo";
    assert!(tree.run("list admins").stderr.contains(told));
    let run = tree.done("regroup tavish --admin --dry-run");
    run.says("no line of sudoers gives everything to %sudo");
    sudoers(&tree, "%sudo ALL = ALL\n");
    let run = tree.done("regroup tavish --admin --dry-run");
    assert!(!run.stdout.contains("no line of sudoers"), "{}", run.stdout);
    tree.remove("usr/bin/sudo");
    tree.done("regroup tavish --admin --dry-run").says("sudo is not installed");
    tree.done("create user perrin --admin --no-home --dry-run").says("sudo is not installed");
    assert!(tree.run("list admins").stderr.contains("sudo is not installed"));
}

#[test]
fn whole_names_of_the_machine_are_those_of_hosts_and_that_it_can_t_be_read_is_told() {
    let tree = tree();
    sudoers(&tree, "%sudo skerry.gullhaven.example = ALL\n");
    tree.write("etc/hosts", "127.0.1.1 skerry.gullhaven.example skerry\n");
    assert!(listed(&tree).iter().any(|line| line.starts_with("sunniva | etc/sudoers:1 %sudo")));
    assert!(!tree.run("list admins").stderr.contains("etc/hosts"));
    tree.remove("etc/hosts");
    tree.write("etc/hosts/of/a/folder", "");
    tree.run("list admins").complains("etc/hosts is a directory");
}

#[test]
fn since_when_somebody_administers_is_told_by_the_records() {
    let tree = tree();
    sudoers(&tree, "%sudo ALL = ALL\n");
    tree.done("regroup tavish --admin --yes");
    let shown = tree.json("list admins");
    let of = |name: &str| {
        let all = shown["admins"].as_array().unwrap();
        all.iter().find(|one| one["name"] == name).unwrap()["since"].clone()
    };
    assert_eq!(of("tavish")["change"], 1);
    assert!(of("sunniva").is_null());
}

#[test]
fn what_is_wrong_in_sudoers_leaves_the_rest_to_be_listed() {
    let tree = tree();
    // Aliases in a loop, an unclosed quote, a file that includes itself, and very many lines.
    let mut text = "User_Alias A = B\nUser_Alias B = A\nA ALL = ALL\n\"maren ALL = ALL\n\
                    @include /etc/sudoers\n%sudo ALL = (root) ALL\n"
        .to_owned();
    for line in 0..10_000 {
        text += &format!("nobody{line} ALL = /usr/bin/tides {line}\n");
    }
    sudoers(&tree, &text.replace("@include /etc/sudoers\n", ""));
    let lines = listed(&tree);
    assert!(
        lines.contains(&"sunniva | etc/sudoers:5 %sudo | everything | own".into()),
        "{lines:?}"
    );
    sudoers(&tree, "%sudo ALL = (root) ALL\n@include /etc/sudoers\n");
    let run = tree.run("list admins");
    assert!(
        run.stdout.contains("sunniva") && run.stderr.contains("included too deep"),
        "{}",
        run.stderr
    );
    tree.remove("etc/sudoers");
    std::os::unix::fs::symlink("/nowhere", tree.path("etc/sudoers")).unwrap();
    assert_eq!(tree.run("list admins").status, 0);
}

/// Numbers that look random and are the same each time.
struct Dice(u64);

impl Dice {
    fn pick<'p>(&mut self, pool: &[&'p str]) -> &'p str {
        self.0 =
            self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        pool[(self.0 >> 33) as usize % pool.len()]
    }
}

/// A file of sudoers as somebody may have written it.
fn written(dice: &mut Dice) -> String {
    let users = [
        "sunniva",
        "tavish",
        "odalys",
        "maren",
        "%crew",
        "%sudo",
        "#1002",
        "%#300",
        "ALL",
        "CREW",
        "OTHERS",
        "CREW, !tavish",
        "!CREW, ALL",
        "ALL, !%crew",
        "odalys, maren",
        "tidegauge",
        "!odalys, %crew",
    ];
    let hosts = [
        "ALL",
        "ALL",
        "skerry",
        "skerry",
        "QUAYS",
        "!skerry",
        "elsewhere",
        "sk*y",
        "ALL, !skerry",
        "elsewhere, skerry",
    ];
    let run_as = [
        "",
        "",
        "(root)",
        "(ALL)",
        "(ALL:ALL)",
        "(nobody)",
        "(:adm)",
        "(ALL, !root)",
        "(#0)",
        "(OPERATORS)",
        "(root : adm)",
    ];
    let tags = ["", "", "", "NOPASSWD:", "PASSWD: SETENV:", "NOEXEC:", "CWD=/tmp"];
    let commands = [
        "ALL",
        "ALL",
        "ALL",
        "!ALL",
        "/usr/bin/tides",
        "ALL, !/bin/su",
        "!/bin/su, ALL",
        "TIDES",
        "TIDES, ALL",
        "ALL, TIDES",
        "ALL, !ALL",
        "/usr/bin/tides up \\, down",
        "sudoedit /etc/motd",
        "WHOLE",
        "!WHOLE",
        "/usr/bin/nets \"\"",
    ];
    let mut text = "User_Alias CREW = odalys, %crew : OTHERS = sunniva, !odalys\n\
                    Host_Alias QUAYS = skerry, elsewhere\n\
                    Runas_Alias OPERATORS = root, daemon\n\
                    Cmnd_Alias TIDES = /usr/bin/tides, /usr/bin/nets -a : WHOLE = ALL\n"
        .to_owned();
    for _ in 0..3 {
        if dice.pick(&["yes", "no", "no"]) == "yes" {
            text += dice.pick(&[
                "Defaults !authenticate\n",
                "Defaults env_reset, mail_badpass\n",
                "Defaults:CREW !lecture\n",
                "Defaults secure_path=\"/usr/bin:/bin\"\n",
                "# a word, for whoever reads this\n",
                "Defaults@skerry timestamp_timeout=5\n",
                "Defaults>root !set_logname\n",
            ]);
        }
    }
    for _ in 0..6 {
        let (users, hosts) = (dice.pick(&users), dice.pick(&hosts));
        text += &format!(
            "{users} {hosts} = {} {} {}",
            dice.pick(&run_as),
            dice.pick(&tags),
            dice.pick(&commands)
        );
        if dice.pick(&["yes", "no", "no", "no"]) == "yes" {
            text += &format!(
                ", {} {}",
                dice.pick(&["(root)", "(nobody)", "PASSWD:"]),
                dice.pick(&commands)
            );
        }
        if dice.pick(&["yes", "no", "no", "no"]) == "yes" {
            text += &format!(
                " : \\\n    {} = {}",
                dice.pick(&["ALL", "skerry", "elsewhere"]),
                dice.pick(&commands)
            );
        }
        text += "\n";
    }
    text
}

const ASKED: [&str; 5] = ["sunniva", "tavish", "odalys", "maren", "tidegauge"];

/// Whom sudo gives everything as root, by asking for a command that no line names.
fn sudo_says(tree: &TestTree) -> Vec<bool> {
    let at = tree.root().display();
    let script = format!(
        "hostname {HOST}
         for file in passwd shadow group gshadow nsswitch.conf hosts sudoers; do mount --bind {at}/etc/$file /etc/$file; done
         visudo -c -q -f /etc/sudoers || echo faulty
         for user in {}; do
             if sudo -n -l -U $user -u root /usr/bin/env >/dev/null 2>&1; then echo yes; else echo no; fi
         done",
        ASKED.join(" ")
    );
    let run = Run::of(Command::new("unshare").args(["-m", "-u", "sh", "-euc", &script]));
    assert_eq!(run.status, 0, "{}", run.stderr);
    assert!(!run.stdout.contains("faulty"), "{}{}", run.stdout, tree.read("etc/sudoers"));
    run.stdout.lines().map(|line| line == "yes").collect()
}

#[test]
fn sudo_gives_everything_to_those_of_whom_it_is_said() {
    let programs = ["unshare", "mount", "sudo", "visudo", "hostname"];
    if !is_root() || !programs.iter().all(|program| has_program(program)) {
        return passed_over("sudo_gives_everything", &format!("root and {}", programs.join(", ")));
    }
    let probe = Command::new("unshare").args(["-m", "-u", "true"]).status();
    if !probe.is_ok_and(|status| status.success()) {
        return passed_over("sudo_gives_everything", "the right to make a mount namespace");
    }
    let tree = tree();
    tree.write("etc/nsswitch.conf", "passwd: files\ngroup: files\nshadow: files\nsudoers: files\n");
    tree.write("etc/hosts", format!("127.0.0.1 {HOST} localhost\n"));
    let mut dice = Dice(2026);
    let (mut given, mut all, mut unknown) = (0, 0, 0);
    for _ in 0..56 {
        let text = written(&mut dice);
        sudoers(&tree, &text);
        let truth = sudo_says(&tree);
        let document = tree.json("list admins");
        for (name, truth) in ASKED.iter().zip(truth) {
            let admins = document["admins"].as_array().unwrap();
            let ways = admins.iter().filter(|one| one["name"] == *name);
            let ways: Vec<_> = ways.flat_map(|one| one["ways"].as_array().unwrap()).collect();
            let by_sudo = || ways.iter().filter(|way| way["by"] == "sudo");
            let said = by_sudo().any(|way| way["runs"] == "everything");
            all += 1;
            given += usize::from(truth);
            if by_sudo().any(|way| way["runs"].is_null()) {
                unknown += 1;
                continue;
            }
            assert_eq!(said, truth, "{name}\n{text}\n{ways:#?}");
        }
    }
    assert!(given > 60 && all - given > 60 && unknown * 20 <= all, "{given} {unknown} of {all}");
}

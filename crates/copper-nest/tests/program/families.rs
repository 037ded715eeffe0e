//! Trees as the families of systems have them: what is made on each is what belongs there.

use std::os::unix::fs::symlink;

use crate::harness::{Run, TestTree, is_root, passed_over};

/// What a family has.
struct Family {
    release: &'static str,
    /// Files, with what they say.
    files: &'static [(&'static str, &'static str)],
    /// Programs.
    programs: &'static [&'static str],
    /// Directories.
    directories: &'static [&'static str],
    /// Links, and where they lead.
    links: &'static [(&'static str, &'static str)],
}

impl Family {
    fn tree(&self) -> TestTree {
        let tree = TestTree::empty();
        tree.write("etc/os-release", self.release);
        for (path, text) in self.files {
            tree.write(path, text);
            tree.chmod(path, if path.ends_with("shadow") { 0o600 } else { 0o644 });
        }
        for path in self.programs {
            tree.write(path, "a program\n");
            tree.chmod(path, if path.ends_with("sudo") { 0o4755 } else { 0o755 });
        }
        for path in ["home", "root", "var/lib"].iter().chain(self.directories) {
            std::fs::create_dir_all(tree.path(path)).unwrap();
        }
        for (path, target) in self.links {
            std::fs::create_dir_all(tree.path(path).parent().unwrap()).unwrap();
            symlink(target, tree.path(path)).unwrap();
        }
        tree
    }
}

const FEDORA: Family = Family {
    release: "NAME=\"Fedora Linux\"\nID=fedora\nPRETTY_NAME=\"Fedora Linux 42 (Server Edition)\"\n",
    files: &[
        (
            "etc/passwd",
            "root:x:0:0:Super User:/root:/bin/bash\nbin:x:1:1:bin:/bin:/usr/sbin/nologin\n\
             nobody:x:65534:65534:Kernel Overflow User:/:/usr/sbin/nologin\n\
             dbus:x:81:81:System Message Bus:/:/usr/sbin/nologin\n\
             sshd:x:74:74:Privilege-separated SSH:/usr/share/empty.sshd:/usr/sbin/nologin\n",
        ),
        (
            "etc/shadow",
            "root:!::0:99999:7:::\nbin:*:20000:0:99999:7:::\nnobody:*:20000:0:99999:7:::\n\
             dbus:!*:20100::::::\nsshd:!*:20100::::::\n",
        ),
        (
            "etc/group",
            "root:x:0:\nbin:x:1:\nwheel:x:10:\nmail:x:12:\nusers:x:100:\nnobody:x:65534:\n\
             dbus:x:81:\nsshd:x:74:\n",
        ),
        (
            "etc/gshadow",
            "root:::\nbin:::\nwheel:::\nmail:::\nusers:::\nnobody:::\ndbus:!*::\nsshd:!*::\n",
        ),
        ("etc/subuid", ""),
        ("etc/subgid", ""),
        ("etc/shells", "/bin/sh\n/bin/bash\n/usr/bin/sh\n/usr/bin/bash\n"),
        ("etc/sudoers", "root ALL=(ALL) ALL\n%wheel ALL=(ALL) ALL\n"),
        ("etc/skel/.bashrc", "# .bashrc\n"),
    ],
    programs: &["usr/bin/bash", "usr/bin/sh", "usr/sbin/nologin"],
    directories: &["var/spool/mail"],
    links: &[("bin", "usr/bin"), ("sbin", "usr/sbin"), ("var/mail", "spool/mail")],
};

const SUSE: Family = Family {
    release: "ID=\"opensuse-tumbleweed\"\nID_LIKE=\"opensuse suse\"\nPRETTY_NAME=\"openSUSE Tumbleweed\"\n",
    files: &[
        (
            "etc/passwd",
            "root:x:0:0:root:/root:/bin/bash\nnobody:x:65534:65534:nobody:/var/lib/nobody:/bin/bash\n\
             man:x:13:62:Manual pages viewer:/var/lib/empty:/usr/sbin/nologin\n",
        ),
        ("etc/shadow", "root:*:20000::::::\nnobody:!:20000::::::\nman:!:20000::::::\n"),
        (
            "etc/group",
            "root:x:0:\nnobody:x:65534:\nman:x:62:\nusers:x:100:\nwheel:x:493:\nshadow:x:15:\n",
        ),
        ("usr/etc/shells", "/bin/sh\n/bin/bash\n/usr/bin/bash\n"),
        ("usr/etc/nsswitch.conf", "passwd: compat systemd\ngroup: compat systemd\n"),
        ("usr/etc/sudoers", "Defaults targetpw\nALL ALL=(ALL) ALL\nroot ALL=(ALL) ALL\n"),
        ("usr/etc/skel/.profile", "# .profile\n"),
    ],
    programs: &["usr/bin/bash", "usr/bin/sh", "usr/sbin/nologin", "usr/bin/sudo"],
    directories: &["var/spool/mail"],
    links: &[("bin", "usr/bin"), ("var/mail", "spool/mail")],
};

const ARCH: Family = Family {
    release: "ID=arch\nPRETTY_NAME=\"Arch Linux\"\n",
    files: &[
        (
            "etc/passwd",
            "root:x:0:0::/root:/usr/bin/bash\nnobody:x:65534:65534:Kernel Overflow User:/:/usr/bin/nologin\n\
             http:x:33:33::/srv/http:/usr/bin/nologin\n",
        ),
        ("etc/shadow", "root::20000::::::\nnobody:!*:20000::::::\nhttp:!*:20000::::::\n"),
        ("etc/group", "root:x:0:root\nwheel:x:998:\nusers:x:984:\nnobody:x:65534:\nhttp:x:33:\n"),
        ("etc/gshadow", "root:::root\nwheel:!*::\nusers:!*::\nnobody:!*::\nhttp:!*::\n"),
        ("etc/subuid", ""),
        ("etc/subgid", ""),
        ("etc/shells", "/bin/sh\n/bin/bash\n/usr/bin/sh\n/usr/bin/bash\n"),
        ("etc/skel/.bash_profile", "# .bash_profile\n"),
    ],
    programs: &["usr/bin/bash", "usr/bin/sh", "usr/bin/nologin"],
    directories: &["var/spool/mail"],
    links: &[
        ("bin", "usr/bin"),
        ("usr/sbin", "bin"),
        ("sbin", "usr/bin"),
        ("var/mail", "spool/mail"),
    ],
};

const ALPINE: Family = Family {
    release: "NAME=\"Alpine Linux\"\nID=alpine\nPRETTY_NAME=\"Alpine Linux v3.20\"\n",
    files: &[
        (
            "etc/passwd",
            "root:x:0:0:root:/root:/bin/ash\nbin:x:1:1:bin:/bin:/sbin/nologin\n\
             guest:x:405:100:guest:/dev/null:/sbin/nologin\nnobody:x:65534:65534:nobody:/:/sbin/nologin\n",
        ),
        ("etc/shadow", "root:*::0:::::\nbin:!::0:::::\nguest:!::0:::::\nnobody:!::0:::::\n"),
        (
            "etc/group",
            "root:x:0:root\nbin:x:1:root,bin,daemon\nwheel:x:10:root\nmail:x:12:\nusers:x:100:games\n\
             nogroup:x:65533:\nnobody:x:65534:\nshadow:x:42:\n",
        ),
        ("etc/shells", "# valid login shells\n/bin/sh\n/bin/ash\n"),
    ],
    programs: &["bin/busybox", "sbin/nologin", "lib/ld-musl-x86_64.so.1"],
    directories: &["var/mail"],
    links: &[("bin/ash", "busybox"), ("bin/sh", "busybox")],
};

const FAMILIES: [(&str, &Family); 4] =
    [("fedora", &FEDORA), ("suse", &SUSE), ("arch", &ARCH), ("alpine", &ALPINE)];

fn suggestions(tree: &TestTree) -> Vec<String> {
    let found = tree.json("show policy --suggest");
    let line = |it: &serde_json::Value| {
        format!("{} = {}", it["key"].as_str().unwrap(), it["value"].as_str().unwrap())
    };
    found["suggestions"].as_array().unwrap().iter().map(line).collect()
}

#[test]
fn what_is_suggested_suits_each_family() {
    for (name, wanted) in [
        ("fedora", &[][..]),
        ("suse", &["people.skeleton = \"/usr/etc/skel\"", "people.private_group = false"]),
        ("arch", &[]),
        (
            "alpine",
            &[
                "people.skeleton = \"none\"",
                "people.shell = \"/bin/ash\"",
                "services.shell = \"/sbin/nologin\"",
            ],
        ),
    ] {
        let (_, family) = FAMILIES.iter().find(|(known, _)| *known == name).unwrap();
        let tree = family.tree();
        let before = tree.snapshot();
        assert_eq!(suggestions(&tree), wanted, "{name}");
        assert_eq!(tree.snapshot(), before, "{name}");
        let shown = tree.done("show policy --suggest");
        let system = family.release.split("PRETTY_NAME=").nth(1).unwrap().trim().trim_matches('"');
        shown.says(&format!("{system}, 0 people looked at"));
    }
}

#[test]
fn people_and_services_can_be_made_on_each_family_and_sign_in() {
    if !is_root() {
        return passed_over("people_and_services_can_be_made_on_each_family", "root");
    }
    for (name, family) in FAMILIES {
        let tree = family.tree();
        if !suggestions(&tree).is_empty() {
            tree.done("show policy --suggest --write");
            assert_eq!(suggestions(&tree), [""; 0], "{name}");
        }
        let run = tree.done("create user maren --admin");
        assert!(!run.stdout.contains("does not exist"), "{name}: {}", run.stdout);
        let run = tree.fed("password user maren --from-stdin", b"kelp-Harbour.91 tern\n");
        assert_eq!(run.status, 0, "{name}: {}", run.stderr);
        let says = tree.done("show user maren").value("sign-in");
        assert!(says.starts_with("by password: yes"), "{name}: {says}");
        let shadow = tree.read("etc/shadow");
        let hash = shadow.lines().find_map(|line| line.strip_prefix("maren:")).unwrap();
        let wanted = if name == "alpine" { "$6$" } else { "$y$" };
        assert!(hash.starts_with(wanted), "{name}: {hash}");
        let wheel = tree.read("etc/group");
        let wheel = wheel.lines().find(|line| line.starts_with("wheel:")).unwrap();
        assert!(wheel.ends_with("maren"), "{name}: {wheel}");
        tree.done("create user tidegauge --service");
        let passwd = tree.read("etc/passwd");
        let line = passwd.lines().find(|line| line.starts_with("tidegauge:")).unwrap();
        let shell = if name == "alpine" { "/sbin/nologin" } else { "/usr/sbin/nologin" };
        assert!(line.ends_with(shell), "{name}: {line}");
        // Files that a family does without are not made.
        assert_eq!(
            tree.exists("etc/gshadow"),
            family.files.iter().any(|(path, _)| *path == "etc/gshadow"),
            "{name}"
        );
        let found = tree.json("check");
        let of_ours: Vec<_> = found["findings"]
            .as_array()
            .unwrap()
            .iter()
            .filter(|finding| matches!(finding["subject"].as_str(), Some("maren" | "tidegauge")))
            .filter(|finding| finding["severity"] != "note")
            .collect();
        assert!(of_ours.is_empty(), "{name}: {of_ours:?}");
        // Mail is where the system has it, also where the usual place is a link to that.
        let spool = if name == "alpine" { "var/mail" } else { "var/spool/mail" };
        tree.write(&format!("{spool}/maren"), "From the tide table\n");
        tree.chown(&format!("{spool}/maren"), 1000, 12);
        tree.done("rename user maren marlo");
        assert!(tree.exists(&format!("{spool}/marlo")), "{name}");
        tree.done("delete user marlo --yes --even-last-admin");
        assert!(!tree.exists(&format!("{spool}/marlo")), "{name}");
        tree.done("restore user marlo");
        assert!(tree.exists(&format!("{spool}/marlo")), "{name}");
    }
}

#[test]
fn a_link_to_the_mail_that_somebody_else_made_is_not_followed() {
    if !is_root() {
        return passed_over("a_link_to_the_mail_that_somebody_else_made", "root");
    }
    for by in ["the directory", "the link", "everybody"] {
        let tree = FEDORA.tree();
        match by {
            "the directory" => tree.chown("var", 1000, 1000),
            "the link" => {
                std::os::unix::fs::lchown(tree.path("var/mail"), Some(1000), None).unwrap()
            }
            _ => tree.chmod("var", 0o777),
        }
        tree.done("create user maren");
        tree.write("var/spool/mail/maren", "From the tide table\n");
        tree.refused("delete user maren --yes", 3, "is reached through the link /var/mail");
    }
}

#[test]
fn what_is_suggested_is_written_on_request_alone_and_taken_back() {
    let tree = ALPINE.tree();
    let before = tree.snapshot_without("var");
    let shown = tree.done("show policy --suggest");
    shown.says("[people]");
    shown.says("- shell = \"/bin/bash\"");
    shown.says("+ shell = \"/bin/ash\"");
    shown.says("there is no /bin/bash");
    shown.says("nothing was written; to write these 3 settings to etc/copper-nest/policy.toml:");
    let toml = tree.done("show policy --suggest --format toml").stdout;
    assert!(toml.contains("# there is no /bin/bash\nshell = \"/bin/ash\""), "{toml}");
    tree.done("show policy --suggest --write --dry-run");
    assert_eq!(tree.snapshot_without("var"), before);
    let run = tree.done("show policy --suggest --write --note harbour");
    assert!(run.stdout.contains("shell = \"/bin/ash\""), "{}", run.stdout);
    run.says("done: change 1.");
    assert_eq!(tree.read("etc/copper-nest/policy.toml").trim_end(), toml.trim_end());
    assert_eq!(tree.mode("etc/copper-nest"), 0o755);
    assert_eq!(tree.mode("etc/copper-nest/policy.toml"), 0o644);
    tree.done("check --policy-only");
    assert_eq!(tree.line("etc/copper-nest/policy.toml", 1), "[people]");
    // What is there stays, whatever is in it.
    tree.refused(
        "show policy --suggest --write",
        3,
        "etc/copper-nest/policy.toml is there already, and stays as you made it",
    );
    tree.done("show policy --suggest").says("the built-in settings suit it");
    tree.done("undo --yes");
    assert!(!tree.exists("etc/copper-nest"));
    // Where the directory is there, only the file is made.
    std::fs::create_dir(tree.path("etc/copper-nest")).unwrap();
    tree.done("show policy --suggest --write");
    tree.done("undo --yes");
    assert!(tree.exists("etc/copper-nest") && !tree.exists("etc/copper-nest/policy.toml"));
    for (words, says) in [
        ("show policy --write", "--suggest"),
        ("show policy --dry-run", "--dry-run does nothing with show policy but with --write"),
        ("show policy --suggest --note x", "--note does nothing with show policy but with --write"),
    ] {
        let run: Run = tree.run(words);
        assert_eq!(run.status, 2, "{words}");
        assert!(run.stderr.contains(says), "{words}: {}", run.stderr);
    }
}

#[test]
fn what_a_system_ships_below_usr_is_read_where_etc_has_none() {
    let tree = SUSE.tree();
    tree.done("create user maren --shell /bin/bash --skeleton none");
    let run = tree.json("list admins");
    // Everybody may do everything, who knows the password of root.
    assert!(run.to_string().contains("maren"), "{run}");
    // The one in etc is the one that counts.
    tree.write("etc/sudoers", "root ALL=(ALL) ALL\n");
    let run = tree.json("list admins");
    assert!(!run.to_string().contains("maren"), "{run}");
    let check = tree.json("check --only unlisted-shell");
    assert_eq!(check["findings"].as_array().unwrap().len(), 0, "{check}");
    tree.write("etc/shells", "/bin/zsh\n");
    let check = tree.json("check --only unlisted-shell");
    assert!(!check["findings"].as_array().unwrap().is_empty(), "{check}");
}

//! Security labels: what is made gets the one that the file contexts of the tree give it.

use std::path::Path;

use crate::harness::{
    KEY, Run, TestTree, attribute, is_root, mount_memory, passed_over, set_attribute, under_strace,
    with_mounts_of_its_own,
};

const NAME: &str = "security.selinux";
const FILES: &str = "etc/selinux/default/contexts/files";

const BASE: &str = "/.*\tsystem_u:object_r:default_t:s0
/etc/.*\tsystem_u:object_r:etc_t:s0
/etc/passwd[-+]?\t--\tsystem_u:object_r:passwd_file_t:s0
/etc/group[-+]?\t--\tsystem_u:object_r:passwd_file_t:s0
/etc/g?shadow[-+]?\t--\tsystem_u:object_r:shadow_t:s0
/var/mail(/.*)?\tsystem_u:object_r:mail_spool_t:s0
/var/lib(/.*)?\tsystem_u:object_r:var_lib_t:s0
/home/lost\\+found/.*\t<<none>>
";

const HOMES: &str = "/home\t-d\tsystem_u:object_r:home_root_t:s0
/home/[^/]+\t-d\tunconfined_u:object_r:user_home_dir_t:s0
/home/[^/]+/.+\tunconfined_u:object_r:user_home_t:s0
/home/[^/]+/.+\t-l\tunconfined_u:object_r:user_link_t:s0
/home/[^/]+/bin(/.*)?\tunconfined_u:object_r:home_bin_t:s0
/home/[^/]+/\\.ssh(/.*)?\tunconfined_u:object_r:ssh_home_t:s0
";

/// The type of the label that something carries.
fn label(tree: &TestTree, path: &str) -> String {
    let Some(value) = attribute(&tree.path(path), NAME) else { return "none".to_owned() };
    let text = String::from_utf8(value).unwrap();
    text.split(':').nth(2).unwrap().to_owned()
}

/// Gives something a label of a type.
pub fn set(tree: &TestTree, path: &str, kind: &str) {
    let value = format!("system_u:object_r:{kind}:s0\0");
    assert!(set_attribute(&tree.path(path), NAME, value.as_bytes()));
}

/// A tree with file contexts; nothing where labels can't be set here.
pub fn labelled(test: &str) -> Option<TestTree> {
    let tree = TestTree::new();
    let may = is_root() && set_attribute(&tree.path("root"), NAME, b"u:r:t\0");
    if !may {
        passed_over(test, "the right to set security labels");
        return None;
    }
    tree.write(&format!("{FILES}/file_contexts"), BASE);
    tree.write(&format!("{FILES}/file_contexts.homedirs"), HOMES);
    tree.write("etc/selinux/config", "SELINUX=enforcing\nSELINUXTYPE=default\n");
    Some(tree)
}

const ACCOUNT_FILES: [&str; 6] =
    ["etc/passwd", "etc/shadow", "etc/group", "etc/gshadow", "etc/subuid", "etc/subgid"];

#[test]
fn what_is_made_has_the_label_that_belongs_there() {
    let Some(tree) = labelled("what_is_made_has_the_label_that_belongs_there") else { return };
    tree.write("key.pub", KEY);
    let key = tree.path("key.pub");
    tree.write("etc/copper-nest/policy.toml", "[mail]\ncreate = true\n");
    let run = tree.done(&format!("create user maren --ssh-key {}", key.display()));
    assert!(!run.stdout.contains("label"), "{}", run.stdout);
    for (path, wanted) in [
        ("home", "none"),
        ("home/maren", "user_home_dir_t"),
        ("home/maren/.profile", "user_home_t"),
        ("home/maren/.login", "user_link_t"),
        ("home/maren/bin", "home_bin_t"),
        ("home/maren/bin/tides", "home_bin_t"),
        ("home/maren/.ssh", "ssh_home_t"),
        ("home/maren/.ssh/authorized_keys", "ssh_home_t"),
        ("var/mail/maren", "mail_spool_t"),
        ("etc/passwd", "passwd_file_t"),
        ("etc/group", "passwd_file_t"),
        ("etc/shadow", "shadow_t"),
        ("etc/gshadow", "shadow_t"),
        ("etc/subuid", "etc_t"),
        ("etc/subgid", "etc_t"),
    ] {
        assert_eq!(label(&tree, path), wanted, "{path}");
    }
    let whole = attribute(&tree.path("home/maren"), NAME).unwrap();
    assert_eq!(whole, b"unconfined_u:object_r:user_home_dir_t:s0\0");
    // What comes later too: keys for somebody who has none, and a window's file.
    set(&tree, "etc/passwd", "etc_t");
    tree.done(&format!("change user sunniva --add-key {}", key.display()));
    assert_eq!(label(&tree, "home/sunniva/.ssh"), "ssh_home_t");
    assert_eq!(label(&tree, "home/sunniva/.ssh/authorized_keys"), "ssh_home_t");
    assert_eq!(label(&tree, "home/sunniva"), "none");
    tree.done("change user sunniva --full-name Sunniva");
    assert_eq!(label(&tree, "etc/passwd"), "passwd_file_t");
    // A home keeps the labels that it has, wherever it goes and comes back from.
    set(&tree, "home/maren/bin", "chosen_t");
    for (words, home) in [
        ("rename user maren marlo", "home/marlo"),
        ("change user marlo --home /home/harbour", "home/harbour"),
        ("undo --yes", "home/marlo"),
        ("delete user marlo --yes", ""),
        ("restore user marlo", "home/marlo"),
        ("delete user marlo --files archive --yes", ""),
        ("restore user marlo", "home/marlo"),
    ] {
        tree.done(words);
        if !home.is_empty() {
            assert_eq!(label(&tree, home), "user_home_dir_t", "after {words}");
            assert_eq!(label(&tree, &format!("{home}/bin")), "chosen_t", "after {words}");
        }
        for file in ACCOUNT_FILES {
            assert_ne!(label(&tree, file), "none", "{file} after {words}");
        }
    }
}

#[test]
fn a_tree_without_contexts_or_with_labels_switched_off_gets_none() {
    let test = "a_tree_without_contexts_or_with_labels_switched_off_gets_none";
    let Some(tree) = labelled(test) else { return };
    tree.write("etc/selinux/config", "SELINUX=disabled\nSELINUXTYPE=default\n");
    tree.done("create user maren");
    assert_eq!(label(&tree, "home/maren"), "none");
    std::fs::remove_dir_all(tree.path("etc/selinux")).unwrap();
    tree.done("create user perrin");
    assert_eq!(label(&tree, "home/perrin"), "none");
    assert_eq!(label(&tree, "etc/passwd"), "none");
    assert_eq!(tree.run("check --only home-label").status, 0);
}

#[test]
fn many_homes_made_by_a_table_and_one_made_by_a_repair_are_labelled() {
    let test = "many_homes_made_by_a_table_and_one_made_by_a_repair_are_labelled";
    let Some(tree) = labelled(test) else { return };
    let lines: String = (0..20_000)
        .map(|at| format!("/opt/pier{at}/[^/]+(/.*)?\t--\tu:object_r:pier_t:s0\n"))
        .collect();
    tree.write(&format!("{FILES}/file_contexts.local"), lines);
    let rows: String = (0..40).map(|at| format!("hand{at}\n")).collect();
    tree.write("crew.csv", format!("name\n{rows}"));
    tree.done(&format!("intake {} --yes", tree.path("crew.csv").display()));
    for at in [0, 17, 39] {
        assert_eq!(label(&tree, &format!("home/hand{at}")), "user_home_dir_t");
        assert_eq!(label(&tree, &format!("home/hand{at}/.profile")), "user_home_t");
    }
    std::fs::remove_dir_all(tree.path("home/hand7")).unwrap();
    tree.done("repair --only missing-home --yes");
    assert_eq!(label(&tree, "home/hand7"), "user_home_dir_t");
}

#[test]
fn paths_that_stand_for_others_get_the_labels_of_those() {
    let Some(tree) = labelled("paths_that_stand_for_others_get_the_labels_of_those") else {
        return;
    };
    tree.write(&format!("{FILES}/file_contexts.subs_dist"), "/srv/crew /home\n# more\n\n");
    std::fs::create_dir_all(tree.path("srv/crew")).unwrap();
    tree.done("create user maren --home /srv/crew/maren");
    assert_eq!(label(&tree, "srv/crew/maren"), "user_home_dir_t");
    assert_eq!(label(&tree, "srv/crew/maren/bin"), "home_bin_t");
}

#[test]
fn lines_that_can_not_be_understood_are_told_and_the_others_gone_by() {
    let test = "lines_that_can_not_be_understood_are_told_and_the_others_gone_by";
    let Some(tree) = labelled(test) else { return };
    tree.write(
        &format!("{FILES}/file_contexts.local"),
        "/home/[^/+ u:object_r:x_t\n/home/(?=tide).* u:object_r:x_t\n/opt/[ u:object_r:x_t\n",
    );
    let run = tree.done("create user maren");
    run.says(
        "/etc/selinux/default/contexts/files/file_contexts.local:1 has an expression that can't be \
         understood: unclosed character class, and is passed over, and so for 1 line more.",
    );
    assert_eq!(label(&tree, "home/maren"), "user_home_dir_t");
    let record = tree.json("show change 1");
    assert!(record.to_string().contains("file_contexts.local:1"), "{record}");
    let run = tree.run("check --only home-label");
    assert_eq!(run.status, 1);
    assert!(run.stderr.contains("file_contexts.local:1 has an expression"), "{}", run.stderr);
    // Several policies, and nothing that says which.
    tree.write("etc/selinux/other/contexts/files/file_contexts", BASE);
    tree.remove("etc/selinux/config");
    let run = tree.done("create user perrin");
    run.says("no security label is set: /etc/selinux holds several policies");
    assert_eq!(label(&tree, "home/perrin"), "none");
    // A file that holds something up for ever, or is no file, is not read.
    std::fs::remove_dir_all(tree.path("etc/selinux/other")).unwrap();
    let base = tree.path(&format!("{FILES}/file_contexts"));
    std::fs::remove_file(&base).unwrap();
    let (kind, mode) = (rustix::fs::FileType::Fifo, rustix::fs::Mode::RUSR);
    rustix::fs::mknodat(rustix::fs::CWD, &base, kind, mode, 0).unwrap();
    let run = tree.done("create user ottar");
    run.says(
        "no security label is set: /etc/selinux/default/contexts/files/file_contexts is a fifo",
    );
}

#[test]
fn without_the_right_or_a_place_to_keep_them_it_is_told() {
    let test = "without_the_right_or_a_place_to_keep_them_it_is_told";
    let Some(tree) = labelled(test) else { return };
    // Some kernels let the owner of a file set its label: so it is kept from doing it.
    if crate::harness::has_program("strace") {
        let program = tree.command(&["create", "user", "maren"]);
        let hindered = ["-e", "inject=setxattr,fsetxattr:error=EPERM"];
        let mut watched = under_strace(&program, &hindered, "/dev/null".as_ref());
        let run = Run::of(&mut watched);
        assert_eq!(run.status, 0, "{}", run.stderr);
        run.says("not set, for lack of the right to: /home/maren: its label and those below it");
        run.says("not set, for lack of the right to: etc/passwd: its label, ");
        assert_eq!(label(&tree, "home/maren"), "none");
    } else {
        passed_over("a user who may set no labels", "strace");
    }
    with_mounts_of_its_own(test, || {
        let Some(tree) = labelled("a file system that keeps no labels") else { return };
        mount_without_attributes(&tree.path("home"));
        let run = tree.done("create user maren");
        run.says("not set, as the file system keeps no such thing: /home/maren: its label");
        assert_eq!(label(&tree, "etc/passwd"), "passwd_file_t");
        assert!(tree.exists("home/maren/.profile"));
        mount_memory(&tree.path("home"), 1 << 20);
    });
}

/// Mounts a file system that has no extended attributes.
fn mount_without_attributes(at: &Path) {
    use nix::mount::{MsFlags, mount};
    let none: Option<&str> = None;
    mount(Some("none"), at, Some("ramfs"), MsFlags::empty(), none).unwrap();
}

#[test]
fn homes_with_another_label_are_found_and_the_command_that_is_offered_mends_them() {
    let test = "homes_with_another_label_are_found";
    let Some(tree) = labelled(test) else { return };
    set(&tree, "", "root_t");
    tree.done("create user maren");
    let found = tree.json("check --only home-label");
    assert_eq!(found["findings"].as_array().unwrap().len(), 2, "{found}");
    set(&tree, "home/maren", "home_root_t");
    let run = tree.run("check --only home-label --fail-on note");
    assert_eq!(run.status, 1);
    run.says("/home/maren is labelled home_root_t; user_home_dir_t belongs there.");
    // Those of a system that is labelled at all have one.
    run.says("/home/sunniva has no security label; user_home_dir_t belongs there.");
    let found = tree.json("check --only home-label");
    let findings = found["findings"].as_array().unwrap();
    assert_eq!(findings.len(), 3, "{found}");
    let command = findings[2]["remedies"][0]["command"].as_str().unwrap();
    assert!(command.starts_with("setfattr -n security.selinux -v unconfined_u:"), "{command}");
    if !crate::harness::has_program("setfattr") {
        return passed_over("the command that mends a label", "setfattr");
    }
    let pasted = std::process::Command::new("sh").arg("-c").arg(command).status().unwrap();
    assert!(pasted.success(), "{command}");
    assert_eq!(label(&tree, "home/maren"), "user_home_dir_t");
    // A type that somebody gives on purpose is let be.
    set(&tree, "home/maren", "web_content_t");
    tree.write("etc/selinux/default/contexts/customizable_types", "web_content_t\n");
    let found = tree.json("check --only home-label");
    assert_eq!(found["findings"].as_array().unwrap().len(), 2, "{found}");
}

#[test]
fn a_label_that_keeps_the_ssh_server_out_is_known_to_the_line_about_signing_in() {
    let test = "a_label_that_keeps_the_ssh_server_out";
    let Some(tree) = labelled(test) else { return };
    tree.write("key.pub", KEY);
    let key = tree.path("key.pub");
    tree.done(&format!("create user maren --ssh-key {}", key.display()));
    // As a system is that was started once.
    for (path, kind) in [("", "root_t"), ("home", "home_root_t")] {
        set(&tree, path, kind);
    }
    let sign_in = || tree.done("show user maren").value("sign-in");
    assert!(sign_in().ends_with("By key: yes, 1 key"), "{}", sign_in());
    set(&tree, "home/maren", "home_root_t");
    let says = sign_in();
    assert!(
        says.contains("/home/maren carries the label system_u:object_r:home_root_t:s0, which"),
        "{says}"
    );
    // Any label that belongs into a home will do.
    set(&tree, "home/maren", "user_home_dir_t");
    set(&tree, "home/maren/.ssh/authorized_keys", "user_home_t");
    assert!(sign_in().ends_with("By key: yes, 1 key"), "{}", sign_in());
    rustix::fs::removexattr(tree.path("home/maren/.ssh"), NAME).unwrap();
    assert!(sign_in().contains("/home/maren/.ssh carries no label"), "{}", sign_in());
    // Nobody is kept out where labels are only watched, or where there is none at all.
    tree.write("etc/selinux/config", "SELINUX=permissive\nSELINUXTYPE=default\n");
    assert!(sign_in().ends_with("By key: yes, 1 key"), "{}", sign_in());
    tree.write("etc/selinux/config", "SELINUX=enforcing\nSELINUXTYPE=default\n");
    rustix::fs::removexattr(tree.root(), NAME).unwrap();
    assert!(sign_in().ends_with("By key: yes, 1 key"), "{}", sign_in());
}

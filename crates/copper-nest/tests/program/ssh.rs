//! The SSH server's configuration in what is said of an account.

use crate::harness::{KEY, TestTree, is_root};

/// A tree in which sunniva and tavish have a key and sunniva a password.
fn tree(configuration: impl AsRef<[u8]>) -> TestTree {
    let tree = TestTree::new();
    for (name, uid) in [("sunniva", 1000), ("tavish", 1001)] {
        let keys = format!("home/{name}/.ssh/authorized_keys");
        tree.write(&keys, KEY);
        tree.chmod(&keys, 0o644);
        tree.chmod(&format!("home/{name}/.ssh"), 0o755);
        if is_root() {
            tree.chown(&keys, uid, uid);
            tree.chown(&format!("home/{name}/.ssh"), uid, uid);
        }
    }
    tree.write("etc/ssh/sshd_config", configuration);
    tree
}

fn sign_in(tree: &TestTree, name: &str) -> String {
    tree.done(&format!("show user {name}")).value("sign-in").replace("etc/ssh/sshd_config", "FILE")
}

#[test]
fn the_lines_that_keep_an_account_out_are_named() {
    for (text, name, says) in [
        ("UsePAM yes\n", "sunniva", "by password: yes. By key: yes, 1 key"),
        (
            "UsePAM yes\r\nPasswordAuthentication no\r\nKbdInteractiveAuthentication no\r\n",
            "sunniva",
            "by password: yes, but not over SSH, FILE:2 (PasswordAuthentication no) forbids it. \
             By key: yes, 1 key",
        ),
        (
            "UsePAM yes\n\nAllowGroups pilots # crew\n",
            "sunniva",
            "by password: yes, but not over SSH, FILE:3 (AllowGroups) forbids it. By key: no, \
             FILE:3 (AllowGroups) forbids it",
        ),
        (
            "UsePAM yes\nAllowGroups pilots\n",
            "tavish",
            "by password: no, the password is locked. By key: yes, 1 key",
        ),
        (
            "UsePAM no\n",
            "tavish",
            "by password: no, the password is locked. By key: no, the password is locked, and \
             without UsePAM the SSH server then takes no key",
        ),
        (
            "UsePAM yes\nMatch Address 10.0.0.0/8\n  PubkeyAuthentication no\n",
            "sunniva",
            "by password: yes. By key: yes, 1 key. It may differ by FILE:2",
        ),
        (
            "UsePAM yes\nMatch Group pilots\nPubkeyAuthentication no\n",
            "tavish",
            "by password: no, the password is locked. By key: no, FILE:3 \
             (PubkeyAuthentication no) forbids it",
        ),
        (
            "UsePAM yes\nAuthorizedKeysFile /etc/ssh/keys/%u\n",
            "sunniva",
            "by password: yes. By key: no, /etc/ssh/keys/sunniva holds none",
        ),
        (
            "UsePAM yes\nAuthorizedKeysFile none\n",
            "sunniva",
            "by password: yes. By key: no, the SSH server looks for none (AuthorizedKeysFile none)",
        ),
        (
            "UsePAM yes\nPermitRootLogin no\n",
            "root",
            "by password: no, the password field (*) matches no password. By key: no, FILE:2 \
             (PermitRootLogin no) forbids it, /root/.ssh holds none",
        ),
        (
            "Include sshd_config\n",
            "sunniva",
            "by password: yes, but not over SSH, FILE is included 16 levels deep, and the SSH \
             server does not start with that.",
        ),
    ] {
        let tree = tree(text);
        let said = sign_in(&tree, name);
        assert!(said.starts_with(says), "{text}\n{said}\n{says}");
    }
    let json = tree("PasswordAuthentication no\n").json("show user sunniva");
    assert_eq!(json["sign_in"]["password"], true);
    assert_eq!(json["sign_in"]["password_over_ssh"], false);
    assert_eq!(json["sign_in"]["keys"], true);
}

#[test]
fn what_drop_ins_set_counts_and_very_long_files_are_read() {
    let tree =
        tree("Include /etc/ssh/sshd_config.d/*.conf\nUsePAM yes\nPubkeyAuthentication yes\n");
    tree.write("etc/ssh/sshd_config.d/20-quay.conf", "PubkeyAuthentication no\n");
    tree.write("etc/ssh/sshd_config.d/10-quay.conf.old", "AllowUsers nobody\n");
    let said = sign_in(&tree, "sunniva");
    assert!(
        said.ends_with("By key: no, FILE.d/20-quay.conf:1 (PubkeyAuthentication no) forbids it"),
        "{said}"
    );
    let long = "# the quay is long\n".repeat(60_000) + "UsePAM yes\nDenyUsers sunniva\n";
    assert!(long.len() > 1_000_000);
    tree.write("etc/ssh/sshd_config", long);
    let said = sign_in(&tree, "sunniva");
    assert!(said.ends_with("By key: no, FILE:60002 (DenyUsers) forbids it"), "{said}");
    // What is no file of text says nothing, and that is said.
    tree.remove("etc/ssh/sshd_config");
    std::fs::create_dir(tree.path("etc/ssh/sshd_config")).unwrap();
    let said = sign_in(&tree, "sunniva");
    assert!(said.contains("By key: not known, FILE is a directory"), "{said}");
    let json = tree.json("show user sunniva");
    assert_eq!(json["sign_in"]["keys"], serde_json::Value::Null);
    assert_eq!(json["sign_in"]["password_over_ssh"], serde_json::Value::Null);
}

#[test]
fn a_change_that_moves_somebody_past_the_door_says_so() {
    let tree = tree("UsePAM yes\nAllowGroups pilots sudo\n");
    let run = tree.done("regroup tavish --leave pilots -n");
    run.says("tavish   can no longer sign in: etc/ssh/sshd_config:2 (AllowGroups) forbids it");
    let run = tree.done("rename group pilots crew -n --even-service");
    run.says("tavish   can no longer sign in: etc/ssh/sshd_config:2 (AllowGroups) forbids it");
    // Whoever has a password still gets in at the machine.
    tree.write("etc/ssh/sshd_config", "UsePAM yes\nAllowUsers sunniva tavish\n");
    let run = tree.done("rename user sunniva sunny -n");
    run.says(
        "sunny   can no longer sign in over SSH: etc/ssh/sshd_config:2 (AllowUsers) forbids it",
    );
    let json = tree.json("rename user sunniva sunny -n");
    assert!(json["access"].as_array().unwrap().iter().any(|change| change["kind"] == "ssh"));
    // By the primary group, when that is called otherwise.
    tree.write("etc/ssh/sshd_config", "UsePAM yes\nAllowGroups tavish\n");
    let run = tree.done("rename group tavish crew -n");
    run.says("tavish   can no longer sign in: etc/ssh/sshd_config:2 (AllowGroups) forbids it");
    // And the way in.
    tree.write("etc/ssh/sshd_config", "UsePAM yes\nAllowGroups slipway\n");
    let run = tree.done("regroup tavish --join slipway -n");
    run.says("tavish   can sign in, again by key");
}

#[test]
fn a_key_for_one_command_makes_nobody_administrator_enough() {
    let tree = tree("UsePAM yes\n");
    tree.write("home/sunniva/.ssh/authorized_keys", format!("command=\"tide\" {KEY}"));
    let said = sign_in(&tree, "sunniva");
    assert_eq!(said, "by password: yes. By key: yes, 1 key, for one command only");
    let run = tree.run("password user sunniva --none");
    assert_eq!(run.status, 3, "{}", run.stderr);
    assert!(run.stderr.contains("--even-last-admin"), "{}", run.stderr);
}

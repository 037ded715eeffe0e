//! What a real SSH server says: an `sshd` on the loopback of a network of its own, where no port
//! is anybody else's, in a mount namespace with the tree's files bound over `/etc`, `/home` and
//! the server's own places.

use std::collections::BTreeMap;
use std::process::{Command, Stdio};

use crate::commit::in_namespaces;
use crate::harness::{Run, TestTree, has_program, is_root, is_sampled, passed_over, program};

const PASSWORD: &str = "kelp-Harbour.91 tern";

/// Public keys of which the client has the other half.
struct ClientKey(String);

impl ClientKey {
    fn new(tree: &TestTree) -> Self {
        let path = tree.root().join("../client-key");
        let made = Command::new("ssh-keygen")
            .args(["-q", "-t", "ed25519", "-N", "", "-C", "maren@harbour", "-f"])
            .arg(&path)
            .status();
        assert!(made.unwrap().success());
        ClientKey(std::fs::read_to_string(path.with_extension("pub")).unwrap())
    }
}

/// An account, by what is odd about it: the shadow fields, the shell, its home and keys.
struct Crew {
    name: String,
    uid: u32,
}

/// Adds accounts of all kinds to a tree.
fn crew(tree: &TestTree, key: &str) -> Vec<Crew> {
    let mut all = Vec::new();
    let today = day();
    let hash = tree
        .read("etc/shadow")
        .lines()
        .find(|line| line.starts_with("tavish:"))
        .unwrap()
        .split(':')
        .nth(1)
        .unwrap()
        .to_owned();
    let mut add = |what: &str, password: &str, aging: &str, shell: &str, uid: Option<u32>| {
        let uid = uid.unwrap_or(3000 + u32::try_from(all.len()).unwrap());
        let password = password.replace('H', &hash);
        tree.append("etc/passwd", format!("{what}:x:{uid}:{uid}::/home/{what}:{shell}\n"));
        tree.append("etc/group", format!("{what}:x:{uid}:\n"));
        tree.append("etc/shadow", format!("{what}:{password}:{aging}\n"));
        tree.write(&format!("home/{what}/.ssh/authorized_keys"), key);
        for (path, mode) in [("", 0o755), ("/.ssh", 0o700), ("/.ssh/authorized_keys", 0o600)] {
            tree.chmod(&format!("home/{what}{path}"), mode);
            tree.chown(&format!("home/{what}{path}"), uid, uid);
        }
        all.push(Crew { name: what.to_owned(), uid });
    };
    let fine = format!("{today}:0::7:::");
    for (what, password) in
        [("plain", "H"), ("locked", "!H"), ("unset", "!"), ("never", "*"), ("open", "")]
    {
        add(what, password, &fine, "/bin/sh", None);
    }
    for (what, aging) in [
        ("must-change", "0:0::7:::".to_owned()),
        ("grace", format!("{}:0:30:7:::", today - 50)),
        ("too-old", format!("{}:0:30:7:10::", today - 50)),
        ("ended", format!("{today}:0::7::{}:", today - 1)),
        ("locked-grace", format!("{}:0:30:7:::", today - 50)),
    ] {
        let password = if what == "locked-grace" { "!H" } else { "H" };
        add(what, password, &aging, "/bin/sh", None);
    }
    add("no-shell", "H", &fine, "/usr/sbin/nologin", None);
    add("lost-shell", "H", &fine, "/bin/missing", None);
    add("root-too", "H", &fine, "/bin/sh", Some(0));
    for what in [
        "own-group",
        "shared-group",
        "others-write",
        "closed-ssh",
        "foreign-home",
        "second-file",
        "forced",
        "expired-key",
        "quoted",
        "no-home",
        "group-reads",
        "listed-alone",
    ] {
        add(what, "H", &fine, "/bin/sh", None);
    }
    let uid = |what: &str| all.iter().find(|one| one.name == what).unwrap().uid;
    tree.chmod("home/own-group", 0o775);
    tree.chmod("home/shared-group", 0o775);
    tree.chown("home/shared-group", uid("shared-group"), 100);
    tree.chmod("home/others-write/.ssh", 0o707);
    tree.chown("home/closed-ssh/.ssh", 0, 0);
    tree.chown("home/foreign-home", uid("plain"), uid("plain"));
    std::fs::rename(
        tree.path("home/second-file/.ssh/authorized_keys"),
        tree.path("home/second-file/.ssh/authorized_keys2"),
    )
    .unwrap();
    let keys = |what: &str| format!("home/{what}/.ssh/authorized_keys");
    tree.write(&keys("forced"), format!("command=\"echo in\" {key}"));
    tree.write(&keys("expired-key"), format!("expiry-time=\"20200101\" {key}"));
    tree.write(&keys("quoted"), format!("no-pty,environment=\"A=b c\" {key}"));
    std::fs::remove_dir_all(tree.path("home/no-home")).unwrap();
    // A group that has somebody else in it, and one that has only its holder on the list.
    let group = tree.read("etc/group");
    let group = group.replace(
        &format!("group-reads:x:{}:\n", uid("group-reads")),
        &format!("group-reads:x:{}:plain\n", uid("group-reads")),
    );
    tree.write(
        "etc/group",
        format!("{group}berth:x:4001:listed-alone\nhands:x:4000:plain,locked,grace,forced\n"),
    );
    tree.chmod("home/group-reads", 0o775);
    tree.chmod("home/listed-alone/.ssh", 0o770);
    tree.chown("home/listed-alone/.ssh", uid("listed-alone"), 4001);
    for one in ["plain", "locked"] {
        tree.write(&format!("etc/ssh/keys/{one}"), key);
        tree.chmod(&format!("etc/ssh/keys/{one}"), 0o644);
    }
    all
}

fn day() -> i64 {
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap();
    i64::try_from(now.as_secs() / 86400).unwrap()
}

/// What `ip link set lo up` does: `SIOCSIFFLAGS` with `IFF_UP` (netdevice(7)).
const LOOPBACK_UP: &str = "import fcntl, socket, struct
fcntl.ioctl(socket.socket(), 0x8914, struct.pack(\"16sh22x\", b\"lo\", 1))";

/// Asks an `sshd` with this configuration for each account, by password and by key, all at
/// once: a refusal takes seconds.
fn ask_sshd(
    tree: &TestTree,
    accounts: &[&str],
) -> Option<BTreeMap<(String, &'static str), &'static str>> {
    let at = tree.root().display();
    let mut script = format!(
        "python3 -c '{LOOPBACK_UP}'
         for file in passwd shadow group gshadow nsswitch.conf; do mount --bind {at}/etc/$file /etc/$file; done
         mount --bind {at}/etc/ssh /etc/ssh; mount --bind {at}/home /home; mount --bind {at}/etc/pam-of-sshd /etc/pam.d/sshd
         mount -t tmpfs none /run; mkdir -m 755 /run/sshd
         cd /
         # What the server before this one said is no answer.
         : > {at}/../sshd.log
         /usr/sbin/sshd -D -e -p 2222 -h {at}/../host-key -o PidFile=none -o ListenAddress=127.0.0.1 \\
             -o MaxStartups=500 2>> {at}/../sshd.log & server=$!
         trap 'kill $server' EXIT
         ask() {{
             account=$1 way=$2; shift 2
             timeout 60 ssh -F none -p 2222 -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null \\
                 -o NumberOfPasswordPrompts=1 -o LogLevel=VERBOSE \"$@\" $account@127.0.0.1 echo in \\
                 < /dev/null > {at}/../sshd-$account-$way 2>&1 || true
         }}
         until grep -q listening {at}/../sshd.log; do
             kill -0 $server; sleep 0.1
         done
         export SSH_ASKPASS={at}/../askpass SSH_ASKPASS_REQUIRE=force; waits=
         "
    );
    for account in accounts {
        script += &format!(
            "ask {account} key -i {at}/../client-key -o PreferredAuthentications=publickey & waits=\"$waits $!\"
             ask {account} password -o PreferredAuthentications=password,keyboard-interactive -o PubkeyAuthentication=no & waits=\"$waits $!\"\n"
        );
    }
    script += "wait $waits\n";
    let run = in_namespaces("the SSH server", "-mn", &script)?;
    assert_eq!(
        run.status,
        0,
        "{}\n{}",
        run.stderr,
        std::fs::read_to_string(tree.root().join("../sshd.log")).unwrap_or_default()
    );
    let mut said = BTreeMap::new();
    for account in accounts {
        for way in ["key", "password"] {
            let path = tree.root().join(format!("../sshd-{account}-{way}"));
            let text = std::fs::read_to_string(path).unwrap();
            let verdict = match text.trim_end() {
                // An account without a password needs no key.
                text if way == "key" && text.contains("using \"none\"") => "no",
                text if text.contains("change required") => "must change",
                // Where the modules ask for the new password themselves.
                text if text.contains("to change your password immediately") => "must change",
                text if text.lines().any(|line| line == "in") => "yes",
                text => {
                    let known = [
                        "Permission denied",
                        "not available",
                        "Connection closed",
                        "closed by remote host",
                        "Broken pipe",
                    ];
                    assert!(
                        known.iter().any(|known| text.contains(known)),
                        "{account} {way}: {text}"
                    );
                    "no"
                }
            };
            said.insert(((*account).to_owned(), way), verdict);
        }
    }
    Some(said)
}

/// What we say of the same.
fn ours(tree: &TestTree) -> BTreeMap<String, serde_json::Value> {
    let mut list = program();
    list.env_remove("SOURCE_DATE_EPOCH").arg("--tree").arg(tree.root());
    list.args(["list", "users", "--kind", "all", "--format", "json"]);
    let all = Run::of(&mut list).json();
    let each = all.as_array().unwrap().iter();
    each.map(|user| (user["name"].as_str().unwrap().to_owned(), user["sign_in"].clone())).collect()
}

/// Configurations, each with the accounts that it is tried on; all where none is named.
const CONFIGURATIONS: &[(&str, &[&str])] = &[
    ("UsePAM yes\nKbdInteractiveAuthentication no\n", &[]),
    ("UsePAM no\n", &[]),
    (
        "UsePAM yes\nPasswordAuthentication no\nAllowGroups hands unset\n",
        &["plain", "locked", "own-group", "open", "unset"],
    ),
    (
        "UsePAM yes\nPasswordAuthentication no\nKbdInteractiveAuthentication no\nDenyGroups hands\n",
        &["plain", "never", "quoted"],
    ),
    (
        "usepam=yes\nAllowUsers pla?n\nAllowUsers o* \"forced\"\nDenyUsers open@* quoted\n",
        &["plain", "open", "forced", "own-group", "quoted", "never"],
    ),
    (
        "UsePAM yes\nPubkeyAuthentication no\nPermitEmptyPasswords yes\n",
        &["plain", "open", "forced"],
    ),
    ("UsePAM yes\nPermitRootLogin yes\n", &["root-too"]),
    ("UsePAM yes\nPermitRootLogin no\n", &["root-too", "plain"]),
    ("UsePAM yes\nPermitRootLogin forced-commands-only\n", &["root-too", "forced"]),
    (
        "UsePAM yes\nAuthorizedKeysFile /etc/ssh/keys/%u .ssh/authorized_keys2\n",
        &["plain", "second-file", "locked", "own-group"],
    ),
    (
        "UsePAM yes\nStrictModes no\n",
        &["others-write", "foreign-home", "closed-ssh", "shared-group"],
    ),
    (
        "UsePAM yes\nMatch Group hands\nPasswordAuthentication no\nKbdInteractiveAuthentication no\nMatch User plain,!locked\nPubkeyAuthentication no\nMatch all\nAuthorizedKeysFile none\n",
        &["plain", "locked", "forced", "never", "quoted"],
    ),
    (
        "Include /etc/ssh/sshd_config.d/*.conf\r\nUsePAM no\r\nPasswordAuthentication yes\r\n",
        &["plain", "own-group", "too-old"],
    ),
    ("UsePAM yes\nAuthorizedKeysFile none\n", &["plain", "own-group"]),
];

/// A tree that an SSH server can be run on, and a key of which the client has the other half;
/// nothing where that can't be done, which is said.
fn served() -> Option<(TestTree, ClientKey)> {
    const WHAT: &str = "the SSH server";
    let needed = ["/usr/sbin/sshd", "ssh", "ssh-keygen", "timeout", "python3"];
    if let Some(missing) = needed.iter().find(|name| !has_program(name)) {
        passed_over(WHAT, missing);
        return None;
    }
    if !is_root() {
        passed_over(WHAT, "root and a mount namespace");
        return None;
    }
    let tree = TestTree::new();
    let mut set = program();
    set.env_remove("SOURCE_DATE_EPOCH").arg("--tree").arg(tree.root());
    set.args(["-q", "password", "user", "tavish", "--from-stdin"]).stdin(Stdio::piped());
    let mut child = set.spawn().unwrap();
    std::io::Write::write_all(&mut child.stdin.take().unwrap(), PASSWORD.as_bytes()).unwrap();
    assert!(child.wait().unwrap().success());
    let key = ClientKey::new(&tree);
    let made = Command::new("ssh-keygen")
        .args(["-q", "-t", "ed25519", "-N", "", "-f"])
        .arg(tree.root().join("../host-key"))
        .status();
    assert!(made.unwrap().success());
    tree.write("../askpass", format!("#!/bin/sh\necho '{PASSWORD}'\n"));
    tree.chmod("../askpass", 0o755);
    // The port's server starts the shells that the machine has: the tree says the same.
    for (shell, mode) in [("bin/sh", 0o755), ("usr/sbin/nologin", 0o755)] {
        tree.write(shell, "stands for the system's\n");
        tree.chmod(shell, mode);
    }
    if let Ok(debian) = std::fs::read("/etc/debian_version") {
        tree.write("etc/debian_version", debian);
    }
    tree.write("etc/nsswitch.conf", "passwd: files\ngroup: files\nshadow: files\n");
    tree.write(
        "etc/pam-of-sshd",
        "@include common-auth\naccount required pam_nologin.so\n@include common-account\n\
         session required pam_permit.so\npassword required pam_unix.so\n",
    );
    tree.write("etc/ssh/sshd_config.d/10-harbour.conf", "UsePAM yes\nMatch User own-group\nPasswordAuthentication no\nKbdInteractiveAuthentication no\n");
    tree.chmod("home", 0o755);
    // As whom the server talks before it knows who comes.
    tree.append("etc/passwd", "sshd:x:3999:100::/run/sshd:/usr/sbin/nologin\n");
    Some((tree, key))
}

#[test]
fn keys_that_are_added_let_in_and_those_that_are_dropped_shut_out() {
    let Some((tree, key)) = served() else { return };
    let crew = crew(&tree, crate::harness::KEY);
    assert!(crew.len() > 10);
    tree.write(
        "etc/ssh/sshd_config",
        "UsePAM yes\nPasswordAuthentication no\nKbdInteractiveAuthentication no\n",
    );
    tree.write("root/own.pub", &key.0);
    std::fs::remove_dir_all(tree.path("home/quoted/.ssh")).unwrap();
    let own = tree.path("root/own.pub").display().to_string();
    // With a file of keys and without one, with a second file, and bound to a command.
    let accounts = ["plain", "quoted", "second-file", "forced", "own-group"];
    let by_key = |says: &str| {
        let said = ask_sshd(&tree, &accounts)?;
        let ours = ours(&tree);
        for account in accounts {
            assert_eq!(said[&(account.to_owned(), "key")], says, "{account}");
            let lets = account != "forced" && says == "no" || ours[account]["keys"] == true;
            assert!(lets, "{account}: {}", ours[account]);
        }
        Some(())
    };
    if by_key("no").is_none() {
        return;
    }
    let clocked = |words: &str| {
        let mut run = program();
        run.env_remove("SOURCE_DATE_EPOCH").arg("--tree").arg(tree.root());
        let run = Run::of(run.args(words.split(' ')));
        assert_eq!(run.status, 0, "{words}\n{}", run.stderr);
    };
    let names = accounts.join(" ");
    clocked(&format!("change user {names} --add-key {own}"));
    by_key("yes").unwrap();
    let print = tree.json("list keys --of plain")[1]["fingerprint"].as_str().unwrap().to_owned();
    clocked(&format!("change user {names} --drop-key {print}"));
    by_key("no").unwrap();
    clocked("undo --yes");
    by_key("yes").unwrap();
}

#[test]
fn the_sign_in_line_agrees_with_sshd() {
    let Some((tree, key)) = served() else { return };
    let crew = crew(&tree, &key.0);
    let everybody: Vec<&str> = crew.iter().map(|one| one.name.as_str()).collect();
    let (mut asked, mut counts) = (0, BTreeMap::<&str, usize>::new());
    let mut wrong = String::new();
    for (at, (configuration, some)) in CONFIGURATIONS.iter().enumerate() {
        if !is_sampled(at, 3) {
            continue;
        }
        tree.write("etc/ssh/sshd_config", configuration);
        let accounts = if some.is_empty() { &everybody[..] } else { some };
        let ours = ours(&tree);
        let Some(said) = ask_sshd(&tree, accounts) else { return };
        for account in accounts {
            asked += 1;
            let ours = &ours[*account];
            for (way, lets, asks) in [
                ("password", "password_over_ssh", "must_change"),
                ("key", "keys", "must_change_by_key"),
            ] {
                let we_say = match (&ours[lets], &ours[asks]) {
                    (serde_json::Value::Bool(true), serde_json::Value::Bool(true)) => "must change",
                    (serde_json::Value::Bool(true), _) => "yes",
                    _ => "no",
                };
                let sshd = said[&((*account).to_owned(), way)];
                if we_say != sshd {
                    wrong += &format!(
                        "{account} by {way}: we say {we_say}, it says {sshd}; {ours}\n  {configuration:?}\n"
                    );
                }
                *counts.entry(sshd).or_default() += 1;
            }
        }
    }
    assert!(wrong.is_empty(), "{wrong}");
    let least = if is_sampled(1, 3) { [60, 30, 30, 5] } else { [20, 10, 10, 1] };
    let count = |answer: &str| counts.get(answer).copied().unwrap_or(0);
    let counted = [asked, count("yes"), count("no"), count("must change")];
    assert!(counted.iter().zip(least).all(|(is, least)| *is >= least), "{counted:?}");
}

//! What the system's own authentication says: Debian's pamtester with the service
//! `login`, in a mount namespace with the tree's files bound over `/etc`.

use std::collections::BTreeMap;

use crate::commit::in_namespace;
use crate::harness::{Run, TestTree, has_program, passed_over, program};

const GOOD: &str = "kelp-Harbour.91 tern";

/// Asks for each user at once, as a refusal takes seconds: whether PAM lets it in
/// with the password, and whether its shell starts.
fn ask_pam(tree: &TestTree, users: &[(String, &str)]) -> Option<BTreeMap<String, String>> {
    if !has_program("pamtester") {
        passed_over("PAM", "pamtester");
        return None;
    }
    let at = tree.root().display();
    let mut script = format!(
        "for file in passwd shadow group gshadow nsswitch.conf; do mount --bind {at}/etc/$file /etc/$file; done
         ask() {{
             said=$(printf '%s\\n' \"$2\" | pamtester login $1 authenticate acct_mgmt 2>&1 || true)
             shell=$(getent passwd $1 | cut -d: -f7)
             ${{shell:-/bin/sh}} -c 'exit 0' >/dev/null 2>&1 && starts=starts || starts='does not start'
             echo \"$1: $starts: $said\" | tr '\\n' ' ' > {at}/../pam-$1
         }}\n"
    );
    for (user, password) in users {
        script += &format!("ask {user} '{password}' &\n");
    }
    script += "wait\n";
    tree.write("etc/nsswitch.conf", "passwd: files\ngroup: files\nshadow: files\n");
    in_namespace("PAM", &script)?;
    let said = |(user, _): &(String, &str)| {
        let path = tree.root().join(format!("../pam-{user}"));
        let said = std::fs::read_to_string(path).unwrap();
        let verdict = match said {
            said if said.contains("does not start") => "no shell",
            said if said.contains("new one required") => "must change",
            said if said.contains("account management done") => "yes",
            _ => "no",
        };
        (user.clone(), verdict.to_owned())
    };
    Some(users.iter().map(said).collect())
}

/// Runs the program today, as PAM does.
fn today(tree: &TestTree, words: &str, input: &str) -> Run {
    let mut command = program();
    command.env_remove("SOURCE_DATE_EPOCH").arg("--tree").arg(tree.root());
    command.args(words.split(' ')).stdin(std::process::Stdio::piped());
    command.stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::piped());
    let mut child = command.spawn().unwrap();
    let _ = std::io::Write::write_all(&mut child.stdin.take().unwrap(), input.as_bytes());
    let run = Run::from(child.wait_with_output().unwrap());
    assert_eq!(run.status, 0, "{words}: {}", run.stderr);
    run
}

#[test]
fn what_we_set_is_what_pam_goes_by() {
    let tree = TestTree::new();
    let users = ["fresh", "former", "late", "gone", "away", "back"];
    for user in users {
        today(&tree, &format!("-q create user {user} --password stdin"), GOOD);
    }
    today(&tree, "-q password user former --from-stdin", "another kelp-Harbour.92");
    today(&tree, "-q change user late --must-change", "");
    today(&tree, "-q suspend user gone", "");
    today(&tree, "-q change user away --expires +1d", "");
    let shadow = tree.read("etc/shadow");
    let line = shadow.lines().find(|line| line.starts_with("away:")).unwrap();
    let fields: Vec<&str> = line.split(':').collect();
    // Tomorrow's first day is today's for who waits a day.
    let yesterday = (fields[7].parse::<i64>().unwrap() - 1).to_string();
    let expired = line.replace(&format!(":{}:", fields[7]), &format!(":{yesterday}:"));
    tree.write("etc/shadow", shadow.replace(line, &expired));
    today(&tree, "-q suspend user back", "");
    today(&tree, "-q resume user back", "");
    let asked: Vec<(String, &str)> = users.map(|user| (user.to_owned(), GOOD)).to_vec();
    let Some(said) = ask_pam(&tree, &asked) else { return };
    let wanted = [
        ("away", "no"),
        ("back", "yes"),
        ("former", "no"),
        ("fresh", "yes"),
        ("gone", "no"),
        ("late", "must change"),
    ];
    let said: Vec<(&str, &str)> =
        said.iter().map(|(user, verdict)| (user.as_str(), verdict.as_str())).collect();
    assert_eq!(said, wanted);
}

#[test]
fn the_sign_in_line_agrees_with_pam() {
    let tree = TestTree::new();
    today(&tree, "-q password user tavish --from-stdin", GOOD);
    let shadow = tree.read("etc/shadow");
    let line = shadow.lines().find(|line| line.starts_with("tavish:")).unwrap();
    let fields: Vec<String> = line.split(':').map(str::to_owned).collect();
    let (hash, day) = (&fields[1], fields[2].parse::<i64>().unwrap());
    let passwords = [hash.clone(), format!("!{hash}"), "!".into(), "*".into(), String::new()];
    let expiries = [String::new(), "1".into(), day.to_string(), (day + 1).to_string()];
    // changed, renew, late
    let aging = [
        (day, "", ""),
        (0, "", ""),
        (day - 50, "30", ""),
        (day - 50, "30", "10"),
        (day - 50, "30", "20"),
        (day - 50, "50", "0"),
        (day - 50, "49", "0"),
        (day + 9, "5", "1"),
        (day - 50, "99999", "1"),
        (i64::MAX, "30", ""),
        (i64::MAX, "30", "10"),
    ];
    let shells = ["/bin/sh", "/usr/sbin/nologin", "/bin/missing", ""];
    let mut users: Vec<(String, &str)> = Vec::new();
    let add = |password: &str, expiry: &str, aging: (i64, &str, &str), shell: &str, at: usize| {
        let (changed, renew, late) = aging;
        // A field that is left empty.
        let changed = if changed == i64::MAX { String::new() } else { changed.to_string() };
        tree.append("etc/passwd", format!("crew{at}:x:{}:100::/:{shell}\n", 3000 + at));
        tree.append(
            "etc/shadow",
            format!("crew{at}:{password}:{changed}:0:{renew}:7:{late}:{expiry}:\n"),
        );
    };
    for password in &passwords {
        for expiry in &expiries {
            for aging in aging {
                add(password, expiry, aging, "/bin/sh", users.len());
                users.push((format!("crew{}", users.len()), GOOD));
            }
        }
    }
    for shell in shells {
        add(hash, "", (day, "", ""), shell, users.len());
        users.push((format!("crew{}", users.len()), GOOD));
    }
    assert!(users.len() >= 180);
    // The same shells must be there for both of us.
    for shell in ["bin/sh", "usr/sbin/nologin"] {
        tree.write(shell, "stands for the system's\n");
        tree.chmod(shell, 0o755);
    }
    let mut list = program();
    list.env_remove("SOURCE_DATE_EPOCH").arg("--tree").arg(tree.root());
    list.args(["list", "users", "--kind", "all", "--format", "json"]);
    let ours = Run::of(&mut list).json();
    let Some(said) = ask_pam(&tree, &users) else { return };
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    for user in ours.as_array().unwrap() {
        let Some(pam) = user["name"].as_str().and_then(|name| said.get(name)) else { continue };
        let sign_in = &user["sign_in"];
        let ours = match (&sign_in["password"], &sign_in["must_change"]) {
            (serde_json::Value::Bool(true), serde_json::Value::Bool(true)) => "must change",
            (serde_json::Value::Bool(true), _) => "yes",
            _ => "no",
        };
        let pam = if pam == "no shell" { "no" } else { pam };
        let line = tree.read("etc/shadow");
        let start = format!("{}:", user["name"].as_str().unwrap());
        let line = line.lines().find(|line| line.starts_with(&start)).unwrap().to_owned();
        assert_eq!(ours, pam, "{line} on day {day}: {sign_in}");
        *counts.entry(ours).or_default() += 1;
    }
    assert!(counts["yes"] >= 10 && counts["no"] >= 100 && counts["must change"] >= 5, "{counts:?}");
}

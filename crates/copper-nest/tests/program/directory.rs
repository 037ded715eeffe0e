//! Accounts on their way to a directory, and a real server as the judge: what is written can be
//! loaded, what is dumped is the same, changes make it so again, and the C library sees the same
//! numbers and groups through it.

use std::fmt::Write as _;
use std::fs;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};

use crate::harness::{
    TestTree, bind, folder, has_program, is_root, mount_memory, passed_over, with_mounts_of_its_own,
};

const BASE: &str = "dc=gullhaven,dc=example";
const ADMIN: &str = "cn=admin,dc=gullhaven,dc=example";

/// The classes of draft-howard-rfc2307bis that accounts use.
const BIS: &str = "
attributetype ( 1.3.6.1.1.1.1.2 NAME 'gecos' EQUALITY caseIgnoreIA5Match SYNTAX 1.3.6.1.4.1.1466.115.121.1.26 SINGLE-VALUE )
attributetype ( 1.3.6.1.1.1.1.3 NAME 'homeDirectory' EQUALITY caseExactIA5Match SYNTAX 1.3.6.1.4.1.1466.115.121.1.26 SINGLE-VALUE )
attributetype ( 1.3.6.1.1.1.1.4 NAME 'loginShell' EQUALITY caseExactIA5Match SYNTAX 1.3.6.1.4.1.1466.115.121.1.26 SINGLE-VALUE )
attributetype ( 1.3.6.1.1.1.1.5 NAME 'shadowLastChange' EQUALITY integerMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.27 SINGLE-VALUE )
attributetype ( 1.3.6.1.1.1.1.6 NAME 'shadowMin' EQUALITY integerMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.27 SINGLE-VALUE )
attributetype ( 1.3.6.1.1.1.1.7 NAME 'shadowMax' EQUALITY integerMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.27 SINGLE-VALUE )
attributetype ( 1.3.6.1.1.1.1.8 NAME 'shadowWarning' EQUALITY integerMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.27 SINGLE-VALUE )
attributetype ( 1.3.6.1.1.1.1.9 NAME 'shadowInactive' EQUALITY integerMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.27 SINGLE-VALUE )
attributetype ( 1.3.6.1.1.1.1.10 NAME 'shadowExpire' EQUALITY integerMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.27 SINGLE-VALUE )
objectclass ( 1.3.6.1.1.1.2.0 NAME 'posixAccount' SUP top AUXILIARY MUST ( cn $ uid $ uidNumber $ gidNumber $ homeDirectory ) MAY ( userPassword $ loginShell $ gecos $ description ) )
objectclass ( 1.3.6.1.1.1.2.1 NAME 'shadowAccount' SUP top AUXILIARY MUST uid MAY ( userPassword $ description $ shadowLastChange $ shadowMin $ shadowMax $ shadowWarning $ shadowInactive $ shadowExpire ) )
objectclass ( 1.3.6.1.1.1.2.2 NAME 'posixGroup' SUP top AUXILIARY MUST gidNumber MAY ( userPassword $ description ) )
objectclass ( 1.3.6.1.1.1.2.18 NAME 'groupOfMembers' SUP top STRUCTURAL MUST cn MAY ( member $ description ) )
";

/// A server of a folder's own, on a socket in it, that ends with the test.
struct Server {
    place: tempfile::TempDir,
    running: Option<Child>,
}

impl Server {
    /// Sets one up, without starting it; nothing where there is none to be had.
    fn new(test: &str, schema: &str) -> Option<Self> {
        if !has_program("slapd") || !has_program("ldapadd") {
            passed_over(test, "slapd and ldap-utils");
            return None;
        }
        let place = folder();
        fs::create_dir(place.path().join("data")).unwrap();
        fs::write(place.path().join("bis.schema"), BIS).unwrap();
        let at = place.path().display();
        let nis = match schema {
            "rfc2307bis" => format!("{at}/bis.schema"),
            _ => "/etc/ldap/schema/nis.schema".to_owned(),
        };
        let settings = format!(
            "include /etc/ldap/schema/core.schema\ninclude /etc/ldap/schema/cosine.schema\n\
             include {nis}\nmodulepath /usr/lib/ldap\nmoduleload back_mdb\npidfile {at}/pid\n\
             database mdb\nsuffix \"{BASE}\"\nrootdn \"{ADMIN}\"\nrootpw tides\n\
             directory {at}/data\nmaxsize 1073741824\n"
        );
        fs::write(place.path().join("slapd.conf"), settings).unwrap();
        let server = Server { place, running: None };
        server.add_offline(
            "dn: dc=gullhaven,dc=example\nobjectClass: dcObject\nobjectClass: organization\n\
             dc: gullhaven\no: Gullhaven Ferries\n",
        );
        Some(server)
    }

    fn settings(&self) -> PathBuf {
        self.place.path().join("slapd.conf")
    }

    /// The address of its socket.
    fn address(&self) -> String {
        let path = self.place.path().join("socket").display().to_string();
        format!("ldapi://{}", path.replace('/', "%2F"))
    }

    fn start(&mut self) {
        let child = Command::new("slapd")
            .args(["-d", "0", "-h", &self.address(), "-f"])
            .arg(self.settings())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn();
        self.running = Some(child.unwrap());
        let until = Instant::now() + Duration::from_secs(20);
        let answers = || {
            let search = ["-x", "-H", &self.address(), "-b", BASE, "-s", "base", "dn"];
            Command::new("ldapsearch").args(search).output().unwrap().status.success()
        };
        while !answers() {
            assert!(Instant::now() < until, "the server does not answer");
            std::thread::sleep(Duration::from_millis(50));
        }
    }

    /// Loads entries while it does not run.
    fn add_offline(&self, text: &str) {
        let file = self.place.path().join("offline.ldif");
        fs::write(&file, text).unwrap();
        let mut add = Command::new("slapadd");
        add.arg("-q").arg("-f").arg(self.settings()).arg("-l").arg(&file);
        succeeded(&add.output().unwrap());
    }

    /// Adds entries, or makes changes.
    fn take(&self, program: &str, file: &Path) {
        let words = ["-x", "-D", ADMIN, "-w", "tides", "-H", &self.address(), "-f"];
        succeeded(&Command::new(program).args(words).arg(file).output().unwrap());
    }

    /// Everything in it.
    fn dump(&self) -> String {
        let output = match self.running {
            Some(_) => {
                let words = ["-x", "-LLL", "-H", &self.address(), "-D", ADMIN, "-w", "tides"];
                Command::new("ldapsearch").args(words).args(["-b", BASE]).output()
            }
            None => Command::new("slapcat").arg("-f").arg(self.settings()).output(),
        };
        let output = output.unwrap();
        succeeded(&output);
        String::from_utf8(output.stdout).unwrap()
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        if let Some(child) = &mut self.running {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

fn succeeded(output: &Output) {
    let [out, err] = [&output.stdout, &output.stderr].map(|text| String::from_utf8_lossy(text));
    assert!(output.status.success(), "{out}{err}");
}

/// A tree with people in it whom a directory finds hard to hold.
fn crew() -> TestTree {
    let tree = TestTree::new();
    tree.done("create user maren --full-name Maren --join pilots,slipway --no-home --yes");
    tree.done("create user solvi --full-name Sølvi --no-home --yes");
    tree.done("create user brannoc --full-name Brannoc --no-home --expires 2027-03-31 --yes");
    tree.done("create group night_crew --member maren,brannoc --yes");
    tree
}

/// Exports users and groups of a tree into one file.
fn exported(tree: &TestTree, place: &Path, options: &str) -> PathBuf {
    let file = place.join("all.ldif");
    let _ = fs::remove_file(&file);
    let mut all = String::new();
    for what in ["users", "groups"] {
        let run = tree.done(&format!("export {what} --as ldif --base {BASE} {options}"));
        // What users and groups are below is there once.
        let text = run.stdout.replacen("version: 1\n", "", usize::from(!all.is_empty()));
        let skipped = if all.is_empty() { 0 } else { 2 };
        let entries: Vec<&str> = text.split("\n\n").skip(skipped).collect();
        _ = write!(all, "{}\n\n", entries.join("\n\n").trim_end());
    }
    fs::write(&file, all).unwrap();
    file
}

/// Compares a tree with a dump; what differs, a row each.
fn differ(tree: &TestTree, dump: &str) -> String {
    let file = tree.path("dump.ldif");
    fs::write(&file, dump).unwrap();
    let words = format!("compare {} {}", tree.root().display(), file.display());
    let run = tree.run(&words);
    assert_eq!(run.stderr, "");
    assert_eq!(run.status, i32::from(!run.stdout.is_empty()), "{}", run.stdout);
    run.stdout
}

#[test]
fn what_a_directory_takes_in_is_what_the_files_say_and_stays_it() {
    for schema in ["rfc2307", "rfc2307bis"] {
        let Some(mut server) = Server::new("directory", schema) else { return };
        server.start();
        let tree = crew();
        let options = format!("--schema {schema}");
        let file = exported(&tree, server.place.path(), &options);
        server.take("ldapadd", &file);
        assert_eq!(differ(&tree, &server.dump()), "");
        // A day's work, and what it changes.
        tree.done("rename user tavish tavi --yes");
        tree.done("delete user brannoc --files keep --yes");
        tree.done("create user odalys --no-home --join night_crew --yes");
        tree.done("change user maren --shell /bin/sh --yes");
        tree.done("rename group slipway slips --even-service --yes");
        assert_ne!(differ(&tree, &server.dump()), "");
        for round in 0..2 {
            for what in ["users", "groups"] {
                let dump = server.place.path().join("dump.ldif");
                fs::write(&dump, server.dump()).unwrap();
                let to = server.place.path().join(format!("{what}-{round}.ldif"));
                let words = format!(
                    "export {what} --as ldif --base {BASE} {options} --changes-from {} --to {}",
                    dump.display(),
                    to.display()
                );
                let run = tree.done(&words);
                match round {
                    0 => server.take("ldapmodify", &to),
                    // The second night there is nothing to do.
                    _ => _ = run.says(": 0 changes"),
                }
            }
        }
        assert_eq!(differ(&tree, &server.dump()), "");
        let dump = server.dump();
        assert!(!dump.contains("brannoc") && !dump.contains("tavish"), "{dump}");
    }
}

#[test]
fn ten_thousand_accounts_come_back_as_they_went() {
    let Some(server) = Server::new("ten_thousand_accounts", "rfc2307") else { return };
    let tree = TestTree::new();
    let [mut passwd, mut shadow, mut group] =
        ["etc/passwd", "etc/shadow", "etc/group"].map(|path| tree.read(path));
    let mut members = Vec::new();
    for at in 0..10_000 {
        let uid = 10_000 + at;
        _ = writeln!(passwd, "hand{at}:x:{uid}:{uid}:Hand {at}:/home/hand{at}:/bin/sh");
        _ = writeln!(shadow, "hand{at}:!:20602:0:{}:7:::", 90 + at % 3);
        _ = writeln!(group, "hand{at}:x:{uid}:");
        members.push(format!("hand{at}"));
    }
    _ = writeln!(group, "crew:x:5000:{}", members.join(","));
    tree.write("etc/passwd", passwd);
    tree.write("etc/shadow", shadow);
    tree.write("etc/group", group);
    let file = exported(&tree, server.place.path(), "");
    // Of the two programs that load entries this one takes no line of the version.
    server.add_offline(fs::read_to_string(file).unwrap().trim_start_matches("version: 1\n\n"));
    assert_eq!(differ(&tree, &server.dump()), "");
}

/// A line of a group, with its members in order.
fn members_in_order(line: &str) -> String {
    let (start, members) = line.trim_end().rsplit_once(':').unwrap();
    let mut members: Vec<&str> = members.split(',').collect();
    members.sort_unstable();
    format!("{start}:{}", members.join(","))
}

#[test]
fn the_c_library_sees_the_same_accounts_through_the_directory() {
    const TEST: &str = "the_c_library_sees_the_same_accounts";
    let module = "/usr/lib/x86_64-linux-gnu/libnss_ldap.so.2";
    if !is_root() || !has_program("nslcd") || !Path::new(module).exists() {
        return passed_over(TEST, "root, nslcd and libnss-ldapd");
    }
    let Some(mut server) = Server::new(TEST, "rfc2307") else { return };
    server.start();
    let tree = crew();
    let file = exported(&tree, server.place.path(), "");
    server.take("ldapadd", &file);
    with_mounts_of_its_own(TEST, move || {
        let at = server.place.path();
        fs::write(at.join("nsswitch.conf"), "passwd: files ldap\ngroup: files ldap\n").unwrap();
        let settings = format!("uid root\ngid root\nuri {}\nbase {BASE}\n", server.address());
        fs::write(at.join("nslcd.conf"), settings).unwrap();
        fs::create_dir_all("/run/nslcd").unwrap();
        mount_memory(Path::new("/run/nslcd"), 1 << 20);
        bind(&at.join("nsswitch.conf"), Path::new("/etc/nsswitch.conf"));
        bind(&at.join("nslcd.conf"), Path::new("/etc/nslcd.conf"));
        let mut asked = Command::new("nslcd").arg("-n").spawn().unwrap();
        let getent = |words: &[&str]| {
            let output = Command::new("getent").args(words).output().unwrap();
            String::from_utf8(output.stdout).unwrap()
        };
        let until = Instant::now() + Duration::from_secs(20);
        while getent(&["passwd", "maren"]).is_empty() && Instant::now() < until {
            std::thread::sleep(Duration::from_millis(100));
        }
        let line = |path: &str, name: &str| {
            let text = tree.read(path);
            let line = text.lines().find(|line| line.starts_with(&format!("{name}:")));
            line.unwrap_or_else(|| panic!("{name} in {path}")).to_owned()
        };
        let (mut seen, mut wanted) = (Vec::new(), Vec::new());
        for name in ["maren", "brannoc", "sunniva", "tavish"] {
            seen.push(getent(&["passwd", name]).trim_end().to_owned());
            wanted.push(line("etc/passwd", name));
        }
        for name in ["night_crew", "pilots", "maren"] {
            seen.push(members_in_order(&getent(&["group", name]).replace(":*:", ":x:")));
            wanted.push(members_in_order(&line("etc/group", name)));
        }
        let groups = Command::new("id").args(["-Gn", "maren"]).output().unwrap();
        let groups = String::from_utf8(groups.stdout).unwrap();
        let _ = asked.kill();
        let _ = asked.wait();
        assert_eq!(seen, wanted);
        let mut groups: Vec<&str> = groups.split_whitespace().collect();
        groups.sort_unstable();
        assert_eq!(groups, ["maren", "night_crew", "pilots", "slipway"]);
    });
}

#[test]
fn hashes_go_into_a_file_for_root_alone_and_come_back() {
    let tree = TestTree::new();
    let place = folder();
    let to = place.path().join("crew.ldif");
    let words = format!("export users --as ldif --base {BASE}");
    assert!(!tree.done(&words).stdout.contains("userPassword"));
    tree.refused(&format!("{words} --with-hashes"), 2, "--to");
    let run = tree.done(&format!("{words} --with-hashes --to {}", to.display()));
    run.says("readable for root alone: it holds hashes");
    let mode = std::os::unix::fs::PermissionsExt::mode(&fs::metadata(&to).unwrap().permissions());
    assert_eq!(mode & 0o777, 0o600);
    assert!(fs::read_to_string(&to).unwrap().contains("userPassword: {CRYPT}$y$j9T$"));
    let bare = TestTree::new();
    for path in ["etc/passwd", "etc/shadow", "etc/group", "etc/gshadow"] {
        let text = bare.read(path);
        let rest =
            text.lines().filter(|line| !line.contains("sunniva") && !line.contains("tavish"));
        bare.write(path, rest.fold(String::new(), |all, line| all + line + "\n"));
    }
    bare.write("etc/subuid", "");
    bare.write("etc/subgid", "");
    bare.done(&format!("intake {} --no-home --yes", to.display()));
    for path in ["etc/passwd", "etc/shadow"] {
        let line = |tree: &TestTree| {
            tree.read(path).lines().find(|line| line.starts_with("sunniva:")).unwrap().to_owned()
        };
        assert_eq!(line(&bare), line(&tree), "{path}");
    }
}

#[test]
fn dumps_that_can_not_be_gone_by_are_refused_with_their_lines() {
    let tree = TestTree::new();
    let user = "dn: uid=maren,ou=people,dc=gullhaven,dc=example\nobjectClass: posixAccount\n\
                uid: maren\ncn: Maren Solvik\nuidNumber: 01004\ngidNumber: 1004\n\
                homeDirectory: /home/maren\n";
    for (text, says) in [
        ("version: 2\n".to_owned() + user, "1:1    this is LDIF of version 2"),
        (user.replace("uid: maren", "uid:: m%ren"), "the value of uid is no base64"),
        (user.replace("uid: maren", "uid:< file:///etc/shadow"), "uid is a place where"),
        (user.replace("\ncn:", "\nchangetype: add\ncn:"), "this is a record of a change"),
        (user.replace("posixAccount", "user"), "nothing of the classes posixAccount"),
        (format!("{user}\n{}", user.replace("maren", "MAREN")), "MAREN is there twice"),
    ] {
        tree.write("dump.ldif", &text);
        let before = tree.snapshot();
        let dump = tree.path("dump.ldif").display().to_string();
        let run = tree.run(&format!("intake {dump} --no-home --yes"));
        assert_eq!(run.status, 3, "{text}\n{}", run.stderr);
        run.complains(says);
        let words = format!("export users --as ldif --base {BASE} --changes-from {dump}");
        let run = tree.run(&words);
        let reads = text.contains("objectClass: user\n") || text.contains("MAREN");
        assert_eq!(run.status, if reads { 0 } else { 3 }, "{words}\n{}", run.stderr);
        let run = tree.run(&format!("compare {dump} {}", tree.root().display()));
        assert_eq!(run.status, 3, "{}", run.stderr);
        assert!(tree.snapshot() == before);
    }
    // Zeros before a number, and lines as they end elsewhere, mean nothing.
    tree.write("dump.ldif", user.replace('\n', "\r\n"));
    let dump = tree.path("dump.ldif").display().to_string();
    tree.done(&format!("intake {dump} --no-home --yes"));
    assert!(tree.read("etc/passwd").contains("maren:x:1004:1004:Maren Solvik:/home/maren:"));
    tree.refused("export users --as ldif", 2, "a directory has a base");
    tree.refused("export users --as ldif --base gullhaven", 2, "is no name of an entry");
    tree.refused("export users --base dc=gullhaven", 2, "--base goes with --as ldif");
    let mut feed = tree.command(&["renumber", "-", "--from", "ldif", "--dry-run"]);
    feed.stdin(Stdio::piped()).stdout(Stdio::piped());
    let mut feed = feed.spawn().unwrap();
    let text = user.replace("maren", "tavish").replace("1004", "1204");
    feed.stdin.take().unwrap().write_all(text.as_bytes()).unwrap();
    let told = feed.wait_with_output().unwrap();
    let told = String::from_utf8_lossy(&told.stdout);
    assert!(told.contains("tavish") && told.contains("1204"), "{told}");
}

/// A dump of what a tree's people are in a directory, made by hand from what is exported.
fn dumped(tree: &TestTree) -> PathBuf {
    let place = tree.path("dump");
    fs::create_dir_all(&place).unwrap();
    exported(tree, &place, "")
}

#[test]
fn a_directory_takes_over_whom_it_knows_as_one_change_that_can_be_taken_back() {
    let tree = crew();
    let dump = dumped(&tree);
    // Who administers a machine is for the machine to say.
    let text = fs::read_to_string(&dump).unwrap();
    let entries = text.split("\n\n").filter(|entry| !entry.contains("cn: sudo"));
    fs::write(&dump, entries.collect::<Vec<_>>().join("\n\n")).unwrap();
    let words = format!("handover {}", dump.display());
    let run = tree.run(&words);
    assert_eq!(run.status, 0, "{}{}", run.stdout, run.stderr);
    run.says("5 of 5 people can be handed over");
    run.says("etc/nsswitch.conf names no directory yet: nobody who is let go could sign in");
    run.says("leaves sudo: it is not in the directory");
    let way = tree.refused(&format!("{words} --delete --yes"), 3, "names no directory for users");
    way.complains("--even-unasked");
    tree.write("etc/nsswitch.conf", "passwd: files ldap\ngroup: files ldap\n");
    // The guards hold as they do for a deletion.
    tree.refused(&format!("{words} --delete --yes"), 3, "--even-last-admin");
    let before = tree.snapshot();
    let names = format!("{words} maren brannoc tavish --delete");
    tree.done(&format!("{names} --dry-run")).says("handover of 3 people to ");
    assert!(tree.snapshot() == before);
    tree.done(&format!("{names} --yes"));
    let passwd = tree.read("etc/passwd");
    for name in ["maren:", "brannoc:", "tavish:"] {
        assert!(!passwd.contains(name), "{passwd}");
    }
    assert!(tree.exists("home/tavish") && passwd.contains("sunniva:"));
    // Their numbers are the directory's now, and nobody gets them here.
    assert!(tree.json("show id 1001").to_string().contains("retired"));
    tree.done("undo --yes");
    assert!(tree.read("etc/passwd").contains("tavish:x:1001:1001:"));
}

#[test]
fn who_is_otherwise_in_the_directory_stays() {
    let tree = crew();
    let dump = dumped(&tree);
    let text = fs::read_to_string(&dump).unwrap();
    let text = text
        .replace("uidNumber: 1001\n", "uidNumber: 1101\n")
        .replace("memberUid: maren\n", "")
        .replace("gidNumber: 210\n", "gidNumber: 310\n");
    fs::write(&dump, text).unwrap();
    tree.write("etc/nsswitch.conf", "passwd: files ldap\n");
    let words = format!("handover {}", dump.display());
    let run = tree.run(&words);
    assert_eq!(run.status, 1, "{}", run.stdout);
    run.says("tavish   has uid 1001 here, and 1101 there");
    run.says("maren    is in pilots, which is 210 here and 310 there");
    run.says("is in night_crew here, and not there");
    run.says("pilots is 210 here, and hides that of the directory, 310");
    let json = tree.json(&words);
    assert_eq!(json["ready"], 3);
    let before = tree.snapshot();
    tree.refused(
        &format!("{words} tavish --delete --yes"),
        3,
        "tavish has uid 1001 here, and 1101 there",
    );
    tree.refused(&format!("{words} nobody_here"), 3, "there is no user nobody_here");
    assert!(tree.snapshot() == before);
    // Without names those who are ready go, and the others stay.
    tree.done(&format!("{words} --delete --even-last-admin --yes"));
    let passwd = tree.read("etc/passwd");
    assert!(
        passwd.contains("tavish:") && passwd.contains("maren:") && !passwd.contains("brannoc:")
    );
}

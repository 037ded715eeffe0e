//! Passwords, changes of name and place, suspending.

use crate::harness::{Run, TestTree, assert_same, has_program, is_root, passed_over};
use std::process::Stdio;

pub const GOOD: &str = "kelp-Harbour.91 tern";

fn refused_fed(tree: &TestTree, words: &str, input: &[u8], says: &str) -> Run {
    let before = tree.snapshot();
    let run = tree.fed(words, input);
    assert_eq!(run.status, 3, "{}{}", run.stdout, run.stderr);
    assert!(run.stderr.contains(says), "{}", run.stderr);
    assert_same(&before, &tree.snapshot());
    run
}

fn field(tree: &TestTree, name: &str) -> String {
    let shadow = tree.read("etc/shadow");
    let start = format!("{name}:");
    let line = shadow.lines().find(|line| line.starts_with(&start)).unwrap();
    line.split(':').nth(1).unwrap().to_owned()
}

/// What the C library's crypt makes of a password and a hash.
pub fn crypt(password: &str, setting: &str) -> Option<String> {
    if !has_program("python3") {
        passed_over("hashes against the C library", "python3");
        return None;
    }
    let script = "import sys, warnings; warnings.simplefilter('ignore'); import crypt; \
                  print(crypt.crypt(sys.argv[1], sys.argv[2]))";
    let mut python = std::process::Command::new("python3");
    let run = Run::of(python.args(["-c", script, password, setting]));
    if run.status != 0 {
        passed_over("hashes against the C library", "a Python with the module crypt");
        return None;
    }
    Some(run.stdout.trim_end().to_owned())
}

#[test]
fn a_password_is_hashed_as_the_c_library_hashes_it() {
    let tree = TestTree::new();
    let run = tree.fed("password user tavish --from-stdin", format!("{GOOD}\n").as_bytes());
    assert_eq!(run.status, 0, "{}", run.stderr);
    run.says("password   yescrypt").says("lock       undone");
    assert!(!run.stdout.contains("$y$"), "{}", run.stdout);
    let hash = field(&tree, "tavish");
    assert!(hash.starts_with("$y$j9T$"), "{hash}");
    tree.write("etc/copper-nest/policy.toml", "[passwords]\nscheme = \"sha512\"\n");
    tree.fed("-q password user sunniva --from-stdin", GOOD.as_bytes());
    let sha = field(&tree, "sunniva");
    assert!(sha.starts_with("$6$"), "{sha}");
    for hash in [hash, sha] {
        let Some(again) = crypt(GOOD, &hash) else { return };
        assert_eq!(again, hash);
        assert_ne!(crypt("something else", &hash).unwrap(), hash);
    }
}

#[test]
fn a_hash_of_the_c_library_is_taken_and_understood() {
    let tree = TestTree::new();
    for setting in ["$y$j9T$Gullhaven1$", "$6$Gullhaven1$", "$5$Gullhaven1$"] {
        let Some(hash) = crypt(GOOD, setting) else { return };
        let run = tree.fed("password user tavish --hashed", hash.as_bytes());
        assert_eq!(run.status, 0, "{}", run.stderr);
        assert_eq!(field(&tree, "tavish"), hash);
        use yescrypt::PasswordVerifier;
        let verified = match setting.as_bytes()[1] {
            b'y' => yescrypt::Yescrypt::default().verify_password(GOOD.as_bytes(), &*hash).is_ok(),
            _ => sha_crypt::ShaCrypt::default().verify_password(GOOD.as_bytes(), &*hash).is_ok(),
        };
        assert!(verified, "{hash}");
    }
}

#[test]
fn hashes_that_are_none_are_refused() {
    let tree = TestTree::new();
    for (input, says) in [
        ("", "the hash is empty"),
        ("kelp", "has no form that the C library knows"),
        ("$6$salt$tooshort", "is no whole sha512 hash"),
        ("$6$sa:lt$aaaa", "has no form that the C library knows"),
        ("$6$a$b\n$6$a$b\n", "more than one line"),
    ] {
        refused_fed(&tree, "password user tavish --hashed", input.as_bytes(), says);
    }
}

#[test]
fn passwords_that_can_not_be_are_refused() {
    let tree = TestTree::new();
    let long = [GOOD; 26].concat().into_bytes();
    let longest = &long[..511];
    for (input, says) in [
        (&b""[..], "the password is empty"),
        (b"\n", "the password is empty"),
        (b"two\nlines here\n", "more than one line"),
        (b"with\0nul inside", "holds a NUL byte"),
        (b"carriage\rreturn", "holds a carriage return"),
        (&long[..512], "has 512 bytes, and the C library takes 511"),
        (b"short", "it has 5 characters, and the policy wants 10"),
        (b"s", "it has 1 character, and"),
        (b"tavish1234", "built on the account's own name"),
    ] {
        refused_fed(&tree, "password user tavish --from-stdin", input, says);
    }
    assert_eq!(tree.fed("password user tavish --from-stdin", longest).status, 0);
    let latin = tree.fed("password user tavish --from-stdin", b"kelp-\xc4\xd6-Harbour.91 tern");
    assert_eq!(latin.status, 0, "{}", latin.stderr);
    let weak = tree.fed("password user tavish --from-stdin --accept-weak", b"short");
    assert_eq!(weak.status, 0);
    assert!(weak.stderr.contains("is used all the same"), "{}", weak.stderr);
}

#[test]
fn without_a_terminal_nobody_is_asked() {
    let tree = TestTree::new();
    // A session of its own has no terminal.
    if !has_program("setsid") {
        return passed_over("without_a_terminal_nobody_is_asked", "setsid");
    }
    let mut command = std::process::Command::new("setsid");
    command.args(["-w", env!("CARGO_BIN_EXE_copper-nest"), "--tree"]).arg(tree.root());
    let run = Run::of(command.args(["password", "user", "tavish"]).stdin(Stdio::null()));
    assert_eq!(run.status, 3);
    assert!(run.stderr.contains("there is no terminal to ask"), "{}", run.stderr);
    assert!(run.stderr.contains("password user tavish --generate"), "{}", run.stderr);
}

/// The prompt, by a terminal of Python's making: what is typed, what comes back,
/// and whether the echo is on again.
pub const TYPE: &str = r#"
import os, pty, select, signal, sys, termios, time
typed = [bytes(line, "latin-1").decode("unicode_escape").encode("latin-1") for line in sys.argv[1].split("|") if line]
pid, terminal = pty.fork()
if pid == 0:
    # Whoever runs the tests in the background ignores the interrupt key.
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    os.execv(sys.argv[2], sys.argv[2:])
shown = b""
deadline = time.time() + 20
while time.time() < deadline:
    ready, _, _ = select.select([terminal], [], [], 0.05)
    if ready:
        try:
            piece = os.read(terminal, 4096)
        except OSError:
            break
        if not piece:
            break
        shown += piece
    asks = shown.rstrip(b" ").endswith((b":", b"same?", b"]", b"no", b"yes"))
    if typed and asks and not ready:
        echo = termios.tcgetattr(terminal)[3] & termios.ECHO
        os.write(terminal, typed.pop(0))
        time.sleep(0.1)
print(shown.decode("utf-8", "replace"))
if time.time() >= deadline:
    print("nothing more was typed, and it waits")
    os.kill(pid, 9)
_, status = os.waitpid(pid, 0)
print("echo", bool(termios.tcgetattr(terminal)[3] & termios.ECHO))
sys.exit(os.waitstatus_to_exitcode(status) % 256)
"#;

pub fn typed(tree: &TestTree, keys: &str, words: &str) -> Option<Run> {
    if !has_program("python3") {
        passed_over("typing at the prompt", "python3");
        return None;
    }
    let mut python = std::process::Command::new("python3");
    python.args(["-c", TYPE, keys, env!("CARGO_BIN_EXE_copper-nest"), "--tree"]);
    python.arg(tree.root()).args(words.split(' ')).env("SOURCE_DATE_EPOCH", crate::harness::NOW);
    Some(Run::of(&mut python))
}

#[test]
fn the_prompt_asks_twice_and_shows_nothing() {
    let tree = TestTree::new();
    let keys = format!("{GOOD}\\n|{GOOD}x\\x7f\\n");
    let Some(run) = typed(&tree, &keys, "password user tavish") else { return };
    assert_eq!(run.status, 0, "{}", run.stdout);
    run.says("new password of tavish: ").says("the same again: ").says("echo True");
    assert!(!run.stdout.contains("kelp"), "{}", run.stdout);
    assert!(field(&tree, "tavish").starts_with("$y$"));
    if let Some(hash) = crypt(GOOD, &field(&tree, "tavish")) {
        assert_eq!(hash, field(&tree, "tavish"));
    }
}

#[test]
fn the_prompt_lets_go_and_leaves_the_terminal_as_it_was() {
    let tree = TestTree::new();
    let before = tree.snapshot();
    for (keys, says) in [
        (
            format!("{GOOD}\\n|another one {GOOD}\\n|").repeat(3),
            "the two were not the same; nothing was changed",
        ),
        ("kelp\\x03".to_owned(), "interrupted; nothing was changed"),
        ("\\x04".to_owned(), "the input ended; nothing was changed"),
    ] {
        let Some(run) = typed(&tree, &keys, "password user tavish") else { return };
        assert_eq!(run.status, 3, "{}", run.stdout);
        run.says(says).says("echo True");
        assert_same(&before, &tree.snapshot());
    }
}

#[test]
fn generated_passwords_are_printed_once_and_work() {
    let tree = TestTree::new();
    let run = tree.done("-q password user tavish sunniva --generate --must-change");
    let passwords: Vec<&str> =
        run.stdout.lines().skip(1).map(|line| line.rsplit(' ').next().unwrap()).collect();
    assert_eq!(passwords.len(), 2);
    for (name, password) in ["tavish", "sunniva"].into_iter().zip(passwords) {
        let hash = field(&tree, name);
        if let Some(again) = crypt(password, &hash) {
            assert_eq!(again, hash);
        }
        let changes = tree.read("var/lib/copper-nest/changes/1.json");
        assert!(!changes.contains(password) && !changes.contains("$y$"));
        assert_eq!(tree.json(&format!("show user {name}"))["password"]["changed"], "1970-01-01");
    }
    let json = tree.json("password user tavish --generate");
    assert!(json["error"]["message"].as_str().unwrap().contains("JSON never holds one"));
}

#[test]
fn a_password_change_can_not_be_taken_back_and_says_why() {
    let tree = TestTree::new();
    let run = tree.fed("password user sunniva --from-stdin", GOOD.as_bytes());
    run.says("done: change 1. It can't be taken back: a replaced hash is kept nowhere.");
    tree.refused(
        "undo --yes",
        3,
        "it replaced the password of sunniva, and a replaced hash is kept nowhere",
    );
    // One that was set where none was can be: there is nothing to give back.
    tree.done("-q create user maren");
    tree.fed("-q password user maren --from-stdin", GOOD.as_bytes());
    tree.done("undo --yes");
    assert_eq!(field(&tree, "maren"), "!");
}

#[test]
fn an_account_made_with_a_password_comes_back_without_it() {
    let tree = TestTree::new();
    let run = tree.fed("create user maren --password stdin", GOOD.as_bytes());
    assert_eq!(run.status, 0, "{}", run.stderr);
    run.says("sign-in    by password");
    assert!(field(&tree, "maren").starts_with("$y$"));
    tree.done("undo --yes");
    tree.done("undo 2 --yes").says("the password of maren is kept nowhere and has to be set anew");
    assert_eq!(field(&tree, "maren"), "!");
    refused_fed(&tree, "create user perrin --password stdin", b"perrin", "the password is weak");
}

#[test]
fn suspending_and_resuming_give_back_exactly_what_was() {
    let tree = TestTree::new();
    let before = tree.snapshot();
    let admin = "--even-last-admin";
    // tavish was locked by hand before, with an expiry; sunniva had a password.
    tree.done(&format!("suspend user tavish sunniva {admin} --reason leave"));
    assert_eq!(
        tree.line("etc/shadow", 6),
        "tavish:!$6$Gullhaven2$0123456789abcdef:20602:0:365:7:30:1:"
    );
    let shown = tree.done("show user sunniva");
    shown.says("suspended since 2026-11-24: leave").says("no: the account is suspended");
    let list = tree.done("list users --suspended").stdout;
    assert_eq!(list.lines().count(), 2, "{list}");
    assert_eq!(tree.json("show user sunniva")["suspended"], true);
    let again = tree.done("suspend user tavish");
    again.says("already   since 2026-11-24").says("nothing was changed");
    tree.done("resume user tavish sunniva")
        .says("password   locked                  as it was before");
    assert_same(&before, &tree.snapshot());
    assert!(!tree.read("var/lib/copper-nest/suspended.json").contains("tavish"));
    tree.done("resume user tavish").says("the password was locked by hand, and stays so");
    tree.done("resume user sunniva").says("never suspended");
    tree.refused("undo --yes", 3, "undo 2 --yes --even-last-admin");
    tree.done("undo --yes --even-last-admin");
    tree.done("undo 3 --yes");
    assert_same(&before, &tree.snapshot());
}

#[test]
fn a_suspended_account_is_renamed_and_renumbered_and_still_comes_back() {
    let tree = TestTree::new();
    let line = tree.line("etc/shadow", 6);
    tree.done("suspend user tavish");
    tree.refused("change user tavish --expires never", 3, "it is suspended");
    tree.done("rename user tavish torben");
    tree.done("change user torben --uid 70000")
        .says("uid 70000 lies outside the people 1000-59999");
    tree.done("resume user torben");
    assert_eq!(tree.line("etc/shadow", 6), line.replace("tavish:", "torben:"));
    tree.done("undo --yes --even-service");
    tree.done("undo 3 --yes --even-service");
    tree.done("undo 2 --yes");
    tree.done("resume user tavish");
    assert_eq!(tree.line("etc/shadow", 6), line);
}

#[test]
fn an_open_account_comes_back_locked() {
    let tree = TestTree::new();
    tree.append("etc/passwd", "desk:x:1005:1001::/:/bin/sh\n");
    tree.append("etc/shadow", "desk::20600::::::\n");
    tree.done("suspend user desk");
    tree.done("resume user desk").says("no password was asked; it comes back locked");
    assert_eq!(field(&tree, "desk"), "!");
}

#[test]
fn without_state_a_suspension_is_undone_as_far_as_can_be() {
    let tree = TestTree::new();
    tree.done("--state none suspend user tavish").says("no state is kept");
    tree.done("--state none resume user tavish").says("is noted nowhere");
    assert_eq!(
        tree.line("etc/shadow", 6),
        "tavish:$6$Gullhaven2$0123456789abcdef:20602:0:365:7:30::"
    );
}

#[test]
fn guards_stand_before_what_takes_access_away() {
    let tree = TestTree::new();
    for command in ["suspend user", "password user --none"] {
        let (verb, option) = command.split_once(" user").unwrap();
        let words = |name: &str| format!("{verb} user {name}{option}");
        let refused =
            tree.refused(&words("sunniva"), 3, "no other account can sign in as administrator");
        assert!(refused.stderr.contains("--even-last-admin"), "{}", refused.stderr);
    }
    tree.refused("suspend user root", 3, "no other account has uid 0: it is root");
    tree.refused("suspend user tidegauge", 3, "it is a service (uid 999)");
    // Neither can sign in by password as it is: nothing is lost.
    tree.done("password user root tidegauge --none");
    tree.fed("-q password user root --from-stdin", GOOD.as_bytes());
    tree.refused("password user root --none", 3, "no other account has uid 0: it is root");
    tree.done("password user root --none --even-root");
    tree.refused("change user sunniva --expires +30d", 3, "no other account can sign in");
    // With a second one the first may go.
    tree.fed("-q create user maren --admin --password stdin", GOOD.as_bytes());
    tree.done("suspend user sunniva");
    tree.refused("suspend user maren", 3, "no other account can sign in as administrator");
    tree.done("suspend user tidegauge --even-service");
    tree.refused("suspend user nobodyhere", 3, "there is no user nobodyhere");
}

#[test]
fn one_of_several_that_is_refused_stops_all() {
    let tree = TestTree::new();
    tree.refused("suspend user tavish tidegauge", 3, "tidegauge would be out of use");
    tree.refused("password user tavish nosuch --none", 3, "there is no user nosuch");
    refused_fed(
        &tree,
        "password user tavish sunniva --from-stdin",
        b"x",
        "no two accounts should share one",
    );
}

#[test]
fn without_a_shadow_file_there_is_no_place_for_it() {
    let tree = TestTree::new();
    tree.remove("etc/shadow");
    tree.refused("suspend user tavish", 3, "has no etc/shadow");
    tree.refused("change user tavish --password-renew 30", 3, "has no etc/shadow");
    refused_fed(
        &tree,
        "password user tavish --from-stdin",
        GOOD.as_bytes(),
        "never written to etc/passwd",
    );
    refused_fed(
        &tree,
        "create user maren --password stdin",
        GOOD.as_bytes(),
        "never written to etc/passwd",
    );
}

#[test]
fn a_password_goes_to_shadow_and_nowhere_else() {
    let tree = TestTree::new();
    tree.append("etc/passwd", "desk:$1$old$hashhashhashhashhashha:1005:1001::/:/bin/sh\n");
    let run = tree.fed("password user desk --from-stdin", GOOD.as_bytes());
    run.says("desk had no line in etc/shadow; one is made");
    assert_eq!(tree.line("etc/passwd", 7), "desk:x:1005:1001::/:/bin/sh");
    assert!(field(&tree, "desk").starts_with("$y$"));
}

#[test]
fn each_field_is_changed_and_nothing_else() {
    let tree = TestTree::new();
    let passwd = tree.read("etc/passwd").replace("Tavish Rowe", "Tavish Rowe,Pier 2,,");
    tree.write("etc/passwd", passwd);
    tree.done("change user tavish --shell /bin/sh --password-renew 90 --password-hold 2 --password-remind 5 --password-late never --expires 2027-03-31");
    assert_eq!(
        tree.line("etc/passwd", 6),
        "tavish:x:1001:1001:Tavish Rowe,Pier 2,,:/home/tavish:/bin/sh"
    );
    assert_eq!(
        tree.line("etc/shadow", 6),
        "tavish:!$6$Gullhaven2$0123456789abcdef:20602:2:90:5::20908:"
    );
    tree.refused_words(&["change", "user", "tavish", "--full-name", "a:b"], 3, "holds a colon");
    tree.done("change user tavish --full-name Tavish");
    assert_eq!(
        tree.line("etc/passwd", 6),
        "tavish:x:1001:1001:Tavish,Pier 2,,:/home/tavish:/bin/sh"
    );
    tree.done("change user tavish --primary users --expires never --must-change");
    assert_eq!(
        tree.line("etc/passwd", 6),
        "tavish:x:1001:100:Tavish,Pier 2,,:/home/tavish:/bin/sh"
    );
    assert!(tree.line("etc/shadow", 6).ends_with(":0:2:90:5:::"));
    let nothing = tree.done("change user tavish --shell /bin/sh");
    nothing.says("everything is so already");
    assert!(!tree.exists("var/lib/copper-nest/changes/4.json"));
}

#[test]
fn values_that_make_no_sense_are_refused() {
    let tree = TestTree::new();
    for (words, says) in [
        ("--expires 2020-01-01", "is not in the future"),
        ("--expires soon", "is no date"),
        ("--password-renew 5 --password-hold 9", "can't be held for 9"),
        ("--password-hold x", "is no number of days"),
        ("--password-renew -1", "is no number of days"),
        ("--shell sh", "is not absolute"),
        ("--home relative", "is not absolute"),
        ("--home /home/sunniva", "exists already"),
        ("--home /nowhere/tavish", "does not exist"),
        ("--home /home/tavish/inner", "lies inside"),
        ("--uid 1000", "is sunniva's"),
        ("--uid 4294967295", "is reserved"),
        ("--uid -5", "is no uid"),
        ("--primary pilot", "there is no group pilot; the nearest is pilots"),
        ("--ranges many", "is no number of ids"),
    ] {
        let run = tree.run(&format!("change user tavish {words}"));
        let wrong_line = run.status == 2 && words.contains("-1");
        assert!(
            wrong_line || run.status == 3 || run.status == 2 && words.contains("-5"),
            "{words}: {}",
            run.stderr
        );
        assert!(run.status == 2 || run.stderr.contains(says), "{words}: {}", run.stderr);
    }
    tree.refused(
        "change user tavis --shell /bin/sh",
        3,
        "there is no user tavis; the nearest is tavish",
    );
    tree.refused("change user 1001 --shell /bin/sh", 3, "show user tavish");
    tree.append("etc/passwd", "deck:x:1005:1001::/home/tavish:/bin/sh\n");
    tree.refused("change user tavish --home /home/new", 3, "is, or holds, the home of deck too");
    tree.done("change user tavish --home /home/new --record-only").says("/home/new is not there");
}

#[test]
fn ranges_grow_by_another_and_shrink_by_retiring() {
    let tree = TestTree::new();
    tree.done("change user tavish --ranges 100000").says("2001141760-2001176223 added");
    assert_eq!(tree.line("etc/subuid", 3), "tavish:2001141760:34464");
    tree.done("change user tavish --ranges 1000");
    assert_eq!(tree.read("etc/subuid"), "sunniva:2001010688:65536\ntavish:2001076224:1000\n");
    tree.done("change user sunniva --ranges none");
    assert_eq!(tree.read("etc/subgid"), "tavish:2001076224:1000\n");
    // What was given up is not given again.
    tree.done("create user maren");
    assert_eq!(tree.line("etc/subuid", 2), "maren:2001176224:65536");
}

#[test]
fn a_new_uid_goes_with_the_files() {
    if !is_root() {
        return passed_over("a_new_uid_goes_with_the_files", "root");
    }
    let tree = TestTree::new();
    for (path, uid) in [
        ("home/tavish/own", 1001),
        ("home/tavish/foreign", 1000),
        ("var/mail/tavish", 1001),
        ("srv/lost", 1001),
    ] {
        tree.write(path, "");
        tree.chown(path, uid, 1001);
    }
    tree.write("outside", "");
    std::fs::hard_link(tree.path("outside"), tree.path("home/tavish/linked")).unwrap();
    tree.chown("outside", 1001, 1001);
    tree.append("etc/subuid", "1001:2001500000:10\n");
    let run = tree.done("change user tavish --uid 1500");
    run.says("1 file with more than one name left as it is");
    run.says("2 files elsewhere still carry uid 1001");
    let owners = [
        "home/tavish",
        "home/tavish/own",
        "home/tavish/foreign",
        "var/mail/tavish",
        "srv/lost",
        "outside",
    ];
    let owners: Vec<u32> = owners.iter().map(|path| tree.owner(path).0).collect();
    assert_eq!(owners, [1500, 1500, 1000, 1500, 1001, 1001]);
    assert_eq!(tree.line("etc/subuid", 3), "1500:2001500000:10");
    tree.refused("change user sunniva --uid 1001", 3, "was tavish's, and is retired");
    tree.write("home/tavish/later", "");
    tree.chown("home/tavish/own", 1000, 1000);
    tree.done("undo --yes");
    assert_eq!(tree.owner("home/tavish").0, 1001);
    assert_eq!(tree.owner("home/tavish/own").0, 1000, "it has changed hands since");
}

#[test]
fn a_renaming_reaches_every_place() {
    let tree = TestTree::new();
    tree.write("var/mail/tavish", "a letter\n");
    tree.write("var/spool/cron/crontabs/tavish", "@daily tides\n");
    tree.write("home/tavish/chart", "depths\n");
    tree.write("etc/sudoers", "tavish ALL=(ALL) ALL\n");
    tree.write(
        "etc/systemd/system/tides.service",
        "[Service]\nUser=tavish\nExecStart=/bin/tavish\n",
    );
    let before = tree.snapshot();
    let run = tree.done("rename user tavish torben");
    run.says(
        "etc/sudoers:1, etc/systemd/system/tides.service:2 name tavish, which is called torben now",
    );
    assert_eq!(tree.line("etc/passwd", 6), "torben:x:1001:1001:Tavish Rowe:/home/torben:/bin/bash");
    assert_eq!(tree.line("etc/group", 8), "pilots:x:210:torben");
    assert_eq!(tree.line("etc/group", 11), "torben:x:1001:");
    assert_eq!(tree.line("etc/gshadow", 8), "pilots:!:torben:torben");
    assert_eq!(tree.line("etc/gshadow", 11), "torben:!::");
    assert_eq!(tree.line("etc/subgid", 2), "torben:2001076224:65536");
    for (path, text) in [
        ("var/mail/torben", "a letter\n"),
        ("var/spool/cron/crontabs/torben", "@daily tides\n"),
        ("home/torben/chart", "depths\n"),
    ] {
        assert_eq!(tree.read(path), text);
    }
    for file in ["passwd", "shadow", "group", "gshadow", "subuid", "subgid"] {
        let text = tree.read(&format!("etc/{file}"));
        assert!(!text.contains("tavish"), "etc/{file}: {text}");
    }
    tree.done("undo --yes");
    assert_same(&before, &tree.snapshot());
}

#[test]
fn renamings_that_can_not_be() {
    let tree = TestTree::new();
    for (words, says) in [
        ("tavish sunniva", "already has a user of that name"),
        ("tavish pilots", "already has a group of that name"),
        ("tavish tavish", "that is its name already"),
        ("tavish Torben", "lower-case letters"),
        ("tavis torben", "the nearest is tavish"),
        ("root boss", "it is root"),
    ] {
        tree.refused(&format!("rename user {words}"), 3, says);
    }
    tree.write("home/torben/file", "");
    tree.refused("rename user tavish torben", 3, "/home/torben exists already");
    tree.done("rename user tavish torben --keep-home --keep-group");
    assert_eq!(tree.line("etc/passwd", 6), "torben:x:1001:1001:Tavish Rowe:/home/tavish:/bin/bash");
    assert_eq!(tree.line("etc/group", 11), "tavish:x:1001:");
    tree.done("create user maren");
    tree.done("delete user maren --yes --files erase");
    tree.done("rename user sunniva maren --keep-home").says("an earlier account was called maren");
}

#[test]
fn a_home_that_is_a_mount_point_stays() {
    let tree = TestTree::new();
    let at = tree.root().display();
    let script = format!(
        "mount -t tmpfs none {at}/home/tavish; status=0
         $NEST --tree {at} rename user tavish torben || status=$?
         $NEST --tree {at} change user tavish --home /home/new || true; exit $status"
    );
    let Some(run) = crate::commit::in_namespace("a_home_that_is_a_mount_point", &script) else {
        return;
    };
    assert_eq!(run.status, 3, "{}", run.stderr);
    assert_eq!(run.stderr.matches("/home/tavish is a mount point").count(), 2, "{}", run.stderr);
    assert!(run.stderr.contains("--keep-home") && run.stderr.contains("--record-only"));
}

#[test]
fn the_list_of_users_tells_who_can_sign_in() {
    let tree = TestTree::new();
    let names = |words: &str| -> Vec<String> {
        let run = tree.done(words);
        run.stdout.lines().map(|line| line.split('\t').next().unwrap().to_owned()).collect()
    };
    assert_eq!(names("list users --sign-in yes"), ["sunniva"]);
    assert_eq!(names("list users --sign-in no"), ["tavish"]);
    assert_eq!(names("list users --expiring 119"), ["tavish"]);
    assert_eq!(names("list users --expiring 118"), [""; 0]);
    let run = tree.done("list users");
    run.says("Sunniva Hale\tyes\t2026-05-29\t\t\n")
        .says("Tavish Rowe\tlocked\t2026-05-29\t2027-03-23\t\n");
}

#[test]
fn a_shadow_line_ages_as_the_policy_says_whoever_makes_it() {
    let policy = "[passwords]\nrenew_days = 365\nhold_days = 1\n";
    let lacking = || {
        let tree = TestTree::new();
        tree.write("etc/copper-nest/policy.toml", policy);
        tree.done("create user maren");
        let shadow = tree.read("etc/shadow");
        let (kept, made) = shadow.trim_end().rsplit_once('\n').unwrap();
        tree.write("etc/shadow", format!("{kept}\n"));
        (tree, made.to_owned())
    };
    let (tree, made) = lacking();
    assert!(made.ends_with(":1:365:7:::"), "{made}");
    tree.done("repair --yes");
    assert_eq!(tree.read("etc/shadow").lines().last(), Some(&made[..]));
    let (tree, made) = lacking();
    tree.done("password user maren --none");
    assert_eq!(tree.read("etc/shadow").lines().last(), Some(&made[..]));
    let (tree, _) = lacking();
    let hash = "$6$Gullhaven$0123456789abcdef";
    let passwd = tree.read("etc/passwd");
    tree.write("etc/passwd", passwd.replace("maren:x:", &format!("maren:{hash}:")));
    tree.done("repair --yes");
    assert!(tree.read("etc/shadow").contains(&format!("maren:{hash}:20781:1:365:7:::\n")));
}

#[test]
fn whatever_other_hands_did_meanwhile_resuming_gives_back_what_is_remembered() {
    let tree = TestTree::new();
    let line = tree.line("etc/shadow", 5);
    let set = |line: &str| {
        let rest = tree.read("etc/shadow");
        let rest: String = rest
            .lines()
            .map(|old| format!("{}\n", if old.starts_with("sunniva:") { line } else { old }))
            .collect();
        tree.write("etc/shadow", rest);
    };
    tree.done("change user sunniva --expires 2027-03-31 --even-last-admin");
    let before = tree.line("etc/shadow", 5);
    tree.done("suspend user sunniva --reason leave --even-last-admin");
    let listed = tree.done("list users --suspended").stdout;
    assert_eq!(listed, "sunniva\t1000\tSunniva Hale\t2026-11-24\t2027-03-31\tleave\n");
    let note = &tree.json("show user sunniva")["suspension"];
    assert_eq!((&note["since"], &note["expires"]), (&"2026-11-24".into(), &"2027-03-31".into()));
    tree.done("show user sunniva").says("leave; resumed, it expires on 2027-03-31");
    // The password is unlocked by hand, and the expiry of suspending is still there.
    set(&before.replace(":20908:", ":1:"));
    tree.done("resume user sunniva")
        .says("expires on 2027-03-31   as before")
        .says("as other hands");
    assert_eq!(tree.line("etc/shadow", 5), before);
    // The expiry is taken out by hand, and the password is still locked.
    tree.done("suspend user sunniva --even-last-admin");
    set(&line.replace("$y$", "!$y$"));
    tree.done("resume user sunniva").says("as other hands have set it");
    assert_eq!(tree.line("etc/shadow", 5), line);
    assert!(!tree.read("var/lib/copper-nest/suspended.json").contains("sunniva"));
    // What keeps somebody out all the same is said.
    tree.done("suspend user sunniva --even-last-admin");
    tree.remove("bin/bash");
    tree.done("resume user sunniva")
        .says("sunniva can't sign in all the same: the shell /bin/bash");
}

#[test]
fn of_several_accounts_everything_that_stands_in_the_way_is_told_at_once() {
    let tree = TestTree::new();
    let before = tree.snapshot();
    let names = tree.root().with_file_name("names");
    std::fs::write(&names, "sunniva\nnosuch\ntavish\nnobody2\n").unwrap();
    let words = format!("change user --names-from {} --expires 2020-01-01", names.display());
    let said = tree.refused(&words, 3, "nobody was changed: 4 things stand in the way").stderr;
    for part in ["  sunniva  ", "  nosuch   there is no user nosuch", "  nobody2  there is no user"]
    {
        assert!(said.contains(part), "{said}");
    }
    crate::harness::assert_same(&before, &tree.snapshot());
    std::fs::write(&names, "sunniva\ntavish\n").unwrap();
    tree.done(&format!(
        "change user --names-from {} --expires 2027-09-30 --even-last-admin",
        names.display()
    ));
    let shadow = tree.read("etc/shadow");
    assert_eq!(shadow.matches(":21091:").count(), 2, "{shadow}");
    tree.refused(
        "change user sunniva nosuch --shell /bin/sh",
        3,
        "nobody was changed, because of nosuch",
    );
}

#[test]
fn a_home_is_made_where_there_is_none() {
    if !is_root() {
        return passed_over("a_home_is_made_where_there_is_none", "root, to give a home away");
    }
    let tree = TestTree::new();
    tree.done("create user wendel --no-home");
    let run =
        tree.refused("change user wendel --home /home/wendel", 3, "/nonexistent is not there");
    assert!(run.stderr.contains("--make-home"), "{}", run.stderr);
    let before = tree.snapshot();
    tree.done("change user wendel --make-home").says("/home/wendel");
    assert_eq!(tree.read("home/wendel/.profile"), "export EDITOR=vi\n");
    assert_eq!(tree.owner("home/wendel"), tree.owner("home/wendel/.profile"));
    assert!(tree.read("etc/passwd").contains(":/home/wendel:"));
    tree.done("change user wendel --make-home").says("nothing was changed");
    tree.done("undo --yes");
    assert_same(&before, &tree.snapshot());
    // Where one is recorded and gone it comes there, and who has one keeps it.
    std::fs::remove_dir_all(tree.path("home/tavish")).unwrap();
    tree.done("change user tavish --make-home");
    assert!(tree.exists("home/tavish/.profile"));
    tree.refused("change user sunniva --make-home --home /home/s", 3, "is there already");
    tree.refused("change user wendel --make-home --home /home/tavish", 3, "exists already");
    tree.refused("change user wendel --make-home --home /no/such/wendel", 3, "does not exist");
    // What comes back without a home names the way.
    tree.done("delete user tavish --files erase --yes");
    let run = tree.done("restore user tavish");
    assert!(run.stdout.contains("change user tavish --make-home"), "{}", run.stdout);
}

#[test]
fn what_was_here_before_is_not_taken_for_a_slip() {
    let tree = TestTree::new();
    tree.done("create user ada --no-home");
    tree.done("delete user ada --yes");
    for words in ["show user ada", "suspend user ada", "change user ada --shell /bin/sh"] {
        let run = tree.refused(words, 3, "there is no user ada");
        assert!(run.stderr.contains("restore user ada"), "{words}: {}", run.stderr);
    }
}

#[test]
fn changes_are_found_under_every_name() {
    let tree = TestTree::new();
    tree.done("create user ada --no-home");
    tree.done("create user ben --no-home");
    tree.done("regroup ada --join slipway");
    tree.done("rename user ada odile");
    // A line that holds the name all the same is not about it.
    tree.done("regroup ben --join slipway");
    let about = |name: &str| {
        let run = tree.done(&format!("list changes --about {name}"));
        run.stdout
            .lines()
            .map(|line| line.split('\t').next().unwrap().to_owned())
            .collect::<Vec<_>>()
    };
    assert_eq!(about("odile"), ["4", "3", "1"]);
    assert_eq!(about("ben"), ["5", "2"]);
    assert_eq!(about("tavish"), [] as [&str; 0]);
    tree.refused("list changes --about odil", 3, "the nearest is odile");
    assert_eq!(tree.done("list changes --since -7d").stdout.lines().count(), 5);
    assert_eq!(tree.done("list changes --since +1d").stdout.lines().count(), 0);
}

#[test]
fn another_reason_takes_the_place_of_the_first() {
    let tree = TestTree::new();
    tree.done("suspend user tavish --reason ashore");
    tree.done("suspend user tavish --reason leave").says("was ashore");
    tree.done("show user tavish").says("leave");
    tree.done("suspend user tavish --reason leave").says("nothing was changed");
    tree.done("undo --yes");
    tree.done("show user tavish").says("ashore");
}

#[test]
fn what_a_password_comes_to_is_told() {
    let tree = TestTree::new();
    let weak = format!("$1$saltsalt${}\n", "a".repeat(22));
    let run = tree.fed("password user tavish --hashed", weak.as_bytes());
    assert_eq!(run.status, 0, "{}", run.stderr);
    assert!(run.stdout.contains("hashed by md5"), "{}", run.stdout);
    let run = tree.done("password user tidegauge --generate");
    assert!(run.stdout.contains("tidegauge is a service"), "{}", run.stdout);
    let run = tree.done("create user wendel --no-home --must-change");
    assert!(run.stdout.contains("no password of wendel to be changed"), "{}", run.stdout);
}

#[test]
fn a_group_of_ones_own_that_others_are_in_keeps_its_name() {
    let tree = TestTree::new();
    tree.done("change group tavish --add-member sunniva");
    tree.done("rename user tavish torben").says("keeps its name: sunniva is in it too");
    assert!(tree.read("etc/group").contains("tavish:x:1001:sunniva"));
}

#[test]
fn lists_names_and_numbers_are_read_as_people_write_them() {
    let tree = TestTree::new();
    let run = tree.run_words(&["create", "user", "ada", "--no-home", "--join", "pilots, slipway"]);
    assert_eq!(run.status, 0, "{}", run.stderr);
    let run = tree.run_words(&["create", "group", "dev", "--member", "ada, tavish"]);
    assert_eq!(run.status, 0, "{}", run.stderr);
    assert!(tree.read("etc/group").contains(":ada,tavish\n"), "{}", tree.read("etc/group"));
    // Programs on other systems begin a text with a mark.
    let names = tree.path("names");
    std::fs::write(&names, "\u{feff}ada\ntavish\n").unwrap();
    tree.done(&format!("regroup --names-from {} --leave dev", names.display()));
    assert!(tree.read("etc/group").contains("dev:x:1003:\n"), "{}", tree.read("etc/group"));
    // Digits are no name, and that is not because somebody has them.
    let digits = ["create", "user", "--full-name", "123 456"];
    tree.refused_words(&digits, 3, "no login name can be made of \"123 456\"");
    let run = tree.refused_words(
        &["create", "user", "--full-name", "Sunniva Hale"],
        3,
        "no name was given",
    );
    assert!(run.stderr.contains("sunniva is called Sunniva Hale already"), "{}", run.stderr);
    // Of two of a name each is named with what was asked for.
    for _ in 0..2 {
        tree.done("create user ben --no-home");
        tree.done("delete user ben --yes");
    }
    let run = tree.refused("purge user ben --yes", 3, "2 of the name ben were deleted");
    assert!(run.stderr.contains("purge user 100"), "{}", run.stderr);
    assert!(!run.stderr.contains("restore user"), "{}", run.stderr);
    tree.refused("check --only ghost-member --skip ghost-member", 2, "nothing would be checked");
    let trees = tree.path("trees");
    let root = tree.root().display();
    std::fs::write(&trees, format!("# images\n{root}\n{root}\n")).unwrap();
    let run = tree.run(&format!("check --trees-from {} --format json", trees.display()));
    assert!(matches!(run.status, 0 | 1), "{}", run.stderr);
}

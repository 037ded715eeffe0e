//! Single faults, put into a sound tree one at a time: each is found by its rule on its line,
//! what `check` offers first mends it and brings nothing else, `repair` does all it does at
//! once, and `undo` gives every byte back. Nobody gains or loses access by a repair, as the C
//! library sees it.

use std::collections::BTreeSet;

use rayon::prelude::*;
use serde_json::Value;

use crate::harness::{TestTree, is_root, is_sampled, passed_over, paste};
use crate::system::read_in_place;

const HASH: &str = "$y$j9T$TQrrklxsv3nFULfgn4vfq1$uF6Yp8T5sCFlkFK8AI5yNLvAOEZl4Pn70F8hFaZBvz2";

/// One fault.
struct Fault {
    rule: &'static str,
    file: &'static str,
    /// The line on which it is to be found.
    line: usize,
    /// The file with the fault in it.
    text: String,
}

/// A line with other text in the place of one of its fields.
fn with_field(line: &str, at: usize, field: &str) -> String {
    let mut fields: Vec<&str> = line.split(':').collect();
    fields[at] = field;
    fields.join(":")
}

/// A line without one of its fields.
fn without_field(line: &str, at: usize) -> String {
    let mut fields: Vec<&str> = line.split(':').collect();
    fields.remove(at);
    fields.join(":")
}

/// What may be wrong with any line of a file: a rule, and the line with the fault.
type LineFault = (&'static str, fn(&str) -> String);

const OF_PASSWD: &[LineFault] = &[
    ("malformed-line", |line| without_field(line, 4)),
    ("malformed-line", |line| format!("{line}:")),
    ("malformed-line", |line| line.replace(':', ";")),
    ("stray-space", |line| format!(" {line}")),
    ("stray-space", |line| format!("{line}\r")),
    ("bad-number", |line| with_field(line, 2, "00077")),
    ("bad-number", |line| with_field(line, 3, "ten")),
    ("open-password", |line| with_field(line, 1, "")),
    ("exposed-hash", |line| with_field(line, 1, HASH)),
    ("plain-password", |line| with_field(line, 1, "harbour-light")),
    ("no-primary-group", |line| with_field(line, 3, "4711")),
    ("home-not-absolute", |line| with_field(line, 5, "home")),
];

const OF_SHADOW: &[LineFault] = &[
    ("malformed-line", |line| format!("{line}:")),
    ("malformed-line", |line| without_field(line, 8)),
    ("open-password", |line| with_field(line, 1, "")),
    ("plain-password", |line| with_field(line, 1, "harbour-light")),
    ("unmatched-password", |line| with_field(line, 1, "$6$cut$short")),
    ("unmatched-password", |line| with_field(line, 1, "$9$of-no-scheme$abc")),
    ("weak-hash", |line| with_field(line, 1, "$1$Gullhave$0123456789abcdefghijkl")),
    ("bad-number", |line| with_field(line, 2, "soon")),
    ("bad-number", |line| with_field(line, 7, "99999999")),
    ("future-change", |line| with_field(line, 2, "30000")),
    ("aging-order", |line| with_field(&with_field(line, 3, "90"), 4, "30")),
    ("stray-space", |line| format!("\t{line}")),
];

const OF_GROUP: &[LineFault] = &[
    ("malformed-line", |line| without_field(line, 3)),
    ("malformed-line", |line| format!("{line}:maren")),
    ("stray-space", |line| format!(" {line}")),
    ("stray-space", |line| format!("{line} ")),
    ("bad-number", |line| with_field(line, 2, "00077")),
    ("bad-number", |line| with_field(line, 2, "4294967295")),
    ("ghost-member", |line| with_field(line, 3, "tavis")),
    ("duplicate-member", |line| with_field(line, 3, "tavish,tavish")),
    ("exposed-hash", |line| with_field(line, 1, HASH)),
];

const OF_GSHADOW: &[LineFault] = &[
    ("malformed-line", |line| format!("{line}:")),
    ("ghost-admin", |line| with_field(line, 2, "tavis")),
    ("stray-space", |line| format!(" {line}")),
];

const OF_RANGES: &[LineFault] = &[
    ("malformed-line", |line| without_field(line, 2)),
    ("bad-number", |line| with_field(line, 2, "many")),
    ("bad-number", |line| with_field(line, 1, "01000")),
    ("range-orphan", |line| with_field(line, 0, "hesper")),
    ("range-over-account", |line| with_field(line, 1, "1000")),
];

/// Every fault of every line, and those that take a line more or less.
fn faults(tree: &TestTree) -> Vec<Fault> {
    let mut all = Vec::new();
    let kinds: [(&'static str, &[LineFault]); 6] = [
        ("etc/passwd", OF_PASSWD),
        ("etc/shadow", OF_SHADOW),
        ("etc/group", OF_GROUP),
        ("etc/gshadow", OF_GSHADOW),
        ("etc/subuid", OF_RANGES),
        ("etc/subgid", OF_RANGES),
    ];
    for (file, kinds) in kinds {
        let lines: Vec<String> = tree.read(file).lines().map(str::to_owned).collect();
        let text = |lines: &[String]| lines.iter().map(|line| format!("{line}\n")).collect();
        for (at, line) in lines.iter().enumerate() {
            for (rule, mutate) in kinds {
                let mut lines = lines.clone();
                lines[at] = mutate(line);
                if lines[at] != *line {
                    all.push(Fault { rule, file, line: at + 1, text: text(&lines) });
                }
            }
            let rule = match file {
                "etc/subuid" | "etc/subgid" => "duplicate-range",
                _ => "duplicate-name",
            };
            let again = [&lines[..], std::slice::from_ref(line)].concat();
            all.push(Fault { rule, file, line: again.len(), text: text(&again) });
        }
        let whole: String = text(&lines);
        let torn = whole.trim_end_matches('\n').to_owned();
        all.push(Fault { rule: "missing-newline", file, line: lines.len(), text: torn });
        if matches!(file, "etc/shadow" | "etc/gshadow") {
            let rule = if file == "etc/shadow" { "shadow-orphan" } else { "gshadow-orphan" };
            let more = if file == "etc/shadow" { "hesper:!:1::::::\n" } else { "hesper:!::\n" };
            all.push(Fault { rule, file, line: lines.len() + 1, text: whole + more });
        }
    }
    all
}

fn findings(tree: &TestTree) -> Vec<Value> {
    tree.json("check --allow-skipped")["findings"].as_array().unwrap().clone()
}

/// What tells findings apart, whatever their lines.
fn kinds(findings: &[Value]) -> BTreeSet<(String, String, String)> {
    let of = |finding: &Value, key: &str| finding[key].as_str().unwrap_or_default().to_owned();
    let kind = |one: &Value| (of(one, "rule"), of(one, "file"), of(one, "subject"));
    findings.iter().map(kind).collect()
}

const FILES: [&str; 6] =
    ["etc/passwd", "etc/shadow", "etc/group", "etc/gshadow", "etc/subuid", "etc/subgid"];

fn texts(tree: &TestTree) -> Vec<Vec<u8>> {
    FILES.iter().map(|file| tree.bytes(file)).collect()
}

/// What is offered first is one command, mends what is found, and brings nothing else; what is
/// wrong where that is not so.
fn mends(
    tree: &TestTree,
    found: &[Value],
    finding: &Value,
    told: fn(&Fault, &str) -> bool,
    fault: &Fault,
) -> Option<String> {
    let command = finding["remedies"][0]["command"].as_str()?;
    let fresh = tree.copy();
    let command =
        command.replace(&tree.root().display().to_string(), &fresh.root().display().to_string());
    let run = paste(&command);
    if run.status != 0 || command.contains("&&") {
        return Some(format!("{command}\n{}{}", run.stdout, run.stderr));
    }
    let after = findings(&fresh);
    let (before, after) = (kinds(found), kinds(&after));
    let new: Vec<_> = after.difference(&before).filter(|kind| !told(fault, &kind.0)).collect();
    let kind = &kinds(std::slice::from_ref(finding));
    let left = !new.is_empty() || kind.iter().any(|kind| after.contains(kind));
    left.then(|| format!("{command} leaves {after:?}"))
}

/// What comes of one fault; nothing where all is as it should be.
fn trial(sound: &TestTree, fault: &Fault) -> Option<String> {
    let tree = sound.copy();
    tree.write(fault.file, &fault.text);
    let line = fault.text.lines().nth(fault.line - 1).unwrap_or_default();
    let says = |what: String| {
        Some(format!("{} {}:{} {line:?}: {what}", fault.rule, fault.file, fault.line))
    };
    let found = findings(&tree);
    let here = |one: &&Value| {
        one["rule"] == fault.rule && one["file"] == fault.file && one["line"] == fault.line
    };
    let Some(finding) = found.iter().find(here) else {
        return says(format!("is not found among {:?}", kinds(&found)));
    };
    // Whoever let everybody in administers nothing once that is over, which is said.
    let told = |fault: &Fault, rule: &str| fault.rule == "open-password" && rule == "no-admin";
    if let Some(wrong) = mends(&tree, &found, finding, told, fault) {
        return says(wrong);
    }
    // The same where the machine around it is not there.
    let bare = tree.copy();
    for path in ["etc/skel", "home", "etc/shells"] {
        std::fs::rename(bare.path(path), bare.path(&format!("{path}.gone"))).unwrap();
    }
    // Nor is anything in the files beside it that may be empty.
    let ranges = ["etc/subuid", "etc/subgid"];
    for path in ranges.into_iter().filter(|_| !ranges.contains(&fault.file)) {
        bare.write(path, "");
    }
    let found = findings(&bare);
    // Whose home is not there is seen once its line can be read.
    let also = |fault: &Fault, rule: &str| match fault.rule {
        "open-password" => rule == "no-admin",
        "malformed-line" | "home-not-absolute" => rule == "missing-home",
        _ => false,
    };
    if let Some(finding) = found.iter().find(here)
        && let Some(wrong) = mends(&bare, &found, finding, also, fault)
    {
        return says(format!("without homes: {wrong}"));
    }
    // Repair twice is repair once, and undo gives every byte back.
    let before = texts(&tree);
    let run = tree.run("repair --yes");
    if run.status != 0 {
        return says(format!("repair says {}", run.stderr));
    }
    let once = texts(&tree);
    let nothing = run.stdout.contains("nothing was changed");
    // Beside lines it may have set owners right.
    let owners = run.stdout.contains("owner ");
    if nothing != (once == before) && !owners {
        return says(format!("repair says what it does not:\n{}", run.stdout));
    }
    if !nothing {
        tree.run("repair --yes");
        if texts(&tree) != once {
            return says("repair twice is not repair once".into());
        }
        let undone = tree.run("undo 1 --yes");
        if texts(&tree) != before {
            return says(format!("undo does not give back:\n{}{}", undone.stdout, undone.stderr));
        }
    }
    None
}

#[test]
fn each_fault_is_found_on_its_line_mended_and_given_back() {
    if !is_root() {
        return passed_over("each_fault_is_found", "root, to give files owners");
    }
    let sound = TestTree::new();
    assert_eq!(findings(&sound), [] as [Value; 0]);
    let faults = faults(&sound);
    assert!(faults.len() >= 200, "{}", faults.len());
    let tried: Vec<&Fault> = faults
        .iter()
        .enumerate()
        .filter(|(at, _)| is_sampled(*at, 5))
        .map(|(_, one)| one)
        .collect();
    let failed: Vec<String> = tried.par_iter().filter_map(|fault| trial(&sound, fault)).collect();
    assert!(failed.is_empty(), "{} of {}:\n{}", failed.len(), faults.len(), failed.join("\n"));
}

/// Which groups the C library gives each account, and what its shadow line says.
const READ: &str = r#"
import os, pwd, subprocess, sys
try:
    import warnings
    warnings.simplefilter("ignore")
    import spwd
except ImportError:
    spwd = None
for user in sorted(set(u.pw_name for u in pwd.getpwall())):
    entry = pwd.getpwnam(user)
    groups = sorted(set(os.getgrouplist(user, entry.pw_gid)))
    shadow = subprocess.run(["getent", "shadow", user], capture_output=True).stdout.decode()
    hash = shadow.split(":")[1] if shadow.count(":") else None
    if spwd and hash is not None:
        assert spwd.getspnam(user).sp_pwdp == hash
    # What stands in passwd itself counts.
    hash = hash if entry.pw_passwd == "x" else entry.pw_passwd
    # An open password is locked, and one that no line holds is none.
    password = hash if hash and hash[0] not in "!*" else "none"
    # Of whom no password lets in the shell starts nothing.
    print(user, entry.pw_uid, groups, entry.pw_shell if password != "none" else "", password)
"#;

fn access(tree: &TestTree) -> Option<String> {
    Some(read_in_place("nobody_gains_or_loses", tree, READ)?.stdout)
}

#[test]
fn nobody_gains_or_loses_access_by_a_repair_as_the_c_library_sees_it() {
    let sound = TestTree::new();
    let mut compared = 0;
    // Of each kind of fault one, which is looked for throughout the files.
    let mut seen: BTreeSet<(&str, &str, usize)> = BTreeSet::new();
    for fault in faults(&sound) {
        let many = seen.iter().filter(|(rule, file, _)| (*rule, *file) == (fault.rule, fault.file));
        let many = many.count();
        if many > 2 || many > 0 && !is_sampled(many, 3) {
            continue;
        }
        seen.insert((fault.rule, fault.file, fault.line));
        if !is_sampled(seen.len(), 2) {
            continue;
        }
        let tree = sound.copy();
        tree.write(fault.file, &fault.text);
        let Some(before) = access(&tree) else { return };
        let run = tree.run("repair --yes");
        if run.stdout.contains("nothing was changed") {
            continue;
        }
        let what = format!("{} {}:{}\n{}", fault.rule, fault.file, fault.line, run.stdout);
        assert_eq!(access(&tree).unwrap(), before, "{what}");
        compared += 1;
    }
    assert!(compared > if is_sampled(1, 2) { 20 } else { 8 }, "{compared}");
}

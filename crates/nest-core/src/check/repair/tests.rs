use super::*;
use crate::book::Book;
use crate::book::tests::book;
use crate::check::rule;
use crate::policy::Policy;
use crate::surroundings::{Facts, FileKind};
use crate::test_support::World;
use crate::value::{Day, Gid, Uid};

fn context<'a>(book: &'a Book, policy: &'a Policy, world: &'a World) -> PlanContext<'a> {
    PlanContext { book, policy, world, today: Day(20781), change: None }
}

fn repaired(files: &[(File, &str)], world: &World, only: &[&str]) -> Repaired {
    let (book, policy) = (book(files), Policy::default());
    let only = only.iter().map(|name| rule(name).unwrap()).collect();
    let selection = Selection { only, ..Selection::default() };
    repair(context(&book, &policy, world), &Repair { selection, ..Repair::default() }).unwrap()
}

/// What becomes of lines: `file:line before -> after`.
fn told(plan: &Plan) -> Vec<String> {
    let text = |line: &Option<BString>| line.as_ref().map_or("-".into(), ToString::to_string);
    let edit = |edit: &crate::table::Edit| {
        let (before, after) = (text(&edit.before), text(&edit.after));
        format!("{}:{} {before} -> {after}", edit.file.path(), edit.line)
    };
    plan.edits.iter().map(edit).collect()
}

const PASSWD: &str = "root:x:0:0::/root:/bin/sh\nmaren:x:1004:1004::/home/maren:/bin/sh\n";

#[test]
fn one_line_with_many_faults_is_one_edit() {
    let files = [
        (File::Passwd, PASSWD),
        (File::Group, "root:x:0:\n crew:x:007:maren,tavis,maren,maren \n"),
    ];
    let done = repaired(&files, &World::default(), &[]);
    assert_eq!(
        told(&done.plan),
        ["etc/group:2  crew:x:007:maren,tavis,maren,maren  -> crew:x:7:maren"]
    );
    let labels: Vec<&str> =
        done.plan.subjects[0].decisions.iter().map(|decision| decision.label.as_str()).collect();
    for label in ["stray-space", "bad-number", "duplicate-member", "ghost-member"] {
        assert!(labels.contains(&label), "{label} in {labels:?}");
    }
}

#[test]
fn a_mend_that_brings_another_fault_to_light_is_followed_by_its_mend() {
    // Once the space is gone, the two lines are the same.
    let files = [
        (File::Passwd, PASSWD),
        (File::Group, "root:x:0:\nmaren:x:1004:\ncrew:x:7:maren\ncrew:x:7:maren \n"),
        (File::Gshadow, "root:*::\nmaren:!::\ncrew:!::maren\n"),
    ];
    let done = repaired(&files, &World::default(), &["stray-space", "duplicate-name"]);
    assert_eq!(told(&done.plan), ["etc/group:4 crew:x:7:maren  -> -"]);
    assert!(done.left.findings.is_empty(), "{:?}", done.left.findings);
}

#[test]
fn what_has_two_answers_is_left() {
    let hash = "$6$Gullhaven$0123456789abcdef";
    let passwd = format!("{PASSWD}hull:{hash}:1005:1004::/:/bin/sh\n+\n");
    let shadow = format!("root:*:1::::::\nmaren:!:1::::::\nhull:{hash}x:1::::::\n");
    let files = [
        (File::Passwd, passwd.as_str()),
        (File::Shadow, shadow.as_str()),
        (File::Group, "root:x:0:\nmaren:x:1004:\ncrew:x:7:a\ncrew:x:8:\nrest:x:9:"),
    ];
    let others = World { other_sources: Some("ldap".into()), ..World::default() };
    let done = repaired(&files, &others, &[]);
    assert_eq!(told(&done.plan), ["etc/group:5 rest:x:9: -> rest:x:9:"], "only its end");
    let left: Vec<&str> = done.left.findings.iter().map(|finding| finding.rule.name).collect();
    for rule in ["exposed-hash", "duplicate-name", "compat-line"] {
        assert!(left.contains(&rule), "{rule} in {left:?}");
    }
    assert!(!left.contains(&"missing-newline"));
}

#[test]
fn a_last_line_that_is_mended_gets_its_end_too() {
    let files = [(File::Passwd, PASSWD), (File::Group, "root:x:0:\ncrew:x:7:maren,maren")];
    let done = repaired(&files, &World::default(), &["missing-newline", "duplicate-member"]);
    assert_eq!(
        told(&done.plan),
        ["etc/group:2 crew:x:7:maren,maren -> -", "etc/group:3 - -> crew:x:7:maren"]
    );
    let lines =
        crate::table::Lines::new(File::Group, std::sync::Arc::new(files[1].1.as_bytes().to_vec()));
    let edits: Vec<&crate::table::Edit> = done.plan.edits.iter().collect();
    let text = lines.rewrite(&edits).bytes(files[1].1.as_bytes());
    assert_eq!(text, b"root:x:0:\ncrew:x:7:maren\n");
}

#[test]
fn a_hash_that_goes_with_its_line_is_told() {
    let hash = "$6$Gullhaven$0123456789abcdef";
    let told = |shadow: &str| {
        let files = [(File::Passwd, PASSWD), (File::Shadow, shadow), (File::Group, "root:x:0:\n")];
        let plan = repaired(&files, &World::default(), &["shadow-orphan", "missing-newline"]).plan;
        plan.cautions.iter().map(ToString::to_string).collect::<Vec<_>>()
    };
    let own = format!("root:*:1::::::\nmaren:{hash}:1::::::");
    assert_eq!(told(&format!("{own}\nhesper:!:1::::::\nodalys::1::::::\n")), [""; 0]);
    assert_eq!(
        told(&format!("{own}\nhesper:!{hash}x:1::::::\n")),
        ["1 line goes with a hash on it that is kept nowhere: undo brings the line back, \
          and not the hash"]
    );
    assert_eq!(told(&own), [""; 0], "the last line only gets its end");
}

#[test]
fn lines_that_are_missing_come_locked() {
    let files = [
        (File::Passwd, PASSWD),
        (File::Shadow, "root:*:1::::::\n"),
        (File::Group, "root:x:0:\nmaren:x:1004:\ncrew:x:7:maren\n"),
        (File::Gshadow, "root:*::\nmaren:!::\n"),
    ];
    let done = repaired(&files, &World::default(), &[]);
    assert_eq!(
        told(&done.plan),
        ["etc/shadow:2 - -> maren:!:20781:0::7:::", "etc/gshadow:3 - -> crew:!::maren"]
    );
}

#[test]
fn access_to_the_files_is_set_right_in_one_step() {
    let mut world = World::default();
    let facts =
        |uid, gid, mode| Ok(Facts { kind: FileKind::File, uid: Uid(uid), gid: Gid(gid), mode });
    world.facts.insert("/etc/shadow".into(), facts(1004, 7, 0o664));
    world.facts.insert("/etc/group".into(), facts(0, 7, 0o644));
    let files = [(File::Passwd, PASSWD), (File::Group, "root:x:0:\nshadow:x:42:\nmaren:x:1004:\n")];
    let done = repaired(&files, &world, &["loose-mode", "wrong-owner"]);
    let from = Access { owner: Owner { uid: Uid(1004), gid: Gid(7) }, mode: 0o664 };
    let to = Access { owner: Owner { uid: Uid::ROOT, gid: Gid(42) }, mode: 0o640 };
    assert_eq!(done.plan.steps, [Step::SetAccess { file: File::Shadow, from, to }]);
    assert!(done.left.findings.is_empty(), "{:?}", done.left.findings);
    let mode = repaired(&files, &world, &["loose-mode"]);
    let to = Access { owner: from.owner, mode: 0o640 };
    assert_eq!(mode.plan.steps, [Step::SetAccess { file: File::Shadow, from, to }]);
}

#[test]
fn only_lines_at_fault_are_taken_out() {
    let (book, policy, world) = (
        book(&[(File::Passwd, "root:x:0:0::/root:/bin/sh\nbroken\nmaren:x:1:1:::\n")]),
        Policy::default(),
        World::default(),
    );
    let take_out = |lines: &[(File, usize)]| {
        let request = Repair { take_out: lines.to_vec(), ..Repair::default() };
        repair(context(&book, &policy, &world), &request)
    };
    let done = take_out(&[(File::Passwd, 2)]).unwrap();
    assert_eq!(told(&done.plan), ["etc/passwd:2 broken -> -"]);
    assert_eq!(done.plan.summary, "repair 1 fault in 1 file");
    let refused = take_out(&[(File::Passwd, 2), (File::Passwd, 3)]).unwrap_err().to_string();
    assert!(
        refused.starts_with("etc/passwd:3 was not taken out: nothing is wrong with"),
        "{refused}"
    );
    let none = take_out(&[(File::Passwd, 4)]).unwrap_err().to_string();
    assert_eq!(none, "etc/passwd:4 was not taken out: etc/passwd has 3 lines");
    assert!(take_out(&[(File::Shadow, 1)]).is_err());
}

#[test]
fn what_takes_a_decision_is_not_mended() {
    let is_mended = |name| rule(name).unwrap().is_mended();
    assert!(is_mended("ghost-member") && is_mended("loose-mode") && is_mended("missing-home"));
    assert!(!is_mended("duplicate-uid"));
}

use super::*;
use crate::book::Book;
use crate::book::tests::book;
use crate::check::rule;
use crate::policy::Policy;
use crate::surroundings::Facts;
use crate::test_support::World;
use crate::value::{Day, FileKind, Gid, Uid};

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
fn a_line_with_a_hash_goes_only_when_it_is_named() {
    let hash = "$6$Gullhaven$0123456789abcdef";
    let told = |shadow: &str| {
        let files = [(File::Passwd, PASSWD), (File::Shadow, shadow), (File::Group, "root:x:0:\n")];
        let plan = repaired(&files, &World::default(), &["shadow-orphan", "missing-newline"]).plan;
        plan.cautions.iter().map(ToString::to_string).collect::<Vec<_>>()
    };
    let own = format!("root:*:1::::::\nmaren:{hash}:1::::::");
    assert_eq!(told(&format!("{own}\nhesper:!:1::::::\nodalys::1::::::\n")), [""; 0]);
    let orphan = format!("{own}\nhesper:!{hash}x:1::::::\n");
    assert_eq!(told(&orphan), [""; 0]);
    let files = [(File::Passwd, PASSWD), (File::Shadow, &orphan), (File::Group, "root:x:0:\n")];
    let safe = repaired(&files, &World::default(), &["shadow-orphan"]);
    assert!(safe.plan.nothing, "{:?}", safe.plan.edits);
    assert_eq!(safe.left.findings.len(), 1, "it is left to a decision");
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

#[test]
fn a_mend_that_would_give_or_take_access_is_left_to_the_administrator() {
    let shadow = "root:*:1::::::\nmaren:$6$saltsalt$abcdefgh:20000::::::\n";
    // With the space she is no member, and without it she would administer the machine.
    let group = "root:x:0:\nsudo:x:27:maren \nmaren:x:1004:\ncrew:x:7:maren \n disk:x:6:\n";
    let files = [(File::Passwd, PASSWD), (File::Group, group), (File::Shadow, shadow)];
    let done = repaired(&files, &World::default(), &["stray-space"]);
    assert_eq!(told(&done.plan), ["etc/group:5  disk:x:6: -> disk:x:6:"]);
    let left: Vec<usize> = done.left.findings.iter().map(|finding| finding.line).collect();
    assert_eq!(left, [2, 4]);
    // What is about nobody of them is mended all the same, empty fields and all.
    let passwd = PASSWD.replace("maren:/bin/sh\n", "maren:/bin/sh\r\n");
    let group = "root:x:0:\nmaren:x:1004:\n wharf:x:7:\n";
    let files = [(File::Passwd, &passwd[..]), (File::Group, group), (File::Shadow, shadow)];
    let world = World { missing_programs: vec!["/bin/sh\r".into()], ..World::default() };
    let done = repaired(&files, &world, &["stray-space"]);
    assert_eq!(told(&done.plan), ["etc/group:3  wharf:x:7: -> wharf:x:7:"]);
    // A shell that is none because of what ends its line.
    let passwd = PASSWD.replace("maren:/bin/sh\n", "maren:/bin/sh\r\n");
    let files = [(File::Passwd, &passwd[..]), (File::Group, "root:x:0:\n"), (File::Shadow, shadow)];
    let world = World { missing_programs: vec!["/bin/sh\r".into()], ..World::default() };
    assert_eq!(told(&repaired(&files, &world, &["stray-space"]).plan), [""; 0]);
    // Where it makes no difference to anybody it is mended.
    let locked = shadow.replace("$6$", "!$6$");
    let files =
        [(File::Passwd, &passwd[..]), (File::Group, "root:x:0:\n"), (File::Shadow, &locked)];
    assert_eq!(told(&repaired(&files, &world, &["stray-space"]).plan).len(), 1);
    // That an open password is locked is no loss.
    let open = shadow.replace("$6$saltsalt$abcdefgh", "");
    let files = [(File::Passwd, PASSWD), (File::Group, "root:x:0:\n"), (File::Shadow, &open)];
    assert_eq!(
        told(&repaired(&files, &World::default(), &["open-password"]).plan),
        ["etc/shadow:2 maren::20000:::::: -> maren:!:20000::::::"]
    );
}

/// What somebody may do, told from the texts alone, as the C library reads them: the first
/// line of the name counts, and who has which gid.
fn rights(book: &Book) -> std::collections::BTreeMap<String, String> {
    use std::collections::{BTreeMap, BTreeSet};
    let lines = |file| book.lines(file).map_or(&b""[..], |lines| lines.text());
    let fields = |file| -> Vec<Vec<String>> {
        let text = String::from_utf8_lossy(lines(file)).into_owned();
        let records = text.split('\n').map(|line| line.trim_start().to_owned());
        let records = records.filter(|line| !line.is_empty() && !line.starts_with(['#', '+', '-']));
        records.map(|line| line.split(':').map(str::to_owned).collect()).collect()
    };
    let number = |text: &str| text.trim_start().trim_start_matches('+').parse::<u32>().ok();
    let mut rights = BTreeMap::new();
    for user in fields(File::Passwd).iter().filter(|user| user.len() == 7 && !user[0].is_empty()) {
        let (Some(uid), Some(gid)) = (number(&user[2]), number(&user[3])) else { continue };
        let mut gids = BTreeSet::from([gid]);
        for group in fields(File::Group).iter().filter(|group| group.len() == 4) {
            if group[3].split(',').any(|member| member.trim_start() == user[0]) {
                gids.extend(number(&group[2]));
            }
        }
        let shadow = fields(File::Shadow);
        let shadow = shadow.iter().find(|line| line.len() == 9 && line[0] == user[0]);
        let field =
            if user[1] == "x" { shadow.map(|line| line[1].clone()) } else { Some(user[1].clone()) };
        let opens = field.filter(|field| field.starts_with('$'));
        rights.entry(user[0].clone()).or_insert(format!("{uid} {gids:?} {opens:?}"));
    }
    rights
}

proptest::proptest! {
    /// Whatever was done to the files by hand, repair gives nobody anything and takes nothing
    /// away.
    #[test]
    fn repair_moves_no_rights(
        strokes in proptest::collection::vec((0usize..3, 0usize..200, "[ \t\r,:0x+a\n]|maren|tavish|duplicate"), 0..6),
    ) {
        let mut texts = [
            "root:x:0:0::/root:/bin/sh\nmaren:x:1004:1004::/home/maren:/bin/sh\ntavish:x:1005:1005::/home/tavish:/bin/sh\n".to_owned(),
            "root:x:0:\nsudo:x:27:maren,tavish\ndisk:x:6:\nmaren:x:1004:\ntavish:x:1005:\ncrew:x:210:tavish\n".to_owned(),
            "root:*:1::::::\nmaren:$6$saltsalt$abcdefgh:20000::::::\ntavish:!:1::::::\n".to_owned(),
        ];
        for (which, at, stroke) in strokes {
            let text = &mut texts[which];
            let at = at % (text.len() + 1);
            if stroke == "duplicate" {
                let line = text[at..].lines().next().unwrap_or("").to_owned();
                text.insert_str(at, &format!("{line}\n"));
            } else {
                text.insert_str(at, &stroke);
            }
        }
        let files =
            [(File::Passwd, &texts[0][..]), (File::Group, &texts[1]), (File::Shadow, &texts[2])];
        let before = book(&files);
        let done = repaired(&files, &World::default(), &[]);
        let after: Vec<(File, String)> = files
            .iter()
            .map(|(file, text)| {
                let edits: Vec<_> = done.plan.edits.iter().filter(|edit| edit.file == *file).collect();
                let new = before.lines(*file).unwrap().rewrite(&edits).bytes(text.as_bytes());
                (*file, String::from_utf8(new).unwrap())
            })
            .collect();
        let after: Vec<(File, &str)> =
            after.iter().map(|(file, text)| (*file, &text[..])).collect();
        proptest::prop_assert_eq!(rights(&before), rights(&book(&after)), "{:?}", told(&done.plan));
    }
}

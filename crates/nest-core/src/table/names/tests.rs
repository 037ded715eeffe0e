use std::collections::HashMap;
use std::sync::Arc;

use proptest::prelude::*;

use super::*;
use crate::table::Line;
use crate::table::source::tests::Slow;

fn lines(file: File, text: &str) -> Lines {
    Lines::new(file, Arc::new(text.as_bytes().to_vec()))
}

/// Every line of each name, as a search finds them.
fn plainly(lines: &Lines) -> HashMap<Vec<u8>, Vec<usize>> {
    let mut all: HashMap<Vec<u8>, Vec<usize>> = HashMap::new();
    for line in lines.iter() {
        if let Some(name) = name_of(line.bytes) {
            all.entry(name.to_vec()).or_default().push(line.start);
        }
    }
    all
}

/// Holds the index of these files against a search through each of them.
fn judge(files: &[Lines; 4]) {
    let of = |file: File| files.iter().find(|lines| lines.file() == file);
    let names = NameIndex::build(of);
    let lookup = names.over(of);
    let plain: HashMap<File, _> =
        files.iter().map(|lines| (lines.file(), plainly(lines))).collect();
    for file in NAMED {
        let mut doubled = Vec::new();
        for (name, starts) in &plain[&file] {
            assert_eq!(lookup.find(file, name), starts.first().copied(), "{file:?} {name:?}");
            doubled.extend(starts[1..].iter().map(|again| (starts[0] as u32, *again as u32)));
        }
        doubled.sort_unstable_by_key(|(_, again)| *again);
        assert_eq!(lookup.doubled(file), doubled, "{file:?}");
        for other in NAMED {
            let theirs = &plain[&other];
            let lacking = plain[&file].iter().filter(|(name, _)| !theirs.contains_key(*name));
            let mut lacking: Vec<u32> =
                lacking.flat_map(|(_, starts)| starts).map(|start| *start as u32).collect();
            lacking.sort_unstable();
            assert_eq!(lookup.lacking(file, other), lacking, "{file:?} {other:?}");
            for name in plain[&file].keys().filter(|name| !theirs.contains_key(*name)) {
                assert_eq!(lookup.find(other, name), None);
            }
        }
    }
}

/// Names, some of them often, indented, in comments, long, or without a colon.
fn text() -> impl Strategy<Value = String> {
    let name = prop_oneof![
        4 => "[a-e]{1,2}",
        1 => "crewman-of-the-[ab]-long-ferries",
        1 => "[ \t]{0,2}[a-c]",
        1 => "[#+-]?[ab]",
        1 => "",
    ];
    let line = (name, prop_oneof![6 => ":x:1:", 1 => "", 1 => ":"], "[a-c,:]{0,20}")
        .prop_map(|(name, colon, rest)| format!("{name}{colon}{rest}\n"));
    (proptest::collection::vec(line, 0..60), "[a-c:]{0,3}")
        .prop_map(|(lines, last)| lines.concat() + &last)
}

proptest! {
    #[test]
    fn the_index_finds_what_a_search_finds(
        passwd in text(),
        shadow in text(),
        group in text(),
        gshadow in text(),
    ) {
        judge(&[
            lines(File::Passwd, &passwd),
            lines(File::Shadow, &shadow),
            lines(File::Group, &group),
            // However the text is held.
            Lines::unread(File::Gshadow, Arc::new(Slow(gshadow.into_bytes()))),
        ]);
    }

    /// The lists of members are compared as they are written.
    #[test]
    fn lists_that_differ_are_found(
        lists in proptest::collection::vec(("[ab,]{0,18}", "[ab,]{0,18}", any::<bool>()), 0..9),
    ) {
        let list = |at: usize| -> (String, String, bool) {
            let (ours, theirs, same) = &lists[at];
            let other = if *same { ours } else { theirs };
            (format!("g{at}:x:{at}:{ours}\n"), format!("g{at}:!:a:{other}\n"), ours == other)
        };
        let all: Vec<_> = (0..lists.len()).map(list).collect();
        let group = all.iter().map(|list| list.0.as_str()).collect::<String>();
        // In another order, and the last line without its end.
        let gshadow = all.iter().rev().map(|list| list.1.as_str()).collect::<String>();
        let files = [lines(File::Group, &group), lines(File::Gshadow, gshadow.trim_end())];
        let of = |file: File| files.iter().find(|lines| lines.file() == file);
        let names = NameIndex::build(of);
        let lookup = names.over(of);
        let different: Vec<u32> = (0..all.len())
            .filter(|at| !all[*at].2)
            .map(|at| lookup.find(File::Group, format!("g{at}").as_bytes()).unwrap() as u32)
            .collect();
        prop_assert_eq!(lookup.differing(), different);
    }
}

/// What may happen to one line of a file in which each name has one.
#[derive(Debug, Clone)]
enum Mishap {
    None,
    Lost,
    Another(&'static str),
    Twice(usize),
}

fn mishap() -> impl Strategy<Value = Mishap> {
    prop_oneof![
        2 => Just(Mishap::None),
        1 => Just(Mishap::Lost),
        1 => prop_oneof![Just("stray"), Just("root")].prop_map(Mishap::Another),
        1 => (0usize..120).prop_map(Mishap::Twice),
    ]
}

/// A file with a line for each of these names, but for a mishap.
fn with_mishap(file: File, mut names: Vec<String>, at: usize, mishap: &Mishap) -> Lines {
    let at = at % names.len();
    match mishap {
        Mishap::None => {}
        Mishap::Lost => _ = names.remove(at),
        Mishap::Another(name) => names[at] = (*name).to_owned(),
        Mishap::Twice(other) => names[at] = names[other % names.len()].clone(),
    }
    lines(file, &names.iter().map(|name| format!("{name}:x\n")).collect::<String>())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    /// Files that have the same names in some other order are told from those that
    /// have nearly the same.
    #[test]
    fn names_in_another_order_are_found(
        order in Just((0..120).collect::<Vec<usize>>()).prop_shuffle(),
        mishaps in [mishap(), mishap(), mishap(), mishap()],
        ranges in mishap(),
        at in 0usize..120,
        root in any::<bool>(),
    ) {
        let ours = |all: &mut dyn Iterator<Item = usize>, root: bool| -> Vec<String> {
            let all = all.map(|at| format!("crew{at}"));
            root.then(|| "root".to_owned()).into_iter().chain(all).collect()
        };
        let shuffled = |root| ours(&mut order.iter().copied(), root);
        let files = [
            with_mishap(File::Passwd, ours(&mut (0..120), true), at, &mishaps[0]),
            with_mishap(File::Shadow, shuffled(true), at, &mishaps[1]),
            with_mishap(File::Group, shuffled(true), at + 7, &mishaps[2]),
            with_mishap(File::Gshadow, ours(&mut (0..120).rev(), true), at, &mishaps[3]),
        ];
        judge(&files);

        let of = |file: File| files.iter().find(|lines| lines.file() == file);
        let names = NameIndex::build(of);
        let subuid = with_mishap(File::Subuid, shuffled(root), at, &ranges);
        let mut matcher = names.matcher(File::Subuid);
        subuid.iter().for_each(|line| matcher.line(line.name(), line.start));
        let lookup = names.over(of);
        let strange = |line: &Line<'_>| lookup.find(File::Passwd, line.name()).is_none();
        let unowned: Vec<u32> =
            subuid.iter().filter(strange).map(|line| line.start as u32).collect();
        let matched = [matcher.finish()];
        // Whoever has no range, and is root or the first of the crew.
        let first = of(File::Passwd).unwrap().iter().position(|line| line.name() == b"root");
        let unexpected: Vec<u32> = first.map(|at| at as u32).into_iter().collect();
        prop_assert_eq!(names.unowned(&subuid, &matched, &unexpected), unowned.clone());
        prop_assert_eq!(names.unowned(&subuid, &matched, &[]), unowned);
    }
}

/// Enough names for several threads, in step, out of step and with others among them.
#[test]
fn many_names_are_found_too() {
    let count = 140_000;
    let file = |file: File, names: &mut dyn Iterator<Item = usize>, more: &str| {
        let all = names.map(|at| format!("crew{at}:x:1:\n")).collect::<String>();
        lines(file, &(all + more))
    };
    judge(&[
        file(File::Passwd, &mut (0..count), "crew9:x:1:\ncrew139999:x:1:\n"),
        file(File::Shadow, &mut (0..count).filter(|at| at % 70_001 != 3), "crew8:x\n"),
        file(File::Group, &mut (0..count).map(|at| at * 48_271 % count), ""),
        file(File::Gshadow, &mut (count - 9..2 * count + 9).rev(), "maren:x\nmaren:y\n"),
    ]);
}

#[test]
fn names_that_come_in_numbers_are_told_in_order() {
    let passwd = (0..100).map(|at| format!("crew{at}:x:{at}:\n")).collect::<String>();
    let passwd = lines(File::Passwd, &passwd);
    let of = |file| (file == File::Passwd).then_some(&passwd);
    let names = NameIndex::build(of);
    let lookup = names.over(of);
    let (mut many, mut told) = (lookup.many(), Vec::new());
    for at in 0..150usize {
        let name = format!("crew{}", at * 7 % 150);
        many.ask(name.as_bytes(), at, |at, entry| told.push((at, entry.map(NameEntry::number))));
    }
    many.finish(|at, entry| told.push((at, entry.map(NameEntry::number))));
    let number = |at: usize| Some(at * 7 % 150).filter(|number| *number < 100);
    assert_eq!(told, (0..150).map(|at| (at, number(at))).collect::<Vec<_>>());
    assert_eq!(lookup.find(File::Passwd, b"crew7:x"), None);
}

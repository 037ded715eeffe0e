//! Names that look like others: look-alike-name.

use bstr::{BStr, BString, ByteSlice};
use hashbrown::HashMap;
use unicode_security::skeleton;

use super::{Checker, Example, Family, PLAIN, Pass, Remedy, Rule, Severity, free_name};
use crate::account::admin_groups;
use crate::order;
use crate::table::{Column, File, Line, Lines};
use crate::value::{escape, is_unseen};

pub(super) const PASSES: &[Pass] = &[(&[&LOOK_ALIKE_NAME], names)];

static LOOK_ALIKE_NAME: Rule = Rule {
    name: "look-alike-name",
    severity: Severity::Warning,
    family: Family::Lines,
    reads: &[File::Passwd, File::Group],
    finds: "a name that looks like another one, or has characters that nobody sees",
    why: "In a list, a log or a question it is taken for the other: r00t for root, or a letter of \
              another script for the one that looks the same.",
    remedy: "Find out whose it is, and rename it: copper-nest rename user, or rename group.",
    bad: Example::with(&[
        (File::Passwd, "root:x:0:0:root:/root:/bin/bash\nr00t:x:1004:1004::/nonexistent:/bin/sh\n"),
        (File::Group, "root:x:0:\nr00t:x:1004:\n"),
        (File::Shadow, "root:*:20781::::::\nr00t:!:20781::::::\n"),
    ]),
    ..PLAIN
};

fn names(checker: &mut Checker<'_>) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    let book = context.book;
    for file in [File::Passwd, File::Group] {
        let Some(lines) = book.lines(file) else { continue };
        let odd: Vec<Line<'_>> = prefilter
            .lines(book, file)
            .filter(|line| line.is_record() && !line.name().is_ascii())
            .collect();
        let of_all = if odd.is_empty() { HashMap::new() } else { skeletons(lines) };
        for line in odd {
            let Ok(name) = line.name().to_str() else { continue };
            if let Some(unseen) = name.chars().find(|c| is_unseen(*c)) {
                let shown = escape(name.as_bytes());
                let message = format!(
                    "the name {shown} holds U+{:04X}, which nobody sees.",
                    u32::from(unseen)
                );
                tell(checker, lines, line, message, None);
                continue;
            }
            let Some(other) = of_all.get(&skeleton(name).collect::<String>()) else { continue };
            if other.start != line.start {
                let message = format!("the name {name} looks like {}.", BStr::new(other.name()));
                tell(checker, lines, line, message, Some(*other));
            }
        }
    }
    // Of plain letters only what passes for somebody with root's rights is told.
    let mut with_rights: Vec<BString> = vec!["root".into()];
    for group in admin_groups(book, context.policy) {
        with_rights.extend(group.members().map(BString::from));
    }
    order::sort(&mut with_rights);
    with_rights.dedup();
    let lines = book.users.lines();
    for name in with_rights.into_iter().filter(|name| name.is_ascii()) {
        let Some(original) = book.named(File::Passwd, &name).into_iter().next() else { continue };
        for twin in twins(&name) {
            for line in book.named(File::Passwd, &twin) {
                let message = format!(
                    "the name {} looks like {name} (line {}), who has root's rights.",
                    BStr::new(&twin),
                    lines.number(original.start)
                );
                tell(checker, lines, line, message, Some(original));
            }
        }
    }
}

fn tell(
    checker: &mut Checker<'_>,
    lines: &Lines,
    line: Line<'_>,
    message: String,
    other: Option<Line<'_>>,
) {
    let name = line.name();
    let remedy = Remedy::rename(lines.file(), name, &free_name(checker.context.book, name.into()));
    let found = checker.find(&LOOK_ALIKE_NAME, (lines, line), Column::NAME, message, remedy);
    if let Some(other) = other {
        found.relate(lines, other);
    }
}

/// How each name looks, see Unicode Technical Standard 39.
fn skeletons(lines: &Lines) -> HashMap<String, Line<'_>> {
    let mut all = HashMap::new();
    for line in lines.iter().filter(Line::is_record) {
        if let Ok(name) = line.name().to_str() {
            let looks = skeleton(name).collect();
            // A plain name is the one that others look like.
            if name.is_ascii() {
                all.insert(looks, line);
            } else {
                all.entry(looks).or_insert(line);
            }
        }
    }
    all
}

/// Letters and digits that are taken for each other.
const PAIRS: [(&[u8], &[u8]); 8] = [
    (b"o", b"0"),
    (b"0", b"o"),
    (b"l", b"1"),
    (b"1", b"l"),
    (b"l", b"I"),
    (b"m", b"rn"),
    (b"rn", b"m"),
    (b"w", b"vv"),
];

/// So many places of a name are put otherwise.
const MOST_PLACES: usize = 6;

/// The names that look like a plain one.
fn twins(name: &[u8]) -> Vec<Vec<u8>> {
    let mut all = vec![name.to_vec()];
    for (one, other) in PAIRS {
        for known in all.clone() {
            let places: Vec<usize> = known.find_iter(one).take(MOST_PLACES).collect();
            // Every choice of those places but none.
            for choice in 1..1usize << places.len() {
                let mut twin = Vec::with_capacity(known.len() + places.len());
                let mut from = 0;
                for (at, place) in places.iter().enumerate() {
                    if choice >> at & 1 == 1 {
                        twin.extend_from_slice(&known[from..*place]);
                        twin.extend_from_slice(other);
                        from = place + one.len();
                    }
                }
                twin.extend_from_slice(&known[from..]);
                if all.len() < 512 && !all.contains(&twin) {
                    all.push(twin);
                }
            }
        }
    }
    all.remove(0);
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn plain_letters_are_put_otherwise_at_each_place() {
        let of = |name: &str| twins(name.as_bytes());
        let has = |name: &str, twin: &str| of(name).contains(&twin.as_bytes().to_vec());
        assert!(has("root", "r00t") && has("root", "ro0t") && !has("root", "root"));
        assert!(has("maren", "rnaren") && has("odalys", "0daIys") && has("odalys", "oda1ys"));
        assert!(of("pass").is_empty());
    }
}

//! Tables by which machines are lined up.

use std::collections::BTreeMap;

use super::tally::{Said, Way};
use super::{Agreement, CompareOptions, Tally};
use crate::value::UserOrGroup;

/// For each side whose numbers become others the table that `renumber` takes.
pub fn written_numbers(agreement: &Agreement) -> BTreeMap<u32, String> {
    let mut rows: BTreeMap<u32, Vec<[String; 3]>> = BTreeMap::new();
    for agreed in &agreement.all {
        let kind = match agreed.thing {
            UserOrGroup::User => "user",
            UserOrGroup::Group => "group",
        };
        for side in &agreed.sides {
            let row = [kind.to_owned(), agreed.name.clone(), agreed.id.to_string()];
            rows.entry(*side).or_default().push(row);
        }
    }
    let table = |rows: Vec<[String; 3]>| csv_text(&["kind", "name", "id"], rows);
    rows.into_iter().map(|(side, rows)| (side, table(rows))).collect()
}

/// A table of people.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WrittenPeople {
    /// The table.
    pub text: String,
    /// How many are in it.
    pub rows: usize,
    /// How many are left out as they are on fewer than half of the sides.
    pub strays: usize,
}

/// Those who are on half of the sides or more, or on the one that is as it should be: each as
/// that says, or as most say.
pub fn written_people(
    tally: &Tally,
    sides: usize,
    options: CompareOptions,
    agreement: &Agreement,
) -> WrittenPeople {
    let agreed: BTreeMap<&str, u32> = agreement
        .all
        .iter()
        .filter(|agreed| agreed.thing == UserOrGroup::User)
        .map(|agreed| (agreed.name.as_str(), agreed.id))
        .collect();
    let (mut rows, mut strays) = (Vec::new(), 0);
    for (name, ways) in tally.users() {
        if name == "root" || ways.iter().all(|way| way.of_user(Said::Kind) == Some("service")) {
            continue;
        }
        let on: usize = ways.iter().map(|way| way.sides.len()).sum();
        let says = |way: &&Way| {
            options.against.is_some_and(|against| way.sides.binary_search(&against).is_ok())
        };
        let wanted = match options.against {
            Some(_) => ways.iter().any(says),
            None => 2 * on >= sides,
        };
        if !wanted {
            strays += 1;
            continue;
        }
        let value = |said: Said| -> Option<&str> {
            let expected = ways.iter().find(|way| says(way)).and_then(|way| way.of_user(said));
            expected.or_else(|| most_say(&ways, said))
        };
        let uid = agreed.get(name).map(u32::to_string);
        let uid = uid.or_else(|| value(Said::Uid).map(str::to_owned)).unwrap_or_default();
        let owned = |said| value(said).unwrap_or_default().to_owned();
        // Somebody's own group is made with them.
        let primary = value(Said::Primary).filter(|primary| *primary != name).unwrap_or_default();
        let primary = primary.strip_prefix("gid ").unwrap_or(primary);
        let expires = value(Said::Expires).filter(|expires| *expires != "never");
        rows.push([
            name.to_owned(),
            uid,
            owned(Said::FullName),
            primary.to_owned(),
            owned(Said::Groups).replace(", ", ";"),
            owned(Said::Home),
            owned(Said::Shell),
            expires.unwrap_or_default().to_owned(),
        ]);
    }
    let titles = ["name", "uid", "full_name", "primary", "join", "home", "shell", "expires"];
    WrittenPeople { rows: rows.len(), text: csv_text(&titles, rows), strays }
}

/// What most say.
fn most_say<'t>(ways: &[&'t Way], said: Said) -> Option<&'t str> {
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    for way in ways {
        if let Some(value) = way.of_user(said) {
            *counts.entry(value).or_default() += way.sides.len();
        }
    }
    counts.into_iter().max_by(|a, b| a.1.cmp(&b.1).then(b.0.cmp(a.0))).map(|(value, _)| value)
}

/// A table, RFC 4180.
fn csv_text<const N: usize>(titles: &[&str; N], rows: Vec<[String; N]>) -> String {
    const TAKES: &str = "BUG: memory takes what is written";
    let mut writer = csv::Writer::from_writer(Vec::new());
    writer.write_record(titles).expect(TAKES);
    for row in rows {
        writer.write_record(row).expect(TAKES);
    }
    String::from_utf8(writer.into_inner().expect(TAKES)).expect("BUG: cells are texts")
}

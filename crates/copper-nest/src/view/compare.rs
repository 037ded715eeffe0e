//! In what machines differ.

use std::collections::BTreeMap;

use nest_core::compare::{About, Comparison, Difference, Differing, Field, SaidBy};
use nest_core::words::{agree, counted, first_of, grouped, list};
use serde_json::{Value, json};

use super::columns::{Columns, Rows};
use super::{beside, print_json_line, remark, style, visible, width};
use crate::cli::Global;
use crate::failure::{Failure, REFUSED};
use crate::sides::Sides;

/// What is shown.
pub struct Shown<'s> {
    /// The sides.
    pub sides: &'s Sides,
    /// In what they differ.
    pub comparison: &'s Comparison,
    /// Whether all sides are named, however many.
    pub all: bool,
    /// Whether what differs is told machine by machine.
    pub by_host: bool,
}

/// The columns of differences; each value is a row.
pub const COLUMNS: Columns<8> = columns! {
    "kind": "user, group, uid, gid, uids, gids or policy",
    "name": "which of them",
    "field": "in what they differ",
    "value": "what is said",
    "count": "how many sides say so",
    "of": "how many say anything about it",
    "expected": "yes where it is what it should be",
    "sides": "which sides, with commas between them",
};

/// So many sides are named where not all are.
const NAMED: usize = 4;

/// Of more sides, those that say what most do are not listed in JSON.
pub const LISTED: usize = 50;

/// Prints what differs: grouped on a terminal, else a row for each value.
pub fn print(global: &Global, rows: &Rows, shown: &Shown<'_>) {
    if rows.are_wanted(global) {
        rows.print(global, &COLUMNS, shown.rows());
        return;
    }
    match shown.by_host {
        true => shown.by_host(),
        false => shown.comparison.all.iter().for_each(|differing| shown.one(differing)),
    }
    remark(&shown.summary());
}

/// Prints a document for what was compared, and one for each in which sides differ, a line each.
pub fn print_json_lines(shown: &Shown<'_>) {
    print_json_line("comparison", &shown.about());
    for differing in &shown.comparison.all {
        print_json_line("difference", &shown.difference(differing));
    }
}

/// Prints a table as spreadsheets take it (RFC 4180).
///
/// # Errors
/// It can't be written.
pub fn print_csv(shown: &Shown<'_>) -> Result<(), Failure> {
    let titles = COLUMNS.0.iter().map(|column| column.name);
    super::print_csv(titles, shown.rows().map(Vec::from))
        .map_err(|error| Failure::new(REFUSED, "csv", error))
}

impl Shown<'_> {
    /// What was compared, for machines.
    pub fn about(&self) -> Value {
        let sides = self.sides;
        let named = sides
            .all
            .iter()
            .zip(&sides.times)
            .filter(|(side, _)| side.tells_users || side.tells_groups);
        let taken = |time: &String| (!time.is_empty()).then(|| time.clone());
        let missing = sides.missing.iter();
        let against = sides.against.map(|at| sides.all[at as usize].name.clone());
        json!({
            "sides": named
                .map(|(side, time)| json!({"name": side.name, "time": taken(time)}))
                .collect::<Vec<Value>>(),
            "against": against,
            "not_compared": missing
                .map(|one| json!({"name": visible(one.name.as_bytes()), "why": visible(one.why.as_bytes())}))
                .collect::<Vec<Value>>(),
            "notes": sides.notes.iter().map(|note| visible(note.as_bytes())).collect::<Vec<String>>(),
            "users": self.comparison.users,
            "groups": self.comparison.groups,
            "differing": self.comparison.all.len(),
        })
    }

    /// Something in which they differ, for machines.
    pub fn difference(&self, differing: &Differing) -> Value {
        let fields = differing.fields.iter().map(|difference| self.to_json(difference));
        json!({
            "kind": differing.about.kind(),
            "name": visible(differing.about.name().as_bytes()),
            "on": differing.on.len(),
            "of": differing.of,
            "fields": fields.collect::<Vec<Value>>(),
        })
    }

    fn name(&self, side: u32) -> &str {
        &self.sides.all[side as usize].name
    }

    /// The sides by name, in the order of the names.
    fn names(&self, sides: &[u32]) -> Vec<&str> {
        let mut names: Vec<&str> = sides.iter().map(|side| self.name(*side)).collect();
        names.sort_unstable();
        names
    }

    /// `all 3`, `2: quay and slip`, `9,998`.
    fn told(&self, said: &SaidBy, of: usize, is_most: bool) -> String {
        let count = said.sides.len();
        let many = count > NAMED && !self.all;
        if many && is_most && 2 * count > of {
            return grouped(count);
        }
        let names = self.names(&said.sides);
        let named = first_of(&names, if many { NAMED } else { count });
        format!("{}: {named}", grouped(count))
    }

    /// One account, number, or what it is, with everything in which the sides differ.
    fn one(&self, differing: &Differing) {
        let (heading, quiet) = (style::HEADING, style::QUIET);
        let title = visible(differing.about.to_string().trim_end().as_bytes());
        let on = match (&differing.about, differing.on.len() == differing.of) {
            (About::User(_) | About::Group(_), true) => {
                format!("on all {}", grouped(differing.of))
            }
            (About::User(_) | About::Group(_), false) => {
                format!("on {} of {}", grouped(differing.on.len()), grouped(differing.of))
            }
            _ => format!("on {}", grouped(differing.on.len())),
        };
        outln!("{heading}{title}{heading:#}   {quiet}{on}{quiet:#}");
        let titles = differing.fields.iter().map(|difference| difference.field.title());
        let wide = titles.map(width).max().unwrap_or(0);
        let values = differing.fields.iter().flat_map(|difference| &difference.values);
        let widest = values.map(|said| width(&value_of(said))).max().unwrap_or(0).min(WIDEST);
        for difference in &differing.fields {
            let of: usize = difference.values.iter().map(|said| said.sides.len()).sum();
            for (at, said) in difference.values.iter().enumerate() {
                let title = if at == 0 { difference.field.title() } else { "" };
                let gap = " ".repeat(wide - width(title));
                let value = value_of(said);
                let mark = match (said.expected, self.sides.against) {
                    (true, _) => "as it should be, ",
                    (false, _) => "",
                };
                let colour = match self.sides.against {
                    Some(_) if said.expected => style::GOOD,
                    Some(_) => style::BAD,
                    None => anstyle::Style::new(),
                };
                let told = format!("{mark}on {}", self.told(said, of, at == 0));
                let margin = 2 + wide + 2 + widest + 2;
                let pad = " ".repeat(widest.saturating_sub(width(&value)));
                let mut lines = beside(margin, &told).into_iter();
                let first = lines.next().unwrap_or_default();
                let fits = width(&value) <= widest;
                outln!(
                    "  {title}{gap}  {colour}{value}{colour:#}{pad}{}",
                    if fits { format!("  {quiet}{first}{quiet:#}") } else { String::new() }
                );
                let margin = " ".repeat(margin);
                if !fits {
                    outln!("{margin}{quiet}{first}{quiet:#}");
                }
                for line in lines {
                    outln!("{margin}{quiet}{line}{quiet:#}");
                }
            }
        }
        outln!();
    }

    /// What is otherwise on each machine than on most, or than it should be.
    fn by_host(&self) {
        let mut of_side: BTreeMap<&str, Vec<(String, String, String)>> = BTreeMap::new();
        for differing in &self.comparison.all {
            let about = visible(differing.about.to_string().trim_end().as_bytes());
            for difference in &differing.fields {
                let of: usize = difference.values.iter().map(|said| said.sides.len()).sum();
                let first = &difference.values[0];
                let no_most = !first.expected
                    && difference
                        .values
                        .get(1)
                        .is_some_and(|next| next.sides.len() == first.sides.len());
                for (at, said) in difference.values.iter().enumerate() {
                    if at == 0 && !no_most {
                        continue;
                    }
                    let other = &difference.values[usize::from(at == 0)];
                    let elsewhere = match difference.values.len() {
                        2 => value_of(other),
                        _ => format!("{} and others", value_of(other)),
                    };
                    let (count, of) = (grouped(of - said.sides.len()), grouped(of));
                    let why = match (difference.field, said.value.as_str(), first.expected) {
                        (Field::Present, "yes", true) => "should not be".to_owned(),
                        (Field::Present, _, true) => "should be".to_owned(),
                        (Field::Present, "yes", false) => format!("not on {count} of {of}"),
                        (Field::Present, _, false) => format!("on {count} of {of}"),
                        (_, _, true) => format!("should be {elsewhere}"),
                        (_, _, false) => format!("{elsewhere} on {count} of {of}"),
                    };
                    let what = said_in_words(difference.field, said);
                    for side in &said.sides {
                        let row = (about.clone(), what.clone(), why.clone());
                        of_side.entry(self.name(*side)).or_default().push(row);
                    }
                }
            }
        }
        let (heading, quiet) = (style::HEADING, style::QUIET);
        for (name, rows) in of_side {
            outln!(
                "{heading}{name}{heading:#}   {quiet}{}{quiet:#}",
                counted(rows.len(), "difference", "differences")
            );
            let wide = rows.iter().map(|(about, ..)| width(about)).max().unwrap_or(0);
            let widest = rows.iter().map(|(_, what, _)| width(what)).max().unwrap_or(0).min(WIDEST);
            let mut last = String::new();
            for (about, what, why) in rows {
                let shown = if about == last { "" } else { about.as_str() };
                let gap = " ".repeat(wide - width(shown));
                let pad = " ".repeat(widest.saturating_sub(width(&what)));
                outln!("  {shown}{gap}  {what}{pad}  {quiet}{why}{quiet:#}");
                last = about;
            }
            outln!();
        }
    }

    /// A row for each value.
    fn rows(&self) -> impl Iterator<Item = [String; 8]> {
        self.comparison.all.iter().flat_map(move |differing| {
            differing.fields.iter().flat_map(move |difference| {
                let of: usize = difference.values.iter().map(|said| said.sides.len()).sum();
                difference.values.iter().map(move |said| {
                    [
                        differing.about.kind().to_owned(),
                        visible(differing.about.name().as_bytes()),
                        difference.field.to_string(),
                        visible(said.value.as_bytes()),
                        said.sides.len().to_string(),
                        of.to_string(),
                        if said.expected { "yes" } else { "" }.to_owned(),
                        self.names(&said.sides).join(","),
                    ]
                })
            })
        })
    }

    fn to_json(&self, difference: &Difference) -> Value {
        let values = difference.values.iter().enumerate().map(|(at, said)| {
            let listed = at > 0 || said.sides.len() <= LISTED || self.all;
            json!({
                "value": visible(said.value.as_bytes()),
                "expected": said.expected,
                "count": said.sides.len(),
                "sides": listed.then(|| self.names(&said.sides)),
            })
        });
        json!({"field": difference.field.to_string(), "values": values.collect::<Vec<Value>>()})
    }

    fn summary(&self) -> String {
        let Comparison { all, users, groups } = self.comparison;
        let sides = counted(self.sides.count(), "side", "sides");
        let compared = format!(
            "{sides} with {} and {}",
            counted(*users, "user", "users"),
            counted(*groups, "group", "groups")
        );
        if all.is_empty() {
            return match self.sides.against {
                Some(_) => format!("{compared}: all is as it should be"),
                None => format!("{compared}: they don't differ"),
            };
        }
        let count = |kinds: &[&str], one, many| {
            let count = all.iter().filter(|one| kinds.contains(&one.about.kind())).count();
            (count > 0).then(|| counted(count, one, many))
        };
        let parts: Vec<String> = [
            count(&["user"], "user", "users"),
            count(&["group"], "group", "groups"),
            count(&["uid", "gid"], "number", "numbers"),
            count(&["uids", "gids"], "range", "ranges"),
            count(&["policy"], "policy", "policies"),
        ]
        .into_iter()
        .flatten()
        .collect();
        let (last, first) = parts.split_last().expect("BUG: what differs is of some kind");
        let parts = match first {
            [] => last.clone(),
            first => format!("{} and {last}", list(first)),
        };
        format!("{compared}: {parts} {}", agree(&all.len(), "differs", "differ"))
    }
}

/// A value that is longer stands on a line of its own.
const WIDEST: usize = 48;

/// A value as it is shown.
pub fn value_of(said: &SaidBy) -> String {
    match said.value.as_str() {
        "" => "none".to_owned(),
        value => visible(value.as_bytes()),
    }
}

/// A value with its field: `uid 1017`, `is not here`.
fn said_in_words(field: Field, said: &SaidBy) -> String {
    match (field, said.value.as_str()) {
        (Field::Present, "yes") => "is here".to_owned(),
        (Field::Present, _) => "is not here".to_owned(),
        (field, _) => format!("{} {}", field.title(), value_of(said)),
    }
}

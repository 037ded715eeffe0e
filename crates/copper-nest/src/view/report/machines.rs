//! What a report tells of many machines, and the page of that.

use std::collections::HashMap;

use askama::Template;
use nest_core::compare::{Across, Comparison, OnSide};
use nest_core::words::{counted, grouped, list};
use serde_json::{Value, json};

use super::shell::{Card, Shell};
use crate::clock::for_people;
use crate::sides::Sides;
use crate::view::compare;
use crate::view::visible;

/// What is told of many machines.
pub struct Machines<'s> {
    /// The machines, and what else is to be known of them.
    pub sides: &'s Sides,
    /// In what they differ.
    pub comparison: &'s Comparison,
    /// Each user across them.
    pub users: Vec<Across>,
    /// What there is on each of them.
    pub on: Vec<OnSide>,
    /// When this is told.
    pub time: String,
}

#[derive(Template)]
#[template(path = "report/machines.html")]
struct Page<'s> {
    head: Shell,
    cards: Vec<Card>,
    no_choices: Vec<(&'static str, &'static str)>,
    machines: Vec<MachineRow<'s>>,
    machines_word: String,
    missing: Vec<(String, String)>,
    users: Vec<UserRow>,
    users_word: String,
    user_choices: Vec<(&'static str, &'static str)>,
    differences: Vec<DifferenceRow>,
    differences_word: String,
}

struct MachineRow<'s> {
    name: &'s str,
    system: String,
    taken: String,
    on: OnSide,
    differs: usize,
}

struct UserRow {
    is: String,
    name: String,
    full_name: String,
    kind: &'static str,
    uids: String,
    several: bool,
    on: String,
    sign_in: String,
    root: String,
    machines: String,
}

struct DifferenceRow {
    about: String,
    field: &'static str,
    value: String,
    odd: bool,
    count: String,
    machines: String,
}

const PARTS: &[(&str, &str)] = &[
    ("overview", "At a glance"),
    ("machines", "Machines"),
    ("users", "Users"),
    ("differences", "Differences"),
];

/// So many machines are named where not all are.
const NAMED: usize = 6;

impl Machines<'_> {
    /// The machines that were read, with their places among the sides.
    fn read(&self) -> impl Iterator<Item = (usize, &str)> {
        let sides = self.sides.all.iter().enumerate();
        sides
            .filter(|(_, side)| side.tells_users || side.tells_groups)
            .map(|(at, side)| (at, side.name.as_str()))
    }

    /// The places of the sides in the order of their names.
    fn ranks(&self) -> Vec<u32> {
        let mut order: Vec<u32> = (0..).take(self.sides.all.len()).collect();
        order.sort_by(|a, b| self.name(*a).cmp(self.name(*b)));
        let mut ranks = vec![0; order.len()];
        for (rank, side) in (0..).zip(&order) {
            ranks[*side as usize] = rank;
        }
        ranks
    }

    fn name(&self, side: u32) -> &str {
        &self.sides.all[side as usize].name
    }

    /// The first of some sides by name: of ten thousand no more is sorted than is told.
    fn in_words(&self, ranks: &[u32], sides: &[u32], of: usize) -> String {
        if sides.len() == of {
            return "all".to_owned();
        }
        let mut first = sides.to_vec();
        if first.len() > NAMED {
            first.select_nth_unstable_by_key(NAMED, |side| ranks[*side as usize]);
            first.truncate(NAMED);
        }
        first.sort_by_key(|side| ranks[*side as usize]);
        let names = list(first.iter().map(|side| self.name(*side)));
        match sides.len().saturating_sub(NAMED) {
            0 => names.to_string(),
            more => format!("{names} and {} more", grouped(more)),
        }
    }

    /// In how many things each machine is otherwise than most, or than it should be.
    fn differing(&self) -> HashMap<u32, usize> {
        let mut counts = HashMap::new();
        let fields = self.comparison.all.iter().flat_map(|differing| &differing.fields);
        for said in fields.flat_map(|difference| difference.values.iter().skip(1)) {
            said.sides.iter().for_each(|side| *counts.entry(*side).or_default() += 1);
        }
        counts
    }

    /// The page.
    pub fn page(&self) -> String {
        let count = self.sides.count();
        let differs = self.differing();
        let machines: Vec<MachineRow<'_>> = self
            .read()
            .map(|(at, name)| {
                let time = &self.sides.times[at];
                MachineRow {
                    name,
                    system: visible(self.sides.systems[at].as_bytes()),
                    taken: if time.is_empty() { String::new() } else { for_people(time) },
                    on: self.on[at],
                    differs: differs.get(&(at as u32)).copied().unwrap_or_default(),
                }
            })
            .collect();
        let ranks = self.ranks();
        let users = self.users.iter().map(|user| self.user_row(user, &ranks, count));
        let users: Vec<UserRow> = users.collect();
        let differences = self.difference_rows(&ranks, count);
        let strays = self.users.iter().filter(|user| 2 * user.on.len() <= count).count();
        let missing = self.sides.missing.iter();
        let several = self.users.iter().filter(|user| user.uids.len() > 1).count();
        let root = self.users.iter().filter(|user| !user.root.is_empty()).count();
        let page = Page {
            head: Shell {
                facts: vec![for_people(&self.time), counted(count, "machine", "machines")],
                notes: self.sides.notes.iter().map(|note| visible(note.as_bytes())).collect(),
                ..Shell::new("Machines".to_owned(), PARTS)
            },
            cards: vec![
                Card::new(count, ["machine", "machines"], "compare"),
                Card::new(self.sides.missing.len(), ["not compared", "not compared"], "compare")
                    .against("bad"),
                Card::new(users.len(), ["name of a user", "names of users"], "compare --kind all"),
                Card::new(
                    root,
                    ["has rights of root somewhere", "have rights of root somewhere"],
                    "compare",
                ),
                Card::new(
                    several,
                    ["name with several uids", "names with several uids"],
                    "compare",
                )
                .against("warn"),
                Card::new(
                    strays,
                    ["on half of them or fewer", "on half of them or fewer"],
                    "compare",
                ),
                Card::new(
                    self.comparison.all.len(),
                    ["thing differs", "things differ"],
                    "compare --kind all",
                )
                .against("warn"),
            ],
            no_choices: Vec::new(),
            machines_word: counted(machines.len(), "machine", "machines"),
            machines,
            missing: missing
                .map(|one| (visible(one.name.as_bytes()), visible(one.why.as_bytes())))
                .collect(),
            users_word: counted(users.len(), "user", "users"),
            users,
            user_choices: vec![
                ("", "everybody"),
                ("person", "people"),
                ("service", "services"),
                ("root", "who has rights of root somewhere"),
                ("stray", "who is on half of them or fewer"),
                ("several", "who has several uids"),
            ],
            differences_word: counted(differences.len(), "value", "values"),
            differences,
        };
        page.render().expect("BUG: a page is made of texts and numbers")
    }

    fn user_row(&self, user: &Across, ranks: &[u32], count: usize) -> UserRow {
        let kind = if user.is_service { "service" } else { "person" };
        let several = user.uids.len() > 1;
        let mut is = vec![kind];
        for (holds, word) in [
            (!user.root.is_empty(), "root"),
            (2 * user.on.len() <= count, "stray"),
            (several, "several"),
        ] {
            is.extend(holds.then_some(word));
        }
        UserRow {
            is: is.join(" "),
            name: visible(user.name.as_bytes()),
            full_name: visible(user.full_name.as_bytes()),
            kind,
            uids: user.uids.join(", "),
            several,
            on: grouped(user.on.len()),
            sign_in: grouped(user.sign_in.len()),
            root: grouped(user.root.len()),
            machines: self.in_words(ranks, &user.on, count),
        }
    }

    fn difference_rows(&self, ranks: &[u32], count: usize) -> Vec<DifferenceRow> {
        let mut rows = Vec::new();
        for differing in &self.comparison.all {
            let about = visible(differing.about.to_string().trim_end().as_bytes());
            for difference in &differing.fields {
                for (at, said) in difference.values.iter().enumerate() {
                    rows.push(DifferenceRow {
                        about: about.clone(),
                        field: difference.field.title(),
                        value: compare::value_of(said),
                        odd: at > 0,
                        count: grouped(said.sides.len()),
                        machines: self.in_words(ranks, &said.sides, count),
                    });
                }
            }
        }
        rows
    }

    /// The same for machines.
    pub fn to_json(&self) -> Value {
        let machines = self.read().map(|(at, name)| {
            let (on, time, system) = (self.on[at], &self.sides.times[at], &self.sides.systems[at]);
            json!({
                "name": visible(name.as_bytes()),
                "system": visible(system.as_bytes()),
                "time": (!time.is_empty()).then_some(time),
                "people": on.people,
                "services": on.services,
                "groups": on.groups,
                "can_sign_in": on.sign_in,
                "root": on.root,
            })
        });
        let users = self.users.iter().map(|user| {
            json!({
                "name": visible(user.name.as_bytes()),
                "kind": if user.is_service { "service" } else { "person" },
                "full_name": visible(user.full_name.as_bytes()),
                "uids": user.uids.iter().filter_map(|uid| uid.parse::<u32>().ok()).collect::<Vec<_>>(),
                "on": user.on.len(),
                "can_sign_in": user.sign_in.len(),
                "root": user.root.len(),
                "root_on": (user.root.len() <= compare::LISTED).then(|| {
                    let mut names: Vec<&str> =
                        user.root.iter().map(|side| self.name(*side)).collect();
                    names.sort_unstable();
                    names
                }),
            })
        });
        let shown = compare::Shown {
            sides: self.sides,
            comparison: self.comparison,
            all: false,
            by_host: false,
        };
        let mut document = shown.about();
        // They are told of at more length, and nothing is held against one of them.
        for key in ["sides", "against"] {
            document.as_object_mut().map(|document| document.remove(key));
        }
        document["time"] = json!(self.time);
        document["machines"] = machines.collect();
        document["across"] = users.collect();
        document["differences"] =
            self.comparison.all.iter().map(|one| shown.difference(one)).collect();
        document
    }
}

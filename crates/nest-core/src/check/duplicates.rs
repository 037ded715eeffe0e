//! Things that must be unique: duplicate-name, duplicate-uid, duplicate-gid,
//! duplicate-member, case-twin, shared-home.

use bstr::BStr;
use hashbrown::{HashMap, HashSet};

use super::lines::found;
use super::{Finding, Mark, Out, Related, Rule, Selection, rule};
use crate::allot::IdMap;
use crate::plan::{Ground, NO_HOME};
use crate::secret::shown;
use crate::table::{File, Lines, Table, doubled_numbers};
use crate::table::{Groups, Users};

pub(super) fn run(ground: Ground<'_>, selection: &Selection) -> Out {
    let wanted = |name| rule(name).filter(|rule| selection.wants(rule));
    let book = ground.book;
    let mut out = Out::default();
    if let Some(rule) = wanted("duplicate-name") {
        for file in [File::Passwd, File::Shadow, File::Group, File::Gshadow] {
            let (Some(index), Some(lines)) = (book.name_index(file), book.lines(file)) else {
                continue;
            };
            for &(first, again) in &index.doubled {
                let line = lines.get(again as usize);
                let name = BStr::new(line.name());
                let message = format!(
                    "line {} says {name} already, and only that one is found by name.",
                    first + 1
                );
                let remedy = "take one of the two out, or give it another name".to_owned();
                let finding = found(rule, lines, line, Mark::Field(0), message, remedy);
                out.findings.push(relate(finding, lines, first));
            }
        }
    }
    let (uid, gid) = (wanted("duplicate-uid"), wanted("duplicate-gid"));
    if let Some(rule) = uid {
        let doubled = doubled_numbers(|| uids(&book.users));
        // A suggestion for each of a million findings would take long.
        let mut ids = (!doubled.is_empty()).then(|| IdMap::new(book, ground.policy, ground.world));
        for (first, again) in doubled {
            let pair = (book.users.record(first as usize), book.users.record(again as usize));
            let (Some(first_user), Some(user)) = pair else {
                continue;
            };
            // One name twice is another rule's, and so is a second root.
            if first_user.name == user.name || user.uid() == Some(0) {
                continue;
            }
            let message = format!(
                "uid {} is also {} (line {}): each of them owns the other's files.",
                user.uid().unwrap_or_default(),
                BStr::new(first_user.name),
                first + 1
            );
            let free = ids.as_mut().and_then(|ids| {
                let free = ids.lowest(ground.policy.people_ids).ok()??;
                ids.take(free);
                Some(format!(", such as {free}"))
            });
            let name = BStr::new(user.name);
            let remedy = format!("give {name} a uid of its own{}", free.unwrap_or_default());
            let lines = book.users.lines();
            let finding =
                found(rule, lines, lines.get(again as usize), Mark::Field(2), message, remedy);
            out.findings.push(relate(finding, lines, first));
        }
    }
    if let Some(rule) = gid {
        for (first, again) in doubled_numbers(|| gids(&book.groups)) {
            let pair = (book.groups.record(first as usize), book.groups.record(again as usize));
            let (Some(first_group), Some(group)) = pair else {
                continue;
            };
            if first_group.name == group.name {
                continue;
            }
            let message = format!(
                "gid {} is also {} (line {}): the members of each reach the files of the other.",
                group.gid().unwrap_or_default(),
                BStr::new(first_group.name),
                first + 1
            );
            let remedy = format!("give {} a gid of its own", BStr::new(group.name));
            let lines = book.groups.lines();
            let finding =
                found(rule, lines, lines.get(again as usize), Mark::Field(2), message, remedy);
            out.findings.push(relate(finding, lines, first));
        }
    }
    if let Some(rule) = wanted("duplicate-member") {
        doubled_members(rule, ground, &mut out);
    }
    if let Some(rule) = wanted("case-twin") {
        case_twins(rule, book.users.lines(), &mut out);
        case_twins(rule, book.groups.lines(), &mut out);
    }
    if let Some(rule) = wanted("shared-home") {
        shared_homes(rule, ground, &mut out);
    }
    out
}

fn doubled_members(rule: &'static Rule, ground: Ground<'_>, out: &mut Out) {
    let mut seen: HashSet<&[u8]> = HashSet::new();
    for (line, group) in ground.book.groups.records() {
        seen.clear();
        // Once for each name, however often it stands there.
        let mut told: Vec<&[u8]> = Vec::new();
        for member in group.members().filter(|member| !seen.insert(member)) {
            if told.contains(&member) {
                continue;
            }
            told.push(member);
            let (name, group) = (BStr::new(member), BStr::new(group.name));
            let message = format!("{group} lists {name} more than once.");
            let remedy = format!("take {name} out of the list of {group} but for once");
            let mark = Mark::Member(3, name.to_owned());
            let lines = ground.book.groups.lines();
            out.findings.push(found(rule, lines, line, mark, message, remedy));
        }
    }
}

fn case_twins(rule: &'static Rule, lines: &Lines, out: &mut Out) {
    // Only a name with a capital can be another one's twin.
    let capital = |name: &[u8]| name.iter().any(u8::is_ascii_uppercase);
    let names = || lines.iter().enumerate().filter(|(_, line)| line.is_record());
    let large: Vec<(Vec<u8>, usize)> = names()
        .filter(|(_, line)| capital(line.name()))
        .map(|(at, line)| (line.name().to_ascii_lowercase(), at))
        .collect();
    if large.is_empty() {
        return;
    }
    let mut first: HashMap<Vec<u8>, usize> = HashMap::new();
    let wanted: HashSet<&[u8]> = large.iter().map(|(name, _)| name.as_slice()).collect();
    for (at, line) in names() {
        let name = line.name().to_ascii_lowercase();
        if !wanted.contains(name.as_slice()) {
            continue;
        }
        match first.get(&name) {
            None => _ = first.insert(name, at),
            Some(other) if lines.get(*other).name() != line.name() => {
                let twin = BStr::new(lines.get(*other).name());
                let name = BStr::new(line.name());
                let message =
                    format!("{name} and {twin} (line {}) differ in capitals only.", other + 1);
                let remedy = format!("rename {name} or {twin}");
                let finding = found(rule, lines, line, Mark::Field(0), message, remedy);
                out.findings.push(relate(finding, lines, *other as u32));
            }
            Some(_) => {}
        }
    }
}

fn shared_homes(rule: &'static Rule, ground: Ground<'_>, out: &mut Out) {
    let (book, policy) = (ground.book, ground.policy);
    let lines = book.users.lines();
    let mut first: HashMap<&[u8], usize> = HashMap::new();
    for at in 0..lines.len() {
        let Some(user) = book.users.record(at) else { continue };
        let person = user.uid().is_some_and(|uid| policy.is_person(uid));
        if !person || user.home == NO_HOME.as_bytes() || user.home.is_empty() {
            continue;
        }
        let other = *first.entry(user.home).or_insert(at);
        let other_name = BStr::new(lines.get(other).name());
        if other == at || other_name == user.name {
            continue;
        }
        let (name, home) = (BStr::new(user.name), BStr::new(user.home));
        let message = format!("{home} is the home of {other_name} (line {}) too.", other + 1);
        let remedy = format!("give {name} a home of its own");
        let finding = found(rule, lines, lines.get(at), Mark::Field(5), message, remedy);
        out.findings.push(relate(finding, lines, other as u32));
    }
}

fn relate(mut finding: Finding, lines: &Lines, other: u32) -> Finding {
    finding.related.push(Related {
        file: lines.file(),
        line: other as usize + 1,
        text: shown(lines.file(), lines.get(other as usize).bytes),
    });
    finding
}

fn uids(users: &Table<Users>) -> impl Iterator<Item = (u32, u32)> {
    (0..users.lines().len()).filter_map(|at| Some((users.record(at)?.uid()?, at as u32)))
}

fn gids(groups: &Table<Groups>) -> impl Iterator<Item = (u32, u32)> {
    (0..groups.lines().len()).filter_map(|at| Some((groups.record(at)?.gid()?, at as u32)))
}

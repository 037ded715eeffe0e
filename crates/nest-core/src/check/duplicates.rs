//! Things that must be unique: duplicate-name, duplicate-uid, duplicate-gid.

use bstr::BStr;

use super::lines::found;
use super::{Finding, Mark, Out, Related, Selection, rule};
use crate::allot::IdMap;
use crate::plan::Ground;
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
    out
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

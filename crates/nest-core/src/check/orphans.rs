//! Lines whose counterpart is missing: shadow-orphan, missing-shadow,
//! gshadow-orphan, missing-gshadow,
//! range-orphan.

use bstr::{BStr, BString};
use rayon::prelude::*;

use super::lines::found;
use super::{Finding, Mark, Out, Remedy, Rule, Selection, rule};
use crate::allot::IdSet;
use crate::plan::Ground;
use crate::surroundings::Origin;
use crate::table::{File, Group, InStep, Line, Lines, NameIndex, Passwd, Record, SubId};

pub(super) fn run(ground: Ground<'_>, selection: &Selection) -> Out {
    let wanted = |name| rule(name).filter(|rule| selection.wants(rule));
    let mut out = Out::default();
    let orphans = wanted("shadow-orphan").map(|rule| shadow_orphans(rule, ground, &mut out));
    if let Some(rule) = wanted("missing-shadow")
        && !(orphans == Some(0) && as_many(ground, File::Shadow, File::Passwd))
    {
        missing_shadow(rule, ground, &mut out);
    }
    let orphans = wanted("gshadow-orphan").map(|rule| gshadow_orphans(rule, ground, &mut out));
    if let Some(rule) = wanted("missing-gshadow")
        && !(orphans == Some(0) && as_many(ground, File::Gshadow, File::Group))
    {
        missing_gshadow(rule, ground, &mut out);
    }
    if let Some(rule) = wanted("range-orphan") {
        range_orphans(rule, ground, &mut out);
    }
    out
}

/// Whether two files name the same, line by line: then neither lacks a name of the
/// other.
fn in_step(ground: Ground<'_>, file: File, other: File) -> bool {
    let with = |file| ground.book.name_index(file).and_then(|index| index.in_step_with);
    with(file) == Some(other) || with(other) == Some(file)
}

/// Whether two files have the same number of different names: if neither lacks one of
/// the first, none of the second is lacking.
fn as_many(ground: Ground<'_>, file: File, other: File) -> bool {
    let count = |file| ground.book.name_index(file).map(NameIndex::len);
    count(file) == count(other)
}

/// The records of `file` whose name no line of `other` has, by several threads: most of
/// the work is looking names up.
fn unnamed<'b>(ground: Ground<'b>, file: File, other: File) -> Vec<Line<'b>> {
    let book = ground.book;
    let (Some(index), Some(others)) = (book.name_index(other), book.lines(other)) else {
        return Vec::new();
    };
    let Some(lines) = book.lines(file).filter(|_| !in_step(ground, file, other)) else {
        return Vec::new();
    };
    let stretches = (0..lines.len()).into_par_iter().step_by(STRETCH);
    stretches
        .flat_map_iter(|from| {
            let mut index = InStep::new(index, others);
            let all = (from..lines.len().min(from + STRETCH)).map(|at| lines.get(at));
            // A line without a colon is malformed-line's.
            all.filter(|line| line.is_record() && line.name().len() < line.record().len())
                .filter(move |line| index.find(line.name()).is_none())
        })
        .collect()
}

/// So many lines are looked at in one go.
const STRETCH: usize = 8192;

/// Returns how many there are.
fn shadow_orphans(rule: &'static Rule, ground: Ground<'_>, out: &mut Out) -> usize {
    let Some(shadow) = &ground.book.shadow else { return 0 };
    let orphans = unnamed(ground, File::Shadow, File::Passwd);
    for line in &orphans {
        let message = format!(
            "no account is called {}; the next one of that name would get this password.",
            BStr::new(line.name())
        );
        let remedy = orphan_remedy(rule, shadow.lines(), *line);
        out.findings.push(found(rule, shadow.lines(), *line, Mark::Field(0), message, remedy));
    }
    orphans.len()
}

/// A line that nobody can read is not taken out unasked: what it held is not kept.
fn orphan_remedy(rule: &'static Rule, lines: &Lines, line: Line<'_>) -> Vec<Remedy> {
    match line.is_whole(lines.file()) {
        true => Remedy::repair(rule),
        false => Remedy::take_out(lines.file(), lines.number(line.start)),
    }
}

/// Returns how many there are.
fn gshadow_orphans(rule: &'static Rule, ground: Ground<'_>, out: &mut Out) -> usize {
    let Some(gshadow) = &ground.book.gshadow else { return 0 };
    let orphans = unnamed(ground, File::Gshadow, File::Group);
    for line in &orphans {
        let name = BStr::new(line.name());
        let message = format!(
            "no group is called {name}; the next one of that name would get its administrators."
        );
        let remedy = orphan_remedy(rule, gshadow.lines(), *line);
        out.findings.push(found(rule, gshadow.lines(), *line, Mark::Field(0), message, remedy));
    }
    orphans.len()
}

fn missing_gshadow(rule: &'static Rule, ground: Ground<'_>, out: &mut Out) {
    if ground.book.gshadow.is_none() {
        return;
    }
    for line in unnamed(ground, File::Group, File::Gshadow) {
        let Some(group) = Group::read(line.record()) else { continue };
        let name = BStr::new(group.name);
        let message = format!("etc/gshadow has no line for the group {name}.");
        let remedy = Remedy::repair(rule);
        let lines = ground.book.groups.lines();
        out.findings.push(found(rule, lines, line, Mark::Field(0), message, remedy));
    }
}

fn missing_shadow(rule: &'static Rule, ground: Ground<'_>, out: &mut Out) {
    let book = ground.book;
    if book.unreadable.contains_key(&File::Shadow) {
        return;
    }
    if book.shadow.is_none() {
        let users = book.users.records().filter(|(_, user)| user.is_shadowed()).count();
        if users > 0 {
            out.findings.push(Finding {
                rule,
                file: File::Shadow,
                line: 0,
                place: None,
                text: BString::default(),
                mark: Mark::Line,
                subject: File::Shadow.path().into(),
                message: format!(
                    "there is no such file, and {users} accounts have their password there."
                ),
                remedies: Remedy::by_hand("put a copy of it back"),
                related: Vec::new(),
            });
        }
        return;
    }
    for line in unnamed(ground, File::Passwd, File::Shadow) {
        let Some(user) = Passwd::read(line.record()).filter(Passwd::is_shadowed) else { continue };
        let name = BStr::new(user.name);
        let message = format!("etc/shadow has no line for {name}: no password lets it in.");
        let remedy = Remedy::repair(rule);
        let lines = book.users.lines();
        out.findings.push(found(rule, lines, line, Mark::Field(1), message, remedy));
    }
}

fn range_orphans(rule: &'static Rule, ground: Ground<'_>, out: &mut Out) {
    let book = ground.book;
    let mut uids = None;
    for table in [&book.subuid, &book.subgid].into_iter().flatten() {
        for line in unnamed(ground, table.lines().file(), File::Passwd) {
            let Some(range) = SubId::read(line.record()) else { continue };
            let known = match range.owner_uid() {
                None => false,
                Some(uid) => uids
                    .get_or_insert_with(|| {
                        let mut set = IdSet::default();
                        book.users.records().filter_map(|(_, user)| user.uid()).for_each(|uid| {
                            set.insert(uid);
                        });
                        set
                    })
                    .contains(uid),
            };
            if known {
                continue;
            }
            match elsewhere(ground, range.owner.into()) {
                Ok(false) => {
                    let owner = BStr::new(range.owner);
                    let nobody = match range.owner_uid() {
                        Some(uid) => format!("no account has uid {uid}; the next one with it"),
                        None => format!("no account is called {owner}; the next one of that name"),
                    };
                    let message = format!("{nobody} would get these ids.");
                    let remedy = Remedy::repair(rule);
                    let finding = found(rule, table.lines(), line, Mark::Field(0), message, remedy);
                    out.findings.push(finding);
                }
                Ok(true) => {}
                Err(why) => {
                    out.skip(rule.name, why);
                    return;
                }
            }
        }
    }
}

/// Whether a name that the files do not know is a user of a directory.
///
/// # Errors
/// Why that can't be told: the rule is then skipped.
pub(super) fn elsewhere(ground: Ground<'_>, name: &BStr) -> Result<bool, String> {
    if ground.world.is_live() {
        let by_number = match crate::value::read_plain_id(name) {
            Some(uid) => ground.world.service_user_by_uid(uid)?.is_some(),
            None => false,
        };
        return Ok(by_number || ground.world.service_knows_user(name)?);
    }
    match ground.world.origin() {
        Origin::FilesAlone => Ok(false),
        Origin::Others(others) => {
            Err(format!("etc/nsswitch.conf asks {others} for users too, who can't be asked here"))
        }
    }
}

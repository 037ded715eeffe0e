//! Lines whose counterpart is missing: shadow-orphan, missing-shadow,
//! gshadow-orphan, missing-gshadow, range-orphan.

use bstr::{BStr, BString};
use rayon::prelude::*;

use super::lines::{another_name, found};
use super::prefilter::Prefilter;
use super::{Finding, Mark, Out, Remedy, Rule, Selection, rule};
use crate::context::PlanContext;
use crate::secret::is_kept;
use crate::surroundings::Origin;
use crate::table::{File, Group, Line, Lines, Passwd, Record, SubId};

pub(super) fn run(context: PlanContext<'_>, selection: &Selection, prefilter: &Prefilter) -> Out {
    let wanted = |name| rule(name).filter(|rule| selection.wants(rule));
    let mut out = Out::default();
    if let Some(rule) = wanted("shadow-orphan") {
        shadow_orphans(rule, context, &mut out);
    }
    if let Some(rule) = wanted("missing-shadow") {
        missing_shadow(rule, context, &mut out);
    }
    if let Some(rule) = wanted("gshadow-orphan") {
        gshadow_orphans(rule, context, &mut out);
    }
    if let Some(rule) = wanted("missing-gshadow") {
        missing_gshadow(rule, context, &mut out);
    }
    if let Some(rule) = wanted("range-orphan") {
        range_orphans(rule, context, prefilter, &mut out);
    }
    out
}

/// What there is to say about the records of `file` whose name no line of `other` has.
/// They may be very many: it is spread.
fn unnamed<'b>(
    (out, context): (&mut Out, PlanContext<'b>),
    (file, other): (File, File),
    say: impl Fn(&'b Lines, Line<'b>) -> Option<Finding> + Send + Sync,
) {
    let Some(lines) = context.book.lines(file) else { return };
    let starts = context.book.names().lacking(file, other).into_par_iter();
    out.findings.par_extend(starts.filter_map(|start| say(lines, lines.at(start as usize))));
}

fn shadow_orphans(rule: &'static Rule, context: PlanContext<'_>, out: &mut Out) {
    unnamed((out, context), (File::Shadow, File::Passwd), |shadow, line| {
        let message = format!(
            "no account is called {}; the next one of that name would get this password.",
            BStr::new(line.name())
        );
        let remedy = orphan_remedy(rule, shadow, line);
        Some(found(rule, shadow, line, Mark::Field(0), message, remedy))
    });
}

/// A line that nobody can read is not taken out unasked: what it held is not kept.
fn orphan_remedy(rule: &'static Rule, lines: &Lines, line: Line<'_>) -> Vec<Remedy> {
    match line.is_whole(lines.file()) {
        true => Remedy::repair(rule),
        false => Remedy::take_out(lines.file(), lines.number(line.start)),
    }
}

fn gshadow_orphans(rule: &'static Rule, context: PlanContext<'_>, out: &mut Out) {
    unnamed((out, context), (File::Gshadow, File::Group), |gshadow, line| {
        let name = BStr::new(line.name());
        let message = format!(
            "no group is called {name}; the next one of that name would get its administrators."
        );
        let remedy = orphan_remedy(rule, gshadow, line);
        Some(found(rule, gshadow, line, Mark::Field(0), message, remedy))
    });
}

fn missing_gshadow(rule: &'static Rule, context: PlanContext<'_>, out: &mut Out) {
    if context.book.gshadow.is_none() {
        return;
    }
    unnamed((out, context), (File::Group, File::Gshadow), |groups, line| {
        let group = Group::read(line.record())?;
        let name = BStr::new(group.name);
        let message = format!("etc/gshadow has no line for the group {name}.");
        let added = [group.name, b"!", b"", group.members].join(&b':');
        let remedy = remedy_of_lacking(rule, context, (groups, line), File::Gshadow, &added);
        Some(found(rule, groups, line, Mark::Field(0), message, remedy))
    });
}

/// What adds the line that another file lacks; nothing does, as long as it would hold what
/// is no name.
fn remedy_of_lacking(
    rule: &'static Rule,
    context: PlanContext<'_>,
    (lines, line): (&Lines, Line<'_>),
    file: File,
    added: &[u8],
) -> Vec<Remedy> {
    if is_kept(file, added) {
        return Remedy::repair(rule);
    }
    match file == File::Gshadow && is_kept(file, &[line.name(), b":!::"].concat()) {
        true => Remedy::by_hand("take out of its list what is no name"),
        false => another_name(context, lines, line),
    }
}

fn missing_shadow(rule: &'static Rule, context: PlanContext<'_>, out: &mut Out) {
    let book = context.book;
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
    unnamed((out, context), (File::Passwd, File::Shadow), |users, line| {
        let user = Passwd::read(line.record()).filter(Passwd::is_shadowed)?;
        let name = BStr::new(user.name);
        let message = format!("etc/shadow has no line for {name}: no password lets it in.");
        let added = [user.name, b":!:0::::::"].concat();
        let remedy = remedy_of_lacking(rule, context, (users, line), File::Shadow, &added);
        Some(found(rule, users, line, Mark::Field(1), message, remedy))
    });
}

fn range_orphans(
    rule: &'static Rule,
    context: PlanContext<'_>,
    prefilter: &Prefilter,
    out: &mut Out,
) {
    let book = context.book;
    for (table, unowned) in [&book.subuid, &book.subgid].into_iter().zip(&prefilter.unowned) {
        let Some(table) = table else { continue };
        for line in unowned.iter().map(|start| table.lines().at(*start as usize)) {
            let Some(range) = SubId::read(line.record()).filter(|_| line.is_record()) else {
                continue;
            };
            let by_name = || book.names().find(File::Passwd, range.owner).is_some();
            let by_number = range.owner_uid().is_some_and(|uid| prefilter.uids.contains(uid));
            if by_number || by_name() {
                continue;
            }
            match elsewhere(context, range.owner.into()) {
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
pub(super) fn elsewhere(context: PlanContext<'_>, name: &BStr) -> Result<bool, String> {
    if context.world.is_live() {
        let by_number = match crate::value::read_plain_id(name) {
            Some(uid) => context.world.service_user_by_uid(uid)?.is_some(),
            None => false,
        };
        return Ok(by_number || context.world.service_knows_user(name)?);
    }
    match context.world.origin() {
        Origin::FilesAlone => Ok(false),
        Origin::Others(others) => {
            Err(format!("etc/nsswitch.conf asks {others} for users too, who can't be asked here"))
        }
    }
}

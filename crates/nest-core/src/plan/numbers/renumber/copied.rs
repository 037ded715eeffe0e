//! Files that were copied from another system: they carry the numbers that are used there.

use std::collections::BTreeMap;

use bstr::{BStr, BString};
use hashbrown::HashSet;

use super::{Renumber, WHAT};
use crate::change::{Caution, Decision, Plan, Step};
use crate::context::PlanContext;
use crate::order;
use crate::ownership::{IdMapping, Reown};
use crate::plan::numbers::reassign::places;
use crate::refusal::{Reason, Refusal, Result};
use crate::roster::{Fault, NumberRow, Wrong};
use crate::value::{TreePath, UserOrGroup, bytes_in_words};
use crate::words::counted;

/// Plans the giving of copied files to those whose they are: accounts stay as they are.
///
/// # Errors
/// A [`Refusal`] with everything that stands in the way of any row.
pub(super) fn renumber_copied(context: PlanContext<'_>, request: &Renumber) -> Result<Plan> {
    let except: HashSet<&BString> = request.except.iter().collect();
    let rows = request.table.rows.iter().filter(|row| !except.contains(&row.name));
    let rows: Vec<&NumberRow> = rows.collect();
    let mut faults = request.table.faults.clone();
    let mut pairs: BTreeMap<(UserOrGroup, u32), &NumberRow> = BTreeMap::new();
    for row in &rows {
        faults.extend(fault_of(context, request, row));
        let Some(was) = row.was else { continue };
        let other = pairs.insert((row.thing, was), row).filter(|other| other.id != row.id);
        if let Some(other) = other {
            let place = request.table.place(other);
            let message = format!("{} {was} goes to {} already, by {place}", row.thing, other.name);
            faults.push(
                request.table.fault_of_id(row, Wrong::new(message, "one row for each number")),
            );
        }
    }
    if !faults.is_empty() {
        order::sort(&mut faults);
        return Err(Refusal::new(WHAT, Reason::Roster { faults, span_full: 0 }));
    }
    if request.paths.is_empty() {
        return Err(Refusal::new(WHAT, Reason::CopiedWhere)
            .or_again("say where they are, home by home", "--paths /home/NAME"));
    }
    let paths = places(context, &request.paths, WHAT)?;
    for path in &paths {
        homes_of_others(context, &rows, path)?;
    }
    let of = |thing: UserOrGroup| -> IdMapping {
        let of = pairs.iter().filter(|((of, _), _)| *of == thing);
        of.map(|((_, was), row)| (*was, row.id)).collect::<Vec<_>>().into()
    };
    let reown = Reown {
        paths,
        uids: of(UserOrGroup::User),
        gids: of(UserOrGroup::Group),
        everywhere: !request.stay,
        hard_links: true,
        ..Reown::default()
    };
    let found = context.world.carriers(&reown);
    let (carried, notes) = found.map_err(|why| Refusal::new(WHAT, Reason::NotCounted(why)))?;
    let mut plan = Plan { summary: request.summary.clone(), ..Plan::default() };
    let shown: Vec<String> = reown.paths.iter().map(ToString::to_string).collect();
    let (files, size) = (counted(carried.files, "file", "files"), bytes_in_words(carried.bytes));
    let others = counted(carried.others, "file of others stays", "files of others stay");
    let rows = counted(rows.len(), "row", "rows");
    plan.totals = vec![
        Decision::new(
            "numbers",
            pairs.len().to_string(),
            format!("of {rows}; accounts stay as they are"),
        ),
        Decision::new("below", shown.join(", "), ""),
        Decision::new("files", format!("{files}, {size}"), others),
    ];
    plan.cautions.extend(notes.into_iter().map(Caution::Noted));
    plan.nothing = carried.files == 0;
    if !plan.nothing {
        plan.steps.push(Step::Reown(reown));
    }
    plan.next.push("check".into());
    Ok(plan)
}

/// What is wrong with a row.
fn fault_of(context: PlanContext<'_>, request: &Renumber, row: &NumberRow) -> Option<Fault> {
    let table = &request.table;
    if row.was.is_none() {
        let message = "this row has no was, and others have: they are about copied files";
        return Some(table.fault_of_id(row, Wrong::new(message, "two tables, one with was")));
    }
    let has = match row.thing {
        UserOrGroup::User => {
            context.book.user(&row.name).map(|(_, user)| user.uid().map(|uid| uid.0))
        }
        UserOrGroup::Group => {
            context.book.group(&row.name).map(|(_, group)| group.gid().map(|gid| gid.0))
        }
    };
    let name = BStr::new(&row.name);
    let thing = row.thing;
    match has {
        None => {
            let wrong = Wrong::new(format!("there is no {thing} {name}"), "");
            Some(table.fault_of_name(row, wrong))
        }
        Some(Some(id)) if id == row.id => None,
        Some(has) => {
            let has = has.map_or("none that can be read".to_owned(), |id| id.to_string());
            let message = format!("{thing} {name} has the number {has}, not {}", row.id);
            Some(table.fault_of_id(row, Wrong::new(message, has)))
        }
    }
}

/// Refuses a place above homes of accounts that are not in the table: there the same numbers are
/// other people's.
fn homes_of_others(context: PlanContext<'_>, rows: &[&NumberRow], path: &TreePath) -> Result<()> {
    let named: HashSet<&BString> = rows.iter().map(|row| &row.name).collect();
    let above = path.as_slice();
    let is_inside = |home: &TreePath| match home.as_slice().strip_prefix(above) {
        Some(rest) => above == b"/" || rest.starts_with(b"/"),
        None => false,
    };
    let below = |home: &[u8]| TreePath::new(home).is_some_and(|home| is_inside(&home));
    let users = context.book.users.records().map(|(_, user)| user);
    let others =
        users.filter(|user| below(user.home) && !named.contains(&BString::from(user.name)));
    let real = others
        .filter(|user| matches!(context.world.facts(BStr::new(user.home)), Ok(Some(_)) | Err(_)));
    let names: Vec<BString> = real.map(|user| user.name.into()).collect();
    match names.is_empty() {
        true => Ok(()),
        false => Err(Refusal::new(WHAT, Reason::HomesOfOthers { path: above.into(), names })
            .or_else(
                "say where the copied files are",
                "each home by itself: --paths /home/NAME,…",
            )),
    }
}

//! What a roster comes to, in a few lines.

use crate::change::{Decision, Plan, Step, gather_alike};
use crate::plan::tables::intake::{Counts, Intake, OthersFound};
use crate::plan::users::create_user::Given;
use crate::words::{counted, first_of, list};

/// New groups of which more are only counted.
const MOST_GROUPS: usize = 6;

/// Tells the counts, and gathers cautions and commands that are much the same.
pub(crate) fn tell(
    request: &Intake,
    counts: &Counts,
    given: &Given,
    others: &OthersFound,
    plan: &mut Plan,
) {
    let mut totals = Vec::new();
    let mut say = |label: &'static str, value: String, why: String| {
        totals.push(Decision::new(label, value, why));
    };
    let rows = request.roster.rows.len();
    let users = counts.made + counts.updated + counts.kept;
    if users > 0 {
        let mut parts = vec![format!("{} new", counts.made)];
        if counts.updated > 0 {
            parts.push(format!("{} changed", counts.updated));
        }
        if counts.kept > 0 {
            parts.push(format!("{} as they were", counts.kept));
        }
        let rows = counted(rows, "row", "rows");
        say("users", parts.join(", "), format!("of {rows}"));
    }
    if !counts.groups.is_empty() || counts.groups_kept + counts.groups_changed > 0 {
        let changed = match counts.groups_changed {
            0 => String::new(),
            changed => format!(", {changed} changed"),
        };
        let kept = match counts.groups_kept {
            0 => changed,
            kept => format!("{changed}, {kept} there already"),
        };
        say(
            "groups",
            format!("{} new{kept}", counts.groups.len()),
            first_of(&counts.groups, MOST_GROUPS).to_string(),
        );
    }
    for (label, names, why) in [
        ("restored", &others.restored, "deleted before, and named again"),
        ("resumed", &others.resumed, "left out before, and named again"),
        ("suspended", &others.suspended, "no row names them"),
        ("deleted", &others.deleted, "no row names them; they are kept for restore"),
        ("not named", &others.told, "they stay as they are"),
    ] {
        if !names.is_empty() {
            let value = format!("{}: {}", names.len(), first_of(names, MOST_GROUPS));
            say(label, value, why.to_owned());
        }
    }
    let spans = [(given.people, ""), (given.services, "services: ")];
    let spans: Vec<String> = spans
        .into_iter()
        .filter_map(|(bounds, whose)| Some(format!("{whose}{}", span(bounds?))))
        .collect();
    if !spans.is_empty() {
        say("uids", spans.join(", "), String::new());
    }
    let homes = plan.steps.iter().filter(|step| matches!(step, Step::MakeDirectory { .. })).count();
    if counts.made > 0 {
        let why = if homes == 0 { "paths are only recorded" } else { "" };
        say("homes", format!("{homes} new"), why.to_owned());
    }
    if let Some(bounds) = given.ranges_in {
        say("ranges", format!("{} given", given.ranges), format!("in {}", span(bounds)));
    }
    if counts.made > 0 {
        let (set, not) = (given.passwords, given.suspended + given.shut);
        let made = counts.made.saturating_sub(not);
        let value = match made.saturating_sub(set) {
            _ if made == 0 && given.shut == 0 => "by no way: suspended".to_owned(),
            _ if made == 0 && given.suspended == 0 => {
                "by no way: their shells let nobody in".to_owned()
            }
            _ if made == 0 => "by no way: suspended, or a shell that lets nobody in".to_owned(),
            _ if request.first_passwords => "by a first password, which must be changed".into(),
            0 => "by password, from the first day".to_owned(),
            without if set == 0 => {
                let one = "not yet: no password is set";
                if without == 1 { one.to_owned() } else { "not yet: no passwords are set".into() }
            }
            without => format!("{set} by password; {without} not yet: none is set"),
        };
        let shut = match given.shut {
            0 => String::new(),
            _ if made == 0 => String::new(),
            1 => "; 1 has a shell that lets nobody in".to_owned(),
            shut => format!("; {shut} have a shell that lets nobody in"),
        };
        let why = match given.suspended {
            0 => String::new(),
            _ if made == 0 => String::new(),
            suspended => format!("{suspended} suspended"),
        };
        say("sign-in", value + &shut, why);
    }
    let roster = &request.roster;
    if roster.trimmed > 0 {
        let value = counted(roster.trimmed, "value", "values");
        say("blanks", value, "those around them are left out".to_owned());
    }
    if !roster.passed_over.is_empty() {
        let columns = list(&roster.passed_over).to_string();
        say("passed over", columns, "not columns that are known".to_owned());
    }
    plan.totals = totals;
    gather_alike(&mut plan.cautions);
    let one = (counts.made == 1 && users == 1).then(|| plan.next.first().cloned()).flatten();

    plan.next = vec![one.unwrap_or_else(|| match users {
        0 => "list groups".into(),
        _ => "list users".into(),
    })];
}

fn span((first, last): (u32, u32)) -> String {
    if first == last { first.to_string() } else { format!("{first}-{last}") }
}

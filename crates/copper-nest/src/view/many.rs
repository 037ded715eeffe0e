//! One change on many trees: what is the same on several is told once.

use nest_core::record::Told;
use nest_core::words::{counted, first_of};
use serde_json::{Value, json};

use super::{print_json_line, receipt, style, visible};
use crate::cli::Global;
use crate::session::many::{Outcome, Planned, TreeOutcome, error_of};

/// So many trees are named at once.
const NAMED: usize = 8;

fn shown(one: &TreeOutcome) -> String {
    visible(one.tree.as_os_str().as_encoded_bytes())
}

/// What makes two plans the same: lines may stand at other places.
fn likeness(planned: &Planned) -> Value {
    let mut told = serde_json::to_value(&planned.told)
        .expect("BUG: what is told is made of strings, numbers and lists of them");
    for edit in told["edits"].as_array_mut().into_iter().flatten() {
        edit.as_object_mut().map(|edit| edit.remove("line"));
    }
    told["nothing"] = json!(planned.nothing);
    without_numbers(&mut told);
    told
}

/// Takes the number of the change out of what is named after it, which is another on each tree:
/// `retired/user/tavish.1001.7`.
fn without_numbers(told: &mut Value) {
    let is_number = |text: &str| !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
    match told {
        Value::String(text) => {
            let mut parts = text.rsplitn(3, '.');
            let numbers = [parts.next(), parts.next()];
            if numbers.iter().all(|part| part.is_some_and(is_number))
                && let Some((place, _)) = text.rsplit_once('.')
            {
                text.truncate(place.len());
            }
        }
        Value::Array(all) => all.iter_mut().for_each(without_numbers),
        Value::Object(all) => {
            all.remove("change");
            all.values_mut().for_each(without_numbers);
        }
        _ => {}
    }
}

/// Prints what is planned, and where it can't be.
pub fn print_plans(global: &Global, all: &[TreeOutcome]) {
    let heading = style::HEADING;
    let mut alike: Vec<(Value, &Planned, Vec<String>)> = Vec::new();
    for one in all {
        let Outcome::Planned(planned) = &one.is else { continue };
        let likeness = likeness(planned);
        match alike.iter_mut().find(|(known, ..)| *known == likeness) {
            Some((.., trees)) => trees.push(shown(one)),
            None => alike.push((likeness, planned, vec![shown(one)])),
        }
    }
    for (_, planned, trees) in &alike {
        let most = if global.verbose > 0 { trees.len() } else { NAMED };
        let on = match trees.len() {
            1 => trees[0].clone(),
            count => format!("{}: {}", counted(count, "tree", "trees"), first_of(trees, most)),
        };
        outln!("{heading}{}{heading:#}", visible(planned.told.summary.as_bytes()));
        super::beside(0, &format!("on {on}")).iter().for_each(|line| outln!("{line}"));
        outln!();
        match planned.nothing {
            true => outln!("  everything is so already"),
            false => body(global, &planned.told),
        }
        outln!();
    }
    for one in all {
        if let Outcome::Refused(failure) = &one.is {
            let bad = style::BAD;
            let why = visible(failure.message().as_bytes());
            outln!("{bad}refused{bad:#}  {}: {why}", shown(one));
        }
    }
    if all.iter().any(|one| matches!(one.is, Outcome::Refused(_))) {
        outln!();
    }
}

fn body(global: &Global, told: &Told) {
    receipt::body(global, told);
    receipt::cautions(global, &told.cautions);
}

/// Prints what came of each tree.
pub fn print_outcomes(global: &Global, all: &[TreeOutcome]) {
    let (good, quiet) = (style::GOOD, style::QUIET);
    let wide = all.iter().map(|one| super::width(&shown(one))).max().unwrap_or(0);
    for one in all {
        let tree = shown(one);
        let gap = " ".repeat(wide - super::width(&tree));
        match &one.is {
            Outcome::Done(made) if !global.quiet => {
                let number = made.number.map(|number| format!("change {number}"));
                let number = number.unwrap_or_default();
                outln!("{good}done{good:#}     {tree}{gap}  {quiet}{number}{quiet:#}");
            }
            Outcome::Failed(failure) => {
                let why = visible(failure.message().as_bytes());
                errln!("failed   {tree}{gap}  {why}");
            }
            Outcome::Refused(failure) => {
                let why = visible(failure.message().as_bytes());
                errln!("refused  {tree}{gap}  {why}");
            }
            Outcome::Planned(planned) if planned.nothing && !global.quiet => {
                outln!("as it is {tree}{gap}  {quiet}everything is so already{quiet:#}");
            }
            Outcome::Planned(_) | Outcome::Done(_) => {}
        }
    }
    if global.quiet {
        return;
    }
    let count = |is: fn(&Outcome) -> bool| all.iter().filter(|one| is(&one.is)).count();
    let planned = count(|is| matches!(is, Outcome::Planned(_)));
    let refused = count(|is| matches!(is, Outcome::Refused(_) | Outcome::Failed(_)));
    let trees = counted(all.len(), "tree", "trees");
    let done = count(|is| matches!(is, Outcome::Done(_)));
    match global.dry_run {
        true => {
            outln!("dry run: it could be done on {planned} of {trees}, and nothing was changed.")
        }
        false if refused > 0 => outln!("done on {done} of {trees}; on {refused} it was not."),
        false => outln!("done on {done} of {trees}. To take it back: the same trees, and undo."),
    }
}

/// Prints a document for each tree, a line each.
pub fn print_json(global: &Global, all: &[TreeOutcome]) {
    for one in all {
        let tree = shown(one);
        let named = |mut receipt: Value| {
            if let Some(receipt) = receipt.as_object_mut() {
                receipt.insert("tree".to_owned(), json!(tree));
            }
            receipt
        };
        match &one.is {
            Outcome::Done(made) => print_json_line("receipt", &named(made.receipt.clone())),
            Outcome::Planned(planned) => {
                let stage = match planned.nothing {
                    true => receipt::Stage::Nothing,
                    false => receipt::Stage::DryRun,
                };
                let receipt = receipt::to_json(global, &planned.told, stage);
                print_json_line("receipt", &named(receipt));
            }
            Outcome::Refused(failure) | Outcome::Failed(failure) => {
                outln!("{}", json!({"tree": tree, "error": error_of(failure)}));
            }
        }
    }
}

//! The receipt: a plan, shown.

use nest_core::plan::{Plan, Subject};
use nest_core::secret::shown;
use nest_core::table::Edit;
use nest_host::commit::Outcome;
use serde_json::json;

use super::{counted, print_json, style, visible, width};
use crate::cli::Global;

/// From this many accounts on, each gets one line; `--verbose` shows all.
const MANY: usize = 9;

/// Shows a plan: before it is carried out (a dry run), or after.
pub fn show(global: &Global, plan: &Plan, outcome: Option<&Outcome>) {
    if global.json() {
        print_json(&to_json(global, plan, outcome));
        return;
    }
    if global.quiet {
        return;
    }
    let (heading, good) = (style::HEADING, style::GOOD);
    anstream::println!("{heading}{}{heading:#}", visible(plan.summary.as_bytes()));
    anstream::println!();
    let many = plan.subjects.len() >= MANY && global.verbose == 0;
    if many {
        outline(plan);
    } else {
        for subject in &plan.subjects {
            if plan.subjects.len() > 1 {
                anstream::println!("  {heading}{}{heading:#}", visible(&subject.name));
            }
            decisions(subject);
            anstream::println!();
        }
        lines(&plan.edits);
    }
    cautions(plan, outcome);
    anstream::println!();
    match outcome {
        None => anstream::println!("dry run: nothing was changed."),
        Some(_) => anstream::println!("{good}done{good:#}: {}.", amount(plan)),
    }
    if outcome.is_some() {
        let next = plan.next.first().filter(|_| plan.subjects.len() == 1);
        let next = next.map_or("list users", String::as_str);
        anstream::println!("next: {}", global.command(next));
    }
}

/// One line an account, when there are many.
fn outline(plan: &Plan) {
    let names = plan.subjects.iter().map(|subject| width(&visible(&subject.name))).max();
    let names = names.unwrap_or(0);
    for subject in &plan.subjects {
        let value = |label: &str| {
            let found = subject.decisions.iter().find(|decision| decision.label == label);
            found.map(|decision| visible(&decision.value)).unwrap_or_default()
        };
        let line = format!(
            "  {:names$}   {:>10}   {}   {}",
            visible(&subject.name),
            value("uid"),
            value("home"),
            value("member of")
        );
        anstream::println!("{}", line.trim_end());
    }
    anstream::println!();
    anstream::println!("  --verbose shows each decision and each line.");
}

fn decisions(subject: &Subject) {
    let quiet = style::QUIET;
    let label = subject.decisions.iter().map(|decision| width(decision.label)).max().unwrap_or(0);
    let explained = subject.decisions.iter().filter(|decision| !decision.why.is_empty());
    let value = explained.map(|decision| width(&visible(&decision.value))).max().unwrap_or(0);
    for decision in &subject.decisions {
        let shown = visible(&decision.value);
        if decision.why.is_empty() {
            anstream::println!("  {:label$}   {shown}", decision.label);
        } else {
            let why = visible(decision.why.as_bytes());
            anstream::println!(
                "  {:label$}   {shown:value$}   {quiet}{why}{quiet:#}",
                decision.label
            );
        }
    }
}

/// Each line of each file as it comes, goes, or was and is now.
fn lines(edits: &[Edit]) {
    let (good, quiet) = (style::GOOD, style::QUIET);
    let place = |edit: &Edit| format!("{}:{}", edit.file.path(), edit.line);
    let column = edits.iter().map(|edit| place(edit).len()).max().unwrap_or(0);
    for edit in edits {
        let show = |line: &bstr::BString| visible(&shown(edit.file, line));
        let place = place(edit);
        match (&edit.before, &edit.after) {
            (None, Some(after)) => {
                anstream::println!("  {place:column$}   {good}adds{good:#}   {}", show(after));
            }
            (Some(before), None) => {
                anstream::println!("  {place:column$}   {quiet}drops{quiet:#}  {}", show(before));
            }
            (Some(before), Some(after)) => {
                anstream::println!("  {place:column$}   {quiet}was{quiet:#}    {}", show(before));
                anstream::println!("  {:column$}   {good}now{good:#}    {}", "", show(after));
            }
            (None, None) => {}
        }
    }
}

fn all_cautions(plan: &Plan, outcome: Option<&Outcome>) -> Vec<String> {
    let mut all: Vec<String> = plan.cautions.iter().map(ToString::to_string).collect();
    if let Some(outcome) = outcome {
        all.extend(outcome.in_place.iter().map(|file| {
            format!(
                "{} is a mount point of its own and was rewritten in place: a reader may have seen it half-written",
                file.path()
            )
        }));
        all.extend(
            outcome
                .left_undone
                .iter()
                .map(|what| format!("not set, for lack of the right to: {what}")),
        );
    }
    all
}

fn cautions(plan: &Plan, outcome: Option<&Outcome>) {
    let warn = style::WARN;
    let all = all_cautions(plan, outcome);
    if !all.is_empty() {
        anstream::println!();
    }
    for caution in all {
        anstream::println!("  {warn}note{warn:#}   {}.", visible(caution.as_bytes()));
    }
}

/// How much was done, in words.
fn amount(plan: &Plan) -> String {
    let mut files: Vec<_> = plan.edits.iter().map(|edit| edit.file).collect();
    files.dedup();
    let mut amount = format!(
        "{} in {}",
        counted(plan.edits.len(), "line", "lines"),
        counted(files.len(), "file", "files")
    );
    if !plan.steps.is_empty() {
        amount += &format!(", {} on the tree", counted(plan.steps.len(), "step", "steps"));
    }
    amount
}

fn to_json(global: &Global, plan: &Plan, outcome: Option<&Outcome>) -> serde_json::Value {
    let edits: Vec<_> = plan
        .edits
        .iter()
        .map(|edit| {
            let show = |line: &Option<bstr::BString>| {
                line.as_ref().map(|line| visible(&shown(edit.file, line)))
            };
            json!({
                "file": edit.file.path(),
                "line": edit.line,
                "before": show(&edit.before),
                "after": show(&edit.after),
            })
        })
        .collect();
    let steps: Vec<_> = plan.steps.iter().map(|step| step.describe()).collect();
    let next: Vec<_> = plan.next.iter().map(|next| global.command(next)).collect();
    json!({
        "change": null,
        "dry_run": outcome.is_none(),
        "summary": plan.summary,
        "edits": edits,
        "steps": steps,
        "cautions": all_cautions(plan, outcome),
        "next": next,
    })
}

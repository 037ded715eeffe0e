//! The receipt: a plan, shown.

use std::cell::RefCell;

use bstr::ByteSlice;
use nest_core::change::{
    AccessChange, Decision, Label, NumberChange, Subject, access_alike, access_lines,
};
use nest_core::record::{RecordedEdit, Told};
use nest_core::table::{File, Passwd, Record};
use nest_core::words::{counted, first_of};
use nest_host::commit::Outcome;
use serde_json::json;

use super::receipt_lines::{lines, text_edits};
use super::{print_json, style, visible, width};
use crate::cli::Global;

/// From this many accounts on, each gets one line; `--verbose` shows all.
const MANY: usize = 9;

/// What is told besides, and under which name.
pub type Beside = RefCell<Option<(&'static str, serde_json::Value)>>;

/// How far a change has come.
#[derive(Debug, Clone, Copy)]
pub enum Stage<'a> {
    /// It will not be carried out.
    DryRun,
    /// There is nothing to do.
    Nothing,
    /// It is asked about.
    Asked,
    /// It was carried out.
    Done(&'a Outcome),
    /// The same, after it was shown and asked about: only what is new is told.
    DoneAsShown(&'a Outcome),
}

/// Shows what a change does, or did; to machines also what is told `beside`, under its name.
pub fn show(global: &Global, told: &Told, stage: Stage<'_>, beside: &Beside) {
    if global.json() {
        if !matches!(stage, Stage::Asked) {
            let mut document = to_json(global, told, stage);
            if let Some((name, value)) = beside.take() {
                document[name] = value;
            }
            print_json("receipt", &document);
        }
        return;
    }
    if global.quiet && !matches!(stage, Stage::Asked) {
        return;
    }
    let (heading, good) = (style::HEADING, style::GOOD);
    if !matches!(stage, Stage::DoneAsShown(_)) {
        outln!("{heading}{}{heading:#}", visible(told.summary.as_bytes()));
        outln!();
        body(global, told);
        if !told.totals.is_empty() {
            match stage {
                Stage::DryRun | Stage::Asked if !told.numbers.is_empty() => numbers(global, told),
                Stage::DryRun | Stage::Asked => rows(told),
                _ => hint(global),
            }
        }
    }
    cautions(global, &all_cautions(told, stage));
    outln!();
    let outcome = match stage {
        Stage::DryRun => {
            outln!("dry run: nothing was changed.");
            return;
        }
        Stage::Nothing => {
            let ends = told.subjects.iter().any(|subject| has(subject, Label::ENDS));
            match (told.mends, ends) {
                (true, _) => outln!("nothing is mended without a decision: nothing was changed."),
                (_, true) => outln!("the account is so already: no file was changed."),
                _ => outln!("everything is so already: nothing was changed."),
            }
            return;
        }
        Stage::Asked => return,
        Stage::Done(outcome) | Stage::DoneAsShown(outcome) => outcome,
    };
    match outcome.number {
        Some(number) if told.steps.iter().any(|step| step.step.is_final()) => {
            outln!(
                "{good}done{good:#}: change {number}. It can't be taken back: erased is erased."
            );
        }
        Some(number) if told.has_lost_hash() => {
            outln!(
                "{good}done{good:#}: change {number}. It can't be taken back: a replaced hash is kept nowhere."
            );
        }
        Some(number) => {
            let undo = global.command(&format!("undo {number}"));
            outln!("{good}done{good:#}: change {number}. To take it back: {undo}");
        }
        None => outln!("{good}done{good:#}: {}.", amount(told)),
    }
    let next = told.next.first().filter(|_| told.subjects.len() == 1 || told.next.len() == 1);
    let next = next.map_or("list users", String::as_str);
    outln!("next: {}", global.command(next));
}

/// The decisions, who gains and who loses access, and the lines.
pub fn body(global: &Global, told: &Told) {
    decisions(global, &told.totals);
    if !told.totals.is_empty() || told.subjects.len() >= MANY && global.verbose == 0 {
        if !told.totals.is_empty() && !told.access.is_empty() {
            outln!();
        }
        if access(global, told) && told.totals.is_empty() {
            outln!();
        }
    }
    if told.totals.is_empty() && told.subjects.len() >= MANY && global.verbose == 0 {
        outline(told);
        return;
    }
    if !told.totals.is_empty() && global.verbose == 0 {
        return;
    }
    if !told.totals.is_empty() && !told.subjects.is_empty() {
        outln!();
    }
    let has_lines = !told.edits.is_empty() || text_edits(told).next().is_some();
    for subject in &told.subjects {
        if told.subjects.len() > 1 {
            let heading = style::HEADING;
            outln!("  {heading}{}{heading:#}", visible(&subject.name));
        }
        decisions(global, &subject.decisions);
        if has_lines || !told.access.is_empty() {
            outln!();
        }
    }
    if told.totals.is_empty() && access(global, told) && has_lines {
        outln!();
    }
    lines(told);
}

/// Of more accounts than these those are told together that gain or lose the same, unless
/// each is asked for; so many lines are shown.
const MOST_ACCESS: usize = 20;

/// Who gains and who loses access, one line an account. Returns whether there was anything.
fn access(global: &Global, told: &Told) -> bool {
    let all = told.access.chunk_by(|one, next| one.name == next.name).count();
    if all == 0 {
        return false;
    }
    let heading = style::HEADING;
    outln!("  {heading}access{heading:#}");
    let each = || access_lines(&told.access).into_iter();
    let lines: Vec<(String, String)> = match all > MOST_ACCESS && global.verbose == 0 {
        true => alike(&told.access),
        false => each().map(|(name, what)| (visible(name), what)).collect(),
    };
    let most = if global.verbose > 0 { all } else { MOST_ACCESS };
    let shown = || lines.iter().take(most);
    let names = shown().map(|(name, _)| width(name)).max().unwrap_or(0);
    for (name, what) in shown() {
        outln!("    {name:names$}   {}", visible(what.as_bytes()));
    }
    if lines.len() > most {
        outln!("    and {} more, which --verbose shows", lines.len() - most);
    }
    true
}

/// One line for all who gain or lose the same.
fn alike(access: &[AccessChange]) -> Vec<(String, String)> {
    let told = access_alike(access).into_iter().map(|(names, what)| {
        let each = if names.len() > 1 { "each " } else { "" };
        (visible(&first_of(&names, 1)), format!("{each}{what}"))
    });
    told.collect()
}

/// One line an account, when there are many.
fn outline(told: &Told) {
    let names = told.subjects.iter().map(|subject| width(&visible(&subject.name))).max();
    let names = names.unwrap_or(0);
    for subject in &told.subjects {
        let value = |label| value_of(subject, label);
        let line = format!(
            "  {:names$}   {:>10}   {}   {}",
            visible(&subject.name),
            value(Label::UID),
            value(Label::HOME),
            value(Label::MEMBER_OF)
        );
        outln!("{}", line.trim_end());
    }
    outln!();
    outln!("  --verbose shows each decision and each line.");
}

/// Whether something was decided about that.
fn has(subject: &Subject, label: Label) -> bool {
    subject.decisions.iter().any(|decision| decision.label == label)
}

/// What was decided about something; nothing where nothing was.
fn value_of(subject: &Subject, label: Label) -> String {
    let found = subject.decisions.iter().find(|decision| decision.label == label);
    found.map(|decision| visible(&decision.value)).unwrap_or_default()
}

/// How to see more of what was told by its totals.
pub fn hint(global: &Global) {
    if global.verbose == 0 {
        outln!();
        outln!("  --verbose shows each row, each decision and each line.");
    }
}

/// More numbers than these are only counted, unless each is asked for.
const MOST_NUMBERS: usize = 1000;

/// One number a line: whose it is, what it is and becomes, and how many files that concerns.
fn numbers(global: &Global, told: &Told) {
    let most = if global.verbose > 0 { told.numbers.len() } else { MOST_NUMBERS };
    let row = |one: &NumberChange| {
        let [old, new] = [one.old, one.new].map(|id| id.to_string());
        [one.of.to_string(), visible(&one.name), old, new, one.files.to_string()]
    };
    let titles = ["kind", "name", "old", "new", "files"].map(str::to_owned);
    let rows: Vec<[String; 5]> = told.numbers.iter().take(most).map(row).collect();
    let widest =
        |at: usize| rows.iter().chain([&titles]).map(|row| width(&row[at])).max().unwrap_or(0);
    let widths = [0, 1, 2, 3, 4].map(widest);
    // Names begin at the left, numbers end at the right.
    let line = |row: &[String; 5]| {
        let space = |at: usize| " ".repeat(widths[at] - width(&row[at]));
        let names = [0, 1].map(|at| format!("{}{}", row[at], space(at)));
        let numbers = [2, 3, 4].map(|at| format!("{}{}", space(at), row[at]));
        format!("  {}   {}", names.join("   "), numbers.join("   "))
    };
    let heading = style::HEADING;
    outln!();
    outln!("{heading}{}{heading:#}", line(&titles));
    rows.iter().for_each(|row| outln!("{}", line(row)));
    if told.numbers.len() > most {
        outln!("  and {} more, which --verbose shows", told.numbers.len() - most);
    }
}

/// One row a line, as it stands in the table that is taken in.
fn rows(told: &Told) {
    let row = |subject: &Subject| {
        let value = |label| value_of(subject, label);
        let groups = [Label::PRIMARY, Label::MEMBER_OF, Label::JOINS].map(value);
        let groups = groups.into_iter().filter(|some| !some.is_empty()).collect::<Vec<_>>();
        [
            value(Label::ROW),
            subject.row.to_owned(),
            visible(&subject.name),
            [value(Label::UID), value(Label::GID)].concat(),
            groups.join(", "),
            value(Label::HOME),
            value(Label::RANGES),
        ]
    };
    let rows = told.subjects.iter().filter(|one| !one.decisions.is_empty()).map(row);
    let titles = ["row", "", "name", "id", "groups", "home", "ranges"];
    outln!();
    outln!("{}", super::table(titles, rows));
}

fn decisions(global: &Global, all: &[Decision]) {
    let quiet = style::QUIET;
    let label = all.iter().map(|decision| width(decision.label.as_str())).max().unwrap_or(0);
    let explained = all.iter().filter(|decision| !decision.why.is_empty());
    let value = explained.map(|decision| width(&visible(&decision.value))).max().unwrap_or(0);
    for decision in all {
        let shown = visible(&decision.value);
        if decision.why.is_empty() {
            outln!("  {:label$}   {shown}", decision.label.as_str());
        } else {
            let why = visible(spelled_out(global, &decision.why).as_bytes());
            let about = decision.label.as_str();
            outln!("  {about:label$}   {shown:value$}   {quiet}{why}{quiet:#}");
        }
    }
}

fn all_cautions(told: &Told, stage: Stage<'_>) -> Vec<String> {
    let mut all = told.cautions.clone();
    if let Stage::Done(outcome) | Stage::DoneAsShown(outcome) = stage {
        all.extend(outcome.in_place.iter().map(|file| {
            format!(
                "{} is a mount point of its own and was rewritten in place: a reader may have seen it half-written",
                file.path()
            )
        }));
        all.extend(outcome.notes.iter().cloned());
        all.extend(outcome.left_undone.iter().map(ToString::to_string));
    }
    all
}

/// Prints cautions, one a line.
pub fn cautions(global: &Global, all: &[String]) {
    let warn = style::WARN;
    if !all.is_empty() {
        outln!();
    }
    for caution in all {
        let caution = spelled_out(global, caution);
        outln!("  {warn}note{warn:#}   {}.", visible(caution.as_bytes()));
    }
}

/// A sentence in which commands are as they have to be typed: with the tree, the policy and
/// the state folder of this run.
fn spelled_out(global: &Global, sentence: &str) -> String {
    sentence.replace("copper-nest ", &global.command(""))
}

/// How much was done, in words.
fn amount(told: &Told) -> String {
    let mut files: Vec<_> = told.edits.iter().map(|edit| edit.file).collect();
    files.dedup();
    let mut amount = format!(
        "{} in {}",
        counted(told.edits.len(), "line", "lines"),
        counted(files.len(), "file", "files")
    );
    if !told.steps.is_empty() {
        amount += &format!(", {} on the tree", counted(told.steps.len(), "step", "steps"));
    }
    amount
}

pub fn to_json(global: &Global, told: &Told, stage: Stage<'_>) -> serde_json::Value {
    let number = match stage {
        Stage::Done(outcome) | Stage::DoneAsShown(outcome) => outcome.number,
        _ => None,
    };
    let mut document = json!({
        "change": number,
        "dry_run": global.dry_run || matches!(stage, Stage::DryRun | Stage::Asked),
    });
    let told = told_to_json(global, told, all_cautions(told, stage));
    if let (Some(document), Some(told)) = (document.as_object_mut(), told.as_object()) {
        document.extend(told.clone());
    }
    document
}

/// The user whose line came, if it is one.
fn made_user(edit: &RecordedEdit) -> Option<serde_json::Value> {
    let line =
        edit.after.as_ref().filter(|_| edit.file == File::Passwd && edit.before.is_none())?;
    let user = Passwd::read(line)?;
    Some(json!({
        "name": visible(user.name),
        "uid": user.uid().map(|uid| uid.0),
        "gid": user.gid().map(|gid| gid.0),
        "home": visible(user.home),
        "shell": visible(user.effective_shell()),
    }))
}

/// What was told, for machines.
pub fn told_to_json(global: &Global, told: &Told, cautions: Vec<String>) -> serde_json::Value {
    let edits: Vec<_> = told
        .edits
        .iter()
        .map(|edit| {
            let show = |line: &Option<bstr::BString>| line.as_ref().map(|line| visible(line));
            json!({
                "file": edit.file.path(),
                "line": edit.line,
                "before": show(&edit.before),
                "after": show(&edit.after),
            })
        })
        .chain(text_edits(told).map(|(edit, line)| {
            let show = |line: &Option<bstr::BString>| line.as_ref().map(|line| visible(line));
            json!({
                "file": visible(edit.path.trim_start_with(|c| c == '/')),
                "line": null,
                "before": show(&line.was),
                "after": show(&line.becomes),
            })
        }))
        .collect();
    let users: Vec<_> = told.edits.iter().filter_map(made_user).collect();
    let steps: Vec<_> = told.steps.iter().map(|step| step.step.describe()).collect();
    let next: Vec<_> = told.next.iter().map(|next| global.command(next)).collect();
    let totals: serde_json::Map<_, _> = told
        .totals
        .iter()
        .map(|total| (total.label.as_str().to_owned(), visible(&total.value).into()))
        .collect();
    let mut document = json!({
        "summary": told.summary,
        "users": users,
        "edits": edits,
        "steps": steps,
        "access": told.access.iter().map(access_to_json).collect::<Vec<_>>(),
        "cautions": cautions,
        "next": next,
    });
    if !totals.is_empty() {
        document["totals"] = totals.into();
    }
    if !told.numbers.is_empty() {
        document["numbers"] = told.numbers.iter().map(number_to_json).collect();
    }
    document
}

/// A number that becomes another, for machines.
fn number_to_json(change: &NumberChange) -> serde_json::Value {
    json!({
        "kind": change.of.to_string(),
        "name": visible(&change.name),
        "old": change.old,
        "new": change.new,
        "files": change.files,
    })
}

/// What an account gains or loses, for machines.
fn access_to_json(change: &AccessChange) -> serde_json::Value {
    let group = Some(visible(&change.group)).filter(|group| !group.is_empty());
    json!({
        "name": visible(&change.name),
        "kind": <&str>::from(change.kind),
        "gains": change.gains,
        "group": group,
        "text": visible(change.to_string().as_bytes()),
    })
}

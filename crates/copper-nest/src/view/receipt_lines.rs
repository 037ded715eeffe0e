//! The lines of files that a change adds, drops and alters.

use bstr::ByteSlice;
use nest_core::change::{LineChange, Step, TextEdit};
use nest_core::record::Told;

use super::{style, visible, visible_line, width};

/// Each line of each file as it comes, goes, or was and is now; of other files than the account
/// files without its number, which others may shift.
pub fn lines(told: &Told) {
    let (good, bad, quiet) = (style::GOOD, style::BAD, style::QUIET);
    let of_accounts = told.edits.iter().map(|edit| {
        (format!("{}:{}", edit.file.path(), edit.line), edit.before.as_ref(), edit.after.as_ref())
    });
    let others = text_edits(told).map(|(edit, line)| {
        let place = visible(edit.path.trim_start_with(|c| c == '/'));
        (place, line.was.as_ref(), line.becomes.as_ref())
    });
    let all: Vec<_> = of_accounts.chain(others).collect();
    let column = all.iter().map(|(place, ..)| width(place)).max().unwrap_or(0);
    let show = |line: &bstr::BString| visible_line(line);
    for (place, before, after) in all {
        let gap = " ".repeat(column - width(&place));
        match (before, after) {
            (None, Some(after)) => {
                outln!("  {place}{gap}   {good}adds{good:#}   {}", show(after));
            }
            (Some(before), None) => {
                outln!("  {place}{gap}   {bad}drops{bad:#}  {}", show(before));
            }
            (Some(before), Some(after)) => {
                outln!("  {place}{gap}   {quiet}was{quiet:#}    {}", show(before));
                outln!("  {:column$}   {good}now{good:#}    {}", "", show(after));
            }
            (None, None) => {}
        }
    }
}

/// Lines of files that are no account files, each with what happens to its file.
pub fn text_edits(told: &Told) -> impl Iterator<Item = (&TextEdit, &LineChange)> {
    let edits = told.steps.iter().filter_map(|step| match &step.step {
        Step::EditText(edit) => Some(edit),
        _ => None,
    });
    edits.flat_map(|edit| edit.lines.iter().map(move |line| (edit, line)))
}

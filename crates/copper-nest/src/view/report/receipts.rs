//! The changes on a page, each with its receipt.

use nest_core::change::{Decision, access_lines};
use nest_core::record::{ChangeRecord, Told};
use nest_core::words::counted;

use super::tree::hands;
use crate::clock::for_people;
use crate::view::changes::{self, ShownChanges};
use crate::view::receipt_lines::text_edits;
use crate::view::{visible, visible_line};

/// A change on a page.
#[derive(Default)]
pub struct ChangeShown {
    /// Its number; 0 for what other hands did.
    pub number: u64,
    pub time: String,
    pub when: String,
    pub by: String,
    pub summary: String,
    pub fate: String,
    pub note: String,
    pub typed: String,
    pub subjects: Vec<SubjectShown>,
    pub access: Vec<(String, String)>,
    pub edits: Vec<[String; 3]>,
    pub cautions: Vec<String>,
    /// What is left out, and how to see it.
    pub more: String,
}

/// Somebody or something that it was about.
pub struct SubjectShown {
    pub name: String,
    pub rows: Vec<(String, String, String)>,
}

/// So many changes are on a page at most, the newest.
const MOST: usize = 400;

/// So many accounts, lines of access, and lines of files are told of one.
const MOST_OF_ONE: usize = 25;

/// The changes as a page shows them, with what other hands did in between; and how many are left
/// out.
pub fn receipts(shown: &ShownChanges<'_>) -> (Vec<ChangeShown>, usize) {
    let other = |summary| ChangeShown { summary, ..ChangeShown::default() };
    let mut all: Vec<ChangeShown> = hands(shown.since).map(other).collect();
    for record in shown.records.iter().take(MOST) {
        all.push(receipt(record, shown));
        all.extend(hands(&record.other_hands).map(other));
    }
    (all, shown.records.len().saturating_sub(MOST))
}

fn receipt(record: &ChangeRecord, shown: &ShownChanges<'_>) -> ChangeShown {
    let told = &record.told;
    let typed: Vec<String> = record.arguments.iter().map(|word| visible(word.as_bytes())).collect();
    let row = |decision: &Decision| {
        let why = visible(decision.why.as_bytes());
        (decision.label.as_str().to_owned(), visible(&decision.value), why)
    };
    let several = told.subjects.len() > 1;
    let mut subjects = Vec::new();
    if !told.totals.is_empty() {
        let rows = told.totals.iter().map(row).collect();
        subjects.push(SubjectShown { name: String::new(), rows });
    }
    subjects.extend(told.subjects.iter().take(MOST_OF_ONE).map(|subject| SubjectShown {
        name: if several { visible(&subject.name) } else { String::new() },
        rows: subject.decisions.iter().map(row).collect(),
    }));
    subjects.retain(|subject| !subject.rows.is_empty());
    let access = access_lines(&told.access).into_iter().take(MOST_OF_ONE);
    let access = access.map(|(name, what)| (visible(name), visible(what.as_bytes()))).collect();
    let lines = edits(told);
    let mut cut = Vec::new();
    for (count, one, many) in [
        (told.subjects.len(), "account", "accounts"),
        (access_lines(&told.access).len(), "line of access", "lines of access"),
        (told.edits.len() + text_edits(told).count(), "line of files", "lines of files"),
    ] {
        if count > MOST_OF_ONE {
            cut.push(counted(count - MOST_OF_ONE, one, many));
        }
    }
    let more = match cut.is_empty() {
        true => String::new(),
        false => format!(
            "and {} more: copper-nest show change {} --verbose",
            cut.join(", "),
            record.number
        ),
    };
    ChangeShown {
        number: record.number,
        time: record.time.clone(),
        when: for_people(&record.time),
        by: changes::by(&record.by),
        summary: changes::what(record),
        fate: changes::fate(record, shown.undone),
        note: changes::note(record),
        typed: format!("copper-nest {}", shell_words::join(&typed)),
        subjects,
        access,
        edits: lines,
        cautions: told.cautions.iter().map(|caution| visible(caution.as_bytes())).collect(),
        more,
    }
}

/// The lines of files: where, what was there, and what is.
fn edits(told: &Told) -> Vec<[String; 3]> {
    let show =
        |line: Option<&bstr::BString>| line.map(|line| visible_line(line)).unwrap_or_default();
    let of_accounts = told.edits.iter().map(|edit| {
        let place = format!("{}:{}", edit.file.path(), edit.line);
        [place, show(edit.before.as_ref()), show(edit.after.as_ref())]
    });
    let others = text_edits(told).map(|(edit, line)| {
        let place = visible(edit.path.strip_prefix(b"/").unwrap_or(&edit.path));
        [place, show(line.was.as_ref()), show(line.becomes.as_ref())]
    });
    of_accounts.chain(others).take(MOST_OF_ONE).collect()
}

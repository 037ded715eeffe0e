//! Edits as they are written: a run of added lines takes one entry.

use std::ops::Range;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

use super::{RecordedEdit, Secret};
use crate::table::File;
use crate::value::escaped::{Escaped, escaped};

/// Shorter ones are easier to read line by line.
const SHORTEST: usize = 64;

/// Lines that came one after the other.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Run<L> {
    file: File,
    /// Where the first of them stands.
    line: usize,
    #[serde(default, skip_serializing_if = "Secret::is_none")]
    secret: Secret,
    adds: L,
}

#[derive(Serialize)]
#[serde(untagged)]
enum Entry<'e> {
    Run(Run<Lines<'e>>),
    Edit(&'e RecordedEdit),
}

#[derive(Deserialize)]
#[serde(untagged)]
enum Read {
    Run(Run<Vec<Escaped>>),
    Edit(RecordedEdit),
}

struct Lines<'e>(&'e [RecordedEdit]);

impl Serialize for Lines<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let lines = self.0.iter().filter_map(|edit| edit.after.as_ref());
        serializer.collect_seq(lines.map(|line| escaped(line)))
    }
}

/// The edits that follow the one at `from` as one run with it.
fn run(edits: &[RecordedEdit], from: usize) -> Range<usize> {
    let first = &edits[from];
    let follows = |(at, edit): (usize, &RecordedEdit)| {
        edit.before.is_none()
            && edit.after.is_some()
            && edit.file == first.file
            && edit.secret == first.secret
            && edit.line == first.line + at
    };
    let rest = edits[from..].iter().enumerate();
    from..from + rest.take_while(|next| follows(*next)).count()
}

pub(super) fn serialize<S: Serializer>(
    edits: &[RecordedEdit],
    serializer: S,
) -> Result<S::Ok, S::Error> {
    let mut entries = Vec::new();
    let mut at = 0;
    while at < edits.len() {
        let run = run(edits, at);
        if run.len() >= SHORTEST {
            let RecordedEdit { file, line, secret, .. } = edits[at];
            at = run.end;
            entries.push(Entry::Run(Run { file, line, secret, adds: Lines(&edits[run]) }));
        } else {
            entries.push(Entry::Edit(&edits[at]));
            at += 1;
        }
    }
    serializer.collect_seq(entries)
}

pub(super) fn deserialize<'de, D: Deserializer<'de>>(
    deserializer: D,
) -> Result<Vec<RecordedEdit>, D::Error> {
    let mut edits = Vec::new();
    for entry in Vec::<Read>::deserialize(deserializer)? {
        match entry {
            Read::Edit(edit) => edits.push(edit),
            Read::Run(Run { file, line, secret, adds }) => {
                let lines = adds.into_iter().enumerate();
                edits.extend(lines.map(|(at, after)| RecordedEdit {
                    file,
                    line: line + at,
                    before: None,
                    after: Some(after.0),
                    secret,
                }));
            }
        }
    }
    Ok(edits)
}

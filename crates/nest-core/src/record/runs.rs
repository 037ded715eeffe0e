//! Edits as they are written: a run of added lines takes one entry.

use std::borrow::Cow;
use std::ops::Range;

use rayon::prelude::*;
use serde::de::Error;
use serde::{Deserialize, Deserializer, Serialize, Serializer, ser};
use serde_json::value::to_raw_value;

use super::{RecordedEdit, Secret};
use crate::table::{File, lines_of};
use crate::value::escaped::{escaped, has_special, unescape};

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
    /// The lines, with newlines between them.
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
    Run(Run<String>),
    Edit(RecordedEdit),
}

struct Lines<'e>(&'e [RecordedEdit]);

impl Serialize for Lines<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut texts = self.0.iter().filter_map(|edit| edit.after.as_ref());
        let first = texts.next().map(|text| escaped_lines(text)).unwrap_or_default();
        let all = texts.fold(first, |mut all, text| {
            let all_but_this = all.to_mut();
            all_but_this.push('\n');
            all_but_this.push_str(&escaped_lines(text));
            all
        });
        serializer.serialize_str(&all)
    }
}

/// Lines as text that loses nothing.
fn escaped_lines(text: &[u8]) -> Cow<'_, str> {
    match std::str::from_utf8(text) {
        Ok(text) if !has_special(text.as_bytes(), b'\n') => Cow::Borrowed(text),
        _ => Cow::Owned(lines_of(text).map(escaped).collect::<Vec<_>>().join("\n")),
    }
}

/// Whether an entry is a run already.
fn is_run(edit: &RecordedEdit) -> bool {
    edit.before.is_none() && edit.after.as_ref().is_some_and(|after| after.contains(&b'\n'))
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
            && !is_run(edit)
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
        let run = if is_run(&edits[at]) { at..at + 1 } else { run(edits, at) };
        if run.len() >= SHORTEST || is_run(&edits[at]) {
            let RecordedEdit { file, line, secret, .. } = edits[at];
            at = run.end;
            entries.push(Entry::Run(Run { file, line, secret, adds: Lines(&edits[run]) }));
        } else {
            entries.push(Entry::Edit(&edits[at]));
            at += 1;
        }
    }
    if !edits.iter().any(is_run) {
        return serializer.collect_seq(entries);
    }
    // They are long: several threads write them.
    let written: Result<Vec<_>, _> = entries.par_iter().map(to_raw_value).collect();
    serializer.collect_seq(written.map_err(ser::Error::custom)?)
}

pub(super) fn deserialize<'de, D: Deserializer<'de>>(
    deserializer: D,
) -> Result<Vec<RecordedEdit>, D::Error> {
    let mut edits = Vec::new();
    for entry in Vec::<Read>::deserialize(deserializer)? {
        match entry {
            Read::Edit(edit) => edits.push(edit),
            Read::Run(Run { file, line, secret, adds }) => {
                for (at, after) in adds.split('\n').enumerate() {
                    let after = unescape(after)
                        .ok_or_else(|| D::Error::custom("a backslash begins nothing"))?;
                    let (line, before, after) = (line + at, None, Some(after.into()));
                    edits.push(RecordedEdit { file, line, before, after, secret });
                }
            }
        }
    }
    Ok(edits)
}

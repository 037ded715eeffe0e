//! Edits as they are written: a run of added lines takes one entry.

use std::borrow::Cow;
use std::io::Write;
use std::ops::Range;

use rayon::prelude::*;
use serde::de::Error;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use wide::u8x16;

use super::{RecordedEdit, Secret};
use crate::secret::are_plain;
use crate::table::{Edit, File};
use crate::value::escaped::{escaped, unescape};

/// What comes before each entry of a long record.
const INDENT: &[u8] = b",\n      ";

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
enum RecordedEntry<'e> {
    Run(Run<RunText<'e>>),
    Edit(&'e RecordedEdit),
}

#[derive(Deserialize)]
#[serde(untagged)]
enum ReadEntry {
    Run(Run<String>),
    Edit(RecordedEdit),
}

struct RunText<'e>(&'e [RecordedEdit]);

impl Serialize for RunText<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let lines = self.0.iter().filter_map(|edit| edit.after.as_ref());
        let lines: Vec<Cow<'_, str>> = lines.map(|line| escaped(line)).collect();
        serializer.serialize_str(&lines.join("\n"))
    }
}

/// The edits that follow the one at `from` as one run with it.
fn run_from(edits: &[RecordedEdit], from: usize) -> Range<usize> {
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
    serializer.collect_seq(entries(edits))
}

/// Edits as entries.
fn entries(edits: &[RecordedEdit]) -> Vec<RecordedEntry<'_>> {
    let mut entries = Vec::new();
    let mut at = 0;
    while at < edits.len() {
        let run = run_from(edits, at);
        if run.len() >= SHORTEST {
            let RecordedEdit { file, line, secret, .. } = edits[at];
            at = run.end;
            entries.push(RecordedEntry::Run(Run {
                file,
                line,
                secret,
                adds: RunText(&edits[run]),
            }));
        } else {
            entries.push(RecordedEntry::Edit(&edits[at]));
            at += 1;
        }
    }
    entries
}

pub(super) fn deserialize<'de, D: Deserializer<'de>>(
    deserializer: D,
) -> Result<Vec<RecordedEdit>, D::Error> {
    let mut edits = Vec::new();
    for entry in Vec::<ReadEntry>::deserialize(deserializer)? {
        match entry {
            ReadEntry::Edit(edit) => edits.push(edit),
            ReadEntry::Run(Run { file, line, secret, adds }) => {
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

/// Adds entries to a text, each after a comma.
fn push_singles(edits: &mut Vec<RecordedEdit>, text: &mut Vec<u8>) -> std::io::Result<()> {
    for entry in entries(edits) {
        text.extend_from_slice(INDENT);
        serde_json::to_writer(&mut *text, &entry)?;
    }
    edits.clear();
    Ok(())
}

/// Adds many lines as one entry, as [`Run`] would be written, if nothing has to be hidden
/// in them. Returns whether it did.
fn push_run(file: File, line: usize, lines: &[u8], text: &mut Vec<u8>) -> std::io::Result<bool> {
    let before = text.len();
    text.reserve(lines.len() + lines.len() / 8);
    text.extend_from_slice(INDENT);
    let path = file.path();
    write!(text, "{{\"file\":\"{path}\",\"line\":{line},\"adds\":")?;
    let plain = if needs_no_escape(lines) {
        text.push(b'"');
        let plain = are_plain(file, lines, |line| {
            text.extend_from_slice(line);
            text.extend_from_slice(b"\\n");
        });
        text.truncate(text.len() - 2);
        text.push(b'"');
        plain
    } else {
        let mut all: Vec<Cow<'_, str>> = Vec::new();
        let plain = are_plain(file, lines, |line| all.push(escaped(line)));
        serde_json::to_writer(&mut *text, &all.join("\n"))?;
        plain
    };
    text.push(b'}');
    if !plain {
        text.truncate(before);
    }
    Ok(plain)
}

/// Whether lines are the same in a record and in JSON, but for their newlines: only
/// ASCII, without control characters, quotes and backslashes.
fn needs_no_escape(lines: &[u8]) -> bool {
    let wrong = |block: u8x16| {
        let control = block.min(u8x16::splat(0x1f)).simd_eq(block);
        let others = control & !block.simd_eq(u8x16::splat(b'\n'))
            | block.max(u8x16::splat(0x7f)).simd_eq(block)
            | block.simd_eq(u8x16::splat(b'"'))
            | block.simd_eq(u8x16::splat(b'\\'));
        others.to_bitmask() != 0
    };
    let (blocks, rest) = lines.as_chunks();
    let mut last = [b' '; 16];
    last[..rest.len()].copy_from_slice(rest);
    !blocks.iter().chain([&last]).any(|block| wrong(u8x16::new(*block)))
}

/// So many edits are made text of in one go, by each of several threads.
const AT_ONCE: usize = 8;

/// Writes what a record holds of the edits of a plan: the elements of its array
/// `edits`. Many lines are neither copied for it nor gone through one by one.
///
/// # Errors
/// The writer's.
pub fn write_edits(edits: &[Edit], to: &mut (dyn Write + Send)) -> std::io::Result<()> {
    let parts = edits.chunk_by(|one, other| holds_many(one) == holds_many(other));
    let parts: Vec<&[Edit]> = parts
        .flat_map(|part| part.chunks(if holds_many(&part[0]) { AT_ONCE } else { part.len() }))
        .collect();
    let made = |some: &[&[Edit]]| -> std::io::Result<Vec<Vec<u8>>> {
        some.par_iter().map(|part| text_of(part)).collect()
    };
    let mut first = true;
    let mut write = |texts: Vec<Vec<u8>>| {
        texts.iter().try_for_each(|text| {
            // Each entry begins with a comma.
            to.write_all(&text[usize::from(std::mem::take(&mut first))..])
        })
    };
    let mut waiting = Vec::new();
    for some in parts.chunks(AT_ONCE) {
        let (written, made) = rayon::join(|| write(std::mem::take(&mut waiting)), || made(some));
        written?;
        waiting = made?;
    }
    write(waiting)
}

/// Whether an edit is of many lines.
fn holds_many(edit: &Edit) -> bool {
    edit.after.as_ref().is_some_and(|lines| lines.contains(&b'\n'))
}

fn text_of(edits: &[Edit]) -> std::io::Result<Vec<u8>> {
    let (mut text, mut singles) = (Vec::new(), Vec::new());
    for edit in edits {
        match &edit.after {
            Some(lines) if holds_many(edit) => {
                push_singles(&mut singles, &mut text)?;
                if !push_run(edit.file, edit.line, lines, &mut text)? {
                    singles.extend(RecordedEdit::lines(edit));
                }
            }
            _ => singles.extend(RecordedEdit::lines(edit)),
        }
    }
    push_singles(&mut singles, &mut text)?;
    Ok(text)
}

#[cfg(test)]
pub(crate) mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::record::Told;

    /// What the record of a long change holds of edits, as it is written and read.
    pub(crate) fn kept(edits: &[Edit]) -> (String, Told) {
        let mut written = Vec::new();
        write_edits(edits, &mut written).unwrap();
        let written = String::from_utf8(written).unwrap();
        let rest = serde_json::to_string(&Told::default()).unwrap();
        let whole = rest.replace("\"edits\":[]", &format!("\"edits\":[{written}]"));
        (written, serde_json::from_str(&whole).unwrap())
    }

    fn edit(file: File, before: Option<&[u8]>, after: Option<&[u8]>) -> Edit {
        let line = |text: Option<&[u8]>| text.map(Into::into);
        Edit { file, line: 7, before: line(before), after: line(after), range: 0..0 }
    }

    fn one_by_one(edits: &[Edit]) -> Vec<RecordedEdit> {
        edits.iter().flat_map(RecordedEdit::lines).collect()
    }

    #[test]
    fn a_long_record_is_written_in_pieces() {
        let many = |from: usize| {
            let names: Vec<String> = (from..from + 9000).map(|at| format!("crew{at}")).collect();
            edit(File::Subuid, None, Some((names.join(":1:2\n") + ":1:2").as_bytes()))
        };
        let crew = Some(&b"crew:x:7:a"[..]);
        let mut edits: Vec<Edit> = (0..8).map(|at| many(at * 9000)).collect();
        assert!(
            edits.iter().map(|edit| edit.after.as_ref().unwrap().len()).sum::<usize>() > 1 << 19
        );
        for (at, before, after) in
            [(0, crew, None), (4, None, crew), (9, crew, Some(&b"crew:x:7:"[..]))]
        {
            edits.insert(at.min(edits.len()), edit(File::Group, before, after));
            assert_eq!(kept(&edits).1.edits, one_by_one(&edits));
        }
        assert_eq!(kept(&edits).0.matches("\"adds\"").count(), 8);
        assert_eq!(kept(&[]).0, "");
    }

    proptest! {
        #[test]
        fn lines_are_kept_whatever_is_in_them(
            lines in proptest::collection::vec(
                prop_oneof![
                    "[a-c]{1,3}:[!x*]:[a-z0-9:]{0,40}",
                    "[ -~]{0,40}",
                    "[a-c]:\\$6\\$salt\\$[a-z]{9}:[0-9]{1,3}::::::",
                    "[aé\\\\\"\\x00-\\x1f\\x7f]{0,40}",
                ],
                1..6,
            ),
            bytes in proptest::collection::vec(any::<u8>(), 0..40),
        ) {
            for file in File::ALL {
                for last in [&b""[..], &bytes] {
                    let text = [lines.join("\n").as_bytes(), last].concat();
                    let edits = [edit(file, None, Some(&text))];
                    let (written, told) = kept(&edits);
                    prop_assert!(!written.contains("$salt$") || !file.is_secret());
                    prop_assert_eq!(told.edits, one_by_one(&edits));
                }
            }
        }
    }
}

//! Entries and changes as text, RFC 2849.

use base64ct::{Base64, Encoding};
use bstr::ByteSlice;

use super::changes::Change;
use super::{Changes, Entry};

/// No line is longer, but for what continues it.
const LONGEST: usize = 76;

/// Entries one after the other.
pub fn entries_text(all: &[Entry]) -> Vec<u8> {
    use rayon::prelude::*;
    /// What is worth a thread of its own.
    const MANY: usize = 4096;
    let pieces: Vec<Vec<u8>> = all
        .par_chunks(MANY)
        .map(|entries| {
            let mut text = Vec::with_capacity(entries.len() * 400);
            for entry in entries {
                text.push(b'\n');
                line(&mut text, "dn", &entry.dn);
                attributes(&mut text, entry);
            }
            text
        })
        .collect();
    [&b"version: 1\n"[..]]
        .into_iter()
        .chain(pieces.iter().map(|piece| &piece[..]))
        .collect::<Vec<_>>()
        .concat()
}

/// Changes one after the other, as they are to be made.
pub fn changes_text(changes: &Changes) -> Vec<u8> {
    let mut text = b"version: 1\n".to_vec();
    for change in &changes.all {
        text.push(b'\n');
        match change {
            Change::Add(entry) => {
                line(&mut text, "dn", &entry.dn);
                line(&mut text, "changetype", b"add");
                attributes(&mut text, entry);
            }
            Change::Delete(dn) => {
                line(&mut text, "dn", dn);
                line(&mut text, "changetype", b"delete");
            }
            Change::Rename { dn, kind, name } => {
                line(&mut text, "dn", dn);
                line(&mut text, "changetype", b"modrdn");
                let mut step = format!("{kind}=").into_bytes();
                super::name::escape_onto(&mut step, name);
                line(&mut text, "newrdn", &step);
                line(&mut text, "deleteoldrdn", b"1");
            }
            Change::Modify { dn, replaced, classes } => {
                line(&mut text, "dn", dn);
                line(&mut text, "changetype", b"modify");
                if !classes.is_empty() {
                    line(&mut text, "add", b"objectClass");
                    classes.iter().for_each(|class| line(&mut text, "objectClass", class));
                    text.extend_from_slice(b"-\n");
                }
                for (name, values) in replaced {
                    // With no value behind it an attribute goes, and it is no error if there is none.
                    line(&mut text, "replace", name.as_bytes());
                    values.iter().for_each(|value| line(&mut text, name, value));
                    text.extend_from_slice(b"-\n");
                }
            }
        }
    }
    text
}

fn attributes(text: &mut Vec<u8>, entry: &Entry) {
    for (name, values) in &entry.attributes {
        values.iter().for_each(|value| line(text, name, value));
    }
}

/// A line; what is no plain text is written as base64, and what is long over several lines.
fn line(text: &mut Vec<u8>, name: &str, value: &[u8]) {
    let from = text.len();
    text.extend_from_slice(name.as_bytes());
    match is_plain(value) {
        true => {
            text.extend_from_slice(b": ");
            text.extend_from_slice(value);
        }
        false => {
            text.extend_from_slice(b":: ");
            text.extend_from_slice(Base64::encode_string(value).as_bytes());
        }
    }
    if text.len() - from > LONGEST {
        let long = text.split_off(from);
        text.extend_from_slice(&long[..LONGEST]);
        for piece in long[LONGEST..].chunks(LONGEST - 1) {
            text.extend_from_slice(b"\n ");
            text.extend_from_slice(piece);
        }
    }
    text.push(b'\n');
}

/// Whether a value can stand as it is: a SAFE-STRING.
fn is_plain(value: &[u8]) -> bool {
    let is_safe = |byte: &u8| byte.is_ascii() && !matches!(byte, 0 | b'\n' | b'\r');
    value.iter().all(is_safe)
        && !matches!(value.first(), Some(b' ' | b':' | b'<'))
        && !value.ends_with_str(" ")
}

//! Entries and changes as text, RFC 2849.

use base64ct::{Base64, Encoding};
use bstr::ByteSlice;

use super::changes::Change;
use super::entry::{Folded, group_classes, user_attributes};
use super::name::below;
use super::{Changes, Directory, Entry};
use crate::table::{Passwd, Shadow};

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

/// Users, each with the group of its own where `owns` says so, as text: the same as their entries
/// come to, made side by side. Returns how many entries that are, and what was left out.
pub fn users_text<'b>(
    users: &[Passwd<'b>],
    directory: &Directory,
    hashes: bool,
    shadow_of: &(dyn Fn(&'b [u8]) -> Option<Shadow<'b>> + Sync),
    owns: &(dyn Fn(&Passwd<'b>) -> bool + Sync),
) -> (Vec<u8>, usize, Vec<String>) {
    use rayon::prelude::*;
    /// What is worth a thread of its own.
    const MANY: usize = 2048;
    let mut folded = Folded::default();
    let mut left_out = Vec::new();
    let takes = |user: &Passwd<'b>| folded.takes("user", user.name, &mut left_out);
    let users: Vec<Passwd<'b>> = users.iter().copied().filter(takes).collect();
    let piece = |users: &[Passwd<'b>]| {
        let mut text = Vec::with_capacity(users.len() * 600);
        let (mut count, mut left_out) = (0, Vec::new());
        for user in users {
            let from = text.len();
            text.push(b'\n');
            line(&mut text, "dn", &below("uid", user.name, &directory.people));
            let put = |name: &'static str, value: &[u8]| line(&mut text, name, value);
            if let Err(told) = user_attributes(user, shadow_of(user.name), hashes, put) {
                text.truncate(from);
                left_out.push(told);
                continue;
            }
            count += 1;
            if owns(user) {
                text.push(b'\n');
                line(&mut text, "dn", &below("cn", user.name, &directory.groups));
                for class in group_classes(directory.schema) {
                    line(&mut text, "objectClass", class.as_bytes());
                }
                line(&mut text, "cn", user.name);
                line(&mut text, "gidNumber", user.gid);
                count += 1;
            }
        }
        (text, count, left_out)
    };
    let pieces: Vec<(Vec<u8>, usize, Vec<String>)> = users.par_chunks(MANY).map(piece).collect();
    let mut text = Vec::with_capacity(pieces.iter().map(|(text, ..)| text.len()).sum());
    let mut all = 0;
    for (piece, count, told) in pieces {
        text.extend_from_slice(&piece);
        all += count;
        left_out.extend(told);
    }
    (text, all, left_out)
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

//! SSH keys: a list of them, and one in a line.

use bstr::BString;
use nest_core::sign_in::KeyFound;
use nest_core::table::Passwd;
use nest_core::words::{counted, list};
use serde_json::{Value, json};

use super::columns::{Columns, Rows};
use super::{JsonTexts, remark, table, visible};
use crate::cli::Global;

/// A key of the list.
pub struct Listed<'a> {
    /// Whose it is.
    pub user: Passwd<'a>,
    /// The key.
    pub found: KeyFound,
    /// Who else has it.
    pub others: Vec<BString>,
}

/// The columns of a list of keys.
pub const COLUMNS: Columns<8> = columns! {
    "name": "whose key it is",
    "type": "algorithm, as the key's line names it",
    "bits": "length in bits, where the algorithm leaves that open",
    "fingerprint": "SHA256 fingerprint",
    "comment": "comment of the key's line",
    "options": "options of the key's line",
    "place": "file and line",
    "fault": "what keeps the key from working; empty for nothing",
};

/// Prints them: a table on a terminal, else rows. `all` is how many there are.
pub fn print(global: &Global, rows: &Rows, listed: &[Listed<'_>], all: usize) {
    if rows.are_wanted(global) {
        let row = |one: &Listed<'_>| {
            let key = &one.found.key;
            let bits = key.bits.map(|bits| bits.to_string()).unwrap_or_default();
            [
                visible(one.user.name),
                visible(key.algorithm.as_bytes()),
                bits,
                key.fingerprint.clone(),
                visible(key.comment.as_bytes()),
                visible(key.options.as_bytes()),
                place(&one.found),
                visible(one.found.fault.as_deref().unwrap_or_default().as_bytes()),
            ]
        };
        rows.print(global, &COLUMNS, listed.iter().map(row));
        return;
    }
    if !listed.is_empty() {
        let titles = ["name", "type", "fingerprint", "comment", "remarks"];
        let row = |one: &Listed<'_>| {
            let key = &one.found.key;
            [
                visible(one.user.name),
                kind(&one.found),
                key.fingerprint.clone(),
                visible(key.comment.as_bytes()),
                remarks(&one.found, &one.others).join("; "),
            ]
        };
        outln!("{}", table(titles, listed.iter().map(row)));
        outln!();
    }
    remark(&format!("{} of {all}", counted(listed.len(), "key", "keys")));
}

/// What is to be said of a key besides its name.
fn remarks(found: &KeyFound, others: &[BString]) -> Vec<String> {
    let key = &found.key;
    let fault = found.fault.as_ref().map(|fault| format!("does not work: {fault}"));
    let weak = key.weakness().map(|weak| format!("weak: it {weak}"));
    let options = Some(&key.options).filter(|options| !options.is_empty());
    let others = (!others.is_empty())
        .then(|| format!("{} too", list(others.iter().map(|name| visible(name)))));
    let all = [fault, weak, others, options.cloned()];
    all.into_iter().flatten().map(|remark| visible(remark.as_bytes())).collect()
}

fn place(found: &KeyFound) -> String {
    visible(format!("{}:{}", found.file, found.key.line).as_bytes())
}

/// `ed25519`, `RSA 3072`
fn kind(found: &KeyFound) -> String {
    let key = &found.key;
    let name = match key.algorithm.as_str() {
        "ssh-rsa" => "RSA",
        "ssh-dss" => "DSA",
        other => other.strip_prefix("ssh-").unwrap_or(other),
    };
    let bits = key.bits.map(|bits| format!(" {bits}")).unwrap_or_default();
    visible(format!("{name}{bits}").as_bytes())
}

/// A key in a line: type, fingerprint, comment, and what else is to be said of it.
pub fn line(found: &KeyFound) -> String {
    let comment = visible(found.key.comment.as_bytes());
    let mut parts = vec![kind(found), found.key.fingerprint.clone()];
    parts.extend(Some(comment).filter(|comment| !comment.is_empty()));
    let remarks = remarks(found, &[]);
    let remarks =
        if remarks.is_empty() { String::new() } else { format!("; {}", remarks.join("; ")) };
    format!("{}, {}{remarks}", parts.join(" "), place(found))
}

/// A key of the list for machines.
pub fn to_json(one: &Listed<'_>) -> Value {
    let texts = JsonTexts::default();
    let mut document = key_to_json(&one.found);
    document["name"] = json!(texts.text(one.user.name));
    document["others"] = json!(one.others.iter().map(|name| texts.text(name)).collect::<Vec<_>>());
    texts.mark(document)
}

/// A key for machines.
pub fn key_to_json(found: &KeyFound) -> Value {
    let key = &found.key;
    let texts = JsonTexts::default();
    let document = json!({
        "algorithm": texts.text(key.algorithm.as_bytes()),
        "bits": key.bits,
        "fingerprint": key.fingerprint,
        "comment": texts.text(key.comment.as_bytes()),
        "options": texts.text(key.options.as_bytes()),
        "file": texts.text(&found.file),
        "line": key.line,
        "works": found.works(),
        "fault": found.fault,
        "weakness": key.weakness(),
    });
    texts.mark(document)
}

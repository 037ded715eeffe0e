//! Where an account lives on.

use bstr::BString;
use nest_core::account::ShownLine;
use nest_core::surroundings::Mention;
use nest_core::trace::{Amount, OfOwner, TraceReport};
use nest_core::value::bytes_in_words;
use nest_core::words::{agree, counted};
use nest_host::walk::Unseen;
use serde_json::{Value, json};

use super::user::print_lines;
use super::{JsonTexts, for_a_person, style, visible, width};
use crate::cli::Global;

/// More directories than this are only counted on a terminal.
const MOST_DIRECTORIES: usize = 20;

/// Places that name a user.
pub struct Mentions {
    /// Lines of the account files.
    pub lines: Vec<ShownLine>,
    /// Lines of configuration.
    pub places: Vec<Mention>,
    /// Files that bear the name.
    pub files: Vec<String>,
    /// What goes on by itself.
    pub running: Vec<String>,
}

/// What was found.
pub struct ShownTrace {
    /// What was looked for.
    pub title: String,
    /// What the files say.
    pub report: TraceReport,
    /// What names it.
    pub mentions: Option<Mentions>,
    /// What was not seen.
    pub unseen: Unseen,
    /// Every path, where they are wanted.
    pub files: Vec<BString>,
    /// Whether orphans were looked for.
    pub orphans: bool,
}

/// Prints it: totals, or with `all` every path.
pub fn print(global: &Global, shown: &ShownTrace, all: bool) {
    if all && !for_a_person(global) {
        for path in &shown.files {
            outln!("{}", visible(path));
        }
        tell_unseen(&shown.unseen);
        return;
    }
    let heading = style::HEADING;
    let report = &shown.report;
    outln!("{heading}{}{heading:#}   {}", shown.title, in_words(report.total));
    if !report.owners.is_empty() {
        outln!();
        owners(&report.owners);
    }
    if !report.contained.is_empty() {
        outln!("\n  not orphans: in live subordinate ranges");
        owners(&report.contained);
    }
    if all {
        outln!();
        shown.files.iter().for_each(|path| outln!("  {}", visible(path)));
    } else if !report.directories.is_empty() {
        outln!();
        directories(global, &report.directories);
    }
    if let Some(mentions) = &shown.mentions {
        print_mentions(mentions);
    }
    tell_unseen(&shown.unseen);
}

fn in_words(amount: Amount) -> String {
    let files = counted(amount.files, "file", "files");
    format!("{files}, {}", bytes_in_words(amount.bytes))
}

fn noun(amount: Amount) -> &'static str {
    agree(&amount.files, "file", "files")
}

fn owners(all: &[OfOwner]) {
    let quiet = style::QUIET;
    let label = |of: &OfOwner| format!("{} {}", of.what, of.id);
    let wide = all.iter().map(|of| width(&label(of))).max().unwrap_or(0);
    for of in all {
        let behind = visible(of.behind.to_string().as_bytes());
        outln!(
            "  {:wide$}   {:>9} {:5}   {:>12}   {quiet}{behind}{quiet:#}",
            label(of),
            of.amount.files,
            noun(of.amount),
            bytes_in_words(of.amount.bytes)
        );
    }
}

fn directories(global: &Global, all: &[(BString, Amount)]) {
    let most =
        if for_a_person(global) && global.verbose == 0 { MOST_DIRECTORIES } else { all.len() };
    for (directory, amount) in all.iter().take(most) {
        outln!(
            "  {:>9} {:5}   {:>12}   {}",
            amount.files,
            noun(*amount),
            bytes_in_words(amount.bytes),
            visible(directory)
        );
    }
    if all.len() > most {
        let more = counted(all.len() - most, "more directory", "more directories");
        outln!("  and {more}: --files lists every path, --verbose every directory");
    }
}

fn print_mentions(mentions: &Mentions) {
    if !mentions.lines.is_empty() {
        outln!();
        print_lines(&mentions.lines);
    }
    let named = mentions.places.iter().map(|place| format!("{}:{}", place.file, place.line));
    let named = named.chain(mentions.files.iter().map(|file| format!("{file} bears the name")));
    let named: Vec<String> = named.chain(mentions.running.iter().cloned()).collect();
    if !named.is_empty() {
        outln!("\n  named elsewhere");
        named.iter().for_each(|place| outln!("  {}", visible(place.as_bytes())));
    }
}

/// What was not seen goes to stderr: it is trouble, not a finding.
pub fn tell_unseen(unseen: &Unseen) {
    if !unseen.left_out.is_empty() {
        let left_out = unseen.left_out.iter();
        let left_out: Vec<String> =
            left_out.map(|(path, kind)| format!("{} ({kind})", visible(path))).collect();
        errln!("not looked into: {}", left_out.join(", "));
    }
    for (path, why) in &unseen.unread {
        errln!("could not be read: {} ({why})", visible(path));
    }
}

/// What was found, for machines.
pub fn to_json(shown: &ShownTrace, all: bool) -> Value {
    let texts = JsonTexts::default();
    let owners = |all: &[OfOwner]| -> Vec<Value> {
        all.iter()
            .map(|of| {
                json!({
                    "what": of.what.to_string(),
                    "id": of.id,
                    "behind": texts.text(of.behind.to_string().as_bytes()),
                    "files": of.amount.files,
                    "bytes": of.amount.bytes,
                })
            })
            .collect()
    };
    let directories: Vec<Value> = shown
        .report
        .directories
        .iter()
        .map(|(path, amount)| {
            json!({"path": texts.text(path), "files": amount.files, "bytes": amount.bytes})
        })
        .collect();
    let unread: Vec<Value> = shown
        .unseen
        .unread
        .iter()
        .map(|(path, why)| json!({"path": texts.text(path), "why": why.to_string()}))
        .collect();
    let left_out: Vec<Value> = shown
        .unseen
        .left_out
        .iter()
        .map(|(path, kind)| json!({"path": texts.text(path), "kind": kind}))
        .collect();
    let mut document = json!({
        "looked_for": if shown.orphans { "orphans" } else { &shown.title },
        "files": shown.report.total.files,
        "bytes": shown.report.total.bytes,
        "owners": owners(&shown.report.owners),
        "in_ranges": owners(&shown.report.contained),
        "directories": directories,
        "unread": unread,
        "left_out": left_out,
    });
    if all {
        let paths: Vec<String> = shown.files.iter().map(|path| texts.text(path)).collect();
        document["paths"] = json!(paths);
    }
    if let Some(mentions) = &shown.mentions {
        let mut named: Vec<String> = mentions
            .lines
            .iter()
            .map(|line| format!("{}:{}", line.file.path(), line.line))
            .collect();
        named.extend(mentions.places.iter().map(|place| format!("{}:{}", place.file, place.line)));
        named.extend(mentions.files.iter().cloned());
        named.extend(mentions.running.iter().cloned());
        document["named_in"] = json!(named);
    }
    texts.mark(document)
}

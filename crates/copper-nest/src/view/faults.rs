//! What is wrong with a table, all of it.

use std::collections::HashMap;
use std::io::IsTerminal;

use nest_core::roster::Fault;
use nest_core::words::counted;
use serde_json::json;

use super::{style, visible, width};

/// Prints faults on stderr.
pub fn print(faults: &[Fault], word: &str) {
    let text = in_words(faults, word);
    if !text.is_empty() {
        errln!("{}", text.trim_end_matches('\n'));
    }
}

/// Prints them on stdout, where they are what was asked for.
pub fn tell(faults: &[Fault], word: &str) {
    outln!("{}", in_words(faults, word).trim_end_matches('\n'));
}

/// File by file, the place, the column, what is wrong, and below it what to put instead, after
/// this word.
fn in_words(faults: &[Fault], word: &str) -> String {
    let place = |fault: &Fault| match &fault.cell {
        Some(cell) => cell.clone(),
        None => format!("{}:{}", fault.line, fault.at),
    };
    let column = |fault: &Fault| fault.column.map(|column| column.to_string()).unwrap_or_default();
    let places = faults.iter().map(|fault| place(fault).len()).max().unwrap_or(0);
    let columns = faults.iter().map(|fault| width(&column(fault))).max().unwrap_or(0);
    let (heading, quiet) = (style::HEADING, style::QUIET);
    let mut file = None;
    // In one piece: there may be very many.
    let mut text = String::new();
    let mut times: HashMap<_, usize> = HashMap::new();
    let what = |fault: &Fault| (fault.file.clone(), fault.column, fault.message.clone());
    for fault in faults {
        *times.entry(what(fault)).or_default() += 1;
    }
    for fault in faults {
        // What is wrong with several rows alike is told at the first of them.
        let Some(alike) = times.get_mut(&what(fault)).map(std::mem::take) else { continue };
        if alike == 0 {
            continue;
        }
        if file != Some(&fault.file) {
            file = Some(&fault.file);
            text += &format!("\n{heading}{}{heading:#}\n", visible(fault.file.as_bytes()));
        }
        let mut message = visible(fault.message.as_bytes());
        if alike > 1 {
            message += &format!(" (in {} too)", counted(alike - 1, "other row", "other rows"));
        }
        let mut before = format!("  {:>places$}  {:columns$}  ", place(fault), column(fault));
        for line in broken(&message, width(&before)) {
            text += &format!("{before}{line}\n");
            before = " ".repeat(width(&before));
        }
        if !fault.instead.is_empty() {
            let instead = visible(fault.instead.as_bytes());
            text += &format!("{}{quiet}{word}{quiet:#} {instead}\n", " ".repeat(width(&before)));
        }
    }
    text
}

/// A message in lines that a terminal holds beside what stands before them.
fn broken(message: &str, before: usize) -> Vec<String> {
    const EASE: usize = 120;
    match std::io::stderr().is_terminal() {
        true => super::wrap(message, EASE.saturating_sub(before).max(40)),
        false => vec![message.to_owned()],
    }
}

/// Faults for machines.
pub fn to_json(faults: &[Fault]) -> serde_json::Value {
    let one = |fault: &Fault| {
        json!({
            "file": fault.file,
            "line": fault.line,
            "character": fault.at,
            "cell": fault.cell,
            "column": fault.column.map(|column| column.to_string()),
            "message": fault.message,
            "instead": fault.instead,
        })
    };
    faults.iter().map(one).collect()
}

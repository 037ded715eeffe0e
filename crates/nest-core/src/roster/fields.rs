//! Where the fields of a text of CSV are: what stands between them, and their quotes.

use memchr::{memchr, memchr2};

use super::source::Wrong;
use super::{Column, RosterSource};

/// What may stand between the values.
const SEPARATORS: [u8; 3] = [b',', b';', b'\t'];

/// What stands between the values of a text, and where its header begins: as a line `sep=;` says,
/// as programs for spreadsheets write it, or else by what makes most of the header known.
pub(super) fn separator_of(text: &[u8]) -> (u8, usize) {
    let line_at = |start: usize| {
        let rest = &text[start..];
        &rest[..memchr(b'\n', rest).unwrap_or(rest.len())]
    };
    let blank = text.iter().take_while(|byte| matches!(byte, b'\r' | b'\n')).count();
    let first = line_at(blank);
    let said = first.trim_ascii().get(..4).filter(|start| start.eq_ignore_ascii_case(b"sep="));
    if said.is_some()
        && let Some(separator) = first.strip_suffix(b"\r").unwrap_or(first).get(4)
    {
        return (*separator, (blank + first.len() + 1).min(text.len()));
    }
    let header = String::from_utf8_lossy(first);
    let known = |separator: &u8| {
        let titles = header.split(char::from(*separator));
        let known = titles.filter(|title| {
            let title = title.trim().trim_matches('"');
            Column::of_title(title).is_some() || ["kind", "id"].contains(&title)
        });
        known.count()
    };
    // Of those that are as good as each other the first.
    let best = SEPARATORS.iter().rev().max_by_key(|separator| known(separator));
    (best.copied().unwrap_or(b','), 0)
}

/// Where a field of the record that begins at `start` begins.
pub(super) fn field_at(source: &RosterSource, start: usize, field: usize) -> usize {
    let (text, separator) = (source.text(), source.separator());
    let mut at = start;
    for _ in 0..field {
        at = end_of_field(text, at, separator);
        match text.get(at) {
            Some(byte) if *byte == separator => at += 1,
            _ => return start,
        }
    }
    at
}

/// Which field of the record that begins at `start` a place is in, counted from 0.
pub(super) fn field_of(source: &RosterSource, start: usize, place: usize) -> usize {
    let (text, separator) = (source.text(), source.separator());
    let (mut at, mut field) = (start, 0);
    loop {
        at = end_of_field(text, at, separator);
        if at >= place || text.get(at) != Some(&separator) {
            return field;
        }
        at += 1;
        field += 1;
    }
}

/// Where a well-formed field ends: at a separator, a line end, or the end.
fn end_of_field(text: &[u8], mut at: usize, separator: u8) -> usize {
    if text.get(at) == Some(&b'"') {
        at += 1;
        while let Some(found) = memchr(b'"', &text[at..]) {
            at += found + 1;
            if text.get(at) != Some(&b'"') {
                break;
            }
            at += 1;
        }
    }
    let rest = &text[at..];
    let end = memchr2(separator, b'\n', rest).unwrap_or(rest.len());
    at + end - usize::from(end > 0 && rest[end - 1] == b'\r' && rest.get(end) != Some(&separator))
}

/// The first quote that stands where none may, or is never closed.
pub(super) fn check_quotes(source: &RosterSource) -> Option<(usize, Wrong)> {
    let (text, separator) = (source.text(), source.separator());
    memchr(b'"', text)?;
    let mut at = source.start();
    while at < text.len() {
        if text[at] == b'"' {
            let opened = at;
            at += 1;
            loop {
                let Some(found) = memchr(b'"', &text[at..]) else {
                    return Some((
                        opened,
                        Wrong::new(
                            "a quote is opened here and never closed",
                            "a closing quote; a quote inside a value is doubled",
                        ),
                    ));
                };
                at += found + 1;
                if text.get(at) != Some(&b'"') {
                    break;
                }
                at += 1;
            }
            let after = text.get(at);
            if after != Some(&separator) && !matches!(after, None | Some(b'\r' | b'\n')) {
                let instead = "a separator; a quote inside a value is doubled";
                return Some((at, Wrong::new("text follows a closing quote", instead)));
            }
        } else {
            let end = end_of_field(text, at, separator);
            if let Some(found) = memchr(b'"', &text[at..end]) {
                let instead = "quotes around the whole value, and the one in it doubled";
                let message = "a quote stands inside a value that does not begin with one";
                return Some((at + found, Wrong::new(message, instead)));
            }
            at = end;
        }
        at += usize::from(text.get(at) == Some(&b'\r'));
        at += 1;
    }
    None
}

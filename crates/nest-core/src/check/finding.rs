//! One finding.

use std::ops::Range;

use bstr::{BString, ByteSlice};

use super::{Command, Remedy, Rule};
use crate::secret::{HIDDEN, NOT_SHOWN, has_lost_parts, hidden_words, shown, told};
use crate::table::{Column, File, Line, Lines};
use crate::value::{Severity, escape};

/// What one rule found on one line.
#[derive(Debug, Clone)]
pub struct Finding {
    /// The rule.
    pub rule: &'static Rule,
    /// How bad it is: the rule's, unless the policy sets another.
    pub severity: Severity,
    /// The file.
    pub file: File,
    /// The line, counted from 1; 0 for the file as a whole.
    pub line: usize,
    /// A path in the tree that it is about, in the place of a line.
    pub place: Option<BString>,
    /// The line as it may be shown: without hashes.
    pub text: BString,
    /// The faulty part.
    pub mark: Mark,
    /// What it is about: a user's, group's or owner's name.
    pub subject: BString,
    /// What is wrong, in a sentence.
    pub message: String,
    /// What to do about it: the plainest way first.
    pub remedies: Vec<Remedy>,
    /// Other lines that it has to do with.
    pub related: Vec<Related>,
}

/// Another line that a finding has to do with.
#[derive(Debug, Clone)]
pub struct Related {
    /// The file.
    pub file: File,
    /// The line, counted from 1.
    pub line: usize,
    /// The text, without hashes.
    pub text: BString,
}

/// The faulty part of a line.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Mark {
    /// All of it.
    Line,
    /// A field.
    Field(Column),
    /// A name in the list that a field holds.
    Member(Column, BString),
}

impl<C: Into<Column>> From<C> for Mark {
    fn from(column: C) -> Self {
        Mark::Field(column.into())
    }
}

/// A rule that could not run, or not wholly.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Skipped {
    /// The rule.
    pub rule: &'static str,
    /// Why.
    pub why: String,
}

impl Finding {
    /// About a file as a whole.
    pub(super) fn about(
        rule: &'static Rule,
        file: File,
        message: String,
        remedies: Vec<Remedy>,
    ) -> Self {
        Finding {
            rule,
            severity: rule.severity,
            file,
            line: 0,
            place: None,
            text: "".into(),
            mark: Mark::Line,
            subject: file.path().into(),
            message,
            remedies,
            related: Vec::new(),
        }
    }

    /// What tells it from other findings, and stays when lines are added elsewhere:
    /// rule, file or path, subject and faulty part.
    pub fn key(&self) -> String {
        let place = self.place.as_ref().map_or(self.file.path().into(), ToString::to_string);
        let part = self.text[self.marked()].as_bstr();
        escape(format!("{} {place} {} {part}", self.rule.name, self.subject).as_bytes())
    }

    /// The bytes of [`Finding::text`] that are at fault.
    pub fn marked(&self) -> Range<usize> {
        let whole = 0..self.text.len();
        let (field, member) = match &self.mark {
            Mark::Line => return whole,
            Mark::Field(field) => (*field, None),
            Mark::Member(field, member) => (*field, Some(member)),
        };
        let mut start = 0;
        for (at, text) in self.text.split_str(":").enumerate() {
            if at == field.index() {
                let mut word = start;
                for entry in text.split_str(",") {
                    if member.is_some_and(|member| entry.trim_ascii_start() == member.as_slice()) {
                        let blank = entry.len() - entry.trim_ascii_start().len();
                        return word + blank..word + entry.len();
                    }
                    word += entry.len() + 1;
                }
                return start..start + text.len();
            }
            start += text.len() + 1;
        }
        whole
    }
}

/// A finding about a line, named after its first field; in brief, without what a line of text
/// has no room for.
pub(super) fn found(
    in_brief: bool,
    rule: &'static Rule,
    lines: &Lines,
    line: Line<'_>,
    mark: Mark,
    message: String,
    remedies: Vec<Remedy>,
) -> Finding {
    let number = lines.number(line.start);
    if in_brief {
        let message = message_of(lines.file(), line.bytes, message);
        return Finding { line: number, ..Finding::about(rule, lines.file(), message, Vec::new()) };
    }
    let text = shown(lines.file(), line.bytes);
    let hidden = match text == line.bytes {
        true => Vec::new(),
        false => hidden_words(lines.file(), line.bytes),
    };
    let take_out = || Remedy::take_out(lines.file(), number);
    let loses = has_lost_parts(&text) && remedies.iter().any(Remedy::alters_the_line);
    let remedies = if loses { take_out() } else { hide_in_remedies(remedies, &hidden, take_out) };
    let message = hide(message, &hidden);
    let subject = match text.trim_ascii_start().split_str(":").next() {
        Some(name) if name.contains_str(HIDDEN) || name == NOT_SHOWN.as_bytes() => {
            format!("line {number}").into()
        }
        Some(name) if name.len() <= 64 && !name.is_empty() => BString::from(name),
        _ => format!("line {number}").into(),
    };
    Finding {
        line: number,
        text,
        mark,
        subject,
        ..Finding::about(rule, lines.file(), message, remedies)
    }
}

/// A message as it may be told of a line: see [`found`].
fn message_of(file: File, line: &[u8], message: String) -> String {
    // Some lines are very long, and of most messages each word can be seen to be no hash.
    let harmless = |word: &str| {
        let word =
            word.trim_matches(|c: char| matches!(c, '.' | ':' | ',' | ';' | '"' | '(' | ')'));
        told(file, word.as_bytes()) != HIDDEN
    };
    if line.len() > message.len() * 8 && !file.is_secret() && message.split(' ').all(harmless) {
        return message;
    }
    let text = shown(file, line);
    if text == line { message } else { hide(message, &hidden_words(file, line)) }
}

/// A message without the words of a line that are hidden.
fn hide(message: String, hidden: &[&[u8]]) -> String {
    hidden.iter().fold(message, |message, word| {
        let word = escape(word);
        match message.contains(&word) {
            true => message.replace(&word, HIDDEN),
            false => message,
        }
    })
}

/// Where a way would name such a word, the line itself is named.
fn hide_in_remedies(
    remedies: Vec<Remedy>,
    hidden: &[&[u8]],
    take_out: impl Fn() -> Vec<Remedy>,
) -> Vec<Remedy> {
    let names = |text: &[u8]| hidden.iter().any(|word| text.contains_str(word));
    let tells = |remedy: &Remedy| {
        let words = remedy.command.iter().flat_map(|command| match command {
            Command::Own(words) | Command::System(_, words) => words.as_slice(),
            Command::Repair(_) => &[],
        });
        names(remedy.when.as_bytes()) || words.into_iter().any(|word| names(word))
    };
    match hidden.is_empty() || !remedies.iter().any(tells) {
        true => remedies,
        false => take_out(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::table::{GroupField, PasswdField};

    #[test]
    fn the_faulty_part_is_found_in_the_shown_line() {
        let finding = |mark| Finding {
            text: "pilots:x:210:odalys, tavis".into(),
            mark,
            ..Finding::about(super::super::RULES[0], File::Group, String::new(), Vec::new())
        };
        assert_eq!(finding(Mark::Field(GroupField::Gid.into())).marked(), 9..12);
        assert_eq!(
            finding(Mark::Member(GroupField::Members.into(), "tavis".into())).marked(),
            21..26
        );
        assert_eq!(
            finding(Mark::Member(GroupField::Members.into(), "none".into())).marked(),
            13..26
        );
        assert_eq!(finding(Mark::Field(PasswdField::Shell.into())).marked(), 0..26);
    }
}

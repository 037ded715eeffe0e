//! One finding.

use std::ops::Range;

use bstr::{BString, ByteSlice};

use super::{Remedy, Rule};
use crate::table::{Column, File};
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

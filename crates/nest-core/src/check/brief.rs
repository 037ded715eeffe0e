//! Findings in brief: what a line of text needs of each. They may be millions, and what else
//! there is to say of them would fill the memory.

use std::ops::Range;

use rayon::prelude::*;

use super::{Finding, RULES, Rule};
use crate::table::File;
use crate::value::Severity;

/// A finding as one line of text has it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BriefFinding<'b> {
    /// The rule.
    pub rule: &'static Rule,
    /// How bad it is.
    pub severity: Severity,
    /// The file.
    pub file: File,
    /// The line, counted from 1; 0 for the file as a whole.
    pub line: usize,
    /// What is wrong, in a sentence: its beginning, its middle and its end.
    pub message: [&'b str; 3],
}

/// Findings in brief, in the order of files and lines once they are [`BriefFindings::sorted`].
#[derive(Debug, Default)]
pub struct BriefFindings {
    entries: Vec<Entry>,
    /// The messages.
    parts: Vec<Part>,
    /// The part that is written to has room for this much still.
    open: bool,
}

/// One of them, in as few bytes as may be.
#[derive(Debug, Clone, Copy)]
struct Entry {
    /// The file in the lowest three bits, and the line above them.
    place: u32,
    /// Where its message begins in its part, and how long it is.
    start: u32,
    length: u32,
    part: u16,
    rule: u8,
    severity: u8,
    /// How much it has in common with its rule's first message in the part.
    begins: u8,
    ends: u8,
}

/// Messages, one after the other.
#[derive(Debug, Default)]
struct Part {
    text: String,
    /// Of each rule its first message, whole, by where it stands. The others of that rule often
    /// begin and end like it, and only what lies between is kept of them.
    models: Vec<(u8, Range<usize>)>,
}

impl Part {
    fn model(&self, rule: u8) -> &str {
        let model = self.models.iter().find(|(of, _)| *of == rule);
        model.map_or("", |(_, place)| &self.text[place.clone()])
    }
}

/// How many bytes two messages have in common at their beginnings and, of what follows, at
/// their ends; 255 of each at most.
fn in_common(model: &str, message: &str) -> (usize, usize) {
    const MOST: usize = u8::MAX as usize;
    let both = model.bytes().zip(message.bytes()).take(MOST);
    let mut begins = both.take_while(|(a, b)| a == b).count();
    while !message.is_char_boundary(begins) {
        begins -= 1;
    }
    let (a, b) = (&model.as_bytes()[begins..], &message.as_bytes()[begins..]);
    let both = a.iter().rev().zip(b.iter().rev()).take(MOST);
    let mut ends = both.take_while(|(a, b)| a == b).count();
    while !message.is_char_boundary(message.len() - ends) {
        ends -= 1;
    }
    (begins, ends)
}

/// A part has at most so many bytes.
const PART: usize = 1 << 22;

const SEVERITIES: [Severity; 3] = [Severity::Note, Severity::Warning, Severity::Error];

impl BriefFindings {
    /// Adds one.
    pub fn push(&mut self, finding: &Finding) {
        let full = self.parts.last().is_none_or(|part| part.text.len() > PART);
        if full || !self.open {
            self.parts.last_mut().into_iter().for_each(|part| part.text.shrink_to_fit());
            self.parts.push(Part::default());
            self.open = true;
        }
        let rule = RULES.iter().position(|rule| std::ptr::eq(*rule, finding.rule));
        let rule = rule.expect("BUG: a finding of a rule that is not in the table") as u8;
        let at = self.parts.len() - 1;
        let part = &mut self.parts[at];
        let message = finding.message.as_str();
        let (begins, ends) = in_common(part.model(rule), message);
        let own = &message[begins..message.len() - ends];
        let start = part.text.len();
        part.text.push_str(own);
        if part.models.iter().all(|(of, _)| *of != rule) {
            part.models.push((rule, start..part.text.len()));
        }
        self.entries.push(Entry {
            place: (finding.line as u32) << 3 | finding.file as u32,
            start: start as u32,
            length: own.len() as u32,
            part: at as u16,
            rule,
            severity: finding.severity as u8,
            begins: begins as u8,
            ends: ends as u8,
        });
    }

    /// Gives back the room that is not needed.
    pub fn shrink(&mut self) {
        self.entries.shrink_to_fit();
        self.parts.iter_mut().for_each(|part| part.text.shrink_to_fit());
    }

    /// Adds others after these.
    pub fn extend(&mut self, mut others: BriefFindings) {
        others.shrink();
        if self.is_empty() {
            *self = BriefFindings { open: false, ..others };
            return;
        }
        // No more room than is needed: there may be millions.
        self.entries.reserve_exact(others.entries.len());
        let before = self.parts.len() as u16;
        let moved =
            others.entries.into_iter().map(|entry| Entry { part: entry.part + before, ..entry });
        self.entries.extend(moved);
        self.parts.extend(others.parts);
        self.open = false;
    }

    /// The same, file by file and line by line; of one line in the order in which they came.
    #[must_use]
    pub fn sorted(mut self) -> Self {
        // Where its message stands says when each was found; so no room is needed to sort.
        self.entries.par_sort_unstable_by_key(|entry| {
            (entry.place & 7, entry.place >> 3, entry.part, entry.start)
        });
        self
    }

    /// Gives each the severity that `of` has for its rule.
    pub fn set_severities(&mut self, of: impl Fn(&'static Rule) -> Option<Severity>) {
        let all: Vec<Option<Severity>> = RULES.iter().map(|rule| of(rule)).collect();
        for entry in &mut self.entries {
            if let Some(severity) = all[usize::from(entry.rule)] {
                entry.severity = severity as u8;
            }
        }
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.entries.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }

    /// How many are as bad as this.
    pub fn count(&self, severity: Severity) -> usize {
        self.entries.iter().filter(|entry| entry.severity == severity as u8).count()
    }

    /// The one at a place.
    ///
    /// # Panics
    /// Where there are fewer.
    pub fn get(&self, at: usize) -> BriefFinding<'_> {
        let entry = self.entries[at];
        let (part, start) = (&self.parts[usize::from(entry.part)], entry.start as usize);
        let model = part.model(entry.rule);
        let message = [
            &model[..usize::from(entry.begins)],
            &part.text[start..start + entry.length as usize],
            &model[model.len() - usize::from(entry.ends)..],
        ];
        BriefFinding {
            rule: RULES[usize::from(entry.rule)],
            severity: SEVERITIES[usize::from(entry.severity)],
            file: File::ALL[(entry.place & 7) as usize],
            line: (entry.place >> 3) as usize,
            message,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_message_is_what_it_was_whatever_it_has_in_common_with_others() {
        let rule = RULES[5];
        let long = "x".repeat(700);
        let told = [
            "no line for maren: none",
            "no line for tavish: none",
            "no line for märz: none",
            "no line for m\u{e5}rz: none",
            "",
            "no line for maren: none",
            "none",
            &long,
            &format!("no line {long} none"),
        ];
        let mut brief = BriefFindings::default();
        for message in told {
            brief.push(&Finding::about(rule, File::Passwd, message.into(), Vec::new()));
        }
        let all: Vec<String> = (0..brief.len()).map(|at| brief.get(at).message.concat()).collect();
        assert_eq!(all, told);
        assert_eq!(brief.get(1).message[1], "tavish");
    }

    #[test]
    fn they_come_by_file_and_line_and_of_one_line_as_they_were_found() {
        let finding = |file, line, message: &str| Finding {
            line,
            ..Finding::about(RULES[3], file, message.into(), Vec::new())
        };
        let mut brief = BriefFindings::default();
        brief.push(&finding(File::Group, 7, "third"));
        brief.push(&finding(File::Passwd, 9, "first"));
        let mut others = BriefFindings::default();
        others.push(&finding(File::Group, 7, "fourth"));
        others.push(&finding(File::Passwd, 1_000_000, "second"));
        brief.extend(others);
        let brief = brief.sorted();
        let told: Vec<String> = (0..brief.len()).map(|at| brief.get(at).message.concat()).collect();
        assert_eq!(told, ["first", "second", "third", "fourth"]);
        assert_eq!(brief.get(1).line, 1_000_000);
        assert_eq!((brief.get(0).rule, brief.get(0).file), (RULES[3], File::Passwd));
        assert_eq!(brief.count(RULES[3].severity), 4);
    }
}

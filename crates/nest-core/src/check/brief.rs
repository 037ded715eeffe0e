//! Findings in brief: what a line of text needs of each. They may be millions, and what else
//! there is to say of them would fill the memory.

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
    /// What is wrong, in a sentence.
    pub message: &'b str,
}

/// Findings in brief, in the order of files and lines once they are [`BriefFindings::sorted`].
#[derive(Debug, Default)]
pub struct BriefFindings {
    entries: Vec<Entry>,
    /// The messages, one after the other, of each part.
    texts: Vec<String>,
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
}

/// A part has at most so many bytes.
const PART: usize = 1 << 22;

const SEVERITIES: [Severity; 3] = [Severity::Note, Severity::Warning, Severity::Error];

impl BriefFindings {
    /// Adds one.
    pub fn push(&mut self, finding: &Finding) {
        let full = self.texts.last().is_none_or(|text| text.len() > PART);
        if full || !self.open {
            self.texts.last_mut().into_iter().for_each(String::shrink_to_fit);
            self.texts.push(String::new());
            self.open = true;
        }
        let part = self.texts.len() - 1;
        let text = &mut self.texts[part];
        let start = text.len() as u32;
        text.push_str(&finding.message);
        let rule = RULES.iter().position(|rule| std::ptr::eq(*rule, finding.rule));
        let rule = rule.expect("BUG: a finding of a rule that is not in the table");
        self.entries.push(Entry {
            place: (finding.line as u32) << 3 | finding.file as u32,
            start,
            length: finding.message.len() as u32,
            part: part as u16,
            rule: rule as u8,
            severity: finding.severity as u8,
        });
    }

    /// Gives back the room that is not needed.
    pub fn shrink(&mut self) {
        self.entries.shrink_to_fit();
        self.texts.iter_mut().for_each(String::shrink_to_fit);
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
        let before = self.texts.len() as u16;
        let moved =
            others.entries.into_iter().map(|entry| Entry { part: entry.part + before, ..entry });
        self.entries.extend(moved);
        self.texts.extend(others.texts);
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
        let start = entry.start as usize;
        BriefFinding {
            rule: RULES[usize::from(entry.rule)],
            severity: SEVERITIES[usize::from(entry.severity)],
            file: File::ALL[(entry.place & 7) as usize],
            line: (entry.place >> 3) as usize,
            message: &self.texts[usize::from(entry.part)][start..start + entry.length as usize],
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

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
        let told: Vec<&str> = (0..brief.len()).map(|at| brief.get(at).message).collect();
        assert_eq!(told, ["first", "second", "third", "fourth"]);
        assert_eq!(brief.get(1).line, 1_000_000);
        assert_eq!((brief.get(0).rule, brief.get(0).file), (RULES[3], File::Passwd));
        assert_eq!(brief.count(RULES[3].severity), 4);
    }
}

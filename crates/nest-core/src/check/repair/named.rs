//! Lines that are named: written anew, or taken out.

use std::collections::HashSet;

use bstr::BString;

use super::{Repairing, carries_hash, rules_that};
use crate::check::correction::fault_of;
use crate::check::{Finding, Selection, check};
use crate::refusal::{LineTrouble, Refusal, Result};
use crate::secret::has_lost_parts;
use crate::table::{File, Lines};

impl Repairing<'_> {
    /// Puts other text in the place of lines that are at fault.
    pub(super) fn set(&mut self, lines: &[(File, usize, BString)]) -> Result<()> {
        if lines.is_empty() {
            return Ok(());
        }
        let only = rules_that(|rule| rule.taken_out || rule.line_mend().is_some());
        let selection = Selection { only, files_only: true, ..Selection::default() };
        let report = check(self.context, &selection);
        let mut done = HashSet::new();
        for (file, number, text) in lines {
            let (file, number) = (*file, *number);
            let what = format!("{}:{number} was not changed", file.path());
            let refuse = |reason: LineTrouble| Refusal::new(what.clone(), reason.into());
            let all = self.context.book.lines(file);
            let count = all.map_or(0, Lines::len);
            let Some(line) =
                all.filter(|_| (1..=count).contains(&number)).map(|lines| lines.get(number - 1))
            else {
                return Err(refuse(LineTrouble::NoSuchLine { file, count }));
            };
            if let Some(fault) = fault_of(file, text) {
                return Err(refuse(LineTrouble::Unfit { file, fault }));
            }
            let found = report.findings.iter().find(|one| (one.file, one.line) == (file, number));
            if found.is_none() && line.is_record() {
                return Err(refuse(LineTrouble::NothingToSet { file, line: number })
                    .or("see what is at fault", "check"));
            }
            // A line that is no record, such as a comment, has no fault that a rule tells.
            let (rule, why) = match found {
                Some(finding) => (finding.rule.name, finding.message.trim_end_matches('.')),
                None => ("no record", ""),
            };
            let what = match done.insert((file, number)) {
                true => {
                    self.edits.put(file, number - 1, text.to_vec());
                    "writes it anew"
                }
                false => {
                    self.edits.add(file, text.to_vec());
                    "and one more line of it"
                }
            };
            let what = format!("line {number}: {what}");
            self.done.entry(file.path().into()).or_default().push((rule, what, why.to_owned()));
        }
        Ok(())
    }

    /// Takes lines out that are at fault.
    pub(super) fn take_out(&mut self, lines: &[(File, usize)]) -> Result<()> {
        let only = rules_that(|rule| rule.taken_out || rule.line_mend().is_some());
        let selection = Selection { only, files_only: true, ..Selection::default() };
        let report = check(self.context, &selection);
        for &(file, line) in lines {
            // What is mended by itself is not taken out, unless the mend would lose something.
            let here = |finding: &&Finding| {
                (finding.file, finding.line) == (file, line)
                    && (finding.rule.taken_out
                        || has_lost_parts(&finding.text)
                        || self.carries_hash(finding))
            };
            let beside = |finding: &&Finding| {
                let beside =
                    finding.related.iter().find(|one| (one.file, one.line) == (file, line));
                beside.is_some_and(|related| has_lost_parts(&related.text))
            };
            let findings = || report.findings.iter();
            let at_fault = findings().find(here).or_else(|| findings().find(beside));
            let Some(finding) = at_fault else {
                let what = format!("{}:{line} was not taken out", file.path());
                let count = self.context.book.lines(file).map_or(0, Lines::len);
                let reason = match line == 0 || line > count {
                    true => LineTrouble::NoSuchLine { file, count },
                    false => LineTrouble::LineInOrder { file, line },
                };
                return Err(Refusal::new(what, reason.into()).or("see what is at fault", "check"));
            };
            if self.edits.take_out(file, line - 1) {
                let finding = finding.clone();
                self.note(&finding, "takes the line out".to_owned());
            }
        }
        Ok(())
    }

    /// Whether the line of a finding holds a hash, which no mend may lose.
    pub(super) fn carries_hash(&self, finding: &Finding) -> bool {
        let lines = self.context.book.lines(finding.file);
        let line = finding.line.checked_sub(1).and_then(|at| lines?.iter().nth(at));
        line.is_some_and(|line| carries_hash(finding.file, line.bytes))
    }
}

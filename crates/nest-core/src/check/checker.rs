//! What a pass over the files judges by, and what it finds.

use super::brief::BriefFindings;
use super::{Finding, Mark, Prefilter, Related, Remedy, Rule, Selection, Skipped, found};
use crate::context::PlanContext;
use crate::secret::shown;
use crate::table::{File, Line, Lines};

/// A pass over the files for some rules: it runs where one of them is wanted.
pub(super) type Pass = (&'static [&'static Rule], fn(&mut Checker<'_>));

/// One pass at work.
pub(super) struct Checker<'c> {
    /// What it judges by.
    pub context: PlanContext<'c>,
    /// The lines that may be wrong; passes for rules about single lines look at no others.
    pub prefilter: &'c Prefilter,
    /// Which rules are to run.
    pub selection: &'c Selection,
    pub findings: Vec<Finding>,
    /// The findings, where they are wanted in brief; the last may still be among the others.
    pub brief: BriefFindings,
    pub skipped: Vec<Skipped>,
}

impl<'c> Checker<'c> {
    /// One that has found nothing yet.
    pub fn new(
        context: PlanContext<'c>,
        prefilter: &'c Prefilter,
        selection: &'c Selection,
    ) -> Self {
        let (findings, skipped) = (Vec::new(), Vec::new());
        let brief = BriefFindings::default();
        Checker { context, prefilter, selection, findings, brief, skipped }
    }

    /// The rule, where it is to run.
    pub fn wanted(&self, rule: &'static Rule) -> Option<&'static Rule> {
        Some(rule).filter(|rule| self.selection.wants(rule))
    }

    /// Tells of a fault in a line.
    pub fn find(
        &mut self,
        rule: &'static Rule,
        (lines, line): (&Lines, Line<'_>),
        mark: impl Into<Mark>,
        message: impl Into<String>,
        remedies: Vec<Remedy>,
    ) -> &mut Finding {
        let in_brief = self.selection.in_brief;
        let (mark, message) = (mark.into(), message.into());
        let finding = found(in_brief, rule, lines, line, mark, message, remedies);
        self.settle();
        self.findings.push_mut(finding)
    }

    /// Where findings are wanted in brief, keeps of those about lines so far only that.
    pub fn settle(&mut self) {
        if self.selection.in_brief {
            let brief = &mut self.brief;
            self.findings.retain(|finding| {
                let stays = finding.place.is_some();
                if !stays {
                    brief.push(finding);
                }
                stays
            });
        }
    }

    /// Tells of a fault in a file as a whole.
    pub fn find_about(
        &mut self,
        rule: &'static Rule,
        file: File,
        message: impl Into<String>,
        remedies: Vec<Remedy>,
    ) -> &mut Finding {
        self.settle();
        self.findings.push_mut(Finding::about(rule, file, message.into(), remedies))
    }

    /// Tells that a rule could not run, or not wholly.
    pub fn skip(&mut self, rule: &'static Rule, why: impl Into<String>) {
        self.skipped.push(Skipped { rule: rule.name, why: why.into() });
    }
}

impl Finding {
    /// Names another line that it has to do with.
    pub(super) fn relate(&mut self, lines: &Lines, line: Line<'_>) {
        let file = lines.file();
        // A line of text has no room for it, and the line may be long.
        let text = shown(file, line.bytes);
        self.related.push(Related { file, line: lines.number(line.start), text });
    }
}

//! A plan in the making: what every planner puts its edits, steps and cautions into, and
//! what it asks for numbers.

use std::collections::HashMap;
use std::sync::Arc;

use super::group_lists::{GroupLists, PendingLists};
use super::{LineEdits, retire};
use crate::allot::Allotter;
use crate::change::{Caution, Plan, Step, Subject};
use crate::context::PlanContext;
use crate::ownership::IdMapping;
use crate::retired_ids::RetiredIds;
use crate::table::{Column, File, Line, with_fields};
use crate::value::{Gid, TreePath, Uid};
use crate::windows::Windows;

/// What becomes of numbers that lose their holder by a plan that takes something back.
#[derive(Debug, Default)]
pub(crate) struct GoingNumbers {
    /// Those that nobody used are free again.
    pub free_if_unused: bool,
    /// Whose some of them were before, and are again.
    pub earlier: RetiredIds,
}

/// A plan that is not finished yet.
pub(crate) struct PlanBuilder<'a> {
    /// What the planner goes by.
    pub context: PlanContext<'a>,
    /// The lines of the account files.
    pub edits: LineEdits<'a>,
    /// The numbers that there are, and those that this plan has given.
    pub allotter: Allotter<'a>,
    pending: PendingLists<'a>,
    /// The plan, but for its edits and the numbers that they retire.
    pub plan: Plan,
    /// What becomes of numbers that go.
    pub going: GoingNumbers,
    /// Which step edits the lines of which other file.
    pub(super) text_edits: HashMap<TreePath, usize>,
    /// The rules about hours and places, where somebody asked for them.
    pub(super) windows: Option<Arc<Windows>>,
}

impl<'a> PlanBuilder<'a> {
    /// Adds something that the administrator should know.
    pub fn caution(&mut self, caution: Caution) {
        self.plan.cautions.push(caution);
    }

    /// Adds a step.
    pub fn step(&mut self, step: Step) {
        self.plan.steps.push(step);
    }

    /// Adds what was decided about an account or a group.
    pub fn tell(&mut self, subject: Subject) {
        self.plan.subjects.push(subject);
    }

    /// What is at a path goes with the numbers of its account, where those become others.
    pub fn give_files(&mut self, path: &TreePath, uids: (Uid, Uid), gids: (Gid, Gid)) {
        let uids = IdMapping::from(vec![(uids.0.0, uids.1.0)]);
        let gids = IdMapping::from(vec![(gids.0.0, gids.1.0)]);
        if !uids.is_empty() || !gids.is_empty() {
            self.plan.steps.push(Step::follow(vec![path.clone()], uids, gids));
        }
    }

    /// A plan that does nothing yet; the summary is the change in a few words.
    pub fn new(context: PlanContext<'a>, summary: impl Into<String>) -> Self {
        let PlanContext { book, policy, world, .. } = context;
        PlanBuilder {
            context,
            edits: LineEdits::new(book),
            pending: PendingLists::default(),
            allotter: Allotter::new(book, policy, world),
            plan: Plan { summary: summary.into(), ..Plan::default() },
            going: GoingNumbers::default(),
            text_edits: HashMap::new(),
            windows: None,
        }
    }

    /// The lists of members and administrators, to be edited.
    pub fn lists(&mut self) -> GroupLists<'_, 'a> {
        GroupLists {
            context: self.context,
            edits: &mut self.edits,
            pending: &mut self.pending,
            cautions: &mut self.plan.cautions,
        }
    }

    /// Puts values into fields of a line, over what it has become so far. Returns whether it
    /// is another line now.
    pub fn set_fields<C: Into<Column> + Copy>(
        &mut self,
        file: File,
        line: Line<'a>,
        fields: &[(C, &[u8])],
    ) -> bool {
        let current = self.edits.current(file, line);
        let new = with_fields(&current, fields);
        let altered = new != current;
        if altered {
            self.edits.alter(file, line, new);
        }
        altered
    }

    /// The whole plan, with the numbers that it retires and takes into use again. `next` is
    /// the likely next command.
    pub fn finish(mut self, next: impl Into<String>) -> Plan {
        self.lists().flush();
        let PlanBuilder { context, edits, mut plan, going, .. } = self;
        plan.edits = edits.finish();
        plan.nothing = plan.edits.is_empty() && plan.steps.is_empty();
        retire::settle_numbers(context, &mut plan, &going);
        plan.next.push(next.into());
        plan
    }

    /// The same, of one account or group of which `subject` tells.
    pub fn finish_with(mut self, subject: Subject, next: impl Into<String>) -> Plan {
        self.plan.subjects.push(subject);
        self.finish(next)
    }
}

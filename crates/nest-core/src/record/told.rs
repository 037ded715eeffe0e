//! A plan as it is recorded and shown: without its hashes.

use rayon::prelude::*;

use super::{RecordedEdit, RecordedStep, Told};
use crate::change::{Plan, Step};

impl Told {
    /// What stands in a record before what was decided about accounts, and before the lines.
    pub fn before_edits(plan: &Plan) -> Self {
        Told {
            summary: plan.summary.clone(),
            mends: plan.mends,
            totals: plan.totals.clone(),
            numbers: plan.numbers.clone(),
            ..Told::default()
        }
    }

    /// What is told of a plan whose accounts are told by their totals alone.
    pub fn outline(plan: &Plan) -> Self {
        Told {
            access: plan.access.clone(),
            cautions: plan.cautions.iter().map(ToString::to_string).collect(),
            next: plan.next.clone(),
            ..Self::before_edits(plan)
        }
    }

    /// What the receipt of a plan tells before it is carried out.
    pub fn of(plan: &Plan) -> Self {
        let edits = plan.edits.par_iter().flat_map_iter(RecordedEdit::lines).collect();
        Told { edits, ..Self::without_edits(plan) }
    }

    /// The same without the lines.
    pub fn without_edits(plan: &Plan) -> Self {
        Told { subjects: plan.subjects.clone(), ..Self::without_accounts(plan) }
    }

    /// The same without what was decided about each account either.
    pub fn without_accounts(plan: &Plan) -> Self {
        let step = |step: &Step| RecordedStep { step: step.without_hashes(), left_as: None };
        Told { steps: plan.steps.iter().map(step).collect(), ..Self::outline(plan) }
    }
}

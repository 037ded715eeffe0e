//! Planners for whole tables of accounts.

mod intake;
mod merge;

pub use intake::{Among, Existing, Intake, Others, OthersBecome, TakenIn, intake};
pub use merge::{
    Action, Conflict, Decided, Decisions, Merge, Merged, NewNumberOf, conflicts, merge, state_of,
    undecided, written_decisions, written_numbers,
};

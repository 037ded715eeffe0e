//! What planners put a plan together with: finding accounts, editing lines and lists,
//! guards, claims on directories, and numbers that are retired.

pub(crate) mod claim;
mod edited_list;
pub(crate) mod find;
pub(crate) mod group_lists;
pub(crate) mod guard;
pub(crate) mod home;
mod line_edits;
pub(crate) mod new_name;
pub(crate) mod numbers;
mod plan_builder;
pub(crate) mod primary;
pub(crate) mod retire;

pub(crate) use line_edits::{LineEdits, LineRef};
pub(crate) use plan_builder::PlanBuilder;

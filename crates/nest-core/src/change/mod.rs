//! What a change is made of: the plan, its decisions, its cautions and what it does on
//! the tree.

#![deny(clippy::wildcard_enum_match_arm)]

mod access;
mod caution;
mod decision;
mod number;
mod plan;
pub(crate) mod step;

pub use crate::text_edit::{Altered, LineChange, LinesOf, TextEdit};
pub use access::{AccessChange, AccessKind, access_alike, access_lines};
pub use caution::Caution;
pub(crate) use caution::gather_alike;
pub use decision::{Decision, Label, Subject};
pub use number::NumberChange;
pub use plan::Plan;
pub use step::{NewFile, Step};

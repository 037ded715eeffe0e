//! What a change is made of: its decisions, its cautions and what it does on the tree.

mod caution;
mod decision;
pub(crate) mod step;

pub use caution::Caution;
pub use decision::{Decision, Subject};
pub(crate) use step::join;
pub use step::{NewFile, Step};

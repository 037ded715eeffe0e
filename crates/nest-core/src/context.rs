//! What every planner and every rule goes by.

use crate::book::Book;
use crate::policy::Policy;
use crate::surroundings::Surroundings;
use crate::value::Day;

/// What a planner goes by.
#[derive(Clone, Copy)]
pub struct PlanContext<'a> {
    /// The account files.
    pub book: &'a Book,
    /// The settings.
    pub policy: &'a Policy,
    /// The world around the files.
    pub world: &'a dyn Surroundings,
    /// Today.
    pub today: Day,
    /// The number this change will have; nothing where no changes are kept.
    pub change: Option<u64>,
}

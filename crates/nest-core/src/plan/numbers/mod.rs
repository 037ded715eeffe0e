//! Planners for numbers.

mod reassign;
mod renumber;

pub use reassign::{GivenBy, Reassign, reassign};
pub use renumber::{Renumber, renumber};

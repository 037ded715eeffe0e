//! The planners, floor by floor: each makes a plan of one kind of request, or refuses it.

pub mod groups;
pub mod history;
#[cfg(test)]
mod leaving_tests;
pub mod numbers;
#[cfg(test)]
mod people_tests;
pub mod tables;
pub mod users;

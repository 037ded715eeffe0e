//! A report: what the lists tell of one tree, or of many machines, as one page that stands by
//! itself, or as one document for machines.
//!
//! - `tree`: what is told of one tree
//! - `page`: the page of that
//! - `people`, `found`: who is on it, and what was found
//! - `receipts`: the changes on it
//! - `drawings`: its drawings, as places and lengths
//! - `machines`: what is told of many machines, and the page of that
//! - `shell`: what all pages have around them
//!
//! The pages themselves are in `templates/report`. Their drawings are shapes of SVG that stand in
//! the templates: what crates for charts make needs fonts or scripts of its own, has its colours
//! fixed where a page is light or dark, and names no shape so that it could be read aloud.

mod drawings;
mod found;
mod machines;
mod page;
mod people;
mod receipts;
mod shell;
mod tree;

pub use self::machines::Machines;
pub use self::page::page_of;
pub use self::tree::{Reported, to_json};

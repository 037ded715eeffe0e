//! The computation of Copper Nest: account files as lossless tables, the book
//! they make up, policies, plans and findings.
//!
//! Nothing here reads a file, a clock or a terminal, or draws a random number:
//! those come in as values, or are asked of [`surroundings::Surroundings`].
//!
//! - [`table`]: one account file, line by line; what is not edited keeps every
//!   byte.
//! - [`book`]: the six tables of one tree.
//! - [`policy`]: the settings, each with its source.
//! - [`allot`]: choosing ids and ranges.
//! - [`plan`]: what a request will do, or why it is refused.
//! - [`record`], [`drift`]: what was done, and what other hands did since.
//! - [`account`], [`sign_in`]: what the files say about one user.
//! - [`check`]: the rules, and what they found.
//!
//! # Example
//!
//! A line is edited, and every other byte stays:
//!
//! ```
//! use std::sync::Arc;
//! use nest_core::table::{File, Groups, Table};
//! use nest_core::value::Gid;
//!
//! let text = "# crew\npilots:x:210:tavish\nslipway:x:211:";
//! let groups = Table::<Groups>::new(File::Group, Arc::new(text));
//! let (line, pilots) = groups.named(b"pilots").next().unwrap();
//! assert_eq!(pilots.gid(), Some(Gid(210)));
//!
//! let edit = groups.lines().replacing(line, b"pilots:x:210:tavish,maren".to_vec());
//! let new = groups.lines().rewrite(&[&edit]).bytes(text.as_bytes());
//! assert_eq!(new, b"# crew\npilots:x:210:tavish,maren\nslipway:x:211:");
//! ```

pub mod account;
pub mod allot;
pub mod audit;
pub mod book;
pub mod change;
pub mod check;
pub mod compare;
pub mod configuration;
pub mod consequences;
pub mod context;
pub(crate) mod drafting;
pub mod drift;
pub mod earlier;
pub mod group_account;
pub mod handover;
pub mod holdings;
pub mod labels;
pub mod last_seen;
pub mod ldif;
pub mod order;
pub mod ownership;
pub mod plan;
pub mod policy;
pub mod powers;
pub mod record;
pub mod refusal;
pub mod report;
pub mod request;
pub mod retired;
pub mod retired_ids;
pub mod roster;
pub mod secret;
pub mod sign_in;
pub mod snapshot;
pub mod ssh;
pub mod sudo;
pub mod suggest;
pub mod surroundings;
pub mod suspended;
pub mod table;
pub mod text_edit;
pub mod trace;
pub mod value;
pub mod windows;
pub mod words;

#[cfg(test)]
mod test_support;

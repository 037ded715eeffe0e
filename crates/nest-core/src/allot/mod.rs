//! Choosing numbers: ids for users and groups, ranges of subordinate ids.

mod ids;
mod login;

pub use ids::{Holder, IdMap, holder_of_gid, holder_of_uid};
pub use login::{NoLogin, Proposed, fitted, propose_login};

//! Choosing numbers: ids for users and groups, ranges of subordinate ids.

mod allotter;
mod id_map;
mod login;

pub use allotter::{
    Allotted, Allotter, Holder, IdUse, NotAllotted, Taker, Wanted, setting_of, span_of,
};
pub use login::{NoLogin, Proposed, fitted, propose_login};

//! What planners put a plan together with: finding accounts, editing lines and lists,
//! claims on directories, and numbers that are retired.

mod claim;
mod edited_list;
mod find;
mod group_lists;
mod home;
mod line_edits;
mod new_name;
mod numbers;
mod password;
mod plan_builder;
mod primary;
mod retire;
mod window;

pub(crate) use claim::{Claim, Judged, Purpose, system_fault};
pub(crate) use find::{
    FoundUser, find_admin_group, find_group, find_member, find_user, gid_of, not_a_file_name,
    private_group, require_file_name,
};
pub(crate) use group_lists::places_naming;
pub(crate) use home::{
    Instead, in_others, move_home, named_after, obstacle, plan_home, record_home, shared_home,
    tell_home_moved,
};
pub(crate) use line_edits::{LineEdits, LineRef, NewFields};
pub(crate) use new_name::{check_new_group_name, check_new_name};
pub(crate) use numbers::{NewNumber, tell_elsewhere, why_chosen};
pub(crate) use password::password_cautions;
pub(crate) use plan_builder::PlanBuilder;
pub(crate) use primary::{NewPrimary, change_primary, gather_next_sign_ins, tell_sessions};
pub(crate) use window::{
    enforce, has_window, rename_window, return_window, set_window, take_window,
};

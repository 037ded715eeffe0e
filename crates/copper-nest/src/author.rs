//! Who is at work: the login behind the privilege.

use nest_core::value::{Author, Uid};

/// Tells who it is. The kernel knows the uid that a session signed in with
/// (`/proc/self/loginuid`, proc(5)); where it keeps none, programs that lend
/// privilege may have left it in the environment; else it is the process itself.
pub fn author() -> Author {
    let unset = u32::MAX;
    let login = std::fs::read_to_string("/proc/self/loginuid").ok();
    let login = login.and_then(|text| text.trim().parse().ok()).filter(|uid| *uid != unset);
    let lent = || std::env::var("SUDO_UID").ok()?.parse().ok();
    let uid = login.or_else(lent).unwrap_or_else(|| rustix::process::getuid().as_raw());
    let uid = Uid(uid);
    Author { uid, name: nest_host::surroundings::name_of_uid(uid) }
}

//! Who is at work: the login behind the privilege.

use nest_core::value::{Author, Uid};
use nest_host::processes::behind_root;

/// Tells who it is. The kernel knows the uid that a session signed in with
/// (`/proc/self/loginuid`, proc(5)); where it keeps none, programs that lend
/// privilege may have left it in the environment; else the processes above this one tell whose
/// session became root, and where all of them are root's it is root.
pub fn author() -> Author {
    let unset = u32::MAX;
    let login = std::fs::read_to_string("/proc/self/loginuid").ok();
    let login = login.and_then(|text| text.trim().parse().ok()).filter(|uid| *uid != unset);
    let lent = || std::env::var("SUDO_UID").ok()?.parse().ok();
    let known = login.or_else(lent).map(Uid).or_else(behind_root);
    let uid = known.unwrap_or_else(|| Uid(rustix::process::getuid().as_raw()));
    Author { uid, name: nest_host::surroundings::name_of_uid(uid) }
}

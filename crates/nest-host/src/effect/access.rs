//! The access to an account file.

use nest_core::ownership::Access;
use nest_core::table::File;
use rustix::fs::{Gid, Mode, Uid};

use crate::tree::Tree;
use crate::untrusted::open_entry;

/// Gives an account file an owner and a mode, as far as it has others. First fewer
/// may use it, then it gets its owner: at no moment is it open to more than before
/// and after.
pub(super) fn set_access(tree: &Tree, file: File, to: Access) -> std::io::Result<()> {
    let located = tree.locate(file.path())?;
    let (file, stat) = open_entry(&located.directory, &located.name)?;
    let is = stat.st_mode & 0o7777;
    if is & to.mode != is {
        rustix::fs::fchmod(&file, Mode::from_raw_mode(is & to.mode))?;
    }
    if (stat.st_uid, stat.st_gid) != (to.owner.uid.0, to.owner.gid.0) {
        let (uid, gid) = (Uid::from_raw(to.owner.uid.0), Gid::from_raw(to.owner.gid.0));
        rustix::fs::fchown(&file, Some(uid), Some(gid))?;
    }
    rustix::fs::fchmod(&file, Mode::from_raw_mode(to.mode))?;
    Ok(rustix::fs::fsync(&file)?)
}

//! Who else may know an account: the one place that says whether a name, or a number, that
//! the account files do not have is somebody's all the same.

use bstr::BStr;

use super::Prefilter;
use crate::context::PlanContext;
use crate::surroundings::Origin;
use crate::table::File;
use crate::value::{Gid, Uid, read_plain_id};

/// Whether a name that passwd does not have, or a number in the place of one, is a user's of
/// other files of the tree or of a directory.
///
/// # Errors
/// Why that can't be told: what would follow from a no is then skipped.
pub(super) fn knows_user(
    context: PlanContext<'_>,
    prefilter: &Prefilter,
    name: &BStr,
) -> Result<bool, String> {
    let world = context.world;
    let uid = read_plain_id(name).map(Uid);
    let elsewhere = world.elsewhere();
    if elsewhere.has_user(name) || uid.is_some_and(|uid| elsewhere.has_uid(uid)) {
        return Ok(true);
    }
    if world.has_services() {
        let by_number = match uid {
            Some(uid) => world.service_user_by_uid(uid)?.is_some(),
            None => false,
        };
        return Ok(by_number || world.service_knows_user(name)?);
    }
    others(context, prefilter, File::Passwd)
}

/// Whether a gid that no group of the files has is one of other files' or of a directory's.
///
/// # Errors
/// Why that can't be told.
pub(super) fn knows_gid(
    context: PlanContext<'_>,
    prefilter: &Prefilter,
    gid: Gid,
) -> Result<bool, String> {
    let world = context.world;
    if world.elsewhere().has_gid(gid) {
        return Ok(true);
    }
    if world.has_services() {
        return Ok(world.service_group_by_gid(gid)?.is_some());
    }
    others(context, prefilter, File::Group)
}

/// Nobody else is asked, or it can't be told.
fn others(context: PlanContext<'_>, prefilter: &Prefilter, file: File) -> Result<bool, String> {
    let world = context.world;
    if let Some(why) = &world.elsewhere().unread {
        return Err(why.clone());
    }
    if let Some(number) = prefilter.takes_in(context.book, file) {
        let path = file.path();
        return Err(format!(
            "{path}:{number} brings in accounts of a directory, which can't be asked here"
        ));
    }
    match world.origin() {
        Origin::FilesAlone => Ok(false),
        Origin::Others(others) => {
            Err(format!("etc/nsswitch.conf asks {others} for users too, who can't be asked here"))
        }
    }
}

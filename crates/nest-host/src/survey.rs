//! Counting what is in a directory before it goes: by handles, no link followed,
//! no other file system entered, and for no longer than is wanted.

use std::ffi::OsStr;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::time::{Duration, Instant};

use bstr::BStr;
use nest_core::surroundings::Survey;
use nest_core::value::Day;
use rustix::fs::{AtFlags, FileType, Mode, StatxAttributes, StatxFlags};
use rustix::io::Errno;

use crate::inventory::{DIRECTORY, names};

/// After this long the counting stops, unless it has to be thorough.
const PATIENCE: Duration = Duration::from_millis(100);

/// What nobody can change, not even root.
const FIXED: StatxAttributes = StatxAttributes::IMMUTABLE.union(StatxAttributes::APPEND);

/// Counts what an entry of a directory is and holds; `None` when it is not there.
///
/// # Errors
/// The system's.
pub(crate) fn take(
    directory: &OwnedFd,
    name: &OsStr,
    path: &BStr,
    thorough: bool,
) -> Result<Option<Survey>, Errno> {
    let stat = match rustix::fs::statat(directory, name, AtFlags::SYMLINK_NOFOLLOW) {
        Err(Errno::NOENT) => return Ok(None),
        stat => stat?,
    };
    let until = (!thorough).then(|| Instant::now() + PATIENCE);
    let mut taking =
        Taking { device: stat.st_dev, until, newest: i64::MIN, survey: Survey::default() };
    taking.entry(directory.as_fd(), name, path)?;
    let newest = (taking.newest > i64::MIN).then(|| Day::of_seconds(taking.newest));
    Ok(Some(Survey { newest, ..taking.survey }))
}

struct Taking {
    device: u64,
    until: Option<Instant>,
    newest: i64,
    survey: Survey,
}

impl Taking {
    fn entry(&mut self, directory: BorrowedFd<'_>, name: &OsStr, path: &[u8]) -> Result<(), Errno> {
        let flags = AtFlags::SYMLINK_NOFOLLOW | AtFlags::NO_AUTOMOUNT;
        let stat = match rustix::fs::statx(directory, name, flags, StatxFlags::BASIC_STATS) {
            // It may go while we look.
            Err(Errno::NOENT) => return Ok(()),
            stat => stat?,
        };
        if rustix::fs::makedev(stat.stx_dev_major, stat.stx_dev_minor) != self.device {
            self.survey.mounts.push(path.into());
            return Ok(());
        }
        if stat.stx_attributes.intersects(FIXED) && self.survey.fixed.is_none() {
            self.survey.fixed = Some(path.into());
        }
        self.newest = self.newest.max(stat.stx_mtime.tv_sec);
        let kind = FileType::from_raw_mode(stat.stx_mode.into());
        if kind != FileType::Directory {
            self.survey.files += 1;
            if kind == FileType::RegularFile {
                self.survey.bytes += stat.stx_size;
            }
            return Ok(());
        }
        if self.until.is_some_and(|until| Instant::now() > until) {
            self.survey.more = true;
            return Ok(());
        }
        let inside = match rustix::fs::openat(directory, name, DIRECTORY, Mode::empty()) {
            Err(Errno::NOENT | Errno::NOTDIR | Errno::LOOP) => return Ok(()),
            inside => inside?,
        };
        for name in names(&inside)? {
            let below = [path, b"/", name.as_bytes()].concat();
            self.entry(inside.as_fd(), &name, &below)?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_are_counted_and_links_not_followed() {
        let place = tempfile::tempdir().unwrap();
        let home = place.path().join("home");
        std::fs::create_dir_all(home.join("bin")).unwrap();
        std::fs::write(home.join("bin/x"), "four").unwrap();
        std::os::unix::fs::symlink("/", home.join("out")).unwrap();
        let directory = OwnedFd::from(std::fs::File::open(place.path()).unwrap());
        let survey = take(&directory, "home".as_ref(), "/home".into(), true).unwrap().unwrap();
        assert_eq!((survey.files, survey.bytes, survey.more), (2, 4, false));
        assert!(survey.newest.is_some() && survey.mounts.is_empty());
        assert_eq!(take(&directory, "gone".as_ref(), "/gone".into(), true).unwrap(), None);
    }
}

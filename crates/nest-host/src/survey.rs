//! Counting what is in a directory before it goes: by handles, no link followed,
//! no other file system entered, and for no longer than is wanted.

use std::ffi::OsStr;
use std::os::fd::{BorrowedFd, OwnedFd};
use std::time::{Duration, Instant};

use bstr::{BStr, BString};
use nest_core::surroundings::Survey;
use nest_core::value::Day;
use rustix::fs::{AtFlags, FileType, StatxAttributes, StatxFlags};
use rustix::io::Errno;

use crate::interrupt::Patience;
use crate::walk::{At, Visitor, descend};
use crate::words::why;

/// After this long the counting stops, unless it has to be thorough.
const PATIENCE: Duration = Duration::from_millis(100);

/// What nobody can change, not even root.
const FIXED: StatxAttributes = StatxAttributes::IMMUTABLE.union(StatxAttributes::APPEND);

/// So many places that could not be counted are named.
const NAMED: usize = 8;

/// Counts what an entry of a directory is and holds; `None` when it is not there.
/// What can't be counted, and what is mounted in it, is named and stands in no way.
///
/// # Errors
/// The system's, for the entry itself.
pub(crate) fn survey_tree(
    directory: &OwnedFd,
    name: &OsStr,
    path: &BStr,
    thorough: bool,
) -> Result<Option<Survey>, Errno> {
    let until = (!thorough).then(|| Instant::now() + PATIENCE);
    let mut taking = Taking { path, until, newest: i64::MIN, survey: Survey::default() };
    match descend(directory, name, Patience::Ends, &mut taking) {
        Err(Errno::NOENT) => return Ok(None),
        // The time is over.
        Err(Errno::TIME) => taking.survey.more = true,
        counted => counted?,
    }
    let newest = (taking.newest > i64::MIN).then(|| Day::of_seconds(taking.newest));
    Ok(Some(Survey { newest, ..taking.survey }))
}

struct Taking<'p> {
    path: &'p BStr,
    until: Option<Instant>,
    newest: i64,
    survey: Survey,
}

impl Taking<'_> {
    fn add_entry(&mut self, at: &At<'_>) -> Result<(), Errno> {
        if self.until.is_some_and(|until| Instant::now() > until) {
            return Err(Errno::TIME);
        }
        self.newest = self.newest.max(at.stat.st_mtime);
        let flags = AtFlags::SYMLINK_NOFOLLOW | AtFlags::NO_AUTOMOUNT;
        let fixed = self.survey.fixed.is_none()
            && rustix::fs::statx(at.parent, at.name, flags, StatxFlags::empty())
                .is_ok_and(|stat| stat.stx_attributes.intersects(FIXED));
        if fixed {
            self.survey.fixed = Some(self.whole(at.path));
        }
        Ok(())
    }

    fn whole(&self, below: &[u8]) -> BString {
        [self.path, below].concat().into()
    }
}

impl Visitor for Taking<'_> {
    type Error = Errno;

    fn file(&mut self, at: &At<'_>) -> Result<(), Errno> {
        self.add_entry(at)?;
        self.survey.files += 1;
        if FileType::from_raw_mode(at.stat.st_mode) == FileType::RegularFile {
            self.survey.bytes += at.stat.st_size.cast_unsigned();
        }
        Ok(())
    }

    fn enter(&mut self, at: &At<'_>, _: BorrowedFd<'_>) -> Result<bool, Errno> {
        self.add_entry(at).map(|()| true)
    }

    fn mount(&mut self, path: &[u8], _: BorrowedFd<'_>) -> Result<(), Errno> {
        let path = self.whole(path);
        self.survey.mounts.push(path);
        Ok(())
    }

    fn unreadable(&mut self, path: &[u8], error: Errno) -> Result<(), Errno> {
        if self.survey.uncounted.len() < NAMED {
            let path = self.whole(path);
            self.survey.uncounted.push((path, why(error)));
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
        let survey =
            survey_tree(&directory, "home".as_ref(), "/home".into(), true).unwrap().unwrap();
        assert_eq!((survey.files, survey.bytes, survey.more), (2, 4, false));
        assert!(survey.newest.is_some() && survey.mounts.is_empty());
        assert_eq!(survey_tree(&directory, "gone".as_ref(), "/gone".into(), true).unwrap(), None);
    }
}

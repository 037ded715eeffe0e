//! Going through a directory tree from one place, entry by entry in the order of
//! names: by handles, no link followed, no mount entered, and without recursion, so
//! that no depth and no path is too much.

use std::ffi::{OsStr, OsString};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;

use rustix::fs::{AtFlags, FileType, Mode, Stat};
use rustix::io::Errno;

use super::ladder::Ladder;
use crate::interrupt::Patience;
use crate::mounts::mount_id;
use crate::tree::{DIRECTORY, names};

/// An entry that was met.
pub struct At<'a> {
    /// The directory it is in.
    pub parent: BorrowedFd<'a>,
    /// Its name there.
    pub name: &'a OsStr,
    /// Its path below the entry where the way began: empty for that one, else with
    /// a slash before each name.
    pub path: &'a [u8],
    /// Its status; of a directory, as it was when it was entered.
    pub stat: &'a Stat,
}

/// What is done with what is met. An error ends it all.
pub trait Visitor {
    /// The error.
    type Error: From<Errno>;

    /// Something that is no directory.
    ///
    /// # Errors
    /// What the visitor wants the way to end with.
    fn file(&mut self, at: &At<'_>) -> Result<(), Self::Error>;

    /// A directory, before what is in it. Returns whether to go in.
    ///
    /// # Errors
    /// What the visitor wants the way to end with.
    fn enter(&mut self, at: &At<'_>, inside: BorrowedFd<'_>) -> Result<bool, Self::Error>;

    /// A directory, after everything that is in it.
    ///
    /// # Errors
    /// What the visitor wants the way to end with.
    fn leave(&mut self, at: &At<'_>, inside: BorrowedFd<'_>) -> Result<(), Self::Error> {
        let _ = (at, inside);
        Ok(())
    }

    /// A directory on which something is mounted: what is behind it is not the
    /// tree's.
    ///
    /// # Errors
    /// The visitor's; `EXDEV`, unless it says otherwise.
    fn mount(&mut self, path: &[u8], inside: BorrowedFd<'_>) -> Result<(), Self::Error> {
        let _ = (path, inside);
        Err(Errno::XDEV.into())
    }

    /// Something that can't be looked at or entered.
    ///
    /// # Errors
    /// The visitor's; the system's, unless it says otherwise.
    fn unreadable(&mut self, path: &[u8], error: Errno) -> Result<(), Self::Error> {
        let _ = path;
        Err(error.into())
    }
}

/// Goes through an entry of a directory and everything below it. Being a mount point
/// is judged for the entry itself too.
///
/// # Errors
/// The visitor's, and `ECANCELED` where an interrupt is heeded. `ENOENT` where the entry is
/// not there.
pub fn descend<V: Visitor>(
    directory: impl AsFd,
    name: &OsStr,
    patience: Patience,
    visitor: &mut V,
) -> Result<(), V::Error> {
    let base = directory.as_fd().try_clone_to_owned().map_err(|_| Errno::MFILE)?;
    let mount = mount_id(&base);
    let ladder = Ladder::new(base);
    let mut descent = Descent { ladder, levels: Vec::new(), path: Vec::new(), mount, patience };
    let stat = rustix::fs::statat(descent.ladder.here(), name, AtFlags::SYMLINK_NOFOLLOW)?;
    descent.meet(name, stat, visitor)?;
    descent.visit_all(visitor)
}

/// Goes through everything below a directory, wherever that is mounted.
///
/// # Errors
/// As [`descend`].
pub fn descend_into<V: Visitor>(
    directory: OwnedFd,
    patience: Patience,
    visitor: &mut V,
) -> Result<(), V::Error> {
    let mount = mount_id(&directory);
    let stat = rustix::fs::fstat(&directory)?;
    let names = names(&directory)?.into_iter();
    let level = Level { name: OsString::new(), stat, names, start: 0, path: 0 };
    let ladder = Ladder::new(directory);
    let mut descent = Descent { ladder, levels: vec![level], path: Vec::new(), mount, patience };
    descent.visit_all(visitor)
}

/// A directory that was entered.
struct Level {
    name: OsString,
    stat: Stat,
    names: std::vec::IntoIter<OsString>,
    /// The depth of the ladder in it.
    start: usize,
    /// How long the path of the one above is.
    path: usize,
}

struct Descent {
    ladder: Ladder,
    levels: Vec<Level>,
    path: Vec<u8>,
    mount: Option<u64>,
    patience: Patience,
}

impl Descent {
    fn visit_all<V: Visitor>(&mut self, visitor: &mut V) -> Result<(), V::Error> {
        while let Some(level) = self.levels.last_mut() {
            self.patience.check()?;
            let Some(name) = level.names.next() else {
                self.leave(visitor)?;
                continue;
            };
            let length = self.path.len();
            self.path.push(b'/');
            self.path.extend_from_slice(name.as_bytes());
            let here = AtFlags::SYMLINK_NOFOLLOW;
            match rustix::fs::statat(self.ladder.here(), &name, here) {
                Ok(stat) => {
                    if self.meet(&name, stat, visitor)? {
                        continue;
                    }
                }
                // It went while we were looking.
                Err(Errno::NOENT) => {}
                Err(error) => visitor.unreadable(&self.path, error)?,
            }
            self.path.truncate(length);
        }
        Ok(())
    }

    /// Tells the visitor of an entry whose path is set. Returns whether it was entered.
    fn meet<V: Visitor>(
        &mut self,
        name: &OsStr,
        stat: Stat,
        visitor: &mut V,
    ) -> Result<bool, V::Error> {
        let parent = self.ladder.here();
        if FileType::from_raw_mode(stat.st_mode) != FileType::Directory {
            visitor.file(&At { parent, name, path: &self.path, stat: &stat })?;
            return Ok(false);
        }
        let inside = match rustix::fs::openat(parent, name, DIRECTORY, Mode::empty()) {
            Ok(inside) => inside,
            // It went, or was swapped for something else, while we were looking.
            Err(Errno::NOENT | Errno::NOTDIR | Errno::LOOP) => return Ok(false),
            Err(error) => {
                visitor.unreadable(&self.path, error)?;
                return Ok(false);
            }
        };
        let stat = rustix::fs::fstat(&inside)?;
        if mount_id(&inside) != self.mount {
            visitor.mount(&self.path, inside.as_fd())?;
            return Ok(false);
        }
        let at = At { parent, name, path: &self.path, stat: &stat };
        if !visitor.enter(&at, inside.as_fd())? {
            return Ok(false);
        }
        let names = match names(&inside) {
            Ok(names) => names.into_iter(),
            Err(error) => {
                visitor.unreadable(&self.path, error)?;
                Vec::new().into_iter()
            }
        };
        let path = self.path.iter().rposition(|&byte| byte == b'/').unwrap_or(0);
        self.ladder.down_to(name, inside)?;
        let start = self.ladder.depth();
        self.levels.push(Level { name: name.to_owned(), stat, names, start, path });
        Ok(true)
    }

    fn leave<V: Visitor>(&mut self, visitor: &mut V) -> Result<(), V::Error> {
        let Some(level) = self.levels.pop() else { return Ok(()) };
        // The directory where it all began was opened by somebody else.
        if level.start > 0 {
            let inside = self.ladder.up()?;
            let Level { name, stat, .. } = &level;
            let at = At { parent: self.ladder.here(), name, path: &self.path, stat };
            visitor.leave(&at, inside.as_fd())?;
        }
        self.path.truncate(level.path);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Default)]
    struct Told(Vec<String>);

    impl Told {
        fn tell(&mut self, what: &str, at: &At<'_>) {
            self.0.push(format!("{what} {}", String::from_utf8_lossy(at.path)));
        }
    }

    impl Visitor for Told {
        type Error = Errno;

        fn file(&mut self, at: &At<'_>) -> Result<(), Errno> {
            self.tell("file", at);
            Ok(())
        }

        fn enter(&mut self, at: &At<'_>, _: BorrowedFd<'_>) -> Result<bool, Errno> {
            self.tell("enter", at);
            Ok(at.name != "closed")
        }

        fn leave(&mut self, at: &At<'_>, _: BorrowedFd<'_>) -> Result<(), Errno> {
            self.tell("leave", at);
            Ok(())
        }
    }

    #[test]
    fn everything_is_met_in_the_order_of_names() {
        let folder = tempfile::tempdir().unwrap();
        for directory in ["home/b/c", "home/closed/x"] {
            std::fs::create_dir_all(folder.path().join(directory)).unwrap();
        }
        std::fs::write(folder.path().join("home/b/file"), "").unwrap();
        std::os::unix::fs::symlink("/", folder.path().join("home/a")).unwrap();
        let open = |path: &str| std::fs::File::open(folder.path().join(path)).unwrap();
        let mut told = Told::default();
        descend(open("."), "home".as_ref(), Patience::Ends, &mut told).unwrap();
        let below = [
            "file /a",
            "enter /b",
            "enter /b/c",
            "leave /b/c",
            "file /b/file",
            "leave /b",
            "enter /closed",
        ];
        assert_eq!(told.0, [&["enter "], &below[..], &["leave "]].concat());
        let mut told = Told::default();
        descend_into(open("home").into(), Patience::Ends, &mut told).unwrap();
        assert_eq!(told.0, below);
        let mut told = Told::default();
        descend(open("home/b"), "file".as_ref(), Patience::Ends, &mut told).unwrap();
        assert_eq!(told.0, ["file "]);
        let missing = descend(open("."), "none".as_ref(), Patience::Ends, &mut told);
        assert_eq!(missing, Err(Errno::NOENT));
    }
}

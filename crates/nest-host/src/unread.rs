//! Files that are read only as far as they are wanted.

use std::os::fd::OwnedFd;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use nest_core::table::{Text, TextSource};

use crate::read::{Mapped, fill, fill_new, room_for};

/// A file that is held open, to be read piece by piece. Memory for all of it costs more
/// time than reading it.
pub(crate) struct Unread {
    descriptor: OwnedFd,
    size: usize,
    failed: AtomicBool,
}

impl Unread {
    /// The first `size` bytes of a file.
    pub fn new(descriptor: OwnedFd, size: usize) -> Self {
        Unread { descriptor, size, failed: AtomicBool::new(false) }
    }

    /// Whether something could not be read: then nothing that was concluded holds.
    pub fn has_failed(&self) -> bool {
        self.failed.load(Ordering::Relaxed)
    }
}

impl TextSource for Unread {
    fn length(&self) -> usize {
        self.size
    }

    fn read(&self, offset: usize, into: &mut [u8]) -> usize {
        let room = into.len().min(self.size.saturating_sub(offset));
        let count = fill(&self.descriptor, offset, &mut into[..room]).unwrap_or(0);
        if count < room {
            self.failed.store(true, Ordering::Relaxed);
        }
        count
    }

    fn whole(&self) -> Text {
        // Whatever becomes of the file, no place in the text is past its end.
        let Ok(mut map) = room_for(self.size.max(1)) else {
            self.failed.store(true, Ordering::Relaxed);
            return Arc::new(vec![0; self.size]);
        };
        let length = fill_new(&self.descriptor, &mut map[..self.size]).unwrap_or(0);
        if length < self.size {
            self.failed.store(true, Ordering::Relaxed);
        }
        Arc::new(Mapped { map, length: self.size })
    }
}

#[cfg(test)]
mod tests {
    use nest_core::table::File;

    use super::*;
    use crate::store::load_in_passing;
    use crate::tree::Tree;

    fn unread(path: &std::path::Path, size: usize) -> Unread {
        Unread::new(std::fs::File::open(path).unwrap().into(), size)
    }

    #[test]
    fn a_file_is_read_from_anywhere() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("shadow");
        std::fs::write(&path, "maren:!:1\nperrin:!:2\n").unwrap();
        let file = unread(&path, 21);
        let mut piece = [0; 8];
        assert_eq!((file.read(10, &mut piece), &piece), (8, b"perrin:!"));
        assert_eq!((file.read(18, &mut piece), &piece[..3]), (3, &b":2\n"[..]));
        assert_eq!(file.read(21, &mut piece), 0);
        assert_eq!((*file.whole()).as_ref().len(), 21);
        assert!(!file.has_failed());
    }

    #[test]
    fn files_that_are_altered_meanwhile_are_noticed() {
        let folder = tempfile::tempdir().unwrap();
        let etc = folder.path().join("etc");
        std::fs::create_dir(&etc).unwrap();
        let line = "maren:!:20000::::::\n";
        std::fs::write(etc.join("passwd"), "maren:x:1004:1004:::\n").unwrap();
        std::fs::write(etc.join("group"), "maren:x:1004:\n").unwrap();
        std::fs::write(etc.join("shadow"), line.repeat(60_000)).unwrap();
        std::fs::write(etc.join("subuid"), "maren:3000000000:1\n").unwrap();
        // Just now written is as good as being written: then all is read at once.
        std::thread::sleep(std::time::Duration::from_millis(60));
        let tree = Tree::open(folder.path()).unwrap();
        let load = || load_in_passing(&tree).unwrap();
        let loaded = load();
        let shadow = loaded.book.lines(File::Shadow).unwrap();
        assert_eq!(shadow.at(line.len()).bytes, line.trim_end().as_bytes());
        assert!(loaded.is_as_it_was() && !shadow.is_excerpt());
        std::fs::write(etc.join("shadow"), line.repeat(60_001)).unwrap();
        assert!(!loaded.is_as_it_was());
        // What was put in its place is another file; this one is as it was.
        std::thread::sleep(std::time::Duration::from_millis(60));
        let loaded = load();
        std::fs::write(etc.join("new"), "").unwrap();
        std::fs::rename(etc.join("new"), etc.join("subuid")).unwrap();
        assert!(loaded.is_as_it_was());
        assert_eq!(loaded.book.lines(File::Shadow).unwrap().text().len(), line.len() * 60_001);
    }

    #[test]
    fn what_is_not_there_any_more_is_noticed() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("shadow");
        std::fs::write(&path, "maren").unwrap();
        let shorter = unread(&path, 9);
        assert_eq!((*shorter.whole()).as_ref(), b"maren\0\0\0\0");
        assert!(shorter.has_failed());
        let directory = unread(folder.path(), 9);
        assert_eq!(directory.read(0, &mut [0; 4]), 0);
        assert!(directory.has_failed());
    }
}

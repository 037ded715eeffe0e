//! A parallel walk over the local file systems of a tree, by handles, no link
//! followed.

use std::collections::HashMap;
use std::ffi::OsStr;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

use rayon::Scope;
use rustix::fs::{AtFlags, FileType, Mode, OFlags, Stat};
use rustix::io::Errno;

use crate::inventory::{DIRECTORY, names};
use crate::tree::Tree;

/// File systems without files of their own, or with somebody else's: the kernel's
/// and those of the network. The numbers are those of statfs(2).
const NOT_LOCAL: [u32; 22] = [
    0x9fa0,
    0x6265_6572,
    0x1cd1,
    0x6462_6720,
    0x7472_6163,
    0x0027_e0eb,
    0x6367_7270,
    0x7363_6673,
    0xf97c_ff8c,
    0xcafe_4a11,
    0x6165_676c,
    0x1980_0202,
    0x9584_58f6,
    0x6e73_6673,
    0x6969,
    0xff53_4d42,
    0xfe53_4d42,
    0x517b,
    0x6573_5546,
    0x0102_1997,
    0x5346_414f,
    0x00c3_6400,
];

/// Is told a path in the tree and the status of what is there.
pub type Tell<'a> = dyn Fn(&[u8], &Stat) + Sync + 'a;

struct Walk<'a> {
    tell: &'a Tell<'a>,
    /// Paths that are left out, with everything below.
    but: &'a [Vec<u8>],
    /// Whether the file system of a device is walked.
    devices: Mutex<HashMap<u64, bool>>,
    unread: AtomicUsize,
}

/// Walks everything in the tree. Returns how many directories could not be read.
///
/// # Errors
/// The system's, for the root.
pub fn everything(tree: &Tree, but: &[Vec<u8>], tell: &Tell<'_>) -> Result<usize, Errno> {
    let root = tree.open_file("/", DIRECTORY)?;
    let walk = Walk { tell, but, devices: Mutex::new(HashMap::new()), unread: AtomicUsize::new(0) };
    walk.device(&root, rustix::fs::fstat(&root)?.st_dev);
    rayon::scope(|scope| walk.directory(scope, root, Vec::new()));
    Ok(walk.unread.into_inner())
}

impl<'w> Walk<'w> {
    /// Whether the file system that a directory is on is walked.
    fn device(&self, directory: &OwnedFd, device: u64) -> bool {
        let mut devices = self.devices.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
        *devices.entry(device).or_insert_with(|| {
            let kind = rustix::fs::fstatfs(directory).map(|stat| stat.f_type as u32);
            kind.is_ok_and(|kind| !NOT_LOCAL.contains(&kind))
        })
    }

    fn directory<'s>(&'s self, scope: &Scope<'s>, directory: OwnedFd, path: Vec<u8>) {
        let Ok(names) = names(&directory) else {
            self.unread.fetch_add(1, Ordering::Relaxed);
            return;
        };
        for name in names {
            let Ok(stat) = rustix::fs::statat(&directory, &name, AtFlags::SYMLINK_NOFOLLOW) else {
                continue;
            };
            let below = [&path[..], b"/", name.as_bytes()].concat();
            if self.but.contains(&below) {
                continue;
            }
            (self.tell)(&below, &stat);
            if FileType::from_raw_mode(stat.st_mode) == FileType::Directory {
                self.enter(scope, &directory, &name, &stat, below);
            }
        }
    }

    fn enter<'s>(
        &'s self,
        scope: &Scope<'s>,
        directory: &OwnedFd,
        name: &OsStr,
        stat: &Stat,
        path: Vec<u8>,
    ) {
        let flags = DIRECTORY | OFlags::NONBLOCK;
        match rustix::fs::openat(directory, name, flags, Mode::empty()) {
            Ok(inside) if self.device(&inside, stat.st_dev) => {
                scope.spawn(move |scope| self.directory(scope, inside, path));
            }
            Ok(_) => {}
            Err(_) => {
                self.unread.fetch_add(1, Ordering::Relaxed);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn everything_is_told_once_and_no_link_followed() {
        let place = tempfile::tempdir().unwrap();
        for directory in ["a/b/c", "left/out"] {
            std::fs::create_dir_all(place.path().join(directory)).unwrap();
        }
        std::fs::write(place.path().join("a/b/file"), "").unwrap();
        std::os::unix::fs::symlink("/", place.path().join("a/link")).unwrap();
        let tree = Tree::open(place.path()).unwrap();
        let told = Mutex::new(Vec::new());
        let tell = |path: &[u8], _: &Stat| {
            told.lock().unwrap().push(String::from_utf8(path.to_vec()).unwrap());
        };
        let unread = everything(&tree, &[b"/left".to_vec()], &tell).unwrap();
        let mut told = told.into_inner().unwrap();
        told.sort();
        assert_eq!(told, ["/a", "/a/b", "/a/b/c", "/a/b/file", "/a/link"]);
        assert_eq!(unread, 0);
    }
}

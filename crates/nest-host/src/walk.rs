//! A parallel walk over the local file systems of a tree, by handles, no link
//! followed.

use std::cell::Cell;
use std::collections::{HashMap, HashSet};
use std::ffi::{CStr, CString};
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::sync::{Arc, Mutex, MutexGuard};

use bstr::BString;
use rayon::Scope;
use rustix::fs::{AtFlags, FileType, Mode, OFlags, RawDir, Stat};
use rustix::io::Errno;

use crate::effect::Place;
use crate::inventory::DIRECTORY;
use crate::mounts::Mounts;
use crate::tree::{Tree, path_of};

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

/// So many entries of a directory are looked at in one go: those of a directory
/// with very many are shared out.
const BATCH: usize = 4096;

/// How much of a directory is read at a time.
const ROOM: usize = 32 << 10;

/// Where to walk.
#[derive(Debug, Clone, Copy, Default)]
pub struct Ground<'a> {
    /// Where to start: paths in the tree that go through no link. Everything when
    /// there is none.
    pub paths: &'a [BString],
    /// Whether to stay on the file systems of the starting points.
    pub stay: bool,
    /// Paths that are left out, with everything below.
    pub but: &'a [BString],
}

/// Something that the walk came by.
pub struct Met<'a> {
    /// The path of the directory it is in; empty for the root of the tree.
    pub directory: &'a [u8],
    /// Its name in it.
    pub name: &'a [u8],
    /// Its status.
    pub stat: &'a Stat,
}

impl Met<'_> {
    /// Its path in the tree.
    pub fn path(&self) -> Vec<u8> {
        [self.directory, b"/", self.name].concat()
    }

    /// Whether it is a directory.
    pub fn is_directory(&self) -> bool {
        FileType::from_raw_mode(self.stat.st_mode) == FileType::Directory
    }
}

/// Is told everything that the walk comes by, from several threads.
pub type Tell<'a> = dyn Fn(&Met<'_>) + Sync + 'a;

/// What the walk did not see.
#[derive(Debug, Default)]
pub struct Unseen {
    /// What could not be read, and why.
    pub unread: Vec<(BString, String)>,
    /// Where file systems are mounted that were not walked, and what they are.
    pub left_out: Vec<(BString, String)>,
}

/// Walks.
///
/// # Errors
/// The system's, with the starting point that can't be walked from.
pub fn walk(tree: &Tree, ground: Ground<'_>, tell: &Tell<'_>) -> Result<Unseen, (BString, Errno)> {
    let mounts = Mounts::below(tree);
    let walk = Walk {
        tell,
        stay: ground.stay,
        but: ground.but.iter().map(|path| path.to_vec()).collect(),
        doubled: mounts.doubled(),
        mounts: &mounts,
        devices: Mutex::new(HashMap::new()),
        unseen: Mutex::new(Unseen::default()),
    };
    let everything = [BString::from("/")];
    let paths = if ground.paths.is_empty() { &everything[..] } else { ground.paths };
    let mut starts = Vec::new();
    for path in paths {
        starts.push(walk.start(tree, path).map_err(|error| (path.clone(), error))?);
    }
    rayon::scope(|scope| {
        for start in starts.into_iter().flatten() {
            walk.directory(scope, start);
        }
    });
    let mut unseen = walk.unseen.into_inner().unwrap_or_else(|poisoned| poisoned.into_inner());
    unseen.unread.sort();
    unseen.left_out.sort();
    Ok(unseen)
}

struct Walk<'a> {
    tell: &'a Tell<'a>,
    stay: bool,
    but: HashSet<Vec<u8>>,
    /// Mount points of what is walked elsewhere in the tree already.
    doubled: HashSet<Vec<u8>>,
    mounts: &'a Mounts,
    /// Whether the file system of a device is walked.
    devices: Mutex<HashMap<u64, bool>>,
    unseen: Mutex<Unseen>,
}

/// A directory that is still to be walked.
struct Ahead {
    above: Arc<OwnedFd>,
    name: CString,
    path: Vec<u8>,
    /// The device of what it is in.
    device: u64,
    /// Whether it was told already.
    told: bool,
}

impl<'w> Walk<'w> {
    /// Tells a starting point; returns it where it is a directory.
    fn start(&self, tree: &Tree, path: &BString) -> Result<Option<Ahead>, Errno> {
        let root = path_of(path).components().count() <= 1;
        let (above, name) = match root {
            true => (tree.open_file("/", DIRECTORY)?, CString::from(c".")),
            false => {
                let place = Place::of(tree, path)?;
                let name = CString::new(place.name.as_bytes()).map_err(|_| Errno::INVAL)?;
                (place.directory, name)
            }
        };
        let stat = rustix::fs::statat(&above, &name, AtFlags::SYMLINK_NOFOLLOW)?;
        let path: Vec<u8> = match root {
            true => Vec::new(),
            false => tidy(path),
        };
        tell(self.tell, &path, &stat);
        if FileType::from_raw_mode(stat.st_mode) != FileType::Directory {
            return Ok(None);
        }
        self.devices_seen().insert(stat.st_dev, true);
        let (above, device) = (Arc::new(above), stat.st_dev);
        Ok(Some(Ahead { above, name, path, device, told: true }))
    }

    fn devices_seen(&self) -> MutexGuard<'_, HashMap<u64, bool>> {
        self.devices.lock().unwrap_or_else(|poisoned| poisoned.into_inner())
    }

    fn note(&self, note: impl FnOnce(&mut Unseen)) {
        note(&mut self.unseen.lock().unwrap_or_else(|poisoned| poisoned.into_inner()));
    }

    /// Whether the file system that a directory is on is walked.
    fn enters(&self, directory: &OwnedFd, path: &[u8], device: u64) -> bool {
        if let Some(known) = self.devices_seen().get(&device) {
            return *known;
        }
        let kind = rustix::fs::fstatfs(directory).map(|stat| stat.f_type as u32);
        let local = !self.stay && kind.is_ok_and(|kind| !NOT_LOCAL.contains(&kind));
        // Another thread may have come by it too: it is told once.
        if self.devices_seen().insert(device, local).is_none() && !local {
            let kind = self.mounts.kind_of(path).unwrap_or("another file system").to_owned();
            self.note(|unseen| unseen.left_out.push((path.into(), kind)));
        }
        local
    }

    fn directory<'s>(&'s self, scope: &Scope<'s>, ahead: Ahead) {
        let flags = DIRECTORY | OFlags::NONBLOCK;
        let inside = match rustix::fs::openat(&*ahead.above, &ahead.name, flags, Mode::empty()) {
            Ok(inside) => inside,
            // It went, or was swapped for something else, while we looked.
            Err(Errno::NOENT | Errno::NOTDIR | Errno::LOOP) => return,
            Err(error) => {
                let flags = AtFlags::SYMLINK_NOFOLLOW;
                match rustix::fs::statat(&*ahead.above, &ahead.name, flags) {
                    Ok(stat) if !ahead.told => tell(self.tell, &ahead.path, &stat),
                    _ => {}
                }
                let why = error.to_string();
                self.note(|unseen| unseen.unread.push((shown(&ahead.path), why)));
                return;
            }
        };
        drop(ahead.above);
        let stat = match rustix::fs::fstat(&inside) {
            Ok(stat) if stat.st_dev == ahead.device => stat,
            Ok(stat) if self.enters(&inside, &ahead.path, stat.st_dev) => stat,
            _ => return,
        };
        if !ahead.told {
            tell(self.tell, &ahead.path, &stat);
        }
        let (path, inside, device) = (Arc::new(ahead.path), Arc::new(inside), stat.st_dev);
        let mut buffer = BUFFER.take();
        buffer.reserve(ROOM);
        let mut entries = RawDir::new(&*inside, buffer.spare_capacity_mut());
        let (mut seen, mut batch) = (0, Vec::new());
        while let Some(entry) = entries.next() {
            let entry = match entry {
                Ok(entry) => entry,
                Err(error) => {
                    let why = error.to_string();
                    self.note(|unseen| unseen.unread.push((shown(&path), why)));
                    break;
                }
            };
            let name = entry.file_name();
            if name == c"." || name == c".." {
                continue;
            }
            seen += 1;
            if entry.file_type() == FileType::Directory {
                self.below(scope, &inside, &path, name, device);
            } else if seen <= BATCH {
                self.entry(scope, &inside, &path, name, device);
            } else {
                batch.push(name.to_owned());
            }
            if batch.len() == BATCH {
                self.share_out(scope, &inside, &path, std::mem::take(&mut batch), device);
            }
        }
        if !batch.is_empty() {
            self.share_out(scope, &inside, &path, batch, device);
        }
        BUFFER.set(buffer);
    }

    fn share_out<'s>(
        &'s self,
        scope: &Scope<'s>,
        inside: &Arc<OwnedFd>,
        path: &Arc<Vec<u8>>,
        names: Vec<CString>,
        device: u64,
    ) {
        let (inside, path) = (Arc::clone(inside), Arc::clone(path));
        scope.spawn(move |scope| {
            for name in &names {
                self.entry(scope, &inside, &path, name, device);
            }
        });
    }

    /// Goes on with a directory, unless it is left out.
    fn below<'s>(
        &'s self,
        scope: &Scope<'s>,
        inside: &Arc<OwnedFd>,
        path: &Arc<Vec<u8>>,
        name: &CStr,
        device: u64,
    ) {
        let below = [path, &b"/"[..], name.to_bytes()].concat();
        if self.but.contains(&below) {
            return;
        }
        if self.doubled.contains(&below) {
            let what = "shown elsewhere in the tree too".to_owned();
            self.note(|unseen| unseen.left_out.push((below.into(), what)));
            return;
        }
        let (above, name) = (Arc::clone(inside), name.to_owned());
        let ahead = Ahead { above, name, path: below, device, told: false };
        scope.spawn(move |scope| self.directory(scope, ahead));
    }

    #[inline]
    fn entry<'s>(
        &'s self,
        scope: &Scope<'s>,
        inside: &Arc<OwnedFd>,
        path: &Arc<Vec<u8>>,
        name: &CStr,
        device: u64,
    ) {
        let stat = match rustix::fs::statat(&**inside, name, AtFlags::SYMLINK_NOFOLLOW) {
            Ok(stat) => stat,
            Err(Errno::NOENT) => return,
            Err(error) => {
                let below = [path, &b"/"[..], name.to_bytes()].concat();
                self.note(|unseen| unseen.unread.push((shown(&below), error.to_string())));
                return;
            }
        };
        let met = Met { directory: path, name: name.to_bytes(), stat: &stat };
        if met.is_directory() {
            // The file system did not say so, or it is one only now.
            self.below(scope, inside, path, name, device);
        } else if self.but.is_empty() || !self.but.contains(&met.path()) {
            (self.tell)(&met);
        }
    }
}

thread_local! {
    /// What a thread reads directories into.
    static BUFFER: Cell<Vec<u8>> = const { Cell::new(Vec::new()) };
}

fn tell(tell: &Tell<'_>, path: &[u8], stat: &Stat) {
    let (directory, last) = path.split_at(path.iter().rposition(|&b| b == b'/').unwrap_or(0));
    let name = last.strip_prefix(b"/").unwrap_or(last);
    tell(&Met { directory, name, stat });
}

fn shown(path: &[u8]) -> BString {
    if path.is_empty() { "/".into() } else { path.into() }
}

/// An absolute path without doubled or trailing slashes.
fn tidy(path: &[u8]) -> Vec<u8> {
    let parts = path.split(|&byte| byte == b'/').filter(|part| !part.is_empty());
    parts.flat_map(|part| [b"/", part].concat()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(tree: &Tree, ground: Ground<'_>) -> (Vec<String>, Unseen) {
        let told = Mutex::new(Vec::new());
        let tell = |met: &Met<'_>| {
            told.lock().unwrap().push(String::from_utf8(met.path()).unwrap());
        };
        let unseen = walk(tree, ground, &tell).unwrap();
        let mut told = told.into_inner().unwrap();
        told.sort();
        (told, unseen)
    }

    #[test]
    fn everything_is_told_once_and_no_link_followed() {
        let place = tempfile::tempdir().unwrap();
        for directory in ["a/b/c", "left/out", "many"] {
            std::fs::create_dir_all(place.path().join(directory)).unwrap();
        }
        std::fs::write(place.path().join("a/b/file"), "").unwrap();
        std::os::unix::fs::symlink("/", place.path().join("a/link")).unwrap();
        let tree = Tree::open(place.path()).unwrap();
        let but = [BString::from("/left")];
        let (all, unseen) = told(&tree, Ground { but: &but, ..Ground::default() });
        assert_eq!(all, ["/", "/a", "/a/b", "/a/b/c", "/a/b/file", "/a/link", "/many"]);
        assert!(unseen.unread.is_empty());
        let paths = ["/a/b/".into(), "/a/link".into()];
        let (some, _) = told(&tree, Ground { paths: &paths, ..Ground::default() });
        assert_eq!(some, ["/a/b", "/a/b/c", "/a/b/file", "/a/link"]);
        let through = ["/a/link/etc".into()];
        let ground = Ground { paths: &through, ..Ground::default() };
        assert!(walk(&tree, ground, &|_| {}).is_err());
    }

    #[test]
    fn a_directory_with_very_many_files_is_shared_out() {
        let place = tempfile::tempdir().unwrap();
        std::fs::create_dir(place.path().join("many")).unwrap();
        for at in 0..2 * BATCH + 7 {
            std::fs::write(place.path().join(format!("many/{at}")), "").unwrap();
        }
        let tree = Tree::open(place.path()).unwrap();
        let (all, _) = told(&tree, Ground::default());
        assert_eq!(all.len(), 2 * BATCH + 7 + 2);
    }
}

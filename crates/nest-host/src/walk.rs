//! A parallel walk over the local file systems of a tree, by handles, no link
//! followed.

mod descent;
mod ladder;
mod met;

use std::cell::Cell;
use std::collections::{HashMap, HashSet};
use std::ffi::{CStr, CString};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::sync::{Arc, Mutex, MutexGuard};

use bstr::{BString, ByteSlice};
use nest_core::value::{TreePath, tidy};
use rayon::Scope;
use rustix::fs::{AtFlags, FileType, Mode, OFlags, RawDir};
use rustix::io::Errno;

use crate::interrupt::Patience;
use crate::mounts::{Mounts, is_local, is_read_only, mount_id};
use crate::place::Place;
use crate::tree::{DIRECTORY, Tree, path_of};

pub use descent::{At, Visitor, descend, descend_into};
pub use ladder::Ladder;
pub(crate) use ladder::{common_prefix, split_last};
pub use met::{Met, Reach, Status, Tell};

/// So many entries of a directory are looked at in one go: those of a directory
/// with very many are shared out.
const BATCH: usize = 4096;

/// How much of a directory is read at a time.
const ROOM: usize = 32 << 10;

/// Where to walk.
#[derive(Debug, Clone, Copy, Default)]
pub struct WalkScope<'a> {
    /// Where to start: paths in the tree that go through no link. Everything when
    /// there is none.
    pub paths: &'a [TreePath],
    /// Whether to stay on the file systems of the starting points.
    pub stay: bool,
    /// Paths that are left out, with everything below.
    pub but: &'a [TreePath],
    /// Whether file systems that are mounted below, and that nobody can write to, are left
    /// out.
    pub writable: bool,
}

/// What the walk did not see.
#[derive(Debug, Default)]
pub struct Unseen {
    /// What could not be read, and why.
    pub unread: Vec<(BString, Errno)>,
    /// Where file systems are mounted that were not walked, and what they are.
    pub left_out: Vec<(BString, String)>,
}

/// Walks.
///
/// # Errors
/// The system's, with the starting point that can't be walked from.
pub fn walk(
    tree: &Tree,
    scope: WalkScope<'_>,
    tell: &Tell<'_>,
) -> Result<Unseen, (BString, Errno)> {
    let mounts = Mounts::below(tree);
    let everything = [TreePath::root()];
    let paths = if scope.paths.is_empty() { &everything[..] } else { scope.paths };
    let named: HashSet<Vec<u8>> = paths.iter().map(|path| tidy(path)).collect();
    let but = scope.but.iter().map(|path| path.to_vec());
    let walk = Walk {
        tell,
        stay: scope.stay,
        writable: scope.writable,
        // What is named in its own right is not walked from above as well.
        but: but.chain(named.iter().filter(|path| is_below(path, &named)).cloned()).collect(),
        doubled: mounts.doubled(),
        mounts: &mounts,
        devices: Mutex::new(HashMap::new()),
        unseen: Mutex::new(Unseen::default()),
        open: Arc::default(),
    };
    let mut starts = Vec::new();
    for path in &named {
        let device = walk.look_at(tree, path).map_err(|error| (shown(path), error))?;
        starts.extend(device.map(|device| (path, device)));
    }
    rayon::scope(|scope| {
        for (path, device) in starts {
            let walk = &walk;
            scope.spawn(move |scope| walk.start(scope, tree, path, device));
        }
    });
    let mut unseen = walk.unseen.into_inner().unwrap_or_else(|poisoned| poisoned.into_inner());
    unseen.unread.sort_by(|(one, _), (other, _)| one.cmp(other));
    unseen.left_out.sort();
    Ok(unseen)
}

struct Walk<'a> {
    tell: &'a Tell<'a>,
    stay: bool,
    writable: bool,
    but: HashSet<Vec<u8>>,
    /// Mount points of what is walked elsewhere in the tree already.
    doubled: HashSet<Vec<u8>>,
    mounts: &'a Mounts,
    /// Whether the file system of a device is walked.
    devices: Mutex<HashMap<u64, bool>>,
    unseen: Mutex<Unseen>,
    /// Held by every directory that is open.
    open: Arc<()>,
}

/// A directory that is walked.
struct Inside {
    handle: OwnedFd,
    path: Vec<u8>,
    device: u64,
    /// Its mount, where that must not be left.
    mount: Option<u64>,
    /// One more is open as long as this lives.
    _open: Arc<()>,
}

/// While so many directories are open, what is below another one is gone through by
/// one thread alone, with few handles and without holding any path but its own.
const OPEN: usize = 256;

impl<'w> Walk<'w> {
    /// Tells a starting point; returns its device where it is a directory.
    fn look_at(&self, tree: &Tree, path: &[u8]) -> Result<Option<u64>, Errno> {
        let (above, name) = site(tree, path)?;
        let stat = rustix::fs::statat(&above, &name, AtFlags::SYMLINK_NOFOLLOW)?;
        let status = Status::of(&stat);
        let reach = Reach::In(above.as_fd(), name.to_bytes());
        (self.tell)(&Met::at(path, status, reach));
        if !status.is_directory() {
            return Ok(None);
        }
        self.devices_seen().insert(stat.st_dev, true);
        Ok(Some(stat.st_dev))
    }

    /// Walks from a starting point, which is opened only now: there may be more of them
    /// than the system lets us hold open.
    fn start<'s>(&'s self, scope: &Scope<'s>, tree: &Tree, path: &[u8], device: u64) {
        let entered = site(tree, path).map(|(above, name)| {
            let above = Above { handle: &above, device, mount: None };
            self.enter(above, &name, path, true)
        });
        match entered {
            Ok(None) => {}
            Ok(Some((handle, device, mount))) => {
                self.directory(scope, self.inside(handle, path.to_vec(), device, mount));
            }
            Err(error) => self.unread(path, error),
        }
    }

    fn devices_seen(&self) -> MutexGuard<'_, HashMap<u64, bool>> {
        self.devices.lock().unwrap_or_else(|poisoned| poisoned.into_inner())
    }

    fn note(&self, note: impl FnOnce(&mut Unseen)) {
        note(&mut self.unseen.lock().unwrap_or_else(|poisoned| poisoned.into_inner()));
    }

    fn unread(&self, path: &[u8], error: Errno) {
        self.note(|unseen| unseen.unread.push((shown(path), error)));
    }

    /// Whether the file system that a directory is on is walked.
    fn enters(&self, directory: &OwnedFd, path: &[u8], device: u64) -> bool {
        if let Some(known) = self.devices_seen().get(&device) {
            return *known;
        }
        let local = !self.stay && is_local(directory);
        let closed = local && self.writable && is_read_only(directory);
        let enters = local && !closed;
        // Another thread may have come by it too: it is told once.
        if self.devices_seen().insert(device, enters).is_none() && !enters {
            let kind = self.mounts.kind_of(path).unwrap_or("another file system");
            let kind = if closed { format!("{kind}, read-only") } else { kind.to_owned() };
            self.leave_out(path, &kind);
        }
        enters
    }

    fn inside(&self, handle: OwnedFd, path: Vec<u8>, device: u64, mount: Option<u64>) -> Inside {
        Inside { handle, path, device, mount, _open: Arc::clone(&self.open) }
    }

    /// Opens a directory, and tells it unless it was told already; returns it with its
    /// device and mount where it is walked.
    fn enter(
        &self,
        above: Above<'_>,
        name: &CStr,
        path: &[u8],
        told: bool,
    ) -> Option<(OwnedFd, u64, Option<u64>)> {
        let flags = DIRECTORY | OFlags::NONBLOCK;
        let handle = match rustix::fs::openat(above.handle, name, flags, Mode::empty()) {
            Ok(handle) => handle,
            // It went, or was swapped for something else, while we looked.
            Err(Errno::NOENT | Errno::NOTDIR | Errno::LOOP) => return None,
            Err(error) => {
                match rustix::fs::statat(above.handle, name, AtFlags::SYMLINK_NOFOLLOW) {
                    Ok(stat) if !told => {
                        let reach = Reach::In(above.handle.as_fd(), name.to_bytes());
                        (self.tell)(&Met::at(path, Status::of(&stat), reach));
                    }
                    _ => {}
                }
                self.unread(path, error);
                return None;
            }
        };
        let stat = rustix::fs::fstat(&handle).ok()?;
        // Two mounts of one file system have one device.
        let mount = if self.stay { mount_id(&handle) } else { None };
        if above.mount.is_some() && mount != above.mount {
            self.leave_out(path, self.mounts.kind_of(path).unwrap_or("mounted there"));
            return None;
        }
        if stat.st_dev != above.device && !self.enters(&handle, path, stat.st_dev) {
            return None;
        }
        if !told {
            (self.tell)(&Met::at(path, Status::of(&stat), Reach::Opened(handle.as_fd())));
        }
        Some((handle, stat.st_dev, mount))
    }

    fn leave_out(&self, path: &[u8], what: &str) {
        self.note(|unseen| unseen.left_out.push((path.into(), what.to_owned())));
    }

    fn directory<'s>(&'s self, scope: &Scope<'s>, inside: Inside) {
        let inside = Arc::new(inside);
        let mut buffer = BUFFER.take();
        buffer.reserve(ROOM);
        let mut entries = RawDir::new(&inside.handle, buffer.spare_capacity_mut());
        let (mut seen, mut batch) = (0, Vec::new());
        while let Some(entry) = entries.next() {
            // Whoever asked for the walk looks for that too.
            if Patience::Ends.check().is_err() {
                break;
            }
            let entry = match entry {
                Ok(entry) => entry,
                Err(error) => {
                    self.unread(&inside.path, error);
                    break;
                }
            };
            let name = entry.file_name();
            if name == c"." || name == c".." {
                continue;
            }
            seen += 1;
            if entry.file_type() == FileType::Directory {
                self.below(scope, &inside, name);
            } else if seen <= BATCH {
                self.entry(scope, &inside, name);
            } else {
                batch.push(name.to_owned());
            }
            if batch.len() == BATCH {
                self.share_out(scope, &inside, std::mem::take(&mut batch));
            }
        }
        if !batch.is_empty() {
            self.share_out(scope, &inside, batch);
        }
        BUFFER.set(buffer);
    }

    fn share_out<'s>(&'s self, scope: &Scope<'s>, inside: &Arc<Inside>, names: Vec<CString>) {
        let inside = Arc::clone(inside);
        scope.spawn(move |scope| names.iter().for_each(|name| self.entry(scope, &inside, name)));
    }

    /// Goes on with a directory, unless it is left out.
    fn below<'s>(&'s self, scope: &Scope<'s>, above: &Arc<Inside>, name: &CStr) {
        let below = [&above.path[..], b"/", name.to_bytes_with_nul()].concat();
        let Ok(below) = CString::from_vec_with_nul(below) else { return };
        if self.but.contains(below.as_bytes()) {
            return;
        }
        if self.doubled.contains(below.as_bytes()) {
            self.leave_out(below.as_bytes(), "shown elsewhere in the tree too");
            return;
        }
        let above = Arc::clone(above);
        scope.spawn(move |scope| {
            let name = &below.as_c_str()[above.path.len() + 1..];
            let Inside { handle, device, mount, .. } = &*above;
            let entered = Above { handle, device: *device, mount: *mount };
            let entered = self.enter(entered, name, below.as_bytes(), false);
            // So that no more directories are held open than have to be.
            drop(above);
            if let Some((handle, device, mount)) = entered {
                let inside = self.inside(handle, below.into_bytes(), device, mount);
                match Arc::strong_count(&self.open) > OPEN {
                    false => self.directory(scope, inside),
                    true => self.alone(scope, inside),
                }
            }
        });
    }

    /// Goes through everything below a directory without sharing any of it out.
    fn alone<'s>(&'s self, scope: &Scope<'s>, inside: Inside) {
        let Inside { handle, path, device, mount, _open } = inside;
        let start = path.len();
        let mut alone = Alone { walk: self, scope, path, start, device, mount };
        // Told to stop: whoever asked for the walk looks for that.
        if let Err(error) = descend_into(handle, Patience::Ends, &mut alone) {
            alone.path.truncate(start);
            self.unread(&alone.path, error);
        }
    }

    #[inline]
    fn entry<'s>(&'s self, scope: &Scope<'s>, inside: &Arc<Inside>, name: &CStr) {
        let status = match rustix::fs::statat(&inside.handle, name, AtFlags::SYMLINK_NOFOLLOW) {
            Ok(stat) => Status::of(&stat),
            Err(Errno::NOENT) => return,
            Err(error) => {
                let below = [&inside.path[..], b"/", name.to_bytes()].concat();
                self.unread(&below, error);
                return;
            }
        };
        let reach = Reach::In(inside.handle.as_fd(), name.to_bytes());
        let met = Met { directory: &inside.path, name: name.to_bytes(), status, reach };
        if status.is_directory() {
            // The file system did not say so, or it is one only now.
            self.below(scope, inside, name);
        } else if self.but.is_empty() || !self.but.contains(&met.path()) {
            (self.tell)(&met);
        }
    }
}

/// The directory that another one is in.
#[derive(Clone, Copy)]
struct Above<'a> {
    handle: &'a OwnedFd,
    device: u64,
    mount: Option<u64>,
}

/// Goes through a part of the tree that lies too deep to be shared out.
struct Alone<'a, 's> {
    walk: &'s Walk<'s>,
    scope: &'a Scope<'s>,
    /// The path of what is met, from the root of the tree on.
    path: Vec<u8>,
    /// How much of it is that of the place where the going began.
    start: usize,
    device: u64,
    mount: Option<u64>,
}

impl Alone<'_, '_> {
    /// Tells what is met; returns whether it is walked.
    fn meet(&mut self, at: &At<'_>) -> bool {
        self.path.truncate(self.start);
        self.path.extend_from_slice(at.path);
        if self.walk.but.contains(&self.path) {
            return false;
        }
        let reach = Reach::In(at.parent, at.name.as_bytes());
        (self.walk.tell)(&Met::at(&self.path, Status::of(at.stat), reach));
        true
    }
}

impl Visitor for Alone<'_, '_> {
    type Error = Errno;

    fn file(&mut self, at: &At<'_>) -> Result<(), Errno> {
        self.meet(at);
        Ok(())
    }

    fn enter(&mut self, at: &At<'_>, _: BorrowedFd<'_>) -> Result<bool, Errno> {
        Ok(self.meet(at))
    }

    fn mount(&mut self, path: &[u8], inside: BorrowedFd<'_>) -> Result<(), Errno> {
        self.path.truncate(self.start);
        self.path.extend_from_slice(path);
        let (walk, path) = (self.walk, &self.path);
        if walk.but.contains(path) {
            return Ok(());
        }
        if walk.doubled.contains(path) {
            walk.leave_out(path, "shown elsewhere in the tree too");
            return Ok(());
        }
        if self.mount.is_some() {
            walk.leave_out(path, walk.mounts.kind_of(path).unwrap_or("mounted there"));
            return Ok(());
        }
        let handle = rustix::fs::openat(inside, ".", DIRECTORY, Mode::empty())?;
        let stat = rustix::fs::fstat(&handle)?;
        if stat.st_dev != self.device && !walk.enters(&handle, path, stat.st_dev) {
            return Ok(());
        }
        (walk.tell)(&Met::at(path, Status::of(&stat), Reach::Opened(handle.as_fd())));
        let inside = walk.inside(handle, path.clone(), stat.st_dev, None);
        self.scope.spawn(move |scope| walk.directory(scope, inside));
        Ok(())
    }

    fn unreadable(&mut self, path: &[u8], error: Errno) -> Result<(), Errno> {
        self.path.truncate(self.start);
        self.path.extend_from_slice(path);
        self.walk.unread(&self.path, error);
        Ok(())
    }
}

thread_local! {
    /// What a thread reads directories into.
    static BUFFER: Cell<Vec<u8>> = const { Cell::new(Vec::new()) };
}

/// The directory that a starting point is in, and its name there.
fn site(tree: &Tree, path: &[u8]) -> Result<(OwnedFd, CString), Errno> {
    if path_of(path).components().count() <= 1 {
        return Ok((tree.open_file("/", DIRECTORY)?, CString::from(c".")));
    }
    let place = Place::of(tree, path)?;
    let name = CString::new(place.name.as_bytes()).map_err(|_| Errno::INVAL)?;
    Ok((place.directory, name))
}

fn shown(path: &[u8]) -> BString {
    if path.is_empty() { "/".into() } else { path.into() }
}

/// Whether a path is below one of these.
fn is_below(path: &[u8], any: &HashSet<Vec<u8>>) -> bool {
    path.find_iter("/").any(|end| any.contains(&path[..end]))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(tree: &Tree, scope: WalkScope<'_>) -> (Vec<String>, Unseen) {
        let told = Mutex::new(Vec::new());
        let tell = |met: &Met<'_>| {
            told.lock().unwrap().push(String::from_utf8(met.path()).unwrap());
        };
        let unseen = walk(tree, scope, &tell).unwrap();
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
        let but = [TreePath::judged(b"/left")];
        let (all, unseen) = told(&tree, WalkScope { but: &but, ..WalkScope::default() });
        assert_eq!(all, ["/", "/a", "/a/b", "/a/b/c", "/a/b/file", "/a/link", "/many"]);
        assert!(unseen.unread.is_empty());
        let paths = [&b"/a/b/"[..], b"/a/link"].map(TreePath::judged);
        let (some, _) = told(&tree, WalkScope { paths: &paths, ..WalkScope::default() });
        assert_eq!(some, ["/a/b", "/a/b/c", "/a/b/file", "/a/link"]);
        let doubled = [&b"/a/b"[..], b"//a/./b/", b"/a/b/file", b"/a"].map(TreePath::judged);
        let (once, _) = told(&tree, WalkScope { paths: &doubled, ..WalkScope::default() });
        assert_eq!(once, ["/a", "/a/b", "/a/b/c", "/a/b/file", "/a/link"]);
        let through = [TreePath::judged(b"/a/link/etc")];
        let scope = WalkScope { paths: &through, ..WalkScope::default() };
        assert!(walk(&tree, scope, &|_| {}).is_err());
    }

    #[test]
    fn a_status_tells_what_a_file_is() {
        let place = tempfile::tempdir().unwrap();
        std::fs::create_dir(place.path().join("inner")).unwrap();
        std::fs::write(place.path().join("log"), "forty-two").unwrap();
        std::fs::hard_link(place.path().join("log"), place.path().join("inner/log")).unwrap();
        std::os::unix::fs::symlink("log", place.path().join("link")).unwrap();
        let set_id = std::os::unix::fs::PermissionsExt::from_mode(0o2700);
        std::fs::set_permissions(place.path().join("inner"), set_id).unwrap();
        let owner = std::os::unix::fs::MetadataExt::uid(&place.path().metadata().unwrap());
        let told = Mutex::new(Vec::new());
        let tell = |met: &Met<'_>| {
            let (name, status) = (String::from_utf8(met.path()).unwrap(), met.status);
            assert_eq!((status.uid, status.number(false)), (owner, owner));
            let linked = !status.is_directory() && status.linked;
            told.lock().unwrap().push((name, linked, status.bytes(), status.is_set_id()));
        };
        walk(&Tree::open(place.path()).unwrap(), WalkScope::default(), &tell).unwrap();
        let mut told = told.into_inner().unwrap();
        told.sort();
        let told: Vec<_> = told.iter().map(|(name, a, b, c)| (&name[..], *a, *b, *c)).collect();
        assert_eq!(
            told,
            [
                ("/", false, 0, false),
                ("/inner", false, 0, true),
                ("/inner/log", true, 9, false),
                ("/link", false, 0, false),
                ("/log", true, 9, false),
            ]
        );
    }

    #[test]
    fn a_tree_that_is_deeper_than_descriptors_reach_is_walked_to_the_end() {
        let place = tempfile::tempdir().unwrap();
        let mut ladder = Ladder::new(std::fs::File::open(place.path()).unwrap().into());
        for _ in 0..2000 {
            for name in ["a", "b"] {
                rustix::fs::mkdirat(ladder.here(), name, Mode::RWXU).unwrap();
            }
            ladder.down("a".as_ref()).unwrap();
        }
        let tree = Tree::open(place.path()).unwrap();
        let (all, unseen) = told(&tree, WalkScope::default());
        assert_eq!((all.len(), unseen.unread.len()), (4001, 0));
        assert!(all.iter().any(|path| path.len() == 4000));
        while ladder.depth() > 0 {
            ladder.up().unwrap();
            for name in ["a", "b"] {
                rustix::fs::unlinkat(ladder.here(), name, AtFlags::REMOVEDIR).unwrap();
            }
        }
    }

    #[test]
    fn a_directory_with_very_many_files_is_shared_out() {
        let place = tempfile::tempdir().unwrap();
        std::fs::create_dir(place.path().join("many")).unwrap();
        for at in 0..2 * BATCH + 7 {
            std::fs::write(place.path().join(format!("many/{at}")), "").unwrap();
        }
        let tree = Tree::open(place.path()).unwrap();
        let (all, _) = told(&tree, WalkScope::default());
        assert_eq!(all.len(), 2 * BATCH + 7 + 2);
    }
}

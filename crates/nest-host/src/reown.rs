//! Finding the files that carry a number, and giving them another: by handles, no
//! link followed, no other file system entered.

use std::collections::BTreeMap;
use std::collections::btree_map::Entry;
use std::ffi::OsStr;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::sync::Mutex;

use bstr::{BStr, BString};
use nest_core::ownership::Reown;
use nest_core::surroundings::Carried;
use nest_core::value::TreePath;
use rustix::fs::{AtFlags, Gid, Mode, OFlags, Uid};
use rustix::io::Errno;

use crate::interrupt::Patience;
use crate::mounts::mount_id;
use crate::place::Place;
use crate::tree::{DIRECTORY, Tree};
use crate::walk::{Ladder, Met, Status, Unseen, WalkScope, split_last, walk};
use nest_core::words::{agree, counted};

/// The files that carry the number, and what has to be told about some of them.
#[derive(Debug, Default)]
pub struct Carriers {
    /// Paths in the tree, as [`give`] reads them.
    pub list: Vec<u8>,
    /// How many, and of what size.
    pub carried: Carried,
    /// What has to be told.
    pub notes: Vec<String>,
}

/// Looks for the files that carry `reown.from` below its paths. Files with more
/// than one link are told and left out, unless they are meant: another name of
/// theirs may be anybody's.
///
/// # Errors
/// The system's. A path that is not there is no error.
pub fn find(tree: &Tree, reown: &Reown) -> std::io::Result<Carriers> {
    let mut paths: Vec<TreePath> = Vec::new();
    for path in &reown.paths {
        // The root has no place of its own, and is there.
        if *path != TreePath::root() {
            match Place::of(tree, path).and_then(|place| place.exists(&place.name)) {
                Ok(true) => {}
                Ok(false) | Err(Errno::NOENT) => continue,
                Err(error) => return Err(error.into()),
            }
        }
        paths.push(path.clone());
    }
    if paths.is_empty() {
        return Ok(Carriers::default());
    }
    // Each thread has a list of its own: what it meets in turn has most of the path in
    // common.
    let threads = rayon::current_num_threads() + 1;
    let found: Vec<Mutex<(PathList, Carried)>> = (0..threads).map(|_| Mutex::default()).collect();
    let tell = |met: &Met<'_>| {
        let status = met.status;
        if status.number(reown.group) != reown.from {
            return;
        }
        let thread = rayon::current_thread_index().map_or(0, |thread| thread + 1);
        let mut found = found[thread.min(threads - 1)].lock().unwrap_or_else(poisoned);
        let (list, carried) = &mut *found;
        if !status.is_directory() && status.linked {
            carried.linked += 1;
            if !reown.hard_links {
                return;
            }
        }
        list.push(&met.path());
        carried.files += 1;
        carried.bytes += status.bytes();
        carried.set_id += u64::from(!status.is_directory() && status.is_set_id());
    };
    let scope = WalkScope { paths: &paths, stay: !reown.everywhere, but: &[] };
    let unseen = walk(tree, scope, &tell)
        .map_err(|(path, error)| std::io::Error::other(format!("{path}: {error}")))?;
    Patience::Ends.check()?;
    let (mut lists, mut carried) = (Vec::new(), Carried::default());
    for found in found {
        let (list, part) = found.into_inner().unwrap_or_else(poisoned);
        lists.push(list);
        carried.files += part.files;
        carried.bytes += part.bytes;
        carried.linked += part.linked;
        carried.set_id += part.set_id;
    }
    let list = PathList::joined(lists);
    Ok(Carriers { list, carried, notes: notes(reown, carried, &unseen) })
}

fn poisoned<T>(poisoned: std::sync::PoisonError<T>) -> T {
    poisoned.into_inner()
}

fn notes(reown: &Reown, carried: Carried, unseen: &Unseen) -> Vec<String> {
    let files = |count: u64| counted(count, "file", "files");
    let mut notes = Vec::new();
    if carried.linked > 0 && !reown.hard_links {
        notes.push(format!(
            "{} with more than one name left as {}: another name may be anywhere",
            files(carried.linked),
            reown.from
        ));
    }
    if carried.set_id > 0 {
        notes.push(format!(
            "the kernel clears the set-id bits of {} when the owner changes",
            files(carried.set_id)
        ));
    }
    let left_out = unseen.left_out.iter().map(|(path, kind)| format!("{path} ({kind})"));
    let left_out: Vec<String> = left_out.collect();
    if !left_out.is_empty() {
        notes.push(format!("not looked into: {}", left_out.join(", ")));
    }
    if let Some((path, why)) = unseen.unread.first() {
        let count = unseen.unread.len();
        let more = if count > 1 { format!(" and {} more", count - 1) } else { String::new() };
        notes.push(format!("could not be read: {path} ({why}){more}"));
    }
    notes
}

/// What came of giving files another number.
#[derive(Debug, Default)]
pub struct Given {
    /// How many files could not be given.
    pub refused: u64,
    /// The first of them, and why.
    pub first: Option<String>,
}

impl Given {
    fn refuse(&mut self, path: &[u8], error: Errno) {
        self.refused += 1;
        self.first.get_or_insert_with(|| format!("{} ({error})", BStr::new(path)));
    }

    /// What has to be told: files that carry the old number still.
    pub fn told(&self, reown: &Reown) -> Option<String> {
        let first = self.first.as_ref()?;
        let what = if reown.group { "gid" } else { "uid" };
        let (files, more) =
            (counted(self.refused, "file", "files"), agree(&self.refused, "", ", …"));
        Some(format!("{files} could not be given {what} {}: {first}{more}", reown.to))
    }
}

/// Gives the listed files the number `to`, those that still carry `from` and have
/// no other name, unless such files are meant; then flushes the file systems they are
/// on. What has gone since is passed over; what can't be given, because it
/// is as it is, is counted and stands in no way.
///
/// # Errors
/// The system's for a list that makes no sense or a flush that fails, and `ECANCELED` where
/// an interrupt is heeded.
pub fn give(
    tree: &Tree,
    list: &[u8],
    reown: &Reown,
    back: bool,
    patience: Patience,
) -> std::io::Result<Given> {
    let (from, to) = if back { (reown.to, reown.from) } else { (reown.from, reown.to) };
    let group = reown.group;
    let (uid, gid) = match group {
        true => (None, Some(Gid::from_raw(to))),
        false => (Some(Uid::from_raw(to)), None),
    };
    let mounts = Mounted::of(tree, reown);
    let root = || tree.open_file("/", DIRECTORY);
    let (mut ladder, mut given) = (Ladder::new(root()?), Given::default());
    let mut touched: BTreeMap<u64, OwnedFd> = BTreeMap::new();
    let mut paths = Paths::of(list);
    while let Some(path) = paths.next()? {
        patience.check()?;
        let (parent, name) = split_last(path);
        // The owner of a directory on the way may have put a link there.
        match ladder.go(parent) {
            Ok(()) => {}
            Err(error) => {
                ladder = Ladder::new(root()?);
                if !matches!(error, Errno::NOENT | Errno::NOTDIR | Errno::LOOP) {
                    given.refuse(path, error);
                }
                continue;
            }
        }
        let name = if name.is_empty() { OsStr::new(".") } else { OsStr::from_bytes(name) };
        let flags = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let file = match rustix::fs::openat(ladder.here(), name, flags, Mode::empty()) {
            Ok(file) => file,
            Err(Errno::NOENT) => continue,
            Err(error) => {
                given.refuse(path, error);
                continue;
            }
        };
        let stat = rustix::fs::fstat(&file)?;
        let status = Status::of(&stat);
        let others = !status.is_directory() && status.linked && !reown.hard_links;
        if status.number(group) != from || others || !mounts.holds(path, &file) {
            continue;
        }
        match rustix::fs::chownat(&file, "", uid, gid, AtFlags::EMPTY_PATH) {
            Ok(()) => {
                if let Entry::Vacant(entry) = touched.entry(stat.st_dev) {
                    entry.insert(ladder.here().try_clone_to_owned()?);
                }
            }
            // What its owner can do to a file stands in no way; a disk in trouble does, as
            // long as there is a way back.
            Err(error) if patience == Patience::Endless || is_of_the_file(error) => {
                given.refuse(path, error);
            }
            Err(error) => return Err(error.into()),
        }
    }
    // Before the journal goes: nothing else says whose they are.
    touched.values().try_for_each(rustix::fs::syncfs)?;
    Ok(given)
}

/// Whether an error is about one file alone: marked so that nobody can change it, or a
/// kind that has no owner.
fn is_of_the_file(error: Errno) -> bool {
    matches!(
        error,
        Errno::PERM | Errno::ACCESS | Errno::NOENT | Errno::OPNOTSUPP | Errno::INVAL | Errno::STALE
    )
}

/// On which mount each of the paths is that files are given below: what somebody has
/// mounted there since is not meant.
struct Mounted(Vec<(BString, Option<u64>)>);

impl Mounted {
    fn of(tree: &Tree, reown: &Reown) -> Self {
        let id = |path: &[u8]| {
            let place = Place::of(tree, path).ok()?;
            let flags = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
            let file = rustix::fs::openat(&place.directory, &place.name, flags, Mode::empty());
            mount_id(file.ok()?)
        };
        let paths = reown.paths.iter().filter(|_| !reown.everywhere);
        Mounted(paths.map(|path| (path.clone().into(), id(path))).collect())
    }

    fn holds(&self, path: &[u8], file: &OwnedFd) -> bool {
        let above = |start: &BString| {
            let rest = path.strip_prefix(start.strip_suffix(b"/").unwrap_or(start));
            rest.is_some_and(|rest| rest.is_empty() || rest.starts_with(b"/"))
        };
        let start = self.0.iter().filter(|(start, _)| above(start));
        let start = start.max_by_key(|(start, _)| start.len());
        start.and_then(|(_, mount)| *mount).is_none_or(|mount| mount_id(file) == Some(mount))
    }
}

/// Paths in the tree, each ended by a byte 0 and written as what it has in common with
/// the one before: `COUNT:REST`, the count in bytes. A path that has nothing in common
/// is written as it is; so many nested directories take no more room than their names.
#[derive(Debug, Default)]
struct PathList {
    text: Vec<u8>,
    last: Vec<u8>,
    /// How long all of them are, written out.
    whole: usize,
}

/// Lists whose paths have no more bytes than these are sorted.
const SORTED: usize = 64 << 20;

impl PathList {
    fn push(&mut self, path: &[u8]) {
        let common = self.last.iter().zip(path).take_while(|(a, b)| a == b).count();
        if common > 0 {
            self.text.extend_from_slice(format!("{common}:").as_bytes());
        }
        self.text.extend_from_slice(&path[common..]);
        self.text.push(0);
        self.last.truncate(common);
        self.last.extend_from_slice(&path[common..]);
        self.whole += path.len();
    }

    /// Several lists as one, in order where that is no great work.
    fn joined(lists: Vec<PathList>) -> Vec<u8> {
        let whole: usize = lists.iter().map(|list| list.whole).sum();
        let text: Vec<u8> = lists.into_iter().flat_map(|list| list.text).collect();
        if whole > SORTED {
            return text;
        }
        let (mut all, mut paths) = (Vec::new(), Paths::of(&text));
        while let Ok(Some(path)) = paths.next() {
            all.push(path.to_vec());
        }
        all.sort_unstable();
        let mut sorted = PathList::default();
        all.iter().for_each(|path| sorted.push(path));
        sorted.text
    }
}

/// Reads a list of paths.
struct Paths<'l> {
    rest: &'l [u8],
    path: Vec<u8>,
}

impl<'l> Paths<'l> {
    fn of(list: &'l [u8]) -> Self {
        Paths { rest: list, path: Vec::new() }
    }

    /// The next path; `None` after the last one.
    fn next(&mut self) -> std::io::Result<Option<&[u8]>> {
        let damaged = || std::io::Error::other("the list of files is damaged");
        if self.rest.is_empty() {
            return Ok(None);
        }
        let end = self.rest.iter().position(|&byte| byte == 0).ok_or_else(damaged)?;
        let (entry, rest) = self.rest.split_at(end);
        self.rest = &rest[1..];
        let (common, entry) = match entry.first() {
            Some(b'/') => (0, entry),
            _ => {
                let colon = entry.iter().position(|&byte| byte == b':').ok_or_else(damaged)?;
                let count = std::str::from_utf8(&entry[..colon]).ok();
                let count = count.and_then(|count| count.parse().ok()).ok_or_else(damaged)?;
                (count, &entry[colon + 1..])
            }
        };
        if common > self.path.len() {
            return Err(damaged());
        }
        self.path.truncate(common);
        self.path.extend_from_slice(entry);
        match TreePath::fits(&self.path) {
            true => Ok(Some(&self.path)),
            false => Err(damaged()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(list: &[u8]) -> std::io::Result<Vec<String>> {
        let (mut all, mut paths) = (Vec::new(), Paths::of(list));
        while let Some(path) = paths.next()? {
            all.push(String::from_utf8_lossy(path).into_owned());
        }
        Ok(all)
    }

    #[test]
    fn a_list_takes_little_more_than_what_its_paths_have_of_their_own() {
        let paths: Vec<String> = (1..=2000).map(|depth| "/d".repeat(depth)).collect();
        let mut list = PathList::default();
        paths.iter().for_each(|path| list.push(path.as_bytes()));
        assert!(list.text.len() < 2000 * 10, "{}", list.text.len());
        assert_eq!(read(&list.text).unwrap(), paths);
        let mut other = PathList::default();
        other.push(b"/a/b");
        let joined = read(&PathList::joined(vec![list, other])).unwrap();
        assert_eq!((joined.len(), joined[0].as_str()), (2001, "/a/b"));
    }

    #[test]
    fn a_list_of_whole_paths_is_read_too_and_one_that_makes_no_sense_refused() {
        assert_eq!(read(b"/home/maren\0/home\0").unwrap(), ["/home/maren", "/home"]);
        assert_eq!(read(b"").unwrap(), [""; 0]);
        for list in
            [&b"/home"[..], b"home\0", b"/a\x009:b\0", b"x:b\0", b"\0", b"/a/../b\0", b"0:b\0"]
        {
            assert!(read(list).is_err(), "{}", String::from_utf8_lossy(list));
        }
    }
}

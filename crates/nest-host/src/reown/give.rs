//! Giving the files of a list the numbers that they are to have.

use std::collections::BTreeMap;
use std::collections::btree_map::Entry as Slot;
use std::ffi::OsStr;
use std::io::{self, Read};
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::sync::Mutex;

use bstr::{BStr, BString};
use nest_core::ownership::{Owner, Reown};
use nest_core::words::{agree, counted};
use rayon::prelude::*;
use rustix::fs::{AtFlags, Mode, OFlags, Stat};
use rustix::io::Errno;

use super::attributes::{self, CAPABILITIES, LISTS};
use super::list::{Bits, Entries, Entry, Parts};
use super::{digest, lock};
use crate::interrupt::Patience;
use crate::mounts::mount_id;
use crate::place::{Place, by_handle};
use crate::tree::{DIRECTORY, Tree};
use crate::walk::{Ladder, Status, split_last};

/// So many parts of a list are gone through before what they did is flushed, and it is noted
/// how far that is.
const ROUND: usize = 64;

/// What came of giving files other numbers.
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
        self.first.get_or_insert_with(|| {
            let error = std::io::Error::from(error).to_string();
            let why = nest_core::words::without_error_numbers(&error);
            format!("{} ({why})", BStr::new(path))
        });
    }

    /// What has to be told: files that carry the old number still.
    pub fn told(&self, reown: &Reown) -> Option<String> {
        let first = self.first.as_ref()?;
        let (files, more) =
            (counted(self.refused, "file", "files"), agree(&self.refused, "", ", …"));
        let what = reown.in_words();
        Some(format!("{files} could not be given other numbers ({what}): {first}{more}"))
    }
}

/// How files are given other numbers.
pub struct Giving<'a> {
    /// The tree.
    pub tree: &'a Tree,
    /// Which numbers become which.
    pub reown: &'a Reown,
    /// Whether they get back what they had.
    pub back: bool,
    /// Whether this is what a crash left to be done.
    pub recovering: bool,
    /// Whether it heeds an interrupt.
    pub patience: Patience,
    /// Is told how many files were gone through.
    pub progress: &'a (dyn Fn(u64) + Sync),
}

/// One of each file system that something was altered on, to be flushed.
type Touched = BTreeMap<u64, OwnedFd>;

impl Giving<'_> {
    /// Goes through a list, of which `reached` bytes are gone through already, and notes how
    /// far it has come: all before that is on the disk. What has gone or changed hands since
    /// is passed over; what can't be given, because it is as it is, is counted and stands in no
    /// way.
    ///
    /// # Errors
    /// The system's for a list that makes no sense or a flush that fails, and `ECANCELED` where
    /// an interrupt is heeded.
    pub fn give(
        &self,
        list: impl Read,
        reached: u64,
        note: &dyn Fn(u64) -> io::Result<()>,
    ) -> io::Result<Given> {
        let mounts = Mounted::of(self.tree, self.reown);
        let mut parts = Parts::of(list, reached);
        let mut given = Given::default();
        loop {
            let mut round = Vec::new();
            while round.len() < ROUND
                && let Some(part) = parts.next()?
            {
                round.push(part);
            }
            if round.is_empty() {
                return Ok(given);
            }
            let last = round.len() < ROUND;
            let touched: Mutex<Touched> = Mutex::default();
            let all: Vec<Given> = round
                .into_par_iter()
                .map(|part| self.part(&part, &mounts, &touched))
                .collect::<io::Result<_>>()?;
            for part in all {
                given.refused += part.refused;
                given.first = given.first.or(part.first);
            }
            // Before the journal goes: nothing else says whose they are.
            lock(&touched).values().try_for_each(rustix::fs::syncfs)?;
            if !last {
                note(parts.reached)?;
            }
        }
    }

    fn part(&self, part: &[u8], mounts: &Mounted, touched: &Mutex<Touched>) -> io::Result<Given> {
        let root = || self.tree.open_file("/", DIRECTORY);
        let (mut ladder, mut given) = (Ladder::new(root()?), Given::default());
        let mut devices = Touched::new();
        let (mut entries, mut count) = (Entries::of(part), 0);
        while let Some((entry, path)) = entries.next()? {
            self.patience.check()?;
            count += 1;
            let (parent, name) = split_last(path);
            // The owner of a directory on the way may have put a link there.
            if let Err(error) = ladder.go(parent) {
                ladder = Ladder::new(root()?);
                if !matches!(error, Errno::NOENT | Errno::NOTDIR | Errno::LOOP) {
                    given.refuse(path, error);
                }
                continue;
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
            let others = !status.is_directory() && status.linked && !self.reown.hard_links;
            if others || !mounts.holds(path, &file) {
                continue;
            }
            match self.one(&file, &stat, &entry) {
                Ok(false) => {}
                Ok(true) => {
                    if let Slot::Vacant(slot) = devices.entry(stat.st_dev) {
                        slot.insert(ladder.here().try_clone_to_owned()?);
                    }
                }
                // What its owner can do to a file stands in no way; a disk in trouble does, as
                // long as there is a way back.
                Err(error) if self.patience == Patience::Endless || is_of_the_file(error) => {
                    given.refuse(path, error);
                }
                Err(error) => return Err(error.into()),
            }
        }
        (self.progress)(count);
        lock(touched).append(&mut devices);
        Ok(given)
    }

    /// Gives one file what it is to have. Returns whether it was altered.
    fn one(&self, file: &OwnedFd, stat: &Stat, entry: &Entry) -> Result<bool, Errno> {
        let status = Status::of(stat);
        let (before, after) = self.owners(status.owner(), entry);
        let uid = (status.uid == before.uid.0 && before.uid != after.uid).then_some(after.uid);
        let gid = (status.gid == before.gid.0 && before.gid != after.gid).then_some(after.gid);
        let gives = uid.is_some() || gid.is_some();
        if gives {
            let bits = entry.bits.is_some().then(|| attributes::of_handle(file, CAPABILITIES));
            let uid = uid.map(|uid| rustix::fs::Uid::from_raw(uid.0));
            let gid = gid.map(|gid| rustix::fs::Gid::from_raw(gid.0));
            rustix::fs::chownat(file, "", uid, gid, AtFlags::EMPTY_PATH)?;
            if let Some(capabilities) = bits.transpose()? {
                put_back(file, status.permissions(), capabilities.as_deref())?;
            }
        }
        // Between the two a crash or an error may have come.
        let mended = match &entry.bits {
            Some(bits) if gives || status.owner() == after => self.mend(file, bits)?,
            _ => false,
        };
        let mut listed = false;
        for (name, list) in LISTS.into_iter().zip(&entry.lists) {
            let Some(list) = list else { continue };
            let Some(other) = attributes::renumbered(list, self.reown) else { continue };
            let (before, after) = if self.back { (&other, list) } else { (list, &other) };
            if attributes::of_handle(file, name)?.as_ref() == Some(before) {
                attributes::set(file, name, after)?;
                listed = true;
            }
        }
        Ok(gives || mended || listed)
    }

    /// What a file has to carry, and what it gets.
    fn owners(&self, now: Owner, entry: &Entry) -> (Owner, Owner) {
        let mapped = |owner: Owner, reown: &Reown| {
            let (uid, gid) = reown.of(owner);
            Owner { uid: uid.unwrap_or(owner.uid), gid: gid.unwrap_or(owner.gid) }
        };
        let target = |owner| entry.target.unwrap_or_else(|| mapped(owner, self.reown));
        match (entry.owner, self.back) {
            (Some(owner), false) => (owner, target(owner)),
            (Some(owner), true) => (target(owner), owner),
            // Of such a list all that carry the number are meant.
            (None, false) => (now, mapped(now, self.reown)),
            (None, true) => (now, mapped(now, &self.reown.back())),
        }
    }

    /// Puts back what the kernel has cleared and a crash kept from being put back: where the
    /// file is the same, with the same contents. Its owner may have had days for others.
    fn mend(&self, file: &OwnedFd, bits: &Bits) -> Result<bool, Errno> {
        let Bits { mode, capabilities, identity, digest: wanted } = bits;
        if !self.recovering && !self.back {
            return Ok(false);
        }
        let stat = rustix::fs::fstat(file)?;
        let now = Status::of(&stat).permissions();
        let lost = mode & 0o6000 & !now != 0
            || !capabilities.is_empty() && attributes::of_handle(file, CAPABILITIES)?.is_none();
        if !lost || *identity != (stat.st_dev, stat.st_ino) {
            return Ok(false);
        }
        if now & !0o6000 != mode & !0o6000 {
            return Ok(false);
        }
        let path = by_handle(file.as_fd());
        let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::CLOEXEC;
        let opened = rustix::fs::open(&path[..], flags, Mode::empty())?;
        let same = digest(&mut opened.into()).is_ok_and(|it| it == *wanted && !it.is_empty());
        if same {
            put_back(
                file,
                *mode,
                Some(capabilities).filter(|some| !some.is_empty()).map(|c| &**c),
            )?;
        }
        Ok(same)
    }
}

/// Puts set-id bits and capabilities back, which the kernel has cleared.
fn put_back(file: &OwnedFd, mode: u32, capabilities: Option<&[u8]>) -> Result<(), Errno> {
    if mode & 0o6000 != 0 {
        rustix::fs::chmod(by_handle(file.as_fd()), Mode::from_raw_mode(mode))?;
    }
    capabilities.map_or(Ok(()), |value| attributes::set(file.as_fd(), CAPABILITIES, value))
}

/// Whether an error is about one file alone: marked so that nobody can change it, of a kind
/// that has no owner, or on a file system that nobody can write to.
fn is_of_the_file(error: Errno) -> bool {
    matches!(
        error,
        Errno::PERM
            | Errno::ACCESS
            | Errno::NOENT
            | Errno::OPNOTSUPP
            | Errno::INVAL
            | Errno::STALE
            | Errno::ROFS
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

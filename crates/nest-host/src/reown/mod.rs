//! Finding the files that carry some numbers, and giving them others: by handles, no link
//! followed, no other file system entered unless that is meant.
//!
//! First a walk lists them with what they are like; then the list is gone through. Each file
//! is compared with its entry, so that a list can be gone through twice, in either direction,
//! and none is mapped twice where numbers are exchanged.

mod attributes;
mod earlier;
mod give;
mod list;

use std::collections::{BTreeMap, HashMap, HashSet};
use std::io::{Error, Read, Result};
use std::os::fd::AsFd;
use std::sync::{Mutex, MutexGuard, PoisonError};

use bstr::BString;
use nest_core::ownership::{Owner, Reown};
use nest_core::surroundings::Carried;
use nest_core::value::{Gid, TreePath, Uid};
use nest_core::words::{agree, counted};
use rustix::fs::{Mode, OFlags};
use rustix::io::Errno;
use sha2::{Digest, Sha256};

use self::attributes::{CAPABILITIES, LISTS};
use self::list::{Bits, Entries, Entry, Part, Parts};
use crate::interrupt::Patience;
use crate::place::Place;
use crate::read::PIECE;
use crate::tree::Tree;
use crate::walk::{Met, Reach, Unseen, WalkScope, walk};
use crate::words::why;

pub use self::earlier::Earlier;
pub use self::give::{Given, Giving};

/// Takes parts of a list.
pub type Sink<'a> = dyn Fn(&[u8]) -> Result<()> + Sync + 'a;

/// What a search is for, besides counting.
#[derive(Clone, Copy, Default)]
pub struct Search<'a> {
    /// Where the list of what is found goes.
    pub list: Option<&'a Sink<'a>>,
    /// Where the list goes of files that carry one of the new numbers already, and that are
    /// not to be given it back.
    pub there: Option<&'a Sink<'a>>,
    /// A list of files that carried one of the numbers before, and keep it.
    pub but: &'a [u8],
}

/// The files that carry the numbers, and what has to be told about some of them.
#[derive(Debug, Clone, Default)]
pub struct Carriers {
    /// How many, and of what size.
    pub carried: Carried,
    /// What has to be told.
    pub notes: Vec<String>,
}

/// Looks for the files that carry the numbers below the paths. Files with more than one link
/// are told and left out, unless they are meant: another name of theirs may be anybody's.
///
/// # Errors
/// The system's. A path that is not there is no error.
pub fn find(tree: &Tree, reown: &Reown, search: Search<'_>) -> Result<Carriers> {
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
    let threads = if reown.follows { attributes::threads() } else { None };
    let own = threads.as_ref().map(rayon::ThreadPool::current_num_threads);
    let finding = Finding {
        reown,
        search,
        kept: kept(search.but)?,
        gets: [&reown.uids, &reown.gids].map(|mapping| {
            let pairs = mapping.pairs().iter().map(|(_, to)| *to);
            let mut gets = HashSet::with_capacity(mapping.pairs().len());
            gets.extend(pairs.filter(|to| mapping.get(*to).is_none()));
            gets
        }),
        // Each thread has a list of its own: what it meets in turn has most of the path in
        // common.
        found: (0..=own.unwrap_or_else(rayon::current_num_threads))
            .map(|_| Mutex::default())
            .collect(),
        linked: Mutex::default(),
        failed: Mutex::default(),
    };
    let tell = |met: &Met<'_>| finding.meet(met);
    let scope =
        WalkScope { paths: &paths, stay: !reown.everywhere, but: &[], writable: reown.everywhere };
    let unseen = match &threads {
        Some(threads) => threads.install(|| walk(tree, scope, &tell)),
        None => walk(tree, scope, &tell),
    };
    let unseen = unseen.map_err(|(path, error)| Error::other(format!("{path}: {}", why(error))))?;
    Patience::Ends.check()?;
    // What a disk in trouble keeps from being found would be left behind.
    if let Some((path, error)) = unseen.unread.iter().find(|(_, error)| is_trouble(*error)) {
        return Err(Error::other(format!("{path}: {}", Error::from(*error))));
    }
    finding.finish(&unseen)
}

/// Whether an error says that a directory is in trouble, and not that it is closed or went.
fn is_trouble(error: Errno) -> bool {
    !matches!(
        error,
        Errno::ACCESS
            | Errno::PERM
            | Errno::NOENT
            | Errno::NOTDIR
            | Errno::LOOP
            | Errno::STALE
            | Errno::NOTCONN
    )
}

/// Which files of a list keep which numbers, by their path.
fn kept(list: &[u8]) -> Result<HashMap<BString, Owner>> {
    let (mut kept, mut parts) = (HashMap::new(), Parts::of(list, 0));
    while let Some(part) = parts.next()? {
        let mut entries = Entries::of(&part);
        while let Some((entry, path)) = entries.next()? {
            kept.extend(entry.owner.map(|owner| (path.into(), owner)));
        }
    }
    Ok(kept)
}

struct Finding<'a> {
    reown: &'a Reown,
    search: Search<'a>,
    kept: HashMap<BString, Owner>,
    /// The uids, and the gids, that others become and that become none themselves.
    gets: [HashSet<u32>; 2],
    found: Vec<Mutex<Found>>,
    /// Files with more than one name that were met already.
    linked: Mutex<HashSet<(u64, u64)>>,
    /// The first thing that failed.
    failed: Mutex<Option<Error>>,
}

/// What one thread has found.
#[derive(Debug, Default)]
struct Found {
    carried: Carried,
    list: Part,
    there: Part,
    /// Whether a part of either list went into its sink already.
    flushed: [bool; 2],
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Finding<'_> {
    fn meet(&self, met: &Met<'_>) {
        let (status, owner) = (met.status, met.status.owner());
        let (mut uid, mut gid) = self.reown.of(owner);
        let mut target = None;
        let lists = if self.reown.follows { self.lists(met) } else { [None, None] };
        let there = [
            self.gets[0].contains(&owner.uid.0).then_some(owner.uid.0),
            self.gets[1].contains(&owner.gid.0).then_some(owner.gid.0),
        ];
        if !self.kept.is_empty()
            && (uid.is_some() || gid.is_some())
            && let Some(kept) = self.kept.get(bstr::BStr::new(&met.path()))
        {
            uid = uid.filter(|_| kept.uid != owner.uid);
            gid = gid.filter(|_| kept.gid != owner.gid);
            let (uid, gid) = (uid.unwrap_or(owner.uid), gid.unwrap_or(owner.gid));
            target = Some(Owner { uid, gid });
        }
        let thread = rayon::current_thread_index().map_or(0, |thread| thread + 1);
        let mut found = lock(&self.found[thread.min(self.found.len() - 1)]);
        let found = &mut *found;
        let carried = &mut found.carried;
        let mut entry = Entry { owner: Some(owner), target, bits: None, lists };
        if there != [None, None] {
            let [uids, gids] = there;
            uids.into_iter().for_each(|id| *carried.uids_there.entry(id).or_default() += 1);
            gids.into_iter().for_each(|id| *carried.gids_there.entry(id).or_default() += 1);
            // A number that is not there is written as one that nobody has.
            let there =
                Owner { uid: Uid(uids.unwrap_or(u32::MAX)), gid: Gid(gids.unwrap_or(u32::MAX)) };
            let there = Entry { owner: Some(there), ..Entry::default() };
            found.there.push(&there, &met.path());
            self.flush(self.search.there, &mut found.there, &mut found.flushed[1]);
        }
        let listed = entry.lists != [None, None];
        if uid.is_none() && gid.is_none() && !listed {
            carried.others += 1;
            return;
        }
        if !status.is_directory() && status.linked {
            let again = self.reown.hard_links && self.is_known(met);
            if again {
                return;
            }
            carried.linked += 1;
            if !self.reown.hard_links {
                return;
            }
        }
        carried.listed += u64::from(listed);
        if uid.is_some() || gid.is_some() {
            carried.files += 1;
            carried.bytes += status.bytes();
            carried.set_id += u64::from(!status.is_directory() && status.is_set_id());
            uid.into_iter().for_each(|_| *carried.uids.entry(owner.uid.0).or_default() += 1);
            gid.into_iter().for_each(|_| *carried.gids.entry(owner.gid.0).or_default() += 1);
            if self.reown.follows && status.is_regular() && self.search.list.is_some() {
                entry.bits = self.bits(met);
            }
        }
        found.list.push(&entry, &met.path());
        self.flush(self.search.list, &mut found.list, &mut found.flushed[0]);
    }

    fn fail(&self, met: &Met<'_>, error: impl Into<Error>) {
        let path = String::from_utf8_lossy(&met.path()).into_owned();
        lock(&self.failed).get_or_insert_with(|| Error::other(format!("{path}: {}", error.into())));
    }

    /// Gives a part that is full to its sink.
    fn flush(&self, sink: Option<&Sink<'_>>, part: &mut Part, flushed: &mut bool) {
        let Some(sink) = sink else {
            // Whoever only counts wants no list.
            *part = Part::default();
            return;
        };
        if let Some(full) = part.take_full() {
            *flushed = true;
            if let Err(error) = sink(&full) {
                lock(&self.failed).get_or_insert(error);
            }
        }
    }

    /// The access control lists that name a number which becomes another.
    fn lists(&self, met: &Met<'_>) -> [Option<Vec<u8>>; 2] {
        if met.status.is_link() {
            return [None, None];
        }
        let mut lists = LISTS.map(|name| match name == LISTS[1] && !met.status.is_directory() {
            true => None,
            // One that can't be read is told where its owner is changed.
            false => attribute(met, name).unwrap_or_default(),
        });
        for list in &mut lists {
            *list = list.take().filter(|list| attributes::renumbered(list, self.reown).is_some());
        }
        lists
    }

    /// What the kernel clears when the owner changes.
    fn bits(&self, met: &Met<'_>) -> Option<Bits> {
        let found = || -> std::io::Result<Option<Bits>> {
            let capabilities = attribute(met, CAPABILITIES)?.unwrap_or_default();
            let mode = met.status.permissions();
            if capabilities.is_empty() && mode & 0o6000 == 0 {
                return Ok(None);
            }
            let Reach::In(directory, name) = met.reach else { return Ok(None) };
            let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
            let mut file =
                std::fs::File::from(rustix::fs::openat(directory, name, flags, Mode::empty())?);
            let stat = rustix::fs::fstat(file.as_fd())?;
            let digest = digest(&mut file)?;
            let identity = (stat.st_dev, stat.st_ino);
            Ok(Some(Bits { mode, capabilities, identity, digest }))
        };
        found().unwrap_or_else(|error| {
            self.fail(met, error);
            None
        })
    }

    /// Whether a file was met under another name of its already.
    fn is_known(&self, met: &Met<'_>) -> bool {
        let Reach::In(directory, name) = met.reach else { return false };
        let here = rustix::fs::AtFlags::SYMLINK_NOFOLLOW;
        let stat = rustix::fs::statat(directory, name, here);
        stat.is_ok_and(|stat| !lock(&self.linked).insert((stat.st_dev, stat.st_ino)))
    }

    /// The rest of the lists goes into the sinks; in the order of the paths where it is not
    /// much.
    fn finish(self, unseen: &Unseen) -> Result<Carriers> {
        let Finding { reown, search, found, failed, .. } = self;
        if let Some(error) = failed.into_inner().unwrap_or_else(PoisonError::into_inner) {
            return Err(error);
        }
        let found: Vec<Found> = found
            .into_iter()
            .map(|found| found.into_inner().unwrap_or_else(PoisonError::into_inner))
            .collect();
        let (mut carried, mut lists, mut there) = (Carried::default(), Vec::new(), Vec::new());
        let mut flushed = [false; 2];
        for part in found {
            add(&mut carried, &part.carried);
            lists.push(part.list);
            there.push(part.there);
            flushed[0] |= part.flushed[0];
            flushed[1] |= part.flushed[1];
        }
        for (sink, parts, flushed) in
            [(search.list, lists, flushed[0]), (search.there, there, flushed[1])]
        {
            match sink {
                None => {}
                Some(sink) if flushed => parts.iter().try_for_each(|part| sink(&part.text))?,
                Some(sink) => sink(&Part::sorted(&parts)?)?,
            }
        }
        let notes = notes(reown, &carried, unseen);
        Ok(Carriers { carried, notes })
    }
}

/// Reads an attribute of something that was met.
fn attribute(met: &Met<'_>, name: &str) -> std::result::Result<Option<Vec<u8>>, Errno> {
    let found = match met.reach {
        Reach::Opened(handle) => attributes::of_handle(handle, name),
        Reach::In(directory, entry) => {
            attributes::of_entry_in(met.directory, directory, entry, name)
        }
    };
    match found {
        // It went, or the way to it is not there to be gone.
        Err(Errno::NOENT) => Ok(None),
        found => found,
    }
}

/// Longer files are not read: whoever owns one may make it as long as a disk can't be.
const MOST_READ: u64 = 64 << 20;

/// The SHA-256 of the contents of a file; nothing of one that is too long.
fn digest(file: &mut std::fs::File) -> Result<String> {
    let mut hasher = Sha256::new();
    let (mut piece, mut read) = (vec![0; PIECE], 0);
    loop {
        match file.read(&mut piece)? {
            0 => break,
            count => hasher.update(&piece[..count]),
        }
        read += PIECE as u64;
        if read > MOST_READ {
            return Ok(String::new());
        }
    }
    Ok(hasher.finalize().iter().map(|byte| format!("{byte:02x}")).collect())
}

fn add(sum: &mut Carried, part: &Carried) {
    sum.files += part.files;
    sum.bytes += part.bytes;
    sum.linked += part.linked;
    sum.set_id += part.set_id;
    sum.listed += part.listed;
    sum.others += part.others;
    let add = |sum: &mut BTreeMap<u32, u64>, part: &BTreeMap<u32, u64>| {
        part.iter().for_each(|(id, count)| *sum.entry(*id).or_default() += count);
    };
    add(&mut sum.uids, &part.uids);
    add(&mut sum.gids, &part.gids);
    add(&mut sum.uids_there, &part.uids_there);
    add(&mut sum.gids_there, &part.gids_there);
}

fn notes(reown: &Reown, carried: &Carried, unseen: &Unseen) -> Vec<String> {
    let files = |count: u64| counted(count, "file", "files");
    let mut notes = Vec::new();
    if carried.linked > 0 && !reown.hard_links {
        let many = agree(&carried.linked, "it is", "they are");
        notes.push(format!(
            "{} with more than one name left as {many}: another name may be anywhere",
            files(carried.linked),
        ));
    }
    if carried.set_id > 0 && !reown.follows {
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

/// The list of the files that a change gave other numbers as one of what they are like now:
/// what `back` needs, which takes that change back.
///
/// # Errors
/// The system's, and one for a list that makes no sense.
pub fn turned_round(list: impl std::io::Read, back: &Reown, sink: &Sink<'_>) -> Result<()> {
    let forth = back.back();
    let mut parts = Parts::of(list, 0);
    while let Some(part) = parts.next()? {
        let (mut turned, mut entries) = (Part::default(), Entries::of(&part));
        while let Some((entry, path)) = entries.next()? {
            let target = entry.target.or_else(|| {
                let owner = entry.owner?;
                let (uid, gid) = forth.of(owner);
                Some(Owner { uid: uid.unwrap_or(owner.uid), gid: gid.unwrap_or(owner.gid) })
            });
            let turned_entry = Entry { owner: target, target: entry.owner, ..Entry::default() };
            turned.push(&turned_entry, path);
        }
        sink(&turned.text)?;
    }
    Ok(())
}

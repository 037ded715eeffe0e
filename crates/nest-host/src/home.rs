//! Making directories and files for users: by handles, under a temporary name
//! until the change happens, and without following any link.

use std::ffi::OsStr;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use nest_core::change::NewFile;
use nest_core::ownership::Owner;
use nest_core::value::{FileKind, TreePath, is_relative_path};
use rustix::fs::{AtFlags, FileType, Gid, Mode, OFlags, Uid};
use rustix::io::Errno;

use crate::copy::copy_contents;
use crate::interrupt::Patience;
use crate::inventory::open_met;
use crate::labels::Labeller;
use crate::place::{NEW, Place, beside, tree_path};
use crate::stage::write_all;
use crate::tree::{DIRECTORY, Tree, path_of};
use crate::undone::Undone;
use crate::walk::{At, Ladder, Visitor, descend, descend_into};

/// How things are made.
pub struct StagingOptions<'a> {
    /// On the live system an owner that can't be set is an error.
    pub live: bool,
    /// Whether each thing is flushed as it is made; else [`flush_all`] has to
    /// follow.
    pub flush: bool,
    /// Whether something was made that can't be flushed by itself: a link with an owner.
    pub links: bool,
    /// The owners and labels left undone.
    pub undone: &'a mut Vec<Undone>,
    /// What else has to be told.
    pub notes: &'a mut Vec<String>,
}

/// Flushes everything on the file systems that hold these paths: quicker than one
/// by one when much was made.
///
/// # Errors
/// The system's, where a path can't be opened or a disk won't take it.
pub fn flush_all<'p>(tree: &Tree, paths: impl Iterator<Item = &'p [u8]>) -> std::io::Result<()> {
    let mut flushed = Vec::new();
    let mut parents: Vec<&Path> = paths.filter_map(|path| path_of(path).parent()).collect();
    parents.sort_unstable();
    parents.dedup();
    for parent in parents {
        let directory = tree.open_directory_strictly(parent)?;
        let device = rustix::fs::fstat(&directory)?.st_dev;
        if !flushed.contains(&device) {
            flushed.push(device);
            rustix::fs::syncfs(&directory)?;
        }
    }
    Ok(())
}

impl StagingOptions<'_> {
    fn flush(&self, descriptor: impl AsFd) -> Result<(), Errno> {
        if self.flush { rustix::fs::fsync(descriptor) } else { Ok(()) }
    }

    /// Takes an attempt to set an owner for done, noted, or failed.
    fn note(
        &mut self,
        what: &str,
        owner: Owner,
        attempt: Result<(), Errno>,
    ) -> std::io::Result<()> {
        match attempt {
            Err(Errno::PERM | Errno::INVAL) if !self.live => {
                let note = Undone::Right(format!("{what}: owner {}:{}", owner.uid, owner.gid));
                // One line for a home, not one for each file in it.
                if !self.undone.contains(&note) {
                    self.undone.push(note);
                }
                Ok(())
            }
            result => Ok(result?),
        }
    }
}

const NEW_FILE: OFlags = OFlags::WRONLY
    .union(OFlags::CREATE)
    .union(OFlags::EXCL)
    .union(OFlags::NOFOLLOW)
    .union(OFlags::CLOEXEC);
const PRIVATE_FILE: Mode = Mode::RUSR.union(Mode::WUSR);
const NO_FLAGS: AtFlags = AtFlags::empty();

fn ids(owner: Owner) -> (Option<Uid>, Option<Gid>) {
    (Some(Uid::from_raw(owner.uid.0)), Some(Gid::from_raw(owner.gid.0)))
}

/// Makes a directory with everything in it, under a temporary name.
///
/// # Errors
/// The system's. Nothing is left behind then.
pub fn stage_directory(
    tree: &Tree,
    path: &[u8],
    skeleton: Option<&[u8]>,
    files: &[NewFile],
    owner: Owner,
    mode: u32,
    options: &mut StagingOptions<'_>,
) -> std::io::Result<()> {
    let place = Place::of(tree, path)?;
    let (directory, temporary) = (&place.directory, place.beside(NEW));
    let make = || rustix::fs::mkdirat(directory, &temporary, Mode::RWXU);
    match make() {
        Err(Errno::EXIST) => {
            // We hold the lock: this is what a killed run left. Only root can
            // put something there, as the parent of homes is root's.
            remove_all(directory, &temporary, Patience::Endless)?;
            make()?;
        }
        made => made?,
    }
    let filled = (|| {
        let home = rustix::fs::openat(directory, &temporary, DIRECTORY, Mode::empty())?;
        // Where the parent is somebody's own, they could have put another
        // directory into its place by now.
        if rustix::fs::fstat(&home)?.st_uid != rustix::process::geteuid().as_raw() {
            return Err(Errno::STALE.into());
        }
        let mut copy = Copy::below(tree, path, owner, options);
        if let Some(skeleton) = skeleton {
            let flags = OFlags::RDONLY | OFlags::DIRECTORY;
            let skeleton = tree.open_file(path_of(skeleton), flags)?;
            let target = Ladder::new(home.try_clone()?);
            let mut from_skeleton = FromSkeleton { target, copy: &mut copy };
            descend_into(skeleton, Patience::Ends, &mut from_skeleton)?;
        }
        for file in files {
            copy.file(&home, file)?;
        }
        copy.own(&home, b"", FileKind::Directory)?;
        rustix::fs::fchmod(&home, Mode::from_raw_mode(mode))?;
        match copy.options.flush && std::mem::take(&mut copy.options.links) {
            true => rustix::fs::syncfs(&home)?,
            false => copy.options.flush(&home)?,
        }
        Ok(())
    })();
    if filled.is_err() {
        let _ = remove_all(directory, &temporary, Patience::Endless);
    }
    filled
}

/// The directories that a file below a directory needs and that are not there,
/// outermost first, as paths in the tree.
///
/// # Errors
/// The system's, where the directory can't be reached, or something else stands on the way.
pub fn missing_directories(tree: &Tree, below: &[u8], file: &[u8]) -> Result<Vec<TreePath>, Errno> {
    if !is_relative_path(file) {
        return Err(Errno::INVAL);
    }
    let mut directory = tree.open_directory_strictly(path_of(below))?;
    let mut path = path_of(below).to_owned();
    let mut missing = Vec::new();
    for part in path_of(file).parent().into_iter().flatten() {
        path.push(part);
        if missing.is_empty() {
            match rustix::fs::openat(&directory, part, DIRECTORY, Mode::empty()) {
                Ok(next) => directory = next,
                Err(Errno::NOENT) => missing.push(tree_path(&path)),
                Err(error) => return Err(error),
            }
        } else {
            missing.push(tree_path(&path));
        }
    }
    Ok(missing)
}

/// Makes a file below a directory that may be a user's, under a temporary name;
/// directories on the way are made with mode 0700.
///
/// # Errors
/// The system's. Nothing is left behind then.
pub fn stage_file(
    tree: &Tree,
    below: &[u8],
    file: &NewFile,
    owner: Owner,
    options: &mut StagingOptions<'_>,
) -> std::io::Result<()> {
    if !is_relative_path(&file.path) {
        return Err(Errno::INVAL.into());
    }
    let mut directory = tree.open_directory_strictly(path_of(below))?;
    let path = path_of(&file.path);
    let (Some(parent), Some(name)) = (path.parent(), path.file_name()) else {
        return Err(Errno::INVAL.into());
    };
    let whole = [below, b"/", &file.path].concat();
    let mut copy = Copy { base: below.to_vec(), ..Copy::below(tree, &whole, owner, options) };
    let mut way = PathBuf::new();
    for part in parent {
        way.push(part);
        let fresh = match rustix::fs::mkdirat(&directory, part, Mode::RWXU) {
            Ok(()) => true,
            Err(Errno::EXIST) => false,
            Err(error) => return Err(error.into()),
        };
        let next = rustix::fs::openat(&directory, part, DIRECTORY, Mode::empty())?;
        if fresh {
            copy.own(&next, way.as_os_str().as_bytes(), FileKind::Directory)?;
            copy.options.flush(&next)?;
            copy.options.flush(&directory)?;
        }
        directory = next;
    }
    let temporary = beside(name, NEW);
    let filled = rustix::fs::openat(&directory, &temporary, NEW_FILE, PRIVATE_FILE)
        .map_err(Into::into)
        .and_then(|descriptor| copy.fill(&descriptor, file));
    if filled.is_err() {
        let _ = remove_all(&directory, &temporary, Patience::Endless);
    }
    filled
}

struct Copy<'a, 'b> {
    owner: Owner,
    /// The directory that is made, or in which something is made, as a path in the tree.
    base: Vec<u8>,
    labeller: Labeller,
    /// What is being made, for the list of owners left undone.
    what: String,
    options: &'a mut StagingOptions<'b>,
}

impl<'a, 'b> Copy<'a, 'b> {
    fn below(tree: &Tree, path: &[u8], owner: Owner, options: &'a mut StagingOptions<'b>) -> Self {
        let labeller = Labeller::below(tree, path);
        for note in labeller.notes() {
            if !options.notes.contains(&note) {
                options.notes.push(note);
            }
        }
        let what = path_of(path).display().to_string();
        Copy { owner, base: path.to_vec(), labeller, what, options }
    }

    /// Gives something its owner, and the label that belongs at a path below.
    fn own(&mut self, made: &OwnedFd, path: &[u8], kind: FileKind) -> std::io::Result<()> {
        let (uid, gid) = ids(self.owner);
        let flags = AtFlags::EMPTY_PATH;
        let owned = rustix::fs::chownat(made, "", uid, gid, flags);
        self.options.note(&self.what, self.owner, owned)?;
        if self.labeller.sets_nothing() {
            return Ok(());
        }
        let path = match path {
            b"" => self.base.clone(),
            path => [&self.base[..], b"/", path.strip_prefix(b"/").unwrap_or(path)].concat(),
        };
        Ok(self.labeller.set(made, (&path, kind), &self.what, self.options.undone)?)
    }

    /// Puts a file into a home that is being made.
    fn file(&mut self, home: &OwnedFd, file: &NewFile) -> std::io::Result<()> {
        if !is_relative_path(&file.path) {
            return Err(Errno::INVAL.into());
        }
        let path = path_of(&file.path);
        let mut directory = home.try_clone()?;
        let (mut on_the_way, mut way) = (Vec::new(), PathBuf::new());
        for part in path.parent().into_iter().flatten() {
            way.push(part);
            match rustix::fs::mkdirat(&directory, part, Mode::RWXU) {
                Ok(()) | Err(Errno::EXIST) => {}
                Err(error) => return Err(error.into()),
            }
            let next = rustix::fs::openat(&directory, part, DIRECTORY, Mode::empty())?;
            // The SSH server trusts no directory that others can write.
            rustix::fs::fchmod(&next, Mode::RWXU)?;
            self.own(&next, way.as_os_str().as_bytes(), FileKind::Directory)?;
            on_the_way.push(std::mem::replace(&mut directory, next));
        }
        let name = path.file_name().ok_or(Errno::INVAL)?;
        // The skeleton may have one already: then these lines come after it.
        let flags =
            OFlags::WRONLY | OFlags::CREATE | OFlags::APPEND | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let descriptor = rustix::fs::openat(&directory, name, flags, PRIVATE_FILE)?;
        self.fill(&descriptor, file)?;
        on_the_way.push(directory);
        // The home itself is flushed when all is in it.
        on_the_way.iter().skip(1).try_for_each(|directory| self.options.flush(directory))?;
        Ok(())
    }

    fn fill(&mut self, descriptor: &OwnedFd, file: &NewFile) -> std::io::Result<()> {
        self.own(descriptor, &file.path, FileKind::File)?;
        write_all(descriptor, &file.contents)?;
        rustix::fs::fchmod(descriptor, Mode::from_raw_mode(file.mode))?;
        Ok(self.options.flush(descriptor)?)
    }
}

/// Copies what is in a skeleton: links stay links, and modes stay but for set-id bits,
/// which were not given to the new user.
struct FromSkeleton<'c, 'a, 'b> {
    target: Ladder,
    copy: &'c mut Copy<'a, 'b>,
}

/// The bits of a mode that a copy of a skeleton gets.
fn mode_of_copy(at: &At<'_>) -> Mode {
    Mode::from_raw_mode(at.stat.st_mode & 0o1777)
}

impl Visitor for FromSkeleton<'_, '_, '_> {
    type Error = std::io::Error;

    fn file(&mut self, at: &At<'_>) -> std::io::Result<()> {
        let to = self.target.here();
        match FileType::from_raw_mode(at.stat.st_mode) {
            FileType::RegularFile => {
                let source = open_met(at)?;
                let target = rustix::fs::openat(to, at.name, NEW_FILE, PRIVATE_FILE)?;
                self.copy.own(&target, at.path, FileKind::File)?;
                let size = at.stat.st_size.cast_unsigned();
                copy_contents(&source, &target, size, &mut Vec::new(), &|_| {})?;
                rustix::fs::fchmod(&target, mode_of_copy(at))?;
                Ok(self.copy.options.flush(&target)?)
            }
            FileType::Symlink => {
                let target = rustix::fs::readlinkat(at.parent, at.name, Vec::new())?;
                rustix::fs::symlinkat(&target, to, at.name)?;
                self.copy.options.links = true;
                let flags = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
                let made = rustix::fs::openat(to, at.name, flags, Mode::empty())?;
                self.copy.own(&made, at.path, FileKind::Link)
            }
            // Planning looked for these; something was put there since.
            _ => Err(Errno::INVAL.into()),
        }
    }

    fn enter(&mut self, at: &At<'_>, _: BorrowedFd<'_>) -> std::io::Result<bool> {
        rustix::fs::mkdirat(self.target.here(), at.name, Mode::RWXU)?;
        self.target.down(at.name)?;
        Ok(true)
    }

    fn leave(&mut self, at: &At<'_>, _: BorrowedFd<'_>) -> std::io::Result<()> {
        let made = self.target.up()?;
        self.copy.own(&made, at.path, FileKind::Directory)?;
        rustix::fs::fchmod(&made, mode_of_copy(at))?;
        Ok(self.copy.options.flush(&made)?)
    }
}

/// Gives a directory itself to somebody else, if it is still `from`'s.
///
/// # Errors
/// The system's; `ESTALE` when the owner is another one by now.
pub fn give_directory(
    tree: &Tree,
    path: &[u8],
    from: Owner,
    to: Owner,
    options: &mut StagingOptions<'_>,
) -> std::io::Result<()> {
    let directory = tree.open_directory_strictly(path_of(path))?;
    let stat = rustix::fs::fstat(&directory)?;
    if (stat.st_uid, stat.st_gid) == (to.uid.0, to.gid.0) {
        return Ok(());
    }
    if (stat.st_uid, stat.st_gid) != (from.uid.0, from.gid.0) {
        return Err(Errno::STALE.into());
    }
    let (uid, gid) = ids(to);
    options.note(
        &path_of(path).display().to_string(),
        to,
        rustix::fs::fchown(&directory, uid, gid),
    )?;
    Ok(options.flush(&directory)?)
}

/// Removes an entry of a directory and everything below it, by handles. What is
/// mounted below is not entered. One thing that can't be removed keeps none of the
/// others.
///
/// # Errors
/// The first one of the system's, `EXDEV` for a mount, `ECANCELED` where an interrupt is
/// heeded; what is not there is no error.
pub fn remove_all(directory: impl AsFd, name: &OsStr, patience: Patience) -> Result<(), Errno> {
    let mut removing = Removing { failed: None };
    match descend(directory, name, patience, &mut removing) {
        Ok(()) | Err(Errno::NOENT) => removing.failed.map_or(Ok(()), Err),
        Err(error) => Err(error),
    }
}

struct Removing {
    /// The first thing that failed.
    failed: Option<Errno>,
}

impl Removing {
    fn note(&mut self, done: Result<(), Errno>) {
        match done {
            Ok(()) | Err(Errno::NOENT) => {}
            Err(error) => {
                self.failed.get_or_insert(error);
            }
        }
    }
}

impl Visitor for Removing {
    type Error = Errno;

    fn file(&mut self, at: &At<'_>) -> Result<(), Errno> {
        self.note(rustix::fs::unlinkat(at.parent, at.name, NO_FLAGS));
        Ok(())
    }

    fn enter(&mut self, _: &At<'_>, _: BorrowedFd<'_>) -> Result<bool, Errno> {
        Ok(true)
    }

    fn leave(&mut self, at: &At<'_>, _: BorrowedFd<'_>) -> Result<(), Errno> {
        self.note(rustix::fs::unlinkat(at.parent, at.name, AtFlags::REMOVEDIR));
        Ok(())
    }

    fn mount(&mut self, _: &[u8], _: BorrowedFd<'_>) -> Result<(), Errno> {
        self.note(Err(Errno::XDEV));
        Ok(())
    }

    fn unreadable(&mut self, _: &[u8], error: Errno) -> Result<(), Errno> {
        self.note(Err(error));
        Ok(())
    }
}

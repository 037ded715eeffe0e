//! The tree being administered: an opened root directory inside which every
//! path is resolved, so that a link in an image never leads out of it.

use std::collections::VecDeque;
use std::ffi::{OsStr, OsString};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Component, Path, PathBuf};
use std::sync::{Arc, OnceLock};

use nest_core::labels::FileContexts;
use nest_core::value::FileKind;
use rustix::fs::{AtFlags, Dir, FileType, Mode, OFlags, ResolveFlags, Stat};
use rustix::io::{Errno, Result};

/// The kernel takes paths of fewer bytes than this, `PATH_MAX` in limits.h.
const MOST_AT_ONCE: usize = 4095;

/// The most links that one path may go through, as in the kernel.
const MOST_LINKS: usize = 40;

/// An opened tree.
#[derive(Debug)]
pub struct Tree {
    root: OwnedFd,
    path: PathBuf,
    live: bool,
    labels: OnceLock<FoundLabels>,
}

/// What is known of the security labels of a tree.
#[derive(Debug, Default)]
pub(crate) struct FoundLabels {
    /// Which label belongs to which path; nothing where the tree does not say.
    pub contexts: Option<Arc<FileContexts>>,
    /// Whether what a label forbids is refused, as the settings have it.
    pub enforcing: bool,
    /// Why there are none, although there should be.
    pub fault: Option<String>,
}

/// Why a tree can't be opened.
#[derive(Debug, thiserror::Error)]
#[expect(missing_docs, reason = "the sentence of each shows what its fields are")]
pub enum TreeError {
    /// Nothing there.
    #[error("there is no directory {0}")]
    Missing(String),
    /// Not a directory.
    #[error("{0} is not a directory; a tree is the root directory of a system")]
    NotADirectory(String),
    /// It can't be opened.
    #[error("{path} can't be opened")]
    Unopened { path: String, source: Errno },
}

/// Where a path leads once every link is followed: an entry of a directory,
/// which may or may not be there.
#[derive(Debug)]
pub struct Located {
    /// The directory.
    pub directory: OwnedFd,
    /// The name in it.
    pub name: OsString,
    /// The path inside the tree, without links.
    pub path: PathBuf,
}

/// Flags for opening a directory only to go on from it.
const STEP: OFlags = OFlags::PATH.union(OFlags::DIRECTORY).union(OFlags::CLOEXEC);

impl Tree {
    /// Opens the tree at `path`.
    ///
    /// # Errors
    /// [`TreeError`] when it is not there, no directory, or out of reach.
    pub fn open(path: &Path) -> std::result::Result<Self, TreeError> {
        let shown = || path.display().to_string();
        let root = rustix::fs::open(path, STEP, Mode::empty()).map_err(|error| match error {
            Errno::NOENT => TreeError::Missing(shown()),
            Errno::NOTDIR => TreeError::NotADirectory(shown()),
            source => TreeError::Unopened { path: shown(), source },
        })?;
        // By device and inode: `//`, `/proc/self/root` and a bind mount of the
        // root are the running system too.
        let live = match (rustix::fs::fstat(&root), rustix::fs::stat("/")) {
            (Ok(ours), Ok(real)) => (ours.st_dev, ours.st_ino) == (real.st_dev, real.st_ino),
            _ => false,
        };
        Ok(Tree { root, path: path.to_owned(), live, labels: OnceLock::new() })
    }

    /// Whether the tree is the running system itself.
    pub fn is_live(&self) -> bool {
        self.live
    }

    /// The path the tree was opened by.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// What is known of its security labels, which is looked up once.
    pub(crate) fn found_labels(&self, find: impl FnOnce() -> FoundLabels) -> &FoundLabels {
        self.labels.get_or_init(find)
    }

    /// The root directory.
    pub fn root(&self) -> BorrowedFd<'_> {
        self.root.as_fd()
    }

    /// Opens a path, links followed inside the tree.
    ///
    /// # Errors
    /// The system's; `ENOENT` where it is not there, `EXDEV` where it would leave the tree.
    pub fn open_file(&self, path: impl AsRef<Path>, flags: OFlags) -> Result<OwnedFd> {
        let path = path.as_ref();
        let flags = flags | OFlags::CLOEXEC;
        // Longer paths than the kernel takes at once.
        if path.as_os_str().len() > MOST_AT_ONCE {
            return self.open_by_walking(path, flags);
        }
        let resolve = ResolveFlags::IN_ROOT | ResolveFlags::NO_MAGICLINKS;
        match rustix::fs::openat2(&self.root, inside(path), flags, Mode::empty(), resolve) {
            Err(Errno::NOSYS | Errno::PERM) => self.open_by_walking(path, flags),
            opened => opened,
        }
    }

    /// What is in a directory, with what each is.
    ///
    /// # Errors
    /// The system's, where it can't be read to its end.
    pub fn entries(&self, path: impl AsRef<Path>) -> Result<Vec<(Vec<u8>, FileType)>> {
        entries_of(&self.open_file(path, OFlags::RDONLY | OFlags::DIRECTORY)?)
    }

    /// The paths of the files in a directory, sorted; hidden ones are left out.
    pub(crate) fn files_in(&self, directory: &str) -> Vec<String> {
        self.names_in(directory, |kind| kind != FileType::Directory)
    }

    /// The paths of the directories in a directory, sorted; hidden ones are left out.
    pub(crate) fn directories_in(&self, directory: &str) -> Vec<String> {
        self.names_in(directory, |kind| kind == FileType::Directory)
    }

    fn names_in(&self, directory: &str, counts: impl Fn(FileType) -> bool) -> Vec<String> {
        let entries = self.entries(directory).unwrap_or_default().into_iter();
        let counting = entries.filter(|(name, kind)| counts(*kind) && !name.starts_with(b"."));
        let path = |name: &[u8]| format!("{directory}/{}", String::from_utf8_lossy(name));
        let mut names: Vec<String> = counting.map(|(name, _)| path(&name)).collect();
        names.sort();
        names
    }

    /// Opens a directory whose path must not go through any link.
    ///
    /// # Errors
    /// The system's; `ELOOP` where a link is on the way.
    pub fn open_directory_strictly(&self, path: impl AsRef<Path>) -> Result<OwnedFd> {
        let path = path.as_ref();
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let resolve =
            ResolveFlags::IN_ROOT | ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS;
        match rustix::fs::openat2(&self.root, inside(path), flags, Mode::empty(), resolve) {
            Err(Errno::NOSYS | Errno::PERM | Errno::NAMETOOLONG) => {
                let mut directory = reopen(&self.root)?;
                for part in parts(path) {
                    if part == ".." {
                        return Err(Errno::INVAL);
                    }
                    let next = STEP | OFlags::NOFOLLOW;
                    directory = rustix::fs::openat(&directory, part, next, Mode::empty())?;
                }
                reopen(&directory)
            }
            opened => opened,
        }
    }

    /// What stands at a path, links followed inside the tree.
    ///
    /// # Errors
    /// The system's; `ENOENT` when nothing is there.
    pub fn stat(&self, path: impl AsRef<Path>) -> Result<Stat> {
        rustix::fs::fstat(self.open_file(path, OFlags::PATH)?)
    }

    /// For kernels and sandboxes without `openat2`, and for paths that are too long.
    fn open_by_walking(&self, path: &Path, flags: OFlags) -> Result<OwnedFd> {
        let (directory, name) = match path.file_name().filter(|_| flags.contains(OFlags::NOFOLLOW))
        {
            // The last one is not to be followed.
            Some(name) => {
                let above = self.locate(path.parent().unwrap_or(Path::new("/")))?;
                let flags = STEP | OFlags::NOFOLLOW;
                let above =
                    rustix::fs::openat(&above.directory, &above.name, flags, Mode::empty())?;
                (above, name.to_owned())
            }
            None => {
                let located = self.locate(path)?;
                (located.directory, located.name)
            }
        };
        rustix::fs::openat(&directory, &name, flags | OFlags::NOFOLLOW, Mode::empty())
    }

    /// Where a directory really is that is reached by a link which only the owner of the tree
    /// can have made: as `/var/mail`, where mail is in `/var/spool/mail`. Nothing where it is
    /// reached without one, or by one of somebody else's.
    pub fn behind_own_link(&self, directory: &Path) -> Option<PathBuf> {
        let (parent, name) = (directory.parent()?, directory.file_name()?);
        let parent = self.open_directory_strictly(parent).ok()?;
        let owner = rustix::fs::fstat(&self.root).ok()?.st_uid;
        let (holds, link) = (
            rustix::fs::fstat(&parent).ok()?,
            rustix::fs::statat(&parent, name, AtFlags::SYMLINK_NOFOLLOW).ok()?,
        );
        let is_link = FileType::from_raw_mode(link.st_mode) == FileType::Symlink;
        let own = holds.st_uid == owner && link.st_uid == owner && holds.st_mode & 0o022 == 0;
        if !is_link || !own {
            return None;
        }
        let real = Path::new("/").join(self.locate(directory).ok()?.path);
        self.open_directory_strictly(&real).is_ok().then_some(real)
    }

    /// Follows every link of a path inside the tree, the last one included, by
    /// handles: nobody can change what was already passed. Nothing has to be at
    /// the end.
    ///
    /// # Errors
    /// The system's; `ELOOP` after 40 links.
    pub fn locate(&self, path: impl AsRef<Path>) -> Result<Located> {
        let mut batch: VecDeque<OsString> = parts(path.as_ref()).map(ToOwned::to_owned).collect();
        let mut behind: Vec<(OwnedFd, OsString)> = Vec::new();
        let mut links = 0;
        while let Some(part) = batch.pop_front() {
            if part == ".." {
                behind.pop();
                continue;
            }
            let here = behind.last().map_or(self.root.as_fd(), |(directory, _)| directory.as_fd());
            let kind = match rustix::fs::statat(here, &part, AtFlags::SYMLINK_NOFOLLOW) {
                Ok(stat) => Some(FileType::from_raw_mode(stat.st_mode)),
                Err(Errno::NOENT) if batch.is_empty() => None,
                Err(error) => return Err(error),
            };
            if kind == Some(FileType::Symlink) {
                links += 1;
                if links > MOST_LINKS {
                    return Err(Errno::LOOP);
                }
                let target = rustix::fs::readlinkat(here, &part, Vec::new())?.into_bytes();
                let target = PathBuf::from(OsString::from_vec(target));
                if target.is_absolute() {
                    behind.clear();
                }
                parts(&target).rev().for_each(|part| batch.push_front(part.to_owned()));
            } else if batch.is_empty() {
                return located(here, &behind, part);
            } else {
                let next = rustix::fs::openat(here, &part, STEP | OFlags::NOFOLLOW, Mode::empty())?;
                behind.push((next, part));
            }
        }
        // The path ends in a directory that was passed already: the root, or
        // what `..` led back to.
        match behind.pop() {
            None => located(self.root.as_fd(), &behind, ".".into()),
            Some((_, name)) => {
                let here = behind.last().map_or(self.root.as_fd(), |(fd, _)| fd.as_fd());
                located(here, &behind, name)
            }
        }
    }
}

fn located(
    here: BorrowedFd<'_>,
    behind: &[(OwnedFd, OsString)],
    name: OsString,
) -> Result<Located> {
    let mut path = PathBuf::from("/");
    path.extend(behind.iter().map(|(_, name)| name));
    path.push(&name);
    Ok(Located { directory: reopen(&here)?, name, path })
}

/// A handle that a directory can be read and flushed by, or at least one to go
/// on from where reading is not allowed.
fn reopen(directory: &impl AsFd) -> Result<OwnedFd> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
    match rustix::fs::openat(directory, ".", flags, Mode::empty()) {
        Err(Errno::ACCESS) => rustix::fs::openat(directory, ".", STEP, Mode::empty()),
        opened => opened,
    }
}

/// The parts of a path; a leading slash and `.` are left out.
fn parts(path: &Path) -> impl DoubleEndedIterator<Item = &OsStr> {
    path.components().filter_map(|component| match component {
        Component::Normal(part) => Some(part),
        Component::ParentDir => Some(OsStr::new("..")),
        _ => None,
    })
}

/// The path as openat2 takes it for the root itself.
fn inside(path: &Path) -> &Path {
    if path.as_os_str().is_empty() { Path::new(".") } else { path }
}

/// What is in an opened directory, with what each is.
///
/// # Errors
/// The system's, where it can't be read to its end.
fn entries_of(directory: &OwnedFd) -> Result<Vec<(Vec<u8>, FileType)>> {
    let mut all = Vec::new();
    for entry in Dir::read_from(directory)? {
        let entry = entry?;
        let name = entry.file_name().to_bytes();
        if name != b"." && name != b".." {
            all.push((name.to_vec(), entry.file_type()));
        }
    }
    Ok(all)
}

/// A path of bytes.
pub fn path_of(bytes: &[u8]) -> &Path {
    Path::new(OsStr::from_bytes(bytes))
}

/// How a directory is opened that has to be one itself.
pub(crate) const DIRECTORY: OFlags =
    OFlags::RDONLY.union(OFlags::DIRECTORY).union(OFlags::NOFOLLOW).union(OFlags::CLOEXEC);

/// What a file is.
pub(crate) fn kind_of(stat: &Stat) -> FileKind {
    match FileType::from_raw_mode(stat.st_mode) {
        FileType::Directory => FileKind::Directory,
        FileType::Symlink => FileKind::Link,
        FileType::Fifo => FileKind::Fifo,
        FileType::Socket => FileKind::Socket,
        FileType::BlockDevice | FileType::CharacterDevice => FileKind::Device,
        _ => FileKind::File,
    }
}

/// The names in a directory, sorted; not `.` and `..`.
///
/// # Errors
/// The system's, where it can't be read.
pub(crate) fn names(directory: &OwnedFd) -> Result<Vec<OsString>> {
    let entries = entries_of(directory)?.into_iter();
    let mut names: Vec<OsString> = entries.map(|(name, _)| OsString::from_vec(name)).collect();
    names.sort_unstable();
    Ok(names)
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;

    fn tree() -> (tempfile::TempDir, Tree) {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(folder.path().join("etc/real")).unwrap();
        std::fs::write(folder.path().join("etc/real/file"), "inside").unwrap();
        symlink("/etc/real", folder.path().join("etc/absolute")).unwrap();
        symlink("../../../../etc/real/file", folder.path().join("etc/climbing")).unwrap();
        symlink("absolute/missing", folder.path().join("etc/dangling")).unwrap();
        symlink("loop", folder.path().join("etc/loop")).unwrap();
        let tree = Tree::open(folder.path()).unwrap();
        (folder, tree)
    }

    #[test]
    fn links_are_followed_inside_the_tree_only_by_both_ways_of_opening() {
        let (_folder, tree) = tree();
        assert!(!tree.is_live());
        for path in ["/etc/absolute/file", "etc/climbing", "../../etc/real/./file"] {
            let text = crate::untrusted::read_configuration(&tree, path).unwrap();
            assert_eq!(text, b"inside", "{path}");
            let walked = tree.open_by_walking(Path::new(path), OFlags::RDONLY).unwrap();
            let mut text = String::new();
            std::io::Read::read_to_string(&mut std::fs::File::from(walked), &mut text).unwrap();
            assert_eq!(text, "inside", "{path}");
        }
        assert_eq!(tree.stat("/etc/passwd").unwrap_err(), Errno::NOENT);
        assert_eq!(tree.locate("etc/loop").unwrap_err(), Errno::LOOP);
    }

    #[test]
    fn a_path_is_located_where_its_last_link_leads() {
        let (_folder, tree) = tree();
        let located = tree.locate("etc/dangling").unwrap();
        assert_eq!(located.path, Path::new("/etc/real/missing"));
        assert_eq!(tree.locate("/etc/climbing").unwrap().path, Path::new("/etc/real/file"));
        assert_eq!(tree.locate("/").unwrap().name, ".");
        assert_eq!(tree.locate("/etc/real/..").unwrap().path, Path::new("/etc"));
        assert_eq!(tree.locate("/nowhere/at/all").unwrap_err(), Errno::NOENT);
    }

    #[test]
    fn a_strict_path_goes_through_no_link() {
        let (_folder, tree) = tree();
        assert!(tree.open_directory_strictly("/etc/real").is_ok());
        assert_eq!(tree.open_directory_strictly("/etc/absolute").unwrap_err(), Errno::LOOP);
    }

    #[test]
    fn the_live_system_is_known_by_any_spelling() {
        for path in ["/", "//", "/proc/self/root", "/usr/.."] {
            assert!(Tree::open(Path::new(path)).unwrap().is_live(), "{path}");
        }
        assert!(matches!(Tree::open(Path::new("/no/such")), Err(TreeError::Missing(_))));
        let file = tempfile::NamedTempFile::new().unwrap();
        assert!(matches!(Tree::open(file.path()), Err(TreeError::NotADirectory(_))));
    }
}

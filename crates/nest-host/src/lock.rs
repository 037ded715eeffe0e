//! The system-wide account-file lock: a write lock by `fcntl` on
//! `etc/.pwd.lock`, the one that the C library's own locking call takes
//! (`lckpwdf(3)`). Every program that uses that call waits for us, and we for it.

use std::os::fd::OwnedFd;
use std::time::{Duration, Instant};

use rustix::fs::{FlockOperation, Mode, OFlags};
use rustix::io::Errno;

use crate::tree::Tree;

/// How often the lock is tried while somebody else holds it. The kernel offers
/// no waiting with an end.
const PAUSE: Duration = Duration::from_millis(20);

/// How long a wait may be before it is worth a word.
const A_MOMENT: Duration = Duration::from_millis(500);

/// The lock, held until it is dropped.
///
/// The descriptor is the only one of that file in this process: closing any
/// other would let the lock go.
#[derive(Debug)]
pub struct Lock {
    _descriptor: OwnedFd,
}

/// Why the lock was not had.
#[derive(Debug, thiserror::Error)]
#[expect(missing_docs, reason = "the sentence of each shows what its fields are")]
pub enum LockError {
    /// Somebody else has it.
    #[error("the account files are locked by {holder}, and stayed so for {waited} s")]
    Held { holder: String, waited: u64 },
    /// The lock file is not a plain file.
    #[error("etc/.pwd.lock is {0}, not a file; nobody can take the account-file lock")]
    NotAFile(&'static str),
    /// The lock file can't be opened.
    #[error("etc/.pwd.lock can't be opened")]
    Unopened(#[source] Errno),
}

impl Lock {
    /// Takes the lock, waiting for it for at most `wait`. When that takes more
    /// than a moment, `waiting` is told once who holds it.
    ///
    /// # Errors
    /// [`LockError`] where somebody else keeps it, or its file can't be opened.
    pub fn acquire(
        tree: &Tree,
        wait: Duration,
        waiting: &mut dyn FnMut(&str),
    ) -> Result<Self, LockError> {
        let located = tree.locate("etc").map_err(LockError::Unopened)?;
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
        let etc = rustix::fs::openat(&located.directory, &located.name, flags, Mode::empty())
            .map_err(LockError::Unopened)?;
        let flags =
            OFlags::RDWR | OFlags::CREATE | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
        let mode = Mode::RUSR | Mode::WUSR;
        let descriptor = match rustix::fs::openat(&etc, ".pwd.lock", flags, mode) {
            Ok(descriptor) => descriptor,
            Err(Errno::LOOP) => return Err(LockError::NotAFile("a link")),
            Err(Errno::ISDIR) => return Err(LockError::NotAFile("a directory")),
            Err(error) => return Err(LockError::Unopened(error)),
        };
        let stat = rustix::fs::fstat(&descriptor).map_err(LockError::Unopened)?;
        if !rustix::fs::FileType::from_raw_mode(stat.st_mode).is_file() {
            return Err(LockError::NotAFile("something special"));
        }
        let at = (stat.st_dev, stat.st_ino);
        let name = || holder(at).unwrap_or_else(|| "another process".into());
        let began = Instant::now();
        let mut told = false;
        loop {
            match rustix::fs::fcntl_lock(&descriptor, FlockOperation::NonBlockingLockExclusive) {
                Ok(()) => return Ok(Lock { _descriptor: descriptor }),
                Err(Errno::AGAIN | Errno::ACCESS) if began.elapsed() < wait => {
                    if !told && began.elapsed() > A_MOMENT {
                        waiting(&name());
                        told = true;
                    }
                    std::thread::sleep(PAUSE.min(wait));
                }
                Err(Errno::AGAIN | Errno::ACCESS) => {
                    return Err(LockError::Held { holder: name(), waited: wait.as_secs() });
                }
                Err(Errno::INTR) => {}
                Err(error) => return Err(LockError::Unopened(error)),
            }
        }
    }
}

/// The process that holds a lock on the file of this device and inode, from `/proc/locks`,
/// proc(5). A holder outside our process namespace has no number there. Some file systems show
/// another device there than for the file: then the inode has to do.
fn holder((device, inode): (u64, u64)) -> Option<String> {
    let locks = std::fs::read_to_string("/proc/locks").ok()?;
    let device = Some((rustix::fs::major(device), rustix::fs::minor(device)));
    let exact = locks.lines().find_map(|line| pid_in(line, device, inode));
    let pid = exact.or_else(|| locks.lines().find_map(|line| pid_in(line, None, inode)))?;
    Some(match std::fs::read_to_string(format!("/proc/{pid}/comm")) {
        Ok(name) => format!("process {pid} ({})", name.trim()),
        Err(_) => format!("process {pid}"),
    })
}

/// Whether anybody holds a lock on the inode, also from outside our process
/// namespace.
pub(crate) fn is_held(inode: u64) -> bool {
    let locks = std::fs::read_to_string("/proc/locks").unwrap_or_default();
    let of_inode = |line: &str| {
        let file = line.split_whitespace().nth(5)?;
        file.rsplit(':').next()?.parse::<u64>().ok()
    };
    locks.lines().any(|line| of_inode(line) == Some(inode))
}

/// The process id in a line of `/proc/locks` like
/// `1: POSIX  ADVISORY  WRITE 1234 08:01:5678 0 EOF`, if it is about the inode, and of the
/// device of these numbers where they are given.
fn pid_in(line: &str, device: Option<(u32, u32)>, inode: u64) -> Option<u32> {
    let mut words = line.split_whitespace();
    let pid = words.nth(4)?.parse().ok().filter(|pid| *pid > 0)?;
    let mut file = words.next()?.split(':');
    let mut number = || u32::from_str_radix(file.next()?, 16).ok();
    let of = (number()?, number()?);
    let same = device.is_none_or(|device| device == of);
    (same && file.next()?.parse() == Ok(inode)).then_some(pid)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_holder_is_read_from_the_kernels_list() {
        let line = "1: POSIX  ADVISORY  WRITE 1234 08:01:5678 0 EOF";
        assert_eq!(pid_in(line, None, 5678), Some(1234));
        assert_eq!(pid_in(line, Some((8, 1)), 5678), Some(1234));
        // The same inode of another file system is another file.
        assert_eq!(pid_in(line, Some((8, 2)), 5678), None);
        assert_eq!(pid_in(line, None, 567), None);
        assert_eq!(pid_in("2: OFDLCK ADVISORY  WRITE -1 08:01:5678 0 EOF", None, 5678), None);
        assert_eq!(pid_in("1: -> POSIX", None, 5678), None);
    }

    #[test]
    fn a_lock_file_that_is_no_file_is_refused() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(folder.path().join("etc/.pwd.lock")).unwrap();
        let tree = Tree::open(folder.path()).unwrap();
        let error = Lock::acquire(&tree, Duration::ZERO, &mut |_| {}).unwrap_err();
        assert!(matches!(error, LockError::NotAFile("a directory")), "{error}");
        std::fs::remove_dir(folder.path().join("etc/.pwd.lock")).unwrap();
        std::os::unix::fs::symlink("/etc/target", folder.path().join("etc/.pwd.lock")).unwrap();
        let error = Lock::acquire(&tree, Duration::ZERO, &mut |_| {}).unwrap_err();
        assert!(matches!(error, LockError::NotAFile("a link")), "{error}");
        assert!(!folder.path().join("etc/target").exists());
    }
}

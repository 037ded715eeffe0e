//! The file with the first passwords of many new accounts.

use std::collections::HashMap;
use std::fs::{File, OpenOptions};
use std::io::{ErrorKind, Write};
use std::os::fd::AsRawFd;
use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};

use bstr::BString;
use nest_core::words::counted;
use nest_host::commit::Watcher;
use nest_host::{interrupt, secrets};
use rayon::prelude::*;
use rustix::fs::{AtFlags, CWD, OFlags};
use zeroize::Zeroizing;

use super::{Failure, Global, REFUSED, Result, Session, UNTOUCHED};
use crate::view::Bar;

/// A name, its first password, and the hash of that.
type First<'n> = (&'n BString, Zeroizing<String>, BString);

/// Made before the change, and gone again when it fails. It has no name until the passwords
/// are in it, where the file system can do that: whoever is killed leaves no empty one.
pub struct FirstPasswords {
    path: PathBuf,
    file: Option<File>,
    /// Whether it stands at its path.
    named: AtomicBool,
    kept: AtomicBool,
}

impl FirstPasswords {
    /// Makes the file, empty; for a dry run only sees that it could be made. `again` is the
    /// command without its option.
    pub fn prepare(path: &Path, dry_run: bool, again: &str) -> Result<Self> {
        let shown = path.display();
        let refuse = |why: String| {
            Failure::new(REFUSED, "passwords-file", format!("{shown} {why}; nothing was changed"))
        };
        let exists = || {
            refuse("exists already, and is not overwritten".into()).or(
                "give the path of a file that is to be made",
                format!("{again} --passwords-to NEW"),
            )
        };
        let folder = match path.parent() {
            Some(folder) if !folder.as_os_str().is_empty() => folder,
            _ => Path::new("."),
        };
        let facts = std::fs::metadata(folder)
            .map_err(|error| refuse(format!("can't be made: {}: {error}", folder.display())))?;
        let me = rustix::process::geteuid().as_raw();
        let sticky = facts.mode() & 0o1000 != 0;
        let others = facts.mode() & 0o022 != 0 && !sticky;
        if others || !sticky && facts.uid() != 0 && facts.uid() != me {
            let folder = folder.display();
            return Err(refuse(format!(
                "would lie where others can put a file of theirs in its place: {folder} is not root's alone"
            )));
        }
        let (named, kept) = (AtomicBool::new(false), AtomicBool::new(false));
        let mut prepared = FirstPasswords { path: path.to_owned(), file: None, named, kept };
        if path.symlink_metadata().is_ok() {
            return Err(exists());
        }
        if dry_run {
            return Ok(prepared);
        }
        let nameless = OFlags::TMPFILE.bits().cast_signed();
        let file = OpenOptions::new().write(true).custom_flags(nameless).mode(0o600).open(folder);
        let file = file.or_else(|_| {
            let file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(path)?;
            prepared.named.store(true, Ordering::Relaxed);
            Ok::<_, std::io::Error>(file)
        });
        let file = file.map_err(|error| match error.kind() {
            ErrorKind::AlreadyExists => exists(),
            _ => refuse(format!("can't be made: {error}")),
        })?;
        let mode = file.metadata().map(|facts| facts.mode() & 0o777);
        prepared.file = Some(file);
        match mode {
            Ok(0o600) => Ok(prepared),
            _ => {
                Err(refuse("lies on a file system where it can't be kept from others' eyes".into()))
            }
        }
    }

    /// Makes a password for each name, and writes them. Returns the hashes.
    pub fn fill(
        &self,
        session: &Session<'_>,
        names: &[BString],
    ) -> Result<HashMap<BString, BString>> {
        let failed = |why: String| {
            let message = format!("the first passwords: {why}; nothing was changed");
            Failure::new(UNTOUCHED, "passwords-file", message)
        };
        let scheme = secrets::scheme(&session.tree, &session.policy.passwords_scheme);
        let bar = Bar::default();
        let all = names.len() as u64;
        // From here on the file has to go again when somebody stops us.
        let interrupted = interrupt::catch();
        let made: Result<Vec<First<'_>>, String> = names
            .par_iter()
            .map(|name| {
                if interrupted.load(Ordering::Relaxed) {
                    return Err("interrupted".to_owned());
                }
                let password = secrets::generate().map_err(|fault| fault.to_string())?;
                let hash = secrets::hash(scheme, password.as_bytes());
                let hash = hash.map_err(|fault| fault.to_string())?;
                bar.made("making first passwords", all, 1);
                Ok((name, password, BString::from(hash)))
            })
            .collect();
        bar.clear();
        let made = made.map_err(failed)?;
        let mut text = Zeroizing::new(String::with_capacity(made.len() * 64));
        *text += "name,password\n";
        for (name, password, _) in &made {
            *text += &format!("{name},{}\n", password.as_str());
        }
        if let Some(mut file) = self.file.as_ref() {
            let written = file.write_all(text.as_bytes()).and_then(|()| file.sync_all());
            let written = written.and_then(|()| self.name(file, names));
            written.map_err(|error| failed(error.to_string()))?;
        }
        Ok(made.into_iter().map(|(name, _, hash)| (name.clone(), hash)).collect())
    }

    /// Gives the file its name; without any passwords it gets none.
    fn name(&self, file: &File, names: &[BString]) -> std::io::Result<()> {
        if names.is_empty() || self.named.load(Ordering::Relaxed) {
            return Ok(());
        }
        let opened = format!("/proc/self/fd/{}", file.as_raw_fd());
        rustix::fs::linkat(CWD, opened, CWD, &self.path, AtFlags::SYMLINK_FOLLOW)?;
        self.named.store(true, Ordering::Relaxed);
        Ok(())
    }

    /// The change is made: the file stays. Without any passwords there is none.
    pub fn keep(&self, global: &Global, count: usize) {
        self.kept.store(count > 0, Ordering::Relaxed);
        if self.file.is_some() && !global.quiet && !global.json() {
            if count == 0 {
                outln!("no first passwords: nobody is new, and no file is made of them");
                return;
            }
            let count = counted(count, "first password", "first passwords");
            outln!("{count}, readable for root alone: {}", self.path.display());
        }
    }
}

impl Drop for FirstPasswords {
    fn drop(&mut self) {
        if self.named.load(Ordering::Relaxed) && !self.kept.load(Ordering::Relaxed) {
            let removed = std::fs::remove_file(&self.path);
            if let Err(error) = removed {
                errln!("{} could not be removed again: {error}", self.path.display());
            }
        }
    }
}

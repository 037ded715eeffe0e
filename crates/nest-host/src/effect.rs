//! Carrying effects out, and taking them back: each knows from its place on the
//! disk how far it has come, so that recovery can do the same as a change.

#![deny(clippy::wildcard_enum_match_arm)]

mod access;
mod in_place;
mod reowning;
mod standing;

use std::ffi::{OsStr, OsString};
use std::sync::{Mutex, PoisonError};

use access::set_access;
use in_place::{before_name, open_in_place, overwrite};
use nest_core::ownership::Owner;
use nest_core::value::escaped::Escaped;
use nest_core::value::{PlainName, TreePath};
use rustix::fs::{AtFlags, Mode, RenameFlags};
use rustix::io::Errno;
pub use standing::Standing;

use crate::home::{StagingOptions, give_directory, remove_all};
use crate::interrupt::Patience;
use crate::journal::{Effect, Journal, Replaced};
use crate::place::{GONE, NEW, Place, is_private, rename_to_nothing};
use crate::reown::Earlier;
use crate::state::Folder;
use crate::tree::{Tree, path_of};
use crate::watcher::Watcher;
use crate::words::why;
use crate::{inventory, kept};

/// Where effects take place.
pub struct EffectRunner<'a> {
    /// The tree.
    pub tree: &'a Tree,
    /// The state folder.
    pub state: &'a Folder,
    /// The journal, which keeps what can't be had from the disk.
    pub journal: &'a Journal,
    /// The number of the change.
    pub number: Option<u64>,
    /// Whether this is what a crash left to be done: what is not as it was then is told,
    /// and stands in no way.
    pub recovering: bool,
    /// Shows how far slow work is.
    pub watcher: &'a dyn Watcher,
    /// What was found while the change was planned.
    pub earlier: Option<&'a Earlier>,
    /// What has to be told.
    pub notes: Mutex<Vec<String>>,
}

/// Whether a file had to be rewritten in place, since it is a mount point.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Published {
    /// No reader ever saw it half-done.
    AtOnce,
    /// A reader may have seen it torn.
    InPlace,
}

impl EffectRunner<'_> {
    fn place(&self, path: &[u8]) -> Result<Place, Errno> {
        Place::of(self.tree, path)
    }

    /// Notes something that has to be told.
    pub fn note(&self, note: String) {
        self.notes.lock().unwrap_or_else(PoisonError::into_inner).push(note);
    }

    /// Takes out what has to be told.
    pub fn take_notes(&self) -> Vec<String> {
        std::mem::take(&mut *self.notes.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// Makes an effect visible. What is visible already stays so. After a crash what
    /// can't be made visible, because the tree is another one by now, is told.
    ///
    /// # Errors
    /// The system's, where the place can't be reached, is taken, or is not what it was.
    pub fn publish(&self, effect: &Effect) -> std::io::Result<Published> {
        match self.publish_strictly(effect) {
            Err(error)
                if self.recovering
                    && !matches!(effect, Effect::Replace { .. })
                    && is_of_the_place(&error) =>
            {
                self.note(format!("left undone: {} ({})", effect.describe(), why(error)));
                Ok(Published::AtOnce)
            }
            published => published,
        }
    }

    fn publish_strictly(&self, effect: &Effect) -> std::io::Result<Published> {
        match effect {
            Effect::Replace { what: Replaced::State, path, before, .. } => {
                self.exchange_in_state(&state_name(path)?, before.is_some())?;
            }
            Effect::Replace { path, staged, before, .. } => {
                return self.replace(&path.0, path_of(&staged.0).as_os_str(), before.is_some());
            }
            Effect::Rewrite { path, before, .. } => {
                let staged = self.place(path)?.beside(NEW);
                return self.replace(path, &staged, before.is_some());
            }
            Effect::Make { path, .. }
            | Effect::Unpack { path, .. }
            | Effect::Move { to: path, copied: true, .. } => {
                let place = self.place(path)?;
                match place.rename(&place.beside(NEW), &place.name) {
                    // It has its name since before a crash.
                    Err(Errno::NOENT) if self.recovering && place.exists(&place.name)? => {}
                    renamed => renamed?,
                }
            }
            Effect::Give { path, from, to } => self.give(path, *from, *to)?,
            Effect::SetAccess { file, to, .. } => set_access(self.tree, *file, *to)?,
            Effect::Move { from, to, made, copied: false, .. } => {
                if let Some(made) = made {
                    self.make_private(made)?;
                }
                self.rename_across(from, to)?;
            }
            Effect::Remove { path, made } => {
                let place = self.place(path)?;
                let now = inventory::take_inventory(&place.directory, &place.name, Some(made))?;
                match now {
                    Some(now) if now == *made => place.rename(&place.name, &place.beside(GONE))?,
                    Some(_) => return Err(Errno::STALE.into()),
                    None => {}
                }
            }
            Effect::Erase { path, .. } => {
                let place = self.place(path)?;
                match place.rename(&place.name, &place.beside(GONE)) {
                    Err(Errno::NOENT) => {}
                    renamed => renamed?,
                }
            }
            Effect::Keep { folder, .. } => kept::Place::make(self.state, folder)?.publish()?,
            Effect::Release { folder } => {
                if let Some(place) = kept::Place::find(self.state, folder)? {
                    match place.hide() {
                        Err(Errno::NOENT) => {}
                        hidden => hidden?,
                    }
                }
            }
            Effect::Reown { reown, list, digest } => {
                self.reown((reown, list, digest.as_deref()), false)?;
            }
        }
        Ok(Published::AtOnce)
    }

    /// Takes an effect back that has become visible.
    ///
    /// # Errors
    /// The system's, where the place can't be reached, or is taken by something else by now.
    pub fn withdraw(&self, effect: &Effect) -> std::io::Result<()> {
        match effect {
            Effect::Replace { what: Replaced::State, path, before, .. } => {
                let name = state_name(path)?;
                match self.journal.kept(&kept_beside(&name)?)? {
                    Some(old) => self.state.write(&name, &old)?,
                    None => self.state.exchange_back(&name, before.is_some())?,
                }
            }
            Effect::Replace { path, staged, before, .. } => {
                self.put_back(&path.0, path_of(&staged.0).as_os_str(), before.is_some())?;
            }
            Effect::Rewrite { path, before, .. } => {
                let staged = self.place(path)?.beside(NEW);
                self.put_back(path, &staged, before.is_some())?;
            }
            Effect::Make { path, .. }
            | Effect::Unpack { path, .. }
            | Effect::Move { to: path, copied: true, .. } => {
                let place = self.place(path)?;
                place.rename(&place.name, &place.beside(NEW))?;
            }
            Effect::Keep { folder, .. } => kept::Place::make(self.state, folder)?.withdraw()?,
            Effect::Release { folder } => kept::Place::make(self.state, folder)?.unhide()?,
            Effect::Give { path, from, to } => self.give(path, *to, *from)?,
            Effect::SetAccess { file, from, .. } => set_access(self.tree, *file, *from)?,
            Effect::Move { from, to, made, .. } => {
                self.rename_across(to, from)?;
                self.unmake(made.as_slice());
            }
            Effect::Remove { path, .. } | Effect::Erase { path, .. } => {
                let place = self.place(path)?;
                match place.rename(&place.beside(GONE), &place.name) {
                    Err(Errno::NOENT) => {}
                    renamed => renamed?,
                }
            }
            Effect::Reown { reown, list, digest } => {
                self.reown((reown, list, digest.as_deref()), true)?;
            }
        }
        Ok(())
    }

    /// Drops what was staged for an effect.
    pub fn discard(&self, effect: &Effect) {
        match effect {
            Effect::Replace { what: Replaced::State, path, .. } => {
                if let Ok(name) = state_name(path) {
                    self.state.remove_beside(&name);
                }
            }
            Effect::Replace { path, staged, .. } => {
                let Ok(place) = self.place(&path.0) else { return };
                let staged = path_of(&staged.0).as_os_str();
                place.unlink(staged);
                place.unlink(&kept_name(staged));
            }
            Effect::Rewrite { path, .. } => {
                let Ok(place) = self.place(path) else { return };
                place.unlink(&place.beside(NEW));
                place.unlink(&kept_name(&place.beside(NEW)));
            }
            Effect::Make { path, made, .. } => {
                self.erase_new(path);
                self.unmake(made);
            }
            Effect::Move { to, made, copied, .. } => {
                if *copied {
                    self.erase_new(to);
                }
                self.unmake(made.as_slice());
            }
            Effect::Unpack { path, .. } => self.erase_new(path),
            Effect::Keep { folder, .. } => {
                if let Ok(Some(place)) = kept::Place::find(self.state, folder) {
                    place.discard();
                }
                kept::tidy(self.state);
            }
            Effect::Give { .. } | Effect::SetAccess { .. } => {}
            Effect::Remove { .. } | Effect::Erase { .. } => {}
            Effect::Release { .. } | Effect::Reown { .. } => {}
        }
    }

    /// What comes last of all: old versions and what is to be erased go. Returns
    /// what could not be removed, in words.
    ///
    /// # Errors
    /// `ECANCELED` where the program was told to stop: then the rest is for recovery.
    pub fn finish(&self, effect: &Effect) -> Result<Option<String>, Errno> {
        let patience = if self.recovering { Patience::Endless } else { Patience::Ends };
        let told = match effect {
            Effect::Replace { .. } | Effect::Rewrite { .. } => {
                self.discard(effect);
                None
            }
            Effect::Move { from, copied: true, .. } => {
                let Ok(place) = self.place(from) else { return Ok(None) };
                // Renamed first: nobody finds half of it under its own name.
                if place.exists(&place.name).is_ok_and(|exists| exists)
                    && let Err(error) = place.rename(&place.name, &place.beside(GONE))
                {
                    return Ok(Some(format!("{from} could not be cleared: {}", why(error))));
                }
                erase(&place, &place.beside(GONE), patience)
            }
            Effect::Remove { path, .. } | Effect::Erase { path, .. } => {
                let Ok(place) = self.place(path) else { return Ok(None) };
                erase(&place, &place.beside(GONE), patience)
            }
            Effect::Release { folder } => {
                if let Ok(Some(place)) = kept::Place::find(self.state, folder) {
                    place.finish();
                }
                kept::tidy(self.state);
                None
            }
            Effect::Make { .. } | Effect::Give { .. } | Effect::SetAccess { .. } => None,
            Effect::Move { .. } => None,
            Effect::Reown { .. } | Effect::Keep { .. } | Effect::Unpack { .. } => None,
        };
        match told {
            Some(_) => patience.check().map(|()| told),
            None => Ok(None),
        }
    }

    /// Directories that have to be flushed at a moment, by the path of what is in them. What
    /// is in the state folder is flushed where it is staged.
    pub fn flushed_at<'e>(&self, effect: &'e Effect, moment: Moment) -> Vec<&'e [u8]> {
        let of = |path: &'e TreePath| &path[..];
        match effect {
            Effect::Replace { what: Replaced::Account(_), path, .. } => vec![&path.0],
            Effect::Rewrite { path, .. } => vec![path],
            Effect::Make { path, made, .. } => match moment {
                Moment::Staged => vec![path],
                Moment::Visible => made.iter().chain([path]).map(of).collect(),
                Moment::Cleared => Vec::new(),
            },
            Effect::Unpack { path, .. } if moment != Moment::Cleared => vec![path],
            Effect::Move { from, to, made, copied, .. } => match moment {
                Moment::Staged => copied.then(|| of(to)).into_iter().collect(),
                Moment::Visible => [from, to].into_iter().chain(made).map(of).collect(),
                Moment::Cleared => copied.then(|| of(from)).into_iter().collect(),
            },
            Effect::Remove { path, .. } | Effect::Erase { path, .. }
                if moment != Moment::Staged =>
            {
                vec![path]
            }
            Effect::Replace { what: Replaced::State, .. } | Effect::Unpack { .. } => Vec::new(),
            Effect::Remove { .. } | Effect::Erase { .. } => Vec::new(),
            Effect::Give { .. } | Effect::SetAccess { .. } | Effect::Reown { .. } => Vec::new(),
            Effect::Keep { .. } | Effect::Release { .. } => Vec::new(),
        }
    }

    fn exchange_in_state(&self, name: &PlainName, existed: bool) -> std::io::Result<()> {
        match self.state.exchange(name, existed) {
            // File systems that can't exchange: the journal keeps the old one.
            Err(Errno::INVAL | Errno::NOSYS) => {
                if existed {
                    let old = self.state.read(name)?.ok_or(Errno::NOENT)?;
                    self.journal.keep(&kept_beside(name)?, &old)?;
                }
                Ok(self.state.publish(name)?)
            }
            exchanged => Ok(exchanged?),
        }
    }

    fn give(&self, path: &TreePath, from: Owner, to: Owner) -> std::io::Result<()> {
        let (mut undone, mut notes) = (Vec::new(), Vec::new());
        let mut options = StagingOptions {
            live: self.tree.is_live(),
            flush: true,
            links: false,
            undone: &mut undone,
            notes: &mut notes,
        };
        give_directory(self.tree, path, from, to, &mut options)?;
        undone.iter().for_each(|undone| self.note(undone.to_string()));
        Ok(())
    }

    /// Makes a directory that only root may enter, if there is none.
    fn make_private(&self, path: &TreePath) -> std::io::Result<()> {
        let place = self.place(path)?;
        match rustix::fs::mkdirat(&place.directory, &place.name, Mode::RWXU) {
            // Before anything goes into it: else that could be lost with it.
            Ok(()) => Ok(rustix::fs::fsync(&place.directory)?),
            Err(Errno::EXIST) => is_private(self.tree, path).map(drop),
            Err(error) => Err(error.into()),
        }
    }

    fn erase_new(&self, path: &TreePath) {
        if let Ok(place) = self.place(path) {
            erase(&place, &place.beside(NEW), Patience::Endless);
        }
    }

    fn unmake(&self, made: &[TreePath]) {
        for path in made.iter().rev() {
            if let Ok(place) = self.place(path) {
                // Not empty any more: somebody else uses it.
                let _ = rustix::fs::unlinkat(&place.directory, &place.name, AtFlags::REMOVEDIR);
            }
        }
    }

    fn rename_across(&self, from: &TreePath, to: &TreePath) -> Result<(), Errno> {
        let (old, new) = (self.place(from)?, self.place(to)?);
        match rename_to_nothing(&old.directory, &old.name, &new.directory, &new.name) {
            Err(Errno::NOENT) if self.recovering && new.exists(&new.name)? => Ok(()),
            renamed => renamed,
        }
    }

    /// Puts the new version of an account file into place, and keeps the old one
    /// under the staged name.
    fn replace(&self, path: &[u8], staged: &OsStr, existed: bool) -> std::io::Result<Published> {
        let place = self.place(path)?;
        let (directory, name) = (&place.directory, &place.name);
        if !existed {
            place.rename(staged, name)?;
            return Ok(Published::AtOnce);
        }
        let flags = RenameFlags::EXCHANGE;
        match rustix::fs::renameat_with(directory, staged, directory, name, flags) {
            Ok(()) => Ok(Published::AtOnce),
            Err(Errno::BUSY) => self.rewrite_in_place(&place, staged),
            // File systems that can't exchange: keep the old version by a link.
            Err(Errno::INVAL | Errno::NOSYS) => {
                let kept = kept_name(staged);
                place.unlink(&kept);
                rustix::fs::linkat(directory, name, directory, &kept, AtFlags::empty())?;
                match rustix::fs::renameat(directory, staged, directory, name) {
                    Ok(()) => Ok(Published::AtOnce),
                    Err(Errno::BUSY) => self.rewrite_in_place(&place, staged),
                    Err(error) => Err(error.into()),
                }
            }
            Err(error) => Err(error.into()),
        }
    }

    fn put_back(&self, path: &[u8], staged: &OsStr, existed: bool) -> std::io::Result<()> {
        let place = self.place(path)?;
        let (directory, name) = (&place.directory, &place.name);
        if !existed {
            return Ok(rustix::fs::renameat(directory, name, directory, staged)?);
        }
        if let Some(old) = self.journal.kept(&before_name(name).map_err(std::io::Error::other)?)? {
            return overwrite(&open_in_place(&place)?, &old);
        }
        let kept = kept_name(staged);
        if place.exists(&kept)? {
            return Ok(rustix::fs::renameat(directory, &kept, directory, name)?);
        }
        let flags = RenameFlags::EXCHANGE;
        Ok(rustix::fs::renameat_with(directory, staged, directory, name, flags)?)
    }
}

fn erase(place: &Place, name: &OsStr, patience: Patience) -> Option<String> {
    let error = remove_all(&place.directory, name, patience).err()?;
    tracing::warn!(?name, %error, "could not be removed");
    let name = name.display();
    let error = why(error);
    Some(format!("what is left of it could not be removed ({error}), and is called {name} there"))
}

/// Which directories are flushed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Moment {
    /// Those in which something waits.
    Staged,
    /// Those in which something became visible, or was taken back.
    Visible,
    /// Those in which something was cleared away.
    Cleared,
}

/// Whether an error says that a place is another one than it was, and not that the
/// machine is in trouble.
fn is_of_the_place(error: &std::io::Error) -> bool {
    let errno = error.raw_os_error().map(Errno::from_raw_os_error);
    errno.is_some_and(|errno| {
        matches!(
            errno,
            Errno::NOENT
                | Errno::EXIST
                | Errno::STALE
                | Errno::NOTDIR
                | Errno::ISDIR
                | Errno::LOOP
                | Errno::PERM
                | Errno::ACCESS
                | Errno::XDEV
                | Errno::BUSY
                | Errno::NOTEMPTY
                | Errno::INVAL
        )
    })
}

/// The name of a file of the state folder.
fn state_name(path: &Escaped) -> std::io::Result<PlainName> {
    PlainName::parse(path.0.to_string()).map_err(std::io::Error::other)
}

/// Where the journal keeps the old version of such a file.
fn kept_beside(name: &PlainName) -> std::io::Result<PlainName> {
    before_name(name.as_ref()).map_err(std::io::Error::other)
}

/// Where the old version is kept on file systems that can't exchange.
fn kept_name(staged: &OsStr) -> OsString {
    let mut kept = staged.to_owned();
    kept.push(".old");
    kept
}

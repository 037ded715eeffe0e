//! Carrying effects out, and taking them back: each knows from its place on the
//! disk how far it has come, so that recovery can do the same as a change.

mod access;
mod in_place;
mod place;

use std::ffi::{OsStr, OsString};
use std::os::unix::ffi::OsStrExt;

use nest_core::plan::Owner;
use nest_core::value::escaped::Escaped;
use rustix::fs::{AtFlags, Mode, RenameFlags};
use rustix::io::Errno;

use crate::home::{Making, give_directory, remove_all};
use crate::inventory;
use crate::journal::{Effect, Journal, Replaced, is_missing};
use crate::kept;
use crate::reown;
use crate::state::Folder;
use crate::tree::{Tree, path_of};
use access::set_access;
use in_place::{before_name, open_in_place, overwrite};
use place::rename_to_nothing;
pub use place::{BOTH, GONE, NEW, Place, beside, is_private};

/// Where effects take place.
pub struct Hands<'a> {
    /// The tree.
    pub tree: &'a Tree,
    /// The state folder.
    pub state: &'a Folder,
    /// The journal, which keeps what can't be had from the disk.
    pub journal: &'a Journal,
}

/// Whether a file had to be rewritten in place, since it is a mount point.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Published {
    /// No reader ever saw it half-done.
    AtOnce,
    /// A reader may have seen it torn.
    InPlace,
}

impl Hands<'_> {
    fn place(&self, path: &Escaped) -> Result<Place, Errno> {
        Place::of(self.tree, &path.0)
    }

    /// Makes an effect visible. What is visible already stays so.
    ///
    /// # Errors
    /// The system's.
    pub fn publish(&self, effect: &Effect) -> std::io::Result<Published> {
        match effect {
            Effect::Replace { what: Replaced::State, path, before, .. } => {
                self.exchange_in_state(&path.0.to_string(), before.is_some())?;
            }
            Effect::Replace { path, staged, before, .. } => {
                return self.replace(path, path_of(&staged.0).as_os_str(), before.is_some());
            }
            Effect::Make { path, .. } => {
                let place = self.place(path)?;
                match place.rename(&place.beside(NEW), &place.name) {
                    Err(error) if is_missing(error) && place.exists(&place.name)? => {}
                    renamed => renamed?,
                }
            }
            Effect::Give { path, from, to } => self.give(path, *from, *to)?,
            Effect::SetAccess { file, to, .. } => set_access(self.tree, *file, *to)?,
            Effect::Move { from, to, copied: true, .. } => {
                let (old, place) = (self.place(from)?, self.place(to)?);
                match place.rename(&place.beside(NEW), &place.name) {
                    Err(error) if is_missing(error) && place.exists(&place.name)? => {}
                    renamed => renamed?,
                }
                drop(old);
            }
            Effect::Move { from, to, made, copied: false } => {
                if let Some(made) = made {
                    self.make_private(made)?;
                }
                self.rename_across(from, to)?;
            }
            Effect::Remove { path, made } => {
                let place = self.place(path)?;
                let now = inventory::take(&place.directory, &place.name, Some(made))?;
                match now {
                    Some(now) if now == *made => place.rename(&place.name, &place.beside(GONE))?,
                    Some(_) => return Err(Errno::STALE.into()),
                    None => {}
                }
            }
            Effect::Erase { path, .. } => {
                let place = self.place(path)?;
                match place.rename(&place.name, &place.beside(GONE)) {
                    Err(error) if is_missing(error) => {}
                    renamed => renamed?,
                }
            }
            Effect::Unpack { path, .. } => {
                let place = self.place(path)?;
                match place.rename(&place.beside(NEW), &place.name) {
                    Err(error) if is_missing(error) && place.exists(&place.name)? => {}
                    renamed => renamed?,
                }
            }
            Effect::Keep { folder } => kept::Place::make(self.state, folder)?.publish()?,
            Effect::Release { folder } => {
                if let Some(place) = kept::Place::find(self.state, folder)? {
                    match place.hide() {
                        Err(error) if is_missing(error) => {}
                        hidden => hidden?,
                    }
                }
            }
            Effect::Reown { reown, list } => {
                let list = self.journal.kept(list)?.unwrap_or_default();
                reown::give(self.tree, &list, reown, false)?;
            }
        }
        Ok(Published::AtOnce)
    }

    /// Takes an effect back that has become visible.
    ///
    /// # Errors
    /// The system's.
    pub fn withdraw(&self, effect: &Effect) -> std::io::Result<()> {
        match effect {
            Effect::Replace { what: Replaced::State, path, before, .. } => {
                let name = path.0.to_string();
                match self.journal.kept(&before_name(OsStr::new(&name)))? {
                    Some(old) => self.state.write(&name, &old)?,
                    None => self.state.exchange_back(&name, before.is_some())?,
                }
            }
            Effect::Replace { path, staged, before, .. } => {
                self.put_back(path, path_of(&staged.0).as_os_str(), before.is_some())?;
            }
            Effect::Make { path, .. }
            | Effect::Unpack { path, .. }
            | Effect::Move { to: path, copied: true, .. } => {
                let place = self.place(path)?;
                place.rename(&place.name, &place.beside(NEW))?;
            }
            Effect::Keep { folder } => kept::Place::make(self.state, folder)?.withdraw()?,
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
                    Err(error) if is_missing(error) => {}
                    renamed => renamed?,
                }
            }
            Effect::Reown { reown, list } => {
                let list = self.journal.kept(list)?.unwrap_or_default();
                reown::give(self.tree, &list, reown, true)?;
            }
        }
        Ok(())
    }

    /// Drops what was staged for an effect.
    pub fn discard(&self, effect: &Effect) {
        match effect {
            Effect::Replace { what: Replaced::State, path, .. } => {
                self.state.remove_beside(&path.0.to_string());
            }
            Effect::Replace { path, staged, .. } => {
                let Ok(place) = self.place(path) else { return };
                let staged = path_of(&staged.0).as_os_str();
                place.unlink(staged);
                place.unlink(&kept_name(staged));
            }
            Effect::Make { path, made, .. } => {
                if let Ok(place) = self.place(path) {
                    erase(&place, &place.beside(NEW));
                }
                self.unmake(made);
            }
            Effect::Move { to, made, copied, .. } => {
                if *copied && let Ok(place) = self.place(to) {
                    erase(&place, &place.beside(NEW));
                }
                self.unmake(made.as_slice());
            }
            Effect::Unpack { path, .. } => {
                if let Ok(place) = self.place(path) {
                    erase(&place, &place.beside(NEW));
                }
            }
            Effect::Keep { folder } => {
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
    pub fn finish(&self, effect: &Effect) -> Option<String> {
        match effect {
            Effect::Replace { .. } => {
                self.discard(effect);
                None
            }
            Effect::Move { from, copied: true, .. } => {
                let place = self.place(from).ok()?;
                // Renamed first: nobody finds half of it under its own name.
                if place.exists(&place.name).is_ok_and(|exists| exists)
                    && let Err(error) = place.rename(&place.name, &place.beside(GONE))
                {
                    return Some(format!("{} could not be cleared: {error}", from.0));
                }
                erase(&place, &place.beside(GONE))
            }
            Effect::Remove { path, .. } | Effect::Erase { path, .. } => {
                let place = self.place(path).ok()?;
                erase(&place, &place.beside(GONE))
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
        }
    }

    /// Directories that have to be flushed once the effect is visible, by the
    /// path of what is in them.
    pub fn touched<'e>(&self, effect: &'e Effect) -> Vec<&'e Escaped> {
        match effect {
            Effect::Replace { what: Replaced::State, .. } => Vec::new(),
            Effect::Replace { path, .. }
            | Effect::Make { path, .. }
            | Effect::Erase { path, .. }
            | Effect::Unpack { path, .. }
            | Effect::Remove { path, .. } => vec![path],
            Effect::Move { from, to, .. } => vec![from, to],
            Effect::Give { .. } | Effect::SetAccess { .. } | Effect::Reown { .. } => Vec::new(),
            Effect::Keep { .. } | Effect::Release { .. } => Vec::new(),
        }
    }

    fn exchange_in_state(&self, name: &str, existed: bool) -> std::io::Result<()> {
        match self.state.exchange(name, existed) {
            // File systems that can't exchange: the journal keeps the old one.
            Err(Errno::INVAL | Errno::NOSYS) => {
                let old = self.state.read(name)?.unwrap_or_default();
                self.journal.keep(&before_name(OsStr::new(name)), &old)?;
                Ok(self.state.publish(name)?)
            }
            exchanged => Ok(exchanged?),
        }
    }

    fn give(&self, path: &Escaped, from: Owner, to: Owner) -> std::io::Result<()> {
        let mut list = Vec::new();
        let mut making = Making { live: self.tree.is_live(), flush: true, undone: &mut list };
        give_directory(self.tree, &path.0, from, to, &mut making)
    }

    /// Makes a directory that only root may enter, if there is none.
    fn make_private(&self, path: &Escaped) -> std::io::Result<()> {
        let place = self.place(path)?;
        match rustix::fs::mkdirat(&place.directory, &place.name, Mode::RWXU) {
            Ok(()) => Ok(()),
            Err(Errno::EXIST) => is_private(self.tree, &path.0).map(drop),
            Err(error) => Err(error.into()),
        }
    }

    fn unmake(&self, made: &[Escaped]) {
        for path in made.iter().rev() {
            if let Ok(place) = self.place(path) {
                // Not empty any more: somebody else uses it.
                let _ = rustix::fs::unlinkat(&place.directory, &place.name, AtFlags::REMOVEDIR);
            }
        }
    }

    fn rename_across(&self, from: &Escaped, to: &Escaped) -> Result<(), Errno> {
        let (old, new) = (self.place(from)?, self.place(to)?);
        match rename_to_nothing(&old.directory, &old.name, &new.directory, &new.name) {
            Err(error) if is_missing(error) && new.exists(&new.name)? => Ok(()),
            renamed => renamed,
        }
    }

    /// Puts the new version of an account file into place, and keeps the old one
    /// under the staged name.
    fn replace(&self, path: &Escaped, staged: &OsStr, existed: bool) -> std::io::Result<Published> {
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

    fn put_back(&self, path: &Escaped, staged: &OsStr, existed: bool) -> std::io::Result<()> {
        let place = self.place(path)?;
        let (directory, name) = (&place.directory, &place.name);
        if !existed {
            return Ok(rustix::fs::renameat(directory, name, directory, staged)?);
        }
        if let Some(old) = self.journal.kept(&before_name(name))? {
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

fn erase(place: &Place, name: &OsStr) -> Option<String> {
    let error = remove_all(&place.directory, name).err()?;
    tracing::warn!(?name, %error, "could not be removed");
    let name = name.display();
    Some(format!("what is left of it could not be removed ({error}), and is called {name} there"))
}

/// Where the old version is kept on file systems that can't exchange.
fn kept_name(staged: &OsStr) -> OsString {
    let mut kept = staged.to_owned();
    kept.push(".old");
    kept
}

/// The name of a path, as bytes.
pub(crate) fn escaped(path: impl AsRef<OsStr>) -> Escaped {
    Escaped(path.as_ref().as_bytes().into())
}

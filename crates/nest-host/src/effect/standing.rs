//! How far an effect has come.

use nest_core::value::TreePath;
use rustix::io::Errno;

use super::{EffectRunner, state_name};
use crate::digest::digest_of;
use crate::journal::{Effect, Replaced};
use crate::place::NEW;
use crate::tree::path_of;
use crate::words::why;
use crate::{inventory, kept};

/// How far an effect has come.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Standing {
    /// What was staged for it waits, and is what was staged.
    Waiting,
    /// It has become visible.
    Done,
    /// Neither can be said: somebody has altered the place since.
    Other,
    /// What was staged for it is not there, or is something else: what, in words.
    Lost(String),
    /// It has become visible, and is lost since: what, in words.
    Ruined(String),
}

impl EffectRunner<'_> {
    /// How far an effect has come, as the disk tells; nothing is trusted that is not
    /// compared with what was staged.
    ///
    /// # Errors
    /// The system's, where the place is there and can't be looked at.
    pub fn standing(&self, effect: &Effect) -> std::io::Result<Standing> {
        let lost = |path: &dyn std::fmt::Display, why: &str| {
            Ok(Standing::Lost(format!("what was to become {path} {why}")))
        };
        match effect {
            Effect::Replace { what: Replaced::State, path, before, after, .. } => {
                let name = state_name(path)?;
                let now = self.state.digest(&name)?;
                if now.as_ref() == Some(after) {
                    return Ok(Standing::Done);
                }
                if now != *before {
                    // Edited by hand it would be sound.
                    let text = self.state.read(&name)?.unwrap_or_default();
                    return match serde_json::from_slice::<serde::de::IgnoredAny>(&text) {
                        Ok(_) => Ok(Standing::Other),
                        Err(_) => Ok(Standing::Ruined(format!(
                            "{} is neither what was there nor what was written",
                            self.state.shown(&name)
                        ))),
                    };
                }
                match self.state.digest_beside(&name)? {
                    Some(staged) if staged == *after => Ok(Standing::Waiting),
                    Some(_) => lost(&self.state.shown(&name), "is not what was written"),
                    None => lost(&self.state.shown(&name), "is not there"),
                }
            }
            // Told by its digests, together with the other versions of the file.
            Effect::Replace { .. } => Ok(Standing::Waiting),
            Effect::Rewrite { path, before, after } => {
                let place = match self.place(path) {
                    Err(Errno::NOENT) => return lost(path, "is not there"),
                    place => place?,
                };
                let now = digest_of(&place, &place.name)?;
                if now.as_ref() == Some(after) {
                    return Ok(Standing::Done);
                }
                if now != *before {
                    return Ok(Standing::Other);
                }
                match digest_of(&place, &place.beside(NEW))? {
                    Some(staged) if staged == *after => Ok(Standing::Waiting),
                    Some(_) => lost(path, "is not what was written"),
                    None => lost(path, "is not there"),
                }
            }
            Effect::Make { path, inventory, .. }
            | Effect::Unpack { path, inventory, .. }
            | Effect::Move { to: path, inventory, copied: true, .. } => {
                let place = match self.place(path) {
                    Err(Errno::NOENT) => return lost(path, "is not there"),
                    place => place?,
                };
                let waits = place.beside(NEW);
                if !place.exists(&waits)? {
                    return match place.exists(&place.name)? {
                        true => Ok(Standing::Done),
                        false => lost(path, "is not there"),
                    };
                }
                let now = inventory::take_inventory(&place.directory, &waits, inventory.as_ref())?;
                match inventory.is_none() || now == *inventory {
                    true => Ok(Standing::Waiting),
                    false => lost(path, "is not what was made"),
                }
            }
            Effect::Move { from, to, copied: false, .. } => {
                let there = |path: &TreePath| match self.place(path) {
                    Err(Errno::NOENT) => Ok(false),
                    place => place.and_then(|place| place.exists(&place.name)),
                };
                match (there(from)?, there(to)?) {
                    (true, _) => Ok(Standing::Waiting),
                    (false, true) => Ok(Standing::Done),
                    (false, false) => Ok(Standing::Other),
                }
            }
            Effect::Keep { folder, digest } => {
                let Some(place) = kept::Place::find(self.state, folder)? else {
                    return lost(&format!("retired/{folder}"), "is not there");
                };
                if place.open()?.is_some() {
                    return Ok(match place.fault(digest.as_deref())? {
                        None => Standing::Done,
                        Some(fault) => Standing::Ruined(format!("retired/{folder} {fault}")),
                    });
                }
                match place.fault_of_fresh(digest.as_deref())? {
                    None => Ok(Standing::Waiting),
                    Some(fault) => lost(&format!("retired/{folder}"), &fault),
                }
            }
            Effect::Give { path, to, .. } => {
                let stat = self.tree.open_directory_strictly(path_of(path));
                match stat.and_then(rustix::fs::fstat) {
                    Ok(stat) if (stat.st_uid, stat.st_gid) == (to.uid.0, to.gid.0) => {
                        Ok(Standing::Done)
                    }
                    Ok(_) => Ok(Standing::Waiting),
                    Err(_) => Ok(Standing::Other),
                }
            }
            Effect::Reown { list, digest, .. } => match self.sound_list(list, digest.as_deref()) {
                Ok(_) => Ok(Standing::Waiting),
                Err(error) => Ok(Standing::Lost(why(error))),
            },
            Effect::SetAccess { .. } | Effect::Remove { .. } | Effect::Erase { .. } => {
                Ok(Standing::Waiting)
            }
            Effect::Release { .. } => Ok(Standing::Waiting),
        }
    }

    /// Whether what an effect has done in the state folder can be taken back: the old
    /// version is there.
    pub fn can_withdraw(&self, effect: &Effect) -> bool {
        match effect {
            Effect::Replace { what: Replaced::State, before: None, .. } | Effect::Keep { .. } => {
                true
            }
            Effect::Replace { what: Replaced::State, path, before, .. } => {
                let old = state_name(path).and_then(|name| self.state.digest_beside(&name));
                old.is_ok_and(|old| old == *before)
            }
            Effect::Replace { what: Replaced::Account(_), .. }
            | Effect::Rewrite { .. }
            | Effect::Make { .. }
            | Effect::Give { .. }
            | Effect::SetAccess { .. }
            | Effect::Move { .. }
            | Effect::Remove { .. }
            | Effect::Erase { .. }
            | Effect::Unpack { .. }
            | Effect::Release { .. }
            | Effect::Reown { .. } => false,
        }
    }
}

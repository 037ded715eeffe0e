//! What was seen already, for plans about many accounts that ask for the same again
//! and again.

use std::collections::HashMap;
use std::sync::{Mutex, OnceLock, PoisonError};

use bstr::{BStr, BString};
use nest_core::surroundings::{Mention, Program, Skeleton, SkeletonFault};

/// Answers that hold for one plan.
#[derive(Debug, Default)]
pub(super) struct Seen {
    programs: Mutex<HashMap<BString, Program>>,
    skeletons: Mutex<HashMap<BString, Result<Skeleton, SkeletonFault>>>,
    shells: OnceLock<Option<Vec<BString>>>,
    mentions: OnceLock<HashMap<BString, Vec<Mention>>>,
    owners_are_real: OnceLock<bool>,
    nologin: OnceLock<Option<&'static str>>,
}

fn answer<T: Clone>(
    known: &Mutex<HashMap<BString, T>>,
    path: &BStr,
    look: impl FnOnce() -> T,
) -> T {
    let mut known = known.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(answer) = known.get(path) {
        return answer.clone();
    }
    let answer = look();
    known.insert(path.to_owned(), answer.clone());
    answer
}

impl Seen {
    pub(super) fn program(&self, path: &BStr, look: impl FnOnce() -> Program) -> Program {
        answer(&self.programs, path, look)
    }

    pub(super) fn skeleton(
        &self,
        path: &BStr,
        look: impl FnOnce() -> Result<Skeleton, SkeletonFault>,
    ) -> Result<Skeleton, SkeletonFault> {
        answer(&self.skeletons, path, look)
    }

    pub(super) fn shells(
        &self,
        look: impl FnOnce() -> Option<Vec<BString>>,
    ) -> Option<Vec<BString>> {
        self.shells.get_or_init(look).clone()
    }

    pub(super) fn owners_are_real(&self, look: impl FnOnce() -> bool) -> bool {
        *self.owners_are_real.get_or_init(look)
    }

    pub(super) fn nologin(
        &self,
        look: impl FnOnce() -> Option<&'static str>,
    ) -> Option<&'static str> {
        *self.nologin.get_or_init(look)
    }

    pub(super) fn mentions(
        &self,
        name: &BStr,
        look: impl FnOnce() -> HashMap<BString, Vec<Mention>>,
    ) -> Vec<Mention> {
        self.mentions.get_or_init(look).get(name).cloned().unwrap_or_default()
    }
}

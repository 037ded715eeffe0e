//! What was seen already, for plans about many accounts that ask for the same again
//! and again.

use std::collections::{HashMap, HashSet};
use std::sync::{Mutex, OnceLock, PoisonError};

use bstr::{BStr, BString, ByteSlice};
use nest_core::surroundings::{Mention, Program, Skeleton, SkeletonFault};

use super::at_jobs::AtJobs;
use crate::mentions::Mentions;

/// Answers that hold for one plan.
#[derive(Debug, Default)]
pub(super) struct Seen {
    programs: Mutex<HashMap<BString, Program>>,
    skeletons: Mutex<HashMap<BString, Result<Skeleton, SkeletonFault>>>,
    shells: OnceLock<Option<Vec<BString>>>,
    /// Who is named by lines of configuration that grant something.
    pub(super) granted: OnceLock<Mentions>,
    /// Users and groups that other lines name.
    pub(super) of_users: OnceLock<Mentions>,
    pub(super) of_groups: OnceLock<Mentions>,
    /// Lines of configuration that have paths.
    pub(super) with_paths: OnceLock<Vec<(Mention, BString)>>,
    pub(super) at_jobs: OnceLock<AtJobs>,
    owners_are_real: OnceLock<bool>,
    nologin: OnceLock<Option<&'static str>>,
    directories: Mutex<HashMap<BString, Asked>>,
}

/// How often was asked for what is in a directory.
#[derive(Debug)]
enum Asked {
    Times(usize),
    /// So often that all that is in it was looked up; nothing where that can't be told.
    Listed(Option<HashSet<BString>>),
}

/// From so many times on a directory is listed.
const OFTEN: usize = 256;

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

/// Where a name stands; everything is read when it is first asked for.
pub(super) fn where_named(
    known: &OnceLock<Mentions>,
    name: &BStr,
    read: impl FnOnce() -> Mentions,
) -> Vec<Mention> {
    known.get_or_init(read).get(name).into_iter().flatten().cloned().collect()
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

    /// Whether nothing stands at a path, as far as it is known without looking there: what is
    /// in a directory of which very much is asked for is listed at once.
    pub(super) fn is_absent(
        &self,
        path: &BStr,
        list: impl FnOnce(&BStr) -> Option<HashSet<BString>>,
    ) -> bool {
        let Some((directory, name)) = path.rsplit_once_str("/") else { return false };
        if matches!(name, b"" | b"." | b"..") {
            return false;
        }
        let mut known = self.directories.lock().unwrap_or_else(PoisonError::into_inner);
        if !known.contains_key(BStr::new(directory)) {
            known.insert(directory.into(), Asked::Times(0));
        }
        let Some(asked) = known.get_mut(BStr::new(directory)) else { return false };
        if let Asked::Times(times) = asked {
            *times += 1;
            if *times < OFTEN {
                return false;
            }
            *asked = Asked::Listed(list(BStr::new(directory)));
        }
        match asked {
            Asked::Listed(Some(names)) => !names.contains(BStr::new(name)),
            Asked::Listed(None) | Asked::Times(_) => false,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_directory_that_very_much_is_asked_of_is_listed_once() {
        let (seen, listed) = (Seen::default(), std::cell::Cell::new(0));
        let absent = |path: &str, names: Option<&[&str]>| {
            seen.is_absent(path.into(), |_| {
                listed.set(listed.get() + 1);
                names.map(|names| names.iter().map(|name| BString::from(*name)).collect())
            })
        };
        for _ in 1..OFTEN {
            assert!(!absent("/home/maren", Some(&["maren"])));
        }
        assert_eq!(listed.get(), 0);
        assert!(absent("/home/odile", Some(&["maren"])));
        assert!(!absent("/home/maren", None) && !absent("/home/..", None));
        assert_eq!(listed.get(), 1);
        // Where a list may leave something out each is looked for.
        for _ in 0..2 * OFTEN {
            assert!(!absent("/net/maren", None));
        }
        assert_eq!(listed.get(), 2);
    }
}

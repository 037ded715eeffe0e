//! Which keys there will be in a home after the steps of a plan.

use bstr::{BStr, ByteSlice};
use hashbrown::HashMap;

use crate::account::means_no_home;
use crate::book::Book;
use crate::change::{NewFile, Step};
use crate::context::PlanContext;
use crate::surroundings::Keys;
use crate::value::{TreePath, Uid, usable_keys};

/// Where the SSH server looks for keys, below a home.
const KEYS: &[u8] = b".ssh/authorized_keys";

/// The homes that steps make, move and remove.
pub(super) struct Homes<'a> {
    context: PlanContext<'a>,
    homes: HashMap<&'a [u8], Becomes<'a>>,
    /// Files that are put into a home or taken out of it, by the home.
    files: HashMap<&'a [u8], Option<&'a NewFile>>,
    /// The keys that a copy of a skeleton has.
    skeletons: HashMap<&'a TreePath, Keys>,
}

/// What becomes of a path.
enum Becomes<'a> {
    /// It is made, with these files besides what it is a copy of.
    Made(&'a [NewFile], Option<&'a TreePath>),
    /// It is what stands at another path now.
    From(&'a TreePath),
    /// It comes out of an archive.
    Unpacked,
    /// Nothing is there.
    Gone,
}

impl<'a> Homes<'a> {
    /// What the steps of a plan make of homes.
    pub fn after(context: PlanContext<'a>, steps: &'a [Step]) -> Self {
        let (mut homes, mut files, mut skeletons) =
            (HashMap::new(), HashMap::new(), HashMap::new());
        for step in steps {
            let (path, becomes) = match step {
                Step::MakeDirectory { path, files, skeleton, .. } => {
                    if let Some(skeleton) = skeleton {
                        let keys =
                            || context.world.keys(skeleton.as_bstr(), Uid::ROOT, context.today);
                        skeletons.entry(skeleton).or_insert_with(keys);
                    }
                    (path, Becomes::Made(files, skeleton.as_ref()))
                }
                Step::Move { from, to, .. } => {
                    homes.entry(from.as_slice()).or_insert(Becomes::Gone);
                    (to, Becomes::From(from))
                }
                Step::Unpack { path, .. } => (path, Becomes::Unpacked),
                Step::Remove { path, again, .. } => {
                    if let Step::MakeFile { below, file, .. } = &**again
                        && file.path == KEYS
                    {
                        files.insert(below.as_slice(), None);
                    }
                    (path, Becomes::Gone)
                }
                Step::Erase { path } | Step::Archive { path, .. } => (path, Becomes::Gone),
                Step::MakeFile { below, file, .. } => {
                    if file.path == KEYS {
                        files.insert(below.as_slice(), Some(file));
                    }
                    continue;
                }
                // Owners change with the numbers of their accounts.
                Step::GiveDirectory { .. } | Step::Reown(_) => continue,
                Step::SetAccess { .. }
                | Step::Keep { .. }
                | Step::Release { .. }
                | Step::RetireIds(_)
                | Step::ReviveIds(_)
                | Step::NoteSuspended(_)
                | Step::ForgetSuspended(_) => continue,
            };
            homes.insert(path.as_slice(), becomes);
        }
        Homes { context, homes, files, skeletons }
    }

    /// The accounts into whose homes keys are put, or out of whose they are taken.
    pub fn owners<'b>(&self, book: &'b Book) -> Vec<&'b [u8]> {
        self.files.keys().filter_map(|home| book.user_at_home(home)).collect()
    }

    /// Whether steps do something to what is at a home.
    pub fn change(&self, home: &[u8]) -> bool {
        self.homes.contains_key(home) || self.files.contains_key(home)
    }

    /// Whether a new account with this home can't have a key: the home is made, without one.
    pub fn is_made_without_keys(&self, home: &[u8]) -> bool {
        let keys = match self.homes.get(home) {
            Some(Becomes::Made(files, skeleton)) => self.made(files, *skeleton),
            None if means_no_home(home) => Keys::Count(0),
            _ => return false,
        };
        keys == Keys::Count(0) && !self.files.contains_key(home)
    }

    /// The keys in a home that is made.
    fn made(&self, files: &[NewFile], skeleton: Option<&TreePath>) -> Keys {
        if let Some(file) = files.iter().find(|file| file.path == KEYS) {
            return Keys::Count(usable_keys(&file.contents, self.context.today).usable);
        }
        let copied = skeleton.and_then(|skeleton| self.skeletons.get(skeleton));
        copied.cloned().unwrap_or(Keys::Count(0))
    }

    /// The keys that an account will have; `uid` is the number that its files carry now.
    pub fn keys(&self, home: &BStr, uid: Uid) -> Keys {
        let world = self.context.world;
        match self.files.get(home.as_bytes()) {
            Some(Some(file)) => {
                return Keys::Count(usable_keys(&file.contents, self.context.today).usable);
            }
            Some(None) => return Keys::Count(0),
            None => {}
        }
        match self.homes.get(home.as_bytes()) {
            None => world.keys(home, uid, self.context.today),
            Some(Becomes::From(from)) => world.keys(from.as_bstr(), uid, self.context.today),
            Some(Becomes::Gone) => Keys::Count(0),
            Some(Becomes::Unpacked) => Keys::Unknown("it is in an archive until then".to_owned()),
            Some(Becomes::Made(files, skeleton)) => self.made(files, *skeleton),
        }
    }
}

//! Which keys there will be in a home after the steps of a plan.

use bstr::{BStr, ByteSlice};
use hashbrown::HashMap;

use crate::account::means_no_home;
use crate::book::Book;
use crate::change::{NewFile, Step, TextEdit};
use crate::context::PlanContext;
use crate::sign_in::{KeyPlace, Question, key_places};
use crate::ssh::Rules;
use crate::surroundings::Keys;
use crate::value::{TreePath, Uid, usable_keys};

/// Where the SSH server looks for keys, below a home.
const KEYS: &[u8] = b".ssh/authorized_keys";
const KEY_FILE: &[u8] = b"authorized_keys";

/// The homes that steps make, move and remove.
pub(super) struct Homes<'a> {
    context: PlanContext<'a>,
    homes: HashMap<&'a [u8], Becomes<'a>>,
    /// Files that are put into a home or taken out of it, by the home.
    files: HashMap<&'a [u8], Option<&'a NewFile>>,
    /// Files of which lines come and go, by their paths.
    edits: HashMap<&'a [u8], &'a TextEdit>,
    /// Whether a copy of a skeleton has keys.
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
        let mut edits = HashMap::new();
        for step in steps {
            let (path, becomes) = match step {
                Step::MakeDirectory { path, files: inside, .. } if home_of_keys(path).is_some() => {
                    let home = home_of_keys(path).expect("BUG: it was there a line ago");
                    files.insert(home, inside.iter().find(|file| file.path == KEY_FILE));
                    continue;
                }
                Step::MakeDirectory { path, files, skeleton, .. } => {
                    if let Some(skeleton) = skeleton {
                        skeletons
                            .entry(skeleton)
                            .or_insert_with(|| keys_of_skeleton(context, skeleton));
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
                    let file = matches!(**again, Step::EditText(_)).then(|| home_of(path));
                    let directory =
                        matches!(**again, Step::MakeDirectory { .. }).then(|| home_of_keys(path));
                    if let Some(home) = file.or(directory).flatten() {
                        files.insert(home, None);
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
                Step::EditText(edit) => {
                    edits.insert(edit.path.as_slice(), edit);
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
        Homes { context, homes, files, edits, skeletons }
    }

    /// The accounts into whose homes keys are put, or out of whose they are taken.
    pub fn owners<'b>(&self, book: &'b Book) -> Vec<&'b [u8]> {
        let edited = self.edits.keys().filter_map(|path| home_of(path));
        let homes = self.files.keys().copied().chain(edited);
        homes.filter_map(|home| book.user_at_home(home)).collect()
    }

    /// Whether steps do something to what is at a home.
    pub fn change(&self, home: &[u8]) -> bool {
        let edited = || self.edits.keys().any(|path| home_of(path) == Some(home));
        self.homes.contains_key(home) || self.files.contains_key(home) || edited()
    }

    /// Whether a new account with this home can't have a key: the home is made, without one.
    pub fn is_made_without_keys(&self, home: &[u8]) -> bool {
        let keys = match self.homes.get(home) {
            Some(Becomes::Made(files, skeleton)) => self.made(files, *skeleton),
            None if means_no_home(home) => Keys::NONE,
            _ => return false,
        };
        keys == Keys::NONE && !self.files.contains_key(home)
    }

    /// The keys in a file that is written.
    fn written(&self, file: &NewFile) -> Keys {
        let count = usable_keys(&file.contents, self.context.today);
        Keys::Count { usable: count.usable, forced: count.forced }
    }

    /// The keys in a home that is made.
    fn made(&self, files: &[NewFile], skeleton: Option<&TreePath>) -> Keys {
        if let Some(file) = files.iter().find(|file| file.path == KEYS) {
            return self.written(file);
        }
        let copied = skeleton.and_then(|skeleton| self.skeletons.get(skeleton));
        copied.cloned().unwrap_or(Keys::NONE)
    }

    /// The keys that an account will have; `uid` is the number that its files carry now.
    pub fn keys(&self, question: &Question<'_, '_>, rules: &Rules, uid: Uid) -> Keys {
        let home = BStr::new(question.user.home);
        let places = key_places(rules, question.user.name, question.user.uid());
        let in_home = places.iter().all(|place| matches!(place, KeyPlace::InHome(_)));
        let stays = self.edits.is_empty() && !self.homes.contains_key(home.as_bytes());
        // Where there is no home there is nothing in it: of many new accounts that is asked once.
        if in_home && stays && matches!(self.context.world.facts(home), Ok(None)) {
            return Keys::NoHome;
        }
        let files = places.iter().map(|place| match place {
            KeyPlace::At(path) => {
                question.keys_at(place, home, uid, rules, self.edits.get(path.as_slice()).copied())
            }
            KeyPlace::InHome(file) => match self.in_home(home, file) {
                Ok(keys) => keys,
                Err(from) => {
                    let edit = self.edits.get(place.path(from).as_slice());
                    question.keys_at(place, from, uid, rules, edit.copied())
                }
            },
        });
        let all = files.fold(Keys::NONE, Keys::and);
        let is_gone = || match self.homes.get(home.as_bytes()) {
            Some(Becomes::Gone) => true,
            Some(_) => false,
            None => matches!(self.context.world.facts(home), Ok(None)),
        };
        if all == Keys::NONE && is_gone() { Keys::NoHome } else { all }
    }

    /// The keys in a file of a home, or else where the home is now.
    fn in_home<'h>(&'h self, home: &'h BStr, file: &[u8]) -> Result<Keys, &'h BStr> {
        let is_ours = file == KEYS;
        if is_ours && let Some(file) = self.files.get(home.as_bytes()) {
            return Ok(file.map_or(Keys::NONE, |file| self.written(file)));
        }
        match self.homes.get(home.as_bytes()) {
            None => Err(home),
            Some(Becomes::From(from)) => Err(from.as_bstr()),
            Some(Becomes::Unpacked) => {
                Ok(Keys::Unknown("it is in an archive until then".to_owned()))
            }
            Some(Becomes::Made(files, skeleton)) if is_ours => Ok(self.made(files, *skeleton)),
            Some(Becomes::Made(..) | Becomes::Gone) => Ok(Keys::NONE),
        }
    }
}

/// The home whose keys are in a directory.
fn home_of_keys(path: &[u8]) -> Option<&[u8]> {
    path.strip_suffix(b"/.ssh")
}

/// The home that holds a file of keys.
fn home_of(path: &[u8]) -> Option<&[u8]> {
    let home = path.strip_suffix(KEYS).or_else(|| path.strip_suffix(b".ssh/authorized_keys2"))?;
    home.strip_suffix(b"/")
}

/// The keys that a copy of a skeleton has: whose they are in it does not matter.
fn keys_of_skeleton(context: PlanContext<'_>, skeleton: &TreePath) -> Keys {
    let path = [skeleton.as_slice(), b"/", KEYS].concat();
    match context.world.key_file(path.as_bstr()).text {
        Ok(text) => {
            let count = usable_keys(&text.unwrap_or_default(), context.today);
            Keys::Count { usable: count.usable, forced: count.forced }
        }
        Err(why) => Keys::Unknown(format!("{} {why}", path.as_bstr())),
    }
}

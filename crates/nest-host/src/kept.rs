//! Deleted accounts and groups as they are kept: a folder each, below `retired`
//! in the state folder, with `account.json` and packed homes in it.

use nest_core::retired::{KeptFolder, PackedFile, RetiredAccount, VERSION};
use nest_core::value::{Author, PlainName, UserOrGroup};
use rustix::io::Errno;

use crate::retired::RetiredError;
use crate::state::{self, Fault, Folder, PassedOver, State};
use crate::tree::Tree;
use crate::words::why;

/// The folder of all of them in the state folder.
const RETIRED: PlainName = PlainName::fixed("retired");
/// Those of users and of groups in it.
const USERS: PlainName = PlainName::fixed("user");
const GROUPS: PlainName = PlainName::fixed("group");
/// The file that holds the account.
pub(crate) const ACCOUNT: PlainName = PlainName::fixed("account.json");

/// The endings of what waits for its name, and of what is about to go.
const NEW: &str = "new";
const GONE: &str = "gone";

fn folder_of(thing: UserOrGroup) -> PlainName {
    match thing {
        UserOrGroup::User => USERS,
        UserOrGroup::Group => GROUPS,
    }
}

/// What is kept of deleted accounts, and what of it was passed over.
#[derive(Debug, Default)]
pub struct Kept {
    /// The accounts and groups, the oldest first.
    pub accounts: Vec<RetiredAccount>,
    /// What could not be understood.
    pub passed_over: Vec<PassedOver>,
}

/// Reads everything that is kept. One folder that can't be understood keeps none of
/// the others.
///
/// # Errors
/// [`RetiredError`], where the folders can't be listed.
pub fn read(tree: &Tree, state: &State) -> Result<Kept, RetiredError> {
    let mut kept = Kept::default();
    let Some(folder) = state.open(tree)? else { return Ok(kept) };
    let unread = |path: String| move |error: Errno| RetiredError::unread(path, error);
    let path = folder.shown(&RETIRED);
    let Some(retired) = folder.inner_if_there(&RETIRED).map_err(unread(path))? else {
        return Ok(kept);
    };
    for thing in [UserOrGroup::User, UserOrGroup::Group] {
        let path = retired.shown(thing);
        let inner = retired.inner_if_there(&folder_of(thing)).map_err(unread(path.clone()))?;
        let Some(all) = inner else { continue };
        for name in all.folders().map_err(unread(path))? {
            // What waits for its name or is about to go is not kept.
            if name.as_str().starts_with('.') {
                continue;
            }
            let path = format!("{}/{ACCOUNT}", all.shown(&name));
            match read_one(&all, KeptFolder { thing, name }) {
                Ok(account) => kept.accounts.push(account),
                Err(fault) => kept.passed_over.push(PassedOver::new(path, &fault)),
            }
        }
    }
    kept.accounts.sort_by(|a, b| (&a.time, &a.folder).cmp(&(&b.time, &b.folder)));
    Ok(kept)
}

fn read_one(all: &Folder, folder: KeptFolder) -> Result<RetiredAccount, Fault> {
    let unread = |error: std::io::Error| Fault::Unread(why(error));
    let inner = all.inner_if_there(&folder.name).map_err(|error| unread(error.into()))?;
    let text = inner.map(|inner| inner.read(&ACCOUNT)).transpose().map_err(unread)?;
    let text = text.flatten().ok_or_else(|| Fault::Damaged("it is not there".to_owned()))?;
    parse(&text, folder)
}

/// Reads one. Any bytes may come in.
///
/// # Errors
/// What is wrong, also where this program could not have put it there.
pub fn parse(text: &[u8], folder: KeptFolder) -> Result<RetiredAccount, Fault> {
    let account: RetiredAccount = state::parse(text, VERSION)?;
    account.in_folder(folder).map_err(Fault::Damaged)
}

/// Where one of the folders is, or will be.
pub(crate) struct Place {
    parent: Folder,
    name: PlainName,
}

impl Place {
    /// Opens where a folder is, or will be: the folders above are made.
    ///
    /// # Errors
    /// The system's, where a folder above can't be made or opened.
    pub fn make(state: &Folder, folder: &KeptFolder) -> Result<Self, Errno> {
        let parent = state.inner(&RETIRED)?.inner(&folder_of(folder.thing))?;
        Ok(Place { parent, name: folder.name.clone() })
    }

    /// Opens where a folder is; `None` where nothing is kept at all.
    ///
    /// # Errors
    /// The system's, where a folder above is there and can't be opened.
    pub fn find(state: &Folder, folder: &KeptFolder) -> Result<Option<Self>, Errno> {
        let Some(retired) = state.inner_if_there(&RETIRED)? else { return Ok(None) };
        let parent = retired.inner_if_there(&folder_of(folder.thing))?;
        Ok(parent.map(|parent| Place { parent, name: folder.name.clone() }))
    }

    /// The folder under the name it has until it is published. What a killed run
    /// left of one is removed by [`Place::discard`].
    ///
    /// # Errors
    /// The system's, where it can't be made.
    pub fn fresh(&self) -> Result<Folder, Errno> {
        self.parent.inner_beside(&self.name, NEW)
    }

    /// The folder itself.
    ///
    /// # Errors
    /// The system's, where it is there and can't be opened.
    pub fn open(&self) -> Result<Option<Folder>, Errno> {
        self.parent.inner_if_there(&self.name)
    }

    /// What is wrong with the fresh folder: that what says what is kept has not this
    /// digest, or a packed file not the one that is named there. `None` for nothing.
    ///
    /// # Errors
    /// The system's, where a file in it can't be read.
    pub fn fault_of_fresh(&self, digest: Option<&str>) -> std::io::Result<Option<String>> {
        fault_in(self.parent.beside_if_there(&self.name, NEW)?, digest)
    }

    /// The same of the folder that has its name already.
    ///
    /// # Errors
    /// The system's, where a file in it can't be read.
    pub fn fault(&self, digest: Option<&str>) -> std::io::Result<Option<String>> {
        fault_in(self.open()?, digest)
    }

    /// Gives the fresh folder its name.
    ///
    /// # Errors
    /// The system's, where another folder has the name already.
    pub fn publish(&self) -> Result<(), Errno> {
        self.parent.rename_from_beside(&self.name, NEW)
    }

    /// Takes its name away again.
    ///
    /// # Errors
    /// The system's, where the fresh name is taken.
    pub fn withdraw(&self) -> Result<(), Errno> {
        self.parent.rename_to_beside(&self.name, NEW)
    }

    /// Hides the folder, to be removed in the end.
    ///
    /// # Errors
    /// The system's, where it is not there, or what is hidden beside it is in the way.
    pub fn hide(&self) -> Result<(), Errno> {
        self.parent.rename_to_beside(&self.name, GONE)
    }

    /// Takes that back.
    ///
    /// # Errors
    /// The system's, where nothing is hidden, or the name is taken again.
    pub fn unhide(&self) -> Result<(), Errno> {
        self.parent.rename_from_beside(&self.name, GONE)
    }

    /// Removes a fresh folder with everything in it.
    pub fn discard(&self) {
        self.erase(NEW);
    }

    /// Removes a hidden folder with everything in it.
    pub fn finish(&self) {
        self.erase(GONE);
    }

    fn erase(&self, ending: &str) {
        if let Err(error) = self.parent.erase_beside(&self.name, ending) {
            tracing::warn!(name = self.name.as_str(), %error, "could not be removed");
        }
    }

    /// Flushes the directory it is in.
    ///
    /// # Errors
    /// The system's, where the disk won't take it.
    pub fn flush(&self) -> Result<(), Errno> {
        self.parent.flush()
    }
}

/// What is wrong with a folder that holds what is kept, in words that follow it.
fn fault_in(folder: Option<Folder>, digest: Option<&str>) -> std::io::Result<Option<String>> {
    let Some(folder) = folder else { return Ok(Some("is not there".to_owned())) };
    let Some(text) = folder.read(&ACCOUNT)? else {
        return Ok(Some(format!("holds no {ACCOUNT}")));
    };
    let other = digest.is_some_and(|digest| digest != nest_core::drift::digest(&text));
    let account = state::parse::<RetiredAccount>(&text, VERSION);
    let (false, Ok(account)) = (other, account) else {
        return Ok(Some(format!("holds another {ACCOUNT} than was written")));
    };
    for (file, packed) in &account.digests {
        if folder.digest(&file.name())?.as_ref() != Some(packed) {
            return Ok(Some(format!("holds another {file} than was packed")));
        }
    }
    Ok(None)
}

/// Removes the folders above, as far as nothing is in them.
pub(crate) fn tidy(state: &Folder) {
    if let Ok(Some(retired)) = state.inner_if_there(&RETIRED) {
        retired.remove_empty(&USERS);
        retired.remove_empty(&GROUPS);
    }
    state.remove_empty(&RETIRED);
}

/// What `account.json` holds for a step.
pub(crate) fn text(
    (folder, kept): (&KeptFolder, &nest_core::retired::Kept),
    change: u64,
    time: &str,
    by: &Author,
    digests: std::collections::BTreeMap<PackedFile, String>,
) -> Vec<u8> {
    let account = RetiredAccount {
        version: VERSION,
        change,
        time: time.to_owned(),
        by: by.clone(),
        kept: kept.clone(),
        digests,
        folder: folder.clone(),
    };
    state::to_text(&account)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn folder(text: &str) -> KeptFolder {
        KeptFolder::parse(text).unwrap()
    }

    #[test]
    fn what_is_kept_comes_and_goes_by_renaming() {
        let place = tempfile::tempdir().unwrap();
        let tree = Tree::open(place.path()).unwrap();
        let state = State::At(place.path().join("state"));
        let opened = state.open_or_make(&tree).unwrap();
        let kept = Place::make(&opened, &folder("group/pilots.210.4")).unwrap();
        kept.fresh().unwrap().write(&ACCOUNT, b"{}").unwrap();
        assert!(read(&tree, &state).unwrap().passed_over.is_empty());
        kept.publish().unwrap();
        kept.publish().unwrap();
        let passed = &read(&tree, &state).unwrap().passed_over;
        let told = passed[0].to_string();
        assert!(
            told.contains("pilots.210.4/account.json is passed over: it is damaged ("),
            "{told}"
        );
        kept.hide().unwrap();
        assert!(read(&tree, &state).unwrap().passed_over.is_empty());
        kept.unhide().unwrap();
        kept.hide().unwrap();
        kept.finish();
        tidy(&opened);
        assert!(!place.path().join("state/retired").exists());
        let newer = parse(br#"{"version": 7}"#, folder("user/x.1.1")).unwrap_err();
        assert_eq!(newer, Fault::Newer { version: 7, known: VERSION });
    }

    #[test]
    fn what_a_folder_holds_is_what_its_name_says() {
        let text = |name: &str, path: &str| {
            format!(
                r#"{{"version": 1, "change": 3, "time": "", "by": {{"uid": 0, "name": null}},
                "kept": {{"thing": "user", "name": "{name}", "id": 7, "lines": [], "belongings":
                [{{"what": "home", "path": "{path}", "became": "erased", "files": 0,
                "bytes": 0}}]}}}}"#
            )
        };
        let parsed = |name: &str, path: &str, at: &str| {
            parse(text(name, path).as_bytes(), folder(at)).is_ok()
        };
        assert!(parsed("maren", "/home/maren", "user/maren.7.3"));
        assert!(!parsed("maren", "/home/maren", "user/tavish.7.3"));
        assert!(!parsed("maren", "/home/maren", "group/maren.7.3"));
        assert!(!parsed("maren", "/home/maren", "user/maren.7.x"));
        assert!(!parsed("maren", "home/maren", "user/maren.7.3"));
        assert!(!parsed("maren", "/home/../etc", "user/maren.7.3"));
    }
}

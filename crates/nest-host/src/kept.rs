//! Deleted accounts and groups as they are kept: a folder each, below `retired`
//! in the state folder, with `account.json` and packed homes in it.

use nest_core::plan::Step;
use nest_core::record::Author;
use nest_core::retired::{RetiredAccount, VERSION};
use rustix::io::Errno;

use crate::home::remove_all;
use crate::retired::RetiredError;
use crate::state::{Folder, State};
use crate::tree::Tree;

/// The folder of all of them in the state folder.
const RETIRED: &str = "retired";
/// The file that holds the account.
pub(crate) const ACCOUNT: &str = "account.json";

/// Reads everything that is kept, the oldest first.
///
/// # Errors
/// [`RetiredError`]: what can't be understood is not passed over.
pub fn read(tree: &Tree, state: &State) -> Result<Vec<RetiredAccount>, RetiredError> {
    let Some(folder) = state.open(tree)? else { return Ok(Vec::new()) };
    let unread =
        |path: String| move |error: Errno| RetiredError::Unread { path, error: error.into() };
    let path = folder.shown(RETIRED);
    let Some(retired) = folder.inner_if_there(RETIRED).map_err(unread(path))? else {
        return Ok(Vec::new());
    };
    let mut all = Vec::new();
    for thing in ["user", "group"] {
        let path = retired.shown(thing);
        let Some(of_thing) = retired.inner_if_there(thing).map_err(unread(path.clone()))? else {
            continue;
        };
        for name in of_thing.folders().map_err(unread(path))? {
            // What waits for its name or is about to go is not kept.
            if name.starts_with('.') {
                continue;
            }
            let path = format!("{}/{ACCOUNT}", of_thing.shown(&name));
            let inner = of_thing.inner_if_there(&name).map_err(unread(path.clone()))?;
            let text = inner.map(|inner| inner.read(ACCOUNT)).transpose();
            let text = text.map_err(|error| RetiredError::Unread { path: path.clone(), error })?;
            let Some(text) = text.flatten() else {
                let fault = "it is not there".to_owned();
                return Err(RetiredError::Damaged { path, fault });
            };
            let mut account =
                parse(&text).map_err(|fault| RetiredError::Damaged { path, fault })?;
            account.folder = format!("{thing}/{name}");
            all.push(account);
        }
    }
    all.sort_by(|a, b| (&a.time, &a.folder).cmp(&(&b.time, &b.folder)));
    Ok(all)
}

/// Reads one. Any bytes may come in.
///
/// # Errors
/// What is wrong, in words.
pub fn parse(text: &[u8]) -> Result<RetiredAccount, String> {
    let value: serde_json::Value =
        serde_json::from_slice(text).map_err(|error| error.to_string())?;
    let version = value.get("version").and_then(serde_json::Value::as_u64);
    match version {
        Some(version) if version == u64::from(VERSION) => {
            serde_json::from_value(value).map_err(|error| error.to_string())
        }
        Some(version) => Err(format!("it has version {version}, and {VERSION} is known")),
        None => Err("it has no version".to_owned()),
    }
}

/// One of the folders, by its path below `retired`.
pub(crate) struct Place {
    parent: Folder,
    name: String,
}

impl Place {
    /// Opens where a folder is, or will be: the folders above are made.
    ///
    /// # Errors
    /// The system's.
    pub fn make(state: &Folder, folder: &str) -> Result<Self, Errno> {
        let (thing, name) = folder.split_once('/').ok_or(Errno::INVAL)?;
        let parent = state.inner(RETIRED)?.inner(thing)?;
        Ok(Place { parent, name: name.to_owned() })
    }

    /// Opens where a folder is; `None` where nothing is kept at all.
    ///
    /// # Errors
    /// The system's.
    pub fn find(state: &Folder, folder: &str) -> Result<Option<Self>, Errno> {
        let (thing, name) = folder.split_once('/').ok_or(Errno::INVAL)?;
        let Some(retired) = state.inner_if_there(RETIRED)? else { return Ok(None) };
        let parent = retired.inner_if_there(thing)?;
        Ok(parent.map(|parent| Place { parent, name: name.to_owned() }))
    }

    fn new_name(&self) -> String {
        format!(".{}.new", self.name)
    }

    fn gone_name(&self) -> String {
        format!(".{}.gone", self.name)
    }

    /// The folder under the name it has until it is published. What a killed run
    /// left of one is removed by [`Place::discard`].
    ///
    /// # Errors
    /// The system's.
    pub fn fresh(&self) -> Result<Folder, Errno> {
        self.parent.inner(&self.new_name())
    }

    /// The folder itself.
    ///
    /// # Errors
    /// The system's.
    pub fn open(&self) -> Result<Option<Folder>, Errno> {
        self.parent.inner_if_there(&self.name)
    }

    /// Gives the fresh folder its name.
    ///
    /// # Errors
    /// The system's.
    pub fn publish(&self) -> Result<(), Errno> {
        self.parent.rename_once(&self.new_name(), &self.name)
    }

    /// Takes its name away again.
    ///
    /// # Errors
    /// The system's.
    pub fn withdraw(&self) -> Result<(), Errno> {
        self.parent.rename_once(&self.name, &self.new_name())
    }

    /// Hides the folder, to be removed in the end.
    ///
    /// # Errors
    /// The system's.
    pub fn hide(&self) -> Result<(), Errno> {
        self.parent.rename_once(&self.name, &self.gone_name())
    }

    /// Takes that back.
    ///
    /// # Errors
    /// The system's.
    pub fn unhide(&self) -> Result<(), Errno> {
        self.parent.rename_once(&self.gone_name(), &self.name)
    }

    /// Removes a fresh folder with everything in it.
    pub fn discard(&self) {
        self.erase(&self.new_name());
    }

    /// Removes a hidden folder with everything in it.
    pub fn finish(&self) {
        self.erase(&self.gone_name());
    }

    fn erase(&self, name: &str) {
        if let Err(error) = remove_all(self.parent.descriptor(), name.as_ref()) {
            tracing::warn!(name, %error, "could not be removed");
        }
    }

    /// Flushes the directory it is in.
    ///
    /// # Errors
    /// The system's.
    pub fn flush(&self) -> Result<(), Errno> {
        self.parent.flush()
    }
}

/// Removes the folders above, as far as nothing is in them.
pub(crate) fn tidy(state: &Folder) {
    if let Ok(Some(retired)) = state.inner_if_there(RETIRED) {
        retired.remove_empty("user");
        retired.remove_empty("group");
    }
    state.remove_empty(RETIRED);
}

/// What `account.json` holds for a step.
pub(crate) fn text(
    step: &Step,
    change: u64,
    time: &str,
    by: &Author,
    digests: std::collections::BTreeMap<String, String>,
) -> Vec<u8> {
    let Step::Keep { folder, kept } = step else { return Vec::new() };
    let account = RetiredAccount {
        version: VERSION,
        change,
        time: time.to_owned(),
        by: by.clone(),
        kept: (**kept).clone(),
        digests,
        folder: folder.clone(),
    };
    // Made of numbers and text: it always serialises.
    let mut text = serde_json::to_vec_pretty(&account).unwrap_or_default();
    text.push(b'\n');
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_kept_comes_and_goes_by_renaming() {
        let place = tempfile::tempdir().unwrap();
        let tree = Tree::open(place.path()).unwrap();
        let state = State::At(place.path().join("state"));
        let folder = state.open_or_make(&tree).unwrap();
        let kept = Place::make(&folder, "group/pilots.210.4").unwrap();
        kept.fresh().unwrap().write("account.json", b"{}").unwrap();
        assert!(read(&tree, &state).unwrap().is_empty());
        kept.publish().unwrap();
        kept.publish().unwrap();
        let fault = read(&tree, &state).unwrap_err().to_string();
        assert!(
            fault.contains("pilots.210.4/account.json is damaged: it has no version"),
            "{fault}"
        );
        kept.hide().unwrap();
        assert!(read(&tree, &state).unwrap().is_empty());
        kept.unhide().unwrap();
        kept.hide().unwrap();
        kept.finish();
        tidy(&folder);
        assert!(!place.path().join("state/retired").exists());
        assert!(parse(b"").is_err() && parse(br#"{"version": 7}"#).unwrap_err().contains('7'));
    }
}

//! Keys that are added and dropped: lines of the files that the SSH server looks at. Lines of
//! other hands stay as they are.

use bstr::{BStr, BString, ByteSlice};

use super::UserChange;
use crate::change::{Caution, LineChange, LinesOf, NewFile, Step, TextEdit};
use crate::ownership::Owner;
use crate::refusal::{HomeTrouble, KeyTrouble, Reason, Result};
use crate::request::KeyFile;
use crate::sign_in::{KeyPlace, places_of_keys};
use crate::surroundings::Site;
use crate::value::{KeyLine, TreePath, check_keys, key_lines, parent_of};
use crate::words::counted;

/// A file of keys, as it is now.
struct KeysAt {
    path: BString,
    in_home: bool,
    /// What it says; nothing where there is no such file.
    text: Option<Vec<u8>>,
    /// The keys in it.
    keys: Vec<KeyLine>,
    /// What happens to its lines.
    lines: Vec<LineChange>,
}

impl UserChange<'_, '_> {
    pub(super) fn keys(&mut self) -> Result<()> {
        let (adds, drops) = (&self.request.add_keys, &self.request.drop_keys);
        if adds.is_empty() && drops.is_empty() {
            return Ok(());
        }
        for file in adds {
            let fault = |fault| Reason::BadKeys { path: file.path.clone(), fault };
            check_keys(&file.text).map_err(|found| self.refuse(fault(found)))?;
        }
        let moves = self.request.home.as_ref().is_some_and(|home| *home != self.found.user.home);
        if moves && !self.request.record_only {
            return Err(self.refuse(HomeTrouble::KeyWithoutHome.into()));
        }
        let mut files = self.key_files()?;
        for name in drops {
            self.drop_key(name, &mut files)?;
        }
        for file in adds {
            self.add_keys(file, &mut files)?;
        }
        for file in files.into_iter().filter(|file| !file.lines.is_empty()) {
            self.write_keys(file)?;
        }
        Ok(())
    }

    /// The files that the SSH server looks at for the account.
    fn key_files(&self) -> Result<Vec<KeysAt>> {
        let (user, world) = (self.found.user, self.context.world);
        let home = BStr::new(user.home);
        let mut files = Vec::new();
        for place in places_of_keys(self.context, user) {
            let path = place.path(home);
            let unfit = |why: String| {
                self.refuse(KeyTrouble::NotToBeWritten { path: path.clone(), why }.into())
            };
            if let Site::ThroughLink { link, .. } = world.site(path.as_bstr()) {
                return Err(unfit(format!("is reached through the link {link}")));
            }
            let text = world.key_file(path.as_bstr()).text.map_err(unfit)?;
            let keys = key_lines(text.as_deref().unwrap_or_default(), self.context.today);
            let (in_home, lines) = (matches!(place, KeyPlace::InHome(_)), Vec::new());
            files.push(KeysAt { path, in_home, text, keys, lines });
        }
        Ok(files)
    }

    /// Takes every line out that holds the key.
    fn drop_key(&mut self, name: &str, files: &mut [KeysAt]) -> Result<()> {
        // One key may stand on several lines.
        let mut called: Vec<&KeyLine> = Vec::new();
        for key in files.iter().flat_map(|file| &file.keys).filter(|key| key.is_called(name)) {
            if called.iter().all(|other| other.fingerprint != key.fingerprint) {
                called.push(key);
            }
        }
        let user: BString = self.name().into();
        let key = match called.as_slice() {
            [] => {
                let key = name.to_owned();
                let way = format!("list keys --of {user}");
                let refusal = self.refuse(KeyTrouble::NoSuchKey { user, key }.into());
                return Err(refusal.or("see which there are", way));
            }
            [one] => (*one).clone(),
            several => {
                let prints = several.iter().map(|key| key.fingerprint.clone()).collect();
                let key = name.to_owned();
                return Err(self.refuse(KeyTrouble::Several { user, key, prints }.into()));
            }
        };
        for file in files {
            let text = file.text.as_deref().unwrap_or_default();
            for held in file.keys.iter().filter(|held| held.fingerprint == key.fingerprint) {
                let line = text.lines_of().nth(held.line - 1);
                let line = line.expect("BUG: a key stands on a line that is not there");
                file.lines.push(LineChange::removing(text, line));
            }
            file.keys.retain(|held| held.fingerprint != key.fingerprint);
        }
        self.subject.decide("drops", key.in_short(), "");
        Ok(())
    }

    /// Adds the keys that are not there yet, to the first file that the server looks at.
    fn add_keys(&mut self, from: &KeyFile, files: &mut [KeysAt]) -> Result<()> {
        let lines: Vec<&[u8]> = from.text.lines_of().map(<[u8]>::trim_ascii).collect();
        for key in key_lines(&from.text, self.context.today) {
            if files.iter().flat_map(|file| &file.keys).any(|held| held.is_same(&key)) {
                self.subject.decide_unchanged("key", key.in_short());
                continue;
            }
            let Some(first) = files.first_mut() else {
                return Err(self.refuse(KeyTrouble::Nowhere.into()));
            };
            first.lines.push(LineChange::adding(lines[key.line - 1]));
            let why = format!("from {}, in {}", from.path, first.path);
            self.subject.decide("adds", key.in_short(), why);
            if let Some(weak) = key.weakness() {
                let (name, key) = (self.name().into(), key.in_short());
                self.builder.caution(Caution::WeakKey { name, key, weak });
            }
            first.keys.push(key);
        }
        Ok(())
    }

    fn write_keys(&mut self, file: KeysAt) -> Result<()> {
        let uid = self.request.uid.unwrap_or(self.found.uid);
        let owner = Owner { uid, gid: self.found.gid };
        let KeysAt { path, in_home, text, lines, keys } = file;
        if text.is_some() {
            let path =
                TreePath::new(&path).ok_or_else(|| self.refuse(KeyTrouble::Nowhere.into()))?;
            self.builder.edit_text(TextEdit { path, lines, owner, mode: 0o600 });
            return Ok(());
        }
        let home = BString::from(self.found.user.home);
        let is_there = matches!(self.context.world.site(home.as_ref()), Site::Taken(_));
        if !in_home || !is_there {
            return Err(self.refuse(HomeTrouble::KeyWithoutHome.into()));
        }
        let new = lines.iter().filter_map(|line| line.becomes.as_ref());
        let contents = new.flat_map(|line| [line.as_slice(), b"\n"].concat()).collect();
        // A directory that is made for it goes again with it.
        let directory = parent_of(&path);
        let free = matches!(self.context.world.site(directory.into()), Site::Free);
        if let Some(directory) = TreePath::new(directory).filter(|_| free) {
            let name = path.rsplit_once_str("/").map_or(&path[..], |(_, name)| name).into();
            let files = vec![NewFile { path: name, contents, mode: 0o600 }];
            let skeleton = None;
            let (place, mode) = (directory, 0o700);
            let made = Step::MakeDirectory { path: place, skeleton, files, owner, mode };
            return self.make_once(made, path);
        }
        let below = TreePath::judged(&home);
        let name = path.strip_prefix(&[home.as_slice(), b"/"].concat()[..]).unwrap_or(&path);
        let file = NewFile { path: name.into(), contents, mode: 0o600 };
        self.subject.decide("ssh", counted(keys.len(), "key", "keys"), format!("in {path}"));
        self.make_once(Step::MakeFile { below, file, owner }, path)
    }

    /// Makes a file; not twice for accounts of one home, and not for two of them in two ways.
    fn make_once(&mut self, made: Step, path: BString) -> Result<()> {
        let is_same = |step: &Step| match (step, &made) {
            (Step::MakeDirectory { path: one, .. }, Step::MakeDirectory { path: other, .. }) => {
                one == other
            }
            (
                Step::MakeFile { below, file, .. },
                Step::MakeFile { below: other, file: new, .. },
            ) => below == other && file.path == new.path,
            _ => false,
        };
        match self.builder.plan.steps.iter().find(|step| is_same(step)) {
            Some(before) if *before == made => Ok(()),
            Some(_) => {
                let why = "is made for another account too, whose home is the same".to_owned();
                Err(self.refuse(KeyTrouble::NotToBeWritten { path, why }.into()))
            }
            None => {
                self.builder.step(made);
                Ok(())
            }
        }
    }
}

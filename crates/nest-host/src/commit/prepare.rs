//! A plan as effects, before anything is staged.

use std::collections::BTreeSet;

use nest_core::change::Step;
use nest_core::table::{File, Order, holding_both, order};
use nest_core::value::{PlainName, TreePath, join};

use super::{Change, CommitError, failed};
use crate::home::missing_directories;
use crate::journal::{Effect, Renumbered, Replaced, list_name};
use crate::mounts::{Mounts, mount_id};
use crate::place::{BOTH, GONE, NEW, Place, escaped, is_private, tree_path};
use crate::tree::path_of;
use crate::{retired, suspended};

/// How a step is carried out, and when what it does becomes visible.
enum Carried {
    /// Before the account files: homes of those who come, say.
    Before(Effect),
    /// The same, but after all others: what is kept is there before what it is of goes.
    Kept(Effect),
    /// After the account files: what was of those who go.
    After(Effect),
    /// By a file of the state folder, which tells the bookkeeping of all steps.
    Noted(PlainName),
}

impl Change<'_> {
    /// Lists the effects in the order in which they will become visible, and which step
    /// each carries out.
    pub(super) fn prepare(&mut self) -> Result<(), CommitError> {
        let (mut before, mut after, mut keeps) = (Vec::new(), Vec::new(), Vec::new());
        let mut noted = BTreeSet::new();
        for (at, step) in self.plan.steps.iter().enumerate() {
            match self.carried(at, step).map_err(|error| failed(step.describe(), error))? {
                Carried::Before(effect) => before.push((Some(at), effect)),
                Carried::Kept(effect) => keeps.push((Some(at), effect)),
                Carried::After(effect) => after.push((Some(at), effect)),
                Carried::Noted(name) => _ = noted.insert(name),
            }
        }
        let state = noted.into_iter().map(|name| Effect::Replace {
            what: Replaced::State,
            path: escaped(name.as_str()),
            staged: escaped(""),
            before: None,
            after: String::new(),
        });
        let mut all: Vec<_> = state.map(|effect| (None, effect)).collect();
        all.extend(before.into_iter().chain(keeps));
        for (file, ending) in self.publish_order() {
            let located = self.tree().locate(file.path());
            let located =
                located.map_err(|error| failed(format!("looking at {}", file.path()), error))?;
            let effect = Effect::Replace {
                what: Replaced::Account(file),
                staged: escaped(crate::place::beside(&located.name, ending)),
                path: escaped(&located.path),
                before: None,
                after: String::new(),
            };
            all.push((None, effect));
        }
        all.extend(after);
        for (_, effect) in &all {
            self.see_way_is_clear(effect).map_err(|error| failed(effect.describe(), error))?;
        }
        (self.step_of, self.entry.effects) = all.into_iter().unzip();
        Ok(())
    }

    /// What is to be removed gets another name before: where somebody else can write, anything
    /// may have that.
    fn see_way_is_clear(&self, effect: &Effect) -> std::io::Result<()> {
        let (Effect::Erase { path, .. }
        | Effect::Remove { path, .. }
        | Effect::Move { from: path, copied: true, .. }) = effect
        else {
            return Ok(());
        };
        let place = Place::of(self.tree(), path)?;
        let name = place.beside(GONE);
        if !place.exists(&name)? {
            return Ok(());
        }
        let path = path_of(path).with_file_name(name);
        let path = path.display();
        let why =
            format!("{path} is in the way, and no change left it; look at it, and move it away");
        Err(std::io::Error::other(why))
    }

    fn carried(&self, at: usize, step: &Step) -> std::io::Result<Carried> {
        Ok(match step {
            Step::MakeDirectory { path, .. } => {
                let (path, made) = (path.clone(), Vec::new());
                Carried::Before(Effect::Make { path, made, inventory: None })
            }
            Step::MakeFile { below, file, .. } => {
                let made = missing_directories(self.tree(), below, &file.path)?;
                let path = TreePath::judged(&join(below, &file.path));
                Carried::Before(Effect::Make { path, made, inventory: None })
            }
            Step::EditText(edit) => {
                let (path, before, after) = (edit.path.clone(), None, String::new());
                let effect = Effect::Rewrite { path, before, after };
                // What keeps somebody out is there before the account is, and goes after it.
                match edit.lines.iter().all(|line| line.becomes.is_none()) {
                    true => Carried::After(effect),
                    false => Carried::Before(effect),
                }
            }
            Step::GiveDirectory { path, from, to } => {
                Carried::Before(Effect::Give { path: path.clone(), from: *from, to: *to })
            }
            Step::SetAccess { file, from, to } => {
                Carried::After(Effect::SetAccess { file: *file, from: *from, to: *to })
            }
            Step::Move { from, to, aside } => {
                let effect = self.prepare_move(from, to, *aside)?;
                if *aside { Carried::After(effect) } else { Carried::Before(effect) }
            }
            Step::Remove { path, made, .. } => {
                Carried::After(Effect::Remove { path: path.clone(), made: made.clone() })
            }
            Step::Reown(reown) => {
                let (reown, list) = (reown.clone(), list_name(at));
                Carried::Before(Effect::Reown { reown, list, digest: None })
            }
            Step::Erase { path } => {
                Carried::After(Effect::Erase { path: path.clone(), packed: None })
            }
            Step::Archive { path, folder, file } => {
                let packed = Some((folder.clone(), *file));
                Carried::After(Effect::Erase { path: path.clone(), packed })
            }
            Step::Unpack { path, folder, file, uid, gid } => {
                let (path, folder, file) = (path.clone(), folder.clone(), *file);
                let (other, inventory) = (Renumbered { uid: *uid, gid: *gid }, None);
                Carried::Before(Effect::Unpack { path, folder, file, other, inventory })
            }
            Step::Keep { folder, .. } => {
                Carried::Kept(Effect::Keep { folder: folder.clone(), digest: None })
            }
            Step::Release { folder, .. } => {
                Carried::After(Effect::Release { folder: folder.clone() })
            }
            Step::RetireIds(_) | Step::ReviveIds(_) => Carried::Noted(retired::NAME),
            Step::NoteSuspended(_) | Step::ForgetSuspended(_) => Carried::Noted(suspended::NAME),
        })
    }

    fn prepare_move(&self, from: &TreePath, to: &TreePath, aside: bool) -> std::io::Result<Effect> {
        let parent = path_of(to).parent().filter(|_| aside).map(tree_path);
        let made = match parent {
            Some(parent) => (!is_private(self.tree(), &parent)?).then_some(parent),
            None => None,
        };
        let old = Place::of(self.tree(), from)?;
        // What is mounted in it would go along unseen. It was looked for when this was
        // planned; something may have been mounted since.
        if let Some(mount) = Mounts::below(self.tree()).at_or_inside(from) {
            return Err(std::io::Error::other(format!("something is mounted at {mount}")));
        }
        // A directory that is yet to be made is on the file system it is made in.
        let target = if aside { path_of(from) } else { path_of(to) };
        let target = self.tree().open_directory_strictly(target.parent().unwrap_or(target))?;
        // Nothing can be renamed from one mount to another, be they of one file system.
        let copied = mount_id(&old.directory) != mount_id(&target)
            || rustix::fs::fstat(&old.directory)?.st_dev != rustix::fs::fstat(&target)?.st_dev;
        let (from, to, inventory) = (from.clone(), to.clone(), None);
        Ok(Effect::Move { from, to, made, copied, inventory })
    }

    /// The account files in the order in which their versions are published.
    fn publish_order(&self) -> Vec<(File, &'static str)> {
        let mut files: Vec<File> = self.plan.edits.iter().map(|edit| edit.file).collect();
        files.sort_by_key(|file| place_in_order(*file));
        files.dedup();
        let new = |file: &File| (*file, NEW);
        match order(&self.plan.edits) {
            Order::PasswdLast => files.iter().map(new).collect(),
            Order::PasswdFirst => files.iter().rev().map(new).collect(),
            Order::Between => {
                let both = files.iter().filter(|file| **file != File::Passwd);
                let both = both.filter(|file| !holding_both(&self.edits(**file)).is_empty());
                both.map(|file| (*file, BOTH)).chain(files.iter().rev().map(new)).collect()
            }
        }
    }
}

/// Users become visible last.
fn place_in_order(file: File) -> u8 {
    match file {
        File::Gshadow => 0,
        File::Shadow => 1,
        File::Subuid => 2,
        File::Subgid => 3,
        File::Group => 4,
        File::Passwd => 5,
    }
}

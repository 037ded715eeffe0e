//! A plan as effects, before anything is staged.

use nest_core::change::Step;
use nest_core::table::{File, Order, holding_both, order};
use nest_core::value::PlainName;
use nest_core::value::escaped::Escaped;

use super::{Change, CommitError, failed, join};
use crate::effect::{BOTH, NEW, Place, escaped, is_private};
use crate::home::missing_directories;
use crate::journal::{Effect, Renumbered, Replaced, list_name};
use crate::mounts::{Mounts, mount_id};
use crate::tree::path_of;
use crate::{retired, suspended};

impl Change<'_> {
    /// Lists the effects in the order in which they will become visible: homes
    /// before the lines of those who come, after the lines of those who go.
    pub(super) fn prepare(&mut self) -> Result<(), CommitError> {
        let (mut first, mut last, mut keeps) = (self.state_files(), Vec::new(), Vec::new());
        for (at, step) in self.plan.steps.iter().enumerate() {
            let fail = |error: rustix::io::Errno| failed(step.describe(), error);
            match step {
                Step::MakeDirectory { path, .. } => {
                    let (path, made) = (Escaped(path.clone()), Vec::new());
                    first.push(Effect::Make { path, made, inventory: None });
                }
                Step::MakeFile { below, file, .. } => {
                    let made = missing_directories(self.tree(), below, &file.path).map_err(fail)?;
                    let path = Escaped(join(below, &file.path));
                    first.push(Effect::Make { path, made, inventory: None });
                }
                Step::GiveDirectory { path, from, to } => {
                    first.push(Effect::Give { path: Escaped(path.clone()), from: *from, to: *to });
                }
                Step::SetAccess { file, from, to } => {
                    last.push(Effect::SetAccess { file: *file, from: *from, to: *to });
                }
                Step::Move { from, to, aside } => {
                    let effect = self.prepare_move(from, to, *aside);
                    let effect = effect.map_err(|error| failed(step.describe(), error))?;
                    if *aside { last.push(effect) } else { first.push(effect) }
                }
                Step::Remove { path, made, .. } => {
                    let path = Escaped(path.clone());
                    last.push(Effect::Remove { path, made: made.clone() });
                }
                Step::Reown(reown) => {
                    let (reown, list) = (reown.clone(), list_name(at));
                    first.push(Effect::Reown { reown, list, digest: None });
                }
                Step::Erase { path } => {
                    let path = Escaped(path.clone());
                    last.push(Effect::Erase { path, packed: None });
                }
                Step::Archive { path, folder, file } => {
                    let path = Escaped(path.clone());
                    let packed = Some((folder.clone(), *file));
                    last.push(Effect::Erase { path, packed });
                }
                Step::Unpack { path, folder, file, uid, gid } => {
                    let (path, folder, file) = (Escaped(path.clone()), folder.clone(), *file);
                    let (other, inventory) = (Renumbered { uid: *uid, gid: *gid }, None);
                    first.push(Effect::Unpack { path, folder, file, other, inventory });
                }
                Step::Keep { folder, .. } => {
                    keeps.push(Effect::Keep { folder: folder.clone(), digest: None });
                }
                Step::Release { folder, .. } => {
                    last.push(Effect::Release { folder: folder.clone() });
                }
                // Told by the files of the state folder.
                Step::RetireIds(_)
                | Step::ReviveIds(_)
                | Step::NoteSuspended(_)
                | Step::ForgetSuspended(_) => {}
            }
        }
        // What is kept is there before what it is of goes.
        first.append(&mut keeps);
        self.entry.effects = first;
        for (file, ending) in self.publish_order() {
            let located = self.tree().locate(file.path());
            let located =
                located.map_err(|error| failed(format!("looking at {}", file.path()), error))?;
            self.entry.effects.push(Effect::Replace {
                what: Replaced::Account(file),
                staged: escaped(crate::effect::beside(&located.name, ending)),
                path: escaped(&located.path),
                before: None,
                after: String::new(),
            });
        }
        self.entry.effects.extend(last);
        Ok(())
    }

    /// The files of the state folder that the plan's bookkeeping alters.
    fn state_files(&self) -> Vec<Effect> {
        let of = |step: &Step| match step {
            Step::RetireIds(_) | Step::ReviveIds(_) => Some(retired::NAME),
            Step::NoteSuspended(_) | Step::ForgetSuspended(_) => Some(suspended::NAME),
            _ => None,
        };
        let mut names: Vec<PlainName> = self.plan.steps.iter().filter_map(of).collect();
        names.sort_unstable();
        names.dedup();
        let effect = |name: PlainName| Effect::Replace {
            what: Replaced::State,
            path: escaped(name.as_str()),
            staged: escaped(""),
            before: None,
            after: String::new(),
        };
        names.into_iter().map(effect).collect()
    }

    fn prepare_move(&self, from: &[u8], to: &[u8], aside: bool) -> std::io::Result<Effect> {
        let parent = path_of(to).parent().filter(|_| aside).map(escaped);
        let made = match parent {
            Some(parent) => (!is_private(self.tree(), &parent.0)?).then_some(parent),
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
        let (from, to, inventory) = (Escaped(from.into()), Escaped(to.into()), None);
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

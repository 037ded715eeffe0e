//! Home, mail and crontab of a user who comes back.

use bstr::{BString, ByteSlice};

use crate::account::means_no_home;
use crate::change::{Label, Step};
use crate::drafting::{obstacle, record_home, shared_home};
use crate::plan::users::restore_user::{RestoredIds, Restoring};
use crate::refusal::{Reason, Result};
use crate::retired::{Became, BelongingKind};
use crate::surroundings::Site;
use crate::value::TreePath;

impl Restoring<'_, '_> {
    pub(crate) fn belongings(
        &mut self,
        numbers: RestoredIds,
        home: &BString,
        new_home: &BString,
    ) -> Result<()> {
        for belonging in &self.kept.belongings {
            let what = belonging.what;
            let to = match what {
                BelongingKind::Home => new_home.clone(),
                _ if self.request.as_name.is_some() => {
                    let parent = belonging.path.rsplit_once_str("/").map_or(&b""[..], |two| two.0);
                    [parent, b"/", &self.name[..]].concat().into()
                }
                _ => belonging.path.clone(),
            };
            let moves =
                matches!(belonging.became, Became::SetAside { .. } | Became::Archived { .. });
            if moves && let Site::Taken(facts) = self.context.world.site(to.as_ref()) {
                let owner = self.context.book.user_by_uid(facts.uid);
                let owner = owner.map_or(format!("number {}", facts.uid), |(_, user)| {
                    user.name.as_bstr().to_string()
                });
                let path = to.clone();
                let taken = format!("{} of {owner}", facts.kind);
                let way = format!("{} --as NAME", self.command);
                let refusal = self
                    .refuse(Reason::BelongingTaken { what, path, taken })
                    .or_else("move that away first", format!("mv {to} {to}.before"));
                return Err(match self.is_there() {
                    true => refusal,
                    false => refusal.or("or restore under another name", way),
                });
            }
            let site = self.context.world.site(to.as_ref());
            if moves && site != Site::Free {
                let fault = obstacle(&to, &site);
                let path = to.clone();
                let mut refusal = self.refuse(Reason::NoWayBack { what, path, fault });
                if let Site::NoParent(parent) = site {
                    refusal =
                        refusal.or_else("make the directory first", format!("mkdir {parent}"));
                }
                return Err(refusal);
            }
            match &belonging.became {
                Became::SetAside { place } => {
                    if !matches!(self.context.world.site(place.as_ref()), Site::Taken(_)) {
                        self.not_back(
                            format!("{what} {to}"),
                            format!("{place} is not there any more"),
                        );
                        continue;
                    }
                    self.reown(place, numbers);
                    self.subject.decide(what, to.clone(), format!("back from {place}"));
                    let (from, to) = (place.clone(), TreePath::judged(&to));
                    self.builder.step(Step::Move { from, to, aside: false });
                }
                Became::Archived { file } => {
                    self.subject.decide(what, to.clone(), format!("unpacked from {file}"));
                    self.builder.step(Step::Unpack {
                        path: TreePath::judged(&to),
                        folder: self.found.folder.clone(),
                        file: *file,
                        uid: changed(numbers.old_uid, numbers.uid),
                        gid: changed(numbers.old_gid, numbers.gid),
                    });
                }
                Became::Stays => {
                    self.reown(&belonging.path, numbers);
                    if what == BelongingKind::Home && home == new_home {
                        let caution = record_home(self.context, self.name.as_bstr(), home);
                        self.builder.plan.cautions.extend(caution);
                    }
                    self.subject.decide(what, belonging.path.clone(), "stayed where it was");
                }
                Became::Erased => {
                    if what == BelongingKind::Home {
                        let caution = record_home(self.context, self.name.as_bstr(), new_home);
                        self.builder.plan.cautions.extend(caution);
                    }
                    self.not_back(format!("{what} {}", belonging.path), "it was erased");
                }
                Became::Given { place, to } => {
                    let why = format!("it was given to {to}, as {place}");
                    self.not_back(format!("{what} {}", belonging.path), why);
                }
            }
        }
        if self.kept.belonging(BelongingKind::Home).is_none() {
            let missing = record_home(self.context, self.name.as_bstr(), new_home);
            let why = match missing {
                Some(_) => "was not there when it was deleted",
                None => "is there, and stays as it is",
            };
            self.subject.decide(Label::HOME, new_home.clone(), why);
            self.builder.plan.cautions.extend(missing.filter(|_| !means_no_home(new_home)));
        }
        if !means_no_home(new_home) {
            let shared = shared_home(self.context, self.name.as_bstr(), new_home);
            self.builder.plan.cautions.extend(shared);
        }
        Ok(())
    }

    /// Files that carry the old numbers get the new ones, where they are.
    fn reown(&mut self, path: &BString, numbers: RestoredIds) {
        // The account's line may have named anything.
        let Some(path) = TreePath::new(path) else { return };
        let RestoredIds { old_uid, uid, old_gid, gid } = numbers;
        self.builder.give_files(&path, (old_uid, uid), (old_gid, gid));
    }
}

/// A number and the one in its place, where it is another.
fn changed<T: PartialEq>(old: T, new: T) -> Option<(T, T)> {
    (old != new).then_some((old, new))
}

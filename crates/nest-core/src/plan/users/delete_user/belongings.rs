//! What becomes of a deleted user's home, mail spool file and crontab.

use bstr::{BString, ByteSlice};

use crate::change::{Caution, Label, Step};
use crate::drafting::{Claim, Judged, Purpose, find_user, named_after};
use crate::plan::users::delete_user::{Deleting, FilesDisposition};
use crate::refusal::{Reason, Result};
use crate::retired::{Became, Belonging, BelongingKind, PackedFile, set_aside_place};
use crate::surroundings::{Site, Survey};
use crate::value::{FileKind, TreePath, UserName, bytes_in_words, join};
use crate::words::counted;

/// A belonging that is there, looked at.
struct FoundBelonging {
    what: BelongingKind,
    path: TreePath,
    survey: Survey,
}

impl Deleting<'_, '_> {
    pub(crate) fn belongings(&mut self) -> Result<()> {
        let home = BString::from(self.found.user.home);
        let mut all = vec![(BelongingKind::Home, home)];
        all.extend(named_after(self.context.policy, self.found.user.name));
        let mut nothing = true;
        for (what, path) in all {
            if let Some(found) = self.belonging_at(what, &path)? {
                nothing = false;
                self.dispose(found)?;
            } else if what == BelongingKind::Home
                && self.kept.belonging(BelongingKind::Home).is_none()
            {
                let shown = if path.is_empty() { "none".into() } else { path };
                self.subject.decide(Label::HOME, shown, "is not there");
            }
        }
        if nothing && self.request.files == FilesDisposition::Erase {
            self.subject.decide("files", "none", "nothing to erase");
        }
        Ok(())
    }

    pub(crate) fn uid_is_shared(&self) -> bool {
        let name = self.found.user.name;
        self.context.book.users_by_uid(self.found.uid).iter().any(|(_, user)| user.name != name)
    }

    /// Looks at a belonging. One that never existed is no matter.
    fn belonging_at(
        &mut self,
        what: BelongingKind,
        path: &BString,
    ) -> Result<Option<FoundBelonging>> {
        let kind = if what == BelongingKind::Home { FileKind::Directory } else { FileKind::File };
        let purpose = match self.request.files {
            FilesDisposition::SetAside | FilesDisposition::Keep => Purpose::Move,
            FilesDisposition::Archive | FilesDisposition::Erase | FilesDisposition::Give(_) => {
                Purpose::Remove
            }
        };
        match Claim::of(&self.found, path, kind, purpose).judge(self.context) {
            Judged::Nothing => Ok(None),
            Judged::Fault(fault) => self.stand(what, path, fault),
            Judged::Sound(path, _, survey) => Ok(Some(FoundBelonging { what, path, survey })),
        }
    }

    /// Something can't be taken from where it is: only leaving it there is left.
    fn stand(
        &mut self,
        what: BelongingKind,
        path: &BString,
        fault: String,
    ) -> Result<Option<FoundBelonging>> {
        if self.request.files == FilesDisposition::Keep {
            self.subject.decide(what, path.clone(), format!("stays: it {fault}"));
            let (files, bytes) = (0, 0);
            let (path, became) = (path.clone(), Became::Stays);
            self.keep_belonging(Belonging { what, path, became, files, bytes });
            return Ok(None);
        }
        let path = path.clone();
        let way = format!("delete user {} --files keep", self.name());
        Err(self
            .refuse(Reason::NotToBeTaken { what, path, fault })
            .or("leave the files where they are", way))
    }

    fn dispose(&mut self, found: FoundBelonging) -> Result<()> {
        let FoundBelonging { what, path, survey } = found;
        self.subject.decide(what, path.clone(), in_words(what, &survey));
        let uncounted = survey.uncounted.iter().cloned();
        let uncounted = uncounted.map(|(path, why)| Caution::Uncounted { path, why });
        self.builder.plan.cautions.extend(uncounted);
        let became = match self.request.files.clone() {
            FilesDisposition::SetAside => self.set_aside(what, &path)?,
            FilesDisposition::Keep => {
                let (path, uid) = (path.clone().into(), self.found.uid);
                self.builder.caution(match self.context.change {
                    _ if self.uid_is_shared() => Caution::BelongingShared { path, uid },
                    Some(_) => Caution::BelongingStays { path, uid },
                    None => Caution::BelongingExposed { path, uid },
                });
                Became::Stays
            }
            FilesDisposition::Archive => self.archive(what, &path)?,
            FilesDisposition::Erase => {
                self.builder.step(Step::Erase { path: path.clone() });
                self.builder.caution(Caution::Erases { path: path.clone().into() });
                Became::Erased
            }
            FilesDisposition::Give(to) => self.give(what, &path, to)?,
        };
        let Survey { files, bytes, .. } = survey;
        let path = path.into();
        self.keep_belonging(Belonging { what, path, became, files, bytes });
        Ok(())
    }

    fn set_aside(&mut self, what: BelongingKind, path: &TreePath) -> Result<Became> {
        let (uid, change) = (self.found.uid, self.context.change);
        let place = set_aside_place(path, self.found.user.name, uid, change);
        let (hidden, _) = place.rsplit_once_str("/").unwrap_or((b"", &place));
        let hidden = BString::from(hidden);
        self.context.world.can_hide_in(hidden.as_ref()).map_err(|fault| {
            self.refuse(Reason::Planted(fault))
                .or_else("look at it, and move it away", format!("ls -la {hidden}"))
        })?;
        let why = if what == BelongingKind::Home { "whole; only root can enter there" } else { "" };
        self.subject.decide("set aside", place.clone(), why);
        self.builder.step(Step::Move { from: path.clone(), to: place.clone(), aside: true });
        Ok(Became::SetAside { place })
    }

    fn archive(&mut self, what: BelongingKind, path: &TreePath) -> Result<Became> {
        let file = PackedFile::of(what);
        let folder = self.folder(self.context.change.unwrap_or(0))?;
        self.subject.decide(
            "packed",
            format!("retired/{folder}/{file}"),
            "removed when the archive holds all of it",
        );
        self.builder.step(Step::Archive { path: path.clone(), folder, file });
        Ok(Became::Archived { file })
    }

    fn give(&mut self, what: BelongingKind, path: &TreePath, to: UserName) -> Result<Became> {
        let other = find_user(self.context, to.as_ref(), &self.what)?;
        let user: BString = to.clone().into();
        let cannot =
            |fault: String| Err(self.refuse(Reason::CanNotBeGiven { user: user.clone(), fault }));
        if self.request.names.contains(&to) {
            return cannot("it is deleted too".to_owned());
        }
        let home = BString::from(other.user.home);
        match self.context.world.site(home.as_ref()) {
            Site::Taken(facts) if facts.kind == FileKind::Directory && home != "/" => {}
            Site::Free | Site::NoParent(_) => {
                return cannot(format!("its home {home} is not there"));
            }
            _ => return cannot(format!("its home {home} is no directory")),
        }
        let mut place = join(&home, self.found.user.name);
        if what != BelongingKind::Home {
            place.extend_from_slice(format!(".{what}").as_bytes());
        }
        if self.context.world.site(place.as_ref()) != Site::Free {
            return cannot(format!("{place} is there already"));
        }
        let place = TreePath::judged(&place);
        // Re-owned where it is: it moves with its new owner.
        let (uids, gids) = ((self.found.uid, other.uid), (self.found.gid, other.gid));
        self.builder.give_files(path, uids, gids);
        self.builder.step(Step::Move { from: path.clone(), to: place.clone(), aside: false });
        self.subject.decide("given to", to.clone(), format!("as {place}"));
        Ok(Became::Given { place, to })
    }
}

fn in_words(what: BelongingKind, survey: &Survey) -> String {
    let more = if survey.more { "more than " } else { "" };
    let size = bytes_in_words(survey.bytes);
    let newest = survey.newest.map(|day| format!(", last altered {day}")).unwrap_or_default();
    match what {
        BelongingKind::Home => {
            let files = counted(survey.files, "file", "files");
            format!("{more}{files}, {more}{size}{newest}")
        }
        BelongingKind::Mail | BelongingKind::Crontab => format!("{size}{newest}"),
    }
}

//! What becomes of a deleted user's home, mail spool file and crontab.

use bstr::{BString, ByteSlice};

use super::{Deleting, Fate};
use crate::plan::find::{find_user, homes_below};
use crate::plan::home::named_after;
use crate::plan::undo::set_aside_place;
use crate::plan::{Caution, Reason, Refusal, Reown, Step, join};
use crate::retired::{Became, Belonging};
use crate::surroundings::{Kind, Site, Survey};
use crate::value::bytes_in_words;
use crate::value::escaped::Escaped;

/// A belonging that is there, looked at.
struct Found {
    what: &'static str,
    path: BString,
    survey: Survey,
}

impl Deleting<'_, '_> {
    pub(super) fn belongings(&mut self) -> Result<(), Box<Refusal>> {
        let home = BString::from(self.found.user.home);
        let mut all = vec![("home", home)];
        all.extend(named_after(self.ground.policy, self.found.user.name));
        let mut nothing = true;
        for (what, path) in all {
            if let Some(found) = self.look(what, &path)? {
                nothing = false;
                self.dispose(found)?;
            } else if what == "home" && self.kept.belonging("home").is_none() {
                let shown = if path.is_empty() { "none".into() } else { path };
                self.subject.decide("home", shown, "is not there");
            }
        }
        if nothing && self.request.files == Fate::Erase {
            self.subject.decide("files", "none", "nothing to erase");
        }
        Ok(())
    }

    pub(super) fn uid_is_shared(&self) -> bool {
        let name = self.found.user.name;
        let mut users = self.ground.book.users.records();
        users.any(|(_, user)| user.uid() == Some(self.found.uid) && user.name != name)
    }

    /// Looks at a belonging. One that never existed is no matter.
    fn look(&mut self, what: &'static str, path: &BString) -> Result<Option<Found>, Box<Refusal>> {
        let ground = self.ground;
        let taken = match ground.world.site(path.as_ref()) {
            _ if !path.starts_with(b"/") => return Ok(None),
            Site::Free | Site::NoParent(_) | Site::ParentIsNoDirectory(_) => return Ok(None),
            Site::Taken(facts) => Ok(facts),
            Site::ThroughLink { link, .. } => Err(format!("is reached through the link {link}")),
            Site::Unknown(why) => Err(format!("can't be looked at: {why}")),
        };
        // What is only moved goes in an instant, however much it is.
        let thorough = !matches!(self.request.files, Fate::SetAside | Fate::Keep);
        let survey = ground.world.survey(path.as_ref(), thorough);
        let survey = match survey {
            Ok(survey) => survey.unwrap_or_default(),
            Err(why) => return self.stand(what, path, format!("can't be looked at: {why}")),
        };
        let fault = match taken {
            Err(fault) => Some(fault),
            Ok(facts) => self.fault(what, path, facts, &survey),
        };
        match fault {
            Some(fault) => self.stand(what, path, fault),
            None => Ok(Some(Found { what, path: path.clone(), survey })),
        }
    }

    /// What is wrong with taking a belonging from where it is.
    fn fault(
        &self,
        what: &'static str,
        path: &BString,
        facts: crate::surroundings::Facts,
        survey: &Survey,
    ) -> Option<String> {
        let ground = self.ground;
        let expected = if what == "home" { Kind::Directory } else { Kind::File };
        let others = match what {
            "home" => homes_below(ground, path, self.found.user.name),
            _ => Vec::new(),
        };
        if path == "/" {
            Some("is the root of the tree".to_owned())
        } else if facts.kind == Kind::Link {
            Some("is a link: it leads elsewhere".to_owned())
        } else if facts.kind != expected {
            Some(format!("is {}, not {expected}", facts.kind))
        } else if !others.is_empty() {
            let others = bstr::join(", ", &others);
            Some(format!("is, or holds, the home of {} too", others.as_bstr()))
        } else if ground.world.is_mount_point(path.as_ref()) {
            Some("is a mount point: what is mounted there can't be moved".to_owned())
        } else if let Some(mount) = survey.mounts.first() {
            Some(format!("has another file system mounted in it, at {mount}"))
        } else if let Some(fixed) =
            survey.fixed.as_ref().filter(|fixed| self.is_stopped_by(path, fixed))
        {
            Some(format!("holds {fixed}, which is marked so that not even root can change it"))
        } else if facts.uid != self.found.uid && ground.world.owners_are_real().is_ok() {
            let owner = match ground.book.user_by_uid(facts.uid) {
                Some((_, user)) => user.name.as_bstr().to_string(),
                None => format!("number {}, whom nobody is", facts.uid),
            };
            Some(format!("belongs to {owner}, not to {}", self.name()))
        } else {
            None
        }
    }

    /// Moving a home needs nothing of what is in it to change.
    fn is_stopped_by(&self, path: &BString, fixed: &BString) -> bool {
        self.request.files != Fate::SetAside || path == fixed
    }

    /// Something can't be taken from where it is: only leaving it there is left.
    fn stand(
        &mut self,
        what: &'static str,
        path: &BString,
        fault: String,
    ) -> Result<Option<Found>, Box<Refusal>> {
        if self.request.files == Fate::Keep {
            self.subject.decide(what, path.clone(), format!("stays: it {fault}"));
            let (files, bytes) = (0, 0);
            let (path, became) = (path.clone(), Became::Stays);
            self.keep_belonging(Belonging { what: what.into(), path, became, files, bytes });
            return Ok(None);
        }
        let path = path.clone();
        let way = format!("delete user {} --files keep", self.name());
        Err(self
            .refuse(Reason::NotToBeTaken { what, path, fault })
            .or("leave the files where they are", way))
    }

    fn dispose(&mut self, found: Found) -> Result<(), Box<Refusal>> {
        let Found { what, path, survey } = found;
        self.subject.decide(what, path.clone(), in_words(what, &survey));
        let became = match self.request.files.clone() {
            Fate::SetAside => self.set_aside(what, &path)?,
            Fate::Keep => {
                let (path, uid) = (path.clone(), self.found.uid);
                self.plan.cautions.push(match self.ground.change {
                    _ if self.uid_is_shared() => Caution::BelongingShared { path, uid },
                    Some(_) => Caution::BelongingStays { path, uid },
                    None => Caution::BelongingExposed { path, uid },
                });
                Became::Stays
            }
            Fate::Archive => self.archive(what, &path),
            Fate::Erase => {
                self.plan.steps.push(Step::Erase { path: path.clone() });
                self.plan.cautions.push(Caution::Erases { path: path.clone() });
                Became::Erased
            }
            Fate::Give(to) => self.give(what, &path, to)?,
        };
        let Survey { files, bytes, .. } = survey;
        self.keep_belonging(Belonging { what: what.into(), path, became, files, bytes });
        Ok(())
    }

    fn set_aside(&mut self, what: &'static str, path: &BString) -> Result<Became, Box<Refusal>> {
        let (uid, change) = (self.found.uid, self.ground.change);
        let place = set_aside_place(path, self.found.user.name, uid, change);
        let (hidden, _) = place.rsplit_once_str("/").unwrap_or((b"", &place));
        let hidden = BString::from(hidden);
        self.ground.world.can_hide_in(hidden.as_ref()).map_err(|fault| {
            self.refuse(Reason::Planted(fault))
                .or_else("look at it, and move it away", format!("ls -la {hidden}"))
        })?;
        let why = if what == "home" { "whole; only root can enter there" } else { "" };
        self.subject.decide("set aside", place.clone(), why);
        self.plan.steps.push(Step::Move { from: path.clone(), to: place.clone(), aside: true });
        Ok(Became::SetAside { place })
    }

    fn archive(&mut self, what: &'static str, path: &BString) -> Became {
        let file = format!("{what}.tar.zst");
        let folder = self.kept.folder(self.ground.change.unwrap_or(0));
        self.subject.decide(
            "packed",
            format!("retired/{folder}/{file}"),
            "removed when the archive holds all of it",
        );
        self.plan.steps.push(Step::Archive { path: path.clone(), folder, file: file.clone() });
        Became::Archived { file }
    }

    fn give(
        &mut self,
        what: &'static str,
        path: &BString,
        to: BString,
    ) -> Result<Became, Box<Refusal>> {
        let other = find_user(self.ground, to.as_ref(), &self.what)?;
        let user = to.clone();
        let cannot =
            |fault: String| Err(self.refuse(Reason::CanNotBeGiven { user: user.clone(), fault }));
        if self.request.names.contains(&to) {
            return cannot("it is deleted too".to_owned());
        }
        let home = BString::from(other.user.home);
        match self.ground.world.site(home.as_ref()) {
            Site::Taken(facts) if facts.kind == Kind::Directory && home != "/" => {}
            Site::Free | Site::NoParent(_) => {
                return cannot(format!("its home {home} is not there"));
            }
            _ => return cannot(format!("its home {home} is no directory")),
        }
        let mut place = join(&home, self.found.user.name);
        if what != "home" {
            place.extend_from_slice(format!(".{what}").as_bytes());
        }
        if self.ground.world.site(place.as_ref()) != Site::Free {
            return cannot(format!("{place} is there already"));
        }
        // Re-owned where it is: it moves with its new owner.
        for (group, from, to) in
            [(false, self.found.uid, other.uid), (true, self.found.gid, other.gid)]
        {
            if from != to {
                let paths = vec![Escaped(path.clone())];
                self.plan.steps.push(Reown::below(paths, group, from, to));
            }
        }
        self.plan.steps.push(Step::Move { from: path.clone(), to: place.clone(), aside: false });
        self.subject.decide("given to", to.clone(), format!("as {place}"));
        Ok(Became::Given { place, to })
    }
}

fn in_words(what: &str, survey: &Survey) -> String {
    let more = if survey.more { "more than " } else { "" };
    let size = bytes_in_words(survey.bytes);
    let newest = survey.newest.map(|day| format!(", last altered {day}")).unwrap_or_default();
    match what {
        "home" => {
            let files = match survey.files {
                1 => "1 file".to_owned(),
                files => format!("{files} files"),
            };
            format!("{more}{files}, {more}{size}{newest}")
        }
        _ => format!("{size}{newest}"),
    }
}

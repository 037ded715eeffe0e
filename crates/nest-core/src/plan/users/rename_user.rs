//! Giving an account another name, in every place that bears it.

use bstr::{BStr, BString, ByteSlice};

use crate::book::Lookups;
use crate::change::{Caution, Label, Plan, Step, Subject};
use crate::context::PlanContext;
use crate::drafting::{
    Claim, FoundUser, Instead, Judged, PlanBuilder, Purpose, check_new_name, find_user, move_home,
    named_after, obstacle, private_group, rename_window, require_file_name, tell_home_moved,
};
use crate::plan::users::suspend::carry_note;
use crate::policy::Policy;
use crate::refusal::{Reason, Refusal, Result};
use crate::request::{GuardOverrides, Request};
use crate::surroundings::Site;
use crate::table::{Column, File, PasswdField};
use crate::value::{FileKind, TreePath, UserName, join};
use crate::words::list;

/// A user to be renamed.
#[derive(Debug, Clone, Default)]
pub struct RenameUser {
    /// The name it has.
    pub old: UserName,
    /// The name it gets.
    pub new: UserName,
    /// The home stays where it is.
    pub keep_home: bool,
    /// The private group keeps its name.
    pub keep_group: bool,
    /// Guards waved through.
    pub overrides: GuardOverrides,
}

impl Request for RenameUser {
    fn lookups(&self, _: &Policy) -> Lookups {
        Lookups::whole()
    }

    fn overrides(&self) -> GuardOverrides {
        self.overrides
    }
}

/// Plans the renaming of a user.
///
/// # Errors
/// The first [`Refusal`].
pub fn rename_user(context: PlanContext<'_>, request: &RenameUser) -> Result<Plan> {
    let (old, new) = (BStr::new(&request.old), BStr::new(&request.new));
    let what = format!("{old} was not renamed");
    let found = find_user(context, old, &what)?;
    if old == new {
        return Err(Refusal::new(what, Reason::SameName));
    }
    let mut renaming = Renaming {
        context,
        request,
        found,
        what,
        builder: PlanBuilder::new(context, format!("rename user {old} {new}")),
        subject: Subject::new(old.to_owned()),
    };
    renaming.rename()?;
    let Renaming { builder, subject, .. } = renaming;
    Ok(builder.finish_with(subject, format!("show user {new}")))
}

struct Renaming<'a> {
    context: PlanContext<'a>,
    request: &'a RenameUser,
    found: FoundUser<'a>,
    what: String,
    builder: PlanBuilder<'a>,
    subject: Subject,
}

impl<'a> Renaming<'a> {
    fn old(&self) -> &'a BStr {
        BStr::new(self.found.user.name)
    }

    fn new_name(&self) -> &'a BStr {
        BStr::new(&self.request.new)
    }

    fn refuse(&self, reason: Reason) -> Box<Refusal> {
        Refusal::new(self.what.as_str(), reason)
    }

    fn rename(&mut self) -> Result<()> {
        let (old, new) = (self.old(), self.new_name());
        let again = format!("rename user {old} {new}");
        require_file_name((self.context, File::Passwd), old, &self.what)?;
        let private = self.private_group();
        let group_way = || format!("{again} --keep-group");
        let cautions = check_new_name(self.context, new, private.is_some(), &self.what, group_way)?;
        self.builder.plan.cautions.extend(cautions);
        self.subject.decide("name", new, format!("was {old}"));
        self.subject.decide(
            Label::UID,
            self.found.uid.to_string(),
            "as it was: files stay the account's",
        );
        self.lines(private)?;
        self.lists();
        self.home()?;
        self.belongings()?;
        let renamed = rename_window(&mut self.builder, old, new);
        if renamed.map_err(|trouble| self.refuse(trouble.into()))? {
            self.subject.decide("window", "its hours and places", "under the new name");
        }
        carry_note(self.context, &self.found, &mut self.builder.plan, new, self.found.uid);
        tell_home_moved(&mut self.builder, old, &self.found.user.home.into());
        let places = self.context.world.mentions_of_user(old);
        if !places.is_empty() {
            let (old, new) = (old.into(), new.into());
            self.builder.caution(Caution::Dangling { old, new, places });
        }
        Ok(())
    }

    /// The group of the user's own name, if it is the user's alone.
    fn private_group(&self) -> Option<&'a [u8]> {
        let group = private_group(self.context, &self.found).ok()??;
        let own = group.gid() == Some(self.found.gid) && !self.request.keep_group;
        own.then_some(group.name)
    }

    fn lines(&mut self, private: Option<&'a [u8]>) -> Result<()> {
        let (book, new) = (self.context.book, self.new_name());
        let mut files = vec![File::Passwd, File::Shadow, File::Subuid, File::Subgid];
        if private.is_some() {
            files.extend([File::Group, File::Gshadow]);
            let gid = format!("{new} {}", self.found.gid);
            self.subject.decide(Label::PRIMARY, gid, "the private group is renamed too");
        }
        if let (Err(other), false) =
            (private_group(self.context, &self.found), self.request.keep_group)
        {
            let (old, gid) = (self.old(), self.found.gid);
            let why = format!("keeps its name: {} is in it too", BStr::new(other));
            self.subject.decide(Label::PRIMARY, format!("{old} {gid}"), why);
        }
        for file in files {
            for line in book.named(file, self.found.user.name) {
                self.builder.set_fields(file, line, &[(Column::NAME, new)]);
            }
        }
        Ok(())
    }

    /// Every list of members and of administrators.
    fn lists(&mut self) {
        let (book, old, new) = (self.context.book, self.old(), self.new_name());
        let groups: Vec<&[u8]> =
            book.groups_listing(old).into_iter().map(|(_, group)| group.name).collect();
        self.builder.lists().replace_everywhere(old, new);
        if !groups.is_empty() {
            self.subject.decide(Label::MEMBER_OF, list(&groups), "under the new name");
        }
    }

    /// The home goes along when it is named after the user.
    fn home(&mut self) -> Result<()> {
        let home = BString::from(self.found.user.home);
        let (parent, last) = home.rsplit_once_str("/").unwrap_or((b"", &home));
        if last != self.found.user.name {
            self.subject.decide(
                Label::HOME,
                home.clone(),
                "not named after the account, and stays",
            );
            return Ok(());
        }
        if self.request.keep_home {
            self.subject.decide(Label::HOME, home.clone(), "kept, as asked");
            return Ok(());
        }
        if !matches!(self.context.world.site(home.as_ref()), Site::Taken(_)) {
            self.subject.decide(Label::HOME, home.clone(), "not there; the path stays as it is");
            return Ok(());
        }
        let parent: BString = if parent.is_empty() { "/".into() } else { parent.into() };
        let new = join(&parent, self.new_name());
        let step =
            move_home(self.context, &self.found, &home, &new, &self.what, Instead::KeepHome)?;
        self.builder.set_fields(File::Passwd, self.found.line, &[(PasswdField::Home, &new)]);
        self.subject.decide(Label::HOME, new, format!("moved from {home}"));
        self.builder.step(step);
        Ok(())
    }

    /// The mail spool file and the crontab bear the name too.
    fn belongings(&mut self) -> Result<()> {
        let policy = self.context.policy;
        let (old, new) = (self.old(), self.new_name());
        let (from, to) = (named_after(policy, old), named_after(policy, new));
        for ((label, from), (_, to)) in from.into_iter().zip(to) {
            let claim = Claim::of(&self.found, &from, FileKind::File, Purpose::Move);
            let from = match claim.judge(self.context) {
                Judged::Nothing => continue,
                Judged::Fault(fault) => {
                    self.subject.decide(label, from, format!("stays: it {fault}"));
                    continue;
                }
                Judged::Sound(path, ..) => path,
            };
            match self.context.world.site(to.as_ref()) {
                Site::Free => {
                    self.subject.decide(label, to.clone(), format!("moved from {from}"));
                    let to = TreePath::judged(&to);
                    self.builder.step(Step::Move { from, to, aside: false });
                }
                site => return Err(self.refuse(Reason::StepStands(obstacle(&to, &site)))),
            }
        }
        Ok(())
    }
}

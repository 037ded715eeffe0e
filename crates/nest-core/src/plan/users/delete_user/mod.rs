//! Deleting users: their lines everywhere, and what becomes of their files.

mod belongings;

use std::collections::HashSet;

use bstr::{BStr, ByteSlice};

use crate::account::{AccountKind, kind_of};
use crate::book::Lookups;
use crate::change::{Caution, Label, Plan, Step, Subject};
use crate::context::PlanContext;
use crate::drafting::{
    FoundUser, PlanBuilder, find_user, not_a_file_name, places_naming, private_group,
    require_file_name, take_window,
};
use crate::order;
use crate::plan::groups::delete_group::take_out;
use crate::plan::users::suspend::note_of;
use crate::policy::Policy;
use crate::refusal::{Reason, Refusal, Result};
use crate::request::{GuardOverrides, Request};
use crate::retired::{Belonging, Kept, KeptFolder, KeptLine, KeptPlace, KeptRule, Listed};
use crate::table::File;
use crate::value::escaped::Escaped;
use crate::value::{UserName, UserOrGroup};
use crate::words::list;

/// What becomes of a deleted user's home, mail and crontab.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub enum FilesDisposition {
    /// Moved behind a directory of root's, whole.
    #[default]
    SetAside,
    /// Left where it is.
    Keep,
    /// Packed into the state folder.
    Archive,
    /// Gone for good.
    Erase,
    /// Moved below another user's home, and made that user's.
    Give(UserName),
}

/// Users to be deleted, as one change.
#[derive(Debug, Clone, Default)]
pub struct DeleteUser {
    /// The users.
    pub names: Vec<UserName>,
    /// What becomes of their files.
    pub files: FilesDisposition,
    /// Guards waved through.
    pub overrides: GuardOverrides,
}

impl Request for DeleteUser {
    fn lookups(&self, _: &Policy) -> Lookups {
        Lookups::whole().names(&self.names).with_belongings()
    }

    fn overrides(&self) -> GuardOverrides {
        self.overrides
    }
}

/// Plans the deleting of users: all of them, or none.
///
/// # Errors
/// The first [`Refusal`].
pub fn delete_user(context: PlanContext<'_>, request: &DeleteUser) -> Result<Plan> {
    let all = list(&request.names);
    let mut builder = PlanBuilder::new(context, format!("delete user {all}"));
    let mut seen = HashSet::new();
    for name in request.names.iter().filter(|name| seen.insert(*name)) {
        let what = match request.names.len() {
            1 => format!("{name} was not deleted"),
            _ => format!("nobody was deleted, because of {name}"),
        };
        delete_into(&mut builder, request, name.as_bstr(), what)?;
    }
    Ok(builder.finish(match context.change {
        Some(_) => "list retired",
        None => "list users",
    }))
}

/// Adds the deleting of a user to a plan; `what` would then not be.
///
/// # Errors
/// The [`Refusal`].
pub(crate) fn delete_into(
    builder: &mut PlanBuilder<'_>,
    request: &DeleteUser,
    name: &BStr,
    what: String,
) -> Result<()> {
    let context = builder.context;
    let found = find_user(context, name, &what)?;
    let subject = Subject::new(name.to_owned());
    let kept = Kept::new(UserOrGroup::User, name.to_owned(), found.uid.0);
    Deleting { context, request, found, what, builder, subject, kept }.delete()
}

struct Deleting<'p, 'a> {
    context: PlanContext<'a>,
    request: &'p DeleteUser,
    found: FoundUser<'a>,
    what: String,
    builder: &'p mut PlanBuilder<'a>,
    subject: Subject,
    kept: Kept,
}

impl<'a> Deleting<'_, 'a> {
    fn name(&self) -> &'a BStr {
        BStr::new(self.found.user.name)
    }

    fn refuse(&self, reason: Reason) -> Box<Refusal> {
        Refusal::new(self.what.as_str(), reason)
    }

    fn delete(mut self) -> Result<()> {
        let (context, name) = (self.context, self.name());
        require_file_name((context, File::Passwd), name, &self.what)?;
        let stays = matches!(self.request.files, FilesDisposition::Keep | FilesDisposition::Erase);
        if context.change.is_none() && !stays {
            return Err(self
                .refuse(Reason::NowhereToRetire)
                .or("leave the files where they are", format!("delete user {name} --files keep"))
                .or("or erase them for good", format!("delete user {name} --files erase")));
        }
        self.subject.decide(Label::UID, self.found.uid.to_string(), self.full_name());
        self.lists();
        self.own_group();
        self.lines();
        self.belongings()?;
        self.window()?;
        self.suspension();
        let places = context.world.mentions_of_user(name);
        if !places.is_empty() {
            self.builder.caution(Caution::StillNamed { name: name.into(), places });
        }
        match context.change {
            Some(change) => {
                let folder = self.folder(change)?;
                let days = context.policy.retired_keep_days;
                let why = format!("to be restored from, for {days} days");
                self.subject.decide("kept", format!("retired/{folder}"), why);
                let kept = Box::new(self.kept);
                self.builder.step(Step::Keep { folder, kept });
            }
            None => self.builder.caution(Caution::NothingKept { name: name.into() }),
        }
        self.builder.tell(self.subject);
        Ok(())
    }

    /// The folder that it is kept in.
    fn folder(&self, change: u64) -> Result<KeptFolder> {
        let (context, name) = (self.context, self.name());
        let folder = self.kept.folder(change);
        folder.map_err(|_| not_a_file_name(&self.what, context, File::Passwd, name))
    }

    fn full_name(&self) -> String {
        String::from_utf8_lossy(self.found.user.full_name()).into_owned()
    }

    /// Leaves every list of members and of administrators, and remembers each.
    fn lists(&mut self) {
        let name = self.name();
        self.kept.places = places_naming(self.context.book, name, self.own_group_goes());
        self.kept.no_primary = self.context.book.group_by_gid(self.found.gid).is_none();
        let of = |is_it: fn(&KeptPlace) -> bool| {
            let places = self.kept.places.iter().filter(|place| is_it(place));
            places.map(|place| place.group.clone()).collect::<Vec<_>>()
        };
        let listing = of(|place| place.file == File::Group);
        let administered = of(|place| place.admins);
        let mut lists = self.builder.lists();
        for place in &self.kept.places {
            lists.leave(&place.group, name);
            lists.drop_admin(&place.group, name);
        }
        // Coming back it will stand in the lists as it did: nothing to tell.
        self.builder.plan.cautions.retain(|caution| !matches!(caution, Caution::ListTidied { .. }));
        match listing.as_slice() {
            [] => self.subject.decide(Label::MEMBER_OF, "no other group", ""),
            groups => self.subject.decide("leaves", list(groups), ""),
        }
        if !administered.is_empty() {
            let why = "is no longer administrator there";
            self.subject.decide("admin of", list(&administered), why);
        }
        self.kept_lists();
    }

    /// The lists of groups that were deleted before it: where one of them is there again when
    /// the account comes back, it comes back to that too.
    fn kept_lists(&mut self) {
        let name = self.name();
        let Ok(all) = self.context.world.kept() else { return };
        for kept in all.iter().map(|one| &one.kept) {
            let lists_it =
                |listed: &Listed| listed.name == name && listed.uid == Some(self.found.uid);
            let is_group = kept.thing == UserOrGroup::Group && kept.listed.iter().any(lists_it);
            if !is_group || self.kept.places.iter().any(|place| place.group == kept.name) {
                continue;
            }
            let places = kept.lists_naming(name);
            self.kept.places.extend(places);
        }
    }

    /// The lines about its hours and its places go, and are kept.
    fn window(&mut self) -> Result<()> {
        let taken = take_window(self.builder, self.name());
        let taken = taken.map_err(|trouble| self.refuse(trouble.into()))?;
        for (about, text) in taken {
            self.subject.decide(about.word(), text.clone(), "its own line goes too");
            self.kept.windows.push(KeptRule { about, text });
        }
        Ok(())
    }

    /// Whether the group of the user's own name is the user's alone. One with an id
    /// of the services may be more than that.
    fn own_group_goes(&self) -> bool {
        let Ok(Some(group)) = private_group(self.context, &self.found) else { return false };
        let gid = group.gid();
        gid == Some(self.found.gid) || kind_of(self.context.policy, gid) == AccountKind::Person
    }

    /// The group of the user's own name goes too when nobody else is in it.
    fn own_group(&mut self) {
        let name = self.name();
        match private_group(self.context, &self.found) {
            Ok(Some(_)) if !self.own_group_goes() => {
                self.subject.decide("group", name, "stays: its gid is one of the services'");
            }
            Ok(None) => {
                let gid = self.found.gid;
                let group = self.context.book.group_by_gid(gid).map(|(_, group)| group.name);
                let group =
                    group.map_or(gid.to_string(), |name| format!("{} {gid}", name.as_bstr()));
                self.subject.decide(Label::PRIMARY, group, "stays: it is not the user's own");
            }
            Ok(Some(group)) => {
                let Some(gid) = group.gid() else { return };
                let taken = take_out(self.builder, name, gid);
                self.kept.lines.extend(taken.lines);
                self.kept.shared_gid = taken.shared_gid;
                let value = format!("{} {gid}", BStr::new(group.name));
                self.subject.decide("group", value, "goes too: nobody else is in it");
            }
            Err(other) => {
                let why = format!("stays: {} is in it", BStr::new(other));
                self.subject.decide("group", name, why);
            }
        }
    }

    fn lines(&mut self) {
        let (book, name) = (self.context.book, self.name());
        let shared = self.uid_is_shared();
        self.kept.shared_uid = shared;
        let mut ranges = Vec::new();
        for file in [File::Passwd, File::Shadow, File::Subuid, File::Subgid] {
            let Some(table) = book.lines(file) else { continue };
            let lines: Vec<_> = match file {
                File::Passwd | File::Shadow => book.named(file, name),
                // Ranges may name their owner by number; one that is shared says
                // nothing about whose they are.
                _ => {
                    let uid = (!shared).then_some(self.found.uid);
                    let found = book.ranges_of(file, name, uid);
                    ranges.extend(found.iter().filter_map(|(_, range)| range.span()));
                    found.into_iter().map(|(line, _)| line).collect()
                }
            };
            for line in lines {
                let text = line.bytes.into();
                self.kept.lines.push(KeptLine { file, line: table.number(line.start), text });
                self.builder.edits.remove(file, line);
            }
        }
        order::sort_by_key(&mut self.kept.lines, |line| (line.file, line.line));
        ranges.sort();
        ranges.dedup();
        let spans = ranges.iter().copied().collect();
        for file in [File::Subuid, File::Subgid] {
            for other in book.owners_overlapping(file, &spans) {
                let owner = Escaped(other.into());
                if other != name && !self.kept.overlapped.contains(&owner) {
                    self.kept.overlapped.push(owner);
                }
            }
        }
        let ranges: Vec<String> = ranges.iter().map(ToString::to_string).collect();
        if !ranges.is_empty() {
            self.subject.decide(Label::RANGES, ranges.join(", "), "");
        }
    }

    fn suspension(&mut self) {
        if let Some(note) = note_of(self.context, &self.found) {
            self.subject.decide("suspended", "yes", "and will be again when it comes back");
            self.kept.suspended = Some(note.clone());
            self.builder.step(Step::ForgetSuspended(note.clone()));
        }
    }

    fn keep_belonging(&mut self, belonging: Belonging) {
        self.kept.belongings.push(belonging);
    }
}

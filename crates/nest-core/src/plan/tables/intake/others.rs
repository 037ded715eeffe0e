//! Accounts that no row names, where the table is the truth; and those who come back.

use bstr::{BStr, BString};
use hashbrown::HashSet;

use super::IntakePlanner;
use crate::account::{AccountKind, kind_of_user};
use crate::change::Subject;
use crate::drafting::find_group;
use crate::plan::users::{
    DeleteUser, FilesDisposition, RestoreUser, delete_into, is_out, restore_into, resume_into,
    suspend_into,
};
use crate::refusal::{NotKept, Reason, Refusal, Result};
use crate::request::CreateUser;
use crate::retired::RetiredAccount;
use crate::table::{File, Group, Line, Passwd, Record};
use crate::value::{Gid, GroupName, Uid, UserName, UserOrGroup};

/// What becomes of accounts that no row names.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OthersBecome {
    /// They stay, and are told.
    Told,
    /// They are suspended.
    Suspended,
    /// They are deleted, and kept.
    Deleted,
}

/// Of which accounts the table is the truth.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Among {
    /// Of all people.
    People,
    /// Of the people in these groups, listed or by primary group.
    Groups(Vec<GroupName>),
}

/// What is asked about accounts that no row names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Others {
    /// What becomes of them.
    pub what: OthersBecome,
    /// Which accounts are meant.
    pub among: Among,
    /// How many may be suspended or deleted; a tenth of those that are meant, and at least five,
    /// where nothing is said.
    pub most: Option<usize>,
}

/// Those of whom it is told what became.
#[derive(Debug, Default)]
pub(crate) struct OthersFound {
    pub told: Vec<BString>,
    pub suspended: Vec<BString>,
    pub deleted: Vec<BString>,
    pub resumed: Vec<BString>,
    pub restored: Vec<BString>,
}

/// Whenever the policy of a table is not told otherwise, so many may go.
const AT_LEAST: usize = 5;

/// What the reason begins with of an account that a table left out.
const LEFT_OUT: &str = "not in ";

impl<'r> IntakePlanner<'_, 'r> {
    /// Whether an account that is not there is one that was deleted and comes back; then it
    /// is restored.
    pub(crate) fn comes_back(&mut self, user: &CreateUser, name: &BStr) -> bool {
        let asked = self.request.others.as_ref();
        if asked.is_none_or(|others| others.what == OthersBecome::Told) {
            return false;
        }
        let kept = match self.context.world.kept() {
            Ok(kept) => kept,
            // Made anew, somebody who comes back would get another number.
            Err(why) => {
                let reason = NotKept::KeptUnreadable(why).into();
                let refusal = Refusal::new("nothing was taken in", reason);
                self.others_refused = self.others_refused.take().or(Some(refusal));
                return false;
            }
        };
        let is_it = |account: &&RetiredAccount| {
            let line = account.kept.line_of(File::Passwd);
            let was = line.and_then(|line| Passwd::read(&line.text));
            // Somebody else may be called so by now.
            let same = user
                .full_name
                .as_ref()
                .is_none_or(|full_name| was.is_some_and(|was| *full_name == was.full_name()));
            let is_user = account.kept.thing == UserOrGroup::User && !account.kept.is_of_lines();
            is_user && account.kept.name == *name && same
        };
        let Some(found) = kept.iter().rev().find(is_it) else { return false };
        // Several may be kept under one name: the folder tells them apart.
        self.coming_back.push(BString::from(found.folder.name.as_str()).into());
        self.others.restored.push(name.to_owned());
        true
    }

    /// Resumes somebody whom the table left out before, and names again.
    pub(crate) fn is_resumed(&mut self, name: &BStr) {
        if self.request.others.is_none() {
            return;
        }
        let uid = self.context.book.user(name).and_then(|(_, user)| user.uid());
        let notes = self.context.world.suspended();
        let note = notes.iter().find(|note| note.is_of(name, uid));
        if !note.is_some_and(|note| note.reason.starts_with(LEFT_OUT)) {
            return;
        }
        let mut subject = Subject::new(name);
        subject.row = "resumed";
        let resumed =
            resume_into(&mut self.batch.builder, &UserName::from(name.to_owned()), &mut subject);
        match resumed {
            Ok(()) => {
                self.others.resumed.push(name.to_owned());
                self.batch.builder.tell(subject);
            }
            Err(refusal) => self.others_refused = self.others_refused.take().or(Some(refusal)),
        }
    }

    /// Deals with those whom no row names.
    ///
    /// # Errors
    /// The [`Refusal`]: too many of them, or one that can't be suspended or deleted.
    pub(crate) fn others(&mut self) -> Result<()> {
        let Some(others) = &self.request.others else { return Ok(()) };
        if let Some(refusal) = self.others_refused.take() {
            return Err(refusal);
        }
        let undone = "nothing was taken in";
        let meant = self.meant(&others.among, undone)?;
        let unnamed: Vec<UserName> = meant
            .iter()
            .filter(|name| self.rows.get(&self.names, BStr::new(name)).is_none())
            .cloned()
            .collect();
        if others.what == OthersBecome::Told {
            self.others.told = unnamed.into_iter().map(BString::from).collect();
            return Ok(());
        }
        let still_in = |name: &UserName| {
            let shadow = self.context.book.shadow(name);
            !shadow.is_some_and(|(_, shadow)| is_out(&shadow))
        };
        let going: Vec<UserName> = match others.what {
            OthersBecome::Suspended => unnamed.into_iter().filter(still_in).collect(),
            OthersBecome::Deleted | OthersBecome::Told => unnamed,
        };
        let most = others.most.unwrap_or_else(|| AT_LEAST.max(meant.len() / 10));
        if going.len() > most {
            let (count, of) = (going.len(), meant.len());
            let verb = if others.what == OthersBecome::Deleted { "deleted" } else { "suspended" };
            let refusal = Refusal::new(undone, Reason::TooManyOthers { count, of, most, verb });
            let way = format!("--not-more-than {count}");
            return Err(refusal.or_again("if the table is whole", way));
        }
        let table = self.request.table();
        let delete = DeleteUser { files: FilesDisposition::SetAside, ..DeleteUser::default() };
        for name in going {
            let refused = format!("{undone}, because of {name}, whom no row names");
            let in_words =
                |refusal: Box<Refusal>| Box::new(Refusal { what: refused.clone(), ..*refusal });
            match others.what {
                OthersBecome::Suspended => {
                    let mut subject = Subject::new(name.clone());
                    subject.row = "suspended";
                    let reason = format!("{LEFT_OUT}{table}");
                    let builder = &mut self.batch.builder;
                    suspend_into(builder, &name, Some(&reason), false, &mut subject)
                        .map_err(in_words)?;
                    builder.tell(subject);
                    self.others.suspended.push(name.into());
                }
                OthersBecome::Deleted | OthersBecome::Told => {
                    let builder = &mut self.batch.builder;
                    let deleted = delete_into(builder, &delete, BStr::new(&name), refused.clone());
                    deleted.map_err(in_words)?;
                    self.others.deleted.push(name.into());
                }
            }
        }
        Ok(())
    }

    /// Brings back those who come back.
    ///
    /// # Errors
    /// The [`Refusal`] of the first that can't.
    pub(crate) fn restore_others(&mut self) -> Result<()> {
        let names = std::mem::take(&mut self.coming_back);
        if names.is_empty() {
            return Ok(());
        }
        let request = RestoreUser { names, resumed_of: Some(LEFT_OUT), ..RestoreUser::default() };
        restore_into(&mut self.batch.builder, &request).map_err(|refusal| {
            Box::new(Refusal { what: "nothing was taken in".into(), ..*refusal })
        })
    }

    /// The people of whom the table is the truth.
    pub(super) fn meant(&self, among: &Among, what: &str) -> Result<Vec<UserName>> {
        let (context, book) = (self.context, self.context.book);
        let groups: Option<Vec<Group<'_>>> = match among {
            Among::People => None,
            Among::Groups(names) => {
                let found = names.iter().map(|name| find_group(context, name.as_ref(), what));
                Some(found.collect::<Result<_>>()?)
            }
        };
        let listed: HashSet<&[u8]> = groups.iter().flatten().flat_map(Group::members).collect();
        let is_person = |(_, user): &(Line<'_>, Passwd<'_>)| {
            let shadow = || book.shadow(user.name).map(|(_, shadow)| shadow);
            let (kind, _) = kind_of_user(context.policy, user, shadow);
            kind == AccountKind::Person && user.uid().is_some_and(|uid| uid != Uid::ROOT)
        };
        let is_in = |name: &[u8], gid: Option<Gid>| {
            groups.as_ref().is_none_or(|groups| {
                let of_gid = |group: &Group<'_>| gid.is_some() && group.gid() == gid;
                listed.contains(name) || groups.iter().any(of_gid)
            })
        };
        // What kind of account it is takes longer to tell.
        let users = book.users.records().filter(|(_, user)| is_in(user.name, user.gid()));
        let meant = users.filter(is_person);
        Ok(meant.map(|(_, user)| UserName::from(user.name)).collect())
    }
}

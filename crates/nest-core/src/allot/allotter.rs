//! Choosing numbers: the one allotter of uids, gids and ranges.

use bstr::{BStr, BString};

use super::id_map::{IdMap, avoided_span};
use crate::account::AccountKind;
use crate::book::Book;
use crate::policy::{Avoid, Policy};
use crate::surroundings::Surroundings;
use crate::value::{Gid, IdSet, IdSpan, IdSpans, Uid, UserOrGroup, is_reserved};

/// Whether a number is that of a user or of a group.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::Display)]
#[strum(serialize_all = "lowercase")]
pub enum IdUse {
    /// Of a user.
    Uid,
    /// Of a group.
    Gid,
}

/// Who holds an id, in words that follow "uid N" or "gid N".
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[expect(missing_docs, reason = "the sentence of each shows what its fields are")]
pub enum Holder {
    /// A user.
    #[error("is {0}'s")]
    User(BString),
    /// A group.
    #[error("is the group {0}'s")]
    Group(BString),
    /// A deleted account.
    #[error("was {0}'s, and is retired: files may still carry it")]
    Retired(BString),
    /// A subordinate range.
    #[error("lies in the subordinate range {span} of {owner}")]
    Range { owner: BString, span: IdSpan },
}

/// A number that was asked for by name of the number.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Wanted<'w> {
    /// The number.
    pub id: u32,
    /// It may be somebody else's too.
    pub share: bool,
    /// Who wants it.
    pub by: Taker<'w>,
}

/// Who takes a number: one that was its own before it takes back.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Taker<'w> {
    /// Its name.
    pub name: &'w BStr,
    /// It may be one that was somebody else's and is retired.
    pub reuse: bool,
}

impl Taker<'_> {
    /// Whether it may have a number that was retired with this name.
    fn may_have(self, earlier: &BStr) -> bool {
        self.reuse || self.name == earlier
    }
}

/// A number that was chosen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Allotted<'a> {
    /// The number.
    pub id: u32,
    /// Who has it too.
    pub shared_with: Option<BString>,
    /// The span of the policy's that it lies in and that is avoided.
    pub avoided: Option<&'a Avoid>,
    /// Whether it lies outside the span for its kind.
    pub outside: bool,
    /// Whose it was before: it is retired until now.
    pub earlier: Option<BString>,
}

/// Why no number can be had.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NotAllotted {
    /// It means something of its own.
    Reserved,
    /// Somebody has it, and it is not to be shared or can't be.
    Taken(Holder),
    /// The name services know a holder.
    InService(BString),
    /// Every number of the span for the kind is taken.
    SpanFull {
        /// The span.
        span: IdSpan,
        /// The setting, with its source.
        setting: String,
        /// How many of them the policy avoids.
        avoided: u64,
    },
    /// No gap is large enough for so many subordinate ids.
    RangesFull {
        /// How many.
        count: u32,
        /// Where.
        span: IdSpan,
        /// The setting, with its source.
        setting: String,
    },
    /// The name services gave no answer: why.
    ServiceFailed(String),
}

/// The setting that holds the span for a kind of account, and what it is called in a
/// sentence.
pub fn setting_of(kind: AccountKind) -> (&'static str, &'static str) {
    match kind {
        AccountKind::Person => ("people.ids", "people"),
        AccountKind::Service => ("services.ids", "services"),
    }
}

/// The span that ids for a kind of account come from.
pub fn span_of(policy: &Policy, kind: AccountKind) -> IdSpan {
    match kind {
        AccountKind::Person => policy.people_ids,
        AccountKind::Service => policy.services_ids,
    }
}

/// Chooses uids, gids and ranges for one plan, and knows what it has given already.
pub struct Allotter<'a> {
    book: &'a Book,
    policy: &'a Policy,
    world: &'a dyn Surroundings,
    /// Gathered when a number is first chosen: most plans choose none.
    ids: Option<IdMap<'a>>,
    /// Numbers that were given before that.
    given: Vec<u32>,
    /// Gids that were given.
    given_gids: IdSet,
}

impl<'a> Allotter<'a> {
    /// Nothing is given yet.
    pub fn new(book: &'a Book, policy: &'a Policy, world: &'a dyn Surroundings) -> Self {
        Allotter { book, policy, world, ids: None, given: Vec::new(), given_gids: IdSet::default() }
    }

    fn ids(&mut self) -> &mut IdMap<'a> {
        self.ids.get_or_insert_with(|| {
            let mut ids = IdMap::new(self.book, self.policy, self.world);
            self.given.drain(..).for_each(|id| ids.add(id));
            ids
        })
    }

    /// Chooses a number for an account or group of this kind, or sees whether the wanted one
    /// can be had. What was chosen is given to nobody else by this plan.
    ///
    /// # Errors
    /// [`NotAllotted`] where the wanted number can't be had, or no number is left.
    pub fn choose(
        &mut self,
        of: IdUse,
        kind: AccountKind,
        wanted: Option<Wanted<'_>>,
    ) -> Result<Allotted<'a>, NotAllotted> {
        let span = span_of(self.policy, kind);
        let allotted = match wanted {
            Some(wanted) => self.check_wanted(of, span, wanted)?,
            None => {
                let id = self.next(kind).map_err(NotAllotted::ServiceFailed)?;
                let setting = || self.policy.origin(setting_of(kind).0);
                let id = id.ok_or_else(|| {
                    let avoided: IdSpans =
                        self.policy.ids_avoid.iter().map(|avoid| avoid.span).collect();
                    let avoided = avoided.count_within(span);
                    NotAllotted::SpanFull { span, setting: setting(), avoided }
                })?;
                Allotted { id, shared_with: None, avoided: None, outside: false, earlier: None }
            }
        };
        self.give(of, allotted.id);
        Ok(allotted)
    }

    /// Chooses the gid of a user's own group: the same number as the uid where that can be.
    /// Whether the uid was `chosen` here says that it is free of everything else.
    ///
    /// # Errors
    /// [`NotAllotted`] where no gid is left, or the name services give no answer.
    pub fn choose_gid_like(
        &mut self,
        uid: u32,
        chosen: bool,
        kind: AccountKind,
        by: Taker<'_>,
    ) -> Result<u32, NotAllotted> {
        let is_free = || -> Result<bool, NotAllotted> {
            if self.given_gids.contains(uid) {
                return Ok(false);
            }
            if chosen {
                return Ok(true);
            }
            let known =
                self.world.service_group_by_gid(Gid(uid)).map_err(NotAllotted::ServiceFailed)?;
            let free = match holder_of_gid(self.book, self.world, uid) {
                None => true,
                Some(Holder::Retired(earlier)) => by.may_have(earlier.as_ref()),
                Some(Holder::User(_) | Holder::Group(_) | Holder::Range { .. }) => false,
            };
            Ok(free && known.is_none())
        };
        if is_free()? {
            self.give(IdUse::Gid, uid);
            return Ok(uid);
        }
        self.choose(IdUse::Gid, kind, None).map(|allotted| allotted.id)
    }

    /// Chooses subordinate ids: so many, in one range.
    ///
    /// # Errors
    /// [`NotAllotted`] where no span is left that is long enough.
    pub fn choose_range(&mut self, count: u32) -> Result<IdSpan, NotAllotted> {
        let found = self.next_range(count).map_err(NotAllotted::ServiceFailed)?;
        let (span, setting) = (self.policy.ranges_span, || self.policy.origin("ranges.span"));
        let found =
            found.ok_or_else(|| NotAllotted::RangesFull { count, span, setting: setting() })?;
        self.give_range(found);
        Ok(found)
    }

    /// The number that would be chosen next for a kind: the lowest for people, the highest
    /// for services.
    ///
    /// # Errors
    /// Why a name service gave no answer.
    pub fn next(&mut self, kind: AccountKind) -> Result<Option<u32>, String> {
        let span = span_of(self.policy, kind);
        match kind {
            AccountKind::Person => self.ids().lowest(span),
            AccountKind::Service => self.ids().highest(span),
        }
    }

    /// The range of so many ids that would be chosen next.
    ///
    /// # Errors
    /// Why a name service gave no answer.
    pub fn next_range(&mut self, count: u32) -> Result<Option<IdSpan>, String> {
        self.ids().range(count)
    }

    /// Whether a range of somebody's own choice is clear of everything; then it is given.
    ///
    /// # Errors
    /// Why a name service gave no answer.
    pub fn take_range(&mut self, span: IdSpan) -> Result<bool, String> {
        let is_free = self.ids().range_is_free(span)?;
        if is_free {
            self.give_range(span);
        }
        Ok(is_free)
    }

    /// What is known of a retired number: since when nobody has it, and how many files carry
    /// it still.
    pub fn traces_of(&self, of: IdUse, id: u32) -> (Option<String>, Result<usize, String>) {
        let thing = match of {
            IdUse::Uid => UserOrGroup::User,
            IdUse::Gid => UserOrGroup::Group,
        };
        let kept = self.world.kept().unwrap_or_default().iter();
        let mut kept = kept.filter(|kept| kept.kept.thing == thing && kept.kept.id == id);
        let since = kept.next_back().and_then(|kept| kept.time.get(..10).map(str::to_owned));
        (since, self.world.carriers_elsewhere(id, of == IdUse::Gid, &[]))
    }

    /// Who holds a number: a user or a group, one that had it before, or a range over it.
    pub fn holder(&self, of: IdUse, id: u32) -> Option<Holder> {
        match of {
            IdUse::Uid => holder_of_uid(self.book, self.world, id),
            IdUse::Gid => holder_of_gid(self.book, self.world, id),
        }
    }

    /// Sets a number aside that is asked for later in the plan: it is not chosen for others.
    pub fn set_aside(&mut self, id: u32) {
        self.ids().add(id);
    }

    fn give(&mut self, of: IdUse, id: u32) {
        match &mut self.ids {
            Some(ids) => ids.add(id),
            None => self.given.push(id),
        }
        if of == IdUse::Gid {
            self.given_gids.insert(id);
        }
    }

    fn give_range(&mut self, span: IdSpan) {
        self.ids().add_range(span);
    }

    /// Whether a number of the administrator's own choice can be had.
    fn check_wanted(
        &self,
        of: IdUse,
        span: IdSpan,
        wanted: Wanted<'_>,
    ) -> Result<Allotted<'a>, NotAllotted> {
        let holder = || match of {
            IdUse::Uid => holder_of_uid(self.book, self.world, wanted.id),
            IdUse::Gid => holder_of_gid(self.book, self.world, wanted.id),
        };
        self.judge_wanted(of, span, wanted, holder, true)
    }

    /// Sees whether an account or group of this kind can have a number, given who else would
    /// hold it, or hold a range over it, in the end. Of a number that one of the files has until
    /// then the name services need not be asked.
    ///
    /// # Errors
    /// [`NotAllotted`] where it can't be had.
    pub fn judge_moved(
        &self,
        (of, kind): (IdUse, AccountKind),
        wanted: Wanted<'_>,
        holder: Option<Holder>,
        held_until_then: bool,
    ) -> Result<Allotted<'a>, NotAllotted> {
        let span = span_of(self.policy, kind);
        self.judge_wanted(of, span, wanted, || holder, !held_until_then)
    }

    fn judge_wanted(
        &self,
        of: IdUse,
        span: IdSpan,
        wanted: Wanted<'_>,
        holder: impl FnOnce() -> Option<Holder>,
        ask_services: bool,
    ) -> Result<Allotted<'a>, NotAllotted> {
        let Wanted { id, share, by } = wanted;
        if is_reserved(id) {
            return Err(NotAllotted::Reserved);
        }
        let holder = holder();
        let mut earlier = None;
        let shared_with = match holder {
            Some(Holder::User(other) | Holder::Group(other)) if share => Some(other),
            Some(Holder::Retired(other)) if by.may_have(other.as_ref()) => {
                earlier = Some(other);
                None
            }
            Some(holder) => return Err(NotAllotted::Taken(holder)),
            None => None,
        };
        let mut avoided = None;
        if shared_with.is_none() {
            let known = match of {
                _ if !ask_services => Ok(None),
                IdUse::Uid => self.world.service_user_by_uid(Uid(id)),
                IdUse::Gid => self.world.service_group_by_gid(Gid(id)),
            };
            if let Some(holder) = known.map_err(NotAllotted::ServiceFailed)? {
                return Err(NotAllotted::InService(holder));
            }
            avoided = avoided_span(self.policy, id);
        }
        Ok(Allotted { id, shared_with, avoided, outside: !span.contains(id), earlier })
    }
}

/// Who holds `id` as a user: for the words of a refusal.
fn holder_of_uid(book: &Book, world: &dyn Surroundings, uid: u32) -> Option<Holder> {
    let user = book.user_by_uid(Uid(uid)).map(|(_, user)| Holder::User(user.name.into()));
    user.or_else(|| retired(world.retired().user(Uid(uid)))).or_else(|| range_over(book, uid))
}

/// Who holds `id` as a group.
fn holder_of_gid(book: &Book, world: &dyn Surroundings, gid: u32) -> Option<Holder> {
    let group = book.group_by_gid(Gid(gid)).map(|(_, group)| Holder::Group(group.name.into()));
    group.or_else(|| retired(world.retired().group(Gid(gid)))).or_else(|| range_over(book, gid))
}

fn retired(name: Option<&BStr>) -> Option<Holder> {
    name.map(|name| Holder::Retired(name.to_owned()))
}

fn range_over(book: &Book, id: u32) -> Option<Holder> {
    let range = book.range_over(id)?;
    Some(Holder::Range { owner: range.owner.into(), span: range.span()? })
}

//! Which ids are free, and choosing one.

use bstr::BString;

use super::{IdSet, RangeMap};
use crate::book::Book;
use crate::policy::Policy;
use crate::surroundings::{Retired, Surroundings};
use crate::table::{Lines, Record};
use crate::value::{IdSpan, is_reserved, read_id};

/// Every id that is spoken for.
pub struct IdMap<'a> {
    /// Ids of users and groups, and retired ones.
    used: IdSet,
    /// Subordinate ranges, live and retired.
    pub ranges: RangeMap,
    policy: &'a Policy,
    world: &'a dyn Surroundings,
}

/// Who holds an id, in words that follow "uid N" or "gid N".
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
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
    Range {
        /// Whose range.
        owner: BString,
        /// Its ids.
        span: IdSpan,
    },
}

impl<'a> IdMap<'a> {
    /// Gathers the ids of `book` and of deleted accounts.
    pub fn new(book: &Book, policy: &'a Policy, world: &'a dyn Surroundings) -> Self {
        let ((mut used, groups), ranges) = rayon::join(
            || {
                rayon::join(
                    || third_fields(book.users.lines()),
                    || third_fields(book.groups.lines()),
                )
            },
            || RangeMap::new(book, world.retired()),
        );
        used.extend(groups);
        let Retired { users, groups, .. } = world.retired();
        for retired in users.iter().chain(groups) {
            used.insert(retired.span.first);
        }
        IdMap { used, ranges, policy, world }
    }

    /// Marks an id as used by an account that is being planned.
    pub fn take(&mut self, id: u32) {
        self.used.insert(id);
    }

    /// The avoid span that holds `id`, if one does.
    pub fn avoided(&self, id: u32) -> Option<&'a crate::policy::Avoid> {
        self.policy.ids_avoid.iter().find(|avoid| avoid.span.contains(id))
    }

    /// Where the search may go on after `id`: `None` when `id` itself is free
    /// of everything the files and the policy know.
    fn blocked(&self, id: u32) -> Option<IdSpan> {
        if id == 0 || is_reserved(id) || self.used.contains(id) {
            return Some(IdSpan { first: id, last: id });
        }
        self.avoided(id).map(|avoid| avoid.span).or_else(|| self.ranges.covering(id))
    }

    /// Whether nothing holds `id`: no user, group, retired id, `avoid` span,
    /// range, nor, on the live system, a name service.
    ///
    /// # Errors
    /// Why a name service gave no answer.
    pub fn is_free(&self, id: u32) -> Result<bool, String> {
        Ok(self.blocked(id).is_none()
            && self.world.service_user_by_uid(id)?.is_none()
            && self.world.service_group_by_gid(id)?.is_none())
    }

    /// The lowest free id of `span`.
    ///
    /// # Errors
    /// Why a name service gave no answer.
    pub fn lowest(&self, span: IdSpan) -> Result<Option<u32>, String> {
        let mut id = span.first;
        loop {
            let next = match self.blocked(id) {
                None if self.is_free(id)? => return Ok(Some(id)),
                None => id.checked_add(1),
                Some(blocked) => blocked.last.checked_add(1),
            };
            match next {
                Some(next) if next <= span.last => id = next,
                _ => return Ok(None),
            }
        }
    }

    /// The highest free id of `span`.
    ///
    /// # Errors
    /// Why a name service gave no answer.
    pub fn highest(&self, span: IdSpan) -> Result<Option<u32>, String> {
        let mut id = span.last;
        loop {
            let next = match self.blocked(id) {
                None if self.is_free(id)? => return Ok(Some(id)),
                None => id.checked_sub(1),
                Some(blocked) => blocked.first.checked_sub(1),
            };
            match next {
                Some(next) if next >= span.first => id = next,
                _ => return Ok(None),
            }
        }
    }

    /// The first place in the policy's span for a range of `count` ids.
    ///
    /// # Errors
    /// Why a name service gave no answer.
    pub fn range(&self, count: u32) -> Result<Option<IdSpan>, String> {
        let within = self.policy.ranges_span;
        let mut first = within.first;
        loop {
            let Some(span) = self.ranges.gap(first, count, within.last) else {
                return Ok(None);
            };
            let avoided = self.policy.ids_avoid.iter().filter(|avoid| avoid.span.overlaps(span));
            let held = avoided
                .map(|avoid| avoid.span.last)
                .chain(self.used.highest_in(span.first, span.last))
                .max();
            let next = match held {
                Some(held) => held,
                None if self.is_free(span.first)? && self.is_free(span.last)? => {
                    return Ok(Some(span));
                }
                None => span.first,
            };
            match next.checked_add(1) {
                Some(next) => first = next,
                None => return Ok(None),
            }
        }
    }
}

/// Who holds `id` as a user: for the words of a refusal.
pub fn holder_of_uid(book: &Book, world: &dyn Surroundings, uid: u32) -> Option<Holder> {
    let user = book.user_by_uid(uid).map(|(_, user)| Holder::User(user.name.into()));
    user.or_else(|| retired(&world.retired().users, uid)).or_else(|| range_over(book, uid))
}

/// Who holds `id` as a group.
pub fn holder_of_gid(book: &Book, world: &dyn Surroundings, gid: u32) -> Option<Holder> {
    let group = book.group_by_gid(gid).map(|(_, group)| Holder::Group(group.name.into()));
    group.or_else(|| retired(&world.retired().groups, gid)).or_else(|| range_over(book, gid))
}

fn retired(ids: &[crate::surroundings::RetiredId], id: u32) -> Option<Holder> {
    let found = ids.iter().find(|retired| retired.span.contains(id))?;
    Some(Holder::Retired(found.name.clone()))
}

fn range_over(book: &Book, id: u32) -> Option<Holder> {
    [&book.subuid, &book.subgid].into_iter().flatten().find_map(|table| {
        table.records().find_map(|(_, range)| {
            let span = range.span().filter(|span| span.contains(id))?;
            Some(Holder::Range { owner: range.owner.into(), span })
        })
    })
}

/// The third field of every record, as a set: the uids of passwd, the gids of
/// group. A broken line's number counts too, as long as it can be read.
fn third_fields(lines: &Lines) -> IdSet {
    let mut set = IdSet::default();
    for line in lines.iter().filter(|line| line.is_record()) {
        let mut fields = line.record().splitn(4, |&byte| byte == b':');
        if let Some(id) = fields.nth(2).and_then(read_id) {
            set.insert(id);
        }
    }
    set
}

/// The span of a range line, for [`RangeMap`].
pub(super) fn span_of(line: &[u8]) -> Option<IdSpan> {
    crate::table::SubId::read(line)?.span()
}

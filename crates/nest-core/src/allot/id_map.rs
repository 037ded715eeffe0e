//! Every id that is spoken for, and searching for one that is not.

use std::cell::Cell;

use crate::book::Book;
use crate::policy::{Avoid, Policy};
use crate::surroundings::Surroundings;
use crate::table::File;
use crate::value::{Gid, IdSet, IdSpan, Uid, is_reserved};

/// The avoided span that holds `id`, if one does.
pub(super) fn avoided_span(policy: &Policy, id: u32) -> Option<&Avoid> {
    policy.ids_avoid.iter().find(|avoid| avoid.span.contains(id))
}

/// Every id that is spoken for.
pub(super) struct IdMap<'a> {
    /// Ids of users and groups, and retired ones.
    used: IdSet,
    /// Ids in subordinate ranges, live and retired.
    ranges: IdSet,
    policy: &'a Policy,
    world: &'a dyn Surroundings,
    /// Whether there are name services to ask.
    served: bool,
    /// Where the searches before ended: numbers are only ever given, so that
    /// nothing before is free. A span and its next id; a count and where its next
    /// range may begin.
    lowest: Cell<Option<(IdSpan, u32)>>,
    highest: Cell<Option<(IdSpan, u32)>>,
    range: Cell<Option<(u32, u32)>>,
}

impl<'a> IdMap<'a> {
    /// Gathers the ids of `book` and of deleted accounts.
    pub fn new(book: &Book, policy: &'a Policy, world: &'a dyn Surroundings) -> Self {
        let numbers = |files: [File; 2]| {
            let mut ids = IdSet::default();
            for lines in files.into_iter().filter_map(|file| book.lines(file)) {
                lines.add_numbers(&mut ids);
            }
            ids
        };
        let (mut used, mut ranges) = rayon::join(
            || numbers([File::Passwd, File::Group]),
            || numbers([File::Subuid, File::Subgid]),
        );
        let retired = world.retired();
        for range in &retired.ranges {
            ranges.insert_span(range.span.first(), range.span.last());
        }
        for number in retired.users.iter().chain(&retired.groups) {
            used.insert(number.id);
        }
        let (lowest, highest, range) = Default::default();
        let served = world.has_services();
        IdMap { used, ranges, policy, world, served, lowest, highest, range }
    }

    /// Adds an id that is given to somebody.
    pub fn add(&mut self, id: u32) {
        self.used.insert(id);
    }

    /// Adds a range that is given to somebody.
    pub fn add_range(&mut self, span: IdSpan) {
        self.ranges.insert_span(span.first(), span.last());
    }

    /// Where the search may go on after `id`: `None` when `id` itself is free
    /// of everything the files and the policy know.
    fn blocked(&self, id: u32) -> Option<IdSpan> {
        let held = self.used.contains(id) || self.ranges.contains(id);
        if id == 0 || is_reserved(id) || held {
            return Some(IdSpan::single(id));
        }
        avoided_span(self.policy, id).map(|avoid| avoid.span)
    }

    /// Whether nothing holds `id`: no user, group, retired id, `avoid` span,
    /// range, nor, on the live system, a name service.
    ///
    /// # Errors
    /// Why a name service gave no answer.
    fn is_free(&self, id: u32) -> Result<bool, String> {
        Ok(self.blocked(id).is_none() && !self.is_served(id)?)
    }

    /// Whether a name service knows a user or a group of this number.
    fn is_served(&self, id: u32) -> Result<bool, String> {
        Ok(self.served
            && (self.world.service_user_by_uid(Uid(id))?.is_some()
                || self.world.service_group_by_gid(Gid(id))?.is_some()))
    }

    /// The lowest free id of `span`.
    ///
    /// # Errors
    /// Why a name service gave no answer.
    pub fn lowest(&self, span: IdSpan) -> Result<Option<u32>, String> {
        let known = self.lowest.get().filter(|(of, _)| *of == span);
        let mut from = Some(known.map_or(span.first(), |(_, from)| from));
        while let Some(id) = from.and_then(|from| self.used.first_absent(from)) {
            if id > span.last() {
                break;
            }
            from = match self.blocked(id) {
                None if !self.is_served(id)? => {
                    self.lowest.set(Some((span, id)));
                    return Ok(Some(id));
                }
                None => id.checked_add(1),
                Some(blocked) => blocked.last().checked_add(1),
            };
        }
        Ok(None)
    }

    /// The highest free id of `span`.
    ///
    /// # Errors
    /// Why a name service gave no answer.
    pub fn highest(&self, span: IdSpan) -> Result<Option<u32>, String> {
        let known = self.highest.get().filter(|(of, _)| *of == span);
        let mut id = known.map_or(span.last(), |(_, id)| id);
        loop {
            let next = match self.blocked(id) {
                None if !self.is_served(id)? => {
                    self.highest.set(Some((span, id)));
                    return Ok(Some(id));
                }
                None => id.checked_sub(1),
                Some(blocked) => blocked.first().checked_sub(1),
            };
            match next {
                Some(next) if next >= span.first() => id = next,
                _ => return Ok(None),
            }
        }
    }

    /// Whether a range of somebody's own choice is clear of everything.
    ///
    /// # Errors
    /// Why a name service gave no answer.
    pub fn range_is_free(&self, span: IdSpan) -> Result<bool, String> {
        let held = self.ranges.highest_in(span.first(), span.last()).is_some()
            || self.used.highest_in(span.first(), span.last()).is_some()
            || self.policy.ids_avoid.iter().any(|avoid| avoid.span.overlaps(span));
        Ok(!held && self.is_free(span.first())? && self.is_free(span.last())?)
    }

    /// The first place in the policy's span for a range of `count` ids.
    ///
    /// # Errors
    /// Why a name service gave no answer.
    pub fn range(&self, count: u32) -> Result<Option<IdSpan>, String> {
        let within = self.policy.ranges_span;
        let known = self.range.get().filter(|(of, _)| *of == count);
        let mut first = known.map_or(within.first(), |(_, first)| first);
        loop {
            let span = self.ranges.first_absent(first).and_then(|first| {
                IdSpan::counted(first, u64::from(count)).filter(|span| span.last() <= within.last())
            });
            let Some(span) = span else { return Ok(None) };
            // The search goes on after the last id in the way.
            let avoided = self.policy.ids_avoid.iter().filter(|avoid| avoid.span.overlaps(span));
            let held = avoided
                .map(|avoid| avoid.span.last())
                .chain(self.ranges.highest_in(span.first(), span.last()))
                .chain(self.used.highest_in(span.first(), span.last()))
                .max();
            let next = match held {
                Some(held) => held,
                None if self.is_free(span.first())? && self.is_free(span.last())? => {
                    self.range.set(Some((count, span.first())));
                    return Ok(Some(span));
                }
                None => span.first(),
            };
            match next.checked_add(1) {
                Some(next) => first = next,
                None => return Ok(None),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::book::tests::book;
    use crate::retired_ids::RetiredId;
    use crate::test_support::World;

    fn policy(text: &str) -> Policy {
        Policy::read("p", text).unwrap()
    }

    #[test]
    fn ids_are_free_of_everything_that_holds_one() {
        let book = book(&[
            (File::Passwd, "a:x:1000:1:::\nbroken:x:1001\n"),
            (File::Group, "g:x:1002:\n"),
            (File::Subuid, "a:1003:2\n"),
        ]);
        let policy = policy("[ids]\navoid = [\"1005-1006 theirs\"]\n");
        let one = |id| RetiredId { id, name: "old".into(), since: None };
        let mut world = World { service_ids: vec![1008], ..World::default() };
        world.retired.users.push(one(1007));
        let mut ids = IdMap::new(&book, &policy, &world);
        assert_eq!(ids.lowest(policy.people_ids), Ok(Some(1009)));
        ids.add(1009);
        assert_eq!(ids.lowest(policy.people_ids), Ok(Some(1010)));
        assert_eq!(ids.highest(IdSpan::fixed(990, 1001)), Ok(Some(999)));
        assert_eq!(ids.lowest(IdSpan::fixed(1000, 1008)), Ok(None));
        assert_eq!(ids.lowest(IdSpan::fixed(65534, 65536)), Ok(Some(65536)));
        world.service_down = true;
        assert!(IdMap::new(&book, &policy, &world).lowest(policy.people_ids).is_err());
    }

    #[test]
    fn the_search_goes_on_where_it_ended_and_never_gives_a_number_twice() {
        let book = book(&[(File::Passwd, "a:x:1002:1:::\n"), (File::Subuid, "a:5000:10\n")]);
        let text = "[people]\nids = \"1000-1005\"\n[ranges]\nspan = \"4990-5040\"";
        let (policy, world) = (policy(text), World::default());
        let mut ids = IdMap::new(&book, &policy, &world);
        // One that is set aside ahead of the search is passed over.
        ids.add(1004);
        let mut given = Vec::new();
        while let Some(id) = ids.lowest(policy.people_ids).unwrap() {
            given.push(id);
            ids.add(id);
        }
        assert_eq!(given, [1000, 1001, 1003, 1005]);
        let other = IdSpan::fixed(1000, 1010);
        assert_eq!(ids.lowest(other), Ok(Some(1006)));
        let mut down = Vec::new();
        for _ in 0..3 {
            let id = ids.highest(other).unwrap().unwrap();
            down.push(id);
            ids.add(id);
        }
        assert_eq!(down, [1010, 1009, 1008]);
        let mut first = |count| ids.range(count).unwrap().inspect(|span| ids.add_range(*span));
        assert_eq!(first(20), IdSpan::new(5010, 5029));
        // A smaller one fits where the larger did not.
        assert_eq!(first(5), IdSpan::new(4990, 4994));
        assert_eq!(first(5), IdSpan::new(4995, 4999));
        assert_eq!(first(20), None);
    }

    #[test]
    fn a_range_of_ones_own_choice_is_free_of_everything() {
        let book = book(&[(File::Group, "g:x:5150:\n"), (File::Subgid, "a:5300:10\n")]);
        let policy = policy("[ids]\navoid = [\"5420-5430\"]");
        let world = World { service_ids: vec![5500], ..World::default() };
        let ids = IdMap::new(&book, &policy, &world);
        let free = |first, last| ids.range_is_free(IdSpan::new(first, last).unwrap()).unwrap();
        assert!(free(5000, 5149) && free(5151, 5299) && free(5310, 5419));
        for (first, last) in [(5100, 5150), (5309, 5309), (5430, 5440), (5500, 5510), (5490, 5500)]
        {
            assert!(!free(first, last), "{first}-{last}");
        }
    }

    #[test]
    fn a_range_takes_the_first_gap_that_is_clear_of_everything() {
        let book = book(&[
            (File::Passwd, "a:x:5150:1:::\n"),
            (File::Subuid, "a:5000:100\n"),
            (File::Subgid, "a:5300:10\n"),
        ]);
        let policy = policy(
            "[people]\nids = \"1000-4999\"\n[ranges]\nspan = \"5000-5999\"\n[ids]\navoid = [\"5420-5430\"]",
        );
        let world = World { service_ids: vec![5151], ..World::default() };
        let mut ids = IdMap::new(&book, &policy, &world);
        assert_eq!(ids.range(50), Ok(IdSpan::new(5100, 5149)));
        assert_eq!(ids.range(100), Ok(IdSpan::new(5152, 5251)));
        ids.add_range(IdSpan::fixed(5152, 5251));
        assert_eq!(ids.range(110), Ok(IdSpan::new(5310, 5419)));
        assert_eq!(ids.range(900), Ok(None));
    }
}

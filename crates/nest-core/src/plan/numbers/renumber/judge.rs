//! What stands in the way of a row: who else would have the number in the end.

use std::collections::{HashMap, HashSet};

use bstr::{BStr, BString, ByteSlice};

use super::moves::{Move, Moves};
use super::word;
use crate::account::kind_of;
use crate::allot::{Holder, IdUse, NotAllotted, Taker, Wanted};
use crate::change::Caution;
use crate::drafting::{NewNumber, PlanBuilder};
use crate::retired_ids::RetiredId;
use crate::roster::Wrong;
use crate::table::{File, Table};
use crate::value::{IdSpan, Uid, UserOrGroup, is_reserved};

/// Who holds what in the end, besides those in the rows.
struct Others<'a> {
    /// Who keeps a number that a row asks for, and on which line.
    holders: HashMap<u32, (&'a [u8], usize)>,
    /// The numbers that the files hold now.
    held: HashSet<u32>,
    retired: HashMap<u32, &'a BString>,
}

impl<'a> Moves<'a> {
    /// Looks what stands in the way of each row, and adds what has to be told.
    pub fn judge(&mut self, builder: &mut PlanBuilder<'a>) {
        let ranges = self.ranges();
        for thing in [UserOrGroup::User, UserOrGroup::Group] {
            let mut wanted: HashMap<u32, usize> = HashMap::new();
            for at in 0..self.all.len() {
                let one = &self.all[at];
                if one.thing != thing {
                    continue;
                }
                let Some(first) = wanted.insert(one.new, at) else { continue };
                wanted.insert(one.new, first);
                let first = &self.all[first];
                // Who shared a number may go on to.
                if first.old != one.old {
                    let message =
                        format!("{} {} is {}'s already", word(thing), one.new, first.name);
                    let row = one.row;
                    self.fault_of_id(row, Wrong::new(message, "another number"));
                }
            }
            let others = self.others(thing, &wanted);
            for at in 0..self.all.len() {
                let one = &self.all[at];
                if one.thing == thing && one.old != one.new {
                    let one = Move { ..*one };
                    self.judge_one(&one, &others, &ranges, builder);
                }
            }
        }
    }

    /// Who keeps which number; and those that go on to share one which another leaves.
    fn others(&mut self, thing: UserOrGroup, wanted: &HashMap<u32, usize>) -> Others<'a> {
        let of = || self.all.iter().filter(|one| one.thing == thing);
        let lines: HashSet<usize> = of().map(|one| one.line.start).collect();
        let leaving: HashMap<u32, u32> =
            of().filter(|one| one.old != one.new).map(|one| (one.old, one.new)).collect();
        let (book, retired) = (self.context.book, self.context.world.retired());
        let ids = |ids: &'a [RetiredId]| ids.iter().map(|id| (id.id, &id.name)).collect();
        let mut others = Others {
            holders: HashMap::new(),
            held: HashSet::new(),
            retired: match thing {
                UserOrGroup::User => ids(&retired.users),
                UserOrGroup::Group => ids(&retired.groups),
            },
        };
        let mut shared = Vec::new();
        let mut meet = |start: usize, name: &'a [u8], id: Option<u32>| {
            let Some(id) = id else { return };
            if wanted.contains_key(&id) {
                others.held.insert(id);
            }
            if lines.contains(&start) {
                return;
            }
            if wanted.contains_key(&id) {
                others.holders.entry(id).or_insert((name, start));
            }
            if leaving.contains_key(&id) {
                shared.push(((thing, id), name));
            }
        };
        match thing {
            UserOrGroup::User => book
                .users
                .records()
                .for_each(|(line, user)| meet(line.start, user.name, user.uid().map(|id| id.0))),
            UserOrGroup::Group => book
                .groups
                .records()
                .for_each(|(line, group)| meet(line.start, group.name, group.gid().map(|id| id.0))),
        }
        // Two in the table that shared a number and part.
        let mut parts: HashMap<u32, (u32, &'a BStr)> = HashMap::new();
        for one in self.all.iter().filter(|one| one.thing == thing) {
            let (new, name) = *parts.entry(one.old).or_insert((one.new, one.name));
            if new != one.new {
                shared.push(((thing, one.old), name.as_bytes()));
            }
        }
        for (of, name) in shared {
            self.shared.entry(of).or_insert(name);
        }
        others
    }

    /// The subordinate ranges of the tree, in the order of their first ids.
    fn ranges(&self) -> Vec<(IdSpan, &'a [u8])> {
        let book = self.context.book;
        let tables = [File::Subuid, File::Subgid].into_iter().filter_map(|file| book.sub_ids(file));
        let records = tables.flat_map(Table::records);
        let mut ranges: Vec<_> =
            records.filter_map(|(_, range)| Some((range.span()?, range.owner))).collect();
        ranges.sort_unstable_by_key(|(span, _)| span.first());
        ranges
    }

    fn judge_one(
        &mut self,
        one: &Move<'a>,
        others: &Others<'a>,
        ranges: &[(IdSpan, &'a [u8])],
        builder: &mut PlanBuilder<'a>,
    ) {
        let (name, id, row) = (one.name, one.new, one.row);
        let what = word(one.thing);
        // What is wrong with a number of a user is not said once more of its group.
        if one.along && (id == 0 || is_reserved(id) || self.is_at_fault(row)) {
            return;
        }
        if one.old == 0 || id == 0 {
            let message = match one.old {
                0 => format!("{name} is root by its {what}: nothing else can have {what} 0"),
                _ => format!("{what} 0 is root's: {name} would be root"),
            };
            return self.fault_of_id(row, Wrong::new(message, "no such row"));
        }
        let of = match one.thing {
            UserOrGroup::User => IdUse::Uid,
            UserOrGroup::Group => IdUse::Gid,
        };
        if let Some((other, start)) = others.holders.get(&id).filter(|_| !is_reserved(id)) {
            let file = match one.thing {
                UserOrGroup::User => File::Passwd,
                UserOrGroup::Group => File::Group,
            };
            let line = self.context.book.lines(file).map_or(0, |lines| lines.number(*start));
            let other = BStr::new(other);
            let message = format!(
                "{what} {id} is {other}'s ({}:{line}), and no row gives {other} another one",
                file.path()
            );
            return self.fault_of_id(row, Wrong::new(message, "another number"));
        }
        let holder = match others.retired.get(&id) {
            Some(earlier) => Some(Holder::Retired((*earlier).clone())),
            None => over(ranges, id),
        };
        let kind = kind_of(self.context.policy, Some(Uid(one.old)));
        let by = Taker { name, reuse: self.request.reuse_id };
        let wanted = Wanted { id, share: false, by };
        let held = others.held.contains(&id);
        let number = NewNumber { of, kind, wanted: Some(wanted), name };
        match builder.allotter.judge_moved((of, kind), wanted, holder, held) {
            Ok(allotted) => {
                number.tell(self.context.policy, &allotted, &mut builder.plan.cautions);
                if let Some(earlier) = allotted.earlier.filter(|earlier| earlier != name) {
                    let caution = Caution::Reused { what, id, earlier, since: None, files: None };
                    builder.caution(caution);
                }
            }
            Err(fault) => {
                let instead = match fault {
                    NotAllotted::ServiceFailed(_) => "",
                    _ => "another number",
                };
                if one.along {
                    self.ways.insert("--keep-gid", "leave groups of users' own as they are");
                }
                if matches!(fault, NotAllotted::Taken(Holder::Retired(_))) {
                    self.ways.insert("--reuse-id", "take retired numbers over with their files");
                }
                let message = match one.along {
                    true => format!("{name}'s own group: {}", fault.reason(of, id)),
                    false => fault.reason(of, id).to_string(),
                };
                self.fault_of_id(row, Wrong::new(message, instead));
            }
        }
    }
}

/// The range over a number.
fn over(ranges: &[(IdSpan, &[u8])], id: u32) -> Option<Holder> {
    // Ranges hardly ever overlap: the last that begins before the number is the one, or one
    // of few more.
    let before = ranges.partition_point(|(span, _)| span.first() <= id);
    let found = ranges[..before].iter().rev().take(64).find(|(span, _)| span.contains(id))?;
    Some(Holder::Range { owner: found.1.into(), span: found.0 })
}

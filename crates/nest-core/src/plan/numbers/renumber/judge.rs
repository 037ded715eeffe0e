//! What stands in the way of a row: who else would have the number in the end.

use bstr::{BStr, BString, ByteSlice};
use hashbrown::{HashMap, HashSet};
use rayon::prelude::*;

use super::moves::{Move, Moves};
use super::word;
use crate::account::kind_of;
use crate::allot::{Holder, IdUse, NotAllotted, Taker, Wanted};
use crate::change::Caution;
use crate::drafting::{NewNumber, PlanBuilder};
use crate::retired_ids::RetiredId;
use crate::roster::Wrong;
use crate::table::File;
use crate::value::{Gid, Uid, UserOrGroup, is_reserved};

/// What is known of those of one kind in the rows.
struct OfKind<'a> {
    /// Where their lines begin.
    lines: HashSet<usize>,
    retired: HashMap<u32, &'a BString>,
}

impl<'a> Moves<'a> {
    /// Looks what stands in the way of each row, and adds what has to be told.
    pub fn judge(&mut self, builder: &mut PlanBuilder<'a>) {
        let retired = self.context.world.retired();
        for thing in [UserOrGroup::User, UserOrGroup::Group] {
            let ids = |ids: &'a [RetiredId]| ids.iter().map(|id| (id.id, &id.name)).collect();
            let of = self.all.iter().filter(|one| one.thing == thing);
            let mut lines = HashSet::with_capacity(self.all.len());
            lines.extend(of.map(|one| one.line.start));
            let kind = OfKind {
                lines,
                retired: match thing {
                    UserOrGroup::User => ids(&retired.users),
                    UserOrGroup::Group => ids(&retired.groups),
                },
            };
            self.find_doubles(thing);
            let moved = |one: &&Move<'a>| one.thing == thing && one.old != one.new;
            let holders = |one: &Move<'a>| {
                (Move { ..*one }, self.holders(thing, one.old), self.holders(thing, one.new))
            };
            let all: Vec<_> = self.all.par_iter().filter(moved).map(holders).collect();
            for (one, old, new) in all {
                let sharers = old.into_iter().filter(|(start, _)| !kind.lines.contains(start));
                for (_, name) in sharers {
                    self.shared.entry((thing, one.old)).or_insert(name);
                }
                self.judge_one(&one, &new, &kind, builder);
            }
        }
    }

    /// Two rows that ask for one number; and two that shared one and part.
    fn find_doubles(&mut self, thing: UserOrGroup) {
        let room = self.all.len();
        let (mut wanted, mut left) = (HashMap::with_capacity(room), HashMap::with_capacity(room));
        for at in 0..self.all.len() {
            let one = &self.all[at];
            if one.thing != thing {
                continue;
            }
            let first = *wanted.entry(one.new).or_insert(at);
            let (new, name) = *left.entry(one.old).or_insert((one.new, one.name));
            if new != one.new {
                self.shared.entry((thing, one.old)).or_insert(name.as_bytes());
            }
            let first = &self.all[first];
            // Who shared a number may go on to.
            if first.old != one.old {
                let message = format!("{} {} is {}'s already", word(thing), one.new, first.name);
                let row = one.row;
                self.fault_of_id(row, Wrong::new(message, "another number"));
            }
        }
    }

    /// The lines that hold a number, with their names.
    fn holders(&self, thing: UserOrGroup, id: u32) -> Vec<(usize, &'a [u8])> {
        let book = self.context.book;
        match thing {
            UserOrGroup::User => {
                let users = book.users_by_uid(Uid(id)).into_iter();
                users.map(|(line, user)| (line.start, user.name)).collect()
            }
            UserOrGroup::Group => {
                let groups = book.groups_by_gid(Gid(id)).into_iter();
                groups.map(|(line, group)| (line.start, group.name)).collect()
            }
        }
    }

    /// Judges a number by those who hold it now.
    fn judge_one(
        &mut self,
        one: &Move<'a>,
        holders: &[(usize, &'a [u8])],
        of_kind: &OfKind<'a>,
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
        let other = holders.iter().find(|(start, _)| !of_kind.lines.contains(start));
        if let Some((start, other)) = other.filter(|_| !is_reserved(id)) {
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
            return self.number_fault(one, message, "another number");
        }
        let over = || {
            let range = self.context.book.range_over(id)?;
            Some(Holder::Range { owner: range.owner.into(), span: range.span()? })
        };
        let holder = match of_kind.retired.get(&id) {
            Some(earlier) => Some(Holder::Retired((*earlier).clone())),
            None => over(),
        };
        let kind = kind_of(self.context.policy, Some(Uid(one.old)));
        let by = Taker { name, reuse: self.request.reuse_id };
        let wanted = Wanted { id, share: false, by };
        let number = NewNumber { of, kind, wanted: Some(wanted), name };
        match builder.allotter.judge_moved((of, kind), wanted, holder, !holders.is_empty()) {
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
                if matches!(fault, NotAllotted::Taken(Holder::Retired(_))) {
                    self.ways.insert("--reuse-id", "take retired numbers over with their files");
                }
                self.number_fault(one, fault.reason(of, id).to_string(), instead);
            }
        }
    }
}

impl<'a> Moves<'a> {
    /// Something wrong with the number that somebody is to get; of a group that goes along, by
    /// the row of its user.
    fn number_fault(&mut self, one: &Move<'a>, message: String, instead: &str) {
        let message = match one.along {
            true => format!("{}'s own group: {message}", one.name),
            false => message,
        };
        if one.along {
            self.ways.insert("--keep-gid", "leave groups of users' own as they are");
        }
        self.fault_of_id(one.row, Wrong::new(message, instead));
    }
}

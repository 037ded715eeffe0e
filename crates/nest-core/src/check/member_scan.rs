//! The members that groups list: those of which a rule may have something to say.

use hashbrown::HashSet;

use crate::table::{
    BatchedLookups, Group, Hash, Line, Lookup, NameEntry, Record, SplitLine, each_byte,
};
use crate::value::members;

/// In a list of more members than this, repeated ones are sought by hash.
const MANY: usize = 16;

/// Goes through lists of members, and finds the groups that list somebody twice, or who
/// has no account, or whose primary group it is; or that may.
pub(super) struct MemberScan<'b> {
    /// The gid of each user's primary group, by entry; the largest id for none.
    primary_gids: &'b [u32],
    /// Looks members up, each with where the line of the group begins and its gid.
    members: BatchedLookups<'b, (u32, Option<u32>)>,
    /// The first members of the list at hand.
    seen: [Hash; MANY],
}

impl<'b> MemberScan<'b> {
    pub fn new(lookup: &Lookup<'b>, primary_gids: &'b [u32]) -> Self {
        MemberScan { primary_gids, members: lookup.many(), seen: [Hash::default(); MANY] }
    }

    /// Takes in the line of a group, which begins at `start`.
    pub fn add_line(&mut self, suspects: &mut Vec<u32>, row: &SplitLine<'_>, start: u32) {
        let line = Line { bytes: row.line, start: 0 };
        if let Some(group) = Group::read(line.record()).filter(|_| line.is_record()) {
            self.add_list(suspects, group.members, group.gid().map(|id| id.0), start);
        }
    }

    /// Takes in the members of a group with this gid, whose line begins at `start`.
    #[inline]
    pub fn add_list(&mut self, suspects: &mut Vec<u32>, list: &[u8], gid: Option<u32>, start: u32) {
        let primary_gids = self.primary_gids;
        let (mut count, mut repeated) = (0, false);
        let mut take = |member: &[u8]| {
            let member = member.trim_ascii_start();
            if member.is_empty() {
                return;
            }
            let hash = self.members.ask(member, (start, gid), |of, entry| {
                judge(primary_gids, suspects, of, entry);
            });
            if let Some(place) = self.seen.get_mut(count) {
                *place = hash;
                repeated |= self.seen[..count].contains(&hash);
            }
            count += 1;
        };
        let mut from = 0;
        each_byte(b',', list, |comma| {
            take(&list[from..comma]);
            from = comma + 1;
            true
        });
        take(&list[from..]);
        if repeated || count > MANY && repeats(list) {
            suspects.push(start);
        }
    }

    /// When all lines were taken in: the suspects in order.
    pub fn finish(mut self, suspects: &mut Vec<u32>) {
        let primary_gids = self.primary_gids;
        self.members.finish(|of, entry| judge(primary_gids, suspects, of, entry));
        suspects.sort_unstable();
        suspects.dedup();
    }
}

#[inline]
fn judge(
    primary_gids: &[u32],
    suspects: &mut Vec<u32>,
    (start, gid): (u32, Option<u32>),
    entry: Option<NameEntry>,
) {
    let primary = entry.and_then(|entry| primary_gids.get(entry.number()));
    if primary.is_none_or(|primary| *primary == u32::MAX || Some(*primary) == gid) {
        suspects.push(start);
    }
}

/// Whether a long list names somebody twice.
fn repeats(list: &[u8]) -> bool {
    let mut all = HashSet::new();
    !members(list).all(|member| all.insert(member))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::book::tests::book;
    use crate::table::{File, each_line};

    fn suspects(group: &str) -> Vec<usize> {
        let passwd = "maren:x:1004:50:::\nperrin:x:1005:51:::\ntavish:x:1006:x:::\n";
        let book = book(&[(File::Passwd, passwd), (File::Group, group)]);
        let (names, mut suspects) = (book.names(), Vec::new());
        let mut scan = MemberScan::new(&names, &[50, 51, u32::MAX]);
        each_line(group.as_bytes(), |row| scan.add_line(&mut suspects, row, row.start as u32));
        scan.finish(&mut suspects);
        let lines = book.groups.lines();
        suspects.into_iter().map(|start| lines.number(start as usize)).collect()
    }

    #[test]
    fn only_lists_with_something_about_them_are_looked_at() {
        let none: [usize; 0] = [];
        assert_eq!(suspects("crew:x:1:maren,perrin\ndeck:x:2:\n#a:x:3:nobody\n"), none);
        assert_eq!(suspects("crew:x:1:maren,odalys\ndeck:x:2:maren\n"), [1]);
        assert_eq!(suspects("crew:x:1:maren\ndeck:x:50:perrin, maren\n"), [2]);
        assert_eq!(suspects("crew:x:1:maren,perrin,maren\n"), [1]);
        // Whose primary group can't be told.
        assert_eq!(suspects("crew:x:1:tavish\n"), [1]);
        let many: Vec<String> = (0..20).map(|at| format!("crew{at}")).collect();
        assert_eq!(suspects(&format!("crew:x:1:{}\n", many.join(","))), [1]);
    }

    #[test]
    fn long_lists_repeat_nobody_either() {
        let many: Vec<String> = (0..20).map(|at| format!("crew{at}")).collect();
        let list = many.join(",");
        let repeats = |list: &str| repeats(list.as_bytes());
        assert!(!repeats(&list) && !repeats("a,b") && !repeats(""));
        assert!(repeats(&format!("{list},crew19")) && repeats("a,b,a") && repeats("a,a"));
    }
}

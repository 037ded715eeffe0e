//! The account files of one tree, parsed, and the indexes over them.

use std::collections::{BTreeMap, HashMap};
use std::sync::OnceLock;

use crate::batch_lookup::{BatchLookup, LookupSet};
use crate::table::{
    File, Files, Group, Groups, Gshadow, Gshadows, Line, Lines, Lookup, NameIndex, Passwd, Record,
    Shadow, Shadows, SubId, SubIds, Table, TableKind, Text, Users,
};

/// The texts of the six files; `None` where the tree has no such file.
#[derive(Default)]
pub struct Texts {
    lines: [Option<Lines>; 6],
    unreadable: BTreeMap<File, String>,
}

impl Texts {
    /// Puts the text of `file` in.
    pub fn set(&mut self, file: File, text: Text) {
        self.set_lines(Lines::new(file, text));
    }

    /// Puts the lines of a file in.
    pub fn set_lines(&mut self, lines: Lines) {
        let file = lines.file();
        self.lines[file as usize] = Some(lines);
    }

    /// Says that `file` is there, but can't be read, and why.
    pub fn set_unreadable(&mut self, file: File, why: String) {
        self.unreadable.insert(file, why);
    }

    fn take<K: TableKind>(&mut self, file: File) -> Option<Table<K>> {
        self.lines[file as usize].take().map(Table::over)
    }
}

/// The account files of one tree. A file that is not there is `None`; without
/// `passwd` and `group` there is no book.
#[derive(Debug)]
pub struct Book {
    /// Users.
    pub users: Table<Users>,
    /// Password hashes and aging.
    pub shadow: Option<Table<Shadows>>,
    /// Groups.
    pub groups: Table<Groups>,
    /// Group passwords and administrators.
    pub gshadow: Option<Table<Gshadows>>,
    /// Subordinate uids.
    pub subuid: Option<Table<SubIds>>,
    /// Subordinate gids.
    pub subgid: Option<Table<SubIds>>,
    /// Files that are there but can't be read, and why. Their tables are `None`.
    pub unreadable: BTreeMap<File, String>,
    names: OnceLock<NameIndex>,
    batch: OnceLock<BatchLookup>,
}

impl Book {
    /// The book of these texts. A missing `passwd` or `group` counts as empty:
    /// the host refuses trees without them before it comes to this.
    pub fn new(mut texts: Texts) -> Self {
        let empty = || -> Text { std::sync::Arc::new(Vec::new()) };
        let users = texts.take(File::Passwd);
        let groups = texts.take(File::Group);
        Book {
            users: users.unwrap_or_else(|| Table::new(File::Passwd, empty())),
            shadow: texts.take(File::Shadow),
            groups: groups.unwrap_or_else(|| Table::new(File::Group, empty())),
            gshadow: texts.take(File::Gshadow),
            subuid: texts.take(File::Subuid),
            subgid: texts.take(File::Subgid),
            unreadable: texts.unreadable,
            names: OnceLock::new(),
            batch: OnceLock::new(),
        }
    }

    /// The lines of a file, if the tree has it.
    pub fn lines(&self, file: File) -> Option<&Lines> {
        match file {
            File::Passwd => Some(self.users.lines()),
            File::Shadow => self.shadow.as_ref().map(Table::lines),
            File::Group => Some(self.groups.lines()),
            File::Gshadow => self.gshadow.as_ref().map(Table::lines),
            File::Subuid => self.subuid.as_ref().map(Table::lines),
            File::Subgid => self.subgid.as_ref().map(Table::lines),
        }
    }

    /// The table of subordinate uids or gids.
    pub fn sub_ids(&self, file: File) -> Option<&Table<SubIds>> {
        match file {
            File::Subuid => self.subuid.as_ref(),
            File::Subgid => self.subgid.as_ref(),
            _ => None,
        }
    }

    /// The index over the names of passwd, shadow, group and gshadow. Built when first
    /// asked for.
    pub(crate) fn names(&self) -> Lookup<'_> {
        let names = self.names.get_or_init(|| NameIndex::build(|file| self.lines(file)));
        names.over(|file| self.lines(file))
    }

    /// Keeps an index of these files that was made on the way. Only the first counts.
    pub(crate) fn keep_names(&self, names: NameIndex) {
        self.names.get_or_init(|| names);
    }

    /// The files that [`NameIndex`] are of.
    pub(crate) fn named_files(&self) -> Files<'_> {
        NameIndex::files(|file| self.lines(file))
    }

    /// Looks many things up at once: later lookups of what was sought cost next to
    /// nothing, and give the same. Only the first call counts.
    pub fn look_up_batch(&self, wanted: LookupSet) {
        self.batch.get_or_init(|| BatchLookup::look(self, wanted));
    }

    /// Whether it is known already that a name is in no file and on no list.
    pub fn is_nowhere(&self, name: &[u8]) -> bool {
        self.batch.get().is_some_and(|batch| batch.is_nowhere(name))
    }

    /// The records of `file` with this name, well-formed or not. One lookup
    /// searches the text; where an index of names was built it is asked.
    pub fn named<'b>(&'b self, file: File, name: &[u8]) -> Vec<Line<'b>> {
        let Some(lines) = self.lines(file) else {
            return Vec::new();
        };
        if let Some(found) = self.batch.get().and_then(|batch| batch.named(file, name)) {
            let found = found.iter().map(|start| lines.around(*start));
            return found.filter(|line| line.name() == name).collect();
        }
        let indexed = !matches!(file, File::Subuid | File::Subgid);
        match self.names.get().filter(|_| indexed) {
            None => lines.named(name).collect(),
            Some(names) => {
                let Some(first) = self.names().find(file, name) else {
                    return Vec::new();
                };
                let again = names.doubled(file).iter();
                let again = again.filter(|(earlier, _)| *earlier as usize == first);
                let again = again.map(|(_, again)| lines.at(*again as usize));
                std::iter::once(lines.at(first)).chain(again).collect()
            }
        }
    }

    /// The first well-formed user of this name.
    pub fn user<'b>(&'b self, name: &[u8]) -> Option<(Line<'b>, Passwd<'b>)> {
        first(self.named(File::Passwd, name))
    }

    /// The first user with this uid.
    pub fn user_by_uid(&self, uid: u32) -> Option<(Line<'_>, Passwd<'_>)> {
        if let Some(found) = self.batch.get().and_then(|batch| batch.user(uid)) {
            return first(
                found.map(|start| self.users.lines().around(start)).into_iter().collect(),
            );
        }
        // Nearly always the number is written plainly, and a search finds it.
        let plain = self.users.lines().holding(format!(":{uid}:").into_bytes());
        plain
            .filter_map(|line| first(vec![line]))
            .find(|(line, user): &(_, Passwd<'_>)| line.is_record() && user.uid() == Some(uid))
            .or_else(|| self.users.records().find(|(_, user)| user.uid() == Some(uid)))
    }

    /// The first shadow line of this name that the C library can read.
    pub fn shadow<'b>(&'b self, name: &[u8]) -> Option<(Line<'b>, Shadow<'b>)> {
        let lines = self.named(File::Shadow, name).into_iter();
        lines
            .filter_map(|line| Some((line, Shadow::read(line.record())?)))
            .find(|(_, shadow)| shadow.is_readable())
    }

    /// The first well-formed group of this name.
    pub fn group<'b>(&'b self, name: &[u8]) -> Option<(Line<'b>, Group<'b>)> {
        first(self.named(File::Group, name))
    }

    /// The first group with this gid.
    pub fn group_by_gid(&self, gid: u32) -> Option<(Line<'_>, Group<'_>)> {
        if let Some(found) = self.batch.get().and_then(|batch| batch.group(gid)) {
            return first(
                found.map(|start| self.groups.lines().around(start)).into_iter().collect(),
            );
        }
        let plain = self.groups.lines().holding(format!(":{gid}:").into_bytes());
        plain
            .filter_map(|line| first(vec![line]))
            .find(|(line, group): &(_, Group<'_>)| line.is_record() && group.gid() == Some(gid))
            .or_else(|| self.groups.records().find(|(_, group)| group.gid() == Some(gid)))
    }

    /// The first well-formed gshadow line of this name.
    pub fn gshadow<'b>(&'b self, name: &[u8]) -> Option<(Line<'b>, Gshadow<'b>)> {
        first(self.named(File::Gshadow, name))
    }

    /// The groups whose list names this user, in file order.
    pub fn groups_listing<'b>(&'b self, user: &[u8]) -> Vec<(Line<'b>, Group<'b>)> {
        let lines = self.groups.lines();
        let batch = self.batch.get().and_then(|batch| batch.listing(user));
        let mut found: Vec<Line<'b>> = match batch {
            Some(found) => found.iter().map(|start| lines.around(*start)).collect(),
            None => lines.holding(user.to_vec()).collect(),
        };
        // A line that lists somebody twice is one line.
        found.dedup_by_key(|line| line.start);
        found
            .into_iter()
            .filter(Line::is_record)
            .filter_map(|line| Some((line, Group::read(line.record())?)))
            .filter(|(_, group)| group.members().any(|member| member == user))
            .collect()
    }

    /// The first user whose home this is.
    pub fn user_at_home(&self, home: &[u8]) -> Option<&[u8]> {
        let lines = self.users.lines();
        let read = |line: Line<'_>| -> Option<&[u8]> {
            let user = Passwd::read(lines.around(line.start).record())?;
            (user.home == home).then_some(user.name)
        };
        match self.batch.get().and_then(|batch| batch.at_home(home)) {
            Some(found) => found.iter().find_map(|start| read(lines.around(*start))),
            None => lines.holding([b":", home, b":"].concat()).find_map(read),
        }
    }

    /// The first range, of uids or of gids, that covers a number.
    pub fn range_over(&self, id: u32) -> Option<SubId<'_>> {
        if let Some(found) = self.batch.get().and_then(|batch| batch.covering(id)) {
            let (file, start) = found?;
            return SubId::read(self.lines(file)?.around(start).record());
        }
        let tables = [&self.subuid, &self.subgid].into_iter().flatten();
        let mut ranges = tables.flat_map(Table::records).map(|(_, range)| range);
        ranges.find(|range| range.span().is_some_and(|span| span.contains(id)))
    }

    /// The gshadow lines that name this user, as member or administrator.
    pub fn gshadow_mentioning<'b>(&'b self, user: &[u8]) -> Vec<Line<'b>> {
        let Some(table) = &self.gshadow else {
            return Vec::new();
        };
        table
            .lines()
            .holding(user.to_vec())
            .filter(Line::is_record)
            .filter(|line| {
                Gshadow::read(line.record()).is_some_and(|group| {
                    let mut names = group.members().chain(crate::value::members(group.admins));
                    names.any(|name| name == user)
                })
            })
            .collect()
    }

    /// The groups that list each user, as line starts: for work on many users.
    pub fn memberships(&self) -> HashMap<&[u8], Vec<Group<'_>>> {
        let mut map: HashMap<&[u8], Vec<Group<'_>>> = HashMap::new();
        for (_, group) in self.groups.records() {
            for member in group.members() {
                let of = map.entry(member).or_default();
                if of.last().is_none_or(|last| last.name != group.name) {
                    of.push(group);
                }
            }
        }
        map
    }

    /// The range lines that belong to the user of this name and uid.
    pub fn ranges_of<'b>(
        &'b self,
        file: File,
        name: &[u8],
        uid: Option<u32>,
    ) -> Vec<(Line<'b>, SubId<'b>)> {
        let Some(table) = self.sub_ids(file) else {
            return Vec::new();
        };
        let mut found: Vec<_> = table.named(name).collect();
        if let Some(uid) = uid {
            let uid = uid.to_string().into_bytes();
            let by_number = table.lines().holding([&uid[..], b":"].concat());
            found.extend(
                by_number
                    .filter(|line| line.is_record() && line.name() == uid)
                    .filter_map(|line| Some((line, SubId::read(line.record())?))),
            );
        }
        found.sort_by_key(|(line, _)| line.start);
        found
    }
}

fn first<'b, R: Record<'b>>(lines: Vec<Line<'b>>) -> Option<(Line<'b>, R)> {
    lines.into_iter().find_map(|line| Some((line, R::read(line.record())?)))
}

#[cfg(test)]
pub(crate) mod tests {
    use std::sync::Arc;

    use super::*;

    /// A book of the given texts, for tests.
    pub(crate) fn book(texts: &[(File, &str)]) -> Book {
        let mut all = Texts::default();
        for (file, text) in texts {
            all.set(*file, Arc::new(text.as_bytes().to_vec()));
        }
        Book::new(all)
    }

    #[test]
    fn looking_up_gives_the_same_with_and_without_an_index() {
        let text = "root:x:0:0:::\nmaren:x:7\nmaren:x:1004:1004:::\ntavish\n maren:x:9:9:::\n";
        let book = book(&[(File::Passwd, text)]);
        let look = |name: &'static [u8]| -> Vec<usize> {
            let lines = book.named(File::Passwd, name);
            lines.iter().map(|line| book.users.lines().number(line.start)).collect()
        };
        let plain = [look(b"maren"), look(b"tavish"), look(b"nobody")];
        assert_eq!(plain, [vec![2, 3, 5], vec![], vec![]]);
        assert_eq!(book.user(b"maren").unwrap().1.uid(), Some(1004));
        book.names();
        assert_eq!([look(b"maren"), look(b"tavish"), look(b"nobody")], plain);
    }

    #[test]
    fn ids_are_found_however_they_are_written() {
        let book = book(&[
            (File::Passwd, "a:x:5:1004:::\nb:x:01004:7:::\n"),
            (File::Group, "crew:x: 7:b,ab,a\nrest:x:8:ab\n"),
            (File::Subuid, "b:1:1\n1004:5:1\nb2:9:1\n"),
        ]);
        assert_eq!(book.user_by_uid(1004).unwrap().1.name, b"b");
        assert_eq!(book.group_by_gid(7).unwrap().1.name, b"crew");
        assert!(book.user_by_uid(6).is_none());
        assert_eq!(book.groups_listing(b"a").len(), 1);
        assert_eq!(book.memberships()[&b"ab"[..]].len(), 2);
        assert_eq!(book.ranges_of(File::Subuid, b"b", Some(1004)).len(), 2);
    }
}

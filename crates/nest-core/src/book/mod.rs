//! The account files of one tree, parsed, and the indexes over them.

mod batch;
mod lookups;
mod range_index;
mod unread;

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, OnceLock, PoisonError};

use bstr::{BStr, BString};

use self::batch::BatchLookup;
use self::range_index::RangeIndex;
use crate::order;
use crate::table::{
    File, Files, Group, Groups, Gshadow, Gshadows, Line, Lines, Lookup, NameIndex, Passwd, Record,
    Shadow, Shadows, SubId, SubIds, Table, TableKind, Text, Users,
};
use crate::value::{Gid, IdSpans, Uid, members, nearest};

pub use self::batch::LookupSet;
pub use self::lookups::{Extent, Lookups};

/// Up to here names that were not declared are searched for one by one: an index of all
/// names takes as long as some twenty searches.
const FEW_MISSES: usize = 8;

/// A name that was searched for in a file, and where its lines begin.
type KnownName = (File, BString, Vec<usize>);

/// So many searches are remembered.
const MOST_KNOWN: usize = 64;

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

    fn take_table<K: TableKind>(&mut self, file: File) -> Option<Table<K>> {
        self.lines[file as usize].take().map(Table::over)
    }
}

/// Whether what `etc/shadow` says is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ShadowFile {
    /// It was read.
    Read,
    /// There is none.
    Missing,
    /// It is closed to whoever looks.
    Unreadable,
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
    ranges: [OnceLock<RangeIndex>; 2],
    /// How often a name was looked up that was not among those that were looked up at once.
    missed: AtomicUsize,
    /// The names that were searched for, and where their lines begin.
    known: Mutex<Vec<KnownName>>,
    /// What was loaded of files that are held only in part.
    lookups: Lookups,
    gshadow_lookups: Option<Lookups>,
}

impl Book {
    /// The book of these texts. A missing `passwd` or `group` counts as empty:
    /// the host refuses trees without them before it comes to this.
    pub fn new(mut texts: Texts) -> Self {
        let empty = || -> Text { std::sync::Arc::new(Vec::new()) };
        let users = texts.take_table(File::Passwd);
        let groups = texts.take_table(File::Group);
        Book {
            users: users.unwrap_or_else(|| Table::new(File::Passwd, empty())),
            shadow: texts.take_table(File::Shadow),
            groups: groups.unwrap_or_else(|| Table::new(File::Group, empty())),
            gshadow: texts.take_table(File::Gshadow),
            subuid: texts.take_table(File::Subuid),
            subgid: texts.take_table(File::Subgid),
            unreadable: texts.unreadable,
            names: OnceLock::new(),
            batch: OnceLock::new(),
            ranges: Default::default(),
            missed: AtomicUsize::new(0),
            known: Mutex::default(),
            // Whoever makes a book of whole texts may ask it anything.
            lookups: Lookups::whole(),
            gshadow_lookups: None,
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

    /// Whether what `etc/shadow` says is known.
    pub fn shadow_file(&self) -> ShadowFile {
        match self.shadow {
            Some(_) => ShadowFile::Read,
            None if self.unreadable.contains_key(&File::Shadow) => ShadowFile::Unreadable,
            None => ShadowFile::Missing,
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
        let build = || apart(|| NameIndex::build(|file| self.lines(file)));
        let names = self.names.get_or_init(build);
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

    /// Says what the request looks up, which was loaded. Of files that are held only in part
    /// nothing else may be asked for.
    pub fn set_lookups(&mut self, lookups: Lookups) {
        self.lookups = lookups;
    }

    /// Takes the gshadow file of another book, which was loaded for its sake with these
    /// lookups.
    pub fn take_gshadow(&mut self, other: Book) {
        self.gshadow = other.gshadow;
        self.gshadow_lookups = Some(other.lookups);
    }

    /// Looks many things up at once: later lookups of what is wanted cost next to
    /// nothing, and give the same. Only the first call counts.
    pub fn look_up_batch(&self, wanted: LookupSet) {
        let search = || apart(|| BatchLookup::search(|file| self.lines(file), wanted));
        self.batch.get_or_init(search);
    }

    /// What was looked up at once: many names that a request declared, or what a planner
    /// asked for.
    fn batch(&self) -> Option<&BatchLookup> {
        if self.batch.get().is_none() && self.lookups.are_many() {
            self.look_up_batch(self.lookups.at_once());
        }
        self.batch.get()
    }

    /// Whether it is known already that a name is in no file and on no list.
    pub fn is_nowhere(&self, name: &[u8]) -> bool {
        self.batch().is_some_and(|batch| batch.is_nowhere(name))
    }

    /// Whether only some lines of a file are held.
    pub fn is_partial(&self, file: File) -> bool {
        self.lines(file).is_some_and(Lines::is_excerpt)
    }

    /// Sees that what is asked for of a file was loaded.
    ///
    /// # Panics
    /// Where only some of its lines were, and the request did not declare this.
    fn expect_loaded(&self, file: File, declared: impl Fn(&Lookups) -> bool) {
        if self.is_partial(file) {
            let lookups = self.gshadow_lookups.as_ref().filter(|_| file == File::Gshadow);
            let declared = declared(lookups.unwrap_or(&self.lookups));
            assert!(declared, "BUG: {} was asked for what no request declared", file.path());
        }
    }

    /// The lines of a file that begin at these places.
    fn lines_at<'b>(&'b self, file: File, starts: &'b [usize]) -> impl Iterator<Item = Line<'b>> {
        let lines = self.lines(file);
        starts.iter().filter_map(move |start| Some(lines?.around(*start)))
    }

    /// The records of `file` with this name, well-formed or not. One lookup
    /// searches the text; where an index of names was built it is asked, and where very many
    /// names are looked up one is.
    pub fn named<'b>(&'b self, file: File, name: &[u8]) -> Vec<Line<'b>> {
        let Some(lines) = self.lines(file) else {
            return Vec::new();
        };
        self.expect_loaded(file, |lookups| lookups.has_name(file, name));
        if let Some(found) = self.batch().and_then(|batch| batch.named(file, name)) {
            return self.lines_at(file, found).filter(|line| line.name() == name).collect();
        }
        let indexed = !matches!(file, File::Subuid | File::Subgid);
        let pays = || self.lookups.leave_secrets_out() && file.is_secret() || self.misses_many();
        match self.names.get().is_some() || self.lookups.are_many() && pays() {
            true if indexed => {
                let names = self.names();
                let Some(first) = names.find(file, name) else { return Vec::new() };
                let again = names.again(file, first).map(|again| lines.at(again));
                std::iter::once(lines.at(first)).chain(again).collect()
            }
            _ => self.searched(file, lines, name),
        }
    }

    /// The same by a search of the text. Whoever judges a plan asks for the names that its
    /// planner asked for: the text is searched once.
    fn searched<'b>(&'b self, file: File, lines: &'b Lines, name: &[u8]) -> Vec<Line<'b>> {
        let known = || self.known.lock().unwrap_or_else(PoisonError::into_inner);
        let is_it = |(of, other, _): &&KnownName| *of == file && other == name;
        if let Some((.., starts)) = known().iter().find(is_it) {
            return starts.iter().map(|start| lines.around(*start)).collect();
        }
        // Others may search meanwhile.
        let found: Vec<Line<'b>> = lines.named(name).collect();
        let mut known = known();
        if known.len() < MOST_KNOWN {
            known.push((file, name.into(), found.iter().map(|line| line.start).collect()));
        }
        found
    }

    /// Whether so many names that no request declared were looked up that an index pays.
    fn misses_many(&self) -> bool {
        self.missed.fetch_add(1, Ordering::Relaxed) >= FEW_MISSES
    }

    /// The user whose name is nearest, for somebody who slipped; nothing where not all
    /// users are known.
    pub fn nearest_user(&self, name: &[u8]) -> Option<&BStr> {
        let all = (!self.is_partial(File::Passwd)).then(|| self.users.records());
        nearest(name, all.into_iter().flatten().map(|(_, user)| user.name))
    }

    /// The group whose name is nearest, likewise.
    pub fn nearest_group(&self, name: &[u8]) -> Option<&BStr> {
        let all = (!self.is_partial(File::Group)).then(|| self.groups.records());
        nearest(name, all.into_iter().flatten().map(|(_, group)| group.name))
    }

    /// The first well-formed user of this name.
    pub fn user<'b>(&'b self, name: &[u8]) -> Option<(Line<'b>, Passwd<'b>)> {
        first(self.named(File::Passwd, name))
    }

    /// The first user with this uid.
    pub fn user_by_uid(&self, uid: Uid) -> Option<(Line<'_>, Passwd<'_>)> {
        self.expect_loaded(File::Passwd, |lookups| lookups.has_uid(uid));
        let is_it = |user: &Passwd<'_>| user.uid() == Some(uid);
        self.first_of_id(self.users.lines(), uid.0, is_it)
    }

    /// The first record of this number in passwd or group.
    fn first_of_id<'b, R: Record<'b>>(
        &'b self,
        lines: &'b Lines,
        id: u32,
        is_it: impl Fn(&R) -> bool,
    ) -> Option<(Line<'b>, R)> {
        let read = |line: Line<'b>| {
            let record = line.is_record().then(|| R::read(line.record())).flatten();
            Some((line, record.filter(&is_it)?))
        };
        if let Some(found) = self.batch().and_then(|batch| batch.of_id(lines.file(), id)) {
            return self.lines_at(lines.file(), found).find_map(read);
        }
        // Nearly always the number is written plainly, and a search finds it.
        let plain = lines.holding(format!(":{id}:").into_bytes()).find_map(read);
        plain.or_else(|| lines.iter().filter(|_| !lines.is_excerpt()).find_map(read))
    }

    /// The lines that hold a number in passwd or in group, where that is known already because
    /// it was looked up at once.
    pub(crate) fn holding_at_once(
        &self,
        file: File,
        id: u32,
    ) -> Option<impl Iterator<Item = Line<'_>>> {
        let holds = matches!(file, File::Passwd | File::Group);
        let found = self.batch().filter(|_| holds)?.of_id(file, id)?;
        Some(self.lines_at(file, found))
    }

    /// Every user with this uid, in file order.
    pub fn users_by_uid(&self, uid: Uid) -> Vec<(Line<'_>, Passwd<'_>)> {
        self.users_found(self.batch().and_then(|batch| batch.of_id(File::Passwd, uid.0)), |user| {
            user.uid() == Some(uid)
        })
    }

    /// The users whose primary group has this gid, in file order.
    pub fn users_by_gid(&self, gid: Gid) -> Vec<(Line<'_>, Passwd<'_>)> {
        self.users_found(self.batch().and_then(|batch| batch.primaries(gid)), |user| {
            user.gid() == Some(gid)
        })
    }

    /// The users among the lines that were found, or else among all, of which something is so.
    fn users_found<'b>(
        &'b self,
        found: Option<&'b [usize]>,
        is_so: impl Fn(&Passwd<'b>) -> bool,
    ) -> Vec<(Line<'b>, Passwd<'b>)> {
        match found {
            Some(found) => {
                let lines = self.lines_at(File::Passwd, found);
                let users = lines.filter_map(|line| Some((line, Passwd::read(line.record())?)));
                users.filter(|(_, user)| is_so(user)).collect()
            }
            None => self.users.records().filter(|(_, user)| is_so(user)).collect(),
        }
    }

    /// The names of other users whose home lies at or below a path.
    pub fn homes_below(&self, home: &[u8], but: &[u8]) -> Vec<BString> {
        let below = |other: &[u8]| {
            other.strip_prefix(home).is_some_and(|rest| rest.is_empty() || rest.starts_with(b"/"))
        };
        let name = |line: Line<'_>| {
            let user = Passwd::read(line.record())?;
            (user.name != but && below(user.home)).then(|| user.name.into())
        };
        match self.batch().and_then(|batch| batch.homes_below(home)) {
            Some(found) => self.lines_at(File::Passwd, found).filter_map(name).collect(),
            None => {
                self.expect_loaded(File::Passwd, |_| false);
                self.users.lines().holding([b":", home].concat()).filter_map(name).collect()
            }
        }
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
    pub fn group_by_gid(&self, gid: Gid) -> Option<(Line<'_>, Group<'_>)> {
        self.expect_loaded(File::Group, |lookups| lookups.has_gid(gid));
        let is_it = |group: &Group<'_>| group.gid() == Some(gid);
        self.first_of_id(self.groups.lines(), gid.0, is_it)
    }

    /// Every group with this gid, in file order.
    pub fn groups_by_gid(&self, gid: Gid) -> Vec<(Line<'_>, Group<'_>)> {
        match self.batch().and_then(|batch| batch.of_id(File::Group, gid.0)) {
            Some(found) => {
                let lines = self.lines_at(File::Group, found);
                lines.filter_map(|line| Some((line, Group::read(line.record())?))).collect()
            }
            None => self.groups.records().filter(|(_, group)| group.gid() == Some(gid)).collect(),
        }
    }

    /// Every group of these gids, in file order. Of a file that is held only in part, those
    /// that are held.
    pub fn groups_of_gids(&self, gids: &BTreeSet<u32>) -> Vec<(Line<'_>, Group<'_>)> {
        let is_one = |group: &Group<'_>| group.gid().is_some_and(|gid| gids.contains(&gid.0));
        if gids.len() > FEW_MISSES {
            return self.groups.records().filter(|(_, group)| is_one(group)).collect();
        }
        // However the number is written, it ends like this.
        let lines = self.groups.lines();
        let found = gids.iter().flat_map(|gid| lines.holding(format!("{gid}:").into_bytes()));
        let mut found: Vec<Line<'_>> = found.filter(Line::is_record).collect();
        found.sort_unstable_by_key(|line| line.start);
        found.dedup_by_key(|line| line.start);
        let read = found.into_iter().filter_map(|line| Some((line, Group::read(line.record())?)));
        read.filter(|(_, group)| is_one(group)).collect()
    }

    /// Whether nobody but the account of a uid is in the group of a gid, and it is: by primary
    /// group, or listed as the owner of a file. Of files that are held only in part, as far as
    /// they are held.
    pub fn is_private_group(&self, gid: Gid, uid: Uid, owner: Uid) -> bool {
        let groups = self.groups_of_gids(&[gid.0].into());
        let Some((_, group)) = groups.first() else { return false };
        let primaries = self.users_by_gid(gid);
        if primaries.iter().any(|(_, user)| user.uid() != Some(uid)) {
            return false;
        }
        let owners = || self.users_by_uid(owner);
        let mut members = group.members();
        match (members.next(), members.next()) {
            (None, _) => !primaries.is_empty(),
            (Some(member), None) => owners().iter().any(|(_, user)| user.name == member),
            (Some(_), Some(_)) => false,
        }
    }

    /// The first well-formed gshadow line of this name.
    pub fn gshadow<'b>(&'b self, name: &[u8]) -> Option<(Line<'b>, Gshadow<'b>)> {
        first(self.named(File::Gshadow, name))
    }

    /// The groups whose list names this user, in file order.
    pub fn groups_listing<'b>(&'b self, user: &[u8]) -> Vec<(Line<'b>, Group<'b>)> {
        let lines = self.groups.lines();
        self.expect_loaded(File::Group, |lookups| lookups.has_user(user));
        let batch = self.batch().and_then(|batch| batch.listing(user));
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
        self.expect_loaded(File::Passwd, |lookups| lookups.has_home(home));
        let lines = self.users.lines();
        let read = |line: Line<'_>| -> Option<&[u8]> {
            let user = Passwd::read(lines.around(line.start).record())?;
            (user.home == home).then_some(user.name)
        };
        match self.batch().and_then(|batch| batch.at_home(home)) {
            Some(found) => found.iter().find_map(|start| read(lines.around(*start))),
            None => lines.holding([b":", home, b":"].concat()).find_map(read),
        }
    }

    /// The first range, of uids or of gids, that covers a number.
    pub fn range_over(&self, id: u32) -> Option<SubId<'_>> {
        if let Some(found) = self.batch().and_then(|batch| batch.covering(id)) {
            let (file, start) = found?;
            return SubId::read(self.lines(file)?.around(start).record());
        }
        [File::Subuid, File::Subgid].iter().for_each(|file| self.expect_loaded(*file, |_| false));
        let tables = [&self.subuid, &self.subgid].into_iter().flatten();
        let mut ranges = tables.flat_map(Table::records).map(|(_, range)| range);
        ranges.find(|range| range.span().is_some_and(|span| span.contains(id)))
    }

    /// The gshadow lines that name this user, as member or administrator.
    pub fn gshadow_mentioning<'b>(&'b self, user: &[u8]) -> Vec<Line<'b>> {
        let Some(table) = &self.gshadow else {
            return Vec::new();
        };
        self.expect_loaded(File::Gshadow, |lookups| lookups.has_user(user));
        let mentions = |line: &Line<'_>| {
            Gshadow::read(line.record()).filter(|_| line.is_record()).is_some_and(|group| {
                let mut names = group.members().chain(members(group.admins));
                names.any(|name| name == user)
            })
        };
        match self.batch().and_then(|batch| batch.mentioning(user)) {
            Some(found) => {
                let mut lines: Vec<Line<'b>> = self.lines_at(File::Gshadow, found).collect();
                lines.dedup_by_key(|line| line.start);
                lines.into_iter().filter(mentions).collect()
            }
            None => table.lines().holding(user.to_vec()).filter(mentions).collect(),
        }
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
        uid: Option<Uid>,
    ) -> Vec<(Line<'b>, SubId<'b>)> {
        let uid = uid.map(|uid| uid.to_string().into_bytes());
        let names = std::iter::once(name).chain(uid.iter().map(|uid| &uid[..]));
        let mut lines: Vec<Line<'b>> = names.flat_map(|name| self.named(file, name)).collect();
        order::sort_by_key(&mut lines, |line| line.start);
        lines.dedup_by_key(|line| line.start);
        lines.into_iter().filter_map(|line| Some((line, SubId::read(line.record())?))).collect()
    }

    /// The owners of ranges of a file that have ids of these, in no order and maybe often.
    pub fn owners_overlapping(&self, file: File, spans: &IdSpans) -> Vec<&[u8]> {
        let Some(table) = self.sub_ids(file) else { return Vec::new() };
        if !self.lookups.are_many() {
            let overlaps =
                |range: &SubId<'_>| range.span().is_some_and(|span| spans.overlaps(span));
            let owners = table.records().filter(|(_, range)| overlaps(range));
            return owners.map(|(_, range)| range.owner).collect();
        }
        let index = &self.ranges[usize::from(file == File::Subgid)];
        let index = index.get_or_init(|| RangeIndex::of(table));
        let found = spans.spans().iter().flat_map(|span| index.overlapping(*span));
        found
            .filter_map(|start| Some(SubId::read(table.lines().around(start).record())?.owner))
            .collect()
    }
}

/// Makes what others wait for. On a thread of rayon's it is made by threads of its own: the
/// others may all be waiting, and this one would take up work that waits for it as well.
fn apart<T: Send>(make: impl FnOnce() -> T + Send) -> T {
    if rayon::current_thread_index().is_none() {
        return make();
    }
    let Ok(pool) = rayon::ThreadPoolBuilder::new().build() else { return make() };
    std::thread::scope(|scope| {
        let made = scope.spawn(|| pool.install(make)).join();
        made.unwrap_or_else(|panic| std::panic::resume_unwind(panic))
    })
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
        assert_eq!(book.user(b"maren").unwrap().1.uid(), Some(Uid(1004)));
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
        assert_eq!(book.user_by_uid(Uid(1004)).unwrap().1.name, b"b");
        assert_eq!(book.group_by_gid(Gid(7)).unwrap().1.name, b"crew");
        assert!(book.user_by_uid(Uid(6)).is_none());
        assert_eq!(book.groups_listing(b"a").len(), 1);
        assert_eq!(book.memberships()[&b"ab"[..]].len(), 2);
        assert_eq!(book.ranges_of(File::Subuid, b"b", Some(Uid(1004))).len(), 2);
    }
}

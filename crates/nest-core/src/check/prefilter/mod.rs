//! One sweep over the files for all rules that go through them line by line. It leaves
//! them the few lines that are not as nearly all are; of the others none of these rules
//! has anything to say.

use std::collections::HashMap;
use std::sync::OnceLock;

use rayon::prelude::*;

use super::duplicates::is_own_home;
use super::lost::LostLines;
use super::member_scan::MemberScan;
use super::spans::Spans;
use super::sweep::{Chunk, sweep, sweep_users};
use crate::book::Book;
use crate::context::PlanContext;
use crate::table::{File, Group, Line, MatchedLines, NameHasher, NameIndex, Passwd, Record, Sum};
use crate::value::{IdSet, read_id};

/// Where the lines begin that rules have to look at, and the numbers that all lines
/// hold.
#[derive(Default)]
pub(super) struct Prefilter {
    odd: [Vec<u32>; 6],
    /// Whether there are NUL bytes in a file.
    nul: [bool; 6],
    /// The uids of users.
    pub uids: IdSet,
    /// Whether two users have the same.
    pub uid_twice: bool,
    /// The gids of their primary groups.
    pub primary: IdSet,
    /// The gids of groups.
    pub gids: IdSet,
    /// Whether two groups have the same.
    pub gid_twice: bool,
    /// Uids and gids, those of malformed lines too.
    pub held: IdSet,
    /// Whether somebody has a home that is not named after its user.
    pub other_home: bool,
    /// Groups that list somebody twice, or who has no account, or whose primary group
    /// it is; or that may.
    pub lists: Vec<u32>,
    /// Groups whose members differ from those in gshadow, or may.
    pub differing: Vec<u32>,
    /// Ranges of a name that no user has, of uids and of gids.
    pub unowned: [Vec<u32>; 2],
    /// Whether two ranges of a file have ids in common.
    pub overlapping: [bool; 2],
    /// Whether a range of a file has a number that a user or a group has.
    pub covering: [bool; 2],
    /// The ends of the hashes in shadow.
    pub prints: Vec<u64>,
    /// By which line each file takes in accounts of a directory, once that is asked.
    takes_in: [OnceLock<Option<usize>>; 6],
    /// Lines that may be missing; looked for where something lacks its counterpart.
    lost: OnceLock<LostLines>,
}

/// The files of ranges.
const RANGES: [File; 2] = [File::Subuid, File::Subgid];

impl Prefilter {
    /// Sweeps over the files, and leaves the book an index of its names.
    pub fn of(context: PlanContext<'_>) -> Self {
        let (mut prefilter, book) = (Prefilter::default(), context.book);
        let (hasher, named) = (NameHasher::default(), book.named_files());
        let mut users: Vec<Chunk> = book.users.lines().sweep(Chunk::default, |part, from, text| {
            sweep_users(part, from, text, context, &hasher);
        });
        let keys: Vec<_> = users.iter_mut().map(|part| std::mem::take(&mut part.keys)).collect();
        let (mut names, gids) = rayon::join(
            || NameIndex::of_users(hasher, keys, named),
            || users.iter().map(|part| &part.gids[..]).collect::<Vec<_>>().concat(),
        );
        let unexpected = not_people(&users);
        prefilter.add(File::Passwd, users);

        // Nearly always the ranges of uids are those of gids too.
        let [uids, gids_too] = RANGES.map(|file| book.lines(file));
        let alike = uids.zip(gids_too).is_some_and(|(uids, gids)| uids.is_like(gids));
        let left_out = alike.then_some(File::Subgid);
        let mut parts = sweep_others(context, &names, &gids, left_out);
        for file in [File::Group, File::Shadow, File::Gshadow] {
            names.settle(file, &take_matched(&mut parts, file), named);
        }
        let [lists, kept] = [File::Group, File::Gshadow].map(|file| sum_of_lists(&parts, file));
        // Of names that are there twice it is not said which list belongs to which.
        let once = [File::Group, File::Gshadow].iter().all(|file| names.doubled(*file).is_empty());
        let same_lists = lists == kept && (once || lists == Sum::default());
        let mut unowned = |file: File| match book.lines(file) {
            Some(lines) => names.unowned(lines, &take_matched(&mut parts, file), &unexpected),
            None => Vec::new(),
        };
        let of_uids = unowned(File::Subuid);
        let of_gids = if alike { of_uids.clone() } else { unowned(File::Subgid) };
        prefilter.unowned = [of_uids, of_gids];
        let spans: [Vec<Spans>; 2] = RANGES.map(|file| {
            let parts = parts.get_mut(&file).into_iter().flatten();
            parts.map(|part| std::mem::take(&mut part.spans)).collect()
        });
        for (file, parts) in parts {
            prefilter.add(file, parts);
        }
        if alike {
            let [uids, gids] = RANGES.map(|file| file as usize);
            prefilter.odd[gids] = prefilter.odd[uids].clone();
            prefilter.nul[gids] = prefilter.nul[uids];
        }
        prefilter.add_odd(book);

        let lookup = names.with(named);
        let (differing, judged): (_, Vec<(bool, bool)>) = rayon::join(
            || if same_lists { Vec::new() } else { lookup.differing() },
            || spans.into_par_iter().map(|spans| Spans::judge(&spans, &prefilter.held)).collect(),
        );
        let judged = if alike { vec![judged[0]; 2] } else { judged };
        prefilter.differing = differing;
        for (at, (overlapping, covering)) in judged.into_iter().enumerate() {
            (prefilter.overlapping[at], prefilter.covering[at]) = (overlapping, covering);
        }
        book.keep_names(names);
        prefilter
    }

    /// Adds what the parts of a file came to.
    fn add(&mut self, file: File, parts: Vec<Chunk>) {
        let (mut ids, mut twice) = (IdSet::default(), false);
        for part in parts {
            self.odd[file as usize].extend(part.odd);
            self.lists.extend(part.suspects);
            self.nul[file as usize] |= part.nul;
            twice |= part.twice | !ids.extend(&part.ids);
            self.prints.extend(part.prints);
            self.primary.extend(&part.primary);
            self.other_home |= part.other_home;
        }
        match file {
            File::Passwd => (self.uids, self.uid_twice) = (ids, twice),
            File::Group => (self.gids, self.gid_twice) = (ids, twice),
            _ => {}
        }
    }

    /// Adds the numbers of the lines that are to be looked at.
    fn add_odd(&mut self, book: &Book) {
        let users: Vec<_> = self.records::<Passwd<'_>>(book, File::Passwd).collect();
        for (_, user) in users {
            self.uid_twice |= user.uid().is_some_and(|uid| !self.uids.insert(uid.0));
            user.gid().map(|gid| self.primary.insert(gid.0));
            self.other_home |= !is_own_home(user.name, user.home);
        }
        let groups: Vec<_> = self.records::<Group<'_>>(book, File::Group).collect();
        for (_, group) in groups {
            self.gid_twice |= group.gid().is_some_and(|gid| !self.gids.insert(gid.0));
        }
        self.held.extend(&self.uids);
        self.held.extend(&self.gids);
        for file in [File::Passwd, File::Group] {
            let lines: Vec<_> = self.lines(book, file).filter(Line::is_record).collect();
            for line in lines {
                let id = line.record().split(|byte| *byte == b':').nth(2).and_then(read_id);
                id.map(|id| self.held.insert(id));
            }
        }
    }

    /// Lines that the files may have lost.
    pub fn lost(&self, context: PlanContext<'_>) -> &LostLines {
        self.lost.get_or_init(|| LostLines::of(context))
    }

    /// The number of the line by which a file takes in accounts of a directory, in compat mode.
    pub fn takes_in(&self, book: &Book, file: File) -> Option<usize> {
        *self.takes_in[file as usize].get_or_init(|| {
            let mut odd = self.lines(book, file);
            let line = odd.find(|line| line.bytes.starts_with(b"+"))?;
            Some(book.lines(file)?.number(line.start))
        })
    }

    /// Whether there are NUL bytes in a file.
    pub fn holds_nul(&self, file: File) -> bool {
        self.nul[file as usize]
    }

    /// The lines of a file that are to be looked at, in order.
    pub fn lines<'b>(&self, book: &'b Book, file: File) -> impl Iterator<Item = Line<'b>> {
        let all = book.lines(file);
        self.odd[file as usize].iter().filter_map(move |start| Some(all?.at(*start as usize)))
    }

    /// The well-formed records among them.
    pub fn records<'b, R: Record<'b>>(
        &self,
        book: &'b Book,
        file: File,
    ) -> impl Iterator<Item = (Line<'b>, R)> {
        let records = self.lines(book, file).filter(Line::is_record);
        records.filter_map(|line| Some((line, R::read(line.record())?)))
    }
}

/// Sweeps over all files but passwd and one that may be left out; names are looked up in
/// the index of the users.
fn sweep_others(
    context: PlanContext<'_>,
    names: &NameIndex,
    gids: &[u32],
    but: Option<File>,
) -> HashMap<File, Vec<Chunk>> {
    let named = context.book.named_files();
    let sweep_all = |file: &File| -> (File, Vec<Chunk>) {
        let begin = || {
            let scan = MemberScan::new(&names.with(named), gids);
            (Chunk::default(), names.matcher(*file), scan)
        };
        let parts = context.book.lines(*file).map(|lines| {
            lines.sweep(begin, |(part, matcher, scan), from, text| {
                sweep(*file, part, (matcher, scan), from, text, context);
            })
        });
        let parts = parts.unwrap_or_default().into_par_iter();
        (*file, parts.map(|(part, matcher, scan)| part.finish(matcher, scan)).collect())
    };
    File::ALL[1..].par_iter().filter(|file| Some(**file) != but).map(sweep_all).collect()
}

/// The users that are not plainly people, by number among all.
fn not_people(users: &[Chunk]) -> Vec<u32> {
    let (mut all, mut first) = (Vec::new(), 0);
    for part in users {
        all.extend(part.not_people.iter().map(|at| first + at));
        first += part.gids.len() as u32;
    }
    all
}

fn take_matched(parts: &mut HashMap<File, Vec<Chunk>>, file: File) -> Vec<MatchedLines> {
    let parts = parts.get_mut(&file).into_iter().flatten();
    parts.map(|part| std::mem::take(&mut part.matched)).collect()
}

/// What the lists of members of a file come to, each with the name of its group.
fn sum_of_lists(parts: &HashMap<File, Vec<Chunk>>, file: File) -> Sum {
    let mut sum = Sum::default();
    parts.get(&file).into_iter().flatten().for_each(|part| sum.extend(part.lists));
    sum
}

#[cfg(test)]
mod tests;

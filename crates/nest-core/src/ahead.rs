//! Looking many things up at once: each file is gone through a single time, and
//! the book answers from what was found.

use bstr::BString;
use hashbrown::{HashMap, HashSet};
use rayon::prelude::*;

use crate::book::Book;
use crate::table::{File, Group, Passwd, Record, SubId};

/// What will be looked up.
#[derive(Debug, Default)]
pub struct Sought {
    /// Names of users, groups and owners of ranges.
    pub names: HashSet<BString>,
    /// Paths of homes.
    pub homes: HashSet<BString>,
    /// Uids, gids, and numbers that a range may cover.
    pub ids: HashSet<u32>,
}

/// What was found of it. Lines are given by where they begin; what was
/// sought and is not here is not in the files.
#[derive(Debug)]
pub struct Ahead {
    sought: Sought,
    named: HashMap<(File, BString), Vec<usize>>,
    listing: HashMap<BString, Vec<usize>>,
    homes: HashMap<BString, Vec<usize>>,
    users: HashMap<u32, usize>,
    groups: HashMap<u32, usize>,
    covered: HashMap<u32, (File, usize)>,
    /// The names that some file has.
    met: HashSet<BString>,
}

/// What one file held.
#[derive(Default)]
struct Found {
    named: HashMap<BString, Vec<usize>>,
    listing: HashMap<BString, Vec<usize>>,
    homes: HashMap<BString, Vec<usize>>,
    ids: HashMap<u32, usize>,
}

impl Ahead {
    /// Goes through the files of a book.
    pub fn look(book: &Book, sought: Sought) -> Self {
        let mut ids: Vec<u32> = sought.ids.iter().copied().collect();
        ids.sort_unstable();
        let found: Vec<(File, Found)> =
            File::ALL.par_iter().map(|file| (*file, look_in(book, *file, &sought, &ids))).collect();
        let mut ahead = Ahead {
            sought,
            named: HashMap::new(),
            listing: HashMap::new(),
            homes: HashMap::new(),
            users: HashMap::new(),
            groups: HashMap::new(),
            covered: HashMap::new(),
            met: HashSet::new(),
        };
        for (file, found) in found {
            ahead.met.extend(found.named.keys().chain(found.listing.keys()).cloned());
            ahead.named.extend(found.named.into_iter().map(|(name, at)| ((file, name), at)));
            match file {
                File::Passwd => (ahead.homes, ahead.users) = (found.homes, found.ids),
                File::Group => (ahead.listing, ahead.groups) = (found.listing, found.ids),
                File::Subuid | File::Subgid => {
                    for (id, at) in found.ids {
                        ahead.covered.entry(id).or_insert((file, at));
                    }
                }
                File::Shadow | File::Gshadow => {}
            }
        }
        ahead
    }

    /// Whether a name was sought and is nowhere: in no file, and on no list.
    pub(crate) fn is_nowhere(&self, name: &[u8]) -> bool {
        self.sought.names.contains(name) && !self.met.contains(name)
    }

    /// The lines of this name, if it was sought.
    pub(crate) fn named(&self, file: File, name: &[u8]) -> Option<&[usize]> {
        let name = self.sought.names.get(name)?;
        if !self.met.contains(name) {
            return Some(&[]);
        }
        Some(self.named.get(&(file, name.clone())).map_or(&[], Vec::as_slice))
    }

    /// The lines of `group` that may list this user, if it was sought.
    pub(crate) fn listing(&self, name: &[u8]) -> Option<&[usize]> {
        let name = self.sought.names.get(name)?;
        Some(self.listing.get(name).map_or(&[], Vec::as_slice))
    }

    /// The lines of `passwd` with this home, if it was sought.
    pub(crate) fn at_home(&self, home: &[u8]) -> Option<&[usize]> {
        let home = self.sought.homes.get(home)?;
        Some(self.homes.get(home).map_or(&[], Vec::as_slice))
    }

    /// The first user of this uid, if it was sought: then the inner value says
    /// whether there is one.
    pub(crate) fn user(&self, uid: u32) -> Option<Option<usize>> {
        self.sought.ids.contains(&uid).then(|| self.users.get(&uid).copied())
    }

    /// The first group of this gid, likewise.
    pub(crate) fn group(&self, gid: u32) -> Option<Option<usize>> {
        self.sought.ids.contains(&gid).then(|| self.groups.get(&gid).copied())
    }

    /// The first range that covers a number, likewise.
    pub(crate) fn covering(&self, id: u32) -> Option<Option<(File, usize)>> {
        self.sought.ids.contains(&id).then(|| self.covered.get(&id).copied())
    }
}

fn look_in(book: &Book, file: File, sought: &Sought, ids: &[u32]) -> Found {
    let mut found = Found::default();
    let Some(lines) = book.lines(file) else { return found };
    for line in lines.iter() {
        let at = line.start;
        let (name, record) = (line.name(), line.record());
        // Without a colon it names nobody.
        if !line.is_record() || name.len() == record.len() {
            continue;
        }
        if let Some(name) = sought.names.get(name) {
            found.named.entry(name.clone()).or_default().push(at);
        }
        match file {
            File::Passwd => {
                let Some(user) = Passwd::read(record) else { continue };
                if let Some(home) = sought.homes.get(user.home) {
                    found.homes.entry(home.clone()).or_default().push(at);
                }
                if let Some(uid) = user.uid().filter(|uid| sought.ids.contains(uid)) {
                    found.ids.entry(uid).or_insert(at);
                }
            }
            File::Group => {
                let Some(group) = Group::read(record) else { continue };
                for member in group.members() {
                    if let Some(member) = sought.names.get(member) {
                        found.listing.entry(member.clone()).or_default().push(at);
                    }
                }
                if let Some(gid) = group.gid().filter(|gid| sought.ids.contains(gid)) {
                    found.ids.entry(gid).or_insert(at);
                }
            }
            File::Subuid | File::Subgid if !ids.is_empty() => {
                let Some(span) = SubId::read(record).and_then(|range| range.span()) else {
                    continue;
                };
                let from = ids.partition_point(|id| *id < span.first);
                for id in ids[from..].iter().take_while(|id| **id <= span.last) {
                    found.ids.entry(*id).or_insert(at);
                }
            }
            _ => {}
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::book::tests::book;

    #[test]
    fn a_book_that_looked_ahead_answers_the_same() {
        let files = [
            (File::Passwd, "a:x:5:7::/home/a:\nb:x:05:7::/srv:\n b:x:6:6:::\n+b\nb:broken\n"),
            (File::Shadow, "b:!:::::::\n"),
            (File::Group, "crew:x:7:b,ab,a\nrest:x:8:ab\ncrew:x:9:\n"),
            (File::Gshadow, "crew:!::\n"),
            (File::Subuid, "b:5:3\nb2:9:1\n"),
            (File::Subgid, "b:7:3\nb:1:1\n"),
        ];
        let (plain, ahead) = (book(&files), book(&files));
        let names = ["a", "b", "ab", "crew", "nobody"];
        ahead.look_ahead(Sought {
            names: names.iter().map(|name| BString::from(*name)).collect(),
            homes: ["/home/a", "/srv", "/none"].iter().map(|home| BString::from(*home)).collect(),
            ids: (0..12).collect(),
        });
        let starts = |lines: Vec<crate::table::Line<'_>>| -> Vec<usize> {
            lines.iter().map(|line| line.start).collect()
        };
        for name in names.map(str::as_bytes) {
            for file in File::ALL {
                assert_eq!(starts(plain.named(file, name)), starts(ahead.named(file, name)));
            }
            let listing = |book: &Book| -> Vec<usize> {
                book.groups_listing(name).iter().map(|(line, _)| line.start).collect()
            };
            assert_eq!(listing(&plain), listing(&ahead));
        }
        for id in 0..12 {
            let user = |book: &Book| book.user_by_uid(id).map(|(line, _)| line.start);
            let group = |book: &Book| book.group_by_gid(id).map(|(line, _)| line.start);
            let range = |book: &Book| book.range_over(id).map(|range| range.owner.to_vec());
            assert_eq!((user(&plain), group(&plain)), (user(&ahead), group(&ahead)), "{id}");
            assert_eq!(range(&plain), range(&ahead), "{id}");
        }
        for home in ["/home/a", "/srv", "/none", "/not/sought"] {
            let at_home = |book: &Book| book.user_at_home(home.as_bytes()).map(<[u8]>::to_vec);
            assert_eq!(at_home(&plain), at_home(&ahead), "{home}");
        }
    }
}

//! What a request looks up in the account files, said before they are loaded.

use bstr::{BString, ByteSlice};

use super::batch::LookupSet;
use crate::table::File;
use crate::value::{Gid, Uid};

/// From so many names on an index is quicker than searching the text for each.
const MANY: usize = 8;

/// For more names than this the text of a large file is not searched for each.
const FEW: usize = 4;

/// What a request looks up. Of large account files only the lines are loaded that it
/// needs, unless it goes through whole files; of many names an index is made.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Lookups {
    users: Vec<BString>,
    groups: Vec<BString>,
    uids: Vec<Uid>,
    gids: Vec<Gid>,
    homes: Vec<BString>,
    /// Every number that is held, to choose a free one.
    numbers: bool,
    /// Whole files are gone through.
    whole: bool,
    /// What the users have is looked up too.
    belongings: bool,
    /// Numbers, to be looked up as uids and as gids.
    ids: Vec<u32>,
    /// It pays to look all of it up at once, be it ever so little.
    gathered: bool,
    /// Only these files are looked at; all when empty.
    files: Vec<File>,
}

/// What is wanted of one large file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Extent {
    /// All of it.
    Whole,
    /// The lines that hold one of these words; without a word nothing is read.
    Lines {
        /// The words.
        words: Vec<Vec<u8>>,
        /// The numbers of all lines, too.
        numbers: bool,
    },
}

impl Lookups {
    /// Whole files are gone through.
    pub fn whole() -> Self {
        Lookups { whole: true, ..Lookups::default() }
    }

    /// Adds users and groups by name, where whole files are gone through.
    #[must_use]
    pub fn names(mut self, names: &[impl AsRef<[u8]>]) -> Self {
        self.users.extend(names.iter().map(|name| BString::from(name.as_ref())));
        self
    }

    /// Adds what these users have: their numbers, their homes and what is below those, and
    /// ranges that name them by number. Without it that is searched for when it is asked
    /// for, user by user.
    #[must_use]
    pub fn with_belongings(mut self) -> Self {
        self.belongings = true;
        self
    }

    /// Adds numbers: whose they are as uids, as gids and as primary gids, and ranges over them.
    /// Homes, `shadow` and `gshadow` are left alone then.
    #[must_use]
    pub fn ids(mut self, ids: impl IntoIterator<Item = u32>) -> Self {
        self.ids.extend(ids);
        self.gathered = true;
        self
    }

    /// A few lines of large files: nothing is looked up yet.
    pub fn few() -> Self {
        Lookups::default()
    }

    /// Only these files are looked at.
    #[must_use]
    pub fn in_files(mut self, files: &[File]) -> Self {
        self.files = files.to_vec();
        self
    }

    /// Adds a user by name: its lines, its ranges, and the lists that name it.
    #[must_use]
    pub fn user(mut self, name: &[u8]) -> Self {
        self.users.push(name.into());
        self
    }

    /// Adds a group by name. One that is named by number could have any name: then whole
    /// files are gone through.
    #[must_use]
    pub fn group(mut self, name: &[u8]) -> Self {
        self.whole |= name.first().is_some_and(u8::is_ascii_digit);
        self.groups.push(name.into());
        self
    }

    /// Adds the users of a number that is plainly written.
    #[must_use]
    pub fn uid(mut self, uid: Uid) -> Self {
        self.uids.push(uid);
        self
    }

    /// Adds the groups of a number that is plainly written.
    #[must_use]
    pub fn gid(mut self, gid: Gid) -> Self {
        self.gids.push(gid);
        self
    }

    /// Adds the users of a home.
    #[must_use]
    pub fn home(mut self, home: &[u8]) -> Self {
        self.homes.push(home.trim_end_with(|c| c == '/').into());
        self
    }

    /// Adds every number that is held.
    #[must_use]
    pub fn numbers(mut self) -> Self {
        self.numbers = true;
        self
    }

    /// Whether so many names are looked up that an index pays.
    pub(super) fn are_many(&self) -> bool {
        self.gathered || self.users.len() >= MANY
    }

    /// Whether what is looked up at once is not looked up in `shadow` and `gshadow`.
    pub(super) fn leave_secrets_out(&self) -> bool {
        self.gathered
    }

    /// All names, to be looked up at once.
    pub(super) fn at_once(&self) -> LookupSet {
        let names = self.users.iter().chain(&self.groups).map(|name| &name[..]);
        let mut wanted = LookupSet::of_names(names, self.belongings);
        if self.gathered {
            wanted.ids.extend(&self.ids);
            wanted.leave_homes_out();
            wanted.leave_secrets_out();
        }
        wanted
    }

    /// Whether all lines of large files are needed.
    pub fn is_whole(&self) -> bool {
        self.whole || self.users.len() > FEW
    }

    /// Whether lines of this name were to be loaded.
    pub(super) fn has_name(&self, file: File, name: &[u8]) -> bool {
        let is_it = |known: &BString| known == name;
        let by_uid = || self.uids.iter().any(|uid| uid.to_string().as_bytes() == name);
        match file {
            File::Passwd | File::Shadow => self.users.iter().any(is_it),
            File::Group | File::Gshadow => self.users.iter().chain(&self.groups).any(is_it),
            File::Subuid | File::Subgid => self.users.iter().any(is_it) || by_uid(),
        }
    }

    /// Whether lines that list this user were to be loaded.
    pub(super) fn has_user(&self, name: &[u8]) -> bool {
        self.users.iter().any(|known| known == name)
    }

    pub(super) fn has_uid(&self, uid: Uid) -> bool {
        self.uids.contains(&uid)
    }

    pub(super) fn has_gid(&self, gid: Gid) -> bool {
        self.gids.contains(&gid)
    }

    pub(super) fn has_home(&self, home: &[u8]) -> bool {
        self.homes.iter().any(|known| known == home)
    }

    /// What has to be loaded of a large file.
    pub fn extent(&self, file: File) -> Extent {
        if !self.files.is_empty() && !self.files.contains(&file) {
            return Extent::Lines { words: Vec::new(), numbers: false };
        }
        if self.is_whole() {
            return Extent::Whole;
        }
        let first = |name: &BString| [&name[..], b":"].concat();
        fn third(id: &impl std::fmt::Display) -> Vec<u8> {
            format!(":{id}:").into_bytes()
        }
        let (users, groups) = (self.users.iter().map(first), self.groups.iter().map(first));
        // Groups that list a user come to light by the name alone.
        let listed = self.users.iter().map(|name| name.to_vec());
        // Every word is a sweep over the file: only those that can lead to a line of it.
        let mut words: Vec<Vec<u8>> = match file {
            File::Passwd => {
                let homes = self.homes.iter().map(|home| [b":", &home[..], b":"].concat());
                users.chain(homes).chain(self.uids.iter().map(third)).collect()
            }
            File::Shadow => users.collect(),
            File::Group | File::Gshadow => {
                let gids = self.gids.iter().map(third).filter(|_| file == File::Group);
                groups.chain(listed).chain(gids).collect()
            }
            File::Subuid | File::Subgid => {
                let uids = self.uids.iter().map(|uid| format!("{uid}:").into_bytes());
                users.chain(uids).collect()
            }
        };
        words.sort_unstable();
        words.dedup();
        // A line that holds a word holds what is within the word.
        let all = words.clone();
        words.retain(|word| !all.iter().any(|other| other != word && word.contains_str(other)));
        let numbers = self.numbers && !matches!(file, File::Shadow | File::Gshadow);
        Extent::Lines { words, numbers }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_word_is_searched_for_once_and_none_that_another_finds() {
        let lookups = Lookups::few()
            .user(b"maren")
            .user(b"maren")
            .uid(Uid(1004))
            .uid(Uid(1004))
            .gid(Gid(1004));
        let words = |file| match lookups.extent(file) {
            Extent::Whole => Vec::new(),
            Extent::Lines { words, .. } => words,
        };
        assert_eq!(words(File::Passwd), [&b":1004:"[..], b"maren:"]);
        assert_eq!(words(File::Group), [&b":1004:"[..], b"maren"]);
        assert_eq!(words(File::Subuid), [&b"1004:"[..], b"maren:"]);
    }
}

//! Accounts and groups that were deleted and are kept for a while: everything
//! that has to be known to bring them back. `docs/formats.md` describes the file
//! it is kept in.
//!
//! - `folder`: the folder that one is kept in, and the packed files in it

mod folder;

use std::collections::BTreeMap;

use bstr::{BString, ByteSlice};
use serde::{Deserialize, Serialize};

use crate::book::Book;
use crate::secret::shown;
use crate::suspended::Suspended;
use crate::table::{Column, File, GroupField, GshadowField};
use crate::value::{
    Author, Gid, GroupName, NotPlain, PlainName, TreePath, Uid, UserName, UserOrGroup, escape,
    escaped, members, tidy,
};
use crate::windows::Half;

pub use self::folder::{KeptFolder, PackedFile};

/// What is kept of a deleted account or group.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Kept {
    /// User or group.
    pub thing: UserOrGroup,
    /// Its name.
    #[serde(with = "escaped::text")]
    pub name: BString,
    /// Its uid; the gid of a group.
    pub id: u32,
    /// Whether another user had its uid too: then it was never retired.
    #[serde(default)]
    pub shared_uid: bool,
    /// Whether another group had the gid of the group that went.
    #[serde(default)]
    pub shared_gid: bool,
    /// Whether its primary group was not there either.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub no_primary: bool,
    /// The lines that went with it, file by file and from the top down.
    pub lines: Vec<KeptLine>,
    /// The lists of other groups that named it.
    #[serde(default)]
    pub places: Vec<KeptPlace>,
    /// The accounts that its lists named, with their uids: a name may be somebody
    /// else's by the time it comes back.
    #[serde(default)]
    pub listed: Vec<Listed>,
    /// The owners of ranges that overlapped its own already then.
    #[serde(default)]
    pub overlapped: Vec<escaped::Escaped>,
    /// What it was like before it was suspended, where it was.
    #[serde(default)]
    pub suspended: Option<Suspended>,
    /// The lines about its hours and its places.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub windows: Vec<KeptRule>,
    /// What became of its home, its mail and its crontab.
    #[serde(default)]
    pub belongings: Vec<Belonging>,
}

/// A line that went.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct KeptLine {
    /// The file.
    pub file: File,
    /// Where it stood, counted from 1.
    pub line: usize,
    /// The line, whole; in records of changes without its hash.
    #[serde(with = "escaped::text")]
    pub text: BString,
}

/// A line about its hours or its places.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct KeptRule {
    /// Which of the two.
    pub about: Half,
    /// The line.
    #[serde(with = "escaped::text")]
    pub text: BString,
}

/// A list that named the account.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct KeptPlace {
    /// group or gshadow.
    pub file: File,
    /// Whether it is the list of administrators; else that of members.
    pub admins: bool,
    /// The group.
    pub group: GroupName,
    /// Its gid then.
    pub gid: Option<Gid>,
    /// The whole list as it was.
    #[serde(with = "escaped::text")]
    pub list: BString,
}

/// An account that a list named.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Listed {
    /// Its name.
    pub name: UserName,
    /// Its uid; nothing where the files did not know it.
    pub uid: Option<Uid>,
}

/// What an account may have on the tree.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, strum::Display, strum::IntoStaticStr,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum BelongingKind {
    /// Its home directory.
    Home,
    /// Its mail spool file.
    Mail,
    /// Its crontab.
    Crontab,
}

/// Something on the tree that was the account's.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Belonging {
    /// What it is.
    pub what: BelongingKind,
    /// Where it was.
    #[serde(with = "escaped::text")]
    pub path: BString,
    /// What became of it.
    #[serde(flatten)]
    pub became: Became,
    /// How many files were in it.
    pub files: u64,
    /// How many bytes.
    pub bytes: u64,
}

/// What became of a belonging.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "became", rename_all = "kebab-case")]
pub enum Became {
    /// It is where it was.
    Stays,
    /// It is behind a directory of root's.
    SetAside {
        /// Where.
        place: TreePath,
    },
    /// It is packed, in a file beside this one.
    Archived {
        /// The file.
        file: PackedFile,
    },
    /// It is gone.
    Erased,
    /// Somebody else has it.
    Given {
        /// Where.
        place: TreePath,
        /// To whom.
        to: UserName,
    },
}

impl Became {
    /// Whether it is out of the way, and can come back.
    pub fn can_come_back(&self) -> bool {
        match self {
            Became::SetAside { .. } | Became::Archived { .. } => true,
            Became::Stays | Became::Erased | Became::Given { .. } => false,
        }
    }
}

/// A deleted account or group, as it is kept.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RetiredAccount {
    /// The version of the format.
    pub version: u32,
    /// The change that deleted it; 0 where changes have no numbers.
    pub change: u64,
    /// When, with zone, as RFC 3339 writes it.
    pub time: String,
    /// Who.
    pub by: Author,
    /// What is kept.
    pub kept: Kept,
    /// A digest of each packed file beside this one: XXH3, 128 bits.
    #[serde(default)]
    pub digests: BTreeMap<PackedFile, String>,
    /// The folder it is in: not in the file, see [`RetiredAccount::in_folder`].
    #[serde(skip, default = "KeptFolder::unknown")]
    pub folder: KeptFolder,
}

/// The version of the file that this program writes and reads.
pub const VERSION: u32 = 1;

impl Kept {
    /// In the place of a number, where only lines are kept whose account nobody knows.
    pub const NO_ID: u32 = u32::MAX;

    /// Whether no account or group is kept, but lines that repair took out or rewrote: these
    /// come back by undo alone.
    pub fn is_of_lines(&self) -> bool {
        let file = match self.thing {
            UserOrGroup::User => File::Passwd,
            UserOrGroup::Group => File::Group,
        };
        self.belongings.is_empty() && self.line_of(file).is_none()
    }

    /// An account or group of which nothing is kept yet.
    pub(crate) fn new(thing: UserOrGroup, name: BString, id: u32) -> Self {
        Kept {
            thing,
            name,
            id,
            shared_uid: false,
            shared_gid: false,
            no_primary: false,
            lines: Vec::new(),
            places: Vec::new(),
            listed: Vec::new(),
            overlapped: Vec::new(),
            suspended: None,
            windows: Vec::new(),
            belongings: Vec::new(),
        }
    }

    /// Whether something of it is out of the way, and can come back.
    pub fn can_come_back(&self) -> bool {
        self.belongings.iter().any(|belonging| belonging.became.can_come_back())
    }

    /// Whether the account is there again, under its name and its number.
    pub fn is_live(&self, book: &Book) -> bool {
        match self.thing {
            UserOrGroup::User => {
                let user = book.user(&self.name).and_then(|(_, user)| user.uid());
                user == Some(Uid(self.id))
            }
            UserOrGroup::Group => {
                let group = book.group(&self.name).and_then(|(_, group)| group.gid());
                group == Some(Gid(self.id))
            }
        }
    }

    /// The folder it is kept in, below `retired`: `user/maren.1004.14`.
    ///
    /// # Errors
    /// [`NotPlain`], for a name that is no single plain component of a path.
    pub fn folder(&self, change: u64) -> Result<KeptFolder, NotPlain> {
        let name = PlainName::parse(format!("{}{change}", self.folder_start()))?;
        Ok(KeptFolder { thing: self.thing, name })
    }

    /// What the name of its folder begins with; the number of a change comes after it.
    fn folder_start(&self) -> String {
        format!("{}.{}.", escape(&self.name), self.id)
    }

    /// What makes it impossible that this program wrote it, in words.
    pub fn fault(&self) -> Option<String> {
        let places = self.belongings.iter().filter_map(|belonging| match &belonging.became {
            Became::SetAside { place } => Some((&belonging.path, place)),
            _ => None,
        });
        // What is erased in the end is what was set aside, and nothing else.
        let mut unmatched = places.filter(|(path, place)| {
            let start = set_aside_start(path, &self.name, Uid(self.id));
            let start = tidy(&start);
            !place.strip_prefix(&start[..]).is_some_and(is_number)
        });
        if let Some((path, place)) = unmatched.next() {
            return Some(format!("{place} is not where {path} is set aside"));
        }
        // What stays where it was may be anywhere: nothing was done to it.
        let mut taken = self.belongings.iter().filter(|one| one.became != Became::Stays);
        let bad = taken.find(|one| TreePath::new(&one.path).is_none())?;
        Some(format!("{} is no path of the tree", bad.path))
    }

    /// The same without any hash, for records.
    #[must_use]
    pub fn without_hashes(&self) -> Self {
        let mut kept = self.clone();
        for line in &mut kept.lines {
            line.text = shown(line.file, &line.text);
        }
        kept
    }

    /// The line of a file that bears the thing's own name.
    pub fn line_of(&self, file: File) -> Option<&KeptLine> {
        self.lines.iter().find(|line| line.file == file && line.name() == self.name)
    }

    /// The lists of the group itself that name a user.
    pub(crate) fn lists_naming(&self, user: &[u8]) -> Vec<KeptPlace> {
        let mut places = Vec::new();
        for file in [File::Group, File::Gshadow] {
            let Some(line) = self.line_of(file) else { continue };
            let text = line.text.trim_ascii_start();
            let lists: &[(bool, Column)] = match file {
                File::Group => &[(false, Column::from(GroupField::Members))],
                _ => &[
                    (false, Column::from(GshadowField::Members)),
                    (true, Column::from(GshadowField::Admins)),
                ],
            };
            for (admins, column) in lists {
                let list = column.of(text);
                if members(list).any(|member| member == user) {
                    let (group, gid) = (self.name.clone().into(), Some(Gid(self.id)));
                    places.push(KeptPlace { file, admins: *admins, group, gid, list: list.into() });
                }
            }
        }
        places
    }

    /// What became of a belonging.
    pub fn belonging(&self, what: BelongingKind) -> Option<&Belonging> {
        self.belongings.iter().find(|belonging| belonging.what == what)
    }
}

impl RetiredAccount {
    /// The same, as it was found in a folder.
    ///
    /// # Errors
    /// What makes it impossible that this program put it there, in words.
    pub fn in_folder(self, folder: KeptFolder) -> Result<Self, String> {
        if let Some(fault) = self.kept.fault() {
            return Err(fault);
        }
        let change = folder.name.as_str().strip_prefix(&self.kept.folder_start());
        let numbered = change.is_some_and(|change| is_number(change.as_bytes()));
        if folder.thing != self.kept.thing || !numbered {
            let Kept { thing, name, id, .. } = &self.kept;
            return Err(format!("it is about {thing} {name} with the number {id}"));
        }
        Ok(RetiredAccount { folder, ..self })
    }
}

impl KeptLine {
    /// Its first field.
    pub fn name(&self) -> &[u8] {
        let text = self.text.trim_ascii_start();
        &text[..text.find_byte(b':').unwrap_or(text.len())]
    }
}

/// Where a thing is set aside: behind a directory of root's beside it, under a name
/// that says whose it was and which change did it.
///
/// ```
/// use nest_core::value::Uid;
/// let place = nest_core::retired::set_aside_place(b"/home/maren", b"maren", Uid(1004), Some(9));
/// assert_eq!(place.to_string(), "/home/.set-aside/maren.1004.9");
/// ```
pub fn set_aside_place(path: &[u8], name: &[u8], uid: Uid, change: Option<u64>) -> TreePath {
    let mut place = set_aside_start(path, name, uid);
    place.extend_from_slice(change.unwrap_or(0).to_string().as_bytes());
    TreePath::judged(&place)
}

/// The same without the number of the change.
fn set_aside_start(path: &[u8], name: &[u8], uid: Uid) -> BString {
    let parent = path.rsplit_once_str("/").map_or(&b""[..], |(parent, _)| parent);
    [parent, b"/.set-aside/", name, format!(".{uid}.").as_bytes()].concat().into()
}

fn is_number(text: &[u8]) -> bool {
    !text.is_empty() && text.iter().all(u8::is_ascii_digit)
}

/// A list with `name` back in it: at its place in the list as it was, as far as
/// that can be told from who stood before it and is still there. `None` when it is
/// in it already.
///
/// ```
/// use nest_core::retired::with_member_back;
/// let back = |now: &str| with_member_back(now.as_bytes(), b"a,maren,b", b"maren");
/// assert_eq!(back("a,b").unwrap(), "a,maren,b");
/// assert_eq!(back("b,c").unwrap(), "maren,b,c");
/// assert_eq!(back("x,a").unwrap(), "x,a,maren");
/// assert_eq!(back("maren"), None);
/// ```
pub fn with_member_back(now: &[u8], list: &[u8], name: &[u8]) -> Option<BString> {
    use crate::value::{members, without_member};
    if members(now).any(|member| member == name) {
        return None;
    }
    // Nothing happened to the list since: it comes back byte for byte.
    if without_member(list, name).is_some_and(|(without, _)| without == now) {
        return Some(list.into());
    }
    let before: Vec<&[u8]> = members(list).take_while(|member| *member != name).collect();
    let mut names: Vec<&[u8]> = members(now).map(<[u8]>::trim_ascii_end).collect();
    let at = before
        .iter()
        .rev()
        .find_map(|earlier| names.iter().position(|member| member == earlier).map(|at| at + 1));
    names.insert(at.unwrap_or(0), name);
    Some(bstr::join(",", names).into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_record_of_it_holds_no_hash() {
        let text = "maren:$6$salt$abcdefgh:20781:0::7:::".into();
        let kept = Kept {
            thing: UserOrGroup::User,
            name: "maren".into(),
            id: 1004,
            shared_uid: false,
            shared_gid: false,
            no_primary: false,
            lines: vec![KeptLine { file: File::Shadow, line: 3, text }],
            places: vec![],
            listed: vec![],
            overlapped: vec![],
            suspended: None,
            windows: Vec::new(),
            belongings: vec![Belonging {
                what: BelongingKind::Home,
                path: "/home/maren".into(),
                became: Became::SetAside {
                    place: TreePath::judged(b"/home/.set-aside/maren.1004.9"),
                },
                files: 3,
                bytes: 40,
            }],
        };
        assert_eq!(kept.folder(9).unwrap().to_string(), "user/maren.1004.9");
        let record = serde_json::to_string(&kept.without_hashes()).unwrap();
        assert!(!record.contains("salt"), "{record}");
        let text = serde_json::to_string(&kept).unwrap();
        assert_eq!(serde_json::from_str::<Kept>(&text).unwrap(), kept);
        assert!(kept.line_of(File::Shadow).is_some() && kept.line_of(File::Passwd).is_none());
    }

    #[test]
    fn a_ragged_list_comes_back_as_it_was() {
        let list = b"a, maren,,b,";
        let (without, _) = crate::value::without_member(list, b"maren").unwrap();
        assert_eq!(with_member_back(&without, list, b"maren").unwrap(), "a, maren,,b,");
    }
}

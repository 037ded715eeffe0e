//! One account file as a lossless table of lines.
//!
//! The text stays in one buffer; records are views into it, split when they are
//! asked for. A line that no edit names keeps every byte: comments, blank lines,
//! compat lines, broken lines, carriage returns, a missing last newline.

mod column;
mod edit;
mod excerpt;
mod fields;
mod group;
mod gshadow;
mod held;
mod line;
mod lines;
mod names;
mod numbers;
mod passwd;
mod shadow;
pub(crate) mod source;
mod subid;
mod transition;

use std::marker::PhantomData;

use serde::{Deserialize, Serialize};
use strum::IntoStaticStr;

pub use column::Column;
pub(crate) use edit::lines_of;
pub use edit::{Edit, Piece, Rewrite};
pub use excerpt::Excerpter;
pub(crate) use fields::each_byte;
pub use fields::{SplitLine, each_line, each_row};
pub use group::{Group, GroupField};
pub use gshadow::{Gshadow, GshadowField};
pub(crate) use held::{held_ids, moves_ids};
pub use line::Line;
pub(crate) use line::{name_on, with_fields};
pub use lines::{Lines, Text};
pub(crate) use names::{
    BatchedLookups, Files, Hash, InOrderMatcher, Lookup, MatchedLines, NameEntry, NameHasher,
    NameIndex, NameKey, Sum, block, name_of,
};
pub use numbers::doubled_numbers;

pub use passwd::{Passwd, PasswdField};
pub use shadow::{Aging, Shadow, ShadowField};
pub use source::TextSource;
pub use subid::{SubId, SubIdField};
pub use transition::{Order, holding_both, order};

/// One of the six account files.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, IntoStaticStr,
)]
pub enum File {
    /// Users: `name:password:uid:gid:gecos:home:shell`, passwd(5).
    #[serde(rename = "etc/passwd")]
    #[strum(serialize = "etc/passwd")]
    Passwd,
    /// Password hashes and aging, shadow(5).
    #[serde(rename = "etc/shadow")]
    #[strum(serialize = "etc/shadow")]
    Shadow,
    /// Groups: `name:password:gid:members`, group(5).
    #[serde(rename = "etc/group")]
    #[strum(serialize = "etc/group")]
    Group,
    /// Group passwords and administrators, gshadow(5).
    #[serde(rename = "etc/gshadow")]
    #[strum(serialize = "etc/gshadow")]
    Gshadow,
    /// Subordinate uids: `owner:first:count`, subuid(5).
    #[serde(rename = "etc/subuid")]
    #[strum(serialize = "etc/subuid")]
    Subuid,
    /// Subordinate gids, subgid(5).
    #[serde(rename = "etc/subgid")]
    #[strum(serialize = "etc/subgid")]
    Subgid,
}

impl File {
    /// All six, in the order in which they are shown.
    pub const ALL: [File; 6] =
        [File::Passwd, File::Shadow, File::Group, File::Gshadow, File::Subuid, File::Subgid];

    /// The path in the tree, without a leading slash.
    pub fn path(self) -> &'static str {
        self.into()
    }

    /// How many colon-separated fields a line has.
    pub fn fields(self) -> usize {
        match self {
            File::Passwd => PasswdField::COUNT,
            File::Shadow => ShadowField::COUNT,
            File::Group => GroupField::COUNT,
            File::Gshadow => GshadowField::COUNT,
            File::Subuid | File::Subgid => SubIdField::COUNT,
        }
    }

    /// Whether its lines are about groups.
    pub fn is_of_groups(self) -> bool {
        matches!(self, File::Group | File::Gshadow)
    }

    /// Whether the file holds hashes, and must stay closed to other readers.
    pub fn is_secret(self) -> bool {
        matches!(self, File::Shadow | File::Gshadow)
    }
}

/// A typed view of one line.
pub trait Record<'a>: Copy {
    /// Splits a line; `None` when it has another number of fields.
    fn read(line: &'a [u8]) -> Option<Self>;
}

/// Ties a record type to its file; the implementors are empty types that name a
/// kind of table.
pub trait TableKind: 'static {
    /// The record as a view into a line.
    type View<'a>: Record<'a>;
}

macro_rules! kinds {
    ($($(#[$doc:meta])* $kind:ident => $view:ident;)*) => {$(
        $(#[$doc])*
        #[derive(Debug)]
        pub enum $kind {}
        impl TableKind for $kind {
            type View<'a> = $view<'a>;
        }
    )*};
}

kinds! {
    /// The table of users.
    Users => Passwd;
    /// The table of password hashes.
    Shadows => Shadow;
    /// The table of groups.
    Groups => Group;
    /// The table of group passwords.
    Gshadows => Gshadow;
    /// A table of subordinate ids.
    SubIds => SubId;
}

/// An account file with records of one kind.
pub struct Table<K> {
    lines: Lines,
    kind: PhantomData<K>,
}

impl<K: TableKind> Table<K> {
    /// A table over the text of `file`.
    pub fn new(file: File, text: Text) -> Self {
        Self::over(Lines::new(file, text))
    }

    /// A table over lines.
    pub fn over(lines: Lines) -> Self {
        Table { lines, kind: PhantomData }
    }

    /// The lines as they are.
    pub fn lines(&self) -> &Lines {
        &self.lines
    }

    /// Every well-formed record with its line.
    pub fn records(&self) -> impl Iterator<Item = (Line<'_>, K::View<'_>)> {
        self.lines
            .iter()
            .filter(|line| line.is_record())
            .filter_map(|line| Some((line, K::View::read(line.record())?)))
    }

    /// The record on the line at `index` (counted from 0), if it is well-formed.
    pub fn record(&self, index: usize) -> Option<K::View<'_>> {
        let line = self.lines.get(index);
        if line.is_record() { K::View::read(line.record()) } else { None }
    }

    /// The well-formed records with this name, first to last.
    pub fn named<'t>(
        &'t self,
        name: &[u8],
    ) -> impl Iterator<Item = (Line<'t>, K::View<'t>)> + use<'t, K> {
        self.lines.named(name).filter_map(|line| Some((line, K::View::read(line.record())?)))
    }
}

impl<K> std::fmt::Debug for Table<K> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Table").field("file", &self.lines.file()).finish_non_exhaustive()
    }
}

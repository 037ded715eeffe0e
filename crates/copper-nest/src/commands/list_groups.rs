//! `list groups`.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt;

use bstr::BStr;
use clap::ValueEnum;
use nest_core::group_account::{GroupIndex, GroupKind};
use nest_core::table::File;
use serde_json::json;

use super::{Global, Result, Session, show_user};
use crate::view::columns::Rows;
use crate::view::{self, groups};

/// List groups, with both kinds of member: listed ones, and users whose primary
/// group it is.
///
/// On a terminal a table; into a pipe one group a line, fields separated by tabs:
/// name, gid, kind, how many are listed, how many have it as primary group, who is
/// listed, whose primary group it is, administrators, whether it has a password.
#[derive(Debug, clap::Args)]
#[command(name = "groups", after_help = EXAMPLES)]
pub struct ListGroups {
    /// Which groups: with a gid of the people's or of the services', or the private
    /// groups of users.
    #[arg(long, value_enum, value_name = "people|services|private|all", default_value = "all")]
    kind: GroupKindChoice,
    /// Only those that a user is in, listed or by primary group.
    #[arg(long, value_name = "USER")]
    of: Option<OsString>,
    /// Only those that nobody is in.
    #[arg(long)]
    empty: bool,
    /// Only those with a password.
    #[arg(long)]
    with_password: bool,
    #[command(flatten)]
    rows: Rows,
}

const EXAMPLES: &str = "Examples:
  copper-nest list groups --of maren
  copper-nest list groups --kind people --empty";

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum GroupKindChoice {
    People,
    Services,
    Private,
    All,
}

impl ListGroups {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        self.rows.require(global, &groups::COLUMNS)?;
        let session = Session::open_anyway(global)?;
        session.tell_unfinished();
        let loaded = session.load()?;
        let book = &loaded.book;
        let of = self.of.as_ref().map(|user| BStr::new(user.as_bytes()));
        if let Some(user) = of {
            let world = session.world_to_look_at()?;
            let listed = !book.groups_listing(user).is_empty();
            if show_user::find(book, user).is_none() && !listed {
                return Err(show_user::no_user(book, &world, user));
            }
        }
        let name_of = |user: &BStr| -> Vec<u8> {
            show_user::find(book, user).map_or_else(|| user.to_vec(), |user| user.name.to_vec())
        };
        let user = of.map(name_of);
        let kinds: &[GroupKind] = match self.kind {
            GroupKindChoice::All => &[GroupKind::People, GroupKind::Services, GroupKind::Private],
            GroupKindChoice::People => &[GroupKind::People],
            GroupKindChoice::Services => &[GroupKind::Services],
            GroupKindChoice::Private => &[GroupKind::Private],
        };
        let index = GroupIndex::new(book, &session.policy);
        let listed: Vec<_> = index
            .groups()
            .filter(|group| kinds.contains(&group.kind))
            .filter(|group| {
                user.as_ref().is_none_or(|user| {
                    group.listed.contains(&&user[..]) || group.primary.contains(&&user[..])
                })
            })
            .filter(|group| !self.empty || group.listed.is_empty() && group.primary.is_empty())
            .filter(|group| !self.with_password || group.has_password == Some(true))
            .collect();
        if global.json() {
            let all: Vec<_> = listed.iter().map(groups::to_json).collect();
            view::print_json("groups", &json!({"groups": all}));
        } else {
            groups::print_list(global, &self.rows, &listed, book.groups.records().count());
        }
        session.tell_unread(&loaded, &[File::Group]);
        Ok(0)
    }
}

//! `show group`.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt;

use bstr::BStr;
use nest_core::book::Book;
use nest_core::group_account::{GroupIndex, lines_about_group};
use nest_core::surroundings::Surroundings;
use nest_core::table::{File, Group};
use nest_core::value::{Gid, nearest, read_plain_id};

use super::{DAMAGED, Failure, Global, REFUSED, Result, Session};
use crate::view::{self, groups};

/// Show one group: who is in it, listed or by primary group, and who runs it.
#[derive(Debug, clap::Args)]
#[command(name = "group", after_help = EXAMPLES)]
pub struct ShowGroup {
    /// The name, or the gid.
    #[arg(value_name = "NAME|GID")]
    name: OsString,
    /// Explain the records field by field.
    #[arg(long)]
    fields: bool,
}

const EXAMPLES: &str = "Examples:
  copper-nest show group pilots
  copper-nest show group 210 --fields";

impl ShowGroup {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open_anyway(global)?;
        session.tell_unfinished();
        let loaded = session.load()?;
        let world = session.world_to_look_at()?;
        let book = &loaded.book;
        let name = BStr::new(self.name.as_bytes());
        let group = find(book, name).ok_or_else(|| no_group(book, &world, name))?;
        let account = GroupIndex::new(book, &session.policy).gather(group);
        if global.json() {
            view::print_json("group", &groups::to_json(&account));
        } else if self.fields {
            groups::print_fields(book, &account);
        } else {
            let lines = lines_about_group(book, &account, groups::most_lines());
            groups::print_one(global, book, &account, &lines);
        }
        Ok(0)
    }
}

/// A group by name or by gid.
pub fn find<'b>(book: &'b Book, name: &BStr) -> Option<Group<'b>> {
    let found = book.group(name).or_else(|| book.group_by_gid(Gid(read_plain_id(name)?)));
    found.map(|(_, group)| group)
}

/// What to say where there is none.
pub fn no_group(book: &Book, world: &dyn Surroundings, name: &BStr) -> Failure {
    let number = |file: File, start| book.lines(file).map_or(0, |lines| lines.number(start));
    if let Some(line) = book.named(File::Group, name).first() {
        let line = number(File::Group, line.start);
        let message =
            format!("etc/group:{line} is {name}'s, but it is malformed and can't be read");
        return Failure::new(DAMAGED, "damaged", message)
            .or("see what is wrong", "check --only malformed-line");
    }
    if let Some(line) = book.named(File::Gshadow, name).first() {
        let line = number(File::Gshadow, line.start);
        let message =
            format!("there is no group {name}: only etc/gshadow:{line} is left over from one");
        return Failure::new(REFUSED, "only-gshadow", message)
            .or("see what is left over", "check --files-only");
    }
    if let Some(gid) = read_plain_id(name) {
        return Failure::new(REFUSED, "no-group", format!("no group here has gid {gid}"))
            .or("see them all", "list groups");
    }
    if world.service_knows_group(name).unwrap_or(false) {
        let message = format!(
            "{name} is no local group: the system's name services know it, etc/group does not"
        );
        return Failure::new(REFUSED, "no-local-group", message);
    }
    match nearest(name, book.groups.records().map(|(_, group)| group.name)) {
        Some(near) => {
            let message = format!("there is no group {name}; the nearest is {near}");
            Failure::new(REFUSED, "no-group", message)
                .or("show that one", format!("show group {near}"))
        }
        None => Failure::new(REFUSED, "no-group", format!("there is no group {name}"))
            .or("see them all", "list groups"),
    }
}

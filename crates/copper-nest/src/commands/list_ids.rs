//! `list ids`, `list ranges`.

use std::ffi::OsString;

use bstr::BString;
use nest_core::holdings::{next, outside, ranges, spans};
use nest_core::table::File;

use super::show_id::no_answer;
use super::{Global, Result, Session, bytes, show_user};
use crate::view::columns::Rows;
use crate::view::{self, ids};

/// List the numbers as a map: which span is for what, how full it is, and which
/// number is given next.
///
/// Into a pipe one span a line, fields separated by tabs: name, first, last, used,
/// retired, avoided, free, next. What is held outside the spans follows, with the fields
/// after used left empty.
#[derive(Debug, clap::Args)]
#[command(name = "ids", after_help = IDS)]
pub struct ListIds {
    /// Only the next so many numbers of each span: into a pipe one a line, after its span's
    /// name and a tab.
    #[arg(long, value_name = "COUNT", value_parser = clap::builder::RangedU64ValueParser::<usize>::new().range(1..=1000))]
    next: Option<usize>,
    #[command(flatten)]
    rows: Rows,
}

const IDS: &str = "Examples:
  copper-nest list ids
  copper-nest list ids --next 5
  copper-nest list ids --format json";

impl ListIds {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        match self.next {
            Some(_) => self.rows.require(global, &ids::NEXT)?,
            None => self.rows.require(global, &ids::SPANS)?,
        }
        let session = Session::open_anyway(global)?;
        session.tell_unfinished();
        let loaded = session.load()?;
        let world = session.world_to_look_at()?;
        let context = session.context(&loaded, &world);
        if let Some(count) = self.next {
            let next = next(context, count).map_err(no_answer)?;
            match global.json() {
                true => view::print_json("next-ids", &ids::next_to_json(&next)),
                false => ids::print_next(global, &self.rows, &next),
            }
            session.tell_unread(&loaded, &File::ALL);
            return Ok(0);
        }
        let (spans, outside) = (spans(context, ids::PARTS).map_err(no_answer)?, outside(context));
        if global.json() {
            view::print_json("ids", &ids::spans_to_json(&spans, &outside));
        } else {
            ids::print_spans(global, &self.rows, &spans, &outside);
        }
        session.tell_unread(&loaded, &File::ALL);
        Ok(0)
    }
}

/// List the subordinate ranges in order: whose they are, the gaps between them, and
/// where they overlap.
///
/// Into a pipe one range a line, fields separated by tabs: uid or gid, first, last,
/// how many, owner, and overlaps where it overlaps the one before; gaps are lines
/// with the owner left empty.
#[derive(Debug, clap::Args)]
#[command(name = "ranges", after_help = RANGES)]
pub struct ListRanges {
    /// Only those of a user.
    #[arg(long, value_name = "USER")]
    of: Option<OsString>,
    #[command(flatten)]
    rows: Rows,
}

const RANGES: &str = "Examples:
  copper-nest list ranges
  copper-nest list ranges --of maren --format json";

impl ListRanges {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        self.rows.require(global, &ids::RANGES)?;
        let session = Session::open_anyway(global)?;
        session.tell_unfinished();
        let loaded = session.load()?;
        let world = session.world_to_look_at()?;
        let mut all = ranges(session.context(&loaded, &world));
        if let Some(of) = &self.of {
            let name: BString = bytes(of);
            let user = show_user::find(&loaded.book, name.as_ref());
            let owners: Vec<Vec<u8>> = match user {
                Some(user) => vec![user.name.to_vec(), user.uid.to_vec()],
                None => vec![name.to_vec()],
            };
            all.retain(|range| range.owner.as_ref().is_some_and(|owner| owners.contains(owner)));
            if all.is_empty() && user.is_none() {
                return Err(show_user::no_user(&loaded.book, &world, name.as_ref()));
            }
        }
        if global.json() {
            view::print_json("ranges", &ids::ranges_to_json(&all));
        } else {
            ids::print_ranges(global, &self.rows, &all);
        }
        session.tell_unread(&loaded, &[File::Subuid, File::Subgid]);
        Ok(0)
    }
}

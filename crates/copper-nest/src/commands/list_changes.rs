//! `list changes`.

use std::ffi::OsString;
use std::os::unix::ffi::OsStrExt;

use bstr::BStr;
use nest_core::record::{ChangeRecord, about, undone};

use super::{Failure, Global, REFUSED, Result, Session};
use crate::session::history::other_hands;
use crate::view::columns::Rows;
use crate::view::{changes as view, print_json};

/// List what was done, newest first.
///
/// Into a pipe one change a line, fields separated by tabs: number, time, by whom, what,
/// what became of it, its note.
/// Where the account files differ from the way a change left them, a row says
/// how: somebody edited them by other means.
#[derive(Debug, clap::Args)]
#[command(name = "changes", after_help = EXAMPLES)]
pub struct ListChanges {
    /// Only since this day: 2026-11-24, today, -7d.
    #[arg(long, value_name = "DATE", allow_hyphen_values = true)]
    since: Option<String>,
    /// Only from one day to another, both of them too.
    #[arg(long, value_names = ["FROM", "TO"], num_args = 2, allow_hyphen_values = true,
        conflicts_with = "since")]
    between: Option<Vec<String>>,
    /// Only those that had to do with this user or group, also when it was called otherwise.
    #[arg(long, value_name = "NAME")]
    about: Option<OsString>,
    /// Only those by which somebody gained or lost access, and who did.
    #[arg(long)]
    access: bool,
    #[command(flatten)]
    rows: Rows,
}

const EXAMPLES: &str = "Examples:
  copper-nest list changes
  copper-nest list changes --since 2026-11-01 --about maren
  copper-nest list changes --between 2026-10-01 2026-10-31
  copper-nest list changes --note HR-412
  copper-nest list changes --access";

impl ListChanges {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        match self.access {
            true => self.rows.require(global, &view::ACCESS)?,
            false => self.rows.require(global, &view::COLUMNS)?,
        }
        let session = Session::open_anyway(global)?;
        session.tell_unfinished();
        let day = |text: &String| session.day(text);
        let (since, until) = match self.between.as_deref() {
            Some([from, to]) => (Some(day(from)?), Some(day(to)?)),
            _ => (self.since.as_ref().map(day).transpose()?, None),
        };
        if let (Some(from), Some(to)) = (since, until)
            && from > to
        {
            let message = format!("{from} is after {to}: nothing lies between them");
            return Err(Failure::new(REFUSED, "bad-date", message));
        }
        let folder = session.changes_folder()?;
        let (records, drift) = match &folder {
            None => (Vec::new(), Vec::new()),
            Some(folder) => {
                let loaded = session.load()?;
                let drift = other_hands(Some(folder), &loaded)?;
                (session.records(folder)?, drift)
            }
        };
        let undone = undone(&records);
        let of_name: Vec<&ChangeRecord> = match &self.about {
            None => records.iter().rev().collect(),
            Some(name) => about(&records, name.as_bytes()),
        };
        if let Some(name) = self.about.as_ref().filter(|_| of_name.is_empty()) {
            self.require_known(&session, name)?;
        }
        let wanted = of_name.into_iter().filter(|record| {
            let day = record.day();
            let young = since.is_none_or(|since| day.is_some_and(|day| day >= since))
                && until.is_none_or(|until| day.is_some_and(|day| day <= until));
            let wanted = young && (!self.access || !record.told.access.is_empty());
            let noted = |text: &String| {
                let note = record.note.as_deref().unwrap_or_default();
                note.to_lowercase().contains(&text.to_lowercase())
            };
            wanted && global.note.as_ref().is_none_or(noted)
        });
        let shown = view::ShownChanges {
            records: wanted.collect(),
            undone: &undone,
            since: &drift,
            access: self.access,
        };
        if global.json() {
            print_json("changes", &view::to_json(global, &shown));
        } else {
            view::print(global, &self.rows, &shown);
        }
        Ok(0)
    }

    /// Of a name that no change and no account knows somebody slipped.
    fn require_known(&self, session: &Session<'_>, name: &OsString) -> Result<()> {
        let book = session.load()?.book;
        let name = BStr::new(name.as_bytes());
        let is_known = book.user(name).is_some() || book.group(name).is_some();
        let near = book.nearest_user(name).or_else(|| book.nearest_group(name));
        match near.filter(|_| !is_known) {
            _ if is_known => Ok(()),
            near => {
                let near = near.map(|near| format!("; the nearest is {near}")).unwrap_or_default();
                let message = format!(
                    "no user and no group is called {name}, and no change had to do with one{near}"
                );
                Err(Failure::new(REFUSED, "no-user", message).or("see all", "list changes"))
            }
        }
    }
}

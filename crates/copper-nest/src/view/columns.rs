//! The columns of lists into pipes: which there are, what is in each, and which were asked for.

use nest_core::value::nearest;

use super::{for_a_person, table_of};
use crate::cli::Global;
use crate::failure::{Failure, Result, USAGE};

/// A column of a list.
#[derive(Debug)]
pub struct Column {
    /// What it is called on the command line and in a header.
    pub name: &'static str,
    /// What is in it.
    pub meaning: &'static str,
}

/// What one row of a list can hold, in its lasting order.
#[derive(Debug)]
pub struct Columns<const N: usize>(pub [Column; N]);

/// A list, and its columns.
pub type List = (&'static str, &'static [Column]);

/// How a list is written into a pipe.
#[derive(Debug, Clone, clap::Args)]
#[group(skip)]
pub struct Rows {
    /// Only these columns, in this order; on a terminal too.
    #[arg(long, value_name = "NAME,…", value_delimiter = ',')]
    columns: Vec<String>,
    /// A first line with the names of the columns; with tabs between them on a terminal too.
    #[arg(long)]
    header: bool,
}

/// Makes columns of their names and what is in them.
macro_rules! columns {
    ($($name:literal: $meaning:literal),+ $(,)?) => {
        $crate::view::columns::Columns([$(
            $crate::view::columns::Column { name: $name, meaning: $meaning }
        ),+])
    };
}

impl Rows {
    /// Whether a list is to be printed as rows of the columns that were asked for.
    pub fn are_wanted(&self, global: &Global) -> bool {
        !for_a_person(global) || self.header || !self.columns.is_empty()
    }

    /// Prints rows: one a line with tabs between the columns; a table where somebody at a
    /// terminal asked for some of them.
    pub fn print<const N: usize>(
        &self,
        global: &Global,
        columns: &Columns<N>,
        rows: impl Iterator<Item = [String; N]>,
    ) {
        let all = &columns.0;
        let at = |name: &String| {
            let at = all.iter().position(|column| column.name == name);
            at.expect("BUG: a column was not asked after before anything was looked at")
        };
        let wanted: Vec<usize> = match self.columns.is_empty() {
            true => (0..N).collect(),
            false => self.columns.iter().map(at).collect(),
        };
        if for_a_person(global) && !self.header {
            let titles: Vec<&str> = wanted.iter().map(|&at| all[at].name).collect();
            let cells = |row: [String; N]| wanted.iter().map(|&at| row[at].clone()).collect();
            outln!("{}", table_of(&titles, rows.map(cells).collect()));
            return;
        }
        if self.header {
            let names: Vec<&str> = wanted.iter().map(|&at| all[at].name).collect();
            outln!("{}", names.join("\t"));
        }
        for row in rows {
            let cells: Vec<&str> = wanted.iter().map(|&at| row[at].as_str()).collect();
            outln!("{}", cells.join("\t"));
        }
    }

    /// Looks over what was asked for, before anything else is done.
    ///
    /// # Errors
    /// A column that is not there, or that machines are to read JSON.
    pub fn require<const N: usize>(&self, global: &Global, columns: &Columns<N>) -> Result<()> {
        let refuse = |message: String| Err(Failure::new(USAGE, "usage", message));
        if global.json() && (self.header || !self.columns.is_empty()) {
            return refuse(
                "--columns and --header go with text: in JSON every value has its name".to_owned(),
            );
        }
        let names = columns.0.iter().map(|column| column.name);
        let is_known = |name: &String| names.clone().any(|known| known == name);
        let Some(unknown) = self.columns.iter().find(|name| !is_known(name)) else {
            return Ok(());
        };
        let near = nearest(unknown.as_bytes(), names.clone().map(str::as_bytes));
        let near = near.map(|near| format!("; the nearest is {}", String::from_utf8_lossy(near)));
        let names = names.collect::<Vec<_>>().join(", ");
        let near = near.unwrap_or_default();
        refuse(format!("no column is called {unknown:?}{near}. There are {names}"))
    }
}

/// Every list with its columns.
pub fn lists() -> Vec<List> {
    use super::{admins, changes, compare, earlier, groups, ids, keys, retired, rules, users};
    vec![
        ("list users", &users::COLUMNS.0),
        ("list users --suspended", &users::SUSPENDED.0),
        ("list users --at DATE", &earlier::COLUMNS.0),
        ("list groups", &groups::COLUMNS.0),
        ("list ids", &ids::SPANS.0),
        ("list ids --next COUNT", &ids::NEXT.0),
        ("list ranges", &ids::RANGES.0),
        ("list keys", &keys::COLUMNS.0),
        ("list admins", &admins::COLUMNS.0),
        ("list retired", &retired::COLUMNS.0),
        ("list changes", &changes::COLUMNS.0),
        ("list changes --access", &changes::ACCESS.0),
        ("list rules", &rules::COLUMNS.0),
        ("compare", &compare::COLUMNS.0),
    ]
}

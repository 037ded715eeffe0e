//! `compare`.

use std::collections::{BTreeMap, HashSet};
use std::ffi::OsString;
use std::path::{Path, PathBuf};

use clap::ValueEnum;
use jiff::SignedDuration;
use nest_core::compare::{
    Agreement, CompareOptions, Comparison, agree, compare, written_numbers, written_people,
};
use nest_core::words::counted;

use super::new_file::write_new;
use super::tables::quoted;
use super::{FOUND, Failure, Global, REFUSED, Result, Session, UNTOUCHED, read_input};
use crate::sides::{Missing, Sides, Source, age, named_sources};
use crate::view::columns::Rows;
use crate::view::compare::{self as view, Shown};
use crate::view::visible;

/// Hold many machines against each other: who has another number, shell or group somewhere, who
/// is on one machine and not on the others, whose number is somebody else's.
///
/// A side is the root of a tree, a file of export snapshot, a table as intake takes it, or
/// change:N, which is this tree as change N left it. What a side does not say is not compared.
/// On a terminal grouped by account; into a pipe one value a line. The exit status is 1 where
/// sides differ, or one that was expected is missing.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Compare {
    /// The sides: trees, snapshots, tables, change:N.
    #[arg(value_name = "SIDE")]
    sides: Vec<OsString>,
    /// A folder of snapshots; - for snapshots one after the other on standard input.
    #[arg(long, value_name = "DIR|-")]
    from: Option<PathBuf>,
    /// The side that is as it should be: told is what is otherwise.
    #[arg(long, value_name = "SIDE")]
    against: Option<OsString>,
    /// A file with the names of machines, one a line: those without a snapshot are told.
    #[arg(long, value_name = "FILE|-")]
    expected: Option<PathBuf>,
    /// Leave out snapshots that are older, and tell which: 2d, 36h.
    #[arg(long, value_name = "AGE", value_parser = age)]
    not_older: Option<SignedDuration>,
    /// Services too.
    #[arg(long, value_enum, value_name = "people|all", default_value = "people")]
    kind: Kind,
    /// Whether the differences are grouped by account or by machine.
    #[arg(long, value_enum, value_name = "account|host", default_value = "account")]
    by: By,
    /// Homes are the same files on all machines, whatever the snapshots say: then ranges that
    /// overlap are told.
    #[arg(long)]
    shared_homes: bool,
    /// Name all machines, however many.
    #[arg(long)]
    all: bool,
    /// Write the differences as a table.
    #[arg(long = "as", value_enum, value_name = "csv")]
    form: Option<CompareForm>,
    /// Write a table for renumber for each machine into a new folder, so that the same names get
    /// the same numbers and the fewest files change hands.
    #[arg(long, value_name = "DIR")]
    renumbering: Option<PathBuf>,
    /// Write those who are on most machines, as most have them, as a table for intake.
    #[arg(long, value_name = "FILE")]
    roster: Option<PathBuf>,
    #[command(flatten)]
    rows: Rows,
}

const EXAMPLES: &str = "Examples:
  copper-nest compare harbour.json quay.json
  copper-nest compare --from snapshots --expected machines.txt --not-older 2d
  copper-nest compare --from snapshots --against harbour.json --by host
  copper-nest compare --from snapshots --renumbering numbers --roster crew.csv
  copper-nest compare change:12 /";

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Kind {
    People,
    All,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum By {
    Account,
    Host,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum CompareForm {
    Csv,
}

impl Compare {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        self.rows.require(global, &view::COLUMNS)?;
        let (sources, others) = named_sources(&self.sides, self.from.as_deref())?;
        let against = self.against.as_ref().map(Source::of).transpose()?;
        let expected = self.expected.as_deref().map(names_in).transpose()?;
        let mut sides = Sides::read(global, &sources, against.as_ref(), self.not_older)?;
        sides.pass_over(&others);
        if let Some(expected) = expected {
            sides.expect(&expected);
        }
        if sides.count() < 2 {
            sides.tell();
            let message = match sides.count() {
                0 => {
                    "there is nothing to compare: name trees, snapshots or tables, or a folder \
                      of snapshots with --from"
                }
                _ => "there is one side only: nothing to hold it against",
            };
            return Err(Failure::new(REFUSED, "no-sides", message));
        }
        let options = CompareOptions {
            services: self.kind == Kind::All,
            shared_homes: self.shared_homes,
            against: sides.against,
        };
        let comparison = compare(&sides.tally, &sides.all, options);
        let agreement = match self.renumbering.is_some() || self.roster.is_some() {
            true => Some(agree(&sides.tally, options, &Session::open_anyway(global)?.policy)),
            false => None,
        };
        // What is refused is refused before anything is printed or written.
        if let Some(folder) = &self.renumbering {
            require_new(folder)?;
        }
        if let Some(file) = &self.roster {
            require_new(file)?;
        }
        self.show(global, &sides, &comparison)?;
        if let Some(agreement) = &agreement {
            self.write(global, &sides, options, agreement)?;
        }
        sides.tell();
        let found = if comparison.all.is_empty() { 0 } else { FOUND };
        let missing = sides.missing.iter().map(|missing| missing.status).max().unwrap_or(0);
        Ok(found.max(missing))
    }

    fn show(&self, global: &Global, sides: &Sides, comparison: &Comparison) -> Result<()> {
        let shown = Shown { sides, comparison, all: self.all, by_host: self.by == By::Host };
        match (global.json(), self.form) {
            (true, _) => view::print_json_lines(&shown),
            (false, Some(CompareForm::Csv)) => view::print_csv(&shown)?,
            (false, None) => view::print(global, &self.rows, &shown),
        }
        Ok(())
    }

    /// Writes the tables that line the machines up.
    fn write(
        &self,
        global: &Global,
        sides: &Sides,
        options: CompareOptions,
        agreement: &Agreement,
    ) -> Result<()> {
        for left in &agreement.left {
            errln!("{}", visible(left.as_bytes()));
        }
        let talks = !global.quiet && !global.json();
        if let Some(folder) = &self.renumbering {
            let tables = written_numbers(agreement);
            let names = file_names(sides, tables.keys().copied())?;
            std::fs::create_dir(folder).map_err(|error| {
                let message = format!("{} can't be made: {error}", folder.display());
                Failure::new(UNTOUCHED, "output", message)
            })?;
            for (side, table) in &tables {
                write_new(&folder.join(&names[side]), table.as_bytes(), 0o644)?;
            }
            if talks {
                let (tables, files) = (tables.len(), agreement.files);
                errln!(
                    "{}: {}; {} or more change hands",
                    folder.display(),
                    counted(tables, "table for renumber", "tables for renumber"),
                    counted(usize::try_from(files).unwrap_or(usize::MAX), "file", "files"),
                );
                if let Some(name) = names.values().next() {
                    let table = quoted(&folder.join(name));
                    errln!("next: copper-nest --tree DIR renumber {table} --dry-run");
                }
            }
        }
        if let Some(file) = &self.roster {
            let people = written_people(&sides.tally, sides.count(), options, agreement);
            write_new(file, people.text.as_bytes(), 0o644)?;
            if talks {
                let people = &people;
                errln!("{}: {}", file.display(), counted(people.rows, "person", "people"));
                if people.strays > 0 {
                    errln!(
                        "left out: {} on fewer than half of the machines",
                        counted(people.strays, "person who is", "people who are")
                    );
                }
                errln!(
                    "next: copper-nest --tree DIR intake {} --existing keep --dry-run",
                    quoted(file)
                );
            }
        }
        Ok(())
    }
}

impl Sides {
    /// Tells which of those that should be there are not.
    fn expect(&mut self, expected: &[String]) {
        let here: HashSet<&str> = self.all.iter().map(|side| side.name.as_str()).collect();
        let missing: Vec<Missing> = expected
            .iter()
            .filter(|name| {
                // One that was left out was told of already.
                !here.contains(name.as_str())
                    && !self.missing.iter().any(|missing| missing.name == **name)
            })
            .map(|name| Missing {
                name: name.clone(),
                why: "it was expected, and there is no snapshot of it".to_owned(),
                status: FOUND,
            })
            .collect();
        self.missing.extend(missing);
    }
}

/// The names in a file, one a line.
fn names_in(file: &Path) -> Result<Vec<String>> {
    let text = String::from_utf8(read_input(file)?)
        .map_err(|_| Failure::new(REFUSED, "input", format!("{} is not UTF-8", file.display())))?;
    let lines = text.trim_start_matches('\u{feff}').lines().map(str::trim);
    let mut seen = HashSet::new();
    let names = lines.filter(|line| !line.is_empty() && !line.starts_with('#'));
    let names: Vec<String> = names.filter(|name| seen.insert(*name)).map(str::to_owned).collect();
    match names.is_empty() {
        true => {
            let message = format!("{} names no machine: one a line", file.display());
            Err(Failure::new(REFUSED, "input", message))
        }
        false => Ok(names),
    }
}

fn require_new(path: &Path) -> Result<()> {
    match path.symlink_metadata() {
        Ok(_) => {
            let message = format!("{} exists already, and is not overwritten", path.display());
            Err(Failure::new(REFUSED, "exists", message))
        }
        Err(_) => Ok(()),
    }
}

/// What the table of each machine is called.
fn file_names(sides: &Sides, of: impl Iterator<Item = u32>) -> Result<BTreeMap<u32, String>> {
    let mut names = BTreeMap::new();
    for side in of {
        // A tree that does not say what its machine is called is named by its path.
        let shown = &sides.all[side as usize].name;
        let name = shown.rsplit('/').next().unwrap_or(shown).to_owned();
        let is_taken = names.values().any(|known| *known == format!("{name}.csv"));
        if is_taken || name.is_empty() || name.starts_with('.') || name.contains('\0') {
            let message = format!(
                "a table can't be called after {shown:?}: compare snapshots, which say what their \
                 machines are called"
            );
            return Err(Failure::new(REFUSED, "no-name", message));
        }
        names.insert(side, format!("{name}.csv"));
    }
    Ok(names)
}

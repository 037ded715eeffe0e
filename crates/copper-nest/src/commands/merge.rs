//! `merge`.

use std::cell::RefCell;
use std::fs::OpenOptions;
use std::io::{ErrorKind, Read, Write};
use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

use bstr::ByteSlice;
use nest_core::account::AccountKind;
use nest_core::book::Book;
use nest_core::plan::tables::{
    Decisions, Merge, NewNumberOf, conflicts, merge, state_of, written_decisions, written_numbers,
};
use nest_core::surroundings::Surroundings;
use nest_core::value::UserOrGroup;
use nest_core::words::counted;

use super::even::ALL;
use super::export::Kind;
use super::intake::MOST_DETAILED;
use super::tables::quoted;
use super::{Asks, Even, FOUND, Failure, Global, REFUSED, Result, Session, UNTOUCHED};
use crate::view::faults;

/// Take another tree's accounts into this one.
///
/// What can't come as it is, a name for two people, one person under two names, a number for two, a
/// range that is not free, somebody who administers there, is listed with a proposal. The
/// proposals are written as decisions to be edited by --dry-run --decisions FILE, and taken with
/// --decisions FILE. Then all is one change: accounts with hashes, aging, suspensions and full
/// names, memberships by name. Homes are recorded, and copied by other means; --numbers-to writes
/// which numbers are others here, for renumber to give the copied files theirs. Nobody becomes
/// administrator by it without a decision that says so.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct MergeArgs {
    /// The root directory of the other system, or a copy of its account files below etc.
    #[arg(value_name = "TREE")]
    other: PathBuf,
    /// What is decided: with --dry-run a file that is not there is written, with proposals.
    #[arg(long, value_name = "FILE")]
    decisions: Option<PathBuf>,
    /// Which of its accounts, with the groups that they are in.
    #[arg(long, value_enum, value_name = "people|services|all", default_value = "people")]
    kind: Kind,
    /// A file that is to be made, with each number that is another one here than there.
    #[arg(long, value_name = "FILE")]
    numbers_to: Option<PathBuf>,
    #[command(flatten)]
    even: Even<ALL>,
}

const EXAMPLES: &str = "Examples:
  copper-nest merge /srv/images/harbour --dry-run --decisions harbour.toml
  copper-nest merge /srv/images/harbour --decisions harbour.toml --numbers-to numbers.csv
  copper-nest renumber numbers.csv --paths /home/odile,/home/perrin2";

/// A file of decisions that is longer than this is none.
const LONGEST: u64 = 64 << 20;

impl MergeArgs {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open(global)?;
        let there = Global { tree: self.other.clone(), state: None, ..global.clone() };
        self.require_another_tree(global)?;
        let other = Session::open_anyway(&there)?;
        let loaded = other.load()?;
        let world = other.world_to_look_at()?;
        if !loaded.book.unreadable.is_empty() {
            let message = format!(
                "nothing was merged: only root can read all account files of {}",
                self.other.display()
            );
            return Err(Failure::new(REFUSED, "unreadable", message));
        }
        let kinds = match self.kind {
            Kind::People => vec![AccountKind::Person],
            Kind::Services => vec![AccountKind::Service],
            Kind::All => vec![AccountKind::Person, AccountKind::Service],
        };
        let known = self.read_decisions()?;
        let many = loaded.book.users.records().count() > MOST_DETAILED;
        let mut request = Merge {
            other: &loaded.book,
            shown: self.other.display().to_string(),
            suspended: world.suspended(),
            windows: world.windows(),
            kinds,
            decisions: known.clone().unwrap_or_default(),
            numbers_are_written: self.numbers_to.is_some(),
            detailed: global.verbose > 0 || !many,
            overrides: self.even.read(),
        };
        let new_file = self.decisions.as_deref().filter(|_| known.is_none());
        match new_file {
            None => {}
            Some(path) if global.dry_run => {
                request.decisions = self.propose(&session, &request, path, global)?;
            }
            Some(path) => {
                let message = format!("there is no file {}; nothing was merged", path.display());
                let again = format!("merge {} --dry-run", quoted(&self.other));
                return Err(Failure::new(REFUSED, "no-decisions", message)
                    .or("have it written", format!("{again} --decisions {}", quoted(path))));
            }
        }
        let numbers_file = self.numbers_to.as_deref().filter(|_| !global.dry_run);
        let numbers_file = match numbers_file {
            Some(path) => Some((path, make(path)?)),
            None => None,
        };
        let numbers: RefCell<Vec<NewNumberOf>> = RefCell::default();
        let done = session.carry_out(&request, Asks::AtTerminal, |context| {
            let merged = merge(context, &request)?;
            numbers.replace(merged.numbers);
            Ok(merged.plan)
        });
        let status = match done {
            Ok(status) => status,
            Err(failure) => {
                if let Some((path, _)) = numbers_file {
                    _ = std::fs::remove_file(path);
                }
                return Err(self.with_ways(failure));
            }
        };
        if let Some((path, mut file)) = numbers_file {
            let text = written_numbers(&numbers.borrow());
            let written = file.write_all(text.as_bytes()).and_then(|()| file.sync_all());
            // The change stands: what the file was to hold is not lost.
            if let Err(error) = written {
                errln!("merged, but {} can't be written: {error}; it was to hold", path.display());
                errln!("{}", text.trim_end_matches('\n'));
                return Ok(FOUND);
            }
            if !global.quiet && !global.json() {
                let numbers = numbers.borrow();
                outln!("{}: {}", path.display(), counted(numbers.len(), "number", "numbers"));
                let homes = homes_of(&session.load()?.book, &numbers);
                if !homes.is_empty() {
                    let paths = shell_words::quote(&homes.join(",")).into_owned();
                    let renumber = format!("renumber {} --paths {paths}", quoted(path));
                    outln!("once the homes are copied: {}", global.command(&renumber));
                }
            }
        }
        if let Some(path) = new_file.filter(|_| !global.quiet && !global.json()) {
            let count = request.decisions.users.len() + request.decisions.groups.len();
            let decisions = counted(count, "decision", "decisions");
            outln!("{}: {decisions} proposed, to be read and edited", path.display());
            let merge = format!("merge {} --decisions {}", quoted(&self.other), quoted(path));
            outln!("next: {}", global.command(&merge));
        }
        Ok(status)
    }

    /// Nothing comes out of a tree into itself.
    fn require_another_tree(&self, global: &Global) -> Result<()> {
        let facts = |path: &Path| std::fs::metadata(path).ok().map(|it| (it.dev(), it.ino()));
        let (here, there) = (facts(&global.tree), facts(&self.other));
        if here.is_some() && here == there {
            let message = format!("{} is this very tree", self.other.display());
            return Err(Failure::new(REFUSED, "same-tree", message));
        }
        Ok(())
    }

    /// The decisions of the file, if it is there.
    fn read_decisions(&self) -> Result<Option<Decisions>> {
        let Some(path) = &self.decisions else { return Ok(None) };
        let shown = path.display();
        let unread = |error: std::io::Error| {
            Failure::new(REFUSED, "no-decisions", format!("{shown} can't be read: {error}"))
        };
        let file = match std::fs::File::open(path) {
            Ok(file) => file,
            Err(error) if error.kind() == ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(unread(error)),
        };
        let mut text = String::new();
        file.take(LONGEST + 1).read_to_string(&mut text).map_err(unread)?;
        if text.len() as u64 > LONGEST {
            let message = format!("{shown} is larger than 64 MiB: it holds no decisions");
            return Err(Failure::new(REFUSED, "no-decisions", message));
        }
        let decisions = Decisions::read(&text).map_err(|why| {
            Failure::new(REFUSED, "bad-decisions", format!("{shown}: {why}; nothing was merged"))
        })?;
        Ok(Some(decisions))
    }

    /// Writes what is proposed, and tells it.
    fn propose(
        &self,
        session: &Session<'_>,
        request: &Merge<'_>,
        path: &Path,
        global: &Global,
    ) -> Result<Decisions> {
        let found = session.before_asking(&[], |context| {
            let state = state_of(context.book, request.other);
            Ok((conflicts(context, request)?, state))
        })?;
        let (conflicts, state) = found;
        let text = written_decisions(&quoted(&self.other), &state, &conflicts);
        let mut file = make(path)?;
        file.write_all(text.as_bytes()).and_then(|()| file.sync_all()).map_err(|error| {
            let message = format!("{} can't be written: {error}", path.display());
            Failure::new(UNTOUCHED, "output", message)
        })?;
        if !conflicts.is_empty() && !global.quiet && !global.json() {
            let count = counted(conflicts.len(), "decision", "decisions");
            outln!("{count} that nobody but you can take; it goes on by what is proposed:");
            faults::tell(&nest_core::plan::tables::undecided(request, &conflicts), "proposed");
            outln!();
        }
        Ok(Decisions::proposed(state, &conflicts))
    }

    /// A refusal with the commands that lead on.
    fn with_ways(&self, failure: Failure) -> Failure {
        let again = format!("merge {}", quoted(&self.other));
        match (failure.kind, &self.decisions) {
            ("undecided", None) => failure.or(
                "write them down with these proposals, to be edited",
                format!("{again} --dry-run --decisions {}", new_beside(Path::new("merge.toml"))),
            ),
            ("undecided" | "other-state" | "nobody-to-decide", Some(path)) => failure.or(
                "write them anew, and compare the two files",
                format!("{again} --dry-run --decisions {}", new_beside(path)),
            ),
            _ => failure,
        }
    }
}

/// The homes of those whose numbers are others: nothing where they are too many to be told.
fn homes_of(book: &Book, numbers: &[NewNumberOf]) -> Vec<String> {
    const MOST: usize = 8;
    let users = numbers.iter().filter(|one| one.thing == UserOrGroup::User);
    let homes = users.filter_map(|one| book.user(&one.name).map(|(_, user)| user.home));
    let homes: Vec<String> =
        homes.filter_map(|home| Some(home.to_str().ok()?.to_owned())).collect();
    if homes.len() > MOST { Vec::new() } else { homes }
}

/// The path, or one beside it where that is taken, as a shell takes it.
fn new_beside(path: &Path) -> String {
    let stem = path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
    let numbered = (2..100).map(|number| path.with_file_name(format!("{stem}-{number}.toml")));
    let mut all = std::iter::once(path.to_owned()).chain(numbered);
    let free = all.find(|path| std::fs::symlink_metadata(path).is_err());
    quoted(&free.unwrap_or_else(|| path.to_owned()))
}

/// Makes a file that must not be there.
fn make(path: &Path) -> Result<std::fs::File> {
    let made = OpenOptions::new().write(true).create_new(true).mode(0o644).open(path);
    made.map_err(|error| {
        let shown = path.display();
        let (kind, why) = match error.kind() {
            ErrorKind::AlreadyExists => ("exists", "exists already, and is not overwritten".into()),
            _ => ("output", format!("can't be made: {error}")),
        };
        Failure::new(REFUSED, kind, format!("{shown} {why}; nothing was merged"))
    })
}

//! `renumber`.

use std::ffi::OsString;
use std::path::PathBuf;

use bstr::BString;
use nest_core::book::Lookups;
use nest_core::plan::numbers::{Renumber, renumber};
use nest_core::roster::{Form, NumberTable};
use nest_host::store;
use nest_host::tree::Tree;

use super::even::{BUSY, LAST_ADMIN, ME, SERVICE};
use super::intake::MOST_DETAILED;
use super::tables::{FormArg, source};
use super::{Asks, Even, Failure, Global, Result, Session, USAGE, bytes};

/// Give many users and groups other numbers at once, with all their files.
///
/// A table says which, with the columns or keys kind, name and id; or another tree
/// does, by the numbers that the same names have there. It is judged by what the
/// files say in the end, so that numbers can be exchanged. Every file on every local
/// file system of the tree goes along, whatever other names it has, with set-id bits,
/// capabilities and access control lists. Undo gives all of them their old numbers.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct RenumberArgs {
    /// The tables; - is standard input.
    #[arg(value_name = "FILE|-", required_unless_present = "like", conflicts_with = "like")]
    files: Vec<PathBuf>,
    /// Take the numbers that the same names have in another tree.
    #[arg(long, value_name = "TREE")]
    like: Option<PathBuf>,
    /// How the tables are written, where the ending does not say so.
    #[arg(long, value_enum, value_name = "csv|json|toml")]
    from: Option<FormArg>,
    /// Users and groups that keep their numbers.
    #[arg(long, value_name = "NAME,…", value_delimiter = ',')]
    except: Vec<OsString>,
    /// Where to look for files, as paths in the tree; everywhere without one.
    #[arg(long, value_name = "PATH,…", value_delimiter = ',')]
    paths: Vec<OsString>,
    /// Stay on the file system of each path.
    #[arg(long)]
    stay: bool,
    /// A group that is a user's own keeps its gid unless a row says otherwise. Else
    /// it goes along.
    #[arg(long)]
    keep_gid: bool,
    /// Take numbers that others had and that are retired.
    #[arg(long)]
    reuse_id: bool,
    #[command(flatten)]
    even: Even<{ ME | LAST_ADMIN | SERVICE | BUSY }>,
}

const EXAMPLES: &str = "Examples:
  copper-nest renumber numbers.csv --dry-run
  copper-nest renumber --like /srv/images/harbour --except root,nobody";

impl RenumberArgs {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        if self.files.iter().filter(|file| file.as_os_str() == "-").count() > 1 {
            return Err(Failure::new(USAGE, "usage", "standard input can be read once only"));
        }
        let session = Session::open(global)?;
        let (table, summary) = match &self.like {
            Some(like) => {
                let other = store::load(&Tree::open(like)?, &Lookups::whole(), false)?;
                let shown = like.display().to_string();
                (NumberTable::like(&shown, &other.book), format!("renumber --like {shown}"))
            }
            None => {
                let read = |file: &PathBuf| source(file, self.from.map(Form::from), "renumber");
                let sources = self.files.iter().map(read).collect::<Result<Vec<_>, _>>()?;
                let shown: Vec<&str> = sources.iter().map(|source| &*source.shown).collect();
                let summary = format!("renumber {}", shown.join(" "));
                (NumberTable::read(sources), summary)
            }
        };
        let all = |words: &[OsString]| words.iter().map(bytes::<BString>).collect();
        let request = Renumber {
            detailed: table.rows.len() <= MOST_DETAILED || global.verbose > 0,
            table,
            like: self.like.is_some(),
            except: all(&self.except),
            paths: all(&self.paths),
            stay: self.stay,
            keep_gid: self.keep_gid,
            reuse_id: self.reuse_id,
            summary,
            overrides: self.even.read(),
        };
        session.carry_out(&request, Asks::First, |context| renumber(context, &request))
    }
}

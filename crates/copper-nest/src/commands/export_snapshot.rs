//! `export snapshot`.

use std::collections::BTreeMap;
use std::io::Write;
use std::path::PathBuf;
use std::sync::Mutex;

use nest_core::snapshot::{Snapshot, SnapshotOf, take};
use nest_host::walk::{Met, WalkScope, walk};

use super::new_file::write_new;
use super::{Failure, Global, REFUSED, Result, Session, UNTOUCHED, require_shadow};
use crate::view::trace::tell_unseen;

/// Write what the files of a machine say as one document, for compare.
///
/// Users, groups, numbers and ranges, who can sign in, who can become root and how, which policy
/// is gone by; no hash and no key, of keys the fingerprints. The same files give the same
/// document but for its time.
#[derive(Debug, clap::Args)]
#[command(name = "snapshot", after_help = EXAMPLES)]
pub struct ExportSnapshot {
    /// A file that is to be made; one that ends in .zst is packed.
    #[arg(long, value_name = "FILE")]
    to: Option<PathBuf>,
    /// Pack it with zstd.
    #[arg(long)]
    packed: bool,
    /// Count the files of each number, too: then compare knows whose number costs least to
    /// change. Takes as long as looking through all of the tree.
    #[arg(long)]
    count_files: bool,
}

const EXAMPLES: &str = "Examples:
  copper-nest export snapshot --to harbour.json
  ssh quay copper-nest export snapshot > snapshots/quay.json
  copper-nest --tree /srv/image export snapshot --packed --to image.json.zst";

impl ExportSnapshot {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open_anyway(global)?;
        let text = with_snapshot(&session, self.count_files, |snapshot| snapshot.to_text())?;
        let by_name = self.to.as_deref().and_then(|path| path.extension());
        let packed = self.packed || by_name.is_some_and(|ending| ending == "zst");
        let bytes = match packed {
            true => nest_host::packed::pack(text.as_bytes()).map_err(|error| {
                Failure::new(UNTOUCHED, "output", format!("it can't be packed: {error}"))
            })?,
            false => text.into_bytes(),
        };
        let Some(path) = &self.to else {
            if !packed {
                crate::output::print_lines(&String::from_utf8_lossy(&bytes));
                return Ok(0);
            }
            let written = std::io::stdout().lock().write_all(&bytes);
            return written.map(|()| 0).map_err(|error| {
                Failure::new(UNTOUCHED, "output", format!("it can't be written: {error}"))
            });
        };
        write_new(path, &bytes, 0o644)?;
        if !global.quiet && !global.json() {
            outln!("{}: {} bytes", path.display(), bytes.len());
            outln!("next: copper-nest compare {} OTHER", super::tables::quoted(path));
        }
        Ok(0)
    }
}

/// Takes a snapshot of a tree, for whoever wants it.
///
/// # Errors
/// The tree can't be read, or not its shadow file: what is said of signing in would be wrong.
pub fn with_snapshot<T>(
    session: &Session<'_>,
    count_files: bool,
    then: impl FnOnce(&Snapshot<'_>) -> T,
) -> Result<T> {
    let loaded = session.load()?;
    require_shadow(&loaded.book, "nothing was taken")?;
    let world = session.world_to_look_at()?;
    let counts = match count_files {
        true => Some(count(session)?),
        false => None,
    };
    let (files_of_users, files_of_groups) = counts.unzip();
    let of = SnapshotOf {
        program: env!("CARGO_PKG_VERSION").to_owned(),
        time: session.time(),
        files_of_users,
        files_of_groups,
    };
    Ok(then(&take(session.context(&loaded, &world), &of)))
}

type Counts = BTreeMap<u32, u64>;

/// How many files carry each number, as uid and as gid.
fn count(session: &Session<'_>) -> Result<(Counts, Counts)> {
    let counts = Mutex::new((Counts::new(), Counts::new()));
    let tell = |met: &Met<'_>| {
        let mut counts = counts.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
        *counts.0.entry(met.status.uid).or_default() += 1;
        *counts.1.entry(met.status.gid).or_default() += 1;
    };
    let unseen = walk(&session.tree, WalkScope::default(), &tell).map_err(|(path, error)| {
        let message = format!("{path} can't be looked through: {error}");
        Failure::new(REFUSED, "no-path", message)
    })?;
    tell_unseen(&unseen);
    Ok(counts.into_inner().unwrap_or_else(|poisoned| poisoned.into_inner()))
}

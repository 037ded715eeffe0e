//! `suspend user`, `resume user`.

use std::time::Duration;

use nest_core::plan::users::{Resume, Suspend, resume, suspend};
use nest_core::value::UserName;
use nest_core::words::counted;
use nest_host::processes::{self, Ended};

use super::even::{LAST_ADMIN, ME, ROOT, SERVICE};
use super::{Asks, Even, Global, Names, Result, Session};

/// Keep accounts out for a while: no sign-in by any way, all else stays.
///
/// The password is locked and the account expired; how it was before is
/// remembered, and resume gives exactly that back.
#[derive(Debug, clap::Args)]
#[command(name = "user", after_help = SUSPEND)]
pub struct SuspendUser {
    #[command(flatten)]
    names: Names,
    /// Why, for whoever looks later.
    #[arg(long, value_name = "TEXT")]
    reason: Option<String>,
    /// End what runs under the account: ask it to stop, wait, then make it.
    #[arg(long)]
    end_processes: bool,
    #[command(flatten)]
    even: Even<{ ROOT | ME | LAST_ADMIN | SERVICE }>,
}

const SUSPEND: &str = "Examples:
  copper-nest suspend user maren --reason \"on leave until May\"
  copper-nest suspend user perrin --end-processes";

/// How long processes have to end by themselves.
const PATIENCE: Duration = Duration::from_secs(5);

impl SuspendUser {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open_anyway(global)?;
        let request = Suspend {
            names: self.names.read()?,
            reason: self.reason.clone(),
            end_processes: self.end_processes,
            overrides: self.even.read(),
        };
        let status =
            session.carry_out(&request, Asks::Nothing, |context| suspend(context, &request))?;
        if self.end_processes && !global.dry_run && session.tree.is_live() {
            end_processes(&session, &request.names)?;
        }
        Ok(status)
    }
}

/// Ends what runs under accounts that are kept out, and says so.
fn end_processes(session: &Session<'_>, names: &[UserName]) -> Result<()> {
    let loaded = session.load()?;
    for name in names {
        let uid = loaded.book.user(name).and_then(|(_, user)| user.uid());
        let Some(uid) = uid else { continue };
        let Ended { ended, left } = processes::end(uid, PATIENCE);
        if ended > 0 && !session.global.quiet {
            errln!("{name}: {}", counted(ended, "process was ended", "processes were ended"));
        }
        for process in left {
            errln!("{name}: process {} ({}) is still there", process.pid, process.command);
        }
    }
    Ok(())
}

/// Let suspended accounts back in, just as they were.
#[derive(Debug, clap::Args)]
#[command(name = "user", after_help = RESUME)]
pub struct ResumeUser {
    #[command(flatten)]
    names: Names,
}

const RESUME: &str = "Examples:
  copper-nest resume user maren
  copper-nest list users --suspended";

impl ResumeUser {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        let session = Session::open(global)?;
        let request = Resume { names: self.names.read()? };
        session.carry_out(&request, Asks::Nothing, |context| resume(context, &request))
    }
}

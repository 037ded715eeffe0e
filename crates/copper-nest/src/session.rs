//! One run of the program on one tree: the tree, its policy, today, and the one
//! way in which a change is carried out.

use std::path::Path;
use std::time::Duration;

use nest_core::plan::{Ground, Plan, Refusal};
use nest_core::policy::Policy;
use nest_core::value::Day;
use nest_host::lock::Lock;
use nest_host::retired::{self, State};
use nest_host::store::{self, Focus, Loaded};
use nest_host::surroundings::World;
use nest_host::tree::Tree;
use rustix::fs::{Access, AtFlags};

use crate::cli::Global;
use crate::failure::{Failure, REFUSED, UNTOUCHED};
use crate::view::receipt;

/// Where the policy of a tree is.
pub const POLICY: &str = "etc/copper-nest/policy.toml";

/// The opened tree and what goes for it.
pub struct Session<'g> {
    pub global: &'g Global,
    pub tree: Tree,
    pub policy: Policy,
    pub today: Day,
    state: State,
}

impl<'g> Session<'g> {
    /// Opens the tree and reads its policy.
    pub fn open(global: &'g Global) -> Result<Self, Failure> {
        let tree = Tree::open(&global.tree)?;
        let policy = read_policy(global, &tree)?;
        let state = match global.state.as_deref() {
            None => State::InTree,
            Some(path) if path == Path::new("none") => State::Nowhere,
            Some(path) => State::At(path.to_owned()),
        };
        Ok(Session { global, tree, policy, today: today()?, state })
    }

    /// Loads the account files.
    pub fn load(&self) -> Result<Loaded, Failure> {
        self.load_some(&Focus::new())
    }

    /// Loads the account files, but of large ones in `focus` only some lines.
    pub fn load_some(&self, focus: &Focus) -> Result<Loaded, Failure> {
        Ok(store::load(&self.tree, focus)?)
    }

    /// The world around the files. Without the right to read the retired
    /// numbers, looking goes on without them.
    pub fn world_to_look_at(&self) -> Result<World<'_>, Failure> {
        match retired::read(&self.tree, &self.state) {
            Err(retired::RetiredError::Unread { path, error }) => {
                tracing::info!(path, %error, "the retired numbers can't be read");
                Ok(World::new(&self.tree, nest_core::surroundings::Retired::default()))
            }
            retired => Ok(World::new(&self.tree, retired?)),
        }
    }

    /// What planners and rules go by.
    pub fn ground<'a>(&'a self, loaded: &'a Loaded, world: &'a World<'_>) -> Ground<'a> {
        Ground { book: &loaded.book, policy: &self.policy, world, today: self.today }
    }

    /// Plans a change, carries it out and shows the receipt. The plan is made
    /// before the lock is taken, so that a request that will be refused holds
    /// nobody up; and again under the lock where the files are others by then.
    pub fn carry_out(
        &self,
        focus: &Focus,
        planner: impl Fn(Ground<'_>) -> Result<Plan, Box<Refusal>>,
    ) -> Result<u8, Failure> {
        self.require_rights()?;
        let mut loaded = self.load_some(focus)?;
        let mut planned = self.plan(&loaded, &planner);
        if planned.is_err() && !focus.is_empty() {
            // A refusal is worth the whole truth: the nearest names, say.
            loaded = self.load()?;
            planned = self.plan(&loaded, &planner);
        }
        let mut plan = planned?;
        if self.global.dry_run {
            receipt::show(self.global, &plan, None);
            return Ok(0);
        }
        let lock = self.lock()?;
        if !loaded.is_current(&self.tree) {
            loaded = self.load_some(focus)?;
            plan = self.plan(&loaded, &planner)?;
        }
        let outcome = nest_host::commit::commit(&lock, &self.tree, &loaded, &plan)?;
        drop(lock);
        receipt::show(self.global, &plan, Some(&outcome));
        loaded.release();
        Ok(0)
    }

    fn plan(
        &self,
        loaded: &Loaded,
        planner: &impl Fn(Ground<'_>) -> Result<Plan, Box<Refusal>>,
    ) -> Result<Plan, Failure> {
        if let Some((file, why)) = loaded.book.unreadable.first_key_value() {
            let message = format!("{} can't be read: {why}", file.path());
            return Err(Failure::new(UNTOUCHED, "unreadable", message));
        }
        let world = World::new(&self.tree, retired::read(&self.tree, &self.state)?);
        Ok(planner(self.ground(loaded, &world))?)
    }

    fn lock(&self) -> Result<Lock, Failure> {
        let wait = Duration::from_secs(self.global.wait);
        let quiet = self.global.quiet;
        Ok(Lock::take(&self.tree, wait, &mut |holder| {
            if !quiet {
                anstream::eprintln!("waiting for the account files, which are locked by {holder}");
            }
        })?)
    }

    /// Refuses at once where nothing could be written in the end.
    fn require_rights(&self) -> Result<(), Failure> {
        let etc = self.tree.locate("etc").and_then(|etc| {
            rustix::fs::accessat(&etc.directory, &etc.name, Access::WRITE_OK, AtFlags::EACCESS)
        });
        match etc {
            Err(_) if self.tree.is_live() => Err(Failure::new(
                REFUSED,
                "needs-root",
                "only root can change the accounts of this machine; nothing was changed",
            )),
            Err(error) if error != rustix::io::Errno::NOENT => {
                let etc = self.tree.path().join("etc");
                let message =
                    format!("{} can't be written: {error}; nothing was changed", etc.display());
                Err(Failure::new(REFUSED, "no-rights", message))
            }
            _ => Ok(()),
        }
    }
}

fn read_policy(global: &Global, tree: &Tree) -> Result<Policy, Failure> {
    let (shown, text) = match &global.policy {
        Some(path) => (path.display().to_string(), std::fs::read(path)),
        None => (POLICY.to_owned(), tree.read(POLICY)),
    };
    let unreadable = |why: String| {
        Failure::new(REFUSED, "policy", format!("the policy {shown} can't be read: {why}"))
    };
    match text {
        Ok(text) => {
            let text = String::from_utf8(text).map_err(|_| unreadable("it is not UTF-8".into()))?;
            Ok(Policy::read(&shown, &text)?)
        }
        Err(error) if error.kind() == std::io::ErrorKind::NotFound && global.policy.is_none() => {
            Ok(Policy::default())
        }
        Err(error) => Err(unreadable(error.to_string())),
    }
}

/// The day that new records carry: of `SOURCE_DATE_EPOCH` where that is set, so
/// that an image built twice is the same twice
/// (<https://reproducible-builds.org/specs/source-date-epoch/>).
fn today() -> Result<Day, Failure> {
    let refuse = |message: String| Err(Failure::new(REFUSED, "clock", message));
    let (seconds, source) = match std::env::var("SOURCE_DATE_EPOCH") {
        Ok(text) => match text.parse::<i64>() {
            Ok(seconds) => (seconds, "SOURCE_DATE_EPOCH"),
            Err(_) => {
                return refuse(format!(
                    "SOURCE_DATE_EPOCH is \"{text}\", which is no number of seconds"
                ));
            }
        },
        Err(_) => {
            let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
            (now.map_or(0, |now| now.as_secs() as i64), "the clock")
        }
    };
    let today = Day::of_seconds(seconds);
    if today < Day::EARLIEST_TODAY {
        return refuse(format!(
            "{source} says {today}, which can't be: dates in the account files would be wrong, \
             and passwords seem to be expired. Set it right first"
        ));
    }
    Ok(today)
}

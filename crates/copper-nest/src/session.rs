//! One run of the program on one tree: the tree, its policy, today, and the one
//! way in which a change is carried out.

mod consent;
pub mod history;
pub mod many;
pub mod telling;

use std::cell::RefCell;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use nest_core::book::Lookups;
use nest_core::change::Plan;
use nest_core::consequences;
use nest_core::context::PlanContext;
use nest_core::policy::Policy;
use nest_core::record::{ChangeRecord, Told};
use nest_core::refusal::Refusal;
use nest_core::request::{GuardOverrides, Request};
use nest_core::retired::RetiredAccount;
use nest_core::value::{Day, UserName};
use nest_core::words::in_full;
use nest_host::changes;
use nest_host::commit::{Circumstances, commit};
use nest_host::lock::Lock;
use nest_host::recover::{self, Foreign};
use nest_host::reown::Earlier;
use nest_host::retired::{self, RetiredError};
use nest_host::state::{Fault, Folder, Notices, State};
use nest_host::store::{self, Loaded};
use nest_host::surroundings::World;
use nest_host::suspended;
use nest_host::tree::Tree;
use nest_host::zone::zone_of;
use rustix::fs::{Access, AtFlags};

use self::many::OneOfMany;
use crate::author::author;
use crate::cli::Global;
use crate::clock::Now;
use crate::failure::{Failure, REFUSED, Result, UNTOUCHED, spell_out};
use crate::policy_file;
use crate::view::{Bar, receipt, visible, visible_line};

pub use consent::Asks;
pub use telling::recovered_in_words;

/// The opened tree and what goes for it.
pub struct Session<'g> {
    pub global: &'g Global,
    pub tree: Tree,
    pub policy: Policy,
    pub today: Day,
    pub state: State,
    now: Now,
    /// Files that were found while a change was planned.
    earlier: Arc<Earlier>,
    /// What was passed over, to be told at the end.
    notices: Notices,
    /// What a receipt for machines tells besides, under this name.
    pub beside: receipt::Beside,
}

/// Makes a plan of what the account files say.
type Planner<'p> = dyn Fn(PlanContext<'_>) -> Result<Plan, Box<Refusal>> + 'p;

/// What was passed over is told once, after everything else.
impl Drop for Session<'_> {
    fn drop(&mut self) {
        // They were told when it was planned.
        if self.global.many.as_ref().is_some_and(|many| !many.only_plans()) {
            return;
        }
        for passed in self.notices.take() {
            errln!("{}", visible(passed.to_string().as_bytes()));
        }
    }
}

impl<'g> Session<'g> {
    /// Opens the tree and reads its policy.
    pub fn open(global: &'g Global) -> Result<Self> {
        let tree = Tree::open(&global.tree)?;
        let policy = policy_file::read(global, &tree)?;
        Self::with(global, tree, policy)
    }

    /// The same for what only looks, and for what can't wait until a policy is mended: where
    /// that is at fault it says so, and goes by the built-in settings.
    pub fn open_anyway(global: &'g Global) -> Result<Self> {
        let tree = Tree::open(&global.tree)?;
        let policy = policy_file::read(global, &tree).unwrap_or_else(|fault| {
            for line in fault.message().lines() {
                errln!("{}", visible_line(line.as_bytes()));
            }
            errln!("the built-in settings are gone by until that is mended");
            Policy::default()
        });
        Self::with(global, tree, policy)
    }

    fn with(global: &'g Global, tree: Tree, policy: Policy) -> Result<Self> {
        let state = match global.state.as_deref() {
            None => State::InTree,
            Some(path) if path == Path::new("none") => State::Nowhere,
            Some(path) => State::At(path.to_owned()),
        };
        let now = Now::read()?;
        let notices = Notices::default();
        let earlier = Arc::default();
        let (today, beside) = (now.today(), RefCell::default());
        Ok(Session { global, tree, policy, today, state, now, earlier, notices, beside })
    }

    /// When this run began, as RFC 3339 writes it.
    pub fn time(&self) -> String {
        self.now.zoned()
    }

    /// Loads the account files.
    pub fn load(&self) -> Result<Loaded> {
        self.load_some(&Lookups::whole(), false)
    }

    /// Loads the account files to go through them once; see [`store::load_in_passing`].
    pub fn load_in_passing(&self) -> Result<Loaded> {
        Ok(store::load_in_passing(&self.tree)?)
    }

    /// Loads the account files, but of large ones only what will be looked up; see
    /// [`store::load`].
    pub fn load_some(&self, lookups: &Lookups, digests: bool) -> Result<Loaded> {
        Ok(store::load(&self.tree, lookups, digests)?)
    }

    /// The world around the files. Where the retired numbers, or what suspended accounts
    /// were like, can't be read or understood, that is told, and goes on without them.
    pub fn world_to_look_at(&self) -> Result<World<'_>> {
        let world = match retired::read(&self.tree, &self.state) {
            Ok(retired) => World::new(&self.tree, retired),
            Err(error) => {
                tracing::info!(%error, "the retired numbers can't be read");
                self.note_fault(&error);
                let world = World::new(&self.tree, nest_core::retired_ids::RetiredIds::default());
                world.without_retired(in_full(&error))
            }
        };
        let suspended = suspended::read(&self.tree, &self.state).unwrap_or_else(|error| {
            self.note_fault(&error);
            Vec::new()
        });
        let world = world.with_unfinished(self.unfinished()).with_suspended(suspended);
        let world = world.with_state(&self.state).finding_for(&self.earlier);
        let moment = self.now.in_week(zone_of(&self.tree));
        Ok(world.at(moment).telling(&self.notices))
    }

    /// Notes a file that is passed over. That one is closed to whoever is not root is
    /// said where it matters.
    fn note_fault(&self, error: &RetiredError) {
        let closed = matches!(
            error,
            RetiredError::State(_) | RetiredError::Fault { fault: Fault::Unread(_), .. }
        );
        if !closed || rustix::process::geteuid().is_root() {
            self.notices.note([error.passed_over()]);
        }
    }

    /// What stops everything is told once.
    fn forget(&self, error: &RetiredError) {
        if let RetiredError::Fault { path, .. } = error {
            self.notices.forget(path);
        }
    }

    /// The records of changes; what can't be understood is told, and left out.
    pub fn records(&self, folder: &Folder) -> Result<Vec<ChangeRecord>> {
        let records = changes::read_records(folder)?;
        self.notices.note(records.passed_over);
        Ok(records.all)
    }

    /// The records of changes, where there are any.
    pub fn records_kept(&self) -> Result<Vec<ChangeRecord>> {
        if self.state == State::Nowhere {
            return Ok(Vec::new());
        }
        match self.changes_folder()? {
            Some(folder) => self.records(&folder),
            None => Ok(Vec::new()),
        }
    }

    /// What is kept of deleted accounts; what can't be understood is told, and left out.
    pub fn kept(&self) -> Result<Vec<RetiredAccount>> {
        let kept = nest_host::kept::read(&self.tree, &self.state)?;
        self.notices.note(kept.passed_over);
        Ok(kept.accounts)
    }

    /// What planners and rules go by.
    pub fn context<'a>(&'a self, loaded: &'a Loaded, world: &'a World<'_>) -> PlanContext<'a> {
        PlanContext {
            book: &loaded.book,
            policy: &self.policy,
            world,
            today: self.today,
            change: None,
        }
    }

    /// Plans a change, carries it out and shows the receipt. The plan is made,
    /// shown and asked about before the lock is taken, so that nobody is held up;
    /// and made again under the lock where the files are others by then.
    pub fn carry_out(
        &self,
        request: &dyn Request,
        asks: Asks,
        planner: impl Fn(PlanContext<'_>) -> Result<Plan, Box<Refusal>>,
    ) -> Result {
        // Once for all planners, of which there is one a command.
        self.carry_out_by(request, asks, &planner)
    }

    fn carry_out_by(&self, request: &dyn Request, asks: Asks, planner: &Planner<'_>) -> Result {
        self.require_rights()?;
        let many = self.global.many.as_deref();
        let only_plans = many.is_some_and(OneOfMany::only_plans);
        if self.global.dry_run || only_plans {
            self.tell_unfinished();
        } else if recover::unfinished(&self.tree, &self.state)?.is_some() {
            self.recover(&self.lock()?)?;
        }
        let (lookups, overrides) = (request.lookups(&self.policy), request.overrides());
        let mut loaded = self.load_some(&lookups, true)?;
        let mut planned = self.plan(&loaded, overrides, planner);
        if planned.is_err() && !lookups.is_whole() {
            // A refusal is worth the whole truth: the nearest names, say.
            loaded = self.load()?;
            planned = self.plan(&loaded, overrides, planner);
        }
        let (mut plan, mut number) = planned?;
        if let Some(many) = many.filter(|_| only_plans) {
            many.plan(Told::of(&plan), asks, plan.nothing);
            return Ok(0);
        }
        if plan.nothing || self.global.dry_run {
            let stage = match plan.nothing {
                true => receipt::Stage::Nothing,
                false => receipt::Stage::DryRun,
            };
            if let Some(many) = many {
                // Between the plan and now somebody else has done it.
                let receipt = receipt::to_json(self.global, &Told::of(&plan), stage);
                many.keep(None, receipt);
                return Ok(0);
            }
            receipt::show(self.global, &self.told(&mut plan), stage, &self.beside);
            // The process ends: freeing line by line would only take time.
            std::mem::forget((plan, loaded));
            return Ok(0);
        }
        let mut shown = self.ask(asks, &plan)?;
        let (lock, folder) = loop {
            let lock = self.lock()?;
            let recovered = self.recover(&lock)?;
            let folder = self.state.open(&self.tree)?;
            let current = self.next_number(folder.as_ref())? == number;
            if !recovered && current && loaded.is_current(&self.tree) {
                break (lock, folder);
            }
            loaded = self.load_some(&lookups, true)?;
            let (again, new_number) = self.plan(&loaded, overrides, planner)?;
            let same = again == plan;
            (plan, number) = (again, new_number);
            if same || asks == Asks::Nothing {
                break (lock, folder);
            }
            // What was agreed to is not what would happen now.
            drop(lock);
            errln!("the account files were changed in the meantime; the plan is now:");
            shown = self.ask(asks, &plan)?;
        };
        let other_hands = history::other_hands(folder.as_ref(), &loaded)?;
        drop(folder);
        let circumstances = Circumstances {
            earlier: Arc::clone(&self.earlier),
            by: author(),
            time: self.now.zoned(),
            today: self.today,
            arguments: std::env::args_os()
                .skip(1)
                .map(|word| word.to_string_lossy().into())
                .collect(),
            note: self.global.note.clone(),
            other_hands,
            keep_days: self.policy.changes_keep_days,
            retired: match plan.needs_numbers() {
                true => retired::read(&self.tree, &self.state)?,
                false => nest_core::retired_ids::RetiredIds::default(),
            },
            suspended: match plan.needs_suspended() {
                true => suspended::read(&self.tree, &self.state)?,
                false => Vec::new(),
            },
        };
        let bar = Bar::default();
        let committed =
            commit(&lock, &self.tree, &self.state, &loaded, &plan, &circumstances, &bar);
        bar.clear();
        self.log(&plan, &circumstances, &committed);
        let outcome = committed?;
        drop(lock);
        if let Some(many) = many {
            let told = Told::of(&plan);
            let receipt = receipt::to_json(self.global, &told, receipt::Stage::Done(&outcome));
            many.keep(outcome.number, receipt);
            return Ok(0);
        }
        let mut told = self.told(&mut plan);
        if shown {
            told.cautions.clear();
        }
        told.cautions.splice(0..0, circumstances.other_hands.iter().map(ToString::to_string));
        let stage = match shown {
            true => receipt::Stage::DoneAsShown(&outcome),
            false => receipt::Stage::Done(&outcome),
        };
        receipt::show(self.global, &told, stage, &self.beside);
        crate::output::forgive();
        loaded.release();
        // The process ends: freeing line by line would only take time.
        std::mem::forget((plan, told));
        Ok(0)
    }

    /// What a receipt tells of a plan that is done with.
    fn told(&self, plan: &mut Plan) -> Told {
        let json = self.global.json();
        match plan.subjects.is_empty() && !plan.totals.is_empty() && !json
            || self.global.quiet && !json
        {
            true => {
                // It may be about very many.
                let access = std::mem::take(&mut plan.access);
                Told { access, ..Told::outline(plan) }
            }
            false => Told::of(plan),
        }
    }

    /// Finishes or rolls back what a crash left, and says so. Returns whether
    /// there was anything.
    pub fn recover(&self, lock: &Lock) -> Result<bool> {
        let recovered = recover::recover(lock, &self.tree, &self.state, Foreign::Refused)?;
        let Some(recovered) = recovered else { return Ok(false) };
        errln!("{}", recovered_in_words(&recovered));
        Ok(true)
    }

    /// The change that a crash left unfinished, as far as it can be told.
    pub fn unfinished(&self) -> Option<String> {
        let unfinished = match recover::unfinished(&self.tree, &self.state) {
            Ok(unfinished) => unfinished,
            Err(error) => {
                tracing::info!(%error, "the journal can't be read");
                None
            }
        };
        let unfinished = unfinished.map(|unfinished| unfinished.what);
        unfinished.filter(|_| !recover::is_being_changed(&self.tree))
    }

    /// The folder with the records of changes, for looking at.
    pub fn changes_folder(&self) -> Result<Option<Folder>> {
        if self.state == State::Nowhere {
            let message = "with --state none no changes are kept, and none can be looked up";
            return Err(Failure::new(REFUSED, "no-state", message));
        }
        Ok(self.state.open(&self.tree)?)
    }

    fn next_number(&self, folder: Option<&Folder>) -> Result<Option<u64>> {
        match self.state {
            State::Nowhere => Ok(None),
            _ => Ok(Some(changes::next_number(folder)?)),
        }
    }

    /// Looks at the accounts, these users above all, before the administrator is asked
    /// for anything.
    pub fn before_asking<T>(
        &self,
        names: &[UserName],
        look: impl Fn(PlanContext<'_>) -> Result<T, Box<Refusal>>,
    ) -> Result<T> {
        let loaded = self.load_some(&Lookups::whole().names(names), false)?;
        let world = self.world_to_look_at()?;
        Ok(look(self.context(&loaded, &world))?)
    }

    fn plan(
        &self,
        loaded: &Loaded,
        overrides: GuardOverrides,
        planner: &Planner<'_>,
    ) -> Result<(Plan, Option<u64>)> {
        if let Some((file, why)) = loaded.book.unreadable.first_key_value() {
            let message = format!("{} can't be read: {why}", file.path());
            return Err(Failure::new(UNTOUCHED, "unreadable", message));
        }
        let world = self.world_to_look_at()?.seen_by(author().uid);
        let change = self.next_number(self.state.open(&self.tree)?.as_ref())?;
        let context = PlanContext { change, ..self.context(loaded, &world) };
        let plan = planner(context)?;
        let undoes = plan.undoes;
        let plan = consequences::judge(context, plan, overrides).map_err(|mut refusal| {
            spell_out(&mut refusal.ways, undoes);
            refusal
        })?;
        // Numbers must not be given without knowing which are retired, and what is known of
        // suspended accounts must not be lost.
        if plan.needs_numbers() && context.world.retired_is_known().is_err() {
            retired::read(&self.tree, &self.state).inspect_err(|error| self.forget(error))?;
        }
        if plan.needs_suspended() {
            suspended::read(&self.tree, &self.state).inspect_err(|error| self.forget(error))?;
        }
        Ok((plan, change))
    }

    /// Takes the account-file lock.
    pub fn lock(&self) -> Result<Lock> {
        let wait = Duration::from_secs(self.global.wait);
        let quiet = self.global.quiet;
        Ok(Lock::acquire(&self.tree, wait, &mut |holder| {
            if !quiet {
                errln!("waiting for the account files, which are locked by {holder}");
            }
        })?)
    }

    /// Refuses at once where nothing could be written in the end.
    pub fn require_rights(&self) -> Result<()> {
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

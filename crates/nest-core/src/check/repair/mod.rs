//! Mending what has one right answer: nobody gains access by it, nothing is lost.

mod drop_window;
pub(super) mod edits;
mod keep;
pub(super) mod mends;
mod named;
mod set_aside;

use std::collections::{BTreeMap, HashSet};

use bstr::{BStr, BString};

use self::edits::RepairEdits;
use self::keep::keep_hashes;
use self::mends::Mending;
use super::files::{CLOSED_MODE, LOOSE_MODE, right_access};
use super::lost::LostLines;
use super::rule::{Mend, RULES, Rule};
use super::{CheckReport, Finding, Selection, check};
use crate::book::Lookups;
use crate::change::{Plan, Step, Subject};
use crate::consequences::Consequences;
use crate::context::PlanContext;
use crate::drafting::plan_home;
use crate::ownership::{Access, Owner};
use crate::policy::Policy;
use crate::refusal::{Refusal, Result};
use crate::request::{CreateUser, GuardOverrides, Request};
use crate::secret::{hash_of, shown};
use crate::table::{File, Lines};
use crate::words::counted;

/// So often the files are looked at again for what a mend brought to light.
const MOST_ROUNDS: usize = 8;

/// What is to be mended.
#[derive(Debug, Clone, Default)]
pub struct Repair {
    /// Of these rules.
    pub selection: Selection,
    /// These lines, counted from 1, are taken out, and nothing else is done.
    pub take_out: Vec<(File, usize)>,
    /// These lines, counted from 1, get other text, and nothing else is done. A line that is
    /// given twice becomes two.
    pub set: Vec<(File, usize, BString)>,
    /// These paths, which an account left that is gone, are set aside, and nothing else is
    /// done.
    pub set_aside: Vec<BString>,
    /// Lines about the hours and places of these names, whom nobody is any more, are taken
    /// out, and nothing else is done.
    pub drop_windows: Vec<BString>,
    /// Guards waved through.
    pub overrides: GuardOverrides,
}

/// What a repair does, and what it leaves.
#[derive(Debug)]
pub struct Repaired {
    /// The mends.
    pub plan: Plan,
    /// What takes a decision, as it will be found afterwards.
    pub left: CheckReport,
}

/// Mends what a finding is about.
pub(super) type LineMend = fn(&mut Mending<'_, '_>) -> Option<String>;

impl Rule {
    /// What mends the lines that it finds.
    fn line_mend(&self) -> Option<LineMend> {
        match self.mend {
            Mend::Line(mend) | Mend::Beside(mend) => Some(mend),
            Mend::Decision | Mend::Access | Mend::Home => None,
        }
    }
}

/// The rules of which this is true.
fn rules_that(are: impl Fn(&'static Rule) -> bool) -> Vec<&'static Rule> {
    RULES.iter().copied().filter(|rule| are(rule)).collect()
}

impl Request for Repair {
    fn lookups(&self, _: &Policy) -> Lookups {
        Lookups::whole()
    }

    fn overrides(&self) -> GuardOverrides {
        match self.is_of_all() {
            // Nobody loses anything by it but open passwords, which are locked all the same.
            true => GuardOverrides::ALL,
            false => self.overrides,
        }
    }
}

impl Repair {
    /// Whether everything is mended that can be, and not just what is named.
    pub fn is_of_all(&self) -> bool {
        let paths = self.set_aside.is_empty() && self.drop_windows.is_empty();
        self.take_out.is_empty() && self.set.is_empty() && paths
    }
}

/// Plans the mending of everything that is safe to mend.
///
/// # Errors
/// The [`Refusal`]: a line is to be taken out that is in order.
pub fn repair(context: PlanContext<'_>, request: &Repair) -> Result<Repaired> {
    let mut left_alone = HashSet::new();
    loop {
        let mut repairing = Repairing {
            context,
            edits: RepairEdits::new(context.book),
            done: BTreeMap::new(),
            mended: Vec::new(),
            left_alone: &left_alone,
            set_lines: request.set.len(),
            plan: Plan { summary: "repair".to_owned(), mends: true, ..Plan::default() },
        };
        if !request.is_of_all() {
            repairing.set(&request.set)?;
            repairing.take_out(&request.take_out)?;
            repairing.set_aside(&request.set_aside)?;
            repairing.drop_windows(&request.drop_windows)?;
            return Ok(repairing.finish(&request.selection));
        }
        repairing.rounds(&request.selection);
        repairing.steps(&request.selection)?;
        let mended = std::mem::take(&mut repairing.mended);
        let repaired = repairing.finish(&request.selection);
        let moved = moved_access(context, &repaired.plan);
        if moved.is_empty() || mended.is_empty() {
            return Ok(repaired);
        }
        left_alone.extend(accused(&repaired.plan, &moved, mended));
    }
}

/// What a repair is about to mend: the rule, the file, and the line as it was, without its
/// hash.
type MendedLine = (&'static str, File, BString);

/// Who would gain or lose access by mends, and the groups it is about. That an open password
/// is locked is no loss.
fn moved_access(context: PlanContext<'_>, plan: &Plan) -> HashSet<BString> {
    let consequences = Consequences::of(context, plan);
    let moved = consequences.but_for_open_passwords();
    let names = moved.flat_map(|change| [change.name.clone(), change.group.clone()]);
    names.filter(|name| !name.is_empty()).collect()
}

/// The mends of lines that name one of these; all of them where none does.
fn accused(plan: &Plan, moved: &HashSet<BString>, mended: Vec<MendedLine>) -> Vec<MendedLine> {
    let names = |line: &BString| {
        let mut words = line.split(|byte| matches!(byte, b':' | b',')).map(<[u8]>::trim_ascii);
        words.any(|word| moved.contains(BStr::new(word)))
    };
    let edits = plan.edits.iter().filter(|edit| {
        edit.before.as_ref().is_some_and(names) || edit.after.as_ref().is_some_and(names)
    });
    let lines: HashSet<(File, BString)> = edits
        .filter_map(|edit| Some((edit.file, shown(edit.file, edit.before.as_ref()?))))
        .collect();
    let is_accused =
        |(_, file, line): &MendedLine| lines.contains(&(*file, line.clone())) || names(line);
    match mended.iter().any(is_accused) {
        true => mended.into_iter().filter(|one| is_accused(one)).collect(),
        false => mended,
    }
}

struct Repairing<'a> {
    context: PlanContext<'a>,
    /// The lines that were mended.
    mended: Vec<MendedLine>,
    /// Lines whose mends would give or take access: they are left to the administrator.
    left_alone: &'a HashSet<MendedLine>,
    edits: RepairEdits<'a>,
    /// What is done, file by file: rule, what was wrong, and the mend.
    done: BTreeMap<BString, Vec<(&'static str, String, String)>>,
    plan: Plan,
    /// How many lines got other text.
    set_lines: usize,
}

impl Repairing<'_> {
    fn note(&mut self, finding: &Finding, mend: String) {
        let file = BString::from(finding.file.path());
        let what = match finding.line {
            0 => mend,
            line => format!("line {line}: {mend}"),
        };
        let why = finding.message.trim_end_matches('.').to_owned();
        self.done.entry(file).or_default().push((finding.rule.name, what, why));
    }

    /// Mends lines until nothing more is found that can be.
    fn rounds(&mut self, selection: &Selection) {
        let only = rules_that(|rule| rule.line_mend().is_some() && selection.wants(rule));
        if only.is_empty() {
            return;
        }
        let looked_for = Selection { only: only.clone(), files_only: true, ..Selection::default() };
        // Where a file is empty nobody can say what any other line is about.
        let files = [File::Passwd, File::Shadow, File::Group];
        let is_empty = |file: &File| self.context.book.lines(*file).is_some_and(Lines::is_empty);
        if files.iter().any(is_empty) {
            return;
        }
        // What was missing when this began stays missing, whatever is mended.
        let lost = LostLines::of(self.context);
        for round in 0..MOST_ROUNDS {
            let again = (round > 0).then(|| self.edits.book());
            let context =
                PlanContext { book: again.as_ref().unwrap_or(self.context.book), ..self.context };
            let report = check(context, &looked_for);
            let mut mended = false;
            for (rule, mend) in only.iter().filter_map(|rule| Some((rule, rule.line_mend()?))) {
                for finding in report.findings.iter().filter(|finding| finding.rule == *rule) {
                    let line = (rule.name, finding.file, finding.text.clone());
                    if self.left_alone.contains(&line) {
                        continue;
                    }
                    let edits = &mut self.edits;
                    let mut mending = Mending { context, edits, finding, lost: &lost };
                    if let Some(what) = mend(&mut mending) {
                        mended = true;
                        self.mended.push(line);
                        self.note(finding, what);
                    }
                }
            }
            self.edits.begin_round();
            if !mended {
                break;
            }
        }
    }

    /// Mends what is wrong with the files themselves, and, when asked by name, homes.
    fn steps(&mut self, selection: &Selection) -> Result<()> {
        // Homes are made on request only.
        let only = rules_that(|rule| {
            selection.wants(rule)
                && match rule.mend {
                    Mend::Access => true,
                    Mend::Home => selection.only.contains(&rule),
                    Mend::Decision | Mend::Line(_) | Mend::Beside(_) => false,
                }
        });
        if only.is_empty() {
            return Ok(());
        }
        let report = check(self.context, &Selection { only, ..Selection::default() });
        for finding in &report.findings {
            match finding.rule.mend {
                Mend::Home => self.home(finding)?,
                _ => self.access(finding),
            }
        }
        Ok(())
    }

    fn access(&mut self, finding: &Finding) {
        let path = BString::from(format!("/{}", finding.file.path()));
        let Ok(Some(is)) = self.context.world.facts(path.as_ref()) else { return };
        let right = right_access(self.context, finding.file, is);
        let from = Access { owner: Owner { uid: is.uid, gid: is.gid }, mode: is.mode };
        let mode_only = finding.rule == &LOOSE_MODE || finding.rule == &CLOSED_MODE;
        let place =
            self.plan.steps.iter().position(
                |step| matches!(step, Step::SetAccess { file, .. } if *file == finding.file),
            );
        let mut to = match place.map(|at| &self.plan.steps[at]) {
            Some(Step::SetAccess { to, .. }) => *to,
            _ => from,
        };
        let what = if mode_only {
            to.mode = match finding.rule == &LOOSE_MODE {
                true => to.mode & right.mode,
                false => to.mode | right.mode & 0o444,
            };
            format!("mode {:04o} in the place of {:04o}", to.mode, is.mode)
        } else {
            to.owner = right.owner;
            let Owner { uid, gid } = right.owner;
            format!("owner {uid}:{gid} in the place of {}:{}", is.uid, is.gid)
        };
        let step = Step::SetAccess { file: finding.file, from, to };
        match place {
            Some(at) => self.plan.steps[at] = step,
            None => self.plan.steps.push(step),
        }
        self.note(finding, what);
    }

    fn home(&mut self, finding: &Finding) -> Result<()> {
        let book = self.context.book;
        let Some(user) = finding.line.checked_sub(1).and_then(|at| book.users.record(at)) else {
            return Ok(());
        };
        let (Some(uid), Some(gid)) = (user.uid(), user.gid()) else { return Ok(()) };
        // Something is there that is no directory: that is not for us to take away.
        if !matches!(self.context.world.facts(user.home.into()), Ok(None)) {
            return Ok(());
        }
        let request = CreateUser { home: Some(user.home.into()), ..CreateUser::default() };
        let mut subject = Subject::new(user.name);
        let owner = Owner { uid, gid };
        let what = "nothing was repaired";
        let home = plan_home(self.context, &request, user.name.into(), owner, &mut subject);
        let home = home.map_err(|refusal| Box::new(Refusal { what: what.into(), ..*refusal }))?;
        self.plan.steps.extend(home.steps);
        self.plan.cautions.extend(home.cautions);
        self.note(finding, "makes the home".to_owned());
        Ok(())
    }

    fn finish(self, selection: &Selection) -> Repaired {
        let after = (!self.edits.is_empty()).then(|| self.edits.book());
        let edits = self.edits.finish();
        let context =
            PlanContext { book: after.as_ref().unwrap_or(self.context.book), ..self.context };
        let mut left = check(context, selection);
        // What the steps mend is still found: the tree is as it was.
        left.findings.retain(|finding| {
            !self.plan.steps.iter().any(|step| match step {
                Step::SetAccess { file, .. } => {
                    matches!(finding.rule.mend, Mend::Access) && finding.file == *file
                }
                Step::MakeDirectory { owner, .. } => {
                    let user =
                        finding.line.checked_sub(1).and_then(|at| context.book.users.record(at));
                    matches!(finding.rule.mend, Mend::Home)
                        && user.is_some_and(|user| user.uid() == Some(owner.uid))
                }
                _ => false,
            })
        });
        let mut plan = self.plan;
        let (mut faults, files) = (0, self.done.len());
        for (file, mends) in self.done {
            let mut subject = Subject::new(file);
            faults += mends.len();
            for (rule, what, why) in mends {
                subject.decide(rule, what, why);
            }
            plan.subjects.push(subject);
        }
        if self.set_lines > 0 {
            plan.summary = format!("repair --set {}", counted(self.set_lines, "line", "lines"));
        } else if faults > 0 {
            plan.summary = format!(
                "repair {} in {}",
                counted(faults, "fault", "faults"),
                counted(files, "file", "files")
            );
        }
        plan.edits = edits;
        keep_hashes(self.context, &mut plan);
        plan.nothing = plan.edits.is_empty() && plan.steps.is_empty();
        plan.next.push("check".to_owned());
        Repaired { plan, left }
    }
}

/// Whether a line of shadow or gshadow holds a hash.
pub(super) fn carries_hash(file: File, line: &[u8]) -> bool {
    matches!(file, File::Shadow | File::Gshadow)
        && hash_of(file, line).is_some_and(|hash| !hash.is_empty())
}

#[cfg(test)]
mod tests;

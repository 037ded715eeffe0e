//! `check`.

use std::collections::{BTreeMap, HashMap, HashSet};

use clap::ValueEnum;
use nest_core::check::{CheckReport, Finding, Rule, Selection, Severity, check, rule};
use nest_core::surroundings::Surroundings;
use nest_core::words::{agree, counted, list};
use nest_host::found::{self, EarlierFindings, Remembered};
use nest_host::state::State;
use nest_host::tree::Tree;
use rayon::prelude::*;
use serde::Serialize;
use serde_json::{Value, json};

use super::show_rule::find;
use super::{Failure, Format, Global, REFUSED, Result, Session, USAGE};
use crate::policy_file::{self, POLICY};
use crate::view::findings::CheckRun;
use crate::view::{self, findings, sarif, visible_line};

/// Check the account files for duplicates, orphans and broken memberships.
///
/// Into a pipe one finding a line. The exit status is 1 when something was found
/// at the level of --fail-on, or when a rule could not run. Several trees are checked
/// side by side, and the highest status counts.
#[derive(Debug, clap::Args)]
#[command(after_help = EXAMPLES)]
pub struct Check {
    /// Only these rules.
    #[arg(long, value_name = "RULE,…", value_delimiter = ',')]
    only: Vec<String>,
    /// Not these rules.
    #[arg(long, value_name = "RULE,…", value_delimiter = ',')]
    skip: Vec<String>,
    /// From which severity on findings make the status 1.
    #[arg(long, value_enum, value_name = "error|warning|note", default_value = "error")]
    fail_on: Level,
    /// Look at the account files only, not at homes.
    #[arg(long)]
    files_only: bool,
    /// Rules that could not run don't make the status 1.
    #[arg(long)]
    allow_skipped: bool,
    /// Show all findings on a terminal, not twenty of each rule.
    #[arg(long)]
    all: bool,
    /// Remember what is found, for --since-last.
    #[arg(long)]
    remember: bool,
    /// Show only what is new since --remember, and what is gone.
    #[arg(long)]
    since_last: bool,
    /// List what the policy accepts, with who says so, why and until when.
    #[arg(long)]
    accepted: bool,
    /// Judge the policy alone: everything that is wrong with the file.
    #[arg(long, conflicts_with_all = ["only", "skip", "files_only", "remember", "since_last",
        "accepted"])]
    policy_only: bool,
}

const EXAMPLES: &str = "Examples:
  copper-nest check
  copper-nest --tree /srv/image check --files-only --fail-on warning
  copper-nest check --only duplicate-uid,duplicate-gid --format json
  copper-nest check --remember --since-last
  copper-nest check --accepted
  copper-nest check --policy-only --policy draft.toml
  copper-nest check --tree /srv/images/a --tree /srv/images/b --format sarif";

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Level {
    Error,
    Warning,
    Note,
}

/// What came of one tree.
struct Checked {
    report: CheckReport,
    /// How many account files were read.
    files: usize,
    /// What became of what was remembered.
    since: Option<Since>,
    /// By what it was checked.
    run: CheckRun,
}

/// What became of what was found last time.
struct Since {
    /// When that was; empty where nothing was remembered.
    time: String,
    /// What is gone.
    gone: Vec<Remembered>,
    /// How many findings are there still, by severity.
    known: BTreeMap<Severity, usize>,
}

impl Since {
    /// `12 errors and 5 warnings are known already`.
    fn known_in_words(&self) -> String {
        let words = [
            (Severity::Error, "error", "errors"),
            (Severity::Warning, "warning", "warnings"),
            (Severity::Note, "note", "notes"),
        ];
        let count = |severity| self.known.get(&severity).copied().unwrap_or(0);
        let parts = words.into_iter().filter(|(severity, ..)| count(*severity) > 0);
        let parts: Vec<String> =
            parts.map(|(severity, one, many)| counted(count(severity), one, many)).collect();
        let all = self.known.values().sum::<usize>();
        match parts.is_empty() {
            true => "nothing is known already".to_owned(),
            false => format!("{} {} known already", list(&parts), agree(&all, "is", "are")),
        }
    }
}

impl Check {
    /// Runs the command.
    pub fn run(&self, global: &Global) -> Result {
        if self.policy_only {
            return judge_policy(global);
        }
        let rules = |names: &[String]| -> Result<Vec<&'static Rule>> {
            names.iter().map(|name| find(name)).collect()
        };
        let selection = Selection {
            only: rules(&self.only)?,
            skip: rules(&self.skip)?,
            files_only: self.files_only,
            in_brief: false,
        };
        let nothing_left = !selection.only.is_empty()
            && selection
                .only
                .iter()
                .all(|rule| selection.skip.iter().any(|it| it.name == rule.name));
        if nothing_left {
            let message =
                "--skip leaves none of the rules that --only names: nothing would be checked";
            return Err(Failure::new(USAGE, "usage", message));
        }
        let trees = Self::trees(global);
        // Into a pipe there is one line for each, and there may be millions.
        let to_pipe = global.format == Format::Text && !view::for_a_person(global);
        let in_brief =
            to_pipe && trees.len() < 2 && !(self.remember || self.since_last || self.accepted);
        let selection = Selection { in_brief, ..selection };
        if trees.len() < 2 {
            let global = trees.first().unwrap_or(global);
            let checked = self.one(global, &selection)?;
            self.show(global, &checked);
            if self.remember && global.dry_run && !global.quiet {
                errln!("dry run: nothing was remembered.");
            }
            let status = self.status(&checked.report);
            // A hundred thousand findings take a while to be given back, and nobody waits
            // for that.
            std::mem::forget(checked);
            return Ok(status);
        }
        let several = [
            ("--remember", self.remember),
            ("--since-last", self.since_last),
            ("--accepted", self.accepted),
        ];
        if let Some((option, _)) = several.into_iter().find(|(_, given)| *given) {
            let message = format!("{option} is about one tree");
            return Err(Failure::new(USAGE, "usage", message));
        }
        let checked: Vec<(&Global, Result<Checked>)> =
            trees.par_iter().map(|global| (global, self.one(global, &selection))).collect();
        Ok(self.show_several(global, checked))
    }

    /// The trees, each with the options that go for it.
    fn trees(global: &Global) -> Vec<Global> {
        let trees = global.trees.iter();
        trees.map(|tree| Global { tree: tree.clone(), ..global.clone() }).collect()
    }

    fn one(&self, global: &Global, selection: &Selection) -> Result<Checked> {
        let session = Session::open_anyway(global)?;
        let mut loaded = session.load_in_passing()?;
        let world = session.world_to_look_at()?;
        // What the policy accepts is told by more than a line has.
        let in_brief = selection.in_brief && session.policy.check_accept.is_empty();
        let selection = &Selection { in_brief, ..selection.clone() };
        let mut report = check(session.context(&loaded, &world), selection);
        if !loaded.is_as_it_was() {
            // Somebody was at the files: now as they are at one moment.
            loaded = session.load()?;
            report = check(session.context(&loaded, &world), selection);
        }
        let files = loaded.originals.len();
        let found = match self.remember {
            true => Some(remembered(&session, &report)?),
            false => None,
        };
        let mut since = None;
        if self.since_last {
            since = Some(self.keep_new(&session, selection, &mut report)?);
        }
        if let Some(found) = found {
            if session.state == State::Nowhere {
                let message = "with --state none there is nowhere to remember anything";
                return Err(Failure::new(REFUSED, "no-state", message));
            }
            if !global.dry_run {
                found::write(&session.tree, &session.state, &found)?;
            }
        }
        let run = CheckRun {
            host: view::visible(world.host()),
            time: session.time(),
            policy: session.policy.digest(),
        };
        Ok(Checked { report, files, since, run })
    }

    /// Leaves the findings that were not there last time; returns when that was, and
    /// those that are gone since.
    fn keep_new(
        &self,
        session: &Session<'_>,
        selection: &Selection,
        report: &mut CheckReport,
    ) -> Result<Since> {
        let Some(last) = found::read(&session.tree, &session.state)? else {
            if self.remember {
                return Ok(Since { time: String::new(), gone: Vec::new(), known: BTreeMap::new() });
            }
            let message = "nothing was remembered yet that this could be held against";
            return Err(Failure::new(REFUSED, "nothing-remembered", message)
                .or("remember what is found now", "check --remember"));
        };
        let ran = |name: &str| {
            rule(name).is_some_and(|rule| selection.wants(rule))
                && report.skipped.iter().all(|skipped| skipped.rule != name)
        };
        let ran: HashSet<String> =
            last.findings.iter().map(|then| &then.rule).filter(|name| ran(name)).cloned().collect();
        // Two findings may read the same: each of then is one of now.
        let mut before: HashMap<String, Vec<Remembered>> = HashMap::new();
        for then in last.findings {
            before.entry(then.key.clone()).or_default().push(then);
        }
        let mut known = BTreeMap::new();
        report.findings.retain(|finding| {
            let is_new = before.get_mut(&finding.key()).and_then(Vec::pop).is_none();
            if !is_new {
                *known.entry(finding.severity).or_insert(0) += 1;
            }
            is_new
        });
        let left = before.into_values().flatten();
        let mut gone: Vec<Remembered> = left.filter(|then| ran.contains(&then.rule)).collect();
        gone.sort_by(|a, b| a.text.cmp(&b.text));
        Ok(Since { time: last.time, gone, known })
    }

    fn status(&self, report: &CheckReport) -> u8 {
        let least = match self.fail_on {
            Level::Error => Severity::Error,
            Level::Warning => Severity::Warning,
            Level::Note => Severity::Note,
        };
        let all = [Severity::Note, Severity::Warning, Severity::Error];
        let found = all.into_iter().filter(|severity| *severity >= least);
        let found = found.map(|severity| report.count(severity)).sum::<usize>() > 0;
        let skipped = !report.skipped.is_empty() && !self.allow_skipped;
        u8::from(found || skipped)
    }

    fn show(&self, global: &Global, checked: &Checked) {
        let Checked { report, files, since, .. } = checked;
        match global.format {
            Format::Sarif => view::print_foreign_json(&sarif::to_sarif(&[(global, report)])),
            Format::Text if self.accepted => findings::print_accepted(global, &report.accepted),
            Format::Json => view::print_json("findings", &document(global, checked)),
            Format::Text if global.quiet => {}
            Format::Text | Format::Toml | Format::Ldif => {
                if let Some(since) = since {
                    for then in &since.gone {
                        outln!("gone: {}", view::visible(then.text.as_bytes()));
                    }
                    let gone = since.gone.len();
                    let told = match (since.time.as_str(), report.findings.len()) {
                        ("", _) => "nothing was remembered before: all is new".to_owned(),
                        (time, 0) if gone == 0 => {
                            findings::print_findings(global, report, self.all);
                            let skipped = findings::not_judged(report);
                            let known = since.known_in_words();
                            errln!("nothing new since {time}; {known}.{skipped}");
                            return;
                        }
                        (time, new) => {
                            format!(
                                "since {time}: {new} new, {gone} gone; {}",
                                since.known_in_words()
                            )
                        }
                    };
                    findings::print(global, report, *files, self.all);
                    errln!("{told}");
                    return;
                }
                findings::print(global, report, *files, self.all);
            }
        }
    }

    /// Shows the trees one after the other; returns the highest status.
    fn show_several(&self, global: &Global, all: Vec<(&Global, Result<Checked>)>) -> u8 {
        let mut status = 0;
        let mut reports = Vec::new();
        for (of, checked) in &all {
            let tree = view::visible(of.tree.as_os_str().as_encoded_bytes());
            status = status.max(match checked {
                Ok(checked) => self.status(&checked.report),
                Err(failure) => failure.status,
            });
            match (checked, global.format) {
                (Ok(checked), Format::Sarif) => reports.push((*of, &checked.report)),
                (Ok(checked), Format::Json) => {
                    view::print_json_line("findings", &document(of, checked))
                }
                (Ok(_), Format::Text) if global.quiet => {}
                (Ok(checked), Format::Text | Format::Toml | Format::Ldif) => {
                    view::heading(&tree);
                    let lines = &checked.report.findings;
                    if view::for_a_person(global) {
                        findings::grouped(of, lines, findings::most(self.all));
                    } else {
                        lines.iter().for_each(|one| outln!("  {}", findings::one_line(one)));
                    }
                    outln!("  {}", findings::summary(&checked.report, checked.files));
                }
                (Err(failure), Format::Json) => {
                    let error = json!({"kind": failure.kind, "message": failure.message()});
                    outln!("{}", json!({"tree": tree, "error": error}));
                }
                (Err(failure), _) => {
                    errln!("{tree}: {}", view::visible(failure.message().as_bytes()));
                }
            }
        }
        if global.format == Format::Sarif {
            view::print_foreign_json(&sarif::to_sarif(&reports));
        }
        status
    }
}

fn document(global: &Global, checked: &Checked) -> impl Serialize {
    #[derive(Serialize)]
    struct Document<R> {
        #[serde(flatten)]
        report: R,
        #[serde(flatten)]
        since: Option<SinceDocument>,
    }
    #[derive(Serialize)]
    struct SinceDocument {
        since: String,
        known: Value,
        gone: Vec<Value>,
    }
    let since = checked.since.as_ref().map(|since| SinceDocument {
        since: since.time.clone(),
        known: findings::by_severity(|severity| since.known.get(&severity).copied().unwrap_or(0)),
        gone: since.gone.iter().map(|then| json!({"rule": then.rule, "text": then.text})).collect(),
    });
    Document { report: findings::to_json(global, &checked.report, &checked.run), since }
}

/// What is found now, with what was found before by rules that were not judged now.
fn remembered(session: &Session<'_>, report: &CheckReport) -> Result<EarlierFindings> {
    let skipped = |rule: &Rule| report.skipped.iter().any(|skipped| skipped.rule == rule.name);
    let judged: Vec<&str> =
        report.ran.iter().filter(|rule| !skipped(rule)).map(|rule| rule.name).collect();
    let remember = |finding: &Finding| Remembered {
        rule: finding.rule.name.to_owned(),
        key: finding.key(),
        text: findings::one_line(finding),
    };
    let last = found::read(&session.tree, &session.state)?;
    let (rules, findings) = last.map(|last| (last.rules, last.findings)).unwrap_or_default();
    let is_judged = |name: &String| judged.contains(&name.as_str());
    let mut rules: Vec<String> = rules.into_iter().filter(|name| !is_judged(name)).collect();
    rules.extend(judged.iter().map(|name| (*name).to_owned()));
    let still = findings.into_iter().filter(|then| !is_judged(&then.rule));
    let all = report.findings.iter().map(remember).chain(still).collect();
    Ok(EarlierFindings::new(session.time(), rules, all))
}

/// Tells everything that is wrong with the policy, or that nothing is.
fn judge_policy(global: &Global) -> Result {
    if global.format == Format::Sarif {
        let message = "a policy has no place in --format sarif";
        return Err(Failure::new(USAGE, "usage", message));
    }
    let tree = Tree::open(&global.tree)?;
    let read = policy_file::text(global, &tree)?;
    let file = read.as_ref().map(|(shown, _)| shown.as_str());
    let faults = read.as_ref().and_then(|(shown, text)| policy_file::judge(shown, text).err());
    let faults = faults.map(|faults| faults.0).unwrap_or_default();
    if global.json() {
        let all: Vec<_> = faults
            .iter()
            .map(|fault| json!({"file": fault.file, "line": fault.line, "message": fault.message}))
            .collect();
        view::print_json("policy-faults", &json!({"policy": file, "faults": all}));
    } else {
        for fault in &faults {
            outln!("{}", visible_line(fault.to_string().as_bytes()));
        }
        if faults.is_empty() && !global.quiet {
            match file {
                Some(file) => outln!("{} is sound.", visible_line(file.as_bytes())),
                None => outln!("there is no {POLICY}: the built-in settings are gone by."),
            }
        }
    }
    Ok(u8::from(!faults.is_empty()))
}

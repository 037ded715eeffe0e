//! Checking the account files: the rules, and what they found.

mod admins;
mod brief;
mod checker;
mod correction;
mod duplicates;
mod files;
mod finding;
mod homes;
mod keys;
mod labels;
mod left_behind;
mod lines;
mod look_alike;
mod lost;
mod member_scan;
mod memberships;
mod orphans;
mod passwords;
mod places;
mod prefilter;
mod ranges;
mod remedy;
mod repair;
mod roots;
mod rule;
mod shells;
mod sign_in;
mod sources;
mod spans;
mod sweep;
mod trailing;
mod unseen;
mod windows;

pub use crate::value::Severity;
pub use brief::{BriefFinding, BriefFindings};
pub use finding::{Finding, Mark, Related, Skipped};
pub use remedy::{Command, Remedy};
pub use repair::{Repair, Repaired, repair};
pub use rule::{Besides, Example, Family, RULES, Rule, rule};

use rayon::prelude::*;

use self::checker::{Checker, Pass};
use self::duplicates::is_last_part;
use self::finding::found;
use self::lines::another_name;
use self::member_scan::MemberScan;
use self::prefilter::Prefilter;
use self::remedy::{another_number, free_name};
use self::rule::{ALL, FAMILIES, Mend, PLAIN};
use self::sign_in::new_password;
use self::sources::{knows_gid, knows_user};
use self::spans::Spans;
use crate::context::PlanContext;
use crate::policy::{Accept, Policy, PolicyFault, SeverityChoice};

/// Which rules are to run.
#[derive(Debug, Clone, Default)]
pub struct Selection {
    /// Only these; all when empty.
    pub only: Vec<&'static Rule>,
    /// Not these.
    pub skip: Vec<&'static Rule>,
    /// Leave out the rules that look at the tree besides the account files.
    pub files_only: bool,
    /// Of findings about lines of the account files no more is wanted than a line of text has.
    pub in_brief: bool,
}

impl Selection {
    /// Whether the rule is to run.
    pub fn wants(&self, rule: &Rule) -> bool {
        let named = self.only.is_empty() || self.only.contains(&rule);
        named && !self.skip.contains(&rule) && !(self.files_only && rule.looks_at_tree)
    }
}

/// A finding that the policy accepts.
#[derive(Debug)]
pub struct Accepted {
    /// The finding.
    pub finding: Finding,
    /// By which entry.
    pub by: Accept,
}

/// What a check found.
#[derive(Debug, Default)]
pub struct CheckReport {
    /// The findings, file by file, in line order.
    pub findings: Vec<Finding>,
    /// Those about lines, where they were wanted in brief: they come before the others.
    pub brief: BriefFindings,
    /// Rules that could not run, or not wholly.
    pub skipped: Vec<Skipped>,
    /// The findings that the policy accepts; they are left out.
    pub accepted: Vec<Accepted>,
    /// The rules that ran.
    pub ran: Vec<&'static Rule>,
}

impl CheckReport {
    /// How many findings have this severity.
    pub fn count(&self, severity: Severity) -> usize {
        let whole = self.findings.iter().filter(|finding| finding.severity == severity).count();
        whole + self.brief.count(severity)
    }
}

/// Runs the selected rules.
pub fn check(context: PlanContext<'_>, selection: &Selection) -> CheckReport {
    check_prefiltered(context, selection, &Prefilter::of(context))
}

/// Runs the selected rules; those about single lines look at what the prefilter left.
fn check_prefiltered(
    context: PlanContext<'_>,
    selection: &Selection,
    prefilter: &Prefilter,
) -> CheckReport {
    let book = context.book;
    let off = selection_of(context.policy, selection);
    let selection = &off;
    let is_wanted = |(rules, _): &&Pass| rules.iter().any(|rule| selection.wants(rule));
    let wanted: Vec<&Pass> = FAMILIES.into_iter().flatten().filter(is_wanted).collect();
    let checkers: Vec<Checker<'_>> = wanted
        .par_iter()
        .map(|(_, pass)| {
            let mut checker = Checker::new(context, prefilter, selection);
            pass(&mut checker);
            checker.settle();
            checker
        })
        .collect();
    let ran = RULES.iter().copied().filter(|rule| selection.wants(rule)).collect();
    let mut report = CheckReport { ran, ..CheckReport::default() };
    for checker in checkers {
        match report.findings.is_empty() {
            true => report.findings = checker.findings,
            false => report.findings.extend(checker.findings),
        }
        report.brief.extend(checker.brief);
        report.skipped.extend(checker.skipped);
    }
    for rule in RULES.iter().filter(|rule| selection.wants(rule)) {
        for (file, why) in book.unreadable.iter().filter(|(file, _)| rule.reads.contains(file)) {
            let why = format!("{} can't be read: {why}", file.path());
            report.skipped.push(Skipped { rule: rule.name, why });
        }
    }
    set_severities(context.policy, &mut report);
    report.brief = std::mem::take(&mut report.brief).sorted();
    files::accept(context, selection, &mut report);
    // Findings about the tree come after those about lines.
    report.findings.sort_by(|a, b| (&a.place, a.file, a.line).cmp(&(&b.place, b.file, b.line)));
    remedy::unblock(&mut report.findings);
    remedy::number(context, &mut report.findings);
    remedy::wave_services_through(context, &mut report.findings);
    report
}

/// What is selected, without the rules that the policy turns off; one that is asked for by
/// name runs all the same.
fn selection_of(policy: &Policy, selection: &Selection) -> Selection {
    let is_off = |rule: &&'static Rule| {
        policy.check_severity.of(rule.name) == Some(SeverityChoice::Off)
            && !selection.only.contains(rule)
    };
    let mut selection = selection.clone();
    let off: Vec<&'static Rule> = RULES.iter().copied().filter(is_off).collect();
    selection.skip.extend(off);
    selection
}

/// Gives findings the severities that the policy has for their rules.
fn set_severities(policy: &Policy, report: &mut CheckReport) {
    if policy.check_severity.is_empty() {
        return;
    }
    let of = |rule: &'static Rule| match policy.check_severity.of(rule.name) {
        Some(SeverityChoice::As(severity)) => Some(severity),
        Some(SeverityChoice::Off) | None => None,
    };
    for finding in &mut report.findings {
        finding.severity = of(finding.rule).unwrap_or(finding.severity);
    }
    report.brief.set_severities(of);
}

/// Whether every rule that the policy names exists.
/// Returns a fault for each that does not.
pub fn verify_named_rules(policy: &Policy) -> Vec<PolicyFault> {
    let known = || RULES.iter().map(|rule| rule.name);
    let accepted = policy.check_accept.iter().map(|accept| ("check.accept", &accept.rule[..]));
    let set = policy.check_severity.rules().map(|rule| ("check.severity", rule));
    let unknown = accepted.chain(set).filter(|(_, rule)| !known().any(|name| name == *rule));
    unknown.map(|(key, rule)| policy.unknown_word(key, "rule", rule, known())).collect()
}

#[cfg(test)]
mod tests;

#[cfg(test)]
mod example_tests {
    use super::*;
    use crate::book::tests::book;
    use crate::policy::Policy;
    use crate::retired_ids::RetiredId;
    use crate::surroundings::Facts;
    use crate::table::File;
    use crate::test_support::World;
    use crate::value::{Day, FileKind, Gid, Uid};
    use bstr::BString;

    /// The home of the examples is there and maren's, and so are the programs, unless
    /// the example says otherwise.
    fn run(example: &Example, skip: &[&'static Rule]) -> CheckReport {
        let mut world = World::default();
        let mut accepts = String::new();
        let home = Facts { kind: FileKind::Directory, uid: Uid(1004), gid: Gid(1004), mode: 0o700 };
        let file = Facts { kind: FileKind::File, uid: Uid::ROOT, gid: Gid::ROOT, mode: 0o600 };
        world.facts.insert("/home/maren".into(), Ok(home));
        world.facts.insert("/bin".into(), Ok(home));
        let roots = Facts { uid: Uid::ROOT, gid: Gid::ROOT, mode: 0o755, ..home };
        world.facts.insert("/etc".into(), Ok(roots));
        let found = |world: &World, path: &str| match world.facts.get(&BString::from(path)) {
            Some(Ok(facts)) => *facts,
            _ => file,
        };
        match example.besides {
            Besides::Nothing => {}
            Besides::Entry { folder, name, kind } => {
                let entry = (name.into(), Facts { kind, ..home });
                world.entries.insert(folder.into(), vec![entry]);
            }
            Besides::Lacks(path) => {
                world.facts.remove(&BString::from(path));
                world.missing_programs.push(path.into());
            }
            Besides::Owner { path, uid } => {
                let facts = Facts { uid, ..found(&world, path) };
                world.facts.insert(path.into(), Ok(facts));
            }
            Besides::Mode { path, mode } => {
                let facts = Facts { mode, ..found(&world, path) };
                world.facts.insert(path.into(), Ok(facts));
            }
            Besides::Retired { uid, name } => {
                world.retired.users.push(RetiredId { id: uid.0, name: name.into(), since: None });
            }
            Besides::Carries { path, label, contexts } => {
                world.files.0.push(("/etc/selinux/default/contexts/files/file_contexts", contexts));
                let label = crate::labels::Label::parse(label.as_bytes()).unwrap();
                world.carried_labels.insert(path.into(), label);
            }
            Besides::Keys(count) => world.keys = count,
            Besides::WeakKey => world.weak_key = true,
            Besides::Unseen { days, tells_after } => {
                let at = (20781 - i64::from(days)) * 86_400;
                world.seen.insert("maren".into(), at);
                accepts = format!("[check]\nunseen_days = {tells_after}");
            }
            Besides::Says(files) => world.files.0.extend_from_slice(files),
            Besides::Belongs { path, uid, mode } => {
                let facts = Facts { uid, mode, ..file };
                let (folder, name) = path.rsplit_once('/').unwrap();
                world.entries.insert(folder.into(), vec![(name.into(), facts)]);
            }
            Besides::Asks(sources) => world.sources_alone = Some(sources.into()),
            Besides::Mentions(name) => {
                let mention = crate::surroundings::Mention { file: "etc/sudoers".into(), line: 7 };
                world.names_granted = vec![(name.into(), vec![mention])];
            }
            Besides::Unfinished(change) => world.unfinished = Some(format!("change {change}")),
            Besides::Accepts(what) => accepts = format!("[check]\naccept = [\"{what}  agreed\"]"),
            Besides::Shells(shell) => world.shells = Some(vec![shell.into()]),
        }
        let policy = Policy::read("etc/copper-nest/policy.toml", &accepts).unwrap();
        let book = book(&example.files());
        let today = Day(20781);
        let context =
            PlanContext { book: &book, policy: &policy, world: &world, today, change: None };
        let selection = Selection { skip: skip.to_vec(), ..Selection::default() };
        let report = check(context, &selection);
        let prefilter = Prefilter::of(context);
        for finding in report.findings.iter().filter(|finding| finding.rule.by_line) {
            let mut left = prefilter.lines(&book, finding.file);
            let lines = book.lines(finding.file).unwrap();
            let is_left = left.any(|line| lines.number(line.start) == finding.line);
            assert!(is_left, "{:?}: the sweep passes line {} over", finding.rule, finding.line);
        }
        report
    }

    fn names(report: &CheckReport) -> Vec<&str> {
        report.findings.iter().map(|finding| finding.rule.name).collect()
    }

    #[test]
    fn each_rule_finds_its_bad_example_and_nothing_in_its_good_one() {
        let missing = rule("missing-file").unwrap();
        for rule in RULES.iter() {
            // Most examples do without gshadow, which only one rule is about.
            let skip = if *rule == missing { vec![] } else { vec![missing] };
            let bad = run(&rule.bad, &skip);
            assert!(names(&bad).contains(&rule.name), "{rule:?}: {:?}", names(&bad));
            let good = run(&rule.good, &skip);
            assert_eq!(names(&good), [""; 0], "{rule:?}");
        }
    }

    #[test]
    fn a_selection_narrows_what_runs() {
        let rule = rule("duplicate-uid").unwrap();
        let only = Selection { only: vec![rule], ..Selection::default() };
        assert_eq!(RULES.iter().filter(|rule| only.wants(rule)).count(), 1);
        let skip = Selection { skip: vec![rule], ..Selection::default() };
        assert!(!skip.wants(rule));
        let files = Selection { files_only: true, ..Selection::default() };
        assert!(!files.wants(super::rule("home-owner").unwrap()) && files.wants(rule));
    }

    #[test]
    fn accepted_findings_are_counted_and_left_out() {
        let rule = rule("second-root").unwrap();
        let accepts = Besides::Accepts("second-root:keeper");
        let report = run(&Example { besides: accepts, ..rule.bad }, &[]);
        assert!(!names(&report).contains(&"second-root"));
        assert_eq!(report.accepted.len(), 1);
        assert_eq!(report.accepted[0].by.reason, "agreed");
    }

    #[test]
    fn unreadable_files_skip_the_rules_that_need_them() {
        let mut texts = crate::book::Texts::default();
        texts.set(File::Passwd, std::sync::Arc::new("maren:x:1004:1004::/home/maren:/bin/sh\n"));
        texts.set(File::Group, std::sync::Arc::new("maren:x:1004:\n"));
        texts.set_unreadable(File::Shadow, "permission denied".into());
        let (book, policy, world) =
            (crate::book::Book::new(texts), Policy::default(), World::default());
        let context = crate::test_support::context(&book, &policy, &world);
        let skip = vec![super::rule("missing-file").unwrap()];
        let selection = Selection { files_only: true, skip, ..Selection::default() };
        let report = check(context, &selection);
        assert_eq!(names(&report), [""; 0]);
        let skipped: Vec<_> = report.skipped.iter().map(|skipped| skipped.rule).collect();
        assert!(skipped.contains(&"missing-shadow") && skipped.contains(&"open-password"));
        assert!(!skipped.contains(&"duplicate-uid"));
        assert!(report.skipped[0].why.contains("etc/shadow can't be read: permission denied"));
    }
}

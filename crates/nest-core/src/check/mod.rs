//! Checking the account files: the rules, and what they found.

mod admins;
mod duplicates;
mod files;
mod finding;
mod homes;
mod left_behind;
mod lines;
mod member_scan;
mod memberships;
mod orphans;
mod prefilter;
mod ranges;
mod remedy;
mod repair;
mod rules;
mod shells;
mod sign_in;
mod spans;
mod sweep;

pub use finding::{Finding, Mark, Related, Skipped};
pub use remedy::{Command, Remedy};
pub use repair::{Repair, Repaired, is_mended, repair};
pub use rules::{Example, Family, RULES, Rule, Severity, rule};

use rayon::prelude::*;

use self::prefilter::Prefilter;
use crate::context::PlanContext;
use crate::policy::{Accept, Policy, PolicyFault};
use crate::table::File;

/// Which rules are to run.
#[derive(Debug, Clone, Default)]
pub struct Selection {
    /// Only these; all when empty.
    pub only: Vec<&'static Rule>,
    /// Not these.
    pub skip: Vec<&'static Rule>,
    /// Leave out the rules that look at the tree besides the account files.
    pub files_only: bool,
}

impl Selection {
    /// Whether the rule is to run.
    pub fn wants(&self, rule: &Rule) -> bool {
        let named = self.only.is_empty() || self.only.iter().any(|only| only.name == rule.name);
        named
            && !self.skip.iter().any(|skip| skip.name == rule.name)
            && !(self.files_only && rule.looks_at_tree)
    }
}

/// What a check found.
#[derive(Debug, Default)]
pub struct CheckReport {
    /// The findings, file by file, in line order.
    pub findings: Vec<Finding>,
    /// Rules that could not run, or not wholly.
    pub skipped: Vec<Skipped>,
    /// How many findings the policy accepts; they are left out.
    pub accepted: usize,
}

impl CheckReport {
    /// How many findings have this severity.
    pub fn count(&self, severity: Severity) -> usize {
        self.findings.iter().filter(|finding| finding.rule.severity == severity).count()
    }
}

/// What the rules of a family hand back.
#[derive(Default)]
struct Out {
    findings: Vec<Finding>,
    skipped: Vec<Skipped>,
}

impl Out {
    fn skip(&mut self, rule: &str, why: impl Into<String>) {
        self.skipped
            .push(Skipped { rule: self::rule(rule).map_or("", |rule| rule.name), why: why.into() });
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
    let families: [&(dyn Fn() -> Out + Sync); 11] = [
        &|| lines::run(context, selection, prefilter),
        &|| duplicates::run(context, selection, prefilter),
        &|| orphans::run(context, selection, prefilter),
        &|| memberships::run(context, selection, prefilter),
        &|| sign_in::run(context, selection, prefilter),
        &|| shells::run(context, selection, prefilter),
        &|| admins::run(context, selection, prefilter),
        &|| homes::run(context, selection, prefilter),
        &|| left_behind::run(context, selection),
        &|| ranges::run(context, selection, prefilter),
        &|| files::run(context, selection),
    ];
    let outs: Vec<Out> = families.par_iter().map(|family| family()).collect();
    let mut report = CheckReport::default();
    for out in outs {
        match report.findings.is_empty() {
            true => report.findings = out.findings,
            false => report.findings.extend(out.findings),
        }
        report.skipped.extend(out.skipped);
    }
    for rule in RULES.iter().filter(|rule| selection.wants(rule)) {
        for (file, why) in book.unreadable.iter().filter(|(file, _)| rule.reads.contains(file)) {
            let why = format!("{} can't be read: {why}", file.path());
            report.skipped.push(Skipped { rule: rule.name, why });
        }
    }
    accept(context, selection, &mut report);
    // Findings about the tree come after those about lines.
    report.findings.sort_by(|a, b| (&a.place, a.file, a.line).cmp(&(&b.place, b.file, b.line)));
    remedy::unblock(&mut report.findings);
    remedy::number(context, &mut report.findings);
    report
}

/// Whether every rule whose findings the policy accepts exists.
///
/// # Errors
/// The [`PolicyFault`], where the setting names a rule that does not.
pub fn verify_accepted_rules(policy: &Policy) -> Result<(), PolicyFault> {
    let known = || RULES.iter().map(|rule| rule.name);
    let is_unknown = |accept: &&Accept| !known().any(|name| name == accept.rule);
    match policy.check_accept.iter().find(is_unknown) {
        Some(accept) => Err(policy.unknown_word("check.accept", "rule", &accept.rule, known())),
        None => Ok(()),
    }
}

/// Takes out what the policy accepts, and tells which of that is not found any more.
fn accept(context: PlanContext<'_>, selection: &Selection, report: &mut CheckReport) {
    let accept = &context.policy.check_accept;
    if accept.is_empty() {
        return;
    }
    let mut matched = vec![false; accept.len()];
    let before = report.findings.len();
    report.findings.retain(|finding| {
        let at = accept.iter().position(|accept| {
            accept.rule == finding.rule.name && finding.subject == accept.subject
        });
        at.inspect(|at| matched[*at] = true).is_none()
    });
    report.accepted = before - report.findings.len();
    let Some(idle) = rule("idle-acceptance").filter(|rule| selection.wants(rule)) else { return };
    for (accept, matched) in accept.iter().zip(matched) {
        let ran = rule(&accept.rule).is_some_and(|rule| {
            selection.wants(rule) && report.skipped.iter().all(|skipped| skipped.rule != rule.name)
        });
        if matched || !ran {
            continue;
        }
        let Accept { rule, subject, .. } = accept;
        let origin = context.policy.origin("check.accept");
        report.findings.push(Finding {
            rule: idle,
            file: File::Passwd,
            line: 0,
            place: Some("/etc/copper-nest/policy.toml".into()),
            text: "".into(),
            mark: Mark::Line,
            subject: format!("{rule}:{subject}").into(),
            message: format!("{rule} of {subject} is accepted ({origin}), and not found any more."),
            remedies: Remedy::by_hand(format!("take {rule}:{subject} out of [check] accept")),
            related: Vec::new(),
        });
    }
}

#[cfg(test)]
mod tests;

#[cfg(test)]
mod example_tests {
    use super::*;
    use crate::book::tests::book;
    use crate::policy::Policy;
    use crate::surroundings::{Facts, FileKind};
    use crate::test_support::World;
    use crate::value::Day;

    fn example_policy(rule: &Rule, bad: bool) -> Policy {
        let accepts = "[check]\naccept = [\"second-root:keeper  agreed\"]";
        let text = if bad && rule.name == "idle-acceptance" { accepts } else { "" };
        Policy::read("etc/copper-nest/policy.toml", text).unwrap()
    }

    /// The home of the examples is there and maren's, or as the bad examples of
    /// the home rules have it.
    fn example_world(rule: &Rule, bad: bool) -> World {
        let mut world = World::default();
        let uid = if bad && rule.name == "home-owner" { 1005 } else { 1004 };
        let facts = Facts { kind: FileKind::Directory, uid, gid: 1004, mode: 0o700 };
        let other = |kind| vec![("perrin".into(), Facts { kind, ..facts })];
        match rule.name {
            "home-orphan" if bad => {
                world.entries.insert("/home".into(), other(FileKind::Directory));
            }
            "mail-orphan" if bad => {
                world.entries.insert("/var/mail".into(), other(FileKind::File));
            }
            "retired-id-in-use" if bad => {
                let (id, name) = (1004, "perrin".into());
                world.retired.users.push(crate::retired_ids::RetiredId { id, name });
            }
            _ => {}
        }
        if !bad && rule.name == "missing-shell" {
            world.facts.insert("/bin".into(), Ok(facts));
        }
        match rule.name {
            "missing-shell" if bad => {
                world.facts.insert("/bin".into(), Ok(facts));
                world.missing_programs.push("/bin/bash".into());
            }
            "unlisted-shell" if bad => world.shells = Some(vec!["/bin/sh".into()]),
            "loose-mode" | "wrong-owner" if bad => {
                let uid = if rule.name == "loose-mode" { 0 } else { 1005 };
                let facts = Facts { kind: FileKind::File, uid, gid: 0, mode: 0o644 };
                let file = if rule.name == "loose-mode" { "/etc/shadow" } else { "/etc/group" };
                world.facts.insert(file.into(), Ok(facts));
            }
            _ => {}
        }
        if bad && rule.name == "unfinished-change" {
            world.unfinished = Some("change 14 (create user maren)".into());
        }
        if !(bad && rule.name == "missing-home") {
            let open = bad && rule.name == "home-open-to-others";
            let facts = Facts { mode: if open { 0o755 } else { 0o700 }, ..facts };
            world.facts.insert("/home/maren".into(), Ok(facts));
        }
        world
    }

    /// Most examples do without gshadow, which only one rule is about.
    fn run(rule: &Rule, example: &Example, world: &World, policy: &Policy) -> CheckReport {
        let book = book(example.files);
        let context = PlanContext { book: &book, policy, world, today: Day(20781), change: None };
        let skip = match rule.name {
            "missing-file" => Vec::new(),
            _ => vec![super::rule("missing-file").unwrap()],
        };
        check(context, &Selection { skip, ..Selection::default() })
    }

    fn names(report: &CheckReport) -> Vec<&str> {
        report.findings.iter().map(|finding| finding.rule.name).collect()
    }

    #[test]
    fn each_rule_finds_its_bad_example_and_nothing_in_its_good_one() {
        for rule in RULES.iter() {
            let (policy, sound) = (example_policy(rule, true), example_policy(rule, false));
            let bad = run(rule, &rule.bad, &example_world(rule, true), &policy);
            assert!(names(&bad).contains(&rule.name), "{}: {:?}", rule.name, names(&bad));
            let good = run(rule, &rule.good, &example_world(rule, false), &sound);
            assert_eq!(names(&good), [""; 0], "{}", rule.name);
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
        let text = "[check]\naccept = [\"second-root:keeper  agreed with the harbour office\"]";
        let policy = Policy::read("p", text).unwrap();
        let report = run(rule, &rule.bad, &World::default(), &policy);
        assert!(!names(&report).contains(&"second-root"));
        assert_eq!(report.accepted, 1);
    }

    #[test]
    fn unreadable_files_skip_the_rules_that_need_them() {
        let mut texts = crate::book::Texts::default();
        texts.set(File::Passwd, std::sync::Arc::new("maren:x:1004:1004::/home/maren:/bin/sh\n"));
        texts.set(File::Group, std::sync::Arc::new("maren:x:1004:\n"));
        texts.set_unreadable(File::Shadow, "permission denied".into());
        let (book, policy, world) =
            (crate::book::Book::new(texts), Policy::default(), World::default());
        let context = PlanContext {
            book: &book,
            policy: &policy,
            world: &world,
            today: Day(20781),
            change: None,
        };
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

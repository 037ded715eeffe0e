//! Security labels of homes: home-label.

use bstr::BStr;

use super::{Besides, Checker, Command, Example, Family, PLAIN, Pass, Remedy, Rule, Severity};
use crate::account::means_no_home;
use crate::labels::ATTRIBUTE;
use crate::table::{File, PasswdField};
use crate::value::FileKind;

pub(super) const PASSES: &[Pass] = &[(&[&HOME_LABEL], labels)];

const CONTEXTS: &str = "/home/[^/]+ -d system_u:object_r:user_home_dir_t:s0";

static HOME_LABEL: Rule = Rule {
    name: "home-label",
    severity: Severity::Note,
    family: Family::Homes,
    looks_at_tree: true,
    reads: &[File::Passwd],
    finds: "a person's home with another security label than the file contexts say",
    why: "What the system's policy lets programs do depends on the label: where it is wrong, the \
              SSH server may be kept from the keys in the home.",
    remedy: "Set the label that belongs there: restorecon -R HOME on the running system. One that \
                 is meant belongs into the file contexts.",
    bad: Example::beside(Besides::Carries {
        path: "/home/maren",
        label: "system_u:object_r:home_root_t:s0",
        contexts: CONTEXTS,
    }),
    good: Example::beside(Besides::Carries {
        path: "/home/maren",
        label: "unconfined_u:object_r:user_home_dir_t:s0",
        contexts: CONTEXTS,
    }),
    ..PLAIN
};

fn labels(checker: &mut Checker<'_>) {
    let context = checker.context;
    let world = context.world;
    let labels = world.labels();
    let contexts = match labels.contexts() {
        Ok(Some(contexts)) => contexts,
        Ok(None) => return,
        Err(why) => return checker.skip(&HOME_LABEL, why),
    };
    // A system without any label gets them all when it is first started.
    let is_labelled = matches!(labels.carried("/".into()), Ok(Some(_)));
    let lines = context.book.users.lines();
    let mut faulty = None;
    for (line, user) in context.book.users.records() {
        let person = user.uid().is_some_and(|uid| context.policy.is_person(uid));
        if !person || means_no_home(user.home) || !user.home.starts_with(b"/") {
            continue;
        }
        let home = BStr::new(user.home);
        if !matches!(world.facts(home), Ok(Some(facts)) if facts.kind == FileKind::Directory) {
            continue;
        }
        let labelling = contexts.below(home);
        faulty = faulty.or_else(|| labelling.faults_in_words());
        let Some(belongs) = labelling.of(home, FileKind::Directory) else { continue };
        let wanted = belongs.type_of();
        let message = match labels.carried(home) {
            Ok(Some(carried)) if contexts.allows(&carried, belongs) => continue,
            Ok(Some(carried)) => {
                format!("{home} is labelled {}; {wanted} belongs there.", carried.type_of())
            }
            Ok(None) if is_labelled => {
                format!("{home} has no security label; {wanted} belongs there.")
            }
            Ok(None) => continue,
            Err(why) => {
                faulty.get_or_insert(format!("{home}: {why}"));
                continue;
            }
        };
        let command = match world.is_live() {
            true => "restorecon -R".to_owned(),
            false => format!("setfattr -n {ATTRIBUTE} -v {belongs}"),
        };
        let remedy = Remedy::of_one(Command::System(command, vec![home.to_owned()]));
        checker.find(&HOME_LABEL, (lines, line), PasswdField::Home, message, remedy);
    }
    if let Some(fault) = faulty {
        checker.skip(&HOME_LABEL, fault);
    }
}

//! What a sign-in starts: service-shell, unlisted-shell, missing-shell.

use bstr::{BStr, BString};

use super::{Besides, Checker, Command, Example, Family, PLAIN, Pass, Remedy, Rule, Severity};
use crate::account::{AccountKind, kind_of, turns_away};
use crate::context::PlanContext;
use crate::sign_in::sign_in_by_book;
use crate::surroundings::Program;
use crate::table::{File, Line, Passwd, PasswdField};
use crate::value::{PasswordField, Uid};
use crate::words::counted;

pub(super) const PASSES: &[Pass] =
    &[(&[&SERVICE_SHELL], services), (&[&UNLISTED_SHELL], unlisted), (&[&MISSING_SHELL], missing)];

static SERVICE_SHELL: Rule = Rule {
    name: "service-shell",
    severity: Severity::Warning,
    family: Family::SignIn,
    reads: &[File::Passwd, File::Shadow],
    finds: "a service that somebody can sign in as, with a shell",
    why: "Whoever signs in as a service works unseen, under a name that nobody answers for. A \
              service with a shell that no password and no key leads to is left alone.",
    remedy: "Give it a shell that lets nobody in: copper-nest change user NAME --shell \
                 /usr/sbin/nologin.",
    bad: Example::with(&[
        (File::Passwd, "gauge:x:200:200::/srv/gauge:/bin/sh\n"),
        (File::Group, "gauge:x:200:\n"),
        (
            File::Shadow,
            "gauge:$y$j9T$TQrrklxsv3nFULfgn4vfq1$uF6Yp8T5sCFlkFK8AI5yNLvAOEZl4Pn70F8hFaZBvz2:20781::::::\n",
        ),
    ]),
    good: Example::with(&[
        (File::Passwd, "gauge:x:200:200::/srv/gauge:/bin/sh\n"),
        (File::Group, "gauge:x:200:\n"),
        (File::Shadow, "gauge:!:20781::::::\n"),
    ]),
    by_line: true,
    ..PLAIN
};

static UNLISTED_SHELL: Rule = Rule {
    name: "unlisted-shell",
    severity: Severity::Warning,
    family: Family::SignIn,
    looks_at_tree: true,
    reads: &[File::Passwd],
    finds: "a person whose shell etc/shells does not list",
    why: "Some services, and some ways of changing the shell, refuse whoever has such a shell.",
    remedy: "Give the user a shell that is listed, or list this one in etc/shells.",
    bad: Example::beside(Besides::Shells("/bin/sh")),
    ..PLAIN
};

static MISSING_SHELL: Rule = Rule {
    name: "missing-shell",
    severity: Severity::Error,
    family: Family::SignIn,
    looks_at_tree: true,
    reads: &[File::Passwd],
    finds: "a person, or root, whose shell can't be started",
    why: "No sign-in works: neither by password nor by key.",
    remedy: "Give the user another shell: copper-nest change user NAME --shell PATH.",
    bad: Example::beside(Besides::Lacks("/bin/bash")),
    ..PLAIN
};

/// Where programs are, in a tree that has any.
const PROGRAMS: [&str; 2] = ["/bin", "/usr/bin"];

/// Many services come with a shell of their own, which does no harm as long as
/// nobody can get to it.
fn services(checker: &mut Checker<'_>) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    let (book, policy) = (context.book, context.policy);
    for (line, user) in prefilter.records::<Passwd<'_>>(book, File::Passwd) {
        let Some(uid) = user.uid().filter(|uid| *uid != Uid::ROOT) else { continue };
        let service = kind_of(policy, Some(uid)) == AccountKind::Service;
        if !service || turns_away(user.effective_shell()) {
            continue;
        }
        let field = match user.is_shadowed() {
            true => book.shadow(user.name).map(|(_, shadow)| shadow.password),
            false => Some(user.password),
        };
        let field = field.map(PasswordField::read);
        let way = match field {
            Some(PasswordField::Set(_)) => "by a password",
            Some(PasswordField::Open) => "without a password",
            _ if checker.selection.files_only => continue,
            _ if sign_in_by_book(context, user).by_key() => "by key",
            _ => continue,
        };
        let (name, shell) = (BStr::new(user.name), BStr::new(user.effective_shell()));
        let message = format!("{name} is a service, and can sign in {way}: its shell is {shell}.");
        let nobody = policy.services_shell.as_bytes();
        let change: [&[u8]; 6] = [b"change", b"user", name, b"--shell", nobody, b"--even-service"];
        let remedy = Remedy::of_command(change);
        checker.find(
            &SERVICE_SHELL,
            (book.users.lines(), line),
            PasswdField::Shell,
            message,
            remedy,
        );
    }
}

/// People whose shell is to be looked at.
fn people<'b>(context: PlanContext<'b>) -> impl Iterator<Item = (Line<'b>, Passwd<'b>)> {
    context.book.users.records().filter(move |(_, user)| {
        let judged =
            user.uid().is_some_and(|uid| uid == Uid::ROOT || context.policy.is_person(uid));
        judged && !turns_away(user.effective_shell())
    })
}

fn unlisted(checker: &mut Checker<'_>) {
    let context = checker.context;
    // Without the list every shell will do.
    let Some(shells) = context.world.shells() else { return };
    for (line, user) in people(context) {
        let shell = user.effective_shell();
        // One that can't be started is not also unlisted.
        let starts = context.world.program(shell.into());
        let starts = matches!(starts, Program::Fine | Program::Unknown);
        if starts && !shells.iter().any(|listed| listed == shell) {
            let (name, shell) = (BStr::new(user.name), BStr::new(shell));
            let message = format!(
                "the shell {shell} of {name} is not in etc/shells: some services refuse it."
            );
            let remedy = another_shell(context, &user, &shells);
            let at = (context.book.users.lines(), line);
            checker.find(&UNLISTED_SHELL, at, PasswdField::Shell, message, remedy);
        }
    }
}

fn missing(checker: &mut Checker<'_>) {
    let context = checker.context;
    let is_there = |path: &&str| matches!(context.world.facts((*path).into()), Ok(Some(_)));
    if !PROGRAMS.iter().any(is_there) {
        return checker.skip(&MISSING_SHELL, "this tree holds no programs");
    }
    let listed = context.world.shells().unwrap_or_default();
    let mut unknown: Option<(usize, BString)> = None;
    for (line, user) in people(context) {
        let (name, shell) = (BStr::new(user.name), BStr::new(user.effective_shell()));
        let fault = match context.world.program(shell) {
            Program::Fine => continue,
            Program::Unknown => {
                unknown.get_or_insert((0, shell.to_owned())).0 += 1;
                continue;
            }
            Program::Missing => "is not there",
            Program::NotExecutable => "can't be executed",
        };
        let message = format!("the shell {shell} {fault}: {name} can't sign in.");
        let remedy = or_none(context, &user, another_shell(context, &user, &listed));
        let at = (context.book.users.lines(), line);
        checker.find(&MISSING_SHELL, at, PasswdField::Shell, message, remedy);
    }
    if let Some((count, first)) = unknown {
        checker.skip(
            &MISSING_SHELL,
            format!(
                "{} could not be looked at, first {first}",
                counted(count as u64, "shell", "shells")
            ),
        );
    }
}

/// Whether somebody is let in whom a missing shell keeps out is for the administrator to say.
fn or_none(
    context: PlanContext<'_>,
    user: &Passwd<'_>,
    mut with_shell: Vec<Remedy>,
) -> Vec<Remedy> {
    if user.uid() == Some(Uid::ROOT) {
        return with_shell;
    }
    let name = BStr::new(user.name);
    for remedy in with_shell.iter_mut().filter(|remedy| remedy.command.is_some()) {
        remedy.when = format!("if {name} is to sign in");
    }
    let nobody = context.policy.services_shell.as_bytes();
    let out = Command::own([b"change", b"user", user.name, b"--shell", nobody]);
    with_shell.push(Remedy::or(format!("if {name} is to stay out"), out));
    with_shell
}

/// The policy's shell, or else one of the list, that can be started.
fn another_shell(context: PlanContext<'_>, user: &Passwd<'_>, listed: &[BString]) -> Vec<Remedy> {
    let own = BString::from(context.policy.people_shell.as_str());
    let fine = |shell: &&BString| {
        let known = listed.is_empty() || listed.contains(shell);
        known && matches!(context.world.program(BStr::new(shell)), Program::Fine)
    };
    let plain = BString::from("/bin/sh");
    let mut candidates = [&own, &plain].into_iter().chain(listed.iter().rev());
    match candidates.find(fine) {
        Some(shell) => Remedy::of_command([b"change", b"user", user.name, b"--shell", shell]),
        None => Remedy::by_hand("install a shell, and name it in etc/shells"),
    }
}

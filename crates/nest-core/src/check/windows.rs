//! The hours and the places of accounts: idle-window, unmet-window.

use bstr::{BStr, BString};

use super::left_behind::find_at;
use super::{
    Besides, Checker, Command, Example, Family, PLAIN, Pass, Remedy, Rule, Severity, knows_user,
};
use crate::configuration::Place;
use crate::context::PlanContext;
use crate::drafting::enforce;
use crate::sign_in::window_of;
use crate::table::{File, PasswdField};
use crate::windows::{Half, ToldHalf};
use crate::words::list;

pub(super) const PASSES: &[Pass] = &[(&[&IDLE_WINDOW, &UNMET_WINDOW], windows)];

/// A service that asks.
const ASKING: (&str, &str) =
    ("etc/pam.d/login", "account required pam_time.so\naccount required pam_unix.so\n");

pub(super) static IDLE_WINDOW: Rule = Rule {
    name: "idle-window",
    severity: Severity::Note,
    family: Family::SignIn,
    looks_at_tree: true,
    reads: &[File::Passwd],
    finds: "hours or places of an account that no service keeps to, or of an account that is gone",
    why: "The line is there, and holds nobody to anything: the account signs in at any time and \
              from anywhere. Of an account that is gone it would be the next one's of that name.",
    remedy: "Make the services ask for it: copper-nest change user NAME --enforce login,sshd; or \
                 take the line out: copper-nest change user NAME --hours any, --places anywhere. \
                 That of an account that is gone: copper-nest repair --drop-window NAME.",
    bad: Example::beside(Besides::Says(&[(
        "etc/security/time.conf",
        "# copper-nest: hours of maren\n*;*;maren;Mo0800-1000\n",
    )])),
    good: Example::beside(Besides::Says(&[
        ("etc/security/time.conf", "# copper-nest: hours of maren\n*;*;maren;Mo0800-1000\n"),
        ASKING,
    ])),
    ..PLAIN
};

static UNMET_WINDOW: Rule = Rule {
    name: "unmet-window",
    severity: Severity::Warning,
    family: Family::SignIn,
    looks_at_tree: true,
    reads: &[File::Passwd],
    finds: "hours or places of an account that nothing meets: no minute of the week, no machine",
    why: "The account is shut out, and none of the lines that do it says so: each by itself lets \
              it in at some time, or from somewhere.",
    remedy: "Look at the lines that are named, and make room in one of them; the account's own \
                 goes with copper-nest change user NAME --hours any, --places anywhere.",
    bad: Example::beside(Besides::Says(&[
        (
            "etc/security/time.conf",
            "*;*;*;Sa0000-2400\n# copper-nest: hours of maren\n*;*;maren;Mo0800-1000\n",
        ),
        ASKING,
    ])),
    ..PLAIN
};

/// The command that takes one half of an account's window away.
fn dropping(half: Half, name: &BStr) -> Command {
    match half {
        Half::Hours => Command::own([b"change", b"user", name, b"--hours", b"any"]),
        Half::Places => Command::own([b"change", b"user", name, b"--places", b"anywhere"]),
    }
}

fn windows(checker: &mut Checker<'_>) {
    if checker.wanted(&IDLE_WINDOW).is_some() {
        of_the_gone(checker);
    }
    of_accounts(checker);
}

/// Lines about accounts that are gone.
fn of_the_gone(checker: &mut Checker<'_>) {
    let context = checker.context;
    let mut told: Vec<&BStr> = Vec::new();
    for (half, name, place) in context.world.windows().owners() {
        if context.book.user(name).is_some() || told.contains(&name) {
            continue;
        }
        match knows_user(context, checker.prefilter, name) {
            Ok(true) => continue,
            Ok(false) => {}
            Err(why) => return checker.skip(&IDLE_WINDOW, why),
        }
        told.push(name);
        let half = half.word();
        let message = format!(
            "{place} has the {half} of {name}, and there is no such account: they would be the \
             next one's of that name."
        );
        let remedies = Remedy::of_command([b"repair", b"--drop-window", name]);
        let path = BString::from(format!("/{}", place.file));
        find_at(&IDLE_WINDOW, checker, (path, name.into()), message, remedies);
    }
}

/// Lines about accounts that are there.
fn of_accounts(checker: &mut Checker<'_>) {
    let context = checker.context;
    let windows = context.world.windows();
    let lines = context.book.users.lines();
    let mut names: Vec<&BStr> = windows.owners().map(|(_, name, _)| name).collect();
    names.sort_unstable();
    names.dedup();
    for name in names {
        let Some((line, user)) = context.book.user(name) else { continue };
        for (half, told) in [Half::Hours, Half::Places].into_iter().zip(window_of(context, user)) {
            let own = match half {
                Half::Hours => windows.hours_of(name).map(|own| own.place),
                Half::Places => windows.places_of(name).map(|own| own.place),
            };
            let Some(own) = own else { continue };
            let (rule, message, remedies) = match (told.value.as_str(), &told) {
                ("never" | "nowhere", told) => unmet(half, name, &own, told),
                (_, told) if told.kept_by.is_empty() && told.unsure.is_empty() => {
                    idle(context, half, name, &own)
                }
                _ => continue,
            };
            if let Some(rule) = checker.wanted(rule) {
                checker.find(rule, (lines, line), PasswdField::Name, message, remedies);
            }
        }
    }
}

fn unmet(
    half: Half,
    name: &BStr,
    own: &Place,
    told: &ToldHalf,
) -> (&'static Rule, String, Vec<Remedy>) {
    let at = list(told.lines.iter().map(Place::to_string));
    let when = if half == Half::Hours { "at no time" } else { "from nowhere" };
    let message = format!("{name} can sign in {when}: {at} leave nothing.");
    let others = told.lines.iter().any(|line| line != own);
    let remedies = match others {
        true => Remedy::by_hand(format!("look at {at}, and make room in one of them")),
        false => Remedy::of_one(dropping(half, name)),
    };
    (&UNMET_WINDOW, message, remedies)
}

fn idle(
    context: PlanContext<'_>,
    half: Half,
    name: &BStr,
    own: &Place,
) -> (&'static Rule, String, Vec<Remedy>) {
    let word = half.word();
    let message = format!("{name} has {word} of its own ({own}), and no service keeps to them.");
    let doors = ["login", "sshd"];
    let can_ask = doors.into_iter().filter(|door| enforce(context.world, door, half).is_ok());
    let services = can_ask.collect::<Vec<_>>().join(",");
    let remedies = match services.is_empty() {
        true => Remedy::of_one(dropping(half, name)),
        false => {
            let mut remedies =
                Remedy::of_command([b"change", b"user", name, b"--enforce", services.as_bytes()]);
            remedies.push(Remedy::or("if nothing is to hold it", dropping(half, name)));
            remedies
        }
    };
    (&IDLE_WINDOW, message, remedies)
}

//! Who can sign in: open-password, exposed-hash, weak-hash, second-root, root-group,
//! service-password, aging-order, future-change.

use bstr::BStr;

use super::repair::mends;
use super::{Checker, Command, Example, Family, Mend, PLAIN, Pass, Remedy, Rule, Severity};
use crate::account::{AccountKind, kind_of, turns_away};
use crate::context::PlanContext;
use crate::secret::hash_of;
use crate::sign_in::sign_in_by_book;
use crate::table::{Column, File, Line, Lines, Passwd, PasswdField, Record, Shadow, ShadowField};
use crate::value::{Day, PasswordField, Scheme, Uid};

pub(super) const PASSES: &[Pass] = &[
    (&[&OPEN_PASSWORD], open_passwords),
    (&[&EXPOSED_HASH], exposed_hashes),
    (&[&SERVICE_PASSWORD], service_passwords),
    (&[&AGING_ORDER, &FUTURE_CHANGE], aging),
    (&[&WEAK_HASH], weak_hashes),
];

static OPEN_PASSWORD: Rule = Rule {
    name: "open-password",
    severity: Severity::Error,
    family: Family::SignIn,
    reads: &[File::Passwd, File::Shadow],
    finds: "an empty password field",
    why: "Whoever types the name is in: no password is asked.",
    remedy: "Set a password, or put ! into the field.",
    bad: Example::with(&[(File::Shadow, "maren::20781:0::7:::\n")]),
    by_line: true,
    mend: Mend::Line(mends::close),
    ..PLAIN
};

static EXPOSED_HASH: Rule = Rule {
    name: "exposed-hash",
    severity: Severity::Error,
    family: Family::SignIn,
    reads: &[File::Passwd, File::Group],
    finds: "a password hash in a file that everybody can read",
    why: "Whoever can read the hash can guess the password at leisure, on a machine of their own.",
    remedy: "Set the password anew, which moves it to etc/shadow or etc/gshadow, and take the old one for known.",
    bad: Example::with(&[(
        File::Passwd,
        "maren:$y$j9T$TQrrklxsv3nFULfgn4vfq1$uF6Yp8T5sCFlkFK8AI5yNLvAOEZl4Pn70F8hFaZBvz2:1004:1004:Maren Solvik:/home/maren:/bin/bash\n",
    )]),
    by_line: true,
    mend: Mend::Line(mends::hide),
    ..PLAIN
};

static SERVICE_PASSWORD: Rule = Rule {
    name: "service-password",
    severity: Severity::Warning,
    family: Family::SignIn,
    reads: &[File::Passwd, File::Shadow],
    finds: "a service that can sign in by password",
    why: "Nobody signs in as a service; a password on it is a door that nobody watches.",
    remedy: "Take the password away: copper-nest password user NAME --none.",
    bad: Example::with(&[
        (File::Passwd, "gauge:x:200:200::/nonexistent:/usr/sbin/nologin\n"),
        (File::Group, "gauge:x:200:\n"),
        (
            File::Shadow,
            "gauge:$y$j9T$TQrrklxsv3nFULfgn4vfq1$uF6Yp8T5sCFlkFK8AI5yNLvAOEZl4Pn70F8hFaZBvz2:20781::::::\n",
        ),
    ]),
    good: Example::with(&[
        (File::Passwd, "gauge:x:200:200::/nonexistent:/usr/sbin/nologin\n"),
        (File::Group, "gauge:x:200:\n"),
        (File::Shadow, "gauge:!:20781::::::\n"),
    ]),
    ..PLAIN
};

static AGING_ORDER: Rule = Rule {
    name: "aging-order",
    severity: Severity::Warning,
    family: Family::SignIn,
    reads: &[File::Shadow],
    finds: "a password that may not be changed before it must be",
    why: "When it runs out, its owner is asked for a new one and refused it: locked out on that day.",
    remedy: "Make the days to hold it fewer: copper-nest change user NAME --password-hold DAYS.",
    bad: Example::with(&[(File::Shadow, "maren:!:20781:90:30:7:::\n")]),
    by_line: true,
    ..PLAIN
};

static FUTURE_CHANGE: Rule = Rule {
    name: "future-change",
    severity: Severity::Warning,
    family: Family::SignIn,
    reads: &[File::Shadow],
    finds: "a password that was changed in the future",
    why: "Until that day it does not age, and is never asked to be changed; usually a clock was wrong.",
    remedy: "Set the password again: copper-nest password user NAME.",
    bad: Example::with(&[(File::Shadow, "maren:!:30000:0:365:7:::\n")]),
    by_line: true,
    ..PLAIN
};

static WEAK_HASH: Rule = Rule {
    name: "weak-hash",
    severity: Severity::Warning,
    family: Family::SignIn,
    reads: &[File::Passwd, File::Shadow],
    finds: "a password hashed in a way that is quick to guess",
    why: "Once somebody has a copy of the file, such as a backup, passwords hashed by md5, des \
              and the like are found in hours.",
    remedy: "Have the password set anew, which hashes it by the policy's scheme: \
                 copper-nest password user NAME.",
    bad: Example::with(&[(
        File::Shadow,
        "maren:$1$Gullhave$0123456789abcdefghijkl:20781:0::7:::\n",
    )]),
    good: Example::with(&[(
        File::Shadow,
        "maren:$y$j9T$TQrrklxsv3nFULfgn4vfq1$uF6Yp8T5sCFlkFK8AI5yNLvAOEZl4Pn70F8hFaZBvz2:20781:0::7:::\n",
    )]),
    by_line: true,
    ..PLAIN
};

fn exposed_hashes(checker: &mut Checker<'_>) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    let book = context.book;
    for file in [File::Passwd, File::Group] {
        let Some(lines) = book.lines(file) else { continue };
        for line in prefilter.lines(book, file).filter(Line::is_record) {
            if hash_of(file, line.record()).and_then(Scheme::of).is_none() {
                continue;
            }
            let name = BStr::new(line.name());
            let message = format!("everybody can read the password hash of {name} here.");
            // Where another hash waits in its place nobody can say which one counts.
            let waits = match file {
                File::Passwd => book.shadow(name).map(|(_, shadow)| shadow.password),
                _ => {
                    let line = book.named(File::Gshadow, name).into_iter().next();
                    line.and_then(|line| hash_of(File::Gshadow, line.bytes))
                }
            };
            let waits = waits.is_some_and(|hash| !PasswordField::is_harmless(hash));
            // And a service is to have none at all.
            let waits = waits || file == File::Passwd && is_service(context, name);
            let remedy = match (waits, file) {
                (false, _) => Remedy::repair(&EXPOSED_HASH),
                (true, File::Passwd) => new_password(context, name),
                (true, _) => Remedy::of_command([b"password", b"group", name, b"--none"]),
            };
            checker.find(&EXPOSED_HASH, (lines, line), Column::PASSWORD, message, remedy);
        }
    }
}

/// Hashes that today's machines try by the billion.
fn weak_hashes(checker: &mut Checker<'_>) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    let book = context.book;
    for file in [File::Passwd, File::Shadow, File::Group, File::Gshadow] {
        let Some(lines) = book.lines(file) else { continue };
        for line in prefilter.lines(book, file).filter(Line::is_record) {
            let hash = hash_of(file, line.record());
            let scheme = hash.map(|hash| hash.strip_prefix(b"!").unwrap_or(hash));
            let Some(scheme) = scheme.and_then(Scheme::of).filter(|scheme| scheme.is_weak()) else {
                continue;
            };
            let (name, scheme) = (BStr::new(line.name()), scheme.name());
            let message =
                format!("the password of {name} is hashed by {scheme}, and soon guessed.");
            let remedy = match file.is_of_groups() {
                false => new_password(context, name),
                true => Remedy::of_command([b"password", b"group", name, b"--none"]),
            };
            checker.find(&WEAK_HASH, (lines, line), Column::PASSWORD, message, remedy);
        }
    }
}

/// Whether something may let an account in. By the files alone that is a password; keys are
/// looked for in the tree.
pub(super) fn may_sign_in<'a>(checker: &Checker<'a>, user: Passwd<'a>) -> bool {
    let (context, book) = (checker.context, checker.context.book);
    let field = match user.is_shadowed() {
        true => match book.shadow(user.name) {
            Some((_, shadow)) => shadow.field(),
            None => PasswordField::Never,
        },
        false => PasswordField::read(user.password),
    };
    match field {
        PasswordField::Set(_) | PasswordField::Open => !turns_away(user.effective_shell()),
        _ => !checker.selection.files_only && sign_in_by_book(context, user).by_key(),
    }
}

fn is_service(context: PlanContext<'_>, name: &[u8]) -> bool {
    let user = context.book.user(name).map(|(_, user)| user);
    let uid = user.and_then(|user| user.uid()).filter(|uid| *uid != Uid::ROOT);
    uid.is_some_and(|uid| kind_of(context.policy, Some(uid)) == AccountKind::Service)
}

/// A password from the generator, which the user has to change; a service is to have none.
pub(super) fn new_password(context: PlanContext<'_>, name: &[u8]) -> Vec<Remedy> {
    match is_service(context, name) {
        true => Remedy::of_command([b"password", b"user", name, b"--none", b"--even-service"]),
        false => Remedy::of_command([b"password", b"user", name, b"--generate", b"--must-change"]),
    }
}

fn service_passwords(checker: &mut Checker<'_>) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    let (book, policy) = (context.book, context.policy);
    let Some(table) = &book.shadow else { return };
    for (line, user) in prefilter.records::<Passwd<'_>>(book, File::Passwd) {
        let service =
            user.uid().filter(|uid| *uid != Uid::ROOT).map(|uid| kind_of(policy, Some(uid)));
        let first = book.named(File::Passwd, user.name).first().map(|first| first.start);
        if service != Some(AccountKind::Service) || first != Some(line.start) {
            continue;
        }
        // What stands in passwd itself counts there.
        if !user.is_shadowed() {
            let set = matches!(PasswordField::read(user.password), PasswordField::Set(_));
            if set {
                service_password(checker, (book.users.lines(), line), user.name);
            }
            continue;
        }
        let lines = book.named(File::Shadow, user.name).into_iter();
        for line in lines {
            let password = Shadow::read(line.record()).map(|shadow| shadow.password);
            if !matches!(password.map(PasswordField::read), Some(PasswordField::Set(_))) {
                continue;
            }
            service_password(checker, (table.lines(), line), user.name);
        }
    }
}

fn service_password(checker: &mut Checker<'_>, at: (&Lines, Line<'_>), name: &[u8]) {
    let message = format!("{} is a service, and can sign in by password.", BStr::new(name));
    let remedy = Remedy::of_command([b"password", b"user", name, b"--none", b"--even-service"]);
    checker.find(&SERVICE_PASSWORD, at, Column::PASSWORD, message, remedy);
}

fn aging(checker: &mut Checker<'_>) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    let (order, future) = (checker.wanted(&AGING_ORDER), checker.wanted(&FUTURE_CHANGE));
    let Some(table) = &context.book.shadow else { return };
    for (line, shadow) in prefilter.records::<Shadow<'_>>(context.book, File::Shadow) {
        let (aging, name) = (shadow.aging(), BStr::new(shadow.name));
        let at = (table.lines(), line);
        if let (Some(rule), Some(hold), Some(renew)) = (order, aging.hold, aging.renew)
            && hold > renew
        {
            let message = format!(
                "{name} must change the password after {renew} days, and may not for {hold}."
            );
            let change: [&[u8]; 5] = [b"change", b"user", name, b"--password-hold", b"0"];
            checker.find(rule, at, ShadowField::Hold, message, Remedy::of_command(change));
        }
        if let (Some(rule), Some(changed)) = (future, aging.changed)
            && changed > context.today.0 + 1
        {
            let day = Day(changed);
            let message = format!("the password of {name} was changed on {day}, which is to come.");
            checker.find(
                rule,
                at,
                ShadowField::Changed,
                message,
                new_password(context, shadow.name),
            );
        }
    }
}

fn open_passwords(checker: &mut Checker<'_>) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    let book = context.book;
    let message = |name: &[u8]| {
        format!("the password field of {} is empty: no password is asked.", BStr::new(name))
    };
    let remedy = |name: &[u8]| {
        let mut remedy = Remedy::repair(&OPEN_PASSWORD);
        let set = Command::own([b"password", b"user", name]);
        remedy.push(Remedy::or("to let it in by a password", set));
        remedy
    };
    let users = prefilter.records::<Passwd<'_>>(book, File::Passwd);
    for (line, user) in users.filter(|(_, user)| user.password.is_empty()) {
        let lines = book.users.lines();
        let message = message(user.name);
        checker.find(
            &OPEN_PASSWORD,
            (lines, line),
            PasswdField::Password,
            message,
            remedy(user.name),
        );
    }
    let Some(table) = &book.shadow else { return };
    let shadows = prefilter.records::<Shadow<'_>>(book, File::Shadow);
    for (line, shadow) in shadows.filter(|(_, shadow)| shadow.password.is_empty()) {
        let message = message(shadow.name);
        checker.find(
            &OPEN_PASSWORD,
            (table.lines(), line),
            ShadowField::Password,
            message,
            remedy(shadow.name),
        );
    }
}

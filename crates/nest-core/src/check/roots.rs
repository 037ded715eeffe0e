//! Who is root, and who is in root's group: second-root, no-root, root-group.

use bstr::BStr;

use super::sign_in::may_sign_in;
use super::{
    Checker, Command, Example, Family, PLAIN, Pass, Remedy, Rule, Severity, another_number,
    free_name,
};
use crate::context::PlanContext;
use crate::table::{File, Passwd, PasswdField};
use crate::value::{Gid, Uid, check_name};

pub(super) const PASSES: &[Pass] =
    &[(&[&SECOND_ROOT, &NO_ROOT], roots), (&[&ROOT_GROUP], in_roots_group)];

static SECOND_ROOT: Rule = Rule {
    name: "second-root",
    severity: Severity::Error,
    family: Family::SignIn,
    reads: &[File::Passwd],
    finds: "a second user with uid 0",
    why: "It is root under another name, easily overlooked, with a password of its own.",
    remedy: "Give it another uid, or take it out; to be an administrator, membership of \
                 the administrators' group is enough.",
    bad: Example::with(&[
        (File::Passwd, "root:x:0:0:root:/root:/bin/bash\nkeeper:x:0:0::/root:/bin/bash\n"),
        (File::Group, "root:x:0:\n"),
        (File::Shadow, "root:*:20781::::::\nkeeper:*:20781::::::\n"),
    ]),
    by_line: true,
    ..PLAIN
};

static NO_ROOT: Rule = Rule {
    name: "no-root",
    severity: Severity::Error,
    family: Family::SignIn,
    reads: &[File::Passwd],
    finds: "a passwd in which nobody has uid 0",
    why: "Programs look root up by that number or by its name, at boot too: they find nobody, and \
              what they do then nobody has tried.",
    remedy: "Put root's line back: root:x:0:0:root:/root:/bin/bash, as the first of etc/passwd.",
    bad: Example::with(&[(File::Group, "root:x:0:\nmaren:x:1004:\n")]),
    ..PLAIN
};

static ROOT_GROUP: Rule = Rule {
    name: "root-group",
    severity: Severity::Warning,
    family: Family::SignIn,
    reads: &[File::Passwd],
    finds: "an account other than root that can sign in and whose primary group is root's",
    why: "Every file it makes can be read, and often written, by whoever is in root's group, and it reaches root's files.",
    remedy: "Give it another primary group: copper-nest regroup NAME --primary GROUP.",
    bad: Example::with(&[
        (File::Passwd, "root:x:0:0::/root:/bin/sh\nperrin:x:1005:0::/nonexistent:/bin/sh\n"),
        (File::Group, "root:x:0:\n"),
        (File::Shadow, PERRINS),
    ]),
    good: Example::with(&[
        (File::Passwd, "root:x:0:0::/root:/bin/sh\n"),
        (File::Group, "root:x:0:\n"),
        (File::Shadow, "root:*:20781::::::\n"),
    ]),
    by_line: true,
    ..PLAIN
};

/// Somebody whom a password lets in.
const PERRINS: &str = "\
root:*:20781::::::
perrin:$y$j9T$TQrrklxsv3nFULfgn4vfq1$uF6Yp8T5sCFlkFK8AI5yNLvAOEZl4Pn70F8hFaZBvz2:20781::::::
";

fn roots(checker: &mut Checker<'_>) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    let lines = context.book.users.lines();
    let odd = prefilter.records::<Passwd<'_>>(context.book, File::Passwd);
    let roots: Vec<_> = odd.filter(|(_, user)| user.uid() == Some(Uid::ROOT)).collect();
    // The one that is called root is the one that should be there.
    let first = roots.iter().position(|(_, user)| user.name == b"root").unwrap_or(0);
    let Some(&(first_line, first)) = roots.get(first) else {
        if let Some(rule) = checker.wanted(&NO_ROOT) {
            no_root(checker, rule);
        }
        return;
    };
    if checker.wanted(&SECOND_ROOT).is_none() {
        return;
    }
    for (line, user) in roots.into_iter().filter(|(_, user)| user.name != first.name) {
        let message = format!(
            "{} has uid 0 and is root under another name, like {} (line {}).",
            BStr::new(user.name),
            BStr::new(first.name),
            lines.number(first_line.start)
        );
        let remedy = another_number(File::Passwd, user.name);
        checker
            .find(&SECOND_ROOT, (lines, line), PasswdField::Uid, message, remedy)
            .relate(lines, first_line);
    }
}

/// Nobody has uid 0, though another line says that there is to be a root. Of a tree that holds
/// but some accounts that is not said.
fn no_root(checker: &mut Checker<'_>, rule: &'static Rule) {
    let context = checker.context;
    let book = context.book;
    let is_meant = book.names().entry(b"root").is_some() || checker.prefilter.gids.contains(0);
    let elsewhere = context.world.elsewhere();
    if !is_meant || book.users.lines().is_empty() || elsewhere.has_uid(Uid::ROOT) {
        return;
    }
    let message = "nobody has uid 0: root is unknown to the system.".to_owned();
    let (message, remedies) = checker.or_lost((File::Passwd, b"root"), message, || {
        Remedy::by_hand(
            "put root's line back, as the first of etc/passwd: root:x:0:0:root:/root:/bin/bash",
        )
    });
    checker.find_about(rule, File::Passwd, message, remedies);
}

fn in_roots_group(checker: &mut Checker<'_>) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    let users = &context.book.users;
    let odd = prefilter.records::<Passwd<'_>>(context.book, File::Passwd);
    let in_it =
        odd.filter(|(_, user)| user.gid() == Some(Gid::ROOT) && user.uid() != Some(Uid::ROOT));
    for (line, user) in in_it {
        // Many systems ship accounts in root's group that nothing lets in.
        if !may_sign_in(checker, user) {
            continue;
        }
        let name = BStr::new(user.name);
        let message =
            format!("the primary group of {name} is root's: its files are shared with it.");
        let remedy = own_group(context, user.name);
        checker.find(&ROOT_GROUP, (users.lines(), line), PasswdField::Gid, message, remedy);
    }
}

/// A primary group of its own: one of its name, made where there is none.
pub(super) fn own_group(context: PlanContext<'_>, name: &[u8]) -> Vec<Remedy> {
    let own = match context.book.group(name) {
        Some((_, group)) if group.gid() == Some(Gid::ROOT) => free_name(context.book, name.into()),
        None if check_name(context.policy.names_style, name.into()).is_err()
            || !context.book.named(File::Gshadow, name).is_empty() =>
        {
            free_name(context.book, name.into())
        }
        _ => name.into(),
    };
    let regroup = Command::own([b"regroup", name, b"--primary", &own]);
    match context.book.group(&own) {
        Some(_) => Remedy::of_one(regroup),
        None => {
            let make = Command::own([b"create", b"group", &own, b"--primary-of", name]);
            // One that is there takes one command.
            let shared = context.book.group(b"users").filter(|(_, it)| it.gid() != Some(Gid::ROOT));
            match shared {
                Some((_, users)) => {
                    let change: [&[u8]; 4] = [b"regroup", name, b"--primary", users.name];
                    let mut ways = Remedy::of_command(change);
                    ways.push(Remedy::or("to have a group of its own", make));
                    ways
                }
                None => Remedy::of_one(make),
            }
        }
    }
}

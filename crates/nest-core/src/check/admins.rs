//! Whether anybody can administer the machine: no-admin.

use super::{Checker, Command, Example, Family, PLAIN, Pass, Remedy, Rule, Severity, new_password};
use crate::account::admin_groups;
use crate::sign_in::can_work;
use crate::table::{File, Group, GroupField, Passwd};
use crate::value::IdSpan;
use crate::value::Uid;

pub(super) const PASSES: &[Pass] = &[(&[&NO_ADMIN], no_admin)];

static NO_ADMIN: Rule = Rule {
    name: "no-admin",
    severity: Severity::Warning,
    family: Family::SignIn,
    looks_at_tree: true,
    reads: &[File::Passwd, File::Shadow, File::Group],
    finds: "a machine with people, of whom nobody can administer it",
    why: "When something has to be changed, nobody can: what is left is starting it from \
              another disk. A tree without people, such as an image, is not judged.",
    remedy: "Put somebody who can sign in into the administrators' group: copper-nest regroup \
                 NAME --join GROUP.",
    bad: Example::with(&[
        (
            File::Passwd,
            "root:x:0:0:root:/root:/bin/bash\nmaren:x:1004:1004::/home/maren:/bin/bash\n",
        ),
        (File::Group, "root:x:0:\nsudo:x:27:\nmaren:x:1004:\n"),
        (File::Shadow, "root:*:20781::::::\nmaren:$6$Gullhaven$0123456789abcdef:20781:0::7:::\n"),
    ]),
    good: Example::with(&[
        (
            File::Passwd,
            "root:x:0:0:root:/root:/bin/bash\nmaren:x:1004:1004::/home/maren:/bin/bash\n",
        ),
        (File::Group, "root:x:0:\nsudo:x:27:maren\nmaren:x:1004:\n"),
        (File::Shadow, "root:*:20781::::::\nmaren:$6$Gullhaven$0123456789abcdef:20781:0::7:::\n"),
    ]),
    ..PLAIN
};

fn no_admin(checker: &mut Checker<'_>) {
    let (context, prefilter) = (checker.context, checker.prefilter);
    let (book, policy) = (context.book, context.policy);
    let is_person = |user: &Passwd<'_>| user.uid().is_some_and(|uid| policy.is_person(uid));
    // An image that nobody signs in to needs no administrator; and without root these
    // are not the accounts of a whole machine.
    let people = policy.people_spans();
    let lives = |span: &IdSpan| prefilter.uids.highest_in(span.first(), span.last()).is_some();
    if !people.iter().any(lives) || !prefilter.uids.contains(0) {
        return;
    }
    let can = |user: &Passwd<'_>| can_work(context, *user);
    let mut odd = prefilter.records::<Passwd<'_>>(book, File::Passwd);
    if odd.any(|(_, user)| user.uid() == Some(Uid::ROOT) && can(&user)) {
        return;
    }
    let groups = admin_groups(book, policy);
    let in_group = |group: &Group<'_>, user: &Passwd<'_>| {
        user.gid() == group.gid() || group.members().any(|member| member == user.name)
    };
    for group in &groups {
        let listed = group.members().filter_map(|name| book.user(name).map(|(_, user)| user));
        let primary = book.users.records().map(|(_, user)| user);
        let any = group.gid().is_some_and(|gid| prefilter.primary.contains(gid.0));
        let primary = primary.take_while(|_| any).filter(|user| user.gid() == group.gid());
        if listed.chain(primary).any(|user| can(&user)) {
            return;
        }
    }
    let message = "nobody who can sign in may administer this machine, and neither can root.";
    let Some(group) = groups.first() else {
        let remedy = Remedy::by_hand(format!(
            "make one of the groups {}, which the policy names, and put somebody in it",
            policy.admins_groups.join(", ")
        ));
        checker.find_about(&NO_ADMIN, File::Group, message, remedy);
        return;
    };
    let people = || book.users.records().map(|(_, user)| user).filter(is_person);
    let remedy = match (people().find(can), people().find(|user| in_group(group, user))) {
        (Some(user), _) => Remedy::of_command([b"regroup", user.name, b"--join", group.name]),
        (None, Some(admin)) => new_password(admin.name),
        (None, None) => match people().next() {
            Some(user) => {
                let password = new_password(user.name).swap_remove(0).commands;
                let join = Command::own([b"regroup", user.name, b"--join", group.name]);
                vec![Remedy { when: String::new(), commands: [password, vec![join]].concat() }]
            }
            None => Vec::new(),
        },
    };
    let line = book.named(File::Group, group.name).into_iter().next();
    if let Some(line) = line {
        let lines = book.groups.lines();
        checker.find(&NO_ADMIN, (lines, line), GroupField::Members, message, remedy).subject =
            group.name.into();
    }
}

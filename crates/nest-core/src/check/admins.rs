//! Whether anybody can administer the machine: no-admin.

use bstr::BStr;

use super::roots::own_group;
use super::sign_in::may_sign_in;
use super::{
    Checker, Command, Example, Family, Mark, PLAIN, Pass, Remedy, Rule, Severity, new_password,
};
use crate::account::admin_groups;
use crate::sign_in::{can_work, sign_in_by_book};
use crate::table::{File, Group, GroupField, Passwd, Record};
use crate::value::IdSpan;
use crate::value::Uid;

pub(super) const PASSES: &[Pass] = &[(&[&NO_ADMIN], no_admin), (&[&ROOT_LIKE_MEMBER], root_like)];

static ROOT_LIKE_MEMBER: Rule = Rule {
    name: "root-like-member",
    severity: Severity::Warning,
    family: Family::Memberships,
    looks_at_tree: true,
    reads: &[File::Passwd, File::Group],
    finds: "somebody in a group whose members can become root, who is no administrator",
    why: "Such groups are disk, shadow, docker and the like: whoever is in one reads every file \
              or starts what it likes as root, and no list of administrators says so. The policy names \
              them: admins.like_root.",
    remedy: "Take the account out, or make it an administrator: copper-nest regroup NAME --leave \
                 GROUP, or --admin.",
    bad: Example::with(&[(File::Group, "maren:x:1004:\ndisk:x:6:maren\n"), (File::Shadow, MARENS)]),
    good: Example::with(&[(File::Group, "maren:x:1004:\ndisk:x:6:\n"), (File::Shadow, MARENS)]),
    ..PLAIN
};

/// Somebody whom a password lets in.
const MARENS: &str = "maren:$y$j9T$TQrrklxsv3nFULfgn4vfq1$uF6Yp8T5sCFlkFK8AI5yNLvAOEZl4Pn70F8hFaZBvz2:20781:0::7:::\n";

fn root_like(checker: &mut Checker<'_>) {
    let context = checker.context;
    let (book, policy) = (context.book, context.policy);
    let admins = admin_groups(book, policy);
    let is_admin = |user: &Passwd<'_>| {
        let by_group = |group: &Group<'_>| {
            user.gid() == group.gid() || group.members().any(|member| member == user.name)
        };
        user.uid() == Some(Uid::ROOT) || admins.iter().any(by_group)
    };
    let names = policy.admins_like_root.iter();
    let named = names.flat_map(|name| book.named(File::Group, name.as_bytes()));
    let lines = book.groups.lines();
    for line in named {
        let Some(group) = Group::read(line.record()) else { continue };
        if admins.iter().any(|admins| admins.name == group.name) {
            continue;
        }
        let listed = group.members().filter_map(|name| book.user(name).map(|(_, user)| user));
        // Whose primary group is root's is another rule's.
        let any = group.gid().filter(|gid| gid.0 != 0 && checker.prefilter.primary.contains(gid.0));
        let primary = book.users.records().map(|(_, user)| user);
        let primary = primary.take_while(|_| any.is_some()).filter(|user| user.gid() == any);
        let mut told: Vec<&[u8]> = Vec::new();
        for user in listed.chain(primary) {
            if told.contains(&user.name) || is_admin(&user) || !may_sign_in(checker, user) {
                continue;
            }
            told.push(user.name);
            let (name, in_group) = (BStr::new(user.name), BStr::new(group.name));
            let message = format!("{name} is in {in_group}, by which it can become root.");
            let is_listed = group.members().any(|member| member == user.name);
            let admin = Command::own([b"regroup", user.name, b"--admin"]);
            let or_admin = Remedy::or("if it is to administer the machine", admin);
            let (mark, remedy) = match is_listed {
                true => {
                    let leave: [&[u8]; 4] = [b"regroup", user.name, b"--leave", group.name];
                    let mark = Mark::Member(GroupField::Members.into(), name.to_owned());
                    (mark, [Remedy::of_command(leave), vec![or_admin]].concat())
                }
                false => {
                    let ways = own_group(context, user.name);
                    (Mark::from(GroupField::Gid), [ways, vec![or_admin]].concat())
                }
            };
            checker.find(&ROOT_LIKE_MEMBER, (lines, line), mark, message, remedy);
        }
    }
}

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
        (
            File::Shadow,
            "root:*:20781::::::\nmaren:$y$j9T$TQrrklxsv3nFULfgn4vfq1$uF6Yp8T5sCFlkFK8AI5yNLvAOEZl4Pn70F8hFaZBvz2:20781:0::7:::\n",
        ),
    ]),
    good: Example::with(&[
        (
            File::Passwd,
            "root:x:0:0:root:/root:/bin/bash\nmaren:x:1004:1004::/home/maren:/bin/bash\n",
        ),
        (File::Group, "root:x:0:\nsudo:x:27:maren\nmaren:x:1004:\n"),
        (
            File::Shadow,
            "root:*:20781::::::\nmaren:$y$j9T$TQrrklxsv3nFULfgn4vfq1$uF6Yp8T5sCFlkFK8AI5yNLvAOEZl4Pn70F8hFaZBvz2:20781:0::7:::\n",
        ),
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
        (None, Some(admin)) => new_password(checker.context, admin.name),
        // One command that makes an administrator: a person would need two.
        (None, None) => {
            let meant =
                format!("let somebody sign in, and put them into {}", BStr::new(group.name));
            let mut ways = Remedy::by_hand(meant);
            // A password helps root only where nothing else keeps it out.
            let roots = book.users_by_uid(Uid::ROOT).into_iter().map(|(_, root)| root);
            let mut roots = roots.filter(|root| sign_in_by_book(context, *root).both.is_empty());
            if let Some(root) = roots.next() {
                ways.splice(0..0, new_password(context, root.name));
            }
            ways
        }
    };
    let line = book.named(File::Group, group.name).into_iter().next();
    if let Some(line) = line {
        let lines = book.groups.lines();
        checker.find(&NO_ADMIN, (lines, line), GroupField::Members, message, remedy).subject =
            group.name.into();
    }
}

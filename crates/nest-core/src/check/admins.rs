//! Whether anybody can administer the machine: no-admin.

use bstr::ByteSlice;

use super::lines::found;
use super::prefilter::Prefilter;
use super::sign_in::new_password;
use super::{Command, Finding, Mark, Out, Remedy, Rule, Selection, rule};
use crate::account::admin_group;
use crate::context::PlanContext;
use crate::sign_in::can_sign_in;
use crate::table::{File, Group, Passwd};

pub(super) fn run(context: PlanContext<'_>, selection: &Selection, prefilter: &Prefilter) -> Out {
    let mut out = Out::default();
    if let Some(rule) = rule("no-admin").filter(|rule| selection.wants(rule)) {
        no_admin(rule, context, prefilter, &mut out);
    }
    out
}

fn no_admin(rule: &'static Rule, context: PlanContext<'_>, prefilter: &Prefilter, out: &mut Out) {
    let (book, policy) = (context.book, context.policy);
    let is_person = |user: &Passwd<'_>| user.uid().is_some_and(|uid| policy.is_person(uid));
    // An image that nobody signs in to needs no administrator; and without root these
    // are not the accounts of a whole machine.
    let people = policy.people_ids;
    if prefilter.uids.highest_in(people.first(), people.last()).is_none()
        || !prefilter.uids.contains(0)
    {
        return;
    }
    let can = |user: &Passwd<'_>| can_sign_in(context, user);
    let mut odd = prefilter.records::<Passwd<'_>>(book, File::Passwd);
    if odd.any(|(_, user)| user.uid() == Some(0) && can(&user)) {
        return;
    }
    let group = admin_group(book, policy);
    let in_group = |group: &Group<'_>, user: &Passwd<'_>| {
        user.gid() == group.gid() || group.members().any(|member| member == user.name)
    };
    if let Some(group) = &group {
        let listed = group.members().filter_map(|name| book.user(name).map(|(_, user)| user));
        let primary = book.users.records().map(|(_, user)| user);
        let any = group.gid().is_some_and(|gid| prefilter.primary.contains(gid));
        let primary = primary.take_while(|_| any).filter(|user| user.gid() == group.gid());
        if listed.chain(primary).any(|user| can(&user)) {
            return;
        }
    }
    let message = "nobody who can sign in may administer this machine, and neither can root.";
    let Some(group) = group else {
        let remedy = Remedy::by_hand(format!(
            "make one of the groups {}, which the policy names, and put somebody in it",
            policy.admins_groups.join(", ")
        ));
        return out.findings.push(Finding {
            rule,
            file: File::Group,
            line: 0,
            place: None,
            text: "".into(),
            mark: Mark::Line,
            subject: File::Group.path().into(),
            message: message.to_owned(),
            remedies: remedy,
            related: Vec::new(),
        });
    };
    let people = || book.users.records().map(|(_, user)| user).filter(is_person);
    let remedy = match (people().find(can), people().find(|user| in_group(&group, user))) {
        (Some(user), _) => Remedy::run([b"regroup", user.name, b"--join", group.name]),
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
        let mut finding =
            found(rule, book.groups.lines(), line, Mark::Field(3), message.to_owned(), remedy);
        finding.subject = group.name.as_bstr().to_owned();
        out.findings.push(finding);
    }
}

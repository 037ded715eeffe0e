//! Who has not been there for long: unseen.

use bstr::BStr;

use super::sign_in::may_sign_in;
use super::{Besides, Checker, Example, Family, PLAIN, Pass, Remedy, Rule, Severity};
use crate::account::Account;
use crate::last_seen::LastSeen;
use crate::policy::Days;
use crate::table::{File, PasswdField};

pub(super) const PASSES: &[Pass] = &[(&[&UNSEEN], unseen)];

/// Somebody who could sign in.
const WITH_PASSWORD: &[(File, &str)] = &[(
    File::Shadow,
    "maren:$y$j9T$TQrrklxsv3nFULfgn4vfq1$uF6Yp8T5sCFlkFK8AI5yNLvAOEZl4Pn70F8hFaZBvz2:20781:0::7:::\n",
)];

static UNSEEN: Rule = Rule {
    name: "unseen",
    severity: Severity::Note,
    family: Family::SignIn,
    looks_at_tree: true,
    reads: &[File::Passwd, File::Shadow],
    finds: "a person who could sign in and has not for longer than the policy's check.unseen_days",
    why: "Nobody would notice if somebody else used the account. Off unless the policy names a \
              number of days; where no log of sign-ins is kept nobody is told of.",
    remedy: "Ask whether the account is needed still: copper-nest suspend user NAME keeps it out, \
                 and takes nothing away.",
    bad: Example { other: WITH_PASSWORD, besides: Besides::Unseen { days: 400, tells_after: 180 } },
    good: Example { other: WITH_PASSWORD, besides: Besides::Unseen { days: 20, tells_after: 180 } },
    ..PLAIN
};

fn unseen(checker: &mut Checker<'_>) {
    let context = checker.context;
    let Days::After(most) = context.policy.check_unseen_days else { return };
    let lines = context.book.users.lines();
    for (line, user) in context.book.users.records() {
        let is_person = user.uid().is_some_and(|uid| context.policy.is_person(uid));
        if !is_person || !may_sign_in(checker, user) {
            continue;
        }
        let name = BStr::new(user.name);
        let seen = context.world.last_seen(name, user.uid(), context.today);
        let message = match &seen {
            LastSeen::At(visit) => {
                let days = seen.days(context.today).unwrap_or(0);
                if days <= i64::from(most) {
                    continue;
                }
                format!("{name} was last signed in on {}, {days} days ago.", visit.day())
            }
            LastSeen::Never => format!("{name} has never been signed in, as far as the logs go."),
            LastSeen::NoLog => {
                return checker.skip(&UNSEEN, "no log of sign-ins is kept here");
            }
            LastSeen::Unknown(why) => return checker.skip(&UNSEEN, why.clone()),
        };
        // Whoever administers is not kept out in passing: it may be the last one who does.
        let remedy = match Account::gather(context.book, context.policy, user).admin {
            true => Remedy::by_hand("ask whether this administrator is needed still"),
            false => Remedy::of_command([b"suspend", b"user", name]),
        };
        checker.find(&UNSEEN, (lines, line), PasswdField::Name, message, remedy);
    }
}

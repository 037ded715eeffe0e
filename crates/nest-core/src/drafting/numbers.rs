//! Choosing numbers for accounts and groups, with the words for what stands in the way.

use bstr::BStr;

use crate::account::AccountKind;
use crate::allot::{Allotted, Allotter, Holder, IdUse, NotAllotted, Wanted, setting_of, span_of};
use crate::change::{Caution, Subject};
use crate::drafting::PlanBuilder;
use crate::policy::Policy;
use crate::refusal::{Reason, Refusal};
use crate::value::{Gid, TreePath, Uid, reserved_for};

/// A number that is to be chosen, or that was asked for.
#[derive(Clone, Copy)]
pub(crate) struct NewNumber<'r> {
    /// Of a user or of a group.
    pub of: IdUse,
    /// Whose span it comes from.
    pub kind: AccountKind,
    /// The number that was asked for.
    pub wanted: Option<Wanted<'r>>,
    /// Who gets it.
    pub name: &'r BStr,
}

impl NewNumber<'_> {
    /// Chooses it, and adds what has to be told.
    ///
    /// # Errors
    /// [`NotAllotted`], of which [`NewNumber::refusal`] makes a refusal.
    pub fn choose(
        self,
        policy: &Policy,
        allotter: &mut Allotter<'_>,
        cautions: &mut Vec<Caution>,
    ) -> Result<u32, NotAllotted> {
        let allotted = allotter.choose(self.of, self.kind, self.wanted)?;
        self.tell(policy, &allotted, cautions);
        if let Some(earlier) = allotted.earlier.clone().filter(|earlier| earlier != self.name) {
            let (what, id) = (self.of.word(), allotted.id);
            let (since, files) = allotter.traces_of(self.of, id);
            cautions.push(Caution::Reused { what, id, earlier, since, files: Some(files) });
        }
        Ok(allotted.id)
    }

    /// Adds what has to be told of it.
    pub fn tell(self, policy: &Policy, allotted: &Allotted<'_>, cautions: &mut Vec<Caution>) {
        let Allotted { id, shared_with, avoided, outside, earlier: _ } = allotted;
        let (id, what) = (*id, self.of.word());
        if let Some(other) = shared_with.clone() {
            cautions.push(match self.of {
                IdUse::Uid => Caution::SharedUid { uid: Uid(id), other },
                IdUse::Gid => Caution::SharedGid { gid: Gid(id), other },
            });
            if self.of == IdUse::Uid && id == 0 {
                cautions.push(Caution::SecondRoot { name: self.name.to_owned() });
            }
        }
        if let Some(avoid) = avoided {
            let (span, why) = (avoid.span, avoid.why.clone());
            cautions.push(Caution::Avoided { what, id, span, why });
        }
        if *outside {
            let (name, span) = (self.name.to_owned(), span_of(policy, self.kind));
            let (_, kind) = setting_of(self.kind);
            let (counts, _) = policy.kind_of_id(id);
            let counts_as = match (self.of, counts) {
                (_, counts) if counts == self.kind => None,
                (IdUse::Uid, AccountKind::Person) => Some("a person"),
                (IdUse::Uid, AccountKind::Service) => Some("a service"),
                (IdUse::Gid, AccountKind::Person) => Some("a person's group"),
                (IdUse::Gid, AccountKind::Service) => Some("a service's group"),
            };
            cautions.push(Caution::OutsideSpan { what, name, id, kind, span, counts_as });
        }
    }

    /// The refusal of `what`, `maren was not created`, with the ways round; `again` is the
    /// command without a number, or with one that is free.
    pub fn refusal(self, fault: NotAllotted, what: &str, again: &str) -> Box<Refusal> {
        let NewNumber { of, kind, wanted, .. } = self;
        let option = of.word();
        let refusal = Refusal::new(what, fault.reason(of, wanted.map_or(0, |wanted| wanted.id)));
        let other = |refusal: Box<Refusal>| match of {
            IdUse::Uid if again.contains("--uid") => refusal.or("take one that is free", again),
            IdUse::Uid => refusal.or("let the policy choose one", again),
            IdUse::Gid => refusal,
        };
        match fault {
            NotAllotted::Taken(Holder::User(_)) => {
                other(refusal).or_again("or share it all the same", "--share-id")
            }
            NotAllotted::Taken(Holder::Group(_)) => {
                refusal.or_again("share it all the same", "--share-id")
            }
            NotAllotted::Taken(Holder::Retired(_)) => {
                let or = if of == IdUse::Uid { "or " } else { "" };
                other(refusal).or_again(format!("{or}take it over with its files"), "--reuse-id")
            }
            NotAllotted::Taken(Holder::Range { .. }) => other(refusal),
            NotAllotted::SpanFull { avoided, .. } => {
                let setting = |key: &str| format!("{key} in etc/copper-nest/policy.toml");
                let outside = format!("{again} --{option} N");
                let refusal = refusal
                    .or("choose one outside it", outside)
                    .or_else("or widen the span", setting(setting_of(kind).0));
                match avoided {
                    0 => refusal,
                    _ => refusal.or_else("or avoid fewer", setting("ids.avoid")),
                }
            }
            NotAllotted::Reserved
            | NotAllotted::InService(_)
            | NotAllotted::RangesFull { .. }
            | NotAllotted::ServiceFailed(_) => refusal,
        }
    }
}

/// Tells how many files outside some paths carry a number that its holder loses.
pub(crate) fn tell_elsewhere(
    builder: &mut PlanBuilder<'_>,
    subject: &mut Subject,
    what: &'static str,
    id: u32,
    but: &[TreePath],
) {
    let elsewhere = builder.context.world.carriers_elsewhere(id, what == "gid", but);
    let (value, why) = match elsewhere {
        Ok(0) => ("none".to_owned(), format!("no other file carries {what} {id}")),
        Ok(count) => {
            builder.caution(Caution::FilesElsewhere { what, id, count });
            (count.to_string(), format!("other files still carry {what} {id}"))
        }
        Err(why) => ("not counted".to_owned(), why),
    };
    subject.decide("elsewhere", value, why);
}

/// How the policy came to a number of its own choice, for the "why" column.
pub(crate) fn why_chosen(policy: &Policy, kind: AccountKind) -> String {
    let span = span_of(policy, kind);
    match kind {
        AccountKind::Person => format!("first never-used id in {span}"),
        AccountKind::Service => format!("highest never-used id in {span}, the services'"),
    }
}

impl IdUse {
    /// `uid` or `gid`.
    pub(crate) fn word(self) -> &'static str {
        match self {
            IdUse::Uid => "uid",
            IdUse::Gid => "gid",
        }
    }
}

impl NotAllotted {
    /// The reason of a refusal; `id` is the number that was asked for.
    pub(crate) fn reason(&self, of: IdUse, id: u32) -> Reason {
        let what = of.word();
        match self.clone() {
            NotAllotted::Reserved => Reason::IdReserved { what, id, why: reserved_for(id) },
            NotAllotted::Taken(holder) => Reason::IdTaken { what, id, holder },
            NotAllotted::InService(holder) => Reason::IdInService { what, id, holder },
            NotAllotted::SpanFull { span, setting, avoided } => {
                Reason::SpanFull { span, setting, avoided }
            }
            NotAllotted::RangesFull { count, span, setting } => {
                Reason::RangesFull { count, span, setting }
            }
            NotAllotted::ServiceFailed(why) => Reason::ServiceFailed(why),
        }
    }
}

//! People and services: what an account is by its number, which is another question than where
//! new numbers are taken from.

use std::fmt;

use bstr::BString;

use super::{Policy, SettingSource};
use crate::value::{IdSpan, IdSpans};

/// People and services.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::Display, strum::IntoStaticStr)]
#[strum(serialize_all = "lowercase")]
pub enum AccountKind {
    /// An ordinary account.
    Person,
    /// A system account.
    Service,
}

/// Why an account is of its kind. `Display` gives it in a few words.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum KindRule {
    /// Uid 0.
    Root,
    /// A span of the policy, by the setting that has it.
    Span(&'static str, IdSpan),
    /// A number below those of people.
    Below(IdSpan),
    /// A number above those of people.
    Above(IdSpan),
    /// Nobody gets in, and it lives where nobody does.
    LivesNowhere(BString),
    /// A number that can't be read.
    NoNumber,
}

impl fmt::Display for KindRule {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            KindRule::Root => write!(f, "uid 0"),
            KindRule::Span(setting, span) => write!(f, "{setting} {span}"),
            KindRule::Below(span) => write!(f, "below people.ids {span}"),
            KindRule::Above(span) => write!(f, "above people.ids {span}"),
            KindRule::LivesNowhere(home) if home.is_empty() => {
                write!(f, "nobody gets in, and it has no home")
            }
            KindRule::LivesNowhere(home) => write!(f, "nobody gets in, and its home is {home}"),
            KindRule::NoNumber => write!(f, "its number can't be read"),
        }
    }
}

impl Policy {
    /// What an account or a group of a number is, and why.
    pub fn kind_of_id(&self, id: u32) -> (AccountKind, KindRule) {
        use AccountKind::{Person, Service};
        let in_span = |spans: &[IdSpan]| spans.iter().copied().find(|span| span.contains(id));
        if id == 0 {
            return (Service, KindRule::Root);
        }
        if let Some(span) = in_span(&self.people_also) {
            return (Person, KindRule::Span("people.also", span));
        }
        // A span that the program brings along gives way to what the administrator wrote.
        let written = self.source("services.also") != SettingSource::BuiltIn;
        let of_people = self.people_ids.contains(id);
        if let Some(span) = in_span(&self.services_also).filter(|_| written || !of_people) {
            return (Service, KindRule::Span("services.also", span));
        }
        match () {
            () if of_people => (Person, KindRule::Span("people.ids", self.people_ids)),
            () if self.services_ids.contains(id) => {
                (Service, KindRule::Span("services.ids", self.services_ids))
            }
            () if id < self.people_ids.first() => (Service, KindRule::Below(self.people_ids)),
            () => (Person, KindRule::Above(self.people_ids)),
        }
    }

    /// The numbers of people.
    pub(crate) fn people_spans(&self) -> Vec<IdSpan> {
        let mut of_services = self.services_also.clone();
        of_services.push(self.services_ids);
        let of_services: IdSpans = of_services.into_iter().collect();
        let above = IdSpan::single(self.people_ids.last()).up_to(u32::MAX);
        let mut all = of_services.outside(above);
        all.push(self.people_ids);
        all.extend(&self.people_also);
        all
    }

    /// Whether an account with this uid, or a group with this gid, is one of the people.
    pub fn is_person(&self, id: impl Into<u32>) -> bool {
        self.kind_of_id(id.into()).0 == AccountKind::Person
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn kind(policy: &str, id: u32) -> String {
        let policy = Policy::read("p.toml", policy).unwrap();
        let (kind, rule) = policy.kind_of_id(id);
        format!("{kind}: {rule}")
    }

    #[test]
    fn above_people_there_are_people_but_for_what_packages_take() {
        for (id, wanted) in [
            (0, "service: uid 0"),
            (1, "service: below people.ids 1000-59999"),
            (999, "service: services.ids 100-999"),
            (1000, "person: people.ids 1000-59999"),
            (60001, "person: above people.ids 1000-59999"),
            (61184, "service: services.also 61184-65535"),
            (65534, "service: services.also 61184-65535"),
            (65536, "person: above people.ids 1000-59999"),
            (1_000_000, "person: above people.ids 1000-59999"),
        ] {
            assert_eq!(kind("", id), wanted);
        }
        assert_eq!(
            kind("[services]\nalso = [\"70000-70009\"]\n", 61184).split(':').next(),
            Some("person")
        );
        assert_eq!(
            kind("[services]\nalso = [\"70000-70009\"]\n", 70001),
            "service: services.also 70000-70009"
        );
        let also = "[people]\nalso = [\"61200-61209\"]\n";
        assert_eq!(kind(also, 61205), "person: people.also 61200-61209");
        assert_eq!(
            kind("[people]\nids = \"1000-70000\"\n", 65000),
            "person: people.ids 1000-70000"
        );
    }
}

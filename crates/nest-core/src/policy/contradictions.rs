//! Settings that can't all hold.

use super::{Days, Policy, PolicyFault, SettingSource};
use crate::value::IdSpan;

/// A setting, and the spans that it names.
type Spans = (&'static str, Vec<IdSpan>);

impl Policy {
    /// Each pair of settings that contradict each other, told where one of them is written.
    pub(super) fn contradictions(&self) -> Vec<PolicyFault> {
        let mut faults = Vec::new();
        self.spans_that_overlap(&mut faults);
        if let Days::After(renew) = self.passwords_renew_days
            && self.passwords_hold_days > renew
        {
            let hold = self.passwords_hold_days;
            let message = format!(
                "a password could not be changed for {hold} days, and has to be after {renew} \
                 (passwords.renew_days)"
            );
            faults.push(self.fault_of(
                self.written(&["passwords.hold_days", "passwords.renew_days"]),
                &message,
            ));
        }
        faults
    }

    /// The spans of people, of services and of ranges are apart from one another.
    fn spans_that_overlap(&self, faults: &mut Vec<PolicyFault>) {
        let people =
            [("people.ids", vec![self.people_ids]), ("people.also", self.people_also.clone())];
        let also = match self.source("services.also") {
            // It gives way to what is written.
            SettingSource::BuiltIn => Vec::new(),
            SettingSource::File { .. } => self.services_also.clone(),
        };
        let services = [("services.ids", vec![self.services_ids]), ("services.also", also)];
        let ranges = [("ranges.span", vec![self.ranges_span])];
        let sides: [(&[Spans], &[Spans]); 3] =
            [(&people, &services), (&people, &ranges), (&services, &ranges)];
        for (one, other) in sides {
            for ((key, spans), (with, others)) in
                one.iter().flat_map(|one| other.iter().map(move |other| (one, other)))
            {
                let overlap = spans.iter().find_map(|span| {
                    let other = others.iter().find(|other| other.overlaps(*span))?;
                    Some((*span, *other))
                });
                let Some((span, other)) = overlap else { continue };
                let told = self.written(&[with, key]);
                let (span, other, with) =
                    if told == *key { (span, other, *with) } else { (other, span, *key) };
                let message = format!("{span} overlaps {with}, {other}");
                faults.push(self.fault_of(told, &message));
            }
        }
    }

    /// The first of some settings that is written in the file, or else the last.
    fn written<'k>(&self, keys: &[&'k str]) -> &'k str {
        let written = |key: &&&str| self.source(key) != SettingSource::BuiltIn;
        keys.iter().find(written).or(keys.last()).copied().unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn faults(text: &str) -> Vec<String> {
        let faults = Policy::read("p.toml", text).map(|_| ()).unwrap_err();
        faults.0.iter().map(ToString::to_string).collect()
    }

    #[test]
    fn what_can_not_all_hold_is_told_at_once_with_its_lines() {
        assert_eq!(
            faults(
                "[people]\nids = \"500-70000\"\nalso = [\"100000-3000000000\"]\n\n\
                 [services]\nalso = [\"65000-65100\"]\n\
                 [passwords]\nhold_days = 40\nrenew_days = 30\n"
            ),
            [
                "p.toml:2: people.ids: 500-70000 overlaps services.ids, 100-999",
                "p.toml:3: people.also: 100000-3000000000 overlaps ranges.span, \
                 2001010688-2147352575",
                "p.toml:6: services.also: 65000-65100 overlaps people.ids, 500-70000",
                "p.toml:8: passwords.hold_days: a password could not be changed for 40 days, \
                 and has to be after 30 (passwords.renew_days)",
            ]
        );
        assert_eq!(
            faults("[ranges]\nspan = \"50000-90000\"\n"),
            ["p.toml:2: ranges.span: 50000-90000 overlaps people.ids, 1000-59999"]
        );
        // What the program brings along gives way.
        assert!(Policy::read("p.toml", "[people]\nids = \"1000-65000\"\n").is_ok());
    }

    #[test]
    fn placeholders_are_those_that_there_are() {
        assert_eq!(
            faults("[people]\nhome = \"/home/{name}/{mid}\"\n[names]\nlogin = \"{f}{mid}\"\n"),
            [
                "p.toml:2: people.home: there is no {mid}; what is filled in is {name}",
                "p.toml:4: names.login: there is no {mid}; what is filled in is {first}, {last}, \
                 {f}, {l}",
            ]
        );
    }
}

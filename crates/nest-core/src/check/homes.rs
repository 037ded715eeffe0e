//! Home directories of people: missing-home, home-owner, home-not-absolute.

use bstr::BStr;

use super::lines::found;
use super::{Mark, Out, Selection, rule};
use crate::plan::Ground;
use crate::surroundings::Kind;
use crate::table::Passwd;

/// The home field of accounts that have none on purpose.
const NO_HOME: &[u8] = b"/nonexistent";

pub(super) fn run(ground: Ground<'_>, selection: &Selection) -> Out {
    let wanted = |name| rule(name).filter(|rule| selection.wants(rule));
    let (missing, owner) = (wanted("missing-home"), wanted("home-owner"));
    let mut out = Out::default();
    if let Some(rule) = wanted("home-not-absolute") {
        let users = &ground.book.users;
        let relative = |user: &Passwd<'_>| !user.home.is_empty() && !user.home.starts_with(b"/");
        for (line, user) in users.records().filter(|(_, user)| relative(user)) {
            let (name, home) = (BStr::new(user.name), BStr::new(user.home));
            let message = format!("the home of {name}, {home}, does not begin at /.");
            let remedy = "give the whole path".to_owned();
            out.findings.push(found(rule, users.lines(), line, Mark::Field(5), message, remedy));
        }
    }
    if missing.is_none() && owner.is_none() {
        return out;
    }
    let owners = ground.world.owners_are_real();
    if let (Some(rule), Err(why)) = (owner, &owners) {
        out.skip(rule.name, why.as_str());
    }
    let lines = ground.book.users.lines();
    let mut unseen = None;
    for (line, user) in ground.book.users.records() {
        let Some(uid) = user.uid() else { continue };
        let judged = ground.policy.is_person(uid) && user.home != NO_HOME;
        if !judged || !user.home.starts_with(b"/") {
            continue;
        }
        let (name, home) = (BStr::new(user.name), BStr::new(user.home));
        let facts = match ground.world.facts(home) {
            Ok(facts) => facts,
            Err(why) => {
                unseen.get_or_insert((0, format!("{home}: {why}"))).0 += 1;
                continue;
            }
        };
        let fault = match facts {
            None => Some(format!("{home} is not there.")),
            Some(facts) if facts.kind != Kind::Directory => {
                Some(format!("{home} is {}, not a directory.", facts.kind))
            }
            Some(_) => None,
        };
        match (fault, facts) {
            (Some(message), _) => {
                let remedy =
                    format!("make the directory and give it to {name}, or correct the path");
                out.findings.extend(
                    missing.map(|rule| found(rule, lines, line, Mark::Field(5), message, remedy)),
                );
            }
            (None, Some(facts)) if facts.uid != uid && owners.is_ok() => {
                let whose = match ground.book.user_by_uid(facts.uid) {
                    Some((_, other)) => format!("{} ({})", BStr::new(other.name), facts.uid),
                    None => format!("uid {}, which nobody has", facts.uid),
                };
                let message = format!("{home} belongs to {whose}, not to {name} ({uid}).");
                let remedy = format!("look at whose it is and why; then give it to {name}");
                out.findings.extend(
                    owner.map(|rule| found(rule, lines, line, Mark::Field(5), message, remedy)),
                );
            }
            _ => {}
        }
    }
    if let Some((count, first)) = unseen {
        let why = format!("{count} homes could not be looked at, first {first}");
        for rule in [missing, owner].into_iter().flatten() {
            out.skip(rule.name, why.as_str());
        }
    }
    out
}

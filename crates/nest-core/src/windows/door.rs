//! What the rules come to at one door: at the machine, or over SSH.

use super::access_rules::{AccessRule, Origin, Reach};
use super::{Half, Week, Who, Windows};
use crate::configuration::Place;
use crate::words::list;

/// A way in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Door {
    /// At the machine.
    Console,
    /// Over SSH.
    Ssh,
}

impl Door {
    /// The service behind it.
    pub fn service(self) -> &'static str {
        match self {
            Door::Console => "login",
            Door::Ssh => "sshd",
        }
    }

    /// What the service calls the terminal.
    fn terminal(self) -> &'static str {
        match self {
            Door::Console => "tty1",
            Door::Ssh => "ssh",
        }
    }

    fn origin(self) -> Origin {
        match self {
            Door::Console => Origin::Terminal,
            Door::Ssh => Origin::Elsewhere,
        }
    }
}

/// From where the rules let an account in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Origins {
    /// From anywhere.
    Anywhere,
    /// From nowhere: the line that says so.
    Nowhere(Place),
    /// From these places, in the words of the lines.
    Only(String, Place),
    /// From anywhere but some: the lines that say so.
    But(Vec<Place>),
}

/// What is behind a door.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Passage {
    /// The minutes in which it is open, and the lines that say so; nothing where none does.
    pub hours: Option<(Week, Vec<Place>)>,
    pub origins: Origins,
    /// What it may depend on otherwise.
    pub may_differ: Vec<String>,
}

impl Windows {
    /// What the rules come to for an account at a door, as its service asks for them.
    pub(crate) fn passage(&self, door: Door, who: &Who<'_>) -> Passage {
        let mut passage = Passage { hours: None, origins: Origins::Anywhere, may_differ: vec![] };
        if self.is_empty() {
            return passage;
        }
        let (hours, unsure) = self.hours_at(door, who);
        let origins = self.origins_at(door, who);
        let hours_matter = !hours.0.is_always() || !unsure.is_empty();
        if self.holds(door, who, Half::Hours, hours_matter, &mut passage.may_differ) {
            passage.may_differ.extend(unsure.iter().map(Place::to_string));
            passage.hours = (!hours.0.is_always()).then_some(hours);
        }
        let places_matter = origins != Origins::Anywhere;
        if self.holds(door, who, Half::Places, places_matter, &mut passage.may_differ) {
            passage.origins = origins;
        }
        passage
    }

    /// Whether rules of a half that matter hold at a door; where that can't be told, it is said
    /// on what it depends.
    fn holds(
        &self,
        door: Door,
        who: &Who<'_>,
        half: Half,
        matter: bool,
        may_differ: &mut Vec<String>,
    ) -> bool {
        let unread: Vec<&String> =
            self.unread.iter().filter(|(of, _)| *of == half).map(|(_, why)| why).collect();
        if !matter && unread.is_empty() {
            return false;
        }
        match self.asks(door.service(), half, who) {
            super::Asked::Yes => {
                may_differ.extend(unread.into_iter().cloned());
                matter
            }
            super::Asked::No | super::Asked::Shut => false,
            super::Asked::Depends(on) | super::Asked::Unknown(on) => {
                may_differ.push(on);
                false
            }
        }
    }

    /// When all rules that fit let an account pass, and those of them that do not always; and
    /// the lines of which it can't be told whether they fit.
    pub(super) fn hours_at(&self, door: Door, who: &Who<'_>) -> ((Week, Vec<Place>), Vec<Place>) {
        let (mut week, mut lines, mut unsure) = (Week::always(), Vec::new(), Vec::new());
        for rule in self.times.iter().filter(|rule| !rule.week.is_always()) {
            match rule.fits(door.service(), door.terminal(), who.name) {
                Some(false) => {}
                None => unsure.push(rule.place.clone()),
                Some(true) => {
                    week = week.and(&rule.week);
                    lines.push(rule.place.clone());
                }
            }
        }
        ((week, lines), unsure)
    }

    /// From where the rules let an account in that comes by a door.
    pub(super) fn origins_at(&self, door: Door, who: &Who<'_>) -> Origins {
        let mut some: Vec<&AccessRule> = Vec::new();
        for rule in &self.access {
            let reach = rule.is_about(who).and(rule.covers(door.origin()));
            if reach == Reach::None {
                continue;
            }
            if reach == Reach::Part {
                some.push(rule);
                continue;
            }
            return match rule.lets_in {
                true => but(&some),
                false => only(&some, rule),
            };
        }
        but(&some)
    }

    /// Lines of other hands that have a say about an account beside its own.
    pub(crate) fn others_about(&self, half: Half, who: &Who<'_>) -> Vec<(Place, String)> {
        let doors = [Door::Console, Door::Ssh];
        match half {
            Half::Hours => {
                let fits = |door: &Door, rule: &&super::TimeRule| {
                    rule.fits(door.service(), door.terminal(), who.name) != Some(false)
                };
                let rules = self.times.iter().filter(|rule| {
                    let at_some = doors.iter().any(|door| fits(door, rule));
                    !rule.owned && at_some && !rule.week.is_always()
                });
                rules.map(|rule| (rule.place.clone(), rule.text.to_string())).collect()
            }
            Half::Places => {
                let rules = self.access.iter().filter(|rule| {
                    !rule.owned && !rule.lets_in && rule.is_about(who) != Reach::None
                });
                rules.map(|rule| (rule.place.clone(), rule.text.to_string())).collect()
            }
        }
    }
}

/// Of rules that are about some origins, those that keep out.
fn but(some: &[&AccessRule]) -> Origins {
    // A line that keeps all out but some says from where: that is told as it is.
    if let Some((rule, places)) = some.iter().find_map(|rule| Some((rule, exceptions(rule)?))) {
        return Origins::Only(places, rule.place.clone());
    }
    let out: Vec<Place> =
        some.iter().filter(|rule| !rule.lets_in).map(|rule| rule.place.clone()).collect();
    if out.is_empty() { Origins::Anywhere } else { Origins::But(out) }
}

/// What a line that keeps out lets in all the same, where it keeps out all others.
fn exceptions(rule: &AccessRule) -> Option<String> {
    let is = |at: usize, word: &str| {
        rule.origins.get(at).is_some_and(|it| it.eq_ignore_ascii_case(word.as_bytes()))
    };
    let keeps_out = !rule.lets_in && is(0, "ALL") && is(1, "EXCEPT");
    keeps_out.then(|| in_words(rule.origins[2..].iter()))
}

/// Of rules that are about some origins, those that let in before the last keeps out all.
fn only(some: &[&AccessRule], last: &AccessRule) -> Origins {
    let letting_in = some.iter().filter(|rule| rule.lets_in);
    let places = in_words(letting_in.flat_map(|rule| rule.origins.iter()));
    match places.is_empty() {
        true => Origins::Nowhere(last.place.clone()),
        false => Origins::Only(places, last.place.clone()),
    }
}

fn in_words<'r>(origins: impl Iterator<Item = &'r bstr::BString>) -> String {
    let remote = origins.filter(|origin| !origin.eq_ignore_ascii_case(b"LOCAL"));
    list(remote.map(ToString::to_string)).to_string()
}

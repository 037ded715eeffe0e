//! The window of an account in words.

use super::door::Door;
use super::{Asked, Half, Origins, Who, Windows};
use crate::configuration::Place;
use crate::order;
use crate::words::list;

/// One half of a window, for people.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ToldHalf {
    /// When, or from where: `any`, `anywhere` where no line says otherwise.
    pub value: String,
    /// The lines that say so.
    pub lines: Vec<Place>,
    /// The services that keep to it, where there is something to keep to.
    pub kept_by: Vec<String>,
    /// Those of which it can't be told, with what it depends on.
    pub unsure: Vec<String>,
}

impl ToldHalf {
    /// Whether some line says something.
    pub fn is_free(&self) -> bool {
        self.lines.is_empty()
    }

    /// Who keeps to it, and which lines say it; empty where there is nothing to keep to.
    pub fn kept_in_words(&self) -> String {
        if self.is_free() {
            return String::new();
        }
        let kept = match self.kept_by.as_slice() {
            [] => "kept by no service".to_owned(),
            services => format!("kept by {}", list(services)),
        };
        let unsure: String = self.unsure.iter().map(|unsure| format!("; {unsure}")).collect();
        let lines = list(self.lines.iter().map(Place::to_string));
        format!("{kept}{unsure} ({lines})")
    }
}

impl Windows {
    /// The hours or the places of an account, and who keeps to them.
    pub(crate) fn told(&self, half: Half, who: &Who<'_>) -> ToldHalf {
        let (value, lines) = match half {
            Half::Hours => self.told_hours(who),
            Half::Places => self.told_places(who),
        };
        let mut told = ToldHalf { value, lines, kept_by: Vec::new(), unsure: Vec::new() };
        for service in self.services().filter(|_| !told.lines.is_empty()) {
            match self.asks(service, half, who) {
                Asked::Yes => told.kept_by.push(service.to_owned()),
                Asked::Depends(on) | Asked::Unknown(on) => {
                    told.unsure.push(format!("of {service} it depends on {on}"));
                }
                Asked::No | Asked::Shut => {}
            }
        }
        told
    }

    fn told_hours(&self, who: &Who<'_>) -> (String, Vec<Place>) {
        let [console, ssh] = [Door::Console, Door::Ssh].map(|door| self.hours_at(door, who));
        let ((console, mut lines), more) = console;
        let ((ssh, over_ssh), also) = ssh;
        lines.extend(over_ssh.into_iter().chain(more).chain(also));
        order::sort(&mut lines);
        lines.dedup();
        let value = match console == ssh {
            true => console.to_string(),
            false => format!("login {console}; sshd {ssh}"),
        };
        (value, lines)
    }

    fn told_places(&self, who: &Who<'_>) -> (String, Vec<Place>) {
        let console = self.origins_at(Door::Console, who);
        let ssh = self.origins_at(Door::Ssh, who);
        let mut lines = Vec::new();
        let mut of = |origins: &Origins| match origins {
            Origins::Anywhere => {}
            Origins::Nowhere(line) | Origins::Only(_, line) => lines.push(line.clone()),
            Origins::But(some) => lines.extend(some.iter().cloned()),
        };
        of(&console);
        of(&ssh);
        order::sort(&mut lines);
        lines.dedup();
        let own = self.places_of(who.name).and_then(|own| own.says);
        let alone = lines.len() == 1 && own.is_some();
        let value = match (own, console, ssh) {
            (Some(places), ..) if alone => places.to_string(),
            (_, Origins::Anywhere, Origins::Anywhere) => "anywhere".to_owned(),
            (_, Origins::Nowhere(_), Origins::Nowhere(_)) => "nowhere".to_owned(),
            (_, console, ssh) => {
                let console = match console {
                    Origins::Anywhere => "console, ",
                    Origins::Nowhere(_) => "",
                    Origins::Only(..) | Origins::But(_) => "some consoles, ",
                };
                let ssh = match ssh {
                    Origins::Anywhere => "any other machine".to_owned(),
                    Origins::Nowhere(_) => "no other machine".to_owned(),
                    Origins::Only(places, _) => places,
                    Origins::But(_) => "other machines but some".to_owned(),
                };
                format!("{console}{ssh}")
            }
        };
        (value, lines)
    }
}

//! Who gains and who loses access as it is written: of very many those who gain or lose the
//! same take one entry.

use bstr::BString;
use hashbrown::HashMap;
use serde::de::Error;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::change::{AccessChange, AccessKind};
use crate::order;
use crate::value::escaped;
use crate::value::escaped::{escaped as escape, unescape};

/// Of fewer each is easier to read by itself.
const FEWEST: usize = 64;

/// What many accounts gain or lose alike.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Alike<N, T> {
    /// Their names, with newlines between them.
    names: N,
    kind: AccessKind,
    gains: bool,
    #[serde(with = "escaped::text")]
    group: BString,
    why: T,
}

#[derive(Serialize)]
#[serde(untagged)]
enum Written<'c> {
    Alike(Alike<String, &'c str>),
    One(&'c AccessChange),
}

#[derive(Deserialize)]
#[serde(untagged)]
enum Read {
    Alike(Alike<String, String>),
    One(AccessChange),
}

pub(super) fn serialize<S: Serializer>(
    access: &[AccessChange],
    serializer: S,
) -> Result<S::Ok, S::Error> {
    let mut entries: Vec<Vec<&AccessChange>> = Vec::new();
    let mut places = HashMap::new();
    for change in access {
        let AccessChange { kind, gains, group, why, .. } = change;
        let place = match access.len() >= FEWEST {
            true => *places.entry((kind, gains, group, why)).or_insert(entries.len()),
            false => entries.len(),
        };
        match entries.get_mut(place) {
            Some(alike) => alike.push(change),
            None => entries.push(vec![change]),
        }
    }
    serializer.collect_seq(entries.iter().flat_map(|alike| written(alike)))
}

fn written<'c>(alike: &[&'c AccessChange]) -> Vec<Written<'c>> {
    let Some(AccessChange { kind, gains, group, why, .. }) =
        alike.first().filter(|_| alike.len() >= FEWEST)
    else {
        return alike.iter().map(|one| Written::One(one)).collect();
    };
    let mut names = String::new();
    for (at, change) in alike.iter().enumerate() {
        if at > 0 {
            names.push('\n');
        }
        names.push_str(&escape(&change.name));
    }
    let (kind, gains, group) = (*kind, *gains, group.clone());
    vec![Written::Alike(Alike { names, kind, gains, group, why })]
}

pub(super) fn deserialize<'de, D: Deserializer<'de>>(
    deserializer: D,
) -> Result<Vec<AccessChange>, D::Error> {
    let mut access = Vec::new();
    for entry in Vec::<Read>::deserialize(deserializer)? {
        match entry {
            Read::One(change) => access.push(change),
            Read::Alike(Alike { names, kind, gains, group, why }) => {
                for name in names.split('\n') {
                    let name = unescape(name)
                        .ok_or_else(|| D::Error::custom("a backslash begins nothing"))?;
                    let (name, group, why) = (name.into(), group.clone(), why.clone());
                    access.push(AccessChange { name, kind, gains, group, why });
                }
            }
        }
    }
    // As they are told: by account.
    order::sort_by(&mut access, |one, other| one.name.cmp(&other.name));
    Ok(access)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::record::Told;

    fn joins(name: String, group: &str) -> AccessChange {
        AccessChange {
            name: name.into(),
            kind: AccessKind::Group,
            gains: true,
            group: group.into(),
            why: String::new(),
        }
    }

    #[test]
    fn those_who_gain_the_same_take_one_entry_and_come_back_each() {
        let mut access: Vec<AccessChange> = Vec::new();
        for number in 0..200 {
            access.push(joins(format!("hand{number:03}"), "pilots"));
            if number % 100 == 7 {
                access.push(joins(format!("hand{number:03}"), "slipway"));
            }
        }
        access[3].name = b"caf\xe9".into();
        order::sort_by(&mut access, |one, other| one.name.cmp(&other.name));
        let told = Told { access, ..Told::default() };
        let text = serde_json::to_string(&told).unwrap();
        assert_eq!(text.matches("\"group\":\"pilots\"").count(), 1, "{text}");
        assert_eq!(text.matches("\"group\":\"slipway\"").count(), 2, "{text}");
        assert_eq!(serde_json::from_str::<Told>(&text).unwrap(), told);
        // A few are written one by one, as they always were.
        let few = Told { access: told.access[..3].to_vec(), ..Told::default() };
        let text = serde_json::to_string(&few).unwrap();
        assert!(text.contains("{\"name\":\"caf\\\\xe9\",\"kind\":\"group\""), "{text}");
        assert_eq!(serde_json::from_str::<Told>(&text).unwrap(), few);
    }

    #[test]
    fn a_name_with_a_newline_is_one_name() {
        let mut access: Vec<AccessChange> =
            (0..99).map(|at| joins(format!("hand{at:02}"), "pilots")).collect();
        access[0].name = "a\nb".into();
        let told = Told { access, ..Told::default() };
        let text = serde_json::to_string(&told).unwrap();
        assert_eq!(serde_json::from_str::<Told>(&text).unwrap(), told);
    }
}

//! Rosters as JSON: an array of objects, or an object with the arrays `user` and
//! `group`.

use std::borrow::Cow;
use std::fmt;

use serde::de::{Deserialize, Deserializer, MapAccess, Visitor};
use serde_json::value::RawValue;

use super::cells::{CellValue, TakesRows};
use super::source::Wrong;
use crate::value::UserOrGroup;

/// The entries of an object, in order, doubled ones as well.
struct Entries<'t>(Vec<(Cow<'t, str>, &'t RawValue)>);

impl<'de: 't, 't> Deserialize<'de> for Entries<'t> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct OfMap;
        impl<'de> Visitor<'de> for OfMap {
            type Value = Entries<'de>;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("an object")
            }

            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Entries<'de>, A::Error> {
                let mut entries = Vec::new();
                while let Some((key, value)) = map.next_entry::<String, &RawValue>()? {
                    entries.push((key.into(), value));
                }
                Ok(Entries(entries))
            }
        }
        deserializer.deserialize_map(OfMap)
    }
}

/// Reads the rows of a text.
pub(super) fn read(reading: &mut impl TakesRows, text: &str) {
    let place = |raw: &RawValue| raw.get().as_ptr() as usize - text.as_ptr() as usize;
    let lists: Vec<(Option<UserOrGroup>, &RawValue)> = match serde_json::from_str::<&RawValue>(text)
    {
        Err(error) => return not_json(reading, text, 0, &error),
        Ok(all) if all.get().starts_with('[') => vec![(None, all)],
        Ok(all) => match serde_json::from_str::<Entries<'_>>(all.get()) {
            Err(_) => {
                let wrong = Wrong::new("this is no array of objects", "[{\"name\": \"maren\"}]");
                return reading.fault(place(all), None, wrong);
            }
            Ok(entries) => {
                let mut lists = Vec::new();
                for (key, list) in entries.0 {
                    match &*key {
                        "user" => lists.push((Some(UserOrGroup::User), list)),
                        "group" => lists.push((Some(UserOrGroup::Group), list)),
                        _ => reading.fault(
                            place(list),
                            None,
                            Wrong::new(
                                format!("there is no list {key:?}"),
                                "user and group, or one array of objects alone",
                            ),
                        ),
                    }
                }
                lists
            }
        },
    };
    for (thing, list) in lists {
        let rows: Vec<&RawValue> = match serde_json::from_str(list.get()) {
            Ok(rows) => rows,
            Err(_) => {
                let wrong = Wrong::new("this is no array", "an array of objects");
                reading.fault(place(list), None, wrong);
                continue;
            }
        };
        for (at, raw) in rows.into_iter().enumerate() {
            let Ok(entries) = serde_json::from_str::<Entries<'_>>(raw.get()) else {
                let wrong = Wrong::new("this is no object", "{\"name\": \"maren\"}");
                reading.fault(place(raw), None, wrong);
                continue;
            };
            let values = entries.0.into_iter().map(|(key, raw)| (key, place(raw), value(raw)));
            reading.table(thing, at + 1, place(raw), values.collect());
        }
    }
}

fn value(raw: &RawValue) -> CellValue {
    let one = |value: serde_json::Value| match value {
        serde_json::Value::Null => Some(CellValue::Nothing),
        serde_json::Value::String(text) => Some(CellValue::Text(text)),
        serde_json::Value::Number(number) => Some(CellValue::Text(number.to_string())),
        serde_json::Value::Bool(set) => {
            Some(CellValue::Text(if set { "yes" } else { "no" }.into()))
        }
        _ => None,
    };
    match serde_json::from_str(raw.get()) {
        Ok(serde_json::Value::Array(values)) => {
            let texts: Option<Vec<CellValue>> = values.into_iter().map(one).collect();
            texts.map_or(CellValue::Unfit("a list of lists"), CellValue::List)
        }
        Ok(value) => one(value).unwrap_or(CellValue::Unfit("an object")),
        Err(_) => CellValue::Unfit("not readable"),
    }
}

fn not_json(reading: &mut impl TakesRows, text: &str, from: usize, error: &serde_json::Error) {
    let lines = text[from..].split_inclusive('\n').take(error.line().saturating_sub(1));
    let line: usize = lines.map(str::len).sum();
    let at = (from + line + error.column().saturating_sub(1)).min(text.len());
    // The place is told already.
    let message = error.to_string();
    let message = message.split(" at line ").next().unwrap_or_default();
    reading.fault(at, None, Wrong::new(format!("this is no JSON: {message}"), ""));
}

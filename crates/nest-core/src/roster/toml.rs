//! Rosters as TOML: tables `[[user]]` and `[[group]]`.

use toml::de::{DeTable, DeValue};

use super::cells::{CellValue, TakesRows};
use super::source::Wrong;
use crate::order;
use crate::value::UserOrGroup;

/// Reads the rows of a text.
pub(super) fn read(reading: &mut impl TakesRows, text: &str) {
    let all = match DeTable::parse(text) {
        Ok(all) => all.into_inner(),
        Err(error) => {
            let at = error.span().map_or(0, |span| span.start);
            let message = format!("this is no TOML: {}", error.message());
            return reading.fault(at, None, Wrong::new(message, ""));
        }
    };
    // A table keeps its keys in alphabetical order; the rows are taken as they stand.
    let mut rows = Vec::new();
    for (key, list) in all {
        let thing = match &**key.get_ref() {
            "user" => UserOrGroup::User,
            "group" => UserOrGroup::Group,
            other => {
                let wrong = Wrong::new(
                    format!("there is no table {other:?}"),
                    "[[user]] or [[group]] for each row",
                );
                reading.fault(key.span().start, None, wrong);
                continue;
            }
        };
        match list.into_inner() {
            DeValue::Array(list) => rows.extend(list.into_iter().map(|row| (thing, row))),
            _ => {
                let wrong = Wrong::new(format!("{thing} is no list"), format!("[[{thing}]]"));
                reading.fault(key.span().start, None, wrong);
            }
        }
    }
    order::sort_by_key(&mut rows, |(_, row)| row.span().start);
    for (at, (thing, row)) in rows.into_iter().enumerate() {
        let start = row.span().start;
        let DeValue::Table(table) = row.into_inner() else {
            reading.fault(start, None, Wrong::new("this is no table", format!("[[{thing}]]")));
            continue;
        };
        let mut values: Vec<_> = table
            .into_iter()
            .map(|(key, found)| {
                let at = found.span().start;
                (key.into_inner(), at, value(found.into_inner()))
            })
            .collect();
        order::sort_by_key(&mut values, |(_, at, _)| *at);
        reading.table(Some(thing), at + 1, start, values);
    }
}

fn value(value: DeValue<'_>) -> CellValue {
    match value {
        DeValue::Array(values) => {
            CellValue::List(values.into_iter().map(|one| self::value(one.into_inner())).collect())
        }
        DeValue::Table(_) => CellValue::Unfit("a table"),
        DeValue::Boolean(set) => CellValue::Text(if set { "yes" } else { "no" }.into()),
        DeValue::Integer(number) => CellValue::Text(number.to_string()),
        DeValue::Float(number) => CellValue::Text(number.to_string()),
        DeValue::Datetime(day) => CellValue::Text(day.to_string()),
        DeValue::String(text) => CellValue::Text(text.into_owned()),
    }
}

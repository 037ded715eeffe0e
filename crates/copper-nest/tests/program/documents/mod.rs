//! What every JSON document holds. Each document that any test reads is held against its
//! form here: no key may be missing, and none may be there that is not described.

pub mod forms;
mod page;
mod reports;

use std::borrow::Cow;

use serde::Deserialize;
use serde_json::Value;

/// A value that is null where there is none. The key itself is always there.
#[derive(Debug)]
#[allow(dead_code)]
pub struct Nullable<T>(Option<T>);

impl<'de, T: serde::de::DeserializeOwned> Deserialize<'de> for Nullable<T> {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        // Asked for as any value, a key that is missing is none.
        let value = Value::deserialize(deserializer)?;
        serde_path_to_error::deserialize(value).map(Nullable).map_err(serde::de::Error::custom)
    }
}

impl<T: schemars::JsonSchema> schemars::JsonSchema for Nullable<T> {
    fn inline_schema() -> bool {
        true
    }

    fn schema_name() -> Cow<'static, str> {
        format!("Nullable_{}", T::schema_name()).into()
    }

    fn json_schema(generator: &mut schemars::SchemaGenerator) -> schemars::Schema {
        schemars::json_schema!({"anyOf": [generator.subschema_for::<T>(), {"type": "null"}]})
    }
}

/// A kind of document.
pub struct Form {
    /// What `document` says.
    pub kind: &'static str,
    /// What prints it.
    pub commands: &'static str,
    /// Holds a document against it.
    judge: fn(Value) -> Result<(), String>,
    /// Its schema.
    pub schema: fn() -> schemars::Schema,
    /// The one list that it is about, where it is about nothing else.
    list: Option<&'static str>,
}

impl Form {
    const fn new<T: for<'de> Deserialize<'de> + schemars::JsonSchema>(
        kind: &'static str,
        commands: &'static str,
        list: Option<&'static str>,
    ) -> Self {
        Form {
            kind,
            commands,
            judge: |document| {
                serde_path_to_error::deserialize::<_, T>(document)
                    .map(drop)
                    .map_err(|error| error.to_string())
            },
            schema: || schemars::schema_for!(T),
            list,
        }
    }
}

/// Holds a document against its form; what is wrong with it comes back.
pub fn fault_of(document: &Value) -> Option<String> {
    if is_of_others(document) {
        return None;
    }
    let mut rest = document.clone();
    let Some(object) = rest.as_object_mut() else {
        return Some("a document is an object".to_owned());
    };
    let (kind, version) = (object.remove("document"), object.remove("version"));
    let kind = kind.as_ref().and_then(Value::as_str).unwrap_or("nothing");
    if version != Some(Value::from(1)) {
        return Some(format!("the version of {kind} is {version:?}"));
    }
    if object.is_empty() {
        return Some(format!("{kind} says nothing"));
    }
    match form_of(kind) {
        None => Some(format!("no document is called {kind}")),
        Some(form) => (form.judge)(rest).err(),
    }
}

/// Whether a document has a form that is not ours, or is a table that intake takes.
fn is_of_others(document: &Value) -> bool {
    let is_sarif = document["$schema"].as_str().is_some_and(|schema| schema.contains("sarif"));
    let is_row = |row: &Value| row.get("name").is_some_and(Value::is_string);
    let is_table = document.as_array().is_some_and(|rows| rows.iter().all(is_row));
    is_sarif || is_table
}

fn form_of(kind: &str) -> Option<&'static Form> {
    forms::ALL.iter().find(|form| form.kind == kind)
}

/// What a document is about, without what says so: a list alone where that is all there is
/// in it.
///
/// # Panics
/// Where it is not as its form says.
pub fn content(document: Value) -> Value {
    if let Some(fault) = fault_of(&document) {
        panic!("{fault} in {document:#}");
    }
    let list = document["document"].as_str().and_then(form_of).and_then(|form| form.list);
    let mut document = document;
    if let Some(list) = list {
        return document[list].take();
    }
    if let Some(object) = document.as_object_mut().filter(|object| object.contains_key("document"))
    {
        object.shift_remove("document");
        object.shift_remove("version");
    }
    document
}

#[test]
fn a_form_finds_what_is_missing_and_what_is_too_much() {
    let good = serde_json::json!({
        "document": "group", "version": 1, "name": "pilots", "gid": 210, "kind": "people",
        "members": ["maren"], "primary_members": [], "admins": [], "has_password": false,
        "makes_admins": false, "same_gid": [],
    });
    assert_eq!(fault_of(&good), None);
    for (key, value) in [
        ("gid", None),
        ("document", None),
        ("version", None),
        ("extra", Some(1)),
        ("version", Some(2)),
        ("name", Some(3)),
    ] {
        let mut bad = good.clone();
        match value {
            None => drop(bad.as_object_mut().unwrap().remove(key)),
            Some(value) => bad[key] = value.into(),
        }
        assert!(fault_of(&bad).is_some(), "{key}");
    }
    let empty = serde_json::json!({"document": "recovery", "version": 1});
    assert!(fault_of(&empty).is_some() && fault_of(&Value::from(3)).is_some());
}

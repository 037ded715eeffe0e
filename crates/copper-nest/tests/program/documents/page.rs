//! `docs/json.md` and `docs/json-schema.json`, made from the forms and from the columns of lists.

use std::collections::BTreeMap;
use std::fmt::Write;

use serde_json::{Map, Value, json};

use super::forms::ALL;
use crate::docs::assert_current;

const INTRO: &str = "# Output for machines

What programs may rely on. Made from the code and held against every document that the tests read.

## JSON

`--format json` prints one document on stdout (`check` of several trees one a line), whatever the exit status. Each is
an object that says what it is, in `document`, and in which `version`:

    {\"document\": \"group\", \"version\": 1, \"name\": \"pilots\", \"gid\": 210, …}

The version is raised when a key goes, or means something else. Keys may be added without that, so pass over those that
you don't know. Keys that are listed below are always there, and null where there is nothing to say; those marked *may
be missing* are there only when they apply. Days are written 2026-11-24, moments as RFC 3339 does. No password hash is
in any document. Schemas for validators (JSON Schema 2020-12): [json-schema.json](json-schema.json). `check --format
sarif` writes SARIF 2.1.0, which has a schema of its own.

    copper-nest list users --format json | jq -r '.users[] | select(.admin) | .name'
";

const COLUMNS: &str = "
## Columns of lists

Into a pipe, lists are rows with tabs between the columns, one a line. What would break a row, a tab or a line end or
bytes that are not UTF-8, is written as `\\xNN`. Columns keep their place and their meaning; new ones are added at the
end. `--columns NAME,…` takes some of them, in an order of yours, and is what a script should use; `--header` writes
their names first.

    copper-nest list users --columns name,uid,sign-in --header
";

/// The schema of every document, with what is in all of them.
fn schemas() -> (Map<String, Value>, BTreeMap<String, Value>) {
    let mut documents = Map::new();
    let mut parts = BTreeMap::new();
    for form in ALL {
        let mut schema = (form.schema)().to_value();
        let object = schema.as_object_mut().unwrap();
        object.remove("$schema");
        for (name, part) in
            object.remove("$defs").and_then(|defs| defs.as_object().cloned()).unwrap_or_default()
        {
            parts.insert(name, part);
        }
        let properties = object["properties"].as_object_mut().unwrap();
        properties.insert("document".to_owned(), json!({"const": form.kind}));
        properties.insert("version".to_owned(), json!({"const": 1}));
        let required = object.entry("required").or_insert_with(|| json!([]));
        required.as_array_mut().unwrap().extend([json!("document"), json!("version")]);
        // Whoever reads them passes over keys that come later.
        object.remove("additionalProperties");
        documents.insert(form.kind.to_owned(), schema);
    }
    for part in parts.values_mut() {
        part.as_object_mut().map(|part| part.remove("additionalProperties"));
    }
    (documents, parts)
}

/// What a value is, in a word or two.
fn kind(schema: &Value) -> String {
    if let Some(part) = schema["$ref"].as_str() {
        let name = part.rsplit('/').next().unwrap();
        return format!("[{name}](#{})", name.to_lowercase());
    }
    if let Some(any) = schema["anyOf"].as_array() {
        let some = any.iter().find(|one| one["type"] != "null").unwrap();
        return format!("{} or null", kind(some));
    }
    match &schema["type"] {
        Value::String(name) => match name.as_str() {
            "array" => format!("list of {}", kind(&schema["items"])),
            "object" => format!("object of {}", kind(&schema["additionalProperties"])),
            "string" => "text".to_owned(),
            "integer" => "number".to_owned(),
            "boolean" => "true or false".to_owned(),
            name => name.to_owned(),
        },
        // Something that may be missing.
        Value::Array(names) => kind(&json!({"type": names[0], "items": schema["items"],
            "additionalProperties": schema["additionalProperties"]})),
        _ => "any".to_owned(),
    }
}

fn table(page: &mut String, schema: &Value) {
    let required: Vec<&str> =
        schema["required"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
    page.push_str("\n| key | value | meaning |\n|---|---|---|\n");
    for (name, value) in schema["properties"].as_object().unwrap() {
        if name == "document" || name == "version" {
            continue;
        }
        let meaning = value["description"].as_str().unwrap_or_default().replace('\n', " ");
        let missing = if required.contains(&name.as_str()) { "" } else { " *May be missing.*" };
        let is = kind(value);
        let is = if missing.is_empty() { is } else { is.trim_end_matches(" or null").to_owned() };
        writeln!(page, "| `{name}` | {is} | {} |", format!("{meaning}{missing}").trim()).unwrap();
    }
}

#[test]
fn the_page_of_documents_is_current() {
    let (documents, parts) = schemas();
    let mut page = INTRO.to_owned();
    for form in ALL {
        let schema = &documents[form.kind];
        let about = schema["description"].as_str().unwrap();
        write!(page, "\n### {}\n\n`{}`: {about}\n", form.kind, form.commands).unwrap();
        table(&mut page, schema);
    }
    page.push_str("\n## Parts of documents\n");
    for (name, part) in &parts {
        if part["properties"].is_object()
            && !ALL.iter().any(|form| {
                documents[form.kind]["title"] == part["title"] && part["title"].is_string()
            })
        {
            let about = part["description"].as_str().unwrap_or_default();
            write!(page, "\n### {name}\n\n{about}\n").unwrap();
            table(&mut page, part);
        }
    }
    page.push_str(COLUMNS);
    for (list, columns) in copper_nest::lists() {
        write!(page, "\n### {list}\n\n| column | meaning |\n|---|---|\n").unwrap();
        for column in columns {
            writeln!(page, "| `{}` | {} |", column.name, column.meaning).unwrap();
        }
    }
    assert_current("json.md", &page);
    let all = json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "What copper-nest prints with --format json",
        "oneOf": documents.values().collect::<Vec<_>>(),
        "$defs": parts,
    });
    assert_current("json-schema.json", &format!("{all:#}\n"));
}

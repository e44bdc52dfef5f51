//! The JSON Schema of a manifest, for editors.

use serde_json::{Map, Value, json};

use super::{EACH, Key, Kind, MANIFEST, Table, tables};

/// Returns the JSON Schema (draft 2020-12) of a manifest.
pub fn schema() -> Value {
    let mut schema = object(&MANIFEST);
    let rest = tables().into_iter().skip(1);
    let defined: Map<String, Value> = rest.map(|table| (table.name.to_owned(), object(table))).collect();
    let head = [
        ("$schema", json!("https://json-schema.org/draft/2020-12/schema")),
        ("title", json!("Pindrel's manifest")),
        ("$defs", Value::Object(defined)),
    ];
    if let Value::Object(own) = &mut schema {
        own.extend(head.map(|(key, value)| (key.to_owned(), value)));
    }
    schema
}

fn object(table: &Table) -> Value {
    let properties: Map<String, Value> = table.keys.iter().map(|key| (key.name.to_owned(), property(key))).collect();
    let needed: Vec<&str> =
        table.keys.iter().filter(|key| key.of.is_empty() && key.needed_by == EACH).map(|key| key.name).collect();
    let mut object =
        json!({ "type": "object", "properties": properties, "required": needed, "additionalProperties": false });
    if let Some(Key { kind: Kind::Word(drivers), .. }) = table.key("driver") {
        object["allOf"] = drivers.iter().map(|driver| of_driver(table, driver)).collect();
    }
    object
}

/// What a table needs, and must not have, with one driver.
fn of_driver(table: &Table, driver: &str) -> Value {
    let owned = || table.keys.iter().filter(|key| !key.of.is_empty());
    let is_needed = |key: &&Key| key.is_of(driver) && (key.needed_by == EACH || key.needed_by.contains(&driver));
    let needed: Vec<&str> = owned().filter(is_needed).map(|key| key.name).collect();
    let refused: Map<String, Value> =
        owned().filter(|key| !key.is_of(driver)).map(|key| (key.name.to_owned(), Value::Bool(false))).collect();
    json!({
        "if": { "properties": { "driver": { "const": driver } }, "required": ["driver"] },
        "then": { "required": needed, "properties": refused },
    })
}

fn property(key: &Key) -> Value {
    let mut property = of_kind(&key.kind, key.pattern);
    property["description"] = json!(key.doc);
    property
}

fn of_kind(kind: &Kind, pattern: &str) -> Value {
    match kind {
        Kind::Version => json!({ "const": 1 }),
        Kind::Text if !pattern.is_empty() => json!({ "type": "string", "pattern": pattern }),
        Kind::Text | Kind::Path => json!({ "type": "string" }),
        Kind::Url => json!({ "type": "string", "pattern": "^https://" }),
        Kind::Secret => json!({ "type": "string", "pattern": "^(env|file):.+" }),
        Kind::Truth => json!({ "type": "boolean" }),
        Kind::Agreed => json!({ "const": true }),
        Kind::Word(words) => json!({ "enum": words }),
        Kind::Number(range) => {
            let mut number = json!({ "type": "integer", "minimum": range.start() });
            if *range.end() < u32::MAX {
                number["maximum"] = json!(range.end());
            }
            number
        }
        Kind::Duration(_) => json!({ "type": "string", "pattern": "^[0-9]+[smhd]$" }),
        Kind::List(entry, lengths) => {
            let mut list = json!({ "type": "array", "items": of_kind(entry, pattern) });
            if *lengths.start() > 0 {
                list["minItems"] = json!(lengths.start());
            }
            if *lengths.end() < usize::MAX {
                list["maxItems"] = json!(lengths.end());
            }
            list
        }
        Kind::Table(table) => json!({ "$ref": format!("#/$defs/{}", table.name) }),
        Kind::Named(table) => {
            json!({ "type": "object", "additionalProperties": { "$ref": format!("#/$defs/{}", table.name) } })
        }
        Kind::Map(value) => json!({ "type": "object", "additionalProperties": of_kind(value, "") }),
        Kind::Either(kinds) => json!({ "anyOf": kinds.iter().map(|kind| of_kind(kind, "")).collect::<Vec<_>>() }),
    }
}

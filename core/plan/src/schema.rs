//! The plan's JSON Schema (draft 2020-12), from the table of keys.

use serde_json::{Map, Value, json};

use super::account_by::MAX_TAGS;
use super::keys::{ALERT, ASSIGNMENT, BUDGET, EXAMPLE, Key, RECIPE, ROUTE, Shape, TABLE, TOP};
use super::{destinations, sources};

fn shape(shape: Shape) -> Value {
    let text = |says: &str| json!({ "type": "string", "description": says });
    match shape {
        Shape::Text => json!({ "type": "string", "minLength": 1 }),
        Shape::Word(words) => json!({ "enum": words }),
        Shape::Address => json!({ "type": "string", "pattern": "^.+:[0-9]+$" }),
        Shape::Texts => json!({ "type": "array", "items": { "type": "string" }, "minItems": 1, "uniqueItems": true }),
        Shape::Gate => text("a condition, or `remainder`"),
        Shape::Facts => text("a condition on the facts of a host"),
        Shape::Watched => text("what is watched"),
        Shape::Allowance => text("what may pass a place in a day or a month"),
        Shape::Shares => json!({ "type": "array", "items": { "type": "string", "pattern": "^([0-9]+ ?%|forecast)$" }, "uniqueItems": true }),
        Shape::Steps => json!({ "type": "array", "items": { "type": "string", "description": "a step" } }),
        Shape::Size => json!({ "type": "string", "pattern": "^[0-9]+ ?(B|KB|MB|GB)$" }),
        Shape::Duration => json!({ "type": "string", "pattern": "^[0-9]+ ?(ms|milliseconds?|s|seconds?|min|minutes?|hours?|days?)$" }),
        Shape::Promise => json!({ "type": "string", "pattern": "^[0-9]+ ?(ms|milliseconds?|s|seconds?|min|minutes?|hours?|days?) for [0-9.]+ ?%$" }),
        Shape::Count => json!({ "type": "integer", "minimum": 1 }),
        Shape::Truth => json!({ "type": "boolean" }),
        Shape::Secret => json!({ "type": "object", "properties": { "secret": { "type": "string" } }, "required": ["secret"], "additionalProperties": false }),
        Shape::Headers => {
            let secret = self::shape(Shape::Secret);
            json!({ "type": "object", "additionalProperties": { "anyOf": [{ "type": "string" }, secret] } })
        }
        Shape::Expectations => json!({ "type": "object", "additionalProperties": text("a condition, `removed` or `not sent`"), "minProperties": 1 }),
        Shape::Price => {
            let amount = json!({ "type": "number", "minimum": 0, "maximum": 1_000_000_000 });
            let currency = json!({ "type": "string", "pattern": "^[A-Z]{3}$" });
            let properties = json!({ "per_gb": amount, "per_million": amount, "per_month": amount, "currency": currency });
            let one = ["per_gb", "per_million", "per_month"].map(|part| json!({ "required": [part] }));
            json!({ "type": "object", "properties": properties, "anyOf": one, "additionalProperties": false })
        }
    }
}

fn object(keys: &[Key]) -> Value {
    let mut properties = Map::new();
    for key in keys {
        let mut of = shape(key.shape);
        of["description"] = json!(key.says);
        properties.insert(key.name.to_owned(), of);
    }
    let required: Vec<_> = keys.iter().filter(|k| k.needed && k.kinds.is_empty()).map(|k| k.name).collect();
    let mut object = json!({ "type": "object", "properties": properties, "required": required, "additionalProperties": false });
    // A key that only some kinds have is needed, or not allowed, by the kind that is given.
    let kinds = keys.iter().find_map(|k| {
        if let Shape::Word(words) = k.shape
            && k.name == "kind"
        {
            Some(words)
        } else {
            None
        }
    });
    let mut cases = Vec::new();
    for kind in kinds.unwrap_or_default() {
        let mine = |k: &&Key| k.kinds.contains(kind);
        let needs: Vec<_> = keys.iter().filter(|k| k.needed).filter(mine).map(|k| k.name).collect();
        let others: Map<String, Value> =
            keys.iter().filter(|k| !k.kinds.is_empty() && !k.kinds.contains(kind)).map(|k| (k.name.to_owned(), json!(false))).collect();
        if !needs.is_empty() || !others.is_empty() {
            cases.push(json!({ "if": { "properties": { "kind": { "const": kind } } }, "then": { "required": needs, "properties": others } }));
        }
    }
    if !cases.is_empty() {
        object["allOf"] = json!(cases);
    }
    object
}

/// The schema that editors use to complete and check a plan.
#[must_use]
pub fn schema() -> Value {
    let says = |name: &str| TOP.iter().find(|(n, _)| *n == name).map_or("", |(_, s)| *s);
    let by_name = |name: &str, keys: &[Key]| json!({ "type": "object", "description": says(name), "additionalProperties": object(keys) });
    json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "A Rockrose plan",
        "type": "object",
        "properties": {
            "account_by": {
                "type": "array", "description": says("account_by"), "items": { "type": "string" }, "maxItems": MAX_TAGS, "uniqueItems": true
            },
            "source": by_name("source", sources::source_keys()),
            "destination": by_name("destination", destinations::destination_keys()),
            "recipe": by_name("recipe", RECIPE),
            "table": by_name("table", TABLE),
            "alert": by_name("alert", ALERT),
            "budget": by_name("budget", BUDGET),
            "collect": by_name("collect", sources::source_keys()),
            "assignment": by_name("assignment", ASSIGNMENT),
            "route": { "type": "array", "description": says("route"), "items": object(ROUTE) },
            "example": { "type": "array", "description": says("example"), "items": object(EXAMPLE) }
        },
        "additionalProperties": false
    })
}

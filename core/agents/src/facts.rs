//! Facts: what an agent says of its host, as one JSON object.

use serde_json::{Map, Value};

/// Most bytes of facts that are taken of an agent.
pub const MOST_FACTS: usize = 64 << 10;

/// Facts as one object: what the agent says, with the group that it is in, which it cannot choose. Attributes called `labels.NAME` stand in an object of their own; those that the centre
/// gives, `given`, count before the host's own.
#[must_use]
pub fn facts(group: &str, given: &Map<String, Value>, said: impl IntoIterator<Item = (String, Value)>) -> Map<String, Value> {
    let mut all = Map::new();
    let mut labels = Map::new();
    for (name, value) in said {
        match name.strip_prefix("labels.") {
            Some(label) => drop(labels.insert(label.to_owned(), value)),
            None => drop(all.insert(name, value)),
        }
    }
    labels.extend(given.iter().map(|(label, value)| (label.clone(), value.clone())));
    if !labels.is_empty() {
        all.insert("labels".to_owned(), Value::Object(labels));
    }
    all.insert("group".to_owned(), Value::String(group.to_owned()));
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_agent_cannot_choose_its_group() {
        let said = [("group", "owners"), ("host.name", "kiosk-7"), ("labels.port", "Lowmere")].map(|(name, value)| (name.to_owned(), Value::from(value)));
        let all = facts("kiosks", &Map::new(), said.clone());
        assert_eq!(Value::Object(all).to_string(), r#"{"group":"kiosks","host.name":"kiosk-7","labels":{"port":"Lowmere"}}"#);
        let given = [("port", "Skerry Point"), ("line", "north")].map(|(name, value)| (name.to_owned(), Value::from(value))).into_iter().collect();
        let all = facts("kiosks", &given, said);
        assert_eq!(all["labels"], serde_json::json!({ "port": "Skerry Point", "line": "north" }), "what the centre says counts");
    }
}

//! Facts: what an agent says of its host, as one JSON object.

use serde_json::{Map, Value};

/// Most bytes of facts that are taken of an agent.
pub const MOST_FACTS: usize = 64 << 10;

/// Facts as one object: what the agent says, with the group that it enrolled in, which it cannot choose. Attributes called `labels.NAME` stand in an object of their own.
#[must_use]
pub fn facts(group: &str, said: impl IntoIterator<Item = (String, Value)>) -> Map<String, Value> {
    let mut all = Map::new();
    let mut labels = Map::new();
    for (name, value) in said {
        match name.strip_prefix("labels.") {
            Some(label) => drop(labels.insert(label.to_owned(), value)),
            None => drop(all.insert(name, value)),
        }
    }
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
        let all = facts("kiosks", said);
        assert_eq!(Value::Object(all).to_string(), r#"{"group":"kiosks","host.name":"kiosk-7","labels":{"port":"Lowmere"}}"#);
    }
}

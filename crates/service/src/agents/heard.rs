//! What an agent said last, as it is kept.

use rockrose_opamp::{AgentDescription, AgentToServer, AnyValue, ComponentHealth, Value as Said};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

use super::{LOOK, PACKAGE};

/// Most parts that are kept of an agent's health.
const PARTS: usize = 1_000;
/// Most characters of what an agent says of one part.
const WORDS: usize = 500;

/// What an agent said last, but for its facts.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub(crate) struct Heard {
    /// What it can do.
    pub(crate) capabilities: u64,
    /// Whether it is well as a whole.
    pub(crate) healthy: bool,
    /// What it says of itself as a whole.
    pub(crate) says: String,
    /// How its parts are doing.
    pub(crate) parts: Vec<PartHeard>,
    /// What became of the plan that it was given last.
    pub(crate) config: ConfigHeard,
    /// The program that it runs, and what became of one that it was offered.
    pub(crate) package: PackageHeard,
    /// Whether it lets the files of its host be looked into from here.
    pub(crate) shows_files: bool,
    /// By how many whole minutes its host's clock is ahead of this one.
    pub(crate) clock_ahead_min: i64,
}

/// How a part of an agent is doing.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub(crate) struct PartHeard {
    /// `source:NAME`, `destination:NAME`, or as another agent calls it.
    pub(crate) part: String,
    pub(crate) healthy: bool,
    /// How it is doing.
    pub(crate) says: String,
    /// What helps.
    pub(crate) remedy: Option<String>,
}

/// The program of an agent.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub(crate) struct PackageHeard {
    /// Its SHA-256, in hexadecimal digits.
    pub(crate) hash: String,
    /// That of the one that was offered last.
    pub(crate) offered: String,
    /// A number of [`rockrose_opamp::PackageStatusEnum`].
    pub(crate) status: i32,
    /// Why it was not taken.
    pub(crate) error: String,
}

/// What became of a plan.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub(crate) struct ConfigHeard {
    /// The plan's SHA-256.
    pub(crate) hash: Vec<u8>,
    /// A number of [`rockrose_opamp::RemoteConfigStatuses`].
    pub(crate) status: i32,
    /// Why it was not taken.
    pub(crate) error: String,
}

fn words(text: &str) -> String {
    text.chars().filter(|c| !c.is_control()).take(WORDS).collect()
}

fn part(name: &str, health: &ComponentHealth) -> PartHeard {
    // What helps stands behind the first line.
    let (says, remedy) = health.last_error.split_once('\n').unwrap_or((&health.last_error, ""));
    let says = if says.is_empty() { &health.status } else { says };
    PartHeard { part: words(name), healthy: health.healthy, says: words(says), remedy: Some(words(remedy)).filter(|remedy| !remedy.is_empty()) }
}

impl Heard {
    /// Takes note of a message; says whether anything is new. What it leaves out has not changed.
    pub(crate) fn hear(&mut self, says: &AgentToServer, now_ms: i64) -> bool {
        let before = self.clone();
        if says.capabilities != 0 {
            self.capabilities = says.capabilities;
        }
        if let Some(package) = says.package_statuses.as_ref().and_then(|statuses| statuses.packages.get(PACKAGE)) {
            let of = |hash: &[u8]| super::hex(&hash[..hash.len().min(32)]);
            self.package = PackageHeard {
                hash: of(&package.agent_has_hash),
                offered: of(&package.server_offered_hash),
                status: package.status,
                error: words(&package.error_message),
            };
        }
        if let Some(custom) = &says.custom_capabilities {
            self.shows_files = custom.capabilities.iter().any(|capability| capability == LOOK);
        }
        if let Some(health) = &says.health {
            let mut parts: Vec<PartHeard> = health.component_health_map.iter().map(|(name, health)| part(name, health)).collect();
            parts.sort_by(|a, b| (a.healthy, &a.part).cmp(&(b.healthy, &b.part)));
            parts.truncate(PARTS);
            if health.status_time_unix_nano > 0 {
                let said = i64::try_from(health.status_time_unix_nano / 1_000_000).unwrap_or(i64::MAX);
                self.clock_ahead_min = said.saturating_sub(now_ms) / 60_000;
            }
            self.healthy = health.healthy;
            self.says = words(if health.last_error.is_empty() { &health.status } else { &health.last_error });
            self.parts = parts;
        }
        if let Some(status) = &says.remote_config_status {
            let hash = status.last_remote_config_hash.iter().copied().take(64).collect();
            self.config = ConfigHeard { hash, status: status.status, error: words(&status.error_message) };
        }
        *self != before
    }
}

/// What an agent says of itself and its host, as facts.
pub(crate) fn facts_of(description: &AgentDescription) -> Vec<(String, Value)> {
    let all = description.identifying_attributes.iter().chain(&description.non_identifying_attributes);
    all.map(|attribute| (attribute.key.clone(), attribute.value.as_ref().map_or(Value::Null, |value| json(value, 0)))).collect()
}

/// Deepest nesting of what an agent says.
const DEEPEST: usize = 16;

fn json(value: &AnyValue, depth: usize) -> Value {
    if depth == DEEPEST {
        return Value::Null;
    }
    match &value.value {
        None => Value::Null,
        Some(Said::String(text)) => Value::from(text.as_str()),
        Some(Said::Bool(truth)) => Value::from(*truth),
        Some(Said::Int(number)) => Value::from(*number),
        Some(Said::Double(number)) => Value::from(*number),
        Some(Said::Bytes(bytes)) => Value::from(super::hex(bytes)),
        Some(Said::Array(list)) => list.values.iter().map(|value| json(value, depth + 1)).collect(),
        Some(Said::Kvlist(list)) => {
            let one =
                |attribute: &rockrose_opamp::KeyValue| (attribute.key.clone(), attribute.value.as_ref().map_or(Value::Null, |value| json(value, depth + 1)));
            Value::Object(list.values.iter().map(one).collect::<Map<_, _>>())
        }
    }
}

#[cfg(test)]
mod tests {
    use rockrose_opamp::{KeyValue, RemoteConfigStatus, RemoteConfigStatuses};

    use super::*;

    #[test]
    fn what_is_left_out_has_not_changed() {
        let mut heard = Heard::default();
        let denied = ComponentHealth { last_error: "app.log: permission denied\nsetfacl -m u:7:r app.log".into(), ..ComponentHealth::default() };
        let health = ComponentHealth { healthy: false, component_health_map: [("source:log".to_owned(), denied)].into(), ..ComponentHealth::default() };
        assert!(heard.hear(&AgentToServer { capabilities: 3, health: Some(health.clone()), ..AgentToServer::default() }, 0));
        assert!(!heard.hear(&AgentToServer { health: Some(health.clone()), ..AgentToServer::default() }, 0), "nothing is new");
        for (minutes, ahead) in [(-90, -90), (0, 0), (7, 7)] {
            let status_time_unix_nano = ((1_000 + minutes) * 60_000_000_000_i64) as u64;
            let health = ComponentHealth { status_time_unix_nano, ..health.clone() };
            heard.hear(&AgentToServer { health: Some(health), ..AgentToServer::default() }, 1_000 * 60_000);
            assert_eq!(heard.clock_ahead_min, ahead);
        }
        let status = RemoteConfigStatus { last_remote_config_hash: vec![1], status: RemoteConfigStatuses::Failed as i32, error_message: "line 1".into() };
        assert!(heard.hear(&AgentToServer { remote_config_status: Some(status), ..AgentToServer::default() }, 0));
        let part = &heard.parts[0];
        assert_eq!((part.says.as_str(), part.remedy.as_deref()), ("app.log: permission denied", Some("setfacl -m u:7:r app.log")));
        assert_eq!((heard.capabilities, heard.config.error.as_str()), (3, "line 1"));
        assert_eq!(serde_json::from_str::<Heard>(&serde_json::to_string(&heard).unwrap()).unwrap(), heard);
    }

    #[test]
    fn facts_are_bounded_in_depth() {
        let mut deep = AnyValue::default();
        for _ in 0..90 {
            deep = AnyValue { value: Some(Said::Array(rockrose_opamp::ArrayValue { values: vec![deep] })) };
        }
        let description = AgentDescription {
            identifying_attributes: vec![KeyValue::text("host.name", "gate-1"), KeyValue { key: "deep".into(), value: Some(deep) }],
            ..AgentDescription::default()
        };
        let facts = facts_of(&description);
        assert_eq!(facts[0], ("host.name".to_owned(), Value::from("gate-1")));
        assert!(facts[1].1.to_string().len() < 100);
    }
}

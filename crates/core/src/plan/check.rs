//! Second stage: what the document means. Names refer to something, sentences parse, values are in bounds.

use std::collections::{HashMap, HashSet};
use std::net::SocketAddr;
use std::time::Duration;

use super::keys::{DESTINATION, Key, RECIPE, ROUTE, SOURCE, Shape};
use super::parse::{At, ParsedPlan, Raw, Section, inside, reports};
use super::report::Report;
use crate::lang::{Condition, Mistake, Operation, Size, Step, parse_condition, parse_step};

/// Most routes, sources and destinations together.
const MAX_PARTS: usize = 20_000;
/// Most steps that recipes may expand to in one place.
const MAX_STEPS: usize = 1_000;
const MB: u64 = 1_000_000;

/// A plan whose every part was checked. Only this can be compiled.
#[derive(Clone, Debug)]
pub struct CheckedPlan {
    /// The document.
    pub text: String,
    /// Where events come from, in the document's order.
    pub sources: Vec<Source>,
    /// Where they go.
    pub destinations: Vec<Destination>,
    /// Which go where.
    pub routes: Vec<Route>,
    recipes: HashMap<String, Vec<Step>>,
    /// What is odd but not wrong.
    pub warnings: Vec<Report>,
}

/// The name of a kept secret; never its value.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct SecretName(pub String);

/// A source.
#[derive(Clone, Debug, PartialEq)]
pub struct Source {
    /// Its name.
    pub name: String,
    /// Where it listens.
    pub listen: SocketAddr,
    /// The key senders must show.
    pub key: Option<SecretName>,
    /// Steps done to every event.
    pub on_arrival: Vec<Step>,
    /// Largest body as sent, in bytes.
    pub max_body: u64,
    /// Largest body after decompression, in bytes.
    pub max_unpacked: u64,
    /// Largest event, in bytes.
    pub max_event: u64,
    /// Most requests at once.
    pub max_requests: u64,
}

/// A destination.
#[derive(Clone, Debug, PartialEq)]
pub struct Destination {
    /// Its name.
    pub name: String,
    /// What it is.
    pub kind: DestinationKind,
    /// Steps done to every event that leaves there.
    pub always: Vec<Step>,
    /// What it costs.
    pub price: Option<Price>,
    /// How many bytes may wait for it.
    pub hold_at_most: u64,
}

/// What a destination is, with what only that kind has.
#[derive(Clone, Debug, PartialEq)]
pub enum DestinationKind {
    /// Events are appended to a file, as JSON lines.
    File {
        /// The file's path.
        path: String,
    },
    /// Events are posted.
    Http(HttpDestination),
    /// Events are counted and let go.
    Discard,
}

impl DestinationKind {
    /// The word for it in a plan.
    #[must_use]
    pub fn word(&self) -> &'static str {
        match self {
            DestinationKind::File { .. } => "file",
            DestinationKind::Http(_) => "http",
            DestinationKind::Discard => "discard",
        }
    }
}

/// A destination that events are posted to.
#[derive(Clone, Debug, PartialEq)]
pub struct HttpDestination {
    /// URLs, best first.
    pub endpoints: Vec<String>,
    /// The bearer token sent along.
    pub token: Option<SecretName>,
    /// Whether bodies are sent as gzip.
    pub gzip: bool,
    /// How long an answer may take.
    pub timeout: Duration,
    /// Largest body in bytes, before compression.
    pub max_batch: u64,
}

/// A price for what is sent.
#[derive(Clone, Debug, PartialEq)]
pub struct Price {
    /// For 1 000 000 000 bytes.
    pub per_gb: f64,
    /// ISO 4217 code.
    pub currency: String,
}

/// Which events a route takes.
#[derive(Clone, Debug, PartialEq)]
pub enum Gate {
    /// All.
    Every,
    /// Those that meet a condition.
    Condition(Condition),
    /// Those that no other route takes.
    Remainder,
}

/// A route.
#[derive(Clone, Debug, PartialEq)]
pub struct Route {
    /// Its name.
    pub name: String,
    /// The sources it takes from; empty: all.
    pub from: Vec<String>,
    /// Which events it takes.
    pub when: Gate,
    /// What is done to them.
    pub steps: Vec<Step>,
    /// The destinations that each get a copy.
    pub to: Vec<String>,
}

impl Route {
    /// Whether it takes from the source called `source`.
    #[must_use]
    pub fn takes_from(&self, source: &str) -> bool {
        self.from.is_empty() || self.from.iter().any(|f| f == source)
    }
}

impl CheckedPlan {
    /// Reads and checks a plan in one go.
    pub fn read(text: &str) -> Result<CheckedPlan, Vec<Report>> {
        ParsedPlan::parse(text)?.check()
    }

    /// The steps with every `use` replaced by its recipe's steps. A `when` on the `use` holds for each of them.
    #[must_use]
    pub fn expanded(&self, steps: &[Step]) -> Vec<Step> {
        expand(&self.recipes, steps)
    }

    /// All secrets that the plan refers to.
    #[must_use]
    pub fn secrets(&self) -> Vec<&SecretName> {
        let tokens = self.destinations.iter().filter_map(|d| if let DestinationKind::Http(h) = &d.kind { h.token.as_ref() } else { None });
        let mut all: Vec<_> = self.sources.iter().filter_map(|s| s.key.as_ref()).chain(tokens).collect();
        all.sort_by(|a, b| a.0.cmp(&b.0));
        all.dedup();
        all
    }
}

/// How many steps [`expand`] would yield, found without expanding (recipes can multiply).
fn expanded_len(recipes: &HashMap<String, Vec<Step>>, steps: &[Step], known: &mut HashMap<String, usize>) -> usize {
    let mut total = 0usize;
    for step in steps {
        let len = match &step.operation {
            Operation::Use(name) => match known.get(name) {
                Some(len) => *len,
                None => {
                    let len = expanded_len(recipes, recipes.get(name).map_or(&[], Vec::as_slice), known);
                    known.insert(name.clone(), len);
                    len
                }
            },
            _ => 1,
        };
        total = total.saturating_add(len);
    }
    total
}

fn expand(recipes: &HashMap<String, Vec<Step>>, steps: &[Step]) -> Vec<Step> {
    let mut out = Vec::new();
    for step in steps {
        let Operation::Use(name) = &step.operation else {
            out.push(step.clone());
            continue;
        };
        for inner in expand(recipes, recipes.get(name).map_or(&[], Vec::as_slice)) {
            let when = match (inner.when, &step.when) {
                (None, outer) => outer.clone(),
                (some, None) => some,
                (Some(a), Some(b)) => {
                    let parts = [a, b.clone()].into_iter().flat_map(|c| if let Condition::And(all) = c { all } else { vec![c] });
                    Some(Condition::And(parts.collect()))
                }
            };
            out.push(Step { operation: inner.operation, when });
        }
    }
    out
}

struct Checker<'a> {
    text: &'a str,
    mistakes: Vec<Mistake>,
    warnings: Vec<Mistake>,
    recipes: Vec<String>,
}

impl ParsedPlan {
    /// Gives the document its meaning, or says all that is wrong with it, in the document's order.
    pub fn check(self) -> Result<CheckedPlan, Vec<Report>> {
        let mut c =
            Checker { text: &self.text, mistakes: Vec::new(), warnings: Vec::new(), recipes: self.recipes.iter().map(|r| r.name.value.clone()).collect() };
        if self.sources.len() + self.destinations.len() + self.routes.len() > MAX_PARTS {
            c.mistakes.push(Mistake::new(0..0, "more than 20 000 sources, routes and destinations"));
        }
        let recipes = c.recipes(&self.recipes);
        let sources: Vec<Source> = self.sources.iter().filter_map(|s| c.source(s)).collect();
        let destinations: Vec<Destination> = self.destinations.iter().filter_map(|s| c.destination(s)).collect();
        let routes = c.routes(&self);
        c.whole(&self, &sources, &routes, &recipes);
        if !c.mistakes.is_empty() {
            return Err(reports(&self.text, c.mistakes));
        }
        let warnings = reports(&self.text, c.warnings);
        Ok(CheckedPlan { text: self.text, sources, destinations, routes, recipes, warnings })
    }
}

impl Section {
    fn get(&self, name: &str) -> Option<&At<Raw>> {
        self.entries.iter().find(|(k, _)| k.name == name).map(|(_, v)| v)
    }

    fn text(&self, name: &str) -> Option<At<&str>> {
        match self.get(name) {
            Some(At { value: Raw::Text(text), at }) => Some(At { value: text, at: at.clone() }),
            _ => None,
        }
    }

    fn texts(&self, name: &str) -> &[At<String>] {
        match self.get(name) {
            Some(At { value: Raw::Texts(list), .. }) => list,
            _ => &[],
        }
    }

    fn secret(&self, name: &str) -> Option<&At<String>> {
        match self.get(name) {
            Some(At { value: Raw::Secret(secret), .. }) => Some(secret),
            _ => None,
        }
    }
}

/// Whether `name` can name a part of a plan or a secret: letters, digits, `-` and `_`, a letter first, at most 64.
#[must_use]
pub fn is_name(name: &str) -> bool {
    name.len() <= 64 && name.starts_with(|c: char| c.is_ascii_alphabetic()) && name.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'-' | b'_'))
}

impl Checker<'_> {
    fn name(&mut self, name: &At<String>, what: &str) {
        if !is_name(&name.value) {
            let message = format!("`{}` cannot name a {what}", name.value);
            self.mistakes.push(Mistake::new(name.at.clone(), message).expected("letters, digits, `-` and `_`, a letter first, at most 64"));
        }
    }

    /// Needed keys that are missing, and keys that this kind does not have.
    fn keys(&mut self, section: &Section, keys: &'static [Key], what: &str) {
        let kind = section.text("kind");
        if let Some(kind) = &kind
            && let Some(words) = keys.iter().find_map(|k| {
                if let Shape::Word(words) = k.shape
                    && k.name == "kind"
                {
                    Some(words)
                } else {
                    None
                }
            })
            && !words.contains(&kind.value)
        {
            let all: Vec<_> = words.iter().map(|w| format!("\"{w}\"")).collect();
            let message = format!("there is no {what} of kind `{}`", kind.value);
            self.mistakes.push(Mistake::new(kind.at.clone(), message).expected(format!("one of {}", all.join(", "))).near(kind.value, words.iter().copied()));
            return;
        }
        let kind = kind.map_or("", |k| k.value);
        for key in keys {
            let mine = key.kinds.is_empty() || key.kinds.contains(&kind);
            match section.get(key.name) {
                None if key.needed && mine => {
                    let of = if section.name.value.is_empty() { format!("a {what}") } else { format!("the {what} `{}`", section.name.value) };
                    self.mistakes.push(Mistake::new(section.name.at.clone(), format!("{of} needs `{}`", key.name)).expected(format!(
                        "`{} = …`: {}",
                        key.name,
                        key.says.to_lowercase()
                    )));
                }
                Some(value) if !mine => {
                    let all: Vec<_> = keys.iter().filter(|k| k.kinds.is_empty() || k.kinds.contains(&kind)).map(|k| format!("`{}`", k.name)).collect();
                    self.mistakes.push(
                        Mistake::new(value.at.clone(), format!("a {what} of kind `{kind}` has no `{}`", key.name))
                            .expected(format!("one of {}", all.join(", "))),
                    );
                }
                Some(At { value: Raw::Text(text), at }) => {
                    if let Shape::Word(words) = key.shape
                        && !words.contains(&text.as_str())
                        && key.name != "kind"
                    {
                        let all: Vec<_> = words.iter().map(|w| format!("\"{w}\"")).collect();
                        self.mistakes.push(
                            Mistake::new(at.clone(), format!("`{text}` cannot stand here"))
                                .expected(format!("one of {}", all.join(", ")))
                                .near(text, words.iter().copied()),
                        );
                    }
                }
                _ => {}
            }
        }
    }

    fn placed(&self, at: &std::ops::Range<usize>, decoded: &str, mistake: Mistake) -> Mistake {
        let start = inside(self.text, at, decoded, mistake.at.start);
        let end = inside(self.text, at, decoded, mistake.at.end).max(start);
        Mistake { at: start..end, ..mistake }
    }

    fn steps(&mut self, written: &[At<String>]) -> Vec<Step> {
        let mut steps = Vec::new();
        for text in written {
            match parse_step(&text.value) {
                Ok(step) => {
                    if let Operation::Use(name) = &step.operation
                        && !self.recipes.contains(name)
                    {
                        let at = text.value.find(name.as_str()).unwrap_or(0);
                        let mistake = Mistake::new(at..at + name.len(), format!("there is no recipe `{name}`"))
                            .expected("a recipe of this plan")
                            .near(name, self.recipes.iter().map(String::as_str));
                        let mistake = self.placed(&text.at, &text.value, mistake);
                        self.mistakes.push(mistake);
                    }
                    steps.push(step);
                }
                Err(mistake) => {
                    let mistake = self.placed(&text.at, &text.value, mistake);
                    self.mistakes.push(mistake);
                }
            }
        }
        steps
    }

    fn size(&mut self, section: &Section, key: &str, default: u64, most: u64) -> u64 {
        let Some(written) = section.text(key) else { return default };
        match Size::read(written.value).map(Size::bytes) {
            Some(bytes) if (1..=most).contains(&bytes) => bytes,
            Some(_) => {
                let most = if most >= 1000 * MB { format!("{} GB", most / (1000 * MB)) } else { format!("{} MB", most / MB) };
                self.mistakes.push(Mistake::new(written.at, "the size is out of bounds").expected(format!("at least 1 B and at most {most}")));
                default
            }
            None => {
                self.mistakes.push(
                    Mistake::new(written.at, format!("`{}` is not a size", written.value)).expected("a number and `B`, `KB`, `MB` or `GB`, as in \"2 MB\""),
                );
                default
            }
        }
    }

    fn duration(&mut self, section: &Section, key: &str, default: Duration) -> Duration {
        let Some(written) = section.text(key) else { return default };
        let digits = written.value.find(|c: char| !c.is_ascii_digit()).unwrap_or(written.value.len());
        let unit = match written.value[digits..].trim().trim_end_matches('s') {
            "m" | "millisecond" => Some(1),
            "" if written.value.ends_with('s') => Some(1_000),
            "second" => Some(1_000),
            "min" | "minute" => Some(60_000),
            "hour" => Some(3_600_000),
            "day" => Some(86_400_000),
            _ => None,
        };
        match (written.value[..digits].parse::<u64>().ok(), unit) {
            (Some(n), Some(unit)) if (1..=86_400_000).contains(&n.saturating_mul(unit)) => Duration::from_millis(n * unit),
            _ => {
                self.mistakes.push(
                    Mistake::new(written.at, format!("`{}` is not a time", written.value))
                        .expected("a time of at least 1 ms and at most a day, as in \"30 seconds\""),
                );
                default
            }
        }
    }

    fn secret(&mut self, section: &Section, key: &str) -> Option<SecretName> {
        let written = section.secret(key)?;
        self.name(written, "secret");
        Some(SecretName(written.value.clone()))
    }

    fn source(&mut self, section: &Section) -> Option<Source> {
        self.name(&section.name, "source");
        self.keys(section, SOURCE, "source");
        let listen = section.text("listen")?;
        let address = listen.value.parse::<SocketAddr>();
        let key = self.secret(section, "key");
        let on_arrival = self.steps(section.texts("on_arrival"));
        let (max_body, max_unpacked) = (self.size(section, "max_body", 16 * MB, 1_000 * MB), self.size(section, "max_unpacked", 64 * MB, 1_000 * MB));
        let max_event = self.size(section, "max_event", 256_000, 64 * MB);
        let max_requests = if let Some(At { value: Raw::Count(n), .. }) = section.get("max_requests") { *n } else { 64 };
        let Ok(listen_at) = address else {
            self.mistakes.push(
                Mistake::new(listen.at, format!("`{}` is not an address to listen on", listen.value))
                    .expected("an IP address and a port, as in \"127.0.0.1:8610\""),
            );
            return None;
        };
        if key.is_none() && !listen_at.ip().is_loopback() {
            let message = format!("the source `{}` can be reached from other hosts and has no key", section.name.value);
            self.mistakes.push(Mistake::new(listen.at, message).expected("`key = { secret = \"NAME\" }`, or a loopback address such as 127.0.0.1"));
        }
        Some(Source { name: section.name.value.clone(), listen: listen_at, key, on_arrival, max_body, max_unpacked, max_event, max_requests })
    }

    fn destination(&mut self, section: &Section) -> Option<Destination> {
        self.name(&section.name, "destination");
        self.keys(section, DESTINATION, "destination");
        let always = self.steps(section.texts("always"));
        let hold_at_most = self.size(section, "hold_at_most", 4_000 * MB, 10_000_000 * MB);
        let price = match section.get("price") {
            Some(At { value: Raw::Price(per_gb, currency), .. }) => {
                Some(Price { per_gb: *per_gb, currency: currency.as_ref().map_or_else(|| "EUR".to_owned(), |c| c.value.clone()) })
            }
            _ => None,
        };
        let kind = match section.text("kind")?.value {
            "file" => {
                let path = section.text("path")?;
                if path.value.is_empty() || path.value.ends_with('/') || path.value.contains('\0') {
                    self.mistakes.push(Mistake::new(path.at, "this names no file").expected("a file's path"));
                }
                DestinationKind::File { path: path.value.to_owned() }
            }
            "http" => {
                let endpoints = section.texts("endpoints");
                if endpoints.is_empty()
                    && let Some(empty) = section.get("endpoints")
                {
                    self.mistakes.push(Mistake::new(empty.at.clone(), "no endpoint is given").expected("at least one URL"));
                }
                for endpoint in endpoints {
                    self.url(endpoint);
                }
                DestinationKind::Http(HttpDestination {
                    endpoints: endpoints.iter().map(|e| e.value.clone()).collect(),
                    token: self.secret(section, "token"),
                    gzip: section.text("compress").is_none_or(|c| c.value == "gzip"),
                    timeout: self.duration(section, "timeout", Duration::from_secs(30)),
                    max_batch: self.size(section, "max_batch", MB, 100 * MB),
                })
            }
            "discard" => DestinationKind::Discard,
            _ => return None,
        };
        Some(Destination { name: section.name.value.clone(), kind, always, price, hold_at_most })
    }

    fn url(&mut self, endpoint: &At<String>) {
        let rest = endpoint.value.strip_prefix("http://").or_else(|| endpoint.value.strip_prefix("https://"));
        let host = rest.map(|r| r.split(['/', '?', '#']).next().unwrap_or_default());
        match host {
            Some(host) if host.contains('@') => {
                self.mistakes.push(
                    Mistake::new(endpoint.at.clone(), "a name and password cannot stand in a plan")
                        .expected("the URL without them, and `token = { secret = \"NAME\" }`"),
                );
            }
            Some(host) if !host.is_empty() && endpoint.value.bytes().all(|b| b > b' ' && b != 0x7f) => {}
            _ => self.mistakes.push(Mistake::new(endpoint.at.clone(), format!("`{}` is not a URL", endpoint.value)).expected("`http://…` or `https://…`")),
        }
    }

    fn recipes(&mut self, sections: &[Section]) -> HashMap<String, Vec<Step>> {
        let mut recipes = HashMap::new();
        for section in sections {
            self.name(&section.name, "recipe");
            self.keys(section, RECIPE, "recipe");
            recipes.insert(section.name.value.clone(), self.steps(section.texts("steps")));
        }
        // A recipe that uses itself, by whatever way, would never end.
        for section in sections {
            let mut reached = HashSet::new();
            let mut next = vec![section.name.value.clone()];
            while let Some(name) = next.pop() {
                for step in recipes.get(&name).into_iter().flatten() {
                    if let Operation::Use(used) = &step.operation
                        && reached.insert(used.clone())
                    {
                        next.push(used.clone());
                    }
                }
            }
            if reached.contains(&section.name.value) {
                self.mistakes.push(Mistake::new(section.name.at.clone(), format!("the recipe `{}` uses itself", section.name.value)));
                recipes.insert(section.name.value.clone(), Vec::new());
            }
        }
        recipes
    }

    fn routes(&mut self, plan: &ParsedPlan) -> Vec<Route> {
        let sources: Vec<&str> = plan.sources.iter().map(|s| s.name.value.as_str()).collect();
        let destinations: Vec<&str> = plan.destinations.iter().map(|s| s.name.value.as_str()).collect();
        let mut seen = HashSet::new();
        let mut routes = Vec::new();
        for section in &plan.routes {
            self.keys(section, ROUTE, "route");
            let name = section.text("name");
            if let Some(name) = &name {
                self.name(&At { value: name.value.to_owned(), at: name.at.clone() }, "route");
                if !seen.insert(name.value.to_owned()) {
                    self.mistakes.push(Mistake::new(name.at.clone(), format!("there are two routes called `{}`", name.value)).expected("another name"));
                }
            }
            let refer = |list: &[At<String>], known: &[&str], what: &str, mistakes: &mut Vec<Mistake>| {
                let mut used = HashSet::new();
                for item in list {
                    if !known.contains(&item.value.as_str()) {
                        let expected = if known.is_empty() {
                            format!("a {what}, but the plan has none")
                        } else {
                            format!("one of {}", known.iter().take(12).map(|k| format!("`{k}`")).collect::<Vec<_>>().join(", "))
                        };
                        mistakes.push(
                            Mistake::new(item.at.clone(), format!("there is no {what} `{}`", item.value))
                                .expected(expected)
                                .near(&item.value, known.iter().copied()),
                        );
                    } else if !used.insert(&item.value) {
                        mistakes.push(Mistake::new(item.at.clone(), format!("the {what} `{}` is named twice", item.value)));
                    }
                }
                list.iter().map(|i| i.value.clone()).collect::<Vec<_>>()
            };
            let from = refer(section.texts("from"), &sources, "source", &mut self.mistakes);
            let to = refer(section.texts("to"), &destinations, "destination", &mut self.mistakes);
            for key in ["from", "to"] {
                if let Some(At { value: Raw::Texts(list), at }) = section.get(key)
                    && list.is_empty()
                {
                    self.mistakes.push(Mistake::new(at.clone(), format!("`{key}` is empty")).expected("at least one name"));
                }
            }
            let when = match section.text("when") {
                None => Gate::Every,
                Some(text) if text.value.trim() == "remainder" => Gate::Remainder,
                Some(text) => match parse_condition(text.value) {
                    Ok(condition) => Gate::Condition(condition),
                    Err(mistake) => {
                        let mistake = self.placed(&text.at, text.value, mistake);
                        self.mistakes.push(mistake);
                        Gate::Every
                    }
                },
            };
            let steps = self.steps(section.texts("do"));
            routes.push(Route { name: name.map_or_else(String::new, |n| n.value.to_owned()), from, when, steps, to });
        }
        routes
    }

    /// What can only be seen of the plan as a whole.
    fn whole(&mut self, plan: &ParsedPlan, sources: &[Source], routes: &[Route], recipes: &HashMap<String, Vec<Step>>) {
        for (i, source) in sources.iter().enumerate() {
            if let Some(other) = sources[..i].iter().find(|s| s.listen == source.listen)
                && let Some(at) = plan.sources.iter().find(|s| s.name.value == source.name).and_then(|s| s.text("listen"))
            {
                self.mistakes.push(Mistake::new(at.at, format!("`{}` listens there already", other.name)).expected("another port"));
            }
            if routes.iter().all(|r| !r.takes_from(&source.name))
                && let Some(section) = plan.sources.iter().find(|s| s.name.value == source.name)
            {
                self.warnings.push(Mistake::new(section.name.at.clone(), format!("no route takes from the source `{}`", source.name)));
            }
        }
        for section in &plan.destinations {
            if routes.iter().all(|r| !r.to.contains(&section.name.value)) {
                self.warnings.push(Mistake::new(section.name.at.clone(), format!("no route goes to the destination `{}`", section.name.value)));
            }
        }
        let mut sizes = HashMap::new();
        for (section, key) in
            plan.sources.iter().map(|s| (s, "on_arrival")).chain(plan.destinations.iter().map(|s| (s, "always"))).chain(plan.routes.iter().map(|s| (s, "do")))
        {
            let steps: Vec<Step> = section.texts(key).iter().filter_map(|t| parse_step(&t.value).ok()).collect();
            if expanded_len(recipes, &steps, &mut sizes) > MAX_STEPS
                && let Some(at) = section.get(key)
            {
                self.mistakes.push(Mistake::new(at.at.clone(), "more than 1 000 steps, those of recipes included"));
            }
        }
    }
}

//! The keys that a plan may have: the parser, its suggestions and the JSON Schema all read the same tables. The keys of sources and destinations stand with their kinds.

/// What a key's value is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Shape {
    /// A text.
    Text,
    /// A text that is one of these.
    Word(&'static [&'static str]),
    /// An address to listen on, `ip:port`.
    Address,
    /// A list of texts.
    Texts,
    /// A condition, or `remainder`.
    Gate,
    /// A condition on what an agent says of its host.
    Facts,
    /// What an alert watches.
    Watched,
    /// `30 seconds for 99 %`
    Promise,
    /// What a budget allows.
    Allowance,
    /// Shares such as `80 %`, and `forecast`.
    Shares,
    /// A list of steps.
    Steps,
    /// A size such as `2 MB`.
    Size,
    /// A time such as `30 seconds`.
    Duration,
    /// A whole number of at least 1.
    Count,
    /// `true` or `false`.
    Truth,
    /// `{ secret = "name" }`
    Secret,
    /// `{ name = "text", name = { secret = "name" } }`
    Headers,
    /// `{ per_gb = 2.40, per_million = 0.50, per_month = 100, currency = "EUR" }`
    Price,
    /// `{ desk = "severity = warn", vault = "removed" }`
    Expectations,
}

/// One key.
#[derive(Clone, Copy, Debug)]
pub(super) struct Key {
    pub(super) name: &'static str,
    pub(super) shape: Shape,
    pub(super) needed: bool,
    pub(super) says: &'static str,
    /// Kinds for which it may stand; empty: all.
    pub(super) kinds: &'static [&'static str],
}

impl Key {
    /// Whether it may stand in a section of this kind; in one whose kind is not known, every key may.
    pub(super) fn is_of(&self, kind: &str) -> bool {
        kind.is_empty() || self.kinds.is_empty() || self.kinds.contains(&kind)
    }
}

pub(super) const fn key(name: &'static str, shape: Shape, says: &'static str) -> Key {
    Key { name, shape, needed: false, says, kinds: &[] }
}

pub(super) const fn needed(name: &'static str, shape: Shape, says: &'static str) -> Key {
    Key { name, shape, needed: true, says, kinds: &[] }
}

const fn only(kinds: &'static [&'static str], k: Key) -> Key {
    Key { kinds, ..k }
}

/// The keys of all kinds in one table: `kind` first, then what some kinds have, each key with its kinds, then what all have. Called once for each table, which
/// then stands for as long as the program runs.
pub(super) fn merged(kind: Key, kinds: &[(&'static str, &[&[Key]])], common: &[Key]) -> Vec<Key> {
    let mut all = vec![kind];
    for (word, keys) in kinds {
        for key in keys.iter().copied().flatten() {
            match all.iter_mut().find(|known| known.name == key.name) {
                // Kinds that share a key share all that is said of it.
                Some(known) => {
                    debug_assert_eq!((known.says, known.needed), (key.says, key.needed), "{}", key.name);
                    known.kinds = Box::leak([known.kinds, &[*word]].concat().into_boxed_slice());
                }
                None => all.push(Key { kinds: Box::leak(Box::new([*word])), ..*key }),
            }
        }
    }
    all.extend_from_slice(common);
    all
}

/// Keys at the top of the document.
pub(super) const TOP: &[(&str, &str)] = &[
    ("account_by", "Fields of events, such as `team`, by whose values the account is told apart as well. It stands above the first section."),
    ("source", "Where events come from, by name."),
    ("destination", "Where events go, by name."),
    ("route", "Which events go where, and what is done to them on the way."),
    ("recipe", "Named lists of steps, used by `use NAME`."),
    ("table", "Files that `look up` and `locate` ask, by name."),
    ("alert", "What is watched, by name: each alert that begins or ends is an event of the sources of kind `alerts`."),
    ("budget", "What may pass a place in a day or a month, by name; steps and alerts ask how much of it is used."),
    ("collect", "What agents collect on their hosts, by name: sources that are opened there."),
    ("assignment", "Which hosts collect what, by name."),
    ("example", "Given events, and what must become of each. A plan in which one fails is not applied."),
];

pub(super) const ROUTE: &[Key] = &[
    needed("name", Shape::Text, "What it is called."),
    key("from", Shape::Texts, "The sources it takes from; left out, all."),
    key("when", Shape::Gate, "Which events it takes: a condition, or `remainder` for those that no other route takes; left out, all."),
    key("do", Shape::Steps, "What is done to each event, in order."),
    needed("to", Shape::Texts, "The destinations that each get a copy."),
    key("team", Shape::Text, "Whose it is: who may change what is a team's may change it."),
];

pub(super) const EXAMPLE: &[Key] = &[
    key("says", Shape::Text, "What it shows."),
    needed("source", Shape::Text, "The source that the event comes by."),
    needed("event", Shape::Text, "The event as a sender sends it: a JSON object, or a line of text."),
    needed(
        "expect",
        Shape::Expectations,
        "What must hold at each destination that is named: a condition on what is sent there, `removed` (a step removes it on its way there) or `not sent`.",
    ),
];

/// The severities of alerts.
const ALERT_SEVERITIES: &[&str] = &["info", "warn", "error", "fatal"];

pub(super) const ALERT: &[Key] = &[
    needed("when", Shape::Watched, "What is trouble, as in `oldest event at destination:desk > 10 minutes`."),
    key("for", Shape::Duration, "For so long it must be so before it is told. At once, if left out."),
    key("until", Shape::Watched, "What ends it; left out, that it is not so any more."),
    key("severity", Shape::Word(ALERT_SEVERITIES), "How grave it is. `warn` if left out."),
    key("advice", Shape::Text, "What to do about it."),
    key("again", Shape::Duration, "After so long it is told again, while it lasts and nobody has acknowledged it. Once only, if left out."),
];

pub(super) const BUDGET: &[Key] = &[
    needed("allows", Shape::Allowance, "How much may pass in a day or a month, and where, as in `40 GB a day at destination:desk`."),
    key(
        "tell",
        Shape::Shares,
        "When it is told, as an alert: at shares such as `80 %`, and `forecast`, when it will not suffice. 80 %, 100 % and the forecast if left out.",
    ),
    key("time_zone", Shape::Text, "By whose clocks days and months begin, such as `Europe/Lisbon`. `UTC` if left out."),
    key("advice", Shape::Text, "What to do about it."),
];

pub(super) const ASSIGNMENT: &[Key] = &[
    key(
        "when",
        Shape::Facts,
        "Which hosts it is for: a condition on what their agents say of them, as in `group = \"kiosks\" and os.type = \"linux\"`. All, if left out.",
    ),
    key("collect", Shape::Texts, "What they collect: names of `[collect.NAME]`."),
    key("do", Shape::Steps, "What is done to each event before it leaves the host."),
    key("max_rate", Shape::Size, "Most bytes that their agents send in a second; of several assignments, the least counts. Without a bound if left out."),
    key(
        "hold_at_most",
        Shape::Size,
        "How much may wait on them; then their agents read no further. Of several assignments, the least counts. 4 GB if left out.",
    ),
    key("text", Shape::Text, "For agents of another make: their configuration, which is given to them as it stands."),
    key("content_type", Shape::Text, "What `text` is, as a media type. `text/yaml` if left out."),
];

pub(super) const RECIPE: &[Key] = &[
    needed("steps", Shape::Steps, "The steps it stands for; `$NAME` in them is replaced by what a parameter of that name is given."),
    key("parameters", Shape::Texts, "The names of its parameters, all of which every `use` gives."),
    key("team", Shape::Text, "Whose it is: who may change what is a team's may change it."),
];

pub(super) const TABLE_KINDS: &[&str] = &["csv", "places"];
pub(super) const MATCHES: &[&str] = &["exact", "ignore case", "prefix", "network"];

pub(super) const TABLE: &[Key] = &[
    needed("kind", Shape::Word(TABLE_KINDS), "`csv`, for `look up`, or `places` (a database in the MaxMind format), for `locate`."),
    key("path", Shape::Text, "The file. It is read again when it changes."),
    only(&["csv"], key("text", Shape::Text, "What would be in the file: a short table can stand in the plan itself.")),
    only(&["csv"], needed("key", Shape::Text, "The column that values are looked up in.")),
    only(&["csv"], key("match", Shape::Word(MATCHES), "How a value meets a key. `exact` if left out.")),
];

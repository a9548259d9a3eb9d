//! The keys a plan may have, in one table: the parser, its suggestions and the JSON Schema all read it.

use rockrose_event::output::SyslogFacility;

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
    /// `{ per_gb = 2.40, currency = "EUR" }`
    Price,
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

const fn key(name: &'static str, shape: Shape, says: &'static str) -> Key {
    Key { name, shape, needed: false, says, kinds: &[] }
}

const fn needed(name: &'static str, shape: Shape, says: &'static str) -> Key {
    Key { name, shape, needed: true, says, kinds: &[] }
}

const fn only(kinds: &'static [&'static str], k: Key) -> Key {
    Key { kinds, ..k }
}

pub(super) const SOURCE_KINDS: &[&str] = &["http", "otlp", "syslog", "tcp", "file"];
pub(super) const BEGIN_AT: &[&str] = &["start", "end"];
pub(super) const OVER: &[&str] = &["tcp", "udp"];
pub(super) const DESTINATION_KINDS: &[&str] = &["file", "http", "otlp", "syslog", "archive", "discard"];
pub(super) const BODY_FORMS: &[&str] = &["json lines", "json array", "cloudevents"];
pub(super) const TRANSPORTS: &[&str] = &["http", "http json", "grpc"];
pub(super) const PACKINGS: &[&str] = &["gzip", "zstd", "none"];
pub(super) const LAYOUTS: &[&str] = &["json lines", "text", "csv"];
pub(super) const WAITING: &[&str] = &["zstd", "none"];
pub(super) const REMOVED: &[&str] = &["keep", "drain"];
pub(super) const OBJECTS: &[&str] = &["json lines", "parquet"];
pub(super) const KEPT: &[&str] = &["as shaped", "as received"];
pub(super) const PERIODS: &[&str] = &["hour", "day"];
pub(super) const SPREADS: &[&str] = &["first that answers", "in turn"];

/// Sources that listen at a port.
const LISTENING: &[&str] = &["http", "otlp", "syslog", "tcp"];
/// Sources that are sent requests.
const REQUESTS: &[&str] = &["http", "otlp"];

/// Destinations at the other end of a network.
const NETWORK: &[&str] = &["http", "otlp", "syslog"];
const NETWORK_OR_STORE: &[&str] = &["http", "otlp", "syslog", "archive"];
/// Destinations that bodies are posted to.
const POSTED: &[&str] = &["http", "otlp"];

/// Keys at the top of the document.
pub(super) const TOP: &[(&str, &str)] = &[
    ("source", "Where events come from, by name."),
    ("destination", "Where events go, by name."),
    ("route", "Which events go where, and what is done to them on the way."),
    ("recipe", "Named lists of steps, used by `use NAME`."),
    ("table", "Files that `look up` and `locate` ask, by name."),
];

pub(super) const SOURCE: &[Key] = &[
    needed("kind", Shape::Word(SOURCE_KINDS), "The protocol it speaks."),
    only(LISTENING, needed("listen", Shape::Address, "The address it listens on.")),
    only(
        &["file"],
        needed(
            "paths",
            Shape::Texts,
            "Patterns of the files it reads, as in \"/var/log/kiosk/*.log\"; `**` stands for folders. Packed ones (gzip, zstd) are unpacked.",
        ),
    ),
    only(&["file"], key("but_not", Shape::Texts, "Patterns of files among them that it does not read; one without a slash is of names.")),
    only(
        &["file"],
        key(
            "begin_at",
            Shape::Word(BEGIN_AT),
            "Where it begins in files that are there when it first runs: `start` or `end`. `end` if left out. Files that appear later are read whole.",
        ),
    ),
    only(&["file"], key("path_as", Shape::Text, "The field that tells each event's file, as in \"log.file.path\". None, if left out.")),
    only(
        &["syslog"],
        key("over", Shape::Word(OVER), "`tcp` (messages after their lengths, or lines) or `udp`. Both at once if left out; only `tcp` with a certificate."),
    ),
    only(&["syslog"], key("zone", Shape::Text, "The time zone of times that name none, as in \"Europe/Berlin\" or \"+01:00\". UTC if left out.")),
    only(
        REQUESTS,
        key(
            "key",
            Shape::Secret,
            "The key senders must show, as a bearer token or, to `http`, as the last part of the URL's path. Needed unless `listen` is a loopback address, or `client_ca` is given.",
        ),
    ),
    only(LISTENING, key("allow", Shape::Texts, "The networks that senders may come from, as in \"192.0.2.0/24\". From anywhere, if left out.")),
    only(
        LISTENING,
        key(
            "certificate",
            Shape::Text,
            "A file with the certificate (PEM) that is shown to senders, with `certificate_key`. Connections must then be made over TLS.",
        ),
    ),
    only(LISTENING, key("certificate_key", Shape::Text, "The file with its private key (PEM).")),
    only(LISTENING, key("client_ca", Shape::Text, "A file with certificates of authorities (PEM): senders must show a certificate of one of them.")),
    key("on_arrival", Shape::Steps, "Steps done to every event that arrives."),
    only(REQUESTS, key("max_body", Shape::Size, "Largest body that is read, as sent. 16 MB if left out.")),
    only(REQUESTS, key("max_unpacked", Shape::Size, "Largest body after decompression. 64 MB if left out.")),
    key("max_event", Shape::Size, "Largest single event. 256 KB if left out."),
    key("compress", Shape::Word(WAITING), "How its events are compressed while they wait for their destinations. `zstd` if left out."),
    only(
        &["http"],
        key(
            "may_set",
            Shape::Texts,
            "Fields that a request may set for all its events, by `?FIELD=…` or a header `Field-FIELD: …`. `time` and `host` take the place of what the events say.",
        ),
    ),
    only(REQUESTS, key("max_requests", Shape::Count, "Most requests that are worked on at once. 64 if left out.")),
];

pub(super) const DESTINATION: &[Key] = &[
    needed("kind", Shape::Word(DESTINATION_KINDS), "What it is."),
    only(&["file"], needed("path", Shape::Text, "The file that events are appended to.")),
    only(
        &["file"],
        key("layout", Shape::Word(LAYOUTS), "How events are written. `json lines` if left out; `text` goes with `template`, `csv` with `columns`."),
    ),
    only(&["file"], key("template", Shape::Text, "A line's text, with fields in braces: \"{time} {severity} {message}\".")),
    only(&["file"], key("columns", Shape::Texts, "The fields that are columns, by their paths.")),
    only(&["file"], key("rotate_at", Shape::Size, "A file that has grown so large is put aside and a new one begun. Never, if left out.")),
    only(&["file"], key("rotate_every", Shape::Word(PERIODS), "A new file is begun with each hour or day, in UTC. Never, if left out.")),
    only(&["file"], key("keep_files", Shape::Count, "How many files that were put aside are kept; the oldest are removed. All, if left out.")),
    only(POSTED, needed("endpoints", Shape::Texts, "The URLs that events are posted to.")),
    only(
        POSTED,
        key(
            "spread",
            Shape::Word(SPREADS),
            "Which of several endpoints is used: the first that answers (if left out), or each in turn, those that do not answer passed over.",
        ),
    ),
    only(&["http"], key("format", Shape::Word(BODY_FORMS), "How events are written. `json lines` if left out.")),
    only(
        &["http"],
        key(
            "forward",
            Shape::Text,
            "It is another Rockrose: its node, as `rockrose status` there shows it, or `unknown`. Events carry where they have passed, and stop where they have been.",
        ),
    ),
    only(
        &["otlp"],
        key(
            "transport",
            Shape::Word(TRANSPORTS),
            "How log records are written and sent: `http` (protobuf), `http json` or `grpc`. `http` if left out. Over HTTP, an endpoint without a path is given `/v1/logs`.",
        ),
    ),
    only(POSTED, key("token", Shape::Secret, "The bearer token that is sent along.")),
    only(POSTED, key("user", Shape::Text, "The user of basic authentication, with `password`.")),
    only(POSTED, key("password", Shape::Secret, "The password of basic authentication, with `user`.")),
    only(POSTED, key("headers", Shape::Headers, "Headers that are sent along: texts, or references to secrets.")),
    only(
        &["http", "otlp", "file"],
        key("compress", Shape::Word(PACKINGS), "How bodies are compressed, `gzip` if left out; or files that were put aside, `none` if left out."),
    ),
    only(&["syslog"], needed("address", Shape::Text, "Where messages go: `tcp://HOST:PORT` (octet-counted), `tls://HOST:PORT` or `udp://HOST:PORT`.")),
    only(&["syslog"], key("facility", Shape::Word(SyslogFacility::WORDS), "The facility of the messages. `user` if left out.")),
    only(
        &["archive"],
        needed(
            "store",
            Shape::Text,
            "Where objects are kept: a folder's path, or `s3://BUCKET` or `s3://BUCKET/PREFIX` for a store that speaks the S3 protocol.",
        ),
    ),
    only(&["archive"], key("endpoint", Shape::Text, "The URL of the store. The usual one of its region if left out.")),
    only(&["archive"], key("region", Shape::Text, "The store's region. `us-east-1` if left out.")),
    only(&["archive"], key("access_key", Shape::Text, "The access key that is shown to the store, with `access_secret`.")),
    only(&["archive"], key("access_secret", Shape::Secret, "Its secret.")),
    only(
        &["archive"],
        key("objects", Shape::Word(OBJECTS), "What objects are: `json lines` (compressed with Zstandard) or `parquet`. `json lines` if left out."),
    ),
    only(
        &["archive"],
        key(
            "events",
            Shape::Word(KEPT),
            "Which events are kept: `as shaped` by the steps on their way, or `as received`, without what steps changed in those that come here. `as shaped` if left out.",
        ),
    ),
    only(
        &["archive"],
        key(
            "divide_by",
            Shape::Texts,
            "What objects are laid out by, outermost first: `date`, `hour`, and fields by their paths. `date` and `hour` if left out.",
        ),
    ),
    only(&["archive"], key("object_at", Shape::Size, "An object is written once so many bytes wait, before compression. 32 MB if left out.")),
    only(&["archive"], key("object_every", Shape::Duration, "One is written at least so often, if anything waits. 5 minutes if left out.")),
    only(NETWORK_OR_STORE, key("ca", Shape::Text, "A file of certificates (PEM) that are trusted besides the system's.")),
    only(NETWORK, key("client_certificate", Shape::Text, "A file with the certificate (PEM) that is shown, with `client_key`.")),
    only(NETWORK, key("client_key", Shape::Text, "The file with its private key (PEM).")),
    only(NETWORK_OR_STORE, key("timeout", Shape::Duration, "How long an answer may take. 30 seconds if left out.")),
    only(NETWORK, key("max_batch", Shape::Size, "Most bytes that are sent at once, before compression. 1 MB if left out.")),
    key("always", Shape::Steps, "Steps done to every event that leaves here, whichever route it comes by."),
    key("price", Shape::Price, "What it costs to send here."),
    key("hold_at_most", Shape::Size, "How much may wait for it. 4 GB if left out."),
    key("hold_for", Shape::Duration, "How long events may wait for it before they are let go. For ever, if left out."),
    key(
        "when_full",
        Shape::Text,
        "What happens once it holds all it may: `push back` (its sources refuse bodies), `drop oldest`, or `spill to NAME` (another destination). `push back` if left out.",
    ),
    key(
        "when_removed",
        Shape::Word(REMOVED),
        "What happens to events that wait for it once it is taken out of the plan: `keep` (until they are purged, or it is back) or `drain` (they are delivered as before). `keep` if left out.",
    ),
    key("max_rate", Shape::Size, "Most bytes sent in a second. Without a bound if left out."),
    only(POSTED, key("in_flight", Shape::Count, "Most bodies on their way at once; as many as its answers allow, up to this. 4 if left out.")),
    only(
        POSTED,
        key(
            "ordered",
            Shape::Truth,
            "Whether events are sent in the order in which they came, one body at a time. `false` if left out; the other kinds always keep it.",
        ),
    ),
];

pub(super) const ROUTE: &[Key] = &[
    needed("name", Shape::Text, "What it is called."),
    key("from", Shape::Texts, "The sources it takes from; left out, all."),
    key("when", Shape::Gate, "Which events it takes: a condition, or `remainder` for those that no other route takes; left out, all."),
    key("do", Shape::Steps, "What is done to each event, in order."),
    needed("to", Shape::Texts, "The destinations that each get a copy."),
];

pub(super) const RECIPE: &[Key] = &[
    needed("steps", Shape::Steps, "The steps it stands for; `$NAME` in them is replaced by what a parameter of that name is given."),
    key("parameters", Shape::Texts, "The names of its parameters, all of which every `use` gives."),
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

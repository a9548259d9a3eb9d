//! Sources: where events come from, and what guards them.
//!
//! A kind of source is one file here: its settings, its keys, and how they are read. To add one, write its file (a type that is a [`PlannedSource`]) and add a
//! line to the list below; intake has a list like it.

mod agents;
mod alerts;
mod file;
mod http;
mod journal;
mod listening;
mod otlp;
mod syslog;
mod system_journal;
mod tcp;

use std::net::SocketAddr;
use std::sync::LazyLock;

use rockrose_event::address::Network;
use rockrose_language::Step;

pub use agents::AgentsSource;
pub use alerts::AlertSource;
pub use file::Files;
pub use http::HttpSource;
pub use journal::JournalSource;
pub use listening::SourceCertificates;
pub use otlp::OtlpSource;
pub use syslog::SyslogSource;
pub use system_journal::SystemJournal;
pub use tcp::TcpSource;

use crate::checker::{Checker, MB, SecretName};
use crate::keys::{Key, Shape, key, merged, needed};
use crate::section::{At, Raw, Section};

const WAITING: &[&str] = &["zstd", "none"];

/// Keys of every kind.
const COMMON: &[Key] = &[
    key("on_arrival", Shape::Steps, "Steps done to every event that arrives."),
    key("max_event", Shape::Size, "Largest single event. 256 KB if left out."),
    key("compress", Shape::Word(WAITING), "How its events are compressed while they wait for their destinations. `zstd` if left out."),
    key(
        "sample",
        Shape::Word(SAMPLES),
        "Whether some of its events are kept to be looked at: as they left `on_arrival`, or not at all. `after arrival steps` if left out.",
    ),
];

/// Where a source that reads what is kept begins.
const BEGIN_AT: Key = key(
    "begin_at",
    Shape::Word(&["start", "end"]),
    "Where it begins in what is there when it first runs: `start` or `end`. `end` if left out. Files that appear later are read whole.",
);

/// The words of `sample`.
const SAMPLES: &[&str] = &["after arrival steps", "off"];

/// A source.
#[derive(Clone, Debug, PartialEq)]
pub struct Source {
    /// Its name.
    pub name: String,
    /// What it is.
    pub kind: SourceKind,
    /// Where it listens, if it is one that does.
    pub listen: Option<SocketAddr>,
    /// Whence senders may come; empty: from anywhere.
    pub allow: Vec<Network>,
    /// The certificate it shows, in files.
    pub certificates: Option<SourceCertificates>,
    /// The key senders must show.
    pub key: Option<SecretName>,
    /// Fields that a request may set for all its events.
    pub may_set: Vec<String>,
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
    /// Whether its events are compressed while they wait.
    pub compress: bool,
    /// Whether some of its events are kept to be looked at, as they left its own steps.
    pub sampled: bool,
}

/// How a kind of source is guarded against strangers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Guard {
    /// Senders can show a key.
    Key,
    /// Its protocol has no key: it is guarded by where its senders are.
    Network,
    /// Its senders are known by certificates that they were given.
    Own,
}

/// One kind of source, as a plan has it.
trait PlannedSource: Sized {
    /// The word for it in a plan.
    const WORD: &'static str;
    /// The keys that it may have beside those of every kind.
    const KEYS: &'static [&'static [Key]];
    /// The rest of its section in a plan to start from, a line each; what is changed first stands there as comments.
    const EXAMPLE: &'static str;
    /// How it is guarded, if it listens.
    const GUARD: Option<Guard>;
    /// Whether its events can say what they have in common in a `resource`, which is then looked at once for many of them.
    const HAS_RESOURCES: bool = false;

    /// Reads its settings; what is wrong with them is told to `c`. `None` where too little is there to go on.
    fn read(c: &mut Checker<'_>, section: &Section, certificates: Option<&SourceCertificates>) -> Option<Self>;

    /// Whether it takes streams at its port, and whether datagrams.
    fn takes(&self) -> (bool, bool) {
        (true, false)
    }

    /// What it reads, in words, if it does not listen.
    fn reads(&self) -> String {
        String::new()
    }
}

/// A source's section in a plan to start from.
pub(crate) struct SourceExample {
    pub(crate) kind: &'static str,
    /// What stands behind its kind.
    pub(crate) body: &'static str,
}

/// Makes [`SourceKind`] from the list of kinds, and hands each call to the kind's own type.
macro_rules! kinds {
    ($($(#[$doc:meta])* $name:ident($kind:ty),)*) => {
        /// What a source is, with what only that kind has.
        #[derive(Clone, Debug, PartialEq, Eq)]
        pub enum SourceKind { $($(#[$doc])* $name($kind),)* }

        const WORDS: &[&str] = &[$(<$kind>::WORD,)*];

        const KIND_KEYS: &[(&str, &[&[Key]])] = &[$((<$kind>::WORD, <$kind>::KEYS),)*];

        /// A section of each kind, for a plan to start from.
        pub(crate) const SOURCE_EXAMPLES: &[SourceExample] = &[$(SourceExample { kind: <$kind>::WORD, body: <$kind>::EXAMPLE },)*];

        impl SourceKind {
            fn read(word: &str, c: &mut Checker<'_>, section: &Section, certificates: Option<&SourceCertificates>) -> Option<SourceKind> {
                $(if word == <$kind>::WORD { return <$kind>::read(c, section, certificates).map(SourceKind::$name); })*
                None
            }

            /// The word for it in a plan.
            #[must_use]
            pub fn word(&self) -> &'static str {
                match self { $(SourceKind::$name(_) => <$kind>::WORD,)* }
            }

            fn guard(&self) -> Option<Guard> {
                match self { $(SourceKind::$name(_) => <$kind>::GUARD,)* }
            }

            /// Whether it takes streams at its port, and whether datagrams.
            #[must_use]
            pub fn takes(&self) -> (bool, bool) {
                match self { $(SourceKind::$name(kind) => kind.takes(),)* }
            }

            /// Whether its events can say what they have in common in a `resource`.
            #[must_use]
            pub fn has_resources(&self) -> bool {
                match self { $(SourceKind::$name(_) => <$kind>::HAS_RESOURCES,)* }
            }

            fn reads(&self) -> String {
                match self { $(SourceKind::$name(kind) => kind.reads(),)* }
            }
        }
    };
}

kinds! {
    /// HTTP: a POST is a body of events.
    Http(HttpSource),
    /// OTLP log records, over gRPC and HTTP.
    Otlp(OtlpSource),
    /// Syslog messages.
    Syslog(SyslogSource),
    /// Lines over TCP.
    Tcp(TcpSource),
    /// Files, followed as they grow.
    File(Files),
    /// The journal of the host's system.
    SystemJournal(SystemJournal),
    /// The service's own journal.
    Journal(JournalSource),
    /// The alerts of the plan.
    Alerts(AlertSource),
    /// Agents of other hosts.
    Agents(AgentsSource),
}

/// The keys that a source may have.
pub(crate) fn source_keys() -> &'static [Key] {
    static ALL: LazyLock<Vec<Key>> = LazyLock::new(|| merged(needed("kind", Shape::Word(WORDS), "The protocol it speaks."), KIND_KEYS, COMMON));
    &ALL
}

impl SourceKind {
    /// Whether both would listen at the same port.
    pub(crate) fn meets(&self, other: &SourceKind) -> bool {
        let ((streams, datagrams), (others, other_datagrams)) = (self.takes(), other.takes());
        streams && others || datagrams && other_datagrams
    }
}

impl Source {
    /// Where its events come in: an address, or patterns of files.
    #[must_use]
    pub fn place(&self) -> String {
        self.listen.map_or_else(|| self.kind.reads(), |address| address.to_string())
    }
}

impl Checker<'_> {
    pub(crate) fn source(&mut self, section: &Section) -> Option<Source> {
        self.name(&section.name, "source");
        self.keys(section, source_keys(), "source");
        let key = self.secret(section, "key");
        let on_arrival = self.steps(section.texts("on_arrival"));
        let (max_body, max_unpacked) = (self.size(section, "max_body", 16 * MB, 1_000 * MB), self.size(section, "max_unpacked", 64 * MB, 1_000 * MB));
        let max_event = self.size(section, "max_event", 256_000, 64 * MB);
        let compress = section.text("compress").is_none_or(|c| c.value != "none");
        let sampled = section.text("sample").is_none_or(|s| s.value != "off");
        let max_requests = if let Some(At { value: Raw::Count(n), .. }) = section.get("max_requests") { *n } else { 64 };
        let kind = section.text("kind")?;
        let certificates = listening::certificates(self, section);
        let kind = SourceKind::read(kind.value, self, section, certificates.as_ref())?;
        let allow = listening::networks(self, section);
        let asks = certificates.as_ref().is_some_and(|c| c.client_ca.is_some());
        let listen = match kind.guard() {
            None => None,
            Some(guard) => {
                let guarded = asks || if guard == Guard::Network { !allow.is_empty() } else { key.is_some() };
                Some(listening::address(self, section, guard, guarded || key.is_some())?)
            }
        };
        let may_set = http::may_set(self, section);
        let name = section.name.value.clone();
        Some(Source { name, kind, listen, allow, certificates, key, may_set, on_arrival, max_body, max_unpacked, max_event, max_requests, compress, sampled })
    }
}

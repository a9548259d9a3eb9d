//! Destinations: what they are, what they may hold, and what happens when they hold it.
//!
//! A kind of destination is one file here: its settings, its keys, and how they are read. To add one, write its file (a type that is a
//! [`PlannedDestination`]) and add a line to the list below; delivery has a list like it.

mod archive;
mod discard;
mod file;
mod http;
mod mail;
mod otlp;
mod syslog;
mod tls;

use std::sync::LazyLock;
use std::time::Duration;

use rockrose_language::{Mistake, Step, nearest};
use rockrose_ledger::Price;

pub use archive::{ArchiveDestination, Objects, StoreLocation};
pub use discard::DiscardDestination;
pub use file::{FileDestination, Layout, Period};
pub use http::{BodyForm, Forward, HeaderText, HttpDestination, SignIn};
pub use mail::{MailDestination, MailSafety};
pub use otlp::OtlpDestination;
pub use syslog::{SyslogDestination, SyslogTransport};
pub use tls::TlsFiles;

use crate::checker::{Checker, MB, SecretName, duration};
use crate::keys::{Key, Shape, key, merged, needed};
use crate::section::{At, Raw, Section};

const COMPRESSIONS: &[&str] = &["gzip", "zstd", "none"];
const REMOVED: &[&str] = &["keep", "drain"];

/// The key of those that compress what they write.
const COMPRESS: Key = key("compress", Shape::Word(COMPRESSIONS), "How its events are compressed while they wait for their destinations. `zstd` if left out.");

/// The key of destinations that make files.
const MODE: Key = key("mode", Shape::Text, "The permissions of its files, in octal digits: \"0640\". What the service's umask leaves, if left out.");

/// The permissions that files are made with.
fn mode(c: &mut Checker<'_>, section: &Section) -> Option<u32> {
    let written = section.text("mode")?;
    let digits = written.value.bytes().all(|b| b.is_ascii_digit());
    let mode = u32::from_str_radix(written.value, 8)
        .ok()
        .filter(|_| digits)
        .filter(|mode| (3..=4).contains(&written.value.len()) && *mode <= 0o777 && mode & 0o600 == 0o600);
    if mode.is_none() {
        let expected = "three octal digits, in which the owner may read and write: \"0640\"";
        c.mistakes.push(Mistake::new(written.at, "these are no permissions for its files").expected(expected));
    }
    mode
}

/// Keys of every kind.
const COMMON: &[Key] = &[
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
    key("within", Shape::Promise, "How soon after its own time an event is to be accepted there, and for how many that is promised: `30 seconds for 99 %`."),
];

/// One kind of destination, as a plan has it.
trait PlannedDestination: Sized {
    /// The word for it in a plan.
    const WORD: &'static str;
    /// The keys that it may have beside those of every kind.
    const KEYS: &'static [&'static [Key]];
    /// The rest of its section in a plan to start from, a line each; what is changed first stands there as comments.
    const EXAMPLE: &'static str;

    /// Reads its settings; what is wrong with them is told to `c`. `None` where too little is there to go on.
    fn read(c: &mut Checker<'_>, section: DestinationSection<'_>) -> Option<Self>;

    /// Where events go, in a few words: an address, a path. Without secrets.
    fn address(&self) -> String;

    /// The file that it writes to, which no other may.
    fn file(&self) -> Option<&str> {
        None
    }

    /// What its protocol cannot tell of the events that count as delivered, if anything.
    fn caveat(&self) -> Option<&'static str> {
        None
    }

    /// The secrets that it refers to.
    fn secrets(&self) -> Vec<&SecretName> {
        Vec::new()
    }

    /// All files and folders that it reads and writes.
    fn files(&self) -> Vec<&str> {
        self.file().into_iter().collect()
    }

    /// The hosts that its secrets are shown to, with their ports.
    fn hosts(&self) -> Vec<String> {
        Vec::new()
    }

    /// For one that leads to another node: that node's name, if it is known.
    fn forward(&self) -> Option<Option<&str>> {
        None
    }

    /// Whether events are kept there as they were received.
    fn as_received(&self) -> bool {
        false
    }
}

/// What a destination's settings are read from.
#[derive(Clone, Copy)]
struct DestinationSection<'a> {
    section: &'a Section,
    /// Its `always` steps.
    always: &'a [Step],
}

/// A destination's section in a plan to start from.
pub(crate) struct DestinationExample {
    pub(crate) kind: &'static str,
    /// What stands behind its kind.
    pub(crate) body: &'static str,
}

/// Makes [`DestinationKind`] from the list of kinds, and hands each call to the kind's own type.
macro_rules! kinds {
    ($($(#[$doc:meta])* $name:ident($kind:ty),)*) => {
        /// What a destination is, with what only that kind has.
        #[derive(Clone, Debug, PartialEq)]
        pub enum DestinationKind { $($(#[$doc])* $name($kind),)* }

        const WORDS: &[&str] = &[$(<$kind>::WORD,)*];

        const KIND_KEYS: &[(&str, &[&[Key]])] = &[$((<$kind>::WORD, <$kind>::KEYS),)*];

        /// A section of each kind, for a plan to start from.
        pub(crate) const DESTINATION_EXAMPLES: &[DestinationExample] = &[$(DestinationExample { kind: <$kind>::WORD, body: <$kind>::EXAMPLE },)*];

        impl DestinationKind {
            fn read(word: &str, c: &mut Checker<'_>, section: DestinationSection<'_>) -> Option<DestinationKind> {
                $(if word == <$kind>::WORD { return <$kind>::read(c, section).map(DestinationKind::$name); })*
                None
            }

            /// The word for it in a plan.
            #[must_use]
            pub fn word(&self) -> &'static str {
                match self { $(DestinationKind::$name(_) => <$kind>::WORD,)* }
            }

            /// Where events go, in a few words: an address, a path. Without secrets.
            #[must_use]
            pub fn address(&self) -> String {
                match self { $(DestinationKind::$name(kind) => kind.address(),)* }
            }

            /// The file that it writes to, which no other may.
            #[must_use]
            pub fn file(&self) -> Option<&str> {
                match self { $(DestinationKind::$name(kind) => kind.file(),)* }
            }

            /// What its protocol cannot tell of the events that count as delivered, if anything.
            #[must_use]
            pub fn caveat(&self) -> Option<&'static str> {
                match self { $(DestinationKind::$name(kind) => kind.caveat(),)* }
            }

            /// The secrets that it refers to.
            pub(crate) fn secrets(&self) -> Vec<&SecretName> {
                match self { $(DestinationKind::$name(kind) => kind.secrets(),)* }
            }

            /// All files and folders that it reads and writes.
            pub(crate) fn files(&self) -> Vec<&str> {
                match self { $(DestinationKind::$name(kind) => kind.files(),)* }
            }

            /// The hosts that its secrets are shown to, with their ports.
            pub(crate) fn hosts(&self) -> Vec<String> {
                match self { $(DestinationKind::$name(kind) => kind.hosts(),)* }
            }

            /// For one that leads to another node: that node's name, if it is known.
            #[must_use]
            pub fn forward(&self) -> Option<Option<&str>> {
                match self { $(DestinationKind::$name(kind) => kind.forward(),)* }
            }

            /// Whether events are kept there as they were received.
            #[must_use]
            pub fn as_received(&self) -> bool {
                match self { $(DestinationKind::$name(kind) => kind.as_received(),)* }
            }
        }
    };
}

kinds! {
    /// Events are appended to a file.
    File(FileDestination),
    /// Events are posted.
    Http(HttpDestination),
    /// Events are sent as OTLP log records.
    Otlp(OtlpDestination),
    /// Events are sent as syslog messages.
    Syslog(SyslogDestination),
    /// Events are sent as e-mail.
    Mail(MailDestination),
    /// Events are kept in objects of a store.
    Archive(ArchiveDestination),
    /// Events are counted and let go.
    Discard(DiscardDestination),
}

/// The keys that a destination may have.
pub(crate) fn destination_keys() -> &'static [Key] {
    static ALL: LazyLock<Vec<Key>> = LazyLock::new(|| merged(needed("kind", Shape::Word(WORDS), "What it is."), KIND_KEYS, COMMON));
    &ALL
}

/// Bodies on their way at once, where nothing is said.
const IN_FLIGHT: u64 = 4;
/// The most that may be said.
const MAX_IN_FLIGHT: u64 = 64;
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
    /// How long events may wait for it; without, for ever.
    pub hold_for: Option<Duration>,
    /// What happens once it holds all it may.
    pub when_full: WhenFull,
    /// What waits is still delivered once it is taken out of the plan.
    pub drains: bool,
    /// Most bytes sent in a second.
    pub max_rate: Option<u64>,
    /// Most bodies on their way at once; 1 keeps the order.
    pub in_flight: u64,
    /// How soon events are to be there.
    pub within: Option<Promise>,
}

/// How soon after their own times events are to be accepted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Promise {
    /// So soon.
    pub within: Duration,
    /// But for so many of a million events, at least one.
    pub but_for: u32,
}

impl Promise {
    /// Reads `30 seconds for 99 %`; a share has at most four decimal places.
    fn read(text: &str) -> Option<Promise> {
        let (time, share) = text.split_once(" for ")?;
        let within = duration(time.trim(), Duration::from_secs(365 * 86_400))?;
        let share: f64 = share.trim().strip_suffix('%')?.trim_end().parse().ok()?;
        let but_for = 1_000_000.0 - share * 10_000.0;
        (share > 0.0 && but_for >= 0.999).then_some(Promise { within, but_for: but_for.round() as u32 })
    }

    /// How many percent of the events that may be late are, where this share of them is, from 0 to 1.
    #[must_use]
    pub fn used_percent(self, late: f64) -> u64 {
        (late * 100_000_000.0 / f64::from(self.but_for)).round() as u64
    }
}

/// What happens to events for a destination that holds all it may.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum WhenFull {
    /// The sources that can reach it are pushed back.
    PushBack,
    /// The oldest that wait are let go.
    DropOldest,
    /// They go to another destination instead.
    Spill(String),
}

/// How bodies are compressed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Compression {
    /// Not at all.
    Plain,
    /// gzip
    Gzip,
    /// Zstandard
    Zstd,
}

impl Checker<'_> {
    pub(crate) fn destination(&mut self, section: &Section) -> Option<Destination> {
        self.name(&section.name, "destination");
        self.keys(section, destination_keys(), "destination");
        let always = self.steps(section.texts("always"));
        let hold_at_most = self.size(section, "hold_at_most", 4_000 * MB, 10_000_000 * MB);
        let most = Duration::from_secs(365 * 86_400);
        let hold_for = section.text("hold_for").map(|_| self.duration_up_to(section, "hold_for", most, most));
        let max_rate = section.text("max_rate").map(|_| self.size(section, "max_rate", MB, 10_000 * MB));
        let in_flight = if let Some(At { value: Raw::Count(n), .. }) = section.get("in_flight") { (*n).min(MAX_IN_FLIGHT) } else { IN_FLIGHT };
        let in_order = ["ordered", "numbered"].into_iter().filter_map(|key| section.get(key)).find(|set| matches!(set.value, Raw::Truth(true)));
        let in_flight = match in_order {
            Some(At { at, .. }) => {
                if matches!(section.get("in_flight"), Some(At { value: Raw::Count(n), .. }) if *n > 1) {
                    self.mistakes
                        .push(Mistake::new(at.clone(), "several bodies on their way at once keep no order").expected("`ordered`, or `in_flight` above 1"));
                }
                1
            }
            None => in_flight,
        };
        let drains = section.text("when_removed").is_some_and(|w| w.value == "drain");
        let when_full = match section.text("when_full") {
            None => WhenFull::PushBack,
            Some(written) => self.when_full(&written),
        };
        let price = match section.get("price") {
            Some(At { value: Raw::Price(price), .. }) => Some(price.clone()),
            _ => None,
        };
        let within = section.text("within").and_then(|written| {
            let promise = Promise::read(written.value);
            if promise.is_none() {
                self.mistakes.push(
                    Mistake::new(written.at, format!("`{}` is no promise", written.value))
                        .expected("a time and a share below 100 %, as in \"30 seconds for 99 %\""),
                );
            }
            promise
        });
        let kind = DestinationKind::read(section.text("kind")?.value, self, DestinationSection { section, always: &always })?;
        Some(Destination { name: section.name.value.clone(), kind, always, price, hold_at_most, hold_for, when_full, drains, max_rate, in_flight, within })
    }

    fn when_full(&mut self, written: &At<&str>) -> WhenFull {
        match written.value.strip_prefix("spill to ").map(str::trim) {
            _ if written.value == "push back" => WhenFull::PushBack,
            _ if written.value == "drop oldest" => WhenFull::DropOldest,
            Some(name) if !name.is_empty() => WhenFull::Spill(name.to_owned()),
            _ => {
                let message = format!("`{}` is nothing that can be done", written.value);
                self.mistakes.push(
                    Mistake::new(written.at.clone(), message)
                        .expected("`push back`, `drop oldest` or `spill to NAME`")
                        .near(written.value, ["push back", "drop oldest", "spill to"]),
                );
                WhenFull::PushBack
            }
        }
    }
}

pub(super) fn url(c: &mut Checker<'_>, endpoint: &At<String>) {
    let rest = endpoint.value.strip_prefix("http://").or_else(|| endpoint.value.strip_prefix("https://"));
    let host = rest.map(|r| r.split(['/', '?', '#']).next().unwrap_or_default());
    match host {
        Some(host) if host.contains('@') => {
            c.mistakes.push(
                Mistake::new(endpoint.at.clone(), "a name and password cannot stand in a plan")
                    .expected("the URL without them, and `token = { secret = \"NAME\" }`"),
            );
        }
        Some(host) if !host.is_empty() && endpoint.value.bytes().all(|b| b > b' ' && b != 0x7f) => {}
        _ => c.mistakes.push(Mistake::new(endpoint.at.clone(), format!("`{}` is not a URL", endpoint.value)).expected("`http://…` or `https://…`")),
    }
}

fn compression(section: &Section, usual: Compression) -> Compression {
    match section.text("compress").map(|c| c.value) {
        Some("none") => Compression::Plain,
        Some("gzip") => Compression::Gzip,
        Some("zstd") => Compression::Zstd,
        _ => usual,
    }
}

/// What is wrong with where destinations spill to: one that is not there, a circle, or one whose own steps would be passed by.
pub(crate) fn spills(sections: &[Section], destinations: &[Destination]) -> Vec<Mistake> {
    let find = |name: &str| destinations.iter().find(|d| d.name == name);
    let mut mistakes = Vec::new();
    for (section, destination) in sections.iter().filter_map(|s| Some((s, find(&s.name.value)?))) {
        let (WhenFull::Spill(to), Some(written)) = (&destination.when_full, section.text("when_full")) else { continue };
        let Some(target) = find(to) else {
            let names = destinations.iter().map(|d| d.name.as_str()).filter(|n| *n != destination.name);
            let mut mistake = Mistake::new(written.at, format!("there is no destination `{to}`"));
            mistake.nearest = nearest(to, names).map(str::to_owned);
            mistakes.push(mistake);
            continue;
        };
        // The way on from there must end.
        let mut next = Some(target);
        for _ in 0..destinations.len() {
            next = match next {
                Some(Destination { when_full: WhenFull::Spill(on), .. }) => find(on),
                _ => None,
            };
        }
        if next.is_some() || target.name == destination.name {
            mistakes.push(
                Mistake::new(written.at, format!("what `{}` spills comes back to it", destination.name)).expected("a destination that does not spill back"),
            );
        } else if target.kind.forward().is_some() && target.kind.forward() != destination.kind.forward() {
            let message = format!("`{to}` leads to another node, and what `{}` spills would not be marked", destination.name);
            mistakes.push(Mistake::new(written.at, message).expected("a destination that does not forward"));
        } else if !target.always.is_empty() && target.always != destination.always {
            // Events were shaped for the one that spills; what the other does always would not be done to them.
            let message = format!("`{to}` has steps that it does always, which are not done to what `{}` spills", destination.name);
            mistakes.push(Mistake::new(written.at, message).expected("a destination with the same `always` steps, or with none"));
        }
    }
    mistakes
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_promise_is_a_time_and_a_share() {
        let promise = Promise::read("30 seconds for 99 %").unwrap();
        assert_eq!((promise.within, promise.but_for), (Duration::from_secs(30), 10_000));
        assert_eq!(Promise::read("2 min for 99.99%").map(|p| p.but_for), Some(100));
        assert_eq!([promise.used_percent(0.0), promise.used_percent(0.008), promise.used_percent(0.01), promise.used_percent(1.0)], [0, 80, 100, 10_000]);
        for wrong in
            ["30 seconds", "30 seconds for 100 %", "30 seconds for 0 %", "soon for 99 %", "30 seconds for 99", "0 s for 99 %", "1 s for nan %", "1 s for -1 %"]
        {
            assert_eq!(Promise::read(wrong), None, "{wrong}");
        }
        let told = crate::CheckedPlan::read("[destination.desk]\nkind = 'discard'\nwithin = 'soon'").unwrap_err();
        assert!(told.iter().any(|report| report.line == 3 && report.message == "`soon` is no promise"), "{told:?}");
    }
}

//! The kinds of sources, each in a file: how it takes events in, how it is looked at, and what its senders' operators are told.
//!
//! To add a kind, write its file (a [`Kind`], for the settings that the plan has of it) and add a line to the list below; the suite in `tests/suite.rs` then wants
//! a line as well.

mod agents;
pub(crate) mod file;
mod filled_form;
mod http;
mod journal;
mod otlp;
mod syslog;
mod system_journal;
mod tcp;

use std::sync::Arc;

use arc_swap::ArcSwap;
use rockrose_plan::{Source, SourceKind};
use tokio::net::UdpSocket;
use tokio_util::sync::CancellationToken;

use crate::probe::{Probe, ProbeStep};
use crate::requests::BodyBudget;
use crate::{BoundedListener, SenderFault, Sink, SourceMonitor, SourceSettings};

/// One kind of source.
pub(crate) trait Kind: Sized {
    /// The protocols that are offered while a connection is made safe (ALPN).
    const ALPN: &'static [&'static [u8]] = &[];

    /// Takes events in until [`Start::stop`] is cancelled, then finishes what is under way. A kind that takes both streams and datagrams runs once for each.
    fn run<S: Sink>(self, start: Start<S>) -> impl Future<Output = ()> + Send;

    /// Looks at the source as its senders would, without sending an event.
    fn probe(&self, probe: &mut Probe<'_>) -> impl Future<Output = ()> + Send;

    /// What to paste to send to it.
    fn paste_lines(&self, at: &Endpoint) -> Vec<PasteLine>;

    /// What helps against what its senders do wrong, where that is not the same for every kind.
    fn remedy(&self, _what: SenderFault) -> Option<&'static str> {
        None
    }

    /// The address to send to that needs no key beside it, where the protocol has such a thing.
    fn url_with_key(&self, _at: &Endpoint, _key: &str) -> Option<String> {
        None
    }
}

/// The list of all kinds: does `$call` with what `$kind` holds, named `$k`.
macro_rules! of_kind {
    ($kind:expr, $k:ident => $call:expr) => {
        match $kind {
            SourceKind::Http($k) => $call,
            SourceKind::Otlp($k) => $call,
            SourceKind::Syslog($k) => $call,
            SourceKind::Tcp($k) => $call,
            SourceKind::File($k) => $call,
            SourceKind::SystemJournal($k) => $call,
            SourceKind::Journal($k) => $call,
            SourceKind::Alerts($k) => $call,
            SourceKind::Agents($k) => $call,
        }
    };
}

/// What a source is started with.
pub(crate) struct Start<S> {
    /// Its settings; they may be exchanged while it runs.
    pub(crate) settings: Arc<ArcSwap<SourceSettings>>,
    /// How events come in.
    pub(crate) transport: Transport,
    /// Where bodies go.
    pub(crate) sink: Arc<S>,
    /// The memory that bodies may take.
    pub(crate) budget: Arc<BodyBudget>,
    /// What is heard.
    pub(crate) monitor: Arc<SourceMonitor>,
    /// Cancelled when it is to end.
    pub(crate) stop: CancellationToken,
}

/// How events come into a source.
pub(crate) enum Transport {
    /// Connections.
    Streams(BoundedListener),
    /// Datagrams.
    Datagrams(UdpSocket),
    /// It opens what it reads.
    Own,
}

/// Waits; says whether it is time to stop.
pub(crate) async fn rests(stop: &CancellationToken, pause: std::time::Duration) -> bool {
    tokio::select! {
        () = stop.cancelled() => true,
        () = tokio::time::sleep(pause) => false,
    }
}

/// Runs a source of any kind.
pub(crate) async fn run<S: Sink>(start: Start<S>) {
    let kind = start.settings.load().kind.clone();
    of_kind!(kind, kind => kind.run(start).await);
}

/// The protocols that a kind offers while a connection is made safe.
pub(crate) fn alpn(kind: &SourceKind) -> &'static [&'static [u8]] {
    fn of<K: Kind>(_: &K) -> &'static [&'static [u8]] {
        K::ALPN
    }
    of_kind!(kind, kind => of(kind))
}

/// Looks at a source of any kind, up to the first step that fails.
pub(crate) async fn probe(settings: &SourceSettings, monitor: &SourceMonitor) -> Vec<ProbeStep> {
    let mut probe = Probe::new(settings, monitor);
    of_kind!(&settings.kind, kind => kind.probe(&mut probe).await);
    probe.steps
}

/// Something to paste, so that events come.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PasteLine {
    /// What it is pasted into.
    pub with: &'static str,
    /// The line. `KEY` and `HOST` stand for what is not known here.
    pub line: String,
}

impl PasteLine {
    fn new(with: &'static str, line: String) -> PasteLine {
        PasteLine { with, line }
    }
}

/// What to paste to send to a source.
#[must_use]
pub fn paste_lines(source: &Source) -> Vec<PasteLine> {
    of_kind!(&source.kind, kind => kind.paste_lines(&Endpoint::of(source)))
}

/// The address to send to that needs no key beside it, where the protocol has such a thing.
#[must_use]
pub fn url_with_key(source: &Source, key: &str) -> Option<String> {
    of_kind!(&source.kind, kind => kind.url_with_key(&Endpoint::of(source), key))
}

/// How senders reach a source.
pub(crate) struct Endpoint {
    /// Its host; `HOST` where it listens on every address, and nobody knows which of them others reach it by.
    host: String,
    port: u16,
    over_tls: bool,
    keyed: bool,
}

impl Endpoint {
    fn of(source: &Source) -> Endpoint {
        let (host, port) = match source.listen.map(|l| (l.ip(), l.port())) {
            None => ("HOST".to_owned(), 0),
            Some((ip, port)) if ip.is_unspecified() => ("HOST".to_owned(), port),
            Some((ip, port)) if ip.is_ipv6() => (format!("[{ip}]"), port),
            Some((ip, port)) => (ip.to_string(), port),
        };
        Endpoint { host, port, over_tls: source.certificates.is_some(), keyed: source.key.is_some() }
    }

    fn url(&self) -> String {
        format!("{}://{}:{}", if self.over_tls { "https" } else { "http" }, self.host, self.port)
    }

    /// How the key is shown, if one is asked for.
    fn key<'a>(&self, written: &'a str) -> &'a str {
        if self.keyed { written } else { "" }
    }
}

/// What helps against what the senders of a source do wrong.
#[must_use]
pub fn remedy(what: SenderFault, source: &Source) -> &'static str {
    if let Some(remedy) = of_kind!(&source.kind, kind => kind.remedy(what)) {
        return remedy;
    }
    match what {
        SenderFault::Key => "make the sender show the key as `Authorization: Bearer KEY`",
        SenderFault::Address => "add the sender's network to `allow` if it may send",
        SenderFault::PlainText => "switch on TLS at the sender, or send to a source without `certificate`",
        SenderFault::Tls if source.certificates.is_none() => "switch off TLS at the sender, or give the source a `certificate`",
        SenderFault::Tls => "make sure that the sender trusts the certificate, and presents its own if `client_ca` asks for one",
        SenderFault::Clock => "correct the senders' clocks, or convert their times with their time zone: `convert time to time in \"ZONE\"`",
        SenderFault::Format => "send lines of JSON or text; HTTP goes to a source of kind `http`, syslog to one of kind `syslog`",
        SenderFault::TooLarge => "reduce what the sender sends at once, or raise the source's limits",
        SenderFault::Unreadable => "look at the records in quarantine",
        SenderFault::PushedBack => "check which destination is full or cannot be written to",
        SenderFault::Busy => "send fewer and larger bodies, or raise `max_requests`; look for senders whose bodies take long to arrive",
        SenderFault::Crowded => "let senders keep their connections and use them again, and look for some that open connections and send nothing",
        SenderFault::Lost => "send over TCP, which waits, or less",
    }
}

#[cfg(test)]
mod tests;

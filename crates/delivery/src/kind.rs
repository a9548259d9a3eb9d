//! What a kind of destination is.
//!
//! A kind is one file: its settings are a [`Kind`], which opens an [`Outlet`]. The worker knows no kinds: it learns from an outlet whether events were taken,
//! were refused for good, or should be tried again, and only the worker knows about retries, bisection and the account. To add a kind, write its file in `kinds/` and add a
//! line to the list in `kinds/mod.rs`; the suite in `tests/suite/sort.rs` then wants a line as well.

use std::any::Any;
use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use futures_util::future::{BoxFuture, ready};
use rockrose_event::output::Origin;
use rockrose_plan::SecretName;

use crate::probe::Probe;

/// The settings of one kind of destination, with its secrets.
pub trait Kind: DynEq + Send + Sync {
    /// What the worker must know before it sends anything.
    fn limits(&self) -> Limits<'_>;

    /// Opens the way to the destination. Where [`Limits::file`] names a file, `reached` is its length as the spool remembers it.
    ///
    /// # Errors
    /// If the settings cannot work: a certificate that cannot be read, a header that cannot be sent.
    fn open(&self, reached: Option<u64>) -> Result<Box<dyn Outlet>, OpenError>;

    /// Looks at the destination, one step after the other, up to the first that fails.
    fn probe<'a>(&'a self, probe: &'a mut Probe) -> BoxFuture<'a, ()>;
}

/// What a worker must know of a destination.
#[derive(Clone, Copy, Debug)]
pub struct Limits<'a> {
    /// Most bytes to send at once.
    pub max_batch: usize,
    /// Whether several bodies may be on their way at once.
    pub parallel: bool,
    /// Events are gathered until there are enough for one body.
    pub gathers: Option<Gathering>,
    /// The file whose length the spool keeps, in the same transaction as what was delivered, so that no event stands twice in it.
    pub file: Option<&'a str>,
}

/// How long events are gathered.
#[derive(Clone, Copy, Debug)]
pub struct Gathering {
    /// Until so many bytes wait.
    pub bytes: u64,
    /// Or until the oldest has waited for so long.
    pub every: Duration,
}

/// A way out: one destination, open.
pub trait Outlet: Send {
    /// What must be done before anything is sent. For a file, the length that the spool is to know before that.
    fn prepare(&mut self) -> BoxFuture<'_, Result<Option<u64>, Failure>> {
        Box::pin(ready(Ok(None)))
    }

    /// Sends events. `Ok` means that the destination has done with all of them for good.
    fn send<'a>(&'a mut self, events: Outgoing<'a>) -> BoxFuture<'a, Result<Taken, Failure>>;

    /// What was sent last is now settled in the spool.
    fn settled(&mut self) {}
}

/// Events that are to be sent.
#[derive(Clone)]
pub struct Outgoing<'a> {
    /// JSON objects, a line each.
    pub lines: Bytes,
    /// The same lines as frames of Zstandard, one behind the other, where they are at hand so.
    pub frames: Option<&'a [Bytes]>,
    /// How many.
    pub events: usize,
    /// Where each of them stands in the queue.
    pub origins: &'a (dyn Fn() -> Vec<Origin> + Sync),
}

/// When each event was queued, in milliseconds since 1970: as soon as it had arrived.
pub(crate) fn arrivals(origins: &[Origin]) -> Vec<i64> {
    origins.iter().map(|origin| origin.queued_ms).collect()
}

/// Equality of settings whose kind is not known.
pub trait DynEq: Any {
    /// Whether `other` is of the same kind, with the same settings.
    fn same(&self, other: &dyn Any) -> bool;
    /// The settings, as what they are.
    fn any(&self) -> &dyn Any;
}

impl<T: PartialEq + 'static> DynEq for T {
    fn same(&self, other: &dyn Any) -> bool {
        other.downcast_ref::<T>().is_some_and(|other| self == other)
    }

    fn any(&self) -> &dyn Any {
        self
    }
}

/// What a destination is, with everything that is needed to send to it. Never printed: it may hold secrets.
#[derive(Clone)]
pub struct Target(Arc<dyn Kind>);

impl<K: Kind> From<K> for Target {
    fn from(kind: K) -> Target {
        Target(Arc::new(kind))
    }
}

impl std::ops::Deref for Target {
    type Target = dyn Kind;
    fn deref(&self) -> &dyn Kind {
        &*self.0
    }
}

impl PartialEq for Target {
    fn eq(&self, other: &Target) -> bool {
        self.0.same(other.0.any())
    }
}

impl Eq for Target {}

/// Gives the kinds what a plan only names.
#[derive(Clone, Copy)]
pub struct Resolver<'a> {
    /// The value of a kept secret, if there is one of that name.
    pub secrets: &'a dyn Fn(&SecretName) -> Option<String>,
    /// The name of this node.
    pub node: &'a str,
    /// The name of the destination's queue, which no other has anywhere.
    pub queue: &'a str,
}

impl Resolver<'_> {
    pub(crate) fn secret(&self, name: &SecretName) -> Option<String> {
        (self.secrets)(name)
    }
}

/// Why the way to a destination cannot be opened.
#[derive(Debug, thiserror::Error)]
pub enum OpenError {
    /// Something is wrong with the certificates.
    #[error(transparent)]
    Tls(#[from] TlsError),
    /// The HTTP client cannot be set up.
    #[error("the HTTP client cannot be set up: {0}")]
    Client(#[from] reqwest::Error),
    /// An endpoint is not a URL.
    #[error("`{0}` is not a URL")]
    Url(String),
    /// A header has a name that cannot be sent.
    #[error("`{0}` cannot name a header")]
    HeaderName(String),
    /// A header or token has a value that cannot be sent; it is not shown, since it may be secret.
    #[error("{0} has characters that cannot be sent")]
    HeaderValue(String),
    /// This program was built without the kind of destination.
    #[cfg(not(all(feature = "archive", feature = "mail")))]
    #[error("this program, built for hosts, sends to no {0}")]
    LeftOut(&'static str),
    /// The store of an archive cannot be set up.
    #[cfg(feature = "archive")]
    #[error("the store cannot be set up: {0}")]
    Store(#[from] object_store::Error),
    /// Something is no e-mail address.
    #[cfg(feature = "mail")]
    #[error("`{0}` is no e-mail address")]
    Mailbox(String),
    /// The connection to a mail server cannot be set up.
    #[cfg(feature = "mail")]
    #[error("the connection cannot be set up: {0}")]
    Mail(String),
    /// A folder cannot be made or opened.
    #[error("{path}: {source}")]
    Folder {
        /// The path of the folder or file.
        path: String,
        /// What the system says.
        source: std::io::Error,
    },
    /// The gRPC channel cannot be set up.
    #[error("{0}")]
    Channel(#[from] tonic::transport::Error),
}

/// What is wrong with the certificates of a connection.
#[derive(Debug, thiserror::Error)]
pub enum TlsError {
    /// A file cannot be read, or does not hold what it should.
    #[error("{path}: {source}")]
    File {
        /// The path of the file.
        path: String,
        /// What is wrong with it.
        source: Box<dyn std::error::Error + Send + Sync>,
    },
    /// The host cannot stand in a certificate.
    #[error("`{0}` cannot be the name in a certificate")]
    Name(String),
    /// The other end's certificate is not good, or it speaks no TLS.
    #[error("the TLS handshake failed: {0}")]
    Handshake(#[source] std::io::Error),
}

/// Why events were not taken.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Failure {
    /// Not now: the same events may be taken later.
    Later {
        /// In the destination's own words, or the system's.
        why: String,
        /// When to come back, if it said so.
        after: Option<Duration>,
    },
    /// At least one of these events is refused for good.
    Refused(String),
    /// So many at once are refused; fewer may be taken.
    TooLarge(String),
}

impl Failure {
    /// Not now, and nobody said when.
    pub(crate) fn later(why: impl Into<String>) -> Failure {
        Failure::Later { why: why.into(), after: None }
    }

    /// What is said of it.
    pub(crate) fn why(self) -> String {
        let (Failure::Later { why, .. } | Failure::Refused(why) | Failure::TooLarge(why)) = self;
        why
    }
}

/// Checks that a body holds all the events that it was made of.
///
/// # Errors
/// [`Failure::Refused`] if it does not: then fewer events are tried, until those are alone that cannot be written, and they are set aside.
pub(crate) fn all_written(written: usize, events: usize) -> Result<(), Failure> {
    if written == events {
        return Ok(());
    }
    Err(Failure::Refused(format!("{} of {events} events cannot be written in the destination's format", events.abs_diff(written))))
}

/// What became of events that a destination has answered for.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Taken {
    /// How long its file is now.
    pub length: Option<u64>,
    /// So many of them it refused for good, without saying which, and why.
    pub refused: Option<(u64, String)>,
    /// What was noticed of the destination that is no failure, in a sentence.
    pub noticed: Option<String>,
}

impl Taken {
    /// It has all of them.
    pub(crate) fn all() -> Taken {
        Taken::default()
    }
}

/// The first cause of a failure.
pub(crate) fn deepest<'a>(e: &'a (dyn std::error::Error + 'static)) -> &'a (dyn std::error::Error + 'static) {
    let mut cause = e;
    while let Some(deeper) = cause.source() {
        cause = deeper;
    }
    cause
}

/// Somebody else's words on one line, without secrets, and at most so many characters of them.
pub(crate) fn one_line<'a>(text: &str, secrets: impl Iterator<Item = &'a str>, most: usize) -> String {
    let text = secrets.fold(text.to_owned(), |text, secret| text.replace(secret, "***"));
    let words: Vec<&str> = text.split_whitespace().collect();
    words.join(" ").chars().filter(|c| !c.is_control()).take(most).collect()
}

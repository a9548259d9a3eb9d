//! Open protocols in: what listens, reads, decompresses and bounds, and hands bodies on.
//!
//! A source knows nothing of plans or spools. It hands each body to a [`Sink`] and answers its sender only with what the sink says,
//! so that an acknowledgement means what the sink makes it mean: all of it is durable.

mod agents;
mod attempts;
mod host;
mod kinds;
mod listener;
mod messages;
mod monitor;
mod places;
mod probe;
mod problem;
mod refusal;
mod requests;
mod senders;
mod settings;
mod socket;
mod sources;
mod spoken;
mod stream;
mod tls;
mod unpack;

use std::sync::Arc;

pub use agents::{AgentMessage, AgentRefusal, DoorCertificates, Fingerprint, KnownAgent};
pub use attempts::Attempts;
pub use host::{host_of, is_plain_host, serve};
pub use kinds::file::{Budget, Family, Sample, own_logs, sample, would_read};
pub use kinds::{PasteLine, paste_lines, remedy, url_with_key};
pub use listener::{BoundedListener, Peer, out_of_descriptors};
pub use monitor::{Caught, FileSeen, FileState, SenderFault, SourceMonitor, SourceStatus, Trouble};
pub use probe::ProbeStep;
pub use problem::{Problem, ProblemKind};
pub use refusal::Refusal;
pub use senders::{Ages, Freshness, Sender, SendersSeen};
pub use settings::{SourceKey, SourceSettings};
pub use sources::{Prepared, Sources, StartError};
pub use tls::{CertificateError, plain_acceptor as acceptor};

use rockrose_event::buffers::Buffer;
use rockrose_event::record::DeclaredFormat;
use rockrose_event::stamp::Stamp;
use rockrose_opamp::ServerToAgent;
use serde::{Deserialize, Serialize};

/// Where bodies go.
pub trait Sink: Send + Sync + 'static {
    /// Takes one body of the source called `source`, and what is given beside it. An `Ok` means that everything in it is durable, or was removed or quarantined on purpose, and that the
    /// rest of what was given became durable with it.
    fn accept(&self, source: &str, body: Arc<Buffer>, says: DeclaredFormat, with: BodyMetadata) -> impl Future<Output = Result<Receipt, Refusal>> + Send;

    /// Notes that messages for the source called `source` were lost before they could be received, of so many bytes as far as that is known.
    fn lost(&self, source: &str, messages: u64, bytes: u64) -> impl Future<Output = ()> + Send;

    /// The positions that were kept for a source.
    fn positions(&self, source: &str) -> impl Future<Output = Result<Vec<Position>, Refusal>> + Send;

    /// Entries of a log of the service's own behind the one of this number, the oldest first: their numbers, and each as a JSON object.
    fn log(&self, _log: OwnLog, _after: i64) -> impl Future<Output = Result<Vec<(i64, String)>, Refusal>> + Send {
        async { Ok(Vec::new()) }
    }

    /// The agent that shows a certificate of this SHA-256, if it may send.
    fn agent(&self, _certificate: &Fingerprint) -> impl Future<Output = Option<KnownAgent>> + Send {
        async { None }
    }

    /// Answers what an agent says, or one that is to become one.
    fn agent_says(&self, _message: AgentMessage) -> impl Future<Output = Result<ServerToAgent, AgentRefusal>> + Send {
        async { Err(AgentRefusal::Stranger("nobody manages agents here".to_owned())) }
    }

    /// Changes when what agents are to be told may have.
    fn agents_changed(&self) -> tokio::sync::watch::Receiver<()> {
        tokio::sync::watch::channel(()).1
    }

    /// What the agent of this id is to be told, though it has said nothing. It is still there, if it is connected: that counts as heard.
    fn agent_due(&self, _uid: &[u8]) -> impl Future<Output = Option<ServerToAgent>> + Send {
        async { None }
    }

    /// The program that agents are given.
    fn agent_program(&self) -> std::path::PathBuf {
        std::path::PathBuf::from("/proc/self/exe")
    }

    /// A script that puts an agent on a host, for whoever shows a code with which one may enrol at this source.
    fn agent_setup(&self, _source: &str, _code: &str) -> impl Future<Output = Result<String, AgentRefusal>> + Send {
        async { Err(AgentRefusal::Stranger("nobody manages agents here".to_owned())) }
    }

    /// The number of the last entry of such a log; 0, if it has none.
    fn log_end(&self, _log: OwnLog) -> impl Future<Output = Result<i64, Refusal>> + Send {
        async { Ok(0) }
    }
}

/// What the service notes of itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OwnLog {
    /// What people and programs did with it.
    Journal,
    /// The alerts that began, lasted and ended.
    Alerts,
}

/// What is given beside a body.
#[derive(Clone, Debug, Default)]
pub struct BodyMetadata {
    /// Fields for all its events.
    pub stamps: Vec<Stamp>,
    /// How far the source has read once the body is taken.
    pub positions: Vec<Position>,
    /// What its sender calls the body, so that it is not taken twice.
    pub once: Option<String>,
    /// Records that its source could not read, by their lines from 1, rising, and why. What came of them stands there.
    pub unreadable: Vec<(u32, String)>,
    /// Its source has cut what was longer than an event may be, so that no record is too long, whatever was written around it.
    pub bounded: bool,
    /// Its records as they came, where they were put into another form on the way and somebody looks.
    pub raw: Vec<Vec<u8>>,
}

/// How far something was read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Position {
    /// The source's own name for what is read.
    pub id: String,
    /// What the source needs to read on; none: it is forgotten.
    pub content: Option<String>,
}

/// Milliseconds since 1970.
pub(crate) fn now_ms() -> i64 {
    std::time::SystemTime::now().duration_since(std::time::SystemTime::UNIX_EPOCH).map_or(0, |t| t.as_millis() as i64)
}

/// What was done with a body, told to its sender.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Receipt {
    /// Records in the body.
    pub received: u64,
    /// Records read as events.
    pub read: u64,
    /// Records that could not be read and are kept aside.
    pub quarantined: u64,
    /// It was taken before, under the same `Idempotency-Key`; this is what was said then.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub repeated: bool,
    /// Bytes of the records in the body, as they came.
    #[serde(skip)]
    pub bytes: u64,
    /// How old events were when they came, in milliseconds, of some of them.
    #[serde(skip)]
    pub ages: Vec<i64>,
    /// The first few of those that could not be read, with the reason.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unreadable: Vec<Unreadable>,
}

/// Most unreadable records that a receipt names.
pub const NAMED_UNREADABLE: usize = 10;

/// A record that could not be read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Unreadable {
    /// Its line, or its place in the array, from 1.
    pub record: u32,
    /// Why it could not be read.
    pub reason: String,
}

#[cfg(test)]
mod tests;

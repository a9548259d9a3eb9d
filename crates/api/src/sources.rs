//! Sources: how they are doing, what they hear, how something is pointed at them.

use serde::{Deserialize, Serialize};
use serde_json::value::RawValue;
use utoipa::ToSchema;

use crate::Gauge;

/// How a source is doing.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum SourceState {
    /// Nothing came since it began to listen.
    Unheard,
    /// Events came within the last minutes.
    Flowing,
    /// It was heard before, but not lately.
    Quiet,
    /// What came last was no event.
    Troubled,
    /// An operator has paused it.
    Paused,
}

/// A source: what it has heard, and what is wrong with its senders.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Source {
    /// Its name.
    pub name: String,
    /// Its kind, as the plan has it.
    pub kind: String,
    /// Where it listens, or the patterns of its files.
    pub listen: String,
    /// Whether senders must show a key.
    pub keyed: bool,
    /// Whether its connections are made over TLS.
    pub safe: bool,
    /// How it is doing.
    pub state: SourceState,
    /// How it is doing, in a sentence.
    pub says: String,
    /// Events that came since it began to listen.
    pub events: u64,
    /// When the last came, in milliseconds since 1970.
    pub last_event_ms: Option<i64>,
    /// The address it came from.
    pub last_from: Option<String>,
    /// Connections that are open.
    pub connections: usize,
    /// Records that came, by the ledger.
    pub received: Gauge,
    /// Records that could not be read, by the ledger.
    pub unreadable: Gauge,
    /// How old events are when they come, once there were some that tell their time.
    pub freshness: Option<Freshness>,
    /// Who paused it, if it is paused.
    pub paused_by: Option<String>,
    /// Its files, those in trouble first, at the most 1000.
    pub files: Vec<SourceFile>,
    /// How many files there are.
    pub file_count: usize,
    /// Room that the system has for datagrams that wait to be read, in bytes; null where the source takes none. 8 MiB are asked for; `net.core.rmem_max` bounds what it gives.
    pub receive_buffer_bytes: Option<usize>,
    /// What went wrong, the latest first.
    pub troubles: Vec<Trouble>,
    /// What to paste to send to it.
    pub send: Vec<SendLine>,
}

/// Something that went wrong between a source and its senders.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Trouble {
    /// What is wrong, in a word.
    pub what: String,
    /// In a sentence.
    pub says: String,
    /// What helps.
    pub remedy: String,
    /// The address it came from last.
    pub from: Option<String>,
    /// How often since the source began to listen.
    pub times: u64,
    /// When last, in milliseconds since 1970.
    pub last_ms: i64,
}

/// How old a source's events are when they come, in milliseconds; negative where they say that they are yet to happen.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Freshness {
    /// Half of them are no older.
    pub half_ms: i64,
    /// Nine in ten are no older.
    pub most_ms: i64,
    /// Ninety-nine in a hundred are no older.
    pub nearly_all_ms: i64,
}

/// Who sends to a source, since the service began to listen: those heard last one by one, the others in sum.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SenderList {
    /// When it is by the service's clock, in milliseconds since 1970.
    pub now_ms: i64,
    /// Those that sent most bytes first, at the most 1024.
    pub senders: Vec<Sender>,
    /// How many others were forgotten, because so many were heard after them.
    pub others: u64,
    /// Events of those others.
    pub other_events: u64,
    /// Bytes of those others.
    pub other_bytes: u64,
}

/// One that sends to a source.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Sender {
    /// Its address; null for this host, whose files or journal are read.
    pub from: Option<String>,
    /// Events that it sent.
    pub events: u64,
    /// Records of it that could not be read.
    pub unreadable: u64,
    /// Bytes of both, as they came.
    pub bytes: u64,
    /// Its share of all bytes that came to the source, from 0 to 1.
    pub share: f64,
    /// When it was heard first, in milliseconds since 1970.
    pub first_ms: i64,
    /// When last.
    pub last_ms: i64,
    /// How old its events are when they come, once there were some that tell their time.
    pub freshness: Option<Freshness>,
    /// What is wrong with its clock, in a sentence; null if nothing is, or too few of its events tell their time.
    pub clock: Option<String>,
}

/// A file of a source, or a pattern under which nothing stands.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SourceFile {
    /// Its path.
    pub path: String,
    /// `current`, `behind`, `copy`, `denied`, `binary`, `damaged`, `gone`, `odd`, `missing` or `too many`.
    pub state: String,
    /// How it is doing, in words.
    pub says: String,
    /// Its size in bytes, packed if it is.
    pub size: u64,
    /// Bytes that are read of it, unpacked.
    pub offset: u64,
}

/// Files to look into.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LookRequest {
    /// Patterns of them, one at least.
    #[schema(min_items = 1)]
    pub paths: Vec<String>,
    /// Patterns of those among them that are left out.
    #[serde(default, alias = "but_not")]
    pub exclude: Vec<String>,
    /// What the source is to be called. `files`, if left out.
    #[serde(default)]
    pub name: Option<String>,
}

/// What was found in files.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LookedInto {
    /// The files, and what cannot be read, at the most 1000.
    pub files: Vec<SourceFile>,
    /// How many files the patterns match.
    pub file_count: usize,
    /// There are files of more names than were looked into.
    pub more: bool,
    /// The files that can be read, by what they are; those of which there are most first.
    pub kinds: Vec<LookedKind>,
    /// What to add to a plan to read them so: a source for each kind.
    pub plan: Option<String>,
}

/// Files that are of one kind, and are read by one source.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct LookedKind {
    /// The name of its source in the plan.
    pub name: String,
    /// How many files they are.
    pub file_count: usize,
    /// The file whose lines are shown: the one that was written last.
    pub path: String,
    /// Its first lines.
    pub lines: Vec<String>,
    /// What the lines were recognised as.
    pub recognised: Recognised,
}

/// What lines were recognised as.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Recognised {
    /// What the lines are, in a sentence.
    pub says: String,
    /// The kits that read them.
    pub kits: Vec<String>,
    /// Steps for the source's `on_arrival`.
    pub steps: Vec<String>,
    /// The share of the lines that is so, from 0 to 1.
    pub share: f64,
    /// The share of the events whose time can be read then, from 0 to 1.
    pub timed: f64,
    /// The first event's time, as it is read.
    pub time: Option<String>,
    /// The first events, as they would be read.
    #[schema(value_type = Vec<Object>)]
    pub events: Vec<Box<RawValue>>,
}

/// Lines to recognise.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RecogniseRequest {
    /// They, as they came; the first 64 KB are looked at.
    pub lines: String,
}

/// A kit.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct KitShown {
    /// Its name.
    pub name: String,
    /// What it is for.
    pub says: String,
    /// Its recipe's steps.
    pub steps: Vec<String>,
    /// Its recipe and its tables, to be added to a plan.
    pub plan: String,
}

/// A record as it came to a source, and what was made of it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CaughtRecord {
    /// When it came, in milliseconds since 1970.
    pub at_ms: i64,
    /// Its bytes as they came; what is not UTF-8 is replaced. Nothing for those who see only some events, or see them redacted.
    pub raw: Option<String>,
    /// As it was read; null if it could not be.
    #[schema(value_type = Option<Object>)]
    pub read: Option<Box<RawValue>>,
    /// Why it could not be read.
    pub unreadable: Option<String>,
    /// As it went on; null if a step removed it or holds it back.
    #[schema(value_type = Option<Object>)]
    pub after: Option<Box<RawValue>>,
    /// The sentence of that step.
    pub stopped_by: Option<String>,
}

/// A source's new key. It is shown this once.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SourceKey {
    /// The new key; it is shown only now.
    pub key: String,
    /// Where to post to with it, over HTTP.
    pub url: Option<String>,
}

/// A line to paste.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SendLine {
    /// What the line is pasted into.
    pub with: String,
    /// The line. `KEY` and `HOST` stand for what only the operator knows.
    pub line: String,
}

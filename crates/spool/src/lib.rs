//! The spool: durable queues between routing and delivery, and the account that moves with them, in one SQLite file.
//!
//! One thread writes ([`Spool::store`], [`Spool::settle`]); many small writes share a commit, and each caller is answered
//! only when its commit is on the disk. What one acknowledgement covers (events, queue entries, ledger, quarantine) is one transaction, so a crash leaves
//! all of it or none. Readers have connections of their own and never hold up the writer.
//!
//! All methods that touch the disk are async and run off the runtime's threads.

mod batch;
mod by_tag;
mod connect;
mod extras;
mod metrics;
mod operate;
mod packed;
mod quarantine;
mod queue;
mod reader;
mod resent;
mod rolled;
mod schema;
mod unpacked;
mod writer;

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use diesel::Connection;
use diesel::sqlite::SqliteConnection;
use rockrose_ledger::{Account, Added, Amount, Equation, Measure, Series, Stage, WindowState};
use tokio::sync::{mpsc, oneshot, watch};

pub use batch::{DeliveryBatch, Settlement};
pub use extras::{CommitExtras, Once};
pub use operate::{Discard, GiveUp, Which};
pub use packed::{Packed, pack};
pub use quarantine::{KEPT_BYTES_OF_BODY, KEPT_OF_BODY, KEPT_OF_RECORD};
pub use reader::{LedgerRow, Page, Quarantined, Volume};
pub use resent::{Became, Fate, Refused, RefusedEvent, Resend, ResentEvent};
pub use writer::{Arrival, Unread};

/// Why the spool could not do what was asked.
#[derive(Clone, Debug, thiserror::Error)]
pub enum SpoolError {
    /// The disk or the database refused; nothing of it was kept.
    #[error("the spool cannot be written or read: {0}")]
    Storage(Arc<dyn std::error::Error + Send + Sync>),
    /// What was to be settled was settled before, or is gone.
    #[error("it was settled or discarded meanwhile")]
    Settled,
    /// This body was taken before, by its sender's own name for it.
    #[error("this body was accepted before")]
    Repeated,
    /// The bytes of this batch are not what was written.
    #[error("the queue is damaged on disk")]
    Damaged(i64),
    /// The spool is shutting down.
    #[error("the spool is closed")]
    Closed,
}

impl From<diesel::result::Error> for SpoolError {
    fn from(e: diesel::result::Error) -> Self {
        SpoolError::storage(e)
    }
}

impl SpoolError {
    /// The disk or the database refused, and said this.
    pub(crate) fn storage(cause: impl Into<Box<dyn std::error::Error + Send + Sync>>) -> SpoolError {
        SpoolError::Storage(cause.into().into())
    }
}

/// What waits for one destination.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Waiting {
    /// Events and their bytes.
    pub amount: Amount,
    /// When the oldest was queued, in milliseconds since 1970; 0 if none waits.
    pub oldest_ms: i64,
}

/// Most writes that may wait for the writer.
const WRITE_QUEUE: usize = 1_024;
/// Connections kept for readers.
const READERS: usize = 4;

/// A handle on the spool; cheap to clone.
#[derive(Clone)]
pub struct Spool {
    inner: Arc<Inner>,
}

struct Inner {
    writes: Mutex<Option<mpsc::Sender<writer::Write>>>,
    thread: Mutex<Option<std::thread::JoinHandle<()>>>,
    readers: Mutex<Vec<SqliteConnection>>,
    path: std::path::PathBuf,
    name: String,
    shared: Arc<writer::Shared>,
}

impl Spool {
    /// Opens the spool file at `path`, making or upgrading it, and starts its writer.
    pub fn open(path: &Path) -> Result<Spool, SpoolError> {
        let mut connection = connect::writer(path)?;
        let name = reader::name(&mut connection)?;
        let shared = Arc::new(writer::Shared {
            waiting: Mutex::new(reader::waiting(&mut connection)?),
            arrivals: watch::channel(0).0,
            commits: std::sync::atomic::AtomicU64::new(0),
            kept: unpacked::UnpackedCache::default(),
        });
        let (writes, queue) = mpsc::channel(WRITE_QUEUE);
        let tags = by_tag::TagWriter::load(&mut connection)?;
        let theirs = Arc::clone(&shared);
        let thread = std::thread::Builder::new()
            .name("spool-writer".into())
            .spawn(move || writer::run(connection, tags, queue, &theirs))
            .map_err(SpoolError::storage)?;
        let inner =
            Inner { writes: Mutex::new(Some(writes)), thread: Mutex::new(Some(thread)), readers: Mutex::new(Vec::new()), path: path.to_owned(), name, shared };
        Ok(Spool { inner: Arc::new(inner) })
    }

    /// A name that no other spool has: 16 hexadecimal digits. Places in its queues are told apart from those of others by it.
    #[must_use]
    pub fn name(&self) -> &str {
        &self.inner.name
    }

    async fn write(&self, what: writer::What) -> Result<Amount, SpoolError> {
        let writes = lock(&self.inner.writes).clone().ok_or(SpoolError::Closed)?;
        let (answer, answered) = oneshot::channel();
        writes.send(writer::Write { what, answer }).await.map_err(|_| SpoolError::Closed)?;
        answered.await.map_err(|_| SpoolError::Closed)?
    }

    /// Makes an arrival durable: returns when its events, entries, postings and quarantined records are on the disk, all of them.
    pub async fn store(&self, arrival: Arrival) -> Result<(), SpoolError> {
        self.write(writer::What::Store(Box::new(arrival))).await.map(|_| ())
    }

    /// Records what became of the front of a parcel: entries go, the ledger advances, refused events are quarantined.
    pub async fn settle(&self, settlement: Settlement) -> Result<(), SpoolError> {
        self.write(writer::What::Settle(Box::new(settlement))).await.map(|_| ())
    }

    /// Lets go what waits for a destination, counted as discarded. Returns how much that was.
    pub async fn discard(&self, discard: Discard) -> Result<Amount, SpoolError> {
        self.write(writer::What::Discard(discard)).await
    }

    /// Sends again what destinations refused. Returns how much is queued.
    ///
    /// # Errors
    /// [`SpoolError::Settled`] if some of it is not in quarantine any more; nothing is done then.
    pub async fn resend(&self, resend: Resend) -> Result<Amount, SpoolError> {
        self.write(writer::What::Resend(resend)).await
    }

    /// The next of the refused events that are meant, in the order of their numbers: at most `most`, of at most `max_bytes` (but at least one).
    pub async fn refused(&self, which: Refused, most: usize, max_bytes: usize) -> Result<Vec<RefusedEvent>, SpoolError> {
        self.read(move |c| resent::refused(c, &which, most, max_bytes)).await
    }

    /// What became of the events that were sent again under this number.
    pub async fn fates(&self, run: i64) -> Result<Vec<Fate>, SpoolError> {
        self.read(move |c| resent::fates(c, run)).await
    }

    /// Takes what stands in a damaged batch out of all queues. Returns how much that was.
    pub async fn give_up(&self, give_up: GiveUp) -> Result<Amount, SpoolError> {
        self.write(writer::What::GiveUp(give_up)).await
    }

    /// The next events due at `destination`, at the most `max_bytes` of them (but at least one); `None` if nothing is queued.
    pub async fn next(&self, destination: &str, max_bytes: usize) -> Result<Option<DeliveryBatch>, SpoolError> {
        self.next_but(destination, max_bytes, Vec::new()).await
    }

    /// The next events due at `destination`, as [`Spool::next`] gives them, without those in the queue entries `but`, which are under way.
    pub async fn next_but(&self, destination: &str, max_bytes: usize, but: Vec<i64>) -> Result<Option<DeliveryBatch>, SpoolError> {
        let destination = destination.to_owned();
        let shared = Arc::clone(&self.inner.shared);
        self.read(move |c| batch::next(c, &shared.kept, &destination, max_bytes, &but)).await
    }

    /// How far the file of a file destination was written when its last settlement was made.
    pub async fn reached(&self, destination: &str, file: &str) -> Result<Option<u64>, SpoolError> {
        let (destination, file) = (destination.to_owned(), file.to_owned());
        self.read(move |c| reader::reached(c, &destination, &file)).await
    }

    /// What waits for each destination that ever had an entry since the start.
    #[must_use]
    pub fn waiting(&self) -> BTreeMap<String, Waiting> {
        lock(&self.inner.shared.waiting).clone()
    }

    /// What waits for `destination`.
    #[must_use]
    pub fn waiting_for(&self, destination: &str) -> Waiting {
        lock(&self.inner.shared.waiting).get(destination).copied().unwrap_or_default()
    }

    /// How many bytes wait for `destination`.
    #[must_use]
    pub fn waiting_bytes(&self, destination: &str) -> i64 {
        self.waiting_for(destination).amount.bytes
    }

    /// Changes whenever something was queued.
    #[must_use]
    pub fn arrivals(&self) -> watch::Receiver<u64> {
        self.inner.shared.arrivals.subscribe()
    }

    /// The ledger's rows, summed from minute `since` (inclusive) to `until` (exclusive), minutes since 1970; without both, since the beginning. Minutes are kept for 35 days, hours for
    /// 400, days for ever: before that, a span counts the whole hour or day in which it begins.
    pub async fn ledger(&self, since: Option<i64>, until: Option<i64>) -> Result<Vec<LedgerRow>, SpoolError> {
        self.read(move |c| reader::ledger(c, since, until)).await
    }

    /// The account by the values of a tag, summed over a span as [`Spool::ledger`] does: of each value what comes through the sources, what steps take away, and what is queued for
    /// destinations and spilled by them. What was counted while the tag was not told apart stands under [`rockrose_ledger::BEFORE`], so that all of it adds up to the ledger.
    pub async fn by_tag(&self, tag: &str, since: Option<i64>, until: Option<i64>) -> Result<Vec<(String, LedgerRow)>, SpoolError> {
        let tag = tag.to_owned();
        self.read(move |c| c.transaction(|c| by_tag::whole_account(c, &tag, since, until))).await
    }

    /// What was counted at a place under one measure by the hour, from minute `since` (inclusive) to `until` (exclusive), minutes since 1970: when each hour begins, in minutes since 1970,
    /// and the account. What is [`Measure::Enqueued`] of a route is asked of the destinations to which it leads.
    pub async fn hours(&self, stage: Stage, name: &str, measure: Measure, since: i64, until: i64) -> Result<Vec<(i64, Account, Amount)>, SpoolError> {
        let name = name.to_owned();
        self.read(move |c| rolled::hours(c, stage, &name, measure, since..until)).await
    }

    /// The first minute from `since` on (minutes since 1970) in which anything was counted.
    pub async fn first_minute(&self, since: i64) -> Result<Option<i64>, SpoolError> {
        self.read(move |c| reader::first_minute(c, since)).await
    }

    /// One account's amounts by minute, from minute `since` on.
    pub async fn minutes(&self, stage: Stage, name: &str, since: i64) -> Result<Vec<(i64, Account, Amount)>, SpoolError> {
        let name = name.to_owned();
        self.read(move |c| reader::minutes(c, stage, &name, since)).await
    }

    /// What each destination accepted from minute `minute` on.
    pub async fn delivered_since(&self, minute: i64) -> Result<BTreeMap<String, Amount>, SpoolError> {
        self.read(move |c| reader::delivered_since(c, minute)).await
    }

    /// What came to each source, was taken by each route and was accepted by each destination, from minute `since` (inclusive) to `until` (exclusive), minutes since 1970.
    pub async fn volumes(&self, since: i64, until: i64) -> Result<BTreeMap<(Stage, String), Amount>, SpoolError> {
        self.read(move |c| reader::volumes(c, since, until)).await
    }

    /// The amounts of these measures, minute by minute, from minute `since` (inclusive) to `until` (exclusive), minutes since 1970; `names`: only at places of these names.
    /// A place may have several of a minute, which add up.
    pub async fn minute_volumes(&self, since: i64, until: i64, measures: &'static [Measure], names: Option<Vec<String>>) -> Result<Vec<Volume>, SpoolError> {
        self.read(move |c| reader::minute_volumes(c, since, until, measures, names.as_deref())).await
    }

    /// How many commits were made since the start. While it stands still, the ledger does.
    #[must_use]
    pub fn commits(&self) -> u64 {
        self.inner.shared.commits.load(std::sync::atomic::Ordering::Acquire)
    }

    /// Every equation of the account since the beginning, over one consistent view of ledger and queues.
    pub async fn balance(&self) -> Result<Vec<Equation>, SpoolError> {
        self.read(reader::balance).await
    }

    /// The newest quarantined records, at most `most`, newest first, whole.
    pub async fn quarantined(&self, most: i64) -> Result<Vec<Quarantined>, SpoolError> {
        self.quarantine_page(Page { before: None, most, bytes: i32::MAX }).await
    }

    /// Quarantined records, newest first.
    pub async fn quarantine_page(&self, page: Page) -> Result<Vec<Quarantined>, SpoolError> {
        self.read(move |c| reader::quarantined(c, page)).await
    }

    /// The quarantined record of this number.
    pub async fn quarantined_one(&self, id: i64) -> Result<Option<Quarantined>, SpoolError> {
        self.read(move |c| reader::quarantined_one(c, id)).await
    }

    /// How far a source has read, by its own names for what it reads.
    pub async fn positions(&self, source: &str) -> Result<Vec<(String, String)>, SpoolError> {
        let source = source.to_owned();
        self.read(move |c| extras::positions(c, &source)).await
    }

    /// The body that a source took under its sender's name for it.
    pub async fn taken_once(&self, source: &str, key: &str) -> Result<Option<Once>, SpoolError> {
        let (source, key) = (source.to_owned(), key.to_owned());
        self.read(move |c| extras::once(c, &source, &key)).await
    }

    /// What the windows of steps hold, the one due first first.
    pub async fn held(&self) -> Result<Vec<(u128, WindowState)>, SpoolError> {
        self.read(metrics::held).await
    }

    /// All metrics since the beginning.
    pub async fn metrics(&self) -> Result<BTreeMap<Series, Added>, SpoolError> {
        self.read(metrics::totals).await
    }

    /// One metric by minute, from minute `since` (since 1970) on, to before minute `until`.
    pub async fn metric_minutes(&self, metric: &str, since: i64, until: Option<i64>) -> Result<Vec<(i64, Series, Added)>, SpoolError> {
        let metric = metric.to_owned();
        self.read(move |c| metrics::minutes(c, &metric, since, until)).await
    }

    /// Whether the file can be read and the writer is alive.
    pub async fn healthy(&self) -> bool {
        lock(&self.inner.writes).as_ref().is_some_and(|w| !w.is_closed()) && self.read(reader::can_read).await.is_ok()
    }

    async fn read<T: Send + 'static>(&self, ask: impl FnOnce(&mut SqliteConnection) -> Result<T, SpoolError> + Send + 'static) -> Result<T, SpoolError> {
        let inner = Arc::clone(&self.inner);
        let asked = tokio::task::spawn_blocking(move || {
            let pooled = lock(&inner.readers).pop();
            let mut connection = match pooled {
                Some(c) => c,
                None => connect::reader(&inner.path)?,
            };
            let answer = ask(&mut connection);
            let mut readers = lock(&inner.readers);
            if answer.is_ok() && readers.len() < READERS {
                readers.push(connection);
            }
            answer
        });
        asked.await.map_err(|_| SpoolError::Closed)?
    }

    /// Takes no more writes and returns when those that wait are on the disk. Blocks; not for async code.
    pub fn close(&self) {
        drop(lock(&self.inner.writes).take());
        if let Some(thread) = lock(&self.inner.thread).take() {
            // A writer that panicked has told its callers already.
            let _ = thread.join();
        }
    }
}

/// Locks, whatever a panicking holder left: the values behind these locks are whole at every moment.
fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

#[cfg(test)]
mod tests;

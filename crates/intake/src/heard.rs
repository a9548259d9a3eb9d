//! What a source has heard lately, and what went wrong with its senders: so that one that is silent can be told why.

use std::net::IpAddr;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};

use crate::{Receipt, now_ms};

/// Something that went wrong between a source and its senders.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Wrong {
    /// A key was needed, and none or another was shown.
    Key,
    /// The sender's address is none of those that are allowed.
    Address,
    /// What came to a port for TLS was no TLS.
    PlainText,
    /// A connection could not be made safe.
    Tls,
    /// What came is not what the source speaks.
    Format,
    /// A body or a message was larger than it may be.
    TooLarge,
    /// Records could not be read.
    Unreadable,
    /// There was no room, so the sender was told to wait.
    PushedBack,
    /// Datagrams came faster than they could be taken.
    Lost,
}

/// How often something went wrong, and the last time it did.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Trouble {
    /// What.
    pub what: Wrong,
    /// In words, without anything out of events.
    pub says: String,
    /// Whence the last came, where that is known.
    pub from: Option<IpAddr>,
    /// How often since the start.
    pub times: u64,
    /// When last, in milliseconds since 1970.
    pub last_ms: i64,
}

/// What a source has heard since it began to listen.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Hearing {
    /// Events that were taken.
    pub events: u64,
    /// When the last came, in milliseconds since 1970.
    pub last_event_ms: Option<i64>,
    /// Whence it came.
    pub last_from: Option<IpAddr>,
    /// Connections that are open.
    pub connections: usize,
    /// What went wrong, the latest first.
    pub troubles: Vec<Trouble>,
}

/// Keeps what a source hears. Shared by all that listens for it.
#[derive(Debug, Default)]
pub struct Heard {
    hearing: Mutex<Hearing>,
    connections: AtomicUsize,
    events: AtomicU64,
}

impl Heard {
    fn hearing(&self) -> std::sync::MutexGuard<'_, Hearing> {
        self.hearing.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What was heard by now.
    #[must_use]
    pub fn get(&self) -> Hearing {
        let mut hearing = self.hearing().clone();
        hearing.connections = self.connections.load(Ordering::Relaxed);
        hearing.events = self.events.load(Ordering::Relaxed);
        hearing.troubles.sort_by_key(|t| std::cmp::Reverse(t.last_ms));
        hearing
    }

    fn took(&self, events: u64, from: Option<IpAddr>) {
        if events > 0 {
            self.events.fetch_add(events, Ordering::Relaxed);
            let mut hearing = self.hearing();
            hearing.last_event_ms = Some(now_ms());
            hearing.last_from = from.or(hearing.last_from);
        }
    }

    /// Notes what became of records that were taken.
    pub(crate) fn receipt(&self, receipt: &Receipt, from: Option<IpAddr>) {
        self.took(receipt.read, from);
        if receipt.quarantined > 0 {
            let first = receipt.unreadable.first().map_or("", |u| &u.reason);
            self.wrong_times(Wrong::Unreadable, receipt.quarantined, format!("records that cannot be read: {first}"), from);
        }
    }

    /// Notes what went wrong.
    pub(crate) fn wrong(&self, what: Wrong, says: impl Into<String>, from: Option<IpAddr>) {
        self.wrong_times(what, 1, says, from);
    }

    pub(crate) fn wrong_times(&self, what: Wrong, times: u64, says: impl Into<String>, from: Option<IpAddr>) {
        let mut hearing = self.hearing();
        let says = says.into();
        let last_ms = now_ms();
        match hearing.troubles.iter_mut().find(|t| t.what == what) {
            Some(known) => (known.says, known.from, known.times, known.last_ms) = (says, from, known.times + times, last_ms),
            None => hearing.troubles.push(Trouble { what, says, from, times, last_ms }),
        }
    }

    pub(crate) fn connected(&self) {
        self.connections.fetch_add(1, Ordering::Relaxed);
    }

    pub(crate) fn disconnected(&self) {
        self.connections.fetch_sub(1, Ordering::Relaxed);
    }
}

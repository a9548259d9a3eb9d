//! Places for connections: so many at once, of which one address may hold most but not all. Where they run out, the connection that has been idle longest makes room.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::atomic::{AtomicBool, AtomicI64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use futures_util::task::AtomicWaker;
use tokio::sync::Notify;

use crate::attempts::neighbourhood;

/// A connection that did something more recently than this is not closed to make room.
const IDLE: Duration = Duration::from_secs(1);
/// As is one that has sent nothing yet and was made more recently than this.
const FRESH: Duration = Duration::from_millis(50);

/// No bytes went over a connection yet.
const NOTHING: i64 = -1;

/// What a connection is doing.
#[derive(Debug)]
pub(crate) struct Activity {
    since: Instant,
    /// When bytes last went over it, in milliseconds after `since`; [`NOTHING`], if none did.
    last_ms: AtomicI64,
    /// Requests over it that are worked on.
    busy: AtomicUsize,
    is_closed: AtomicBool,
    waker: AtomicWaker,
}

impl Activity {
    fn new() -> Activity {
        Activity {
            since: Instant::now(),
            last_ms: AtomicI64::new(NOTHING),
            busy: AtomicUsize::new(0),
            is_closed: AtomicBool::new(false),
            waker: AtomicWaker::new(),
        }
    }

    /// Bytes went over it.
    pub(crate) fn moved(&self) {
        self.last_ms.store(self.since.elapsed().as_millis() as i64, Ordering::Relaxed);
    }

    /// Whether no bytes went over it yet.
    pub(crate) fn is_silent(&self) -> bool {
        self.last_ms.load(Ordering::Relaxed) == NOTHING
    }

    fn last(&self) -> Instant {
        self.since + Duration::from_millis(self.last_ms.load(Ordering::Relaxed).max(0) as u64)
    }

    /// Whether it may be closed to make room.
    fn is_idle(&self, now: Instant) -> bool {
        let bound = if self.is_silent() { FRESH } else { IDLE };
        self.busy.load(Ordering::Acquire) == 0 && now.saturating_duration_since(self.last()) >= bound
    }

    fn close(&self) {
        self.is_closed.store(true, Ordering::Release);
        self.waker.wake();
    }

    /// Whether it is to close; if not, `waker` is told when it is.
    pub(crate) fn is_closed(&self, waker: &std::task::Waker) -> bool {
        self.waker.register(waker);
        self.is_closed.load(Ordering::Acquire)
    }
}

/// A request that is worked on: its connection is not idle meanwhile.
pub(crate) struct Busy(Arc<Activity>);

impl Busy {
    pub(crate) fn new(activity: &Arc<Activity>) -> Busy {
        activity.busy.fetch_add(1, Ordering::AcqRel);
        Busy(Arc::clone(activity))
    }
}

impl Drop for Busy {
    fn drop(&mut self) {
        self.0.moved();
        self.0.busy.fetch_sub(1, Ordering::AcqRel);
    }
}

/// Places for connections.
#[derive(Debug)]
pub(crate) struct Places {
    most: usize,
    most_of_address: usize,
    live: Mutex<Live>,
    freed: Notify,
}

#[derive(Debug, Default)]
struct Live {
    next: u64,
    connections: HashMap<u64, (IpAddr, Arc<Activity>)>,
    of_address: HashMap<IpAddr, usize>,
}

impl Live {
    fn remove(&mut self, number: u64) {
        let Some((address, _)) = self.connections.remove(&number) else { return };
        if let Some(count) = self.of_address.get_mut(&address) {
            *count -= 1;
            if *count == 0 {
                self.of_address.remove(&address);
            }
        }
    }

    /// Closes the one that has been idle longest, of an address or of all. Says whether there was one.
    fn close_idlest(&mut self, of: Option<IpAddr>, now: Instant) -> bool {
        let Some(number) = self.idlest(of, now) else { return false };
        if let Some((_, activity)) = self.connections.get(&number) {
            activity.close();
        }
        self.remove(number);
        true
    }

    /// The one that has been idle longest, of an address or of all.
    fn idlest(&self, of: Option<IpAddr>, now: Instant) -> Option<u64> {
        let theirs = self.connections.iter().filter(|(_, (address, activity))| of.is_none_or(|of| of == *address) && activity.is_idle(now));
        theirs.min_by_key(|(_, (_, activity))| activity.last()).map(|(number, _)| *number)
    }
}

/// How a connection came to its place.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Room {
    /// There was one.
    Free,
    /// Another connection, which was idle, was closed for it.
    Made,
}

/// Why a connection has no place.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum NoRoom {
    /// Its address holds all that one may, and none of them is idle.
    Address,
    /// All are taken, and none is idle; there may be one later.
    All,
}

impl Places {
    pub(crate) fn new(most: usize) -> Places {
        Places { most, most_of_address: (most - most / 4).max(1), live: Mutex::default(), freed: Notify::new() }
    }

    /// Most connections at once.
    pub(crate) fn most(&self) -> usize {
        self.most
    }

    fn live(&self) -> std::sync::MutexGuard<'_, Live> {
        self.live.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Takes a place for a connection from `address`.
    pub(crate) fn take(self: &Arc<Places>, address: IpAddr) -> Result<(Place, Room), NoRoom> {
        self.take_at(address, Instant::now())
    }

    fn take_at(self: &Arc<Places>, address: IpAddr, now: Instant) -> Result<(Place, Room), NoRoom> {
        let address = neighbourhood(address);
        let mut live = self.live();
        let mut room = Room::Free;
        let crowded = self.most_of_address < self.most && live.of_address.get(&address).is_some_and(|count| *count >= self.most_of_address);
        if crowded || live.connections.len() >= self.most {
            if !live.close_idlest(crowded.then_some(address), now) {
                return Err(if crowded { NoRoom::Address } else { NoRoom::All });
            }
            room = Room::Made;
        }
        let number = live.next;
        live.next += 1;
        let activity = Arc::new(Activity::new());
        live.connections.insert(number, (address, Arc::clone(&activity)));
        *live.of_address.entry(address).or_default() += 1;
        Ok((Place { places: Arc::clone(self), number, activity }, room))
    }

    /// Closes the connection that has been idle longest, if one is.
    pub(crate) fn close_idlest(&self) {
        self.live().close_idlest(None, Instant::now());
    }

    /// Waits until one may be free, or idle.
    pub(crate) async fn freed(&self) {
        let _ = tokio::time::timeout(IDLE / 4, self.freed.notified()).await;
    }
}

/// A connection's place, given back when it closes.
#[derive(Debug)]
pub(crate) struct Place {
    places: Arc<Places>,
    number: u64,
    pub(crate) activity: Arc<Activity>,
}

impl Drop for Place {
    fn drop(&mut self) {
        self.places.live().remove(self.number);
        self.places.freed.notify_one();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(n: u8) -> IpAddr {
        IpAddr::from([192, 0, 2, n])
    }

    fn later(seconds: u64) -> Instant {
        Instant::now() + Duration::from_secs(seconds)
    }

    #[test]
    fn the_connection_that_is_idle_longest_makes_room() {
        let places = Arc::new(Places::new(4));
        let held: Vec<Place> = (1..=4).map(|n| places.take(at(n)).unwrap().0).collect();
        assert_eq!(places.take(at(9)).unwrap_err(), NoRoom::All, "none is idle yet");
        // The first has moved last; the second is busy.
        let busy = Busy::new(&held[1].activity);
        for (place, ms) in held.iter().zip([900, 0, 300, 600]) {
            place.activity.last_ms.store(ms, Ordering::Relaxed);
        }
        let (new, room) = places.take_at(at(9), later(2)).unwrap();
        assert_eq!(room, Room::Made);
        let waker = std::task::Waker::noop();
        assert_eq!(held.iter().map(|p| p.activity.is_closed(waker)).collect::<Vec<_>>(), [false, false, true, false]);
        drop((new, busy));
        assert_eq!(places.take(at(9)).unwrap().1, Room::Free);
        drop(held);
        assert!(places.live().connections.is_empty() && places.live().of_address.is_empty());
    }

    #[test]
    fn one_address_holds_most_of_the_places_but_not_all() {
        let places = Arc::new(Places::new(8));
        // Though another's is idle longer than any of its own.
        let other = places.take(at(2)).unwrap();
        let held: Vec<Place> = (0..6).map(|_| places.take(at(1)).unwrap().0).collect();
        held.iter().for_each(|place| place.activity.last_ms.store(500, Ordering::Relaxed));
        assert_eq!(places.take(at(1)).unwrap_err(), NoRoom::Address);
        // It gets another place only for one of its own.
        assert_eq!(places.take_at(at(1), later(2)).unwrap().1, Room::Made);
        let waker = std::task::Waker::noop();
        assert_eq!(held.iter().filter(|p| p.activity.is_closed(waker)).count(), 1);
        assert!(!other.0.activity.is_closed(waker));
    }
}

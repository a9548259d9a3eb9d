//! Names of addresses for `resolve`: asked for beside the batches, kept for a while, bounded in number and time.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use rockrose_engine::Names;
use tokio::sync::mpsc;

/// Most names that are kept.
const MAX_NAMES: usize = 50_000;
/// Most addresses that wait to be asked for; those past it are asked for when they come again.
const MAX_WAITING: usize = 1_024;
/// Most that are asked for at once.
const AT_ONCE: usize = 8;
/// How long one answer may take.
const PATIENCE: Duration = Duration::from_secs(3);
/// How long an answer is kept, and how long that there was none.
const KEEP: Duration = Duration::from_secs(600);
const KEEP_NONE: Duration = Duration::from_secs(60);

#[derive(Clone)]
enum Known {
    Asked,
    Name(Option<String>, Instant),
}

/// The names that are known.
pub(crate) struct NameBook {
    known: Mutex<HashMap<IpAddr, Known>>,
    asks: mpsc::Sender<IpAddr>,
}

impl NameBook {
    /// A book, and the asking side that [`run`] serves.
    pub(crate) fn new() -> (Arc<NameBook>, mpsc::Receiver<IpAddr>) {
        let (asks, asked) = mpsc::channel(MAX_WAITING);
        (Arc::new(NameBook { known: Mutex::default(), asks }), asked)
    }

    fn put(&self, address: IpAddr, known: Option<Known>) {
        let mut book = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        match known {
            Some(known) => book.insert(address, known),
            None => book.remove(&address),
        };
    }
}

impl Names for NameBook {
    fn name(&self, address: IpAddr) -> Option<Option<String>> {
        let mut book = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        let now = Instant::now();
        let known = match book.get(&address) {
            Some(Known::Asked) => return None,
            Some(Known::Name(name, until)) if *until > now => return Some(name.clone()),
            // It is asked for again; until then the old answer does.
            Some(Known::Name(name, _)) => Some(name.clone()),
            None => None,
        };
        if book.len() >= MAX_NAMES {
            book.retain(|_, known| matches!(known, Known::Name(_, until) if *until > now));
            if book.len() >= MAX_NAMES {
                return known;
            }
        }
        if self.asks.try_send(address).is_ok() {
            book.insert(address, Known::Asked);
        }
        known
    }
}

/// Asks for names for as long as the service runs.
pub(crate) async fn run(book: Arc<NameBook>, mut asked: mpsc::Receiver<IpAddr>) {
    let places = Arc::new(tokio::sync::Semaphore::new(AT_ONCE));
    while let Some(address) = asked.recv().await {
        let Ok(place) = Arc::clone(&places).acquire_owned().await else { return };
        let book = Arc::clone(&book);
        tokio::spawn(async move {
            let asking = tokio::task::spawn_blocking(move || {
                // Its place is taken for as long as the system's resolver works, even past our patience.
                let _place = place;
                dns_lookup::lookup_addr(&address)
            });
            let known = match tokio::time::timeout(PATIENCE, asking).await {
                // An address without a name is given back as it was written.
                Ok(Ok(Ok(name))) if name.parse::<IpAddr>().is_err() => Some(Known::Name(Some(name), Instant::now() + KEEP)),
                Ok(_) => Some(Known::Name(None, Instant::now() + KEEP_NONE)),
                Err(_) => Some(Known::Name(None, Instant::now() + KEEP_NONE)),
            };
            book.put(address, known);
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_name_is_asked_for_once_and_then_known() {
        let (book, asked) = NameBook::new();
        let local: IpAddr = "127.0.0.1".parse().unwrap();
        assert_eq!(book.name(local), None, "nothing waits for an answer");
        assert_eq!(book.name(local), None);
        assert_eq!(asked.len(), 1, "it is asked for once");
        let serving = tokio::spawn(run(Arc::clone(&book), asked));
        let until = Instant::now() + Duration::from_secs(20);
        while book.name(local).is_none() && Instant::now() < until {
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
        assert!(matches!(book.name(local), Some(Some(name)) if name.contains("localhost")));
        serving.abort();
    }

    #[test]
    fn what_cannot_be_asked_for_waits_for_another_time() {
        let (book, asked) = NameBook::new();
        for n in 0..MAX_WAITING as u32 + 10 {
            assert_eq!(book.name(IpAddr::V4((0xc000_0200 + n).into())), None);
        }
        assert_eq!(asked.len(), MAX_WAITING);
    }
}

//! Those who show wrong keys and passwords again and again: each time, their address waits longer.

use std::collections::HashMap;
use std::net::{IpAddr, Ipv6Addr};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// Longest wait.
const LONGEST: Duration = Duration::from_secs(60);
/// A failure is forgotten after so long.
const FORGOTTEN: Duration = Duration::from_secs(15 * 60);
/// Most addresses that are remembered; the one that failed longest ago is forgotten first.
const MOST: usize = 10_000;

#[derive(Clone, Copy, Debug)]
struct Failures {
    times: u32,
    last: Instant,
}

/// Who failed how often.
#[derive(Debug)]
pub struct Attempts {
    /// So many failures in a row cost nothing.
    free: u32,
    failed: Mutex<HashMap<IpAddr, Failures>>,
}

impl Attempts {
    /// With so many failures in a row that cost nothing.
    #[must_use]
    pub fn new(free: u32) -> Attempts {
        Attempts { free, failed: Mutex::default() }
    }

    /// For how many seconds nothing is looked at that comes from there.
    #[must_use]
    pub fn wait(&self, from: IpAddr) -> Option<u32> {
        self.wait_at(from, Instant::now())
    }

    fn wait_at(&self, from: IpAddr, now: Instant) -> Option<u32> {
        let failures = *self.failed.lock().unwrap_or_else(PoisonError::into_inner).get(&neighbourhood(from))?;
        let beyond = failures.times.checked_sub(self.free)?;
        let wait = Duration::from_secs(1 << beyond.min(10)).min(LONGEST);
        let left = (failures.last + wait).checked_duration_since(now)?;
        (!left.is_zero()).then(|| left.as_millis().div_ceil(1_000) as u32)
    }

    /// Somebody there showed a wrong key or password. Returns how often that was so in a row.
    pub fn failed(&self, from: IpAddr) -> u32 {
        self.failed_at(from, Instant::now())
    }

    fn failed_at(&self, from: IpAddr, now: Instant) -> u32 {
        let mut all = self.failed.lock().unwrap_or_else(PoisonError::into_inner);
        let from = neighbourhood(from);
        if all.len() >= MOST && !all.contains_key(&from) {
            all.retain(|_, failures| now.duration_since(failures.last) < FORGOTTEN);
            if all.len() >= MOST
                && let Some(oldest) = all.iter().min_by_key(|(_, failures)| failures.last).map(|(address, _)| *address)
            {
                all.remove(&oldest);
            }
        }
        let failures = all.entry(from).or_insert(Failures { times: 0, last: now });
        let times = if now.duration_since(failures.last) < FORGOTTEN { failures.times } else { 0 };
        *failures = Failures { times: times.saturating_add(1), last: now };
        failures.times
    }

    /// Somebody there showed a right one.
    pub fn succeeded(&self, from: IpAddr) {
        self.failed.lock().unwrap_or_else(PoisonError::into_inner).remove(&neighbourhood(from));
    }
}

/// One host has many addresses of IPv6, but they share their first 64 bits.
pub(crate) fn neighbourhood(address: IpAddr) -> IpAddr {
    match address.to_canonical() {
        IpAddr::V6(v6) => IpAddr::V6(Ipv6Addr::from_bits(v6.to_bits() & !u128::from(u64::MAX))),
        v4 => v4,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(text: &str) -> IpAddr {
        text.parse().unwrap()
    }

    #[test]
    fn each_failure_beyond_the_free_ones_waits_longer() {
        let (attempts, begun, from) = (Attempts::new(3), Instant::now(), at("192.0.2.4"));
        let mut waits = Vec::new();
        for _ in 0..12 {
            attempts.failed_at(from, begun);
            waits.push(attempts.wait_at(from, begun).unwrap_or(0));
        }
        assert_eq!(waits, [0, 0, 1, 2, 4, 8, 16, 32, 60, 60, 60, 60]);
        assert_eq!(attempts.wait_at(at("192.0.2.5"), begun), None);
        assert_eq!(attempts.wait_at(at("::ffff:192.0.2.4"), begun), Some(60));
        assert_eq!(attempts.wait_at(from, begun + Duration::from_secs(59)), Some(1));
        assert_eq!(attempts.wait_at(from, begun + Duration::from_secs(60)), None);
        assert_eq!(attempts.failed_at(from, begun + FORGOTTEN), 1);
        attempts.failed_at(from, begun);
        attempts.succeeded(from);
        assert_eq!((attempts.failed_at(from, begun), attempts.wait_at(from, begun)), (1, None));
    }

    #[test]
    fn addresses_are_bounded_and_a_host_has_one() {
        let (attempts, begun) = (Attempts::new(0), Instant::now());
        attempts.failed_at(at("2001:db8:0:7::1"), begun);
        assert_eq!(attempts.failed_at(at("2001:db8:0:7:ffff::2"), begun), 2);
        for n in 0..MOST as u32 {
            attempts.failed_at(IpAddr::V4(std::net::Ipv4Addr::from_bits(n)), begun + Duration::from_secs(1));
        }
        assert_eq!(attempts.failed.lock().unwrap().len(), MOST);
        assert_eq!(attempts.wait_at(at("2001:db8:0:7::1"), begun), None, "the oldest was forgotten");
    }
}

//! The way of one browser to the provider and back.
//!
//! What must be known again when it comes back (the state, the nonce and PKCE's verifier) is not kept here, where whoever sets out again and again could fill the memory or push others out: the
//! browser carries a seed, and the three follow from it by a key that only this process has.

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use hmac::{Hmac, Mac};
use sha2::Sha256;

/// How long a browser may take, in milliseconds.
pub(crate) const LONGEST_MS: i64 = 10 * 60 * 1000;

/// Makes journeys, and knows them again.
pub struct Journeys {
    key: [u8; 32],
}

/// What goes with one browser.
#[derive(Clone, PartialEq, Eq)]
pub struct Journey {
    /// What the browser carries, for nobody else to read.
    pub carried: String,
    /// What comes back through the provider.
    pub(crate) state: String,
    /// What the provider puts into its token.
    pub(crate) nonce: String,
    /// What proves that the code was asked for here: PKCE's verifier.
    pub(crate) verifier: String,
}

impl Journeys {
    /// # Errors
    /// If the system gives no random numbers.
    pub fn new() -> std::io::Result<Journeys> {
        let mut key = [0; 32];
        getrandom::fill(&mut key).map_err(|e| std::io::Error::other(e.to_string()))?;
        Ok(Journeys { key })
    }

    /// A journey that begins now.
    ///
    /// # Errors
    /// If the system gives no random numbers.
    pub fn begin(&self, now_ms: i64) -> std::io::Result<Journey> {
        let mut seed = [0; 24];
        getrandom::fill(&mut seed).map_err(|e| std::io::Error::other(e.to_string()))?;
        Ok(self.of(format!("{now_ms}.{}", URL_SAFE_NO_PAD.encode(seed))))
    }

    /// The journey of a browser that comes back with what it carried, and with a state; `None`, if the state is not that journey's, or it took too long.
    #[must_use]
    pub fn back(&self, carried: &str, state: &str, now_ms: i64) -> Option<Journey> {
        let begun: i64 = carried.split_once('.')?.0.parse().ok()?;
        if !(0..=LONGEST_MS).contains(&now_ms.checked_sub(begun)?) {
            return None;
        }
        let state = URL_SAFE_NO_PAD.decode(state).ok()?;
        self.mac("state", carried).verify_slice(&state).ok()?;
        Some(self.of(carried.to_owned()))
    }

    fn of(&self, carried: String) -> Journey {
        let part = |what: &str| URL_SAFE_NO_PAD.encode(self.mac(what, &carried).finalize().into_bytes());
        Journey { state: part("state"), nonce: part("nonce"), verifier: part("verifier"), carried }
    }

    fn mac(&self, what: &str, carried: &str) -> Hmac<Sha256> {
        let mut mac = Hmac::<Sha256>::new_from_slice(&self.key).unwrap_or_else(|_| unreachable!("any length will do"));
        mac.update(what.as_bytes());
        mac.update(&[0]);
        mac.update(carried.as_bytes());
        mac
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_browser_that_set_out_comes_back_and_in_time() {
        let journeys = Journeys::new().unwrap();
        let (one, other) = (journeys.begin(1_000).unwrap(), journeys.begin(1_000).unwrap());
        let back = |carried: &str, state: &str, now| journeys.back(carried, state, now).map(|j| j.verifier);
        assert_eq!(back(&one.carried, &one.state, 1_001), Some(one.verifier.clone()));
        assert_eq!(back(&one.carried, &one.state, 1_000 + LONGEST_MS), Some(one.verifier.clone()));
        assert_eq!(back(&one.carried, &one.state, 1_001 + LONGEST_MS), None);
        assert_eq!(back(&one.carried, &one.state, 999), None);
        for (carried, state) in [(&one.carried, &other.state), (&other.carried, &one.state), (&one.carried, &one.nonce), (&one.carried, &one.verifier)] {
            assert_eq!(back(carried, state, 1_001), None);
        }
        // A later beginning of one's own making.
        let later = one.carried.replacen("1000", "9000", 1);
        assert_eq!(back(&later, &one.state, 9_001), None);
        for wrong in ["", ".", "x.y", "9223372036854775807.x", "-9223372036854775808.x"] {
            assert_eq!(back(wrong, "", 1_001), None, "{wrong}");
        }
        assert_eq!(Journeys::new().unwrap().back(&one.carried, &one.state, 1_001).map(|_| ()), None);
        // Nothing that is shown to one side tells what is kept for the other; a verifier has 43 characters at the least.
        assert!(one.state != one.nonce && one.nonce != one.verifier && one.state != one.verifier && one.verifier.len() == 43);
    }
}

//! Signing in: one-time codes of links, and passwords.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

use argon2::password_hash::rand_core::OsRng;
use argon2::password_hash::{PasswordHash, PasswordHasher, PasswordVerifier, SaltString};
use argon2::{Algorithm, Argon2, Params, Version};
use rockrose_records::Holder;

/// How long a code opens, in milliseconds.
const OPEN_MS: i64 = 15 * 60 * 1000;
/// Most codes that are open at once; the oldest end first.
const MAX_CODES: usize = 64;

/// For whom a code was made.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Invited {
    /// What the session is called.
    pub(crate) name: String,
    pub(crate) holder: Holder,
}

/// The open codes. They are kept in memory only.
#[derive(Default)]
pub(crate) struct Codes(Mutex<HashMap<String, (Invited, i64)>>);

impl Codes {
    /// Makes a code for somebody.
    pub(crate) fn make(&self, invited: Invited, now_ms: i64) -> anyhow::Result<String> {
        let mut bytes = [0u8; 24];
        getrandom::fill(&mut bytes).map_err(|e| anyhow::anyhow!("no random numbers: {e}"))?;
        let code: String = bytes.iter().map(|b| format!("{b:02x}")).collect();
        let mut codes = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        codes.retain(|_, (_, until)| *until > now_ms);
        if codes.len() >= MAX_CODES
            && let Some(oldest) = codes.iter().min_by_key(|(_, (_, until))| *until).map(|(c, _)| c.clone())
        {
            codes.remove(&oldest);
        }
        codes.insert(code.clone(), (invited, now_ms + OPEN_MS));
        Ok(code)
    }

    /// Uses a code up; says for whom it was made.
    pub(crate) fn take(&self, code: &str, now_ms: i64) -> Option<Invited> {
        let mut codes = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        codes.remove(code).filter(|(_, until)| *until > now_ms).map(|(invited, _)| invited)
    }
}

/// Argon2id with 19 MiB, two passes and one lane, as OWASP recommends at the least.
fn argon2() -> Argon2<'static> {
    Argon2::new(Algorithm::Argon2id, Version::V0x13, Params::default())
}

/// A password's hash, as a PHC string. Takes some tens of milliseconds.
pub(crate) fn hashed(password: &str) -> anyhow::Result<String> {
    let salt = SaltString::generate(&mut OsRng);
    let hash = argon2().hash_password(password.as_bytes(), &salt);
    hash.map(|hash| hash.to_string()).map_err(|e| anyhow::anyhow!("the password cannot be hashed: {e}"))
}

/// Whether `password` is the one that was hashed. Takes as long where there is none.
pub(crate) fn is_right(password: &str, kept: Option<&str>) -> bool {
    // Of no password.
    const NONE: &str = "$argon2id$v=19$m=19456,t=2,p=1$c2FsdHNhbHRzYWx0c2FsdA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA";
    let Ok(hash) = PasswordHash::new(kept.unwrap_or(NONE)) else { return false };
    argon2().verify_password(password.as_bytes(), &hash).is_ok() && kept.is_some()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_code_opens_once_and_in_time() {
        let codes = Codes::default();
        let ann = || Invited { name: "ann".into(), holder: Holder::Person("ann".into()) };
        let code = codes.make(ann(), 0).unwrap();
        assert_eq!(codes.take("guess", 1), None);
        assert_eq!(codes.take(&code, 1), Some(ann()));
        assert_eq!(codes.take(&code, 1), None);
        let late = codes.make(ann(), 0).unwrap();
        assert_eq!(codes.take(&late, OPEN_MS + 1), None);
        let first = codes.make(ann(), 0).unwrap();
        for i in 1..=MAX_CODES as i64 {
            codes.make(Invited { name: "bo".into(), holder: Holder::Token(i) }, i).unwrap();
        }
        assert_eq!(codes.take(&first, 1), None);
    }

    #[test]
    fn a_password_is_kept_as_its_hash_and_costs_the_same_where_there_is_none() {
        let kept = hashed("heron on the mooring").unwrap();
        assert!(kept.starts_with("$argon2id$v=19$m=19456,t=2,p=1$") && !kept.contains("heron"));
        assert_ne!(kept, hashed("heron on the mooring").unwrap());
        assert!(is_right("heron on the mooring", Some(&kept)));
        assert!(!is_right("heron on the moorings", Some(&kept)) && !is_right("", None) && !is_right("a", Some("no hash")));
        let took = |kept: Option<&str>| {
            let begun = std::time::Instant::now();
            assert!(!is_right("tern", kept));
            begun.elapsed().as_secs_f64()
        };
        // Not a claim about speed: without the work, the one would take a thousandth of the other.
        assert!(took(None) > took(Some(&kept)) / 20.0);
    }
}

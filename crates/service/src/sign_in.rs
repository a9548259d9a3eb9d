//! One-time codes by which a browser signs in.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

/// How long a code opens, in milliseconds.
const OPEN_MS: i64 = 15 * 60 * 1000;
/// Most codes that are open at once; the oldest end first.
const MAX_CODES: usize = 64;

/// The open codes. They are kept in memory only.
#[derive(Default)]
pub(crate) struct Codes(Mutex<HashMap<String, (String, i64)>>);

impl Codes {
    /// Makes a code for `who`.
    pub(crate) fn make(&self, who: &str, now_ms: i64) -> anyhow::Result<String> {
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
        codes.insert(code.clone(), (who.to_owned(), now_ms + OPEN_MS));
        Ok(code)
    }

    /// Uses a code up; says for whom it was made.
    pub(crate) fn take(&self, code: &str, now_ms: i64) -> Option<String> {
        let mut codes = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        codes.remove(code).filter(|(_, until)| *until > now_ms).map(|(who, _)| who)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_code_opens_once_and_in_time() {
        let codes = Codes::default();
        let code = codes.make("ann", 0).unwrap();
        assert_eq!(codes.take("guess", 1), None);
        assert_eq!(codes.take(&code, 1).as_deref(), Some("ann"));
        assert_eq!(codes.take(&code, 1), None);
        let late = codes.make("ann", 0).unwrap();
        assert_eq!(codes.take(&late, OPEN_MS + 1), None);
        let first = codes.make("ann", 0).unwrap();
        for i in 1..=MAX_CODES as i64 {
            codes.make("bo", i).unwrap();
        }
        assert_eq!(codes.take(&first, 1), None);
    }
}

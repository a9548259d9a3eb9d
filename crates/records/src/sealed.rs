//! Bytes that are kept elsewhere, sealed with this node's key.

use chacha20poly1305::aead::{Aead, Payload};
use chacha20poly1305::{ChaCha20Poly1305, KeyInit, Nonce};

use crate::{Records, RecordsError};

/// How long a nonce is, in bytes.
pub(crate) const NONCE: usize = 12;

/// A nonce that was never used before, as chance will have it.
pub(crate) fn nonce() -> Result<[u8; NONCE], RecordsError> {
    let mut nonce = [0; NONCE];
    getrandom::fill(&mut nonce).map_err(|e| RecordsError::Storage(format!("no random numbers: {e}").into()))?;
    Ok(nonce)
}

impl Records {
    /// What seals and opens what is kept for one purpose.
    pub(crate) fn cipher(&self, purpose: &str) -> ChaCha20Poly1305 {
        ChaCha20Poly1305::new(&self.key.derive(&format!("seal {purpose}")).into())
    }

    /// Seals bytes for one purpose (ChaCha20-Poly1305, RFC 8439): a nonce, and behind it what only [`Records::unseal`] with the same key file and purpose opens.
    ///
    /// # Errors
    /// If there are no random numbers.
    pub fn seal(&self, purpose: &str, bytes: &[u8]) -> Result<Vec<u8>, RecordsError> {
        let nonce = nonce()?;
        let payload = Payload { msg: bytes, aad: purpose.as_bytes() };
        let sealed = self.cipher(purpose).encrypt(Nonce::from_slice(&nonce), payload).map_err(|_| RecordsError::Key("cannot seal".into()))?;
        Ok([&nonce[..], &sealed].concat())
    }

    /// Opens what was sealed for a purpose; nothing, if it was not sealed for it, not with this key, or was changed since.
    #[must_use]
    pub fn unseal(&self, purpose: &str, sealed: &[u8]) -> Option<Vec<u8>> {
        let (nonce, sealed) = sealed.split_at_checked(NONCE)?;
        self.cipher(purpose).decrypt(Nonce::from_slice(nonce), Payload { msg: sealed, aad: purpose.as_bytes() }).ok()
    }
}

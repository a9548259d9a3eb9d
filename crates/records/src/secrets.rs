//! Secrets, sealed at rest and never printed.

use chacha20poly1305::Nonce;
use chacha20poly1305::aead::{Aead, Payload};
use diesel::prelude::*;

use crate::schema::secret;
use crate::sealed::{NONCE, nonce};
use crate::{Records, RecordsError};

/// What they are sealed for.
const PURPOSE: &str = "secrets";

/// A secret's value. It has no printed form.
#[derive(Clone, PartialEq, Eq)]
pub struct Secret(String);

impl Secret {
    /// Wraps a value.
    #[must_use]
    pub fn new(value: String) -> Secret {
        Secret(value)
    }

    /// The value, for the one place that must use it.
    #[must_use]
    pub fn reveal(&self) -> &str {
        &self.0
    }
}

impl std::fmt::Debug for Secret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Secret(…)")
    }
}

/// What may be shown of a kept secret.
#[derive(Clone, Debug, PartialEq, Eq, Queryable)]
pub struct SecretEntry {
    /// Its name.
    pub name: String,
    /// When it was last set, in milliseconds since 1970.
    pub set_ms: i64,
    /// To whom it may be shown, one on each line: hosts, `source:NAME`, or `anywhere`.
    pub shown_to: String,
}

impl Records {
    /// Keeps a secret, replacing one of that name. `shown_to` says to whom it may be shown, one on each line; without, that stays as it is.
    pub fn set_secret(&self, name: &str, value: &Secret, shown_to: Option<&str>, now_ms: i64) -> Result<(), RecordsError> {
        let nonce = nonce()?;
        let payload = Payload { msg: value.0.as_bytes(), aad: name.as_bytes() };
        let sealed = self.cipher(PURPOSE).encrypt(Nonce::from_slice(&nonce), payload).map_err(|_| RecordsError::Key("cannot seal".into()))?;
        let row = (secret::name.eq(name), secret::nonce.eq(nonce.to_vec()), secret::sealed.eq(sealed), secret::set_ms.eq(now_ms));
        self.with(|c| {
            c.immediate_transaction(|c| {
                let before: Option<String> = secret::table.find(name).select(secret::shown_to).first(c).optional()?;
                let shown_to = shown_to.map(str::to_owned).or(before).unwrap_or_else(|| "anywhere".to_owned());
                diesel::replace_into(secret::table).values((row, secret::shown_to.eq(shown_to))).execute(c)?;
                Ok(())
            })
        })
    }

    /// Opens a secret.
    pub fn secret(&self, name: &str) -> Result<Option<Secret>, RecordsError> {
        let found: Option<(Vec<u8>, Vec<u8>)> = self.with(|c| Ok(secret::table.find(name).select((secret::nonce, secret::sealed)).first(c).optional()?))?;
        let Some((nonce, sealed)) = found else { return Ok(None) };
        let wrong = || RecordsError::Key(format!("is not the one that the secret `{name}` was sealed with"));
        if nonce.len() != NONCE {
            return Err(wrong());
        }
        let opened = self.cipher(PURPOSE).decrypt(Nonce::from_slice(&nonce), Payload { msg: &sealed, aad: name.as_bytes() }).map_err(|_| wrong())?;
        String::from_utf8(opened).map(|v| Some(Secret(v))).map_err(|_| wrong())
    }

    /// The names of all secrets.
    pub fn secrets(&self) -> Result<Vec<SecretEntry>, RecordsError> {
        self.with(|c| Ok(secret::table.order(secret::name).select((secret::name, secret::set_ms, secret::shown_to)).load(c)?))
    }

    /// Forgets a secret. Says whether there was one.
    pub fn remove_secret(&self, name: &str) -> Result<bool, RecordsError> {
        self.with(|c| Ok(diesel::delete(secret::table.find(name)).execute(c)? > 0))
    }
}

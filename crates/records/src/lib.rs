//! What the service remembers besides events: revisions of the plan, people, tokens, sealed secrets, the journal. One SQLite file, through Diesel, and a key file beside it.
//!
//! All methods block for a short read or write of the file; async callers run them aside.

mod agents;
mod alerts;
mod declined;
mod draft;
mod journal;
mod key;
mod lifts;
mod paused;
mod people;
mod revisions;
mod schema;
mod sealed;
mod secrets;
mod tokens;

use std::path::Path;
use std::sync::{Mutex, MutexGuard, PoisonError};

use diesel::Connection;
use diesel::connection::SimpleConnection;
use diesel::sqlite::SqliteConnection;
use diesel_migrations::{EmbeddedMigrations, MigrationHarness, embed_migrations};

pub use agents::{AgentRecord, Authority, EnrolCode, EnrolRefusal, NewAgent};
pub use alerts::{AlertRecord, NewNotice, Notice, Silence};
pub use draft::Draft;
pub use journal::{Action, JournalCheck, JournalEntry, JournalFilter};
pub use lifts::Lift;
pub use paused::{Paused, Side};
pub use people::{AccountOf, Person};
pub use revisions::Revision;
pub use secrets::{Secret, SecretEntry};
pub use tokens::{Bearer, Holder, NewToken, TokenEntry, TokenKind, random_text};

const MIGRATIONS: EmbeddedMigrations = embed_migrations!();

/// Why the records could not do what was asked.
#[derive(Debug, thiserror::Error)]
pub enum RecordsError {
    /// The file cannot be opened, read or written.
    #[error("the records cannot be read or written: {0}")]
    Storage(Box<dyn std::error::Error + Send + Sync>),
    /// The key file is missing, unreadable, open to others, or not the one the secrets were sealed with.
    #[error("the key file {0}")]
    Key(String),
    /// Something of that name is there already.
    #[error("there is a {what} called `{name}` already")]
    Taken {
        /// What it is.
        what: &'static str,
        /// Its name.
        name: String,
    },
    /// Someone else applied a plan meanwhile: the newest revision is another than expected.
    #[error("the newest revision is {newest}, not {expected}")]
    Conflict {
        /// The newest revision; 0 if there is none.
        newest: i64,
        /// The revision the caller had seen.
        expected: i64,
    },
}

impl From<diesel::result::Error> for RecordsError {
    fn from(e: diesel::result::Error) -> Self {
        RecordsError::Storage(e.into())
    }
}

/// The open records.
pub struct Records {
    connection: Mutex<SqliteConnection>,
    key: key::Key,
}

impl Records {
    /// Opens `records.db` and `records.key` in `folder`, making both on first use.
    pub fn open(folder: &Path) -> Result<Records, RecordsError> {
        let path = folder.join("records.db");
        // A file that is made and not yet written to holds nothing.
        let known = std::fs::metadata(&path).is_ok_and(|about| about.len() > 0);
        let path = path.to_str().ok_or_else(|| RecordsError::Storage("the path is not UTF-8".into()))?;
        let key = key::Key::open(&folder.join("records.key"), known)?;
        let mut connection = SqliteConnection::establish(path).map_err(|e| RecordsError::Storage(e.into()))?;
        connection.batch_execute("PRAGMA busy_timeout = 5000; PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL;")?;
        connection.run_pending_migrations(MIGRATIONS).map_err(RecordsError::Storage)?;
        Ok(Records { connection: Mutex::new(connection), key })
    }

    fn connection(&self) -> MutexGuard<'_, SqliteConnection> {
        // Each use is one statement or one transaction, so a panicking holder leaves nothing half done.
        self.connection.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn with<T>(&self, ask: impl FnOnce(&mut SqliteConnection) -> Result<T, RecordsError>) -> Result<T, RecordsError> {
        ask(&mut self.connection())
    }

    /// A name for this node among others, drawn from the key file: 16 hexadecimal digits.
    #[must_use]
    pub fn node(&self) -> String {
        self.key.derive("name of the node").iter().take(8).map(|b| format!("{b:02x}")).collect()
    }

    /// The key under which redacted values are hashed, drawn from the key file.
    #[must_use]
    pub fn hash_key(&self) -> [u8; 32] {
        self.key.derive("redact as hash")
    }
}

#[cfg(test)]
mod tests;

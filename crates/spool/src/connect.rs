//! Connections, and how SQLite is set up.

use std::path::Path;

use diesel::Connection;
use diesel::connection::SimpleConnection;
use diesel::sqlite::SqliteConnection;
use diesel_migrations::{EmbeddedMigrations, MigrationHarness, embed_migrations};

use crate::SpoolError;

const MIGRATIONS: EmbeddedMigrations = embed_migrations!();

fn open(path: &Path) -> Result<SqliteConnection, SpoolError> {
    let path = path.to_str().ok_or_else(|| SpoolError::storage("the spool's path is not UTF-8"))?;
    let mut connection = SqliteConnection::establish(path).map_err(SpoolError::storage)?;
    connection.batch_execute("PRAGMA busy_timeout = 5000;")?;
    Ok(connection)
}

/// The one connection that writes. A commit returns when it is on the disk.
pub(crate) fn writer(path: &Path) -> Result<SqliteConnection, SpoolError> {
    let mut connection = open(path)?;
    // Large pages suit large blobs; freed pages are given back bit by bit. Both only take on a new file.
    connection.batch_execute(
        "PRAGMA page_size = 32768; PRAGMA auto_vacuum = INCREMENTAL; PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL;
         PRAGMA foreign_keys = OFF; PRAGMA wal_autocheckpoint = 512; PRAGMA journal_size_limit = 67108864; PRAGMA cache_size = -8192;",
    )?;
    connection.run_pending_migrations(MIGRATIONS).map_err(SpoolError::storage)?;
    Ok(connection)
}

/// A connection that only reads.
pub(crate) fn reader(path: &Path) -> Result<SqliteConnection, SpoolError> {
    let mut connection = open(path)?;
    connection.batch_execute("PRAGMA query_only = ON; PRAGMA cache_size = -4096;")?;
    Ok(connection)
}

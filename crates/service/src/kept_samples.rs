//! Samples over a restart: kept in one file, sealed as secrets are.

use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use rockrose_records::Records;
use serde::{Deserialize, Serialize};

use crate::App;
use crate::samples::Samples;

/// What they are sealed for.
const PURPOSE: &str = "samples";
/// They are written so often, and when the service stops.
const EVERY: Duration = Duration::from_secs(600);

/// What stands before each event.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct KeptEvent<'a> {
    pub(crate) source: std::borrow::Cow<'a, str>,
    pub(crate) at_ms: i64,
    /// For how many it stands; 0 of one of the stretch.
    pub(crate) times: u64,
}

/// The file in the data folder.
pub(crate) fn file(data: &Path) -> PathBuf {
    data.join("samples.sealed")
}

/// Takes back what was kept. What cannot be opened or read is forgotten.
pub(crate) fn take_back(path: &Path, records: &Records, samples: &Samples, now_ms: i64) {
    let Ok(sealed) = std::fs::read(path) else { return };
    match records.unseal(PURPOSE, &sealed) {
        Some(kept) => samples.take_back(&kept, now_ms),
        None => tracing::warn!("the samples of before cannot be opened and are forgotten"),
    }
}

/// Writes them anew; if there are none, the file is removed.
pub(crate) async fn keep(app: &Arc<App>) {
    let app = Arc::clone(app);
    let kept = tokio::task::spawn_blocking(move || {
        let path = &app.samples_file;
        let bytes = app.samples.kept();
        if bytes.is_empty() {
            return match std::fs::remove_file(path) {
                Err(e) if e.kind() != std::io::ErrorKind::NotFound => Err(e),
                _ => Ok(()),
            };
        }
        let sealed = app.records.seal(PURPOSE, &bytes).map_err(std::io::Error::other)?;
        let new = path.with_extension("new");
        let mut open = std::fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&new)?;
        open.write_all(&sealed)?;
        open.sync_all()?;
        std::fs::rename(&new, path)
    });
    match kept.await {
        Ok(Ok(())) => {}
        Ok(Err(e)) => tracing::warn!(error = %e, "the samples could not be kept"),
        Err(_) => tracing::error!("the samples could not be kept"),
    }
}

/// Keeps them for as long as the service runs.
pub(crate) async fn run(app: Arc<App>) {
    let mut tick = tokio::time::interval(EVERY);
    tick.tick().await;
    loop {
        tick.tick().await;
        keep(&app).await;
    }
}

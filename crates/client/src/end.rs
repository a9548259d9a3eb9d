//! When a command is to end.

use tokio::signal::unix::{Signal, SignalKind, signal};

/// The wish to end, by interrupt or termination. Listened for from the moment this is made, so that an early signal is not missed.
pub struct End {
    interrupt: Signal,
    terminate: Signal,
}

impl End {
    /// Listens from now on.
    ///
    /// # Errors
    /// If the system lets nobody listen for signals.
    pub fn listen() -> anyhow::Result<End> {
        Ok(End { interrupt: signal(SignalKind::interrupt())?, terminate: signal(SignalKind::terminate())? })
    }

    /// Resolves when the process is asked to end, or was.
    pub async fn asked(&mut self) {
        tokio::select! {
            _ = self.interrupt.recv() => {}
            _ = self.terminate.recv() => {}
        }
    }
}

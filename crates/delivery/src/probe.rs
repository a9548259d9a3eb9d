//! A look at a destination, one step after the other, up to the first that fails.

use std::time::{Duration, Instant};

use serde::Serialize;

/// How long one step may take.
const PATIENCE: Duration = Duration::from_secs(10);

/// One step of a look.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct ProbeStep {
    /// What was tried: `resolve`, `connect`, `secure`, `accept` or `open`.
    pub step: &'static str,
    /// Whether it went well.
    pub good: bool,
    /// How long it took, in milliseconds.
    pub ms: f64,
    /// What was found, or what is wrong, in plain words.
    pub says: String,
}

/// A look under way.
pub struct Probe {
    pub(crate) steps: Vec<ProbeStep>,
}

impl Probe {
    /// Tries one step; what it finds goes on to the next.
    pub(crate) async fn step<T, E: std::fmt::Display>(&mut self, step: &'static str, work: impl Future<Output = Result<(T, String), E>>) -> Option<T> {
        let begun = Instant::now();
        let done = tokio::time::timeout(PATIENCE, work).await;
        let ms = begun.elapsed().as_secs_f64() * 1_000.0;
        let (found, good, says) = match done {
            Ok(Ok((found, says))) => (Some(found), true, says),
            Ok(Err(why)) => (None, false, crate::without_words(&why.to_string()).to_owned()),
            Err(_) => (None, false, format!("no answer within {} seconds", PATIENCE.as_secs())),
        };
        self.steps.push(ProbeStep { step, good, ms, says });
        found
    }
}

//! Lets events go; they are counted as delivered.

use futures_util::future::{BoxFuture, ready};

use crate::kind::{Failure, Kind, Limits, OpenError, Outgoing, Outlet, Taken};
use crate::probe::Probe;

/// Most bytes that are let go at once.
const MAX_BATCH: usize = 8 << 20;

/// A destination that keeps nothing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Discard;

impl Kind for Discard {
    fn limits(&self) -> Limits<'_> {
        Limits { max_batch: MAX_BATCH, parallel: false, gathers: None, file: None }
    }

    fn open(&self, _reached: Option<u64>) -> Result<Box<dyn Outlet>, OpenError> {
        Ok(Box::new(Discard))
    }

    fn probe<'a>(&'a self, probe: &'a mut Probe) -> BoxFuture<'a, ()> {
        Box::pin(async move {
            probe.step("accept", async { Ok::<_, OpenError>(((), "it accepts everything and stores nothing".to_owned())) }).await;
        })
    }
}

impl Outlet for Discard {
    fn send<'a>(&'a mut self, _events: Outgoing<'a>) -> BoxFuture<'a, Result<Taken, Failure>> {
        Box::pin(ready(Ok(Taken::all())))
    }
}

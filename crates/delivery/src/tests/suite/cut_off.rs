//! A destination that is killed between sending and settling.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use futures_util::future::BoxFuture;

use crate::kind::{Failure, Kind, Limits, OpenError, Outgoing, Outlet, Taken, Target};
use crate::probe::Probe;

/// A kind whose outlet sends what it is given and then never comes back: what was sent is not settled.
pub(super) struct CutOff {
    pub(super) inner: Target,
    /// Bodies that were sent.
    pub(super) sent: Arc<AtomicUsize>,
}

impl PartialEq for CutOff {
    fn eq(&self, other: &CutOff) -> bool {
        self.inner == other.inner
    }
}

impl Kind for CutOff {
    fn limits(&self) -> Limits<'_> {
        self.inner.limits()
    }

    fn open(&self, reached: Option<u64>) -> Result<Box<dyn Outlet>, OpenError> {
        Ok(Box::new(CutOffOutlet { inner: self.inner.open(reached)?, sent: Arc::clone(&self.sent) }))
    }

    fn probe<'a>(&'a self, probe: &'a mut Probe) -> BoxFuture<'a, ()> {
        self.inner.probe(probe)
    }
}

struct CutOffOutlet {
    inner: Box<dyn Outlet>,
    sent: Arc<AtomicUsize>,
}

impl Outlet for CutOffOutlet {
    fn prepare(&mut self) -> BoxFuture<'_, Result<Option<u64>, Failure>> {
        self.inner.prepare()
    }

    fn send<'a>(&'a mut self, events: Outgoing<'a>) -> BoxFuture<'a, Result<Taken, Failure>> {
        Box::pin(async move {
            self.inner.send(events).await?;
            self.sent.fetch_add(1, Ordering::SeqCst);
            std::future::pending().await
        })
    }
}

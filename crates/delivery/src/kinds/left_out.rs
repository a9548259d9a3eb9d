//! Stands for a kind of destination that this program was built without: it cannot be opened, and says so.

use futures_util::future::BoxFuture;

use crate::kind::{Kind, Limits, OpenError, Outlet};
use crate::probe::Probe;

/// A destination of the kind that is named.
#[derive(Clone, PartialEq, Eq)]
pub(crate) struct LeftOut(pub(crate) &'static str);

impl Kind for LeftOut {
    fn limits(&self) -> Limits<'_> {
        Limits { max_batch: 1, parallel: false, gathers: None, file: None }
    }

    fn open(&self, _reached: Option<u64>) -> Result<Box<dyn Outlet>, OpenError> {
        Err(OpenError::LeftOut(self.0))
    }

    fn probe<'a>(&'a self, _probe: &'a mut Probe) -> BoxFuture<'a, ()> {
        Box::pin(async {})
    }
}

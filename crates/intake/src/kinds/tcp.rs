//! The source of lines over TCP or TLS, JSON or text.

use rockrose_plan::TcpSource;

use super::{Endpoint, Kind, PasteLine, Start};
use crate::messages::Framing;
use crate::probe::Probe;
use crate::{Sink, stream};

impl Kind for TcpSource {
    async fn run<S: Sink>(self, start: Start<S>) {
        stream::run(start, |_| Framing::Lines).await;
    }

    async fn probe(&self, probe: &mut Probe<'_>) {
        probe.connect().await;
    }

    fn paste_lines(&self, at: &Endpoint) -> Vec<PasteLine> {
        let Endpoint { host, port, .. } = at;
        vec![if at.over_tls {
            PasteLine::new("openssl", format!("echo hello | openssl s_client -quiet -connect {host}:{port}"))
        } else {
            PasteLine::new("bash", format!("echo hello > /dev/tcp/{host}/{port}"))
        }]
    }
}

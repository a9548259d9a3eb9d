//! Looks at a source as a sender would, without sending an event.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::sync::Arc;
use std::time::{Duration, Instant};

use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;
use tokio_rustls::rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use tokio_rustls::rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use tokio_rustls::rustls::{ClientConfig, DigitallySignedStruct, Error, SignatureScheme};

use crate::listener::Duplex;
use crate::{SourceMonitor, SourceSettings};

/// How long one step may take.
const STEP_TIME: Duration = Duration::from_secs(5);

/// One step of a look.
#[derive(Clone, Debug, PartialEq)]
pub struct ProbeStep {
    /// Its name.
    pub step: &'static str,
    /// Whether it went well.
    pub good: bool,
    /// How long it took, in milliseconds.
    pub ms: f64,
    /// What was found, or what is wrong.
    pub says: String,
}

/// A look at a source, step by step.
pub(crate) struct Probe<'a> {
    settings: &'a SourceSettings,
    /// What the source has heard.
    pub(crate) monitor: &'a SourceMonitor,
    /// The steps so far.
    pub(crate) steps: Vec<ProbeStep>,
}

/// A connection that was made to a source.
pub(crate) type Stream = Box<dyn Duplex + Send + Unpin>;

impl<'a> Probe<'a> {
    pub(crate) fn new(settings: &'a SourceSettings, monitor: &'a SourceMonitor) -> Probe<'a> {
        Probe { settings, monitor, steps: Vec::new() }
    }

    /// Tells of a step that took no time.
    pub(crate) fn say(&mut self, step: &'static str, good: bool, says: String) {
        self.steps.push(ProbeStep { step, good, ms: 0.0, says });
    }

    /// Where it can be reached from here: where it listens everywhere, it listens here.
    fn address(&self) -> Option<SocketAddr> {
        let listen = self.settings.listen?;
        let ip = match listen.ip() {
            ip if !ip.is_unspecified() => ip,
            IpAddr::V4(_) => Ipv4Addr::LOCALHOST.into(),
            IpAddr::V6(_) => Ipv6Addr::LOCALHOST.into(),
        };
        Some(SocketAddr::new(ip, listen.port()))
    }

    /// Whether datagrams are received. Nobody answers one: it is only known that the port is taken.
    pub(crate) fn datagrams(&mut self) {
        let (Some(address), Some(listen)) = (self.address(), self.settings.listen) else { return };
        let taken = std::net::UdpSocket::bind(listen).is_err();
        let says = if taken { format!("datagrams are received at {address}") } else { "nothing listens there".to_owned() };
        self.say("connect", taken, says);
    }

    /// Goes as far as a connection gets: `connect`, and `secure` where it is to be safe. `None`: it ends there, well or not.
    pub(crate) async fn connect(&mut self) -> Option<Stream> {
        let address = self.address()?;
        let stream = self
            .step("connect", async {
                let stream = TcpStream::connect(address).await?;
                std::io::Result::Ok((stream, format!("it listens at {address}")))
            })
            .await?;
        let Some(files) = &self.settings.certificates else { return Some(Box::new(stream)) };
        if files.client_ca.is_some() {
            self.say("secure", true, "senders must present a certificate, so this check ends here".to_owned());
            return None;
        }
        let safe = self.step("secure", async {
            let name = ServerName::from(address.ip());
            let stream = TlsConnector::from(Arc::new(trusting())).connect(name, stream).await?;
            let version = stream.get_ref().1.protocol_version().map_or_else(String::new, |v| format!(" ({v:?})"));
            std::io::Result::Ok((stream, format!("connections are made over TLS{version}")))
        });
        Some(Box::new(safe.await?))
    }

    /// Connects, sends what is no event, and sees whether it is answered with the status `expected`.
    pub(crate) async fn ask(&mut self, method: &str, path: &str, body: &str, expected: &str) {
        let Some(mut stream) = self.connect().await else { return };
        let key = self.settings.key.as_ref().map_or_else(String::new, |key| format!("authorization: Bearer {}\r\n", key.shown()));
        let request = format!(
            "{method} {path} HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\ncontent-type: application/json\r\n{key}content-length: {}\r\n\r\n{body}",
            body.len()
        );
        let asked = async {
            stream.write_all(request.as_bytes()).await?;
            let mut answer = Vec::new();
            stream.read_to_end(&mut answer).await?;
            let answer = String::from_utf8_lossy(&answer).into_owned();
            match answer.split(' ').nth(1).unwrap_or_default() {
                status if status == expected => Ok(((), format!("it answers at `{path}`"))),
                "" => Err(std::io::Error::other("it does not answer as it should")),
                status => Err(std::io::Error::other(format!("it answers {status}"))),
            }
        };
        self.step("accept", asked).await;
    }

    async fn step<T, E: std::fmt::Display>(&mut self, name: &'static str, work: impl Future<Output = Result<(T, String), E>>) -> Option<T> {
        let begun = Instant::now();
        let done = tokio::time::timeout(STEP_TIME, work).await;
        let ms = begun.elapsed().as_secs_f64() * 1_000.0;
        let (found, good, says) = match done {
            Ok(Ok((found, says))) => (Some(found), true, says),
            Ok(Err(why)) => (None, false, why.to_string()),
            Err(_) => (None, false, format!("no answer within {} seconds", STEP_TIME.as_secs())),
        };
        self.steps.push(ProbeStep { step: name, good, ms, says });
        found
    }
}

/// Trusts whatever certificate is shown: it is looked whether one is, not whose it is.
fn trusting() -> ClientConfig {
    #[derive(Debug)]
    struct Any;
    impl ServerCertVerifier for Any {
        fn verify_server_cert(
            &self,
            _: &CertificateDer<'_>,
            _: &[CertificateDer<'_>],
            _: &ServerName<'_>,
            _: &[u8],
            _: UnixTime,
        ) -> Result<ServerCertVerified, Error> {
            Ok(ServerCertVerified::assertion())
        }
        fn verify_tls12_signature(&self, _: &[u8], _: &CertificateDer<'_>, _: &DigitallySignedStruct) -> Result<HandshakeSignatureValid, Error> {
            Ok(HandshakeSignatureValid::assertion())
        }
        fn verify_tls13_signature(&self, _: &[u8], _: &CertificateDer<'_>, _: &DigitallySignedStruct) -> Result<HandshakeSignatureValid, Error> {
            Ok(HandshakeSignatureValid::assertion())
        }
        fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
            use SignatureScheme::{
                ECDSA_NISTP256_SHA256, ECDSA_NISTP384_SHA384, ED25519, RSA_PKCS1_SHA256, RSA_PKCS1_SHA384, RSA_PKCS1_SHA512, RSA_PSS_SHA256, RSA_PSS_SHA384,
                RSA_PSS_SHA512,
            };
            vec![
                ECDSA_NISTP256_SHA256,
                ECDSA_NISTP384_SHA384,
                ED25519,
                RSA_PSS_SHA256,
                RSA_PSS_SHA384,
                RSA_PSS_SHA512,
                RSA_PKCS1_SHA256,
                RSA_PKCS1_SHA384,
                RSA_PKCS1_SHA512,
            ]
        }
    }
    ClientConfig::builder().dangerous().with_custom_certificate_verifier(Arc::new(Any)).with_no_client_auth()
}

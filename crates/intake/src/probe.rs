//! Looks at a source as a sender would, without sending an event.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::sync::Arc;
use std::time::{Duration, Instant};

use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;
use tokio_rustls::rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use tokio_rustls::rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use tokio_rustls::rustls::{ClientConfig, DigitallySignedStruct, Error, SignatureScheme};

use crate::{Protocol, SourceSettings};

/// How long one step may take.
const STEP_TIME: Duration = Duration::from_secs(5);

/// One step of a look.
#[derive(Clone, Debug, PartialEq)]
pub struct Looked {
    /// Its name.
    pub step: &'static str,
    /// Whether it went well.
    pub good: bool,
    /// How long it took, in milliseconds.
    pub ms: f64,
    /// What was found, or what is wrong.
    pub says: String,
}

/// Goes as far as a sender gets, up to the first step that fails: `connect`, `secure`, `accept`.
pub async fn look(settings: &SourceSettings) -> Vec<Looked> {
    let mut steps = Vec::new();
    // Where it listens everywhere, it listens here.
    let ip = match settings.listen.ip() {
        ip if !ip.is_unspecified() => ip,
        IpAddr::V4(_) => Ipv4Addr::LOCALHOST.into(),
        IpAddr::V6(_) => Ipv6Addr::LOCALHOST.into(),
    };
    let address = SocketAddr::new(ip, settings.listen.port());
    if let Protocol::Syslog { datagrams: true, .. } = settings.protocol {
        // Nobody answers a datagram: it is only known that the port is taken.
        let taken = std::net::UdpSocket::bind(settings.listen).is_err();
        let says = if taken { format!("datagrams are received at {address}") } else { "nobody listens there".to_owned() };
        return vec![Looked { step: "connect", good: taken, ms: 0.0, says }];
    }
    let connected = step(&mut steps, "connect", async {
        let stream = TcpStream::connect(address).await.map_err(|e| e.to_string())?;
        Ok((stream, format!("it listens at {address}")))
    });
    let Some(stream) = connected.await else { return steps };
    if settings.certificates.as_ref().is_some_and(|files| files.client_ca.is_some()) {
        let says = "senders must show a certificate, so this look ends here".to_owned();
        steps.push(Looked { step: "secure", good: true, ms: 0.0, says });
    } else if settings.certificates.is_some() {
        let safe = step(&mut steps, "secure", async {
            let name = ServerName::from(ip);
            let stream = TlsConnector::from(Arc::new(trusting())).connect(name, stream).await.map_err(|e| e.to_string())?;
            let version = stream.get_ref().1.protocol_version().map_or_else(String::new, |v| format!(" ({v:?})"));
            Ok((stream, format!("connections are made over TLS{version}")))
        });
        let Some(stream) = safe.await else { return steps };
        accept(&mut steps, settings, stream).await;
    } else {
        accept(&mut steps, settings, stream).await;
    }
    steps
}

async fn step<T>(steps: &mut Vec<Looked>, name: &'static str, work: impl Future<Output = Result<(T, String), String>>) -> Option<T> {
    let begun = Instant::now();
    let done = tokio::time::timeout(STEP_TIME, work).await.unwrap_or_else(|_| Err("no answer within 5 seconds".to_owned()));
    let ms = begun.elapsed().as_secs_f64() * 1_000.0;
    let (found, good, says) = match done {
        Ok((found, says)) => (Some(found), true, says),
        Err(says) => (None, false, says),
    };
    steps.push(Looked { step: name, good, ms, says });
    found
}

/// Sends what is no event, and sees that it is understood.
async fn accept(steps: &mut Vec<Looked>, settings: &SourceSettings, mut stream: impl AsyncRead + AsyncWrite + Unpin) {
    // Over HTTP any body would be an event, so it is only asked for another method; a request of OTLP can be empty.
    let (method, path, body, expected) = match settings.protocol {
        Protocol::Http => ("GET", "/in", "", "405"),
        Protocol::Otlp => ("POST", "/v1/logs", "{\"resourceLogs\":[]}", "200"),
        Protocol::Syslog { .. } | Protocol::Lines => return,
    };
    let key = settings.key.as_ref().map_or_else(String::new, |key| format!("authorization: Bearer {}\r\n", key.shown()));
    let request = format!(
        "{method} {path} HTTP/1.1\r\nhost: rockrose\r\nconnection: close\r\ncontent-type: application/json\r\n{key}content-length: {}\r\n\r\n{body}",
        body.len()
    );
    let asked = async {
        stream.write_all(request.as_bytes()).await.map_err(|e| e.to_string())?;
        let mut answer = Vec::new();
        stream.read_to_end(&mut answer).await.map_err(|e| e.to_string())?;
        let answer = String::from_utf8_lossy(&answer).into_owned();
        let status = answer.split(' ').nth(1).unwrap_or_default().to_owned();
        if status == expected {
            Ok(((), format!("it answers at `{path}`")))
        } else {
            Err(if status.is_empty() { "it does not answer as it should".to_owned() } else { format!("it answers {status}") })
        }
    };
    step(steps, "accept", asked).await;
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

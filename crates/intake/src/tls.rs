//! The certificate that a source shows, and whose it asks for.

use std::path::Path;
use std::sync::Arc;

use tokio_rustls::TlsAcceptor;
use tokio_rustls::rustls::pki_types::pem::PemObject;
use tokio_rustls::rustls::pki_types::{CertificateDer, PrivateKeyDer};
use tokio_rustls::rustls::server::WebPkiClientVerifier;
use tokio_rustls::rustls::{RootCertStore, ServerConfig};

use crate::{Certificates, Protocol};

fn certificates(path: &Path) -> Result<Vec<CertificateDer<'static>>, String> {
    let say = |e: &dyn std::fmt::Display| format!("{}: {e}", path.display());
    let found: Vec<_> = CertificateDer::pem_file_iter(path).and_then(Iterator::collect::<Result<_, _>>).map_err(|e| say(&e))?;
    if found.is_empty() { Err(say(&"there is no certificate in it")) } else { Ok(found) }
}

/// What makes connections safe. Says in words which file is wrong.
pub(crate) fn acceptor(files: &Certificates, protocol: &Protocol) -> Result<TlsAcceptor, String> {
    let key = PrivateKeyDer::from_pem_file(&files.key).map_err(|e| format!("{}: {e}", files.key.display()))?;
    let builder = match &files.client_ca {
        None => ServerConfig::builder().with_no_client_auth(),
        Some(path) => {
            let mut roots = RootCertStore::empty();
            for certificate in certificates(path)? {
                roots.add(certificate).map_err(|e| format!("{}: {e}", path.display()))?;
            }
            let verifier = WebPkiClientVerifier::builder(Arc::new(roots)).build().map_err(|e| format!("{}: {e}", path.display()))?;
            ServerConfig::builder().with_client_cert_verifier(verifier)
        }
    };
    let mut config = builder.with_single_cert(certificates(&files.certificate)?, key).map_err(|e| format!("{}: {e}", files.certificate.display()))?;
    if matches!(protocol, Protocol::Http | Protocol::Otlp) {
        config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
    }
    Ok(TlsAcceptor::from(Arc::new(config)))
}

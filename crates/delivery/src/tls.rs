//! The other end's certificate checked, and one's own shown.

use std::sync::Arc;

use rockrose_plan::TlsFiles;
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;
use tokio_rustls::rustls::pki_types::pem::PemObject;
use tokio_rustls::rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName};
use tokio_rustls::rustls::{ClientConfig, RootCertStore};

use crate::kind::TlsError;

fn wrong(path: &str, source: impl Into<Box<dyn std::error::Error + Send + Sync>>) -> TlsError {
    TlsError::File { path: path.to_owned(), source: source.into() }
}

/// What a connection is made safe with: the system's certificates and those in files. Says in words which file is wrong.
pub(crate) fn config(files: &TlsFiles) -> Result<ClientConfig, TlsError> {
    let certificates = |path: &str| -> Result<Vec<CertificateDer<'static>>, TlsError> {
        let found = CertificateDer::pem_file_iter(path).and_then(Iterator::collect::<Result<Vec<_>, _>>).map_err(|e| wrong(path, e))?;
        if found.is_empty() { Err(wrong(path, "there is no certificate in it")) } else { Ok(found) }
    };
    let mut roots = RootCertStore::empty();
    if !files.ca_only {
        roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
    }
    if let Some(path) = &files.ca {
        for certificate in certificates(path)? {
            roots.add(certificate).map_err(|e| wrong(path, e))?;
        }
    }
    let config = ClientConfig::builder().with_root_certificates(roots);
    match &files.client {
        None => Ok(config.with_no_client_auth()),
        Some((certificate, key)) => {
            let private = PrivateKeyDer::from_pem_file(key).map_err(|e| wrong(key, e))?;
            config.with_client_auth_cert(certificates(certificate)?, private).map_err(|e| wrong(certificate, e))
        }
    }
}

/// Makes a connection safe.
pub(crate) async fn secure(files: &TlsFiles, host: &str, stream: TcpStream) -> Result<TlsStream<TcpStream>, TlsError> {
    secure_for(files, host, stream, &[]).await
}

/// Makes a connection safe, for one of these protocols.
pub(crate) async fn secure_for(files: &TlsFiles, host: &str, stream: TcpStream, protocols: &[&[u8]]) -> Result<TlsStream<TcpStream>, TlsError> {
    let name = ServerName::try_from(host.to_owned()).map_err(|_| TlsError::Name(host.to_owned()))?;
    let mut config = config(files)?;
    config.alpn_protocols = protocols.iter().map(|p| p.to_vec()).collect();
    TlsConnector::from(Arc::new(config)).connect(name, stream).await.map_err(TlsError::Handshake)
}

//! The certificate that a source shows, and whose it asks for.

use std::path::Path;
use std::sync::Arc;

use rockrose_plan::{SourceCertificates, SourceKind};
use tokio_rustls::TlsAcceptor;
use tokio_rustls::rustls::pki_types::pem::{self, PemObject};
use tokio_rustls::rustls::pki_types::{CertificateDer, PrivateKeyDer};
use tokio_rustls::rustls::server::{VerifierBuilderError, WebPkiClientVerifier};
use tokio_rustls::rustls::{self, RootCertStore, ServerConfig};

use crate::{DoorCertificates, SourceSettings, kinds};

/// What is wrong with the files of a source's certificates.
#[derive(Debug, thiserror::Error)]
pub enum CertificateError {
    /// A file cannot be read, or holds something else.
    #[error("{path}: {source}")]
    File {
        /// The path of the file.
        path: String,
        /// What is wrong with it.
        source: pem::Error,
    },
    /// A file can be read, but has nothing in it that is a certificate.
    #[error("{path}: there is no certificate in it")]
    Empty {
        /// The path of the file.
        path: String,
    },
    /// A certificate cannot be used: it is damaged, or does not go with its key.
    #[error("{path}: {source}")]
    Unusable {
        /// The file that it stands in.
        path: String,
        /// What is wrong with it.
        source: rustls::Error,
    },
    /// Senders' certificates cannot be checked with these authorities.
    #[error("{path}: {source}")]
    Authorities {
        /// The file that they stand in.
        path: String,
        /// Why they cannot be used.
        source: VerifierBuilderError,
    },
}

fn certificates(path: &str) -> Result<Vec<CertificateDer<'static>>, CertificateError> {
    let found: Result<Vec<_>, _> = CertificateDer::pem_file_iter(path).and_then(Iterator::collect);
    match found {
        Ok(found) if found.is_empty() => Err(CertificateError::Empty { path: path.to_owned() }),
        Ok(found) => Ok(found),
        Err(source) => Err(CertificateError::File { path: path.to_owned(), source }),
    }
}

/// What makes connections safe that are made by browsers and clients.
///
/// # Errors
/// If the files cannot be read, or do not go together.
pub fn plain_acceptor(certificate: &Path, key: &Path) -> Result<TlsAcceptor, CertificateError> {
    let written = |path: &Path| path.display().to_string();
    let files = SourceCertificates { certificate: written(certificate), key: written(key), client_ca: None };
    acceptor(&files, &SourceKind::Http(rockrose_plan::HttpSource))
}

/// What makes the connections of a source safe, if they are to be.
pub(crate) fn of_source(settings: &SourceSettings) -> Option<Result<TlsAcceptor, CertificateError>> {
    match &settings.door {
        Some(door) => Some(door_acceptor(door, &settings.kind)),
        None => settings.certificates.as_ref().map(|files| acceptor(files, &settings.kind)),
    }
}

/// What makes the connections of agents safe: they may show a certificate, which is then one of the authority's.
fn door_acceptor(door: &DoorCertificates, kind: &SourceKind) -> Result<TlsAcceptor, CertificateError> {
    let path = || "the certificate for agents".to_owned();
    let read = |text: &str| -> Result<Vec<CertificateDer<'static>>, CertificateError> {
        CertificateDer::pem_slice_iter(text.as_bytes()).collect::<Result<_, _>>().map_err(|source| CertificateError::File { path: path(), source })
    };
    let unusable = |source| CertificateError::Unusable { path: path(), source };
    let key = PrivateKeyDer::from_pem_slice(door.key.as_bytes()).map_err(|source| CertificateError::File { path: path(), source })?;
    let authority = read(&door.authority)?;
    let mut roots = RootCertStore::empty();
    authority.iter().try_for_each(|certificate| roots.add(certificate.clone())).map_err(unusable)?;
    let verifier = WebPkiClientVerifier::builder(Arc::new(roots)).allow_unauthenticated().build();
    let builder = ServerConfig::builder().with_client_cert_verifier(verifier.map_err(|source| CertificateError::Authorities { path: path(), source })?);
    // The authority's certificate goes along: whoever enrols knows it by its SHA-256.
    let chain = read(&door.certificate)?.into_iter().chain(authority).collect();
    let mut config = builder.with_single_cert(chain, key).map_err(unusable)?;
    config.alpn_protocols = kinds::alpn(kind).iter().map(|protocol| protocol.to_vec()).collect();
    Ok(TlsAcceptor::from(Arc::new(config)))
}

/// What makes the connections of a source safe that shows a certificate in files.
fn acceptor(files: &SourceCertificates, kind: &SourceKind) -> Result<TlsAcceptor, CertificateError> {
    let unusable = |path: &str| {
        let path = path.to_owned();
        |source| CertificateError::Unusable { path, source }
    };
    let key = PrivateKeyDer::from_pem_file(&files.key).map_err(|source| CertificateError::File { path: files.key.clone(), source })?;
    let builder = match &files.client_ca {
        None => ServerConfig::builder().with_no_client_auth(),
        Some(path) => {
            let mut roots = RootCertStore::empty();
            for certificate in certificates(path)? {
                roots.add(certificate).map_err(unusable(path))?;
            }
            let verifier = WebPkiClientVerifier::builder(Arc::new(roots)).build();
            ServerConfig::builder().with_client_cert_verifier(verifier.map_err(|source| CertificateError::Authorities { path: path.clone(), source })?)
        }
    };
    let mut config = builder.with_single_cert(certificates(&files.certificate)?, key).map_err(unusable(&files.certificate))?;
    config.alpn_protocols = kinds::alpn(kind).iter().map(|protocol| protocol.to_vec()).collect();
    Ok(TlsAcceptor::from(Arc::new(config)))
}

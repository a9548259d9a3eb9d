//! Trust in one authority: by the SHA-256 of its certificate while the agent enrols, by the certificate itself afterwards.

use std::sync::{Arc, Mutex, PoisonError};

use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{CertificateError, DigitallySignedStruct, Error, RootCertStore, SignatureScheme};
use sha2::{Digest, Sha256};

/// Takes only a server whose certificate is signed by the authority with this SHA-256, which the server shows beside its own.
#[derive(Debug)]
pub(crate) struct Pinned {
    fingerprint: [u8; 32],
    provider: Arc<CryptoProvider>,
    /// The authority, once it was shown.
    found: Mutex<Option<CertificateDer<'static>>>,
}

impl Pinned {
    pub(crate) fn new(fingerprint: [u8; 32]) -> Pinned {
        let provider = CryptoProvider::get_default().cloned().unwrap_or_else(|| Arc::new(rustls::crypto::ring::default_provider()));
        Pinned { fingerprint, provider, found: Mutex::default() }
    }

    /// The authority's certificate, once it was shown.
    pub(crate) fn authority(&self) -> Option<CertificateDer<'static>> {
        self.found.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

impl ServerCertVerifier for Pinned {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        server_name: &ServerName<'_>,
        ocsp: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        let is_it = |certificate: &&CertificateDer<'_>| <[u8; 32]>::from(Sha256::digest(certificate)) == self.fingerprint;
        let authority = intermediates.iter().find(is_it).ok_or(Error::InvalidCertificate(CertificateError::UnknownIssuer))?.clone().into_owned();
        let mut roots = RootCertStore::empty();
        roots.add(authority.clone())?;
        let verifier = WebPkiServerVerifier::builder_with_provider(Arc::new(roots), Arc::clone(&self.provider)).build();
        let verifier = verifier.map_err(|e| Error::General(e.to_string()))?;
        let verified = verifier.verify_server_cert(end_entity, intermediates, server_name, ocsp, now)?;
        *self.found.lock().unwrap_or_else(PoisonError::into_inner) = Some(authority);
        Ok(verified)
    }

    fn verify_tls12_signature(&self, message: &[u8], cert: &CertificateDer<'_>, dss: &DigitallySignedStruct) -> Result<HandshakeSignatureValid, Error> {
        verify_tls12_signature(message, cert, dss, &self.provider.signature_verification_algorithms)
    }

    fn verify_tls13_signature(&self, message: &[u8], cert: &CertificateDer<'_>, dss: &DigitallySignedStruct) -> Result<HandshakeSignatureValid, Error> {
        verify_tls13_signature(message, cert, dss, &self.provider.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}

//! An authority of one's own, a server that has a certificate of it and asks for one, and a client's.

use std::path::Path;
use std::sync::Arc;

use rcgen::{BasicConstraints, CertificateParams, CertifiedIssuer, ExtendedKeyUsagePurpose, IsCa, KeyPair};
use rockrose_plan::TlsFiles;
use tokio_rustls::TlsAcceptor;
use tokio_rustls::rustls::pki_types::pem::PemObject;
use tokio_rustls::rustls::pki_types::{CertificateDer, PrivateKeyDer};
use tokio_rustls::rustls::server::WebPkiClientVerifier;
use tokio_rustls::rustls::{RootCertStore, ServerConfig};

pub(super) struct Made {
    pub(super) acceptor: TlsAcceptor,
    /// Trusts the authority, and shows the client's certificate.
    pub(super) files: TlsFiles,
}

/// Makes them in `folder`; the server's certificate is good until `until` (year, month, day).
pub(super) fn make(folder: &Path, until: (i32, u8, u8)) -> Made {
    let mut params = CertificateParams::new(Vec::new()).unwrap();
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    let authority = CertifiedIssuer::self_signed(params, KeyPair::generate().unwrap()).unwrap();
    let signed = |name: &str, purpose, until: (i32, u8, u8)| {
        let key = KeyPair::generate().unwrap();
        let mut params = CertificateParams::new(vec![name.to_owned()]).unwrap();
        params.extended_key_usages = vec![purpose];
        params.not_before = rcgen::date_time_ymd(2020, 1, 1);
        params.not_after = rcgen::date_time_ymd(until.0, until.1, until.2);
        (params.signed_by(&key, &authority).unwrap().pem(), key.serialize_pem())
    };
    let (certificate, key) = signed("localhost", ExtendedKeyUsagePurpose::ServerAuth, until);
    let mut trusted = RootCertStore::empty();
    trusted.add(CertificateDer::from_pem_slice(authority.pem().as_bytes()).unwrap()).unwrap();
    let verifier = WebPkiClientVerifier::builder(Arc::new(trusted)).build().unwrap();
    let chain = vec![CertificateDer::from_pem_slice(certificate.as_bytes()).unwrap()];
    let server =
        ServerConfig::builder().with_client_cert_verifier(verifier).with_single_cert(chain, PrivateKeyDer::from_pem_slice(key.as_bytes()).unwrap()).unwrap();
    let write = |name: &str, text: &str| {
        let path = folder.join(name);
        std::fs::write(&path, text).unwrap();
        path.to_str().unwrap().to_owned()
    };
    let (shown, its_key) = signed("quay", ExtendedKeyUsagePurpose::ClientAuth, (2090, 1, 1));
    let client = (write("client.pem", &shown), write("client.key", &its_key));
    Made {
        acceptor: TlsAcceptor::from(Arc::new(server)),
        files: TlsFiles { ca: Some(write("ca.pem", &authority.pem())), client: Some(client), ..TlsFiles::default() },
    }
}

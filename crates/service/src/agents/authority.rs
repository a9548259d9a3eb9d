//! The authority that signs the certificates of agents, and of the sources that they come to.
//!
//! It is the service's own: agents know it since they enrolled, by its SHA-256, and trust nobody else. Its certificates and those of sources do not end, so that a host whose clock is off
//! can still say so. Those of agents end by this service's clock.

use base64::Engine;
use base64::prelude::BASE64_URL_SAFE_NO_PAD;
use rcgen::{
    BasicConstraints, CertificateParams, CertificateSigningRequestParams, DnType, ExtendedKeyUsagePurpose, IsCa, Issuer, KeyPair, KeyUsagePurpose,
    PublicKeyData, date_time_ymd,
};
use rockrose_intake::DoorCertificates;
use rockrose_records::Authority;
use sha2::{Digest, Sha256};

/// For how many days an agent's certificate is good.
const AGENT_DAYS: i64 = 365;
/// The names by which this machine reaches itself.
const HERE: [&str; 3] = ["localhost", "127.0.0.1", "::1"];

/// What cannot be signed, and why.
#[derive(Debug, thiserror::Error)]
pub(crate) enum SignError {
    #[error("the request for a certificate cannot be signed: {0}")]
    Certificate(#[from] rcgen::Error),
    #[error("the request for a certificate is not text in PEM")]
    NotText,
}

/// A certificate for an agent.
pub(crate) struct Signed {
    /// PEM.
    pub(crate) certificate: String,
    /// Its SHA-256.
    pub(crate) fingerprint: [u8; 32],
    /// The SHA-256 of the public key.
    pub(crate) key: [u8; 32],
}

fn named(name: &str) -> CertificateParams {
    let mut params = CertificateParams::default();
    params.distinguished_name.push(DnType::CommonName, name);
    params
}

/// A new authority.
pub(crate) fn new_authority(node: &str) -> Result<Authority, SignError> {
    let key = KeyPair::generate()?;
    let mut params = named(&format!("Rockrose {node}"));
    params.is_ca = IsCa::Ca(BasicConstraints::Constrained(0));
    params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::DigitalSignature];
    Ok(Authority { certificate: params.self_signed(&key)?.pem(), key: key.serialize_pem() })
}

fn issuer(authority: &Authority) -> Result<Issuer<'static, KeyPair>, SignError> {
    Ok(Issuer::from_ca_cert_pem(&authority.certificate, KeyPair::from_pem(&authority.key)?)?)
}

/// A new key for sources that agents come to.
pub(crate) fn new_door_key() -> Result<String, SignError> {
    Ok(KeyPair::generate()?.serialize_pem())
}

/// By what programs that fetch know the key of a source: the SHA-256 of its public key, in base64, as `curl --pinnedpubkey` has it.
pub(crate) fn key_pin(key: &str) -> Result<String, SignError> {
    Ok(base64::prelude::BASE64_STANDARD.encode(Sha256::digest(KeyPair::from_pem(key)?.subject_public_key_info())))
}

/// The certificate of a source that agents reach by these hosts, for its key.
pub(crate) fn door(authority: &Authority, key: &str, hosts: &[String]) -> Result<DoorCertificates, SignError> {
    let names: Vec<String> = HERE.iter().map(|&host| host.to_owned()).chain(hosts.iter().cloned()).collect();
    let mut params = CertificateParams::new(names)?;
    params.distinguished_name.push(DnType::CommonName, "Rockrose source for agents");
    params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
    let key = KeyPair::from_pem(key)?;
    let certificate = params.signed_by(&key, &issuer(authority)?)?.pem();
    Ok(DoorCertificates { certificate, key: key.serialize_pem(), authority: authority.certificate.clone() })
}

/// Signs the request of an agent. Of what the request says, only its public key counts.
pub(crate) fn sign(authority: &Authority, id: &str, request: &[u8], now_ms: i64) -> Result<Signed, SignError> {
    let request = std::str::from_utf8(request).map_err(|_| SignError::NotText)?;
    let CertificateSigningRequestParams { public_key, .. } = CertificateSigningRequestParams::from_pem(request)?;
    let mut params = named(id);
    params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ClientAuth];
    let ends = jiff::Timestamp::from_millisecond(now_ms + AGENT_DAYS * 86_400_000).unwrap_or(jiff::Timestamp::MAX).to_zoned(jiff::tz::TimeZone::UTC);
    params.not_after = date_time_ymd(ends.year().into(), ends.month().unsigned_abs(), ends.day().unsigned_abs());
    let key = Sha256::digest(public_key.der_bytes()).into();
    let certificate = CertificateSigningRequestParams { params, public_key }.signed_by(&issuer(authority)?)?;
    Ok(Signed { certificate: certificate.pem(), fingerprint: Sha256::digest(certificate.der()).into(), key })
}

/// By what agents know an authority before they have enrolled: the SHA-256 of its certificate, in 43 characters.
pub(crate) fn fingerprint(authority: &Authority) -> Option<String> {
    let body: String = authority.certificate.lines().filter(|line| !line.starts_with("-----")).collect();
    let der = base64::prelude::BASE64_STANDARD.decode(body).ok()?;
    Some(BASE64_URL_SAFE_NO_PAD.encode(Sha256::digest(der)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_key_of_a_request_counts() {
        let authority = new_authority("4f").unwrap();
        let key = KeyPair::generate().unwrap();
        // One that would like to be an authority itself, and a server.
        let mut wish = CertificateParams::new(vec!["logs.ferries.example".to_owned()]).unwrap();
        wish.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        wish.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
        let request = wish.serialize_request(&key).unwrap().pem().unwrap();
        let signed = sign(&authority, "00ff", request.as_bytes(), 1_800_000_000_000).unwrap();
        assert_eq!(signed.key, <[u8; 32]>::from(Sha256::digest(key.der_bytes())));
        let as_issuer = Issuer::from_ca_cert_pem(&signed.certificate, key).unwrap();
        assert!(as_issuer.key_usages().is_empty(), "it is no authority: {as_issuer:?}");
        let text = signed.certificate;
        assert!(!text.is_empty() && fingerprint(&authority).unwrap().len() == 43);
        for wrong in [&b"\xff"[..], b"", b"-----BEGIN CERTIFICATE REQUEST-----\nAAAA\n-----END CERTIFICATE REQUEST-----\n"] {
            assert!(sign(&authority, "00ff", wrong, 0).is_err());
        }
        // A request that somebody has changed is not signed by its key any more.
        let damaged = request.replacen('A', "B", 3);
        assert!(sign(&authority, "00ff", damaged.as_bytes(), 0).is_err());
    }
}

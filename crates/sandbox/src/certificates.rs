//! The sandbox's own certificates: roots, server certificates, and what the authority
//! issues.

use std::net::IpAddr;
use std::sync::Arc;

use aws_lc_rs::rand::{SecureRandom as _, SystemRandom};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use rcgen::{
    BasicConstraints, CertificateParams, CertificateSigningRequestParams, DnType, ExtendedKeyUsagePurpose, IsCa,
    KeyPair, KeyUsagePurpose, PublicKeyData as _, SanType, SerialNumber,
};
use rustls::ServerConfig;
use rustls::crypto::aws_lc_rs::default_provider;
use rustls_pki_types::{CertificateDer, PrivateKeyDer};

/// How long server certificates of the sandbox are valid, in days: whoever sets the clock forward to see a renewal still
/// reaches it.
const OWN_DAYS: i64 = 3_600;

/// Something that issues certificates: a root, or an intermediate below one.
pub(crate) struct Issuer {
    issuer: rcgen::Issuer<'static, KeyPair>,
    pem: String,
    key_id: Vec<u8>,
}

/// What the authority issued.
pub(crate) struct Issued {
    pub(crate) pem: String,
    pub(crate) der: Vec<u8>,
    /// The certified key, as a point or as PKCS#1.
    pub(crate) public_key: Vec<u8>,
    /// Its identifier (RFC 9773 §4.1).
    pub(crate) id: String,
    pub(crate) not_before_secs: i64,
    pub(crate) not_after_secs: i64,
}

/// What can be wrong with an issued certificate.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Wrong {
    /// It is for another key.
    Key,
    /// It lacks its last name.
    Names,
}

impl Issuer {
    pub(crate) fn root(name: &str) -> Result<Issuer, rcgen::Error> {
        let key = KeyPair::generate()?;
        let params = authority_params(name, BasicConstraints::Unconstrained)?;
        let pem = params.self_signed(&key)?.pem();
        let key_id = params.key_identifier(&key);
        Ok(Issuer { issuer: rcgen::Issuer::new(params, key), pem, key_id })
    }

    /// Makes an intermediate, certified by this root and, as PEM alone, by another one.
    pub(crate) fn intermediate(&self, name: &str, other: &Issuer) -> Result<(Issuer, String), rcgen::Error> {
        let key = KeyPair::generate()?;
        let params = authority_params(name, BasicConstraints::Constrained(0))?;
        let pem = params.signed_by(&key, &self.issuer)?.pem();
        let crossed = params.signed_by(&key, &other.issuer)?.pem();
        let key_id = params.key_identifier(&key);
        Ok((Issuer { issuer: rcgen::Issuer::new(params, key), pem, key_id }, crossed))
    }

    pub(crate) fn pem(&self) -> String {
        self.pem.clone()
    }

    /// Issues for a signing request; only its key and names are taken over.
    pub(crate) fn issue(
        &self,
        request: CertificateSigningRequestParams,
        lifetime_secs: i64,
        wrong: Option<Wrong>,
    ) -> Result<Issued, rcgen::Error> {
        let mut names = request.params.subject_alt_names;
        if wrong == Some(Wrong::Names) {
            names.pop();
        }
        let mut serial = random_bytes::<12>();
        // A positive number without a leading zero, so that its DER is these very bytes.
        serial[0] = serial[0] & 0x3f | 0x40;
        let mut params = CertificateParams::default();
        params.subject_alt_names = names;
        params.distinguished_name = rcgen::DistinguishedName::new();
        params.serial_number = Some(SerialNumber::from_slice(&serial));
        params.key_usages = vec![KeyUsagePurpose::DigitalSignature];
        params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
        params.use_authority_key_identifier_extension = true;
        let (not_before_secs, not_after_secs) = validity(&mut params, lifetime_secs);
        let public_key = request.public_key.der_bytes().to_vec();
        let certificate = match wrong {
            Some(Wrong::Key) => params.signed_by(&KeyPair::generate()?, &self.issuer)?,
            _ => params.signed_by(&request.public_key, &self.issuer)?,
        };
        let id = format!("{}.{}", URL_SAFE_NO_PAD.encode(&self.key_id), URL_SAFE_NO_PAD.encode(serial));
        Ok(Issued {
            pem: certificate.pem(),
            der: certificate.der().to_vec(),
            public_key,
            id,
            not_before_secs,
            not_after_secs,
        })
    }

    /// Makes a TLS configuration for a server of the sandbox itself.
    pub(crate) fn server(&self, address: IpAddr, names: &[&str]) -> Result<Arc<ServerConfig>, rcgen::Error> {
        let (certificate, key) = self.server_key(address, names)?;
        let config = ServerConfig::builder_with_provider(Arc::new(default_provider()))
            .with_safe_default_protocol_versions()
            .map(|builder| builder.with_no_client_auth())
            .and_then(|builder| builder.with_single_cert(vec![certificate], key));
        let mut config = config.map_err(|_| rcgen::Error::RemoteKeyError)?;
        config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
        Ok(Arc::new(config))
    }

    /// Makes a server certificate with its key.
    pub(crate) fn server_key(
        &self,
        address: IpAddr,
        names: &[&str],
    ) -> Result<(CertificateDer<'static>, PrivateKeyDer<'static>), rcgen::Error> {
        let key = KeyPair::generate()?;
        let mut params = CertificateParams::new(names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>())?;
        params.subject_alt_names.push(SanType::IpAddress(address));
        params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
        validity(&mut params, OWN_DAYS * 86_400);
        let certificate = params.signed_by(&key, &self.issuer)?;
        let key = PrivateKeyDer::try_from(key.serialize_der()).map_err(|_| rcgen::Error::CouldNotParseKeyPair)?;
        Ok((certificate.der().clone(), key))
    }
}

fn authority_params(name: &str, constraints: BasicConstraints) -> Result<CertificateParams, rcgen::Error> {
    let mut params = CertificateParams::new(Vec::new())?;
    params.distinguished_name = rcgen::DistinguishedName::new();
    params.distinguished_name.push(DnType::CommonName, format!("{name} {}", random_hex(3)));
    params.is_ca = IsCa::Ca(constraints);
    params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
    // Longer than anything that it issues.
    validity(&mut params, 3650 * 86_400);
    Ok(params)
}

/// Sets from and until when, and returns both in seconds since 1970.
fn validity(params: &mut CertificateParams, lifetime_secs: i64) -> (i64, i64) {
    let now = jiff::Timestamp::now().as_second();
    let moment = |seconds: i64| {
        rcgen::date_time_ymd(1970, 1, 1) + std::time::Duration::from_secs(u64::try_from(seconds).unwrap_or(0))
    };
    // A little of the past, for clients whose clocks are a little behind.
    let from = now - (lifetime_secs / 20).min(60);
    params.not_before = moment(from);
    params.not_after = moment(from + lifetime_secs);
    (from, from + lifetime_secs)
}

pub(crate) fn random_bytes<const N: usize>() -> [u8; N] {
    let mut bytes = [0; N];
    // The system's randomness does not fail once it has started; zeroes would only make
    // the sandbox predictable.
    let _ = SystemRandom::new().fill(&mut bytes);
    bytes
}

pub(crate) fn random_hex(bytes: usize) -> String {
    (0..bytes).map(|_| format!("{:02x}", random_bytes::<1>()[0])).collect()
}

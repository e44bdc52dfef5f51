//! The sandbox's own certificates: roots, server certificates, and what the authority
//! issues.

use std::net::IpAddr;
use std::sync::Arc;

use aws_lc_rs::rand::{SecureRandom as _, SystemRandom};
use rcgen::{
    BasicConstraints, CertificateParams, CertificateSigningRequestParams, DnType, ExtendedKeyUsagePurpose, IsCa,
    KeyPair, KeyUsagePurpose, SanType, SerialNumber,
};
use rustls::ServerConfig;
use rustls::crypto::aws_lc_rs::default_provider;
use rustls_pki_types::{CertificateDer, PrivateKeyDer};

/// How long server certificates and roots of the sandbox are valid, in days.
const OWN_DAYS: i64 = 30;

/// Something that issues certificates: a root, or an intermediate below one.
pub(crate) struct Issuer {
    issuer: rcgen::Issuer<'static, KeyPair>,
    pem: String,
}

impl Issuer {
    pub(crate) fn root(name: &str) -> Result<Issuer, rcgen::Error> {
        let key = KeyPair::generate()?;
        let params = authority_params(name, BasicConstraints::Unconstrained)?;
        let pem = params.self_signed(&key)?.pem();
        Ok(Issuer { issuer: rcgen::Issuer::new(params, key), pem })
    }

    pub(crate) fn intermediate(&self, name: &str) -> Result<Issuer, rcgen::Error> {
        let key = KeyPair::generate()?;
        let params = authority_params(name, BasicConstraints::Constrained(0))?;
        let pem = params.signed_by(&key, &self.issuer)?.pem();
        Ok(Issuer { issuer: rcgen::Issuer::new(params, key), pem })
    }

    pub(crate) fn pem(&self) -> String {
        self.pem.clone()
    }

    /// Issues for a signing request; only its key and names are taken over.
    pub(crate) fn issue(
        &self,
        mut request: CertificateSigningRequestParams,
        days: i64,
    ) -> Result<String, rcgen::Error> {
        let names = std::mem::take(&mut request.params.subject_alt_names);
        request.params = CertificateParams::default();
        request.params.subject_alt_names = names;
        request.params.distinguished_name = rcgen::DistinguishedName::new();
        request.params.serial_number = Some(SerialNumber::from_slice(&random_bytes::<12>()));
        request.params.key_usages = vec![KeyUsagePurpose::DigitalSignature];
        request.params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
        request.params.use_authority_key_identifier_extension = true;
        validity(&mut request.params, days);
        Ok(request.signed_by(&self.issuer)?.pem())
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
        validity(&mut params, OWN_DAYS);
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
    validity(&mut params, 3650);
    Ok(params)
}

fn validity(params: &mut CertificateParams, days: i64) {
    let now = jiff::Timestamp::now().as_second();
    let moment = |seconds: i64| {
        rcgen::date_time_ymd(1970, 1, 1) + std::time::Duration::from_secs(u64::try_from(seconds).unwrap_or(0))
    };
    // A minute of the past, for clients whose clocks are a little behind.
    params.not_before = moment(now - 60);
    params.not_after = moment(now - 60 + days * 86_400);
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

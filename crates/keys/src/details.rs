//! All that an engineer looks at in a certificate (RFC 5280).

use jiff::Timestamp;
use pindrel_core::text::display_text::one_line;
use pindrel_core::values::Fingerprint;
use serde::Serialize;
use x509_parser::extensions::{GeneralName, ParsedExtension};
use x509_parser::prelude::{FromDer as _, X509Certificate};
use x509_parser::public_key::PublicKey;

use crate::chain_error::ChainError;

/// What one certificate says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Details {
    /// Whom it is for; often empty, since the names stand in an extension.
    pub subject: String,
    /// Who issued it.
    pub issuer: String,
    /// The serial number in hex, as in the certificate.
    pub serial: String,
    /// The kind of key, as in "ECDSA P-256" or "RSA 2048".
    pub key: String,
    /// How it is signed, as in "ECDSA with SHA-256".
    pub signature: String,
    /// From when it is valid.
    pub not_before: Timestamp,
    /// Until when it is valid.
    pub not_after: Timestamp,
    /// The names in the subject alternative name extension.
    pub names: Vec<String>,
    /// Whether it may issue others.
    pub authority: bool,
    /// SHA-256 of the whole certificate.
    pub sha256: Fingerprint,
    /// SHA-256 of the key (SubjectPublicKeyInfo), for pinning.
    pub key_sha256: Fingerprint,
    /// The extensions in their order.
    pub extensions: Vec<Extension>,
    /// The raw serial number.
    #[serde(skip)]
    pub(crate) raw_serial: Vec<u8>,
    /// The key identifier of whoever issued it.
    #[serde(skip)]
    pub(crate) authority_key_id: Option<Vec<u8>>,
    /// The identifier of its own key.
    #[serde(skip)]
    pub(crate) subject_key_id: Option<Vec<u8>>,
    /// Why its signature or key is too weak to be used, if it is.
    #[serde(skip)]
    pub(crate) weakness: Option<String>,
}

/// One extension.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Extension {
    /// Its name, or its object identifier.
    pub name: String,
    /// Whether who does not know it must refuse the certificate.
    pub critical: bool,
    /// What it says.
    pub says: String,
}

/// Reads one certificate in DER.
///
/// # Errors
/// [`ChainError::Unreadable`].
pub fn details(der: &[u8]) -> Result<Details, ChainError> {
    let unreadable = |why: &dyn std::fmt::Display| ChainError::Unreadable(why.to_string());
    let (rest, parsed) = X509Certificate::from_der(der).map_err(|error| unreadable(&error))?;
    if !rest.is_empty() {
        return Err(unreadable(&"bytes follow after its end"));
    }
    let time = |seconds| Timestamp::from_second(seconds).map_err(|error| unreadable(&error));
    let (key, weak_key) = key_in_words(&parsed);
    let (signature, weak_signature) = signature_in_words(&parsed.signature_algorithm.algorithm.to_id_string());
    let mut read = Details {
        subject: one_line(parsed.subject().to_string()),
        issuer: one_line(parsed.issuer().to_string()),
        serial: hex(parsed.raw_serial(), ":"),
        key,
        signature,
        not_before: time(parsed.validity().not_before.timestamp())?,
        not_after: time(parsed.validity().not_after.timestamp())?,
        names: Vec::new(),
        authority: parsed.is_ca(),
        sha256: Fingerprint::of(der),
        key_sha256: Fingerprint::of(parsed.public_key().raw),
        extensions: Vec::new(),
        raw_serial: parsed.raw_serial().to_vec(),
        authority_key_id: None,
        subject_key_id: None,
        weakness: weak_key.or(weak_signature),
    };
    for extension in parsed.extensions() {
        let (name, says) = in_words(extension.parsed_extension(), extension.value, &mut read);
        let name = name.map_or_else(|| extension.oid.to_id_string(), str::to_owned);
        read.extensions.push(Extension { name, critical: extension.critical, says });
    }
    Ok(read)
}

fn in_words(extension: &ParsedExtension<'_>, raw: &[u8], read: &mut Details) -> (Option<&'static str>, String) {
    match extension {
        ParsedExtension::SubjectAlternativeName(names) => {
            read.names = names.general_names.iter().map(name_in_words).collect();
            (Some("subject alternative name"), read.names.join(", "))
        }
        ParsedExtension::AuthorityKeyIdentifier(id) => {
            read.authority_key_id = id.key_identifier.as_ref().map(|id| id.0.to_vec());
            let shown = read.authority_key_id.as_ref().map_or_else(|| "no key identifier".into(), |id| hex(id, ":"));
            (Some("authority key identifier"), shown)
        }
        ParsedExtension::SubjectKeyIdentifier(id) => {
            read.subject_key_id = Some(id.0.to_vec());
            (Some("subject key identifier"), hex(id.0, ":"))
        }
        ParsedExtension::KeyUsage(usage) => (Some("key usage"), usage.to_string().to_lowercase().replace("crl", "CRL")),
        ParsedExtension::ExtendedKeyUsage(usage) => {
            let known = [
                (usage.any, "any"),
                (usage.server_auth, "server authentication"),
                (usage.client_auth, "client authentication"),
                (usage.code_signing, "code signing"),
                (usage.email_protection, "e-mail"),
                (usage.time_stamping, "time stamping"),
                (usage.ocsp_signing, "OCSP signing"),
            ];
            let mut said: Vec<String> =
                known.iter().filter(|(is, _)| *is).map(|(_, word)| (*word).to_owned()).collect();
            said.extend(usage.other.iter().map(|oid| oid.to_id_string()));
            (Some("extended key usage"), said.join(", "))
        }
        ParsedExtension::BasicConstraints(constraints) => {
            let says = match (constraints.ca, constraints.path_len_constraint) {
                (false, _) => "may not issue others".into(),
                (true, None) => "may issue others".into(),
                (true, Some(length)) => format!("may issue others, path length {length}"),
            };
            (Some("basic constraints"), says)
        }
        ParsedExtension::CertificatePolicies(policies) => {
            let said: Vec<String> = policies.iter().map(|policy| policy.policy_id.to_id_string()).collect();
            (Some("certificate policies"), said.join(", "))
        }
        ParsedExtension::CRLDistributionPoints(points) => {
            (Some("CRL distribution points"), format!("{} of them", points.iter().count()))
        }
        ParsedExtension::AuthorityInfoAccess(access) => {
            let said: Vec<String> = access.iter().map(|one| name_in_words(&one.access_location)).collect();
            (Some("authority information access"), said.join(", "))
        }
        ParsedExtension::SCT(scts) => (Some("signed certificate timestamps"), format!("{} of them", scts.len())),
        _ => (None, format!("{} bytes", raw.len())),
    }
}

fn name_in_words(name: &GeneralName<'_>) -> String {
    match name {
        GeneralName::DNSName(name) | GeneralName::URI(name) | GeneralName::RFC822Name(name) => one_line(*name),
        GeneralName::IPAddress(bytes) => match <[u8; 4]>::try_from(*bytes) {
            Ok(v4) => std::net::Ipv4Addr::from(v4).to_string(),
            Err(_) => <[u8; 16]>::try_from(*bytes)
                .map_or_else(|_| hex(bytes, ":"), |v6| std::net::Ipv6Addr::from(v6).to_string()),
        },
        other => one_line(other.to_string()),
    }
}

/// The kind of key, and why it is too weak, if it is.
fn key_in_words(certificate: &X509Certificate<'_>) -> (String, Option<String>) {
    match certificate.public_key().parsed() {
        Ok(PublicKey::RSA(key)) => {
            let bits = key.key_size();
            let weak = (bits < 2048).then(|| format!("its RSA key has {bits} bits; 2048 are the least"));
            (format!("RSA {bits}"), weak)
        }
        Ok(PublicKey::EC(point)) => match point.key_size() {
            // The size counts the point's coordinate in bits, rounded up to whole bytes.
            256 => ("ECDSA P-256".into(), None),
            384 => ("ECDSA P-384".into(), None),
            528 | 521 => ("ECDSA P-521".into(), None),
            bits => (format!("EC with {bits} bits"), Some(format!("its EC key has {bits} bits; 256 are the least"))),
        },
        Ok(PublicKey::DSA(_)) => ("DSA".into(), Some("no client accepts DSA keys".into())),
        _ if certificate.public_key().algorithm.algorithm.to_id_string() == "1.3.101.112" => ("Ed25519".into(), None),
        _ => ("of an unknown kind".into(), Some("its key is of an unknown kind".into())),
    }
}

fn signature_in_words(oid: &str) -> (String, Option<String>) {
    let weak = |name: &str| (name.to_owned(), Some(format!("it is signed by {name}, which clients refuse")));
    let fine = |name: &str| (name.to_owned(), None);
    match oid {
        "1.2.840.113549.1.1.4" => weak("RSA with MD5"),
        "1.2.840.113549.1.1.5" => weak("RSA with SHA-1"),
        "1.2.840.10045.4.1" => weak("ECDSA with SHA-1"),
        "1.2.840.113549.1.1.10" => fine("RSA-PSS"),
        "1.2.840.113549.1.1.11" => fine("RSA with SHA-256"),
        "1.2.840.113549.1.1.12" => fine("RSA with SHA-384"),
        "1.2.840.113549.1.1.13" => fine("RSA with SHA-512"),
        "1.2.840.10045.4.3.2" => fine("ECDSA with SHA-256"),
        "1.2.840.10045.4.3.3" => fine("ECDSA with SHA-384"),
        "1.2.840.10045.4.3.4" => fine("ECDSA with SHA-512"),
        "1.3.101.112" => fine("Ed25519"),
        other => fine(other),
    }
}

/// Writes bytes as hex with something between them.
pub(crate) fn hex(bytes: &[u8], between: &str) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect::<Vec<_>>().join(between)
}

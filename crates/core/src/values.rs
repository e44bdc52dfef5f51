//! Small values whose rules hold wherever they appear.

use std::fmt;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::path::PathBuf;
use std::str::FromStr;
use std::time::Duration;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// A record's time to live in whole seconds, at most 2^31 - 1 (RFC 2181 §8).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(try_from = "u32")]
pub struct Ttl(u32);

impl Ttl {
    /// Five seconds: what challenge records are given. A resolver of the authority that has
    /// cached one must not see it instead of the next.
    pub const CHALLENGE: Ttl = Ttl(5);
    /// An hour.
    pub const HOUR: Ttl = Ttl(3_600);
    /// Nought: not to be kept at all.
    pub const ZERO: Ttl = Ttl(0);
    /// One minute.
    pub const MINUTE: Ttl = Ttl(60);
    /// Ten minutes: the default of alias records.
    pub const TEN_MINUTES: Ttl = Ttl(600);

    /// Returns the seconds.
    pub fn as_secs(self) -> u32 {
        self.0
    }
}

impl TryFrom<u32> for Ttl {
    type Error = ValueError;

    fn try_from(secs: u32) -> Result<Self, ValueError> {
        if secs > i32::MAX as u32 { Err(ValueError::TtlTooLong(secs)) } else { Ok(Ttl(secs)) }
    }
}

impl FromStr for Ttl {
    type Err = ValueError;

    fn from_str(text: &str) -> Result<Self, ValueError> {
        let secs = parse_duration(text)?.as_secs();
        u32::try_from(secs).map_err(|_| ValueError::TtlTooLong(u32::MAX))?.try_into()
    }
}

/// A zone's serial number, compared as RFC 1982 says: it wraps around.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Serial(pub u32);

impl PartialOrd for Serial {
    /// Compares as RFC 1982 §3.2 does; two serials half the space apart have no order.
    fn partial_cmp(&self, other: &Self) -> Option<std::cmp::Ordering> {
        match other.0.wrapping_sub(self.0) {
            0 => Some(std::cmp::Ordering::Equal),
            0x8000_0000 => None,
            distance if distance < 0x8000_0000 => Some(std::cmp::Ordering::Less),
            _ => Some(std::cmp::Ordering::Greater),
        }
    }
}

impl fmt::Display for Serial {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

/// The SHA-256 digest of a certificate's DER, written as 64 lower-case hex digits.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Fingerprint([u8; 32]);

impl Fingerprint {
    /// Takes a SHA-256 digest.
    pub fn from_digest(digest: [u8; 32]) -> Self {
        Fingerprint(digest)
    }

    /// Returns the fingerprint of a certificate in DER.
    pub fn of(der: &[u8]) -> Self {
        use sha2::Digest as _;
        Fingerprint(sha2::Sha256::digest(der).into())
    }

    /// Returns the digest.
    pub fn as_bytes(&self) -> &[u8; 32] {
        &self.0
    }

    /// Returns the first eight hex digits, enough for a person to tell two apart.
    pub fn short(&self) -> String {
        self.to_string()[..8].to_owned()
    }
}

impl fmt::Display for Fingerprint {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.iter().try_for_each(|byte| write!(f, "{byte:02x}"))
    }
}

impl fmt::Debug for Fingerprint {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl FromStr for Fingerprint {
    type Err = ValueError;

    fn from_str(text: &str) -> Result<Self, ValueError> {
        let bad = || ValueError::Fingerprint(text.chars().take(80).collect());
        if text.len() != 64 || !text.is_ascii() {
            return Err(bad());
        }
        let mut digest = [0; 32];
        for (byte, pair) in digest.iter_mut().zip(text.as_bytes().chunks(2)) {
            let pair = std::str::from_utf8(pair).map_err(|_| bad())?;
            *byte = u8::from_str_radix(pair, 16).map_err(|_| bad())?;
        }
        Ok(Fingerprint(digest))
    }
}

impl Serialize for Fingerprint {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Fingerprint {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
    }
}

/// A kind of key with its length.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
#[expect(missing_docs, reason = "the names are the standards' own")]
pub enum KeyKind {
    #[default]
    EcdsaP256,
    EcdsaP384,
    Rsa2048,
    Rsa3072,
    Rsa4096,
    Ed25519,
}

impl KeyKind {
    /// All kinds.
    pub const ALL: [KeyKind; 6] = [
        KeyKind::EcdsaP256,
        KeyKind::EcdsaP384,
        KeyKind::Rsa2048,
        KeyKind::Rsa3072,
        KeyKind::Rsa4096,
        KeyKind::Ed25519,
    ];
    /// The kinds that public authorities issue for.
    pub const FOR_CERTIFICATES: [KeyKind; 5] =
        [KeyKind::EcdsaP256, KeyKind::EcdsaP384, KeyKind::Rsa2048, KeyKind::Rsa3072, KeyKind::Rsa4096];

    /// Returns its word in the manifest.
    pub fn as_str(self) -> &'static str {
        match self {
            KeyKind::EcdsaP256 => "ecdsa-p256",
            KeyKind::EcdsaP384 => "ecdsa-p384",
            KeyKind::Rsa2048 => "rsa-2048",
            KeyKind::Rsa3072 => "rsa-3072",
            KeyKind::Rsa4096 => "rsa-4096",
            KeyKind::Ed25519 => "ed25519",
        }
    }
}

impl fmt::Display for KeyKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.as_str())
    }
}

impl FromStr for KeyKind {
    type Err = ValueError;

    fn from_str(text: &str) -> Result<Self, ValueError> {
        let found = KeyKind::ALL.into_iter().find(|kind| kind.as_str() == text);
        found.ok_or_else(|| ValueError::KeyKind(text.chars().take(40).collect()))
    }
}

impl Serialize for KeyKind {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.as_str())
    }
}

impl<'de> Deserialize<'de> for KeyKind {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
    }
}

/// Where a secret is to be read: the manifest never holds the secret itself.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum SecretRef {
    /// An environment variable (`env:NAME`).
    Env(String),
    /// A file, relative to the manifest's folder (`file:PATH`).
    File(PathBuf),
}

impl FromStr for SecretRef {
    type Err = ValueError;

    /// Never repeats the text in its error: it may be the secret.
    fn from_str(text: &str) -> Result<Self, ValueError> {
        match text.split_once(':') {
            Some(("env", name)) if !name.is_empty() && !name.contains(['=', '\0']) => Ok(SecretRef::Env(name.into())),
            Some(("file", path)) if !path.is_empty() => Ok(SecretRef::File(path.into())),
            _ => Err(ValueError::SecretInClear),
        }
    }
}

impl fmt::Display for SecretRef {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            SecretRef::Env(name) => write!(f, "env:{name}"),
            SecretRef::File(path) => write!(f, "file:{}", path.display()),
        }
    }
}

/// Why a value was refused.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum ValueError {
    /// Above RFC 2181's limit.
    #[error("a TTL of {0} seconds is above the limit of 2147483647")]
    TtlTooLong(u32),
    /// Not a number with a unit.
    #[error("\"{0}\" is not a duration")]
    Duration(String),
    /// Not 64 hex digits.
    #[error("\"{0}\" is not a SHA-256 fingerprint of 64 hex digits")]
    Fingerprint(String),
    /// No kind of key.
    #[error("\"{0}\" is not a supported kind of key")]
    KeyKind(String),
    /// Neither `env:NAME` nor `file:PATH`.
    #[error("this is a secret in clear text")]
    SecretInClear,
}

/// Where clouds have their metadata service outside of the link-local networks; it gives a machine its credentials.
const METADATA: [IpAddr; 4] = [
    IpAddr::V4(Ipv4Addr::new(100, 100, 100, 200)),
    IpAddr::V4(Ipv4Addr::new(168, 63, 129, 16)),
    IpAddr::V6(Ipv6Addr::new(0xfd00, 0xec2, 0, 0, 0, 0, 0, 0x254)),
    IpAddr::V6(Ipv6Addr::new(0xfd20, 0xce, 0, 0, 0, 0, 0, 0x254)),
];

/// Says whether an address is of one link alone (RFC 3927, RFC 4291 §2.5.6), or the metadata service of a cloud: a peer
/// leads nobody there.
pub fn is_link_local_or_metadata(address: IpAddr) -> bool {
    let address = address.to_canonical();
    METADATA.contains(&address)
        || match address {
            IpAddr::V4(address) => address.is_link_local(),
            IpAddr::V6(address) => address.is_unicast_link_local(),
        }
}

/// Reads a duration such as `20s`, `10m`, `6h` or `30d`.
///
/// # Errors
/// When the text is not a whole number with one of these units.
pub fn parse_duration(text: &str) -> Result<Duration, ValueError> {
    let bad = || ValueError::Duration(text.chars().take(40).collect());
    let unit = text.chars().next_back().ok_or_else(bad)?;
    let factor = match unit {
        's' => 1,
        'm' => 60,
        'h' => 3600,
        'd' => 86_400,
        _ => return Err(bad()),
    };
    let number: u64 = text[..text.len() - 1].parse().map_err(|_| bad())?;
    number.checked_mul(factor).filter(|secs| *secs <= 100 * 365 * 86_400).map(Duration::from_secs).ok_or_else(bad)
}

/// The MACs that updates may be signed with (RFC 8945 §6).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[expect(missing_docs, reason = "the names are the standard's own")]
pub enum TsigAlgorithm {
    HmacSha256,
    HmacSha384,
    HmacSha512,
}

impl TsigAlgorithm {
    /// Returns its word in the manifest.
    pub fn as_str(self) -> &'static str {
        match self {
            TsigAlgorithm::HmacSha256 => "hmac-sha256",
            TsigAlgorithm::HmacSha384 => "hmac-sha384",
            TsigAlgorithm::HmacSha512 => "hmac-sha512",
        }
    }
}

impl FromStr for TsigAlgorithm {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text.trim_end_matches('.').to_ascii_lowercase().as_str() {
            "hmac-sha256" => Ok(TsigAlgorithm::HmacSha256),
            "hmac-sha384" => Ok(TsigAlgorithm::HmacSha384),
            "hmac-sha512" => Ok(TsigAlgorithm::HmacSha512),
            _ => Err(format!("\"{text}\" is not a supported TSIG algorithm")),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn serials_wrap_around() {
        for (older, newer) in [(1, 2), (u32::MAX, 0), (0xffff_ff00, 5), (0, 0x7fff_ffff)] {
            assert!(Serial(older) < Serial(newer), "{older} {newer}");
            assert!(Serial(newer) > Serial(older), "{older} {newer}");
        }
        assert_eq!(Serial(0).partial_cmp(&Serial(0x8000_0000)), None);
    }

    #[test]
    fn durations_need_a_number_and_a_unit() {
        assert_eq!(parse_duration("90d"), Ok(Duration::from_secs(7_776_000)));
        for text in ["", "m", "10", "1.5h", "-1s", "10 m", "5é", "99999999999999999999d", "400000000000000d"] {
            assert!(parse_duration(text).is_err(), "{text}");
        }
    }

    #[test]
    fn a_secret_in_clear_is_refused_without_being_repeated() {
        let error = "hunter2:planted".parse::<SecretRef>().unwrap_err();
        assert!(!error.to_string().contains("planted"));
        assert_eq!("env:A".parse(), Ok(SecretRef::Env("A".into())));
    }

    #[test]
    fn fingerprints_round_trip() {
        let fingerprint = Fingerprint::of(b"larkfield");
        assert_eq!(fingerprint.to_string().parse(), Ok(fingerprint));
        assert!("é".repeat(32).parse::<Fingerprint>().is_err());
    }
}

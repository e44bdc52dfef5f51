//! The key that signs updates (RFC 8945).

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use hickory_proto::rr::rdata::tsig::TsigAlgorithm;
use hickory_proto::rr::{Name, TSigner};

use crate::certificates::random_bytes;

/// How far the clocks may differ, in seconds.
const FUDGE_SECS: u16 = 300;

/// Makes a new secret in base64.
pub(crate) fn new_secret() -> String {
    STANDARD.encode(random_bytes::<32>())
}

/// Makes the key of that name; a secret that is not base64 makes a key that no client has.
pub(crate) fn key(name: &str, secret: &str) -> Option<TSigner> {
    let secret = STANDARD.decode(secret).ok()?;
    TSigner::new(secret, TsigAlgorithm::HmacSha256, Name::from_ascii(format!("{name}.")).ok()?, FUDGE_SECS).ok()
}

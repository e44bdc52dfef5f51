//! Writing PEM (RFC 7468 §3): reading is left to `rustls-pki-types`.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;

/// The characters of a line of base64.
const LINE: usize = 64;

/// Returns bytes as one PEM section with this label.
pub fn encode(label: &str, bytes: &[u8]) -> String {
    let encoded = STANDARD.encode(bytes);
    let mut text = format!("-----BEGIN {label}-----\n");
    for line in encoded.as_bytes().chunks(LINE) {
        text.extend(line.iter().map(|byte| char::from(*byte)));
        text.push('\n');
    }
    text.push_str(&format!("-----END {label}-----\n"));
    text
}

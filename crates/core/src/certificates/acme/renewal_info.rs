//! Renewal information (RFC 9773).

use jiff::Timestamp;
use serde::Deserialize;

use super::jws::base64url;
use super::problem::shown_url;
use crate::certificates::renewal::RenewalWindow;

/// Returns the identifier by which an authority knows a certificate (RFC 9773 §4.1):
/// the key identifier of its authority key identifier extension and its serial number,
/// both as the bytes in the certificate.
pub fn certificate_id(authority_key_id: &[u8], serial: &[u8]) -> String {
    format!("{}.{}", base64url(authority_key_id), base64url(serial))
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Body {
    suggested_window: Window,
    #[serde(rename = "explanationURL")]
    explanation_url: Option<String>,
}

#[derive(Deserialize)]
struct Window {
    start: Timestamp,
    end: Timestamp,
}

/// Reads what an authority advises; it may be asked again at `look_again`.
///
/// # Errors
/// Says what is wrong with the answer.
pub fn read(body: &[u8], look_again: Timestamp) -> Result<RenewalWindow, String> {
    let body: Body = serde_json::from_slice(body).map_err(|error| error.to_string())?;
    let Window { start, end } = body.suggested_window;
    if end <= start {
        return Err("its window ends before it begins".into());
    }
    let explanation = body.explanation_url.and_then(|url| shown_url(&url)).map(String::from);
    Ok(RenewalWindow { start, end, explanation, look_again })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_identifier_is_the_one_of_the_rfc() {
        // RFC 9773 §4.1: this key identifier and this serial number give this text.
        let key_id = [
            0x69, 0x88, 0x5B, 0x6B, 0x87, 0x46, 0x40, 0x41, 0xE1, 0xB3, 0x7B, 0x84, 0x7B, 0xA0, 0xAE, 0x2C, 0xDE, 0x01,
            0xC8, 0xD4,
        ];
        let serial = [0x00, 0x87, 0x65, 0x43, 0x21];
        assert_eq!(certificate_id(&key_id, &serial), "aYhba4dGQEHhs3uEe6CuLN4ByNQ.AIdlQyE");
    }

    #[test]
    fn a_window_that_is_none_is_refused() {
        let body = |start: &str, end: &str| {
            format!(
                r#"{{"suggestedWindow":{{"start":"{start}","end":"{end}"}},"explanationURL":"https://a.example/why"}}"#
            )
        };
        let now = Timestamp::UNIX_EPOCH;
        let good = read(body("2026-01-02T00:00:00Z", "2026-01-03T00:00:00+01:00").as_bytes(), now).unwrap();
        assert_eq!(good.explanation.as_deref(), Some("https://a.example/why"));
        let steering = body("2026-01-02T00:00:00Z", "2026-01-03T00:00:00Z").replace("/why", "/\\u001b[2J");
        assert_eq!(read(steering.as_bytes(), now).unwrap().explanation, None);
        assert!(read(body("2026-01-03T00:00:00Z", "2026-01-03T00:00:00Z").as_bytes(), now).is_err());
        assert!(read(body("soon", "later").as_bytes(), now).is_err());
        assert!(read(b"{}", now).is_err());
    }
}

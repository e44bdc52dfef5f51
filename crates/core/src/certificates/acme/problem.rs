//! Problem documents (RFC 9457, RFC 8555 §6.7).

use std::fmt;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::identifier::Identifier;

/// The most subproblems that are shown: as many as one order has names.
const MOST_SHOWN: usize = 100;

/// What an authority says when it refuses.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Problem {
    /// The error type, a URN such as `urn:ietf:params:acme:error:dns`.
    #[serde(rename = "type", default)]
    pub kind: Box<str>,
    /// A sentence for people.
    #[serde(default)]
    pub detail: String,
    /// The HTTP status.
    #[serde(default)]
    pub status: Option<u16>,
    /// When the authority may be asked again, where it says (`Retry-After`).
    #[serde(default)]
    pub retry_at: Option<Timestamp>,
    /// One problem for each name that it is about.
    #[serde(default)]
    pub subproblems: Box<[Subproblem]>,
    /// What a person may visit: where this very case is described (RFC 9457 §3.1.5, RFC 8555 §7.3.3),
    /// or where the authority explains such problems (`Link` with the relation `help`).
    #[serde(default, rename = "instance")]
    pub see: Option<Box<str>>,
}

/// A problem with one name (RFC 8555 §6.7.1).
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Subproblem {
    /// The error type.
    #[serde(rename = "type", default)]
    pub kind: String,
    /// A sentence for people.
    #[serde(default)]
    pub detail: String,
    /// The name.
    #[serde(default)]
    pub identifier: Option<Identifier>,
}

impl Problem {
    /// Reads a problem out of a response; a body that holds none becomes one, so that
    /// every refusal can be told.
    pub fn read(status: u16, body: &[u8]) -> Problem {
        let mut problem: Problem = serde_json::from_slice(body).unwrap_or_default();
        problem.status = Some(status);
        problem.see = problem.see.and_then(|url| shown_url(&url));
        if problem.kind.is_empty() && problem.detail.is_empty() {
            let text: String = String::from_utf8_lossy(body).chars().filter(|c| !c.is_control()).take(200).collect();
            problem.detail = if text.is_empty() { "no reason given".into() } else { text };
        }
        problem
    }

    /// Returns the last part of an ACME error type, such as `badNonce`, or an empty
    /// text for another kind of problem.
    pub fn error(&self) -> &str {
        self.kind.strip_prefix("urn:ietf:params:acme:error:").unwrap_or_default()
    }

    /// Says whether the authority asks to come back later.
    pub fn is_rate_limited(&self) -> bool {
        self.error() == "rateLimited" || self.status == Some(429)
    }

    /// Returns what to do about it, for each error type (RFC 8555 §6.7, RFC 9773 §7.4).
    pub fn remedy(&self) -> String {
        match (self.error(), &self.see) {
            ("userActionRequired", Some(url)) => {
                format!("Visit {url}, then agree with: pindrel account register --agree")
            }
            _ => self.usual_remedy().into(),
        }
    }

    fn usual_remedy(&self) -> &'static str {
        match self.error() {
            "rateLimited" => "Wait until the limit is over, or raise it at the authority",
            "caa" => "Allow the authority in the CAA records of the zone",
            "dns" | "connection" => "Make sure that every public name server of the zone answers",
            "unauthorized" | "incorrectResponse" => {
                "Check that the zone's public name servers are the ones that Pindrel updates"
            }
            "badCSR" => "Choose another kind of key in the certificate's table of the manifest",
            "badPublicKey" | "badSignatureAlgorithm" => {
                "Choose another account_key in the authority's table of the manifest"
            }
            "badRevocationReason" => "Choose another reason",
            "alreadyRevoked" => "Nothing needs to be done: it is already revoked",
            "alreadyReplaced" => "Run settle: it orders without naming the certificate that is replaced",
            "invalidProfile" => "Choose a profile that the authority offers",
            "orderNotReady" => "Run settle later: it continues the same order",
            "rejectedIdentifier" => "Choose a name that the authority issues for, or another authority",
            "unsupportedIdentifier" => "Choose an authority that issues for names of this kind",
            "externalAccountRequired" => "Write external_account_key in the authority's table of the manifest",
            "userActionRequired" => "Read the authority's new terms, then agree with: pindrel account register --agree",
            "accountDoesNotExist" => "Open another account with: pindrel account register",
            "invalidContact" | "unsupportedContact" => "Correct the contact in the authority's table of the manifest",
            "tls" | "serverInternal" => "Run settle later: the fault is on the authority's side",
            "badNonce" => "Run settle later: the authority refuses its own nonces",
            _ if self.retry_at.is_some() => "Wait until then",
            _ if self.status >= Some(500) => "Run settle later: the fault is on the authority's side",
            _ => "Correct what the authority names",
        }
    }
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let detail = self.detail.trim_end_matches('.');
        match (self.error(), self.status) {
            ("", Some(status)) => write!(f, "status {status}: {detail}")?,
            ("", None) => write!(f, "{detail}")?,
            (error, _) => write!(f, "{error}: {detail}")?,
        }
        for sub in self.subproblems.iter().take(MOST_SHOWN) {
            let name = sub.identifier.as_ref().map_or("a name", |identifier| identifier.value.as_str());
            write!(f, "; {name}: {}", sub.detail.trim_end_matches('.'))?;
        }
        if let Some(more @ 1..) = self.subproblems.len().checked_sub(MOST_SHOWN) {
            write!(f, "; and {more} more")?;
        }
        if let Some(at) = self.retry_at {
            write!(f, "; it accepts requests again at {at:.0}")?;
        }
        if let Some(url) = &self.see {
            write!(f, "; see {url}")?;
        }
        Ok(())
    }
}

/// Returns a URL of a peer's if it may be shown to people: nothing that a terminal obeys.
pub fn shown_url(url: &str) -> Option<Box<str>> {
    let plain = url.starts_with("https://") && url.len() < 500 && url.chars().all(|c| c.is_ascii_graphic());
    plain.then(|| url.into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_problem_tells_its_subproblems_and_any_body_becomes_one() {
        let body = br#"{"type":"urn:ietf:params:acme:error:malformed","detail":"Some names are wrong.","subproblems":[
            {"type":"urn:ietf:params:acme:error:rejectedIdentifier","detail":"not ours","identifier":{"type":"dns","value":"a.example"}}]}"#;
        let problem = Problem::read(400, body);
        assert_eq!(problem.to_string(), "malformed: Some names are wrong; a.example: not ours");
        assert_eq!(Problem::read(502, b"<html>\x00bad").to_string(), "status 502: <html>bad");
        let nothing = Problem::read(500, b"");
        assert_eq!(nothing.to_string(), "status 500: no reason given");
        assert!(nothing.remedy().ends_with("on the authority's side"));
        let later = Problem { retry_at: Some(jiff::Timestamp::UNIX_EPOCH), ..nothing };
        assert!(later.to_string().ends_with("accepts requests again at 1970-01-01T00:00:00Z"));
        assert!(later.remedy().starts_with("Wait until then"));
        let terms = br#"{"type":"urn:ietf:params:acme:error:userActionRequired","detail":"New terms","instance":"https://a.example/terms"}"#;
        let terms = Problem::read(403, terms);
        assert!(terms.remedy().starts_with("Visit https://a.example/terms"), "{}", terms.remedy());
        assert_eq!(terms.to_string(), "userActionRequired: New terms; see https://a.example/terms");
        let steering = Problem::read(403, br#"{"instance":"https://a.example/\u001b[2J"}"#);
        assert_eq!(steering.see, None);
    }
}

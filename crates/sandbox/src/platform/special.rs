//! What single endpoints do otherwise: they look for records, want the alias first, or issue certificates.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Instant;

use hickory_proto::rr::{Name, RData, RecordType};
use serde_json::{Value, json};

use super::{Bound, Endpoint, Platform, data_plane};
use crate::dns::zone::name;

/// What an endpoint does besides.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Special {
    Nothing,
    /// It issues certificates, validated by a CNAME that stays; each hostname has a target of its own.
    Hosted,
    /// It deploys a hostname once its alias leads there.
    AliasFirst,
    /// It deploys a hostname once a TXT record says whose it is.
    Proven,
}

/// A record that is asked for: its name, its type, its value, and how long it is needed.
struct Asked {
    name: String,
    record_type: RecordType,
    value: String,
    keep: &'static str,
}

impl Special {
    /// What an endpoint offers, as the protocol writes it.
    pub(super) fn offers(self, kind: &str) -> Value {
        json!({
            "client_certificates": self == Special::Nothing,
            "origin": kind == "distribution",
            "issued_certificates": self == Special::Hosted,
        })
    }
}

impl Endpoint {
    /// The name that a hostname has of its own here.
    pub(super) fn target(&self, hostname: &str) -> Option<String> {
        (self.special == Special::Hosted).then(|| format!("{}.{}", token(hostname), self.default_name))
    }

    fn asked(&self, hostname: &str) -> Option<Asked> {
        let base = hostname.trim_start_matches("*.");
        let value = token(hostname);
        match self.special {
            Special::Proven => Some(Asked {
                name: format!("_proof.{base}"),
                record_type: RecordType::TXT,
                value: format!("owner={value}"),
                keep: "until_deployed",
            }),
            Special::Hosted => Some(Asked {
                name: format!("_validate.{base}"),
                record_type: RecordType::CNAME,
                value: format!("{value}.validate.{}", crate::EDGE_ZONE),
                keep: "while_bound",
            }),
            Special::Nothing | Special::AliasFirst => None,
        }
    }

    /// What the platform says of a binding besides.
    pub(super) fn reply(&self, hostname: &str, bound: &Bound) -> Value {
        let mut reply = json!({});
        if let Some(target) = self.target(hostname) {
            reply["target"] = target.into();
        }
        if let Some(Asked { name, record_type, value, keep }) = self.asked(hostname) {
            reply["records"] = json!([{ "name": name, "type": record_type.to_string(), "value": value, "keep": keep }]);
        }
        if let Some(issued) = bound.issued.as_ref().filter(|_| bound.wanted.certificate.is_none()) {
            reply["issued"] = json!({ "sha256": issued.sha256, "not_after": issued.not_after.to_string() });
        }
        reply
    }
}

impl Platform {
    /// Looks whether a binding can be deployed that waits for records, and begins to then.
    pub(super) async fn look_for_records(&self, endpoint: &Endpoint, hostname: &str) {
        let key = (endpoint.id.to_owned(), hostname.to_owned());
        let waits = self.inner().bindings.get(&key).is_some_and(|bound| bound.deployed_at.is_none());
        if !waits || !self.has_records(endpoint, hostname).await {
            return;
        }
        let deployed_at = Some(Instant::now() + self.deploys_in(endpoint));
        let issued = if endpoint.special == Special::Hosted { self.issue(endpoint, hostname) } else { None };
        if let Some(bound) = self.inner().bindings.get_mut(&key) {
            bound.deployed_at = deployed_at;
            bound.issued = issued.or(bound.issued.take());
        }
    }

    async fn has_records(&self, endpoint: &Endpoint, hostname: &str) -> bool {
        if let Some(Asked { name: owner, record_type, value, .. }) = endpoint.asked(hostname) {
            let expected = if record_type == RecordType::CNAME { name(&value).to_string() } else { value };
            return answers(self.name_server, &name(&owner), record_type).await.contains(&expected);
        }
        if endpoint.special != Special::AliasFirst {
            return true;
        }
        let asked = if hostname.starts_with("*.") { hostname.replacen('*', "any", 1) } else { hostname.to_owned() };
        let target = name(&endpoint.default_name).to_string();
        answers(self.name_server, &name(&asked), RecordType::CNAME).await.contains(&target)
            || answers(self.name_server, &name(&asked), RecordType::A)
                .await
                .contains(&endpoint.address.ip().to_string())
    }

    fn issue(&self, endpoint: &Endpoint, hostname: &str) -> Option<Arc<super::Issued>> {
        let (certificate, key) = self.root.server_key(endpoint.address.ip(), &[hostname]).ok()?;
        let (_, leaf) = x509_parser::parse_x509_certificate(&certificate).ok()?;
        let not_after = jiff::Timestamp::from_second(leaf.validity().not_after.timestamp()).ok()?;
        let sha256 = super::fingerprint(&certificate);
        let certified = data_plane::certified(vec![certificate.clone()], key)?;
        Some(Arc::new(super::Issued { sha256, not_after, certified }))
    }
}

/// What a hostname is known by.
fn token(hostname: &str) -> String {
    super::fingerprint(hostname.as_bytes())[..12].to_owned()
}

/// The data of some records, as text.
async fn answers(server: SocketAddr, owner: &Name, record_type: RecordType) -> Vec<String> {
    let Some(answer) = crate::dns::server_answer(server, &crate::dns::question(owner, record_type)).await else {
        return Vec::new();
    };
    let texts = answer.answers.iter().filter(|record| record.record_type() == record_type);
    texts
        .map(|record| match &record.data {
            RData::CNAME(target) => target.0.to_lowercase().to_string(),
            RData::TXT(text) => String::from_utf8_lossy(&text.txt_data.concat()).into_owned(),
            other => other.to_string(),
        })
        .collect()
}

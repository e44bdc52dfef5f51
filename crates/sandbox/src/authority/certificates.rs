//! Issuing, revoking, and advice on renewal (RFC 8555 §7.4, §7.6, RFC 9773).

use std::time::Duration;

use axum::extract::{Path, State};
use axum::http::{StatusCode, header};
use axum::response::IntoResponse;
use jiff::{SignedDuration, Timestamp};
use rcgen::{CertificateSigningRequestParams, PublicKeyData as _, SanType};
use serde_json::json;

use super::jws::{By, Key, decode, decode_request};
use super::orders::own_order;
use super::request::{Answer, Incoming, Shared, check, check_account, problem};
use super::{Authority, Certificate, Fault, PROFILES, Refusal, refuse};
use crate::certificates::Wrong;

/// How long the authority takes to issue.
const TAKES: Duration = Duration::from_millis(60);
/// When renewal information may be asked for again, in seconds.
const ASK_AGAIN_SECS: i64 = 6 * 3600;
/// The reasons that are taken for a revocation (RFC 5280 §5.3.1).
const REASONS: [u64; 5] = [0, 1, 3, 4, 5];

pub(super) async fn finalize(State(authority): Shared, Path(number): Path<usize>, incoming: Incoming) -> Answer {
    let (signed, account) = check_account(&authority, &incoming)?;
    let csr = decode_request(signed.payload()?["csr"].as_str().unwrap_or_default())?;
    let mut inner = authority.inner();
    let order = own_order(&inner, number, account)?;
    if order.status != "ready" {
        return refuse(403, "orderNotReady", format!("the order is {}", order.status));
    }
    let request = read_request(csr, &order.names, &inner.accounts[account].key)?;
    let profile = PROFILES.iter().find(|(name, ..)| order.profile.as_deref() == Some(name)).unwrap_or(&PROFILES[0]);
    let lifetime = authority.lifetime_secs.unwrap_or(profile.2 * 86_400);
    inner.orders[number].status = "processing";
    let body = axum::Json(authority.order_json(&inner, number));
    let issuing = authority.clone();
    tokio::spawn(async move {
        tokio::time::sleep(TAKES).await;
        issuing.issue(number, request, lifetime);
    });
    let location = authority.url("order", number);
    Ok(([(header::LOCATION, location)], body).into_response())
}

impl Authority {
    fn issue(&self, number: usize, request: CertificateSigningRequestParams, lifetime_secs: i64) {
        let wrong = if self.faults.has(&Fault::OtherKey) {
            Some(Wrong::Key)
        } else {
            self.faults.has(&Fault::MissingName).then_some(Wrong::Names)
        };
        let issued = self.intermediate.issue(request, lifetime_secs, wrong);
        let mut inner = self.inner();
        match issued {
            Ok(issued) => {
                inner.certificates.insert(number, Certificate { issued, revoked: None });
                inner.orders[number].status = "valid";
            }
            Err(error) => {
                let refusal = Refusal::new(500, "serverInternal", error.to_string());
                inner.orders[number].status = "invalid";
                inner.orders[number].error = Some(problem(&refusal));
            }
        }
    }
}

/// Reads a signing request: its own signature, its names, its key (RFC 8555 §7.4).
fn read_request(csr: Vec<u8>, names: &[String], account_key: &Key) -> Result<CertificateSigningRequestParams, Refusal> {
    let bad = |why: String| Refusal::new(400, "badCSR", why);
    let request = CertificateSigningRequestParams::from_der(&csr.into()).map_err(|error| bad(error.to_string()))?;
    let mut asked: Vec<String> = request
        .params
        .subject_alt_names
        .iter()
        .filter_map(|name| match name {
            SanType::DnsName(name) => Some(name.as_str().to_owned()),
            _ => None,
        })
        .collect();
    let mut ordered = names.to_vec();
    asked.sort_unstable();
    ordered.sort_unstable();
    if asked != ordered {
        return Err(bad(format!("it is for {}, and the order for {}", asked.join(", "), ordered.join(", "))));
    }
    if account_key.is_of(request.public_key.der_bytes()) {
        return Err(bad("its key is the account's".into()));
    }
    Ok(request)
}

pub(super) async fn certificate(State(authority): Shared, Path(number): Path<usize>, incoming: Incoming) -> Answer {
    let above = authority.intermediate.pem();
    let other = format!("<{}/other>;rel=\"alternate\"", authority.url("certificate", number));
    chain(&authority, number, &incoming, &above, Some(other))
}

/// The same certificate with a chain that leads to the other root.
pub(super) async fn other_chain(State(authority): Shared, Path(number): Path<usize>, incoming: Incoming) -> Answer {
    let above = authority.crossed.clone();
    chain(&authority, number, &incoming, &above, None)
}

fn chain(authority: &Authority, number: usize, incoming: &Incoming, above: &str, link: Option<String>) -> Answer {
    let (_, account) = check_account(authority, incoming)?;
    let inner = authority.inner();
    own_order(&inner, number, account)?;
    let Some(certificate) = inner.certificates.get(&number) else {
        return refuse(404, "malformed", "there is no certificate yet");
    };
    let text = format!("{}{above}", certificate.issued.pem);
    let mut response = ([(header::CONTENT_TYPE, "application/pem-certificate-chain")], text).into_response();
    if let Some(link) = link.and_then(|link| link.parse().ok()) {
        response.headers_mut().append(header::LINK, link);
    }
    Ok(response)
}

pub(super) async fn revoke(State(authority): Shared, incoming: Incoming) -> Answer {
    let signed = check(&authority, &incoming)?;
    let payload = signed.payload()?;
    let der = decode(payload["certificate"].as_str().unwrap_or_default())?;
    let reason = payload["reason"].as_u64().unwrap_or(0);
    if !REASONS.contains(&reason) {
        return refuse(400, "badRevocationReason", format!("the reason {reason} is not taken"));
    }
    let mut inner = authority.inner();
    let found =
        inner.certificates.iter().find(|(_, certificate)| certificate.issued.der == der).map(|(number, _)| *number);
    let Some(number) = found else { return refuse(404, "malformed", "that is none of our certificates") };
    let may = match &signed.by {
        By::Account(_) => signed.account == Some(inner.orders[number].account),
        By::Key(key) => key.is_of(&inner.certificates[&number].issued.public_key),
    };
    if !may {
        return refuse(403, "unauthorized", "neither the account nor the key is the certificate's");
    }
    match inner.certificates.get_mut(&number) {
        Some(certificate) if certificate.revoked.is_none() => certificate.revoked = Some(reason),
        _ => return refuse(400, "alreadyRevoked", "it is revoked already"),
    }
    Ok(StatusCode::OK.into_response())
}

/// Advice on when to renew (RFC 9773 §4.2): in the last third of its life, or at once.
pub(super) async fn renewal_info(State(authority): Shared, Path(id): Path<String>) -> Answer {
    let inner = authority.inner();
    let found = inner.certificates.values().find(|certificate| certificate.issued.id == id);
    let Some(certificate) = found else { return refuse(404, "malformed", "that is none of our certificates") };
    let (from, until) = (certificate.issued.not_before_secs, certificate.issued.not_after_secs);
    let now = Timestamp::now().as_second();
    let early = authority.faults.has(&Fault::EarlyRenewal) || certificate.revoked.is_some();
    let (start, end) =
        if early { (now - 7200, now - 3600) } else { (until - (until - from) / 3, until - (until - from) / 6) };
    let moment =
        |seconds: i64| Timestamp::UNIX_EPOCH.checked_add(SignedDuration::from_secs(seconds)).unwrap_or_default();
    let mut body = json!({ "suggestedWindow": { "start": moment(start), "end": moment(end) } });
    if early {
        body["explanationURL"] = format!("{}/why", authority.base).into();
    }
    Ok(([(header::RETRY_AFTER, ASK_AGAIN_SECS.to_string())], axum::Json(body)).into_response())
}

//! Orders, authorizations and challenges (RFC 8555 §7.1.3 to §7.1.5, §7.4, §7.5).

use std::time::Duration;

use axum::extract::{Path, State};
use axum::http::{StatusCode, header};
use axum::response::IntoResponse;
use jiff::Timestamp;
use serde_json::{Value, json};

use super::jws::expected_text;
use super::request::{Answer, Incoming, Shared, broken_off, check_account};
use super::{Authority, Authorization, Fault, Inner, MOST_FAILURES, Order, PROFILES, Refusal, refuse, validation};
use crate::certificates::random_hex;

/// How long the authority takes to validate.
const TAKES: Duration = Duration::from_millis(60);
/// How long a slow one takes.
const TAKES_LONG: Duration = Duration::from_secs(4);
/// The most names in one order.
const MOST_NAMES: usize = 100;
/// How far back failed validations count, in seconds.
const FAILURES_WITHIN_SECS: i64 = 3600;

fn names_of(payload: &Value) -> Result<Vec<String>, Refusal> {
    let identifiers = payload["identifiers"].as_array().cloned().unwrap_or_default();
    if identifiers.is_empty() || identifiers.len() > MOST_NAMES {
        return refuse(400, "malformed", format!("an order has 1 to {MOST_NAMES} identifiers"));
    }
    let mut names = Vec::new();
    for identifier in &identifiers {
        if identifier["type"] != "dns" {
            return refuse(400, "unsupportedIdentifier", "only dns identifiers are taken");
        }
        let name = identifier["value"].as_str().unwrap_or_default();
        if !(name.ends_with(".example") || name.ends_with(".test")) || name.to_ascii_lowercase() != name {
            return refuse(400, "rejectedIdentifier", format!("{name} is not a name that this authority issues for"));
        }
        names.push(name.to_owned());
    }
    Ok(names)
}

/// Refuses an order for a name whose validations failed too often lately.
fn check_failures(inner: &Inner, names: &[String]) -> Result<(), Refusal> {
    let now = Timestamp::now().as_second();
    for name in names {
        let base = name.trim_start_matches("*.");
        let failures = inner.failures.get(base).map_or(&[][..], Vec::as_slice);
        let recent: Vec<i64> =
            failures.iter().map(|at| at.as_second()).filter(|at| now - at < FAILURES_WITHIN_SECS).collect();
        if recent.len() >= MOST_FAILURES {
            let wait = recent.first().map_or(0, |first| first + FAILURES_WITHIN_SECS - now).max(1);
            let detail = format!("too many failed validations of {base} within an hour ({})", recent.len());
            return Err(Refusal::new(429, "rateLimited", detail).retry_after(wait));
        }
    }
    Ok(())
}

pub(super) async fn new_order(State(authority): Shared, incoming: Incoming) -> Answer {
    let (signed, account) = check_account(&authority, &incoming)?;
    let payload = signed.payload()?;
    let names = names_of(payload)?;
    let text = |member: &str| payload[member].as_str().map(str::to_owned);
    let (profile, replaces) = (text("profile"), text("replaces"));
    if let Some(profile) = &profile
        && !PROFILES.iter().any(|(name, ..)| name == profile)
    {
        return refuse(400, "invalidProfile", format!("there is no profile {profile}"));
    }
    if authority.faults.has(&Fault::Limit) {
        let detail = "too many orders of this account; see the terms for the limits";
        return Err(Refusal::new(429, "rateLimited", detail).retry_after(3600));
    }
    let (number, response) = {
        let mut inner = authority.inner();
        check_failures(&inner, &names)?;
        if let Some(replaced) = &replaces {
            check_replaced(&inner, account, replaced)?;
        }
        let first = inner.authorizations.len();
        for name in &names {
            inner.authorizations.push(Authorization {
                account,
                name: name.trim_start_matches("*.").to_owned(),
                wildcard: name.starts_with("*."),
                token: random_hex(16),
                status: "pending",
                challenge: "pending",
                error: None,
            });
        }
        let authorizations = (first..inner.authorizations.len()).collect();
        let status = "pending";
        inner.orders.push(Order { account, names, authorizations, status, error: None, profile, replaces });
        let number = inner.orders.len() - 1;
        (number, axum::Json(authority.order_json(&inner, number)))
    };
    let location = [(header::LOCATION, authority.url("order", number))];
    let response = (StatusCode::CREATED, location, response).into_response();
    if authority.faults.take(&Fault::LostOrder) {
        return Ok(broken_off(response, 0).await);
    }
    Ok(response)
}

/// A certificate is replaced by one order only (RFC 9773 §5).
fn check_replaced(inner: &Inner, account: usize, replaced: &str) -> Result<(), Refusal> {
    let known = inner
        .certificates
        .iter()
        .any(|(number, certificate)| certificate.issued.id == replaced && inner.orders[*number].account == account);
    if !known {
        return refuse(400, "malformed", "the certificate to be replaced is none of this account");
    }
    let taken = |order: &Order| order.replaces.as_deref() == Some(replaced) && order.status != "invalid";
    if inner.orders.iter().any(taken) {
        return refuse(409, "alreadyReplaced", "another order replaces this certificate");
    }
    Ok(())
}

pub(super) async fn orders(State(authority): Shared, Path(number): Path<usize>, incoming: Incoming) -> Answer {
    let (_, account) = check_account(&authority, &incoming)?;
    if account != number {
        return refuse(403, "unauthorized", "these are another account's orders");
    }
    let inner = authority.inner();
    let own = inner.orders.iter().enumerate().filter(|(_, order)| order.account == account);
    let urls: Vec<String> = own.map(|(number, _)| authority.url("order", number)).collect();
    Ok(axum::Json(json!({ "orders": urls })).into_response())
}

/// The order of that number, if it is the account's own.
pub(super) fn own_order(inner: &Inner, number: usize, account: usize) -> Result<&Order, Refusal> {
    let order = inner.orders.get(number).filter(|order| order.account == account);
    order.map_or_else(|| refuse(404, "malformed", "there is no such order"), Ok)
}

pub(super) async fn order(State(authority): Shared, Path(number): Path<usize>, incoming: Incoming) -> Answer {
    let (_, account) = check_account(&authority, &incoming)?;
    let inner = authority.inner();
    own_order(&inner, number, account)?;
    Ok(axum::Json(authority.order_json(&inner, number)).into_response())
}

fn own_authorization(inner: &Inner, number: usize, account: usize) -> Result<&Authorization, Refusal> {
    let authorization = inner.authorizations.get(number).filter(|authorization| authorization.account == account);
    authorization.map_or_else(|| refuse(404, "malformed", "there is no such authorization"), Ok)
}

pub(super) async fn authorization(State(authority): Shared, Path(number): Path<usize>, incoming: Incoming) -> Answer {
    let (signed, account) = check_account(&authority, &incoming)?;
    let mut inner = authority.inner();
    let open = own_authorization(&inner, number, account)?.status;
    if signed.payload.as_ref().is_some_and(|change| change["status"] == "deactivated") {
        if open != "pending" && open != "valid" {
            return refuse(400, "malformed", format!("the authorization is {open}"));
        }
        inner.authorizations[number].status = "deactivated";
    }
    Ok(axum::Json(authority.authorization_json(&inner, number)).into_response())
}

pub(super) async fn challenge(State(authority): Shared, Path(number): Path<usize>, incoming: Incoming) -> Answer {
    let (signed, account) = check_account(&authority, &incoming)?;
    let mut inner = authority.inner();
    let open = own_authorization(&inner, number, account)?;
    if signed.payload.is_some() {
        if open.challenge != "pending" || open.status != "pending" {
            return refuse(400, "malformed", format!("the challenge is {} already", open.challenge));
        }
        let (hostname, wildcard) = (open.name.clone(), open.wildcard);
        let expected = expected_text(&open.token, &inner.accounts[account].key.thumbprint);
        inner.authorizations[number].challenge = "processing";
        let authority = authority.clone();
        tokio::spawn(async move {
            let result = authority.validate(&hostname, wildcard, &expected, account).await;
            authority.validated(number, result);
        });
    }
    let up = format!("<{}>;rel=\"up\"", authority.url("authorization", number));
    Ok(([(header::LINK, up)], axum::Json(authority.challenge_json(&inner, number))).into_response())
}

impl Authority {
    async fn validate(&self, hostname: &str, wildcard: bool, expected: &str, account: usize) -> Result<(), Refusal> {
        let slow = self.faults.has(&Fault::SlowValidation);
        tokio::time::sleep(if slow { TAKES_LONG } else { TAKES }).await;
        if self.faults.has(&Fault::Validation(hostname.to_owned())) {
            return refuse(403, "unauthorized", format!("{hostname} is made to fail"));
        }
        validation::dns01(&self.validators, hostname, expected).await?;
        let account = self.url("account", account);
        match self.validators.first() {
            Some(server) => validation::caa(*server, self.identity, hostname, wildcard, &account).await,
            None => Ok(()),
        }
    }

    fn challenge_json(&self, inner: &Inner, number: usize) -> Value {
        let authorization = &inner.authorizations[number];
        let mut value = json!({
            "type": "dns-01",
            "url": self.url("challenge", number),
            "status": authorization.challenge,
            "token": authorization.token,
        });
        if let Some(error) = &authorization.error {
            value["error"] = error.clone();
        }
        value
    }

    fn authorization_json(&self, inner: &Inner, number: usize) -> Value {
        let authorization = &inner.authorizations[number];
        let mut value = json!({
            "status": authorization.status,
            "identifier": { "type": "dns", "value": authorization.name },
            "challenges": [self.challenge_json(inner, number)],
        });
        if authorization.wildcard {
            value["wildcard"] = true.into();
        }
        value
    }
}

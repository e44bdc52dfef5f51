//! Accounts (RFC 8555 §7.3).

use axum::extract::{Path, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde_json::{Value, json};

use super::jws::{By, Key, Request, check_binding};
use super::request::{Answer, Incoming, Shared, check, check_account};
use super::{Account, Authority, Inner, Refusal, refuse};

/// The most contacts of an account.
const MOST_CONTACTS: usize = 10;

pub(super) async fn new_account(State(authority): Shared, incoming: Incoming) -> Answer {
    let signed = check(&authority, &incoming)?;
    let By::Key(key) = &signed.by else {
        return refuse(400, "malformed", "this must be signed with a jwk");
    };
    let payload = signed.payload()?;
    let (status, number) = match signed.account {
        Some(number) => (StatusCode::OK, number),
        None if payload["onlyReturnExisting"] == true => {
            return refuse(400, "accountDoesNotExist", "this key has no account");
        }
        None if payload["termsOfServiceAgreed"] != true => {
            return refuse(403, "userActionRequired", "the terms of service must be agreed to");
        }
        None => {
            if let Some(external) = &authority.external {
                check_binding(
                    &payload["externalAccountBinding"],
                    external,
                    &format!("{}/account", authority.base),
                    key,
                )?;
            }
            let contact = contacts(&payload["contact"])?;
            let mut inner = authority.inner();
            inner.accounts.push(Account { key: key.clone(), contact, status: "valid" });
            (StatusCode::CREATED, inner.accounts.len() - 1)
        }
    };
    let inner = authority.inner();
    Ok((status, [(header::LOCATION, authority.url("account", number))], shown(&authority, &inner, number))
        .into_response())
}

fn contacts(contact: &Value) -> Result<Value, Refusal> {
    let Some(contacts) = contact.as_array() else { return Ok(json!([])) };
    let is_mail = |contact: &Value| {
        contact.as_str().and_then(|text| text.strip_prefix("mailto:")).is_some_and(|mail| mail.contains('@'))
    };
    if contacts.len() > MOST_CONTACTS || !contacts.iter().all(is_mail) {
        return refuse(400, "invalidContact", "a contact must be mailto: with one address");
    }
    Ok(contact.clone())
}

fn shown(authority: &Authority, inner: &Inner, number: usize) -> Response {
    let account = &inner.accounts[number];
    let mut value = json!({ "status": account.status, "contact": account.contact });
    if authority.order_list {
        value["orders"] = authority.url("orders", number).into();
    }
    axum::Json(value).into_response()
}

pub(super) async fn account(State(authority): Shared, Path(number): Path<usize>, incoming: Incoming) -> Answer {
    let (signed, account) = check_account(&authority, &incoming)?;
    if account != number {
        return refuse(403, "unauthorized", "this is another account");
    }
    let mut inner = authority.inner();
    if let Some(change) = &signed.payload {
        if change["status"] == "deactivated" {
            inner.accounts[number].status = "deactivated";
        }
        if !change["contact"].is_null() {
            inner.accounts[number].contact = contacts(&change["contact"])?;
        }
    }
    Ok(shown(&authority, &inner, number))
}

pub(super) async fn key_change(State(authority): Shared, incoming: Incoming) -> Answer {
    let (signed, number) = check_account(&authority, &incoming)?;
    let request = Request::read_inner(signed.payload()?)?;
    let By::Key(new) = &request.by else {
        return refuse(400, "malformed", "the inner request must carry the new key");
    };
    request.check(new)?;
    if request.url != format!("{}{}", authority.base, incoming.uri.path()) {
        return refuse(400, "malformed", "the inner request is for another URL");
    }
    let change = request.payload.clone().unwrap_or_default();
    let mut inner = authority.inner();
    if change["account"] != authority.url("account", number).as_str() {
        return refuse(400, "malformed", "the inner request is for another account");
    }
    if Key::read(&change["oldKey"])?.thumbprint != inner.accounts[number].key.thumbprint {
        return refuse(400, "malformed", "oldKey is not the account's key");
    }
    if inner.accounts.iter().any(|account| account.key.thumbprint == new.thumbprint) {
        return refuse(409, "malformed", "the new key has an account already");
    }
    inner.accounts[number].key = new.clone();
    Ok(shown(&authority, &inner, number))
}

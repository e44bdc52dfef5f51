//! Accounts: what is asked of an authority and what it answers (RFC 8555 §7.3).

use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

/// The states of an account (RFC 8555 §7.1.6).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[expect(missing_docs, reason = "the names are the standard's own")]
pub enum AccountStatus {
    Valid,
    Deactivated,
    Revoked,
}

impl AccountStatus {
    /// All states.
    pub const ALL: [AccountStatus; 3] = [AccountStatus::Valid, AccountStatus::Deactivated, AccountStatus::Revoked];

    /// Returns the state's name.
    pub fn as_str(self) -> &'static str {
        match self {
            AccountStatus::Valid => "valid",
            AccountStatus::Deactivated => "deactivated",
            AccountStatus::Revoked => "revoked",
        }
    }
}

/// An account (RFC 8555 §7.1.2).
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
pub struct Account {
    /// Its state.
    pub status: AccountStatus,
    /// Contact URLs; an authority need not show them.
    #[serde(default)]
    pub contact: Option<Vec<String>>,
    /// Where its orders are listed, where the authority has such a list.
    pub orders: Option<String>,
}

/// Returns the payload that makes an account, or finds the one that the key has
/// (RFC 8555 §7.3).
pub fn make(contact: &[String], external_binding: Option<Value>) -> Value {
    let mut payload = json!({ "termsOfServiceAgreed": true });
    if !contact.is_empty() {
        payload["contact"] = contact.into();
    }
    if let Some(binding) = external_binding {
        payload["externalAccountBinding"] = binding;
    }
    payload
}

/// Returns the payload that only finds an account (RFC 8555 §7.3.1).
pub fn find() -> Value {
    json!({ "onlyReturnExisting": true })
}

/// Returns the payload that changes the contacts (RFC 8555 §7.3.2).
pub fn contacts(contact: &[String]) -> Value {
    json!({ "contact": contact })
}

/// Returns the payload that agrees to terms that have changed (RFC 8555 §7.3.3).
pub fn agree() -> Value {
    json!({ "termsOfServiceAgreed": true })
}

/// Returns the payload that closes an account permanently (RFC 8555 §7.3.6), or gives up
/// an authorization (§7.5.2).
pub fn deactivate() -> Value {
    json!({ "status": "deactivated" })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_state_is_kept_under_the_standards_own_word() {
        for status in [AccountStatus::Valid, AccountStatus::Deactivated, AccountStatus::Revoked] {
            assert_eq!(serde_json::to_value(status).unwrap(), status.as_str());
        }
    }

    #[test]
    fn an_account_says_only_what_there_is_to_say() {
        assert_eq!(make(&[], None), json!({ "termsOfServiceAgreed": true }));
        let contact = ["mailto:tls@larkfield.example".to_owned()];
        let whole = make(&contact, Some(json!({ "payload": "" })));
        assert_eq!(whole["contact"], json!(contact));
        assert_eq!(whole["externalAccountBinding"], json!({ "payload": "" }));
    }
}

//! Accounts at authorities: opened, found, changed, given another key, closed.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use pindrel_acme::{Registered, TransportError};
use pindrel_core::certificates::acme::account::{self, AccountStatus};
use pindrel_core::certificates::acme::jws::Unsigned;
use pindrel_core::desired::AuthorityId;
use pindrel_core::judging::findings::{Code, Finding};
use pindrel_core::values::KeyKind;
use pindrel_keys::{AccountKey, external_mac};
use pindrel_state::{AccountRow, Claim};
use secrecy::{ExposeSecret as _, SecretString};
use serde_json::Value;
use tokio::sync::OnceCell;

use super::Signing;
use crate::drivers::Authority;
use crate::failure::{EngineError, key_failed, seal_failed, secret_unreadable, state_failed, transport_failed};
use crate::run::Engine;

/// An account with all that its orders need.
pub(crate) struct Account {
    pub(crate) authority: Arc<dyn Authority>,
    pub(crate) key: AccountKey,
    pub(crate) url: String,
    pub(crate) orders: Option<String>,
}

/// The accounts that the orders of one run are made with, each read once.
#[derive(Default)]
pub(crate) struct OpenAccounts(Mutex<HashMap<AuthorityId, Arc<OnceCell<Arc<Account>>>>>);

impl OpenAccounts {
    fn cell(&self, id: AuthorityId) -> Arc<OnceCell<Arc<Account>>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).entry(id).or_default().clone()
    }

    fn forget(&self, id: AuthorityId) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).remove(&id);
    }
}

/// What is known of an account.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AccountReport {
    /// The authority's name in the manifest.
    pub authority: String,
    /// The directory URL.
    pub directory: String,
    /// The account's URL; `None` where there is none yet.
    pub url: Option<String>,
    /// Its state, as the authority said last.
    pub status: Option<AccountStatus>,
    /// Its contacts.
    pub contact: Vec<String>,
    /// The kind of its key.
    pub key: Option<KeyKind>,
    /// The thumbprint of its key (RFC 7638), base64url.
    pub thumbprint: Option<String>,
    /// The terms of service that were agreed to.
    pub terms: Option<String>,
    /// The terms that the authority names now, where they are others.
    pub new_terms: Option<String>,
    /// Whether a change of its key is not confirmed yet.
    pub key_change_pending: bool,
    /// Why the authority could not be asked.
    pub unreachable: Option<String>,
}

/// How an account is opened.
#[derive(Debug, Default)]
pub struct Registration {
    /// A key that exists already; one is made otherwise.
    pub key: Option<AccountKey>,
    /// Whether to agree to terms that have changed.
    pub agree: bool,
}

impl Engine {
    /// The step that opens an account, or finds it.
    pub(crate) async fn register(&self, id: AuthorityId) -> Result<(), Finding> {
        self.open_account(id, Registration::default()).await.map(drop)
    }

    /// Opens an account at an authority, or finds the one that the key has; contacts
    /// that differ from the manifest's are changed.
    ///
    /// # Errors
    /// A [`Finding`].
    pub async fn open_account(&self, id: AuthorityId, how: Registration) -> Result<AccountReport, Finding> {
        self.claimed(&self.account_claim(id), async |_| self.open_claimed_account(id, how).await).await
    }

    fn account_claim(&self, id: AuthorityId) -> String {
        format!("account {}", self.desired.authority(id).directory)
    }

    async fn open_claimed_account(&self, id: AuthorityId, how: Registration) -> Result<AccountReport, Finding> {
        let wanted = self.desired.authority(id);
        let directory = wanted.directory.as_str();
        let authority = self.authority(id).await?;
        let known =
            self.state.account(directory).await.map_err(state_failed)?.filter(|row| row.status == AccountStatus::Valid);
        let known = match known {
            Some(row) => Some(self.confirm_key_change(&*authority, row).await?),
            None => None,
        };
        let (key, mut row) = match (how.key, known) {
            (Some(key), Some(row)) if self.account_key_of(&row)?.jwk() != key.jwk() => {
                let says = format!("an account with another key already exists at {directory}");
                let remedy = "Change its key with: pindrel account change-key, or close it first";
                return Err(Finding::of(Code::AuthorityRefuses, says, remedy));
            }
            (_, Some(row)) => (self.account_key_of(&row)?, row),
            (given, None) => {
                let key = match given {
                    Some(key) => key,
                    None => self.drivers.keys().account_key(wanted.account_key).await.map_err(key_failed)?,
                };
                // Sealed before the authority hears of it: asking twice with the same key
                // finds the same account (RFC 8555 §7.3.1).
                let row = AccountRow {
                    authority: directory.into(),
                    key: self.vault.seal(&account_row(directory), key.pkcs8()).map_err(seal_failed)?,
                    url: None,
                    orders: None,
                    status: AccountStatus::Valid,
                    contact: Vec::new(),
                    terms: None,
                    next_key: None,
                };
                self.state.persist_account(&row).await.map_err(state_failed)?;
                (key, row)
            }
        };
        let terms = authority.directory().meta.terms_of_service.clone();
        let registered = match &row.url {
            None => self.first_registration(id, &*authority, &key).await?,
            Some(url) => {
                let changed = row.terms.is_some() && row.terms != terms;
                if changed && how.agree {
                    authority.account(&Signing(&key), url, Some(account::agree())).await.map_err(transport_failed)?;
                    row.terms.clone_from(&terms);
                }
                match authority.account(&Signing(&key), url, None).await {
                    Err(TransportError::Refused { problem, .. }) if problem.error() == "accountDoesNotExist" => {
                        self.note(format!("{} no longer knows the account {url}; another one is opened", wanted.name));
                        row.terms = None;
                        self.first_registration(id, &*authority, &key).await?
                    }
                    shown => shown.map_err(transport_failed)?,
                }
            }
        };
        if row.url.is_none() || row.terms.is_none() {
            row.terms = terms;
        }
        self.apply_account(&mut row, &registered);
        if row.contact != wanted.contact && row.status == AccountStatus::Valid {
            self.change_contacts(&*authority, &key, &registered.url, &mut row, &wanted.contact).await?;
        }
        self.state.persist_account(&row).await.map_err(state_failed)?;
        Ok(self.account_report(id, Some(&row), Some(&key), Some(&*authority)))
    }

    async fn first_registration(
        &self,
        id: AuthorityId,
        authority: &dyn Authority,
        key: &AccountKey,
    ) -> Result<Registered, Finding> {
        let wanted = self.desired.authority(id);
        let meta = &authority.directory().meta;
        let binding = self.external_binding(id, key, &authority.directory().new_account)?;
        if binding.is_none() && meta.external_account_required {
            // A key that came from elsewhere may have its account already.
            return authority
                .find(&Signing(key))
                .await
                .map_err(transport_failed)?
                .ok_or_else(|| no_external_key(wanted));
        }
        let bound = binding.is_some();
        authority.register(&Signing(key), &wanted.contact, binding).await.map_err(|error| match &error {
            TransportError::Refused { problem, .. }
                if bound && matches!(problem.error(), "malformed" | "unauthorized" | "externalAccountRequired") =>
            {
                let says = format!("{} does not accept the external account key: {problem}", wanted.name);
                let remedy =
                    format!("Check id, secret and algorithm of external_account_key in [authority.{}]", wanted.name);
                Finding::of(Code::AuthorityRefuses, says, remedy)
            }
            _ => transport_failed(error),
        })
    }

    async fn change_contacts(
        &self,
        authority: &dyn Authority,
        key: &AccountKey,
        url: &str,
        row: &mut AccountRow,
        wanted: &[String],
    ) -> Result<(), Finding> {
        let changed =
            authority.account(&Signing(key), url, Some(account::contacts(wanted))).await.map_err(transport_failed)?;
        self.apply_account(row, &changed);
        // An authority need not show the contacts that it took.
        row.contact = wanted.to_vec();
        Ok(())
    }

    fn apply_account(&self, row: &mut AccountRow, registered: &Registered) {
        row.url = Some(registered.url.clone());
        row.status = registered.status;
        if registered.orders.is_some() {
            row.orders.clone_from(&registered.orders);
        }
        if let Some(contact) = &registered.contact {
            row.contact.clone_from(contact);
        }
    }

    fn external_binding(&self, id: AuthorityId, key: &AccountKey, url: &str) -> Result<Option<Value>, Finding> {
        let Some(external) = &self.desired.authority(id).external_account_key else { return Ok(None) };
        let unreadable = |why: &str| secret_unreadable(&external.secret, why);
        let secret = self.drivers.secret(&external.secret).map_err(|why| unreadable(&why))?;
        let encoded = secret.expose_secret().trim_end_matches('=').replace('+', "-").replace('/', "_");
        let mac = base64::Engine::decode(&base64::engine::general_purpose::URL_SAFE_NO_PAD, encoded)
            .map_err(|_| unreadable("it is not base64url"))?;
        let unsigned = Unsigned::external_binding(external.algorithm, &external.id, url, key.jwk());
        let signature = external_mac(external.algorithm, &mac, &unsigned.to_sign());
        Ok(Some(unsigned.signed(&signature)))
    }

    /// The account that orders at an authority are made with; read once a run.
    pub(crate) async fn account(&self, id: AuthorityId) -> Result<Arc<Account>, Finding> {
        let cell = self.accounts.cell(id);
        cell.get_or_try_init(async || self.read_account(id).await.map(Arc::new)).await.cloned()
    }

    async fn read_account(&self, id: AuthorityId) -> Result<Account, Finding> {
        let wanted = self.desired.authority(id);
        let directory = wanted.directory.as_str();
        let authority = self.authority(id).await?;
        let none = || {
            let says = format!("there is no open account at {}", wanted.name);
            Finding::of(Code::AccountMissing, says, format!("Open one with: pindrel account register {}", wanted.name))
        };
        let read = async || {
            let row = self.state.account(directory).await.map_err(state_failed)?;
            row.filter(|row| row.status == AccountStatus::Valid).ok_or_else(none)
        };
        let mut row = read().await?;
        if row.next_key.is_some() || row.contact != wanted.contact {
            let update = async |_: &Claim| {
                let mut row = self.confirm_key_change(&*authority, read().await?).await?;
                if let Some(url) = row.url.clone().filter(|_| row.contact != wanted.contact) {
                    let key = self.account_key_of(&row)?;
                    self.change_contacts(&*authority, &key, &url, &mut row, &wanted.contact).await?;
                    self.state.persist_account(&row).await.map_err(state_failed)?;
                }
                Ok(row)
            };
            row = self.claimed(&self.account_claim(id), update).await?;
        }
        let url = row.url.clone().ok_or_else(none)?;
        let key = self.account_key_of(&row)?;
        let terms = &authority.directory().meta.terms_of_service;
        if let (Some(agreed), Some(new)) = (&row.terms, terms)
            && agreed != new
        {
            let says = format!(
                "the terms of service of {directory} have changed to {new}; once read, agree with: pindrel account register {} --agree",
                wanted.name
            );
            self.note(says);
        }
        Ok(Account { authority, key, url, orders: row.orders })
    }

    fn account_key_of(&self, row: &AccountRow) -> Result<AccountKey, Finding> {
        let pkcs8 = self.vault.unseal(&account_row(&row.authority), &row.key).map_err(seal_failed)?;
        AccountKey::from_pkcs8(pkcs8.expose_secret()).map_err(key_failed)
    }

    /// Returns what is known of the account at each authority; each is asked, unless
    /// there is none.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read.
    pub async fn account_reports(&self, ids: &[AuthorityId]) -> Result<Vec<AccountReport>, EngineError> {
        let mut reports = Vec::with_capacity(ids.len());
        for id in ids {
            let row = self.state.account(self.desired.authority(*id).directory.as_str()).await?;
            let Some(mut row) = row else {
                reports.push(self.account_report(*id, None, None, None));
                continue;
            };
            match self.ask_account(*id, &mut row).await {
                Ok((key, authority)) => {
                    reports.push(self.account_report(*id, Some(&row), Some(&key), Some(&*authority)));
                }
                Err(finding) => {
                    let key = self.account_key_of(&row).ok();
                    let report = self.account_report(*id, Some(&row), key.as_ref(), None);
                    reports.push(AccountReport { unreachable: Some(finding.says), ..report });
                }
            }
        }
        Ok(reports)
    }

    async fn ask_account(
        &self,
        id: AuthorityId,
        row: &mut AccountRow,
    ) -> Result<(AccountKey, Arc<dyn Authority>), Finding> {
        let key = self.account_key_of(row)?;
        let authority = self.authority(id).await?;
        if let (Some(url), AccountStatus::Valid) = (row.url.clone(), row.status) {
            let shown = authority.account(&Signing(&key), &url, None).await.map_err(transport_failed)?;
            self.apply_account(row, &shown);
        }
        Ok((key, authority))
    }

    fn account_report(
        &self,
        id: AuthorityId,
        row: Option<&AccountRow>,
        key: Option<&AccountKey>,
        authority: Option<&dyn Authority>,
    ) -> AccountReport {
        let wanted = self.desired.authority(id);
        let terms = row.and_then(|row| row.terms.clone());
        let named = authority.and_then(|authority| authority.directory().meta.terms_of_service.clone());
        AccountReport {
            authority: wanted.name.clone(),
            directory: wanted.directory.to_string(),
            url: row.and_then(|row| row.url.clone()),
            status: row.map(|row| row.status),
            contact: row.map_or_else(Vec::new, |row| row.contact.clone()),
            key: key.map(AccountKey::kind),
            thumbprint: key.map(|key| key.jwk().thumbprint()),
            new_terms: named.filter(|named| terms.as_ref().is_some_and(|terms| terms != named)),
            terms,
            key_change_pending: row.is_some_and(|row| row.next_key.is_some()),
            unreachable: None,
        }
    }

    /// Returns the account's private key, to be taken elsewhere.
    ///
    /// # Errors
    /// A [`Finding`].
    pub async fn export_account_key(&self, id: AuthorityId, as_jwk: bool) -> Result<SecretString, Finding> {
        let directory = self.desired.authority(id).directory.as_str();
        let row = self.state.account(directory).await.map_err(state_failed)?;
        let row = row.ok_or_else(|| no_account(directory))?;
        let key = self.account_key_of(&row)?;
        if as_jwk { key.private_jwk().map_err(key_failed) } else { Ok(key.pem()) }
    }

    /// Gives an account another key. Both keys are kept until the authority confirms.
    ///
    /// # Errors
    /// A [`Finding`].
    pub async fn change_account_key(
        &self,
        id: AuthorityId,
        given: Option<AccountKey>,
    ) -> Result<AccountReport, Finding> {
        let account = self.account(id).await?;
        self.claimed(&self.account_claim(id), async |_| self.change_claimed_key(id, &account, given).await).await
    }

    async fn change_claimed_key(
        &self,
        id: AuthorityId,
        account: &Account,
        given: Option<AccountKey>,
    ) -> Result<AccountReport, Finding> {
        let wanted = self.desired.authority(id);
        let directory = wanted.directory.as_str();
        let mut row =
            self.state.account(directory).await.map_err(state_failed)?.ok_or_else(|| no_account(directory))?;
        let new = match given {
            Some(key) => key,
            None => self.drivers.keys().account_key(wanted.account_key).await.map_err(key_failed)?,
        };
        row.next_key = Some(self.vault.seal(&next_key_row(directory), new.pkcs8()).map_err(seal_failed)?);
        self.state.persist_account(&row).await.map_err(state_failed)?;
        self.journalled("account-change-key", directory, &account.url, async {
            match account.authority.change_key(&Signing(&account.key), &Signing(&new), &account.url).await {
                Ok(()) => {}
                Err(error) if error.may_have_acted() => {
                    // Which of both keys counts is found out by asking, now or at the next run.
                    row = self.confirm_key_change(&*account.authority, row.clone()).await?;
                    if self.account_key_of(&row)?.jwk() != new.jwk() {
                        return Err(transport_failed(error));
                    }
                }
                Err(error) => {
                    row.next_key = None;
                    self.state.persist_account(&row).await.map_err(state_failed)?;
                    return Err(transport_failed(error));
                }
            }
            self.apply_next_key(&mut row, &new).await
        })
        .await?;
        self.accounts.forget(id);
        Ok(self.account_report(id, Some(&row), Some(&new), Some(&*account.authority)))
    }

    async fn apply_next_key(&self, row: &mut AccountRow, new: &AccountKey) -> Result<(), Finding> {
        row.key = self.vault.seal(&account_row(&row.authority), new.pkcs8()).map_err(seal_failed)?;
        row.next_key = None;
        self.state.persist_account(row).await.map_err(state_failed)
    }

    /// Finds out whether a key change that was under way has come about.
    async fn confirm_key_change(&self, authority: &dyn Authority, mut row: AccountRow) -> Result<AccountRow, Finding> {
        let Some(next) = row.next_key.clone() else { return Ok(row) };
        let pkcs8 = self.vault.unseal(&next_key_row(&row.authority), &next).map_err(seal_failed)?;
        let new = AccountKey::from_pkcs8(pkcs8.expose_secret()).map_err(key_failed)?;
        let found = authority.find(&Signing(&new)).await.map_err(transport_failed)?;
        if found.is_some_and(|found| Some(&found.url) == row.url.as_ref()) {
            self.apply_next_key(&mut row, &new).await?;
        } else {
            row.next_key = None;
            self.state.persist_account(&row).await.map_err(state_failed)?;
        }
        Ok(row)
    }

    /// Closes an account permanently.
    ///
    /// # Errors
    /// A [`Finding`].
    pub async fn close_account(&self, id: AuthorityId) -> Result<AccountReport, Finding> {
        let account = self.account(id).await?;
        self.claimed(&self.account_claim(id), async |_| self.close_claimed_account(id, &account).await).await
    }

    async fn close_claimed_account(&self, id: AuthorityId, account: &Account) -> Result<AccountReport, Finding> {
        let directory = self.desired.authority(id).directory.as_str();
        let mut row =
            self.state.account(directory).await.map_err(state_failed)?.ok_or_else(|| no_account(directory))?;
        self.journalled("account-close", directory, &account.url, async {
            let deactivate = Some(account::deactivate());
            match account.authority.account(&Signing(&account.key), &account.url, deactivate).await {
                Ok(closed) => self.apply_account(&mut row, &closed),
                // One that is closed already answers as one that may not be used.
                Err(TransportError::Refused { problem, .. }) if problem.status == Some(401) => {}
                Err(error) => return Err(transport_failed(error)),
            }
            row.status = AccountStatus::Deactivated;
            self.state.persist_account(&row).await.map_err(state_failed)
        })
        .await?;
        self.accounts.forget(id);
        Ok(self.account_report(id, Some(&row), Some(&account.key), Some(&*account.authority)))
    }
}

/// Says that an authority opens accounts only for those whom it knows otherwise.
pub(crate) fn no_external_key(wanted: &pindrel_core::desired::Authority) -> Finding {
    let says = format!("{} opens accounts only with an external account key", wanted.name);
    let remedy = format!("Write external_account_key in [authority.{}]", wanted.name);
    Finding::of(Code::AccountMissing, says, remedy)
}

fn no_account(directory: &str) -> Finding {
    let says = format!("there is no account at {directory}");
    Finding::of(Code::AccountMissing, says, "Open one with: pindrel account register")
}

/// The row that an account key is sealed for.
fn account_row(directory: &str) -> String {
    format!("account/{directory}")
}

/// The row that the key of a change under way is sealed for.
fn next_key_row(directory: &str) -> String {
    format!("next account/{directory}")
}

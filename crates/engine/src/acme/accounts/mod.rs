//! Accounts at authorities: opened, found, changed, given another key, closed.

mod keys;

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use pindrel_acme::{Registered, RequestSigner, TransportError};
use pindrel_core::certificates::acme::account::{self, AccountStatus};
use pindrel_core::certificates::acme::jws::{Jwk, Unsigned};
use pindrel_core::desired::AuthorityId;
use pindrel_core::judging::findings::{AuthorityCause, Finding};
use pindrel_core::values::KeyKind;
use pindrel_keys::{AccountKey, external_mac};
use pindrel_state::{AccountRow, Claim};
use secrecy::ExposeSecret as _;
use serde_json::Value;
use tokio::sync::OnceCell;

use crate::context::Context;
use crate::drivers::Authority;
use crate::failure::{EngineError, key_failed, seal_failed, secret_unreadable, state_failed, transport_failed};

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

/// Accounts at authorities, and the connections to these.
pub struct Accounts {
    pub(crate) context: Arc<Context>,
    /// The connections, each made when first needed.
    pub(crate) authorities: Vec<OnceCell<Arc<dyn Authority>>>,
    pub(crate) open: OpenAccounts,
}

impl Accounts {
    /// The step that opens an account, or finds it.
    pub(crate) async fn register(&self, id: AuthorityId) -> Result<(), Finding> {
        self.open(id, Registration::default()).await.map(drop)
    }

    /// Opens an account at an authority, or finds the one that the key has; contacts
    /// that differ from the manifest's are changed.
    ///
    /// # Errors
    /// A [`Finding`].
    pub async fn open(&self, id: AuthorityId, how: Registration) -> Result<AccountReport, Finding> {
        self.context.claimed(&self.claim_key(id), async |_| self.open_claimed_account(id, how).await).await
    }

    fn claim_key(&self, id: AuthorityId) -> String {
        format!("account {}", self.context.desired.authority(id).directory)
    }

    async fn open_claimed_account(&self, id: AuthorityId, how: Registration) -> Result<AccountReport, Finding> {
        let wanted = self.context.desired.authority(id);
        let directory = wanted.directory.as_str();
        let authority = self.authority(id).await?;
        let known = self
            .context
            .state
            .account(directory)
            .await
            .map_err(state_failed)?
            .filter(|row| row.status == AccountStatus::Valid);
        let known = match known {
            Some(row) => Some(self.confirm_key_change(&*authority, row).await?),
            None => None,
        };
        let (key, mut row) = match (how.key, known) {
            (Some(key), Some(row)) if self.key_of(&row)?.jwk() != key.jwk() => {
                return Err(Finding::authority(directory, AuthorityCause::OtherAccountKey));
            }
            (_, Some(row)) => (self.key_of(&row)?, row),
            (given, None) => {
                let key = match given {
                    Some(key) => key,
                    None => self.context.drivers.keys().account_key(wanted.account_key).await.map_err(key_failed)?,
                };
                // Sealed before the authority hears of it: asking twice with the same key
                // finds the same account (RFC 8555 §7.3.1).
                let row = AccountRow {
                    authority: directory.into(),
                    key: self.context.vault.seal(&account_row(directory), key.pkcs8()).map_err(seal_failed)?,
                    url: None,
                    orders: None,
                    status: AccountStatus::Valid,
                    contact: Vec::new(),
                    terms: None,
                    next_key: None,
                };
                self.context.state.persist_account(&row).await.map_err(state_failed)?;
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
                        self.context
                            .note(format!("{} no longer knows the account {url}; another one is opened", wanted.name));
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
        self.context.state.persist_account(&row).await.map_err(state_failed)?;
        Ok(self.report(id, Some(&row), Some(&key), Some(&*authority)))
    }

    async fn first_registration(
        &self,
        id: AuthorityId,
        authority: &dyn Authority,
        key: &AccountKey,
    ) -> Result<Registered, Finding> {
        let wanted = self.context.desired.authority(id);
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
                let said = problem.to_string();
                Finding::authority(&wanted.name, AuthorityCause::ExternalKeyRefused { said })
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
        let Some(external) = &self.context.desired.authority(id).external_account_key else { return Ok(None) };
        let unreadable = |why: &str| secret_unreadable(&external.secret, why);
        let secret = self.context.drivers.secret(&external.secret).map_err(|why| unreadable(&why))?;
        let encoded = secret.expose_secret().trim_end_matches('=').replace('+', "-").replace('/', "_");
        let mac = base64::Engine::decode(&base64::engine::general_purpose::URL_SAFE_NO_PAD, encoded)
            .map_err(|_| unreadable("it is not base64url"))?;
        let unsigned = Unsigned::external_binding(external.algorithm, &external.id, url, key.jwk());
        let signature = external_mac(external.algorithm, &mac, &unsigned.to_sign());
        Ok(Some(unsigned.signed(&signature)))
    }

    /// The account that orders at an authority are made with; read once a run.
    pub(crate) async fn account(&self, id: AuthorityId) -> Result<Arc<Account>, Finding> {
        let cell = self.open.cell(id);
        cell.get_or_try_init(async || self.read_account(id).await.map(Arc::new)).await.cloned()
    }

    async fn read_account(&self, id: AuthorityId) -> Result<Account, Finding> {
        let wanted = self.context.desired.authority(id);
        let directory = wanted.directory.as_str();
        let authority = self.authority(id).await?;
        let none = || Finding::authority(&wanted.name, AuthorityCause::NoAccount { closed: true });
        let read = async || {
            let row = self.context.state.account(directory).await.map_err(state_failed)?;
            row.filter(|row| row.status == AccountStatus::Valid).ok_or_else(none)
        };
        let mut row = read().await?;
        if row.next_key.is_some() || row.contact != wanted.contact {
            let update = async |_: &Claim| {
                let mut row = self.confirm_key_change(&*authority, read().await?).await?;
                if let Some(url) = row.url.clone().filter(|_| row.contact != wanted.contact) {
                    let key = self.key_of(&row)?;
                    self.change_contacts(&*authority, &key, &url, &mut row, &wanted.contact).await?;
                    self.context.state.persist_account(&row).await.map_err(state_failed)?;
                }
                Ok(row)
            };
            row = self.context.claimed(&self.claim_key(id), update).await?;
        }
        let url = row.url.clone().ok_or_else(none)?;
        let key = self.key_of(&row)?;
        let terms = &authority.directory().meta.terms_of_service;
        if let (Some(agreed), Some(new)) = (&row.terms, terms)
            && agreed != new
        {
            let says = format!(
                "the terms of service of {directory} have changed to {new}; once read, agree with: pindrel account register {} --agree",
                wanted.name
            );
            self.context.note(says);
        }
        Ok(Account { authority, key, url, orders: row.orders })
    }

    fn key_of(&self, row: &AccountRow) -> Result<AccountKey, Finding> {
        let pkcs8 = self.context.vault.unseal(&account_row(&row.authority), &row.key).map_err(seal_failed)?;
        AccountKey::from_pkcs8(pkcs8.expose_secret()).map_err(key_failed)
    }

    /// Returns what is known of the account at each authority; each is asked, unless
    /// there is none.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read.
    pub async fn reports(&self, ids: &[AuthorityId]) -> Result<Vec<AccountReport>, EngineError> {
        let mut reports = Vec::with_capacity(ids.len());
        for id in ids {
            let row = self.context.state.account(self.context.desired.authority(*id).directory.as_str()).await?;
            let Some(mut row) = row else {
                reports.push(self.report(*id, None, None, None));
                continue;
            };
            match self.ask_account(*id, &mut row).await {
                Ok((key, authority)) => {
                    reports.push(self.report(*id, Some(&row), Some(&key), Some(&*authority)));
                }
                Err(finding) => {
                    let key = self.key_of(&row).ok();
                    let report = self.report(*id, Some(&row), key.as_ref(), None);
                    reports.push(AccountReport { unreachable: Some(finding.says()), ..report });
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
        let key = self.key_of(row)?;
        let authority = self.authority(id).await?;
        if let (Some(url), AccountStatus::Valid) = (row.url.clone(), row.status) {
            let shown = authority.account(&Signing(&key), &url, None).await.map_err(transport_failed)?;
            self.apply_account(row, &shown);
        }
        Ok((key, authority))
    }

    fn report(
        &self,
        id: AuthorityId,
        row: Option<&AccountRow>,
        key: Option<&AccountKey>,
        authority: Option<&dyn Authority>,
    ) -> AccountReport {
        let wanted = self.context.desired.authority(id);
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

    /// Closes an account permanently.
    ///
    /// # Errors
    /// A [`Finding`].
    pub async fn close(&self, id: AuthorityId) -> Result<AccountReport, Finding> {
        let account = self.account(id).await?;
        self.context.claimed(&self.claim_key(id), async |_| self.close_claimed_account(id, &account).await).await
    }

    async fn close_claimed_account(&self, id: AuthorityId, account: &Account) -> Result<AccountReport, Finding> {
        let directory = self.context.desired.authority(id).directory.as_str();
        let mut row =
            self.context.state.account(directory).await.map_err(state_failed)?.ok_or_else(|| no_account(directory))?;
        self.context
            .journalled("account-close", directory, &account.url, async {
                let deactivate = Some(account::deactivate());
                match account.authority.account(&Signing(&account.key), &account.url, deactivate).await {
                    Ok(closed) => self.apply_account(&mut row, &closed),
                    // One that is closed already answers as one that may not be used.
                    Err(TransportError::Refused { problem, .. }) if problem.status == Some(401) => {}
                    Err(error) => return Err(transport_failed(error)),
                }
                row.status = AccountStatus::Deactivated;
                self.context.state.persist_account(&row).await.map_err(state_failed)
            })
            .await?;
        self.open.forget(id);
        Ok(self.report(id, Some(&row), Some(&account.key), Some(&*account.authority)))
    }

    /// The authorities where an account is open.
    pub(crate) async fn open_accounts(&self) -> Result<Vec<AuthorityId>, EngineError> {
        let mut accounts = Vec::new();
        for (authority, id) in self.context.desired.authorities.iter().zip(0u32..) {
            let account = self.context.state.account(authority.directory.as_str()).await?;
            if account.is_some_and(|account| account.url.is_some() && account.status == AccountStatus::Valid) {
                accounts.push(AuthorityId(id));
            }
        }
        Ok(accounts)
    }

    /// The connection to an authority; several that need it at once wait for one.
    pub(crate) async fn authority(&self, id: AuthorityId) -> Result<Arc<dyn Authority>, Finding> {
        let cell = &self.authorities[id.0 as usize];
        cell.get_or_try_init(|| self.context.drivers.authority(self.context.desired.authority(id))).await.cloned()
    }

    /// How many signed requests went to authorities.
    pub(crate) fn signed_requests(&self) -> u64 {
        self.authorities.iter().filter_map(|cell| cell.get()).map(|authority| authority.signed()).sum()
    }
}

/// Says that an authority opens accounts only for those whom it knows otherwise.
pub(crate) fn no_external_key(wanted: &pindrel_core::desired::Authority) -> Finding {
    Finding::authority(&wanted.name, AuthorityCause::ExternalKeyMissing)
}

fn no_account(directory: &str) -> Finding {
    Finding::authority(directory, AuthorityCause::NoAccount { closed: false })
}

/// The row that an account key is sealed for.
fn account_row(directory: &str) -> String {
    format!("account/{directory}")
}

/// Lets an account key sign for the transport.
pub(crate) struct Signing<'k>(pub(crate) &'k AccountKey);

impl RequestSigner for Signing<'_> {
    fn jwk(&self) -> &Jwk {
        self.0.jwk()
    }

    fn sign(&self, message: &[u8]) -> Result<Vec<u8>, String> {
        self.0.sign(message).map_err(|error| error.to_string())
    }
}

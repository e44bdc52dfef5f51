//! The keys of accounts: exported, and changed (RFC 8555 §7.3.5).

use pindrel_core::desired::AuthorityId;
use pindrel_core::judging::findings::Finding;
use pindrel_keys::AccountKey;
use pindrel_state::AccountRow;
use secrecy::{ExposeSecret as _, SecretString};

use super::{Account, AccountReport, Accounts, Signing, account_row, no_account};
use crate::drivers::Authority;
use crate::failure::{key_failed, seal_failed, state_failed, transport_failed};

impl Accounts {
    /// Returns the account's private key, to be taken elsewhere.
    ///
    /// # Errors
    /// A [`Finding`].
    pub async fn export_key(&self, id: AuthorityId, as_jwk: bool) -> Result<SecretString, Finding> {
        let directory = self.context.desired.authority(id).directory.as_str();
        let row = self.context.state.account(directory).await.map_err(state_failed)?;
        let row = row.ok_or_else(|| no_account(directory))?;
        let key = self.key_of(&row)?;
        if as_jwk { key.private_jwk().map_err(key_failed) } else { Ok(key.pem()) }
    }

    /// Gives an account another key. Both keys are kept until the authority confirms.
    ///
    /// # Errors
    /// A [`Finding`].
    pub async fn change_key(&self, id: AuthorityId, given: Option<AccountKey>) -> Result<AccountReport, Finding> {
        let account = self.account(id).await?;
        self.context.claimed(&self.claim_key(id), async |_| self.change_claimed_key(id, &account, given).await).await
    }

    async fn change_claimed_key(
        &self,
        id: AuthorityId,
        account: &Account,
        given: Option<AccountKey>,
    ) -> Result<AccountReport, Finding> {
        let wanted = self.context.desired.authority(id);
        let directory = wanted.directory.as_str();
        let mut row =
            self.context.state.account(directory).await.map_err(state_failed)?.ok_or_else(|| no_account(directory))?;
        let new = match given {
            Some(key) => key,
            None => self.context.drivers.keys().account_key(wanted.account_key).await.map_err(key_failed)?,
        };
        row.next_key = Some(self.context.vault.seal(&next_key_row(directory), new.pkcs8()).map_err(seal_failed)?);
        self.context.state.persist_account(&row).await.map_err(state_failed)?;
        self.context
            .journalled("account-change-key", directory, &account.url, async {
                match account.authority.change_key(&Signing(&account.key), &Signing(&new), &account.url).await {
                    Ok(()) => {}
                    Err(error) if error.may_have_acted() => {
                        // Which of both keys counts is found out by asking, now or at the next run.
                        row = self.confirm_key_change(&*account.authority, row.clone()).await?;
                        if self.key_of(&row)?.jwk() != new.jwk() {
                            return Err(transport_failed(error));
                        }
                    }
                    Err(error) => {
                        row.next_key = None;
                        self.context.state.persist_account(&row).await.map_err(state_failed)?;
                        return Err(transport_failed(error));
                    }
                }
                self.apply_next_key(&mut row, &new).await
            })
            .await?;
        self.open.forget(id);
        Ok(self.report(id, Some(&row), Some(&new), Some(&*account.authority)))
    }

    async fn apply_next_key(&self, row: &mut AccountRow, new: &AccountKey) -> Result<(), Finding> {
        row.key = self.context.vault.seal(&account_row(&row.authority), new.pkcs8()).map_err(seal_failed)?;
        row.next_key = None;
        self.context.state.persist_account(row).await.map_err(state_failed)
    }

    /// Finds out whether a key change that was under way has come about.
    pub(super) async fn confirm_key_change(
        &self,
        authority: &dyn Authority,
        mut row: AccountRow,
    ) -> Result<AccountRow, Finding> {
        let Some(next) = row.next_key.clone() else { return Ok(row) };
        let pkcs8 = self.context.vault.unseal(&next_key_row(&row.authority), &next).map_err(seal_failed)?;
        let new = AccountKey::from_pkcs8(pkcs8.expose_secret()).map_err(key_failed)?;
        let found = authority.find(&Signing(&new)).await.map_err(transport_failed)?;
        if found.is_some_and(|found| Some(&found.url) == row.url.as_ref()) {
            self.apply_next_key(&mut row, &new).await?;
        } else {
            row.next_key = None;
            self.context.state.persist_account(&row).await.map_err(state_failed)?;
        }
        Ok(row)
    }
}

/// The row that the key of a change under way is sealed for.
fn next_key_row(directory: &str) -> String {
    format!("next account/{directory}")
}

//! Accounts and single values.

use async_trait::async_trait;
use pindrel_core::certificates::acme::account::AccountStatus;

use super::{Database, Durability, SqlState, read_json, values, write_json};
use crate::StateError;
use crate::accounts::{AccountRow, Accounts, SealedBytes, Values};

const TABLE: &str = "accounts";

#[async_trait]
impl<D: Database> Values for SqlState<D> {
    async fn value(&self, key: &str) -> Result<Option<SealedBytes>, StateError> {
        let sql = "SELECT key_id, bytes FROM sealed_values WHERE name = ?1";
        let row = self.one("read a value", sql, values![key]).await?;
        row.map(|mut row| row.sealed("sealed_values")).transpose()
    }

    async fn persist_first_value(&self, key: &str, value: &SealedBytes) -> Result<SealedBytes, StateError> {
        let sql = "INSERT INTO sealed_values (name, key_id, bytes) VALUES (?1, ?2, ?3) ON CONFLICT (name) DO NOTHING";
        let params = values![key, &value.key_id, &value.bytes];
        self.execute("store a value", Durability::Now, sql, params).await?;
        Ok(self.value(key).await?.unwrap_or_else(|| value.clone()))
    }
}

#[async_trait]
impl<D: Database> Accounts for SqlState<D> {
    async fn account(&self, authority: &str) -> Result<Option<AccountRow>, StateError> {
        let sql = "SELECT authority, key_id, key, url, orders, status, contact, terms, next_key_id, next_key
                   FROM accounts WHERE authority = ?1";
        let Some(mut row) = self.one("read an account", sql, values![authority]).await? else { return Ok(None) };
        Ok(Some(AccountRow {
            authority: row.text(TABLE)?,
            key: row.sealed(TABLE)?,
            url: row.optional_text(TABLE)?,
            orders: row.optional_text(TABLE)?,
            status: row.word(TABLE, &AccountStatus::ALL, AccountStatus::as_str)?,
            contact: read_json(TABLE, &row.text(TABLE)?)?,
            terms: row.optional_text(TABLE)?,
            next_key: row.optional_sealed(TABLE)?,
        }))
    }

    async fn persist_account(&self, row: &AccountRow) -> Result<(), StateError> {
        let sql = "INSERT INTO accounts
                   (authority, key_id, key, url, orders, status, contact, terms, next_key_id, next_key)
                   VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)
                   ON CONFLICT (authority) DO UPDATE SET key_id = excluded.key_id, key = excluded.key,
                   url = excluded.url, orders = excluded.orders, status = excluded.status,
                   contact = excluded.contact, terms = excluded.terms, next_key_id = excluded.next_key_id,
                   next_key = excluded.next_key";
        let next = row.next_key.as_ref();
        let params = values![
            &row.authority,
            &row.key.key_id,
            &row.key.bytes,
            row.url.as_ref(),
            row.orders.as_ref(),
            row.status.as_str(),
            write_json(TABLE, &row.contact)?,
            row.terms.as_ref(),
            next.map(|key| &key.key_id),
            next.map(|key| &key.bytes),
        ];
        self.execute("store an account", Durability::Now, sql, params).await
    }
}

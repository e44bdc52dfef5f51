//! Copies of certificates in stores.

use async_trait::async_trait;
use jiff::Timestamp;
use pindrel_core::values::Fingerprint;

use super::{Database, Durability, SqlState, values};
use crate::StateError;
use crate::stores::{StoredCopy, Stores};

const TABLE: &str = "stored_copies";

#[async_trait]
impl<D: Database> Stores for SqlState<D> {
    async fn record_copy(&self, copy: &StoredCopy) -> Result<(), StateError> {
        let sql = "INSERT INTO stored_copies (platform, site, sha256, certificate, released) VALUES (?1, ?2, ?3, ?4, 0)
                   ON CONFLICT (platform, site, sha256) DO UPDATE SET certificate = excluded.certificate, released = 0";
        let params = values![&copy.platform, &copy.site, copy.sha256.to_string(), &copy.certificate];
        self.execute("store a copy", Durability::Now, sql, params).await
    }

    async fn release_copy(&self, platform: &str, site: &str, sha256: Fingerprint) -> Result<(), StateError> {
        let sql =
            "UPDATE stored_copies SET released = 1, tried = NULL WHERE platform = ?1 AND site = ?2 AND sha256 = ?3";
        self.execute("release a copy", Durability::Now, sql, values![platform, site, sha256.to_string()]).await
    }

    async fn copies_to_remove(&self, since: Timestamp) -> Result<Vec<StoredCopy>, StateError> {
        let sql = "SELECT platform, site, sha256, certificate FROM stored_copies AS copy
                   WHERE (tried IS NULL OR tried < ?1) AND (released = 1 OR sha256 IN
                         (SELECT sha256 FROM certificates WHERE present = 0 AND name = copy.certificate))
                   ORDER BY platform, site, sha256";
        let rows = self.database.query("read copies", sql, values![since]).await?;
        let corrupt = |why: String| StateError::Corrupt { table: TABLE, why };
        rows.into_iter()
            .map(|mut row| {
                Ok(StoredCopy {
                    platform: row.text(TABLE)?,
                    site: row.text(TABLE)?,
                    sha256: row.text(TABLE)?.parse().map_err(|_| corrupt("a fingerprint is none".into()))?,
                    certificate: row.text(TABLE)?,
                })
            })
            .collect()
    }

    async fn keep_copy(&self, copy: &StoredCopy, tried: Timestamp) -> Result<(), StateError> {
        let sql = "UPDATE stored_copies SET tried = ?4 WHERE platform = ?1 AND site = ?2 AND sha256 = ?3";
        let params = values![&copy.platform, &copy.site, copy.sha256.to_string(), tried];
        self.execute("keep a copy", Durability::Soon, sql, params).await
    }

    async fn forget_copy(&self, copy: &StoredCopy) -> Result<(), StateError> {
        let sql = "DELETE FROM stored_copies WHERE platform = ?1 AND site = ?2 AND sha256 = ?3";
        let params = values![&copy.platform, &copy.site, copy.sha256.to_string()];
        self.execute("forget a copy", Durability::Now, sql, params).await
    }
}

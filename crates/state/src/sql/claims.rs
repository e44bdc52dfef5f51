//! Claims.

use std::time::Duration;

use async_trait::async_trait;
use jiff::Timestamp;

use super::{Database, Durability, SqlState, Statement, values};
use crate::StateError;
use crate::claims::{Claim, Claimed, Claims};

const TABLE: &str = "claims";

fn end_of(now: Timestamp, lease: Duration) -> i64 {
    now.as_second().saturating_add(i64::try_from(lease.as_secs()).unwrap_or(i64::MAX))
}

#[async_trait]
impl<D: Database> Claims for SqlState<D> {
    async fn claim(&self, key: &str, owner: &str, now: Timestamp, lease: Duration) -> Result<Claimed, StateError> {
        let sql = "INSERT INTO claims (key, fence, owner, until) VALUES (?1, 1, ?2, ?3)
                   ON CONFLICT (key) DO UPDATE SET fence = claims.fence + 1, owner = excluded.owner,
                   until = excluded.until WHERE claims.until <= ?4 OR claims.owner = excluded.owner
                   RETURNING fence";
        let take = Statement::new(sql, values![key, owner, end_of(now, lease), now]);
        // What a power cut takes of a claim it takes of its owner too.
        let (mut rows, _) = self.database.write("claim work", Durability::Soon, vec![take]).await?;
        if let Some(mut row) = rows.pop() {
            return Ok(Claimed::Yes(Claim { key: key.to_owned(), fence: row.integer(TABLE)? }));
        }
        let sql = "SELECT owner, until FROM claims WHERE key = ?1";
        let row = self.one("read a claim", sql, values![key]).await?;
        row.map_or(Ok(Claimed::HeldBy { owner: String::new(), until: now }), |mut row| {
            Ok(Claimed::HeldBy { owner: row.text(TABLE)?, until: row.time(TABLE)? })
        })
    }

    async fn renew_claim(&self, claim: &Claim, now: Timestamp, lease: Duration) -> Result<bool, StateError> {
        let sql = "UPDATE claims SET until = ?3 WHERE key = ?1 AND fence = ?2";
        let renew = Statement::new(sql, values![&claim.key, claim.fence, end_of(now, lease)]);
        let (_, changed) = self.database.write("prolong a claim", Durability::Soon, vec![renew]).await?;
        Ok(changed == 1)
    }

    async fn release_claim(&self, claim: &Claim) -> Result<(), StateError> {
        let sql = "UPDATE claims SET until = 0 WHERE key = ?1 AND fence = ?2";
        self.execute("release a claim", Durability::Soon, sql, values![&claim.key, claim.fence]).await
    }

    async fn end_other_claims(&self, owner: &str) -> Result<(), StateError> {
        let sql = "UPDATE claims SET until = 0 WHERE owner <> ?1 AND until > 0";
        self.execute("end claims", Durability::Soon, sql, values![owner]).await
    }
}

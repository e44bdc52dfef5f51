//! The ledger.

use async_trait::async_trait;
use jiff::{SignedDuration, Timestamp};
use pindrel_core::certificates::budget::{Per, Spending};

use super::{Database, Durability, Row, SqlState, Statement, Value, values};
use crate::StateError;
use crate::ledger::{Ledger, LimitCheck, RateLimit, Refusal, SpendingRow};

const TABLE: &str = "ledger";
const SPENT: &str = "SELECT at FROM ledger WHERE authority = ?1 AND of = ?2 AND per = ?3 AND subject = ?4 AND at > ?5";
const SPEND: &str = "INSERT INTO ledger (authority, of, per, subject, at, order_id) VALUES (?1, ?2, ?3, ?4, ?5, ?6)";
/// Whoever changes this row first goes on first.
const QUEUE: &str = "INSERT INTO turns (name, taken) VALUES ('ledger', 1)
                     ON CONFLICT (name) DO UPDATE SET taken = turns.taken + 1";

fn subject_params(authority: &str, of: Spending, per: Per, subject: &str, since: Timestamp) -> Vec<Value> {
    values![authority, of.as_str(), per.as_str(), subject, since]
}

fn times(rows: Vec<Row>) -> Result<Vec<Timestamp>, StateError> {
    rows.into_iter().map(|mut row| row.time(TABLE)).collect()
}

#[async_trait]
impl<D: Database> Ledger for SqlState<D> {
    async fn spend(
        &self,
        authority: &str,
        rows: &[SpendingRow],
        checks: &[LimitCheck],
        renewal: bool,
        now: Timestamp,
    ) -> Result<Result<(), Refusal>, StateError> {
        let mut session = self.database.begin("record what is spent").await?;
        session.execute(vec![Statement::new(QUEUE, Vec::new())]).await?;
        for check in checks {
            let LimitCheck { limit, subject } = check;
            let within = SignedDuration::from_secs(i64::try_from(limit.within_secs).unwrap_or(i64::MAX));
            let since = now.checked_sub(within).unwrap_or(Timestamp::UNIX_EPOCH);
            let params = subject_params(authority, limit.of, limit.per, subject, since);
            let spent = times(session.query(SPENT, params).await?)?;
            if let Some(until) = limit.may_go_on(&spent, renewal, now) {
                return Ok(Err(Refusal { check: check.clone(), spent: spent.len(), until }));
            }
        }
        let spend = rows.iter().map(|row| {
            let (of, per) = (row.of.as_str(), row.per.as_str());
            Statement::new(SPEND, values![&row.authority, of, per, &row.subject, row.at, row.order])
        });
        session.execute(spend.collect()).await?;
        session.commit().await?;
        Ok(Ok(()))
    }

    async fn unspend(&self, order: i64, of: Spending) -> Result<(), StateError> {
        let sql = "DELETE FROM ledger WHERE order_id = ?1 AND of = ?2";
        self.execute("take a spending back", Durability::Now, sql, values![order, of.as_str()]).await
    }

    async fn spent(
        &self,
        authority: &str,
        of: Spending,
        per: Per,
        subject: &str,
        since: Timestamp,
    ) -> Result<Vec<Timestamp>, StateError> {
        let params = subject_params(authority, of, per, subject, since);
        times(self.database.query("read what was spent", SPENT, params).await?)
    }

    async fn rate_limit(&self, authority: &str, certificate: &str) -> Result<Option<RateLimit>, StateError> {
        let sql = "SELECT until, says FROM holds WHERE authority = ?1 AND certificate = ?2";
        let row = self.one("read a rate limit", sql, values![authority, certificate]).await?;
        row.map(|mut row| Ok(RateLimit { until: row.time("holds")?, says: row.text("holds")? })).transpose()
    }

    async fn persist_rate_limit(
        &self,
        authority: &str,
        certificate: &str,
        limit: &RateLimit,
    ) -> Result<(), StateError> {
        let sql = "INSERT INTO holds (authority, certificate, until, says) VALUES (?1, ?2, ?3, ?4)
                   ON CONFLICT (authority, certificate) DO UPDATE SET until = excluded.until, says = excluded.says";
        let params = values![authority, certificate, limit.until, &limit.says];
        self.execute("store a rate limit", Durability::Now, sql, params).await
    }

    async fn lift_rate_limits(&self, authority: &str) -> Result<u64, StateError> {
        let statement = Statement::new("DELETE FROM holds WHERE authority = ?1", values![authority]);
        let (_, lifted) = self.database.write("lift rate limits", Durability::Now, vec![statement]).await?;
        Ok(lifted)
    }

    async fn is_rehearsed(&self, set_up: &str) -> Result<bool, StateError> {
        let sql = "SELECT at FROM rehearsals WHERE set_up = ?1";
        Ok(self.one("look for a rehearsal", sql, values![set_up]).await?.is_some())
    }

    async fn persist_rehearsed(&self, set_ups: &[String], at: Timestamp) -> Result<(), StateError> {
        let sql = "INSERT INTO rehearsals (set_up, at) VALUES (?1, ?2)
                   ON CONFLICT (set_up) DO UPDATE SET at = excluded.at";
        let statements = set_ups.iter().map(|set_up| Statement::new(sql, values![set_up, at]));
        self.database.write("store a rehearsal", Durability::Now, statements.collect()).await.map(drop)
    }
}

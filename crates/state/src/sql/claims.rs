//! Workers and their claims.

use std::collections::{BTreeSet, HashSet};
use std::time::Duration;

use async_trait::async_trait;
use jiff::Timestamp;

use super::{Database, Durability, Row, SqlState, Statement, values};
use crate::StateError;
use crate::claims::{Claim, Claimed, Claims, Worker};

const TABLE: &str = "claims";
const WORKERS: &str = "workers";
/// How often what the dead had claimed is tried to be had.
const TRIES: usize = 3;

fn end_of(now: Timestamp, lease: Duration) -> i64 {
    now.as_second().saturating_add(i64::try_from(lease.as_secs()).unwrap_or(i64::MAX))
}

/// Another worker.
struct Other {
    id: i64,
    name: String,
    token: String,
    until: Timestamp,
}

fn other(mut row: Row) -> Result<Other, StateError> {
    Ok(Other {
        id: row.integer(WORKERS)?,
        name: row.text(WORKERS)?,
        token: row.text(WORKERS)?,
        until: row.time(WORKERS)?,
    })
}

/// The claim, where it is granted; the statement returns the number of the worker that was entered last.
fn take(worker: &Worker, key: &str) -> (Claim, Statement) {
    let sql = "INSERT INTO claims (key, fence, worker) VALUES (?1, ?2, ?3)
               ON CONFLICT (key) DO UPDATE SET fence = excluded.fence, worker = excluded.worker
               WHERE NOT EXISTS (SELECT 1 FROM workers WHERE id = claims.worker AND token <> '')
               RETURNING (SELECT max(id) FROM workers)";
    let claim = Claim { key: key.to_owned(), fence: worker.next_fence(), is_shared: worker.met_others };
    let statement = Statement::new(sql, values![key, claim.fence, worker.id]);
    (claim, statement)
}

/// Takes a worker out whose lease does not last longer than that. The number that was given last stays: it says whether
/// somebody was there.
fn take_out(id: i64, until: Timestamp) -> Vec<Statement> {
    let claims =
        "DELETE FROM claims WHERE worker = ?1 AND EXISTS (SELECT 1 FROM workers WHERE id = ?1 AND until <= ?2)";
    let ended = "UPDATE workers SET until = 0, token = '' WHERE id = ?1 AND until <= ?2";
    let gone = "DELETE FROM workers WHERE token = '' AND id < (SELECT max(id) FROM workers)";
    vec![
        Statement::new(claims, values![id, until]),
        Statement::new(ended, values![id, until]),
        Statement::new(gone, Vec::new()),
    ]
}

impl<D: Database> SqlState<D> {
    /// Takes another worker out: one whose lease has ended, unless it has been renewed meanwhile, or one that is gone.
    async fn take_out(&self, other: &Other, is_gone: bool) -> Result<(), StateError> {
        let until = if is_gone { Timestamp::MAX } else { other.until };
        self.database.write("take a worker out", Durability::Soon, take_out(other.id, until)).await.map(drop)
    }

    /// Takes out those of some workers that have ended; says whether any had.
    async fn take_out_ended(&self, others: &[Other], now: Timestamp) -> Result<bool, StateError> {
        if others.is_empty() {
            return Ok(false);
        }
        let now = self.database.time(now).await?;
        let mut any = false;
        for other in others {
            let is_over = other.until <= now;
            let is_gone = !self.database.is_present(&other.token).await?;
            if is_over || is_gone {
                self.take_out(other, is_gone).await?;
                any = true;
            }
        }
        Ok(any)
    }
}

#[async_trait]
impl<D: Database> Claims for SqlState<D> {
    async fn enter_worker(&self, name: &str, now: Timestamp, lease: Duration) -> Result<Worker, StateError> {
        let living = async || -> Result<Vec<Other>, StateError> {
            let sql = "SELECT id, name, token, until FROM workers WHERE token <> ''";
            self.database.query("read workers", sql, Vec::new()).await?.into_iter().map(other).collect()
        };
        self.take_out_ended(&living().await?, now).await?;
        // It is present before others can see it.
        let presence = self.database.be_present().await?;
        let now = self.database.time(now).await?;
        let sql = "INSERT INTO workers (name, token, until) VALUES (?1, ?2, ?3) RETURNING id";
        let insert = Statement::new(sql, values![name, &presence.token, end_of(now, lease)]);
        let (mut rows, _) = self.database.write("enter a worker", Durability::Soon, vec![insert]).await?;
        let missing = || StateError::Corrupt { table: WORKERS, why: "a new worker has no number".into() };
        let id = rows.pop().ok_or_else(missing)?.integer(WORKERS)?;
        let met_others = living().await?.iter().any(|other| other.id != id);
        Ok(Worker::new(id, met_others, presence))
    }

    async fn renew_worker(&self, worker: &Worker, now: Timestamp, lease: Duration) -> Result<bool, StateError> {
        if !self.database.is_still_present(&worker.presence).await? {
            return Ok(false);
        }
        let now = self.database.time(now).await?;
        let renew = "UPDATE workers SET until = ?2 WHERE id = ?1 AND token <> ''";
        let renew = Statement::new(renew, values![worker.id, end_of(now, lease)]);
        let (_, changed) = self.database.write("renew a lease", Durability::Soon, vec![renew]).await?;
        Ok(changed == 1)
    }

    async fn leave(&self, worker: &Worker) -> Result<(), StateError> {
        let statements = take_out(worker.id, Timestamp::MAX);
        self.database.write("take a worker out", Durability::Soon, statements).await.map(drop)
    }

    async fn claim(&self, worker: &Worker, key: &str, now: Timestamp) -> Result<Claimed, StateError> {
        let holder = "SELECT workers.id, name, token, until FROM claims JOIN workers ON workers.id = claims.worker
                      WHERE key = ?1 AND token <> ''";
        let mut held_by = String::new();
        for _ in 0..TRIES {
            let (mut claim, statement) = take(worker, key);
            // What a power cut takes of a claim it takes of its worker too.
            let (mut rows, _) = self.database.write("claim work", Durability::Soon, vec![statement]).await?;
            if let Some(mut row) = rows.pop() {
                claim.is_shared |= row.integer(WORKERS)? != worker.id;
                return Ok(Claimed::Yes(claim));
            }
            let Some(other) = self.one("read a claim", holder, values![key]).await?.map(other).transpose()? else {
                continue;
            };
            held_by.clone_from(&other.name);
            if other.id == worker.id || !self.take_out_ended(&[other], now).await? {
                break;
            }
        }
        Ok(Claimed::HeldBy { worker: held_by })
    }

    async fn claim_free(&self, worker: &Worker, keys: &[String], now: Timestamp) -> Result<Vec<Claim>, StateError> {
        let others =
            "SELECT DISTINCT workers.id, name, token, until FROM claims JOIN workers ON workers.id = claims.worker
                      WHERE workers.id <> ?1 AND token <> ''";
        let others = self.database.query("read workers", others, values![worker.id]).await?;
        let others: Vec<Other> = others.into_iter().map(other).collect::<Result<_, _>>()?;
        self.take_out_ended(&others, now).await?;
        // In one order everywhere: nobody waits for somebody who waits for them.
        let keys: BTreeSet<&String> = keys.iter().collect();
        let (claims, statements): (Vec<Claim>, Vec<Statement>) = keys.iter().map(|key| take(worker, key)).unzip();
        self.database.write("claim work", Durability::Soon, statements).await?;
        let had = "SELECT fence FROM claims WHERE worker = ?1 AND fence >= ?2";
        let Some(first) = claims.first() else { return Ok(Vec::new()) };
        let had = self.database.query("read claims", had, values![worker.id, first.fence]).await?;
        let had: HashSet<i64> = had.into_iter().map(|mut row| row.integer(TABLE)).collect::<Result<_, _>>()?;
        Ok(claims.into_iter().filter(|claim| had.contains(&claim.fence)).collect())
    }

    async fn release_claims(&self, claims: &[Claim]) -> Result<(), StateError> {
        let release = "DELETE FROM claims WHERE key = ?1 AND fence = ?2";
        let statements = claims.iter().map(|claim| Statement::new(release, values![claim.key.as_str(), claim.fence]));
        self.database.write("release claims", Durability::Soon, statements.collect()).await.map(drop)
    }
}

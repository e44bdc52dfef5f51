//! Health checks, their slots and incidents, and endpoints that are held out of answers.

use async_trait::async_trait;
use jiff::Timestamp;
use pindrel_core::health::{CheckRecord, HistoryEntry, MOST_INCIDENTS, Slot};
use pindrel_core::judging::facts::EndpointKey;

use super::{Database, Durability, Row, SqlState, Statement, read_json, values, write_json};
use crate::StateError;
use crate::health::{CheckUpdate, EndpointHold, HealthBook};

const CHECKS: &str = "health_checks";
const SLOTS: &str = "health_slots";
const INCIDENTS: &str = "health_incidents";
const HOLDS: &str = "endpoint_holds";

const PUT_SLOT: &str = "INSERT INTO health_slots (name, begun, seconds, results, failed, latencies)
                        VALUES (?1, ?2, ?3, ?4, ?5, ?6)
                        ON CONFLICT (name, begun) DO UPDATE SET seconds = excluded.seconds,
                        results = excluded.results, failed = excluded.failed, latencies = excluded.latencies";

fn put_slot(check: &str, slot: &Slot) -> Result<Statement, StateError> {
    let numbers = [slot.seconds, slot.results, slot.failed].map(i64::from);
    let latencies = write_json(SLOTS, &slot.latencies)?;
    Ok(Statement::new(PUT_SLOT, values![check, slot.begin, numbers[0], numbers[1], numbers[2], latencies]))
}

fn slot(mut row: Row) -> Result<Slot, StateError> {
    let begin = row.time(SLOTS)?;
    let mut number = || Ok::<u32, StateError>(u32::try_from(row.integer(SLOTS)?).unwrap_or(0));
    let (seconds, results, failed) = (number()?, number()?, number()?);
    Ok(Slot { begin, seconds, results, failed, latencies: read_json(SLOTS, &row.text(SLOTS)?)? })
}

#[async_trait]
impl<D: Database> HealthBook for SqlState<D> {
    async fn check_records(&self) -> Result<Vec<(String, CheckRecord)>, StateError> {
        let rows = self
            .database
            .query("read checks", "SELECT name, record FROM health_checks ORDER BY name", Vec::new())
            .await?;
        rows.into_iter().map(|mut row| Ok((row.text(CHECKS)?, read_json(CHECKS, &row.text(CHECKS)?)?))).collect()
    }

    async fn update_checks(&self, updates: Vec<CheckUpdate>) -> Result<(), StateError> {
        let record = "INSERT INTO health_checks (name, record) VALUES (?1, ?2)
                      ON CONFLICT (name) DO UPDATE SET record = excluded.record";
        let incident = "INSERT INTO health_incidents (name, at, what) VALUES (?1, ?2, ?3)";
        let bound = "DELETE FROM health_incidents WHERE name = ?1 AND id <=
                     (SELECT id FROM health_incidents WHERE name = ?1 ORDER BY id DESC LIMIT 1 OFFSET ?2)";
        let mut statements = Vec::with_capacity(updates.len() * 2);
        for CheckUpdate { check, record: concluded, slots, incidents } in &updates {
            let check = check.as_str();
            statements.push(Statement::new(record, values![check, write_json(CHECKS, concluded)?]));
            for slot in slots {
                statements.push(put_slot(check, slot)?);
            }
            for HistoryEntry { at, what } in incidents {
                let what = write_json(INCIDENTS, what)?;
                statements.push(Statement::new(incident, values![check, at.as_millisecond(), what]));
            }
            if !incidents.is_empty() {
                statements.push(Statement::new(bound, values![check, i64::from(MOST_INCIDENTS)]));
            }
        }
        if statements.is_empty() {
            return Ok(());
        }
        self.database.write("store what checks found", Durability::Seen, statements).await.map(drop)
    }

    async fn slots(&self, check: &str, since: Timestamp) -> Result<Vec<Slot>, StateError> {
        let sql = "SELECT begun, seconds, results, failed, latencies FROM health_slots
                   WHERE name = ?1 AND begun >= ?2 ORDER BY begun";
        let rows = self.database.query("read slots", sql, values![check, since]).await?;
        rows.into_iter().map(slot).collect()
    }

    async fn slots_before(
        &self,
        seconds: u32,
        before: Timestamp,
        most: u32,
    ) -> Result<Vec<(String, Slot)>, StateError> {
        let sql = "SELECT name, begun, seconds, results, failed, latencies FROM health_slots
                   WHERE seconds = ?1 AND begun < ?2 ORDER BY name, begun LIMIT ?3";
        let params = values![i64::from(seconds), before, i64::from(most)];
        let rows = self.database.query("read old slots", sql, params).await?;
        rows.into_iter().map(|mut row| Ok((row.text(SLOTS)?, slot(row)?))).collect()
    }

    async fn replace_slots(&self, check: &str, old: &[Slot], new: &[Slot]) -> Result<(), StateError> {
        let gone = "DELETE FROM health_slots WHERE name = ?1 AND begun = ?2";
        let gone = old.iter().map(|slot| Statement::new(gone, values![check, slot.begin]));
        let mut statements: Vec<Statement> = gone.collect();
        for slot in new {
            statements.push(put_slot(check, slot)?);
        }
        self.database.write("merge slots", Durability::Seen, statements).await.map(drop)
    }

    async fn incidents(&self, check: &str, since: Timestamp, most: u32) -> Result<Vec<HistoryEntry>, StateError> {
        let sql = "SELECT at, what FROM health_incidents WHERE name = ?1 AND at >= ?2 ORDER BY id DESC LIMIT ?3";
        let params = values![check, since.as_millisecond(), i64::from(most)];
        let rows = self.database.query("read incidents", sql, params).await?;
        let incident = |mut row: Row| {
            let at = Timestamp::from_millisecond(row.integer(INCIDENTS)?)
                .map_err(|error| StateError::Corrupt { table: INCIDENTS, why: error.to_string() })?;
            Ok(HistoryEntry { at, what: read_json(INCIDENTS, &row.text(INCIDENTS)?)? })
        };
        rows.into_iter().rev().map(incident).collect()
    }

    async fn prune_health(&self, before: Timestamp) -> Result<(), StateError> {
        let statements = vec![
            Statement::new("DELETE FROM health_incidents WHERE at < ?1", values![before.as_millisecond()]),
            Statement::new("DELETE FROM health_slots WHERE begun < ?1", values![before]),
        ];
        self.database.write("prune what checks found", Durability::Seen, statements).await.map(drop)
    }

    async fn forget_check(&self, check: &str) -> Result<(), StateError> {
        let forget = |sql| Statement::new(sql, values![check]);
        let statements = vec![
            forget("DELETE FROM health_checks WHERE name = ?1"),
            forget("DELETE FROM health_slots WHERE name = ?1"),
            forget("DELETE FROM health_incidents WHERE name = ?1"),
        ];
        self.database.write("forget a check", Durability::Soon, statements).await.map(drop)
    }

    async fn endpoint_holds(&self) -> Result<Vec<EndpointHold>, StateError> {
        let sql = "SELECT endpoint, since, until, because FROM endpoint_holds ORDER BY endpoint";
        let rows = self.database.query("read held endpoints", sql, Vec::new()).await?;
        let hold = |mut row: Row| {
            Ok(EndpointHold {
                endpoint: EndpointKey::stored(row.text(HOLDS)?),
                since: row.time(HOLDS)?,
                until: row.optional_time(HOLDS)?,
                because: row.text(HOLDS)?,
            })
        };
        rows.into_iter().map(hold).collect()
    }

    async fn hold_endpoint(&self, hold: &EndpointHold) -> Result<(), StateError> {
        let EndpointHold { endpoint, since, until, because } = hold;
        let sql = "INSERT INTO endpoint_holds (endpoint, since, until, because) VALUES (?1, ?2, ?3, ?4)
                   ON CONFLICT (endpoint) DO UPDATE SET until = excluded.until, because = excluded.because";
        let params = values![endpoint.to_string(), *since, *until, because];
        self.execute("hold an endpoint", Durability::Now, sql, params).await
    }

    async fn release_endpoint(&self, endpoint: &EndpointKey) -> Result<bool, StateError> {
        let sql = "DELETE FROM endpoint_holds WHERE endpoint = ?1";
        let statements = vec![Statement::new(sql, values![endpoint.to_string()])];
        let (_, changed) = self.database.write("release an endpoint", Durability::Now, statements).await?;
        Ok(changed > 0)
    }
}

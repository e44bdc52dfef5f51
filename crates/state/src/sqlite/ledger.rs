//! The ledger in SQLite.

use jiff::Timestamp;
use pindrel_core::budget::{Per, Spending};
use rusqlite::{Connection, params};

use super::{SqliteState, time};
use crate::StateError;
use crate::ledger::{Hold, Ledger, SpendingRow};

impl Ledger for SqliteState {
    fn spend(&self, rows: &[SpendingRow]) -> Result<(), StateError> {
        let sql = "INSERT INTO ledger (authority, of, per, subject, at, order_id) VALUES (?1, ?2, ?3, ?4, ?5, ?6)";
        Self::write(&mut self.connection(), "note what is spent", |transaction| {
            let mut statement = transaction.prepare_cached(sql)?;
            for row in rows {
                let at = row.at.as_second();
                statement.execute(params![
                    row.authority,
                    row.of.as_str(),
                    row.per.as_str(),
                    row.subject,
                    at,
                    row.order
                ])?;
            }
            Ok(())
        })
    }

    fn unspend(&self, order: i64, of: Spending) -> Result<(), StateError> {
        let sql = "DELETE FROM ledger WHERE order_id = ?1 AND of = ?2";
        self.execute("take a spending back", sql, params![order, of.as_str()])
    }

    fn spent(
        &self,
        authority: &str,
        of: Spending,
        per: Per,
        subject: &str,
        since: Timestamp,
    ) -> Result<Vec<Timestamp>, StateError> {
        let read = |connection: &Connection| {
            let mut statement = connection.prepare_cached(
                "SELECT at FROM ledger WHERE authority = ?1 AND of = ?2 AND per = ?3 AND subject = ?4 AND at > ?5",
            )?;
            let values = params![authority, of.as_str(), per.as_str(), subject, since.as_second()];
            let rows = statement.query_map(values, |row| row.get(0))?;
            rows.collect::<rusqlite::Result<Vec<i64>>>()
        };
        let found =
            read(&self.connection()).map_err(|source| StateError::Failed { doing: "read what was spent", source })?;
        found.into_iter().map(|at| time("ledger", at)).collect()
    }

    fn forget_spent(&self, before: Timestamp) -> Result<(), StateError> {
        self.execute("forget what was spent", "DELETE FROM ledger WHERE at < ?1", [before.as_second()])
    }

    fn hold(&self, authority: &str, certificate: &str) -> Result<Option<Hold>, StateError> {
        let sql = "SELECT until, says FROM holds WHERE authority = ?1 AND certificate = ?2";
        let found: Option<(i64, String)> =
            self.one("read a hold", sql, [authority, certificate], |row| Ok((row.get(0)?, row.get(1)?)))?;
        found.map(|(until, says)| Ok(Hold { until: time("holds", until)?, says })).transpose()
    }

    fn keep_hold(&self, authority: &str, certificate: &str, hold: &Hold) -> Result<(), StateError> {
        let sql = "INSERT OR REPLACE INTO holds (authority, certificate, until, says) VALUES (?1, ?2, ?3, ?4)";
        let values = params![authority, certificate, hold.until.as_second(), hold.says];
        self.execute("keep a hold", sql, values)
    }

    fn is_rehearsed(&self, set_up: &str) -> Result<bool, StateError> {
        let sql = "SELECT 1 FROM rehearsals WHERE set_up = ?1";
        Ok(self.one("look for a rehearsal", sql, [set_up], |_| Ok(()))?.is_some())
    }

    fn keep_rehearsed(&self, set_up: &str, at: Timestamp) -> Result<(), StateError> {
        let sql = "INSERT OR REPLACE INTO rehearsals (set_up, at) VALUES (?1, ?2)";
        self.execute("keep a rehearsal", sql, params![set_up, at.as_second()])
    }
}

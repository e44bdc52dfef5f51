//! What is due.

use async_trait::async_trait;
use jiff::Timestamp;

use super::{Database, Durability, Row, SqlState, Statement, values};
use crate::StateError;
use crate::agenda::{Agenda, DueRow};

const TABLE: &str = "agenda";

/// Finds what is due.
pub(crate) const DUE: &str = "SELECT subject, next_at, failures FROM agenda
                              WHERE next_at <= ?1 AND (next_at, subject) > (?2, ?3)
                              ORDER BY next_at, subject LIMIT ?4";

fn due(mut row: Row) -> Result<DueRow, StateError> {
    let (subject, next) = (row.text(TABLE)?, row.time(TABLE)?);
    Ok(DueRow { subject, next, failures: u32::try_from(row.integer(TABLE)?).unwrap_or(u32::MAX) })
}

#[async_trait]
impl<D: Database> Agenda for SqlState<D> {
    async fn due(&self, now: Timestamp, after: Option<&DueRow>, most: u32) -> Result<Vec<DueRow>, StateError> {
        let (at, subject) = after.map_or((i64::MIN, ""), |row| (row.next.as_second(), row.subject.as_str()));
        let rows = self.database.query("read what is due", DUE, values![now, at, subject, i64::from(most)]).await?;
        rows.into_iter().map(due).collect()
    }

    async fn take_due(&self, rows: Vec<DueRow>, until: Timestamp) -> Result<Vec<DueRow>, StateError> {
        const DOING: &str = "take what is due";
        let sql = "UPDATE agenda SET next_at = ?3 WHERE subject = ?1 AND next_at = ?2";
        let mut session = self.database.begin(DOING).await?;
        let mut taken = Vec::with_capacity(rows.len());
        for row in rows {
            let take = Statement::new(sql, values![&row.subject, row.next, until]);
            if session.execute(vec![take]).await? > 0 {
                taken.push(row);
            }
        }
        session.commit().await?;
        Ok(taken)
    }

    async fn persist_due(&self, rows: &[DueRow]) -> Result<(), StateError> {
        let sql = "INSERT INTO agenda (subject, next_at, failures) VALUES (?1, ?2, ?3)
                   ON CONFLICT (subject) DO UPDATE SET next_at = excluded.next_at, failures = excluded.failures";
        // In one order everywhere: nobody waits for somebody who waits for them.
        let mut rows: Vec<&DueRow> = rows.iter().collect();
        rows.sort_unstable_by(|left, right| left.subject.cmp(&right.subject));
        let statements =
            rows.iter().map(|row| Statement::new(sql, values![&row.subject, row.next, i64::from(row.failures)]));
        self.database.write("store what is due", Durability::Soon, statements.collect()).await.map(drop)
    }
}

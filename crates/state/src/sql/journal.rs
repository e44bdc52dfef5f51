//! The journal and the last attempts.

use async_trait::async_trait;
use jiff::Timestamp;
use pindrel_core::judging::findings::{Finding, StoredFinding};

use super::{Database, Durability, Row, SqlState, Statement, Value, read_json, values, write_json};
use crate::journal::{Attempt, AttemptEnd, Entry, Journal, JournalFilter, Moment, PruneRule};
use crate::{StateError, stop};

const TABLE: &str = "journal";
const ATTEMPTS: &str = "attempts";
/// How many pieces of work one statement asks about.
const MOST_ASKED: usize = 100;

fn entry(mut row: Row) -> Result<Entry, StateError> {
    let millis = row.integer(TABLE)?;
    Ok(Entry {
        at: Timestamp::from_millisecond(millis)
            .map_err(|error| StateError::Corrupt { table: TABLE, why: error.to_string() })?,
        moment: row.word(TABLE, &Moment::ALL, Moment::as_str)?,
        action: row.text(TABLE)?,
        subject: row.text(TABLE)?,
        detail: row.text(TABLE)?,
    })
}

fn attempt(mut row: Row) -> Result<Attempt, StateError> {
    Ok(Attempt {
        work: row.text(ATTEMPTS)?,
        action: row.text(ATTEMPTS)?,
        at: row.time(ATTEMPTS)?,
        ended: row.word(ATTEMPTS, &AttemptEnd::ALL, AttemptEnd::as_str)?,
        finding: row
            .optional_text(ATTEMPTS)?
            .map(|finding| read_json::<StoredFinding>(ATTEMPTS, &finding))
            .transpose()?
            .map(Finding::from),
        next: row.optional_time(ATTEMPTS)?,
    })
}

fn attempt_statement(attempt: &Attempt) -> Result<Statement, StateError> {
    let sql = "INSERT INTO attempts (work, action, at, ended, finding, next_at) VALUES (?1, ?2, ?3, ?4, ?5, ?6)
               ON CONFLICT (work) DO UPDATE SET action = excluded.action, at = excluded.at, ended = excluded.ended,
               finding = excluded.finding, next_at = excluded.next_at";
    let finding =
        attempt.finding.as_ref().map(|finding| write_json(ATTEMPTS, &StoredFinding::from(finding))).transpose()?;
    let ended = attempt.ended.as_str();
    Ok(Statement::new(sql, values![&attempt.work, &attempt.action, attempt.at, ended, finding, attempt.next]))
}

#[async_trait]
impl<D: Database> Journal for SqlState<D> {
    async fn journal(&self, entry: &Entry, attempt: Option<&Attempt>) -> Result<(), StateError> {
        let sql = "INSERT INTO journal (at, moment, action, subject, detail) VALUES (?1, ?2, ?3, ?4, ?5)";
        let at = entry.at.as_millisecond();
        let params = values![at, entry.moment.as_str(), &entry.action, &entry.subject, &entry.detail];
        let mut statements = vec![Statement::new(sql, params)];
        statements.extend(attempt.map(attempt_statement).transpose()?);
        let durability = if entry.moment == Moment::Begun { Durability::Now } else { Durability::Soon };
        stop::around(self.database.write("write the journal", durability, statements)).await.map(drop)
    }

    async fn journal_entries(&self, filter: &JournalFilter) -> Result<Vec<Entry>, StateError> {
        let JournalFilter { since, action, subject, moment, most } = filter;
        let mut conditions = Vec::new();
        let mut params: Vec<Value> = Vec::new();
        let mut add = |condition: &str, value: Value| {
            params.push(value);
            conditions.push(format!("{condition} ?{}", params.len()));
        };
        if let Some(since) = since {
            add("at >=", since.as_millisecond().into());
        }
        for (column, wanted) in [
            ("action =", action.as_deref()),
            ("subject =", subject.as_deref()),
            ("moment =", moment.map(Moment::as_str)),
        ] {
            if let Some(wanted) = wanted {
                add(column, wanted.into());
            }
        }
        let condition =
            if conditions.is_empty() { String::new() } else { format!("WHERE {}", conditions.join(" AND ")) };
        let sql = format!(
            "SELECT at, moment, action, subject, detail FROM journal {condition} ORDER BY id DESC LIMIT {most}"
        );
        let rows = self.database.query("read the journal", &sql, params).await?;
        rows.into_iter().rev().map(entry).collect()
    }

    async fn attempts(&self, works: &[String]) -> Result<Vec<Attempt>, StateError> {
        let mut found = Vec::new();
        for works in works.chunks(MOST_ASKED) {
            let marks: Vec<String> = (1..=works.len()).map(|number| format!("?{number}")).collect();
            let sql = format!(
                "SELECT work, action, at, ended, finding, next_at FROM attempts WHERE work IN ({})",
                marks.join(", ")
            );
            let rows = self.database.query("read attempts", &sql, works.iter().map(Value::from).collect()).await?;
            for row in rows {
                found.push(attempt(row)?);
            }
        }
        Ok(found)
    }

    async fn prune(&self, rule: &PruneRule) -> Result<u64, StateError> {
        let PruneRule { before, spent_before, replaced_before, now, most_entries } = *rule;
        let wiped = "UPDATE certificates SET key = ?3 WHERE present = 0 AND revocation IS NULL AND length(key) > 0
                     AND (not_after < ?1 OR EXISTS (SELECT 1 FROM certificates AS later
                          WHERE later.name = certificates.name AND later.id > certificates.id AND later.kept < ?2))";
        let statements = vec![
            Statement::new(wiped, values![now, replaced_before, &Vec::new()]),
            Statement::new("DELETE FROM certificates WHERE present = 0 AND not_after < ?1", values![before]),
            Statement::new("DELETE FROM journal WHERE at < ?1", values![before.as_millisecond()]),
            Statement::new(
                "DELETE FROM journal WHERE id <= (SELECT coalesce(max(id), 0) FROM journal) - ?1",
                values![i64::from(most_entries)],
            ),
            Statement::new("DELETE FROM runs WHERE begun < ?1", values![before]),
            Statement::new("DELETE FROM attempts WHERE at < ?1 AND ended = 'done'", values![before]),
            // What is due for so long is in no manifest any longer.
            Statement::new("DELETE FROM agenda WHERE next_at < ?1", values![before]),
            Statement::new("DELETE FROM holds WHERE until < ?1", values![before]),
            Statement::new("DELETE FROM ledger WHERE at < ?1", values![spent_before]),
            Statement::new(
                "DELETE FROM orders WHERE ended < ?1 AND phase NOT IN ('asked', 'open')
                 AND id NOT IN (SELECT order_id FROM challenge_records)
                 AND id NOT IN (SELECT max(id) FROM orders GROUP BY certificate)",
                values![before],
            ),
        ];
        let (_, changed) = self.database.write("prune", Durability::Soon, statements).await?;
        Ok(changed)
    }
}

//! Bringing a file to the present schema.

use std::time::{Duration, Instant};

use pindrel_core::endpoints::endpoint::Binding;
use pindrel_core::judging::facts::{BindingView, EndpointKey, Fact, Ownership, Written};
use pindrel_core::zones::records::RecordSet;
use rusqlite::{Connection, ErrorCode, Transaction, TransactionBehavior};
use serde::Deserialize;

use super::{BUSY, PREPARED};
use crate::StateError;
use crate::sql::things::{facts_of_texts, things_of_texts};

/// How long to wait before what SQLite does not wait for is tried again.
const BETWEEN_TRIES: Duration = Duration::from_millis(5);

/// One step from a schema to the next.
struct Migration {
    sql: &'static str,
    /// What SQL alone cannot do, after the SQL.
    then: fn(&Transaction<'_>) -> rusqlite::Result<()>,
}

/// Each element brings the schema one version further; never change one that was
/// released.
const MIGRATIONS: &[Migration] = &[
    Migration { sql: include_str!("schema/1.sql"), then: |_| Ok(()) },
    Migration { sql: include_str!("schema/2.sql"), then: |_| Ok(()) },
    Migration { sql: include_str!("schema/3.sql"), then: record_where_bindings_are },
    Migration { sql: include_str!("schema/4.sql"), then: |_| Ok(()) },
    Migration { sql: include_str!("schema/5.sql"), then: |_| Ok(()) },
    Migration { sql: include_str!("schema/6.sql"), then: |_| Ok(()) },
    Migration { sql: include_str!("schema/7.sql"), then: put_things_in_rows },
    Migration { sql: include_str!("schema/8.sql"), then: |_| Ok(()) },
];

/// Makes a connection ready: settings, then the present schema.
pub(super) fn prepare(mut connection: Connection, place: &str) -> Result<Connection, StateError> {
    let failed = |error: rusqlite::Error| unusable(error, place);
    let version = version_of(&connection, place)?;
    set_up(&connection).map_err(failed)?;
    migrate(&mut connection, version, MIGRATIONS.len()).map_err(failed)?;
    Ok(connection)
}

/// Makes a connection ready that can only read.
pub(super) fn check(connection: Connection, place: &str) -> Result<Connection, StateError> {
    let version = version_of(&connection, place)?;
    if version < MIGRATIONS.len() as i64 {
        let source = "it has an older schema, and this user may not write it".into();
        return Err(StateError::Open { place: place.to_owned(), source });
    }
    connection.set_prepared_statement_cache_capacity(PREPARED);
    Ok(connection)
}

fn unusable(error: rusqlite::Error, place: &str) -> StateError {
    let place = place.to_owned();
    match error.sqlite_error_code() {
        Some(ErrorCode::NotADatabase) => StateError::Foreign { place, why: "the file is not a database".into() },
        Some(ErrorCode::DatabaseCorrupt) => StateError::Foreign { place, why: "the file is corrupt".into() },
        _ => StateError::Open { place, source: error.into() },
    }
}

/// The version of the schema, which is one that is known.
fn version_of(connection: &Connection, place: &str) -> Result<i64, StateError> {
    let (version, tables) = what_is_there(connection).map_err(|error| unusable(error, place))?;
    if version == 0 && tables > 0 {
        let why = "the database was made by another program".into();
        return Err(StateError::Foreign { place: place.to_owned(), why });
    }
    let known = MIGRATIONS.len() as i64;
    if version > known {
        return Err(StateError::Newer { place: place.to_owned(), found: version, known });
    }
    Ok(version)
}

/// Returns the schema's version and the number of tables as they are at one moment, changing nothing: another process
/// may be making them.
fn what_is_there(connection: &Connection) -> rusqlite::Result<(i64, i64)> {
    connection.busy_timeout(BUSY)?;
    let reading = connection.unchecked_transaction()?;
    let version = reading.query_row("PRAGMA user_version", [], |row| row.get(0))?;
    let tables = "SELECT count(*) FROM sqlite_schema WHERE type = 'table'";
    Ok((version, reading.query_row(tables, [], |row| row.get(0))?))
}

fn set_up(connection: &Connection) -> rusqlite::Result<()> {
    let begun = Instant::now();
    // SQLite does not wait for another process that changes the mode at the same time.
    while let Err(error) = connection.pragma_update(None, "journal_mode", "wal") {
        if error.sqlite_error_code() != Some(ErrorCode::DatabaseBusy) || begun.elapsed() > BUSY {
            return Err(error);
        }
        std::thread::sleep(BETWEEN_TRIES);
    }
    connection.pragma_update(None, "foreign_keys", true)?;
    connection.set_prepared_statement_cache_capacity(PREPARED);
    Ok(())
}

fn migrate(connection: &mut Connection, from: i64, to: usize) -> rusqlite::Result<()> {
    for (step, migration) in MIGRATIONS.iter().enumerate().take(to).skip(usize::try_from(from).unwrap_or(0)) {
        let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
        // Another process may have migrated while this one waited for the lock.
        let now: i64 = transaction.query_row("PRAGMA user_version", [], |row| row.get(0))?;
        if now <= step as i64 {
            transaction.execute_batch(migration.sql)?;
            (migration.then)(&transaction)?;
            transaction.pragma_update(None, "user_version", step as i64 + 1)?;
        }
        transaction.commit()?;
    }
    Ok(())
}

/// What schema 2 stored of what Pindrel wrote for a hostname.
#[derive(Default, Deserialize)]
#[serde(default)]
struct OwnershipOf2 {
    alias: Vec<RecordSet>,
    alias_intended: Vec<RecordSet>,
    binding: bool,
    binding_intended: Option<Binding>,
}

/// What schema 2 stored of what was seen of a hostname: the binding alone matters here.
#[derive(Default, Deserialize)]
#[serde(default)]
struct FactsOf2 {
    binding: Option<serde_json::Value>,
}

/// Schema 2 knew whether a binding was Pindrel's, but not where, nor which: that is taken
/// from the binding that was last seen. All else that was seen is looked at again.
fn record_where_bindings_are(transaction: &Transaction<'_>) -> rusqlite::Result<()> {
    let mut read = transaction.prepare("SELECT hostname, facts, ours FROM hostname_facts")?;
    let mut write = transaction.prepare("UPDATE hostname_facts SET facts = '{}', ours = ?2 WHERE hostname = ?1")?;
    let rows: Vec<(String, String, String)> =
        read.query_map([], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?.collect::<rusqlite::Result<_>>()?;
    for (hostname, facts, ours) in rows {
        let ownership = ownership_of_2(&facts, &ours);
        let text =
            serde_json::to_string(&ownership).map_err(|error| rusqlite::Error::ToSqlConversionFailure(error.into()))?;
        write.execute([hostname, text])?;
    }
    Ok(())
}

fn ownership_of_2(facts: &str, ours: &str) -> Ownership {
    let ours: OwnershipOf2 = serde_json::from_str(ours).unwrap_or_default();
    let facts: FactsOf2 = serde_json::from_str(facts).unwrap_or_default();
    let some = |sets: Vec<RecordSet>| Some(sets).filter(|sets| !sets.is_empty());
    let seen = facts.binding.and_then(|fact| serde_json::from_value::<Fact<BindingView>>(fact).ok());
    let made = match seen.map(|fact| fact.value) {
        Some(BindingView::Present { binding, .. }) if ours.binding => Some(binding),
        _ => None,
    };
    let mut ownership = Ownership {
        alias: Written { made: some(ours.alias), intended: some(ours.alias_intended), replaced: None },
        ..Ownership::default()
    };
    let binding = Written { made, intended: ours.binding_intended, replaced: None };
    if binding != Written::default() {
        ownership.bindings.insert(EndpointKey::unrecorded(), binding);
    }
    ownership
}

/// Puts each thing that was written, and each fact, in a row of its own: they lay together in two texts by hostname.
fn put_things_in_rows(transaction: &Transaction<'_>) -> rusqlite::Result<()> {
    let unreadable = |error: StateError| rusqlite::Error::ToSqlConversionFailure(error.into());
    {
        let mut read = transaction.prepare("SELECT hostname, facts, ours FROM hostname_facts")?;
        let thing = "INSERT INTO things (hostname, thing, value, version, fence) VALUES (?1, ?2, ?3, 1, 0)";
        let mut thing = transaction.prepare(thing)?;
        let fact = "INSERT INTO facts (hostname, about, seen, fact) VALUES (?1, ?2, ?3, ?4)";
        let mut fact = transaction.prepare(fact)?;
        let mut rows = read.query([])?;
        while let Some(row) = rows.next()? {
            let (hostname, facts, ours): (String, String, String) = (row.get(0)?, row.get(1)?, row.get(2)?);
            for (name, value) in things_of_texts(&ours).map_err(unreadable)? {
                thing.execute([&hostname, &name, &value])?;
            }
            for row in facts_of_texts(&facts).map_err(unreadable)? {
                fact.execute((&hostname, &row.about, row.seen, &row.fact))?;
            }
        }
    }
    transaction.execute_batch("DROP TABLE hostname_facts")
}

#[cfg(test)]
pub(super) fn at_version(mut connection: Connection, version: usize) -> Connection {
    set_up(&connection).unwrap();
    migrate(&mut connection, 0, version).unwrap();
    connection
}

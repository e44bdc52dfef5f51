//! The state in one SQLite file.

mod certificates;
mod ledger;

use std::path::Path;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use jiff::Timestamp;
use pindrel_core::acme::account::AccountStatus;
use pindrel_core::acme::order::ChallengeRecord;
use pindrel_core::facts::{EndpointView, Fact, Ownership, ZoneView};
use pindrel_core::name::{DnsName, Hostname};
use rusqlite::{Connection, OptionalExtension as _, Params, Row, Transaction, named_params, params};
use serde::Serialize;
use serde::de::DeserializeOwned;

use crate::journal::{Entry, Moment};
use crate::rows::{AccountRow, ChallengeRow, HostnameRow, HostnameSummary, OrderPhase, OrderRow, SealedBytes};
use crate::{State, StateError, stop};

/// Each element brings the schema one version further; never change one that was
/// released.
const MIGRATIONS: &[&str] = &[include_str!("schema/1.sql"), include_str!("schema/2.sql")];

/// Finds the certificates for which there is something to do.
const TO_SEE_TO: &str = "SELECT name FROM certificates WHERE present AND next_at <= ?1";

/// The condition and the order in which an index holds the orders that have not ended, and no
/// others.
const OPEN_ORDERS: &str = "phase IN ('asked', 'open') ORDER BY certificate, id";

/// A write waits until it is on the disk.
const SYNCED: &str = "PRAGMA synchronous = FULL";

/// How long a write waits for another process's write.
const BUSY: Duration = Duration::from_secs(5);

/// The state in one SQLite file.
pub struct SqliteState {
    connection: Mutex<Connection>,
}

impl SqliteState {
    /// Opens a state, making or migrating it as needed; the file and its folder are
    /// for their owner alone.
    ///
    /// # Errors
    /// [`StateError::Open`] or [`StateError::Newer`].
    pub fn open(path: &Path) -> Result<SqliteState, StateError> {
        let cannot =
            |source: Box<dyn std::error::Error + Send + Sync>| StateError::Open { path: path.to_owned(), source };
        if let Some(folder) = path.parent().filter(|folder| !folder.as_os_str().is_empty()) {
            private_folder(folder).map_err(|error| cannot(error.into()))?;
        }
        private_file(path).map_err(|error| cannot(error.into()))?;
        let mut connection = Connection::open(path).map_err(|error| cannot(error.into()))?;
        let version: i64 = prepare(&mut connection).map_err(|error| cannot(error.into()))?;
        let known = MIGRATIONS.len() as i64;
        if version > known {
            return Err(StateError::Newer { path: path.to_owned(), found: version, known });
        }
        migrate(&mut connection, version).map_err(|error| cannot(error.into()))?;
        Ok(SqliteState { connection: Mutex::new(connection) })
    }

    fn connection(&self) -> MutexGuard<'_, Connection> {
        // A poisoned lock means that a thread panicked between two statements; SQLite's
        // own transactions keep the file whole, so the connection may be used on.
        self.connection.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn execute(&self, doing: &'static str, sql: &str, params: impl Params) -> Result<(), StateError> {
        execute(&self.connection(), doing, sql, params)
    }

    fn execute_unsynced(&self, doing: &'static str, sql: &str, params: impl Params) -> Result<(), StateError> {
        execute(&self.unsynced(doing)?.0, doing, sql, params)
    }

    /// Writes several rows in one transaction.
    fn write(
        connection: &mut Connection,
        doing: &'static str,
        rows: impl FnOnce(&Transaction<'_>) -> rusqlite::Result<()>,
    ) -> Result<(), StateError> {
        let run = || {
            let transaction = connection.transaction()?;
            rows(&transaction)?;
            transaction.commit()
        };
        run().map_err(|source| StateError::Failed { doing, source })
    }

    /// The connection for a write that a power cut may take: it costs no wait for the disk.
    fn unsynced(&self, doing: &'static str) -> Result<Unsynced<'_>, StateError> {
        let connection = self.connection();
        let run = || connection.execute_batch("PRAGMA synchronous = NORMAL");
        run().map_err(|source| StateError::Failed { doing, source })?;
        Ok(Unsynced(connection))
    }

    fn one<T>(
        &self,
        doing: &'static str,
        sql: &str,
        params: impl Params,
        read: impl FnOnce(&Row<'_>) -> rusqlite::Result<T>,
    ) -> Result<Option<T>, StateError> {
        let connection = self.connection();
        let run = || connection.prepare_cached(sql)?.query_row(params, read).optional();
        run().map_err(|source| StateError::Failed { doing, source })
    }

    /// Reads the orders that meet a condition.
    fn orders(&self, condition: &str, params: impl Params) -> Result<Vec<OrderRow>, StateError> {
        let sql = format!(
            "SELECT id, certificate, authority, names, url, phase, key_id, key, begun, replaces, says FROM orders
             WHERE {condition}"
        );
        let connection = self.connection();
        let run = || {
            let mut statement = connection.prepare_cached(&sql)?;
            let rows = statement.query_map(params, |row| {
                let (names, phase, begun): (String, String, i64) =
                    (row.get("names")?, row.get("phase")?, row.get("begun")?);
                let order = OrderRow {
                    id: row.get("id")?,
                    certificate: row.get("certificate")?,
                    authority: row.get("authority")?,
                    names: Vec::new(),
                    url: row.get("url")?,
                    phase: OrderPhase::from_str(&phase).unwrap_or(OrderPhase::Asked),
                    key: sealed(row, "key_id", "key")?,
                    begun: Timestamp::UNIX_EPOCH,
                    replaces: row.get("replaces")?,
                    says: row.get("says")?,
                };
                Ok((order, names, begun))
            })?;
            rows.collect::<rusqlite::Result<Vec<_>>>()
        };
        let found = run().map_err(|source| StateError::Failed { doing: "read orders", source })?;
        let whole = |(order, names, begun): (OrderRow, String, i64)| {
            Ok(OrderRow { names: read_json("orders", &names)?, begun: time("orders", begun)?, ..order })
        };
        found.into_iter().map(whole).collect()
    }
}

fn execute(connection: &Connection, doing: &'static str, sql: &str, params: impl Params) -> Result<(), StateError> {
    let run = || connection.prepare_cached(sql)?.execute(params);
    run().map(drop).map_err(|source| StateError::Failed { doing, source })
}

/// A connection that does not wait for the disk: while the log of writes is kept in
/// order, a later write that does wait brings the earlier ones with it.
struct Unsynced<'s>(MutexGuard<'s, Connection>);

impl Drop for Unsynced<'_> {
    fn drop(&mut self) {
        // Outside a transaction this only sets a flag, which cannot fail.
        let _ = self.0.execute_batch(SYNCED);
    }
}

fn private_folder(folder: &Path) -> std::io::Result<()> {
    let mut builder = std::fs::DirBuilder::new();
    builder.recursive(true);
    #[cfg(unix)]
    std::os::unix::fs::DirBuilderExt::mode(&mut builder, 0o700);
    builder.create(folder)
}

fn private_file(path: &Path) -> std::io::Result<()> {
    let mut options = std::fs::OpenOptions::new();
    options.create(true).truncate(false).write(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    options.open(path).map(drop)
}

fn prepare(connection: &mut Connection) -> rusqlite::Result<i64> {
    connection.busy_timeout(BUSY)?;
    connection.pragma_update(None, "journal_mode", "wal")?;
    connection.execute_batch(SYNCED)?;
    connection.pragma_update(None, "foreign_keys", true)?;
    connection.set_prepared_statement_cache_capacity(64);
    connection.query_row("PRAGMA user_version", [], |row| row.get(0))
}

fn migrate(connection: &mut Connection, from: i64) -> rusqlite::Result<()> {
    for (step, sql) in MIGRATIONS.iter().enumerate().skip(usize::try_from(from).unwrap_or(0)) {
        let transaction = connection.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
        // Another process may have migrated while this one waited for the lock.
        let now: i64 = transaction.query_row("PRAGMA user_version", [], |row| row.get(0))?;
        if now <= step as i64 {
            transaction.execute_batch(sql)?;
            transaction.pragma_update(None, "user_version", step as i64 + 1)?;
        }
        transaction.commit()?;
    }
    Ok(())
}

fn read_json<T: DeserializeOwned>(table: &'static str, text: &str) -> Result<T, StateError> {
    serde_json::from_str(text).map_err(|error| StateError::Torn { table, why: error.to_string() })
}

fn write_json<T: Serialize>(table: &'static str, value: &T) -> Result<String, StateError> {
    serde_json::to_string(value).map_err(|error| StateError::Torn { table, why: error.to_string() })
}

fn sealed(row: &Row<'_>, key_id: &str, bytes: &str) -> rusqlite::Result<SealedBytes> {
    Ok(SealedBytes { key_id: row.get(key_id)?, bytes: row.get(bytes)? })
}

fn time(table: &'static str, seconds: i64) -> Result<Timestamp, StateError> {
    Timestamp::from_second(seconds).map_err(|error| StateError::Torn { table, why: error.to_string() })
}

fn optional_time(table: &'static str, seconds: Option<i64>) -> Result<Option<Timestamp>, StateError> {
    seconds.map(|seconds| time(table, seconds)).transpose()
}

impl State for SqliteState {
    fn value(&self, key: &str) -> Result<Option<SealedBytes>, StateError> {
        self.one("read a value", "SELECT key_id, bytes FROM sealed_values WHERE name = ?1", [key], |row| {
            sealed(row, "key_id", "bytes")
        })
    }

    fn keep_value(&self, key: &str, value: &SealedBytes) -> Result<(), StateError> {
        let sql = "INSERT OR REPLACE INTO sealed_values (name, key_id, bytes) VALUES (?1, ?2, ?3)";
        self.execute("keep a value", sql, params![key, value.key_id, value.bytes])
    }

    fn account(&self, authority: &str) -> Result<Option<AccountRow>, StateError> {
        let sql = "SELECT authority, key_id, key, url, orders, status, contact, terms, next_key_id, next_key
                   FROM accounts WHERE authority = ?1";
        let found = self.one("read an account", sql, [authority], |row| {
            let next: (Option<String>, Option<Vec<u8>>) = (row.get("next_key_id")?, row.get("next_key")?);
            let account = AccountRow {
                authority: row.get("authority")?,
                key: sealed(row, "key_id", "key")?,
                url: row.get("url")?,
                orders: row.get("orders")?,
                status: AccountStatus::Valid,
                contact: Vec::new(),
                terms: row.get("terms")?,
                next_key: next.0.zip(next.1).map(|(key_id, bytes)| SealedBytes { key_id, bytes }),
            };
            Ok((account, row.get::<_, String>("status")?, row.get::<_, String>("contact")?))
        })?;
        let Some((account, status, contact)) = found else { return Ok(None) };
        let status = read_json("accounts", &format!("{status:?}"))?;
        Ok(Some(AccountRow { status, contact: read_json("accounts", &contact)?, ..account }))
    }

    fn keep_account(&self, row: &AccountRow) -> Result<(), StateError> {
        let sql = "INSERT OR REPLACE INTO accounts
                   (authority, key_id, key, url, orders, status, contact, terms, next_key_id, next_key)
                   VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)";
        let contact = write_json("accounts", &row.contact)?;
        let next = row.next_key.as_ref();
        let values = params![
            row.authority,
            row.key.key_id,
            row.key.bytes,
            row.url,
            row.orders,
            row.status.as_str(),
            contact,
            row.terms,
            next.map(|key| &key.key_id),
            next.map(|key| &key.bytes),
        ];
        self.execute("keep an account", sql, values)
    }

    fn open_order(&self, certificate: &str) -> Result<Option<OrderRow>, StateError> {
        Ok(self.orders(&format!("certificate = ?1 AND {OPEN_ORDERS}"), [certificate])?.pop())
    }

    fn open_orders(&self) -> Result<Vec<OrderRow>, StateError> {
        self.orders(OPEN_ORDERS, [])
    }

    fn keep_order(&self, row: &OrderRow) -> Result<i64, StateError> {
        let names = write_json("orders", &row.names)?;
        let id = (row.id != 0).then_some(row.id);
        let connection = self.connection();
        let run = || {
            connection
                .prepare_cached(
                    "INSERT INTO orders (id, certificate, authority, names, url, phase, key_id, key, begun, replaces, says)
                 VALUES (:id, :certificate, :authority, :names, :url, :phase, :key_id, :key, :begun, :replaces, :says)
                 ON CONFLICT (id) DO UPDATE SET url = excluded.url, phase = excluded.phase,
                    replaces = excluded.replaces, says = excluded.says,
                    ended = CASE WHEN excluded.phase IN ('asked', 'open') THEN NULL ELSE unixepoch() END
                 RETURNING id",
                )?
                .query_row(
                    named_params! {
                        ":id": id,
                        ":certificate": row.certificate,
                        ":authority": row.authority,
                        ":names": names,
                        ":url": row.url,
                        ":phase": row.phase.as_str(),
                        ":key_id": row.key.key_id,
                        ":key": row.key.bytes,
                        ":begun": row.begun.as_second(),
                        ":replaces": row.replaces,
                        ":says": row.says,
                    },
                    |row| row.get(0),
                )
        };
        run().map_err(|source| StateError::Failed { doing: "keep an order", source })
    }

    fn knows_order(&self, authority: &str, url: &str) -> Result<bool, StateError> {
        let sql = "SELECT 1 FROM orders WHERE authority = ?1 AND url = ?2 LIMIT 1";
        Ok(self.one("look for an order", sql, [authority, url], |_| Ok(()))?.is_some())
    }

    fn note_challenge_records(&self, order: i64, rows: &[ChallengeRow]) -> Result<(), StateError> {
        let sql = "INSERT OR IGNORE INTO challenge_records (order_id, zone, name, text) VALUES (?1, ?2, ?3, ?4)";
        Self::write(&mut self.connection(), "note challenge records", |transaction| {
            let mut statement = transaction.prepare_cached(sql)?;
            for ChallengeRow { zone, record } in rows {
                statement.execute(params![order, zone.as_str(), record.name.as_str(), record.text])?;
            }
            Ok(())
        })
    }

    fn standing_challenge_records(&self, order: Option<i64>) -> Result<Vec<ChallengeRow>, StateError> {
        let sql = "SELECT zone, name, text FROM challenge_records JOIN orders ON orders.id = order_id
                   WHERE CASE WHEN ?1 IS NULL THEN phase NOT IN ('asked', 'open') ELSE order_id = ?1 END";
        let connection = self.connection();
        let run = || {
            let mut statement = connection.prepare_cached(sql)?;
            let rows = statement.query_map([order], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?;
            rows.collect::<rusqlite::Result<Vec<(String, String, String)>>>()
        };
        let doing = "read challenge records";
        let rows = run().map_err(|source| StateError::Failed { doing, source })?;
        let name = |text: &str| {
            text.parse::<DnsName>()
                .map_err(|error| StateError::Torn { table: "challenge_records", why: error.to_string() })
        };
        rows.into_iter()
            .map(|(zone, owner, text)| {
                Ok(ChallengeRow { zone: name(&zone)?, record: ChallengeRecord { name: name(&owner)?, text } })
            })
            .collect()
    }

    fn forget_challenge_records(&self, rows: &[&ChallengeRow]) -> Result<(), StateError> {
        let doing = "forget challenge records";
        let sql = "DELETE FROM challenge_records WHERE zone = ?1 AND name = ?2 AND text = ?3";
        Self::write(&mut self.unsynced(doing)?.0, doing, |transaction| {
            let mut statement = transaction.prepare_cached(sql)?;
            for ChallengeRow { zone, record } in rows {
                statement.execute([zone.as_str(), record.name.as_str(), record.text.as_str()])?;
            }
            Ok(())
        })
    }

    fn journal(&self, entry: &Entry) -> Result<(), StateError> {
        let sql = "INSERT INTO journal (at, moment, action, subject, detail) VALUES (?1, ?2, ?3, ?4, ?5)";
        let at = entry.at.as_millisecond();
        let values = params![at, entry.moment.as_str(), entry.action, entry.subject, entry.detail];
        stop::around(|| match entry.moment {
            Moment::Begun => self.execute("write the journal", sql, values),
            Moment::Ended | Moment::Failed => self.execute_unsynced("write the journal", sql, values),
        })
    }

    fn hostname_summaries(&self, each: &mut dyn FnMut(HostnameSummary<'_>)) -> Result<(), StateError> {
        let connection = self.connection();
        let mut run = || {
            let mut statement = connection.prepare("SELECT hostname, wanted, held, seen, due FROM hostnames")?;
            let mut rows = statement.query([])?;
            while let Some(row) = rows.next()? {
                each(HostnameSummary {
                    hostname: row.get_ref(0)?.as_str().unwrap_or_default(),
                    wanted: row.get::<_, i64>(1)?.cast_unsigned(),
                    held: row.get(2)?,
                    seen_secs: row.get(3)?,
                    due_secs: row.get(4)?,
                });
            }
            Ok(())
        };
        run().map_err(|source| StateError::Failed { doing: "read the hostnames", source })
    }

    fn hostname(&self, hostname: &Hostname) -> Result<Option<HostnameRow>, StateError> {
        let sql = "SELECT coalesce(wanted, 0) AS wanted, coalesce(held, 0) AS held, coalesce(seen, 0) AS seen,
                          coalesce(due, 0) AS due, facts, ours
                   FROM hostname_facts LEFT JOIN hostnames USING (hostname) WHERE hostname = ?1";
        let found = self.one("read a hostname", sql, [hostname.as_str()], |row| {
            let texts: (String, String) = (row.get("facts")?, row.get("ours")?);
            Ok((texts, row.get::<_, i64>("wanted")?, row.get("held")?, row.get("seen")?, row.get("due")?))
        })?;
        let Some(((facts, ours), wanted, held, seen_secs, due_secs)) = found else { return Ok(None) };
        Ok(Some(HostnameRow {
            hostname: hostname.clone(),
            wanted: wanted.cast_unsigned(),
            held,
            seen_secs,
            due_secs,
            facts: read_json("hostname_facts", &facts)?,
            ours: read_json("hostname_facts", &ours)?,
        }))
    }

    fn keep_hostnames(&self, rows: &mut dyn Iterator<Item = HostnameRow>) -> Result<(), StateError> {
        let doing = "keep a hostname";
        let failed = |source| StateError::Failed { doing, source };
        let mut connection = self.unsynced(doing)?;
        let transaction = connection.0.transaction().map_err(failed)?;
        for row in rows {
            let facts = write_json("hostname_facts", &row.facts)?;
            let run = || {
                transaction
                    .prepare_cached(
                        "INSERT OR REPLACE INTO hostnames (hostname, wanted, held, seen, due) VALUES (?1, ?2, ?3, ?4, ?5)",
                    )?
                    .execute(params![
                        row.hostname.as_str(),
                        row.wanted.cast_signed(),
                        row.held,
                        row.seen_secs,
                        row.due_secs
                    ])?;
                transaction
                    .prepare_cached(
                        "INSERT INTO hostname_facts (hostname, facts, ours) VALUES (?1, ?2, '{}')
                         ON CONFLICT (hostname) DO UPDATE SET facts = excluded.facts",
                    )?
                    .execute(params![row.hostname.as_str(), facts])
            };
            run().map_err(failed)?;
        }
        transaction.commit().map_err(failed)
    }

    fn keep_ours(&self, hostname: &Hostname, ours: &Ownership) -> Result<(), StateError> {
        let sql = "INSERT INTO hostname_facts (hostname, facts, ours) VALUES (?1, '{}', ?2)
                   ON CONFLICT (hostname) DO UPDATE SET ours = excluded.ours";
        let values = params![hostname.as_str(), write_json("hostname_facts", ours)?];
        self.execute("keep what was made", sql, values)
    }

    fn zone(&self, zone: &DnsName) -> Result<Option<Fact<ZoneView>>, StateError> {
        let found: Option<String> =
            self.one("read a zone", "SELECT fact FROM zones WHERE zone = ?1", [zone.as_str()], |row| row.get(0))?;
        found.map(|fact| read_json("zones", &fact)).transpose()
    }

    fn keep_zone(&self, zone: &DnsName, fact: &Fact<ZoneView>) -> Result<(), StateError> {
        let values = params![zone.as_str(), write_json("zones", fact)?];
        self.execute_unsynced("keep a zone", "INSERT OR REPLACE INTO zones (zone, fact) VALUES (?1, ?2)", values)
    }

    fn endpoint(&self, url: &str, id: &str) -> Result<Option<Fact<EndpointView>>, StateError> {
        let sql = "SELECT fact FROM endpoints WHERE url = ?1 AND id = ?2";
        let found: Option<String> = self.one("read an endpoint", sql, [url, id], |row| row.get(0))?;
        found.map(|fact| read_json("endpoints", &fact)).transpose()
    }

    fn keep_endpoint(&self, url: &str, id: &str, fact: &Fact<EndpointView>) -> Result<(), StateError> {
        let values = params![url, id, write_json("endpoints", fact)?];
        let sql = "INSERT OR REPLACE INTO endpoints (url, id, fact) VALUES (?1, ?2, ?3)";
        self.execute_unsynced("keep an endpoint", sql, values)
    }
}

#[cfg(test)]
mod tests;

//! Certificates in SQLite.

use jiff::Timestamp;
use pindrel_core::facts::{HeldCertificate, Origin};
use pindrel_core::values::KeyKind;
use rusqlite::{Connection, Params, Row, named_params, params};

use super::{SqliteState, optional_time, read_json, sealed, time, write_json};
use crate::StateError;
use crate::certificates::{CertificateBook, CertificateRow, CommandRun, OrderEnd, SigningRequestRow};
use crate::rows::OrderPhase;

const TABLE: &str = "certificates";
const COLUMNS: &str = "name, sha256, names, origin, authority, key_kind, not_before, not_after, renewal_id,
    renewal_window, replace_why, revoked, revoking, kept, renew_at, chain, key_id, key";

fn torn(why: impl ToString) -> StateError {
    StateError::Torn { table: TABLE, why: why.to_string() }
}

/// A row as SQLite gives it: texts and numbers, still to be parsed.
struct Raw {
    row: CertificateRow,
    sha256: String,
    names: String,
    origin: String,
    key_kind: Option<String>,
    window: Option<String>,
    times: [i64; 4],
    revoked: Option<i64>,
}

fn raw(row: &Row<'_>) -> rusqlite::Result<Raw> {
    let held = HeldCertificate {
        sha256: pindrel_core::values::Fingerprint::from_digest([0; 32]),
        names: Vec::new(),
        origin: Origin::Authority,
        authority: row.get("authority")?,
        key: None,
        not_before: Timestamp::UNIX_EPOCH,
        not_after: Timestamp::UNIX_EPOCH,
        renewal_id: row.get("renewal_id")?,
        window: None,
        replace: row.get("replace_why")?,
    };
    Ok(Raw {
        row: CertificateRow {
            name: row.get("name")?,
            held,
            chain: row.get("chain")?,
            key: sealed(row, "key_id", "key")?,
            renew_at: Timestamp::UNIX_EPOCH,
            kept: Timestamp::UNIX_EPOCH,
            revoked: None,
            revoking: row.get("revoking")?,
        },
        sha256: row.get("sha256")?,
        names: row.get("names")?,
        origin: row.get("origin")?,
        key_kind: row.get("key_kind")?,
        window: row.get("renewal_window")?,
        times: [row.get("not_before")?, row.get("not_after")?, row.get("renew_at")?, row.get("kept")?],
        revoked: row.get("revoked")?,
    })
}

impl Raw {
    fn parse(self) -> Result<CertificateRow, StateError> {
        let Raw { mut row, sha256, names, origin, key_kind, window, times, revoked } = self;
        let held = &mut row.held;
        held.sha256 = sha256.parse().map_err(torn)?;
        held.names = read_json(TABLE, &names)?;
        held.origin = origin.parse().map_err(torn)?;
        held.key = key_kind.map(|kind| kind.parse::<KeyKind>()).transpose().map_err(torn)?;
        held.window = window.map(|window| read_json(TABLE, &window)).transpose()?;
        let [not_before, not_after, renew_at, kept] = times.map(|seconds| time(TABLE, seconds));
        (held.not_before, held.not_after, row.renew_at, row.kept) = (not_before?, not_after?, renew_at?, kept?);
        row.revoked = optional_time(TABLE, revoked)?;
        Ok(row)
    }
}

fn window_json(row: &CertificateRow) -> Result<Option<String>, StateError> {
    row.held.window.as_ref().map(|window| write_json(TABLE, window)).transpose()
}

impl SqliteState {
    fn certificate_rows(&self, rest: &str, params: impl Params) -> Result<Vec<CertificateRow>, StateError> {
        let sql = format!("SELECT {COLUMNS} FROM certificates {rest}");
        let read = |connection: &Connection| {
            let mut statement = connection.prepare_cached(&sql)?;
            let rows = statement.query_map(params, raw)?;
            rows.collect::<rusqlite::Result<Vec<Raw>>>()
        };
        let found =
            read(&self.connection()).map_err(|source| StateError::Failed { doing: "read certificates", source })?;
        found.into_iter().map(Raw::parse).collect()
    }
}

impl CertificateBook for SqliteState {
    fn certificate(&self, name: &str) -> Result<Option<CertificateRow>, StateError> {
        Ok(self.certificate_rows("WHERE name = ?1 AND present", [name])?.pop())
    }

    fn certificate_history(&self, name: &str) -> Result<Vec<CertificateRow>, StateError> {
        self.certificate_rows("WHERE name = ?1 ORDER BY id DESC", [name])
    }

    fn certificates(&self) -> Result<Vec<CertificateRow>, StateError> {
        self.certificate_rows("WHERE present ORDER BY name", [])
    }

    fn keep_certificate(&self, row: &CertificateRow, order: i64) -> Result<(), StateError> {
        let names = write_json(TABLE, &row.held.names)?;
        let window = window_json(row)?;
        Self::write(&mut self.connection(), "keep a certificate", |transaction| {
            transaction.execute("UPDATE certificates SET present = 0 WHERE name = ?1 AND present", [&row.name])?;
            transaction.execute(
                "INSERT INTO certificates (present, next_at, name, sha256, names, origin, authority, key_kind, not_before,
                    not_after, renewal_id, renewal_window, replace_why, revoked, revoking, kept, renew_at, chain, key_id, key)
                 VALUES (1, :next_at, :name, :sha256, :names, :origin, :authority, :key_kind, :not_before,
                    :not_after, :renewal_id, :window, :replace, :revoked, :revoking, :kept, :renew_at, :chain, :key_id, :key)",
                named_params! {
                    ":next_at": row.next_at().as_second(),
                    ":name": row.name,
                    ":sha256": row.held.sha256.to_string(),
                    ":names": names,
                    ":origin": row.held.origin.as_str(),
                    ":authority": row.held.authority,
                    ":key_kind": row.held.key.map(KeyKind::as_str),
                    ":not_before": row.held.not_before.as_second(),
                    ":not_after": row.held.not_after.as_second(),
                    ":renewal_id": row.held.renewal_id,
                    ":window": window,
                    ":replace": row.held.replace,
                    ":revoked": row.revoked.map(Timestamp::as_second),
                    ":revoking": row.revoking,
                    ":kept": row.kept.as_second(),
                    ":renew_at": row.renew_at.as_second(),
                    ":chain": row.chain,
                    ":key_id": row.key.key_id,
                    ":key": row.key.bytes,
                },
            )?;
            transaction.execute(
                "UPDATE orders SET phase = ?1, ended = ?3 WHERE id = ?2",
                params![OrderPhase::Done.as_str(), order, row.kept.as_second()],
            )?;
            transaction.execute(
                "UPDATE orders SET phase = ?1, ended = ?3, says = 'another certificate took its place'
                 WHERE certificate = ?2 AND phase IN ('asked', 'open')",
                params![OrderPhase::Failed.as_str(), row.name, row.kept.as_second()],
            )?;
            Ok(())
        })
    }

    fn update_certificate(&self, row: &CertificateRow) -> Result<(), StateError> {
        let sql =
            "UPDATE certificates SET renewal_window = ?2, replace_why = ?3, revoked = ?4, renew_at = ?5, next_at = ?6,
                       revoking = ?8
                   WHERE sha256 = ?1 AND name = ?7";
        let values = params![
            row.held.sha256.to_string(),
            window_json(row)?,
            row.held.replace,
            row.revoked.map(Timestamp::as_second),
            row.renew_at.as_second(),
            row.next_at().as_second(),
            row.name,
            row.revoking,
        ];
        self.execute("change a certificate", sql, values)
    }

    fn certificates_to_see_to(&self, now: Timestamp) -> Result<Vec<String>, StateError> {
        let read = |connection: &Connection| {
            let mut statement = connection.prepare_cached(super::TO_SEE_TO)?;
            let rows = statement.query_map([now.as_second()], |row| row.get(0))?;
            rows.collect::<rusqlite::Result<Vec<String>>>()
        };
        read(&self.connection()).map_err(|source| StateError::Failed { doing: "look what is due", source })
    }

    fn certificates_to_revoke(&self) -> Result<Vec<CertificateRow>, StateError> {
        self.certificate_rows("WHERE revoking IS NOT NULL", [])
    }

    fn last_order(&self, certificate: &str) -> Result<Option<OrderEnd>, StateError> {
        let sql =
            "SELECT phase, coalesce(ended, begun), says FROM orders WHERE certificate = ?1 ORDER BY id DESC LIMIT 1";
        let found: Option<(String, i64, Option<String>)> =
            self.one("read an order", sql, [certificate], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?;
        let Some((phase, at, says)) = found else { return Ok(None) };
        let phase = OrderPhase::from_str(&phase).ok_or_else(|| torn("an order of an unknown phase"))?;
        Ok(Some(OrderEnd { phase, at: time("orders", at)?, says }))
    }

    fn command_runs(&self, certificate: &str) -> Result<Vec<CommandRun>, StateError> {
        let read = |connection: &Connection| {
            let mut statement = connection
                .prepare_cached("SELECT command, sha256, at, ended_well, says FROM commands WHERE certificate = ?1")?;
            let rows = statement.query_map([certificate], |row| {
                Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?, row.get(4)?))
            })?;
            rows.collect::<rusqlite::Result<Vec<(String, String, i64, bool, Option<String>)>>>()
        };
        let found = read(&self.connection()).map_err(|source| StateError::Failed { doing: "read commands", source })?;
        let parse = |(command, sha256, at, ended_well, says): (String, String, i64, bool, Option<String>)| {
            let sha256 = sha256.parse().map_err(torn)?;
            let certificate = certificate.to_owned();
            Ok(CommandRun { certificate, command, sha256, at: time("commands", at)?, ended_well, says })
        };
        found.into_iter().map(parse).collect()
    }

    fn keep_command_run(&self, run: &CommandRun) -> Result<(), StateError> {
        let sql = "INSERT OR REPLACE INTO commands (certificate, command, sha256, at, ended_well, says)
                   VALUES (?1, ?2, ?3, ?4, ?5, ?6)";
        let at = run.at.as_second();
        let values = params![run.certificate, run.command, run.sha256.to_string(), at, run.ended_well, run.says];
        self.execute("keep how a command went", sql, values)
    }

    fn signing_request(&self, certificate: &str) -> Result<Option<SigningRequestRow>, StateError> {
        let sql = "SELECT names, at, key_id, key FROM signing_requests WHERE certificate = ?1";
        let found = self.one("read a signing request", sql, [certificate], |row| {
            Ok((row.get::<_, String>("names")?, row.get::<_, i64>("at")?, sealed(row, "key_id", "key")?))
        })?;
        let Some((names, at, key)) = found else { return Ok(None) };
        let (names, at) = (read_json("signing_requests", &names)?, time("signing_requests", at)?);
        Ok(Some(SigningRequestRow { certificate: certificate.to_owned(), names, at, key }))
    }

    fn keep_signing_request(&self, row: &SigningRequestRow) -> Result<(), StateError> {
        let sql =
            "INSERT OR REPLACE INTO signing_requests (certificate, names, at, key_id, key) VALUES (?1, ?2, ?3, ?4, ?5)";
        let names = write_json("signing_requests", &row.names)?;
        let values = params![row.certificate, names, row.at.as_second(), row.key.key_id, row.key.bytes];
        self.execute("keep a signing request", sql, values)
    }

    fn forget_signing_request(&self, certificate: &str) -> Result<(), StateError> {
        let sql = "DELETE FROM signing_requests WHERE certificate = ?1";
        self.execute("forget a signing request", sql, [certificate])
    }
}

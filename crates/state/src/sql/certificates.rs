//! Certificates, what follows them, and keys that wait for one.

use async_trait::async_trait;
use jiff::Timestamp;
use pindrel_core::judging::facts::HeldCertificate;
use pindrel_core::values::{Fingerprint, KeyKind};

use super::{
    Database, Durability, MOST_CHANGES_AT_ONCE, Row, SqlState, Statement, Value, read_json, values, write_json,
};
use crate::certificates::{
    CertificateBook, CertificateChange, CertificateRow, CommandRun, OrderEnd, SigningRequestRow,
};
use crate::orders::OrderPhase;
use crate::{Claim, StateError};

const TABLE: &str = "certificates";

/// Finds the certificates for which there is something to do.
pub(crate) const DUE: &str = "SELECT name FROM certificates WHERE present = 1 AND next_at <= ?1 ORDER BY next_at, name";

fn corrupt(why: impl ToString) -> StateError {
    StateError::Corrupt { table: TABLE, why: why.to_string() }
}

fn certificate(mut row: Row) -> Result<CertificateRow, StateError> {
    let name = row.text(TABLE)?;
    let held = HeldCertificate {
        sha256: row.text(TABLE)?.parse().map_err(corrupt)?,
        names: read_json(TABLE, &row.text(TABLE)?)?,
        origin: row.text(TABLE)?.parse().map_err(corrupt)?,
        authority: row.text(TABLE)?,
        key: row.optional_text(TABLE)?.map(|kind| kind.parse::<KeyKind>()).transpose().map_err(corrupt)?,
        not_before: row.time(TABLE)?,
        not_after: row.time(TABLE)?,
        renewal_id: row.optional_text(TABLE)?,
        window: row.optional_text(TABLE)?.map(|window| read_json(TABLE, &window)).transpose()?,
        replace: row.optional_text(TABLE)?.map(|reason| read_json(TABLE, &reason)).transpose()?,
        revoked: row.optional_time(TABLE)?,
        ordered: row.optional_text(TABLE)?.map(|ordered| read_json(TABLE, &ordered)).transpose()?,
    };
    Ok(CertificateRow {
        name,
        held,
        revocation: row.optional_text(TABLE)?.map(|revocation| read_json(TABLE, &revocation)).transpose()?,
        ask_again: row.optional_time(TABLE)?,
        kept: row.time(TABLE)?,
        renew_at: row.time(TABLE)?,
        chain: row.text(TABLE)?,
        key: row.sealed(TABLE)?,
    })
}

fn optional_json<T: serde::Serialize>(value: Option<&T>) -> Result<Option<String>, StateError> {
    value.map(|value| write_json(TABLE, value)).transpose()
}

impl<D: Database> SqlState<D> {
    async fn certificate_rows(&self, rest: &str, params: Vec<Value>) -> Result<Vec<CertificateRow>, StateError> {
        let sql = format!(
            "SELECT name, sha256, names, origin, authority, key_kind, not_before, not_after, renewal_id,
                    renewal_window, replace_why, revoked, ordered, revocation, ask_again, kept, renew_at, chain, key_id, key
             FROM certificates {rest}"
        );
        self.database.query("read certificates", &sql, params).await?.into_iter().map(certificate).collect()
    }
}

#[async_trait]
impl<D: Database> CertificateBook for SqlState<D> {
    async fn certificate(&self, name: &str) -> Result<Option<CertificateRow>, StateError> {
        Ok(self.certificate_rows("WHERE name = ?1 AND present = 1", values![name]).await?.pop())
    }

    async fn certificate_history(&self, name: &str) -> Result<Vec<CertificateRow>, StateError> {
        self.certificate_rows("WHERE name = ?1 ORDER BY present DESC, id DESC", values![name]).await
    }

    async fn certificates(&self) -> Result<Vec<CertificateRow>, StateError> {
        self.certificate_rows("WHERE present = 1 ORDER BY name", Vec::new()).await
    }

    async fn persist_certificate(&self, claim: &Claim, row: &CertificateRow, order: i64) -> Result<(), StateError> {
        let insert = "INSERT INTO certificates
            (name, present, sha256, names, origin, authority, key_kind, not_before, not_after, renewal_id,
             renewal_window, replace_why, revoked, revocation, ordered, kept, renew_at, next_at, chain, key_id, key)
            VALUES (?1, 1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16, ?17, ?18, ?19, ?20)";
        let held = &row.held;
        let params = values![
            &row.name,
            held.sha256.to_string(),
            write_json(TABLE, &held.names)?,
            held.origin.as_str(),
            &held.authority,
            held.key.map(KeyKind::as_str),
            held.not_before,
            held.not_after,
            held.renewal_id.as_ref(),
            optional_json(held.window.as_ref())?,
            optional_json(held.replace.as_ref())?,
            row.held.revoked,
            optional_json(row.revocation.as_ref())?,
            optional_json(held.ordered.as_ref())?,
            row.kept,
            row.renew_at,
            row.next_at(),
            &row.chain,
            &row.key.key_id,
            &row.key.bytes,
        ];
        let superseded = "UPDATE certificates SET present = 0 WHERE name = ?1 AND present = 1";
        let done = "UPDATE orders SET phase = 'done', ended = ?2 WHERE id = ?1";
        let given_up = "UPDATE orders SET phase = 'failed', ended = ?2, says = 'another certificate took its place'
                        WHERE certificate = ?1 AND phase IN ('asked', 'open')";
        let statements = vec![
            Statement::guard(claim),
            Statement::new(superseded, values![&row.name]),
            Statement::new(insert, params),
            Statement::new(done, values![order, row.kept]),
            Statement::new(given_up, values![&row.name, row.kept]),
        ];
        self.database.write("store a certificate", Durability::Now, statements).await.map(drop)
    }

    async fn change_certificate(
        &self,
        name: &str,
        sha256: Fingerprint,
        change: &CertificateChange<'_>,
    ) -> Result<Option<CertificateRow>, StateError> {
        const DOING: &str = "change a certificate";
        let version = "SELECT id, version FROM certificates WHERE name = ?1 AND sha256 = ?2
                       ORDER BY present DESC, id DESC LIMIT 1";
        let write = "UPDATE certificates SET renewal_window = ?3, replace_why = ?4, revoked = ?5, renew_at = ?6,
                     next_at = ?7, revocation = ?8, ask_again = ?9, version = version + 1 WHERE id = ?1 AND version = ?2";
        for _ in 0..MOST_CHANGES_AT_ONCE {
            let found = self.one(DOING, version, values![name, sha256.to_string()]).await?;
            let Some(mut found) = found else { return Ok(None) };
            let (id, version) = (found.integer(TABLE)?, found.integer(TABLE)?);
            let Some(mut row) = self.certificate_rows("WHERE id = ?1", values![id]).await?.pop() else {
                return Ok(None);
            };
            change(&mut row);
            let params = values![
                id,
                version,
                optional_json(row.held.window.as_ref())?,
                optional_json(row.held.replace.as_ref())?,
                row.held.revoked,
                row.renew_at,
                row.next_at(),
                optional_json(row.revocation.as_ref())?,
                row.ask_again,
            ];
            let (_, changed) = self.database.write(DOING, Durability::Now, vec![Statement::new(write, params)]).await?;
            if changed > 0 {
                return Ok(Some(row));
            }
        }
        Err(StateError::Contended { what: name.to_owned() })
    }

    async fn due_certificates(&self, now: Timestamp) -> Result<Vec<String>, StateError> {
        let rows = self.database.query("look what is due", DUE, values![now]).await?;
        rows.into_iter().map(|mut row| row.text(TABLE)).collect()
    }

    async fn certificates_to_revoke(&self) -> Result<Vec<CertificateRow>, StateError> {
        self.certificate_rows("WHERE revocation IS NOT NULL", Vec::new()).await
    }

    async fn last_order(&self, certificate: &str) -> Result<Option<OrderEnd>, StateError> {
        const TABLE: &str = "orders";
        let sql =
            "SELECT phase, coalesce(ended, begun), says FROM orders WHERE certificate = ?1 ORDER BY id DESC LIMIT 1";
        let Some(mut row) = self.one("read an order", sql, values![certificate]).await? else { return Ok(None) };
        Ok(Some(OrderEnd {
            phase: row.word(TABLE, &OrderPhase::ALL, OrderPhase::as_str)?,
            at: row.time(TABLE)?,
            says: row.optional_text(TABLE)?,
        }))
    }

    async fn command_runs(&self, certificate: &str) -> Result<Vec<CommandRun>, StateError> {
        const TABLE: &str = "commands";
        let sql = "SELECT command, sha256, at, ended_well, says FROM commands WHERE certificate = ?1";
        let rows = self.database.query("read commands", sql, values![certificate]).await?;
        let read = |mut row: Row| {
            Ok(CommandRun {
                certificate: certificate.to_owned(),
                command: row.text(TABLE)?,
                sha256: row.text(TABLE)?.parse().map_err(corrupt)?,
                at: row.time(TABLE)?,
                succeeded: row.boolean(TABLE)?,
                says: row.optional_text(TABLE)?,
            })
        };
        rows.into_iter().map(read).collect()
    }

    async fn persist_command_run(&self, run: &CommandRun) -> Result<(), StateError> {
        let sql = "INSERT INTO commands (certificate, command, sha256, at, ended_well, says)
                   VALUES (?1, ?2, ?3, ?4, ?5, ?6)
                   ON CONFLICT (certificate, command) DO UPDATE SET sha256 = excluded.sha256, at = excluded.at,
                   ended_well = excluded.ended_well, says = excluded.says";
        let params =
            values![&run.certificate, &run.command, run.sha256.to_string(), run.at, run.succeeded, run.says.as_ref()];
        self.execute("store how a command went", Durability::Now, sql, params).await
    }

    async fn signing_request(&self, certificate: &str) -> Result<Option<SigningRequestRow>, StateError> {
        const TABLE: &str = "signing_requests";
        let sql = "SELECT names, at, key_id, key FROM signing_requests WHERE certificate = ?1";
        let row = self.one("read a signing request", sql, values![certificate]).await?;
        let Some(mut row) = row else { return Ok(None) };
        Ok(Some(SigningRequestRow {
            certificate: certificate.to_owned(),
            names: read_json(TABLE, &row.text(TABLE)?)?,
            at: row.time(TABLE)?,
            key: row.sealed(TABLE)?,
        }))
    }

    async fn persist_signing_request(&self, row: &SigningRequestRow) -> Result<(), StateError> {
        let sql = "INSERT INTO signing_requests (certificate, names, at, key_id, key) VALUES (?1, ?2, ?3, ?4, ?5)
                   ON CONFLICT (certificate) DO UPDATE SET names = excluded.names, at = excluded.at,
                   key_id = excluded.key_id, key = excluded.key";
        let names = write_json("signing_requests", &row.names)?;
        let params = values![&row.certificate, names, row.at, &row.key.key_id, &row.key.bytes];
        self.execute("store a signing request", Durability::Now, sql, params).await
    }

    async fn forget_signing_request(&self, certificate: &str) -> Result<(), StateError> {
        let sql = "DELETE FROM signing_requests WHERE certificate = ?1";
        self.execute("forget a signing request", Durability::Now, sql, values![certificate]).await
    }
}

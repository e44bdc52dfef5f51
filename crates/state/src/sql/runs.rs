//! Runs that changed something.

use async_trait::async_trait;
use jiff::Timestamp;
use pindrel_core::names::name::Hostname;
use pindrel_core::planning::undo::{HostnameForm, KeptBack};

use super::{Database, Durability, SqlState, Statement, read_json, values, write_json};
use crate::StateError;
use crate::runs::{ManifestOrigin, RunChange, RunRow, Runs};

const TABLE: &str = "runs";
const CHANGES: &str = "run_changes";
const KEPT_BACK: &str = "kept_back";
const ORIGIN: &str = "origin";

#[async_trait]
impl<D: Database> Runs for SqlState<D> {
    async fn begin_run(&self, begun: Timestamp, command: &str) -> Result<i64, StateError> {
        let sql = "INSERT INTO runs (begun, command) VALUES (?1, ?2) RETURNING id";
        let insert = Statement::new(sql, values![begun, command]);
        let (mut rows, _) = self.database.write("begin a run", Durability::Now, vec![insert]).await?;
        let missing = || StateError::Corrupt { table: TABLE, why: "a new run has no number".into() };
        rows.pop().ok_or_else(missing)?.integer(TABLE)
    }

    async fn record_before(&self, run: i64, hostname: &Hostname, before: &HostnameForm) -> Result<(), StateError> {
        let sql = "INSERT INTO run_changes (run, hostname, before) VALUES (?1, ?2, ?3)
                   ON CONFLICT (run, hostname) DO NOTHING";
        let params = values![run, hostname.as_str(), write_json(CHANGES, before)?];
        // What is about to be written waits for the disk, and takes this along.
        self.execute("store what is changed", Durability::Soon, sql, params).await
    }

    async fn end_run(&self, run: i64, ended: Timestamp, after: &[(Hostname, HostnameForm)]) -> Result<(), StateError> {
        let sql = "UPDATE run_changes SET after = ?3 WHERE run = ?1 AND hostname = ?2";
        let mut statements = Vec::with_capacity(after.len() + 1);
        for (hostname, form) in after {
            statements.push(Statement::new(sql, values![run, hostname.as_str(), write_json(CHANGES, form)?]));
        }
        statements.push(Statement::new("UPDATE runs SET ended = ?2 WHERE id = ?1", values![run, ended]));
        self.database.write("end a run", Durability::Soon, statements).await.map(drop)
    }

    async fn runs(&self, most: u32) -> Result<Vec<RunRow>, StateError> {
        let sql = "SELECT id, begun, ended, command, (SELECT count(*) FROM run_changes WHERE run = runs.id)
                   FROM runs ORDER BY id DESC LIMIT ?1";
        let rows = self.database.query("read runs", sql, values![i64::from(most)]).await?;
        let mut runs = Vec::with_capacity(rows.len());
        for mut row in rows {
            runs.push(RunRow {
                id: row.integer(TABLE)?,
                begun: row.time(TABLE)?,
                ended: row.optional_time(TABLE)?,
                command: row.text(TABLE)?,
                changes: u64::try_from(row.integer(TABLE)?).unwrap_or(0),
            });
        }
        runs.reverse();
        Ok(runs)
    }

    async fn run_changes(&self, run: i64, most: u32) -> Result<Vec<RunChange>, StateError> {
        let sql = "SELECT hostname, before, after FROM run_changes WHERE run = ?1 ORDER BY hostname LIMIT ?2";
        let rows = self.database.query("read what a run changed", sql, values![run, i64::from(most)]).await?;
        let corrupt = |why: String| StateError::Corrupt { table: CHANGES, why };
        let change = |mut row: super::Row| {
            let hostname = row.text(CHANGES)?.parse().map_err(|_| corrupt("a hostname is none".into()))?;
            let before = read_json(CHANGES, &row.text(CHANGES)?)?;
            let after = row.optional_text(CHANGES)?.map(|text| read_json(CHANGES, &text)).transpose()?;
            Ok(RunChange { hostname, before, after })
        };
        rows.into_iter().map(change).collect()
    }

    async fn origin(&self) -> Result<Option<ManifestOrigin>, StateError> {
        let sql = "SELECT manifest, values_file FROM origin";
        let row = self.one("read which manifest it is of", sql, Vec::new()).await?;
        row.map(|mut row| Ok(ManifestOrigin { manifest: row.text(ORIGIN)?, values: row.optional_text(ORIGIN)? }))
            .transpose()
    }

    async fn persist_origin(&self, ManifestOrigin { manifest, values }: &ManifestOrigin) -> Result<(), StateError> {
        let sql = "INSERT INTO origin (id, manifest, values_file) VALUES (1, ?1, ?2)
                   ON CONFLICT (id) DO UPDATE SET manifest = excluded.manifest, values_file = excluded.values_file";
        let params = values![manifest, values.as_ref()];
        self.execute("store which manifest it is of", Durability::Soon, sql, params).await
    }

    async fn keep_back(&self, kept: &[KeptBack]) -> Result<(), StateError> {
        let sql = "INSERT INTO kept_back (hostname, run, since, wanted, form) VALUES (?1, ?2, ?3, ?4, ?5)
                   ON CONFLICT (hostname) DO UPDATE SET run = excluded.run, since = excluded.since,
                   wanted = excluded.wanted, form = excluded.form";
        let mut statements = Vec::with_capacity(kept.len());
        for KeptBack { hostname, run, since, wanted, form } in kept {
            let (wanted, form) = (wanted.map(u64::cast_signed), write_json(KEPT_BACK, form)?);
            statements.push(Statement::new(sql, values![hostname.as_str(), *run, *since, wanted, form]));
        }
        if statements.is_empty() {
            return Ok(());
        }
        self.database.write("keep hostnames back", Durability::Now, statements).await.map(drop)
    }

    async fn kept_back(&self) -> Result<Vec<KeptBack>, StateError> {
        let sql = "SELECT hostname, run, since, wanted, form FROM kept_back ORDER BY hostname";
        let rows = self.database.query("read what is kept back", sql, Vec::new()).await?;
        let corrupt = |_| StateError::Corrupt { table: KEPT_BACK, why: "a hostname is none".into() };
        let kept = |mut row: super::Row| {
            Ok(KeptBack {
                hostname: row.text(KEPT_BACK)?.parse().map_err(corrupt)?,
                run: row.integer(KEPT_BACK)?,
                since: row.time(KEPT_BACK)?,
                wanted: row.optional_integer(KEPT_BACK)?.map(i64::cast_unsigned),
                form: read_json(KEPT_BACK, &row.text(KEPT_BACK)?)?,
            })
        };
        rows.into_iter().map(kept).collect()
    }

    async fn keep_back_no_longer(&self, hostnames: &[Hostname]) -> Result<(), StateError> {
        let forget = |hostname: &Hostname| {
            Statement::new("DELETE FROM kept_back WHERE hostname = ?1", values![hostname.as_str()])
        };
        let statements: Vec<Statement> = hostnames.iter().map(forget).collect();
        if statements.is_empty() {
            return Ok(());
        }
        self.database.write("keep hostnames back no longer", Durability::Now, statements).await.map(drop)
    }
}

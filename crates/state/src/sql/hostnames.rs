//! Hostnames, zones and endpoints.

use async_trait::async_trait;
use pindrel_core::facts::{EndpointKey, EndpointView, Fact, Ownership, ZoneView};
use pindrel_core::name::{DnsName, Hostname};

use super::{Database, Durability, Row, SqlState, Statement, read_json, values, write_json};
use crate::hostnames::{HostnameRow, HostnameSummary, Hostnames, OwnershipChange};
use crate::{Claim, StateError};

const TABLE: &str = "hostnames";
const FACTS: &str = "hostname_facts";
/// What is stored of a hostname for which nothing was written.
const NOTHING: &str = "{}";
/// How often somebody else may come before a change of what was written.
const MOST_CHANGES_AT_ONCE: usize = 100;

#[async_trait]
impl<D: Database> Hostnames for SqlState<D> {
    async fn hostname_summaries(&self, after: &str, most: usize) -> Result<Vec<HostnameSummary>, StateError> {
        let sql = "SELECT hostname, wanted, held, seen, due FROM hostnames WHERE hostname > ?1
                   ORDER BY hostname LIMIT ?2";
        let most = i64::try_from(most).unwrap_or(i64::MAX);
        let rows = self.database.query("read the hostnames", sql, values![after, most]).await?;
        let read = |mut row: Row| {
            Ok(HostnameSummary {
                hostname: row.text(TABLE)?,
                wanted: row.integer(TABLE)?.cast_unsigned(),
                held: row.boolean(TABLE)?,
                seen_secs: row.integer(TABLE)?,
                due_secs: row.integer(TABLE)?,
            })
        };
        rows.into_iter().map(read).collect()
    }

    async fn hostname(&self, hostname: &Hostname) -> Result<Option<HostnameRow>, StateError> {
        let sql = "SELECT coalesce(wanted, 0), coalesce(held, 0), coalesce(seen, 0), coalesce(due, 0), facts, ours
                   FROM hostname_facts LEFT JOIN hostnames ON hostnames.hostname = hostname_facts.hostname
                   WHERE hostname_facts.hostname = ?1";
        let row = self.one("read a hostname", sql, values![hostname.as_str()]).await?;
        let Some(mut row) = row else { return Ok(None) };
        Ok(Some(HostnameRow {
            hostname: hostname.clone(),
            wanted: row.integer(TABLE)?.cast_unsigned(),
            held: row.boolean(TABLE)?,
            seen_secs: row.integer(TABLE)?,
            due_secs: row.integer(TABLE)?,
            facts: read_json(FACTS, &row.text(FACTS)?)?,
            ownership: read_json(FACTS, &row.text(FACTS)?)?,
        }))
    }

    async fn persist_hostnames(&self, rows: Vec<HostnameRow>) -> Result<(), StateError> {
        let summary = "INSERT INTO hostnames (hostname, wanted, held, seen, due) VALUES (?1, ?2, ?3, ?4, ?5)
                       ON CONFLICT (hostname) DO UPDATE SET wanted = excluded.wanted, held = excluded.held,
                       seen = excluded.seen, due = excluded.due";
        let facts = "INSERT INTO hostname_facts (hostname, facts, ours) VALUES (?1, ?2, '{}')
                     ON CONFLICT (hostname) DO UPDATE SET facts = excluded.facts";
        let mut statements = Vec::with_capacity(2 * rows.len());
        for row in rows {
            let name = row.hostname.as_str();
            let wanted = row.wanted.cast_signed();
            statements.push(Statement::new(summary, values![name, wanted, row.held, row.seen_secs, row.due_secs]));
            statements.push(Statement::new(facts, values![name, write_json(FACTS, &row.facts)?]));
        }
        self.database.write("store a hostname", Durability::Seen, statements).await.map(drop)
    }

    async fn change_ownership(
        &self,
        claim: &Claim,
        hostname: &Hostname,
        change: &OwnershipChange<'_>,
    ) -> Result<Ownership, StateError> {
        const DOING: &str = "store what was written";
        let read = "SELECT ours FROM hostname_facts WHERE hostname = ?1";
        let write = "INSERT INTO hostname_facts (hostname, facts, ours) VALUES (?1, '{}', ?2)
                     ON CONFLICT (hostname) DO UPDATE SET ours = excluded.ours WHERE hostname_facts.ours = ?3
                     RETURNING hostname";
        let name = hostname.as_str();
        for _ in 0..MOST_CHANGES_AT_ONCE {
            let row = self.one(DOING, read, values![name]).await?;
            let before = row.map_or_else(|| Ok(NOTHING.to_owned()), |mut row| row.text(FACTS))?;
            let mut ownership: Ownership = read_json(FACTS, &before)?;
            change(&mut ownership);
            let write = Statement::new(write, values![name, write_json(FACTS, &ownership)?, before]);
            let (stored, _) = self.database.write(DOING, Durability::Now, vec![Statement::guard(claim), write]).await?;
            if !stored.is_empty() {
                return Ok(ownership);
            }
        }
        Err(StateError::Contended { what: name.to_owned() })
    }

    async fn forget_hostname(&self, hostname: &Hostname) -> Result<(), StateError> {
        let name = hostname.as_str();
        let statements =
            ["DELETE FROM hostnames WHERE hostname = ?1", "DELETE FROM hostname_facts WHERE hostname = ?1"];
        let statements = statements.map(|sql| Statement::new(sql, values![name])).into();
        self.database.write("forget a hostname", Durability::Soon, statements).await.map(drop)
    }

    async fn zone(&self, zone: &DnsName) -> Result<Option<Fact<ZoneView>>, StateError> {
        let row = self.one("read a zone", "SELECT fact FROM zones WHERE zone = ?1", values![zone.as_str()]).await?;
        row.map(|mut row| read_json("zones", &row.text("zones")?)).transpose()
    }

    async fn persist_zone(&self, zone: &DnsName, fact: &Fact<ZoneView>) -> Result<(), StateError> {
        let sql =
            "INSERT INTO zones (zone, fact) VALUES (?1, ?2) ON CONFLICT (zone) DO UPDATE SET fact = excluded.fact";
        let params = values![zone.as_str(), write_json("zones", fact)?];
        self.execute("store a zone", Durability::Seen, sql, params).await
    }

    async fn endpoint(&self, key: &EndpointKey) -> Result<Option<Fact<EndpointView>>, StateError> {
        let sql = "SELECT fact FROM endpoints WHERE endpoint = ?1";
        let row = self.one("read an endpoint", sql, values![key.to_string()]).await?;
        row.map(|mut row| read_json("endpoints", &row.text("endpoints")?)).transpose()
    }

    async fn persist_endpoint(&self, key: &EndpointKey, fact: &Fact<EndpointView>) -> Result<(), StateError> {
        let sql = "INSERT INTO endpoints (endpoint, fact) VALUES (?1, ?2)
                   ON CONFLICT (endpoint) DO UPDATE SET fact = excluded.fact";
        let params = values![key.to_string(), write_json("endpoints", fact)?];
        self.execute("store an endpoint", Durability::Seen, sql, params).await
    }
}

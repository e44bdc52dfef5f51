//! Hostnames, zones and endpoints.

use std::collections::{BTreeMap, HashMap};
use std::sync::LazyLock;

use async_trait::async_trait;
use pindrel_core::judging::facts::{EndpointKey, EndpointView, Fact, HostnameFacts, Ownership, ZoneView};
use pindrel_core::names::name::{DnsName, Hostname};

use super::things::{self, FactRow, THINGS};
use super::{
    Database, Durability, MOST_CHANGES_AT_ONCE, Row, SqlState, Statement, Value, read_json, values, write_json,
};
use crate::hostnames::{HostnameRow, HostnameSummary, Hostnames, OwnershipChange};
use crate::{Claim, StateError};

const TABLE: &str = "hostnames";

/// How many hostnames one statement names.
const MOST_NAMED: usize = 200;

static OWNED: LazyLock<String> =
    LazyLock::new(|| format!("SELECT hostname, thing, value FROM things WHERE hostname IN ({})", places()));
static FORGET_SUMMARIES: LazyLock<String> = LazyLock::new(|| forget_unowned("hostnames"));
static FORGET_FACTS: LazyLock<String> = LazyLock::new(|| forget_unowned("facts"));

fn forget_unowned(table: &str) -> String {
    format!(
        "DELETE FROM {table} WHERE hostname IN ({})
         AND NOT EXISTS (SELECT 1 FROM things WHERE things.hostname = {table}.hostname)",
        places()
    )
}

fn places() -> String {
    (1..=MOST_NAMED).map(|number| format!("?{number}")).collect::<Vec<_>>().join(", ")
}

/// The names of some hostnames for a statement with so many [`places`]: the last one again for those that are left.
fn named(some: &[Hostname]) -> Vec<Value> {
    let last = some.last().into_iter().cycle();
    some.iter().chain(last).take(MOST_NAMED).map(|hostname| Value::from(hostname.as_str())).collect()
}

/// The condition under which what was seen takes the place of what a table has: it was not seen earlier, since two processes
/// may store in another order than they looked. What is an hour older is no such case: the clock was set back.
macro_rules! unless_seen_later {
    ($insert:literal, $table:literal) => {
        concat!($insert, " WHERE excluded.seen >= ", $table, ".seen OR excluded.seen < ", $table, ".seen - 3600000")
    };
}

/// What is stored of the things of a hostname.
#[derive(Default)]
struct StoredThings {
    ownership: Ownership,
    /// By the name of each thing: its value, and the version of that.
    rows: BTreeMap<String, (String, i64)>,
}

impl<D: Database> SqlState<D> {
    async fn things(&self, doing: &'static str, hostname: &str) -> Result<StoredThings, StateError> {
        let sql = "SELECT thing, value, version FROM things WHERE hostname = ?1";
        let mut stored = StoredThings::default();
        for mut row in self.database.query(doing, sql, values![hostname]).await? {
            let (thing, value, version) = (row.text(THINGS)?, row.text(THINGS)?, row.integer(THINGS)?);
            things::take_row(&mut stored.ownership, &thing, &value)?;
            stored.rows.insert(thing, (value, version));
        }
        Ok(stored)
    }
}

/// The writes that make the things of a hostname what they should be, each refused where somebody else came before.
fn thing_changes(
    hostname: &str,
    mut stored: BTreeMap<String, (String, i64)>,
    wanted: BTreeMap<String, String>,
    fence: i64,
) -> Vec<Statement> {
    let insert = "INSERT INTO things (hostname, thing, value, version, fence) VALUES (?1, ?2, ?3, 1, ?4)
                  ON CONFLICT (hostname, thing) DO NOTHING";
    let update = "UPDATE things SET value = ?3, version = version + 1, fence = ?4
                  WHERE hostname = ?1 AND thing = ?2 AND version = ?5";
    let mut statements = Vec::new();
    for (thing, value) in wanted {
        match stored.remove(&thing) {
            Some((present, _)) if present == value => {}
            Some((_, version)) => {
                let params = values![hostname, &thing, &value, fence, version];
                statements.push(Statement::new(update, params).expecting(thing));
            }
            None => {
                let params = values![hostname, &thing, &value, fence];
                statements.push(Statement::new(insert, params).expecting(thing));
            }
        }
    }
    statements.extend(stored.into_iter().map(|(thing, (_, version))| delete_thing(hostname, thing, version)));
    statements
}

fn delete_thing(hostname: &str, thing: String, version: i64) -> Statement {
    let sql = "DELETE FROM things WHERE hostname = ?1 AND thing = ?2 AND version = ?3";
    Statement::new(sql, values![hostname, &thing, version]).expecting(thing)
}

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
        let sql = "SELECT 'thing', thing, value, 0, 0, 0, 0 FROM things WHERE hostname = ?1
                   UNION ALL SELECT 'fact', about, fact, 0, 0, 0, 0 FROM facts WHERE hostname = ?1
                   UNION ALL SELECT 'summary', '', '', wanted, held, seen, due FROM hostnames WHERE hostname = ?1";
        let rows = self.database.query("read a hostname", sql, values![hostname.as_str()]).await?;
        let mut found = HostnameRow {
            hostname: hostname.clone(),
            wanted: 0,
            held: false,
            seen_secs: 0,
            due_secs: 0,
            facts: HostnameFacts::default(),
            ownership: Ownership::default(),
        };
        let is_known = !rows.is_empty();
        for mut row in rows {
            let (kind, name, text) = (row.text(TABLE)?, row.text(TABLE)?, row.text(TABLE)?);
            match kind.as_str() {
                "thing" => things::take_row(&mut found.ownership, &name, &text)?,
                "fact" => things::take_fact_row(&mut found.facts, &name, &text)?,
                _ => {
                    found.wanted = row.integer(TABLE)?.cast_unsigned();
                    found.held = row.boolean(TABLE)?;
                    found.seen_secs = row.integer(TABLE)?;
                    found.due_secs = row.integer(TABLE)?;
                }
            }
        }
        Ok(is_known.then_some(found))
    }

    async fn persist_hostnames(&self, rows: Vec<HostnameRow>) -> Result<(), StateError> {
        let summary = "INSERT INTO hostnames (hostname, wanted, held, seen, due) VALUES (?1, ?2, ?3, ?4, ?5)
                       ON CONFLICT (hostname) DO UPDATE SET wanted = excluded.wanted, held = excluded.held,
                       seen = excluded.seen, due = excluded.due";
        let later = unless_seen_later!(
            "INSERT INTO facts (hostname, about, seen, fact) VALUES (?1, ?2, ?3, ?4)
                     ON CONFLICT (hostname, about) DO UPDATE SET seen = excluded.seen, fact = excluded.fact",
            "facts"
        );
        let mut statements = Vec::with_capacity(4 * rows.len());
        for row in rows {
            let name = row.hostname.as_str();
            let wanted = row.wanted.cast_signed();
            statements.push(Statement::new(summary, values![name, wanted, row.held, row.seen_secs, row.due_secs]));
            for FactRow { about, seen, fact } in things::to_fact_rows(&row.facts)? {
                statements.push(Statement::new(later, values![name, &about, seen, &fact]));
            }
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
        let name = hostname.as_str();
        for _ in 0..MOST_CHANGES_AT_ONCE {
            let StoredThings { mut ownership, rows } = self.things(DOING, name).await?;
            change(&mut ownership);
            let mut statements = vec![Statement::guard(claim)];
            statements.extend(thing_changes(name, rows, things::to_rows(&ownership)?, claim.fence));
            match self.database.write(DOING, Durability::Now, statements).await {
                Ok(_) => return Ok(ownership),
                Err(StateError::Contended { .. }) => {}
                Err(error) => return Err(error),
            }
        }
        Err(StateError::Contended { what: name.to_owned() })
    }

    async fn forget_hostname(&self, hostname: &Hostname, known: &Ownership) -> Result<bool, StateError> {
        const DOING: &str = "forget a hostname";
        let name = hostname.as_str();
        let StoredThings { ownership, rows } = self.things(DOING, name).await?;
        if ownership != *known {
            return Ok(false);
        }
        let mut statements: Vec<Statement> =
            rows.into_iter().map(|(thing, (_, version))| delete_thing(name, thing, version)).collect();
        let seen = ["DELETE FROM hostnames WHERE hostname = ?1", "DELETE FROM facts WHERE hostname = ?1"];
        statements.extend(seen.map(|sql| Statement::new(sql, values![name])));
        match self.database.write(DOING, Durability::Soon, statements).await {
            Ok(_) => Ok(true),
            Err(StateError::Contended { .. }) => Ok(false),
            Err(error) => Err(error),
        }
    }

    async fn owned_among(&self, hostnames: &[Hostname]) -> Result<Vec<(Hostname, Ownership)>, StateError> {
        let mut owned = Vec::new();
        for some in hostnames.chunks(MOST_NAMED) {
            let rows = self.database.query("read what hostnames have", &OWNED, named(some)).await?;
            let mut found: HashMap<String, Ownership> = HashMap::new();
            for mut row in rows {
                let (name, thing, value) = (row.text(THINGS)?, row.text(THINGS)?, row.text(THINGS)?);
                things::take_row(found.entry(name).or_default(), &thing, &value)?;
            }
            owned.extend(some.iter().filter_map(|hostname| Some((hostname.clone(), found.remove(hostname.as_str())?))));
        }
        Ok(owned)
    }

    async fn forget_unowned(&self, hostnames: &[Hostname]) -> Result<(), StateError> {
        for some in hostnames.chunks(MOST_NAMED) {
            let statements = [&FORGET_SUMMARIES, &FORGET_FACTS].map(|sql| Statement::new(sql, named(some)));
            self.database.write("forget hostnames", Durability::Soon, statements.into()).await?;
        }
        Ok(())
    }

    async fn zone(&self, zone: &DnsName) -> Result<Option<Fact<ZoneView>>, StateError> {
        let row = self.one("read a zone", "SELECT fact FROM zones WHERE zone = ?1", values![zone.as_str()]).await?;
        row.map(|mut row| read_json("zones", &row.text("zones")?)).transpose()
    }

    async fn persist_zone(&self, zone: &DnsName, fact: &Fact<ZoneView>) -> Result<(), StateError> {
        let sql = unless_seen_later!(
            "INSERT INTO zones (zone, fact, seen) VALUES (?1, ?2, ?3)
                   ON CONFLICT (zone) DO UPDATE SET fact = excluded.fact, seen = excluded.seen",
            "zones"
        );
        let params = values![zone.as_str(), write_json("zones", fact)?, fact.seen.as_millisecond()];
        self.execute("store a zone", Durability::Seen, sql, params).await
    }

    async fn endpoint(&self, key: &EndpointKey) -> Result<Option<Fact<EndpointView>>, StateError> {
        let sql = "SELECT fact FROM endpoints WHERE endpoint = ?1";
        let row = self.one("read an endpoint", sql, values![key.to_string()]).await?;
        row.map(|mut row| read_json("endpoints", &row.text("endpoints")?)).transpose()
    }

    async fn persist_endpoint(&self, key: &EndpointKey, fact: &Fact<EndpointView>) -> Result<(), StateError> {
        let sql = unless_seen_later!(
            "INSERT INTO endpoints (endpoint, fact, seen) VALUES (?1, ?2, ?3)
                   ON CONFLICT (endpoint) DO UPDATE SET fact = excluded.fact, seen = excluded.seen",
            "endpoints"
        );
        let params = values![key.to_string(), write_json("endpoints", fact)?, fact.seen.as_millisecond()];
        self.execute("store an endpoint", Durability::Seen, sql, params).await
    }
}

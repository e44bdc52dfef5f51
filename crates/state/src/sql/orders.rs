//! Orders and their challenge records.

use async_trait::async_trait;
use pindrel_core::certificates::acme::order::ChallengeRecord;
use pindrel_core::names::name::DnsName;

use super::{Database, Durability, Row, SqlState, Statement, Value, read_json, values, write_json};
use crate::orders::{ChallengeRow, OrderPhase, OrderRow, Orders};
use crate::{Claim, StateError};

const TABLE: &str = "orders";

/// The condition and the order in which an index holds the orders that have not ended, and
/// no others.
pub(crate) const OPEN: &str = "phase IN ('asked', 'open') ORDER BY certificate, id";

fn order(mut row: Row) -> Result<OrderRow, StateError> {
    Ok(OrderRow {
        id: row.integer(TABLE)?,
        certificate: row.text(TABLE)?,
        authority: row.text(TABLE)?,
        names: read_json(TABLE, &row.text(TABLE)?)?,
        url: row.optional_text(TABLE)?,
        phase: row.word(TABLE, &OrderPhase::ALL, OrderPhase::as_str)?,
        key: row.sealed(TABLE)?,
        begun: row.time(TABLE)?,
        ended: row.optional_time(TABLE)?,
        replaces: row.optional_text(TABLE)?,
        says: row.optional_text(TABLE)?,
    })
}

impl<D: Database> SqlState<D> {
    async fn orders(&self, condition: &str, params: Vec<Value>) -> Result<Vec<OrderRow>, StateError> {
        let sql = format!(
            "SELECT id, certificate, authority, names, url, phase, key_id, key, begun, ended, replaces, says
             FROM orders WHERE {condition}"
        );
        self.database.query("read orders", &sql, params).await?.into_iter().map(order).collect()
    }
}

#[async_trait]
impl<D: Database> Orders for SqlState<D> {
    async fn open_order(&self, certificate: &str) -> Result<Option<OrderRow>, StateError> {
        Ok(self.orders(&format!("certificate = ?1 AND {OPEN}"), values![certificate]).await?.pop())
    }

    async fn open_orders(&self) -> Result<Vec<OrderRow>, StateError> {
        self.orders(OPEN, Vec::new()).await
    }

    async fn persist_order(&self, claim: &Claim, row: &OrderRow) -> Result<i64, StateError> {
        let mut params = values![
            &row.certificate,
            &row.authority,
            write_json(TABLE, &row.names)?,
            row.url.as_ref(),
            row.phase.as_str(),
            &row.key.key_id,
            &row.key.bytes,
            row.begun,
            row.ended,
            row.replaces.as_ref(),
            row.says.as_ref(),
        ];
        let write = if row.id == 0 {
            let sql = "INSERT INTO orders
                       (certificate, authority, names, url, phase, key_id, key, begun, ended, replaces, says)
                       VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11) RETURNING id";
            Statement::new(sql, params)
        } else {
            params.push(row.id.into());
            let sql = "UPDATE orders SET certificate = ?1, authority = ?2, names = ?3, url = ?4, phase = ?5,
                       key_id = ?6, key = ?7, begun = ?8, ended = ?9, replaces = ?10, says = ?11
                       WHERE id = ?12 RETURNING id";
            Statement::new(sql, params)
        };
        let statements = vec![Statement::guard(claim), write];
        let (mut rows, _) = self.database.write("store an order", Durability::Now, statements).await?;
        rows.pop().map_or(Ok(row.id), |mut row| row.integer(TABLE))
    }

    async fn knows_order(&self, authority: &str, url: &str) -> Result<bool, StateError> {
        let sql = "SELECT id FROM orders WHERE authority = ?1 AND url = ?2 LIMIT 1";
        Ok(self.one("look for an order", sql, values![authority, url]).await?.is_some())
    }

    async fn record_challenges(&self, claim: &Claim, order: i64, rows: &[ChallengeRow]) -> Result<(), StateError> {
        let sql = "INSERT INTO challenge_records (order_id, zone, name, text) VALUES (?1, ?2, ?3, ?4)
                   ON CONFLICT (zone, name, text) DO NOTHING";
        let mut statements = vec![Statement::guard(claim)];
        statements.extend(rows.iter().map(|ChallengeRow { zone, record }| {
            Statement::new(sql, values![order, zone.as_str(), record.name.as_str(), &record.text])
        }));
        self.database.write("record challenge records", Durability::Now, statements).await.map(drop)
    }

    async fn challenges(&self, order: Option<i64>) -> Result<Vec<ChallengeRow>, StateError> {
        const TABLE: &str = "challenge_records";
        let doing = "read challenge records";
        let rows = match order {
            Some(order) => {
                let sql = "SELECT zone, name, text FROM challenge_records WHERE order_id = ?1";
                self.database.query(doing, sql, values![order]).await?
            }
            None => {
                let sql = "SELECT zone, name, text FROM challenge_records JOIN orders ON orders.id = order_id
                           WHERE phase NOT IN ('asked', 'open')";
                self.database.query(doing, sql, Vec::new()).await?
            }
        };
        let name = |text: String| {
            text.parse::<DnsName>().map_err(|error| StateError::Corrupt { table: TABLE, why: error.to_string() })
        };
        let read = |mut row: Row| {
            let zone = name(row.text(TABLE)?)?;
            let record = ChallengeRecord { name: name(row.text(TABLE)?)?, text: row.text(TABLE)? };
            Ok(ChallengeRow { zone, record })
        };
        rows.into_iter().map(read).collect()
    }

    async fn forget_challenges(&self, rows: &[ChallengeRow]) -> Result<(), StateError> {
        let sql = "DELETE FROM challenge_records WHERE zone = ?1 AND name = ?2 AND text = ?3";
        let statements = rows.iter().map(|ChallengeRow { zone, record }| {
            Statement::new(sql, values![zone.as_str(), record.name.as_str(), &record.text])
        });
        self.database.write("forget challenge records", Durability::Soon, statements.collect()).await.map(drop)
    }
}

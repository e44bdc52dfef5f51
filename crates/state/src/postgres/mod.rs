//! PostgreSQL: one database that several machines reach.

mod migrate;
mod presence;

use std::cmp::Ordering;
use std::sync::Arc;
use std::time::Duration;

use async_trait::async_trait;
use deadpool_postgres::{Manager, ManagerConfig, Object, Pool, RecyclingMethod, Runtime};
use jiff::Timestamp;
use rustls::pki_types::TrustAnchor;
use rustls::{ClientConfig, RootCertStore};
use tokio_postgres::config::SslMode;
use tokio_postgres::types::{IsNull, ToSql, Type, private::BytesMut, to_sql_checked};
use tokio_postgres::{Client, Config, NoTls};
use tokio_postgres_rustls::MakeRustlsConnect;

use crate::claims::{PRESENCE, Presence, presence_unknown};
use crate::sql::{Database, Durability, Row, Session, SqlState, Statement, Value};
use crate::{Access, StateError};

/// The state in a PostgreSQL database.
pub type PostgresState = SqlState<Postgres>;

type Failure = Box<dyn std::error::Error + Send + Sync>;

/// The schema that all tables lie in.
const SCHEMA: &str = "pindrel";
/// Each element brings the schema one version further; never change one that was released.
const MIGRATIONS: &[&str] = &[
    include_str!("schema/1.sql"),
    include_str!("schema/2.sql"),
    include_str!("schema/3.sql"),
    include_str!("schema/4.sql"),
    include_str!("schema/5.sql"),
    include_str!("schema/6.sql"),
];
/// The version from which on each thing has a row.
const THINGS_IN_ROWS: usize = 5;
/// The advisory lock that migrations take.
const MIGRATION_LOCK: i64 = 0x7069_6e64_0001;
const MOST_CONNECTIONS: usize = 16;
const CONNECT: Duration = Duration::from_secs(10);
/// How long a state of many hostnames may take to be brought to the present schema, by this process or by another.
const MIGRATED_WITHIN: Duration = Duration::from_secs(1_800);
/// How long an answer may take.
const ANSWERED_WITHIN: Duration = Duration::from_secs(60);

/// Whom the connection trusts.
#[derive(Debug, Clone)]
pub enum PostgresTls {
    /// The connection is not encrypted.
    Off,
    /// The server's certificate must end at one of these roots, and name the host.
    Verified(Vec<TrustAnchor<'static>>),
}

/// How a database is reached.
#[derive(Clone)]
pub struct PostgresConfig {
    /// How it was named, without a password: for messages.
    pub place: String,
    /// Hosts, user, database name and password.
    pub config: Config,
    /// Whom the connection trusts.
    pub tls: PostgresTls,
}

impl PostgresConfig {
    fn ready(&self) -> Config {
        let mut config = self.config.clone();
        config.options(format!("-c search_path={SCHEMA}")).application_name("pindrel").connect_timeout(CONNECT);
        config.ssl_mode(if matches!(self.tls, PostgresTls::Off) { SslMode::Disable } else { SslMode::Require });
        config
    }

    fn connector(&self) -> Result<Option<MakeRustlsConnect>, Failure> {
        let PostgresTls::Verified(roots) = &self.tls else { return Ok(None) };
        let provider = Arc::new(rustls::crypto::aws_lc_rs::default_provider());
        let config = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()?
            .with_root_certificates(RootCertStore { roots: roots.clone() })
            .with_no_client_auth();
        Ok(Some(MakeRustlsConnect::new(config)))
    }

    /// Connects outside of the pool; the connection ends when the client is dropped.
    async fn connect(&self) -> Result<Client, Failure> {
        let config = self.ready();
        match self.connector()? {
            Some(tls) => {
                let (client, connection) = config.connect(tls).await?;
                tokio::spawn(connection);
                Ok(client)
            }
            None => {
                let (client, connection) = config.connect(NoTls).await?;
                tokio::spawn(connection);
                Ok(client)
            }
        }
    }
}

/// A pool of connections to one database.
pub struct Postgres {
    pool: Pool,
    config: PostgresConfig,
}

impl std::fmt::Debug for Postgres {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Postgres").field("place", &self.config.place).finish_non_exhaustive()
    }
}

impl SqlState<Postgres> {
    /// Connects to a database, and makes the schema `pindrel` where there is none. An older one, which others may use,
    /// is brought to the present version by whoever comes to change something.
    ///
    /// # Errors
    /// [`StateError::Open`], [`StateError::Older`] or [`StateError::Newer`].
    pub async fn connect(config: PostgresConfig, access: Access) -> Result<PostgresState, StateError> {
        let cannot = |source: Failure| StateError::Open { place: config.place.clone(), source };
        let mut client = within(CONNECT, config.connect()).await.map_err(cannot)?;
        let found = within(MIGRATED_WITHIN, migrate(&mut client, access)).await.map_err(cannot)?;
        let known = MIGRATIONS.len() as i64;
        let place = || config.place.clone();
        match found.cmp(&known) {
            Ordering::Greater => return Err(StateError::Newer { place: place(), found, known }),
            Ordering::Less => return Err(StateError::Older { place: place(), found, known }),
            Ordering::Equal => {}
        }
        let manager_config = ManagerConfig { recycling_method: RecyclingMethod::Fast };
        let manager = match config.connector().map_err(cannot)? {
            Some(tls) => Manager::from_config(config.ready(), tls, manager_config),
            None => Manager::from_config(config.ready(), NoTls, manager_config),
        };
        let pool = Pool::builder(manager)
            .max_size(MOST_CONNECTIONS)
            .runtime(Runtime::Tokio1)
            .wait_timeout(Some(CONNECT))
            .create_timeout(Some(CONNECT))
            .build()
            .map_err(|error| cannot(error.into()))?;
        Ok(SqlState { database: Postgres { pool, config } })
    }
}

/// Waits for a database no longer than that: it may accept a connection and then say nothing.
async fn within<T>(bound: Duration, work: impl Future<Output = Result<T, Failure>>) -> Result<T, Failure> {
    let silent = |_| Failure::from(format!("it does not answer within {} s", bound.as_secs()));
    tokio::time::timeout(bound, work).await.map_err(silent)?
}

/// Brings the schema to the present version, as far as that is allowed; returns the version that it has then.
async fn migrate(client: &mut Client, access: Access) -> Result<i64, Failure> {
    let transaction = within(ANSWERED_WITHIN, async { Ok(client.transaction().await?) }).await?;
    transaction.execute("SELECT pg_advisory_xact_lock($1)", &[&MIGRATION_LOCK]).await?;
    // Only in a new one is the right to create a schema needed.
    let versions = format!("{SCHEMA}.schema_version");
    let row = transaction.query_one("SELECT to_regclass($1) IS NULL", &[&versions]).await?;
    if row.get(0) {
        let sql = format!("CREATE SCHEMA IF NOT EXISTS {SCHEMA}; CREATE TABLE {versions} (version BIGINT NOT NULL)");
        transaction.batch_execute(&sql).await?;
    }
    let row = transaction.query_one("SELECT coalesce(max(version), 0) FROM schema_version", &[]).await?;
    let found: i64 = row.get(0);
    // In a new one there is nothing that others use.
    if access == Access::Read && found > 0 {
        return Ok(found);
    }
    for (step, sql) in MIGRATIONS.iter().enumerate().skip(usize::try_from(found).unwrap_or(0)) {
        transaction.batch_execute(sql).await?;
        if step + 1 == THINGS_IN_ROWS {
            migrate::put_things_in_rows(&transaction).await?;
        }
        transaction.execute("DELETE FROM schema_version", &[]).await?;
        transaction.execute("INSERT INTO schema_version VALUES ($1)", &[&(step as i64 + 1)]).await?;
    }
    transaction.commit().await?;
    Ok(found.max(MIGRATIONS.len() as i64))
}

impl ToSql for Value {
    fn to_sql(&self, ty: &Type, out: &mut BytesMut) -> Result<IsNull, Failure> {
        match self {
            Value::Null => Ok(IsNull::Yes),
            Value::Integer(number) => number.to_sql(ty, out),
            Value::Text(text) => text.to_sql(ty, out),
            Value::Bytes(bytes) => bytes.to_sql(ty, out),
        }
    }

    fn accepts(_ty: &Type) -> bool {
        true
    }

    to_sql_checked!();
}

fn from_postgres(row: &tokio_postgres::Row) -> Result<Row, Failure> {
    let value = |(index, column): (usize, &tokio_postgres::Column)| -> Result<Value, Failure> {
        Ok(match *column.type_() {
            Type::INT8 => row.try_get::<_, Option<i64>>(index)?.into(),
            Type::TEXT => row.try_get::<_, Option<String>>(index)?.into(),
            Type::BYTEA => row.try_get::<_, Option<Vec<u8>>>(index)?.map_or(Value::Null, Value::Bytes),
            _ => return Err(format!("a column of the type {}", column.type_()).into()),
        })
    };
    Ok(Row::new(row.columns().iter().enumerate().map(value).collect::<Result<_, _>>()?))
}

/// Writes `?1` as `$1`. No statement holds a question mark otherwise.
fn numbered(sql: &str) -> String {
    sql.replace('?', "$")
}

async fn run(client: &Object, sql: &str, params: &[Value]) -> Result<(Vec<Row>, u64), Failure> {
    let statement = client.prepare_cached(&numbered(sql)).await?;
    let params: Vec<&(dyn ToSql + Sync)> = params.iter().map(|value| value as &(dyn ToSql + Sync)).collect();
    if statement.columns().is_empty() {
        return Ok((Vec::new(), client.execute(&statement, &params).await?));
    }
    let rows = client.query(&statement, &params).await?;
    let rows: Vec<Row> = rows.iter().map(from_postgres).collect::<Result<_, _>>()?;
    let changed = rows.len() as u64;
    Ok((rows, changed))
}

async fn run_all(
    client: &Object,
    doing: &'static str,
    statements: Vec<Statement>,
) -> Result<(Vec<Row>, u64), StateError> {
    let (mut rows, mut total) = (Vec::new(), 0);
    for Statement { sql, params, guards } in statements {
        let (last, changed) = run(client, sql, &params).await.map_err(|source| failed(doing, source))?;
        if let Some(guard) = guards.filter(|_| changed == 0) {
            return Err(guard.into());
        }
        (rows, total) = (last, total + changed);
    }
    Ok((rows, total))
}

impl Postgres {
    async fn client(&self, doing: &'static str) -> Result<Object, StateError> {
        self.pool.get().await.map_err(|error| failed(doing, error.into()))
    }
}

#[async_trait]
impl Database for Postgres {
    async fn query(&self, doing: &'static str, sql: &str, params: Vec<Value>) -> Result<Vec<Row>, StateError> {
        let lent = Lent(Some(self.client(doing).await?));
        let work = async { run(lent.client(doing)?, sql, &params).await.map_err(|source| failed(doing, source)) };
        let (rows, _) = answered(doing, work).await?;
        lent.give_back();
        Ok(rows)
    }

    async fn write(
        &self,
        doing: &'static str,
        _durability: Durability,
        statements: Vec<Statement>,
    ) -> Result<(Vec<Row>, u64), StateError> {
        if let [_] = statements.as_slice() {
            let lent = Lent(Some(self.client(doing).await?));
            let work = async { run_all(lent.client(doing)?, doing, statements).await };
            let done = answered(doing, work).await?;
            lent.give_back();
            return Ok(done);
        }
        let session = PostgresSession::begin(self.client(doing).await?, doing).await?;
        let work = async { run_all(session.lent.client(doing)?, doing, statements).await };
        let done = answered(doing, work).await?;
        Box::new(session).commit().await?;
        Ok(done)
    }

    async fn begin(&self, doing: &'static str) -> Result<Box<dyn Session>, StateError> {
        Ok(Box::new(PostgresSession::begin(self.client(doing).await?, doing).await?))
    }

    async fn time(&self, _now: Timestamp) -> Result<Timestamp, StateError> {
        const DOING: &str = "ask for the time";
        let sql = "SELECT extract(epoch FROM clock_timestamp())::bigint";
        let missing = || failed(DOING, "there is none".into());
        self.query(DOING, sql, Vec::new()).await?.pop().ok_or_else(missing)?.time("the clock")
    }

    async fn be_present(&self) -> Result<Presence, StateError> {
        presence::begin(&self.config).await.map_err(presence_unknown)
    }

    async fn is_still_present(&self, presence: &Presence) -> Result<bool, StateError> {
        presence::is_held(&self.config, presence).await.map_err(presence_unknown)
    }

    async fn is_present(&self, token: &str) -> Result<bool, StateError> {
        let client = self.client(PRESENCE).await?;
        presence::is_present(&client, token).await.map_err(presence_unknown)
    }

    async fn is_in_place(&self) -> Result<bool, StateError> {
        let doing = "look for its schema";
        let rows = self.query(doing, "SELECT version FROM schema_version", Vec::new()).await;
        rows.map(|rows| !rows.is_empty())
    }
}

/// A connection that is used. One that is dropped in between, and may owe an answer or have a transaction open, is closed:
/// that undoes the transaction.
struct Lent(Option<Object>);

impl Lent {
    fn client(&self, doing: &'static str) -> Result<&Object, StateError> {
        self.0.as_ref().ok_or_else(|| failed(doing, "the transaction has ended".into()))
    }

    /// Nothing is owed: others may use it.
    fn give_back(mut self) {
        drop(self.0.take());
    }
}

impl Drop for Lent {
    fn drop(&mut self) {
        if let Some(client) = self.0.take() {
            drop(Object::take(client));
        }
    }
}

/// Waits for an answer for as long as one may take.
async fn answered<T>(doing: &'static str, work: impl Future<Output = Result<T, StateError>>) -> Result<T, StateError> {
    let answer = tokio::time::timeout(ANSWERED_WITHIN, work).await;
    answer.unwrap_or_else(|_| Err(failed(doing, "the database does not answer".into())))
}

fn failed(doing: &'static str, source: Failure) -> StateError {
    StateError::Failed { doing, source }
}

struct PostgresSession {
    lent: Lent,
    doing: &'static str,
}

impl PostgresSession {
    async fn begin(client: Object, doing: &'static str) -> Result<PostgresSession, StateError> {
        let session = PostgresSession { lent: Lent(Some(client)), doing };
        session.send("BEGIN").await?;
        Ok(session)
    }

    async fn send(&self, sql: &str) -> Result<(), StateError> {
        let client = self.lent.client(self.doing)?;
        let work = async { client.batch_execute(sql).await.map_err(|error| failed(self.doing, error.into())) };
        answered(self.doing, work).await
    }
}

#[async_trait]
impl Session for PostgresSession {
    async fn query(&mut self, sql: &'static str, params: Vec<Value>) -> Result<Vec<Row>, StateError> {
        let (client, doing) = (self.lent.client(self.doing)?, self.doing);
        let work = async { run(client, sql, &params).await.map_err(|source| failed(doing, source)) };
        Ok(answered(doing, work).await?.0)
    }

    async fn execute(&mut self, statements: Vec<Statement>) -> Result<u64, StateError> {
        let (client, doing) = (self.lent.client(self.doing)?, self.doing);
        Ok(answered(doing, run_all(client, doing, statements)).await?.1)
    }

    async fn commit(self: Box<Self>) -> Result<(), StateError> {
        self.send("COMMIT").await?;
        self.lent.give_back();
        Ok(())
    }
}

//! PostgreSQL: one database that several machines reach.

use std::sync::Arc;
use std::time::{Duration, Instant};

use async_trait::async_trait;
use deadpool_postgres::{Manager, ManagerConfig, Object, Pool, RecyclingMethod, Runtime};
use jiff::Timestamp;
use rustls::pki_types::TrustAnchor;
use rustls::{ClientConfig, RootCertStore};
use tokio_postgres::config::SslMode;
use tokio_postgres::types::{IsNull, ToSql, Type, private::BytesMut, to_sql_checked};
use tokio_postgres::{Client, Config, NoTls};
use tokio_postgres_rustls::MakeRustlsConnect;

use crate::StateError;
use crate::lock::{Lock, LockError, LockKind, holder_line};
use crate::sql::{Database, Durability, Row, Session, SqlState, Statement, Value};

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
];
/// The advisory lock that migrations take, and the one that a run takes.
const MIGRATION_LOCK: i64 = 0x7069_6e64_0001;
const RUN_LOCK: i64 = 0x7069_6e64_0002;
/// The same for running on.
const KEEP_LOCK: i64 = RUN_LOCK + 1;
const MOST_CONNECTIONS: usize = 16;
const CONNECT: Duration = Duration::from_secs(10);
/// How often a run that waits for the lock tries again.
const LOOK_EVERY: Duration = Duration::from_millis(200);

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
    /// Connects to a database, making or migrating the schema `pindrel` as needed.
    ///
    /// # Errors
    /// [`StateError::Open`] or [`StateError::Newer`].
    pub async fn connect(config: PostgresConfig) -> Result<PostgresState, StateError> {
        let cannot = |source: Failure| StateError::Open { place: config.place.clone(), source };
        let mut client = config.connect().await.map_err(cannot)?;
        let found = migrate(&mut client).await.map_err(cannot)?;
        let known = MIGRATIONS.len() as i64;
        if found > known {
            return Err(StateError::Newer { place: config.place.clone(), found, known });
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

/// Brings the schema to the present version; returns the version that was found where it
/// is newer.
async fn migrate(client: &mut Client) -> Result<i64, Failure> {
    let transaction = client.transaction().await?;
    transaction.execute("SELECT pg_advisory_xact_lock($1)", &[&MIGRATION_LOCK]).await?;
    transaction
        .batch_execute(&format!(
            "CREATE SCHEMA IF NOT EXISTS {SCHEMA};
             CREATE TABLE IF NOT EXISTS {SCHEMA}.schema_version (version BIGINT NOT NULL)"
        ))
        .await?;
    let row = transaction.query_one("SELECT coalesce(max(version), 0) FROM schema_version", &[]).await?;
    let found: i64 = row.get(0);
    for (step, sql) in MIGRATIONS.iter().enumerate().skip(usize::try_from(found).unwrap_or(0)) {
        transaction.batch_execute(sql).await?;
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
        let done = run(client, sql, &params).await;
        let (last, changed) = done.map_err(|source| StateError::Failed { doing, source })?;
        if let Some(key) = guards.filter(|_| changed == 0) {
            return Err(StateError::Superseded { key });
        }
        (rows, total) = (last, total + changed);
    }
    Ok((rows, total))
}

impl Postgres {
    async fn client(&self, doing: &'static str) -> Result<Object, StateError> {
        self.pool.get().await.map_err(|error| StateError::Failed { doing, source: error.into() })
    }
}

#[async_trait]
impl Database for Postgres {
    async fn query(&self, doing: &'static str, sql: &str, params: Vec<Value>) -> Result<Vec<Row>, StateError> {
        let client = self.client(doing).await?;
        let rows = run(&client, sql, &params).await.map_err(|source| StateError::Failed { doing, source })?;
        Ok(rows.0)
    }

    async fn write(
        &self,
        doing: &'static str,
        _durability: Durability,
        statements: Vec<Statement>,
    ) -> Result<(Vec<Row>, u64), StateError> {
        if let [_] = statements.as_slice() {
            let client = self.client(doing).await?;
            return run_all(&client, doing, statements).await;
        }
        let session = PostgresSession::begin(self.client(doing).await?, doing).await?;
        let done = run_all(session.client()?, doing, statements).await?;
        Box::new(session).commit().await?;
        Ok(done)
    }

    async fn begin(&self, doing: &'static str) -> Result<Box<dyn Session>, StateError> {
        Ok(Box::new(PostgresSession::begin(self.client(doing).await?, doing).await?))
    }

    async fn lock(&self, kind: LockKind, who: &str, now: Timestamp, patience: Duration) -> Result<Lock, LockError> {
        let (key, id) = match kind {
            LockKind::Run => (RUN_LOCK, 1_i64),
            LockKind::Keep => (KEEP_LOCK, 2),
        };
        let client = self.config.connect().await.map_err(LockError::Database)?;
        let failed = |error: tokio_postgres::Error| LockError::Database(error.into());
        let begun = Instant::now();
        loop {
            let row = client.query_one("SELECT pg_try_advisory_lock($1)", &[&key]).await.map_err(failed)?;
            if row.get::<_, bool>(0) {
                break;
            }
            if begun.elapsed() >= patience {
                let row =
                    client.query_opt("SELECT holder FROM lock_holder WHERE id = $1", &[&id]).await.map_err(failed)?;
                let holder = row.map_or_else(|| "unknown".to_owned(), |row| row.get(0));
                return Err(LockError::Held { holder, waited_secs: begun.elapsed().as_secs() });
            }
            tokio::time::sleep(LOOK_EVERY).await;
        }
        let line = holder_line(who, now);
        let sql = "INSERT INTO lock_holder (id, holder) VALUES ($2, $1)
                   ON CONFLICT (id) DO UPDATE SET holder = excluded.holder";
        client.execute(sql, &[&line.trim_end(), &id]).await.map_err(failed)?;
        Ok(Lock::holding(client))
    }

    async fn is_in_place(&self) -> Result<bool, StateError> {
        let doing = "look for its schema";
        let rows = self.query(doing, "SELECT version FROM schema_version", Vec::new()).await;
        rows.map(|rows| !rows.is_empty())
    }
}

struct PostgresSession {
    /// `None` once it is committed.
    client: Option<Object>,
    doing: &'static str,
}

impl PostgresSession {
    async fn begin(client: Object, doing: &'static str) -> Result<PostgresSession, StateError> {
        client.batch_execute("BEGIN").await.map_err(|error| StateError::Failed { doing, source: error.into() })?;
        Ok(PostgresSession { client: Some(client), doing })
    }

    fn client(&self) -> Result<&Object, StateError> {
        self.client.as_ref().ok_or(StateError::Failed { doing: self.doing, source: "the transaction has ended".into() })
    }
}

impl Drop for PostgresSession {
    fn drop(&mut self) {
        // A connection with an open transaction does not go back to the pool: closing it
        // undoes the transaction.
        if let Some(client) = self.client.take() {
            drop(Object::take(client));
        }
    }
}

#[async_trait]
impl Session for PostgresSession {
    async fn query(&mut self, sql: &'static str, params: Vec<Value>) -> Result<Vec<Row>, StateError> {
        let doing = self.doing;
        let rows = run(self.client()?, sql, &params).await.map_err(|source| StateError::Failed { doing, source })?;
        Ok(rows.0)
    }

    async fn execute(&mut self, statements: Vec<Statement>) -> Result<(), StateError> {
        run_all(self.client()?, self.doing, statements).await.map(drop)
    }

    async fn commit(mut self: Box<Self>) -> Result<(), StateError> {
        let doing = self.doing;
        let client = self.client()?;
        client.batch_execute("COMMIT").await.map_err(|error| StateError::Failed { doing, source: error.into() })?;
        // Whole: the connection goes back to the pool.
        drop(self.client.take());
        Ok(())
    }
}

//! SQLite: one file, for its owner alone.

mod migrate;
mod presence;

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicU8, Ordering};
use std::time::Duration;

use async_trait::async_trait;
use jiff::Timestamp;
use rusqlite::types::{Value as SqliteValue, ValueRef};
use rusqlite::{Connection, ErrorCode, OpenFlags, TransactionBehavior, params_from_iter};
use tokio::sync::{Mutex, OwnedMutexGuard};

use self::presence::Presences;
use crate::claims::{Presence, presence_unknown};
use crate::sql::{Database, Durability, Guard as Refusal, Row, Session, SqlState, Statement, Value};
use crate::{Access, StateError};

/// The state in one SQLite file.
pub type SqliteState = SqlState<Sqlite>;

/// How long a write waits for another process's write.
const BUSY: Duration = Duration::from_secs(5);
/// How many prepared statements are kept.
const PREPARED: usize = 64;

/// A connection to one SQLite file. SQLite blocks, so it is used on threads for that.
pub struct Sqlite {
    connection: Arc<Mutex<Connection>>,
    place: Option<Place>,
    /// The user may only read: what was seen is not stored, all else is refused.
    read_only: bool,
    presences: Presences,
    disk: Arc<Disk>,
}

/// Which writes of the connection wait for the disk.
#[derive(Default)]
struct Disk(AtomicU8);

impl Disk {
    /// Sets whether the writes that follow wait for it. The pragma is run only when that changes: SQLite prepares all
    /// statements again after it.
    fn waits(&self, connection: &Connection, waits: bool) -> rusqlite::Result<()> {
        let (level, pragma) = if waits { (2, "PRAGMA synchronous = FULL") } else { (1, "PRAGMA synchronous = NORMAL") };
        if self.0.load(Ordering::Relaxed) != level {
            connection.execute_batch(pragma)?;
            self.0.store(level, Ordering::Relaxed);
        }
        Ok(())
    }
}

/// Where the file is, and which file it was when it was opened.
#[derive(Debug, Clone)]
struct Place {
    path: PathBuf,
    identity: (u64, u64),
}

impl SqlState<Sqlite> {
    /// Opens a state, making or migrating it as needed; the file and its folder are
    /// for their owner alone.
    ///
    /// # Errors
    /// [`StateError::Open`], also where it is to be changed and this user may only read it; [`StateError::Foreign`] or
    /// [`StateError::Newer`].
    pub fn open(path: &Path, access: Access) -> Result<SqliteState, StateError> {
        let place = path.display().to_string();
        let cannot =
            |source: Box<dyn std::error::Error + Send + Sync>| StateError::Open { place: place.clone(), source };
        if let Some(folder) = path.parent().filter(|folder| !folder.as_os_str().is_empty()) {
            private_folder(folder).map_err(|error| cannot(error.into()))?;
        }
        let read_only = match private_file(path) {
            Ok(()) => false,
            Err(error) if is_write_refused(&error) && path.is_file() && access == Access::Read => true,
            Err(error) => return Err(cannot(error.into())),
        };
        let identity = identity(path).map_err(|error| cannot(error.into()))?;
        let connection = if read_only {
            migrate::check(open_to_read(path).map_err(|error| cannot(error.into()))?, &place)?
        } else {
            // Never as a URI: a path is a path, whatever it begins with.
            let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
            let connection = Connection::open_with_flags(path, flags).map_err(|error| cannot(error.into()))?;
            migrate::prepare(connection, &place)?
        };
        let place = Some(Place { path: path.to_owned(), identity });
        Ok(SqlState {
            database: Sqlite {
                connection: Arc::new(Mutex::new(connection)),
                presences: Presences::beside(path),
                disk: Arc::default(),
                place,
                read_only,
            },
        })
    }

    /// Makes a state that lives in memory, for tests.
    ///
    /// # Errors
    /// [`StateError::Open`].
    pub fn in_memory() -> Result<SqliteState, StateError> {
        let place = "in memory".to_owned();
        let opened = Connection::open_in_memory();
        let connection = opened.map_err(|error| StateError::Open { place: place.clone(), source: error.into() })?;
        let connection = migrate::prepare(connection, &place)?;
        Ok(SqlState {
            database: Sqlite {
                connection: Arc::new(Mutex::new(connection)),
                place: None,
                read_only: false,
                presences: Presences::default(),
                disk: Arc::default(),
            },
        })
    }
}

impl std::fmt::Debug for Sqlite {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Sqlite").field("place", &self.place).finish_non_exhaustive()
    }
}

/// The connection while one task uses it: a transaction that is open at the end is undone.
struct Guard {
    connection: OwnedMutexGuard<Connection>,
    /// Whether its statements may have to wait for a disk.
    blocks: bool,
}

impl Drop for Guard {
    fn drop(&mut self) {
        if !self.connection.is_autocommit() {
            // Nothing can be done about a failure here; the next statement would tell.
            let _ = self.connection.execute_batch("ROLLBACK");
        }
    }
}

/// Why work on the connection failed.
enum Failure {
    Sql(rusqlite::Error),
    Refused(Refusal),
}

impl From<rusqlite::Error> for Failure {
    fn from(error: rusqlite::Error) -> Failure {
        Failure::Sql(error)
    }
}

impl Failure {
    fn into_error(self, doing: &'static str) -> StateError {
        match self {
            Failure::Sql(error) => StateError::Failed { doing, source: error.into() },
            Failure::Refused(guard) => guard.into(),
        }
    }
}

/// Works on the connection, on another thread where that may block; whoever asked may be gone before it ends.
async fn on_thread<T: Send + 'static>(
    guard: Guard,
    doing: &'static str,
    work: impl FnOnce(&mut Connection) -> Result<T, Failure> + Send + 'static,
) -> Result<(Guard, T), StateError> {
    let blocks = guard.blocks;
    let work = move || {
        let mut guard = guard;
        work(&mut guard.connection).map(|result| (guard, result))
    };
    let worked = if blocks { tokio::task::spawn_blocking(work).await } else { Ok(work()) };
    match worked {
        Ok(result) => result.map_err(|failure| failure.into_error(doing)),
        Err(error) => Err(StateError::Failed { doing, source: error.into() }),
    }
}

impl Sqlite {
    async fn guard(&self) -> Guard {
        Guard { connection: self.connection.clone().lock_owned().await, blocks: self.place.is_some() }
    }
}

fn to_sqlite(value: Value) -> SqliteValue {
    match value {
        Value::Null => SqliteValue::Null,
        Value::Integer(number) => SqliteValue::Integer(number),
        Value::Text(text) => SqliteValue::Text(text),
        Value::Bytes(bytes) => SqliteValue::Blob(bytes),
    }
}

fn from_sqlite(value: ValueRef<'_>) -> Value {
    match value {
        ValueRef::Null => Value::Null,
        ValueRef::Integer(number) => Value::Integer(number),
        ValueRef::Real(number) => Value::Text(number.to_string()),
        ValueRef::Text(text) => Value::Text(String::from_utf8_lossy(text).into_owned()),
        ValueRef::Blob(bytes) => Value::Bytes(bytes.to_vec()),
    }
}

fn run(connection: &Connection, sql: &str, params: Vec<Value>) -> rusqlite::Result<(Vec<Row>, u64)> {
    let mut statement = connection.prepare_cached(sql)?;
    let params = params_from_iter(params.into_iter().map(to_sqlite));
    let columns = statement.column_count();
    if columns == 0 {
        return statement.execute(params).map(|changed| (Vec::new(), changed as u64));
    }
    let mut found = statement.query(params)?;
    let mut rows = Vec::new();
    while let Some(row) = found.next()? {
        let values = (0..columns).map(|column| row.get_ref(column).map(from_sqlite));
        rows.push(Row::new(values.collect::<rusqlite::Result<_>>()?));
    }
    let changed = rows.len() as u64;
    Ok((rows, changed))
}

fn run_all(connection: &Connection, statements: Vec<Statement>) -> Result<(Vec<Row>, u64), Failure> {
    let (mut rows, mut total) = (Vec::new(), 0);
    for Statement { sql, params, guards } in statements {
        let (last, changed) = run(connection, sql, params)?;
        if let Some(guard) = guards.filter(|_| changed == 0) {
            return Err(Failure::Refused(guard));
        }
        (rows, total) = (last, total + changed);
    }
    Ok((rows, total))
}

#[async_trait]
impl Database for Sqlite {
    async fn query(&self, doing: &'static str, sql: &str, params: Vec<Value>) -> Result<Vec<Row>, StateError> {
        let sql = sql.to_owned();
        let guard = self.guard().await;
        let (_, rows) = on_thread(guard, doing, move |connection| Ok(run(connection, &sql, params)?.0)).await?;
        Ok(rows)
    }

    async fn write(
        &self,
        doing: &'static str,
        durability: Durability,
        statements: Vec<Statement>,
    ) -> Result<(Vec<Row>, u64), StateError> {
        if self.read_only {
            return match durability {
                Durability::Seen => Ok((Vec::new(), 0)),
                Durability::Now | Durability::Soon => {
                    Err(StateError::Failed { doing, source: "this user may only read it".into() })
                }
            };
        }
        let guard = self.guard().await;
        let disk = self.disk.clone();
        let work = move |connection: &mut Connection| {
            // While the log of writes is kept in order, a later write that waits for the disk
            // brings the earlier ones with it.
            disk.waits(connection, durability == Durability::Now)?;
            if let [_] = statements.as_slice() {
                return run_all(connection, statements);
            }
            let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
            let done = run_all(&transaction, statements)?;
            transaction.commit()?;
            Ok(done)
        };
        let (_, done) = on_thread(guard, doing, work).await?;
        Ok(done)
    }

    async fn begin(&self, doing: &'static str) -> Result<Box<dyn Session>, StateError> {
        let guard = self.guard().await;
        let disk = self.disk.clone();
        let begin = move |connection: &mut Connection| {
            disk.waits(connection, true)?;
            Ok(connection.execute_batch("BEGIN IMMEDIATE")?)
        };
        let (guard, ()) = on_thread(guard, doing, begin).await?;
        Ok(Box::new(SqliteSession { guard: Some(guard), doing }))
    }

    async fn time(&self, now: Timestamp) -> Result<Timestamp, StateError> {
        // All that use the file are on this machine.
        Ok(now)
    }

    async fn be_present(&self) -> Result<Presence, StateError> {
        self.presences.begin().map_err(presence_unknown)
    }

    async fn is_still_present(&self, presence: &Presence) -> Result<bool, StateError> {
        self.presences.has(&presence.token).map_err(presence_unknown)
    }

    async fn is_present(&self, token: &str) -> Result<bool, StateError> {
        self.presences.has(token).map_err(presence_unknown)
    }

    async fn is_in_place(&self) -> Result<bool, StateError> {
        let Some(place) = self.place.clone() else { return Ok(true) };
        Ok(identity(&place.path).is_ok_and(|now| now == place.identity))
    }
}

struct SqliteSession {
    /// `None` only after a failure, which has undone the transaction.
    guard: Option<Guard>,
    doing: &'static str,
}

impl SqliteSession {
    async fn work<T: Send + 'static>(
        &mut self,
        work: impl FnOnce(&mut Connection) -> Result<T, Failure> + Send + 'static,
    ) -> Result<T, StateError> {
        let guard = self.guard.take();
        let guard =
            guard.ok_or(StateError::Failed { doing: self.doing, source: "the transaction has ended".into() })?;
        let (guard, result) = on_thread(guard, self.doing, work).await?;
        self.guard = Some(guard);
        Ok(result)
    }
}

#[async_trait]
impl Session for SqliteSession {
    async fn query(&mut self, sql: &'static str, params: Vec<Value>) -> Result<Vec<Row>, StateError> {
        self.work(move |connection| Ok(run(connection, sql, params)?.0)).await
    }

    async fn execute(&mut self, statements: Vec<Statement>) -> Result<u64, StateError> {
        self.work(move |connection| run_all(connection, statements).map(|(_, changed)| changed)).await
    }

    async fn commit(mut self: Box<Self>) -> Result<(), StateError> {
        self.work(|connection| Ok(connection.execute_batch("COMMIT")?)).await
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
    {
        use std::os::unix::fs::OpenOptionsExt as _;
        options.mode(0o600).custom_flags(nix::libc::O_NONBLOCK);
    }
    let file = options.open(path)?;
    if file.metadata()?.is_file() { Ok(()) } else { Err(std::io::Error::other("it is not a file")) }
}

fn is_write_refused(error: &std::io::Error) -> bool {
    matches!(error.kind(), std::io::ErrorKind::PermissionDenied | std::io::ErrorKind::ReadOnlyFilesystem)
}

/// Opens a file that this user may not write. Where not even the files beside it can be made that
/// readers share with writers, it is read as it is.
fn open_to_read(path: &Path) -> rusqlite::Result<Connection> {
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let opened = Connection::open_with_flags(path, flags)?;
    match opened.query_row("SELECT count(*) FROM sqlite_schema", [], |_| Ok(())) {
        Err(error) if matches!(error.sqlite_error_code(), Some(ErrorCode::CannotOpen | ErrorCode::ReadOnly)) => {
            let path = path.to_string_lossy().replace('%', "%25").replace('?', "%3f").replace('#', "%23");
            let uri = format!("file:{path}?immutable=1");
            Connection::open_with_flags(uri, flags | OpenFlags::SQLITE_OPEN_URI)
        }
        // Whatever else is wrong is told by whoever uses it.
        _ => Ok(opened),
    }
}

/// What tells a file from another one at the same path.
fn identity(path: &Path) -> std::io::Result<(u64, u64)> {
    use std::os::unix::fs::MetadataExt as _;
    let metadata = std::fs::metadata(path)?;
    Ok((metadata.dev(), metadata.ino()))
}

#[cfg(test)]
mod tests;

//! Which processes are at work on a database: each holds an advisory lock on a connection of its own, which the server
//! takes back when the connection ends.

use std::time::Duration;

use tokio::sync::Mutex;
use tokio::time::timeout;
use tokio_postgres::Client;

use super::{Failure, PostgresConfig};
use crate::claims::Presence;

/// The first of the two numbers of each lock; the second is the token.
const CLASS: i32 = 0x7069_6e64;
/// How long a living connection may take to say so.
const ANSWERED_WITHIN: Duration = Duration::from_secs(5);
/// How often a number is drawn that nobody has.
const DRAWS: usize = 100;

/// A connection that holds a lock.
type Held = Mutex<Client>;

fn number(token: &str) -> Result<i32, Failure> {
    token.parse().map_err(|_| format!("the token {token:?} is no number").into())
}

async fn try_lock(client: &Client, number: i32) -> Result<bool, Failure> {
    Ok(client.query_one("SELECT pg_try_advisory_lock($1, $2)", &[&CLASS, &number]).await?.get(0))
}

pub(super) async fn begin(config: &PostgresConfig) -> Result<Presence, Failure> {
    let client = config.connect().await?;
    for _ in 0..DRAWS {
        let number: i32 = client.query_one("SELECT (random() * 2147483646)::int", &[]).await?.get(0);
        if try_lock(&client, number).await? {
            return Ok(Presence { token: number.to_string(), held: Box::new(Held::new(client)) });
        }
    }
    Err("no lock is free".into())
}

/// Says whether a lock is held, also after its connection was lost, where nobody has noticed that.
pub(super) async fn is_held(config: &PostgresConfig, presence: &Presence) -> Result<bool, Failure> {
    let Some(held) = presence.held.downcast_ref::<Held>() else { return Ok(false) };
    let mut client = held.lock().await;
    // A connection that has died unseen does not answer at all.
    if timeout(ANSWERED_WITHIN, client.simple_query("SELECT 1")).await.is_ok_and(|answer| answer.is_ok()) {
        return Ok(true);
    }
    let again = config.connect().await?;
    let is_held = try_lock(&again, number(&presence.token)?).await?;
    if is_held {
        *client = again;
    }
    Ok(is_held)
}

/// Says whether somebody holds a lock: whoever can have it for a moment knows that nobody does.
pub(super) async fn is_present(client: &Client, token: &str) -> Result<bool, Failure> {
    // A statement by itself is a transaction: the lock ends with it.
    let sql = "SELECT pg_try_advisory_xact_lock($1, $2)";
    Ok(!client.query_one(sql, &[&CLASS, &number(token)?]).await?.get::<_, bool>(0))
}

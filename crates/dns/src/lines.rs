//! Connections that carry one message after another, each behind its length (RFC 1035 §4.2.2), and are kept for a
//! moment, so that not every message makes its own (RFC 7766 §6.2.1).

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::{Arc, LazyLock, Mutex, PoisonError};
use std::time::{Duration, Instant};

use pindrel_core::judging::facts::Unreachable;
use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _, Interest};
use tokio::net::TcpStream;
use tokio::time::timeout;

use crate::came_back::{io, timed_out};

pub(crate) const CONNECT: Duration = Duration::from_secs(4);
const ANSWER: Duration = Duration::from_secs(10);
/// How long an idle connection is kept; servers close theirs after some seconds (RFC 7766 §6.2.3).
const KEPT: Duration = Duration::from_secs(1);
/// How many idle connections to one server are kept, and to how many servers.
const MOST_IDLE: usize = 8;
const MOST_SERVERS: usize = 64;

/// What a connection reads from and writes to.
pub(crate) trait Stream: AsyncRead + AsyncWrite + Unpin + Send {
    /// Says whether it is still open and has nothing to read, as far as this side knows.
    fn is_quiet(&self) -> bool;
}

impl Stream for TcpStream {
    fn is_quiet(&self) -> bool {
        // What is readable now is the end of the connection, or a message that nobody waits for.
        let mut octet = [0];
        matches!(self.try_io(Interest::READABLE, || self.try_read(&mut octet)),
            Err(error) if error.kind() == std::io::ErrorKind::WouldBlock)
    }
}

/// The idle connections to one server.
#[derive(Default)]
pub(crate) struct Lines(Mutex<Vec<(Instant, Box<dyn Stream>)>>);

/// Whether a message may be sent once more over a new connection when a kept one fails.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Repeat {
    /// It is a question.
    Allowed,
    /// It changes something: whoever sent it looks whether it did.
    Never,
}

impl Lines {
    /// Sends one message and returns the raw answer: over a kept connection, or over the one that `connect` makes.
    pub(crate) async fn exchange<S: Stream + 'static>(
        &self,
        bytes: &[u8],
        repeat: Repeat,
        connect: impl Future<Output = Result<S, Unreachable>> + Send,
    ) -> Result<Vec<u8>, Unreachable> {
        let length = u16::try_from(bytes.len())
            .map_err(|_| Unreachable::NotAsked { detail: "the message is too long".into() })?;
        let mut framed = Vec::with_capacity(bytes.len() + 2);
        framed.extend_from_slice(&length.to_be_bytes());
        framed.extend_from_slice(bytes);
        if let Some(mut kept) = self.kept() {
            match turn(&mut kept, &framed).await {
                Ok(answer) => {
                    self.keep(kept);
                    return Ok(answer);
                }
                // It was closed in the very moment. What was not sent whole was not carried out.
                Err(Cut::Sending(_)) => {}
                Err(Cut::Waiting(_)) if repeat == Repeat::Allowed => {}
                Err(cut) => return Err(cut.why()),
            }
        }
        let mut made: Box<dyn Stream> = Box::new(connect.await?);
        let answer = turn(&mut made, &framed).await.map_err(Cut::why)?;
        self.keep(made);
        Ok(answer)
    }

    fn kept(&self) -> Option<Box<dyn Stream>> {
        let mut idle = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        while let Some((since, stream)) = idle.pop() {
            if since.elapsed() < KEPT && stream.is_quiet() {
                return Some(stream);
            }
        }
        None
    }

    fn keep(&self, stream: Box<dyn Stream>) {
        let mut idle = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if idle.len() < MOST_IDLE {
            idle.push((Instant::now(), stream));
        }
    }
}

/// How far a message and its answer got.
enum Cut {
    /// The message was not sent whole.
    Sending(Unreachable),
    /// It was sent, and no whole answer came.
    Waiting(Unreachable),
}

impl Cut {
    fn why(self) -> Unreachable {
        match self {
            Cut::Sending(why) | Cut::Waiting(why) => why,
        }
    }
}

async fn turn(stream: &mut Box<dyn Stream>, framed: &[u8]) -> Result<Vec<u8>, Cut> {
    let send = async {
        stream.write_all(framed).await?;
        stream.flush().await
    };
    let sent = timeout(ANSWER, send).await.map_err(|_| Cut::Sending(timed_out(ANSWER)))?;
    sent.map_err(|error| Cut::Sending(io(&error)))?;
    let receive = async {
        let mut length = [0; 2];
        stream.read_exact(&mut length).await?;
        let mut answer = vec![0; usize::from(u16::from_be_bytes(length))];
        stream.read_exact(&mut answer).await?;
        Ok::<Vec<u8>, std::io::Error>(answer)
    };
    let received = timeout(ANSWER, receive).await.map_err(|_| Cut::Waiting(timed_out(ANSWER)))?;
    received.map_err(|error| Cut::Waiting(io(&error)))
}

/// Connects over TCP.
pub(crate) async fn connect(server: SocketAddr) -> Result<TcpStream, Unreachable> {
    let connected = timeout(CONNECT, TcpStream::connect(server)).await.map_err(|_| timed_out(CONNECT))?;
    let stream = connected.map_err(|error| io(&error))?;
    stream.set_nodelay(true).map_err(|error| io(&error))?;
    Ok(stream)
}

/// Sends one message to a server over TCP and returns the raw answer. Connections are kept for the whole process.
pub(crate) async fn over_tcp(server: SocketAddr, bytes: &[u8], repeat: Repeat) -> Result<Vec<u8>, Unreachable> {
    static SERVERS: LazyLock<Mutex<HashMap<SocketAddr, Arc<Lines>>>> = LazyLock::new(Mutex::default);
    let lines = {
        let mut servers = SERVERS.lock().unwrap_or_else(PoisonError::into_inner);
        if servers.len() >= MOST_SERVERS && !servers.contains_key(&server) {
            servers.clear();
        }
        servers.entry(server).or_default().clone()
    };
    lines.exchange(bytes, repeat, connect(server)).await
}

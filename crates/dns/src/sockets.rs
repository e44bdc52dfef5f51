//! Sockets for questions over UDP. One that has just brought an answer is used for a few questions more, one at a time:
//! to make one for each takes longer than to ask. Then its port changes, so that nobody who forges answers learns it
//! (RFC 5452 §9.2).

use std::collections::HashMap;
use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::sync::{LazyLock, Mutex, PoisonError};
use std::time::{Duration, Instant};

use hickory_proto::op::Message;
use pindrel_core::judging::facts::Unreachable;
use tokio::net::UdpSocket;

use crate::came_back::{answers, io};

/// The longest answer that is read; more than was asked for would be a fault of the server's.
const MAX_DATAGRAM: usize = 4_096;
/// For how many questions, and for how long, one socket is used.
const MOST_QUESTIONS: u32 = 16;
const KEPT: Duration = Duration::from_millis(500);
/// How many sockets to one server are kept, and to how many servers.
const MOST_KEPT: usize = 64;
const MOST_SERVERS: usize = 64;

static KEPT_SOCKETS: LazyLock<Mutex<HashMap<SocketAddr, Vec<Socket>>>> = LazyLock::new(Mutex::default);

/// A socket that hears one server alone.
pub(crate) struct Socket {
    socket: UdpSocket,
    made: Instant,
    questions: u32,
    /// On the heap: whoever waits for an answer is moved about.
    buffer: Box<[u8]>,
}

impl Socket {
    /// Returns a socket that brought answers before, for one question more.
    pub(crate) fn kept(server: SocketAddr) -> Option<Socket> {
        let mut kept = KEPT_SOCKETS.lock().unwrap_or_else(PoisonError::into_inner);
        let kept = kept.get_mut(&server)?;
        let kept = std::iter::from_fn(|| kept.pop()).find(|socket| socket.made.elapsed() < KEPT)?;
        Some(Socket { questions: kept.questions + 1, ..kept })
    }

    /// Makes a socket.
    pub(crate) async fn new(server: SocketAddr) -> Result<Socket, Unreachable> {
        let local: SocketAddr = match server {
            SocketAddr::V4(_) => (IpAddr::V4(Ipv4Addr::UNSPECIFIED), 0).into(),
            SocketAddr::V6(_) => (IpAddr::V6(Ipv6Addr::UNSPECIFIED), 0).into(),
        };
        let socket = UdpSocket::bind(local).await.map_err(|error| io(&error))?;
        socket.connect(server).await.map_err(|error| io(&error))?;
        let buffer = vec![0; MAX_DATAGRAM].into_boxed_slice();
        Ok(Socket { socket, made: Instant::now(), questions: 1, buffer })
    }

    /// Says whether it brought answers before.
    pub(crate) fn is_old(&self) -> bool {
        self.questions > 1
    }

    /// Keeps the socket for another question, now that this one is answered.
    pub(crate) fn keep(self, server: SocketAddr) {
        if self.questions >= MOST_QUESTIONS {
            return;
        }
        let mut kept = KEPT_SOCKETS.lock().unwrap_or_else(PoisonError::into_inner);
        if kept.len() >= MOST_SERVERS && !kept.contains_key(&server) {
            kept.clear();
        }
        let kept = kept.entry(server).or_default();
        if kept.len() < MOST_KEPT {
            kept.push(self);
        }
    }

    /// Asks, and waits for the answer; anything else that comes is passed over: it may be forged.
    pub(crate) async fn ask(&mut self, question: &Message, bytes: &[u8]) -> io::Result<Message> {
        self.socket.send(bytes).await?;
        loop {
            let length = self.socket.recv(&mut self.buffer).await?;
            if let Some(answer) =
                Message::from_vec(&self.buffer[..length]).ok().filter(|answer| answers(answer, question))
            {
                return Ok(answer);
            }
        }
    }
}

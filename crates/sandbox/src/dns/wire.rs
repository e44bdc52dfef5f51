//! Sockets of DNS servers: UDP and TCP on one address.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use hickory_proto::op::Message;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::{TcpListener, TcpStream, UdpSocket};
use tokio::sync::Semaphore;
use tokio::time::timeout;

use crate::SandboxError;
use crate::listen::Stop;

/// The most questions that are worked on at once.
const MOST_AT_ONCE: usize = 512;
/// How long a TCP connection may be idle.
const IDLE: Duration = Duration::from_secs(10);
/// What a client without EDNS can take over UDP (RFC 1035 §4.2.1).
const PLAIN_UDP: usize = 512;

/// Answers raw messages.
pub(crate) trait Answers: Send + Sync + 'static {
    /// Returns the raw answer, or nothing to stay silent.
    fn answer(&self, raw: Vec<u8>) -> impl Future<Output = Option<Vec<u8>>> + Send;
}

pub(crate) async fn serve<A: Answers>(
    what: &'static str,
    server: Arc<A>,
    address: SocketAddr,
    stop: &Stop,
) -> Result<(), SandboxError> {
    let failed = |source| SandboxError::Listen { what, address, source };
    let udp = Arc::new(UdpSocket::bind(address).await.map_err(failed)?);
    let tcp = TcpListener::bind(address).await.map_err(failed)?;
    let limit = Arc::new(Semaphore::new(MOST_AT_ONCE));
    let (over_udp, at_once) = (server.clone(), limit.clone());
    stop.spawn(async move {
        let mut buffer = vec![0; usize::from(u16::MAX)];
        loop {
            let Ok((length, client)) = udp.recv_from(&mut buffer).await else { continue };
            let Ok(permit) = at_once.clone().acquire_owned().await else { break };
            let (raw, server, udp) = (buffer[..length].to_vec(), over_udp.clone(), udp.clone());
            tokio::spawn(async move {
                let _permit = permit;
                let most = Message::from_vec(&raw)
                    .ok()
                    .and_then(|message| message.edns)
                    .map_or(PLAIN_UDP, |edns| usize::from(edns.max_payload()));
                if let Some(answer) = server.answer(raw).await {
                    let _ = udp.send_to(&fitting(answer, most), client).await;
                }
            });
        }
    });
    let connections = stop.clone();
    stop.spawn(async move {
        loop {
            let Ok((stream, _)) = tcp.accept().await else { continue };
            let Ok(permit) = limit.clone().acquire_owned().await else { break };
            let server = server.clone();
            connections.spawn(async move {
                let _permit = permit;
                let _ = over_tcp(stream, &*server).await;
            });
        }
    });
    Ok(())
}

async fn over_tcp<A: Answers>(mut stream: TcpStream, server: &A) -> std::io::Result<()> {
    loop {
        let mut length = [0; 2];
        timeout(IDLE, stream.read_exact(&mut length)).await??;
        let mut raw = vec![0; usize::from(u16::from_be_bytes(length))];
        timeout(IDLE, stream.read_exact(&mut raw)).await??;
        let Some(answer) = server.answer(raw).await else { return Ok(()) };
        let Ok(length) = u16::try_from(answer.len()) else { return Ok(()) };
        stream.write_all(&[&length.to_be_bytes(), answer.as_slice()].concat()).await?;
    }
}

/// Cuts an answer that does not fit, so that the client asks again over TCP.
fn fitting(answer: Vec<u8>, most: usize) -> Vec<u8> {
    if answer.len() <= most {
        return answer;
    }
    let cut = Message::from_vec(&answer).ok().and_then(|message| message.truncate().to_vec().ok());
    cut.unwrap_or(answer)
}

/// Asks one question over UDP, as a resolver or a validator does.
pub(crate) async fn ask(server: SocketAddr, question: &Message) -> Option<Message> {
    let raw = question.to_vec().ok()?;
    for patience in [Duration::from_millis(500), Duration::from_secs(2)] {
        let socket = UdpSocket::bind("0.0.0.0:0").await.ok()?;
        socket.connect(server).await.ok()?;
        socket.send(&raw).await.ok()?;
        let mut buffer = vec![0; usize::from(u16::MAX)];
        if let Ok(Ok(length)) = timeout(patience, socket.recv(&mut buffer)).await
            && let Ok(answer) = Message::from_vec(&buffer[..length])
            && answer.metadata.id == question.metadata.id
        {
            return Some(answer);
        }
    }
    None
}

//! Name servers that are far away: a relay in front of one on loopback.

use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

use tokio::io::{AsyncRead, AsyncReadExt as _, AsyncWrite, AsyncWriteExt as _};
use tokio::net::{TcpListener, TcpStream, UdpSocket};
use tokio::time::sleep;

/// The longest message over UDP, and the most that is passed on at once over TCP.
const MOST_BYTES: usize = 65_536;

/// Starts a relay to a name server, in the runtime that calls it; each way takes that long.
///
/// # Panics
/// When no port is free for both transports.
pub async fn relay(server: SocketAddr, one_way: Duration) -> SocketAddr {
    let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await.unwrap_or_else(|error| panic!("{error}"));
    let address = listener.local_addr().unwrap_or_else(|error| panic!("{error}"));
    let socket = UdpSocket::bind(address).await.unwrap_or_else(|error| panic!("{error}"));
    tokio::spawn(datagrams(Arc::new(socket), server, one_way));
    tokio::spawn(async move {
        while let Ok((near, _)) = listener.accept().await {
            tokio::spawn(connection(near, server, one_way));
        }
    });
    address
}

async fn datagrams(socket: Arc<UdpSocket>, server: SocketAddr, one_way: Duration) {
    let mut buffer = vec![0; MOST_BYTES];
    while let Ok((length, client)) = socket.recv_from(&mut buffer).await {
        let (question, socket) = (buffer[..length].to_vec(), Arc::clone(&socket));
        tokio::spawn(async move {
            sleep(one_way).await;
            let far = UdpSocket::bind((Ipv4Addr::UNSPECIFIED, 0)).await?;
            far.connect(server).await?;
            far.send(&question).await?;
            let mut answer = vec![0; MOST_BYTES];
            let length = far.recv(&mut answer).await?;
            sleep(one_way).await;
            socket.send_to(&answer[..length], client).await
        });
    }
}

async fn connection(near: TcpStream, server: SocketAddr, one_way: Duration) {
    // The handshake goes there and back before anything is sent.
    sleep(2 * one_way).await;
    let Ok(far) = TcpStream::connect(server).await else { return };
    let (near_reads, near_writes) = near.into_split();
    let (far_reads, far_writes) = far.into_split();
    tokio::join!(pass_on(near_reads, far_writes, one_way), pass_on(far_reads, near_writes, one_way));
}

async fn pass_on(mut from: impl AsyncRead + Unpin, mut to: impl AsyncWrite + Unpin, one_way: Duration) {
    let mut buffer = vec![0; MOST_BYTES];
    while let Ok(length @ 1..) = from.read(&mut buffer).await {
        sleep(one_way).await;
        if to.write_all(&buffer[..length]).await.is_err() {
            break;
        }
    }
    let _ = to.shutdown().await;
}

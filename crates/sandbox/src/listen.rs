//! Listening: TCP with TLS in front of an HTTP service, until told to stop.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use hyper_util::rt::{TokioExecutor, TokioIo};
use hyper_util::server::conn::auto;
use hyper_util::service::TowerToHyperService;
use rustls::ServerConfig;
use rustls_pki_types::CertificateDer;
use tokio::net::TcpListener;
use tokio::sync::{Semaphore, watch};
use tokio_rustls::TlsAcceptor;

use crate::SandboxError;
use crate::net::Net;

/// The most connections that one server holds at once.
const MOST_CONNECTIONS: usize = 512;
/// How long a client may take for its handshake.
const HANDSHAKE: Duration = Duration::from_secs(10);

/// Tells all servers to stop. Each holds a share of the claim on the network, so that
/// nobody else takes it before the last listener is closed.
#[derive(Clone)]
pub(crate) struct Stop {
    sender: Arc<watch::Sender<bool>>,
    net: Arc<Net>,
}

impl Stop {
    pub(crate) fn new(net: Arc<Net>) -> Stop {
        Stop { sender: Arc::new(watch::channel(false).0), net }
    }

    pub(crate) fn now(&self) {
        self.sender.send_replace(true);
    }

    /// Runs a future until it ends or the stop comes.
    pub(crate) fn spawn(&self, work: impl Future<Output = ()> + Send + 'static) {
        let mut stopped = self.sender.subscribe();
        let net = self.net.clone();
        tokio::spawn(async move {
            tokio::select! {
                () = work => {}
                _ = stopped.wait_for(|stop| *stop) => {}
            }
            drop(net);
        });
    }
}

/// Serves `router` over TLS; `Peer` tells handlers what the client asked for.
pub(crate) async fn serve_tls(
    what: &'static str,
    address: SocketAddr,
    config: Arc<ServerConfig>,
    router: Router,
    stop: &Stop,
) -> Result<(), SandboxError> {
    let listener = TcpListener::bind(address).await.map_err(|source| SandboxError::Listen { what, address, source })?;
    let acceptor = TlsAcceptor::from(config);
    let limit = Arc::new(Semaphore::new(MOST_CONNECTIONS));
    let connections = stop.clone();
    stop.spawn(async move {
        loop {
            let Ok(permit) = limit.clone().acquire_owned().await else { break };
            let Ok((stream, _)) = listener.accept().await else { continue };
            let (acceptor, router) = (acceptor.clone(), router.clone());
            connections.spawn(async move {
                let _permit = permit;
                let _ = stream.set_nodelay(true);
                let Ok(Ok(tls)) = tokio::time::timeout(HANDSHAKE, acceptor.accept(stream)).await else { return };
                let sni = tls.get_ref().1.server_name().map(str::to_owned);
                let certificates = tls.get_ref().1.peer_certificates().unwrap_or_default().to_vec();
                let router = router.layer(axum::Extension(Peer { sni, certificates }));
                let service = TowerToHyperService::new(router);
                let _ = auto::Builder::new(TokioExecutor::new()).serve_connection(TokioIo::new(tls), service).await;
            });
        }
    });
    Ok(())
}

/// What a client asked for and showed in its handshake.
#[derive(Debug, Clone)]
pub(crate) struct Peer {
    /// The server name indication (RFC 6066 §3).
    pub(crate) sni: Option<String>,
    /// The chain that it showed, leaf first.
    pub(crate) certificates: Vec<CertificateDer<'static>>,
}

//! An HTTPS server that answers whatever a test tells it to, byte for byte.

use std::net::{Ipv4Addr, SocketAddr};
use std::sync::{Arc, Mutex, PoisonError};

use rustls::ServerConfig;
use rustls::crypto::aws_lc_rs::default_provider;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use tokio::io::{AsyncBufReadExt as _, AsyncReadExt as _, AsyncWriteExt as _, BufReader};
use tokio::net::{TcpListener, TcpStream};
use tokio_rustls::TlsAcceptor;

use crate::real::certified::{Certified, certified};

/// A request as it arrived.
#[derive(Debug, Clone, Default)]
pub struct Received {
    /// The method and the target, as in `POST /order`.
    pub line: String,
    /// The headers, names in small letters, one `name: value` each.
    pub headers: Vec<String>,
    /// The body.
    pub body: Vec<u8>,
}

type Script = dyn Fn(usize, &Received) -> Vec<u8> + Send + Sync;

/// A server on loopback until its runtime ends.
pub struct ScriptedServer {
    /// Where it listens.
    pub address: SocketAddr,
    /// The root that certifies it.
    pub root: CertificateDer<'static>,
    /// The same as PEM.
    pub root_pem: String,
    /// The certificate that it serves.
    pub leaf: CertificateDer<'static>,
    received: Arc<Mutex<Vec<Received>>>,
}

impl ScriptedServer {
    /// Starts a server that is certified for `names`. The answer to each request, counted
    /// from 0, is what `script` says, status line included; then the connection is closed.
    /// No bytes are no answer.
    ///
    /// # Panics
    /// When it cannot start.
    pub async fn start(names: &[&str], script: impl Fn(usize, &Received) -> Vec<u8> + Send + Sync + 'static) -> Self {
        let certified = certified(names).expect("a certificate is made");
        let config = config(&certified).expect("its key fits");
        let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).await.expect("a port is free");
        let address = listener.local_addr().expect("it has an address");
        let received = Arc::<Mutex<Vec<Received>>>::default();
        let (acceptor, seen, script) = (TlsAcceptor::from(config), received.clone(), Arc::new(script) as Arc<Script>);
        tokio::spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                tokio::spawn(serve(acceptor.clone(), stream, seen.clone(), script.clone()));
            }
        });
        let Certified { root, leaf, .. } = certified;
        ScriptedServer { address, root: root.der().clone(), root_pem: root.pem(), leaf: leaf.der().clone(), received }
    }

    /// Returns the requests so far.
    pub fn received(&self) -> Vec<Received> {
        self.received.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

/// Makes an answer with a whole body.
pub fn answer(status: u16, headers: &[&str], body: &str) -> Vec<u8> {
    let headers: String = headers.iter().map(|header| format!("{header}\r\n")).collect();
    format!("HTTP/1.1 {status} Told\r\n{headers}content-length: {}\r\nconnection: close\r\n\r\n{body}", body.len())
        .into_bytes()
}

fn config(certified: &Certified) -> Result<Arc<ServerConfig>, Box<dyn std::error::Error>> {
    let config = ServerConfig::builder_with_provider(Arc::new(default_provider()))
        .with_safe_default_protocol_versions()?
        .with_no_client_auth()
        .with_single_cert(
            vec![certified.leaf.der().clone()],
            PrivateKeyDer::try_from(certified.key.serialize_der())?,
        )?;
    Ok(Arc::new(config))
}

async fn serve(acceptor: TlsAcceptor, stream: TcpStream, seen: Arc<Mutex<Vec<Received>>>, script: Arc<Script>) {
    let Ok(stream) = acceptor.accept(stream).await else { return };
    let mut stream = BufReader::new(stream);
    let mut lines = Vec::new();
    loop {
        let mut line = String::new();
        match stream.read_line(&mut line).await {
            Ok(1..) if !line.trim_end().is_empty() => lines.push(line.trim_end().to_owned()),
            Ok(2) => break,
            _ => return,
        }
    }
    let mut lines = lines.into_iter();
    let line = lines.next().unwrap_or_default().trim_end_matches(" HTTP/1.1").to_owned();
    let mut request = Received { line, headers: lines.map(lower_name).collect(), body: Vec::new() };
    let length = request.headers.iter().find_map(|header| header.strip_prefix("content-length: ")?.parse().ok());
    request.body = vec![0; length.unwrap_or(0)];
    if stream.read_exact(&mut request.body).await.is_err() {
        return;
    }
    let count = {
        let mut seen = seen.lock().unwrap_or_else(PoisonError::into_inner);
        seen.push(request.clone());
        seen.len() - 1
    };
    let _ = stream.write_all(&script(count, &request)).await;
    let _ = stream.shutdown().await;
}

fn lower_name(header: String) -> String {
    header.split_once(':').map_or(header.clone(), |(name, value)| format!("{}:{value}", name.to_lowercase()))
}

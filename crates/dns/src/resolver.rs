//! Resolvers: over UDP and TCP, over TLS (RFC 7858), over HTTPS (RFC 8484).

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use hickory_proto::op::Message;
use hickory_proto::rr::RecordType as WireType;
use pindrel_core::judging::facts::Unreachable;
use pindrel_core::names::name::DnsName;
use pindrel_core::zones::resolver::{EncryptedResolver, Encryption};
use pindrel_http::header::{ACCEPT, CONTENT_TYPE};
use pindrel_http::{Client, HttpError, Method};
use pindrel_keys::distrust_in;
use rustls::crypto::aws_lc_rs::default_provider;
use rustls::pki_types::{ServerName, TrustAnchor};
use rustls::{ClientConfig, RootCertStore};
use tokio::net::{TcpStream, lookup_host};
use tokio::time::timeout;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;

use crate::came_back::{io, timed_out};
use crate::lines::{CONNECT, Lines, Repeat, Stream, connect};
use crate::wire::{Ask, ask, converse};

/// The media type of a DNS message (RFC 8484 §6).
const MESSAGE: &str = "application/dns-message";
/// The longest DNS message.
const MAX_MESSAGE: usize = 65_535;

/// A resolver, ready to be asked.
#[derive(Clone)]
pub struct Resolver(Arc<Way>);

enum Way {
    Plain(SocketAddr),
    Tls(TlsLine),
    Https(Client),
    /// What is needed to ask it cannot be used.
    Unusable(Unreachable),
}

struct TlsLine {
    host: String,
    port: u16,
    name: ServerName<'static>,
    connector: TlsConnector,
    lines: Lines,
}

impl From<SocketAddr> for Resolver {
    fn from(address: SocketAddr) -> Self {
        Resolver(Arc::new(Way::Plain(address)))
    }
}

impl Resolver {
    /// Makes a resolver ready that is reached over TLS or HTTPS, with the roots that its certificate must end in: as
    /// anchors for the one, as PEM beside the system's for the other.
    pub fn encrypted(own: &EncryptedResolver, anchors: Vec<TrustAnchor<'static>>, pem: Option<&[u8]>) -> Resolver {
        let way = match own.encryption() {
            Encryption::Tls { host, port } => TlsLine::new(host, port, anchors).map(Way::Tls),
            Encryption::Https(url) => Client::new(url.clone(), pem, |_| false)
                .map(|client| Way::Https(client.with_longest_body(MAX_MESSAGE)))
                .map_err(|error| Unreachable::NotAsked { detail: error.to_string() }),
        };
        Resolver(Arc::new(way.unwrap_or_else(Way::Unusable)))
    }

    /// Stands for a resolver that cannot be asked, for this reason.
    pub fn unusable(detail: String) -> Resolver {
        Resolver(Arc::new(Way::Unusable(Unreachable::NotAsked { detail })))
    }

    /// Asks one question; recursion is desired.
    pub(crate) async fn ask(&self, name: &DnsName, wire_type: WireType, how: Ask) -> Result<Message, Unreachable> {
        let how = Ask { recursion: true, ..how };
        match &*self.0 {
            Way::Plain(address) => ask(*address, name, wire_type, how).await,
            Way::Tls(line) => converse(name, wire_type, how, |bytes| line.exchange(bytes)).await,
            Way::Https(client) => converse(name, wire_type, how, |bytes| over_https(client, bytes)).await,
            Way::Unusable(why) => Err(why.clone()),
        }
    }
}

impl TlsLine {
    fn new(host: &str, port: u16, anchors: Vec<TrustAnchor<'static>>) -> Result<TlsLine, Unreachable> {
        let unusable = |detail: String| Unreachable::NotAsked { detail };
        let name = ServerName::try_from(host.to_owned()).map_err(|error| unusable(error.to_string()))?;
        let config = ClientConfig::builder_with_provider(Arc::new(default_provider()));
        let config = config.with_safe_default_protocol_versions().map_err(|error| unusable(error.to_string()))?;
        let roots = RootCertStore { roots: anchors };
        if roots.is_empty() {
            return Err(unusable("there are no roots to verify its certificate with".into()));
        }
        let config = config.with_root_certificates(roots).with_no_client_auth();
        let connector = TlsConnector::from(Arc::new(config));
        Ok(TlsLine { host: host.into(), port, name, connector, lines: Lines::default() })
    }

    async fn exchange(&self, bytes: Vec<u8>) -> Result<Vec<u8>, Unreachable> {
        self.lines.exchange(&bytes, Repeat::Allowed, self.connect()).await
    }

    async fn connect(&self) -> Result<TlsStream<TcpStream>, Unreachable> {
        let address = match self.host.parse::<IpAddr>() {
            Ok(address) => SocketAddr::new(address, self.port),
            Err(_) => {
                let found = lookup_host((self.host.as_str(), self.port)).await.map_err(|error| io(&error))?;
                found.into_iter().next().ok_or(Unreachable::NoneKnown)?
            }
        };
        let stream = connect(address).await?;
        let handshake = timeout(CONNECT, self.connector.connect(self.name.clone(), stream)).await;
        handshake.map_err(|_| timed_out(CONNECT))?.map_err(|error| {
            if let Some(why) = distrust_in(&error) {
                return Unreachable::tls(format!("its certificate is not accepted: {why}"));
            }
            match error.get_ref().and_then(|inner| inner.downcast_ref::<rustls::Error>()) {
                Some(inner) => Unreachable::tls(inner.to_string()),
                None => io(&error),
            }
        })
    }
}

impl Stream for TlsStream<TcpStream> {
    fn is_quiet(&self) -> bool {
        self.get_ref().0.is_quiet()
    }
}

async fn over_https(client: &Client, bytes: Vec<u8>) -> Result<Vec<u8>, Unreachable> {
    let build = |request: pindrel_http::Request| {
        request.header(CONTENT_TYPE, MESSAGE).header(ACCEPT, MESSAGE).body(bytes.clone())
    };
    let response = client.send(Method::POST, client.base().clone(), build).await.map_err(|error| match error {
        HttpError::NotConnected { kind, why, .. } | HttpError::Interrupted { kind, why, .. } => {
            Unreachable::from_io(kind, why)
        }
        other => Unreachable::Other { detail: other.to_string() },
    })?;
    if !response.status.is_success() {
        return Err(Unreachable::Code { code: format!("HTTP status {}", response.status.as_u16()) });
    }
    let media_type = response.header(CONTENT_TYPE).unwrap_or_default();
    if !media_type.trim().eq_ignore_ascii_case(MESSAGE) {
        return Err(Unreachable::Malformed { detail: format!("its response is no DNS message but {media_type:?}") });
    }
    Ok(response.body)
}

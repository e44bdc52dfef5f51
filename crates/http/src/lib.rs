//! HTTPS to one peer, or HTTP where it is named so, with everything bounded: connection, answer, body, retries.
//!
//! Credentials and signed requests go to known origins only: redirects are never
//! followed, and a URL that a peer hands out is checked by [`Client::permits`].

use std::net::{IpAddr, SocketAddr};
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use jiff::{SignedDuration, Timestamp};
use pindrel_core::judging::facts::Untrusted;
use pindrel_keys::distrust_in;
use reqwest::dns::{Addrs, Name, Resolve, Resolving};
use reqwest::header::{ACCEPT_LANGUAGE, HeaderMap, HeaderValue, LINK, RETRY_AFTER};
use reqwest::{RequestBuilder, StatusCode as Status};
use url::{Origin, Url};

pub use reqwest::header;
pub use reqwest::{Method, RequestBuilder as Request};

/// How long a connection may take to come about.
const CONNECT: Duration = Duration::from_secs(5);
/// How long a request may take in all.
const WHOLE: Duration = Duration::from_secs(20);
/// The longest body that is read, unless a client reads longer ones.
const MAX_BODY: usize = 1 << 20;
/// The waits before a refused connection is tried again.
const RECONNECT_AFTER: [Duration; 3] = [Duration::from_millis(200), Duration::from_secs(1), Duration::from_secs(2)];

/// Why a request got no response.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum HttpError {
    /// No connection came about, so the peer cannot have acted.
    #[error("{url} cannot be reached: {why}")]
    NotConnected {
        /// Where to.
        url: String,
        /// What kind of failure it was, as far as it is known.
        kind: std::io::ErrorKind,
        /// Why.
        why: String,
    },
    /// The request was sent, and no whole response came: the peer may have acted.
    #[error("{url} returned no complete response: {why}")]
    Interrupted {
        /// Where to.
        url: String,
        /// What kind of failure it was, as far as it is known.
        kind: std::io::ErrorKind,
        /// Why.
        why: String,
    },
    /// The body is longer than any that is expected.
    #[error("{url} sends more than {longest} bytes")]
    TooLong {
        /// Where to.
        url: String,
        /// How many bytes are read at most.
        longest: usize,
    },
    /// The peer refers to another origin.
    #[error("{peer} refers to {url}, which has another origin; nothing was sent there")]
    OtherOrigin {
        /// Who said so.
        peer: String,
        /// What it refers to.
        url: String,
    },
    /// The roots given cannot be used.
    #[error("the extra roots for {url} cannot be used: {why}")]
    Roots {
        /// For whom.
        url: String,
        /// Why.
        why: String,
    },
}

/// A whole response.
#[derive(Debug, Clone)]
pub struct Response {
    /// The status.
    pub status: Status,
    /// The headers.
    pub headers: HeaderMap,
    /// The body.
    pub body: Vec<u8>,
}

impl Response {
    /// Returns a header as text.
    pub fn header(&self, name: impl reqwest::header::AsHeaderName) -> Option<&str> {
        self.headers.get(name)?.to_str().ok()
    }

    /// Returns the time of `Retry-After`, in either form (RFC 9110 §10.2.3).
    pub fn retry_at(&self, now: Timestamp) -> Option<Timestamp> {
        let text = self.header(RETRY_AFTER)?.trim();
        match text.parse::<u32>() {
            Ok(seconds) => now.checked_add(SignedDuration::from_secs(i64::from(seconds))).ok(),
            Err(_) => jiff::fmt::rfc2822::parse(text).ok().map(|zoned| zoned.timestamp()),
        }
    }

    /// Returns the URL of the next page (RFC 8288, `rel="next"`).
    pub fn next_page(&self) -> Option<&str> {
        self.links("next").next()
    }

    /// Returns the targets of all links with this relation (RFC 8288 §3).
    pub fn links<'r>(&'r self, relation: &'r str) -> impl Iterator<Item = &'r str> {
        let links = self.headers.get_all(LINK).iter().filter_map(|value| value.to_str().ok());
        links.flat_map(|value| outside_of_marks(value, b',')).filter_map(move |link| {
            let (target, params) = link.trim().strip_prefix('<')?.split_once('>')?;
            // Of several the first counts, and it may name several relations.
            let mut params = outside_of_marks(params, b';').filter_map(|param| param.split_once('='));
            let (_, relations) = params.find(|(name, _)| name.trim().eq_ignore_ascii_case("rel"))?;
            let mut relations = relations.trim().trim_matches('"').split_ascii_whitespace();
            relations.any(|own| own.eq_ignore_ascii_case(relation)).then_some(target)
        })
    }
}

/// The parts of a text between the marks that stand neither in a target nor in quotes (RFC 8288 §3): a URL may have commas.
fn outside_of_marks(text: &str, mark: u8) -> impl Iterator<Item = &str> {
    let (mut parts, mut begin, mut until, mut is_escaped) = (Vec::new(), 0, None, false);
    for (at, octet) in text.bytes().enumerate() {
        match (octet, until) {
            _ if is_escaped => is_escaped = false,
            (b'\\', Some(b'"')) => is_escaped = true,
            (octet, Some(end)) if octet == end => until = None,
            (_, Some(_)) => {}
            (b'<', None) => until = Some(b'>'),
            (b'"', None) => until = Some(b'"'),
            (octet, None) if octet == mark => {
                parts.push(&text[begin..at]);
                begin = at + 1;
            }
            _ => {}
        }
    }
    parts.push(&text[begin..]);
    parts.into_iter()
}

/// Looks names up as the system does, and leaves out the addresses that are refused.
#[derive(Debug)]
struct Lookup {
    refused: fn(IpAddr) -> bool,
}

impl Resolve for Lookup {
    fn resolve(&self, name: Name) -> Resolving {
        let refused = self.refused;
        Box::pin(async move {
            let found: Vec<SocketAddr> = tokio::net::lookup_host((name.as_str(), 0)).await?.collect();
            let usable: Vec<SocketAddr> = found.iter().copied().filter(|address| !refused(address.ip())).collect();
            if let (Some(address), []) = (found.first(), usable.as_slice()) {
                return Err(
                    format!("{} leads to {}, which only the manifest may name", name.as_str(), address.ip()).into()
                );
            }
            Ok(Box::new(usable.into_iter()) as Addrs)
        })
    }
}

/// A client for one peer.
#[derive(Debug)]
pub struct Client {
    http: reqwest::Client,
    base: Url,
    longest_body: usize,
    sent: AtomicU64,
}

impl Client {
    /// Makes a client for the peer at `base`; `roots` in PEM are trusted besides the
    /// system's. No name leads it to an address that is `refused`. A peer that is named with HTTPS is never
    /// asked without.
    ///
    /// # Errors
    /// [`HttpError::Roots`].
    pub fn new(base: Url, roots: Option<&[u8]>, refused: fn(IpAddr) -> bool) -> Result<Client, HttpError> {
        let wrong = |error: reqwest::Error| HttpError::Roots { url: base.to_string(), why: innermost(&error) };
        let mut builder = reqwest::Client::builder()
            .user_agent(concat!("pindrel/", env!("CARGO_PKG_VERSION")))
            .default_headers(HeaderMap::from_iter([(ACCEPT_LANGUAGE, HeaderValue::from_static("en"))]))
            .dns_resolver(Lookup { refused })
            .redirect(reqwest::redirect::Policy::none())
            .https_only(base.scheme() == "https")
            .connect_timeout(CONNECT)
            .timeout(WHOLE)
            .tcp_nodelay(true);
        if let Some(pem) = roots {
            let roots = reqwest::Certificate::from_pem_bundle(pem).map_err(wrong)?;
            builder = builder.tls_certs_merge(roots);
        }
        let http = builder.build().map_err(wrong)?;
        Ok(Client { http, base, longest_body: MAX_BODY, sent: AtomicU64::new(0) })
    }

    /// Reads bodies of up to so many bytes, instead of a megabyte.
    #[must_use]
    pub fn with_longest_body(self, bytes: usize) -> Client {
        Client { longest_body: bytes, ..self }
    }

    /// Returns the peer's base URL.
    pub fn base(&self) -> &Url {
        &self.base
    }

    /// Returns how many requests were sent.
    pub fn sent(&self) -> u64 {
        self.sent.load(Ordering::Relaxed)
    }

    /// Reads a URL that the peer handed out, if it is of one of these origins.
    ///
    /// # Errors
    /// [`HttpError::OtherOrigin`].
    pub fn permits(&self, origins: &[Origin], url: &str) -> Result<Url, HttpError> {
        let other = || HttpError::OtherOrigin { peer: self.base.to_string(), url: url.chars().take(200).collect() };
        let url = self.base.join(url).map_err(|_| other())?;
        if url.scheme() == "https" && origins.contains(&url.origin()) { Ok(url) } else { Err(other()) }
    }

    /// Sends a request that `build` makes, and reads the whole response. A connection
    /// that does not come about is tried again for some seconds.
    ///
    /// # Errors
    /// [`HttpError`]; a response of any status is none.
    pub async fn send(
        &self,
        method: Method,
        url: Url,
        build: impl Fn(RequestBuilder) -> RequestBuilder + Send,
    ) -> Result<Response, HttpError> {
        let mut waits = RECONNECT_AFTER.iter();
        loop {
            let request = build(self.http.request(method.clone(), url.clone()));
            self.sent.fetch_add(1, Ordering::Relaxed);
            match receive(request, &url, self.longest_body).await {
                Err(HttpError::NotConnected { why, .. }) if waits.len() > 0 => {
                    let wait = waits.next().copied().unwrap_or_default();
                    tracing::debug!(%url, why, ?wait, "no connection; trying again");
                    tokio::time::sleep(wait).await;
                }
                done => return done,
            }
        }
    }
}

async fn receive(request: RequestBuilder, url: &Url, longest: usize) -> Result<Response, HttpError> {
    let url = url.as_str();
    let failed = |error: reqwest::Error| {
        let (kind, why) = if error.is_timeout() {
            (std::io::ErrorKind::TimedOut, "timed out".into())
        } else if let Some(why) = distrust_in(&error) {
            let hint = if why == Untrusted::NotYetValid { ": is the clock of this machine right?" } else { "" };
            (io_kind(&error), format!("its certificate is not accepted: {why}{hint}"))
        } else {
            (io_kind(&error), innermost(&error))
        };
        if error.is_connect() {
            HttpError::NotConnected { url: url.into(), kind, why }
        } else {
            HttpError::Interrupted { url: url.into(), kind, why }
        }
    };
    let mut response = request.send().await.map_err(failed)?;
    let (status, headers) = (response.status(), response.headers().clone());
    let mut body = Vec::new();
    while let Some(chunk) = response.chunk().await.map_err(failed)? {
        if body.len() + chunk.len() > longest {
            return Err(HttpError::TooLong { url: url.into(), longest });
        }
        body.extend_from_slice(&chunk);
    }
    tracing::trace!(url, status = status.as_u16(), bytes = body.len(), "response");
    Ok(Response { status, headers, body })
}

/// What the operating system reported, where it did.
fn io_kind(error: &(dyn std::error::Error + 'static)) -> std::io::ErrorKind {
    let mut cause = Some(error);
    while let Some(error) = cause {
        if let Some(io) = error.downcast_ref::<std::io::Error>() {
            return io.kind();
        }
        cause = error.source();
    }
    std::io::ErrorKind::Other
}

/// The cause at the bottom of an error: what a person needs to know.
fn innermost(error: &dyn std::error::Error) -> String {
    let mut cause = error;
    while let Some(source) = cause.source() {
        cause = source;
    }
    let text = cause.to_string();
    text.split(" (os error").next().unwrap_or(&text).to_lowercase()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn response(headers: &[(&'static str, &'static str)]) -> Response {
        let pairs = headers.iter().map(|(name, value)| (name.parse().unwrap(), value.parse().unwrap()));
        Response { status: Status::OK, headers: pairs.collect(), body: Vec::new() }
    }

    #[test]
    fn retry_after_is_read_in_both_forms_and_never_panics() {
        let now = Timestamp::from_second(1_000_000_000).unwrap();
        for (text, expected) in [
            ("120", Some(1_000_000_120)),
            ("Sun, 09 Sep 2001 01:47:00 GMT", Some(1_000_000_020)),
            ("4294967295", Some(5_294_967_295)),
            ("99999999999999999999", None),
            ("soon", None),
        ] {
            let at = response(&[("retry-after", text)]).retry_at(now);
            assert_eq!(at.map(Timestamp::as_second), expected, "{text}");
        }
    }

    #[test]
    fn the_next_page_is_found_among_other_links() {
        let page = response(&[("link", "</a>; rel=\"index\", <https://x.example/b?p=2>;rel=\"next\"")]);
        assert_eq!(page.next_page(), Some("https://x.example/b?p=2"));
        assert_eq!(page.links("index").collect::<Vec<_>>(), ["/a"]);
        assert_eq!(response(&[("link", "<unfinished; rel=next")]).next_page(), None);
        // A target may have commas and semicolons, a title too; names and relations know no case (RFC 8288 §3).
        for value in [
            "</a?ids=1,2;x>; title=\"one, <two>; \\\"rel=none\"; REL=\"last Next\", </b>; rel=prev",
            "</b>; rel=\"prev\" , </a?ids=1,2;x> ; rel = next",
            "</a?ids=1,2;x>; rel=next; rel=prev",
        ] {
            assert_eq!(response(&[("link", value)]).next_page(), Some("/a?ids=1,2;x"), "{value}");
        }
        assert_eq!(response(&[("link", "</a>; rel=prev; rel=next")]).next_page(), None, "the first counts");
    }

    #[test]
    fn another_origin_is_never_permitted() {
        let client = Client::new("https://a.example/dir".parse().unwrap(), None, |_| false).unwrap();
        let origins = [client.base().origin()];
        assert!(client.permits(&origins, "/order/1").is_ok());
        for url in [
            "http://a.example/",
            "https://b.example/",
            "https://a.example:444/",
            "https://a.example@b.example/",
            "file:///x",
        ] {
            assert!(client.permits(&origins, url).is_err(), "{url}");
        }
    }
}

//! The endpoint protocol over HTTPS.

use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use async_trait::async_trait;
use jiff::Timestamp;
use pindrel_core::endpoint::{Binding, Deployment, EndpointInfo};
use pindrel_core::facts::Unreachable;
use pindrel_core::name::Hostname;
use pindrel_core::values::{Fingerprint, is_link_local};
use pindrel_http::{Client, HttpError, Method, Response, header};
use secrecy::{ExposeSecret as _, SecretString};
use serde::{Deserialize, Serialize};
use tokio::time::{Instant, timeout};
use url::Url;

use crate::{BoundHostname, EdgeError, Platform, StoreRemoval, StoredCertificate};

/// The most pages of a list that are read, and how long that may take in all.
const MOST_PAGES: usize = 200;
const LIST_PATIENCE: Duration = Duration::from_secs(60);
/// How often a request is sent again because the platform is busy, and the longest
/// wait that is honoured.
const BUSY_TRIES: u32 = 3;
const LONGEST_BUSY: Duration = Duration::from_secs(30);

/// A platform that speaks the endpoint protocol over HTTPS.
pub struct HttpPlatform {
    client: Client,
    token: SecretString,
    pace: Option<Pace>,
}

/// Spreads requests, so that no more are sent a second than the manifest allows.
struct Pace {
    between: Duration,
    next: Mutex<Instant>,
}

impl Pace {
    async fn turn(&self) {
        let at = {
            let mut next = self.next.lock().unwrap_or_else(PoisonError::into_inner);
            let at = (*next).max(Instant::now());
            *next = at + self.between;
            at
        };
        tokio::time::sleep_until(at).await;
    }
}

#[derive(Deserialize)]
struct EndpointPage {
    endpoints: Vec<EndpointInfo>,
}

#[derive(Deserialize)]
struct CertificatePage {
    certificates: Vec<StoredCertificate>,
}

#[derive(Deserialize)]
struct BindingPage {
    bindings: Vec<ListedBinding>,
}

#[derive(Deserialize)]
struct ListedBinding {
    hostname: Hostname,
    #[serde(flatten)]
    body: BindingBody,
}

#[derive(Serialize)]
struct CertificateBody<'c> {
    chain: &'c str,
    key: &'c str,
}

#[derive(Deserialize)]
struct BindingBody {
    #[serde(flatten)]
    binding: Binding,
    #[serde(flatten)]
    deployment: Deployment,
}

#[derive(Deserialize, Default)]
struct ProblemBody {
    #[serde(default)]
    title: String,
    #[serde(default)]
    detail: String,
}

impl HttpPlatform {
    /// Makes a driver for the platform at `url`; `roots` in PEM are trusted besides
    /// the system's. It sends at most `calls_per_second` requests a second, where that is given.
    ///
    /// # Errors
    /// [`EdgeError::Unreachable`] when the roots cannot be used.
    pub fn new(
        url: Url,
        token: SecretString,
        roots: Option<&[u8]>,
        calls_per_second: Option<u32>,
    ) -> Result<HttpPlatform, EdgeError> {
        let client = Client::new(url, roots, is_link_local).map_err(|error| unreachable(&error))?;
        let pace = calls_per_second
            .map(|calls| Pace { between: Duration::from_secs(1) / calls.max(1), next: Mutex::new(Instant::now()) });
        Ok(HttpPlatform { client, token, pace })
    }

    fn url(&self, segments: &[&str]) -> Url {
        let mut url = self.client.base().clone();
        if let Ok(mut path) = url.path_segments_mut() {
            path.pop_if_empty().push("v1").extend(segments);
        }
        url
    }

    async fn call(
        &self,
        method: Method,
        url: Url,
        body: Option<String>,
        condition: Option<(header::HeaderName, String)>,
    ) -> Result<Response, EdgeError> {
        let url =
            self.client.permits(&[self.client.base().origin()], url.as_str()).map_err(|error| unreachable(&error))?;
        let mut tries = 0;
        loop {
            let build = |request: pindrel_http::Request| {
                let mut request = request.bearer_auth(self.token.expose_secret());
                if let Some(body) = &body {
                    request = request.header(header::CONTENT_TYPE, "application/json").body(body.clone());
                }
                if let Some((name, value)) = &condition {
                    request = request.header(name, value);
                }
                request
            };
            if let Some(pace) = &self.pace {
                pace.turn().await;
            }
            let response =
                self.client.send(method.clone(), url.clone(), build).await.map_err(|error| unreachable(&error))?;
            let wait = match response.status.as_u16() {
                429 | 503 if tries < BUSY_TRIES => busy_wait(&response),
                _ => None,
            };
            let Some(wait) = wait else { return Ok(response) };
            tries += 1;
            tokio::time::sleep(wait).await;
        }
    }

    /// Reads a body, or makes the refusal into an error.
    fn read<T: for<'de> Deserialize<'de>>(
        &self,
        what: &'static str,
        url: &Url,
        response: &Response,
    ) -> Result<T, EdgeError> {
        if !response.status.is_success() {
            return Err(self.refusal(what, url, response));
        }
        serde_json::from_slice(&response.body)
            .map_err(|error| EdgeError::Malformed { url: url.to_string(), why: error.to_string() })
    }

    /// Reads all pages of a list, each of the platform's own origin (RFC 8288).
    async fn list<P: for<'de> Deserialize<'de>>(
        &self,
        what: &'static str,
        first: Url,
        mut each: impl FnMut(P) + Send,
    ) -> Result<(), EdgeError> {
        let pages = async {
            let origin = [self.client.base().origin()];
            let mut page = Some(first.clone());
            for _ in 0..MOST_PAGES {
                let Some(url) = page else { return Ok(()) };
                let response = self.call(Method::GET, url.clone(), None, None).await?;
                each(self.read::<P>(what, &url, &response)?);
                let next = response.next_page().map(|next| self.client.permits(&origin, next));
                page = next.transpose().map_err(|error| unreachable(&error))?;
            }
            let why = format!("{what} has more than {MOST_PAGES} pages");
            Err(EdgeError::Malformed { url: first.to_string(), why })
        };
        let late = |_| EdgeError::Malformed {
            url: first.to_string(),
            why: format!("{what} did not end within {} s", LIST_PATIENCE.as_secs()),
        };
        timeout(LIST_PATIENCE, pages).await.map_err(late)?
    }

    fn refusal(&self, what: &'static str, url: &Url, response: &Response) -> EdgeError {
        let problem: ProblemBody = serde_json::from_slice(&response.body).unwrap_or_default();
        let text = if problem.detail.is_empty() { problem.title } else { problem.detail };
        let detail: String = if text.is_empty() { "no reason given".into() } else { text.chars().take(300).collect() };
        let status = response.status.as_u16();
        match status {
            401 | 403 => EdgeError::Token { url: self.client.base().to_string(), status, detail },
            _ => EdgeError::Refused { url: url.to_string(), what, status, detail },
        }
    }

    fn read_binding(&self, what: &'static str, url: &Url, response: &Response) -> Result<BoundHostname, EdgeError> {
        let body: BindingBody = self.read(what, url, response)?;
        let etag = response.header(header::ETAG).map(str::to_owned);
        Ok(BoundHostname { binding: body.binding, deployment: body.deployment, etag })
    }
}

#[async_trait]
impl Platform for HttpPlatform {
    async fn endpoints(&self) -> Result<Vec<EndpointInfo>, EdgeError> {
        let mut endpoints = Vec::new();
        let url = self.url(&["endpoints"]);
        self.list("the list of endpoints", url, |page: EndpointPage| endpoints.extend(page.endpoints)).await?;
        Ok(endpoints)
    }

    async fn put_certificate(
        &self,
        site: &str,
        sha256: Fingerprint,
        chain: &str,
        key: SecretString,
    ) -> Result<(), EdgeError> {
        let url = self.url(&["sites", site, "certificates", &sha256.to_string()]);
        let body = serde_json::to_string(&CertificateBody { chain, key: key.expose_secret() })
            .map_err(|error| EdgeError::Malformed { url: url.to_string(), why: error.to_string() })?;
        let response = self.call(Method::PUT, url.clone(), Some(body), None).await?;
        if response.status.is_success() { Ok(()) } else { Err(self.refusal("the certificate", &url, &response)) }
    }

    async fn certificates(&self, site: &str) -> Result<Vec<StoredCertificate>, EdgeError> {
        let mut certificates = Vec::new();
        let url = self.url(&["sites", site, "certificates"]);
        let each = |page: CertificatePage| certificates.extend(page.certificates);
        self.list("the list of certificates", url, each).await?;
        Ok(certificates)
    }

    async fn delete_certificate(&self, site: &str, sha256: Fingerprint) -> Result<StoreRemoval, EdgeError> {
        let url = self.url(&["sites", site, "certificates", &sha256.to_string()]);
        let response = self.call(Method::DELETE, url.clone(), None, None).await?;
        match response.status.as_u16() {
            200..=299 | 404 => Ok(StoreRemoval::Gone),
            409 => Ok(StoreRemoval::InUse),
            _ => Err(self.refusal("to delete the certificate", &url, &response)),
        }
    }

    async fn bindings(&self, endpoint: &str) -> Result<Vec<(Hostname, BoundHostname)>, EdgeError> {
        let mut bindings = Vec::new();
        let url = self.url(&["endpoints", endpoint, "bindings"]);
        let bound = |listed: ListedBinding| {
            let BindingBody { binding, deployment } = listed.body;
            (listed.hostname, BoundHostname { binding, deployment, etag: None })
        };
        let each = |page: BindingPage| bindings.extend(page.bindings.into_iter().map(bound));
        self.list("the list of bindings", url, each).await?;
        Ok(bindings)
    }

    async fn binding(&self, endpoint: &str, hostname: &Hostname) -> Result<Option<BoundHostname>, EdgeError> {
        let url = self.url(&["endpoints", endpoint, "bindings", hostname.as_str()]);
        let response = self.call(Method::GET, url.clone(), None, None).await?;
        if response.status.as_u16() == 404 {
            return Ok(None);
        }
        self.read_binding("the binding", &url, &response).map(Some)
    }

    async fn put_binding(
        &self,
        endpoint: &str,
        hostname: &Hostname,
        binding: &Binding,
        known: Option<&BoundHostname>,
    ) -> Result<BoundHostname, EdgeError> {
        let url = self.url(&["endpoints", endpoint, "bindings", hostname.as_str()]);
        let body = serde_json::to_string(binding)
            .map_err(|error| EdgeError::Malformed { url: url.to_string(), why: error.to_string() })?;
        let condition = match known {
            None => Some((header::IF_NONE_MATCH, "*".to_owned())),
            Some(known) => known.etag.clone().map(|etag| (header::IF_MATCH, etag)),
        };
        let response = self.call(Method::PUT, url.clone(), Some(body), condition).await?;
        if response.status.as_u16() == 412 {
            return Err(EdgeError::Changed(hostname.clone()));
        }
        self.read_binding("the binding", &url, &response)
    }

    async fn delete_binding(
        &self,
        endpoint: &str,
        hostname: &Hostname,
        known: &BoundHostname,
    ) -> Result<(), EdgeError> {
        let url = self.url(&["endpoints", endpoint, "bindings", hostname.as_str()]);
        let condition = known.etag.clone().map(|etag| (header::IF_MATCH, etag));
        let response = self.call(Method::DELETE, url.clone(), None, condition).await?;
        match response.status.as_u16() {
            200..=299 | 404 => Ok(()),
            412 => Err(EdgeError::Changed(hostname.clone())),
            _ => Err(self.refusal("to delete the binding", &url, &response)),
        }
    }
}

fn unreachable(error: &HttpError) -> EdgeError {
    let (url, why) = match error {
        HttpError::NotConnected { url, kind, why } | HttpError::Interrupted { url, kind, why } => {
            (url, Unreachable::from_io(*kind, why))
        }
        HttpError::TooLong { url } => (url, Unreachable::Malformed { detail: error.to_string() }),
        HttpError::OtherOrigin { peer, .. } => (peer, Unreachable::NotAsked { detail: error.to_string() }),
        HttpError::Roots { url, .. } => (url, Unreachable::NotAsked { detail: error.to_string() }),
        _ => {
            return EdgeError::Unreachable {
                url: String::new(),
                why: Unreachable::Other { detail: error.to_string() },
            };
        }
    };
    EdgeError::Unreachable { url: url.clone(), why }
}

fn busy_wait(response: &Response) -> Option<Duration> {
    let now = Timestamp::now();
    let seconds = response.retry_at(now).map_or(1, |at| at.as_second() - now.as_second());
    let wait = Duration::from_secs(u64::try_from(seconds).unwrap_or(0));
    (wait <= LONGEST_BUSY).then_some(wait)
}

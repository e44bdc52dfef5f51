//! The transport under the core's ACME machine: signed requests over HTTPS, nonces,
//! and the authority's wishes to wait.
//!
//! What to send is decided in [`pindrel_core::acme`]; who signs is given as a
//! [`RequestSigner`], so that this crate never sees a private key.

use std::collections::VecDeque;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use jiff::Timestamp;
use pindrel_core::acme::jws::{Jwk, Payload, Signer, Unsigned};
use pindrel_core::acme::objects::{Account, AccountStatus, Directory, OrderList, new_account};
use pindrel_core::acme::order::Reply;
use pindrel_core::acme::problem::Problem;
use pindrel_http::{Client, HttpError, Method, Response, header};
use serde_json::Value;
use url::{Origin, Url};

/// How often a request is signed anew because its nonce was refused.
const NONCE_TRIES: u32 = 20;
/// How often a request is sent again because the authority is busy.
const BUSY_TRIES: u32 = 3;
/// The longest wish to wait that is honoured within a run, in seconds.
const LONGEST_BUSY_SECS: i64 = 60;
/// The most nonces that are kept.
const MOST_NONCES: usize = 64;
/// The most pages of an order list that are read.
const MOST_PAGES: usize = 50;

/// Why the authority could not be asked.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum TransportError {
    /// No response.
    #[error(transparent)]
    Http(#[from] HttpError),
    /// The authority refused what every run needs.
    #[error("the authority refused {what}: {problem}")]
    Refused {
        /// What was asked for.
        what: &'static str,
        /// What it said.
        problem: Problem,
    },
    /// A response that does not read as RFC 8555 says.
    #[error("{url} does not answer as an ACME authority does: {why}")]
    Malformed {
        /// The URL.
        url: String,
        /// What is wrong.
        why: String,
    },
    /// The account is closed.
    #[error("the account {0} is closed at the authority")]
    Closed(String),
    /// The key cannot sign.
    #[error("the account key cannot sign: {0}")]
    Signing(String),
}

impl TransportError {
    /// Says whether the authority may have acted on the request all the same.
    pub fn may_have_acted(&self) -> bool {
        matches!(self, TransportError::Http(HttpError::Interrupted { .. } | HttpError::TooLong { .. }))
    }

    /// Returns what to do about it.
    pub fn remedy(&self) -> String {
        match self {
            TransportError::Http(HttpError::Roots { .. }) => "correct api_roots in the authority's table of the manifest".into(),
            TransportError::Http(HttpError::OtherOrigin { .. }) => "ask the authority why it leads elsewhere".into(),
            TransportError::Http(_) => "wait until the authority answers again, or correct its directory URL and api_roots, then run settle again".into(),
            TransportError::Refused { problem, .. } => problem.remedy().into(),
            TransportError::Malformed { .. } => "see whether the directory URL is really an ACME authority's".into(),
            TransportError::Closed(_) => "name another authority, or remove the account from the state".into(),
            TransportError::Signing(_) => "restore the state from its backup".into(),
        }
    }
}

/// Signs requests for one account.
pub trait RequestSigner: Send + Sync {
    /// Returns the public half of the account key.
    fn jwk(&self) -> &Jwk;
    /// Signs as ES256.
    ///
    /// # Errors
    /// A part of a sentence that says why not.
    fn sign(&self, message: &[u8]) -> Result<Vec<u8>, String>;
}

/// An account as the authority has it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Registered {
    /// Its URL, which signs in the place of the key.
    pub url: String,
    /// Where its orders are listed, where the authority says so.
    pub orders: Option<String>,
}

/// A connection to one authority.
#[derive(Debug)]
pub struct Authority {
    client: Client,
    directory: Directory,
    origins: Vec<Origin>,
    nonces: Mutex<VecDeque<String>>,
    signed: AtomicU64,
    nonces_refused: AtomicU64,
}

impl Authority {
    /// Reads the directory at `url`; `roots` in PEM are trusted besides the system's.
    ///
    /// # Errors
    /// [`TransportError`].
    pub async fn connect(url: Url, roots: Option<&[u8]>) -> Result<Authority, TransportError> {
        let client = Client::new(url.clone(), roots)?;
        let response = client.send(Method::GET, url.clone(), |request| request).await?;
        if !response.status.is_success() {
            let problem = Problem::read(response.status.as_u16(), &response.body);
            return Err(TransportError::Refused { what: "its directory", problem });
        }
        let malformed = |why: String| TransportError::Malformed { url: url.to_string(), why };
        let directory: Directory =
            serde_json::from_slice(&response.body).map_err(|error| malformed(error.to_string()))?;
        // The directory is named by the manifest, so what it names is of known origin;
        // whatever comes later must stay within.
        let mut origins = vec![url.origin()];
        for named in [&directory.new_nonce, &directory.new_account, &directory.new_order] {
            let named = Url::parse(named).ok().filter(|named| named.scheme() == "https");
            origins
                .push(named.ok_or_else(|| malformed("the directory names a URL that is not https".into()))?.origin());
        }
        Ok(Authority {
            client,
            directory,
            origins,
            nonces: Mutex::default(),
            signed: AtomicU64::new(0),
            nonces_refused: AtomicU64::new(0),
        })
    }

    /// Returns the directory.
    pub fn directory(&self) -> &Directory {
        &self.directory
    }

    /// Returns how many signed requests were sent, those with a refused nonce left out.
    pub fn signed(&self) -> u64 {
        self.signed.load(Ordering::Relaxed)
    }

    /// Returns how many requests were sent again because their nonce was refused.
    pub fn nonces_refused(&self) -> u64 {
        self.nonces_refused.load(Ordering::Relaxed)
    }

    /// Opens an account, or finds the one that the key has already (RFC 8555 §7.3).
    ///
    /// # Errors
    /// [`TransportError`].
    pub async fn register(
        &self,
        signer: &dyn RequestSigner,
        contact: &[String],
        external_binding: Option<Value>,
    ) -> Result<Registered, TransportError> {
        let payload = Payload::Json(new_account(contact, external_binding));
        let url = self.directory.new_account.clone();
        let response = self.exchange(signer, None, &url, &payload).await?;
        if !response.status.is_success() {
            let problem = Problem::read(response.status.as_u16(), &response.body);
            return Err(TransportError::Refused { what: "an account", problem });
        }
        let malformed = |why: String| TransportError::Malformed { url: url.clone(), why };
        let account: Account = serde_json::from_slice(&response.body).map_err(|error| malformed(error.to_string()))?;
        let location =
            response.header(header::LOCATION).ok_or_else(|| malformed("an account without a Location".into()))?;
        let location = self.client.permits(&self.origins, location)?.to_string();
        if account.status != AccountStatus::Valid {
            return Err(TransportError::Closed(location));
        }
        Ok(Registered { url: location, orders: account.orders })
    }

    /// Sends a request of an account; a refusal by the authority is the inner error.
    ///
    /// # Errors
    /// [`TransportError`].
    pub async fn send(
        &self,
        signer: &dyn RequestSigner,
        account: &str,
        url: Option<&str>,
        payload: &Payload,
    ) -> Result<Result<Reply, Problem>, TransportError> {
        let url = url.unwrap_or(&self.directory.new_order);
        let response = self.exchange(signer, Some(account), url, payload).await?;
        if !response.status.is_success() {
            return Ok(Err(Problem::read(response.status.as_u16(), &response.body)));
        }
        let location = response.header(header::LOCATION).map(str::to_owned);
        Ok(Ok(Reply { location, retry_at: response.retry_at(Timestamp::now()), body: response.body }))
    }

    /// Reads the URLs of an account's orders, page by page (RFC 8555 §7.1.2.1).
    ///
    /// # Errors
    /// [`TransportError`].
    pub async fn order_urls(
        &self,
        signer: &dyn RequestSigner,
        account: &str,
        list: &str,
    ) -> Result<Vec<String>, TransportError> {
        let mut urls = Vec::new();
        let mut page = Some(list.to_owned());
        for _ in 0..MOST_PAGES {
            let Some(url) = page else { break };
            let response = self.exchange(signer, Some(account), &url, &Payload::PostAsGet).await?;
            if !response.status.is_success() {
                let problem = Problem::read(response.status.as_u16(), &response.body);
                return Err(TransportError::Refused { what: "the list of orders", problem });
            }
            let list: OrderList = serde_json::from_slice(&response.body)
                .map_err(|error| TransportError::Malformed { url: url.clone(), why: error.to_string() })?;
            urls.extend(list.orders);
            page = response.next_page().map(str::to_owned);
        }
        Ok(urls)
    }

    /// Signs and sends until neither the nonce nor the load stands in the way.
    async fn exchange(
        &self,
        signer: &dyn RequestSigner,
        account: Option<&str>,
        url: &str,
        payload: &Payload,
    ) -> Result<Response, TransportError> {
        let target = self.client.permits(&self.origins, url)?;
        let mut nonce_tries = 0;
        let mut busy_tries = 0;
        loop {
            let nonce = self.nonce().await?;
            let who = account.map_or(Signer::Key(signer.jwk()), Signer::Account);
            let unsigned = Unsigned::request(who, &nonce, target.as_str(), payload);
            let signature = signer.sign(&unsigned.to_sign()).map_err(TransportError::Signing)?;
            let body = unsigned.signed(&signature).to_string();
            let build = |request: pindrel_http::Request| {
                request.header(header::CONTENT_TYPE, "application/jose+json").body(body.clone())
            };
            let response = self.client.send(Method::POST, target.clone(), build).await?;
            self.keep_nonce(&response);
            let status = response.status.as_u16();
            let problem = (status >= 400).then(|| Problem::read(status, &response.body));
            match problem {
                Some(problem) if problem.error() == "badNonce" && nonce_tries < NONCE_TRIES => {
                    nonce_tries += 1;
                    self.nonces_refused.fetch_add(1, Ordering::Relaxed);
                }
                Some(_) if matches!(status, 429 | 503) && busy_tries < BUSY_TRIES => {
                    let Some(wait) = busy_wait(&response) else { return Ok(response) };
                    busy_tries += 1;
                    tracing::info!(url, status, ?wait, "the authority asks to wait");
                    tokio::time::sleep(wait).await;
                }
                _ => {
                    self.signed.fetch_add(1, Ordering::Relaxed);
                    return Ok(response);
                }
            }
        }
    }

    async fn nonce(&self) -> Result<String, TransportError> {
        let kept = self.nonces.lock().unwrap_or_else(PoisonError::into_inner).pop_back();
        if let Some(nonce) = kept {
            return Ok(nonce);
        }
        let url = self.client.permits(&self.origins, &self.directory.new_nonce)?;
        let response = self.client.send(Method::HEAD, url.clone(), |request| request).await?;
        let nonce = response.header("replay-nonce").map(str::to_owned);
        nonce.ok_or_else(|| TransportError::Malformed { url: url.to_string(), why: "it gives no Replay-Nonce".into() })
    }

    fn keep_nonce(&self, response: &Response) {
        if let Some(nonce) = response.header("replay-nonce") {
            let mut nonces = self.nonces.lock().unwrap_or_else(PoisonError::into_inner);
            // The oldest go first: an authority forgets them soonest.
            if nonces.len() == MOST_NONCES {
                nonces.pop_front();
            }
            nonces.push_back(nonce.to_owned());
        }
    }
}

/// How long a busy authority asks to wait, if that is within a run's patience.
fn busy_wait(response: &Response) -> Option<Duration> {
    let now = Timestamp::now();
    let seconds = response.retry_at(now).map_or(1, |at| at.as_second() - now.as_second());
    (seconds <= LONGEST_BUSY_SECS).then(|| Duration::from_secs(u64::try_from(seconds).unwrap_or(0)))
}

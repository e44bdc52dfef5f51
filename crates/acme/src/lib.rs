//! The transport under the core's ACME machine: signed requests over HTTPS, nonces,
//! and the authority's wishes to wait.
//!
//! What to send is decided in [`pindrel_core::certificates::acme`]; who signs is given as a
//! [`RequestSigner`], so that this crate never sees a private key.

use std::collections::VecDeque;
use std::sync::atomic::{AtomicU32, AtomicU64, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use jiff::Timestamp;
use pindrel_core::certificates::acme::account::{self, Account, AccountStatus};
use pindrel_core::certificates::acme::jws::{Jwk, Payload, Signer, Unsigned, base64url};
use pindrel_core::certificates::acme::objects::{Directory, OrderList};
use pindrel_core::certificates::acme::order::Reply;
use pindrel_core::certificates::acme::problem::{Problem, shown_url};
use pindrel_core::certificates::acme::renewal_info;
use pindrel_core::certificates::renewal::RenewalWindow;
use pindrel_core::text::display_text::one_line;
use pindrel_core::values::is_link_local_or_metadata;
use pindrel_http::{Client, HttpError, Method, Response, header};
use serde_json::Value;
use tokio::sync::Semaphore;
use url::{Origin, Url};

/// How often a request is signed anew because its nonce was refused.
const NONCE_TRIES: u32 = 20;
/// How often a request that only reads is sent again after a reset or a time-out.
const READ_TRIES: u32 = 1;
/// The longest nonce that is kept.
const LONGEST_NONCE: usize = 256;
/// How often a request is sent again because the authority is busy.
const BUSY_TRIES: u32 = 3;
/// The longest wish to wait that is honoured within a run, in seconds.
const LONGEST_BUSY_SECS: i64 = 60;
/// How many requests in a row may get no answer before the authority is given up for this
/// run: one that is down is not waited for a thousand times.
const MOST_UNANSWERED: u32 = 24;
/// The most nonces that are kept.
const MOST_NONCES: usize = 64;
/// The most pages of an order list that are read.
const MOST_PAGES: usize = 50;
/// When renewal information is asked for again where the authority does not say, and
/// how far from that its wish may lie, in seconds (RFC 9773 §4.3.2).
const ASK_AGAIN_SECS: i64 = 6 * 3600;
const ASK_AGAIN_BOUNDS_SECS: (i64, i64) = (60, 86_400);

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
    /// Too many requests in a row got no answer.
    #[error("{url} did not answer {MOST_UNANSWERED} requests in a row, and is not asked again in this run")]
    GivenUp {
        /// The directory.
        url: String,
    },
    /// The account is closed.
    #[error("the account {0} is closed at the authority")]
    Closed(String),
    /// The authority does not offer this.
    #[error("{url} does not offer {what}")]
    NotOffered {
        /// The directory.
        url: String,
        /// What was asked for.
        what: &'static str,
    },
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
            TransportError::Http(HttpError::Roots { .. }) => {
                "Correct api_roots in the authority's table of the manifest".into()
            }
            TransportError::Http(HttpError::OtherOrigin { .. }) => {
                "Ask the authority why its URLs point elsewhere".into()
            }
            TransportError::Http(_) => {
                "Wait until the authority answers, or correct its directory URL and api_roots".into()
            }
            TransportError::GivenUp { .. } => "Wait until the authority answers".into(),
            TransportError::Refused { problem, .. } => problem.remedy(),
            TransportError::Malformed { .. } => "Check that the directory URL is that of an ACME authority".into(),
            TransportError::Closed(_) => {
                "Choose another authority in the manifest, or remove the account from the state".into()
            }
            TransportError::NotOffered { .. } => "Choose an authority that offers it".into(),
            TransportError::Signing(_) => "Restore the state from its backup".into(),
        }
    }
}

/// Signs requests for one account.
pub trait RequestSigner: Send + Sync {
    /// Returns the public half of the account key.
    fn jwk(&self) -> &Jwk;
    /// Signs with the algorithm that the key's JWK names.
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
    /// Its state.
    pub status: AccountStatus,
    /// Where its orders are listed, where the authority says so.
    pub orders: Option<String>,
    /// Its contacts, where the authority shows them.
    pub contact: Option<Vec<String>>,
}

/// A connection to one authority.
#[derive(Debug)]
pub struct HttpAuthority {
    client: Client,
    directory: Directory,
    origins: Vec<Origin>,
    /// Bounds how many requests are under way at once.
    slots: Semaphore,
    nonces: Mutex<VecDeque<String>>,
    signed: AtomicU64,
    nonces_refused: AtomicU64,
    unanswered: AtomicU32,
}

impl HttpAuthority {
    /// Reads the directory at `url`; `roots` in PEM are trusted besides the system's. At most
    /// `at_once` requests are under way at any time.
    ///
    /// # Errors
    /// [`TransportError`].
    pub async fn connect(url: Url, roots: Option<&[u8]>, at_once: u32) -> Result<HttpAuthority, TransportError> {
        let client = Client::new(url.clone(), roots, is_link_local_or_metadata)?;
        let slots = Semaphore::new(usize::try_from(at_once).unwrap_or(1).max(1));
        let response = patiently(&client, &slots, Method::GET, &url).await?;
        if !response.status.is_success() {
            return Err(TransportError::Refused { what: "its directory", problem: problem_of(&response) });
        }
        let malformed = |why: String| TransportError::Malformed { url: url.to_string(), why };
        let mut directory: Directory =
            serde_json::from_slice(&response.body).map_err(|error| malformed(error.to_string()))?;
        directory.meta.terms_of_service = directory.meta.terms_of_service.map(one_line);
        // The directory is named by the manifest, so what it names is of known origin;
        // whatever comes later must stay within.
        let mut origins = vec![url.origin()];
        for named in directory.urls() {
            let named = Url::parse(named).ok().filter(|named| named.scheme() == "https");
            // Clouds have their metadata service on the link: only the manifest may lead there.
            let leads_to_link = named.as_ref().is_some_and(|named| is_of_link(named) && named.host() != url.host());
            if leads_to_link {
                return Err(malformed("the directory names a link-local address".into()));
            }
            origins
                .push(named.ok_or_else(|| malformed("the directory names a URL that is not https".into()))?.origin());
        }
        Ok(HttpAuthority {
            client,
            directory,
            origins,
            slots,
            nonces: Mutex::default(),
            signed: AtomicU64::new(0),
            nonces_refused: AtomicU64::new(0),
            unanswered: AtomicU32::new(0),
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
        let registered = self.new_account(signer, account::make(contact, external_binding)).await?;
        registered.map_err(|problem| TransportError::Refused { what: "an account", problem })
    }

    /// Finds the account of a key (RFC 8555 §7.3.1); `None` where it has none.
    ///
    /// # Errors
    /// [`TransportError`].
    pub async fn find(&self, signer: &dyn RequestSigner) -> Result<Option<Registered>, TransportError> {
        match self.new_account(signer, account::find()).await? {
            Ok(found) => Ok(Some(found)),
            Err(problem) if problem.error() == "accountDoesNotExist" => Ok(None),
            Err(problem) => Err(TransportError::Refused { what: "to look for an account", problem }),
        }
    }

    async fn new_account(
        &self,
        signer: &dyn RequestSigner,
        payload: Value,
    ) -> Result<Result<Registered, Problem>, TransportError> {
        let url = self.directory.new_account.clone();
        let response = self.exchange(signer, None, &url, &Payload::Json(payload)).await?;
        if !response.status.is_success() {
            return Ok(Err(problem_of(&response)));
        }
        let location = response.header(header::LOCATION).map(str::to_owned);
        let location = location.ok_or_else(|| malformed(&url, "an account without a Location"))?;
        let location = self.client.permits(&self.origins, &location)?.to_string();
        let found = match registered(&url, location.clone(), &response) {
            // The answer to a key that has an account need say no more than where that is.
            Err(_) if response.status.as_u16() == 200 => self.account(signer, &location, None).await?,
            found => found?,
        };
        if found.status == AccountStatus::Valid { Ok(Ok(found)) } else { Err(TransportError::Closed(found.url)) }
    }

    /// Reads an account, or changes it where `change` says what (RFC 8555 §7.3.2, §7.3.6).
    ///
    /// # Errors
    /// [`TransportError`].
    pub async fn account(
        &self,
        signer: &dyn RequestSigner,
        url: &str,
        change: Option<Value>,
    ) -> Result<Registered, TransportError> {
        let what = if change.is_some() { "to change the account" } else { "to show the account" };
        let payload = change.map_or(Payload::PostAsGet, Payload::Json);
        let response = self.exchange(signer, Some(url), url, &payload).await?;
        if !response.status.is_success() {
            return Err(TransportError::Refused { what, problem: problem_of(&response) });
        }
        registered(url, url.to_owned(), &response)
    }

    /// Has an account signed for by another key (RFC 8555 §7.3.5).
    ///
    /// # Errors
    /// [`TransportError`].
    pub async fn change_key(
        &self,
        old: &dyn RequestSigner,
        new: &dyn RequestSigner,
        account: &str,
    ) -> Result<(), TransportError> {
        let url = self.offered(&self.directory.key_change, "key changes")?;
        let inner = Unsigned::key_change(new.jwk(), url, account, old.jwk());
        let signature = new.sign(&inner.to_sign()).map_err(TransportError::Signing)?;
        let payload = Payload::Json(inner.signed(&signature));
        let response = self.exchange(old, Some(account), url, &payload).await?;
        if response.status.is_success() {
            return Ok(());
        }
        Err(TransportError::Refused { what: "the key change", problem: problem_of(&response) })
    }

    /// Revokes a certificate (RFC 8555 §7.6), signed for by an account or, without one,
    /// by the certificate's own key.
    ///
    /// # Errors
    /// [`TransportError`]; one that is revoked already is none.
    pub async fn revoke(
        &self,
        signer: &dyn RequestSigner,
        account: Option<&str>,
        certificate: &[u8],
        reason: u8,
    ) -> Result<(), TransportError> {
        let url = self.offered(&self.directory.revoke_cert, "revocation")?;
        let payload = serde_json::json!({ "certificate": base64url(certificate), "reason": reason });
        let response = self.exchange(signer, account, url, &Payload::Json(payload)).await?;
        let problem = (!response.status.is_success()).then(|| problem_of(&response));
        match problem {
            Some(problem) if problem.error() != "alreadyRevoked" => {
                Err(TransportError::Refused { what: "the revocation", problem })
            }
            _ => Ok(()),
        }
    }

    /// Says whether the authority gives renewal information.
    pub fn advises(&self) -> bool {
        self.directory.renewal_info.is_some()
    }

    /// Asks, unsigned, when a certificate should be renewed (RFC 9773 §4.1).
    ///
    /// # Errors
    /// [`TransportError`].
    pub async fn renewal_info(&self, certificate_id: &str) -> Result<RenewalWindow, TransportError> {
        let base = self.offered(&self.directory.renewal_info, "renewal information")?;
        let url = format!("{}/{certificate_id}", base.trim_end_matches('/'));
        let target = self.client.permits(&self.origins, &url)?;
        let response = patiently(&self.client, &self.slots, Method::GET, &target).await?;
        if !response.status.is_success() {
            return Err(TransportError::Refused { what: "renewal information", problem: problem_of(&response) });
        }
        let now = Timestamp::now();
        let (soonest, latest) = ASK_AGAIN_BOUNDS_SECS;
        let wish = response.retry_at(now).map_or(ASK_AGAIN_SECS, |at| at.as_second() - now.as_second());
        let look_again = now.checked_add(jiff::SignedDuration::from_secs(wish.clamp(soonest, latest))).unwrap_or(now);
        renewal_info::read(&response.body, look_again).map_err(|why| malformed(&url, &why))
    }

    fn offered<'a>(&'a self, url: &'a Option<String>, what: &'static str) -> Result<&'a str, TransportError> {
        let directory = || self.client.base().to_string();
        url.as_deref().ok_or_else(|| TransportError::NotOffered { url: directory(), what })
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
            return Ok(Err(problem_of(&response)));
        }
        let location = response.header(header::LOCATION).map(str::to_owned);
        let alternates = response.links("alternate").map(str::to_owned).collect();
        Ok(Ok(Reply { location, retry_at: response.retry_at(Timestamp::now()), alternates, body: response.body }))
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
                return Err(TransportError::Refused { what: "the list of orders", problem: problem_of(&response) });
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
        if self.unanswered.load(Ordering::Relaxed) >= MOST_UNANSWERED {
            return Err(TransportError::GivenUp { url: self.client.base().to_string() });
        }
        let result = self.exchange_now(signer, account, target, payload).await;
        match &result {
            Ok(_) => self.unanswered.store(0, Ordering::Relaxed),
            Err(TransportError::Http(_)) => {
                self.unanswered.fetch_add(1, Ordering::Relaxed);
            }
            Err(_) => {}
        }
        result
    }

    async fn exchange_now(
        &self,
        signer: &dyn RequestSigner,
        account: Option<&str>,
        target: Url,
        payload: &Payload,
    ) -> Result<Response, TransportError> {
        let url = target.as_str();
        let mut nonce_tries = 0;
        let mut busy_tries = 0;
        // What only reads may be sent again; all else is read before it is repeated.
        let mut reads_left = if *payload == Payload::PostAsGet { READ_TRIES } else { 0 };
        loop {
            let nonce = self.nonce().await?;
            let who = Signer { jwk: signer.jwk(), account };
            let unsigned = Unsigned::request(who, &nonce, target.as_str(), payload);
            let signature = signer.sign(&unsigned.to_sign()).map_err(TransportError::Signing)?;
            let body = unsigned.signed(&signature).to_string();
            let build = |request: pindrel_http::Request| {
                request.header(header::CONTENT_TYPE, "application/jose+json").body(body.clone())
            };
            let sent = {
                // The semaphore is never closed, so a permit always comes.
                let _slot = self.slots.acquire().await.ok();
                self.client.send(Method::POST, target.clone(), build).await
            };
            let Some(response) = unless_interrupted(sent, &mut reads_left, &target)? else { continue };
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
        let response = patiently(&self.client, &self.slots, Method::HEAD, &url).await?;
        if !response.status.is_success() {
            return Err(TransportError::Refused { what: "a nonce", problem: problem_of(&response) });
        }
        self.keep_nonce(&response);
        let nonce = self.nonces.lock().unwrap_or_else(PoisonError::into_inner).pop_back();
        nonce.ok_or_else(|| malformed(url.as_str(), "it returned no Replay-Nonce that can be used"))
    }

    fn keep_nonce(&self, response: &Response) {
        // What is not base64url is to be ignored (RFC 8555 §6.5.1).
        let is_nonce = |nonce: &&str| {
            let fits = (1..=LONGEST_NONCE).contains(&nonce.len());
            fits && nonce.bytes().all(|byte| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_'))
        };
        if let Some(nonce) = response.header("replay-nonce").filter(is_nonce) {
            let mut nonces = self.nonces.lock().unwrap_or_else(PoisonError::into_inner);
            // The oldest go first: an authority forgets them soonest.
            if nonces.len() == MOST_NONCES {
                nonces.pop_front();
            }
            nonces.push_back(nonce.to_owned());
        }
    }
}

/// Says whether a URL names an address of one link alone.
fn is_of_link(url: &Url) -> bool {
    match url.host() {
        Some(url::Host::Ipv4(address)) => is_link_local_or_metadata(address.into()),
        Some(url::Host::Ipv6(address)) => is_link_local_or_metadata(address.into()),
        _ => false,
    }
}

/// Returns the response; `None` where the request was interrupted and is to be sent again, which is
/// counted in `left`.
fn unless_interrupted(
    sent: Result<Response, HttpError>,
    left: &mut u32,
    url: &Url,
) -> Result<Option<Response>, TransportError> {
    match sent {
        Err(error @ HttpError::Interrupted { .. }) if *left > 0 => {
            *left -= 1;
            tracing::info!(%url, %error, "a request that only reads is sent again");
            Ok(None)
        }
        sent => Ok(Some(sent?)),
    }
}

/// Sends an unsigned request, waiting where the authority is busy.
async fn patiently(client: &Client, slots: &Semaphore, method: Method, url: &Url) -> Result<Response, TransportError> {
    let (mut tries, mut reads_left) = (0, READ_TRIES);
    loop {
        let sent = {
            let _slot = slots.acquire().await.ok();
            client.send(method.clone(), url.clone(), |request| request).await
        };
        let Some(response) = unless_interrupted(sent, &mut reads_left, url)? else { continue };
        let busy = matches!(response.status.as_u16(), 429 | 503) && tries < BUSY_TRIES;
        let Some(wait) = busy_wait(&response).filter(|_| busy) else { return Ok(response) };
        tries += 1;
        tracing::info!(%url, ?wait, "the authority asks to wait");
        tokio::time::sleep(wait).await;
    }
}

/// The problem that a refusal carries, with the time at which to ask again.
fn problem_of(response: &Response) -> Problem {
    let retry_at = response.retry_at(Timestamp::now());
    let problem = Problem::read(response.status.as_u16(), &response.body);
    let see = problem.see.or_else(|| response.links("help").find_map(shown_url));
    Problem { retry_at, see, ..problem }
}

fn malformed(url: &str, why: &str) -> TransportError {
    TransportError::Malformed { url: url.to_owned(), why: why.to_owned() }
}

fn registered(asked: &str, url: String, response: &Response) -> Result<Registered, TransportError> {
    let account: Account =
        serde_json::from_slice(&response.body).map_err(|error| malformed(asked, &error.to_string()))?;
    let contact = account.contact.map(|contact| contact.into_iter().map(one_line).collect());
    Ok(Registered { url, status: account.status, orders: account.orders, contact })
}

/// How long a busy authority asks to wait, if that is within a run's patience.
fn busy_wait(response: &Response) -> Option<Duration> {
    let now = Timestamp::now();
    let seconds = response.retry_at(now).map_or(1, |at| at.as_second() - now.as_second());
    (seconds <= LONGEST_BUSY_SECS).then(|| Duration::from_secs(u64::try_from(seconds).unwrap_or(0)))
}

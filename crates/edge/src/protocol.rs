//! The endpoint protocol (`docs/endpoint-protocol.md`), whatever carries it.

mod https;
mod pace;
mod program;

use std::collections::HashSet;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use async_trait::async_trait;
use pindrel_core::endpoints::endpoint::{Binding, Deployment, EndpointInfo, PlatformReply};
use pindrel_core::judging::facts::Unreachable;
use pindrel_core::names::name::Hostname;
use pindrel_core::text::display_text::bounded_line;
use pindrel_core::text::sent_secrets::SentSecrets;
use pindrel_core::values::Fingerprint;
use secrecy::{ExposeSecret as _, SecretString};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use tokio::time::timeout;
use url::Url;

use pace::Pace;
pub use program::AdapterProgram;

use crate::{BoundHostname, EdgeError, Platform, StoreRemoval, StoredCertificate, TokenScope};

/// The most pages of a list that are read, how much they may say, in bytes, and how long that may take in all.
const MOST_PAGES: usize = 200;
const MOST_LISTED: usize = 32 << 20;
const LIST_PATIENCE: Duration = Duration::from_secs(60);
/// How often a call is sent again because the platform is busy, and the longest
/// wait that is honoured.
const BUSY_TRIES: u32 = 3;
const LONGEST_BUSY: Duration = Duration::from_secs(30);
/// The most records that a platform may ask for at one hostname.
const MOST_RECORDS: usize = 16;
/// The longest text in a reply, in characters: longer than any record's data.
const LONGEST_TEXT: usize = 4_096;
/// The wait where a busy platform names none.
const USUAL_BUSY: Duration = Duration::from_secs(1);

/// A platform that speaks the endpoint protocol.
pub struct ProtocolPlatform {
    carrier: Box<dyn Carrier>,
    pace: Option<Pace>,
    /// What the platform was sent and must not be shown to have said.
    sent: Mutex<SentSecrets>,
}

/// What brings a call to the platform, and its reply back.
#[async_trait]
trait Carrier: Send + Sync {
    /// Names what a call is for, in messages.
    fn place(&self, target: &Target) -> String;
    /// Names the platform, in messages.
    fn platform(&self) -> String;
    /// Makes one call. A reply of any status is no error.
    async fn call(&self, call: &Call<'_>) -> Result<Reply, EdgeError>;
}

/// What a call is for.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Target {
    /// The segments after the version.
    Path(Vec<String>),
    /// A further page of a list, as the platform names it.
    Page(String),
}

impl Target {
    fn path(segments: &[&str]) -> Target {
        Target::Path(segments.iter().map(|segment| (*segment).to_owned()).collect())
    }
}

/// Adds the segments of a path of this protocol to a base.
fn under(base: &Url, segments: &[String]) -> Url {
    let mut url = base.clone();
    if let Ok(mut path) = url.path_segments_mut() {
        path.pop_if_empty().push("v1").extend(segments);
    }
    url
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "UPPERCASE")]
enum Method {
    Get,
    Put,
    Delete,
}

/// What must hold for a write to be done (RFC 9110 §13.1).
#[derive(Debug, Clone, PartialEq, Eq)]
enum Condition {
    /// Nothing is there: `If-None-Match: *`.
    Absent,
    /// It is as it was read: `If-Match` with this entity tag.
    Unchanged(String),
}

struct Call<'c> {
    method: Method,
    target: &'c Target,
    body: Option<Value>,
    condition: Option<Condition>,
}

impl<'c> Call<'c> {
    fn new(method: Method, target: &'c Target) -> Call<'c> {
        Call { method, target, body: None, condition: None }
    }
}

struct Reply {
    status: u16,
    etag: Option<String>,
    next: Option<String>,
    retry_after: Option<Duration>,
    /// What it says, or why it is no JSON.
    body: Result<Value, String>,
    /// How long that was, in bytes.
    length: usize,
}

impl Reply {
    fn is_success(&self) -> bool {
        (200..300).contains(&self.status)
    }

    /// Returns how long to wait before the call is sent again, where the platform is busy.
    fn busy(&self) -> Option<Duration> {
        let wait = self.retry_after.unwrap_or(USUAL_BUSY);
        (matches!(self.status, 429 | 503) && wait <= LONGEST_BUSY).then_some(wait)
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

#[derive(Serialize)]
struct TrustBundleBody<'c> {
    roots: &'c str,
}

#[derive(Deserialize)]
struct BindingBody {
    #[serde(flatten)]
    binding: Binding,
    #[serde(flatten)]
    deployment: Deployment,
    #[serde(flatten)]
    reply: PlatformReply,
}

impl BindingBody {
    fn bound(self, etag: Option<String>) -> BoundHostname {
        let BindingBody { binding, deployment, reply } = self;
        BoundHostname { binding, deployment, reply, etag }
    }
}

#[derive(Deserialize, Default)]
struct ProblemBody {
    #[serde(default)]
    title: String,
    #[serde(default)]
    detail: String,
}

impl ProtocolPlatform {
    fn over(
        carrier: impl Carrier + 'static,
        token: Option<&SecretString>,
        calls_per_second: Option<u32>,
    ) -> ProtocolPlatform {
        let sent: SentSecrets = token.into_iter().map(|token| token.expose_secret()).collect();
        ProtocolPlatform { carrier: Box::new(carrier), pace: calls_per_second.map(Pace::new), sent: Mutex::new(sent) }
    }

    fn sent(&self) -> MutexGuard<'_, SentSecrets> {
        self.sent.lock().unwrap_or_else(PoisonError::into_inner)
    }

    async fn call(&self, call: Call<'_>) -> Result<Reply, EdgeError> {
        let mut tries = 0;
        loop {
            let turn = match &self.pace {
                Some(pace) => Some(pace.turn().await),
                None => None,
            };
            let called = self.carrier.call(&call).await;
            drop(turn);
            let reply = clean(called, &self.sent())?;
            let Some(wait) = reply.busy().filter(|_| tries < BUSY_TRIES) else { return Ok(reply) };
            tries += 1;
            tokio::time::sleep(wait).await;
        }
    }

    fn malformed(&self, target: &Target, why: String) -> EdgeError {
        EdgeError::Malformed { url: self.carrier.place(target), why }
    }

    /// Reads a body, or makes the refusal into an error.
    fn read<T: for<'de> Deserialize<'de>>(
        &self,
        what: &'static str,
        target: &Target,
        reply: &Reply,
    ) -> Result<T, EdgeError> {
        if !reply.is_success() {
            return Err(self.refusal(what, target, reply));
        }
        let body = reply.body.clone().map_err(|why| self.malformed(target, why))?;
        serde_json::from_value(body).map_err(|error| self.malformed(target, bounded_line(error.to_string(), 300)))
    }

    /// Reads all pages of a list.
    async fn list<P: for<'de> Deserialize<'de>>(
        &self,
        what: &'static str,
        first: Target,
        mut each: impl FnMut(P) + Send,
    ) -> Result<(), EdgeError> {
        let pages = async {
            let (mut page, mut listed, mut named) = (Some(first.clone()), 0, HashSet::new());
            for _ in 0..MOST_PAGES {
                let Some(target) = page else { return Ok(()) };
                let reply = self.call(Call::new(Method::Get, &target)).await?;
                listed += reply.length;
                if listed > MOST_LISTED {
                    return Err(self.malformed(&first, format!("{what} is longer than {} MiB", MOST_LISTED >> 20)));
                }
                each(self.read::<P>(what, &target, &reply)?);
                if let Some(next) = reply.next.as_ref().filter(|next| !named.insert((*next).clone())) {
                    return Err(self.malformed(&first, format!("{what} names the page {} twice", quoted(next))));
                }
                page = reply.next.map(Target::Page);
            }
            Err(self.malformed(&first, format!("{what} has more than {MOST_PAGES} pages")))
        };
        let late = |_| self.malformed(&first, format!("{what} did not end within {} s", LIST_PATIENCE.as_secs()));
        timeout(LIST_PATIENCE, pages).await.map_err(late)?
    }

    fn refusal(&self, what: &'static str, target: &Target, reply: &Reply) -> EdgeError {
        let problem: ProblemBody =
            reply.body.clone().ok().and_then(|body| serde_json::from_value(body).ok()).unwrap_or_default();
        let text = if problem.detail.is_empty() { problem.title } else { problem.detail };
        let detail: String = if text.is_empty() { "no reason given".into() } else { text.chars().take(300).collect() };
        let status = reply.status;
        match status {
            401 | 403 => EdgeError::Token { url: self.carrier.platform(), status, detail },
            _ => EdgeError::Refused { url: self.carrier.place(target), what, status, detail },
        }
    }

    fn read_binding(&self, what: &'static str, target: &Target, reply: &Reply) -> Result<BoundHostname, EdgeError> {
        let body: BindingBody = self.read(what, target, reply)?;
        if body.reply.records.len() > MOST_RECORDS {
            return Err(self.malformed(target, format!("it asks for more than {MOST_RECORDS} records")));
        }
        if let Some(asked) = body.reply.records.iter().find(|asked| asked.record().is_none()) {
            let why = format!("{} is no {} record of {}", quoted(&asked.value), asked.record_type, asked.name);
            return Err(self.malformed(target, why));
        }
        Ok(body.bound(reply.etag.clone()))
    }
}

#[async_trait]
impl Platform for ProtocolPlatform {
    async fn endpoints(&self) -> Result<Vec<EndpointInfo>, EdgeError> {
        let mut endpoints = Vec::new();
        let target = Target::path(&["endpoints"]);
        self.list("the list of endpoints", target, |page: EndpointPage| endpoints.extend(page.endpoints)).await?;
        Ok(endpoints)
    }

    async fn put_certificate(
        &self,
        site: &str,
        sha256: Fingerprint,
        chain: &str,
        key: SecretString,
    ) -> Result<(), EdgeError> {
        let target = Target::path(&["sites", site, "certificates", &sha256.to_string()]);
        self.sent().remember(key.expose_secret());
        let body = serde_json::to_value(&CertificateBody { chain, key: key.expose_secret() })
            .map_err(|error| self.malformed(&target, error.to_string()))?;
        let reply = self.call(Call { body: Some(body), ..Call::new(Method::Put, &target) }).await?;
        if reply.is_success() { Ok(()) } else { Err(self.refusal("the certificate", &target, &reply)) }
    }

    async fn put_trust_bundle(&self, site: &str, sha256: Fingerprint, roots: &str) -> Result<(), EdgeError> {
        let target = Target::path(&["sites", site, "trust-bundles", &sha256.to_string()]);
        let body = serde_json::to_value(&TrustBundleBody { roots })
            .map_err(|error| self.malformed(&target, error.to_string()))?;
        let reply = self.call(Call { body: Some(body), ..Call::new(Method::Put, &target) }).await?;
        if reply.is_success() { Ok(()) } else { Err(self.refusal("the trust bundle", &target, &reply)) }
    }

    async fn token_scope(&self) -> Result<Option<TokenScope>, EdgeError> {
        let target = Target::path(&["token"]);
        let reply = self.call(Call::new(Method::Get, &target)).await?;
        // A platform need not tell.
        if matches!(reply.status, 404 | 405 | 501) {
            return Ok(None);
        }
        self.read("the token's scope", &target, &reply).map(Some)
    }

    async fn certificates(&self, site: &str) -> Result<Vec<StoredCertificate>, EdgeError> {
        let mut certificates = Vec::new();
        let target = Target::path(&["sites", site, "certificates"]);
        let each = |page: CertificatePage| certificates.extend(page.certificates);
        self.list("the list of certificates", target, each).await?;
        Ok(certificates)
    }

    async fn delete_certificate(&self, site: &str, sha256: Fingerprint) -> Result<StoreRemoval, EdgeError> {
        let target = Target::path(&["sites", site, "certificates", &sha256.to_string()]);
        let reply = self.call(Call::new(Method::Delete, &target)).await?;
        match reply.status {
            200..=299 | 404 => Ok(StoreRemoval::Gone),
            409 => Ok(StoreRemoval::InUse),
            _ => Err(self.refusal("to delete the certificate", &target, &reply)),
        }
    }

    async fn bindings(&self, endpoint: &str) -> Result<Vec<(Hostname, BoundHostname)>, EdgeError> {
        let mut bindings = Vec::new();
        let target = Target::path(&["endpoints", endpoint, "bindings"]);
        let bound = |listed: ListedBinding| (listed.hostname, listed.body.bound(None));
        let each = |page: BindingPage| bindings.extend(page.bindings.into_iter().map(bound));
        self.list("the list of bindings", target, each).await?;
        Ok(bindings)
    }

    async fn binding(&self, endpoint: &str, hostname: &Hostname) -> Result<Option<BoundHostname>, EdgeError> {
        let target = Target::path(&["endpoints", endpoint, "bindings", hostname.as_str()]);
        let reply = self.call(Call::new(Method::Get, &target)).await?;
        if reply.status == 404 {
            return Ok(None);
        }
        self.read_binding("the binding", &target, &reply).map(Some)
    }

    async fn put_binding(
        &self,
        endpoint: &str,
        hostname: &Hostname,
        binding: &Binding,
        known: Option<&BoundHostname>,
    ) -> Result<BoundHostname, EdgeError> {
        let target = Target::path(&["endpoints", endpoint, "bindings", hostname.as_str()]);
        let body = serde_json::to_value(binding).map_err(|error| self.malformed(&target, error.to_string()))?;
        let condition = match known {
            None => Some(Condition::Absent),
            Some(known) => known.etag.clone().map(Condition::Unchanged),
        };
        let reply = self.call(Call { body: Some(body), condition, ..Call::new(Method::Put, &target) }).await?;
        if reply.status == 412 {
            return Err(EdgeError::Changed(hostname.clone()));
        }
        self.read_binding("the binding", &target, &reply)
    }

    async fn delete_binding(
        &self,
        endpoint: &str,
        hostname: &Hostname,
        known: &BoundHostname,
    ) -> Result<(), EdgeError> {
        let target = Target::path(&["endpoints", endpoint, "bindings", hostname.as_str()]);
        let condition = known.etag.clone().map(Condition::Unchanged);
        let reply = self.call(Call { condition, ..Call::new(Method::Delete, &target) }).await?;
        match reply.status {
            200..=299 | 404 => Ok(()),
            412 => Err(EdgeError::Changed(hostname.clone())),
            _ => Err(self.refusal("to delete the binding", &target, &reply)),
        }
    }
}

/// Takes out of what a platform said, or of why it could not be asked, whatever it was sent as a secret, and what a
/// terminal would obey.
fn clean(called: Result<Reply, EdgeError>, sent: &SentSecrets) -> Result<Reply, EdgeError> {
    match called {
        Ok(mut reply) => {
            if let Ok(body) = &mut reply.body {
                clean_texts(body, sent);
            }
            // These are sent back as they are, or not at all.
            reply.etag = reply.etag.filter(|etag| sent.is_free_of(etag));
            reply.next = reply.next.filter(|next| sent.is_free_of(next));
            Ok(reply)
        }
        Err(EdgeError::Malformed { url, why }) => {
            Err(EdgeError::Malformed { url: sent.shown(&url), why: sent.shown(&why) })
        }
        Err(EdgeError::Unreachable { url, why: Unreachable::Other { detail } }) => {
            let detail = sent.shown(&detail);
            Err(EdgeError::Unreachable { url, why: Unreachable::Other { detail } })
        }
        Err(other) => Err(other),
    }
}

fn clean_texts(value: &mut Value, sent: &SentSecrets) {
    match value {
        Value::String(text) => *text = bounded_line(sent.withhold(text), LONGEST_TEXT),
        Value::Array(values) => values.iter_mut().for_each(|value| clean_texts(value, sent)),
        Value::Object(entries) => entries.values_mut().for_each(|value| clean_texts(value, sent)),
        _ => {}
    }
}

/// Takes some octets as any reply of a platform that was sent a token and a key: what can be read of it, and how it is
/// refused, holds neither.
#[cfg(feature = "hostile")]
pub fn read_any(octets: &[u8]) {
    const SENT: [&str; 2] = ["the-token-of-the-platform", "MIGHAgEAMBMGByqGSM49AgEGCCqGSM49AwEHBG0wawIBAQQg"];
    struct Nobody;
    #[async_trait]
    impl Carrier for Nobody {
        fn place(&self, _target: &Target) -> String {
            "a platform".into()
        }
        fn platform(&self) -> String {
            "a platform".into()
        }
        async fn call(&self, _call: &Call<'_>) -> Result<Reply, EdgeError> {
            Err(EdgeError::Malformed { url: String::new(), why: String::new() })
        }
    }
    let platform = ProtocolPlatform::over(Nobody, None, None);
    SENT.iter().for_each(|secret| platform.sent().remember(secret));
    let target = Target::path(&["endpoints"]);
    for status in [200, 403, 422] {
        let body = serde_json::from_slice(octets).map_err(|error| error.to_string());
        let reply = Reply { status, etag: None, next: None, retry_after: None, body, length: 0 };
        let Ok(reply) = clean(Ok(reply), &platform.sent()) else { continue };
        let read = [
            platform.read::<EndpointPage>("it", &target, &reply).map(|page| format!("{:?}", page.endpoints)),
            platform.read::<BindingPage>("it", &target, &reply).map(|page| page.bindings.len().to_string()),
            platform.read::<CertificatePage>("it", &target, &reply).map(|page| format!("{:?}", page.certificates)),
            platform.read::<TokenScope>("it", &target, &reply).map(|scope| format!("{:?}", scope.beyond_need())),
            platform.read_binding("it", &target, &reply).map(|bound| format!("{bound:?}")),
        ];
        for text in read.into_iter().map(|read| read.unwrap_or_else(|error| format!("{error} {:?}", error.finding()))) {
            assert!(SENT.iter().all(|secret| !text.contains(secret)), "{text}");
            assert!(!text.chars().any(char::is_control), "{text:?}");
        }
    }
}

/// A text of a platform as it is quoted in a message.
fn quoted(text: &str) -> String {
    format!("{:?}", text.chars().take(80).collect::<String>())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_id_is_one_segment_of_the_path_whatever_is_in_it() {
        let base: Url = "https://platform.example/adapter/".parse().unwrap();
        let table: [(&[&str], &str); 4] = [
            (&["endpoints"], "/adapter/v1/endpoints"),
            (
                &["endpoints", "gw 7/../8", "bindings", "*.stations.larkfield.example"],
                "/adapter/v1/endpoints/gw%207%2F..%2F8/bindings/*.stations.larkfield.example",
            ),
            (&["sites", "north?x#y", "certificates"], "/adapter/v1/sites/north%3Fx%23y/certificates"),
            (&["endpoints", "ü%41"], "/adapter/v1/endpoints/%C3%BC%2541"),
        ];
        for (segments, expected) in table {
            let Target::Path(segments) = Target::path(segments) else { unreachable!("a path is a path") };
            assert_eq!(under(&base, &segments).path(), expected);
        }
    }

    #[test]
    fn only_a_busy_platform_is_asked_again_and_only_if_it_is_soon() {
        let table = [
            (429, None, Some(1)),
            (503, Some(0), Some(0)),
            (503, Some(30), Some(30)),
            (503, Some(31), None),
            (500, Some(1), None),
            (200, Some(1), None),
        ];
        for (status, after, expected) in table {
            let retry_after = after.map(Duration::from_secs);
            let reply = Reply { status, etag: None, next: None, retry_after, body: Ok(Value::Null), length: 0 };
            assert_eq!(reply.busy(), expected.map(Duration::from_secs), "{status} {after:?}");
        }
    }
}

//! The endpoint protocol over HTTPS.

use std::time::Duration;

use async_trait::async_trait;
use jiff::Timestamp;
use pindrel_core::judging::facts::Unreachable;
use pindrel_core::values::is_link_local_or_metadata;
use pindrel_http::{Client, HttpError, header};
use secrecy::{ExposeSecret as _, SecretString};
use url::Url;

use super::{Call, Carrier, Condition, Method, ProtocolPlatform, Reply, Target, under};
use crate::EdgeError;

impl ProtocolPlatform {
    /// Makes a driver for the platform at `url`; `roots` in PEM are trusted besides
    /// the system's. It makes at most `calls_per_second` calls a second, where that is given.
    ///
    /// # Errors
    /// [`EdgeError::Unreachable`] when the roots cannot be used.
    pub fn over_https(
        url: Url,
        token: SecretString,
        roots: Option<&[u8]>,
        calls_per_second: Option<u32>,
    ) -> Result<ProtocolPlatform, EdgeError> {
        let client = Client::new(url, roots, is_link_local_or_metadata).map_err(|error| unreachable(&error))?;
        let signed_in = token.clone();
        Ok(ProtocolPlatform::over(Https { client, token }, Some(&signed_in), calls_per_second))
    }
}

struct Https {
    client: Client,
    token: SecretString,
}

impl Https {
    /// Returns where a call goes: to the platform's own origin, also for a page that it names.
    fn url(&self, target: &Target) -> Result<Url, HttpError> {
        let base = self.client.base();
        let named = match target {
            Target::Path(segments) => under(base, segments).to_string(),
            Target::Page(link) => link.clone(),
        };
        self.client.permits(&[base.origin()], &named)
    }
}

#[async_trait]
impl Carrier for Https {
    fn place(&self, target: &Target) -> String {
        self.url(target).map_or_else(|_| self.platform(), |url| url.to_string())
    }

    fn platform(&self) -> String {
        self.client.base().to_string()
    }

    async fn call(&self, call: &Call<'_>) -> Result<Reply, EdgeError> {
        let url = self.url(call.target).map_err(|error| unreachable(&error))?;
        let method = match call.method {
            Method::Get => pindrel_http::Method::GET,
            Method::Put => pindrel_http::Method::PUT,
            Method::Delete => pindrel_http::Method::DELETE,
        };
        let body = call.body.as_ref().map(ToString::to_string);
        let build = |request: pindrel_http::Request| {
            let mut request = request.bearer_auth(self.token.expose_secret());
            if let Some(body) = &body {
                request = request.header(header::CONTENT_TYPE, "application/json").body(body.clone());
            }
            match &call.condition {
                Some(Condition::Absent) => request.header(header::IF_NONE_MATCH, "*"),
                Some(Condition::Unchanged(etag)) => request.header(header::IF_MATCH, etag),
                None => request,
            }
        };
        let response = self.client.send(method, url, build).await.map_err(|error| unreachable(&error))?;
        let now = Timestamp::now();
        let retry_after = response
            .retry_at(now)
            .map(|at| Duration::from_secs(u64::try_from(at.as_second() - now.as_second()).unwrap_or(0)));
        Ok(Reply {
            status: response.status.as_u16(),
            etag: response.header(header::ETAG).map(str::to_owned),
            next: response.next_page().map(str::to_owned),
            retry_after,
            body: serde_json::from_slice(&response.body).map_err(|error| error.to_string()),
            length: response.body.len(),
        })
    }
}

fn unreachable(error: &HttpError) -> EdgeError {
    let (url, why) = match error {
        HttpError::NotConnected { url, kind, why } | HttpError::Interrupted { url, kind, why } => {
            (url, Unreachable::from_io(*kind, why))
        }
        HttpError::TooLong { url, .. } => (url, Unreachable::Malformed { detail: error.to_string() }),
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

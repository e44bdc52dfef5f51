//! Changing a zone through the HTTP API of PowerDNS Authoritative Server, which knows ALIAS records.
//!
//! The API replaces whole record sets, all of a request in one step, and knows no conditions: the sets are read just
//! before they are replaced, and what somebody else writes in that moment is lost.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::fmt;

use async_trait::async_trait;
use pindrel_core::names::name::DnsName;
use pindrel_core::text::sent_secrets::SentSecrets;
use pindrel_core::zones::rights::{Beyond, RightsView};
use pindrel_core::zones::zone_data::{NameKey, Place, TypeCode, ZoneBuilder, ZoneData, rdata};
use pindrel_core::zones::zone_file::read_data;
use pindrel_http::{Client, HttpError, Method, Response};
use secrecy::{ExposeSecret as _, SecretString};
use serde::de::{DeserializeSeed, Error as _, IgnoredAny, MapAccess, SeqAccess, Visitor};
use serde::{Deserialize, Deserializer, Serialize};
use url::Url;

use crate::driver::{TriedRights, ZoneDriver};
use crate::sets::SetChange;
use crate::transfer::open_transfers;
use crate::zone_error::ZoneError;

/// The longest zone that is read, in bytes of the API's JSON.
const MAX_ZONE: usize = 256 << 20;
/// How the API names the server that it belongs to.
const SERVER: &str = "localhost";

/// The driver for the HTTP API of PowerDNS.
pub struct PowerDns {
    zone: DnsName,
    client: Client,
    key: SecretString,
    /// What the server must not be shown to have said.
    sent: SentSecrets,
}

#[derive(Serialize, Deserialize)]
struct SetMessage {
    name: String,
    #[serde(rename = "type")]
    record_type: String,
    #[serde(default)]
    ttl: u32,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    changetype: Option<String>,
    #[serde(default)]
    records: Vec<RecordMessage>,
}

#[derive(Serialize, Deserialize)]
struct RecordMessage {
    content: String,
    #[serde(default)]
    disabled: bool,
}

#[derive(Serialize)]
struct Patch {
    rrsets: Vec<SetMessage>,
}

#[derive(Deserialize)]
struct ApiError {
    error: String,
}

impl PowerDns {
    /// Makes a driver for `zone` at the API at `url`, with its key; `roots` in PEM are trusted besides the system's.
    ///
    /// # Errors
    /// [`ZoneError::Unreachable`]: the roots cannot be used.
    pub fn new(zone: DnsName, url: Url, key: SecretString, roots: Option<&[u8]>) -> Result<PowerDns, ZoneError> {
        let client = Client::new(url, roots, |_| false).map_err(|error| unreachable(&error))?;
        let sent = SentSecrets::from_iter([key.expose_secret()]);
        Ok(PowerDns { zone, client: client.with_longest_body(MAX_ZONE), key, sent })
    }

    fn url(&self) -> Result<Url, ZoneError> {
        let mut url = self.client.base().clone();
        if let Ok(mut path) = url.path_segments_mut() {
            path.pop_if_empty().extend(["api", "v1", "servers", SERVER, "zones", &format!("{}.", self.zone)]);
        }
        Ok(url)
    }

    async fn send<T: Serialize + Sync>(
        &self,
        method: Method,
        url: Url,
        body: Option<&T>,
    ) -> Result<Response, ZoneError> {
        let response = self
            .client
            .send(method, url, |request| {
                let request = request.header("X-API-Key", self.key.expose_secret());
                match body {
                    Some(body) => request.json(body),
                    None => request,
                }
            })
            .await
            .map_err(|error| unreachable(&error))?;
        let status = response.status.as_u16();
        if response.status.is_success() {
            return Ok(response);
        }
        let said = serde_json::from_slice::<ApiError>(&response.body).map(|error| error.error);
        let said = said.unwrap_or_else(|_| String::from_utf8_lossy(&response.body).chars().take(1_000).collect());
        let said = self.sent.shown(&said);
        let base = self.client.base();
        Err(match status {
            401 | 403 => ZoneError::Credential {
                says: format!("{base} does not take this API key (status {status})"),
                remedy: "Put the server's api-key where token in the manifest says".into(),
            },
            404 => ZoneError::Refused {
                says: format!("{base} has no zone {}", self.zone),
                remedy: "Create the zone on that server, or correct url in the manifest".into(),
            },
            422 => ZoneError::Refused {
                says: format!("{base} refuses to change {}: {said}", self.zone),
                remedy: "Correct what it says".into(),
            },
            _ => ZoneError::Unreachable {
                says: format!("{base} returned status {status}: {said}"),
                remedy: "Check the server's log".into(),
            },
        })
    }

    /// Reads the sets of the zone, or of one name, into `zone`.
    async fn read_sets(&self, of: Option<&DnsName>, zone: &mut ZoneBuilder) -> Result<(), ZoneError> {
        let mut url = self.url()?;
        if let Some(name) = of {
            url.query_pairs_mut().append_pair("rrset_name", &format!("{name}."));
        }
        let response = self.send(Method::GET, url, None::<&Patch>).await?;
        read_reply(&response.body, &self.zone, of, zone).map_err(|error| self.malformed(error))
    }

    fn malformed(&self, why: impl std::fmt::Display) -> ZoneError {
        ZoneError::Unreachable {
            says: format!("{} returned what cannot be read: {}", self.client.base(), self.sent.shown(&why.to_string())),
            remedy: "Check that url in the manifest is that of the server's API".into(),
        }
    }
}

/// Reads what the server says of a zone, or of one name of it: each set goes into `builder` as soon as it is read, so
/// that no more than the reply and the zone are in memory.
pub(crate) fn read_reply(
    reply: &[u8],
    zone: &DnsName,
    of: Option<&DnsName>,
    builder: &mut ZoneBuilder,
) -> serde_json::Result<()> {
    let sets = Sets { apex: NameKey::from(zone), of: of.map(NameKey::from), builder };
    let mut reader = serde_json::Deserializer::from_slice(reply);
    reader.deserialize_map(Zone(sets))?;
    reader.end()
}

/// The zone as the server describes it; of that, its sets.
struct Zone<'b>(Sets<'b>);

impl<'de> Visitor<'de> for Zone<'_> {
    type Value = ();

    fn expecting(&self, text: &mut fmt::Formatter<'_>) -> fmt::Result {
        text.write_str("a zone")
    }

    fn visit_map<A: MapAccess<'de>>(mut self, mut map: A) -> Result<(), A::Error> {
        while let Some(key) = map.next_key::<Cow<'_, str>>()? {
            match &*key {
                "rrsets" => map.next_value_seed(&mut self.0)?,
                _ => map.next_value::<IgnoredAny>().map(drop)?,
            }
        }
        Ok(())
    }
}

/// The sets of a zone.
struct Sets<'b> {
    apex: NameKey,
    /// The name that was asked for: an older server gives the whole zone.
    of: Option<NameKey>,
    builder: &'b mut ZoneBuilder,
}

impl Sets<'_> {
    fn take(&mut self, set: &SetMessage) -> Result<(), String> {
        let owner = NameKey::parse(set.name.as_bytes(), &NameKey::root()).map_err(|error| error.to_string())?;
        if !owner.is_within(&self.apex) {
            return Err(format!("{owner} does not lie in {}", self.apex));
        }
        if self.of.as_ref().is_some_and(|of| *of != owner) {
            return Ok(());
        }
        // What the server knows and no zone holds, such as its LUA records, is none of ours.
        let Ok(code) = set.record_type.parse::<TypeCode>() else { return Ok(()) };
        for record in set.records.iter().filter(|record| !record.disabled) {
            let wire = read_data(code, &record.content).map_err(|error| error.says)?;
            let added = self.builder.add(&owner, code, set.ttl, &wire, Place::default());
            added.map_err(|error| error.to_string())?;
        }
        Ok(())
    }
}

impl<'de> DeserializeSeed<'de> for &mut Sets<'_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, reader: D) -> Result<(), D::Error> {
        reader.deserialize_seq(self)
    }
}

impl<'de> Visitor<'de> for &mut Sets<'_> {
    type Value = ();

    fn expecting(&self, text: &mut fmt::Formatter<'_>) -> fmt::Result {
        text.write_str("a list of record sets")
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<(), A::Error> {
        while let Some(set) = list.next_element::<SetMessage>()? {
            self.take(&set).map_err(A::Error::custom)?;
        }
        Ok(())
    }
}

#[async_trait]
impl ZoneDriver for PowerDns {
    fn zone(&self) -> &DnsName {
        &self.zone
    }

    async fn read(&self) -> Result<ZoneData, ZoneError> {
        let mut zone = ZoneBuilder::default();
        self.read_sets(None, &mut zone).await?;
        Ok(zone.finish(Some(NameKey::from(&self.zone))))
    }

    async fn read_names(&self, names: &[DnsName]) -> Result<ZoneData, ZoneError> {
        let mut zone = ZoneBuilder::default();
        for name in names {
            self.read_sets(Some(name), &mut zone).await?;
        }
        Ok(zone.finish(Some(NameKey::from(&self.zone))))
    }

    /// The key is that of the whole server: it knows none for one zone.
    async fn rights(&self, tried: &TriedRights<'_>) -> Result<RightsView, ZoneError> {
        self.read_names(std::slice::from_ref(&self.zone)).await?;
        let mut url = self.url()?;
        if let Ok(mut path) = url.path_segments_mut() {
            path.pop();
        }
        let response = self.send(Method::GET, url, None::<&Patch>).await?;
        let zones: Vec<IgnoredAny> = serde_json::from_slice(&response.body).unwrap_or_default();
        let mut beyond = open_transfers(&self.zone, tried.servers).await;
        beyond.insert(Beyond::Server(zones.len()));
        Ok(RightsView { beyond, ..RightsView::default() })
    }

    async fn change_sets(&self, changes: &[SetChange]) -> Result<(), ZoneError> {
        if changes.is_empty() {
            return Ok(());
        }
        let mut owners: BTreeMap<&NameKey, Option<DnsName>> = BTreeMap::new();
        for change in changes {
            owners.entry(&change.owner).or_insert_with(|| change.owner.to_dns_name());
        }
        // Beyond a few names the whole zone is one request.
        let now = match owners.values().cloned().collect::<Option<Vec<DnsName>>>() {
            Some(names) if names.len() <= 8 => self.read_names(&names).await?,
            _ => self.read().await?,
        };
        for change in changes {
            let mut found: Vec<&[u8]> =
                now.at(&change.owner).filter(|entry| entry.code == change.code).map(|entry| entry.data).collect();
            let mut expected: Vec<&[u8]> = change.expected.iter().map(Vec::as_slice).collect();
            found.sort_unstable();
            expected.sort_unstable();
            if found != expected {
                return Err(ZoneError::Changed {
                    says: format!("the records of {} were changed by someone else in the meantime", change.owner),
                    remedy: "Run settle: it looks again before it changes anything".into(),
                });
            }
        }
        let rrsets = changes.iter().map(|change| SetMessage {
            name: change.owner.to_string(),
            record_type: change.code.to_string(),
            ttl: change.ttl,
            changetype: Some(if change.wanted.is_empty() { "DELETE" } else { "REPLACE" }.into()),
            records: change
                .wanted
                .iter()
                .map(|data| RecordMessage { content: rdata::presentation(change.code, data), disabled: false })
                .collect(),
        });
        let patch = Patch { rrsets: rrsets.collect() };
        self.send(Method::PATCH, self.url()?, Some(&patch)).await.map(|_| ())
    }
}

fn unreachable(error: &HttpError) -> ZoneError {
    ZoneError::Unreachable {
        says: error.to_string(),
        remedy: "Start that server, or correct url in the manifest".into(),
    }
}

//! What the manifest depends on, looked at before anything is done: delegations, credentials, authorities, CAA records,
//! platforms. Nothing is changed.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::net::SocketAddr;
use std::sync::Arc;

use futures::{StreamExt as _, stream};
use pindrel_core::desired::{self, AuthorityId, CertificateId, EndpointId, ZoneId};
use pindrel_core::judging::facts::EndpointView;
use pindrel_core::judging::findings::{Code, EndpointCause, Finding};
use pindrel_core::judging::pin::Pin;
use pindrel_core::judging::pins::{Known, PinState, foresee_binding, judge_endpoint};
use pindrel_core::judging::rights::judge;
use pindrel_core::names::name::DnsName;
use pindrel_core::zones::records::{RecordSet, RecordType};
use pindrel_core::zones::rights::Right;
use pindrel_dns::TriedRights;
use serde::Serialize;

use crate::acme::accounts::no_external_key;
use crate::acme::challenges::LOOKUPS_AT_ONCE;
use crate::drivers::Authority;
use crate::failure::EngineError;
use crate::requests::status::Reports;

/// The most rights of one credential that are tried.
const MOST_RIGHTS: usize = 200;
/// The most servers of one zone that are asked for a transfer.
const MOST_SERVERS: usize = 16;
/// How many zones, authorities and endpoints are looked at at once.
const LOOKS_AT_ONCE: usize = 8;

/// One thing that the manifest depends on.
#[derive(Debug, Clone, Serialize)]
pub struct OnlineReport {
    /// What it is.
    pub kind: OnlineKind,
    /// Its name in the manifest.
    pub name: String,
    /// What was seen, in a few words.
    pub detail: String,
    /// What stops the work.
    pub findings: Vec<Finding>,
    /// What works, and could be safer.
    pub advice: Vec<Finding>,
    /// Whether something of it could not be looked at, because of something else that is told.
    #[serde(skip)]
    pub is_partial: bool,
}

/// What is looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum OnlineKind {
    /// A zone: its delegation, its servers, and the credential for it.
    Zone,
    /// An authority: its directory.
    Authority,
    /// A certificate: where its challenge records belong, and the CAA records of its names.
    Certificate,
    /// An endpoint, as its platform lists it.
    Endpoint,
}

/// What is known of the bindings at an endpoint before they are made.
#[derive(Default)]
struct Foreseen {
    /// Why some of them cannot be made.
    findings: Vec<Finding>,
    /// How many certificates its platform is to issue.
    issued: usize,
    /// The zones of their names, where it will ask for records.
    zones: BTreeSet<ZoneId>,
}

/// An authority, where it was reached.
type Reached = Option<Arc<dyn Authority>>;

impl OnlineReport {
    fn new(kind: OnlineKind, name: String, detail: String) -> OnlineReport {
        OnlineReport { kind, name, detail, findings: Vec::new(), advice: Vec::new(), is_partial: false }
    }
}

impl Reports {
    /// Looks at all that the manifest depends on.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read or written.
    pub async fn online(&self) -> Result<Vec<OnlineReport>, EngineError> {
        let endpoints = || self.context.desired.endpoint_ids();
        for hostname in self.context.desired.hostname_ids() {
            self.surveyor.load_once(hostname).await?;
        }
        // What is down takes the longest: all are asked side by side, each once.
        let authorities = (0u32..).map(AuthorityId).take(self.context.desired.authorities.len());
        let authorities = authorities.map(|id| self.look_at_authority(id));
        let authorities = stream::iter(authorities).buffered(LOOKS_AT_ONCE).collect::<Vec<_>>();
        let looked =
            futures::join!(self.endpoints.look_at(endpoints().collect()), self.zone_requests.reports(), authorities);
        let (listed, zones, authorities) = looked;
        let zones = listed.and(zones)?;
        let (authorities, reached): (Vec<OnlineReport>, Vec<Reached>) = authorities.into_iter().unzip();
        let is_down = |finding: &Finding| finding.code() == Code::ServerUnreachable;
        let down: BTreeSet<ZoneId> = (0u32..)
            .map(ZoneId)
            .zip(&zones)
            .filter(|(_, zone)| zone.findings.iter().any(is_down))
            .map(|(id, _)| id)
            .collect();
        let certificates = self.look_at_certificates(&reached, &down).await;
        let mut needed: HashMap<ZoneId, BTreeSet<Right>> = HashMap::new();
        for (zone, right) in
            certificates.iter().flat_map(|(_, rights)| rights.iter().cloned()).chain(self.alias_rights())
        {
            needed.entry(zone).or_default().insert(right);
        }
        let needed = &needed;
        let ids = (0u32..).map(ZoneId).zip(zones);
        let looks = ids.map(|(id, report)| async move {
            let none = BTreeSet::new();
            let (mut findings, mut advice, tried) = self.try_credential(id, needed.get(&id).unwrap_or(&none)).await;
            // A server that does not answer is told once.
            findings.retain(|finding| !(is_down(finding) && report.findings.iter().any(is_down)));
            let detail = format!("{}{tried}", report.detail);
            // What is odd in a zone that works stops nothing, and the marker is settle's to add.
            let of_zone = report.findings.into_iter().filter(|finding| finding.code() != Code::ZoneUnmarked);
            if matches!(report.state, PinState::Held | PinState::Loose) {
                advice.extend(of_zone);
            } else {
                findings.splice(0..0, of_zone);
            }
            OnlineReport { findings, advice, ..OnlineReport::new(OnlineKind::Zone, report.name.to_string(), detail) }
        });
        let mut reports: Vec<OnlineReport> = stream::iter(looks).buffered(LOOKS_AT_ONCE).collect().await;
        reports.extend(authorities);
        reports.extend(certificates.into_iter().map(|(report, _)| report));
        let foreseen = self.foresee_bindings();
        let endpoints = endpoints().map(|id| self.look_at_platform(id, foreseen.get(&id)));
        reports.extend(stream::iter(endpoints).buffered(LOOKS_AT_ONCE).collect::<Vec<_>>().await);
        Ok(reports)
    }

    /// The alias records that the manifest's hostnames need.
    fn alias_rights(&self) -> Vec<(ZoneId, Right)> {
        let knowledge = self.context.known();
        let of = |id| {
            let wanted = self.context.desired.hostname(id);
            let sets = Known::about(&self.context.desired, &knowledge, id).manifest_alias();
            let types: Vec<RecordType> = match sets {
                Some(sets) => sets.iter().map(RecordSet::record_type).collect(),
                None if wanted.is_apex(&self.context.desired) => vec![RecordType::A],
                None => vec![RecordType::Cname],
            };
            let owner = wanted.hostname.owner();
            types.into_iter().map(move |record_type| (wanted.zone, Right { owner: owner.clone(), record_type }))
        };
        self.context.desired.hostname_ids().flat_map(of).collect()
    }

    /// What a zone's credential lacks, and what it may do beyond the need.
    async fn try_credential(&self, id: ZoneId, needed: &BTreeSet<Right>) -> (Vec<Finding>, Vec<Finding>, String) {
        let zone = self.context.desired.zone(id);
        if zone.driver == desired::ZoneDriver::None {
            return (Vec::new(), Vec::new(), ", edited by somebody else".into());
        }
        let driver = match self.zones.driver(id, None).await {
            Ok(driver) => driver,
            Err(finding) => return (vec![finding], Vec::new(), String::new()),
        };
        let tried: Vec<Right> = needed.iter().take(MOST_RIGHTS).cloned().collect();
        let mut servers: Vec<SocketAddr> = self.zones.servers(id);
        servers.truncate(MOST_SERVERS);
        let others = self.other_zones(id);
        let found = driver.rights(&TriedRights { needed: &tried, others: &others, servers: &servers }).await;
        match found {
            Ok(view) => {
                let (findings, advice) = judge(zone, &view);
                let detail = match (view.tried, needed.len()) {
                    (0, _) => String::new(),
                    (tried, all) if tried < all => format!(", {tried} of {all} rights tried"),
                    (1, _) => ", the right that it needs tried".into(),
                    (tried, _) => format!(", all {tried} rights that it needs tried"),
                };
                (findings, advice, detail)
            }
            Err(error) => (vec![error.finding(Pin::Zone)], Vec::new(), String::new()),
        }
    }

    /// The zones that the credential of one zone should not change: the one above, and those of the manifest that
    /// have a key of their own.
    fn other_zones(&self, id: ZoneId) -> Vec<DnsName> {
        let own = self.context.desired.zone(id);
        let desired::ZoneDriver::Rfc2136(key) = &own.driver else { return Vec::new() };
        let has_another = |zone: &&desired::Zone| matches!(&zone.driver, desired::ZoneDriver::Rfc2136(other) if other.name != key.name);
        let others = self.context.desired.zones.iter().filter(has_another).map(|zone| zone.name.clone());
        let above =
            own.name.parent().filter(|above| !self.context.desired.zones.iter().any(|zone| zone.name == *above));
        others.take(MOST_SERVERS).chain(above).collect()
    }

    async fn look_at_authority(&self, id: AuthorityId) -> (OnlineReport, Reached) {
        let wanted = self.context.desired.authority(id);
        let mut report = OnlineReport::new(OnlineKind::Authority, wanted.name.clone(), String::new());
        let reached = match self.issuing.accounts.authority(id).await {
            Err(finding) => {
                report.findings.push(finding);
                None
            }
            Ok(authority) => {
                let meta = &authority.directory().meta;
                report.detail = "its directory was read".into();
                if meta.external_account_required && wanted.external_account_key.is_none() {
                    report.findings.extend(self.lacks_external_account(id).await);
                }
                Some(authority)
            }
        };
        (report, reached)
    }

    /// Says what is missing at an authority that binds accounts to others, unless there is an account already.
    async fn lacks_external_account(&self, id: AuthorityId) -> Option<Finding> {
        let wanted = self.context.desired.authority(id);
        let row = self.context.state.account(wanted.directory.as_str()).await.ok().flatten();
        row.is_none().then(|| no_external_key(wanted))
    }

    /// Looks at each certificate that an authority issues; with the rights that its challenge records need.
    async fn look_at_certificates(
        &self,
        reached: &[Reached],
        down: &BTreeSet<ZoneId>,
    ) -> Vec<(OnlineReport, Vec<(ZoneId, Right)>)> {
        let all = (0u32..).map(CertificateId).take(self.context.desired.certificates.len());
        let issued = all.filter_map(|id| Some((id, self.context.desired.certificate(id).authority?)));
        let looks = issued.map(|(id, authority)| {
            let reached = reached.get(authority.0 as usize).and_then(Option::as_deref);
            self.look_at_certificate(id, authority, reached, down)
        });
        stream::iter(looks).buffered(LOOKUPS_AT_ONCE).collect().await
    }

    async fn look_at_certificate(
        &self,
        id: CertificateId,
        authority: AuthorityId,
        reached: Option<&dyn Authority>,
        down: &BTreeSet<ZoneId>,
    ) -> (OnlineReport, Vec<(ZoneId, Right)>) {
        let wanted = self.context.desired.certificate(id);
        let mut findings = self.deliveries.obstacles(id);
        let mut places = BTreeMap::new();
        // An authority that cannot be reached, and a zone whose servers do not answer, are told by themselves.
        let is_in_reach =
            !wanted.names.iter().filter_map(|name| self.context.desired.zone_of(name)).any(|zone| down.contains(&zone));
        match self.issuing.challenges.targets(id).await {
            Err(_) if !is_in_reach => {}
            Err(finding) => findings.push(finding),
            Ok(targets) => places.extend(targets.into_iter().map(|(_, target)| (target.owner, target.zone))),
        }
        let is_partial = reached.is_none() || !is_in_reach;
        let mut advice = Vec::new();
        if let Some(reached) = reached.filter(|_| is_in_reach) {
            let directory = reached.directory();
            let url = self.context.desired.authority(authority).directory.as_str();
            let account = self.context.state.account(url).await.ok().flatten().and_then(|row| row.url);
            findings.extend(self.issuing.preflight.check_profile(id, authority, directory).err());
            match self.issuing.preflight.check_caa(id, authority, directory, account.as_deref()).await {
                Ok(doubts) => advice.extend(doubts),
                Err(forbidden) => findings.push(forbidden),
            }
        }
        let detail = match places.len() {
            1 => "1 challenge record".to_owned(),
            n => format!("{n} challenge records"),
        };
        let rights = places.into_iter().map(|(owner, zone)| (zone, Right { owner, record_type: RecordType::Txt }));
        let report = OnlineReport::new(OnlineKind::Certificate, wanted.name.clone(), detail);
        let report = OnlineReport { findings, advice, is_partial, ..report };
        (report, rights.collect())
    }

    /// What is known of the bindings of hostnames before they are made, by endpoint.
    fn foresee_bindings(&self) -> HashMap<EndpointId, Foreseen> {
        let (desired, knowledge) = (&self.context.desired, self.context.known());
        let mut foreseen: HashMap<EndpointId, Foreseen> = HashMap::new();
        for id in desired.hostname_ids() {
            for known in Known::about(desired, &knowledge, id).everywhere() {
                let of_endpoint = foreseen.entry(known.at).or_default();
                of_endpoint.findings.extend(foresee_binding(known));
                if known.wanted.is_issued_by_platform(desired) {
                    of_endpoint.issued += 1;
                    of_endpoint.zones.insert(known.wanted.zone);
                }
            }
        }
        foreseen
    }

    async fn look_at_platform(&self, id: EndpointId, foreseen: Option<&Foreseen>) -> OnlineReport {
        let endpoint = self.context.desired.endpoint(id);
        let view = self.context.known().endpoints.get(&id).map(|fact| fact.value.clone());
        let detail = match &view {
            Some(EndpointView::Listed(_)) if endpoint.is_static() => "configured by somebody else",
            Some(EndpointView::Listed(_)) if endpoint.is_on_this_machine() => "reached",
            Some(EndpointView::Listed(_)) => "its platform lists it",
            _ => "",
        };
        let issues = foreseen.filter(|foreseen| foreseen.issued > 0).map(|foreseen| {
            let zones = foreseen.zones.iter().map(|zone| self.context.desired.zone(*zone).name.as_str());
            let zones = zones.collect::<Vec<_>>().join(", ");
            let (certificates, them) = match foreseen.issued {
                1 => ("1 certificate".to_owned(), "it"),
                n => (format!("{n} certificates"), "them"),
            };
            format!(", issues {certificates} and asks for records in {zones} for {them}")
        });
        let listed = view.as_ref().and_then(EndpointView::info).map(|info| info.kind);
        let mut findings: Vec<Finding> = view.and_then(|view| judge_endpoint(endpoint, &view)).into_iter().collect();
        let mut advice = Vec::new();
        if let Some(platform) = listed.filter(|listed| *listed != endpoint.kind) {
            let cause = EndpointCause::KindDiffers { manifest: endpoint.kind, platform };
            advice.push(Finding::endpoint(&endpoint.name, cause));
        }
        if endpoint.is_on_this_machine()
            && let Ok(platform) = self.context.drivers.platform(endpoint)
        {
            let unready = platform.unready().await.into_iter().map(EndpointCause::Unready);
            findings.extend(unready.map(|cause| Finding::endpoint(&endpoint.name, cause)));
        }
        findings.extend(foreseen.into_iter().flat_map(|foreseen| foreseen.findings.iter().cloned()));
        if findings.is_empty()
            && let Ok(platform) = self.context.drivers.platform(endpoint)
            && let Ok(Some(scope)) = platform.token_scope().await
            && let Some(wide) = scope.beyond_need()
        {
            advice.push(Finding::endpoint(&endpoint.name, EndpointCause::TokenTooWide { may: wide }));
        }
        OnlineReport {
            findings,
            advice,
            ..OnlineReport::new(
                OnlineKind::Endpoint,
                endpoint.name.clone(),
                format!("{detail}{}", issues.unwrap_or_default()),
            )
        }
    }
}

//! What the endpoints of the manifest offer, and what is at them.

use std::collections::{HashMap, HashSet};
use std::net::SocketAddr;
use std::sync::Arc;

use futures::future::join_all;
use jiff::Timestamp;
use pindrel_core::desired::{Endpoint, EndpointId};
use pindrel_core::endpoints::endpoint::{CustomHostnames, Deployment, EndpointInfo, EndpointKind, Quotas};
use pindrel_core::judging::facts::{EndpointView, SampleOutcome};
use pindrel_core::judging::findings::Finding;
use pindrel_core::names::name::Hostname;
use pindrel_core::values::Fingerprint;
use pindrel_edge::{BoundHostname, EdgeError, ServerState, StoredCertificate, TokenScope, WrittenFile};
use serde::Serialize;

use crate::context::Context;
use crate::failure::EngineError;
use crate::observe::alias::AliasObserver;
use crate::observe::binding::BindingObserver;
use crate::observe::endpoint::EndpointObserver;

/// The most bindings of an endpoint whose aliases are looked up.
const MOST_LOOKED_UP: usize = 100;

/// One endpoint of the manifest.
#[derive(Debug, Clone, Serialize)]
pub struct EndpointReport {
    /// Its name in the manifest.
    pub name: String,
    /// The platform's id of it.
    pub id: String,
    /// What it is, as its platform says where that is known.
    pub kind: EndpointKind,
    /// What the manifest says that it is, where its platform says otherwise.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub kind_in_manifest: Option<EndpointKind>,
    /// Where it runs.
    pub site: Option<String>,
    /// What aliases point at.
    pub default_name: Option<String>,
    /// Whether it takes custom hostnames, and if not, why.
    pub custom_hostnames: Option<CustomHostnames>,
    /// What is bound there.
    pub bindings: Vec<BindingReport>,
    /// What is in the store that it takes certificates from.
    pub certificates: Vec<CopyReport>,
    /// What the platform bounds.
    pub quotas: Quotas,
    /// What it can do, and how it differs, in words.
    pub offers: Vec<&'static str>,
    /// What the token that is used there may do, where the platform tells.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub token: Option<TokenScope>,
    /// The status with which it answers under its default name as well, beside what is bound there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub default_name_status: Option<u16>,
    /// Why some of it is missing.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub trouble: Option<String>,
}

/// A binding at an endpoint.
#[derive(Debug, Clone, Serialize)]
pub struct BindingReport {
    /// The hostname.
    pub hostname: Hostname,
    /// The certificate that it is served with; none where the platform issues it.
    pub certificate: Option<Fingerprint>,
    /// Until when that one is valid, where the platform issues it and says so.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub not_after: Option<Timestamp>,
    /// How far it has got.
    #[serde(flatten)]
    pub deployment: Deployment,
    /// Whether the manifest wants it there.
    pub wanted: bool,
    /// For one that the manifest does not want: whether an alias leads there, where that can be seen.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub led: Option<bool>,
}

/// A certificate in a store.
#[derive(Debug, Clone, Serialize)]
pub struct CopyReport {
    /// What the platform says of it.
    #[serde(flatten)]
    pub stored: StoredCertificate,
    /// Its name in the manifest or the state, where it is one of Pindrel's.
    pub name: Option<String>,
}

/// What a person asks about endpoints.
pub struct EndpointRequests {
    pub(crate) context: Arc<Context>,
    pub(crate) aliases: Arc<AliasObserver>,
    pub(crate) bindings: Arc<BindingObserver>,
    pub(crate) endpoints: Arc<EndpointObserver>,
}

impl EndpointRequests {
    /// Asks the platforms of all endpoints what is there.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read.
    pub async fn reports(&self) -> Result<Vec<EndpointReport>, EngineError> {
        let ids = || self.context.desired.endpoint_ids();
        self.endpoints.look_at(ids().collect()).await?;
        let own = self.own_certificates().await?;
        Ok(join_all(ids().map(|id| self.endpoint_report(id, &own))).await)
    }

    /// Asks the platform of one endpoint what is there.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read.
    pub async fn report(&self, id: EndpointId) -> Result<EndpointReport, EngineError> {
        self.endpoints.look_at([id].into()).await?;
        let own = self.own_certificates().await?;
        Ok(self.endpoint_report(id, &own).await)
    }

    /// The names of the certificates that Pindrel has, by their fingerprints.
    async fn own_certificates(&self) -> Result<HashMap<Fingerprint, String>, EngineError> {
        let rows = self.context.state.certificates().await?;
        Ok(rows.into_iter().map(|row| (row.held.sha256, row.name)).collect())
    }

    /// Returns what the server of an endpoint on this machine must have in its own configuration, if it is
    /// told the rest at run time.
    ///
    /// # Errors
    /// A [`Finding`] when it has none.
    pub fn configuration(&self, id: EndpointId) -> Result<Option<String>, Finding> {
        Ok(self.context.drivers.platform(self.context.desired.endpoint(id))?.configuration())
    }

    /// Returns what was written for the server of an endpoint on this machine, and how it sees the servers
    /// behind it.
    ///
    /// # Errors
    /// A [`Finding`] when it has none, or it cannot be read.
    pub async fn files(&self, id: EndpointId) -> Result<(Vec<WrittenFile>, Vec<ServerState>), Finding> {
        let platform = self.context.drivers.platform(self.context.desired.endpoint(id))?;
        let written = platform.written().await.map_err(|error| error.finding())?;
        Ok((written, platform.servers().await.map_err(|error| error.finding())?))
    }

    async fn endpoint_report(&self, id: EndpointId, own: &HashMap<Fingerprint, String>) -> EndpointReport {
        let endpoint = self.context.desired.endpoint(id);
        let view = self.context.known().endpoints.get(&id).map(|fact| fact.value.clone());
        let empty = EndpointReport {
            name: endpoint.name.clone(),
            id: endpoint.id.clone(),
            kind: endpoint.kind,
            kind_in_manifest: None,
            site: None,
            default_name: None,
            custom_hostnames: None,
            bindings: Vec::new(),
            certificates: Vec::new(),
            quotas: Quotas::default(),
            offers: Vec::new(),
            token: None,
            default_name_status: None,
            trouble: None,
        };
        let trouble = |says: String| EndpointReport { trouble: Some(says), ..empty.clone() };
        let info = match view {
            Some(EndpointView::Listed(info)) => info,
            Some(EndpointView::NotListed { known }) => {
                return trouble(format!("the platform does not list it; it lists {}", known.join(", ")));
            }
            Some(EndpointView::Refused { status, detail }) => {
                return trouble(format!("the platform refused the token (status {status}): {detail}"));
            }
            Some(EndpointView::Unreachable { why, .. }) => {
                return trouble(format!("the platform does not answer: {why}"));
            }
            None => return trouble("it was not asked for".into()),
        };
        let report = EndpointReport {
            kind: info.kind,
            kind_in_manifest: Some(endpoint.kind).filter(|kind| *kind != info.kind),
            site: Some(info.site.clone()).filter(|site| !site.is_empty()),
            default_name: info.default_name.as_ref().map(ToString::to_string),
            custom_hostnames: Some(info.custom_hostnames.clone()),
            quotas: info.quotas.clone(),
            offers: info.particulars(),
            ..empty
        };
        if endpoint.is_static() {
            return report;
        }
        let report = match self.what_is_at(id, endpoint, &info, own).await {
            Ok((bindings, certificates)) => EndpointReport { bindings, certificates, ..report },
            Err(says) => EndpointReport { trouble: Some(says), ..report },
        };
        let token = match self.context.drivers.platform(endpoint) {
            Ok(platform) => platform.token_scope().await.ok().flatten(),
            Err(_) => None,
        };
        let place = info.addresses.first().map(|address| SocketAddr::new(*address, info.port));
        let default_name_status = match (&info.default_name, place) {
            (Some(name), Some(place)) if !report.bindings.is_empty() => {
                match self.bindings.answer_under(name, place).await {
                    Some(SampleOutcome::Answered { status, .. }) => Some(status),
                    _ => None,
                }
            }
            _ => None,
        };
        EndpointReport { token, default_name_status, ..report }
    }

    /// Says whether the alias of a hostname that the manifest does not want leads to an endpoint.
    async fn is_led(&self, hostname: &Hostname, bound: &BoundHostname, info: &EndpointInfo) -> Option<bool> {
        let zone = self.context.desired.zone_of(hostname)?;
        let view = self.aliases.view(zone, &hostname.owner()).await;
        let target = bound.reply.target.as_ref();
        let leads = view.servers.iter().filter_map(|server| server.gives.as_ref().ok());
        let leads: Vec<bool> = leads.map(|sets| info.is_led_to(sets, target)).collect();
        (!leads.is_empty()).then(|| leads.contains(&true))
    }

    async fn what_is_at(
        &self,
        id: EndpointId,
        endpoint: &Endpoint,
        info: &EndpointInfo,
        own: &HashMap<Fingerprint, String>,
    ) -> Result<(Vec<BindingReport>, Vec<CopyReport>), String> {
        let platform = self.context.drivers.platform(endpoint).map_err(|finding| finding.says())?;
        let told = |error: EdgeError| error.to_string();
        let bindings = platform.bindings(&info.id).await.map_err(told)?;
        let certificates = platform.certificates(&info.certificate_site).await.map_err(told)?;
        let hostnames = self.context.desired.hostnames.iter();
        let here = hostnames.filter(|wanted| wanted.endpoints().any(|endpoint| endpoint == id));
        let wanted: HashSet<&Hostname> = here.map(|wanted| &wanted.hostname).collect();
        let mut looked_up = 0;
        let mut reports = Vec::with_capacity(bindings.len());
        for (hostname, bound) in bindings {
            let wanted = wanted.contains(&hostname);
            let led = if !wanted && looked_up < MOST_LOOKED_UP {
                looked_up += 1;
                self.is_led(&hostname, &bound, info).await
            } else {
                None
            };
            let not_after = bound.reply.issued.as_ref().map(|issued| issued.not_after);
            let (certificate, deployment) = (bound.binding.certificate, bound.deployment);
            reports.push(BindingReport { hostname, certificate, not_after, deployment, wanted, led });
        }
        let mut bindings = reports;
        bindings.sort_by(|left, right| left.hostname.as_str().cmp(right.hostname.as_str()));
        let certificates = certificates
            .into_iter()
            .map(|stored| CopyReport { name: own.get(&stored.sha256).cloned(), stored })
            .collect();
        Ok((bindings, certificates))
    }
}

//! A trial of the endpoint protocol at one endpoint, for those who write an adapter.

use std::net::SocketAddr;
use std::time::Duration;

use pindrel_core::desired::{EndpointDriver, EndpointId};
use pindrel_core::endpoints::endpoint::{Binding, Deployment, EndpointInfo};
use pindrel_core::judging::findings::{EndpointCause, Finding};
use pindrel_core::names::name::Hostname;
use pindrel_core::values::{Fingerprint, KeyKind};
use pindrel_edge::{BoundHostname, EdgeError, Platform, StoreRemoval};
use pindrel_keys::{Chain, KeyError};
use secrecy::{ExposeSecret as _, SecretString};

use super::{ClauseReport, Verdict};
use crate::context::Context;
use crate::failure::internal;
use crate::requests::endpoints::EndpointRequests;

/// How long a binding may take until it is in force.
const DEPLOYED_WITHIN: Duration = Duration::from_secs(120);
/// How long the addresses may take to follow.
const SERVED_WITHIN: Duration = Duration::from_secs(30);
/// How long the certificates of a trial are valid.
const DAYS: i64 = 2;
/// The entity tag of no binding.
const NO_SUCH_TAG: &str = "\"pindrel-no-such-tag\"";

impl EndpointRequests {
    /// Goes through the calls of the endpoint protocol with a hostname that is bound for the trial and
    /// with certificates that nobody trusts, and takes both away again.
    ///
    /// # Errors
    /// A [`Finding`] when the endpoint speaks no protocol, is not listed, or has the hostname bound.
    pub async fn try_protocol(&self, id: EndpointId, hostname: &Hostname) -> Result<Vec<ClauseReport>, Finding> {
        let endpoint = self.context.desired.endpoint(id);
        let refused = |cause| Finding::endpoint(&endpoint.name, cause);
        if !matches!(endpoint.driver, EndpointDriver::Http(_) | EndpointDriver::Program(_)) {
            return Err(refused(EndpointCause::NoProtocol));
        }
        let platform = self.context.drivers.platform(endpoint)?;
        let listed = platform.endpoints().await.map_err(|error| error.finding())?;
        let Some(info) = listed.into_iter().find(|info| info.id == endpoint.id) else {
            let (platform, id) = (endpoint.platform(), endpoint.id.clone());
            return Err(refused(EndpointCause::NotListed { platform, id, known: Vec::new() }));
        };
        let bound = platform.binding(&info.id, hostname).await.map_err(|error| error.finding())?;
        if bound.is_some() {
            return Err(refused(EndpointCause::TrialBound { hostname: hostname.clone() }));
        }
        let first = self.trial_certificate(hostname).await?;
        let second = self.trial_certificate(hostname).await?;
        let mut trial =
            Trial { context: &self.context, platform: &*platform, info: &info, hostname, clauses: Vec::new() };
        trial.clauses.push(ClauseReport { clause: "the endpoint is listed", verdict: Verdict::Met });
        trial.offers();
        trial.token().await;
        trial.trust_bundle(&first).await;
        trial.store(&first, &second).await;
        let known = trial.bind(&first).await;
        trial.change(known, &first, &second).await;
        trial.unbind(&second).await;
        trial.clear_store(&[first.sha256, second.sha256]).await;
        Ok(trial.clauses)
    }

    async fn trial_certificate(&self, hostname: &Hostname) -> Result<TrialCertificate, Finding> {
        let failed = |error: KeyError| internal(error.to_string());
        let key = self.context.drivers.keys().certificate_key(KeyKind::EcdsaP256).await.map_err(failed)?;
        let names = std::slice::from_ref(hostname);
        let chain = key.self_signed(names, self.context.clock.now(), DAYS).map_err(failed)?;
        let sha256 = Chain::from_pem(&chain).map_err(|error| internal(error.to_string()))?.fingerprint();
        Ok(TrialCertificate { chain, key: key.pem(), sha256 })
    }
}

struct TrialCertificate {
    chain: String,
    key: SecretString,
    sha256: Fingerprint,
}

struct Trial<'t> {
    context: &'t Context,
    platform: &'t dyn Platform,
    info: &'t EndpointInfo,
    hostname: &'t Hostname,
    clauses: Vec<ClauseReport>,
}

/// What came of a call, in the words of a report.
fn told<T>(result: &Result<T, EdgeError>) -> String {
    match result {
        Ok(_) => "it was accepted".into(),
        Err(error) => error.to_string(),
    }
}

fn status<T>(result: &Result<T, EdgeError>) -> Option<u16> {
    match result {
        Err(EdgeError::Refused { status, .. } | EdgeError::Token { status, .. }) => Some(*status),
        Err(EdgeError::Changed(_)) => Some(412),
        _ => None,
    }
}

impl Trial<'_> {
    fn judge(&mut self, clause: &'static str, met: bool, why: impl FnOnce() -> String) {
        let verdict = if met { Verdict::Met } else { Verdict::NotMet { why: why() } };
        self.clauses.push(ClauseReport { clause, verdict });
    }

    fn accepted<T>(&mut self, clause: &'static str, result: &Result<T, EdgeError>) {
        self.judge(clause, result.is_ok(), || told(result));
    }

    fn refused<T>(&mut self, clause: &'static str, wanted: u16, result: &Result<T, EdgeError>) {
        self.judge(clause, status(result) == Some(wanted), || told(result));
    }

    /// Judges a list: one that answers 404, 405 or 501 is not there at all.
    fn listed<T>(&mut self, clause: &'static str, result: &Result<T, EdgeError>, has: impl FnOnce(&T) -> bool) {
        match result {
            Ok(list) => self.judge(clause, has(list), || "it is not in the list".into()),
            Err(_) if matches!(status(result), Some(404 | 405 | 501)) => {
                self.clauses.push(ClauseReport { clause, verdict: Verdict::NotOffered });
            }
            Err(error) => self.judge(clause, false, || error.to_string()),
        }
    }

    fn offers(&mut self) {
        let (info, quotas) = (self.info, &self.info.quotas);
        self.judge("the endpoint has an address", !info.addresses.is_empty(), || "it lists none".into());
        self.judge("the endpoint takes custom hostnames", info.custom_hostnames.allowed, || {
            info.custom_hostnames.reason.clone().unwrap_or_else(|| "it says that it does not".into())
        });
        for (clause, offered) in [
            ("a generated name that aliases point at", info.default_name.is_some()),
            ("the quota of hostnames", quotas.hostnames.is_some()),
            ("the quota of certificates", quotas.certificates.is_some()),
            ("certificates that the platform issues", info.offers.issued_certificates),
            ("client certificates", info.offers.client_certificates),
            ("a target of its own for each hostname", info.own_targets),
        ] {
            let verdict = if offered { Verdict::Met } else { Verdict::NotOffered };
            self.clauses.push(ClauseReport { clause, verdict });
        }
    }

    async fn token(&mut self) {
        const CLAUSE: &str = "the scope of the token names the endpoint";
        let endpoint = &self.info.id;
        match self.platform.token_scope().await {
            Ok(None) => self.clauses.push(ClauseReport { clause: CLAUSE, verdict: Verdict::NotOffered }),
            Ok(Some(scope)) => {
                let named = scope.endpoints.as_ref().is_none_or(|named| named.contains(endpoint));
                self.judge(CLAUSE, named, || format!("it names {}", scope.endpoints.unwrap_or_default().join(", ")));
            }
            Err(error) => self.judge(CLAUSE, false, || error.to_string()),
        }
    }

    async fn trust_bundle(&mut self, root: &TrialCertificate) {
        if !self.info.offers.client_certificates {
            return;
        }
        let sha256 = Fingerprint::of(root.chain.as_bytes());
        let put = self.platform.put_trust_bundle(&self.info.certificate_site, sha256, &root.chain).await;
        self.accepted("a trust bundle is taken into the store", &put);
        let other = Fingerprint::of(root.key.expose_secret().as_bytes());
        let put = self.platform.put_trust_bundle(&self.info.certificate_site, other, &root.chain).await;
        self.refused("a trust bundle under another fingerprint is refused with 422", 422, &put);
    }

    async fn put(&self, as_: Fingerprint, chain: &TrialCertificate, key: &TrialCertificate) -> Result<(), EdgeError> {
        self.platform.put_certificate(&self.info.certificate_site, as_, &chain.chain, key.key.clone()).await
    }

    async fn store(&mut self, first: &TrialCertificate, second: &TrialCertificate) {
        let without = self.put_binding(first.sha256, None).await;
        self.refused("a binding to a certificate that is not in the store is refused with 422", 422, &without);
        self.ask_for_issue().await;
        let other = self.put(first.sha256, first, second).await;
        self.refused("a certificate with another's key is refused with 422", 422, &other);
        let other = self.put(second.sha256, first, first).await;
        self.refused("a certificate under another's fingerprint is refused with 422", 422, &other);
        let put = self.put(first.sha256, first, first).await;
        self.accepted("a certificate is taken into the store", &put);
        let put = self.put(first.sha256, first, first).await;
        self.accepted("putting it there twice is the same as once", &put);
        let stored = self.platform.certificates(&self.info.certificate_site).await;
        self.listed("the store lists it", &stored, |stored| stored.iter().any(|one| one.sha256 == first.sha256));
    }

    fn binding_to(&self, certificate: Fingerprint) -> Binding {
        Binding::plain(Some(certificate))
    }

    async fn put_binding(
        &self,
        certificate: Fingerprint,
        known: Option<&BoundHostname>,
    ) -> Result<BoundHostname, EdgeError> {
        self.platform.put_binding(&self.info.id, self.hostname, &self.binding_to(certificate), known).await
    }

    /// Asks for a certificate of the platform where it issues none.
    async fn ask_for_issue(&mut self) {
        if self.info.offers.issued_certificates {
            return;
        }
        let put = self.platform.put_binding(&self.info.id, self.hostname, &Binding::plain(None), None).await;
        self.refused("a binding without a certificate is refused with 422 where none is issued", 422, &put);
    }

    async fn read(&self) -> Result<Option<BoundHostname>, EdgeError> {
        self.platform.binding(&self.info.id, self.hostname).await
    }

    /// Binds the hostname; returns the binding as it is read then.
    async fn bind(&mut self, first: &TrialCertificate) -> Option<BoundHostname> {
        let put = self.put_binding(first.sha256, None).await;
        self.accepted("a hostname is bound", &put);
        put.ok()?;
        let again = self.put_binding(first.sha256, None).await;
        self.refused("If-None-Match: * on a binding that is there is refused with 412", 412, &again);
        let known = self.read().await.unwrap_or_default();
        let same = known.as_ref().is_some_and(|bound| bound.binding == self.binding_to(first.sha256));
        self.judge("the binding reads as it was put", same, || match &known {
            Some(bound) => format!("it reads {:?}", bound.binding),
            None => "there is none".into(),
        });
        let tagged = known.as_ref().is_some_and(|bound| bound.etag.is_some());
        self.judge("the binding has an ETag", tagged, || "it has none".into());
        let bound = self.platform.bindings(&self.info.id).await;
        let hostname = self.hostname;
        self.listed("the endpoint lists it", &bound, |all| all.iter().any(|(bound, _)| bound == hostname));
        known
    }

    /// The binding with an entity tag that the platform cannot have given.
    fn stale(&self, known: &BoundHostname) -> BoundHostname {
        BoundHostname { etag: Some(NO_SUCH_TAG.into()), ..known.clone() }
    }

    async fn change(&mut self, known: Option<BoundHostname>, first: &TrialCertificate, second: &TrialCertificate) {
        let put = self.put(second.sha256, second, second).await;
        self.accepted("a second certificate is taken into the store", &put);
        let Some(known) = known else { return };
        let stale = self.put_binding(second.sha256, Some(&self.stale(&known))).await;
        self.refused("If-Match with another ETag is refused with 412", 412, &stale);
        let put = self.put_binding(second.sha256, Some(&known)).await;
        self.accepted("a binding is changed", &put);
        let tag = self.read().await.ok().flatten().and_then(|bound| bound.etag);
        self.judge("a changed binding has another ETag", tag.is_some() && tag != known.etag, || {
            format!("it has {}", tag.as_deref().unwrap_or("none"))
        });
        let deployment = self.deployed().await;
        self.judge("the binding gets deployed", deployment == Some(Deployment::Deployed), || {
            format!("after {} s it is {deployment:?}", DEPLOYED_WITHIN.as_secs())
        });
        let served = self.served(second.sha256).await;
        self.judge("each address serves its certificate for the hostname", served.is_ok(), || {
            served.err().unwrap_or_default()
        });
        let used = self.platform.delete_certificate(&self.info.certificate_site, second.sha256).await;
        self.judge("a certificate in use is not deleted (409)", used == Ok(StoreRemoval::InUse), || told(&used));
        let unused = self.platform.delete_certificate(&self.info.certificate_site, first.sha256).await;
        self.judge(
            "a certificate that is no longer used is deleted",
            unused == Ok(StoreRemoval::Gone),
            || match &unused {
                Ok(StoreRemoval::InUse) => "it counts as used".into(),
                other => told(other),
            },
        );
    }

    /// Waits until the binding is in force, or has failed.
    async fn deployed(&self) -> Option<Deployment> {
        let began = self.context.clock.elapsed();
        loop {
            let seen = self.read().await.ok().flatten().map(|bound| bound.deployment);
            let over = self.context.clock.elapsed().saturating_sub(began) >= DEPLOYED_WITHIN;
            match seen {
                Some(Deployment::Deploying) if !over => self.context.clock.sleep(Duration::from_secs(1)).await,
                _ => return seen,
            }
        }
    }

    async fn served(&self, sha256: Fingerprint) -> Result<(), String> {
        for address in &self.info.addresses {
            let place = SocketAddr::new(*address, self.info.port);
            let began = self.context.clock.elapsed();
            loop {
                let served = self.context.drivers.probe().served_certificate(place, self.hostname).await;
                if served.as_ref().is_ok_and(|served| *served == sha256) {
                    break;
                }
                if self.context.clock.elapsed().saturating_sub(began) >= SERVED_WITHIN {
                    return Err(match served {
                        Ok(other) => format!("{place} serves {other}"),
                        Err(error) => format!("{place}: {error}"),
                    });
                }
                self.context.clock.sleep(Duration::from_secs(1)).await;
            }
        }
        Ok(())
    }

    async fn unbind(&mut self, second: &TrialCertificate) {
        let Ok(Some(known)) = self.read().await else { return };
        let (endpoint, hostname) = (self.info.id.as_str(), self.hostname);
        let stale = self.platform.delete_binding(endpoint, hostname, &self.stale(&known)).await;
        self.refused("deleting with another ETag is refused with 412", 412, &stale);
        if let Ok(Some(known)) = self.read().await {
            let deleted = self.platform.delete_binding(endpoint, hostname, &known).await;
            self.accepted("a binding is deleted", &deleted);
        }
        let gone = self.read().await;
        self.judge("a binding that is not there answers 404", gone == Ok(None), || told(&gone));
        let again = self.platform.delete_binding(endpoint, hostname, &BoundHostname { etag: None, ..known }).await;
        self.accepted("deleting a binding twice is the same as once", &again);
        let put = self.put(second.sha256, second, second).await;
        self.accepted("a certificate outlives its bindings", &put);
    }

    async fn clear_store(&mut self, certificates: &[Fingerprint]) {
        let mut left = Vec::new();
        for sha256 in certificates.iter().chain(certificates) {
            let deleted = self.platform.delete_certificate(&self.info.certificate_site, *sha256).await;
            if deleted != Ok(StoreRemoval::Gone) {
                left.push(told(&deleted));
            }
        }
        self.judge("deleting a certificate twice is the same as once", left.is_empty(), || left.join("; "));
    }
}

//! Bindings: what an endpoint knows of a hostname, and what it serves.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use futures::future::join_all;
use jiff::{SignedDuration, Timestamp};
use pindrel_core::desired::{EndpointId, HostnameId};
use pindrel_core::endpoints::endpoint::{Deployment, EndpointInfo, PlatformReply, TlsVersion};
use pindrel_core::endpoints::expectation::Expectation;
use pindrel_core::judging::facts::{BindingView, Fact, SampleAnswer, SampleOutcome, ServedView, Unreachable};
use pindrel_core::judging::pins::{Known, differs_from_sample};
use pindrel_core::names::name::{DnsName, Hostname};
use pindrel_core::values::{Fingerprint, is_link_local_or_metadata};
use pindrel_edge::{BoundHostname, Platform};

use super::answer::unreachable;
use crate::context::Context;
use crate::drivers::Trusted;
use crate::observe::answer::AnswerObserver;
use crate::observe::zone::ZoneObserver;

/// For how long it is not asked again what a platform has just said.
const JUST_SAID: SignedDuration = SignedDuration::from_secs(5);
/// The most addresses of an endpoint's name that are connected to besides.
const MOST_LED: usize = 4;
/// The most addresses of one endpoint that are connected to.
const MOST_ADDRESSES: usize = 16;

/// Looks at bindings, as platforms say and as endpoints serve.
pub(crate) struct BindingObserver {
    pub(crate) context: Arc<Context>,
    pub(crate) answers: Arc<AnswerObserver>,
    pub(crate) zones: Arc<ZoneObserver>,
}

impl BindingObserver {
    /// Looks at a binding with what is served; `None` where the endpoint is not known.
    pub(crate) async fn observe(&self, id: HostnameId, endpoint: EndpointId) -> Option<Fact<BindingView>> {
        let info = self.context.endpoint_info(endpoint)?;
        let wanted = self.context.desired.hostname(id);
        let held = self.context.held_certificate(wanted.certificate).map(|held| held.sha256);
        if self.context.desired.endpoint(endpoint).is_static() {
            let value = BindingView::Unmanaged { served: self.see_served(id, endpoint, &info, held).await };
            return Some(Fact { seen: self.context.clock.now(), value });
        }
        let mut value = match self.context.drivers.platform(self.context.desired.endpoint(endpoint)) {
            Err(finding) => BindingView::Unreachable { why: Unreachable::NotAsked { detail: finding.says() } },
            Ok(platform) => managed(platform.as_ref(), &info.id, &wanted.hostname).await,
        };
        if let BindingView::Present { binding, deployment, reply, lacking, served } = &mut value {
            let is_deployed = *deployment == Deployment::Deployed;
            let asked = reply.as_ref().map_or(&[][..], |reply| &reply.records);
            *lacking = self.lacking_records(asked, is_deployed).await;
            if is_deployed {
                let expected = if binding.certificate.is_none() { issued(reply.as_deref()) } else { held };
                *served = self.see_served(id, endpoint, &info, expected).await;
            }
        }
        Some(Fact { seen: self.context.clock.now(), value })
    }

    /// The same where its platform has just said that it is deployed: only what is served is looked at.
    pub(crate) async fn observe_served(&self, id: HostnameId, endpoint: EndpointId) -> Option<Fact<BindingView>> {
        let key = self.context.desired.endpoint(endpoint).key();
        let known = self.context.known().hostnames.get(&id).and_then(|own| own.facts.bindings.get(&key).cloned());
        let is_new = |seen: Timestamp| self.context.clock.now().duration_since(seen) < JUST_SAID;
        match known {
            Some(Fact { seen, value: BindingView::Present { binding, deployment, reply, lacking, served } })
                if deployment == Deployment::Deployed && served == ServedView::NotTried && is_new(seen) =>
            {
                let info = self.context.endpoint_info(endpoint)?;
                let held = self
                    .context
                    .held_certificate(self.context.desired.hostname(id).certificate)
                    .map(|held| held.sha256);
                let expected = if binding.certificate.is_none() { issued(reply.as_deref()) } else { held };
                let served = self.see_served(id, endpoint, &info, expected).await;
                let value = BindingView::Present { binding, deployment, reply, lacking, served };
                Some(Fact { seen: self.context.clock.now(), value })
            }
            _ => self.observe(id, endpoint).await,
        }
    }

    /// Connects to every address of the endpoint; the first that serves something else than the expected
    /// certificate is what is told. Where no alias leads there yet, the sample requests are made as well.
    async fn see_served(
        &self,
        id: HostnameId,
        at: EndpointId,
        endpoint: &EndpointInfo,
        expected: Option<Fingerprint>,
    ) -> ServedView {
        let wanted = self.context.desired.hostname(id);
        let is_led = Known::about(&self.context.desired, &self.context.known(), id).at(at).is_aliased_here();
        let trusted =
            if is_led || !wanted.is_sampled() { None } else { self.answers.trusted(wanted.certificate).await.ok() };
        // A platform's word leads to no address that only this machine's own network has.
        let is_named = self.context.desired.endpoint(at).names_addresses();
        let trusted = trusted.as_ref();
        // Clients are led by its name, which may have other addresses than those that are listed.
        let by_name = if wanted.points_at_name(&self.context.desired) { MOST_LED } else { 0 };
        let led: Vec<IpAddr> = endpoint.led_beside().take(by_name).collect();
        let all = endpoint.addresses.iter().take(MOST_ADDRESSES).chain(&led);
        let looks = all.map(async |address| {
            let place = SocketAddr::new(*address, endpoint.port);
            if is_link_local_or_metadata(*address) && !is_named {
                let detail = "a link-local address, which only the manifest may name".into();
                return (place, Err(Unreachable::NotAsked { detail }), Vec::new());
            }
            let Some(trusted) = trusted else {
                let served = self.context.drivers.probe().served_certificate(place, &wanted.probed_as).await;
                return (place, served.map_err(unreachable), Vec::new());
            };
            let (served, answers) = self.samples_at(id, place, trusted).await;
            (place, served, answers)
        });
        let looks = join_all(looks).await;
        for (place, served, _) in looks.iter().filter(|(place, ..)| led.contains(&place.ip())) {
            if let Some(other) = served.as_ref().ok().filter(|own| expected.is_some_and(|expected| expected != **own)) {
                let detail = format!("it serves certificate {}…", other.short());
                return ServedView::Failed { address: Some(*place), why: Unreachable::Other { detail } };
            }
        }
        let found = looks.iter().find_map(|(_, served, _)| served.as_ref().ok().filter(|own| Some(**own) != expected));
        // What a platform issues need not be known beforehand.
        if let Some(other) =
            found.filter(|_| expected.is_some() || !wanted.is_issued_by_platform(&self.context.desired))
        {
            return ServedView::certificate(*other);
        }
        // Where this machine lacks an address family, the other one counts.
        let serves = looks.iter().find_map(|(_, served, _)| served.as_ref().ok().copied());
        let failed = looks.iter().find_map(|(place, served, _)| match served {
            Err(why) if !(serves.is_some() && *why == Unreachable::NoRoute) => Some((*place, why.clone())),
            _ => None,
        });
        match (failed, serves) {
            (Some((place, why)), _) => ServedView::Failed { address: Some(place), why },
            (None, Some(sha256)) => {
                let samples: Vec<SampleAnswer> = looks.into_iter().flat_map(|(.., answers)| answers).collect();
                let differs = |answer: &SampleAnswer| differs_from_sample(wanted, answer);
                let place = samples.iter().find(|answer| differs(answer)).map(|answer| answer.address);
                let default_name = match (place, &endpoint.default_name) {
                    (Some(place), Some(name)) => self.answer_under(name, place).await,
                    _ => None,
                };
                let first = samples.first().map(|answer| answer.address);
                let tls12_status = match first.filter(|_| wanted.minimum_tls == TlsVersion::V1_3) {
                    Some(place) => {
                        self.context.drivers.probe().status_over_tls12(place, &wanted.probed_as, &wanted.expect).await
                    }
                    None => None,
                };
                ServedView::Certificate { sha256, samples, tls12_status, default_name: default_name.map(Box::new) }
            }
            (None, None) => ServedView::Failed { address: None, why: Unreachable::NoneKnown },
        }
    }

    /// Makes every sample request at one address.
    async fn samples_at(
        &self,
        id: HostnameId,
        place: SocketAddr,
        trusted: &Trusted,
    ) -> (Result<Fingerprint, Unreachable>, Vec<SampleAnswer>) {
        let wanted = self.context.desired.hostname(id);
        let identity = wanted.probe_with();
        let mut answers = Vec::new();
        for sample in wanted.all_samples() {
            let (served, outcome) = self.answers.sample(id, place, trusted, sample, identity).await;
            answers.push(SampleAnswer { address: place, sample: sample.clone(), outcome });
            // The others would tell the same.
            if answers.len() == 1 + wanted.samples.len() || served.is_err() {
                return (served, answers);
            }
        }
        (Err(Unreachable::NoneKnown), answers)
    }

    /// How an endpoint answers at an address under its default name.
    pub(crate) async fn answer_under(&self, name: &DnsName, place: SocketAddr) -> Option<SampleOutcome> {
        let name: Hostname = name.as_str().parse().ok()?;
        let sample = Expectation::at("/");
        let answered = self.context.drivers.probe().request(&Trusted::Anyone, place, &name, &sample, None).await;
        Some(match answered {
            Ok(answered) => SampleOutcome::Answered { status: answered.status, location: None, body: None },
            Err(error) => SampleOutcome::Failed { why: error.to_string() },
        })
    }
}

fn issued(reply: Option<&PlatformReply>) -> Option<Fingerprint> {
    Some(reply?.issued.as_ref()?.sha256)
}

/// What a platform says of a binding; nothing is connected to.
pub(crate) async fn managed(platform: &dyn Platform, endpoint: &str, hostname: &Hostname) -> BindingView {
    match platform.binding(endpoint, hostname).await {
        Err(error) => BindingView::Unreachable { why: error.into_fact() },
        Ok(None) => BindingView::Absent,
        Ok(Some(bound)) => {
            let BoundHostname { binding, deployment, reply, .. } = bound;
            let (reply, lacking, served) = (reply.told(), Vec::new(), ServedView::NotTried);
            BindingView::Present { binding, deployment, reply, lacking, served }
        }
    }
}

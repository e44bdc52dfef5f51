//! Carrying out one step, and looking whether it had its effect.

use std::time::{Duration, Instant};

use jiff::Timestamp;
use pindrel_core::desired::{CertificateId, EndpointId, HostnameId};
use pindrel_core::endpoint::{Deployment, EndpointInfo};
use pindrel_core::facts::{AliasView, BindingView, ClientOutcome, EndpointView, Fact, ServedView};
use pindrel_core::name::Hostname;
use pindrel_core::pins::{Pin, PinState};
use pindrel_core::records::{AliasChange, RecordSet, in_words, same_data};
use pindrel_core::steps::{Step, Work};

use crate::Engine;
use crate::error::StepFailure;

/// How long a platform may take to deploy a binding.
const DEPLOY_PATIENCE: Duration = Duration::from_secs(3600);
/// How long a deployed endpoint may go on serving the certificate before.
const SERVE_PATIENCE: Duration = Duration::from_secs(60);
/// How long a resolver or a service may take to come round, besides what a cached
/// answer says of itself.
const ANSWER_PATIENCE: Duration = Duration::from_secs(30);
/// The longest time that a cached answer is waited for.
const CACHE_PATIENCE: Duration = Duration::from_secs(900);

/// Growing waits between two looks, up to a deadline.
pub(crate) struct Pace {
    begun: Instant,
    patience: Duration,
    next: Duration,
    longest: Duration,
}

impl Pace {
    pub(crate) fn new(patience: Duration) -> Pace {
        Pace { begun: Instant::now(), patience, next: Duration::from_millis(40), longest: Duration::from_secs(2) }
    }

    /// The next wait, or `None` once the patience is over.
    pub(crate) fn next(&mut self) -> Option<Duration> {
        let left = self.patience.checked_sub(self.begun.elapsed())?;
        let wait = self.next.min(left);
        self.next = self.next.mul_f64(1.6).min(self.longest);
        Some(wait)
    }

    pub(crate) fn extend(&mut self, patience: Duration) {
        self.patience = self.patience.max(patience);
    }
}

impl Engine {
    pub(crate) async fn carry(&self, step: &Step) -> Result<(), StepFailure> {
        match step.work {
            Work::Register(authority) => self.register(authority).await,
            Work::Rehearse(certificate) => self.rehearse(certificate, &step.hostname).await,
            Work::Issue(certificate) => self.issue(certificate, &step.hostname).await,
            Work::Deliver(certificate) => self.deliver(certificate, &step.hostname).await,
            Work::Store(certificate, endpoint) => self.store(certificate, endpoint).await,
            Work::Bind(hostname) => self.bind(hostname).await,
            Work::Connect(hostname) => self.connect(hostname).await,
            Work::Alias(hostname) => self.alias(hostname).await,
            Work::Answer(hostname) => self.answer(hostname).await,
        }
    }

    async fn store(&self, certificate: CertificateId, endpoint: EndpointId) -> Result<(), StepFailure> {
        let name = &self.desired.certificate(certificate).name;
        let row = self.state.certificate(name)?;
        let row = row.ok_or_else(|| {
            StepFailure::new(format!("there is no certificate \"{name}\" in the state"), "run settle again")
        })?;
        let key = self.certificate_key(&row)?;
        let info = self.listed(endpoint)?;
        let platform = self.world.platform(&self.desired, endpoint)?;
        Ok(platform.put_certificate(&info.certificate_site, row.held.sha256, &row.chain, key.pem()).await?)
    }

    fn listed(&self, id: EndpointId) -> Result<EndpointInfo, StepFailure> {
        match self.memory().endpoints.get(&id).map(|fact| &fact.value) {
            Some(EndpointView::Listed(info)) => Ok(info.clone()),
            _ => {
                let endpoint = self.desired.endpoint(id);
                let says = format!("the platform at {} does not list the endpoint \"{}\"", endpoint.url, endpoint.id);
                Err(StepFailure::new(says, "run settle again once it does"))
            }
        }
    }

    async fn bind(&self, id: HostnameId) -> Result<(), StepFailure> {
        let wanted = self.desired.hostname(id);
        let info = self.listed(wanted.endpoint)?;
        let platform = self.platform_of(id)?;
        let held = self.memory().certificates.get(&wanted.certificate).cloned().flatten();
        let held = held.ok_or_else(|| {
            StepFailure::new(format!("no certificate covers {} yet", wanted.hostname), "run settle again")
        })?;
        let binding = wanted.binding(held.sha256);
        let ours = self.memory().hostnames.get(&id).map(|known| known.ours.clone()).unwrap_or_default();

        let present = platform.binding(&info.id, &wanted.hostname).await?;
        let mut bound = match present {
            Some(bound) if bound.binding == binding && !matches!(bound.deployment, Deployment::Failed { .. }) => bound,
            Some(bound) if bound.binding != binding && !ours.made_binding(&bound.binding) => {
                return Err(StepFailure::new(
                    format!("somebody else bound {} at {} while Pindrel was at work", wanted.hostname, info.id),
                    "remove that binding on the platform when nobody needs it, then run settle again",
                ));
            }
            present => {
                self.note_ours(id, |ours| ours.binding_intended = Some(binding.clone()))?;
                platform.put_binding(&info.id, &wanted.hostname, &binding, present.as_ref()).await?
            }
        };
        let mut pace = Pace::new(DEPLOY_PATIENCE);
        let begun = Timestamp::now();
        loop {
            let served = ServedView::NotTried;
            let value =
                BindingView::Present { binding: bound.binding.clone(), deployment: bound.deployment.clone(), served };
            self.note(id, |facts| facts.binding = Some(Fact { seen: Timestamp::now(), value }))?;
            match &bound.deployment {
                Deployment::Deployed => break,
                Deployment::Failed { reason } => {
                    let says = format!("{} gave up deploying {}: {reason}", info.id, wanted.hostname);
                    return Err(StepFailure::new(says, "see on the platform why, then run settle again"));
                }
                Deployment::Deploying => {}
            }
            let wait = pace.next().ok_or_else(|| {
                let says = format!("{} has not deployed {} since {begun:.0}", info.id, wanted.hostname);
                StepFailure::new(says, "run settle again later: it goes on waiting where it left off")
            })?;
            self.tell_waiting(&wanted.hostname, "bind", format!("{} to deploy it", info.id));
            self.waits.sleep(wait).await;
            bound = platform.binding(&info.id, &wanted.hostname).await?.ok_or_else(|| {
                let says = format!("{} forgot the binding of {} while deploying it", info.id, wanted.hostname);
                StepFailure::new(says, "run settle again; if it stays, ask the platform why")
            })?;
        }
        if bound.binding != binding {
            let says = format!("{} took the binding of {} but changed it", info.id, wanted.hostname);
            return Err(StepFailure::new(says, "see on the platform what it made of it"));
        }
        self.note_ours(id, |ours| {
            ours.binding = true;
            ours.binding_intended = None;
        })?;
        Ok(())
    }

    async fn connect(&self, id: HostnameId) -> Result<(), StepFailure> {
        let wanted = self.desired.hostname(id);
        let info = self.listed(wanted.endpoint)?;
        let mut pace = Pace::new(SERVE_PATIENCE);
        loop {
            let fact = self.see_binding(id, &info).await;
            let pins = self.note(id, |facts| facts.binding = Some(fact))?;
            if pins.binding.state == PinState::Held {
                return Ok(());
            }
            let finding = pins.binding.findings.first();
            let Some(wait) = pace.next() else {
                let says = finding
                    .map_or_else(|| format!("{} is not served", wanted.hostname), |finding| finding.says.clone());
                return Err(StepFailure::new(says, finding.map_or("run settle again", |finding| &finding.remedy)));
            };
            self.tell_waiting(&wanted.hostname, "connect", format!("{} to serve the certificate", info.id));
            self.waits.sleep(wait).await;
        }
    }

    async fn alias(&self, id: HostnameId) -> Result<(), StepFailure> {
        let wanted = self.desired.hostname(id);
        let info = self.listed(wanted.endpoint)?;
        let sets = wanted.alias(&self.desired, &info);
        if sets.is_empty() {
            let says = format!("{} stands at the apex, and {} names no addresses for it", wanted.hostname, info.id);
            return Err(StepFailure::new(
                says,
                "choose an endpoint that has fixed addresses, or a name below the apex",
            ));
        }
        let fact = self.see_alias(id).await;
        let pins = self.note(id, |facts| facts.alias = Some(fact.clone()))?;
        match pins.alias.state {
            PinState::Held => return self.made_alias(id, sets),
            PinState::Working => {}
            PinState::Loose => {
                let servers = self.zone_servers(wanted.zone);
                let driver = self.world.zone_driver(&self.desired, wanted.zone, &servers)?;
                let change = AliasChange {
                    owner: wanted.hostname.owner(),
                    expected: first_gives(&fact.value),
                    wanted: sets.clone(),
                    at_apex: wanted.is_apex(&self.desired),
                };
                self.note_ours(id, |ours| ours.alias_intended = sets.clone())?;
                driver.change_alias(&change).await?;
            }
            PinState::Blocked | PinState::Unknown => {
                let finding = pins.alias.findings.first();
                let says = finding
                    .map_or_else(|| format!("the records of {} cannot be seen", wanted.hostname), |f| f.says.clone());
                return Err(StepFailure::new(says, finding.map_or("run settle again", |finding| &finding.remedy)));
            }
        }
        self.await_alias(id, &sets).await?;
        self.made_alias(id, sets)
    }

    fn made_alias(&self, id: HostnameId, sets: Vec<RecordSet>) -> Result<(), StepFailure> {
        let intended = self.memory().hostnames.get(&id).is_some_and(|known| !known.ours.alias_intended.is_empty());
        if intended {
            self.note_ours(id, |ours| {
                ours.alias = sets;
                ours.alias_intended = Vec::new();
            })?;
        }
        Ok(())
    }

    /// Waits until every authoritative server gives the alias, naming who lags.
    async fn await_alias(&self, id: HostnameId, sets: &[RecordSet]) -> Result<(), StepFailure> {
        let wanted = self.desired.hostname(id);
        let mut pace = Pace::new(self.transfer_patience);
        loop {
            let fact = self.see_alias(id).await;
            let pins = self.note(id, |facts| facts.alias = Some(fact.clone()))?;
            if pins.alias.state == PinState::Held {
                return Ok(());
            }
            let lagging = lagging(&fact.value, sets);
            let Some(wait) = pace.next() else {
                return Err(StepFailure::new(
                    format!("{} still does not give the alias of {}", lagging.join(" and "), wanted.hostname),
                    "see why that server does not transfer the zone, then run settle again",
                ));
            };
            self.tell_waiting(&wanted.hostname, "alias", format!("{} to give the alias", lagging.join(" and ")));
            self.waits.sleep(wait).await;
        }
    }

    async fn answer(&self, id: HostnameId) -> Result<(), StepFailure> {
        let wanted = self.desired.hostname(id);
        let mut pace = Pace::new(ANSWER_PATIENCE);
        loop {
            let fact = self.see_answer(id).await;
            pace.extend(cached_for(&fact.value.through));
            let pins = self.note(id, |facts| facts.answer = Some(fact))?;
            if pins.answer.state == PinState::Held {
                return Ok(());
            }
            let finding = pins.get(Pin::Answer).findings.first().cloned();
            let Some(finding) = finding else {
                let says = format!("no resolver is known to ask for {}", wanted.hostname);
                return Err(StepFailure::new(says, "name resolvers in the zone's table of the manifest"));
            };
            let Some(wait) = pace.next() else { return Err(StepFailure::new(finding.says, finding.remedy)) };
            self.tell_waiting(&wanted.hostname, "answer", finding.says);
            self.waits.sleep(wait).await;
        }
    }
}

/// The row that a certificate key is sealed for: the same for the order and for the
/// certificate that it becomes.
pub(crate) fn key_row(certificate: &str, directory: &str) -> String {
    format!("certificate/{certificate}/{directory}")
}

fn first_gives(view: &AliasView) -> Vec<RecordSet> {
    view.servers.first().and_then(|server| server.gives.clone().ok()).unwrap_or_default()
}

/// The servers that do not give these sets, with what they give.
fn lagging(view: &AliasView, sets: &[RecordSet]) -> Vec<String> {
    let lags = view.servers.iter().filter_map(|server| match &server.gives {
        Ok(gives) if same_data(gives, sets) => None,
        Ok(gives) => Some(format!("{} (it gives {})", server.server, in_words(gives))),
        Err(why) => Some(format!("{} ({why})", server.server)),
    });
    lags.collect()
}

/// For how long resolvers may go on giving a cached negative answer.
fn cached_for(through: &[pindrel_core::facts::ResolverAnswer]) -> Duration {
    let longest = through.iter().filter_map(|answer| match &answer.outcome {
        ClientOutcome::Unresolved { for_secs, .. } => *for_secs,
        _ => None,
    });
    longest.max().map_or(Duration::ZERO, |secs| Duration::from_secs(u64::from(secs) + 5).min(CACHE_PATIENCE))
}

/// Writes hostnames for a sentence.
pub(crate) fn names(hostnames: &[Hostname]) -> String {
    hostnames.iter().map(Hostname::as_str).collect::<Vec<_>>().join(", ")
}

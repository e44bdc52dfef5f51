//! Which steps bring the world to the manifest, and in which order.
//!
//! The order protects traffic: a certificate before a binding, a binding verified by a
//! direct connection before the alias moves, and the answer last.

use std::collections::{HashMap, HashSet};

use serde::Serialize;

use crate::desired::{AuthorityId, CertificateId, EndpointId, HostnameId};
use crate::facts::EndpointView;
use crate::findings::Finding;
use crate::name::Hostname;
use crate::pins::{Known, Pin, PinReport, PinState, Pins};
use crate::records::in_words;

/// What one step is about; two hostnames that need the same share the step.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Work {
    /// Open or find the account at an authority.
    Register(AuthorityId),
    /// Have a certificate issued. This step expands: its challenges exist only once
    /// there is an order.
    Issue(CertificateId),
    /// Put a certificate into the store of the endpoint's site.
    Store(CertificateId, EndpointId),
    /// Bind a hostname at its endpoint and wait until that is deployed.
    Bind(HostnameId),
    /// Connect to the endpoint directly and compare the served certificate.
    Connect(HostnameId),
    /// Point the alias record at the endpoint, on every server.
    Alias(HostnameId),
    /// Verify what a client meets.
    Answer(HostnameId),
}

impl Work {
    /// Returns the name of the action.
    pub fn action(self) -> &'static str {
        match self {
            Work::Register(_) => "register",
            Work::Issue(_) => "issue",
            Work::Store(..) => "store",
            Work::Bind(_) => "bind",
            Work::Connect(_) => "connect",
            Work::Alias(_) => "alias",
            Work::Answer(_) => "answer",
        }
    }

    /// Returns the pin that the step is to hold.
    pub fn pin(self) -> Pin {
        match self {
            Work::Register(_) | Work::Issue(_) => Pin::Certificate,
            Work::Store(..) | Work::Bind(_) | Work::Connect(_) => Pin::Binding,
            Work::Alias(_) => Pin::Alias,
            Work::Answer(_) => Pin::Answer,
        }
    }
}

/// One step of a plan.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Step {
    /// Its number, from one.
    pub id: u32,
    /// The first hostname that needs it.
    pub hostname: Hostname,
    /// What it does.
    pub action: &'static str,
    /// What it does it to.
    pub target: String,
    /// The numbers of the steps that must have ended well before.
    pub after: Vec<u32>,
    /// Why it is needed.
    pub why: String,
    /// What it is about.
    #[serde(skip)]
    pub work: Work,
}

/// What lies ahead of one hostname.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outlook {
    /// All five pins are held.
    Held,
    /// The plan has steps for it.
    Steps,
    /// A person is needed first, for all of it or for what is left after its steps.
    Blocked(Vec<Finding>),
    /// Something that is needed cannot be reached.
    Outage(Vec<Finding>),
}

/// Collects the steps of many hostnames into one graph.
#[derive(Debug, Default)]
pub struct Planner {
    accounts: HashSet<AuthorityId>,
    numbers: HashMap<Work, u32>,
    steps: Vec<Step>,
}

impl Planner {
    /// Starts a plan; `accounts` are the authorities where an account is already known.
    pub fn new(accounts: impl IntoIterator<Item = AuthorityId>) -> Self {
        Planner { accounts: accounts.into_iter().collect(), ..Planner::default() }
    }

    /// Adds the steps that one hostname needs.
    pub fn add(&mut self, id: HostnameId, known: Known<'_>, pins: &Pins) -> Outlook {
        if pins.held() {
            return Outlook::Held;
        }
        let outages: Vec<Finding> = pins.findings().filter(|finding| finding.code.is_outage()).cloned().collect();
        if !outages.is_empty() {
            return Outlook::Outage(outages);
        }
        let blocked = |pin: Pin| pins.get(pin).state == PinState::Blocked;
        if blocked(Pin::Zone) || blocked(Pin::Binding) {
            return Outlook::Blocked(blocking(pins));
        }
        let before = self.steps.len();
        let bound = self.add_binding(id, known, pins);
        if blocked(Pin::Alias) {
            return Outlook::Blocked(blocking(pins));
        }
        let aliased = self.add_alias(id, known, pins, bound);
        if aliased.is_some() || pins.answer.state != PinState::Held {
            let url = format!("https://{}{}", known.wanted.probed_as, known.wanted.expect.path);
            let why = if aliased.is_some() { "to see what clients meet afterwards".into() } else { why(&pins.answer) };
            self.step(Work::Answer(id), known, url, aliased, why);
        }
        if self.steps.len() == before && !self.numbers.contains_key(&Work::Answer(id)) {
            Outlook::Held
        } else {
            Outlook::Steps
        }
    }

    /// Returns the steps, numbered so that each comes after those it needs.
    pub fn into_steps(self) -> Vec<Step> {
        self.steps
    }

    /// Certificate, store, binding and direct connection; returns the last of them.
    fn add_binding(&mut self, id: HostnameId, known: Known<'_>, pins: &Pins) -> Option<u32> {
        let wanted = known.wanted;
        let certificate = known.desired.certificate(wanted.certificate);
        let endpoint = known.desired.endpoint(wanted.endpoint);
        let issued = (pins.certificate.state != PinState::Held).then(|| {
            let authority = known.desired.authority(certificate.authority);
            let registered = (!self.accounts.contains(&certificate.authority)).then(|| {
                let target = format!("account at {}", authority.name);
                let why = "no account at this authority is known yet".into();
                self.step(Work::Register(certificate.authority), known, target, None, why)
            });
            let names = certificate.names.iter().map(Hostname::as_str).collect::<Vec<_>>().join(", ");
            let target = format!("certificate for {names} from {}", authority.name);
            self.step(Work::Issue(wanted.certificate), known, target, registered, why(&pins.certificate))
        });
        if issued.is_none() && pins.binding.state == PinState::Held {
            return None;
        }
        let reason = if issued.is_some() { "the new certificate has to be served".into() } else { why(&pins.binding) };
        let site = match known.endpoint.map(|fact| &fact.value) {
            Some(EndpointView::Listed(info)) => format!("certificate store of {}", info.certificate_site),
            _ => format!("certificate store of {}", endpoint.name),
        };
        let stored = self.step(Work::Store(wanted.certificate, wanted.endpoint), known, site, issued, reason.clone());
        let bound =
            self.step(Work::Bind(id), known, format!("{} {}", endpoint.kind, endpoint.name), Some(stored), reason);
        let why = "the alias must not lead to an endpoint that serves another certificate".into();
        Some(self.step(Work::Connect(id), known, format!("{} {}", endpoint.kind, endpoint.name), Some(bound), why))
    }

    fn add_alias(&mut self, id: HostnameId, known: Known<'_>, pins: &Pins, bound: Option<u32>) -> Option<u32> {
        if pins.alias.state == PinState::Held {
            return bound;
        }
        let target = match known.endpoint.map(|fact| &fact.value) {
            Some(EndpointView::Listed(info)) => in_words(&known.wanted.alias(known.desired, info)),
            _ => format!("alias of {}", known.wanted.hostname),
        };
        Some(self.step(Work::Alias(id), known, target, bound, why(&pins.alias)))
    }

    fn step(&mut self, work: Work, known: Known<'_>, target: String, after: Option<u32>, why: String) -> u32 {
        if let Some(number) = self.numbers.get(&work) {
            return *number;
        }
        let id = self.steps.len() as u32 + 1;
        let after = after.into_iter().collect();
        let hostname = known.wanted.hostname.clone();
        self.steps.push(Step { id, hostname, action: work.action(), target, after, why, work });
        self.numbers.insert(work, id);
        id
    }
}

fn blocking(pins: &Pins) -> Vec<Finding> {
    pins.iter()
        .filter(|(_, report)| report.state == PinState::Blocked)
        .flat_map(|(_, report)| report.findings.iter().cloned())
        .collect()
}

fn why(report: &PinReport) -> String {
    match report.findings.first() {
        Some(finding) => finding.says.clone(),
        None => "nobody has looked yet".into(),
    }
}

//! Which steps bring the world to the manifest, and in which order.
//!
//! The order protects traffic: a certificate before a binding, a binding verified by a
//! direct connection before the alias moves, and the answer last.

use std::collections::{HashMap, HashSet};

use serde::Serialize;

use crate::desired::{AuthorityId, CertificateId, Desired, EndpointId, HostnameId};
use crate::facts::EndpointView;
use crate::findings::{Code, Finding};
use crate::name::Hostname;
use crate::pins::{Known, Pin, PinReport, PinState, Pins};
use crate::records::in_words;

/// What one step is about; two hostnames that need the same share the step.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Work {
    /// Open or find the account at an authority.
    Register(AuthorityId),
    /// Prove at the practice authority that such a certificate can be issued.
    Rehearse(CertificateId),
    /// Have a certificate issued. This step expands: its challenges exist only once
    /// there is an order.
    Issue(CertificateId),
    /// Write a certificate to its files, and run what follows.
    Deliver(CertificateId),
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
            Work::Rehearse(_) => "rehearse",
            Work::Issue(_) => "issue",
            Work::Deliver(_) => "deliver",
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
            Work::Register(_) | Work::Rehearse(_) | Work::Issue(_) | Work::Deliver(_) => Pin::Certificate,
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
    /// For each certificate whose set-up is not proven yet, the one that proves it.
    rehearsals: HashMap<CertificateId, CertificateId>,
    numbers: HashMap<Work, u32>,
    steps: Vec<Step>,
}

impl Planner {
    /// Starts a plan; `accounts` are the authorities where an account is already known,
    /// `rehearsals` gives, for each certificate whose set-up is not proven yet, the one of
    /// the same set-up that proves it for all.
    pub fn new(
        accounts: impl IntoIterator<Item = AuthorityId>,
        rehearsals: HashMap<CertificateId, CertificateId>,
    ) -> Self {
        Planner { accounts: accounts.into_iter().collect(), rehearsals, ..Planner::default() }
    }

    /// Adds only what proves that a certificate can be issued; says whether that needs a step.
    pub fn add_rehearsal(&mut self, desired: &Desired, id: CertificateId) -> bool {
        let first = desired.certificate(id).names.first().cloned();
        let Some(hostname) = first else { return false };
        self.rehearsal(desired, id, &hostname).is_some()
    }

    /// Adds the steps of a certificate that no hostname uses.
    pub fn add_certificate(&mut self, desired: &Desired, id: CertificateId, report: &PinReport) -> Outlook {
        match report.state {
            PinState::Held => Outlook::Held,
            PinState::Blocked => Outlook::Blocked(report.findings.clone()),
            _ => {
                let Some(hostname) = desired.certificate(id).names.first().cloned() else { return Outlook::Held };
                self.certificate(desired, id, &hostname, report);
                Outlook::Steps
            }
        }
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
        // A bought certificate that ends soon is somebody's work, but may be used until then.
        let unusable = blocked(Pin::Certificate)
            && pins
                .certificate
                .findings
                .iter()
                .any(|finding| finding.code != Code::CertificateAwaited || known.certificate.is_none());
        if blocked(Pin::Zone) || unusable || blocked(Pin::Binding) {
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
            self.step(Work::Answer(id), &known.wanted.hostname, url, aliased, why);
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
        let endpoint = known.desired.endpoint(wanted.endpoint);
        let issued = (pins.certificate.state == PinState::Loose)
            .then(|| self.certificate(known.desired, wanted.certificate, &wanted.hostname, &pins.certificate));
        if issued.is_none() && pins.binding.state == PinState::Held {
            return None;
        }
        let reason = if issued.is_some() { "the new certificate has to be served".into() } else { why(&pins.binding) };
        let site = match known.endpoint.map(|fact| &fact.value) {
            Some(EndpointView::Listed(info)) => format!("certificate store of {}", info.certificate_site),
            _ => format!("certificate store of {}", endpoint.name),
        };
        let stored =
            self.step(Work::Store(wanted.certificate, wanted.endpoint), &wanted.hostname, site, issued, reason.clone());
        let bound = self.step(
            Work::Bind(id),
            &wanted.hostname,
            format!("{} {}", endpoint.kind, endpoint.name),
            Some(stored),
            reason,
        );
        let why = "the alias must not lead to an endpoint that serves another certificate".into();
        Some(self.step(
            Work::Connect(id),
            &wanted.hostname,
            format!("{} {}", endpoint.kind, endpoint.name),
            Some(bound),
            why,
        ))
    }

    /// Account, rehearsal, issue and delivery; returns the last of them.
    fn certificate(&mut self, desired: &Desired, id: CertificateId, hostname: &Hostname, report: &PinReport) -> u32 {
        let wanted = desired.certificate(id);
        let deliver = |planner: &mut Planner, after, why| {
            let files = wanted.terms.deliveries.iter().map(|delivery| delivery.file.display().to_string());
            let target = match files.collect::<Vec<_>>().join(", ") {
                files if files.is_empty() => format!("what follows \"{}\"", wanted.name),
                files => files,
            };
            planner.step(Work::Deliver(id), hostname, target, after, why)
        };
        let delivered = |finding: &Finding| matches!(finding.code, Code::CertificateUndelivered | Code::CommandFailed);
        if report.findings.iter().any(delivered) {
            return deliver(self, None, why(report));
        }
        let names = match wanted.names.as_slice() {
            [first, rest @ ..] if rest.len() > 3 => format!("{first} and {} more names", rest.len()),
            names => names.iter().map(Hostname::as_str).collect::<Vec<_>>().join(", "),
        };
        let (from, before) = match wanted.authority {
            None => ("nobody (self-signed)".to_owned(), None),
            Some(authority) => {
                let rehearsed = self.rehearsal(desired, id, hostname);
                let registered = self.account(desired, authority, hostname);
                (desired.authority(authority).name.clone(), rehearsed.or(registered))
            }
        };
        let target = format!("certificate for {names} from {from}");
        let issued = self.step(Work::Issue(id), hostname, target, before, why(report));
        if wanted.terms.deliveries.is_empty() && wanted.terms.after.is_empty() {
            return issued;
        }
        deliver(self, Some(issued), "the new certificate has to be where it is used".into())
    }

    fn account(&mut self, desired: &Desired, id: AuthorityId, hostname: &Hostname) -> Option<u32> {
        (!self.accounts.contains(&id)).then(|| {
            let target = format!("account at {}", desired.authority(id).name);
            let why = "no account at this authority is known yet".into();
            self.step(Work::Register(id), hostname, target, None, why)
        })
    }

    /// The rehearsal of a certificate, after the accounts at both authorities.
    fn rehearsal(&mut self, desired: &Desired, id: CertificateId, hostname: &Hostname) -> Option<u32> {
        let authority = desired.certificate(id).authority?;
        let practice = desired.authority(authority).rehearsal?;
        let proving = *self.rehearsals.get(&id)?;
        let after = [self.account(desired, practice, hostname), self.account(desired, authority, hostname)];
        let target = format!("the same at {}", desired.authority(practice).name);
        let why = "a new set-up is proven there before the real authority hears of it".into();
        let number = self.step(Work::Rehearse(proving), hostname, target, after[0], why);
        if let (Some(account), Some(step)) = (after[1], self.steps.get_mut(number as usize - 1))
            && !step.after.contains(&account)
        {
            step.after.push(account);
        }
        Some(number)
    }

    fn add_alias(&mut self, id: HostnameId, known: Known<'_>, pins: &Pins, bound: Option<u32>) -> Option<u32> {
        if pins.alias.state == PinState::Held {
            return bound;
        }
        let target = match known.endpoint.map(|fact| &fact.value) {
            Some(EndpointView::Listed(info)) => in_words(&known.wanted.alias(known.desired, info)),
            _ => format!("alias of {}", known.wanted.hostname),
        };
        Some(self.step(Work::Alias(id), &known.wanted.hostname, target, bound, why(&pins.alias)))
    }

    fn step(&mut self, work: Work, hostname: &Hostname, target: String, after: Option<u32>, why: String) -> u32 {
        if let Some(number) = self.numbers.get(&work) {
            return *number;
        }
        let id = self.steps.len() as u32 + 1;
        let after = after.into_iter().collect();
        let hostname = hostname.clone();
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

//! Collects the steps of many goals into one graph, working backwards from each goal.

use std::collections::HashMap;
use std::net::IpAddr;

use jiff::Timestamp;

use super::{Gate, Goal, HostnameRef, Outlook, Step, Work, gate, needs};
use crate::desired::{CertificateId, Desired, HostnameId};
use crate::endpoints::endpoint::EndpointInfo;
use crate::judging::facts::{AliasView, EndpointView, Knowledge, Ownership, ReplaceReason, RetiringId};
use crate::judging::findings::{AliasCause, Code, Finding, LeftoverCause};
use crate::judging::pin::PinState;
use crate::judging::pins::{Known, PinReport, Pins, judge_certificate};
use crate::names::name::Hostname;
use crate::planning::moves;
use crate::text::display_text::{one_line, shell_word};
use crate::zones::records::in_words;

/// Collects the steps of many goals.
#[derive(Debug)]
pub struct Planner<'p> {
    desired: &'p Desired,
    knowledge: &'p Knowledge,
    now: Timestamp,
    certificates: HashMap<CertificateId, PinReport>,
    numbers: HashMap<Work, u32>,
    steps: Vec<Step>,
    /// Whether aliases are left as they are.
    holds_aliases: bool,
}

/// One goal while its steps are collected.
struct Aim<'a> {
    goal: Goal,
    /// The hostname that its steps are listed under.
    hostname: &'a Hostname,
    pins: Option<&'a Pins>,
    /// What stands in the way of some of its work.
    hindrances: Vec<Gate>,
}

/// What became of a need.
enum Required {
    /// It holds once these steps have succeeded; at once where there are none.
    After(Vec<u32>),
    /// It cannot be brought about now; the aim knows why.
    No,
}

impl<'p> Planner<'p> {
    /// Starts a plan for what is known at `now`.
    pub fn new(desired: &'p Desired, knowledge: &'p Knowledge, now: Timestamp) -> Self {
        let (certificates, numbers, steps) = (HashMap::new(), HashMap::new(), Vec::new());
        Planner { desired, knowledge, now, certificates, numbers, steps, holds_aliases: false }
    }

    /// Makes everything ready for the aliases, and leaves them as they are.
    pub fn hold_aliases(&mut self) {
        self.holds_aliases = true;
    }

    /// Adds the steps that hold a hostname.
    pub fn add_hostname(&mut self, id: HostnameId) -> Outlook {
        let pins = Pins::judge(Known::about(self.desired, self.knowledge, id), self.now);
        if pins.held() {
            return Outlook::Held;
        }
        let wanted = self.desired.hostname(id);
        let goal = Goal::Hostname(id);
        let mut aim = Aim { goal, hostname: &wanted.hostname, pins: Some(&pins), hindrances: Vec::new() };
        let mut planned = vec![self.require(Work::Mark(wanted.zone), &mut aim)];
        // Whatever becomes of the endpoint, the certificate is renewed and delivered; but a first one is not
        // ordered for an endpoint that would not take it.
        let of = self.desired.certificate(wanted.certificate);
        let is_first = self.knowledge.certificate(wanted.certificate).is_none();
        if pins.binding.state != PinState::Blocked || !is_first || of.terms.is_delivered() {
            planned.push(self.require(Work::Deliver(wanted.certificate), &mut aim));
        }
        planned.push(self.require(Work::Answer(id), &mut aim));
        // Those that the alias does not give now are made ready too: they may be given at any moment.
        if wanted.placement.members.len() > 1 {
            let known = Known::about(self.desired, self.knowledge, id);
            for known in known.everywhere() {
                planned.push(self.require(Work::Connect(id, known.at), &mut aim));
            }
        }
        planned.extend(self.end_move(id, &mut aim));
        let planned = planned.iter().any(|required| matches!(required, Required::After(steps) if !steps.is_empty()));
        // What no step can mend, and what the steps could not be planned for.
        let Aim { mut hindrances, .. } = aim;
        if pins.zone.state != PinState::Held || !planned {
            hindrances.extend(pins.iter().filter_map(|(_, report)| hindrance(report)));
        }
        outlook(hindrances)
    }

    /// Plans what ends the move of a hostname: the bindings at the endpoints that it leaves are taken away.
    fn end_move(&mut self, id: HostnameId, aim: &mut Aim<'_>) -> Vec<Required> {
        let (desired, wanted) = (self.desired, self.desired.hostname(id));
        let Some(own) = self.knowledge.hostnames.get(&id).map(|own| &own.ownership) else { return Vec::new() };
        let former = moves::former_endpoint_ids(desired, wanted, own);
        let unbind = former.iter().map(|endpoint| Work::Unbind(HostnameRef::Wanted(id), *endpoint));
        let is_last = moves::former_endpoints(desired, wanted, own).count() == former.len();
        let is_own = !desired.is_handed_off(wanted.zone);
        let raise = is_own && wanted.ttl > moves::MOVING_TTL && is_last && !former.is_empty();
        let works: Vec<Work> = unbind.chain(raise.then_some(Work::RaiseTtl(id))).collect();
        works.into_iter().map(|work| self.require(work, aim)).collect()
    }

    /// Adds the steps that take a hostname away.
    pub fn add_retirement(&mut self, id: RetiringId) -> Outlook {
        let (desired, retiring) = (self.desired, self.knowledge.retiring(id));
        let goal = Goal::Retired(id);
        let mut aim = Aim { goal, hostname: &retiring.hostname, pins: None, hindrances: Vec::new() };
        let mut planned = vec![self.require(Work::RemoveAlias(id), &mut aim)];
        for key in retiring.known.ownership.bindings.keys() {
            let endpoint = desired.endpoint_at(key);
            match endpoint {
                Some(endpoint) => {
                    planned.push(self.require(Work::Unbind(HostnameRef::Retiring(id), endpoint), &mut aim));
                }
                None => {
                    let gone = LeftoverCause::EndpointGone { at: key.clone() };
                    aim.hindrances.push(Gate::Person(vec![Finding::leftover(&retiring.hostname, gone)]));
                }
            }
        }
        let nothing = planned.iter().all(|required| matches!(required, Required::After(steps) if steps.is_empty()));
        if nothing && aim.hindrances.is_empty() { Outlook::Held } else { outlook(aim.hindrances) }
    }

    /// Adds the steps of a certificate that no hostname uses.
    pub fn add_certificate(&mut self, id: CertificateId) -> Outlook {
        let report = self.judge(id);
        if report.state == PinState::Held {
            return Outlook::Held;
        }
        if report.findings.iter().any(|finding| finding.code() == Code::CertificateRevoked) {
            return Outlook::Blocked(report.findings.clone());
        }
        self.add_for_certificate(id, Work::Deliver(id))
    }

    /// Adds only what proves that a certificate can be issued.
    pub fn add_rehearsal(&mut self, id: CertificateId) -> Outlook {
        match self.knowledge.unproven.get(&id) {
            Some(proving) => self.add_for_certificate(id, Work::Rehearse(*proving)),
            None => Outlook::Held,
        }
    }

    fn add_for_certificate(&mut self, id: CertificateId, work: Work) -> Outlook {
        let Some(hostname) = self.desired.certificate(id).names.first() else { return Outlook::Held };
        let mut aim = Aim { goal: Goal::Certificate(id), hostname, pins: None, hindrances: Vec::new() };
        self.require(work, &mut aim);
        outlook(aim.hindrances)
    }

    /// Returns the steps, numbered so that each comes after those it needs.
    pub fn into_steps(self) -> Vec<Step> {
        self.steps
    }

    /// Plans what brings a piece of work about that is not held, with all that it needs.
    fn require(&mut self, work: Work, aim: &mut Aim<'_>) -> Required {
        let held = self.is_held(work, aim);
        // What is shared and planned already has its needs; a goal only joins it.
        if let Some(number) = self.numbers.get(&work).copied() {
            self.join(number, aim.goal);
            return Required::After(vec![number]);
        }
        if held && matches!(work, Work::Register(_) | Work::Issue(_)) {
            return Required::After(Vec::new());
        }
        if !held {
            let certificate = match work {
                Work::Issue(id) => Some(self.judge(id).clone()),
                _ => None,
            };
            let mut gate = gate(work, self.desired, self.knowledge, aim.pins, certificate.as_ref(), self.now);
            if let (Work::Alias(id), Gate::Go, true) = (work, &gate, self.holds_aliases) {
                gate = Gate::Person(vec![self.held_back(id)]);
            }
            if gate != Gate::Go {
                aim.hindrances.push(gate);
                if matches!(work, Work::Alias(_)) {
                    // The endpoint can be made ready all the same.
                    for need in needs(work, self.desired, self.knowledge) {
                        self.require(need, aim);
                    }
                }
                let usable = certificate.is_some_and(|report| self.is_usable_meanwhile(work, &report));
                return if usable { Required::After(Vec::new()) } else { Required::No };
            }
        }
        let mut after = Vec::new();
        for need in needs(work, self.desired, self.knowledge) {
            match self.require(need, aim) {
                Required::After(steps) => after.extend(steps),
                Required::No => return Required::No,
            }
        }
        after.sort_unstable();
        after.dedup();
        // A new certificate has to be delivered, stored, bound and served; an alias that is
        // right stays right.
        let redone = !after.is_empty() && !matches!(work, Work::Alias(_)) && self.is_asked_for(work);
        if held && !redone {
            return Required::After(after);
        }
        if held {
            // What is done again may be barred although it holds now.
            let gate = gate(work, self.desired, self.knowledge, aim.pins, None, self.now);
            if gate != Gate::Go {
                aim.hindrances.push(gate);
                return Required::No;
            }
        }
        let number = self.add(work, after, aim);
        Required::After(vec![number])
    }

    /// Says whether a piece of work is wanted at all.
    fn is_asked_for(&self, work: Work) -> bool {
        match work {
            Work::Deliver(id) => self.desired.certificate(id).terms.is_delivered(),
            _ => true,
        }
    }

    /// Says whether what the work brings about is there, as far as is known.
    fn is_held(&mut self, work: Work, aim: &Aim<'_>) -> bool {
        let pin = |of: fn(&Pins) -> &PinReport| aim.pins.is_some_and(|pins| of(pins).state == PinState::Held);
        match work {
            Work::Mark(id) => {
                let fact = self.knowledge.zones.get(&id);
                fact.is_none_or(|fact| !self.desired.zone(id).lacks_marker(&fact.value))
            }
            Work::Register(id) => self.knowledge.accounts.contains(&id),
            Work::Rehearse(_) => false,
            Work::Issue(id) => !lacks_issue(self.judge(id)),
            Work::Deliver(id) => !self.judge(id).findings.iter().any(is_undelivered),
            Work::Store(_, at) | Work::Bind(_, at) | Work::Connect(_, at) => {
                aim.pins.is_some_and(|pins| pins.binding_at(at).is_in_force())
            }
            Work::LowerTtl(id) => {
                let own = self.knowledge.hostnames.get(&id);
                own.is_none_or(|own| match &own.facts.alias {
                    Some(alias) => moves::has_low_ttl(&alias.value, &own.ownership, self.now),
                    None => false,
                })
            }
            Work::RemoveAlias(id) => {
                let own = &self.knowledge.retiring(id).known;
                let is_gone = |view: &AliasView| {
                    view.servers
                        .iter()
                        .all(|server| server.gives.as_ref().is_ok_and(|sets| !own.ownership.wrote_alias(sets)))
                };
                own.ownership.alias.is_empty() || own.facts.alias.as_ref().is_some_and(|fact| is_gone(&fact.value))
            }
            Work::Unbind(..) | Work::RaiseTtl(_) => false,
            Work::Alias(id) => pin(|pins| &pins.alias) || self.is_alias_written(id, aim),
            Work::Answer(_) => pin(|pins| &pins.answer),
        }
    }

    /// Says whether nothing is left to be written of an alias, although a server does not say whether it gives it.
    fn is_alias_written(&self, id: HostnameId, aim: &Aim<'_>) -> bool {
        let is_unknown = aim.pins.is_some_and(|pins| pins.alias.state == PinState::Unknown);
        let known = Known::about(self.desired, self.knowledge, id);
        let is_intended = known.ownership.is_some_and(|own| own.alias.intended.is_some());
        is_unknown && !is_intended && known.is_alias_written()
    }

    /// Says whether the certificate that is there serves until another can be had.
    fn is_usable_meanwhile(&self, work: Work, report: &PinReport) -> bool {
        let Work::Issue(id) = work else { return false };
        let Some(held) = self.knowledge.certificate(id).filter(|held| self.now < held.not_after) else { return false };
        let only_late = |finding: &Finding| match finding.code() {
            Code::CertificateDue | Code::CertificateAwaited => true,
            Code::CertificateReplaced => matches!(held.replace, Some(ReplaceReason::Requested(_))),
            _ => false,
        };
        report.findings.iter().all(only_late)
    }

    fn judge(&mut self, id: CertificateId) -> &PinReport {
        let (desired, knowledge, now) = (self.desired, self.knowledge, self.now);
        self.certificates.entry(id).or_insert_with(|| {
            let undelivered = knowledge.undelivered.get(&id);
            judge_certificate(desired, desired.certificate(id), knowledge.certificate(id), undelivered, now)
        })
    }

    /// Notes that a goal needs a step, and all steps before it.
    fn join(&mut self, number: u32, goal: Goal) {
        let mut left = vec![number];
        while let Some(number) = left.pop() {
            let Some(step) = self.steps.get_mut(number as usize - 1) else { continue };
            if step.goals.last() != Some(&goal) {
                step.goals.push(goal);
                left.extend(&step.after);
            }
        }
    }

    fn add(&mut self, work: Work, after: Vec<u32>, aim: &Aim<'_>) -> u32 {
        let id = self.steps.len() as u32 + 1;
        // A platform names its sites as it likes.
        let (why, target) = (one_line(self.why(work, &after, aim)), one_line(self.target(work)));
        let (hostname, action) = (aim.hostname.clone(), work.action());
        self.steps.push(Step { id, hostname, action, target, after, why, work, goals: vec![aim.goal] });
        self.numbers.insert(work, id);
        id
    }

    fn why(&mut self, work: Work, after: &[u32], aim: &Aim<'_>) -> String {
        let renewed = !after.is_empty();
        let of = |report: Option<&PinReport>| match report.and_then(|report| report.findings.first()) {
            Some(finding) => finding.says(),
            None => "it has not been looked at yet".into(),
        };
        match work {
            Work::Mark(_) => "the manifest wants the zone marked".into(),
            Work::Register(_) => "no account at this authority is known yet".into(),
            Work::Rehearse(_) => "a new set-up is proven there before the real authority is asked".into(),
            Work::Deliver(_) if renewed => "the new certificate must be where it is used".into(),
            Work::Issue(id) | Work::Deliver(id) => of(Some(self.judge(id))),
            Work::Store(_, at) | Work::Bind(_, at) => match aim.pins.map(|pins| pins.binding_at(at)) {
                Some(report) if report.state != PinState::Held => of(Some(report)),
                _ => "the new certificate must be served".into(),
            },
            Work::Connect(..) => "the alias must not point at an endpoint that serves another certificate".into(),
            Work::Alias(id) => match self.unanswered_while_deploying(id) {
                Some(says) if !aim.pins.is_some_and(|pins| pins.binding.is_in_force()) => says,
                _ => of(aim.pins.map(|pins| &pins.alias)),
            },
            Work::Answer(_) if renewed => "to verify what clients get afterwards".into(),
            Work::Answer(_) => of(aim.pins.map(|pins| &pins.answer)),
            Work::LowerTtl(_) => {
                "the hostname moves: what is wrong with the new endpoint must be taken back soon".into()
            }
            Work::RaiseTtl(_) => "the hostname has moved".into(),
            Work::RemoveAlias(_) => "the manifest no longer names the hostname".into(),
            Work::Unbind(whose, _) => {
                let forgotten = self.ownership(whose).and_then(|own| own.former_alias?.forgotten_at());
                match forgotten.filter(|at| self.now < *at) {
                    Some(at) => {
                        format!("clients are no longer led there; caches may return the old alias until {at:.0}")
                    }
                    None => "clients are no longer led there once caches have forgotten the old alias".into(),
                }
            }
        }
    }

    /// Says for how long a hostname will not be answered, where its endpoint binds it only once its alias
    /// leads there.
    fn unanswered_while_deploying(&self, id: HostnameId) -> Option<String> {
        let endpoint = Known::about(self.desired, self.knowledge, id).at;
        let EndpointView::Listed(info) = &self.knowledge.endpoints.get(&endpoint)?.value else { return None };
        let name = &self.desired.endpoint(endpoint).name;
        let long = match info.deploys_in_seconds {
            Some(seconds) => format!("about {seconds} s as a rule"),
            None => "its platform does not say for how long".into(),
        };
        info.alias_first.then(|| {
            format!("{name} binds a hostname only once its alias leads there: until that is deployed ({long}), it will not be answered")
        })
    }

    fn ownership(&self, whose: HostnameRef) -> Option<&'p Ownership> {
        match whose {
            HostnameRef::Wanted(id) => self.knowledge.hostnames.get(&id).map(|own| &own.ownership),
            HostnameRef::Retiring(id) => Some(&self.knowledge.retiring(id).known.ownership),
        }
    }

    /// What a person does before the alias of a hostname moves.
    fn held_back(&self, id: HostnameId) -> Finding {
        let (desired, wanted) = (self.desired, self.desired.hostname(id));
        let known = Known::about(desired, self.knowledge, id);
        let name = &desired.endpoint(known.at).name;
        let held_back = |look| Finding::alias(&wanted.hostname, AliasCause::HeldBack { endpoint: name.clone(), look });
        let Some(info) = known.info() else { return held_back(None) };
        let authority = desired.certificate(wanted.certificate).authority.map(|id| desired.authority(id));
        let roots = authority.and_then(|authority| authority.issued_roots.as_ref());
        let roots = roots.map_or_else(String::new, |path| format!(" --cacert {}", shell_word(path.display())));
        let (host, port) = (&wanted.probed_as, info.port);
        let shown_port = if port == 443 { String::new() } else { format!(":{port}") };
        let address = info.addresses.first().map_or_else(
            || "ADDRESS".to_owned(),
            |address| match address {
                IpAddr::V4(address) => address.to_string(),
                IpAddr::V6(address) => format!("[{address}]"),
            },
        );
        let path = &wanted.expect.path;
        let url = shell_word(format_args!("https://{host}{shown_port}{path}"));
        let resolve = shell_word(format_args!("{host}:{port}:{address}"));
        held_back(Some(format!("curl{roots} --resolve {resolve} {url}")))
    }

    fn target(&self, work: Work) -> String {
        let desired = self.desired;
        let listed = |endpoint| match self.knowledge.endpoints.get(&endpoint).map(|fact| &fact.value) {
            Some(EndpointView::Listed(info)) => Some(info),
            _ => None,
        };
        match work {
            Work::Mark(id) => format!("zone {}", desired.zone(id).name),
            Work::Register(id) => format!("account at {}", desired.authority(id).name),
            Work::Rehearse(id) => {
                let authority = desired.certificate(id).authority.map(|authority| desired.authority(authority));
                let practice = authority.and_then(|authority| authority.rehearsal);
                let name = practice.map_or("", |practice| &desired.authority(practice).name);
                format!("the same at {name}")
            }
            Work::Issue(id) => {
                let wanted = desired.certificate(id);
                let names = match wanted.names.as_slice() {
                    [first, rest @ ..] if rest.len() > 3 => format!("{first} and {} more names", rest.len()),
                    names => names.iter().map(Hostname::as_str).collect::<Vec<_>>().join(", "),
                };
                match wanted.authority {
                    Some(authority) => format!("certificate for {names} from {}", desired.authority(authority).name),
                    None => format!("self-signed certificate for {names}"),
                }
            }
            Work::Deliver(id) => {
                let wanted = desired.certificate(id);
                let files = wanted.terms.deliveries.iter().map(|delivery| delivery.file.display().to_string());
                let files = files.collect::<Vec<_>>().join(", ");
                let commands = wanted.terms.after.iter().map(|command| format!("`{command}`"));
                match (files, commands.collect::<Vec<_>>().join(" and ")) {
                    (files, commands) if commands.is_empty() => files,
                    (files, commands) if files.is_empty() => commands,
                    (files, commands) => format!("{files}, then {commands}"),
                }
            }
            Work::Store(_, endpoint) => match listed(endpoint) {
                Some(info) if !desired.endpoint(endpoint).is_on_this_machine() => {
                    format!("certificate store of {}", info.certificate_site)
                }
                _ => format!("certificate store of {}", desired.endpoint(endpoint).name),
            },
            Work::Bind(_, endpoint) | Work::Connect(_, endpoint) | Work::Unbind(_, endpoint) => {
                let endpoint = desired.endpoint(endpoint);
                format!("{} {}", endpoint.kind, endpoint.name)
            }
            Work::Alias(id) => {
                let wanted = desired.hostname(id);
                let known = Known::about(desired, self.knowledge, id);
                let gives_target =
                    |info: &EndpointInfo| info.own_targets && known.target().is_none() && !wanted.is_apex(desired);
                match known.manifest_alias() {
                    Some(_) if known.info().is_some_and(gives_target) => {
                        format!("the target that {} gives it", desired.endpoint(known.at).name)
                    }
                    Some(alias) => in_words(&alias),
                    None => format!("alias of {}", wanted.hostname),
                }
            }
            Work::LowerTtl(_) => format!("TTL {} s", moves::MOVING_TTL.as_secs()),
            Work::RaiseTtl(id) => format!("TTL {} s", desired.hostname(id).ttl.as_secs()),
            Work::RemoveAlias(id) => {
                let own = &self.knowledge.retiring(id).known.ownership.alias;
                in_words(own.made.as_ref().or(own.intended.as_ref()).map_or(&[][..], Vec::as_slice))
            }
            Work::Answer(id) => {
                let wanted = desired.hostname(id);
                let port = match Known::about(desired, self.knowledge, id).info().map_or(443, |info| info.port) {
                    443 => String::new(),
                    port => format!(":{port}"),
                };
                format!("https://{}{port}{}", wanted.probed_as, wanted.expect.path)
            }
        }
    }
}

fn is_undelivered(finding: &Finding) -> bool {
    matches!(finding.code(), Code::CertificateUndelivered | Code::CommandFailed | Code::ServedCertificateDiffers)
}

/// Says whether another certificate is needed: it is not held, and not only for want of a
/// delivery.
fn lacks_issue(report: &PinReport) -> bool {
    let kept = |finding: &Finding| is_undelivered(finding) || finding.code() == Code::CertificateRevoked;
    report.state != PinState::Held && !report.findings.iter().any(kept)
}

/// What a pin that is not held says stands in the way, where no step mends it.
fn hindrance(report: &PinReport) -> Option<Gate> {
    match report.state {
        PinState::Held => None,
        PinState::Blocked => Some(Gate::Person(report.findings.clone())),
        _ if report.findings.is_empty() => None,
        PinState::Unknown => Some(Gate::Until(report.findings.clone())),
        PinState::Working | PinState::Loose => None,
    }
}

/// What is most in the way comes first: what is down, then a person's task, then a time.
fn outlook(hindrances: Vec<Gate>) -> Outlook {
    let (mut down, mut waiting, mut persons) = (Vec::new(), Vec::new(), Vec::new());
    let add = |to: &mut Vec<Finding>, finding: Finding| {
        if !to.contains(&finding) {
            to.push(finding);
        }
    };
    for gate in hindrances {
        match gate {
            Gate::Go => {}
            Gate::Person(findings) => findings.into_iter().for_each(|finding| add(&mut persons, finding)),
            Gate::Until(findings) => {
                for finding in findings {
                    let waits = finding.again().at().is_some() || !finding.code().is_outage();
                    add(if waits { &mut waiting } else { &mut down }, finding);
                }
            }
        }
    }
    if !down.is_empty() {
        Outlook::Outage(down)
    } else if !persons.is_empty() {
        Outlook::Blocked(persons)
    } else if !waiting.is_empty() {
        Outlook::Waiting(waiting)
    } else {
        Outlook::Steps
    }
}

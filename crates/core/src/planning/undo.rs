//! Undoing a run: what each hostname was like before it, and what should hold so that it is so again.
//!
//! What was before is wanted in the place of what the manifest says, and the planner brings it about in the
//! same order as anything else. Certificates are not put back: a renewed one stays.

use std::collections::BTreeMap;
use std::sync::Arc;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::desired::{
    AuthorityId, CertificateId, CertificateTerms, Desired, EndpointDriver, EndpointId, PlacedEndpoint, Placement,
    WantedCertificate, WantedClients, WantedHostname,
};
use crate::endpoints::endpoint::Binding;
use crate::endpoints::expectation::Expectation;
use crate::health::policy::Policy;
use crate::judging::facts::{EndpointKey, Origin, Ownership};
use crate::judging::findings::{Finding, LeftoverCause, NotUndone};
use crate::names::name::DnsName;
use crate::names::name::Hostname;
use crate::values::Ttl;
use crate::zones::records::{RecordData, RecordSet, RecordTypes, in_words};

/// What a hostname is like, as far as Pindrel made it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct HostnameForm {
    /// The endpoint where its alias leads; `None` where it has none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<EndpointKey>,
    /// Its alias records.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub alias: Vec<RecordSet>,
    /// Its bindings.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub bindings: BTreeMap<EndpointKey, Binding>,
}

impl HostnameForm {
    /// Returns what a hostname is like: with the alias that was written for it, else the one that somebody else has made,
    /// which is `seen`; `leads_to` finds the endpoint where alias records lead.
    pub fn of(
        ownership: &Ownership,
        seen: &[RecordSet],
        leads_to: impl Fn(&[RecordSet]) -> Option<EndpointKey>,
    ) -> HostnameForm {
        let alias = ownership.alias.made.clone().filter(|own| !own.is_empty()).unwrap_or_else(|| seen.to_vec());
        let made = |(key, written): (&EndpointKey, &crate::judging::facts::Written<Binding>)| {
            Some((key.clone(), written.made.clone()?))
        };
        let bindings: BTreeMap<EndpointKey, Binding> = ownership.bindings.iter().filter_map(made).collect();
        let only = || bindings.keys().next().filter(|_| bindings.len() == 1).cloned();
        let at = if alias.is_empty() { None } else { leads_to(&alias).or_else(only) };
        HostnameForm { at, alias, bindings }
    }

    /// Says in words what is different afterwards; `name` is what an endpoint is called.
    pub fn differences(&self, after: &HostnameForm, name: impl Fn(&EndpointKey) -> String) -> Vec<String> {
        let mut differences = Vec::new();
        if self.alias != after.alias {
            differences.push(format!("alias {} → {}", with_ttl(&self.alias), with_ttl(&after.alias)));
        }
        for key in after.bindings.keys().filter(|key| !self.bindings.contains_key(key)) {
            differences.push(format!("bound at {}", name(key)));
        }
        for (key, before) in &self.bindings {
            match after.bindings.get(key) {
                None => differences.push(format!("no longer bound at {}", name(key))),
                Some(after) if after != before => {
                    let what = crate::judging::pins::differences(before, after);
                    differences.push(format!("binding at {}: {what}", name(key)));
                }
                Some(_) => {}
            }
        }
        differences
    }
}

fn with_ttl(sets: &[RecordSet]) -> String {
    match sets.first() {
        Some(first) => format!("{} (TTL {} s)", in_words(sets), first.ttl().as_secs()),
        None => "none".into(),
    }
}

/// What an undoing keeps back: the manifest's wish for a hostname is not followed until it is another.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptBack {
    /// The hostname.
    pub hostname: Hostname,
    /// The run that was undone.
    pub run: i64,
    /// When.
    pub since: Timestamp,
    /// A digest of what the manifest wanted of the hostname then; `None` where it did not name it.
    pub wanted: Option<u64>,
    /// What it was like before the run, and is kept as.
    pub form: HostnameForm,
}

/// Returns what is to be kept back when hostnames are put back to what they were before a run: those of which the
/// manifest wants something else; `wanted` has its digests by hostname. `since` is now.
pub fn to_keep_back(
    wanted: &BTreeMap<Hostname, u64>,
    undone: &Undoing,
    before: &[(Hostname, HostnameForm)],
    run: i64,
    since: Timestamp,
) -> Vec<KeptBack> {
    let put_back = undone.desired.digests_by_hostname();
    let is_undone = |hostname: &&(Hostname, HostnameForm)| {
        undone.put_back.contains(&hostname.0) || undone.taken_away.contains(&hostname.0)
    };
    let differs = |(hostname, _): &&(Hostname, HostnameForm)| wanted.get(hostname) != put_back.get(hostname);
    let keep = |(hostname, form): &(Hostname, HostnameForm)| KeptBack {
        hostname: hostname.clone(),
        run,
        since,
        wanted: wanted.get(hostname).copied(),
        form: form.clone(),
    };
    before.iter().filter(is_undone).filter(differs).map(keep).collect()
}

/// What should hold where some of what the manifest wants is kept back.
#[derive(Debug, Default)]
pub struct KeepingBack {
    /// What should hold.
    pub desired: Desired,
    /// What is kept back.
    pub kept: Vec<KeptBack>,
    /// The hostnames that are no longer kept back: the manifest now wants something else of them, or their former state
    /// can no longer be restored.
    pub over: Vec<Hostname>,
}

/// Keeps back what an undoing keeps back, as long as the manifest wants the same as then. What it does not name may be
/// of another manifest.
pub fn keep_back(desired: Desired, kept: Vec<KeptBack>) -> KeepingBack {
    if kept.is_empty() {
        return KeepingBack { desired, ..KeepingBack::default() };
    }
    let wanted = desired.digests_by_hostname();
    let is_same = |kept: &KeptBack| wanted.get(&kept.hostname).copied() == kept.wanted;
    let (kept, others): (Vec<_>, Vec<_>) = kept.into_iter().partition(is_same);
    let over = others.into_iter().filter(|other| wanted.contains_key(&other.hostname));
    let forms: Vec<_> = kept.iter().map(|kept| (kept.hostname.clone(), kept.form.clone())).collect();
    let Undoing { desired, hindered, .. } = undo(desired, &forms);
    let is_possible = |kept: &KeptBack| hindered.iter().all(|(hostname, _)| *hostname != kept.hostname);
    let (kept, gone): (Vec<_>, Vec<_>) = kept.into_iter().partition(is_possible);
    KeepingBack { desired, kept, over: over.chain(gone).map(|kept| kept.hostname).collect() }
}

/// What should hold instead of what the manifest says.
#[derive(Debug, Default)]
pub struct Undoing {
    /// What should hold.
    pub desired: Desired,
    /// The hostnames that are put back.
    pub put_back: Vec<Hostname>,
    /// The hostnames that are taken away, since they had no alias before.
    pub taken_away: Vec<Hostname>,
    /// What cannot be put back, and why.
    pub hindered: Vec<(Hostname, Finding)>,
}

/// Returns what should hold so that some hostnames are what they were before.
pub fn undo(desired: Desired, before: &[(Hostname, HostnameForm)]) -> Undoing {
    let mut undoing = Undoing { desired, ..Undoing::default() };
    for (hostname, form) in before {
        if form.at.is_none() && form.alias.is_empty() {
            undoing.take_away(hostname);
            undoing.taken_away.push(hostname.clone());
            continue;
        }
        match undoing.put_back(hostname, form) {
            Ok(()) => undoing.put_back.push(hostname.clone()),
            Err(finding) => undoing.hindered.push((hostname.clone(), finding)),
        }
    }
    undoing
}

fn not_undone(hostname: &Hostname, why: NotUndone) -> Finding {
    Finding::leftover(hostname, LeftoverCause::NotUndone(why))
}

impl Undoing {
    /// Wants a hostname no longer, nor the certificate that was for it alone.
    fn take_away(&mut self, hostname: &Hostname) {
        let Some(at) = self.desired.hostnames.iter().position(|wanted| wanted.hostname == *hostname) else { return };
        let certificate = self.desired.hostnames.remove(at).certificate;
        let is_used = self.desired.hostnames.iter().any(|wanted| wanted.certificate == certificate);
        if !is_used && self.desired.certificate(certificate).name == hostname.as_str() {
            self.desired.let_go.insert(certificate);
        }
    }

    fn put_back(&mut self, hostname: &Hostname, form: &HostnameForm) -> Result<(), Finding> {
        let endpoint = self.endpoint(hostname, form)?;
        let key = self.desired.endpoint(endpoint).key();
        // What nobody was told of is not known: it stays as the manifest has it.
        let binding = form.bindings.get(&key);
        let client_certificates = match binding.and_then(|binding| binding.client_certificates.as_deref()) {
            Some(clients) if self.desired.trust_bundles.contains_key(&clients.roots) => Some(Arc::new(WantedClients {
                roots: clients.roots,
                need: clients.need,
                probe_with: self.wanted(hostname).and_then(|own| own.client_certificates.as_ref()?.probe_with.clone()),
            })),
            Some(_) => return Err(not_undone(hostname, NotUndone::ClientRootsGone)),
            None => None,
        };
        let issued = binding.is_some_and(|binding| binding.certificate.is_none());
        let mut wanted = match self.wanted(hostname) {
            Some(wanted) => wanted.clone(),
            None => self.new_hostname(hostname, endpoint)?,
        };
        let is_issued = wanted.is_issued_by_platform(&self.desired);
        if binding.is_some() && issued != is_issued {
            wanted.certificate = self.own_certificate(hostname, issued)?;
        }
        if let Some(binding) = binding {
            if wanted.routes != binding.routes || wanted.redirect_to != binding.redirect_to {
                wanted.expect = match binding.redirect_to {
                    Some(_) => Expectation::redirect(),
                    None => Expectation::for_routes(&binding.routes),
                };
                wanted.samples.clear();
            }
            wanted.routes.clone_from(&binding.routes);
            wanted.redirect_to.clone_from(&binding.redirect_to);
            wanted.minimum_tls = binding.minimum_tls;
            wanted.client_certificates = client_certificates;
        }
        wanted.placement = self.placement(&wanted, form, endpoint);
        wanted.ttl = form.alias.first().map_or(wanted.ttl, RecordSet::ttl);
        match self.desired.hostnames.iter_mut().find(|own| own.hostname == *hostname) {
            Some(own) => *own = wanted,
            None => self.desired.hostnames.push(wanted),
        }
        Ok(())
    }

    /// The endpoint where the alias of a hostname led.
    fn endpoint(&mut self, hostname: &Hostname, form: &HostnameForm) -> Result<EndpointId, Finding> {
        if let Some(key) = &form.at {
            let gone = || not_undone(hostname, NotUndone::EndpointGone(key.clone()));
            return self.desired.endpoint_at(key).ok_or_else(gone);
        }
        // What an endpoint was called is known of no other than those that somebody else configures.
        let is_led = |id: &EndpointId| {
            self.desired.endpoint(*id).static_info().is_some_and(|info| info.is_led_to(&form.alias, None))
        };
        if let Some(id) = self.desired.endpoint_ids().find(is_led) {
            return Ok(id);
        }
        let unknown = || not_undone(hostname, NotUndone::AliasUnknown(in_words(&form.alias)));
        let only =
            self.wanted(hostname).filter(|wanted| wanted.endpoints().count() == 1).map(|own| own.first_endpoint());
        let (Some(only), Some(name)) = (only, form.alias.iter().flat_map(RecordSet::data).find_map(target)) else {
            return Err(unknown());
        };
        match &mut self.desired.endpoints[only.0 as usize].driver {
            // It was given another name since.
            EndpointDriver::Static(place) => place.default_name = name.clone(),
            _ => return Err(unknown()),
        }
        Ok(only)
    }

    /// Where a hostname was: where the manifest has it too, all of that; else where its alias led, and then
    /// wherever else it was bound.
    fn placement(&self, wanted: &WantedHostname, form: &HostnameForm, first: EndpointId) -> Arc<Placement> {
        let mut were: Vec<EndpointId> = vec![first];
        let bound = form.bindings.keys().filter_map(|key| self.desired.endpoint_at(key));
        were.extend(bound.filter(|endpoint| *endpoint != first));
        let placement = &wanted.placement;
        if wanted.endpoints().all(|endpoint| were.contains(&endpoint)) && were.len() == placement.members.len() {
            return placement.clone();
        }
        if were.len() == 1 {
            return Arc::new(Placement::single(first));
        }
        let check = |endpoint| placement.members.iter().find(|own| own.endpoint == endpoint).and_then(|own| own.check);
        let members = were.into_iter().map(|endpoint| PlacedEndpoint { endpoint, check: check(endpoint) }).collect();
        Arc::new(Placement { members, policy: Policy::Standby, back_after: placement.back_after })
    }

    fn wanted(&self, hostname: &Hostname) -> Option<&WantedHostname> {
        self.desired.hostnames.iter().find(|wanted| wanted.hostname == *hostname)
    }

    /// A hostname that the manifest no longer names.
    fn new_hostname(&mut self, hostname: &Hostname, endpoint: EndpointId) -> Result<WantedHostname, Finding> {
        let Some(zone) = self.desired.zone_of(hostname) else {
            return Err(not_undone(hostname, NotUndone::NoZone));
        };
        if hostname.is_wildcard() {
            return Err(not_undone(hostname, NotUndone::LabelUnrecorded));
        }
        Ok(WantedHostname {
            hostname: hostname.clone(),
            zone,
            placement: Arc::new(Placement::single(endpoint)),
            certificate: self.own_certificate(hostname, false)?,
            routes: Vec::new(),
            redirect_to: None,
            minimum_tls: crate::endpoints::endpoint::TlsVersion::V1_2,
            client_certificates: None,
            ttl: Ttl::TEN_MINUTES,
            expect: Expectation::at("/"),
            samples: Vec::new(),
            probed_as: hostname.clone(),
            https_alias: false,
            replace: RecordTypes::default(),
            labels: Vec::new(),
            note: None,
        })
    }

    /// A declared certificate that covers a hostname, else one of its own.
    fn own_certificate(&mut self, hostname: &Hostname, by_platform: bool) -> Result<CertificateId, Finding> {
        let origin = if by_platform { Origin::Platform } else { Origin::Authority };
        let covers = |id: &CertificateId| {
            let own = self.desired.certificate(*id);
            own.terms.issued_by == origin && own.names.iter().any(|name| name == hostname || name.covers(hostname))
        };
        if let Some(id) = self.desired.certificate_ids().find(covers) {
            return Ok(id);
        }
        let authority = match (by_platform, self.desired.authorities.as_slice()) {
            (true, _) => None,
            (false, [_]) => Some(AuthorityId(0)),
            (false, _) => {
                return Err(not_undone(hostname, NotUndone::AuthorityUnrecorded));
            }
        };
        let terms = Arc::new(CertificateTerms { issued_by: origin, ..CertificateTerms::default() });
        let (name, names) = (hostname.as_str().to_owned(), vec![hostname.clone()]);
        self.desired.certificates.push(WantedCertificate { name, names, authority, terms });
        Ok(CertificateId(self.desired.certificates.len() as u32 - 1))
    }
}

/// The name that an alias record leads to.
fn target(data: &RecordData) -> Option<&DnsName> {
    match data {
        RecordData::Cname(name) | RecordData::Alias(name) | RecordData::HttpsAlias(name) => Some(name),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::desired::{HostnameId, SMALL_MANIFEST, resolved};
    use crate::endpoints::endpoint::{Route, TlsVersion};
    use crate::values::Fingerprint;

    fn desired() -> Desired {
        let more = "[endpoint.plates]\nkind = \"distribution\"\ndriver = \"http\"\n\
                    url = \"https://platform.example\"\ntoken = \"env:TOKEN\"\n\
                    [hostname.\"api.larkfield.example\"]\nendpoint = \"plates\"\n\
                    routes = [{ prefix = \"/v2\", service = \"plates\" }]\n";
        resolved(&format!("{SMALL_MANIFEST}{more}"))
    }

    fn key(id: &str) -> EndpointKey {
        EndpointKey::new(&"https://platform.example".parse().unwrap(), id)
    }

    fn form(at: &str, binding: Binding) -> HostnameForm {
        let target = RecordData::Cname(format!("{at}.edge.test").parse().unwrap());
        let alias = RecordSet::group([(Ttl::MINUTE, target)]);
        HostnameForm { at: Some(key(at)), alias, bindings: [(key(at), binding)].into() }
    }

    #[test]
    fn what_was_before_is_wanted_again_and_nothing_else_changes() {
        let route = |prefix: &str| Route { prefix: prefix.into(), service: "catalogue".into(), release: None };
        let plain = || Binding::plain(Some(Fingerprint::of(b"old")));
        let before = Binding { routes: vec![route("/v1")], minimum_tls: TlsVersion::V1_3, ..plain() };
        let name = |text: &str| -> Hostname { text.parse().unwrap() };
        let api = name("api.larkfield.example");

        let undoing = undo(desired(), &[(api.clone(), form("catalogue", before.clone()))]);
        let wanted = undoing.desired.hostname(HostnameId(0));
        assert_eq!(undoing.desired.endpoint(wanted.first_endpoint()).name, "catalogue");
        assert_eq!((&wanted.routes, wanted.minimum_tls, wanted.ttl), (&before.routes, TlsVersion::V1_3, Ttl::MINUTE));
        assert_eq!(wanted.expect.path, "/v1", "what was there is what is asked for");
        assert_eq!((undoing.put_back, undoing.taken_away.len()), (vec![api.clone()], 0));

        // One that the manifest no longer names, and one that had no alias before.
        let gone = name("gone.larkfield.example");
        let changes = [(gone.clone(), form("plates", plain())), (api.clone(), HostnameForm::default())];
        let undoing = undo(desired(), &changes);
        assert_eq!(undoing.desired.hostnames.len(), 1);
        let certificate = undoing.desired.certificate(undoing.desired.hostname(HostnameId(0)).certificate);
        assert_eq!(
            (certificate.name.as_str(), certificate.authority),
            ("gone.larkfield.example", Some(AuthorityId(0)))
        );
        assert_eq!(undoing.desired.unused_certificates(), [], "that of the one that is taken away is not renewed");
        assert_eq!((undoing.put_back, undoing.taken_away), (vec![gone.clone()], vec![api.clone()]));

        // The platform issued it then.
        let undoing = undo(desired(), &[(api.clone(), form("plates", Binding::plain(None)))]);
        assert!(undoing.desired.hostname(HostnameId(0)).is_issued_by_platform(&undoing.desired));

        let elsewhere = name("www.other.example");
        let clients = crate::endpoints::endpoint::ClientCertificates {
            roots: Fingerprint::of(b"lost"),
            need: crate::endpoints::endpoint::ClientNeed::Required,
        };
        let guarded = Binding { client_certificates: Some(Box::new(clients)), ..plain() };
        for (hostname, form, says) in [
            (&api, form("unknown", plain()), "which is not in the manifest"),
            (&elsewhere, form("plates", plain()), "is not in any zone"),
            (&api, form("plates", guarded), "roots for client certificates"),
            (&name("*.larkfield.example"), form("plates", plain()), "under which label"),
        ] {
            let undoing = undo(desired(), &[(hostname.clone(), form)]);
            assert!(undoing.hindered[0].1.says().contains(says), "{:?}", undoing.hindered);
            assert_eq!(undoing.desired.hostnames, desired().hostnames, "nothing of it is half done");
        }
    }

    #[test]
    fn what_is_kept_back_stays_until_the_manifest_wants_something_else() {
        let name = |text: &str| -> Hostname { text.parse().unwrap() };
        let [api, gone, other] = ["api", "gone", "other"].map(|label| name(&format!("{label}.larkfield.example")));
        let plain = || Binding::plain(Some(Fingerprint::of(b"old")));
        let before = [(api.clone(), form("catalogue", plain())), (gone.clone(), form("plates", plain()))];
        let wanted = desired().digests_by_hostname();
        let kept = to_keep_back(&wanted, &undo(desired(), &before), &before, 7, Timestamp::UNIX_EPOCH);
        let told: Vec<_> = kept.iter().map(|kept| (&kept.hostname, kept.wanted)).collect();
        assert_eq!(told, [(&api, wanted.get(&api).copied()), (&gone, None)]);
        // What the manifest wants anyway is not kept back.
        let moved = [(api.clone(), form("plates", plain()))];
        let again = undo(desired(), &moved);
        let same = again.desired.digests_by_hostname();
        assert!(to_keep_back(&same, &again, &moved, 8, Timestamp::UNIX_EPOCH).is_empty());

        let keeping = keep_back(desired(), kept.clone());
        let leads = |desired: &Desired, hostname: &Hostname| {
            let wanted = desired.hostnames.iter().find(|wanted| wanted.hostname == *hostname);
            wanted.map(|wanted| desired.endpoint(wanted.first_endpoint()).name.clone())
        };
        assert_eq!(leads(&keeping.desired, &api).as_deref(), Some("catalogue"));
        assert_eq!(leads(&keeping.desired, &gone).as_deref(), Some("plates"));
        assert_eq!((keeping.kept.len(), keeping.over.len()), (2, 0));

        // Another wish, one that was not there, and one of another manifest.
        let mut changed = desired();
        changed.hostnames[0].ttl = Ttl::MINUTE;
        changed.hostnames.push(WantedHostname { hostname: gone.clone(), ..changed.hostnames[0].clone() });
        let elsewhere = KeptBack { hostname: other, wanted: Some(3), ..kept[0].clone() };
        let lost = KeptBack { form: form("unknown", plain()), ..kept[0].clone() };
        let keeping = keep_back(changed, [kept.as_slice(), &[elsewhere]].concat());
        assert_eq!((leads(&keeping.desired, &api).as_deref(), keeping.kept.len()), (Some("plates"), 0));
        assert_eq!(keeping.over, [api.clone(), gone]);
        // An endpoint that is gone keeps nothing back.
        let keeping = keep_back(desired(), vec![lost]);
        assert_eq!((leads(&keeping.desired, &api).as_deref(), keeping.over), (Some("plates"), vec![api]));
    }

    #[test]
    fn where_an_alias_led_is_found_by_its_records_and_what_had_one_is_never_taken_away() {
        let more = "[endpoint.depot]\nkind = \"gateway\"\ndriver = \"static\"\naddresses = [\"192.0.2.9\"]\n\
                    default_name = \"depot.edge.test.\"\n[hostname.\"api.larkfield.example\"]\nendpoint = \"depot\"\n\
                    [hostname.\"www.larkfield.example\"]\nendpoint = \"catalogue\"\n";
        let desired = || resolved(&format!("{SMALL_MANIFEST}{more}"));
        let name = |text: &str| -> Hostname { text.parse().unwrap() };
        let alias = |to: &str| RecordSet::group([(Ttl::MINUTE, RecordData::Cname(to.parse().unwrap()))]);
        let undone = |hostname: &str, to: &str| {
            undo(desired(), &[(name(hostname), HostnameForm { alias: alias(to), ..HostnameForm::default() })])
        };
        let at = |undoing: &Undoing, hostname: &str| {
            let wanted = undoing.desired.hostname(undoing.desired.hostname_named(&name(hostname)).unwrap());
            let endpoint = undoing.desired.endpoint(wanted.first_endpoint());
            (endpoint.name.clone(), endpoint.static_info().map(|info| info.default_name.unwrap().to_string()))
        };
        for (hostname, to, is_at, called) in [
            // By the name of an endpoint that somebody else configures, wherever the manifest has it now.
            ("www.larkfield.example", "depot.edge.test.", "depot", "depot.edge.test"),
            ("gone.larkfield.example", "depot.edge.test.", "depot", "depot.edge.test"),
            // By the only endpoint that it has, which had another name then.
            ("api.larkfield.example", "before.edge.test.", "depot", "before.edge.test"),
        ] {
            let undoing = undone(hostname, to);
            assert_eq!((&undoing.taken_away[..], undoing.put_back.len()), (&[][..], 1), "{:?}", undoing.hindered);
            assert_eq!(at(&undoing, hostname), (is_at.into(), Some(called.into())));
        }
        let undoing = undone("www.larkfield.example", "before.edge.test.");
        assert!(undoing.hindered[0].1.says().contains("leads to no endpoint of the manifest"), "{undoing:?}");
        assert_eq!((undoing.taken_away, undoing.put_back), (vec![], vec![]));
        // What somebody else had made was an alias too.
        let form = HostnameForm::of(&Ownership::default(), &alias("before.edge.test."), |_| None);
        assert_eq!((form.at, form.alias.len()), (None, 1));
    }

    #[test]
    fn differences_are_told_in_words() {
        let plain = |seed: &[u8]| Binding::plain(Some(Fingerprint::of(seed)));
        let (at_catalogue, at_plates) = (form("catalogue", plain(b"one")), form("plates", plain(b"one")));
        let name = EndpointKey::to_string;
        assert_eq!(at_catalogue.differences(&at_catalogue, name), [""; 0]);
        assert_eq!(
            at_catalogue.differences(&at_plates, name),
            [
                "alias CNAME catalogue.edge.test. (TTL 60 s) → CNAME plates.edge.test. (TTL 60 s)",
                "bound at https://platform.example/ plates",
                "no longer bound at https://platform.example/ catalogue",
            ]
        );
        let renewed = form("catalogue", plain(b"two"));
        assert_eq!(
            at_catalogue.differences(&renewed, name),
            ["binding at https://platform.example/ catalogue: its certificate"]
        );
        assert_eq!(
            HostnameForm::default().differences(&renewed, name)[0],
            "alias none → CNAME catalogue.edge.test. (TTL 60 s)"
        );
    }
}

//! From the entries of a manifest to what should hold: references followed, defaults applied.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::PathBuf;
use std::sync::Arc;

use super::{
    Authority, AuthorityId, CertificateId, CertificateTerms, Desired, Endpoint, EndpointDriver, EndpointId,
    ExternalAccountKey, HostnameId, HttpPlatform, PlacedEndpoint, Placement, ProgramPlatform, WantedCertificate,
    WantedClients, WantedHostname, Zone, ZoneId,
};
use crate::certificates::delivery::Delivery;
use crate::certificates::renewal::RenewalRule;
use crate::endpoints::expectation::Expectation;
use crate::health::policy::Policy;
use crate::judging::facts::Origin;
use crate::manifest::{
    At, CertificateEntry, ClientCertificatesEntry, Diagnostics, EndpointDriverEntry, EndpointHealthEntry,
    HostnameEntry, MOST_NAMES, Manifest, PolicyWord, Span,
};
use crate::names::name::Hostname;
use crate::values::{Fingerprint, Ttl};

/// The start of a manifest: an authority, a zone, and an endpoint.
#[cfg(test)]
pub(crate) const SMALL_MANIFEST: &str = r#"
manifest = 1
[authority.main]
directory = "https://authority.example/directory"
agree_to_terms = true
[zone."larkfield.example"]
driver = "rfc2136"
tsig = { name = "pindrel", secret = "env:SECRET" }
[endpoint.catalogue]
kind = "gateway"
driver = "http"
url = "https://platform.example"
token = "env:TOKEN"
"#;

/// What a manifest without mistakes comes to.
#[cfg(test)]
pub(crate) fn resolved(text: &str) -> Desired {
    let mut problems = Diagnostics::default();
    let desired = resolve(crate::manifest::read(text, &mut problems), &mut problems);
    assert!(problems.is_empty(), "{problems:?}\n{text}");
    desired
}

/// Follows the references of a manifest and applies its defaults; mistakes are added
/// to `problems`.
pub fn resolve(manifest: Manifest, problems: &mut Diagnostics) -> Desired {
    let mut resolver = Resolver::new(&manifest, problems);
    resolver.desired.certificates.reserve(manifest.hostnames.len());
    let renewal = manifest.default_renew.map_or(RenewalRule::Share, RenewalRule::Before);
    let usual =
        CertificateTerms { key: manifest.default_key.unwrap_or_default(), renewal, ..CertificateTerms::default() };
    resolver.usual = Arc::new(usual);
    resolver.desired.former_keys = manifest.former_keys;
    resolver.trust_bundles = manifest.trust_bundles;
    for entry in &manifest.certificates {
        resolver.declare(entry, &manifest.default_authority);
    }
    resolver.desired.look_every = manifest.look_every;
    resolver.desired.listen = manifest.listen;
    let Manifest {
        default_authority,
        default_endpoint,
        default_ttl,
        mut hostnames,
        certificates,
        endpoints,
        health,
        ..
    } = manifest;
    // A default that is wrong is one mistake, however many hostnames have it.
    resolver.default_endpoint = default_endpoint
        .map(|named| reference(&resolver.endpoints, &resolver.mistaken, &named, "endpoint", resolver.problems));
    // What was read gives its room back while what is wanted of it grows.
    hostnames.reverse();
    while let Some(entry) = hostnames.pop() {
        if hostnames.len() < hostnames.capacity() / 4 * 3 {
            hostnames.shrink_to_fit();
        }
        resolver.hostname(entry, &default_authority, default_ttl.unwrap_or(Ttl::TEN_MINUTES));
    }
    let of_hostnames = std::mem::take(&mut resolver.health);
    resolver.checks(&endpoints, health, of_hostnames);
    resolver.report_unused_platform_certificates(&certificates);
    resolver.report_reserved();
    resolver.desired
}

pub(super) struct Resolver<'p> {
    pub(super) desired: Desired,
    authorities: HashMap<String, AuthorityId>,
    pub(super) endpoints: HashMap<String, EndpointId>,
    certificates: HashMap<String, CertificateId>,
    /// The declared certificates that hold a name.
    declared: HashMap<String, Vec<CertificateId>>,
    zones: HashMap<String, ZoneId>,
    /// What holds for certificates of which the manifest says nothing special.
    usual: Arc<CertificateTerms>,
    /// The endpoint of hostnames that name none; the inner `None` is a mistake told already.
    default_endpoint: Option<Option<EndpointId>>,
    seen: HashSet<Hostname>,
    /// The text of the files of roots for client certificates.
    trust_bundles: BTreeMap<PathBuf, String>,
    /// Kind and name of the tables that have mistakes of their own.
    pub(super) mistaken: HashSet<(&'static str, String)>,
    /// What hostnames say of their health.
    health: Vec<HostnameHealth>,
    /// The labels below a wildcard that nobody else may have.
    reserved: Vec<(Hostname, At<String>)>,
    /// The placements at one endpoint, which their hostnames share.
    singles: HashMap<EndpointId, Arc<Placement>>,
    pub(super) problems: &'p mut Diagnostics,
}

impl<'p> Resolver<'p> {
    fn new(manifest: &Manifest, problems: &'p mut Diagnostics) -> Self {
        let path = |path: &Option<At<PathBuf>>| path.as_ref().map(|path| path.value.clone());
        let authorities = manifest.authorities.iter().map(|entry| Authority {
            name: entry.name.value.clone(),
            directory: entry.directory.clone(),
            contact: entry.contact.clone(),
            api_roots: path(&entry.api_roots),
            issued_roots: path(&entry.issued_roots),
            external_account_key: entry.external_account_key.as_ref().map(|external| ExternalAccountKey {
                id: external.id.clone(),
                secret: external.secret.value.clone(),
                algorithm: external.algorithm,
            }),
            account_key: entry.account_key,
            rehearsal: None,
            limits: entry.limits.clone(),
            profile: entry.profile.clone(),
            chain_root: entry.chain_root.clone(),
            at_once: entry.at_once.unwrap_or(Authority::AT_ONCE),
            caa_identities: entry.caa_identities.clone(),
        });
        let zones = manifest.zones.iter().map(|entry| Zone {
            name: entry.name.value.clone(),
            servers: entry.servers.clone(),
            parents: entry.parents.clone(),
            resolvers: entry.resolvers.clone(),
            resolver_roots: path(&entry.resolver_roots),
            update: entry.update,
            driver: entry.driver.clone(),
            marker: entry.marker,
            least_wait: entry.least_wait,
            challenge_ttl: entry.challenge_ttl,
        });
        let endpoints = manifest.endpoints.iter().map(|entry| Endpoint {
            name: entry.name.value.clone(),
            id: entry.id.clone(),
            kind: entry.kind,
            driver: match &entry.driver {
                EndpointDriverEntry::Http { url, token, api_roots, calls_per_second } => {
                    EndpointDriver::Http(HttpPlatform {
                        url: url.clone(),
                        token: token.value.clone(),
                        api_roots: path(api_roots),
                        calls_per_second: *calls_per_second,
                    })
                }
                EndpointDriverEntry::Program { words, token, calls_per_second } => {
                    EndpointDriver::Program(ProgramPlatform {
                        words: words.clone(),
                        token: token.as_ref().map(|token| token.value.clone()),
                        calls_per_second: *calls_per_second,
                    })
                }
                EndpointDriverEntry::Static(endpoint) => EndpointDriver::Static(endpoint.clone()),
                EndpointDriverEntry::Nginx(server) => EndpointDriver::Nginx(server.clone()),
                EndpointDriverEntry::Haproxy(balancer) => EndpointDriver::Haproxy(balancer.clone()),
            },
            default_document: entry.default_document.clone(),
            origin: entry.origin.clone(),
        });
        let desired = Desired {
            authorities: authorities.collect(),
            zones: zones.collect(),
            endpoints: endpoints.collect(),
            ..Desired::default()
        };
        let numbered = 0u32..;
        let mut resolver = Resolver {
            authorities: desired
                .authorities
                .iter()
                .zip(numbered.clone())
                .map(|(a, id)| (a.name.clone(), AuthorityId(id)))
                .collect(),
            endpoints: desired
                .endpoints
                .iter()
                .zip(numbered.clone())
                .map(|(e, id)| (e.name.clone(), EndpointId(id)))
                .collect(),
            certificates: manifest
                .certificates
                .iter()
                .zip(numbered.clone())
                .map(|(c, id)| (c.name.value.clone(), CertificateId(id)))
                .collect(),
            zones: desired.zones.iter().zip(numbered).map(|(z, id)| (z.name.as_str().to_owned(), ZoneId(id))).collect(),
            declared: HashMap::new(),
            mistaken: manifest.mistaken.iter().cloned().collect(),
            seen: HashSet::with_capacity(manifest.hostnames.len()),
            usual: Arc::default(),
            trust_bundles: BTreeMap::new(),
            default_endpoint: None,
            health: Vec::new(),
            reserved: Vec::new(),
            singles: HashMap::new(),
            desired,
            problems,
        };
        resolver.rehearsals(manifest);
        resolver
    }

    /// Follows the names of the authorities where others are rehearsed.
    fn rehearsals(&mut self, manifest: &Manifest) {
        for (entry, place) in manifest.authorities.iter().zip(0usize..) {
            let Some(named) = &entry.rehearsal else { continue };
            let found = reference(&self.authorities, &self.mistaken, named, "authority", self.problems);
            if found == Some(AuthorityId(place as u32)) {
                self.problems.report(
                    "bad-value",
                    named.span.clone(),
                    format!("[authority.{}] cannot be its own rehearsal", entry.name.value),
                    "name another authority, one for rehearsals",
                );
            } else {
                self.desired.authorities[place].rehearsal = found;
            }
        }
    }

    /// Adds a declared certificate.
    fn declare(&mut self, entry: &CertificateEntry, default_authority: &Option<At<String>>) {
        let authority = match entry.issued_by {
            Origin::Authority => {
                Some(self.authority(entry.authority.as_ref(), default_authority, entry.name.span.clone()))
            }
            Origin::Elsewhere | Origin::SelfSigned | Origin::Platform => None,
        };
        let mut names: Vec<Hostname> = Vec::new();
        for name in &entry.names {
            if names.contains(&name.value) {
                self.problems.report(
                    "duplicate",
                    name.span.clone(),
                    format!("{} is named twice", name.value),
                    "keep one of the two",
                );
                continue;
            }
            if authority.is_some() {
                self.zone(name);
            }
            names.push(name.value.clone());
        }
        let id = CertificateId(self.desired.certificates.len() as u32);
        for name in &names {
            self.declared.entry(name.as_str().to_owned()).or_default().push(id);
        }
        let deliveries = entry.deliver.iter().map(|delivery| Delivery {
            file: delivery.file.value.clone(),
            contents: delivery.contents.clone(),
            mode: delivery.mode,
            owner: delivery.owner.clone(),
            group: delivery.group.clone(),
            password: delivery.password.as_ref().map(|password| password.value.clone()),
        });
        let terms = CertificateTerms {
            issued_by: entry.issued_by,
            issued_roots: entry.issued_roots.as_ref().map(|path| path.value.clone()),
            key: entry.key.unwrap_or(self.usual.key),
            reuse_key: entry.reuse_key,
            renewal: entry.renew.map_or(self.usual.renewal, RenewalRule::Before),
            profile: entry.profile.clone(),
            chain_root: entry.chain_root.clone(),
            deliveries: deliveries.collect(),
            after: entry.after.clone(),
            served_at: entry.served_at.clone(),
            labels: entry.labels.clone(),
            note: entry.note.clone(),
        };
        let name = entry.name.value.clone();
        self.desired.certificates.push(WantedCertificate { name, names, authority, terms: Arc::new(terms) });
    }

    fn hostname(&mut self, entry: HostnameEntry, default_authority: &Option<At<String>>, ttl: Ttl) {
        let named = std::iter::once(&entry.hostname).chain(&entry.also);
        let mut names: Vec<Hostname> = Vec::with_capacity(1 + entry.also.len());
        for name in named {
            if !self.seen.insert(name.value.clone()) {
                self.problems.report(
                    "duplicate",
                    name.span.clone(),
                    format!("{} is given twice (case and the final dot do not count)", name.value),
                    "keep one of the two",
                );
            } else {
                names.push(name.value.clone());
            }
        }
        let placement = self.placement(&entry);
        self.check_https_alias(&entry);
        let zones: Vec<_> = std::iter::once(&entry.hostname).chain(&entry.also).map(|name| self.zone(name)).collect();
        let certificate = self.certificate(&entry, &names, default_authority);
        let (Some(placement), Some(certificate)) = (placement, certificate) else { return };
        for member in &placement.members {
            self.check_settings(&entry, member.endpoint, certificate);
            self.check_services(&entry, member.endpoint);
        }
        let begin = self.desired.hostnames.len();
        let client_certificates = entry.client_certificates.as_ref().and_then(|clients| self.clients(clients));
        let expect = entry.expect.unwrap_or_else(|| Expectation::for_routes(&entry.routes));
        let probed_as = match &entry.probe_as {
            Some(label) => {
                entry.hostname.value.probed_as(&label.value).unwrap_or_else(|_| entry.hostname.value.clone())
            }
            None => entry.hostname.value.clone(),
        };
        let ttl = entry.ttl.unwrap_or(ttl);
        let minimum_tls = entry.minimum_tls;
        let primary = entry.hostname.value;
        self.reserved.extend(entry.reserved.into_iter().map(|label| (primary.clone(), label)));
        if let Some(zone) = zones[0] {
            self.desired.hostnames.push(WantedHostname {
                hostname: primary.clone(),
                zone,
                placement: placement.clone(),
                certificate,
                routes: entry.routes,
                redirect_to: None,
                minimum_tls,
                client_certificates: client_certificates.clone(),
                ttl,
                expect,
                samples: entry.samples,
                probed_as,
                labels: entry.labels.clone(),
                https_alias: entry.https_alias.is_some(),
                replace: entry.replace,
                note: entry.note.clone(),
            });
        }
        for (name, zone) in entry.also.into_iter().zip(zones.into_iter().skip(1)) {
            let Some(zone) = zone else { continue };
            if name.value.is_wildcard() {
                self.problems.report(
                    "bad-name",
                    name.span,
                    format!("{} is a wildcard, which cannot redirect to one name", name.value),
                    "list each name by itself",
                );
            }
            self.desired.hostnames.push(WantedHostname {
                hostname: name.value.clone(),
                zone,
                placement: placement.clone(),
                certificate,
                routes: Vec::new(),
                redirect_to: Some(primary.clone()),
                minimum_tls,
                client_certificates: client_certificates.clone(),
                ttl,
                expect: Expectation::redirect(),
                samples: Vec::new(),
                probed_as: name.value,
                labels: entry.labels.clone(),
                https_alias: entry.https_alias.is_some(),
                replace: entry.replace,
                note: entry.note.clone(),
            });
        }
        if entry.judged_by.is_some() || entry.health.is_some() {
            let ids = (begin..self.desired.hostnames.len()).map(|id| HostnameId(id as u32)).collect();
            self.health.push(HostnameHealth { ids, judged_by: entry.judged_by, health: entry.health });
        }
    }

    /// Reports an HTTPS record that is wanted where no addresses stand.
    fn check_https_alias(&mut self, entry: &HostnameEntry) {
        let Some(span) = entry.https_alias.clone() else { return };
        let names = std::iter::once(&entry.hostname).chain(&entry.also);
        let is_apex =
            |name: &At<Hostname>| self.desired.zones.iter().any(|zone| zone.name.as_str() == name.value.as_str());
        if !names.into_iter().any(is_apex) {
            let message = "an HTTPS record stands beside addresses, and this name is a CNAME";
            self.problems.report("bad-value", span, message, "remove https_alias: clients follow the CNAME");
        } else if matches!(entry.policy, Some(At { value: PolicyWord::Split, .. })) {
            let message = "one HTTPS record leads to one endpoint, and traffic is split";
            self.problems.report("bad-value", span, message, "remove https_alias, or choose another policy");
        }
    }

    /// Reports labels that are reserved below a wildcard and given all the same.
    fn report_reserved(&mut self) {
        for (wildcard, label) in std::mem::take(&mut self.reserved) {
            let Some(name) = wildcard.is_wildcard().then(|| wildcard.probed_as(&label.value).ok()).flatten() else {
                let message = format!("{wildcard} is not a wildcard, so there is no label below it to reserve");
                self.problems.report("bad-value", label.span, message, "remove reserved");
                continue;
            };
            if self.seen.contains(&name) {
                let message = format!("{name} is reserved below {wildcard}, and the manifest gives it to a hostname");
                let help = format!("rename [hostname.\"{name}\"], or remove \"{}\" from reserved", label.value);
                self.problems.report("reserved-label", label.span, message, help);
            }
        }
    }

    /// Where a hostname's traffic ends; `None` where that has mistakes.
    fn placement(&mut self, entry: &HostnameEntry) -> Option<Arc<Placement>> {
        let mut endpoints: Vec<EndpointId> = Vec::with_capacity(entry.endpoints.len().max(1));
        let mut is_whole = true;
        for named in &entry.endpoints {
            match reference(&self.endpoints, &self.mistaken, named, "endpoint", self.problems) {
                None => is_whole = false,
                Some(id) if endpoints.contains(&id) => {
                    let message = format!("the endpoint {} is named twice", named.value);
                    self.problems.report("duplicate", named.span.clone(), message, "keep one of the two");
                }
                Some(id) => endpoints.push(id),
            }
        }
        if entry.endpoints.is_empty() {
            match self.default_endpoint {
                Some(id) => endpoints.extend(id),
                None => self.problems.report(
                    "missing-key",
                    entry.hostname.span.clone(),
                    format!("[hostname.\"{}\"] needs the key \"endpoint\"", entry.hostname.value),
                    "add: endpoint = \"NAME\", here or under [defaults]",
                ),
            }
        }
        let policy = self.policy(entry, endpoints.len());
        let first = *endpoints.first().filter(|_| is_whole)?;
        if policy? == Policy::Single {
            return Some(self.singles.entry(first).or_insert_with(|| Arc::new(Placement::single(first))).clone());
        }
        let members = endpoints.into_iter().map(|endpoint| PlacedEndpoint { endpoint, check: None }).collect();
        let back_after = entry.back_after.as_ref().map_or(Placement::BACK_AFTER, |back| back.value);
        Some(Arc::new(Placement { members, policy: policy?, back_after }))
    }

    /// How the endpoints of a hostname share its traffic; `None` where that cannot be done.
    fn policy(&mut self, entry: &HostnameEntry, endpoints: usize) -> Option<Policy> {
        let hostname = &entry.hostname.value;
        let several = entry.endpoints.get(1).map(|named| named.span.clone());
        let policy = match (&entry.policy, several) {
            (None, None) => Policy::Single,
            (None, Some(span)) => {
                let message = format!("{hostname} has several endpoints and no policy");
                self.problems.report("missing-key", span, message, "add: policy = \"standby\"");
                return None;
            }
            (Some(At { value: PolicyWord::Single, span }), Some(_)) => {
                let message = format!("the policy \"single\" gives one endpoint, and {hostname} has several");
                self.problems.report("bad-value", span.clone(), message, "write \"standby\" or \"split\"");
                return None;
            }
            (Some(At { value: PolicyWord::Nearest, span }), _) => {
                let message = "the zone's driver cannot answer each client with the nearest endpoint";
                let help = "write \"standby\" or \"split\": dynamic update gives every client the same records";
                self.problems.report("not-offered", span.clone(), message, help);
                return None;
            }
            (Some(At { value: PolicyWord::Single, .. }), None) => Policy::Single,
            (Some(At { value: PolicyWord::Standby, .. }), _) => Policy::Standby,
            (Some(At { value: PolicyWord::Split, .. }), _) => Policy::Split,
        };
        let shares = &entry.shares;
        for share in shares.iter().filter(|share| !entry.endpoints.iter().any(|named| named.value == share.value.0)) {
            let message = format!("{hostname} has no endpoint {} that could have a share", share.value.0);
            self.problems.report("unknown-reference", share.span.clone(), message, "name one of its endpoints");
        }
        if let (Some(first), true) = (shares.first(), policy != Policy::Split) {
            let help = "write policy = \"split\", or remove shares";
            self.problems.report("bad-value", first.span.clone(), "only a split has shares", help);
        } else if let Some(other) = shares.iter().find(|share| share.value.1 != shares[0].value.1) {
            let message = "the zone's driver cannot weigh answers: a split by dynamic update is in equal parts";
            self.problems.report("not-offered", other.span.clone(), message, "give each the same share");
        } else if let Some(first) = shares.first().filter(|_| shares.len() < endpoints) {
            let message = "some endpoints have a share and others have none";
            self.problems.report(
                "bad-value",
                first.span.clone(),
                message,
                "give each the same share, or remove shares",
            );
        }
        if let Some(back) = entry.back_after.as_ref().filter(|_| policy == Policy::Single) {
            let message = "traffic returns only where there are several endpoints";
            self.problems.report("bad-value", back.span.clone(), message, "remove back_after");
        }
        Some(policy)
    }

    /// Reports services that a web server does not have.
    fn check_services(&mut self, entry: &HostnameEntry, endpoint: EndpointId) {
        let EndpointDriver::Nginx(server) = &self.desired.endpoint(endpoint).driver else { return };
        let unknown =
            entry.routes.iter().find(|route| server.service(&route.service, route.release.as_deref()).is_none());
        if let Some(route) = unknown {
            let known: Vec<&str> = server.services.iter().map(|service| service.name.as_str()).collect();
            let message =
                format!("[endpoint.{}] has no service \"{}\"", self.desired.endpoint(endpoint).name, route.service);
            let help = format!("add it to services there, or name one of: {}", known.join(", "));
            self.problems.report("unknown-reference", entry.hostname.span.clone(), message, help);
        }
    }

    /// Reports certificates that a platform is to issue for nobody.
    fn report_unused_platform_certificates(&mut self, declared: &[CertificateEntry]) {
        let unused = self.desired.unused_certificates();
        for (entry, id) in declared.iter().zip((0..).map(CertificateId)) {
            if entry.issued_by == Origin::Platform && unused.contains(&id) {
                self.problems.report(
                    "unused-certificate",
                    entry.name.span.clone(),
                    format!("no platform issues the certificate \"{}\": no hostname uses it", entry.name.value),
                    "add a hostname that it covers, at an endpoint whose platform issues it",
                );
            }
        }
    }

    /// Reports what an endpoint that takes no such settings would not do.
    fn check_settings(&mut self, entry: &HostnameEntry, endpoint: EndpointId, certificate: CertificateId) {
        let desired = &self.desired;
        let (endpoint, is_issued) =
            (desired.endpoint(endpoint), desired.certificate(certificate).terms.issued_by == Origin::Platform);
        let is_asked = [
            (!entry.routes.is_empty(), "routes"),
            (!entry.also.is_empty() && !endpoint.is_static(), "also"),
            (entry.client_certificates.is_some(), "client_certificates"),
        ];
        let mut report = |why: &str, help: String| {
            let message = format!("[endpoint.{}] {why}", endpoint.name);
            self.problems.report("bad-value", entry.hostname.span.clone(), message, help);
        };
        let unset = match &endpoint.driver {
            EndpointDriver::Static(_) => "is static: nobody would set its",
            EndpointDriver::Haproxy(_) => "takes certificates only: nobody would set its",
            _ => "",
        };
        for key in is_asked.into_iter().filter_map(|(is_asked, key)| (is_asked && !unset.is_empty()).then_some(key)) {
            report(&format!("{unset} {key}"), format!("remove {key}, and set that where the endpoint is configured"));
        }
        if is_issued && !matches!(endpoint.driver, EndpointDriver::Http(_) | EndpointDriver::Program(_)) {
            report("issues no certificates", "name a certificate that an authority issues".into());
        }
    }

    /// The roots for client certificates that a hostname names, by what is in their file.
    fn clients(&mut self, entry: &ClientCertificatesEntry) -> Option<Arc<WantedClients>> {
        // A file that cannot be read is told where it is read.
        let text = self.trust_bundles.get(&entry.roots.value)?;
        let roots = Fingerprint::of(text.as_bytes());
        self.desired.trust_bundles.entry(roots).or_insert_with(|| text.clone());
        let probe_with = entry.probe_with.as_ref().map(|secret| secret.value.clone());
        Some(Arc::new(WantedClients { roots, need: entry.need, probe_with }))
    }

    /// The certificate that the hostname names, else a declared one that covers it and
    /// its further names, else one of its own.
    fn certificate(
        &mut self,
        entry: &HostnameEntry,
        names: &[Hostname],
        default_authority: &Option<At<String>>,
    ) -> Option<CertificateId> {
        let covered =
            |certificate: &WantedCertificate, name: &Hostname| certificate.names.iter().any(|own| own.covers(name));
        if let Some(named) = &entry.certificate {
            let id = reference(&self.certificates, &self.mistaken, named, "certificate", self.problems)?;
            let certificate = self.desired.certificate(id);
            for name in names.iter().filter(|name| !covered(certificate, name)) {
                self.problems.report(
                    "not-covered",
                    named.span.clone(),
                    format!("the certificate \"{}\" does not cover {name}", named.value),
                    format!("add \"{name}\" to the names of [certificate.{}]", named.value),
                );
            }
            return Some(id);
        }
        if let Some(id) = self.declared(names) {
            return Some(id);
        }
        let authority = self.authority(entry.authority.as_ref(), default_authority, entry.hostname.span.clone());
        if names.len() > MOST_NAMES {
            // The hostname itself is the first.
            let beyond = entry.also.get(MOST_NAMES - 1).map_or(&entry.hostname.span, |also| &also.span);
            self.problems.report_too_many_names(beyond.clone(), names.len());
        }
        let id = CertificateId(self.desired.certificates.len() as u32);
        self.desired.certificates.push(WantedCertificate {
            name: entry.hostname.value.as_str().to_owned(),
            names: names.to_vec(),
            authority: Some(authority),
            terms: self.usual.clone(),
        });
        Some(id)
    }

    /// The first declared certificate that covers all of `names`.
    fn declared(&self, names: &[Hostname]) -> Option<CertificateId> {
        let first = names.first()?;
        let wildcard = first.as_str().split_once('.').map(|(_, rest)| format!("*.{rest}"));
        let exact = self.declared.get(first.as_str());
        let covering = wildcard.and_then(|wildcard| self.declared.get(&wildcard));
        let mut candidates: Vec<CertificateId> = exact.into_iter().chain(covering).flatten().copied().collect();
        candidates.sort_unstable();
        candidates.into_iter().find(|id| {
            let own = &self.desired.certificate(*id).names;
            names.iter().all(|name| own.iter().any(|own| own.covers(name)))
        })
    }

    fn authority(&mut self, named: Option<&At<String>>, default: &Option<At<String>>, span: Span) -> AuthorityId {
        let fallback = AuthorityId(0);
        if let Some(named) = named.or(default.as_ref()) {
            return reference(&self.authorities, &self.mistaken, named, "authority", self.problems).unwrap_or(fallback);
        }
        let mistaken = self.mistaken.iter().any(|(kind, _)| *kind == "authority");
        if self.authorities.len() != 1 && !mistaken {
            self.problems.report(
                "missing-key",
                span,
                "no authority is named for this certificate",
                "write authority = \"NAME\" here or under [defaults]",
            );
        }
        fallback
    }

    fn zone(&mut self, name: &At<Hostname>) -> Option<ZoneId> {
        let mut candidate = Some(name.value.base());
        while let Some(text) = candidate {
            if let Some(id) = self.zones.get(text) {
                return Some(*id);
            }
            candidate = text.split_once('.').map(|(_, rest)| rest);
        }
        let mistaken =
            self.mistaken.iter().filter(|(kind, _)| *kind == "zone").filter_map(|(_, zone)| zone.parse().ok());
        if mistaken.into_iter().any(|zone| name.value.is_within(&zone)) {
            return None;
        }
        let near = self.problems.suggest(name.value.base(), self.zones.keys().map(String::as_str));
        let help = near.unwrap_or_else(|| {
            let zone = name.value.base().split_once('.').map_or("", |(_, zone)| zone);
            format!("add [zone.\"{zone}\"] with its servers and key")
        });
        self.problems.report(
            "outside-zones",
            name.span.clone(),
            format!("{} is not in any zone of this manifest", name.value),
            help,
        );
        None
    }
}

/// What a hostname says of its health, until all checks are known.
pub(super) struct HostnameHealth {
    /// Its ids: the hostname's and those of its further names.
    pub(super) ids: Vec<HostnameId>,
    pub(super) judged_by: Option<At<String>>,
    pub(super) health: Option<Box<EndpointHealthEntry>>,
}

pub(super) fn reference<T: Copy>(
    table: &HashMap<String, T>,
    mistaken: &HashSet<(&'static str, String)>,
    named: &At<String>,
    kind: &str,
    problems: &mut Diagnostics,
) -> Option<T> {
    if let Some(id) = table.get(&named.value) {
        return Some(*id);
    }
    let also = || mistaken.iter().filter(|(of, _)| *of == kind).map(|(_, name)| name.as_str());
    if also().any(|name| name == named.value) {
        return None;
    }
    let help = problems.suggest(&named.value, table.keys().map(String::as_str).chain(also()));
    let help = help.unwrap_or_else(|| format!("add a table [{kind}.{}]", named.value));
    problems.report("unknown-reference", named.span.clone(), format!("there is no [{kind}.{}]", named.value), help);
    None
}

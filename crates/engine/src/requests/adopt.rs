//! Taking over what exists: after a lost state, or what was made by hand.

use std::collections::BTreeSet;
use std::fmt;
use std::sync::Arc;

use pindrel_core::desired::{AliasTarget, HostnameId};
use pindrel_core::endpoints::endpoint::{AskedRecord, Binding, KeepRecord};
use pindrel_core::judging::facts::{BindingView, EndpointKey, Ownership, ServedView};
use pindrel_core::judging::findings::Finding;
use pindrel_core::judging::pins::{Known, differences};
use pindrel_core::names::name::Hostname;
use pindrel_core::zones::records::{RecordSet, in_words, same_data};
use serde::{Serialize, Serializer};

use crate::context::Context;
use crate::failure::EngineError;
use crate::home::hostnames::Hostnames;
use crate::observe::endpoint::EndpointObserver;
use crate::observe::survey::Surveyor;

/// Something that exists where the manifest wants something, and that the state has no record
/// of having been written by Pindrel.
#[derive(Debug, Clone, PartialEq)]
pub struct Candidate {
    /// The hostname it is for.
    pub hostname: Hostname,
    /// What it is.
    pub what: Adoptable,
    /// What is there, in a few words.
    pub present: String,
    /// What will be changed by the next `settle` once it is taken over.
    pub differs: Option<String>,
    /// What speaks for its being the manifest's own.
    pub proofs: Vec<Proof>,
    id: HostnameId,
    thing: Thing,
}

/// Which kind of thing can be taken over.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Adoptable {
    /// The alias records of a hostname.
    Alias,
    /// The binding of a hostname at its endpoint.
    Binding,
}

impl Adoptable {
    /// Returns the word for it.
    pub fn as_str(self) -> &'static str {
        match self {
            Adoptable::Alias => "alias",
            Adoptable::Binding => "binding",
        }
    }
}

/// What speaks for something being the manifest's own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Proof {
    /// The alias leads to an endpoint of the manifest.
    LeadsTo(String),
    /// Every server of the zone leads to the endpoint where the binding is.
    IsLedTo,
    /// Every server of the zone leads to other endpoints that the manifest names beside the one where the binding is.
    IsLedBeside,
    /// It uses the certificate that the state holds for the hostname.
    HeldCertificate,
    /// The endpoint serves the certificate that the binding names.
    ServesIt,
    /// It is just what the manifest wants.
    AsWanted,
}

impl Proof {
    /// Says whether it is proof enough without a person's word: what anyone could have made in
    /// the same way proves nothing.
    pub fn is_enough(&self) -> bool {
        matches!(self, Proof::LeadsTo(_) | Proof::IsLedTo | Proof::IsLedBeside | Proof::HeldCertificate)
    }
}

impl fmt::Display for Proof {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Proof::LeadsTo(endpoint) => write!(f, "it leads to {endpoint}, an endpoint of the manifest"),
            Proof::IsLedTo => f.write_str("the alias of the hostname leads to this endpoint"),
            Proof::IsLedBeside => {
                f.write_str("the alias of the hostname leads to an endpoint that the manifest names beside this one")
            }
            Proof::HeldCertificate => f.write_str("it uses the certificate that the state holds"),
            Proof::ServesIt => f.write_str("the endpoint serves the certificate that it names"),
            Proof::AsWanted => f.write_str("it is what the manifest wants"),
        }
    }
}

impl Serialize for Proof {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

#[derive(Debug, Clone, PartialEq)]
enum Thing {
    Alias(Vec<RecordSet>),
    Binding(EndpointKey, Binding, Vec<AskedRecord>),
}

impl Candidate {
    /// Says whether its proofs are enough without a person's word.
    pub fn is_proven(&self) -> bool {
        self.proofs.iter().any(Proof::is_enough)
    }
}

/// Taking over what is there already.
pub struct Adoption {
    pub(crate) context: Arc<Context>,
    pub(crate) endpoints: Arc<EndpointObserver>,
    pub(crate) hostnames: Arc<Hostnames>,
    pub(crate) surveyor: Arc<Surveyor>,
}

impl Adoption {
    /// Looks for what exists for some hostnames without a record of who wrote it.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read or written.
    pub async fn candidates(&self, scope: &[HostnameId]) -> Result<Vec<Candidate>, EngineError> {
        self.surveyor.survey_stale(scope).await?;
        // An alias may lead to any of them.
        let listed = self.context.known().endpoints.keys().copied().collect::<BTreeSet<_>>();
        let others = self.context.desired.endpoint_ids().filter(|id| !listed.contains(id));
        self.endpoints.look_at(others.collect()).await?;
        Ok(scope.iter().flat_map(|id| self.candidates_of(*id)).collect())
    }

    fn candidates_of(&self, id: HostnameId) -> Vec<Candidate> {
        let wanted = self.context.desired.hostname(id);
        let knowledge = self.context.known();
        let known = Known::about(&self.context.desired, &knowledge, id);
        let nothing = Ownership::default();
        let own = known.ownership.unwrap_or(&nothing);
        let mut found = Vec::new();

        let given = known.alias.and_then(|fact| {
            let gives = fact.value.servers.first()?.gives.as_ref().ok()?;
            (fact.value.lagging(gives).next().is_none() && !gives.is_empty()).then_some(gives)
        });
        if let Some(given) = given.filter(|given| !own.wrote_alias(given)) {
            let mut proofs = Vec::new();
            for (other, entry) in self.context.desired.endpoint_ids().zip(&self.context.desired.endpoints) {
                let Some(info) = knowledge.endpoint_info(other) else { continue };
                let there = wanted.endpoints().find(|endpoint| *endpoint == other).map(|endpoint| known.at(endpoint));
                let target = AliasTarget { info, target: there.and_then(|known| known.target()), dead: &[] };
                if same_data(given, &wanted.alias_to(&self.context.desired, &[target], wanted.ttl)) {
                    proofs.push(Proof::LeadsTo(entry.name.clone()));
                }
            }
            let differs = !known.is_aliased_as_wanted();
            let names: Vec<&str> =
                known.given().into_iter().map(|id| self.context.desired.endpoint(id).name.as_str()).collect();
            proofs.extend((!differs).then_some(Proof::AsWanted));
            found.push(Candidate {
                hostname: wanted.hostname.clone(),
                what: Adoptable::Alias,
                present: in_words(given),
                differs: differs.then(|| format!("it does not lead to {}", names.join(" and "))),
                proofs,
                id,
                thing: Thing::Alias(given.clone()),
            });
        }

        found.extend(known.everywhere().filter_map(|known| self.binding_candidate(id, known, own)));
        found
    }

    /// The binding at one endpoint, where nobody knows who wrote it.
    fn binding_candidate(&self, id: HostnameId, known: Known<'_>, own: &Ownership) -> Option<Candidate> {
        let endpoint = self.context.desired.endpoint(known.at);
        let BindingView::Present { binding, reply, served, .. } = &known.binding?.value else { return None };
        if own.wrote_binding(&endpoint.key(), binding) {
            return None;
        }
        let held = known.certificate.map(|held| held.sha256);
        let differs = match known.wanted_binding().map(|wanted| differences(binding, &wanted)) {
            Some(differs) => (!differs.is_empty()).then_some(differs),
            None => Some("its certificate".into()),
        };
        let proofs = [
            known.is_aliased_here().then_some(Proof::IsLedTo),
            (!known.is_aliased_here() && known.is_aliased_as_wanted()).then_some(Proof::IsLedBeside),
            (held.is_some() && held == binding.certificate).then_some(Proof::HeldCertificate),
            matches!(served, ServedView::Certificate { sha256, .. } if Some(*sha256) == binding.certificate)
                .then_some(Proof::ServesIt),
            differs.is_none().then_some(Proof::AsWanted),
        ];
        let asked = reply.as_ref().map_or_else(Vec::new, |reply| reply.records.clone());
        Some(Candidate {
            hostname: known.wanted.hostname.clone(),
            what: Adoptable::Binding,
            present: format!("at {}, with {}", endpoint.name, binding.certificate_in_words()),
            differs,
            proofs: proofs.into_iter().flatten().collect(),
            id,
            thing: Thing::Binding(endpoint.key(), binding.clone(), asked),
        })
    }

    /// Takes over what was found: from now on Pindrel may change it.
    ///
    /// # Errors
    /// A [`Finding`] when that cannot be stored.
    pub async fn adopt(&self, candidates: &[Candidate]) -> Result<(), Finding> {
        for Candidate { hostname, what, present, id, thing, .. } in candidates {
            let key = format!("adopt {hostname}");
            self.context
                .claimed(&key, async |claim| {
                    let change = |own: &mut Ownership| match thing.clone() {
                        Thing::Alias(sets) => own.adopt_alias(sets),
                        // What its platform asked for is there for it, and goes with it.
                        Thing::Binding(key, binding, records) => {
                            let kept = records.into_iter().filter(|record| record.keep == KeepRecord::WhileBound);
                            kept.for_each(|record| own.add_record(key.clone(), record));
                            own.adopt_binding(key, binding);
                        }
                    };
                    let record = async { Ok(self.hostnames.record_ownership(claim, *id, change).await?) };
                    self.context
                        .journalled(&format!("adopt-{}", what.as_str()), hostname.as_str(), present, record)
                        .await
                })
                .await?;
        }
        Ok(())
    }
}

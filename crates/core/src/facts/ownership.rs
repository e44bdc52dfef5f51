//! What Pindrel wrote and so may change again: by the thing it was written for, and by
//! what was written. Whatever does not match that is foreign.

use std::collections::BTreeMap;
use std::fmt;

use serde::{Deserialize, Serialize};
use url::Url;

use crate::endpoint::Binding;
use crate::records::{RecordSet, same_data};

/// Which endpoint something is at: the platform and the platform's id of it, so that
/// another name in the manifest changes nothing.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct EndpointKey(String);

impl EndpointKey {
    /// Returns the key of the endpoint `id` at the platform `url`.
    pub fn new(url: &Url, id: &str) -> EndpointKey {
        EndpointKey(format!("{url} {id}"))
    }

    /// Returns the key of the endpoint of that name, which somebody else configures.
    pub fn of_static(name: &str) -> EndpointKey {
        EndpointKey(format!("static {name}"))
    }

    /// The key of what was written before endpoints were recorded (schema 2).
    pub fn unrecorded() -> EndpointKey {
        EndpointKey(String::new())
    }
}

impl fmt::Display for EndpointKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

/// Something that was written once or is about to be.
///
/// The intention is stored before anything is written and becomes what was made once it
/// is verified, so that a run that was stopped in between recognises its own work.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Written<T> {
    /// As last written and verified.
    #[serde(default = "none", skip_serializing_if = "Option::is_none")]
    pub made: Option<T>,
    /// What is about to be written.
    #[serde(default = "none", skip_serializing_if = "Option::is_none")]
    pub intended: Option<T>,
}

fn none<T>() -> Option<T> {
    None
}

impl<T> Default for Written<T> {
    fn default() -> Self {
        Written { made: None, intended: None }
    }
}

impl<T> Written<T> {
    /// Notes what is about to be written.
    pub fn intend(&mut self, value: T) {
        self.intended = Some(value);
    }

    /// Notes that what was intended is there; does nothing where nothing was intended.
    pub fn confirm(&mut self) {
        if let Some(intended) = self.intended.take() {
            self.made = Some(intended);
        }
    }

    fn any(&self, is: impl Fn(&T) -> bool) -> bool {
        self.made.as_ref().is_some_and(&is) || self.intended.as_ref().is_some_and(is)
    }

    /// Says whether nothing was written or is about to be.
    pub fn is_empty(&self) -> bool {
        self.made.is_none() && self.intended.is_none()
    }
}

/// What Pindrel wrote for one hostname.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Ownership {
    /// The alias records.
    #[serde(default, skip_serializing_if = "Written::is_empty")]
    pub alias: Written<Vec<RecordSet>>,
    /// The binding at each endpoint.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub bindings: BTreeMap<EndpointKey, Written<Binding>>,
}

impl Ownership {
    /// Says whether Pindrel wrote these alias records, whatever their TTL.
    pub fn wrote_alias(&self, sets: &[RecordSet]) -> bool {
        self.alias.any(|own| !own.is_empty() && same_data(own, sets))
    }

    /// Says whether Pindrel wrote this very binding at this endpoint.
    pub fn wrote_binding(&self, endpoint: &EndpointKey, binding: &Binding) -> bool {
        // What was written before endpoints were recorded is recognised by its content, which
        // names the certificate.
        [endpoint, &EndpointKey::unrecorded()]
            .into_iter()
            .filter_map(|key| self.bindings.get(key))
            .any(|written| written.any(|own| own == binding))
    }

    /// Says whether nothing is recorded at all.
    pub fn is_empty(&self) -> bool {
        self.alias.is_empty() && self.bindings.is_empty()
    }

    /// Takes over alias records that are there.
    pub fn adopt_alias(&mut self, sets: Vec<RecordSet>) {
        self.alias = Written { made: Some(sets), intended: None };
    }

    /// Takes over a binding that is at an endpoint.
    pub fn adopt_binding(&mut self, endpoint: EndpointKey, binding: Binding) {
        self.bindings.insert(endpoint, Written { made: Some(binding), intended: None });
    }

    /// Notes that a binding is about to be written at an endpoint.
    pub fn intend_binding(&mut self, endpoint: EndpointKey, binding: Binding) {
        self.bindings.entry(endpoint).or_default().intend(binding);
    }

    /// Notes that the intended binding is in force at an endpoint.
    pub fn confirm_binding(&mut self, endpoint: &EndpointKey) {
        if let Some(written) = self.bindings.get_mut(endpoint) {
            written.confirm();
            self.bindings.remove(&EndpointKey::unrecorded());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::endpoint::TlsVersion;
    use crate::values::Fingerprint;

    #[test]
    fn only_what_was_written_at_that_endpoint_is_recognised() {
        let key = |id: &str| EndpointKey::new(&"https://platform.example".parse().unwrap(), id);
        let binding = |seed: &[u8]| Binding {
            certificate: Fingerprint::of(seed),
            routes: Vec::new(),
            redirect_to: None,
            minimum_tls: TlsVersion::V1_2,
        };
        let mut own = Ownership::default();
        own.intend_binding(key("north"), binding(b"one"));
        assert!(own.wrote_binding(&key("north"), &binding(b"one")), "also before it is confirmed");
        own.confirm_binding(&key("north"));
        own.intend_binding(key("north"), binding(b"two"));
        for seed in [b"one", b"two"] {
            assert!(own.wrote_binding(&key("north"), &binding(seed)), "stopped between both");
            assert!(!own.wrote_binding(&key("south"), &binding(seed)), "an equal one at another endpoint is foreign");
        }
        assert!(!own.wrote_binding(&key("north"), &binding(b"three")));

        let mut old = Ownership::default();
        old.bindings.insert(EndpointKey::unrecorded(), Written { made: Some(binding(b"one")), intended: None });
        assert!(old.wrote_binding(&key("north"), &binding(b"one")));
        assert!(!old.wrote_binding(&key("north"), &binding(b"two")));
        old.intend_binding(key("north"), binding(b"two"));
        old.confirm_binding(&key("north"));
        assert!(!old.wrote_binding(&key("south"), &binding(b"one")), "from then on it is known where");
        let text = serde_json::to_string(&own).unwrap();
        assert_eq!(serde_json::from_str::<Ownership>(&text).unwrap(), own);
    }
}

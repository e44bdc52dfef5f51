//! What Pindrel wrote and so may change again: by the thing it was written for, and by
//! what was written. Whatever does not match that is foreign.

use std::collections::BTreeMap;
use std::fmt;
use std::path::Path;

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use url::Url;

use crate::endpoints::endpoint::{AskedRecord, Binding};
use crate::values::Ttl;
use crate::zones::records::{RecordSet, RecordType, same_data};

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

    /// Returns the key of an endpoint of that name, which a program speaks for: another command line is no
    /// other endpoint.
    pub fn of_program(name: &str, id: &str) -> EndpointKey {
        EndpointKey(format!("program {name} {id}"))
    }

    /// Returns the key of a server that takes its configuration out of a folder.
    pub fn of_folder(folder: &Path) -> EndpointKey {
        EndpointKey(format!("folder {}", folder.display()))
    }

    /// Returns the key that was written as this text.
    pub fn stored(text: String) -> EndpointKey {
        EndpointKey(text)
    }

    /// The key of what was written before endpoints were recorded (schema 2).
    pub fn unrecorded() -> EndpointKey {
        EndpointKey(String::new())
    }

    /// Says whether it was written before endpoints were recorded.
    pub fn is_unrecorded(&self) -> bool {
        self.0.is_empty()
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
    /// What was about to be written before that, and stood there when it was: it was never verified.
    #[serde(default = "none", skip_serializing_if = "Option::is_none")]
    pub replaced: Option<T>,
}

fn none<T>() -> Option<T> {
    None
}

impl<T> Default for Written<T> {
    fn default() -> Self {
        Written { made: None, intended: None, replaced: None }
    }
}

impl<T> Written<T> {
    /// Notes what is about to be written, in place of what `is_there`.
    pub fn intend(&mut self, value: T, is_there: impl Fn(&T) -> bool) {
        let earlier = [self.intended.take(), self.replaced.take()];
        self.replaced = earlier.into_iter().flatten().find(is_there);
        self.intended = Some(value);
    }

    /// Notes that what was intended is there; does nothing where nothing was intended.
    pub fn confirm(&mut self) {
        if let Some(intended) = self.intended.take() {
            (self.made, self.replaced) = (Some(intended), None);
        }
    }

    /// All that may be there of it.
    fn each(&self) -> impl Iterator<Item = &T> {
        [&self.made, &self.intended, &self.replaced].into_iter().flatten()
    }

    fn any(&self, is: impl Fn(&T) -> bool) -> bool {
        self.each().any(is)
    }

    /// Says whether nothing was written or is about to be.
    pub fn is_empty(&self) -> bool {
        self.made.is_none() && self.intended.is_none()
    }
}

/// What the alias was before it was changed or removed: caches may still return it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct FormerAlias {
    /// For how long caches may keep it: its TTL.
    pub ttl: Ttl,
    /// When every server had stopped returning it; unknown until that was seen.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gone: Option<Timestamp>,
    /// Whether it led where the present one leads: only its TTL was lowered.
    #[serde(default)]
    pub lowered: bool,
}

impl FormerAlias {
    /// Returns from when on no cache returns it, where that is known. Caches count whole seconds.
    pub fn forgotten_at(&self) -> Option<Timestamp> {
        let kept = SignedDuration::from_secs(i64::from(self.ttl.as_secs()) + 1);
        Some(self.gone?.checked_add(kept).unwrap_or(Timestamp::MAX))
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
    /// The records that were made because the platform of an endpoint asked for them.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub records: BTreeMap<EndpointKey, Vec<AskedRecord>>,
    /// The alias before the present one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub former_alias: Option<FormerAlias>,
    /// When the alias was last changed from one of the hostname's endpoints to another.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub switched: Option<Timestamp>,
    /// Since when the hostname is being taken away.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retiring: Option<Timestamp>,
}

impl Ownership {
    /// Says whether Pindrel wrote these alias records, whatever their TTL.
    pub fn wrote_alias(&self, sets: &[RecordSet]) -> bool {
        self.alias.any(|own| !own.is_empty() && same_data(own, sets))
    }

    /// Says whether an alias that Pindrel wrote has this set.
    pub fn wrote_set(&self, set: &RecordSet) -> bool {
        self.alias.any(|own| own.iter().any(|own| own.same_data(set)))
    }

    /// Says whether an alias that Pindrel wrote has an HTTPS record.
    pub fn made_https(&self) -> bool {
        self.alias.any(|own| own.iter().any(|set| set.record_type() == RecordType::Https))
    }

    /// Returns the longest TTL of the alias records that Pindrel wrote; `None` where it wrote none.
    pub fn alias_ttl(&self) -> Option<Ttl> {
        self.alias.each().flatten().map(RecordSet::ttl).max()
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
        self.alias.is_empty() && self.bindings.is_empty() && self.records.is_empty()
    }

    /// Notes that a record is about to be made for the platform of an endpoint.
    pub fn add_record(&mut self, endpoint: EndpointKey, record: AskedRecord) {
        let records = self.records.entry(endpoint).or_default();
        if !records.contains(&record) {
            records.push(record);
        }
    }

    /// Notes that such a record was taken away.
    pub fn forget_record(&mut self, endpoint: &EndpointKey, record: &AskedRecord) {
        let Some(records) = self.records.get_mut(endpoint) else { return };
        records.retain(|own| own != record);
        if records.is_empty() {
            self.records.remove(endpoint);
        }
    }

    /// Notes that alias records are about to be replaced or removed, of which the longest TTL is `ttl`;
    /// or that only their TTL is `lowered`.
    pub fn replace_alias(&mut self, ttl: Ttl, lowered: bool, now: Timestamp) {
        // What was before them may be cached for longer still; what was not seen to go may be in a cache anew.
        let left = self.former_alias.and_then(|former| match former.forgotten_at() {
            Some(at) => Ttl::try_from(u32::try_from(at.as_second() - now.as_second()).ok()?).ok(),
            None => Some(former.ttl),
        });
        self.former_alias = Some(FormerAlias { ttl: left.map_or(ttl, |left| ttl.max(left)), gone: None, lowered });
    }

    /// Notes that alias records are about to be written where others are `present`.
    pub fn intend_alias(&mut self, present: &[RecordSet], wanted: Vec<RecordSet>) {
        self.alias.intend(wanted, |own| same_data(own, present));
    }

    /// Notes that these alias records are there: where they were intended, they are made from now on.
    pub fn confirm_alias(&mut self, present: &[RecordSet]) {
        if self.alias.intended.as_deref().is_some_and(|intended| same_data(intended, present)) {
            self.alias.confirm();
        }
    }

    /// Notes that every server has stopped returning the former alias.
    pub fn alias_gone(&mut self, now: Timestamp) {
        if let Some(former) = &mut self.former_alias {
            former.gone.get_or_insert(now);
        }
    }

    /// Notes that a binding was removed from an endpoint.
    pub fn binding_gone(&mut self, endpoint: &EndpointKey) {
        self.bindings.remove(endpoint);
    }

    /// Takes over alias records that are there.
    pub fn adopt_alias(&mut self, sets: Vec<RecordSet>) {
        self.alias = Written { made: Some(sets), ..Written::default() };
    }

    /// Takes over a binding that is at an endpoint.
    pub fn adopt_binding(&mut self, endpoint: EndpointKey, binding: Binding) {
        self.bindings.insert(endpoint, Written { made: Some(binding), ..Written::default() });
    }

    /// Notes that a binding is about to be written at an endpoint, where another may be `present`.
    pub fn intend_binding(&mut self, endpoint: EndpointKey, present: Option<&Binding>, binding: Binding) {
        self.bindings.entry(endpoint).or_default().intend(binding, |own| Some(own) == present);
    }

    /// Notes that the intended binding is in force at an endpoint.
    pub fn confirm_binding(&mut self, endpoint: &EndpointKey) {
        if let Some(written) = self.bindings.get_mut(endpoint) {
            written.confirm();
            self.bindings.remove(&EndpointKey::unrecorded());
        }
    }
}

/// A change of what Pindrel has written of an alias, made while the state did not answer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AliasChange {
    /// What was known to be written before.
    pub before: Written<Vec<RecordSet>>,
    /// What is written since.
    pub after: Written<Vec<RecordSet>>,
    /// The alias before the present one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub former_alias: Option<FormerAlias>,
    /// When it was last changed from one endpoint to another.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub switched: Option<Timestamp>,
}

impl AliasChange {
    /// The change from one state of things to another.
    pub fn between(before: &Ownership, after: &Ownership) -> AliasChange {
        AliasChange {
            before: before.alias.clone(),
            after: after.alias.clone(),
            former_alias: after.former_alias,
            switched: after.switched,
        }
    }

    /// This change and a later one as one.
    #[must_use]
    pub fn then(self, later: AliasChange) -> AliasChange {
        AliasChange { before: self.before, ..later }
    }
}

impl Ownership {
    /// Takes over a change that was made meanwhile. Where what is stored is not what that began with, somebody else has
    /// changed it since, whose word is the later one; what was written may still stand there, and stays Pindrel's.
    pub fn take_alias_change(&mut self, change: &AliasChange) {
        let AliasChange { before, after, former_alias, switched } = change;
        if self.alias == *before {
            (self.alias, self.former_alias, self.switched) = (after.clone(), *former_alias, *switched);
            return;
        }
        let written = after.intended.as_ref().or(after.made.as_ref());
        if let Some(written) = written.filter(|written| !self.wrote_alias(written)) {
            self.alias.replaced = Some(written.clone());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::values::Fingerprint;
    use crate::zones::records::RecordData;

    #[test]
    fn only_what_was_written_at_that_endpoint_is_recognised() {
        let key = |id: &str| EndpointKey::new(&"https://platform.example".parse().unwrap(), id);
        let binding = |seed: &[u8]| Binding::plain(Some(Fingerprint::of(seed)));
        let mut own = Ownership::default();
        own.intend_binding(key("north"), None, binding(b"one"));
        assert!(own.wrote_binding(&key("north"), &binding(b"one")), "also before it is confirmed");
        own.confirm_binding(&key("north"));
        own.intend_binding(key("north"), Some(&binding(b"one")), binding(b"two"));
        // Stopped again and again: what stands there, and what may stand there next.
        own.intend_binding(key("north"), Some(&binding(b"two")), binding(b"four"));
        own.intend_binding(key("north"), Some(&binding(b"two")), binding(b"five"));
        for seed in [&b"one"[..], b"two", b"five"] {
            assert!(own.wrote_binding(&key("north"), &binding(seed)), "stopped in between");
            assert!(!own.wrote_binding(&key("south"), &binding(seed)), "an equal one at another endpoint is foreign");
        }
        assert!(!own.wrote_binding(&key("north"), &binding(b"four")), "it never came to stand there");
        own.confirm_binding(&key("north"));
        assert!(!own.wrote_binding(&key("north"), &binding(b"two")), "it was replaced");

        let mut old = Ownership::default();
        old.bindings.insert(EndpointKey::unrecorded(), Written { made: Some(binding(b"one")), ..Written::default() });
        assert!(old.wrote_binding(&key("north"), &binding(b"one")));
        assert!(!old.wrote_binding(&key("north"), &binding(b"two")));
        old.intend_binding(key("north"), None, binding(b"two"));
        old.confirm_binding(&key("north"));
        assert!(!old.wrote_binding(&key("south"), &binding(b"one")), "from then on it is known where");
        let text = serde_json::to_string(&own).unwrap();
        assert_eq!(serde_json::from_str::<Ownership>(&text).unwrap(), own);
    }

    #[test]
    fn a_change_that_comes_late_counts_once_and_undoes_nobody_elses() {
        let to = |name: &str| {
            let target = RecordData::Cname(format!("{name}.edge.example").parse().unwrap());
            RecordSet::group([(Ttl::HOUR, target)])
        };
        let made = |name: &str| Ownership {
            alias: Written { made: Some(to(name)), ..Written::default() },
            ..Ownership::default()
        };
        // Two switches while the state was away are one change to it.
        let mut second = made("north");
        second.intend_alias(&to("north"), to("south"));
        let mut third = second.clone();
        third.confirm_alias(&to("south"));
        let change = AliasChange::between(&made("north"), &second).then(AliasChange::between(&second, &third));
        let mut stored = made("north");
        for _ in 0..2 {
            stored.take_alias_change(&change);
            assert_eq!(stored, third, "however often it is handed over");
        }
        // Somebody else has pointed it elsewhere since.
        let mut other = made("west");
        other.take_alias_change(&change);
        assert_eq!(other.alias.made, Some(to("west")));
        assert!(other.wrote_alias(&to("south")), "it may stand there, and is not foreign");
    }
}

//! What a run is about, and how far it goes.

use pindrel_core::desired::{CertificateId, Desired, HostnameId};
use pindrel_core::names::name::Hostname;

/// What a run is about.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Scope {
    /// These hostnames, with all that they need.
    pub hostnames: Vec<HostnameId>,
    /// These certificates also: those that no hostname uses.
    pub certificates: Vec<CertificateId>,
    /// What the manifest no longer names also.
    pub leftovers: LeftoverScope,
}

/// Which of the hostnames that the manifest no longer names a run is about.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub enum LeftoverScope {
    /// None of them.
    #[default]
    None,
    /// All of them: they are reported, and those that are being retired are taken further.
    All,
    /// These are retired.
    Retire(Vec<Hostname>),
}

impl Scope {
    /// All of a manifest.
    pub fn all(desired: &Desired) -> Scope {
        let (hostnames, certificates) = (desired.hostname_ids().collect(), desired.unused_certificates());
        Scope { hostnames, certificates, leftovers: LeftoverScope::All }
    }

    /// Some certificates with all hostnames that use them.
    pub fn of_certificates(desired: &Desired, ids: &[CertificateId]) -> Scope {
        let uses = |id: &HostnameId| ids.contains(&desired.hostname(*id).certificate);
        let unused = desired.unused_certificates();
        Scope {
            hostnames: desired.hostname_ids().filter(uses).collect(),
            certificates: ids.iter().copied().filter(|id| unused.contains(id)).collect(),
            leftovers: LeftoverScope::None,
        }
    }
}

/// How far a run goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Aim {
    /// Everything is held.
    #[default]
    Hold,
    /// Everything is held but the aliases: the endpoints are ready, and a person looks first.
    HoldAliases,
    /// Every set-up is proven at its practice authority; nothing else is done.
    Rehearse,
}

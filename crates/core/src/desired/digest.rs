//! Whether the manifest still wants the same of a hostname.

use std::hash::{Hash, Hasher};

use super::{Desired, HostnameId};

impl Desired {
    /// Starts computing digests of what is wanted for hostnames.
    pub fn digests(&self) -> Digests<'_> {
        Digests {
            desired: self,
            authorities: self.authorities.iter().map(digest).collect(),
            zones: self.zones.iter().map(digest).collect(),
            endpoints: self.endpoints.iter().map(digest).collect(),
        }
    }
}

/// Computes a digest of all that is wanted for a hostname. A stored digest that still
/// agrees means that the manifest has not changed anything for that hostname.
#[derive(Debug)]
pub struct Digests<'d> {
    desired: &'d Desired,
    authorities: Vec<u64>,
    zones: Vec<u64>,
    endpoints: Vec<u64>,
}

impl Digests<'_> {
    /// Returns the digest for one hostname.
    pub fn of(&self, id: HostnameId) -> u64 {
        let wanted = self.desired.hostname(id);
        let certificate = self.desired.certificate(wanted.certificate);
        let mut hasher = Fnv::default();
        wanted.hostname.hash(&mut hasher);
        wanted.routes.hash(&mut hasher);
        wanted.redirect_to.hash(&mut hasher);
        wanted.minimum_tls.hash(&mut hasher);
        wanted.ttl.hash(&mut hasher);
        wanted.expect.hash(&mut hasher);
        wanted.probed_as.hash(&mut hasher);
        certificate.name.hash(&mut hasher);
        certificate.names.hash(&mut hasher);
        certificate.terms.hash(&mut hasher);
        certificate.authority.map(|authority| self.authorities[authority.0 as usize]).hash(&mut hasher);
        self.zones[wanted.zone.0 as usize].hash(&mut hasher);
        self.endpoints[wanted.endpoint.0 as usize].hash(&mut hasher);
        hasher.finish()
    }
}

fn digest(value: &impl Hash) -> u64 {
    let mut hasher = Fnv::default();
    value.hash(&mut hasher);
    hasher.finish()
}

/// FNV-1a with 64 bits: the same on every run, unlike the standard library's hasher.
struct Fnv(u64);

impl Default for Fnv {
    fn default() -> Self {
        Fnv(0xcbf2_9ce4_8422_2325)
    }
}

impl Hasher for Fnv {
    fn write(&mut self, bytes: &[u8]) {
        for byte in bytes {
            self.0 = (self.0 ^ u64::from(*byte)).wrapping_mul(0x0000_0100_0000_01b3);
        }
    }

    fn finish(&self) -> u64 {
        self.0
    }
}

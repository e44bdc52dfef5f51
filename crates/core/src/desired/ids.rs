//! Places in what should hold: what the other parts of the core name a hostname, a check or an endpoint by.

/// A place in [`Desired::authorities`](super::Desired::authorities).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct AuthorityId(pub u32);

/// A place in [`Desired::zones`](super::Desired::zones).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct ZoneId(pub u32);

/// A place in [`Desired::endpoints`](super::Desired::endpoints).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct EndpointId(pub u32);

/// A place in [`Desired::certificates`](super::Desired::certificates).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct CertificateId(pub u32);

/// A place in [`Desired::hostnames`](super::Desired::hostnames).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct HostnameId(pub u32);

/// A place in [`Desired::checks`](super::Desired::checks).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct CheckId(pub u32);

//! Where a hostname's traffic ends: one endpoint, or several under a policy.

use std::time::Duration;

use super::{CheckId, EndpointId};
use crate::health::policy::Policy;

/// The endpoints of a hostname, and how they share its traffic.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Placement {
    /// The endpoints in the order of preference, with the check that judges each; at least one.
    pub members: Vec<PlacedEndpoint>,
    /// The policy.
    pub policy: Policy,
    /// How long an endpoint must have been up before traffic returns to it.
    pub back_after: Duration,
}

/// One endpoint of a hostname.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PlacedEndpoint {
    /// The endpoint.
    pub endpoint: EndpointId,
    /// What judges it, where anything does.
    pub check: Option<CheckId>,
}

impl Placement {
    /// How long an endpoint must have been up before traffic returns to it, where the manifest does not say.
    pub const BACK_AFTER: Duration = Duration::from_secs(300);

    /// At one endpoint.
    pub fn single(endpoint: EndpointId) -> Placement {
        let members = vec![PlacedEndpoint { endpoint, check: None }];
        Placement { members, policy: Policy::Single, back_after: Placement::BACK_AFTER }
    }

    /// Returns the endpoints that an alias gives as long as nothing is known of their health.
    pub fn at_first(&self) -> Vec<EndpointId> {
        let count = if self.policy == Policy::Split { self.members.len() } else { 1 };
        self.members.iter().take(count).map(|member| member.endpoint).collect()
    }
}

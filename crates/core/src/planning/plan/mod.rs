//! Which steps bring the world to the manifest, and in which order.
//!
//! The planner asks backwards from the goal: is this held by what is known? If not, which
//! [`Work`] brings it about, what does that need first ([`needs()`]), and may it begin
//! ([`gate()`])? Orders of work that differ are different needs, not different code.

mod gate;
mod needs;
mod planner;

use serde::Serialize;

use crate::desired::{AuthorityId, CertificateId, EndpointId, HostnameId, ZoneId};
use crate::judging::facts::RetiringId;
use crate::judging::findings::Finding;
use crate::judging::pin::Pin;
use crate::names::name::Hostname;

pub use gate::{Gate, gate};
pub use needs::needs;
pub use planner::Planner;

/// What one step is about; two goals that need the same share the step.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Work {
    /// Mark a zone as the one whose hostnames this installation holds.
    Mark(ZoneId),
    /// Open or find the account at an authority.
    Register(AuthorityId),
    /// Prove at the practice authority that such a certificate can be issued.
    Rehearse(CertificateId),
    /// Have a certificate issued. This step expands: its challenges exist only once
    /// there is an order.
    Issue(CertificateId),
    /// Write a certificate to its files, and run the commands that follow.
    Deliver(CertificateId),
    /// Put a certificate into the store that the endpoint takes certificates from.
    Store(CertificateId, EndpointId),
    /// Bind a hostname at an endpoint and wait until that is deployed.
    Bind(HostnameId, EndpointId),
    /// Connect to the endpoint directly and compare the served certificate.
    Connect(HostnameId, EndpointId),
    /// Give the alias of a hostname that is about to move a low TTL, and wait the old one out.
    LowerTtl(HostnameId),
    /// Point the alias record at the endpoint, on every server.
    Alias(HostnameId),
    /// Verify what a client gets.
    Answer(HostnameId),
    /// Take the alias record of a hostname away, on every server.
    RemoveAlias(RetiringId),
    /// Wait until caches have forgotten the old alias, and take the binding away.
    Unbind(HostnameRef, EndpointId),
    /// Give the alias of a hostname that has moved its usual TTL again.
    RaiseTtl(HostnameId),
}

/// A hostname of the manifest, or one that is taken away.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum HostnameRef {
    /// One of the manifest.
    Wanted(HostnameId),
    /// One that is taken away.
    Retiring(RetiringId),
}

impl Work {
    /// Returns the name of the action.
    pub fn action(self) -> &'static str {
        match self {
            Work::Mark(_) => "mark",
            Work::Register(_) => "register",
            Work::Rehearse(_) => "rehearse",
            Work::Issue(_) => "issue",
            Work::Deliver(_) => "deliver",
            Work::Store(..) => "store",
            Work::Bind(..) => "bind",
            Work::Connect(..) => "connect",
            Work::LowerTtl(_) => "lower-ttl",
            Work::Alias(_) => "alias",
            Work::Answer(_) => "answer",
            Work::RemoveAlias(_) => "remove-alias",
            Work::Unbind(..) => "unbind",
            Work::RaiseTtl(_) => "raise-ttl",
        }
    }

    /// Returns the pin that the step is to hold.
    pub fn pin(self) -> Pin {
        match self {
            Work::Mark(_) => Pin::Zone,
            Work::Register(_) | Work::Rehearse(_) | Work::Issue(_) | Work::Deliver(_) => Pin::Certificate,
            Work::Store(..) | Work::Bind(..) | Work::Connect(..) | Work::Unbind(..) => Pin::Binding,
            Work::Alias(_) | Work::LowerTtl(_) | Work::RaiseTtl(_) | Work::RemoveAlias(_) => Pin::Alias,
            Work::Answer(_) => Pin::Answer,
        }
    }
}

/// What a plan is to hold.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Goal {
    /// A hostname, with all five pins.
    Hostname(HostnameId),
    /// A certificate that no hostname uses; in a rehearsal, one whose set-up is proven.
    Certificate(CertificateId),
    /// A hostname that is taken away: nothing of it is left.
    Retired(RetiringId),
}

/// One step of a plan.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Step {
    /// Its number, from one.
    pub id: u32,
    /// The first hostname that needs it.
    pub hostname: Hostname,
    /// What it does.
    pub action: &'static str,
    /// What it does it to.
    pub target: String,
    /// The numbers of the steps that must have succeeded before.
    pub after: Vec<u32>,
    /// Why it is needed.
    pub why: String,
    /// What it is about.
    #[serde(skip)]
    pub work: Work,
    /// What is not held before it has succeeded.
    #[serde(skip)]
    pub goals: Vec<Goal>,
}

/// What lies ahead of one goal.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outlook {
    /// It is held.
    Held,
    /// The plan has all steps for it.
    Steps,
    /// A person is needed first, for all of it or for what is left after its steps.
    Blocked(Vec<Finding>),
    /// A peer has said when to come back, and nothing else is missing.
    Waiting(Vec<Finding>),
    /// Something that is needed cannot be reached.
    Outage(Vec<Finding>),
}

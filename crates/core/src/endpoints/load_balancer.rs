//! A load balancer on this machine as an endpoint: what the manifest says of it.

use std::net::IpAddr;
use std::path::PathBuf;

use crate::names::name::DnsName;

/// A load balancer that is told certificates over its runtime socket.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct LoadBalancer {
    /// Its runtime socket.
    pub socket: PathBuf,
    /// The folder of its certificates as files, for its next start; Pindrel's own.
    pub folder: PathBuf,
    /// Its certificate list.
    pub list: PathBuf,
    /// The name that aliases point at; without one they are its addresses.
    pub default_name: Option<DnsName>,
    /// Its addresses; at least one.
    pub addresses: Vec<IpAddr>,
    /// The port that it serves TLS on.
    pub port: u16,
}

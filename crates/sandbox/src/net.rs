//! A loopback network of the sandbox's own, so that several run side by side.

use std::fmt;
use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::str::FromStr;

use tokio::net::TcpListener;

use crate::SandboxError;

/// The port whose listener stands for the claim on a network.
const CLAIM_PORT: u16 = 5389;
/// The networks that are tried within a range.
const TRIED: u8 = 100;

/// A range of loopback addresses, such as `127.47`: its networks `127.47.N.x` are free for sandboxes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NetRange {
    second: u8,
}

impl Default for NetRange {
    fn default() -> Self {
        NetRange { second: 47 }
    }
}

impl fmt::Display for NetRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "127.{}", self.second)
    }
}

impl FromStr for NetRange {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let second = text.strip_prefix("127.").and_then(|second| second.parse().ok());
        // What lies below 127.0 is other programs' as a rule.
        let second = second.filter(|second| *second > 0).ok_or("write the range as 127.N, with N from 1 to 255")?;
        Ok(NetRange { second })
    }
}

/// A claimed network; free again when dropped.
pub(crate) struct Net {
    range: NetRange,
    third: u8,
    _claim: TcpListener,
}

impl Net {
    pub(crate) async fn claim(range: NetRange) -> Result<Net, SandboxError> {
        for third in 0..TRIED {
            let address = SocketAddr::new(Ipv4Addr::new(127, range.second, third, 1).into(), CLAIM_PORT);
            if let Ok(claim) = TcpListener::bind(address).await {
                return Ok(Net { range, third, _claim: claim });
            }
        }
        Err(SandboxError::NoNet { range, last: TRIED - 1 })
    }

    pub(crate) fn address(&self, last: u8) -> IpAddr {
        Ipv4Addr::new(127, self.range.second, self.third, last).into()
    }

    pub(crate) fn prefix(&self) -> String {
        format!("{}.{}", self.range, self.third)
    }
}

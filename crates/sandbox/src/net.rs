//! A loopback network of the sandbox's own, so that several run side by side.

use std::net::{IpAddr, Ipv4Addr, SocketAddr};

use tokio::net::TcpListener;

use crate::SandboxError;

/// The port whose listener stands for the claim on a network.
const CLAIM_PORT: u16 = 5389;

/// A claimed network `127.47.N.x`; free again when dropped.
pub(crate) struct Net {
    third: u8,
    _claim: TcpListener,
}

impl Net {
    pub(crate) async fn claim() -> Result<Net, SandboxError> {
        for third in 0..100 {
            let address = SocketAddr::new(Ipv4Addr::new(127, 47, third, 1).into(), CLAIM_PORT);
            if let Ok(claim) = TcpListener::bind(address).await {
                return Ok(Net { third, _claim: claim });
            }
        }
        Err(SandboxError::NoNet)
    }

    pub(crate) fn address(&self, last: u8) -> IpAddr {
        Ipv4Addr::new(127, 47, self.third, last).into()
    }

    pub(crate) fn prefix(&self) -> String {
        format!("127.47.{}", self.third)
    }
}

//! A zone that somebody else edits: it is looked at, and nothing is written.

use std::net::SocketAddr;
use std::time::Duration;

use async_trait::async_trait;
use pindrel_core::names::name::DnsName;
use pindrel_core::zones::records::ZoneChange;
use pindrel_core::zones::zone_data::ZoneData;

use crate::driver::ZoneDriver;
use crate::sets::SetChange;
use crate::transfer::{look_up, transfer};
use crate::zone_error::ZoneError;

/// The driver for zones that somebody else edits.
#[derive(Debug)]
pub struct HandedOff {
    zone: DnsName,
    server: SocketAddr,
    /// How long a transfer may take.
    within: Duration,
}

impl HandedOff {
    /// Makes a driver that looks at a zone at one of its servers.
    pub fn new(zone: DnsName, server: SocketAddr, within: Duration) -> HandedOff {
        HandedOff { zone, server, within }
    }

    fn refused(&self) -> ZoneError {
        ZoneError::Refused {
            says: format!("{} is edited by somebody else (driver = \"none\")", self.zone),
            remedy: format!("Send them what is to be made, as listed by: pindrel handoff {}", self.zone),
        }
    }
}

#[async_trait]
impl ZoneDriver for HandedOff {
    fn zone(&self) -> &DnsName {
        &self.zone
    }

    /// Challenge records come and go by somebody else's hand too: whether they are there is looked for afterwards.
    async fn change(&self, change: &ZoneChange) -> Result<(), ZoneError> {
        match change {
            ZoneChange::Add(_) | ZoneChange::Delete(_) => Ok(()),
            ZoneChange::Replace(_) => Err(self.refused()),
        }
    }

    async fn read(&self) -> Result<ZoneData, ZoneError> {
        let transferred = transfer(self.server, &self.zone, None, self.within).await;
        transferred.map_err(|error| error.into_zone_error())
    }

    async fn read_names(&self, names: &[DnsName]) -> Result<ZoneData, ZoneError> {
        look_up(self.server, &self.zone, names).await.map_err(|why| ZoneError::Unreachable {
            says: format!("{} cannot be asked about {}: {why}", self.server, self.zone),
            remedy: format!("Start {}, or allow UDP and TCP from this host to it", self.server),
        })
    }

    async fn change_sets(&self, _changes: &[SetChange]) -> Result<(), ZoneError> {
        Err(self.refused())
    }
}

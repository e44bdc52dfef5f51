//! Records that platforms ask for: which of them are missing.

use std::net::SocketAddr;

use futures::future::join_all;
use pindrel_core::desired::ZoneId;
use pindrel_core::endpoints::endpoint::{AskedRecord, KeepRecord};
use pindrel_core::zones::records::ZoneRecord;

use super::binding::BindingObserver;

impl BindingObserver {
    /// Returns the records that a platform needs now and that a server does not return.
    pub(crate) async fn lacking_records(&self, asked: &[AskedRecord], is_deployed: bool) -> Vec<AskedRecord> {
        let needed = asked.iter().filter(|asked| !is_deployed || asked.keep == KeepRecord::WhileBound);
        let looks = needed.filter_map(|asked| Some((asked, asked.record()?))).map(async |(asked, record)| {
            match self.context.desired.zone_at(&record.owner) {
                Some(zone) => (!self.servers_lacking(zone, &record).await.is_empty()).then(|| asked.clone()),
                // Somebody else has made it, or the platform would not serve.
                None => (!is_deployed).then(|| asked.clone()),
            }
        });
        join_all(looks).await.into_iter().flatten().collect()
    }

    /// The servers of a zone that do not return a record, or do not answer.
    pub(crate) async fn servers_lacking(&self, zone: ZoneId, record: &ZoneRecord) -> Vec<SocketAddr> {
        let looks = self.zones.servers(zone).into_iter().map(async |server| {
            let lacking = self.context.drivers.lookups().lacking(server, std::slice::from_ref(record)).await;
            lacking.map_or(true, |lacking| !lacking.is_empty()).then_some(server)
        });
        join_all(looks).await.into_iter().flatten().collect()
    }
}

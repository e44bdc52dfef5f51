//! Marking a zone as the one whose hostnames this installation holds.

use std::sync::Arc;

use pindrel_core::desired::ZoneId;
use pindrel_core::judging::findings::{Finding, ZoneCause};
use pindrel_core::judging::pin::Pin;
use pindrel_core::values::Ttl;
use pindrel_core::zones::records::{RecordData, ZoneChange, ZoneRecord};

use crate::context::Context;
use crate::observe::zone::ZoneObserver;

/// The step that marks a zone.
pub(crate) struct Marker {
    pub(crate) context: Arc<Context>,
    pub(crate) zones: Arc<ZoneObserver>,
}

impl Marker {
    /// Adds the marker, unless somebody has marked the zone meanwhile.
    pub(crate) async fn mark(&self, id: ZoneId) -> Result<(), Finding> {
        self.zones.look_at(id).await?;
        let zone = self.context.desired.zone(id);
        let lacks = self.context.zone_fact(id).is_some_and(|fact| zone.lacks_marker(&fact.value));
        let Some(owner) = zone.marker_owner().filter(|_| lacks) else { return Ok(()) };
        let data = RecordData::Txt(self.zones.marker_text());
        let driver = self.zones.driver(id, None).await?;
        let change = ZoneChange::Add(vec![ZoneRecord { owner, ttl: Ttl::HOUR, data }]);
        driver.change(&change).await.map_err(|error| error.finding(Pin::Zone))?;
        self.zones.look_at(id).await?;
        if self.context.zone_fact(id).is_some_and(|fact| zone.lacks_marker(&fact.value)) {
            return Err(Finding::zone(&zone.name, ZoneCause::MarkerNotReturned));
        }
        Ok(())
    }
}

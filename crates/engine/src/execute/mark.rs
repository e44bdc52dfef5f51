//! Marking a zone as the one whose hostnames this installation holds.

use pindrel_core::desired::{Zone, ZoneId};
use pindrel_core::judging::facts::Marker;
use pindrel_core::judging::findings::{Code, Finding};
use pindrel_core::judging::pin::Pin;
use pindrel_core::values::Ttl;
use pindrel_core::zones::records::{RecordData, ZoneChange, ZoneRecord};

use crate::run::Engine;

impl Engine {
    /// Adds the marker, unless somebody has marked the zone meanwhile.
    pub(super) async fn mark(&self, id: ZoneId) -> Result<(), Finding> {
        self.look_at_zone(id).await?;
        let zone = self.desired.zone(id);
        let lacks = self.zone_fact(id).is_some_and(|fact| zone.lacks_marker(&fact.value));
        let Some(owner) = zone.marker_owner().filter(|_| lacks) else { return Ok(()) };
        let data = RecordData::Txt(self.marker_text());
        let driver = self.zone_driver(id, None).await?;
        let change = ZoneChange::Add(vec![ZoneRecord { owner, ttl: Ttl::HOUR, data }]);
        driver.change(&change).await.map_err(|error| error.finding(Pin::Zone))?;
        self.look_at_zone(id).await?;
        if self.zone_fact(id).is_some_and(|fact| zone.lacks_marker(&fact.value)) {
            let says = format!("the zone {} was marked, and its server does not return the marker", zone.name);
            return Err(Finding::of(Code::UpdateWithoutEffect, says, "Check the server's log for why"));
        }
        Ok(())
    }

    fn marker_text(&self) -> String {
        Zone::marker_text(self.vault.id())
    }

    /// Who has marked a zone, as its first server says; `None` where that is not asked for, or it does not say.
    pub(crate) async fn marker_of(&self, id: ZoneId) -> Option<Marker> {
        let zone = self.desired.zone(id);
        let owner = zone.marker_owner().filter(|_| zone.marker)?;
        let (texts, own) = (self.texts_at(id, &owner).await?, self.marker_text());
        let others: Vec<String> = texts.iter().filter(|text| **text != own).cloned().collect();
        Some(match (texts.is_empty(), others.is_empty()) {
            (true, _) => Marker::Absent,
            (false, true) => Marker::Own,
            (false, false) => Marker::Others(others),
        })
    }
}

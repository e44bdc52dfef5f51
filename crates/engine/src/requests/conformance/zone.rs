//! A trial of the driver of one zone.

use pindrel_core::desired::ZoneId;
use pindrel_core::judging::findings::{Finding, ZoneCause};
use pindrel_core::judging::pin::Pin;
use pindrel_dns::conformance::trial;

use super::{ClauseReport, Verdict};
use crate::failure::internal;
use crate::requests::zones::ZoneRequests;

impl ZoneRequests {
    /// Tries what the driver of a zone must do, with records below `label` that are taken away again.
    ///
    /// # Errors
    /// A [`Finding`] when the zone cannot be read, or there is something below that label.
    pub async fn try_driver(&self, id: ZoneId, label: &str) -> Result<Vec<ClauseReport>, Finding> {
        let zone = self.context.desired.zone(id);
        if self.context.desired.is_handed_off(id) {
            return Err(Finding::zone(&zone.name, ZoneCause::HandedOff));
        }
        let place = zone.name.below(label).map_err(|error| internal(error.to_string()))?;
        let driver = self.zones.driver(id, None).await?;
        let clauses = trial(&*driver, &zone.name, &place).await.map_err(|error| error.finding(Pin::Zone))?;
        let report = |(clause, kept): (&'static str, Result<(), String>)| ClauseReport {
            clause,
            verdict: match kept {
                Ok(()) => Verdict::Met,
                Err(why) => Verdict::NotMet { why },
            },
        };
        Ok(clauses.into_iter().map(report).collect())
    }
}

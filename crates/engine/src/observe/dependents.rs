//! What in a zone leads to a hostname: whoever takes away what stands there should know.

use std::collections::HashSet;
use std::sync::Arc;
use std::time::Duration;

use pindrel_core::desired::{HostnameId, ZoneId};
use pindrel_core::judging::facts::Dependent;
use pindrel_core::zones::zone_data::{NameKey, rdata};
use tokio::time::timeout;

use crate::observe::zone::{Dependents, ZoneObserver};

/// The most record sets that are kept for one hostname.
const MOST_KEPT: usize = 100;

/// How long the zone may take: what leads to a name is good to know, and nothing waits for it longer.
const READ_WITHIN: Duration = Duration::from_secs(5);

impl ZoneObserver {
    /// What leads to a hostname in its zone, which is read once a run.
    pub(crate) async fn dependents_of(&self, id: HostnameId) -> Vec<Dependent> {
        let wanted = self.context.desired.hostname(id);
        let cell = self.dependents.lock().await.entry(wanted.zone).or_default().clone();
        let all = cell.get_or_init(|| self.read_dependents(wanted.zone)).await;
        all.get(&NameKey::from(&wanted.hostname.owner())).cloned().unwrap_or_default()
    }

    async fn read_dependents(&self, zone: ZoneId) -> Arc<Dependents> {
        let mut dependents = Dependents::default();
        let Ok(driver) = self.driver(zone, None).await else { return Arc::default() };
        let Ok(Ok(data)) = timeout(READ_WITHIN, driver.read()).await else { return Arc::default() };
        let own = self.context.desired.hostnames.iter().filter(|wanted| wanted.zone == zone);
        let own: HashSet<NameKey> = own.map(|wanted| NameKey::from(&wanted.hostname.owner())).collect();
        for entry in data.entries() {
            let Some(target) = rdata::target(entry.code, entry.data).filter(|target| own.contains(target)) else {
                continue;
            };
            let found = dependents.entry(target).or_default();
            let owner = entry.owner().to_string().trim_end_matches('.').to_owned();
            let one = Dependent { owner, record_type: entry.code.to_string() };
            if found.len() < MOST_KEPT && !found.contains(&one) {
                found.push(one);
            }
        }
        Arc::new(dependents)
    }
}

//! What is kept of checks, thinned as it ages.

use std::collections::HashSet;

use pindrel_core::health::{Slot, due_to_drop, due_to_widen, widen};

use super::Health;
use crate::failure::EngineError;

/// How many slots are merged at once.
const THINNED_AT_ONCE: u32 = 20_000;

impl Health {
    /// Merges what is kept of checks by its age, and forgets checks that the manifest has not had for long.
    pub(crate) async fn thin_checks(&self) -> Result<(), EngineError> {
        let now = self.context.clock.now();
        let before = due_to_drop(now);
        for (seconds, due) in due_to_widen(now) {
            loop {
                let slots = self.context.state.slots_before(seconds, due, THINNED_AT_ONCE).await?;
                let is_last = slots.len() < THINNED_AT_ONCE as usize;
                for of_one in slots.chunk_by(|left, right| left.0 == right.0) {
                    let old: Vec<Slot> = of_one.iter().map(|(_, slot)| slot.clone()).collect();
                    self.context.state.replace_slots(&of_one[0].0, &old, &widen(&old)).await?;
                }
                if is_last {
                    break;
                }
            }
        }
        self.context.state.prune_health(before).await?;
        let names: HashSet<&str> = self.context.desired.checks.iter().map(|check| check.name.as_str()).collect();
        for (name, record) in self.context.state.check_records().await? {
            let is_old = record.seen().or(record.since).is_none_or(|seen| seen < before);
            if !names.contains(name.as_str()) && is_old {
                self.context.state.forget_check(&name).await?;
            }
        }
        Ok(())
    }
}

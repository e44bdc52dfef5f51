//! What an alias should give: decided once in a pass, by what is known then.

use pindrel_core::desired::HostnameId;
use pindrel_core::health::policy::Choice;
use pindrel_core::judging::pins::Known;

use crate::failure::EngineError;
use crate::run::Engine;

impl Engine {
    /// Where somebody else switches aliases, takes over what has been written and seen by that since, and decides anew.
    pub(crate) async fn follow_switches(&self, id: HostnameId) -> Result<(), EngineError> {
        let wanted = self.desired.hostname(id);
        if !self.is_without_failover() || !wanted.follows_checks(&self.desired) {
            return Ok(());
        }
        if let Some(row) = self.state.hostname(&wanted.hostname).await? {
            let mut known = self.known();
            let own = known.hostnames.entry(id).or_default();
            own.ownership = row.ownership;
            own.facts.take_later_alias(row.facts.alias);
        }
        self.choose(id);
        Ok(())
    }

    /// Decides what the alias of a hostname should give, where there is something to choose from.
    pub(crate) fn choose(&self, id: HostnameId) -> Option<Choice> {
        let now = self.clock.now();
        let mut known = self.known();
        let about = Known::about(&self.desired, &known, id);
        let mut choice = about.decide(now)?;
        let given = about.aliased_at();
        if self.is_without_failover() && !given.is_empty() {
            choice.give = given;
        }
        known.choices.insert(id, choice.clone());
        Some(choice)
    }
}

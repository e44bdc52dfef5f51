//! What an alias should give: decided once in a pass, by what is known then.

use pindrel_core::desired::HostnameId;
use pindrel_core::pins::Known;
use pindrel_core::policy::Choice;

use crate::run::Engine;

impl Engine {
    /// Decides what the alias of a hostname should give, where there is something to choose from.
    pub(crate) fn choose(&self, id: HostnameId) -> Option<Choice> {
        let now = self.clock.now();
        let mut known = self.known();
        let about = Known::about(&self.desired, &known, id);
        let mut choice = about.decide(now)?;
        let given = about.aliased_at();
        if self.leaves_switches() && !given.is_empty() {
            choice.give = given;
        }
        known.choices.insert(id, choice.clone());
        Some(choice)
    }
}

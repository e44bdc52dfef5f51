//! What a move does before the alias leaves: its TTL is lowered, and the old one waited out.

use pindrel_core::desired::HostnameId;
use pindrel_core::judging::findings::{AliasCause, Finding};
use pindrel_core::judging::pin::Pin;
use pindrel_core::planning::moves::{MOVING_TTL, has_low_ttl, longest_ttl};
use pindrel_core::planning::plan::HostnameRef;
use pindrel_core::zones::records::{NameChange, RecordSet, ZoneChange};
use pindrel_state::Claim;

use crate::context::progress::{Progress, Wait};
use crate::execute::alias::Switcher;
use crate::execute::unbind::{forgotten_at, wait_for_caches};

impl Switcher {
    pub(crate) async fn lower_ttl(&self, id: HostnameId, claim: &Claim) -> Result<Progress, Finding> {
        let wanted = self.context.desired.hostname(id);
        let hostname = &wanted.hostname;
        let mut fact = self.aliases.observe(id).await;
        let present = fact.value.first_gives();
        if present.iter().any(|set| set.ttl() > MOVING_TTL) {
            let lowered: Vec<RecordSet> = present.iter().map(|set| set.with_ttl(MOVING_TTL)).collect();
            let servers = self.zones.servers(wanted.zone);
            let driver = self.context.drivers.zone(self.context.desired.zone(wanted.zone), &servers)?;
            let (replaced, now) = (longest_ttl(&fact.value), self.context.clock.now());
            self.hostnames
                .record_ownership(claim, id, |own| {
                    own.intend_alias(&present, lowered.clone());
                    if let Some(ttl) = replaced {
                        own.replace_alias(ttl, true, now);
                    }
                })
                .await?;
            let change = NameChange {
                owner: hostname.owner(),
                expected: present,
                wanted: lowered,
                place: self.aliases.place(wanted.zone, &hostname.owner()),
            };
            let changed = driver.change(&ZoneChange::Replace(change)).await;
            changed.map_err(|error| error.finding(Pin::Alias))?;
            fact = self.aliases.observe(id).await;
        }
        let is_low = longest_ttl(&fact.value).is_none_or(|ttl| ttl <= MOVING_TTL);
        self.hostnames.record_facts(id, |facts| facts.alias = Some(fact.clone())).await?;
        if !is_low {
            return Ok(Progress::NotYet(Wait {
                until: None,
                topic: "transfer",
                what: "the low TTL to propagate to every server".into(),
                within: Some(self.context.bounds.patience),
                finding: Finding::alias(hostname, AliasCause::LowTtlLagging),
            }));
        }
        self.confirm_alias(claim, id, &fact.value).await?;
        let own = self.context.ownership_of(HostnameRef::Wanted(id));
        if has_low_ttl(&fact.value, &own, self.context.clock.now()) {
            return Ok(Progress::Done);
        }
        if self.context.bounds.skip_ttl_wait {
            let until = own.former_alias.and_then(|former| former.forgotten_at());
            let until = until.map_or_else(String::new, |until| format!(" until {until:.0}"));
            self.context.note(format!(
                "{hostname} moves at once: what goes wrong at its new endpoint can be taken back for some clients only after their caches have forgotten the alias{until}"
            ));
            return Ok(Progress::Done);
        }
        let until = forgotten_at(&own);
        let cached = Finding::alias(hostname, AliasCause::LongTtlCached { until });
        let mut wait = wait_for_caches(until, cached);
        wait.what.push_str(" (`settle --now` moves it without that)");
        Ok(Progress::NotYet(wait))
    }
}

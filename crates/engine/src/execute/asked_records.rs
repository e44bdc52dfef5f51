//! Records that a platform asks for: to prove whose a hostname is, or to validate a certificate that it
//! issues. Each is stored before it is made, and taken away once the platform needs it no longer.

use std::net::SocketAddr;
use std::sync::Arc;

use pindrel_core::desired::{EndpointId, HostnameId};
use pindrel_core::endpoints::endpoint::{AskedRecord, AskedType, KeepRecord};
use pindrel_core::judging::facts::EndpointKey;
use pindrel_core::judging::findings::{BindingCause, Finding};
use pindrel_core::judging::pin::Pin;
use pindrel_core::names::name::Hostname;
use pindrel_core::planning::plan::HostnameRef;
use pindrel_core::zones::records::{AliasPlace, NameChange, RecordData, RecordSet, ZoneChange, ZoneRecord};
use pindrel_dns::ZoneError;
use pindrel_state::Claim;

use crate::context::Context;
use crate::context::progress::Wait;
use crate::home::hostnames::Hostnames;
use crate::observe::binding::BindingObserver;
use crate::observe::zone::ZoneObserver;

/// The records that platforms ask for, made and taken away.
pub(crate) struct AskedRecords {
    pub(crate) context: Arc<Context>,
    pub(crate) bindings: Arc<BindingObserver>,
    pub(crate) hostnames: Arc<Hostnames>,
    pub(crate) zones: Arc<ZoneObserver>,
}

impl AskedRecords {
    /// Makes the records that a platform asks for, as far as they are missing; returns what is waited for
    /// until every server returns them.
    pub(crate) async fn make_asked_records(
        &self,
        id: HostnameId,
        at: EndpointId,
        asked: &[AskedRecord],
        claim: &Claim,
    ) -> Result<Option<Wait>, Finding> {
        let (wanted, endpoint) = (self.context.desired.hostname(id), self.context.desired.endpoint(at));
        let is_issued = wanted.is_issued_by_platform(&self.context.desired);
        for asked in asked {
            let finding = |cause| Finding::binding(&wanted.hostname, &endpoint.name, cause);
            let refused = |why| Err(finding(BindingCause::RecordMisplaced { record: asked.clone(), why }));
            if let Some(why) = out_of_place(asked, &wanted.hostname, is_issued) {
                return refused(why);
            }
            let Some(record) = asked.record() else { return refused("it is no record of that type".into()) };
            let Some(zone) = self.context.desired.zone_at(&record.owner) else {
                return refused("it is not in any zone of the manifest".into());
            };
            let lacking = self.bindings.servers_lacking(zone, &record).await;
            let servers = self.zones.servers(zone);
            if self.context.desired.is_handed_off(zone) && !lacking.is_empty() {
                return Ok(Some(Wait {
                    until: None,
                    topic: "handoff",
                    what: format!("somebody else to make the record that {} asks for at {}", endpoint.name, asked.name),
                    within: None,
                    finding: finding(BindingCause::RecordAwaited { name: asked.name.clone() }),
                }));
            }
            if servers.first().is_some_and(|first| lacking.contains(first)) {
                let key = endpoint.key();
                self.hostnames.record_ownership(claim, id, |own| own.add_record(key.clone(), asked.clone())).await?;
                let driver = self.context.drivers.zone(self.context.desired.zone(zone), &servers)?;
                match driver.change(&addition(&record)).await {
                    Err(ZoneError::Changed { .. }) => {
                        return refused(format!("{} has other records already", record.owner));
                    }
                    changed => changed.map_err(|error| error.finding(Pin::Binding))?,
                }
            }
            let lacking = self.bindings.servers_lacking(zone, &record).await;
            if !lacking.is_empty() {
                let shown = lacking.iter().map(SocketAddr::to_string).collect::<Vec<_>>().join(" and ");
                return Ok(Some(Wait {
                    until: None,
                    topic: "transfer",
                    what: format!("the record that {} asks for to propagate to {shown}", endpoint.name),
                    within: Some(self.context.bounds.patience),
                    finding: finding(BindingCause::RecordLagging { name: asked.name.clone(), servers: lacking }),
                }));
            }
        }
        Ok(None)
    }

    /// Takes away the records that were made for a platform: those that it needs only until the binding is
    /// deployed, or all.
    pub(crate) async fn clear_asked_records(
        &self,
        whose: HostnameRef,
        key: &EndpointKey,
        all: bool,
        claim: &Claim,
    ) -> Result<(), Finding> {
        let made = self.context.ownership_of(whose).records.get(key).cloned().unwrap_or_default();
        for asked in made.into_iter().filter(|asked| all || asked.keep == KeepRecord::UntilDeployed) {
            // One whose zone is no longer in the manifest can only be forgotten.
            if let Some((record, zone)) =
                asked.record().and_then(|record| Some((record.clone(), self.context.desired.zone_at(&record.owner)?)))
            {
                let servers = self.zones.servers(zone);
                let driver = self.context.drivers.zone(self.context.desired.zone(zone), &servers)?;
                let deleted = driver.change(&ZoneChange::Delete(vec![record])).await;
                deleted.map_err(|error| error.finding(Pin::Binding))?;
            }
            self.hostnames.record_ownership_of(claim, whose, |own| own.forget_record(key, &asked)).await?;
        }
        Ok(())
    }
}

/// A CNAME stands alone at its name (RFC 1034 §3.6.2); texts stand beside others.
fn addition(record: &ZoneRecord) -> ZoneChange {
    match record.data {
        RecordData::Cname(_) => ZoneChange::Replace(NameChange {
            owner: record.owner.clone(),
            expected: Vec::new(),
            wanted: RecordSet::group([(record.ttl, record.data.clone())]),
            place: AliasPlace::Name,
        }),
        _ => ZoneChange::Add(vec![record.clone()]),
    }
}

/// Why a record is not made although a platform asks for it: its word must not reach names that the hostname
/// has nothing to do with.
fn out_of_place(asked: &AskedRecord, hostname: &Hostname, is_issued: bool) -> Option<String> {
    let owner = hostname.base();
    if !(asked.name.as_str() == owner || asked.name.as_str().ends_with(&format!(".{owner}"))) {
        return Some(format!("that is not {owner} nor below it"));
    }
    if asked.name.as_str() == owner && asked.record_type == AskedType::Cname {
        return Some("that is the place of the alias".into());
    }
    let is_challenge = asked.name.as_str().split('.').next() == Some("_acme-challenge");
    (is_challenge && !is_issued)
        .then(|| "with it somebody else could have certificates issued, and Pindrel could not".to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_platform_has_no_say_over_names_that_are_not_the_hostnames() {
        let table = [
            ("_proof.api.larkfield.example", "TXT", false, true),
            ("_proof.api.larkfield.example", "CNAME", false, true),
            ("api.larkfield.example", "TXT", false, true),
            ("api.larkfield.example", "CNAME", false, false),
            ("larkfield.example", "TXT", false, false),
            ("www.larkfield.example", "CNAME", false, false),
            ("otherapi.larkfield.example", "TXT", false, false),
            ("_acme-challenge.api.larkfield.example", "CNAME", false, false),
            ("_acme-challenge.api.larkfield.example", "TXT", true, true),
        ];
        for (name, record_type, is_issued, allowed) in table {
            for hostname in ["api.larkfield.example", "*.api.larkfield.example"] {
                let asked: AskedRecord = serde_json::from_value(serde_json::json!({
                    "name": name, "type": record_type, "value": "proof.example"
                }))
                .unwrap();
                let refused = out_of_place(&asked, &hostname.parse().unwrap(), is_issued);
                assert_eq!(refused.is_none(), allowed, "{name} {record_type} for {hostname}: {refused:?}");
            }
        }
    }
}

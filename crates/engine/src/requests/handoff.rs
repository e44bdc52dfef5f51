//! What somebody else has to make: the records of zones that Pindrel does not change, and the delegation of those
//! that it does.

use std::collections::BTreeSet;
use std::net::{IpAddr, SocketAddr};

use futures::{StreamExt as _, stream};
use jiff::Timestamp;
use pindrel_core::desired::{HostnameId, ZoneId};
use pindrel_core::judging::facts::{DelegationView, ZoneView};
use pindrel_core::judging::pins::{Known, PinState, Pins};
use pindrel_core::names::name::DnsName;
use pindrel_core::values::Ttl;
use pindrel_core::zones::records::{AliasPlace, RecordData, RecordSet, RecordType, ZoneRecord, in_words};
use pindrel_core::zones::zone_data::{NameKey, TypeCode, rdata};
use pindrel_dns::lookup::Hidden;
use serde::Serialize;

use crate::acme::challenges::LOOKUPS_AT_ONCE;
use crate::failure::EngineError;
use crate::observe::alias::alias_target;
use crate::requests::zones::ZoneRequests;

/// The TTL of records that nobody changes often.
const STEADY_TTL: Ttl = Ttl::HOUR;

/// What somebody else has to make in one zone.
#[derive(Debug, Clone, Serialize)]
pub struct Handoff {
    /// The zone.
    pub zone: DnsName,
    /// The records, those that are made already among them.
    pub records: Vec<HandoffRecord>,
    /// What is not known yet, as sentences.
    pub unknown: Vec<String>,
}

/// One record that somebody else has to make.
#[derive(Debug, Clone, Serialize)]
pub struct HandoffRecord {
    /// Its full name.
    pub name: DnsName,
    /// The same relative to the zone; `@` at its apex.
    pub label: String,
    /// Its type.
    #[serde(rename = "type")]
    pub record_type: RecordType,
    /// Its data in presentation form, with names in full and a final dot.
    pub value: String,
    /// Its TTL in seconds.
    pub ttl: Ttl,
    /// Why it is needed, as a sentence.
    pub why: String,
    /// What does as well where the zone can hold it, as a sentence.
    pub alternative: Option<String>,
    /// What must be so before it is made, as a sentence.
    pub not_before: Option<String>,
    /// What is there instead, or keeps it from being seen, as a sentence.
    pub found: Option<String>,
    /// The command that shows it once it is made.
    pub check: String,
    /// Whether every server of the zone returns it.
    pub done: bool,
    /// When that was seen.
    pub seen: Option<Timestamp>,
    /// Whether it leads a challenge name elsewhere.
    #[serde(skip)]
    pub leads_challenge: bool,
}

impl Handoff {
    /// Says whether all is known and made.
    pub fn is_done(&self) -> bool {
        self.unknown.is_empty() && self.records.iter().all(|record| record.done)
    }
}

impl HandoffRecord {
    fn new(zone: &DnsName, record: &ZoneRecord, why: String) -> HandoffRecord {
        let record_type = record.data.record_type();
        HandoffRecord {
            name: record.owner.clone(),
            label: NameKey::from(&record.owner).relative_to(&NameKey::from(zone)),
            record_type,
            value: presentation(&record.data),
            ttl: record.ttl,
            why,
            alternative: None,
            not_before: None,
            found: None,
            check: format!("dig +short {} {record_type}", record.owner),
            done: false,
            seen: None,
            leads_challenge: false,
        }
    }
}

/// Data as it is entered, with names in full and a final dot.
fn presentation(data: &RecordData) -> String {
    match data {
        RecordData::Other(_, text) => text.clone(),
        data => rdata::presentation(TypeCode::from(data.record_type()), &data.to_wire().unwrap_or_default()),
    }
}

impl ZoneRequests {
    /// Lists what somebody else has to make in a zone: for some hostnames where they edit the zone, else its
    /// delegation; and looks whether it is there.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read or written.
    pub async fn handoff(&self, zone: ZoneId, hostnames: &[HostnameId]) -> Result<Handoff, EngineError> {
        let name = self.context.desired.zone(zone).name.clone();
        let mut handoff = Handoff { zone: name, records: Vec::new(), unknown: Vec::new() };
        if !self.context.desired.is_handed_off(zone) {
            self.zones.look_at(zone).await?;
            self.hand_off_delegation(zone, &mut handoff);
            return Ok(handoff);
        }
        self.surveyor.survey_stale(hostnames).await?;
        for id in hostnames.iter().copied().filter(|id| self.context.desired.hostname(*id).zone == zone) {
            self.hand_off_alias(id, &mut handoff);
            self.hand_off_challenges(id, zone, &mut handoff).await?;
            self.hand_off_asked_records(id, zone, &mut handoff).await;
        }
        self.explain(zone, &mut handoff.records).await;
        // First what can be made at once.
        handoff.records.sort_by_key(|record| record.not_before.is_some());
        Ok(handoff)
    }

    /// Says of each record that is not made what is there instead, or why it would not be seen.
    async fn explain(&self, zone: ZoneId, records: &mut [HandoffRecord]) {
        let Some(server) = self.zones.servers(zone).first().copied() else { return };
        let wanted: BTreeSet<(DnsName, String)> =
            records.iter().map(|record| (record.name.clone(), record.value.clone())).collect();
        let wanted = &wanted;
        let open = records.iter_mut().filter(|record| !record.done);
        let looks = open.map(async |record| self.explain_one(zone, server, wanted, record).await);
        stream::iter(looks).buffer_unordered(LOOKUPS_AT_ONCE).collect::<Vec<()>>().await;
    }

    async fn explain_one(
        &self,
        zone: ZoneId,
        server: SocketAddr,
        wanted: &BTreeSet<(DnsName, String)>,
        record: &mut HandoffRecord,
    ) {
        let (apex, lookups) = (&self.context.desired.zone(zone).name, self.context.drivers.lookups());
        record.found = match lookups.hidden(server, apex, &record.name).await {
            Some(Hidden::Delegated(cut)) => {
                Some(format!("{cut} is delegated to other servers: it has to be made there, in the zone {cut}."))
            }
            Some(Hidden::Redirected(dname)) => {
                Some(format!("A DNAME at {dname} leads all names below it elsewhere: nothing below it is seen."))
            }
            None => None,
        };
        if record.found.is_some() {
            return;
        }
        let given = async |owner: &DnsName| {
            let place = if owner == apex { AliasPlace::Apex } else { AliasPlace::Name };
            let view = lookups.alias(&[server], owner, place).await;
            view.servers.into_iter().next().and_then(|first| first.gives.ok()).unwrap_or_default()
        };
        // Texts stand side by side.
        if record.record_type != RecordType::Txt {
            let present = given(&record.name).await;
            if record.leads_challenge
                && let Some(target) = alias_target(&present)
                && let Some(led) = self.context.desired.zone_at(&target)
                && !self.context.desired.is_handed_off(led)
            {
                // Another target does as well where Pindrel changes it.
                record.value = format!("{target}.");
                (record.done, record.seen) = (true, Some(self.context.clock.now()));
                return;
            }
            let is_wanted = |data: &RecordData| wanted.contains(&(record.name.clone(), presentation(data)));
            let others = present.into_iter().filter(|set| !set.data().iter().all(is_wanted));
            let others: Vec<RecordSet> = others.collect();
            if !others.is_empty() {
                record.found = Some(format!("Now there is {}: this record takes its place.", in_words(&others)));
                return;
            }
        }
        // Many consoles complete what is typed with the zone's name.
        let Ok(doubled) = format!("{}.{apex}", record.name).parse::<DnsName>() else { return };
        if !given(&doubled).await.is_empty() {
            let label = &record.label;
            record.found = Some(format!(
                "It stands at {doubled}: what is typed is completed with {apex} there, so enter {label} alone."
            ));
        }
    }

    /// The alias: at an apex, where no CNAME can stand, addresses.
    fn hand_off_alias(&self, id: HostnameId, handoff: &mut Handoff) {
        let wanted = self.context.desired.hostname(id);
        let hostname = &wanted.hostname;
        let known = self.context.known();
        let about = Known::about(&self.context.desired, &known, id);
        let given: Vec<_> = about.given();
        let leads =
            given.iter().map(|at| self.context.desired.endpoint(*at).name.as_str()).collect::<Vec<_>>().join(" and ");
        let Some(sets) = about.wanted_alias().filter(|sets| !sets.is_empty()) else {
            let says = format!("Where {hostname} is to lead is not known yet: {leads} was not reached.");
            handoff.unknown.push(says);
            return;
        };
        let pins = Pins::judge(about, self.context.clock.now());
        let done = pins.alias.state == PinState::Held;
        let not_before = (!pins.binding.is_in_force())
            .then(|| format!("Once {leads} serves {hostname}: before that it would not be answered."));
        let default_name = given.iter().find_map(|at| known.endpoint_info(*at)?.default_name.clone());
        let alternative = default_name.filter(|_| wanted.is_apex(&self.context.desired)).map(|name| {
            format!(
                "Where the zone can hold ALIAS records, one ALIAS record to {name}. follows changes of these addresses."
            )
        });
        for set in &sets {
            for data in set.data() {
                let record = ZoneRecord { owner: hostname.owner(), ttl: set.ttl(), data: data.clone() };
                let why = format!("It leads the clients of {hostname} to the endpoint {leads}.");
                handoff.records.push(HandoffRecord {
                    alternative: alternative.clone(),
                    not_before: not_before.clone().filter(|_| !done),
                    done,
                    seen: pins.alias.seen.filter(|_| done),
                    ..HandoffRecord::new(&handoff.zone, &record, why)
                });
            }
        }
    }

    /// What proves to an authority whose the hostname is: an alias once and for all, or a text for an order that is
    /// open.
    async fn hand_off_challenges(
        &self,
        id: HostnameId,
        zone: ZoneId,
        handoff: &mut Handoff,
    ) -> Result<(), EngineError> {
        let wanted = self.context.desired.hostname(id);
        let certificate = self.context.desired.certificate(wanted.certificate);
        if certificate.authority.is_none() {
            return Ok(());
        }
        let (hostname, challenge) = (&wanted.hostname, wanted.hostname.challenge_name());
        let zone_name = &self.context.desired.zone(zone).name;
        for row in self.context.state.challenges(None).await?.into_iter().filter(|row| row.record.name == challenge) {
            let record = row.record.in_zone(self.context.desired.zone(zone).challenge_ttl);
            let why = format!(
                "It proves to the authority whose {hostname} is, for the order that is open; it may be deleted afterwards."
            );
            let made = self.made_in(zone, HandoffRecord::new(zone_name, &record, why), &record).await;
            push(handoff, made);
        }
        if let Some(target) = self.context.desired.challenge_delegation(&challenge) {
            let why = format!(
                "It lets Pindrel prove whose {hostname} is, now and at each renewal, without anything to be changed here again."
            );
            let record = ZoneRecord { owner: challenge, ttl: STEADY_TTL, data: RecordData::Cname(target) };
            let new = HandoffRecord { leads_challenge: true, ..HandoffRecord::new(zone_name, &record, why) };
            let made = self.made_in(zone, new, &record).await;
            push(handoff, made);
        }
        Ok(())
    }

    /// What the platforms of its endpoints ask for.
    async fn hand_off_asked_records(&self, id: HostnameId, zone: ZoneId, handoff: &mut Handoff) {
        let wanted = self.context.desired.hostname(id);
        let asked: Vec<_> = {
            let known = self.context.known();
            let about = Known::about(&self.context.desired, &known, id);
            let of = wanted.endpoints().flat_map(|at| {
                let reply = about.at(at).binding.and_then(|fact| fact.value.reply().cloned());
                let asked = reply.map(|reply| reply.records).unwrap_or_default();
                asked.into_iter().map(move |asked| (at, asked))
            });
            of.collect()
        };
        for (at, asked) in asked {
            let Some(record) =
                asked.record().filter(|record| self.context.desired.zone_at(&record.owner) == Some(zone))
            else {
                continue;
            };
            let why = format!(
                "The platform of the endpoint {} asks for it, to see whose {} is.",
                self.context.desired.endpoint(at).name,
                wanted.hostname
            );
            let made = HandoffRecord::new(&self.context.desired.zone(zone).name, &record, why);
            let made = self.made_in(zone, made, &record).await;
            push(handoff, made);
        }
    }

    /// Looks whether every server of a zone returns a record.
    async fn made_in(&self, zone: ZoneId, made: HandoffRecord, record: &ZoneRecord) -> HandoffRecord {
        let servers = self.zones.servers(zone);
        let done = !servers.is_empty() && self.bindings.servers_lacking(zone, record).await.is_empty();
        HandoffRecord { done, seen: done.then(|| self.context.clock.now()), ..made }
    }

    /// What the zone above is to say of a zone that Pindrel changes.
    fn hand_off_delegation(&self, id: ZoneId, handoff: &mut Handoff) {
        let known = self.context.known();
        let Some(fact) = known.zones.get(&id) else { return };
        let (zone, view) = (&handoff.zone, &fact.value);
        let Some(own) = view.own_name_servers() else {
            let says = format!("The name servers of {zone} are not known: none of its servers answers for it.");
            handoff.unknown.push(says);
            return;
        };
        let Some(above) = zone.parent() else { return };
        let delegated = match &view.delegation {
            DelegationView::Delegated { name_servers, .. } => name_servers.as_slice(),
            _ => &[],
        };
        let records = own.iter().map(|server| {
            let data = RecordData::Other(RecordType::Ns, format!("{server}."));
            let record = ZoneRecord { owner: zone.clone(), ttl: STEADY_TTL, data };
            let done = delegated.contains(server);
            let why = format!("It delegates {zone} to {server}, which serves it.");
            HandoffRecord { done, seen: done.then_some(fact.seen), ..HandoffRecord::new(&above, &record, why) }
        });
        let mut records: Vec<HandoffRecord> = records.collect();
        records.extend(glue(view, &above, own, fact.seen));
        let stale = delegated.iter().filter(|server| !own.contains(server)).map(|server| {
            format!("The zone above names {server} for {zone} too, which is not in the zone's own NS set: have it removed there.")
        });
        handoff.unknown.extend(stale);
        handoff.records.append(&mut records);
    }
}

/// The addresses of the servers that lie in the zone, without which the zone above leads nobody to them.
fn glue<'v>(
    view: &'v ZoneView,
    above: &'v DnsName,
    own: &'v [DnsName],
    seen: Timestamp,
) -> impl Iterator<Item = HandoffRecord> + 'v {
    let named = view.servers_within.iter().filter(|server| own.contains(&server.name));
    let addresses = named.flat_map(|server| server.own.iter().map(move |address| (server, *address)));
    addresses.map(move |(server, address)| {
        let data = match address {
            IpAddr::V4(address) => RecordData::A(address),
            IpAddr::V6(address) => RecordData::Aaaa(address),
        };
        let record = ZoneRecord { owner: server.name.clone(), ttl: STEADY_TTL, data };
        let done = server.glue.as_ref().is_some_and(|glue| glue.contains(&address));
        let why = format!(
            "Its glue record: {} lies in the zone itself, so nobody finds it without its address.",
            server.name
        );
        HandoffRecord { done, seen: done.then_some(seen), ..HandoffRecord::new(above, &record, why) }
    })
}

/// Adds a record, once.
fn push(handoff: &mut Handoff, record: HandoffRecord) {
    let is_there = |other: &HandoffRecord| {
        (&other.name, other.record_type, &other.value) == (&record.name, record.record_type, &record.value)
    };
    if !handoff.records.iter().any(is_there) {
        handoff.records.push(record);
    }
}

//! One trial that every driver passes: what a zone's driver must do, tried below a name that nobody uses.

use std::net::Ipv4Addr;

use pindrel_core::names::name::DnsName;
use pindrel_core::values::Ttl;
use pindrel_core::zones::records::{AliasPlace, NameChange, RecordData, RecordSet, ZoneChange, ZoneRecord};
use pindrel_core::zones::zone_data::{NameKey, TypeCode, ZoneData};

use crate::driver::ZoneDriver;
use crate::sets::SetChange;
use crate::sets::is_data;
use crate::zone_error::ZoneError;

/// The TTL of the trial's records: within the bounds of any server.
const TTL: Ttl = Ttl::HOUR;

/// What a driver must do, and whether it does; with what came instead.
pub type Clause = (&'static str, Result<(), String>);

/// Tries a driver on records below `place`, which nobody uses and whose records are all gone afterwards.
///
/// # Errors
/// [`ZoneError`] where the zone cannot be read, or something is below that name already.
pub async fn trial(driver: &dyn ZoneDriver, zone: &DnsName, place: &DnsName) -> Result<Vec<Clause>, ZoneError> {
    let refused = |says: String| ZoneError::Refused { says, remedy: "Name a label that nobody uses".into() };
    let Some(names) = Names::below(place) else { return Err(refused(format!("{place} is too long a name"))) };
    let before = driver.read_names(&names.all()).await?;
    if !before.is_empty() {
        return Err(refused(format!("there are records below {place}")));
    }
    let trial = Trial { driver, names: &names };
    let mut clauses = Vec::new();
    clauses.push(("the zone's own records are read", trial.reads_apex(zone).await));
    clauses.push(("a record is added", trial.adds().await));
    clauses.push(("a second one joins it, and the first stays", trial.joins().await));
    clauses.push(("adding what is there changes nothing", trial.adds_again().await));
    clauses.push(("one is deleted by its value, and the other stays", trial.deletes_one().await));
    clauses.push(("deleting what is not there changes nothing", trial.deletes_again().await));
    clauses.push(("texts keep every octet: long ones, quotes, backslashes", trial.keeps_texts().await));
    clauses.push(("an alias takes the place of addresses in one change", trial.replaces().await));
    clauses.push(("what is not as expected is not replaced", trial.refuses_replacement().await));
    clauses.push(("a set is changed only where it is as expected", trial.refuses_set().await));
    clauses.push(("several names and types change in one call", trial.changes_many().await));
    clauses.push(("a wildcard is a name like others", trial.takes_wildcard().await));
    clauses.push(("what is deleted is gone", trial.clears().await));
    Ok(clauses)
}

/// The names of a trial.
struct Names {
    challenge: DnsName,
    alias: DnsName,
    many: DnsName,
    wildcard: DnsName,
}

impl Names {
    fn below(place: &DnsName) -> Option<Names> {
        let below = |label: &str| place.below(label).ok();
        Some(Names {
            challenge: below("_acme-challenge")?,
            alias: below("alias")?,
            many: below("many")?,
            wildcard: below("*")?,
        })
    }

    fn all(&self) -> Vec<DnsName> {
        [&self.challenge, &self.alias, &self.many, &self.wildcard].map(DnsName::clone).to_vec()
    }
}

struct Trial<'t> {
    driver: &'t dyn ZoneDriver,
    names: &'t Names,
}

fn text(owner: &DnsName, text: &str) -> ZoneRecord {
    ZoneRecord { owner: owner.clone(), ttl: TTL, data: RecordData::Txt(text.into()) }
}

fn address(last: u8) -> RecordData {
    RecordData::A(Ipv4Addr::new(192, 0, 2, last))
}

fn says(error: &ZoneError) -> String {
    error.to_string()
}

/// What is at a name, type by type, as it is written.
fn shown(zone: &ZoneData, owner: &DnsName) -> Vec<String> {
    zone.at(&NameKey::from(owner)).map(|entry| format!("{} {}", entry.code, entry.presentation())).collect()
}

impl Trial<'_> {
    async fn change(&self, change: &ZoneChange) -> Result<(), String> {
        self.driver.change(change).await.map_err(|error| says(&error))
    }

    async fn at(&self, owner: &DnsName) -> Result<ZoneData, String> {
        self.driver.read_names(std::slice::from_ref(owner)).await.map_err(|error| says(&error))
    }

    /// Says whether a name has just these records.
    async fn has(&self, owner: &DnsName, wanted: &[RecordData]) -> Result<(), String> {
        let zone = self.at(owner).await?;
        let own = NameKey::from(owner);
        let is_there = |data: &RecordData| {
            zone.at(&own)
                .any(|entry| entry.code == TypeCode::from(data.record_type()) && is_data(data, entry.code, entry.data))
        };
        if zone.at(&own).count() == wanted.len() && wanted.iter().all(is_there) {
            return Ok(());
        }
        let found = shown(&zone, owner);
        let found = if found.is_empty() { "nothing".to_owned() } else { found.join(", ") };
        let wanted: Vec<String> = wanted.iter().map(RecordData::to_string).collect();
        Err(format!(
            "{owner} has {found} instead of {}",
            if wanted.is_empty() { "nothing".into() } else { wanted.join(", ") }
        ))
    }

    async fn reads_apex(&self, zone: &DnsName) -> Result<(), String> {
        let found = self.at(zone).await?;
        let codes: Vec<TypeCode> = found.at(&NameKey::from(zone)).map(|entry| entry.code).collect();
        let lacks = [TypeCode::SOA, TypeCode::NS].into_iter().find(|code| !codes.contains(code));
        lacks.map_or(Ok(()), |code| Err(format!("{zone} was read without its {code} record")))
    }

    async fn adds(&self) -> Result<(), String> {
        let owner = &self.names.challenge;
        self.change(&ZoneChange::Add(vec![text(owner, "first")])).await?;
        self.has(owner, &[RecordData::Txt("first".into())]).await?;
        let zone = self.at(owner).await?;
        let ttl = zone.at(&NameKey::from(owner)).next().map(|entry| entry.ttl);
        if ttl == Some(TTL.as_secs()) { Ok(()) } else { Err(format!("its TTL is {ttl:?}, not {}", TTL.as_secs())) }
    }

    async fn joins(&self) -> Result<(), String> {
        let owner = &self.names.challenge;
        self.change(&ZoneChange::Add(vec![text(owner, "second")])).await?;
        self.has(owner, &[RecordData::Txt("first".into()), RecordData::Txt("second".into())]).await
    }

    async fn adds_again(&self) -> Result<(), String> {
        let owner = &self.names.challenge;
        self.change(&ZoneChange::Add(vec![text(owner, "second")])).await?;
        self.has(owner, &[RecordData::Txt("first".into()), RecordData::Txt("second".into())]).await
    }

    async fn deletes_one(&self) -> Result<(), String> {
        let owner = &self.names.challenge;
        self.change(&ZoneChange::Delete(vec![text(owner, "first")])).await?;
        self.has(owner, &[RecordData::Txt("second".into())]).await
    }

    async fn deletes_again(&self) -> Result<(), String> {
        let owner = &self.names.challenge;
        self.change(&ZoneChange::Delete(vec![text(owner, "first"), text(&self.names.many, "none")])).await?;
        self.has(owner, &[RecordData::Txt("second".into())]).await
    }

    async fn keeps_texts(&self) -> Result<(), String> {
        let owner = &self.names.many;
        let texts = ["x".repeat(700), "say \"so\"; a\\b \\\\ c".to_owned(), " ".to_owned()];
        for one in &texts {
            self.change(&ZoneChange::Add(vec![text(owner, one)])).await?;
        }
        self.has(owner, &texts.clone().map(RecordData::Txt)).await?;
        self.change(&ZoneChange::Delete(texts.iter().map(|one| text(owner, one)).collect())).await?;
        self.has(owner, &[]).await
    }

    fn replacement(&self, expected: &[RecordData], wanted: &[RecordData]) -> ZoneChange {
        let group = |data: &[RecordData]| RecordSet::group(data.iter().map(|data| (TTL, data.clone())));
        let owner = self.names.alias.clone();
        ZoneChange::Replace(NameChange {
            owner,
            expected: group(expected),
            wanted: group(wanted),
            place: AliasPlace::Name,
        })
    }

    fn target(&self) -> RecordData {
        RecordData::Cname(self.names.many.clone())
    }

    async fn replaces(&self) -> Result<(), String> {
        let addresses = [address(1), address(2)];
        self.change(&self.replacement(&[], &addresses)).await?;
        self.has(&self.names.alias, &addresses).await?;
        self.change(&self.replacement(&addresses, &[self.target()])).await?;
        self.has(&self.names.alias, &[self.target()]).await
    }

    async fn refuses_replacement(&self) -> Result<(), String> {
        let refused = self.driver.change(&self.replacement(&[address(9)], &[address(3)])).await;
        self.has(&self.names.alias, &[self.target()]).await?;
        match refused {
            Err(ZoneError::Changed { .. }) => Ok(()),
            Err(error) => Err(format!("it was refused as something else: {error}")),
            Ok(()) => Err("it was accepted".into()),
        }
    }

    fn set(&self, expected: &[RecordData], wanted: &[RecordData]) -> SetChange {
        let wire = |data: &[RecordData]| data.iter().filter_map(RecordData::to_wire).collect();
        let (owner, ttl) = (NameKey::from(&self.names.many), TTL.as_secs());
        SetChange { owner, code: TypeCode::A, expected: wire(expected), ttl, wanted: wire(wanted) }
    }

    async fn refuses_set(&self) -> Result<(), String> {
        for expected in [&[address(7)][..], &[]] {
            let (first, second) = (self.set(&[], &[address(5)]), self.set(expected, &[address(6)]));
            if expected.is_empty() {
                self.driver.change_sets(std::slice::from_ref(&first)).await.map_err(|error| says(&error))?;
            }
            let refused = self.driver.change_sets(std::slice::from_ref(&second)).await;
            if !matches!(refused, Err(ZoneError::Changed { .. })) {
                return Err(match refused {
                    Err(error) => format!("it was refused as something else: {error}"),
                    Ok(()) => "it was accepted".into(),
                });
            }
        }
        self.has(&self.names.many, &[address(5)]).await
    }

    async fn changes_many(&self) -> Result<(), String> {
        let v6 = RecordData::Aaaa("2001:db8::5".parse().unwrap_or(std::net::Ipv6Addr::LOCALHOST));
        let other =
            SetChange { code: TypeCode::AAAA, wanted: v6.to_wire().into_iter().collect(), ..self.set(&[], &[]) };
        let many: Vec<RecordData> = (10..40).map(address).collect();
        let changed = self.driver.change_sets(&[self.set(&[address(5)], &many), other]).await;
        changed.map_err(|error| says(&error))?;
        let all: Vec<RecordData> = many.into_iter().chain([v6]).collect();
        self.has(&self.names.many, &all).await
    }

    async fn takes_wildcard(&self) -> Result<(), String> {
        let (owner, data) = (self.names.wildcard.clone(), self.target());
        let wanted = RecordSet::group([(TTL, data.clone())]);
        let change = NameChange { owner, expected: Vec::new(), wanted, place: AliasPlace::Name };
        self.change(&ZoneChange::Replace(change)).await?;
        self.has(&self.names.wildcard, &[data]).await
    }

    /// Also what an earlier clause left because it was not kept.
    async fn clears(&self) -> Result<(), String> {
        let names = self.names.all();
        let left = self.driver.read_names(&names).await.map_err(|error| says(&error))?;
        let gone: Vec<SetChange> = left
            .sets()
            .map(|set| SetChange {
                owner: set.first().owner(),
                code: set.first().code,
                expected: set.entries().map(|entry| entry.data.to_vec()).collect(),
                ttl: set.first().ttl,
                wanted: Vec::new(),
            })
            .collect();
        self.driver.change_sets(&gone).await.map_err(|error| says(&error))?;
        let left = self.driver.read_names(&names).await.map_err(|error| says(&error))?;
        if left.is_empty() { Ok(()) } else { Err(format!("{} records are left", left.len())) }
    }
}

//! Record sets, as far as Pindrel reads and writes them, and what an alias change does.

use std::fmt;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::names::name::DnsName;
use crate::values::Ttl;
use crate::zones::zone_data::{NameKey, TypeCode, rdata};

/// The type of a record (RFC 1035 §3.2.2 and later), for the types that matter here.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "UPPERCASE")]
#[expect(missing_docs, reason = "the names are the standard's own")]
pub enum RecordType {
    A,
    Aaaa,
    Cname,
    Txt,
    Mx,
    Ns,
    Srv,
    Caa,
    Https,
    Svcb,
    /// An alias that its name server resolves itself, in no standard; it may stand at an apex.
    Alias,
}

impl RecordType {
    /// What cannot stand beside a CNAME (RFC 2181 §10.1) and is looked for before one
    /// is made. Signatures and the like are left out: they follow the rest.
    pub const BESIDE_ALIAS: [RecordType; 8] = [
        RecordType::A,
        RecordType::Aaaa,
        RecordType::Txt,
        RecordType::Mx,
        RecordType::Ns,
        RecordType::Srv,
        RecordType::Caa,
        RecordType::Https,
    ];
}

impl FromStr for RecordType {
    type Err = String;

    fn from_str(text: &str) -> Result<RecordType, String> {
        const ALL: [RecordType; 11] = [
            RecordType::A,
            RecordType::Aaaa,
            RecordType::Cname,
            RecordType::Txt,
            RecordType::Mx,
            RecordType::Ns,
            RecordType::Srv,
            RecordType::Caa,
            RecordType::Https,
            RecordType::Svcb,
            RecordType::Alias,
        ];
        let found = ALL.into_iter().find(|record_type| record_type.to_string().eq_ignore_ascii_case(text));
        found.ok_or_else(|| format!("\"{text}\" is no type of records that Pindrel looks for"))
    }
}

/// Some types of records.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct RecordTypes(u16);

impl RecordTypes {
    /// Says whether it is one of them.
    pub fn contains(self, record_type: RecordType) -> bool {
        self.0 & (1 << record_type as u16) != 0
    }

    /// Says whether there is none.
    pub fn is_empty(self) -> bool {
        self.0 == 0
    }

    /// Returns them as bits, one for each type.
    pub fn bits(self) -> u16 {
        self.0
    }
}

impl FromIterator<RecordType> for RecordTypes {
    fn from_iter<I: IntoIterator<Item = RecordType>>(types: I) -> RecordTypes {
        RecordTypes(types.into_iter().fold(0, |bits, record_type| bits | 1 << record_type as u16))
    }
}

impl From<RecordType> for TypeCode {
    fn from(record_type: RecordType) -> TypeCode {
        match record_type {
            RecordType::A => TypeCode::A,
            RecordType::Aaaa => TypeCode::AAAA,
            RecordType::Cname => TypeCode::CNAME,
            RecordType::Txt => TypeCode::TXT,
            RecordType::Mx => TypeCode::MX,
            RecordType::Ns => TypeCode::NS,
            RecordType::Srv => TypeCode::SRV,
            RecordType::Caa => TypeCode::CAA,
            RecordType::Https => TypeCode::HTTPS,
            RecordType::Svcb => TypeCode::SVCB,
            RecordType::Alias => TypeCode::ALIAS,
        }
    }
}

impl fmt::Display for RecordType {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            RecordType::A => "A",
            RecordType::Aaaa => "AAAA",
            RecordType::Cname => "CNAME",
            RecordType::Txt => "TXT",
            RecordType::Mx => "MX",
            RecordType::Ns => "NS",
            RecordType::Srv => "SRV",
            RecordType::Caa => "CAA",
            RecordType::Https => "HTTPS",
            RecordType::Svcb => "SVCB",
            RecordType::Alias => "ALIAS",
        })
    }
}

/// The data of one record.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RecordData {
    /// An IPv4 address.
    A(Ipv4Addr),
    /// An IPv6 address.
    Aaaa(Ipv6Addr),
    /// The name that the owner is an alias of.
    Cname(DnsName),
    /// The name whose addresses the owner's server gives in its place.
    Alias(DnsName),
    /// The name where clients find all that they need to know of the owner's service: an HTTPS record in AliasMode
    /// (RFC 9460 §2.4.2), which has the priority 0 and no parameters.
    HttpsAlias(DnsName),
    /// The strings of a TXT record joined together.
    Txt(String),
    /// Anything else, in presentation form: compared and shown, never written.
    Other(RecordType, String),
}

impl RecordData {
    /// Reads data as on the wire, with names in lower case.
    pub fn from_wire(record_type: RecordType, wire: &[u8]) -> Option<RecordData> {
        let name = || NameKey::from_wire(wire).filter(|(_, rest)| rest.is_empty())?.0.to_dns_name();
        Some(match record_type {
            RecordType::A => RecordData::A(<[u8; 4]>::try_from(wire).ok()?.into()),
            RecordType::Aaaa => RecordData::Aaaa(<[u8; 16]>::try_from(wire).ok()?.into()),
            RecordType::Cname => RecordData::Cname(name()?),
            RecordType::Alias => RecordData::Alias(name()?),
            RecordType::Https if https_alias(wire).is_some() => RecordData::HttpsAlias(https_alias(wire)?),
            RecordType::Txt => {
                let (mut text, mut rest) = (Vec::with_capacity(wire.len()), wire);
                while let Some((length, strings)) = rest.split_first() {
                    let (string, more) = strings.split_at_checked(usize::from(*length))?;
                    text.extend_from_slice(string);
                    rest = more;
                }
                RecordData::Txt(String::from_utf8_lossy(&text).into_owned())
            }
            other => RecordData::Other(other, rdata::presentation(TypeCode::from(other), wire)),
        })
    }

    /// Returns the address, of A and AAAA.
    pub fn address(&self) -> Option<IpAddr> {
        match self {
            RecordData::A(address) => Some((*address).into()),
            RecordData::Aaaa(address) => Some((*address).into()),
            _ => None,
        }
    }

    /// Returns the data as on the wire, with names in lower case; `None` for what is only shown.
    pub fn to_wire(&self) -> Option<Vec<u8>> {
        let mut wire = Vec::new();
        match self {
            RecordData::A(address) => wire.extend_from_slice(&address.octets()),
            RecordData::Aaaa(address) => wire.extend_from_slice(&address.octets()),
            RecordData::Cname(target) | RecordData::Alias(target) => NameKey::from(target).push_wire(&mut wire),
            RecordData::HttpsAlias(target) => {
                wire.extend_from_slice(&ALIAS_MODE);
                NameKey::from(target).push_wire(&mut wire);
            }
            RecordData::Txt(text) => {
                // A record has one string at least (RFC 1035 §3.3.14).
                let parts: Vec<&[u8]> = text.as_bytes().chunks(255).collect();
                for part in if parts.is_empty() { vec![&[][..]] } else { parts } {
                    wire.push(part.len() as u8);
                    wire.extend_from_slice(part);
                }
            }
            RecordData::Other(..) => return None,
        }
        Some(wire)
    }

    /// Returns the type of this data.
    pub fn record_type(&self) -> RecordType {
        match self {
            RecordData::A(_) => RecordType::A,
            RecordData::Aaaa(_) => RecordType::Aaaa,
            RecordData::Cname(_) => RecordType::Cname,
            RecordData::Alias(_) => RecordType::Alias,
            RecordData::HttpsAlias(_) => RecordType::Https,
            RecordData::Txt(_) => RecordType::Txt,
            RecordData::Other(record_type, _) => *record_type,
        }
    }
}

/// The priority of AliasMode (RFC 9460 §2.4.1).
const ALIAS_MODE: [u8; 2] = [0, 0];

/// Reads the target of an HTTPS record in AliasMode; the root stands for "there is no such service".
fn https_alias(wire: &[u8]) -> Option<DnsName> {
    let (target, parameters) = NameKey::from_wire(wire.strip_prefix(&ALIAS_MODE)?)?;
    target.to_dns_name().filter(|_| parameters.is_empty())
}

/// How many characters of a text are shown to people.
const MOST_SHOWN: usize = 120;

impl fmt::Display for RecordData {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            RecordData::A(address) => write!(f, "A {address}"),
            RecordData::Aaaa(address) => write!(f, "AAAA {address}"),
            RecordData::Cname(target) => write!(f, "CNAME {target}."),
            RecordData::Alias(target) => write!(f, "ALIAS {target}."),
            RecordData::HttpsAlias(target) => write!(f, "HTTPS 0 {target}."),
            RecordData::Txt(text) if text.chars().count() > MOST_SHOWN => {
                let shown: String = text.chars().take(MOST_SHOWN).collect();
                write!(f, "TXT {shown:?}… ({} characters)", text.chars().count())
            }
            RecordData::Txt(text) => write!(f, "TXT {text:?}"),
            RecordData::Other(record_type, text) => write!(f, "{record_type} {text}"),
        }
    }
}

/// All records of one name and one type (RFC 2181 §5), with their one TTL.
///
/// The data is sorted and free of repetition, so that equality means the same set.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, Hash)]
pub struct RecordSet {
    record_type: RecordType,
    ttl: Ttl,
    data: Vec<RecordData>,
}

impl RecordSet {
    /// Returns the sets that some records of one name make up, by type.
    pub fn group(records: impl IntoIterator<Item = (Ttl, RecordData)>) -> Vec<RecordSet> {
        let mut sets: Vec<RecordSet> = Vec::new();
        for (ttl, data) in records {
            match sets.iter_mut().find(|set| set.record_type == data.record_type()) {
                Some(set) => set.data.push(data),
                None => sets.push(RecordSet { record_type: data.record_type(), ttl, data: vec![data] }),
            }
        }
        for set in &mut sets {
            set.data.sort();
            set.data.dedup();
        }
        sets.sort_by_key(|set| set.record_type);
        sets
    }

    /// Returns the type that all records of the set have.
    pub fn record_type(&self) -> RecordType {
        self.record_type
    }

    /// Returns the TTL of the set.
    pub fn ttl(&self) -> Ttl {
        self.ttl
    }

    /// Returns the data, sorted; never empty.
    pub fn data(&self) -> &[RecordData] {
        &self.data
    }

    /// Returns the same data with another TTL.
    #[must_use]
    pub fn with_ttl(&self, ttl: Ttl) -> RecordSet {
        RecordSet { ttl, ..self.clone() }
    }

    /// Says whether both sets hold the same data, whatever their TTLs.
    pub fn same_data(&self, other: &RecordSet) -> bool {
        self.record_type == other.record_type && self.data == other.data
    }
}

impl fmt::Display for RecordSet {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (index, data) in self.data.iter().enumerate() {
            if index > 0 {
                f.write_str(", ")?;
            }
            data.fmt(f)?;
        }
        Ok(())
    }
}

/// Writes several sets in one line: `A 127.0.0.1, A 127.0.0.2`.
pub fn in_words(sets: &[RecordSet]) -> String {
    if sets.is_empty() {
        return "no record".into();
    }
    sets.iter().map(RecordSet::to_string).collect::<Vec<_>>().join(", ")
}

/// Says whether two lists of sets hold the same data, type by type, whatever their TTLs.
pub fn same_data(left: &[RecordSet], right: &[RecordSet]) -> bool {
    left.len() == right.len() && left.iter().zip(right).all(|(l, r)| l.same_data(r))
}

/// One record with its name and TTL.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct ZoneRecord {
    /// Its name.
    pub owner: DnsName,
    /// Its TTL, where its set is new.
    pub ttl: Ttl,
    /// Its data.
    pub data: RecordData,
}

/// One change of a zone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ZoneChange {
    /// Adds records by exact value; others in their sets stay.
    Add(Vec<ZoneRecord>),
    /// Deletes records by exact value; others in their sets stay.
    Delete(Vec<ZoneRecord>),
    /// Replaces what is at one name.
    Replace(NameChange),
}

/// One change of a name's address and alias records, made as a whole.
///
/// `expected` are the exact sets that must be there (RFC 2136 §2.4.2), so that a record
/// which somebody else made in the meantime is never overwritten. With nothing expected the
/// name must not be in use, or at the apex (which always is) the wanted types must not exist
/// there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NameChange {
    /// The name whose records change.
    pub owner: DnsName,
    /// What is there now, exactly; deleted by the same change.
    pub expected: Vec<RecordSet>,
    /// What shall be there.
    pub wanted: Vec<RecordSet>,
    /// Where the name stands.
    pub place: AliasPlace,
}

/// Where an alias stands, and so of which records it is made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum AliasPlace {
    /// Below the apex: a CNAME, or addresses, and nothing beside.
    Name,
    /// At the apex: addresses, beside whatever else stands there.
    Apex,
    /// At the apex: addresses, and an HTTPS record in AliasMode.
    ApexWithHttps,
}

impl AliasPlace {
    /// Says whether the name is the apex of its zone.
    pub fn is_apex(self) -> bool {
        self != AliasPlace::Name
    }

    /// Returns the types of records that are its alias, or stand in the way of one, beside a CNAME or ALIAS.
    pub fn types(self) -> &'static [RecordType] {
        match self {
            AliasPlace::Name => &RecordType::BESIDE_ALIAS,
            AliasPlace::Apex => &[RecordType::A, RecordType::Aaaa],
            AliasPlace::ApexWithHttps => &[RecordType::A, RecordType::Aaaa, RecordType::Https],
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sets_compare_without_order_repetition_or_ttl() {
        let ttl = Ttl::MINUTE;
        let a = |last| RecordData::A(Ipv4Addr::new(127, 0, 0, last));
        let one = RecordSet::group([(ttl, a(2)), (ttl, a(1)), (ttl, a(2))]);
        let two = RecordSet::group([(Ttl::TEN_MINUTES, a(1)), (Ttl::TEN_MINUTES, a(2))]);
        assert!(same_data(&one, &two));
        assert_ne!(one, two);
        assert_eq!(in_words(&one), "A 127.0.0.1, A 127.0.0.2");
        assert!(!same_data(&one, &RecordSet::group([(ttl, a(1))])));
    }
}

//! What is wrong in a zone whose records can each be read: slips that a server may accept, and clients suffer.

use std::collections::HashSet;
use std::ops::ControlFlow;

use super::rdata::target;
use super::{NameKey, Place, TypeCode, ZoneData, ZoneEntry};

/// The most aliases that are followed from one name, as resolvers do.
const MOST_ALIASES: usize = 8;
/// The most slips of a zone that are returned.
pub const MOST_SLIPS: usize = 1_000;

/// How bad a slip is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Severity {
    /// The zone breaks a rule of the standards, or a name of it cannot work.
    Error,
    /// It is allowed, and seldom meant.
    Warning,
}

/// What kind of slip it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
#[expect(missing_docs, reason = "the codes and their sentences say it")]
pub enum SlipCode {
    NoSoa,
    SeveralSoa,
    NoNameServer,
    OutOfZone,
    CnameBesideOthers,
    CnameAtApex,
    SeveralCnames,
    SeveralDnames,
    SoaBelowApex,
    DsAtApex,
    NsAtWildcard,
    DnameBelow,
    HiddenByCut,
    GlueMissing,
    TargetMissing,
    TargetIsAlias,
    AliasLoop,
    AliasChain,
    TtlsDiffer,
    Repeated,
    DoubledDomain,
    RelativeTarget,
    WildcardShadowed,
    NullMailExchanger,
    TimersOdd,
    Unbound,
    FamiliesDiffer,
    OutsideMissing,
}

impl SlipCode {
    /// Returns the code as it is written.
    pub fn as_str(self) -> &'static str {
        match self {
            SlipCode::NoSoa => "soa-missing",
            SlipCode::SeveralSoa => "soa-repeated",
            SlipCode::NoNameServer => "ns-missing",
            SlipCode::OutOfZone => "out-of-zone",
            SlipCode::CnameBesideOthers => "cname-beside-others",
            SlipCode::CnameAtApex => "cname-at-apex",
            SlipCode::SeveralCnames => "cname-repeated",
            SlipCode::SeveralDnames => "dname-repeated",
            SlipCode::SoaBelowApex => "soa-below-apex",
            SlipCode::DsAtApex => "ds-at-apex",
            SlipCode::NsAtWildcard => "ns-at-wildcard",
            SlipCode::DnameBelow => "below-dname",
            SlipCode::HiddenByCut => "hidden-by-cut",
            SlipCode::GlueMissing => "glue-missing",
            SlipCode::TargetMissing => "target-missing",
            SlipCode::TargetIsAlias => "target-is-alias",
            SlipCode::AliasLoop => "alias-loop",
            SlipCode::AliasChain => "alias-chain",
            SlipCode::TtlsDiffer => "ttls-differ",
            SlipCode::Repeated => "record-repeated",
            SlipCode::DoubledDomain => "domain-doubled",
            SlipCode::RelativeTarget => "target-relative",
            SlipCode::WildcardShadowed => "wildcard-shadowed",
            SlipCode::NullMailExchanger => "null-mx-beside-others",
            SlipCode::TimersOdd => "soa-timers",
            SlipCode::Unbound => "alias-unbound",
            SlipCode::FamiliesDiffer => "families-differ",
            SlipCode::OutsideMissing => "outside-missing",
        }
    }
}

impl SlipCode {
    /// Says whether it is that something is not there.
    pub fn is_of_absence(self) -> bool {
        matches!(
            self,
            SlipCode::NoSoa
                | SlipCode::NoNameServer
                | SlipCode::GlueMissing
                | SlipCode::TargetMissing
                | SlipCode::RelativeTarget
                | SlipCode::WildcardShadowed
        )
    }
}

/// One slip.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Slip {
    /// What kind it is.
    pub code: SlipCode,
    /// How bad it is.
    pub severity: Severity,
    /// Where the record stands that is wrong; nought where none does.
    pub place: Place,
    /// The name that it is about.
    pub name: NameKey,
    /// What is wrong.
    pub says: String,
    /// What to do.
    pub help: String,
}

/// Looks for slips in a zone, in the order of its names; [`MOST_SLIPS`] at most.
pub fn slips(zone: &ZoneData) -> Vec<Slip> {
    let mut looking = Looking { zone, found: Vec::new(), cut: None, dname: None, told: HashSet::new() };
    looking.apex();
    zone.each_name(|name| {
        looking.name(name);
        if looking.found.len() >= MOST_SLIPS { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    });
    looking.found.truncate(MOST_SLIPS);
    looking.found
}

struct Looking<'z> {
    zone: &'z ZoneData,
    found: Vec<Slip>,
    /// The zone cut, and the DNAME, that was passed last.
    cut: Option<NameKey>,
    dname: Option<NameKey>,
    /// Targets that were told already.
    told: HashSet<NameKey>,
}

impl<'z> Looking<'z> {
    fn slip(&mut self, code: SlipCode, entry: Option<&ZoneEntry<'_>>, says: String, help: impl Into<String>) {
        let severity = match code {
            SlipCode::TtlsDiffer
            | SlipCode::Repeated
            | SlipCode::DoubledDomain
            | SlipCode::RelativeTarget
            | SlipCode::WildcardShadowed
            | SlipCode::AliasChain
            | SlipCode::HiddenByCut
            | SlipCode::TimersOdd => Severity::Warning,
            _ => Severity::Error,
        };
        let (place, name) = match entry {
            Some(entry) => (entry.place, entry.owner()),
            None => (Place::default(), self.zone.apex().clone()),
        };
        self.found.push(Slip { code, severity, place, name, says, help: help.into() });
    }

    fn apex(&mut self) {
        let apex = self.zone.apex();
        let of = |code: TypeCode| self.zone.at(apex).filter(move |entry| entry.code == code).collect::<Vec<_>>();
        let (soa, servers) = (of(TypeCode::SOA), of(TypeCode::NS));
        match &soa[..] {
            [] => {
                let says = format!("{apex} has no SOA record");
                self.slip(SlipCode::NoSoa, None, says, "Write one at the beginning of the zone (RFC 1035 §5.2)");
            }
            [only] => self.timers(only),
            several => {
                let says = format!("{apex} has {} SOA records", several.len());
                self.slip(
                    SlipCode::SeveralSoa,
                    several.iter().max_by_key(|entry| entry.place),
                    says,
                    "Keep one of them",
                );
            }
        }
        if servers.is_empty() {
            let says = format!("{apex} has no NS record");
            self.slip(SlipCode::NoNameServer, None, says, "Name the zone's servers (RFC 1034 §4.2.1)");
        }
    }

    fn timers(&mut self, soa: &ZoneEntry<'_>) {
        let Some(at) = soa.data.len().checked_sub(16) else { return };
        let number = |n: usize| {
            soa.data
                .get(at + n * 4..at + n * 4 + 4)
                .map_or(0, |octets| octets.iter().fold(0_u32, |number, octet| number << 8 | u32::from(*octet)))
        };
        let (refresh, retry, expire, minimum) = (number(0), number(1), number(2), number(3));
        let odd = if expire <= refresh.saturating_add(retry) {
            Some((
                format!("secondaries drop the zone after {expire} s, and look for changes only each {refresh} s"),
                "Make the fourth number of the SOA record several times the second (RFC 1912 §2.2)",
            ))
        } else if minimum > 86_400 {
            Some((
                format!("resolvers may keep for {minimum} s that a name does not exist"),
                "Make the last number of the SOA record at most a day (RFC 2308 §5)",
            ))
        } else {
            None
        };
        if let Some((says, help)) = odd {
            self.slip(SlipCode::TimersOdd, Some(soa), says, help);
        }
    }

    /// Looks at all records of one name.
    fn name(&mut self, entries: &[ZoneEntry<'z>]) {
        let (zone, first) = (self.zone, entries[0]);
        let apex = zone.apex();
        if !first.owner.starts_with(apex.as_bytes()) {
            let says = format!("{} does not lie in the zone {apex}", first.owner());
            self.slip(
                SlipCode::OutOfZone,
                Some(&first),
                says,
                "Delete the record, or write its name relative to the zone",
            );
            return;
        }
        let is_below = |above: &Option<NameKey>| {
            above
                .as_ref()
                .filter(|above| first.owner.starts_with(above.as_bytes()) && first.owner != above.as_bytes())
                .cloned()
        };
        if let Some(dname) = is_below(&self.dname) {
            let says = format!("{} stands below the DNAME record of {dname}, which answers for it", first.owner());
            self.slip(SlipCode::DnameBelow, Some(&first), says, "Delete one of the two (RFC 6672 §2.4)");
        }
        if let Some(cut) = is_below(&self.cut) {
            self.below_cut(entries, &cut);
            return;
        }
        let is_apex = first.owner == apex.as_bytes();
        self.sets(entries);
        self.cname(entries, is_apex);
        self.misplaced(entries, is_apex);
        if first.code == TypeCode::DNAME || entries.iter().any(|entry| entry.code == TypeCode::DNAME) {
            self.dname = Some(first.owner());
        }
        if !is_apex && entries.iter().any(|entry| entry.code == TypeCode::NS) {
            self.cut = Some(first.owner());
            if let Some(other) = entries.iter().find(|entry| {
                !matches!(entry.code, TypeCode::NS | TypeCode::DS | TypeCode::A | TypeCode::AAAA)
                    && !entry.code.is_of_signing()
            }) {
                self.hidden(other, &first.owner());
            }
        }
        self.doubled(&first);
        self.shadowed(&first);
        for entry in entries {
            self.target(entry, is_apex);
        }
    }

    fn sets(&mut self, entries: &[ZoneEntry<'z>]) {
        for pair in entries.windows(2).filter(|pair| pair[0].code == pair[1].code) {
            if pair[0].data == pair[1].data {
                let says = format!("the {} record of {} is given twice", pair[1].code, pair[1].owner());
                self.slip(SlipCode::Repeated, Some(&pair[1]), says, "Delete one of the two");
            } else if pair[0].ttl != pair[1].ttl && !pair[0].code.is_of_signing() {
                let says = format!(
                    "the {} records of {} have different TTLs, {} and {}: they count as one set with the least",
                    pair[1].code,
                    pair[1].owner(),
                    pair[0].ttl,
                    pair[1].ttl
                );
                self.slip(SlipCode::TtlsDiffer, Some(&pair[1]), says, "Give all of them the same TTL (RFC 2181 §5.2)");
            }
        }
        let mut exchangers = entries.iter().filter(|entry| entry.code == TypeCode::MX);
        let is_null = |entry: &&ZoneEntry<'_>| entry.data.get(2..) == Some(&[0]);
        let count = exchangers.clone().count();
        if count > 1
            && let Some(null) = exchangers.find(is_null)
        {
            let says = format!("{} says that it takes no mail, and names servers for its mail", null.owner());
            self.slip(
                SlipCode::NullMailExchanger,
                Some(null),
                says,
                "Delete the MX record with the dot, or the others (RFC 7505 §3)",
            );
        }
    }

    fn cname(&mut self, entries: &[ZoneEntry<'z>], is_apex: bool) {
        let mut aliases = entries.iter().filter(|entry| entry.code == TypeCode::CNAME);
        let Some(alias) = aliases.next() else { return };
        let owner = alias.owner();
        if let Some(second) = aliases.find(|second| second.data != alias.data) {
            let says = format!("{owner} has more than one CNAME record");
            self.slip(SlipCode::SeveralCnames, Some(second), says, "Keep one of them (RFC 2181 §10.1)");
        }
        if is_apex {
            let says =
                format!("{owner} is the apex of the zone, where SOA and NS records stand, and has a CNAME record");
            let help = "Write addresses in its place, or a record that the server flattens (RFC 1912 §2.4)";
            self.slip(SlipCode::CnameAtApex, Some(alias), says, help);
            return;
        }
        let beside = entries.iter().find(|entry| entry.code != TypeCode::CNAME && !entry.code.is_of_signing());
        if let Some(other) = beside {
            let says = format!("{owner} has a CNAME record and a record of type {}", other.code);
            let help = "Delete one of the two: nothing may stand beside a CNAME record (RFC 2181 §10.1)";
            self.slip(SlipCode::CnameBesideOthers, Some(other), says, help);
        }
    }

    /// Records where servers load none of their type.
    fn misplaced(&mut self, entries: &[ZoneEntry<'z>], is_apex: bool) {
        let of = |code: TypeCode| entries.iter().find(move |entry| entry.code == code);
        if let Some(soa) = of(TypeCode::SOA).filter(|_| !is_apex) {
            let says = format!("{} has an SOA record, and is not the apex of the zone", soa.owner());
            self.slip(SlipCode::SoaBelowApex, Some(soa), says, "Delete it, or delegate the name (RFC 1035 §5.2)");
        }
        if let Some(ds) = of(TypeCode::DS).filter(|_| is_apex) {
            let says = format!("{} is the apex of the zone, and has a DS record", ds.owner());
            self.slip(SlipCode::DsAtApex, Some(ds), says, "Write it in the zone above (RFC 4035 §2.4)");
        }
        if let Some(server) = of(TypeCode::NS).filter(|server| server.owner().is_wildcard()) {
            let says = format!("{} is a wildcard, and cannot be delegated", server.owner());
            self.slip(SlipCode::NsAtWildcard, Some(server), says, "Delegate each name by itself (RFC 4592 §4.2)");
        }
        let mut redirections = entries.iter().filter(|entry| entry.code == TypeCode::DNAME);
        if let Some(first) = redirections.next()
            && let Some(second) = redirections.find(|second| second.data != first.data)
        {
            let says = format!("{} has more than one DNAME record", second.owner());
            self.slip(SlipCode::SeveralDnames, Some(second), says, "Keep one of them (RFC 6672 §2.4)");
        }
    }

    fn below_cut(&mut self, entries: &[ZoneEntry<'z>], cut: &NameKey) {
        let is_address = |entry: &&ZoneEntry<'_>| matches!(entry.code, TypeCode::A | TypeCode::AAAA);
        let first = entries[0];
        let is_glue = || {
            let mut servers = self.zone.at(cut).filter(|entry| entry.code == TypeCode::NS);
            servers.any(|server| target(server.code, server.data).is_some_and(|name| name.as_bytes() == first.owner))
        };
        let is_used = is_glue() || entries.iter().all(|entry| is_address(&entry));
        let other = entries.iter().find(|entry| !is_address(entry) && !entry.code.is_of_signing());
        if let Some(hidden) = other.or(Some(&first).filter(|_| !is_used)) {
            self.hidden(hidden, cut);
        }
    }

    fn hidden(&mut self, entry: &ZoneEntry<'_>, cut: &NameKey) {
        let says =
            format!("the {} record of {} is hidden: {cut} is delegated to other servers", entry.code, entry.owner());
        self.slip(SlipCode::HiddenByCut, Some(entry), says, "Write it in the delegated zone, and delete it here");
    }

    fn doubled(&mut self, entry: &ZoneEntry<'_>) {
        let apex = self.zone.apex();
        let below = entry.owner.get(apex.as_bytes().len()..).unwrap_or_default();
        if !apex.as_bytes().is_empty() && below.starts_with(apex.as_bytes()) {
            let says = format!("{} has the name of the zone twice", entry.owner());
            let help = "Write a dot at the end of the name, or leave the name of the zone out";
            self.slip(SlipCode::DoubledDomain, Some(entry), says, help);
        }
    }

    /// A wildcard does not answer for a name below which something stands (RFC 4592 §2.2.1).
    fn shadowed(&mut self, entry: &ZoneEntry<'_>) {
        let owner = entry.owner();
        let Some(above) = owner.parent().filter(|_| !owner.is_wildcard()) else { return };
        // Only the first name below an empty one tells it.
        if above == *self.zone.apex() || !above.is_within(self.zone.apex()) || self.zone.at(&above).next().is_some() {
            return;
        }
        let Some(wildcard) = above.parent().and_then(|encloser| encloser.wildcard()) else { return };
        if self.zone.at(&wildcard).next().is_some() && self.told.insert(above.clone()) {
            let says = format!("{wildcard} does not answer for {above}, since {owner} stands below it");
            let help = format!("Write the records of {above} by themselves where they are wanted (RFC 4592 §2.2.1)");
            self.slip(SlipCode::WildcardShadowed, Some(entry), says, help);
        }
    }

    fn target(&mut self, entry: &ZoneEntry<'z>, is_apex: bool) {
        let Some(target) = target(entry.code, entry.data) else { return };
        if entry.code == TypeCode::PTR || target.as_bytes().is_empty() {
            return;
        }
        let (zone, apex) = (self.zone, self.zone.apex());
        if !target.is_within(apex) {
            return;
        }
        if entry.code == TypeCode::CNAME || entry.code == TypeCode::DNAME {
            if entry.code == TypeCode::CNAME {
                self.chain(entry, &target);
            }
            return;
        }
        let is_server = entry.code == TypeCode::NS;
        let below_own_cut = is_server && !is_apex && target.as_bytes().starts_with(entry.owner);
        let mut records = zone.at(&target).peekable();
        let has_address = records.clone().any(|record| matches!(record.code, TypeCode::A | TypeCode::AAAA));
        if has_address || (!below_own_cut && self.is_delegated(&target)) {
            return;
        }
        let (owner, code) = (entry.owner(), entry.code);
        if records.any(|record| record.code == TypeCode::CNAME) {
            // The target of a service may be an alias (RFC 9460 §2.4.2).
            if matches!(code, TypeCode::SVCB | TypeCode::HTTPS) {
                return;
            }
            let says = format!("the {code} record of {owner} names {target}, which is an alias");
            self.slip(
                SlipCode::TargetIsAlias,
                Some(entry),
                says,
                "Name the host that it is an alias of (RFC 2181 §10.3)",
            );
        } else if below_own_cut {
            let says = format!("{target} serves {owner} and lies in it, and has no address here: nobody finds it");
            self.slip(SlipCode::GlueMissing, Some(entry), says, format!("Write an A or AAAA record of {target} here"));
        } else if !self.is_covered(&target) {
            self.missing(entry, &target);
        }
    }

    fn missing(&mut self, entry: &ZoneEntry<'_>, target: &NameKey) {
        let (owner, code, apex) = (entry.owner(), entry.code, self.zone.apex());
        if let Some(meant) = self.meant(target) {
            let says = format!("the {code} record of {owner} leads to {target}; {meant} was probably meant");
            let help = format!("Write a dot at the end: without it the name is completed with {apex}");
            self.slip(SlipCode::RelativeTarget, Some(entry), says, help);
        } else {
            let says = match code {
                TypeCode::CNAME => format!("{owner} is an alias of {target}, which does not exist"),
                _ => format!("the {code} record of {owner} names {target}, which has no address"),
            };
            self.slip(
                SlipCode::TargetMissing,
                Some(entry),
                says,
                format!("Correct the name, or write the records of {target}"),
            );
        }
    }

    /// What a target was meant to be that only lacks its final dot: with the zone's name taken away it ends in the
    /// zone's name again, or in a domain that is registered under.
    fn meant(&self, target: &NameKey) -> Option<NameKey> {
        let apex = self.zone.apex();
        let below = target.as_bytes().strip_prefix(apex.as_bytes())?;
        if apex.as_bytes().is_empty() || below.is_empty() {
            return None;
        }
        let meant = NameKey::from_bytes(below);
        let text = meant.to_string();
        let text = text.trim_end_matches('.');
        let is_known = psl::suffix(text.as_bytes()).is_some_and(|suffix| suffix.is_known())
            || [".example", ".test", ".invalid", ".localhost"].iter().any(|end| text.ends_with(end));
        let looks_whole = text.contains('.') && is_known;
        (below.starts_with(apex.as_bytes()) || looks_whole).then_some(meant)
    }

    /// Whether other servers answer for a name.
    fn is_delegated(&self, name: &NameKey) -> bool {
        let mut at = Some(name.clone());
        while let Some(here) = at.filter(|here| here.is_within(self.zone.apex()) && here != self.zone.apex()) {
            if self.zone.at(&here).any(|entry| entry.code == TypeCode::NS) {
                return true;
            }
            at = here.parent();
        }
        false
    }

    /// Whether a wildcard or a DNAME answers for a name that has no records (RFC 4592 §3.3.1).
    fn is_covered(&self, name: &NameKey) -> bool {
        if self.zone.exists(name) {
            return false;
        }
        let mut at = name.parent();
        while let Some(encloser) = at.filter(|encloser| encloser.is_within(self.zone.apex())) {
            if self.zone.at(&encloser).any(|entry| entry.code == TypeCode::DNAME) {
                return true;
            }
            if self.zone.exists(&encloser) {
                return encloser.wildcard().is_some_and(|wildcard| self.zone.at(&wildcard).next().is_some());
            }
            at = encloser.parent();
        }
        false
    }

    fn chain(&mut self, entry: &ZoneEntry<'_>, first: &NameKey) {
        let (zone, owner) = (self.zone, entry.owner());
        let mut at = first.clone();
        let mut hops = 1;
        loop {
            if at == owner {
                let says = format!("{owner} is an alias of itself, by way of {first}");
                self.slip(SlipCode::AliasLoop, Some(entry), says, "Let one of them lead to a host");
                return;
            }
            if !at.is_within(zone.apex()) {
                break;
            }
            let next = zone.at(&at).find(|record| record.code == TypeCode::CNAME);
            match next.and_then(|next| target(next.code, next.data)) {
                Some(next) if hops <= zone.len() && hops <= 64 => (at, hops) = (next, hops + 1),
                Some(_) => return,
                None => {
                    if !zone.exists(&at) && !self.is_covered(&at) && !self.is_delegated(&at) && hops == 1 {
                        self.missing(entry, &at);
                    }
                    break;
                }
            }
        }
        if hops > MOST_ALIASES {
            let says = format!(
                "{hops} aliases follow one another from {owner}, and resolvers may give up after {MOST_ALIASES}"
            );
            self.slip(SlipCode::AliasChain, Some(entry), says, "Let it lead to the host at the end");
        }
    }
}

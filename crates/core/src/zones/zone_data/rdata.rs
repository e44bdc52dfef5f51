//! The data of records: from presentation form to the wire and back, by one table of what each type is made of.

use std::fmt::{self, Write as _};
use std::net::{Ipv4Addr, Ipv6Addr};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;

use super::name::NameKey;
use super::svc_params;
pub use super::token::Token;
use super::token::push_quoted;
pub(crate) use super::token::unescaped;
use super::type_code::TypeCode;
use crate::values::Serial;

/// The longest data of a record (RFC 1035 §3.2.1).
pub const MAX_RDATA: usize = u16::MAX as usize;

/// What stands at one place of a record's data.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Field {
    /// A domain name.
    Name,
    Ipv4,
    Ipv6,
    U8,
    U16,
    U32,
    /// Seconds, in 32 bits; units may be written.
    Period,
    /// A character string (RFC 1035 §3.3).
    Text,
    /// One or more of them, to the end.
    Texts,
    /// The octets of one string to the end, without a length before them (RFC 8659 §4.1).
    Rest,
    /// The same, which must stand in quotes (RFC 7553 §4.4).
    Quoted,
    /// A CAA tag: letters and digits after their length.
    Tag,
    /// Octets to the end, in hexadecimal digits.
    Hex,
    /// Octets to the end, in base 64.
    Base64,
    /// The salt of NSEC3: after its length, in hexadecimal digits, `-` where there is none (RFC 5155 §3.3).
    Salt,
    /// The next hashed owner of NSEC3: after its length, in base 32 with the extended hex alphabet (RFC 4648 §7).
    Hash,
    /// A security algorithm.
    Algorithm,
    /// The type that a signature covers.
    Type,
    /// Types to the end, as windows of bits (RFC 4034 §4.1.2).
    Types,
    /// A time of a signature (RFC 4034 §3.2).
    Time,
    /// Pairs of a key and its value to the end (RFC 9460 §2.1).
    SvcParams,
    /// A hardware address of that many octets (RFC 7043).
    Eui(usize),
    /// A location (RFC 1876).
    Location,
    /// Address prefixes to the end (RFC 3123).
    Prefixes,
    /// A node identifier or locator of 64 bits (RFC 6742 §2.1.2).
    Node64,
    /// The kind of a certificate (RFC 4398 §2.1).
    CertificateKind,
    /// The kind of a gateway, an algorithm, and the gateway: none, an address or a name (RFC 4025 §2.3 to §2.5).
    Gateway,
}

use Field::*;

/// What the data of a type is made of; `None` for a type that is only known by its number.
fn fields(code: TypeCode) -> Option<&'static [Field]> {
    Some(match code {
        TypeCode::A => &[Ipv4],
        TypeCode::AAAA => &[Ipv6],
        TypeCode::NS | TypeCode::CNAME | TypeCode::PTR | TypeCode::DNAME | TypeCode::ALIAS => &[Name],
        TypeCode::SOA => &[Name, Name, U32, Period, Period, Period, Period],
        TypeCode::HINFO => &[Text, Text],
        TypeCode::MX | TypeCode::AFSDB | TypeCode::KX | TypeCode::RT | TypeCode::LP => &[U16, Name],
        TypeCode::TXT | TypeCode::SPF => &[Texts],
        TypeCode::RP | TypeCode::MINFO => &[Name, Name],
        TypeCode::APL => &[Prefixes],
        TypeCode::IPSECKEY => &[U8, Gateway, Base64],
        TypeCode::L32 => &[U16, Ipv4],
        TypeCode::NID | TypeCode::L64 => &[U16, Node64],
        TypeCode::LOC => &[Location],
        TypeCode::SRV => &[U16, U16, U16, Name],
        TypeCode::NAPTR => &[U16, U16, Text, Text, Text, Name],
        TypeCode::CERT => &[CertificateKind, U16, Algorithm, Base64],
        TypeCode::DS | TypeCode::CDS => &[U16, Algorithm, U8, Hex],
        TypeCode::SSHFP => &[U8, U8, Hex],
        TypeCode::RRSIG => &[Type, Algorithm, U8, U32, Time, Time, U16, Name, Base64],
        TypeCode::NSEC => &[Name, Types],
        TypeCode::DNSKEY | TypeCode::CDNSKEY => &[U16, U8, Algorithm, Base64],
        TypeCode::DHCID | TypeCode::OPENPGPKEY => &[Base64],
        TypeCode::NSEC3 => &[U8, U8, U16, Salt, Hash, Types],
        TypeCode::NSEC3PARAM => &[U8, U8, U16, Salt],
        TypeCode::TLSA | TypeCode::SMIMEA => &[U8, U8, U8, Hex],
        TypeCode::CSYNC => &[U32, U16, Types],
        TypeCode::ZONEMD => &[U32, U8, U8, Hex],
        TypeCode::SVCB | TypeCode::HTTPS => &[U16, Name, SvcParams],
        TypeCode::EUI48 => &[Eui(6)],
        TypeCode::EUI64 => &[Eui(8)],
        TypeCode::URI => &[U16, U16, Quoted],
        TypeCode::CAA => &[U8, Tag, Rest],
        _ => return None,
    })
}

/// Why the data of a record cannot be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RdataError {
    /// Which token is wrong; `None` where one is missing at the end.
    pub at: Option<usize>,
    /// What is wrong, as the end of a sentence that begins with the type.
    pub says: String,
}

/// Security algorithms by their mnemonics (RFC 4034 appendix A.1 and later).
const ALGORITHMS: &[(&str, u8)] = &[
    ("RSASHA1", 5),
    ("RSASHA1-NSEC3-SHA1", 7),
    ("RSASHA256", 8),
    ("RSASHA512", 10),
    ("ECDSAP256SHA256", 13),
    ("ECDSAP384SHA384", 14),
    ("ED25519", 15),
    ("ED448", 16),
];

/// Kinds of certificates by their mnemonics (RFC 4398 §2.1).
const CERTIFICATE_KINDS: &[(&str, u16)] = &[
    ("PKIX", 1),
    ("SPKI", 2),
    ("PGP", 3),
    ("IPKIX", 4),
    ("ISPKI", 5),
    ("IPGP", 6),
    ("ACPKIX", 7),
    ("IACPKIX", 8),
    ("URI", 253),
    ("OID", 254),
];

struct Reading<'t, 'r> {
    tokens: &'r [Token<'t>],
    next: usize,
    origin: &'r NameKey,
    name: NameKey,
}

/// Reads the data of a record in presentation form into `wire`, as on the wire with names in lower case and
/// without compression.
///
/// # Errors
/// [`RdataError`].
pub fn parse(code: TypeCode, tokens: &[Token<'_>], origin: &NameKey, wire: &mut Vec<u8>) -> Result<(), RdataError> {
    let begin = wire.len();
    let mut reading = Reading { tokens, next: 0, origin, name: NameKey::default() };
    if tokens.first().is_some_and(|token| token.text == b"\\#" && !token.is_quoted) {
        reading.next = 1;
        reading.generic(wire)?;
        if let Some(fields) = fields(code) {
            let mut out = String::new();
            let data = wire.split_off(begin);
            let shown = &|name: NameKey| name.to_string();
            let is_read = Writing { rest: &data, out: &mut out, shown }.write(fields).is_some();
            if !is_read {
                return Err(RdataError { at: Some(0), says: format!("these octets are not valid data for {code}") });
            }
            lower_names(fields, &data, wire);
        }
    } else {
        let Some(fields) = fields(code) else {
            let says = format!("the data of {code} can be written only as RFC 3597 does: \\# LENGTH HEXADECIMAL");
            return Err(RdataError { at: tokens.first().map(|_| 0), says });
        };
        for field in fields {
            reading.field(*field, wire)?;
        }
        if reading.next < tokens.len() {
            return Err(reading.wrong(reading.next, format!("is more than a record of {code} has")));
        }
    }
    if let Some(says) = fault(code, &wire[begin..]) {
        return Err(RdataError { at: Some(tokens.len() - 1), says });
    }
    if wire.len() - begin > MAX_RDATA {
        return Err(RdataError { at: Some(0), says: format!("the data has more than {MAX_RDATA} octets") });
    }
    Ok(())
}

/// Returns the names in the presentation form of some data, as they are written.
pub(crate) fn written_names<'t>(code: TypeCode, tokens: &[Token<'t>]) -> impl Iterator<Item = &'t [u8]> {
    let is_generic = tokens.first().is_some_and(|token| token.text == b"\\#");
    // Each field before a name is one word.
    let fields = fields(code).filter(|_| !is_generic).unwrap_or(&[]).iter().zip(tokens);
    fields.filter(|(field, _)| matches!(field, Name)).map(|(_, token)| token.text)
}

/// What is wrong with data each part of which can be read: servers refuse it.
pub(super) fn fault(code: TypeCode, data: &[u8]) -> Option<String> {
    match code {
        TypeCode::SVCB | TypeCode::HTTPS => svc_params::inconsistency(NameKey::from_wire(data.get(2..)?)?.1),
        _ => digest_fault(code, data),
    }
}

/// What is wrong with the length of a digest of a known kind (RFC 4034 §5.1, 4255 §3.1, 8976 §2.2).
fn digest_fault(code: TypeCode, data: &[u8]) -> Option<String> {
    // Where the kind of the digest stands, where the digest begins, and how long each kind is.
    let (kind, begin, lengths): (usize, usize, &[(u8, usize)]) = match code {
        TypeCode::DS | TypeCode::CDS => (3, 4, &[(1, 20), (2, 32), (3, 32), (4, 48)]),
        TypeCode::SSHFP => (1, 2, &[(1, 20), (2, 32)]),
        TypeCode::ZONEMD => (5, 6, &[(1, 48), (2, 64)]),
        _ => return None,
    };
    let (kind, digest) = (*data.get(kind)?, data.get(begin..)?);
    let (_, length) = lengths.iter().find(|(own, _)| *own == kind)?;
    let is = digest.len();
    (is != *length).then(|| format!("a digest of the kind {kind} has {length} octets, and this one has {is}"))
}

/// Writes data in presentation form; octets that are no data of the type as RFC 3597 does.
pub fn presentation(code: TypeCode, data: &[u8]) -> String {
    presentation_with(code, data, &|name| name.to_string())
}

/// Writes data in presentation form, with names as `shown` writes them.
pub(super) fn presentation_with(code: TypeCode, data: &[u8], shown: &dyn Fn(NameKey) -> String) -> String {
    let mut out = String::new();
    if let Some(fields) = fields(code)
        && (Writing { rest: data, out: &mut out, shown }).write(fields).is_some()
    {
        return out;
    }
    let mut out = format!("\\# {}", data.len());
    if !data.is_empty() {
        out.push(' ');
        push_hex(&mut out, data);
    }
    out
}

/// Brings data from the wire into the form that is compared: its names in lower case (RFC 4034 §6.2).
pub fn canonical(code: TypeCode, data: &[u8], wire: &mut Vec<u8>) {
    match fields(code) {
        Some(fields) => lower_names(fields, data, wire),
        None => wire.extend_from_slice(data),
    }
}

/// Returns the first name in some data that leads elsewhere: the target of an alias, a server or a service.
pub fn target(code: TypeCode, data: &[u8]) -> Option<NameKey> {
    let skipped = match code {
        TypeCode::NS | TypeCode::CNAME | TypeCode::DNAME | TypeCode::PTR | TypeCode::ALIAS => 0,
        TypeCode::MX | TypeCode::AFSDB | TypeCode::KX | TypeCode::RT | TypeCode::SVCB | TypeCode::HTTPS => 2,
        TypeCode::SRV => 6,
        _ => return None,
    };
    NameKey::from_wire(data.get(skipped..)?).map(|(name, _)| name)
}

/// Returns the serial in the data of an SOA record: the first of its last five numbers (RFC 1035 §3.3.13).
pub fn soa_serial(data: &[u8]) -> Option<Serial> {
    let at = data.len().checked_sub(20)?;
    Some(Serial(u32::from_be_bytes(data.get(at..at + 4)?.try_into().ok()?)))
}

/// Returns data whose names below `from` lie below `to` instead.
pub(super) fn moved(code: TypeCode, data: &[u8], from: &NameKey, to: &NameKey) -> Vec<u8> {
    let mut moved = Vec::with_capacity(data.len());
    map_names(fields(code).unwrap_or(&[]), data, &mut moved, |name| name.moved(from, to).unwrap_or(name));
    moved
}

fn lower_names(fields: &[Field], data: &[u8], wire: &mut Vec<u8>) {
    map_names(fields, data, wire, |name| name);
}

fn map_names(fields: &[Field], data: &[u8], wire: &mut Vec<u8>, map: impl Fn(NameKey) -> NameKey) {
    let mut rest = data;
    for field in fields {
        let Name = field else {
            let Some(length) = fixed_length(*field, rest) else { break };
            let (head, after) = rest.split_at(length.min(rest.len()));
            wire.extend_from_slice(head);
            rest = after;
            continue;
        };
        let Some((name, after)) = NameKey::from_wire(rest) else { break };
        map(name).push_wire(wire);
        rest = after;
    }
    wire.extend_from_slice(rest);
}

/// How many octets a field takes whose length does not follow from the end; `None` for one that goes to it.
fn fixed_length(field: Field, rest: &[u8]) -> Option<usize> {
    Some(match field {
        U8 | Algorithm => 1,
        U16 | Type | CertificateKind => 2,
        Node64 => 8,
        U32 | Period | Time | Ipv4 => 4,
        Ipv6 => 16,
        Eui(length) => length,
        Text | Tag | Salt | Hash => 1 + usize::from(*rest.first()?),
        Name | Texts | Rest | Quoted | Hex | Base64 | Types | SvcParams | Location | Prefixes | Gateway => {
            return None;
        }
    })
}

/// Reads a number of seconds, perhaps with units: `300`, `1h30m`, `1w`. Units are no part of RFC 1035, and every
/// name server reads them.
pub fn period(text: &[u8]) -> Option<u32> {
    let (mut total, mut number) = (0_u32, None::<u32>);
    for octet in text {
        if octet.is_ascii_digit() {
            number = Some(number.unwrap_or(0).checked_mul(10)?.checked_add(u32::from(octet - b'0'))?);
            continue;
        }
        let unit = match octet.to_ascii_lowercase() {
            b's' => 1,
            b'm' => 60,
            b'h' => 3_600,
            b'd' => 86_400,
            b'w' => 604_800,
            _ => return None,
        };
        total = total.checked_add(number.take()?.checked_mul(unit)?)?;
    }
    match number {
        // A number after units has none, and servers refuse it.
        Some(number) => text.iter().all(u8::is_ascii_digit).then_some(number),
        None => (!text.is_empty()).then_some(total),
    }
}

impl<'t> Reading<'t, '_> {
    fn wrong(&self, at: usize, says: impl fmt::Display) -> RdataError {
        let text = String::from_utf8_lossy(self.tokens.get(at).map_or(&[][..], |token| token.text));
        let shown: String = text.chars().take(60).collect();
        RdataError { at: Some(at), says: format!("\"{shown}\" {says}") }
    }

    fn token(&mut self, what: &str) -> Result<&'t [u8], RdataError> {
        let token = self.tokens.get(self.next);
        let token = token.ok_or_else(|| RdataError { at: None, says: format!("{what} is missing") })?;
        self.next += 1;
        Ok(token.text)
    }

    /// Reads one token as what can be parsed from a text.
    fn parsed<T: std::str::FromStr>(&mut self, what: &str) -> Result<T, RdataError> {
        let text = self.token(what)?;
        let value = std::str::from_utf8(text).ok().and_then(|text| text.parse().ok());
        value.ok_or_else(|| self.wrong(self.next - 1, format!("is not {what}")))
    }

    fn number(&mut self, most: u32, what: &str) -> Result<u32, RdataError> {
        let text = self.token(what)?;
        let digits = std::str::from_utf8(text).ok().filter(|text| text.bytes().all(|octet| octet.is_ascii_digit()));
        let value = digits.and_then(|text| text.parse().ok()).filter(|value| *value <= most);
        value.ok_or_else(|| self.wrong(self.next - 1, format!("is not {what}")))
    }

    /// The remaining tokens, joined.
    fn rest(&mut self) -> Vec<u8> {
        let rest = self.tokens[self.next.min(self.tokens.len())..].iter().flat_map(|token| token.text.iter().copied());
        let rest = rest.collect();
        self.next = self.tokens.len();
        rest
    }

    fn generic(&mut self, wire: &mut Vec<u8>) -> Result<(), RdataError> {
        let length = self.number(u32::from(u16::MAX), "a number of octets")?;
        let at = self.next;
        let data = from_hex(&self.rest()).ok_or_else(|| self.wrong(at, "is not hexadecimal"))?;
        if data.len() as u32 != length {
            let says = format!("{length} octets are announced, and {} follow", data.len());
            return Err(RdataError { at: Some(1), says });
        }
        wire.extend_from_slice(&data);
        Ok(())
    }

    fn string(&mut self, what: &str) -> Result<Vec<u8>, RdataError> {
        let text = self.token(what)?;
        unescaped(text).ok_or_else(|| {
            self.wrong(self.next - 1, "has a backslash that neither a character nor three digits up to 255 follow")
        })
    }

    fn character_string(&mut self, wire: &mut Vec<u8>) -> Result<(), RdataError> {
        let at = self.next;
        let text = self.string("a string")?;
        let length = u8::try_from(text.len()).map_err(|_| {
            let says = format!("the string has {} octets, and 255 are allowed: split it into several", text.len());
            RdataError { at: Some(at), says }
        })?;
        wire.push(length);
        wire.extend_from_slice(&text);
        Ok(())
    }

    fn field(&mut self, field: Field, wire: &mut Vec<u8>) -> Result<(), RdataError> {
        match field {
            Name => {
                let text = self.token("a name")?;
                let mut name = std::mem::take(&mut self.name);
                name.read(text, self.origin)
                    .map_err(|error| self.wrong(self.next - 1, format!("is no name: {error}")))?;
                name.push_wire(wire);
                self.name = name;
            }
            Ipv4 => wire.extend_from_slice(&self.parsed::<Ipv4Addr>("an IPv4 address")?.octets()),
            Ipv6 => wire.extend_from_slice(&self.parsed::<Ipv6Addr>("an IPv6 address")?.octets()),
            U8 => wire.push(self.number(255, "a number from 0 to 255")? as u8),
            U16 => wire.extend_from_slice(&(self.number(65_535, "a number from 0 to 65535")? as u16).to_be_bytes()),
            U32 => wire.extend_from_slice(&self.number(u32::MAX, "a number from 0 to 4294967295")?.to_be_bytes()),
            Period => {
                let text = self.token("a number of seconds")?;
                let secs = period(text).ok_or_else(|| self.wrong(self.next - 1, "is not a number of seconds"))?;
                wire.extend_from_slice(&secs.to_be_bytes());
            }
            Text => self.character_string(wire)?,
            Texts => {
                self.character_string(wire)?;
                while self.next < self.tokens.len() {
                    self.character_string(wire)?;
                }
            }
            Rest => wire.extend_from_slice(&self.string("a value")?),
            Quoted => {
                let value = self.string("a value in quotes")?;
                if !self.tokens[self.next - 1].is_quoted {
                    return Err(self.wrong(self.next - 1, "must stand in quotes"));
                }
                wire.extend_from_slice(&value);
            }
            Tag => {
                let tag = self.token("a tag")?;
                let is_tag = (1..=255).contains(&tag.len()) && tag.iter().all(u8::is_ascii_alphanumeric);
                if !is_tag {
                    return Err(self.wrong(self.next - 1, "is not a tag of letters and digits"));
                }
                wire.push(tag.len() as u8);
                wire.extend(tag.iter().map(u8::to_ascii_lowercase));
            }
            Hex => {
                let at = self.next;
                self.token("data in hexadecimal digits")?;
                self.next = at;
                let data = from_hex(&self.rest()).ok_or_else(|| self.wrong(at, "is not hexadecimal"))?;
                wire.extend_from_slice(&data);
            }
            Base64 => {
                let at = self.next;
                self.token("data in base 64")?;
                self.next = at;
                let data = BASE64.decode(self.rest()).map_err(|_| self.wrong(at, "is not base 64"))?;
                wire.extend_from_slice(&data);
            }
            Salt => {
                let text = self.token("a salt")?;
                let salt = if text == b"-" { Some(Vec::new()) } else { from_hex(text) };
                self.counted(salt, "is not a salt in hexadecimal digits", wire)?;
            }
            Hash => {
                let text = self.token("a hashed name")?;
                self.counted(from_base32(text), "is not base 32", wire)?;
            }
            Algorithm => wire.push(self.named(ALGORITHMS, 255, "an algorithm")? as u8),
            CertificateKind => {
                let kind = self.named(CERTIFICATE_KINDS, 65_535, "a kind of certificate")? as u16;
                wire.extend_from_slice(&kind.to_be_bytes());
            }
            Prefixes => {
                while self.next < self.tokens.len() {
                    let text = self.token("a prefix")?;
                    let wrong =
                        || self.wrong(self.next - 1, "is not a prefix such as 1:192.0.2.0/24 or !2:2001:db8::/32");
                    super::prefixes::parse(text, wire).ok_or_else(wrong)?;
                }
            }
            Node64 => {
                let text = self.token("64 bits")?;
                let group = |digits: &[u8]| {
                    let digits = std::str::from_utf8(digits).ok().filter(|digits| (1..=4).contains(&digits.len()))?;
                    let is_hex = digits.bytes().all(|digit| digit.is_ascii_hexdigit());
                    u16::from_str_radix(digits, 16).ok().filter(|_| is_hex).map(u16::to_be_bytes)
                };
                let groups: Option<Vec<[u8; 2]>> = text.split(|octet| *octet == b':').map(group).collect();
                let groups = groups.filter(|groups| groups.len() == 4);
                let wrong = || self.wrong(self.next - 1, "is not 64 bits such as 2001:0db8:1140:1000");
                wire.extend(groups.ok_or_else(wrong)?.concat());
            }
            Gateway => {
                let kind = self.number(3, "a kind of gateway from 0 to 3")? as u8;
                wire.push(kind);
                self.field(Algorithm, wire)?;
                match kind {
                    0 if self.token("a gateway")? == b"." => {}
                    0 => return Err(self.wrong(self.next - 1, "is a gateway, and its kind 0 has none: write .")),
                    1 => self.field(Ipv4, wire)?,
                    2 => self.field(Ipv6, wire)?,
                    _ => self.field(Name, wire)?,
                }
            }
            Type => wire.extend_from_slice(&self.type_code()?.0.to_be_bytes()),
            Types => {
                let mut types = Vec::new();
                while self.next < self.tokens.len() {
                    types.push(self.type_code()?.0);
                }
                push_bitmap(types, wire);
            }
            Time => {
                let text = self.token("a time")?;
                let time = signature_time(text);
                let time = time.ok_or_else(|| self.wrong(self.next - 1, "is not a time such as 20261126101010"))?;
                wire.extend_from_slice(&time.to_be_bytes());
            }
            SvcParams => {
                let pairs = &self.tokens[self.next..];
                svc_params::parse(pairs, wire).map_err(|(at, says)| self.wrong(self.next + at, says))?;
                self.next = self.tokens.len();
            }
            Eui(length) => {
                let text = self.token("a hardware address")?;
                let parts: Option<Vec<u8>> = text.split(|octet| *octet == b'-').map(hex_octet).collect();
                let address = parts.filter(|parts| parts.len() == length);
                let wrong = || self.wrong(self.next - 1, format!("is not {length} octets such as 00-00-5e-00-53-2a"));
                wire.extend_from_slice(&address.ok_or_else(wrong)?);
            }
            Location => {
                let words: Vec<&str> = self.tokens[self.next..]
                    .iter()
                    .map(|token| std::str::from_utf8(token.text).unwrap_or_default())
                    .collect();
                let data = super::location::parse(&words);
                let wrong = |at| self.wrong(self.next + at, "does not continue a location as RFC 1876 §3 writes it");
                wire.extend_from_slice(&data.map_err(wrong)?);
                self.next = self.tokens.len();
            }
        }
        Ok(())
    }

    /// Reads a number that may be written by its mnemonic.
    fn named<N: Copy + Into<u32>>(&mut self, names: &[(&str, N)], most: u32, what: &str) -> Result<u32, RdataError> {
        let text = self.token(what)?;
        if let Some((_, number)) = names.iter().find(|(name, _)| name.as_bytes().eq_ignore_ascii_case(text)) {
            return Ok((*number).into());
        }
        self.next -= 1;
        self.number(most, what)
    }

    fn type_code(&mut self) -> Result<TypeCode, RdataError> {
        self.parsed::<TypeCode>("a record type")
    }

    fn counted(&self, data: Option<Vec<u8>>, says: &str, wire: &mut Vec<u8>) -> Result<(), RdataError> {
        let data = data.filter(|data| data.len() <= 255).ok_or_else(|| self.wrong(self.next - 1, says))?;
        wire.push(data.len() as u8);
        wire.extend_from_slice(&data);
        Ok(())
    }
}

fn hex_octet(digits: &[u8]) -> Option<u8> {
    let [high, low] = digits else { return None };
    let digit = |digit: &u8| char::from(*digit).to_digit(16).map(|digit| digit as u8);
    Some(digit(high)? << 4 | digit(low)?)
}

fn from_hex(digits: &[u8]) -> Option<Vec<u8>> {
    digits.chunks(2).map(hex_octet).collect()
}

fn push_hex(out: &mut String, data: &[u8]) {
    for octet in data {
        let _ = write!(out, "{octet:02x}");
    }
}

const BASE32: &[u8; 32] = b"0123456789abcdefghijklmnopqrstuv";

fn from_base32(text: &[u8]) -> Option<Vec<u8>> {
    let (mut bits, mut held, mut data) = (0_u32, 0_u32, Vec::new());
    for octet in text {
        let value = BASE32.iter().position(|digit| *digit == octet.to_ascii_lowercase())?;
        held = held << 5 | value as u32;
        bits += 5;
        if bits >= 8 {
            bits -= 8;
            data.push((held >> bits) as u8);
            held &= (1 << bits) - 1;
        }
    }
    (held == 0 && bits < 5 && !data.is_empty()).then_some(data)
}

fn push_base32(out: &mut String, data: &[u8]) {
    let (mut bits, mut held) = (0_u32, 0_u32);
    for octet in data {
        held = held << 8 | u32::from(*octet);
        bits += 8;
        while bits >= 5 {
            bits -= 5;
            out.push(char::from(BASE32[(held >> bits & 31) as usize]));
        }
        held &= (1 << bits) - 1;
    }
    if bits > 0 {
        out.push(char::from(BASE32[(held << (5 - bits) & 31) as usize]));
    }
}

fn push_bitmap(mut types: Vec<u16>, wire: &mut Vec<u8>) {
    types.sort_unstable();
    types.dedup();
    for window in types.chunk_by(|left, right| left >> 8 == right >> 8) {
        let mut bits = [0_u8; 32];
        for code in window {
            bits[usize::from(code & 0xff) / 8] |= 0x80 >> (code & 7);
        }
        let length = usize::from(window[window.len() - 1] & 0xff) / 8 + 1;
        wire.extend_from_slice(&[(window[0] >> 8) as u8, length as u8]);
        wire.extend_from_slice(&bits[..length]);
    }
}

/// A time as RFC 4034 §3.2 writes it: `YYYYMMDDHHmmSS` in UTC, or seconds since 1970.
fn signature_time(text: &[u8]) -> Option<u32> {
    let text = std::str::from_utf8(text).ok().filter(|text| text.bytes().all(|octet| octet.is_ascii_digit()))?;
    if text.len() != 14 {
        return text.parse().ok();
    }
    let part = |from: usize, to: usize| text[from..to].parse::<i8>().ok();
    let year = text[..4].parse().ok()?;
    let time =
        jiff::civil::DateTime::new(year, part(4, 6)?, part(6, 8)?, part(8, 10)?, part(10, 12)?, part(12, 14)?, 0);
    // Times wrap around after 2106 (RFC 4034 §3.1.5).
    Some(jiff::tz::Offset::UTC.to_timestamp(time.ok()?).ok()?.as_second() as u32)
}

fn push_signature_time(out: &mut String, secs: u32) {
    let time = jiff::Timestamp::from_second(i64::from(secs)).unwrap_or_default();
    let time = jiff::tz::Offset::UTC.to_datetime(time);
    let _ = write!(
        out,
        "{:04}{:02}{:02}{:02}{:02}{:02}",
        time.year(),
        time.month(),
        time.day(),
        time.hour(),
        time.minute(),
        time.second()
    );
}

/// Writes fields in presentation form; `None` where the octets are no such fields.
struct Writing<'d, 'o> {
    rest: &'d [u8],
    out: &'o mut String,
    shown: &'o dyn Fn(NameKey) -> String,
}

impl<'d> Writing<'d, '_> {
    fn write(mut self, fields: &[Field]) -> Option<()> {
        for (position, field) in fields.iter().enumerate() {
            let before = self.out.len();
            if position > 0 {
                self.out.push(' ');
            }
            let begin = self.out.len();
            self.field(*field)?;
            if self.out.len() == begin {
                // Nothing stands there, as in an empty list.
                self.out.truncate(before);
            }
        }
        self.rest.is_empty().then_some(())
    }

    fn take(&mut self, length: usize) -> Option<&'d [u8]> {
        let (head, rest) = self.rest.split_at_checked(length)?;
        self.rest = rest;
        Some(head)
    }

    fn array<const N: usize>(&mut self) -> Option<[u8; N]> {
        self.take(N)?.try_into().ok()
    }

    fn counted(&mut self) -> Option<&'d [u8]> {
        let [length] = self.array()?;
        self.take(length.into())
    }

    fn put(&mut self, value: impl fmt::Display) -> Option<()> {
        write!(self.out, "{value}").ok()
    }

    fn field(&mut self, field: Field) -> Option<()> {
        match field {
            Name => {
                let (name, rest) = NameKey::from_wire(self.rest)?;
                self.rest = rest;
                self.put((self.shown)(name))?;
            }
            Ipv4 => {
                let octets: [u8; 4] = self.array()?;
                self.put(Ipv4Addr::from(octets))?;
            }
            Ipv6 => {
                let octets: [u8; 16] = self.array()?;
                self.put(Ipv6Addr::from(octets))?;
            }
            U8 | Algorithm => {
                let [value] = self.array()?;
                self.put(value)?;
            }
            U16 | CertificateKind => {
                let octets = self.array()?;
                self.put(u16::from_be_bytes(octets))?;
            }
            U32 | Period => {
                let octets = self.array()?;
                self.put(u32::from_be_bytes(octets))?;
            }
            Text => {
                let text = self.counted()?;
                push_quoted(self.out, text);
            }
            Texts => loop {
                let text = self.counted()?;
                push_quoted(self.out, text);
                if self.rest.is_empty() {
                    break;
                }
                self.out.push(' ');
            },
            Rest | Quoted => push_quoted(self.out, std::mem::take(&mut self.rest)),
            Tag => {
                let tag = self.counted()?;
                let tag = std::str::from_utf8(tag).ok().filter(|tag| tag.bytes().all(|o| o.is_ascii_alphanumeric()))?;
                self.out.push_str(Some(tag).filter(|tag| !tag.is_empty())?);
            }
            Hex => {
                let data = Some(std::mem::take(&mut self.rest)).filter(|data| !data.is_empty())?;
                push_hex(self.out, data);
            }
            Base64 => {
                let data = Some(std::mem::take(&mut self.rest)).filter(|data| !data.is_empty())?;
                BASE64.encode_string(data, self.out);
            }
            Salt => {
                let salt = self.counted()?;
                if salt.is_empty() { self.out.push('-') } else { push_hex(self.out, salt) }
            }
            Hash => {
                let hash = self.counted().filter(|hash| !hash.is_empty())?;
                push_base32(self.out, hash);
            }
            Type => {
                let octets = self.array()?;
                self.put(TypeCode(u16::from_be_bytes(octets)))?;
            }
            Types => {
                let mut first = true;
                while !self.rest.is_empty() {
                    let [window, length] = self.array()?;
                    if !(1..=32).contains(&length) {
                        return None;
                    }
                    for (index, bits) in self.take(length.into())?.iter().enumerate() {
                        for bit in (0..8).filter(|bit| bits & (0x80 >> bit) != 0) {
                            let space = if std::mem::take(&mut first) { "" } else { " " };
                            let code = u16::from(window) << 8 | (index * 8 + bit) as u16;
                            self.put(format_args!("{space}{}", TypeCode(code)))?;
                        }
                    }
                }
            }
            Time => {
                let octets = self.array()?;
                push_signature_time(self.out, u32::from_be_bytes(octets));
            }
            SvcParams => svc_params::write(std::mem::take(&mut self.rest), self.out)?,
            Eui(length) => {
                for (index, octet) in self.take(length)?.iter().enumerate() {
                    self.put(format_args!("{}{octet:02x}", if index == 0 { "" } else { "-" }))?;
                }
            }
            Location => {
                let octets: [u8; 16] = self.array()?;
                super::location::write(&octets, self.out)?;
            }
            Prefixes => super::prefixes::write(std::mem::take(&mut self.rest), self.out)?,
            Node64 => {
                for (index, pair) in self.take(8)?.chunks(2).enumerate() {
                    self.out.push_str(if index == 0 { "" } else { ":" });
                    push_hex(self.out, pair);
                }
            }
            Gateway => {
                let [kind, algorithm] = self.array()?;
                self.put(format_args!("{kind} {algorithm} "))?;
                match kind {
                    0 => self.out.push('.'),
                    1 => self.field(Ipv4)?,
                    2 => self.field(Ipv6)?,
                    3 => self.field(Name)?,
                    _ => return None,
                }
            }
        }
        Some(())
    }
}

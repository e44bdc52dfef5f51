//! The types of records by their numbers.

use std::fmt;
use std::str::FromStr;

/// The type of a record as it stands on the wire (RFC 1035 §3.2.2), also one that has no name here (RFC 3597).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct TypeCode(pub u16);

macro_rules! types {
    ($($constant:ident $name:literal $code:literal),* $(,)?) => {
        #[expect(missing_docs, reason = "the names are the standards' own")]
        impl TypeCode {
            $(pub const $constant: TypeCode = TypeCode($code);)*
            /// The types that have a name here.
            pub const NAMED: &[(&str, TypeCode)] = &[$(($name, TypeCode::$constant)),*];
        }
    };
}

types! {
    A "A" 1, NS "NS" 2, CNAME "CNAME" 5, SOA "SOA" 6, PTR "PTR" 12, HINFO "HINFO" 13, MINFO "MINFO" 14, MX "MX" 15,
    TXT "TXT" 16, RP "RP" 17, AFSDB "AFSDB" 18, RT "RT" 21, AAAA "AAAA" 28, LOC "LOC" 29, SRV "SRV" 33, NAPTR "NAPTR" 35, KX "KX" 36,
    CERT "CERT" 37, DNAME "DNAME" 39, APL "APL" 42, DS "DS" 43, SSHFP "SSHFP" 44, IPSECKEY "IPSECKEY" 45, RRSIG "RRSIG" 46, NSEC "NSEC" 47,
    DNSKEY "DNSKEY" 48, DHCID "DHCID" 49, NSEC3 "NSEC3" 50, NSEC3PARAM "NSEC3PARAM" 51, TLSA "TLSA" 52,
    SMIMEA "SMIMEA" 53, CDS "CDS" 59, CDNSKEY "CDNSKEY" 60, OPENPGPKEY "OPENPGPKEY" 61, CSYNC "CSYNC" 62,
    ZONEMD "ZONEMD" 63, SVCB "SVCB" 64, HTTPS "HTTPS" 65, SPF "SPF" 99, NID "NID" 104, L32 "L32" 105, L64 "L64" 106, LP "LP" 107, EUI48 "EUI48" 108, EUI64 "EUI64" 109,
    URI "URI" 256, CAA "CAA" 257, ALIAS "ALIAS" 65401,
}

impl TypeCode {
    /// Says whether records of this type follow from the others when a zone is signed, and so may stand beside a
    /// CNAME (RFC 4034 §3, §4; RFC 5155 §3).
    pub fn is_of_signing(self) -> bool {
        matches!(self, TypeCode::RRSIG | TypeCode::NSEC | TypeCode::NSEC3)
    }

    /// Says whether it is a type for questions and messages only (RFC 6895 §3.1), which no zone holds.
    pub fn is_meta(self) -> bool {
        matches!(self.0, 0 | 41 | 128..=255)
    }
}

impl fmt::Display for TypeCode {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match TypeCode::NAMED.iter().find(|(_, code)| code == self) {
            Some((name, _)) => f.pad(name),
            None => f.pad(&format!("TYPE{}", self.0)),
        }
    }
}

impl FromStr for TypeCode {
    type Err = ();

    fn from_str(text: &str) -> Result<TypeCode, ()> {
        if let Some((_, code)) = TypeCode::NAMED.iter().find(|(name, _)| name.eq_ignore_ascii_case(text)) {
            return Ok(*code);
        }
        let digits = text.get(..4).filter(|head| head.eq_ignore_ascii_case("TYPE")).and_then(|_| text.get(4..));
        let digits = digits.filter(|digits| digits.bytes().all(|digit| digit.is_ascii_digit())).ok_or(())?;
        digits.parse().map(TypeCode).map_err(|_| ())
    }
}

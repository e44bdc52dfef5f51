//! Zones from text: their data in all types, what differs between two, and their slips.

use std::collections::BTreeMap;

use proptest::prelude::*;

use super::rdata::{Token, parse, presentation};
use super::*;
use crate::zones::zone_file::{Mistake, Reader, Sink};

/// The largest zone that a test reads is small, so it is collected as it stands.
#[derive(Default)]
pub(crate) struct Whole {
    pub(crate) builder: ZoneBuilder,
    pub(crate) mistakes: Vec<Mistake>,
}

impl Sink for Whole {
    fn record(&mut self, owner: &NameKey, code: TypeCode, ttl: u32, data: &[u8], place: Place) {
        self.builder.add(owner, code, ttl, data, place).unwrap();
    }

    fn mistake(&mut self, mistake: Mistake) {
        self.mistakes.push(mistake);
    }
}

pub(crate) fn key(text: &str) -> NameKey {
    NameKey::parse(text.as_bytes(), &NameKey::root()).unwrap()
}

pub(crate) fn read(text: &str) -> Whole {
    let mut whole = Whole::default();
    let mut reader = Reader::new(key("larkfield.example."), 0);
    for line in text.split_inclusive('\n') {
        reader.line(line.as_bytes(), &mut whole);
    }
    reader.end(&mut whole);
    whole
}

pub(crate) fn zone(text: &str) -> ZoneData {
    let whole = read(text);
    assert_eq!(whole.mistakes, []);
    whole.builder.finish(Some(key("larkfield.example.")))
}

pub(crate) const HEAD: &str = "$TTL 600\n@ IN SOA ns1 hostmaster 2026112601 3600 900 604800 300\n@ NS ns1\n\
                               @ NS ns2.larkfield.test.\nns1 A 192.0.2.1\n";

fn data(code: TypeCode, text: &str) -> Result<Vec<u8>, String> {
    let words: Vec<&[u8]> = text.split(' ').map(str::as_bytes).collect();
    let unquoted =
        |word: &'_ [u8]| word.strip_prefix(b"\"").and_then(|word| word.strip_suffix(b"\"")).map(<[u8]>::to_vec);
    let owned: Vec<(Vec<u8>, bool)> =
        words.iter().map(|word| unquoted(word).map_or((word.to_vec(), false), |word| (word, true))).collect();
    let tokens: Vec<Token<'_>> =
        owned.iter().map(|(text, is_quoted)| Token { text, at: 0, is_quoted: *is_quoted }).collect();
    let mut wire = Vec::new();
    parse(code, &tokens, &key("larkfield.example."), &mut wire).map_err(|error| error.says)?;
    Ok(wire)
}

/// Each type as it is written, and as it is written again.
const TYPES: &[(&str, &str, &str)] = &[
    ("A", "192.0.2.1", ""),
    ("AAAA", "2001:DB8:0::1", "2001:db8::1"),
    ("MX", "10 Mail", "10 mail.larkfield.example."),
    (
        "SOA",
        "ns1 host\\.master 7 1h 15m 1w 5m",
        "ns1.larkfield.example. host\\.master.larkfield.example. 7 3600 900 604800 300",
    ),
    ("TXT", "\"a\\\"b\\\\c\\;\\010\" plain", "\"a\\\"b\\\\c;\\010\" \"plain\""),
    ("SRV", "0 5 443 @", "0 5 443 larkfield.example."),
    ("CAA", "128 ISSUE \"authority.example;\\032x=1\"", "128 issue \"authority.example; x=1\""),
    ("NAPTR", "1 2 \"U\" \"E2U+sip\" \"!^.*$!sip:a@b.example!\" .", ""),
    (
        "DS",
        "2371 ECDSAP256SHA256 2 1F987C4E8AE7D5EF8D7B2B4CFD4EF0EF 9ccb6a9f6f0d7c6c7d3a5ac4c0d1e2f3",
        "2371 13 2 1f987c4e8ae7d5ef8d7b2b4cfd4ef0ef9ccb6a9f6f0d7c6c7d3a5ac4c0d1e2f3",
    ),
    ("CDS", "0 0 0 00", ""),
    ("DNSKEY", "257 3 13 mdsswUyr 3DPW1321", "257 3 13 mdsswUyr3DPW1321"),
    (
        "RRSIG",
        "A 13 3 300 20261201000000 20261101000000 4711 @ c2ln",
        "A 13 3 300 20261201000000 20261101000000 4711 larkfield.example. c2ln",
    ),
    ("NSEC", "host A MX TYPE1234 CAA", "host.larkfield.example. A MX CAA TYPE1234"),
    (
        "NSEC3",
        "1 1 12 AABBCCDD 2t7b4g4vsa5smi47k61mv5bv1a22bojr MX RRSIG",
        "1 1 12 aabbccdd 2t7b4g4vsa5smi47k61mv5bv1a22bojr MX RRSIG",
    ),
    ("NSEC3PARAM", "1 0 0 -", ""),
    ("TLSA", "3 1 1 d2abde 240d7c", "3 1 1 d2abde240d7c"),
    (
        "HTTPS",
        "1 . alpn=\"h2,h3\" ipv4hint=192.0.2.1,192.0.2.2 port=8443",
        "1 . alpn=h2,h3 port=8443 ipv4hint=192.0.2.1,192.0.2.2",
    ),
    ("HTTPS", "0 edge.larkfield.test.", ""),
    (
        "SVCB",
        "16 a mandatory=alpn,port alpn=h2 port=53 key667=\"x\\010\"",
        "16 a.larkfield.example. mandatory=alpn,port alpn=h2 port=53 key667=\"x\\010\"",
    ),
    ("HTTPS", "1 . key1=\"\\002h2\" key3=\"\\001\\187\" no-default-alpn", "1 . alpn=h2 no-default-alpn port=443"),
    ("LOC", "42 21 54 N 71 06 18 W -24m 30m", "42 21 54.000 N 71 6 18.000 W -24.00m 30.00m 10000.00m 10.00m"),
    ("EUI48", "00-00-5e-00-53-2A", "00-00-5e-00-53-2a"),
    ("URI", "10 1 \"ftp://ftp.larkfield.example/public\"", ""),
    ("TYPE731", "\\# 3 abcdef", "\\# 3 abcdef"),
    ("A", "\\# 4 C0000201", "192.0.2.1"),
    ("CSYNC", "66 3 A NS AAAA", ""),
    ("MINFO", "owner errors", "owner.larkfield.example. errors.larkfield.example."),
    ("RT", "2 Relay", "2 relay.larkfield.example."),
    ("LP", "10 l64-subnet", "10 l64-subnet.larkfield.example."),
    ("NID", "10 0014:4FFF:ff20:ee64", "10 0014:4fff:ff20:ee64"),
    ("NID", "10 14:4fff:0:1", "10 0014:4fff:0000:0001"),
    ("L32", "10 192.0.2.1", ""),
    ("L64", "10 2001:0db8:1140:1000", ""),
    (
        "APL",
        "1:192.168.32.0/21 !1:192.168.38.0/28 2:FF00::/8 1:0.0.0.0/0",
        "1:192.168.32.0/21 !1:192.168.38.0/28 2:ff00::/8 1:0.0.0.0/0",
    ),
    ("IPSECKEY", "10 1 2 192.0.2.38 AQNRU3mG7TVTO2Bk", ""),
    ("IPSECKEY", "10 0 2 . AQNRU3mG7TVTO2Bk", ""),
    ("IPSECKEY", "10 3 2 Gate AQNRU3mG 7TVTO2Bk", "10 3 2 gate.larkfield.example. AQNRU3mG7TVTO2Bk"),
    ("IPSECKEY", "10 2 0 2001:db8::1 AQ==", ""),
    ("CERT", "PGP 0 0 AQNRU3mG", "3 0 0 AQNRU3mG"),
];

#[test]
fn each_type_is_read_and_written_and_read_again() {
    for (name, written, expected) in TYPES {
        let code: TypeCode = name.parse().unwrap();
        let wire = data(code, written).unwrap_or_else(|error| panic!("{name} {written}: {error}"));
        let again = presentation(code, &wire);
        assert_eq!(again, if expected.is_empty() { *written } else { expected }, "{name}");
        // A space within quotes is written as one, and this test splits there.
        if !again.contains("; x") {
            assert_eq!(data(code, &again), Ok(wire), "{name} {again}");
        }
    }
    for (name, written, expected) in [
        ("A", "192.0.2.300", "\"192.0.2.300\" is not an IPv4 address"),
        ("A", "192.0.2.1 192.0.2.2", "\"192.0.2.2\" is more than a record of A has"),
        ("MX", "mail", "\"mail\" is not a number from 0 to 65535"),
        ("MX", "10", "a name is missing"),
        ("A", "\\# 3 c00002", "these octets are not valid data for A"),
        ("TXT", "\\# 3 0261", "3 octets are announced, and 2 follow"),
        ("TYPE731", "abc", "the data of TYPE731 can be written only as RFC 3597 does: \\# LENGTH HEXADECIMAL"),
        ("HTTPS", "1 . alpn=", "\"alpn=\" has a value that its key cannot have"),
        ("HTTPS", "1 . port=1 port=2", "\"port=2\" gives its key a second time"),
        ("HTTPS", "1 . port=+443", "\"port=+443\" has a value that its key cannot have"),
        ("HTTPS", "1 . key3=\"\\001\"", "\"key3=\"\\001\"\" has a value that its key cannot have"),
        ("HTTPS", "1 . key+7=x", "\"key+7=x\" is not a service parameter"),
        ("HTTPS", "1 . key0667=x", "\"key0667=x\" is not a service parameter"),
        ("HTTPS", "1 . \"alpn=h2\"", "\"alpn=h2\" stands in quotes as a whole, and only its value may"),
        ("HTTPS", "1 . no-default-alpn", "no-default-alpn stands without alpn (RFC 9460 §7.1.1)"),
        ("HTTPS", "1 . mandatory=mandatory", "mandatory names itself (RFC 9460 §8)"),
        ("HTTPS", "1 . mandatory=alpn,alpn alpn=h2", "mandatory names a key twice (RFC 9460 §8)"),
        ("HTTPS", "1 . alpn=h2 mandatory=port", "mandatory names port, which is not there (RFC 9460 §8)"),
        ("DS", "1 8 2 0011", "a digest of the kind 2 has 32 octets, and this one has 2"),
        ("CDS", "1 8 1 0011", "a digest of the kind 1 has 20 octets, and this one has 2"),
        ("SSHFP", "1 1 0011", "a digest of the kind 1 has 20 octets, and this one has 2"),
        ("ZONEMD", "1 1 1 0011", "a digest of the kind 1 has 48 octets, and this one has 2"),
        ("URI", "10 1 ftp://ftp.larkfield.example/", "\"ftp://ftp.larkfield.example/\" must stand in quotes"),
        ("SOA", "ns1 host 1 1h30 900 604800 300", "\"1h30\" is not a number of seconds"),
        (
            "LOC",
            "18446744073709552 0 0 N 0 0 0 E 0m",
            "\"18446744073709552\" does not continue a location as RFC 1876 §3 writes it",
        ),
        ("LOC", "91 0 0 N 0 0 0 E 0m", "\"91\" does not continue a location as RFC 1876 §3 writes it"),
        ("NSEC3", "1 1 12 - zz", "\"zz\" is not base 32"),
        ("APL", "1:192.0.2.0/33", "\"1:192.0.2.0/33\" is not a prefix such as 1:192.0.2.0/24 or !2:2001:db8::/32"),
        ("NID", "1 14:4fff:ff20", "\"14:4fff:ff20\" is not 64 bits such as 2001:0db8:1140:1000"),
        ("IPSECKEY", "1 0 2 gate", "\"gate\" is a gateway, and its kind 0 has none: write ."),
        ("IPSECKEY", "10 1 2 192.0.2.38", "data in base 64 is missing"),
        ("IPSECKEY", "1 4 2 gate", "\"4\" is not a kind of gateway from 0 to 3"),
        ("CERT", "PPG 0 0 AQ==", "\"PPG\" is not a kind of certificate"),
    ] {
        assert_eq!(data(name.parse().unwrap(), written), Err(expected.to_owned()), "{name} {written}");
    }
    let long = "x".repeat(256);
    assert!(data(TypeCode::TXT, &long).unwrap_err().contains("256 octets, and 255 are allowed"));
}

#[test]
fn what_differs_is_told_by_record_sets() {
    let left = zone(&format!("{HEAD}www A 192.0.2.1\nwww A 192.0.2.2\nmail MX 10 www\ngone TXT \"x\"\n"));
    let right = zone(&format!(
        "{}www 300 A 192.0.2.2\nwww A 192.0.2.3\nmail MX 10 WWW\nnew CNAME www\n",
        HEAD.replace("2601", "2699")
    ));
    let differences = compare(&left, &right, Compared::default());
    let told: Vec<(String, String, usize, usize)> = differences
        .iter()
        .map(|one| (one.name.relative_to(left.apex()), one.code.to_string(), one.left.len(), one.right.len()))
        .collect();
    let expected = [("gone", "TXT", 1, 0), ("new", "CNAME", 0, 1), ("www", "A", 2, 2)];
    assert_eq!(told, expected.map(|(name, code, l, r)| (name.to_owned(), code.to_owned(), l, r)));
    let all = compare(&left, &right, Compared { all: true, ttls: true });
    assert_eq!(all.first().map(|one| one.code), Some(TypeCode::SOA));
    // Under another name it is the same zone.
    let mut moved = Whole::default();
    let mut reader = Reader::new(key("larkfield.test."), 0);
    for line in HEAD.lines().chain(["www A 192.0.2.1", "www A 192.0.2.2", "mail MX 10 www", "gone TXT x"]) {
        reader.line(line.replace("ns2.larkfield.test", "ns2.other.test").as_bytes(), &mut moved);
    }
    let moved = moved.builder.finish(None);
    let apart = compare(
        &zone(&format!(
            "{}www A 192.0.2.1\nwww A 192.0.2.2\nmail MX 10 www\ngone TXT \"x\"\n",
            HEAD.replace("ns2.larkfield.test", "ns2.other.test")
        )),
        &moved,
        Compared::default(),
    );
    assert_eq!(apart, []);
}

/// What is wrong, the code of the slip, and a part of its sentence.
const SLIPS: &[(&str, &str, &str)] = &[
    ("www CNAME host\nwww TXT x\nhost A 192.0.2.9", "cname-beside-others", "and a record of type TXT"),
    ("@ CNAME edge.larkfield.test.", "cname-at-apex", "is the apex of the zone"),
    ("www CNAME a.larkfield.test.\nwww CNAME b.larkfield.test.", "cname-repeated", "more than one CNAME"),
    ("mail.larkfield.test. A 192.0.2.1", "out-of-zone", "does not lie in the zone"),
    ("www A 192.0.2.1\nwww A 192.0.2.1", "record-repeated", "given twice"),
    ("www 60 A 192.0.2.1\nwww 90 A 192.0.2.2", "ttls-differ", "60 and 90"),
    ("www CNAME web", "target-missing", "an alias of web.larkfield.example., which does not exist"),
    ("www CNAME edge.larkfield.test", "target-relative", "edge.larkfield.test. was probably meant"),
    ("www CNAME ns1.larkfield.example", "target-relative", "ns1.larkfield.example. was probably meant"),
    ("www.larkfield.example A 192.0.2.1", "domain-doubled", "the name of the zone twice"),
    ("@ MX 10 mail\nmail CNAME ns1", "target-is-alias", "names mail.larkfield.example., which is an alias"),
    ("@ MX 10 mail", "target-missing", "which has no address"),
    ("@ MX 0 .\n@ MX 10 ns1", "null-mx-beside-others", "takes no mail"),
    ("sub NS ns.sub", "glue-missing", "has no address here: nobody finds it"),
    ("sub NS ns.larkfield.test.\nwww.sub TXT x", "hidden-by-cut", "TXT record of www.sub.larkfield.example. is hidden"),
    ("a CNAME b\nb CNAME a", "alias-loop", "alias of itself"),
    ("*.st A 192.0.2.1\na.b.st A 192.0.2.2", "wildcard-shadowed", "does not answer for b.st.larkfield.example."),
    ("old DNAME new.larkfield.test.\nx.old A 192.0.2.2", "below-dname", "stands below the DNAME record"),
    ("@ SOA ns1 x 1 2 3 4 5", "soa-repeated", "2 SOA records"),
    ("www SOA ns1 x 1 2 3 4 5", "soa-below-apex", "www.larkfield.example. has an SOA record"),
    ("old DNAME a.test.\nold DNAME b.test.", "dname-repeated", "more than one DNAME"),
    (DS_AT_APEX, "ds-at-apex", "is the apex of the zone, and has a DS record"),
    ("*.w NS ns1", "ns-at-wildcard", "*.w.larkfield.example. is a wildcard"),
];

const DS_AT_APEX: &str = "@ DS 1 8 1 0000000000000000000000000000000000000000";

#[test]
fn each_slip_is_told_at_its_record() {
    assert_eq!(slips(&zone(HEAD)), []);
    for (lines, code, says) in SLIPS {
        let found = slips(&zone(&format!("{HEAD}{lines}\n")));
        let told = found.iter().find(|slip| slip.code.as_str() == *code);
        let told = told.unwrap_or_else(|| panic!("{lines}\n{found:#?}"));
        assert!(told.says.contains(says) && !told.help.is_empty(), "{told:#?}");
        assert!(told.place.line > 5, "{told:#?}");
        let others = if *code == "alias-loop" { 2 } else { 1 };
        assert_eq!(found.len(), others, "{lines}\n{found:#?}");
    }
    let bare = slips(&zone("$TTL 60\nwww A 192.0.2.1\n"));
    assert_eq!(bare.iter().map(|slip| slip.code.as_str()).collect::<Vec<_>>(), ["soa-missing", "ns-missing"]);
    let chain: String = (0..10).map(|n| format!("c{n} CNAME c{}\n", n + 1)).collect();
    let long = slips(&zone(&format!("{HEAD}{chain}c10 A 192.0.2.1\n")));
    assert_eq!(long.iter().map(|slip| slip.code.as_str()).collect::<Vec<_>>(), ["alias-chain"; 2]);
    // None of these is a slip.
    let fine = "sub NS ns.sub\nns.sub A 192.0.2.7\n*.st CNAME ns1\n@ MX 0 .\nx CNAME any.st\n_dmarc TXT \"v\"\nhost NS ns1\nwww CNAME deep.sub\n\
                to CNAME inner\nx.inner A 192.0.2.8\ns HTTPS 1 to\n";
    assert_eq!(slips(&zone(&format!("{HEAD}{fine}"))), []);
}

proptest! {
    #[test]
    fn any_octets_are_written_and_read_as_the_same(code in 0_u16..300, octets in prop::collection::vec(any::<u8>(), 0..80)) {
        let code = TypeCode(code);
        let written = presentation(code, &octets);
        let whole = read(&format!("$TTL 60\nx {code} {written}\n"));
        if !code.is_meta() && octets.len() <= 65_535 {
            let fault = super::rdata::fault(code, &octets).filter(|_| !written.starts_with("\\#"));
            if let Some(fault) = fault {
                prop_assert!(whole.mistakes[0].says.contains(&fault), "{code} {written} {:?}", whole.mistakes);
            } else if let [mistake] = &whole.mistakes[..] {
                // Only octets that are no data of the type are refused, and they are written as such.
                prop_assert!(written.starts_with("\\#") && mistake.says.contains("not valid data for"), "{code} {written} {mistake:?}");
            } else {
                let zone = whole.builder.finish(None);
                let entry = zone.entries().next().unwrap();
                let mut expected = Vec::new();
                super::rdata::canonical(code, &octets, &mut expected);
                prop_assert_eq!(presentation(code, entry.data), presentation(code, &expected));
            }
        }
    }
}

/// A few records of few names, so that changes meet.
fn few_records() -> impl Strategy<Value = Vec<(u8, u8, u32)>> {
    prop::collection::vec((0_u8..4, 0_u8..3, 1_u32..3), 0..12)
}

proptest! {
    /// Whatever changes follow one another, the zone is what it would be if it had been read afterwards; a change that
    /// does not fit is refused.
    #[test]
    fn a_zone_that_changes_record_by_record_is_what_it_would_be_read_again(
        before in few_records(),
        changes in prop::collection::vec((any::<bool>(), 0_u8..4, 0_u8..3, 1_u32..3), 0..40),
    ) {
        let owner = |n: u8| NameKey::parse(format!("h{n}.larkfield.example.").as_bytes(), &NameKey::root()).unwrap();
        let zone_of = |records: &BTreeMap<(u8, u8), u32>| {
            let mut builder = ZoneBuilder::default();
            for ((name, data), ttl) in records {
                builder.add(&owner(*name), TypeCode::A, *ttl, &[192, 0, 2, *data], Place::default()).unwrap();
            }
            builder.finish(Some(owner(0)))
        };
        let mut records: BTreeMap<(u8, u8), u32> = before.into_iter().map(|(name, data, ttl)| ((name, data), ttl)).collect();
        let before = zone_of(&records);
        let mut increment = Increment::of(&before);
        for (adds, name, data, ttl) in changes {
            let wire = vec![192, 0, 2, data];
            if adds {
                let fits = !records.contains_key(&(name, data));
                prop_assert_eq!(increment.add(owner(name), TypeCode::A, ttl, wire).is_ok(), fits);
                records.entry((name, data)).or_insert(ttl);
            } else {
                let fits = records.remove(&(name, data)).is_some();
                prop_assert_eq!(increment.delete(owner(name), TypeCode::A, wire).is_ok(), fits);
            }
        }
        let after = increment.into_zone().unwrap();
        prop_assert_eq!(compare(&zone_of(&records), &after, Compared { all: true, ttls: true }), []);
        prop_assert_eq!(after.len(), records.len());
    }
}

//! Whatever stands in a zone file, it is read within bounds, what was read is written and read again as the same, and
//! an edit changes only what it is about.

use jiff::Timestamp;
use pindrel_core::zones::zone_data::{Compared, NameKey, Place, TypeCode, ZoneBuilder, ZoneData, compare, slips};
use pindrel_core::zones::zone_file::{Mistake, Reader, SetEdit, Sink, edit, write_zone};

use crate::texts;

#[derive(Default)]
struct Collected {
    builder: ZoneBuilder,
    mistakes: usize,
}

impl Sink for Collected {
    fn record(&mut self, owner: &NameKey, code: TypeCode, ttl: u32, data: &[u8], place: Place) {
        let _ = self.builder.add(owner, code, ttl, data, place);
    }

    fn mistake(&mut self, _mistake: Mistake) {
        self.mistakes += 1;
    }
}

fn read(text: &[u8], zone: &NameKey) -> (ZoneData, usize) {
    let (mut reader, mut collected) = (Reader::new(zone.clone(), 0), Collected::default());
    for line in text.split_inclusive(|octet| *octet == b'\n') {
        let _ = reader.line(line, &mut collected);
    }
    reader.end(&mut collected);
    (collected.builder.finish(Some(zone.clone())), collected.mistakes)
}

pub(crate) fn run(text: &[u8]) {
    let zone = NameKey::parse(b"larkfield.example.", &NameKey::root()).expect("a name");
    let (data, mistakes) = read(text, &zone);
    let _ = slips(&data);
    // Only one of several SOA records is written; the reader reports the others.
    if data.entries().filter(|entry| entry.code == TypeCode::SOA).count() > 1 {
        return;
    }
    let mut written = String::new();
    write_zone(&data, &mut written).expect("a text takes all");
    let (again, wrong) = read(written.as_bytes(), &zone);
    assert_eq!(wrong, 0, "what is written can be read:\n{written}");
    let all = Compared { all: true, ttls: true };
    assert_eq!(compare(&data, &again, all), [], "and is the same:\n{written}");
    if mistakes > 0 {
        return;
    }
    // An edit that changes nothing leaves every byte; another changes what it says and the serial.
    let now = Timestamp::UNIX_EPOCH;
    assert!(edit(text, &zone, &[], now).is_ok_and(|same| same == text));
    let owner = NameKey::parse(b"_acme-challenge.larkfield.example.", &NameKey::root()).expect("a name");
    let set = SetEdit { owner: owner.clone(), code: TypeCode::TXT, ttl: 60, data: vec![b"\x05token".to_vec()] };
    let Ok(edited) = edit(text, &zone, &[set], now) else { return };
    let (edited, wrong) = read(&edited, &zone);
    assert_eq!(wrong, 0);
    let others = compare(&data, &edited, Compared::default()).into_iter();
    assert!(others.into_iter().all(|one| one.name == owner && one.code == TypeCode::TXT), "nothing else is another");
}

pub(crate) fn seeds() -> Vec<Vec<u8>> {
    texts(&[
        "$TTL 1h\n@ IN SOA ns1 hostmaster (\n 7 1h\n 10m 4w 5m ) ; serial\n@ NS ns1\nns1 A 192.0.2.53\nwww CNAME @\n",
        "$ORIGIN larkfield.example.\n@ 60 IN SOA ns1 hostmaster 1 1 1 1 1\n_acme-challenge TXT \"a \\\"b\\\" \\065\" c\n\
         @ MX 10 mail\n_sip._tcp SRV 1 2 3 host\n@ CAA 0 issue \"a.example\"\n@ HTTPS 1 . alpn=h2 ipv4hint=192.0.2.1\n",
        "a TYPE65280 \\# 3 010203\n@ LOC 47 5 31.3 N 8 30 52.9 E 500m\n* AAAA 2001:db8::1\n$INCLUDE other x\n$GENERATE 1-2 a$ A 1.2.3.4\n",
    ])
}

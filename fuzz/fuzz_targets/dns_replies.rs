//! Whatever a name server or a resolver answers, and whatever comes in a transfer, it is read within bounds and nothing
//! of it lies outside the zone.

#![no_main]

use libfuzzer_sys::fuzz_target;
use pindrel_core::zone_data::{NameKey, Place, TypeCode, ZoneBuilder};

fuzz_target!(|octets: &[u8]| {
    let (zone, owner) = ("larkfield.example", "api.larkfield.example");
    let (zone, owner) = (zone.parse().expect("a name"), owner.parse().expect("a name"));
    let (apex, mut before) = (NameKey::from(&zone), ZoneBuilder::default());
    let mut soa = b"\x03ns1\x00\x0ahostmaster\x00".to_vec();
    soa.extend([7_u32, 60, 5, 86_400, 5].iter().flat_map(|number| number.to_be_bytes()));
    let address = [192, 0, 2, 7];
    for (name, code, data) in [(&apex, TypeCode::SOA, &soa[..]), (&NameKey::from(&owner), TypeCode::A, &address)] {
        before.add(name, code, 60, data, Place::default()).expect("room for it");
    }
    pindrel_dns::fuzzing::dns_replies(&zone, &owner, &before.finish(Some(apex)), octets);
});

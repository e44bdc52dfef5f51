//! What peers say: name servers, their programs and their API, platforms, balancers.

use pindrel_core::endpoints::endpoint::{Binding, EndpointInfo};
use pindrel_core::zones::zone_data::{NameKey, Place, TypeCode, ZoneBuilder, ZoneData};
use pindrel_edge::{StoredCertificate, TokenScope};
use serde_json::json;

use crate::texts;

/// The SOA record of a zone, and an address in it.
fn known_zone() -> ZoneData {
    let apex = NameKey::parse(b"larkfield.example.", &NameKey::root()).unwrap();
    let owner = NameKey::parse(b"api.larkfield.example.", &NameKey::root()).unwrap();
    let mut soa = b"\x03ns1\x00\x0ahostmaster\x00".to_vec();
    soa.extend([7_u32, 60, 5, 86_400, 5].iter().flat_map(|number| number.to_be_bytes()));
    let mut zone = ZoneBuilder::default();
    for (name, code, data) in [(&apex, TypeCode::SOA, &soa[..]), (&owner, TypeCode::A, &[192, 0, 2, 7])] {
        zone.add(name, code, 60, data, Place::default()).unwrap();
    }
    zone.finish(Some(apex))
}

/// Whatever a name server or a resolver answers, and whatever comes in a transfer, it is read within bounds and nothing
/// of it lies outside the zone.
pub(crate) fn dns_replies(octets: &[u8]) {
    let (zone, owner) = ("larkfield.example".parse().unwrap(), "api.larkfield.example".parse().unwrap());
    pindrel_dns::hostile::dns_replies(&zone, &owner, &known_zone(), octets);
}

pub(crate) fn seeds_of_dns() -> Vec<Vec<u8>> {
    const NAME: &[u8] = b"\x09larkfield\x07example\x00";
    let soa = |serial: u8| [&b"\x03ns1\xc0\x0c\x0ahostmaster\xc0\x0c"[..], &[0, 0, 0, serial], &[0; 16]].concat();
    let record = |kind: u8, data: &[u8]| {
        [&[0xc0, 12, 0, kind, 0, 1, 0, 0, 0, 60, 0, u8::try_from(data.len()).unwrap()][..], data].concat()
    };
    let message = |kind: u8, records: &[Vec<u8>]| {
        let count = u8::try_from(records.len()).unwrap();
        let head = [0, 7, 0x84, 0, 0, 1, 0, count, 0, 0, 0, 0];
        let whole = [&head[..], NAME, &[0, kind, 0, 1], &records.concat()].concat();
        [&u16::try_from(whole.len()).unwrap().to_be_bytes()[..], &whole].concat()
    };
    let address = record(1, &[192, 0, 2, 7]);
    let alias = record(5, b"\x03www\xc0\x0c");
    vec![
        message(1, &[address.clone(), record(16, b"\x03abc")]),
        message(252, &[record(6, &soa(8)), address.clone(), alias.clone(), record(6, &soa(8))]),
        message(
            251,
            &[record(6, &soa(8)), record(6, &soa(7)), address.clone(), record(6, &soa(8)), alias, record(6, &soa(8))],
        ),
        message(1, &[record(39, b"\x04else\x00"), record(65, b"\x00\x01\x00"), record(64, b"\x00\x01\x00")]),
    ]
}

/// Whatever a program replies that speaks for a name server or a platform, it is read, or refused with a reason.
pub(crate) fn programs(output: &[u8]) {
    pindrel_dns::hostile::program_replies(&"larkfield.example".parse().unwrap(), output);
    let _ = serde_json::from_slice::<Vec<StoredCertificate>>(output);
    let _ = serde_json::from_slice::<TokenScope>(output).map(|scope| scope.beyond_need());
    let _ = serde_json::from_slice::<Vec<EndpointInfo>>(output);
    let _ = serde_json::from_slice::<Binding>(output);
}

pub(crate) fn seeds_of_programs() -> Vec<Vec<u8>> {
    let record = json!({ "name": "api.larkfield.example.", "type": "A", "ttl": 60, "data": "192.0.2.7" });
    let all = [
        json!({ "records": [record] }),
        json!({ "done": true }),
        json!({ "conditional": true, "least_ttl": 60, "seconds": 9 }),
        json!({ "error": { "is": "refused", "says": "no", "remedy": "ask" } }),
    ];
    all.iter().map(|one| one.to_string().into_bytes()).collect()
}

/// Whatever a name server's API returns for a zone, nothing of it lies outside the zone.
pub(crate) fn name_server_api(reply: &[u8]) {
    pindrel_dns::hostile::api_reply(&"larkfield.example".parse().unwrap(), reply);
}

pub(crate) fn seeds_of_api() -> Vec<Vec<u8>> {
    let set = |name: &str, kind: &str, content: &str| json!({ "name": name, "type": kind, "ttl": 60, "records": [{ "content": content, "disabled": false }], "comments": [] });
    let sets = [set("larkfield.example.", "TXT", "\"a b\""), set("www.larkfield.example.", "ALIAS", "x.test.")];
    let zones = [
        json!({ "name": "larkfield.example.", "rrsets": sets }),
        json!({ "rrsets": [set("other.example.", "A", "192.0.2.1")] }),
    ];
    zones.iter().map(|one| one.to_string().into_bytes()).collect()
}

pub(crate) fn seeds_of_platform() -> Vec<Vec<u8>> {
    let endpoint = json!({ "id": "catalogue", "kind": "gateway", "site": "north", "certificate_site": "north",
        "default_name": "gw-1.edge.example", "addresses": ["192.0.2.1"], "port": 443 });
    let binding = json!({ "hostname": "api.larkfield.example", "certificate": "ab".repeat(32), "routes": [],
        "minimum_tls": "1.2", "status": "deployed", "state": "deployed", "records": [] });
    let all = [
        json!({ "endpoints": [endpoint] }),
        json!({ "bindings": [binding.clone()] }),
        binding,
        json!({ "certificates": [{ "sha256": "ab".repeat(32), "names": ["a.example"], "used_by": 1 }] }),
        json!({ "title": "no", "detail": "MIGHAgEAMBMGByqGSM49AgEGCCqGSM49 the-token-of-the-platform" }),
    ];
    all.iter().map(|one| one.to_string().into_bytes()).collect()
}

pub(crate) fn seeds_of_balancer() -> Vec<Vec<u8>> {
    texts(&[
        "# /etc/list.txt\n/etc/a.pem:2 [ssl-min-ver TLSv1.2] a.example !b.a.example\n/etc/b.pem:3\n",
        "# pxname,svname,status,last_chk,\nweb,FRONTEND,OPEN,,\nweb,one,UP,L7OK,\n",
        "Serial: 0AB\nTransaction created for certificate x!\nSuccess!\n",
        "set ssl cert x <<\nMIGHAgEAMBMGByqGSM49AgEGCCqGSM49\n",
    ])
}

//! What a hostile peer may send, given straight to what reads it.

use hickory_proto::op::Message;
use hickory_proto::rr::RecordType as WireType;
use pindrel_core::names::name::DnsName;
use pindrel_core::zones::records::{RecordSet, RecordType};
use pindrel_core::zones::zone_data::{NameKey, ZoneBuilder, ZoneData};

use crate::came_back::answers;
use crate::lookup::{self, negative_secs, reason, sets};
use crate::powerdns::read_reply;
use crate::transfer::take_any;
use crate::wire::core_name;

pub use crate::program::read_any as program_replies;

/// Reads some octets as answers to questions about a name, and as the messages of a transfer of its zone; a message
/// ends where its length says.
pub fn dns_replies(zone: &DnsName, owner: &DnsName, before: &ZoneData, octets: &[u8]) {
    let (mut rest, mut messages) = (octets, Vec::new());
    while let Some((length, after)) = rest.split_first_chunk::<2>() {
        let (message, after) = after.split_at(after.len().min(usize::from(u16::from_be_bytes(*length))));
        messages.extend(Message::from_vec(message));
        rest = after;
    }
    for message in &messages {
        let _ = (reason(message), negative_secs(message), answers(message, message));
        let _ = lookup::name_servers(&message.answers, zone);
        for record_type in RecordType::BESIDE_ALIAS.into_iter().chain([RecordType::Cname]) {
            let found = sets(message, owner, record_type);
            // What came in can go out, and is the same.
            for data in found.iter().flat_map(RecordSet::data) {
                let (wire, _) = (data.to_wire(), data.to_string());
                let again =
                    wire.and_then(|wire| pindrel_core::zones::records::RecordData::from_wire(record_type, &wire));
                assert!(again.is_none_or(|again| again == *data || record_type == RecordType::Txt));
            }
        }
        lookup::follow_any(message, owner);
        for record in message.all_sections().filter(|record| record.record_type() != WireType::OPT) {
            let _ = core_name(&record.name);
        }
    }
    take_any(zone, before, &messages);
}

/// Reads some octets as what the API of a name server returns for a zone, whole and for one name.
pub fn api_reply(zone: &DnsName, reply: &[u8]) {
    for of in [None, Some(zone)] {
        let mut builder = ZoneBuilder::default();
        let _ = read_reply(reply, zone, of, &mut builder);
        let data = builder.finish(Some(NameKey::from(zone)));
        assert!(data.entries().all(|entry| entry.owner().is_within(data.apex())));
    }
}

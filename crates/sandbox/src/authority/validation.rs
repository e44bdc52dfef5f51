//! Validating dns-01 by asking every server that the public could ask.

use std::net::SocketAddr;

use hickory_proto::op::{Edns, Message, OpCode, Query, ResponseCode};
use hickory_proto::rr::{RData, RecordType};

use super::{Refusal, refuse};
use crate::dns::zone::name;

/// Looks for the expected text at `_acme-challenge` under a name, on every server.
pub(super) async fn dns01(servers: &[SocketAddr], hostname: &str, expected: &str) -> Result<(), Refusal> {
    let owner = format!("_acme-challenge.{hostname}");
    for server in servers {
        let mut question = Message::query();
        question.metadata.op_code = OpCode::Query;
        let mut edns = Edns::new();
        edns.set_max_payload(4096).set_version(0);
        question.set_edns(edns);
        question.add_query(Query::query(name(&owner), RecordType::TXT));
        let Some(answer) = crate::dns::server_answer(*server, &question).await else {
            return refuse(400, "dns", format!("{server} does not answer for {owner}"));
        };
        let code = answer.metadata.response_code;
        if !matches!(code, ResponseCode::NoError | ResponseCode::NXDomain) {
            return refuse(400, "dns", format!("{server} answers {code} for {owner}"));
        }
        let texts: Vec<String> = answer
            .answers
            .iter()
            .filter_map(|record| match &record.data {
                RData::TXT(text) => Some(String::from_utf8_lossy(&text.txt_data.concat()).into_owned()),
                _ => None,
            })
            .collect();
        if texts.is_empty() {
            return refuse(403, "unauthorized", format!("{server} has no TXT record at {owner}"));
        }
        if !texts.iter().any(|text| text == expected) {
            return refuse(
                403,
                "incorrectResponse",
                format!("no TXT record at {owner} on {server} is the expected one"),
            );
        }
    }
    Ok(())
}

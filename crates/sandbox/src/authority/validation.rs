//! Validating dns-01 by asking every server that the public could ask, and looking CAA
//! records up (RFC 8659, RFC 8657).

use std::net::SocketAddr;

use hickory_proto::op::{Message, ResponseCode};
use hickory_proto::rr::{Name, RData, RecordType};

use super::{Refusal, refuse};
use crate::dns::zone::name;

/// The most aliases that are followed.
const MOST_ALIASES: usize = 8;
/// The most referrals that are followed.
const MOST_REFERRALS: usize = 4;

/// Asks a server, and whichever server it refers to.
async fn ask(server: SocketAddr, owner: &Name, record_type: RecordType) -> Result<Message, Refusal> {
    let mut asked = server;
    for _ in 0..MOST_REFERRALS {
        let Some(answer) = crate::dns::server_answer(asked, &crate::dns::question(owner, record_type)).await else {
            return refuse(400, "dns", format!("{asked} does not answer for {owner}"));
        };
        let code = answer.metadata.response_code;
        if !matches!(code, ResponseCode::NoError | ResponseCode::NXDomain) {
            return refuse(400, "dns", format!("{asked} answers {code} for {owner}"));
        }
        let glue = answer.additionals.iter().find_map(|record| match &record.data {
            RData::A(address) => Some(SocketAddr::new(address.0.into(), asked.port())),
            _ => None,
        });
        match glue.filter(|_| !answer.metadata.authoritative && answer.answers.is_empty()) {
            Some(next) => asked = next,
            None => return Ok(answer),
        }
    }
    refuse(400, "dns", format!("{server} refers to others for {owner} again and again"))
}

/// Looks for the expected text at `_acme-challenge` under a name, on every server.
pub(super) async fn dns01(servers: &[SocketAddr], hostname: &str, expected: &str) -> Result<(), Refusal> {
    let start = format!("_acme-challenge.{hostname}");
    for server in servers {
        let texts = texts(*server, &start).await?;
        if texts.is_empty() {
            return refuse(403, "unauthorized", format!("{server} has no TXT record at {start}"));
        }
        if !texts.iter().any(|text| text == expected) {
            return refuse(
                403,
                "incorrectResponse",
                format!("no TXT record at {start} on {server} is the expected one"),
            );
        }
    }
    Ok(())
}

/// The TXT records of a name at the end of its aliases; the sandbox's servers serve all
/// of its zones.
async fn texts(server: SocketAddr, start: &str) -> Result<Vec<String>, Refusal> {
    let mut owner = name(start);
    for _ in 0..MOST_ALIASES {
        let answer = ask(server, &owner, RecordType::TXT).await?;
        let texts: Vec<String> = answer
            .answers
            .iter()
            .filter_map(|record| match &record.data {
                RData::TXT(text) => Some(String::from_utf8_lossy(&text.txt_data.concat()).into_owned()),
                _ => None,
            })
            .collect();
        let next = answer.answers.iter().rev().find_map(|record| match &record.data {
            RData::CNAME(target) => Some(target.0.to_lowercase()),
            _ => None,
        });
        match next {
            Some(next) if texts.is_empty() => owner = next,
            _ => return Ok(texts),
        }
    }
    refuse(400, "dns", format!("too many aliases lead on from {start}"))
}

/// Refuses where the CAA records nearest above a name do not allow this authority.
pub(super) async fn caa(
    server: SocketAddr,
    identity: &str,
    hostname: &str,
    wildcard: bool,
    account: &str,
) -> Result<(), Refusal> {
    let mut owner = name(hostname);
    while !owner.is_root() {
        // Above the zone the server refuses, and nobody has records there.
        let Ok(answer) = ask(server, &owner, RecordType::CAA).await else { return Ok(()) };
        let records: Vec<(String, String)> = answer
            .answers
            .iter()
            .filter_map(|record| match &record.data {
                RData::CAA(caa) => {
                    Some((caa.tag.to_ascii_lowercase(), String::from_utf8_lossy(&caa.value).into_owned()))
                }
                _ => None,
            })
            .collect();
        if !records.is_empty() {
            let tag = if wildcard && records.iter().any(|(tag, _)| tag == "issuewild") { "issuewild" } else { "issue" };
            let mut own = records.iter().filter(|(own, _)| own == tag).map(|(_, value)| value.as_str()).peekable();
            if own.peek().is_none() || own.any(|value| allows(value, identity, account)) {
                return Ok(());
            }
            return refuse(403, "caa", format!("the CAA records of {owner} forbid {identity} to issue for {hostname}"));
        }
        owner = owner.base_name();
    }
    Ok(())
}

fn allows(value: &str, identity: &str, account: &str) -> bool {
    let mut parts = value.split(';').map(str::trim);
    if !parts.next().is_some_and(|domain| domain.eq_ignore_ascii_case(identity)) {
        return false;
    }
    parts.filter_map(|part| part.split_once('=')).all(|(key, value)| match key.trim() {
        "accounturi" => value.trim() == account,
        "validationmethods" => value.split(',').any(|method| method.trim() == "dns-01"),
        _ => true,
    })
}

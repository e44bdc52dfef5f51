//! Whatever an authority answers, the order flow neither panics nor asks for ever.

use jiff::Timestamp;
use pindrel_core::certificates::acme::account::Account;
use pindrel_core::certificates::acme::objects::{Directory, OrderList};
use pindrel_core::certificates::acme::order::{OrderFlow, Reply, Terms, Want};
use pindrel_core::certificates::acme::problem::Problem;
use pindrel_core::certificates::acme::renewal_info;
use serde_json::json;

/// More turns than any order of two names takes, its waiting included.
const MOST_TURNS: usize = 2_000;

pub(crate) fn run(data: &[u8]) {
    let _ = serde_json::from_slice::<Directory>(data);
    let _ = serde_json::from_slice::<Account>(data);
    let _ = serde_json::from_slice::<OrderList>(data);
    let _ = renewal_info::read(data, Timestamp::UNIX_EPOCH);
    let problem = Problem::read(400, data);
    let _ = (problem.to_string(), problem.remedy());

    let names = vec!["a.larkfield.example".parse().expect("a name"), "*.a.larkfield.example".parse().expect("a name")];
    let mut flow = OrderFlow::new(names, Terms::default(), "print".into());
    // Each part of the input answers one request.
    let mut answers = data.split(|byte| *byte == 0);
    let mut now = Timestamp::UNIX_EPOCH;
    for _ in 0..MOST_TURNS {
        match flow.want() {
            Want::Send(calls) => {
                assert!(!calls.is_empty(), "the flow asks for nothing and waits for nothing");
                for call in calls {
                    let Some(body) = answers.next() else { return };
                    let reply = match body.first() {
                        Some(b'!') => Err(Problem::read(400, &body[1..])),
                        _ => Ok(Reply {
                            location: Some("https://a.example/order/1".into()),
                            body: body.to_vec(),
                            ..Reply::default()
                        }),
                    };
                    if flow.replied(call.purpose, reply, now).is_err() {
                        return;
                    }
                }
            }
            Want::Publish(_) => flow.published(),
            Want::SigningRequest => flow.signing_request(b"request"),
            Want::Wait { until, .. } => {
                now = until;
                flow.waited();
            }
            Want::Done(_) => return,
        }
    }
    panic!("the flow does not end");
}

pub(crate) fn seeds() -> Vec<Vec<u8>> {
    let url = |path: &str| format!("https://a.example/{path}");
    let directory = json!({ "newNonce": url("n"), "newAccount": url("a"), "newOrder": url("o"), "revokeCert": url("r"),
        "keyChange": url("k"), "renewalInfo": url("i"), "meta": { "termsOfService": url("t"), "caaIdentities": ["a.example"] } });
    let order = json!({ "status": "pending", "expires": "2027-01-01T00:00:00Z", "identifiers": [
            { "type": "dns", "value": "a.larkfield.example" }, { "type": "dns", "value": "*.a.larkfield.example" }],
        "authorizations": [url("authz/1"), url("authz/2")], "finalize": url("finalize") });
    let authorization = |wildcard: bool| {
        json!({ "status": "pending", "identifier": { "type": "dns", "value": "a.larkfield.example" },
        "wildcard": wildcard, "challenges": [{ "type": "dns-01", "url": url("c"), "status": "pending", "token": "dG9rZW4" }] })
    };
    let problem = json!({ "type": "urn:ietf:params:acme:error:rateLimited", "detail": "too many", "subproblems": [] });
    let info = json!({ "suggestedWindow": { "start": "2027-01-01T00:00:00Z", "end": "2027-01-02T00:00:00Z" } });
    let all = [order, authorization(false), authorization(true), problem, info, directory];
    let mut seeds: Vec<Vec<u8>> = all.iter().map(|one| one.to_string().into_bytes()).collect();
    seeds.push(seeds[..3].join(&0));
    seeds
}

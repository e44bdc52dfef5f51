//! Whatever an authority answers, the order flow neither panics nor asks for ever.

#![no_main]

use jiff::Timestamp;
use libfuzzer_sys::fuzz_target;
use pindrel_core::acme::account::Account;
use pindrel_core::acme::objects::{Directory, OrderList};
use pindrel_core::acme::order::{OrderFlow, Reply, Terms, Want};
use pindrel_core::acme::problem::Problem;
use pindrel_core::acme::renewal_info;

/// More turns than any order of two names takes, its waiting included.
const MOST_TURNS: usize = 2_000;

fuzz_target!(|data: &[u8]| {
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
});

use jiff::SignedDuration;
use proptest::prelude::*;

use super::*;

fn names(texts: &[&str]) -> Vec<Hostname> {
    texts.iter().map(|text| text.parse().unwrap()).collect()
}

fn at(millis: i64) -> Timestamp {
    Timestamp::from_millisecond(1_700_000_000_000 + millis).unwrap()
}

fn order(status: &str, authorizations: usize) -> Result<Reply, Problem> {
    let urls: Vec<String> = (0..authorizations).map(|n| format!("https://a.example/authz/{n}")).collect();
    let mut body = json!({
        "status": status, "identifiers": [], "authorizations": urls, "finalize": "https://a.example/finalize",
    });
    if status == "valid" {
        body["certificate"] = "https://a.example/cert".into();
    }
    reply(&body)
}

fn reply(body: &Value) -> Result<Reply, Problem> {
    Ok(Reply {
        location: Some("https://a.example/order/1".into()),
        body: body.to_string().into_bytes(),
        ..Reply::default()
    })
}

fn authorization(name: &str, wildcard: bool, status: &str, challenge: &str) -> Result<Reply, Problem> {
    reply(&json!({
        "identifier": { "type": "dns", "value": name }, "status": status, "wildcard": wildcard,
        "challenges": [
            { "type": "http-01", "url": "https://a.example/other", "status": "pending", "token": "t" },
            { "type": "dns-01", "url": format!("https://a.example/chall/{wildcard}"), "status": challenge,
              "token": format!("token-{wildcard}"),
              "error": { "type": "urn:ietf:params:acme:error:dns", "detail": "no such record" } },
        ],
    }))
}

fn chain() -> Result<Reply, Problem> {
    Ok(Reply { body: b"-----BEGIN CERTIFICATE-----\n".to_vec(), ..Reply::default() })
}

/// The purposes of what the flow wants sent.
fn sends(flow: &OrderFlow) -> Vec<Purpose> {
    match flow.want() {
        Want::Send(calls) => calls.into_iter().map(|call| call.purpose).collect(),
        other => panic!("wants {other:?}"),
    }
}

#[test]
fn a_base_name_and_its_wildcard_take_nine_requests_and_two_values_at_one_name() {
    let mut flow = OrderFlow::new(
        names(&["stations.larkfield.example", "*.stations.larkfield.example"]),
        Terms::default(),
        "print".into(),
    );
    let mut requests = 0;
    let mut send = |flow: &mut OrderFlow, replies: Vec<(Purpose, Result<Reply, Problem>)>| {
        assert_eq!(sends(flow), replies.iter().map(|(purpose, _)| *purpose).collect::<Vec<_>>());
        for (purpose, reply) in replies {
            requests += 1;
            flow.replied(purpose, reply, at(0)).unwrap();
        }
    };
    send(&mut flow, vec![(Purpose::NewOrder, order("pending", 2))]);
    assert_eq!(flow.url(), Some("https://a.example/order/1"));
    let first = authorization("stations.larkfield.example", false, "pending", "pending");
    let second = authorization("stations.larkfield.example", true, "pending", "pending");
    send(&mut flow, vec![(Purpose::Authorization(0), first), (Purpose::Authorization(1), second)]);
    let Want::Publish(records) = flow.want() else { panic!("publish comes next") };
    assert_eq!(records.len(), 2);
    assert!(records.iter().all(|record| record.name.as_str() == "_acme-challenge.stations.larkfield.example"));
    assert_ne!(records[0].text, records[1].text);
    flow.published();
    send(&mut flow, vec![(Purpose::Challenge(0), reply(&json!({}))), (Purpose::Challenge(1), reply(&json!({})))]);
    assert!(matches!(flow.want(), Want::Wait { until, .. } if until == at(FIRST_WAIT_MS)));
    flow.waited();
    send(&mut flow, vec![(Purpose::Order { waiting: false }, order("ready", 2))]);
    assert_eq!(flow.want(), Want::SigningRequest);
    flow.signing_request(b"request");
    send(&mut flow, vec![(Purpose::Finalize, order("processing", 2))]);
    flow.waited();
    send(&mut flow, vec![(Purpose::Order { waiting: false }, order("valid", 2))]);
    send(&mut flow, vec![(Purpose::Certificate, chain())]);
    assert!(matches!(flow.want(), Want::Done(_)));
    assert_eq!(requests, 9, "5 and 2 for each pending authorization");
}

/// The states of an order and, where it is read, of its authorization and challenge.
type Found = (&'static str, Option<(&'static str, &'static str)>);

/// What the flow asks for first after a kill, by what the order and its one
/// authorization and challenge turn out to be: nothing finished is posted again.
#[test]
fn after_a_kill_it_reads_before_it_posts() {
    let table: &[(Found, &str)] = &[
        (("pending", Some(("pending", "pending"))), "publish"),
        (("pending", Some(("pending", "processing"))), "look"),
        (("pending", Some(("valid", "valid"))), "look"),
        (("ready", None), "signing request"),
        (("processing", None), "wait"),
        (("valid", None), "certificate"),
    ];
    for ((order_status, challenge), expected) in table {
        let made = OrderFlow::new(names(&["api.larkfield.example"]), Terms::default(), "print".into());
        let mut flow = made.resume("https://a.example/order/1".into());
        assert_eq!(sends(&flow), [Purpose::Order { waiting: false }]);
        flow.replied(Purpose::Order { waiting: false }, order(order_status, 1), at(0)).unwrap();
        if let Some((authorization_status, challenge_status)) = challenge {
            assert_eq!(sends(&flow), [Purpose::Authorization(0)]);
            let reply = authorization("api.larkfield.example", false, authorization_status, challenge_status);
            flow.replied(Purpose::Authorization(0), reply, at(0)).unwrap();
        }
        let next = match flow.want() {
            Want::Publish(_) => "publish",
            Want::SigningRequest => "signing request",
            Want::Wait { .. } => "wait",
            Want::Send(calls) if calls[0].purpose == Purpose::Certificate => "certificate",
            Want::Send(calls) if matches!(calls[0].purpose, Purpose::Order { .. }) => "look",
            other => panic!("{other:?}"),
        };
        assert_eq!(next, *expected, "{order_status} {challenge:?}");
    }
}

fn waiting_flow() -> OrderFlow {
    let mut flow = OrderFlow::new(names(&["api.larkfield.example"]), Terms::default(), "print".into());
    flow.replied(Purpose::NewOrder, order("pending", 1), at(0)).unwrap();
    let pending = authorization("api.larkfield.example", false, "pending", "pending");
    flow.replied(Purpose::Authorization(0), pending, at(0)).unwrap();
    flow.published();
    flow.replied(Purpose::Challenge(0), reply(&json!({})), at(0)).unwrap();
    flow
}

#[test]
fn waits_grow_honour_retry_after_and_end() {
    let mut flow = waiting_flow();
    let mut now = at(0);
    let mut waits = Vec::new();
    let ended = loop {
        if let Want::Wait { until, .. } = flow.want() {
            waits.push(until.as_millisecond() - now.as_millisecond());
            now = until;
            flow.waited();
        }
        let purpose = sends(&flow)[0];
        let told = match purpose {
            Purpose::Authorization(_) => authorization("api.larkfield.example", false, "pending", "processing"),
            _ => order("pending", 1),
        };
        if let Err(error) = flow.replied(purpose, told, now) {
            break error;
        }
    };
    assert_eq!(ended, OrderError::TooSlow("the authority to validate"));
    assert!(ended.is_transient());
    assert_eq!(&waits[..3], [100, 200, 400]);
    assert!(waits.iter().all(|wait| *wait <= LONGEST_WAIT_MS));
    assert!(waits.iter().sum::<i64>() <= (PATIENCE_SECS * 1000) + LONGEST_WAIT_MS);

    for (retry_ms, expected_ms) in [(3_000, 3_000), (-5_000, 200), (86_400_000, LONGEST_RETRY_AFTER_SECS * 1000)] {
        let mut flow = waiting_flow();
        flow.waited();
        let told = Reply { retry_at: Some(at(retry_ms)), ..order("pending", 1).unwrap() };
        flow.replied(Purpose::Order { waiting: false }, Ok(told), at(0)).unwrap();
        let expected = at(0) + SignedDuration::from_millis(expected_ms);
        assert!(matches!(flow.want(), Want::Wait { until, .. } if until == expected), "{retry_ms}");
        flow.waited();
        assert_eq!(sends(&flow), [Purpose::Order { waiting: true }], "the second look only waits");
    }
}

#[test]
fn an_invalid_order_is_explained_by_the_name_that_failed() {
    let mut flow = waiting_flow();
    flow.waited();
    flow.replied(Purpose::Order { waiting: false }, order("invalid", 1), at(0)).unwrap();
    assert_eq!(sends(&flow), [Purpose::Authorization(0)]);
    let failed = authorization("api.larkfield.example", false, "invalid", "invalid");
    let error = flow.replied(Purpose::Authorization(0), failed, at(0)).unwrap_err();
    assert_eq!(error.to_string(), "the authority could not validate api.larkfield.example (dns: no such record)");
    assert!(error.remedy().contains("public name server"));
}

/// Some authorities leave an order pending although a name has failed.
#[test]
fn a_failure_that_the_order_keeps_to_itself_is_found_where_it_is_told() {
    let told = "the authority could not validate api.larkfield.example (dns: no such record)";
    let mut flow = OrderFlow::new(names(&["api.larkfield.example"]), Terms::default(), "print".into());
    flow.replied(Purpose::NewOrder, order("pending", 1), at(0)).unwrap();
    let pending = authorization("api.larkfield.example", false, "pending", "pending");
    flow.replied(Purpose::Authorization(0), pending, at(0)).unwrap();
    flow.published();
    let challenge =
        reply(&json!({ "type": "dns-01", "url": "https://a.example/chall", "status": "invalid", "token": "t",
        "error": { "type": "urn:ietf:params:acme:error:dns", "detail": "no such record" } }));
    let error = flow.replied(Purpose::Challenge(0), challenge, at(0)).unwrap_err();
    assert_eq!(error.to_string(), told, "by the reply to the challenge");
    assert!(flow.has_responded() && flow.open_authorizations().is_empty(), "nothing is left to give up");

    let mut flow = waiting_flow();
    let mut looks = 0;
    let error = loop {
        flow.waited();
        match sends(&flow)[0] {
            Purpose::Authorization(0) => {
                let failed = authorization("api.larkfield.example", false, "invalid", "invalid");
                break flow.replied(Purpose::Authorization(0), failed, at(0)).unwrap_err();
            }
            purpose => flow.replied(purpose, order("pending", 1), at(0)).unwrap(),
        }
        looks += 1;
    };
    assert_eq!((error.to_string().as_str(), looks), (told, LOOKS_AT_ORDER), "by its authorization");
}

/// Each fault of the authority, and the error that tells it.
#[test]
fn a_faulty_authority_is_told() {
    let problem =
        Problem { kind: "urn:ietf:params:acme:error:rateLimited".into(), status: Some(429), ..Problem::default() };
    let none =
        reply(&json!({ "identifier": { "type": "dns", "value": "api.larkfield.example" }, "status": "pending" }));
    let foreign = authorization("other.larkfield.example", false, "pending", "pending");
    let mut torn = order("pending", 1).unwrap();
    torn.body.truncate(20);
    let unplaced = Reply { location: None, ..order("pending", 1).unwrap() };
    let table: Vec<(Purpose, Result<Reply, Problem>, &str)> = vec![
        (Purpose::NewOrder, Err(problem), "refused a new order: rateLimited"),
        (Purpose::NewOrder, Ok(torn), "a new order cannot be read"),
        (Purpose::NewOrder, Ok(unplaced), "it has no Location header"),
        (Purpose::NewOrder, order("pending", 0), "pending and has no authorizations"),
        (Purpose::NewOrder, order("pending", MOST_AUTHORIZATIONS + 1), "it has 201 authorizations"),
        (Purpose::Authorization(0), none, "no dns-01 challenge for api.larkfield.example"),
        (Purpose::Authorization(0), foreign, "other.larkfield.example was not ordered"),
        (
            Purpose::Authorization(0),
            authorization("api.larkfield.example", false, "expired", "pending"),
            "could not validate",
        ),
    ];
    for (purpose, reply, says) in table {
        let mut flow = OrderFlow::new(names(&["api.larkfield.example"]), Terms::default(), "print".into());
        if purpose != Purpose::NewOrder {
            flow.replied(Purpose::NewOrder, order("pending", 1), at(0)).unwrap();
        }
        let error = flow.replied(purpose, reply, at(0)).unwrap_err().to_string();
        assert!(error.contains(says), "{says}: {error}");
    }
}

/// Every error type that an authority may name (RFC 8555 §6.7, RFC 9773 §7.4), and a word
/// of the remedy that is its own.
const TYPES: &[(&str, &str)] = &[
    ("accountDoesNotExist", "account register"),
    ("alreadyReplaced", "without naming"),
    ("alreadyRevoked", "already revoked"),
    ("badCSR", "kind of key"),
    ("badNonce", "its own nonces"),
    ("badPublicKey", "account_key"),
    ("badRevocationReason", "another reason"),
    ("badSignatureAlgorithm", "account_key"),
    ("caa", "CAA records"),
    ("connection", "name server"),
    ("dns", "name server"),
    ("externalAccountRequired", "external_account_key"),
    ("incorrectResponse", "name servers"),
    ("invalidContact", "contact"),
    ("invalidProfile", "profile"),
    ("orderNotReady", "the same order"),
    ("rateLimited", "limit is over"),
    ("rejectedIdentifier", "another authority"),
    ("serverInternal", "authority's side"),
    ("tls", "authority's side"),
    ("unauthorized", "name servers"),
    ("unsupportedContact", "contact"),
    ("unsupportedIdentifier", "names of this kind"),
    ("userActionRequired", "--agree"),
];

#[test]
fn every_error_type_is_told_with_what_was_said_and_a_remedy_of_its_own() {
    for (kind, remedy) in TYPES {
        let body = json!({
            "type": format!("urn:ietf:params:acme:error:{kind}"),
            "detail": "what the authority says.",
            "subproblems": [{ "type": "urn:ietf:params:acme:error:dns", "detail": "no answer",
                              "identifier": { "type": "dns", "value": "plates.larkfield.example" } }],
        });
        let problem = Problem::read(403, body.to_string().as_bytes());
        let mut flow = OrderFlow::new(names(&["api.larkfield.example"]), Terms::default(), "print".into());
        let error = flow.replied(Purpose::NewOrder, Err(problem), at(0)).unwrap_err();
        let says = error.to_string();
        assert!(says.contains(kind) && says.contains("what the authority says"), "{says}");
        assert!(says.contains("plates.larkfield.example: no answer"), "{says}");
        assert!(error.remedy().contains(remedy), "{kind}: {}", error.remedy());
    }
}

#[test]
fn only_what_passes_by_itself_leaves_an_order_to_go_on_with() {
    for (status, passing) in [(429, true), (500, true), (503, true), (400, false), (403, false), (499, false)] {
        let problem = Problem { status: Some(status), ..Problem::default() };
        assert_eq!(OrderError::Refused { what: "the order", problem }.is_transient(), passing, "{status}");
    }
    assert!(!OrderError::Invalid(Problem::default()).is_transient());
    assert!(!OrderError::Malformed { what: "the order", why: "torn".into() }.is_transient());
}

#[test]
fn an_order_that_goes_backwards_is_refused_and_one_that_is_not_begun_is_waited_for() {
    let mut flow = OrderFlow::new(names(&["a.larkfield.example"]), Terms::default(), "print".into())
        .resume("https://a.example/order/1".into());
    flow.replied(Purpose::Order { waiting: false }, order("ready", 1), at(0)).unwrap();
    flow.signing_request(b"request");
    flow.replied(Purpose::Finalize, order("ready", 1), at(0)).unwrap();
    assert!(matches!(flow.want(), Want::Wait { what: "the authority to issue", .. }), "it is not handed in again");
    flow.waited();
    let error = flow.replied(Purpose::Order { waiting: false }, order("pending", 1), at(0)).unwrap_err();
    assert!(error.to_string().contains("pending again"), "{error}");
}

#[test]
fn an_order_carries_its_profile_and_whom_it_replaces() {
    let terms = Terms { profile: Some("week".into()), replaces: Some("aYhb.AIdl".into()) };
    let flow = OrderFlow::new(names(&["*.larkfield.example"]), terms, "print".into());
    let Want::Send(calls) = flow.want() else { panic!("an order comes first") };
    let Payload::Json(order) = &calls[0].payload else { panic!("an order is posted") };
    assert_eq!(
        *order,
        json!({
            "identifiers": [{ "type": "dns", "value": "*.larkfield.example" }],
            "profile": "week", "replaces": "aYhb.AIdl",
        })
    );
    let plain = OrderFlow::new(names(&["a.larkfield.example"]), Terms::default(), "print".into());
    let Want::Send(calls) = plain.want() else { panic!("an order comes first") };
    assert!(matches!(&calls[0].payload, Payload::Json(order) if order.as_object().unwrap().len() == 1));
}

#[test]
fn what_is_given_up_are_the_authorizations_that_are_still_open() {
    let mut flow =
        OrderFlow::new(names(&["a.larkfield.example", "b.larkfield.example"]), Terms::default(), "print".into());
    assert_eq!(flow.open_authorizations(), [""; 0]);
    flow.replied(Purpose::NewOrder, order("pending", 2), at(0)).unwrap();
    assert_eq!(flow.open_authorizations().len(), 2, "what was not read yet is open");
    let valid = authorization("a.larkfield.example", false, "valid", "valid");
    flow.replied(Purpose::Authorization(0), valid, at(0)).unwrap();
    let pending = authorization("b.larkfield.example", false, "pending", "pending");
    flow.replied(Purpose::Authorization(1), pending, at(0)).unwrap();
    assert_eq!(flow.open_authorizations(), ["https://a.example/authz/1"]);
    flow.published();
    flow.replied(Purpose::Challenge(1), reply(&json!({})), at(0)).unwrap();
    flow.waited();
    flow.replied(Purpose::Order { waiting: false }, order("ready", 2), at(0)).unwrap();
    assert_eq!(flow.open_authorizations(), [""; 0], "nothing is open once the order is ready");
}

#[test]
fn other_chains_are_handed_on_with_the_first() {
    let mut flow = OrderFlow::new(names(&["a.larkfield.example"]), Terms::default(), "print".into())
        .resume("https://a.example/order/1".into());
    flow.replied(Purpose::Order { waiting: false }, order("valid", 1), at(0)).unwrap();
    let alternates = vec!["https://a.example/cert/1".to_owned()];
    let told = Reply { alternates: alternates.clone(), ..chain().unwrap() };
    flow.replied(Purpose::Certificate, Ok(told), at(0)).unwrap();
    assert!(matches!(flow.want(), Want::Done(issued) if issued.alternates == alternates));
}

#[test]
fn an_order_that_is_not_ready_after_all_is_read_again_once() {
    let ready = || {
        let mut flow = OrderFlow::new(names(&["a.larkfield.example"]), Terms::default(), "print".into())
            .resume("https://a.example/order/1".into());
        flow.replied(Purpose::Order { waiting: false }, order("ready", 1), at(0)).unwrap();
        flow.signing_request(b"request");
        flow
    };
    let not_ready = || Err(Problem { kind: "urn:ietf:params:acme:error:orderNotReady".into(), ..Problem::default() });
    let mut flow = ready();
    flow.replied(Purpose::Finalize, not_ready(), at(0)).unwrap();
    assert_eq!(sends(&flow), [Purpose::Order { waiting: false }]);
    flow.replied(Purpose::Order { waiting: false }, order("ready", 1), at(0)).unwrap();
    assert_eq!(sends(&flow), [Purpose::Finalize], "the signing request is the same one");
    assert!(flow.replied(Purpose::Finalize, not_ready(), at(0)).is_err(), "but not for ever");
}

#[test]
fn an_order_that_stays_pending_with_all_names_valid_is_looked_at_until_it_is_ready() {
    let mut flow = OrderFlow::new(names(&["api.larkfield.example"]), Terms::default(), "print".into());
    flow.replied(Purpose::NewOrder, order("pending", 1), at(0)).unwrap();
    let valid = authorization("api.larkfield.example", false, "valid", "valid");
    flow.replied(Purpose::Authorization(0), valid, at(0)).unwrap();
    for looks in 0..4 * LOOKS_AT_ORDER {
        if let Want::Wait { .. } = flow.want() {
            flow.waited();
        }
        let asked = sends(&flow);
        assert!(matches!(asked[..], [Purpose::Order { .. }]), "{asked:?} after {looks} looks");
        flow.replied(asked[0], order("pending", 1), at(0)).unwrap();
    }
    flow.waited();
    let asked = sends(&flow);
    flow.replied(asked[0], order("ready", 1), at(0)).unwrap();
    assert_eq!(flow.want(), Want::SigningRequest);
}

/// What an authority may reply to anything.
fn any_reply() -> impl Strategy<Value = Result<Reply, Problem>> {
    let status = prop::sample::select(vec!["pending", "ready", "processing", "valid", "invalid"]);
    let not_ready = Problem { kind: "urn:ietf:params:acme:error:orderNotReady".into(), ..Problem::default() };
    let body = prop_oneof![
        8 => (status.clone(), 0usize..3).prop_map(|(status, authorizations)| order(status, authorizations)),
        8 => (status.clone(), status).prop_map(|(of_the_name, of_the_challenge)| {
            authorization("api.larkfield.example", false, of_the_name, of_the_challenge)
        }),
        1 => Just(chain()),
        1 => Just(Err(Problem::default())),
        1 => Just(Err(not_ready)),
    ];
    let retry_after = prop::option::of(prop::sample::select(vec![-5i64, 0, 1, 90, 1_000_000]));
    (body, retry_after).prop_map(|(body, secs)| body.map(|reply| Reply { retry_at: secs.map(at), ..reply }))
}

proptest! {
    /// Whatever an authority replies, nothing panics, it is asked for something and not
    /// for ever, and no challenge that was answered is answered again.
    #[test]
    fn no_authority_can_make_it_panic_hang_or_answer_twice(script in prop::collection::vec(any_reply(), 1..40)) {
        let mut flow = OrderFlow::new(names(&["api.larkfield.example"]), Terms::default(), "print".into());
        let mut replies = script.iter().cycle();
        let (mut now, mut calls, mut answered) = (at(0), 0, Vec::new());
        'order: loop {
            match flow.want() {
                Want::Send(wanted) => {
                    prop_assert!(!wanted.is_empty(), "there is always something to ask for");
                    for call in wanted {
                        calls += 1;
                        prop_assert!(calls < 1_000, "an order ends");
                        if matches!(call.purpose, Purpose::Challenge(_)) {
                            prop_assert!(!answered.contains(&call.purpose), "a challenge is answered once");
                            answered.push(call.purpose);
                        }
                        let reply = replies.next().expect("a script that repeats");
                        if flow.replied(call.purpose, reply.clone(), now).is_err() {
                            break 'order;
                        }
                    }
                }
                Want::Publish(_) => flow.published(),
                Want::SigningRequest => flow.signing_request(b"request"),
                Want::Wait { until, .. } => {
                    prop_assert!(until > now, "a wait takes time");
                    now = until;
                    flow.waited();
                }
                Want::Done(_) => break,
            }
        }
    }
}

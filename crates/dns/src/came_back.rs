//! What came back to a question, and why nothing did.

use std::time::Duration;

use hickory_proto::op::{Message, Query};
use hickory_proto::rr::DNSClass;
use pindrel_core::judging::facts::Unreachable;

pub(crate) fn io(error: &std::io::Error) -> Unreachable {
    Unreachable::from_io(error.kind(), error.to_string())
}

/// What came back is not a DNS message, or answers something else.
pub(crate) fn malformed() -> Unreachable {
    Unreachable::Malformed { detail: "it is not an answer to the question".into() }
}

pub(crate) fn timed_out(after: Duration) -> Unreachable {
    Unreachable::TimedOut { after_ms: u64::try_from(after.as_millis()).unwrap_or(u64::MAX) }
}

/// Says whether a message answers a question.
pub(crate) fn answers(answer: &Message, question: &Message) -> bool {
    let same = |a: &Query, q: &Query| {
        a.name() == q.name() && a.query_type() == q.query_type() && a.query_class() == DNSClass::IN
    };
    answer.metadata.id == question.metadata.id
        && answer.metadata.message_type == hickory_proto::op::MessageType::Response
        && match (answer.queries.as_slice(), question.queries.as_slice()) {
            ([answered], [asked]) => same(answered, asked),
            // A server that cannot read the question may leave it out of its error.
            ([], _) => answer.metadata.response_code != hickory_proto::op::ResponseCode::NoError,
            _ => false,
        }
}

//! Transaction signatures (RFC 8945): the key that signs updates, and what is answered under it.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use hickory_proto::dnssec::DnsSecError;
use hickory_proto::op::{Message, ResponseCode};
use hickory_proto::rr::rdata::tsig::{TsigAlgorithm, TsigError};
use hickory_proto::rr::{Name, TSigResponseContext, TSigner};

use crate::certificates::random_bytes;

/// How far the clocks may differ, in seconds.
const FUDGE_SECS: u16 = 300;

/// Makes a new secret in base64.
pub(crate) fn new_secret() -> String {
    STANDARD.encode(random_bytes::<32>())
}

/// Makes the key of that name; a secret that is not base64 makes a key that no client has.
pub(crate) fn key(name: &str, secret: &str) -> Option<TSigner> {
    let secret = STANDARD.decode(secret).ok()?;
    TSigner::new(secret, TsigAlgorithm::HmacSha256, Name::from_ascii(format!("{name}.")).ok()?, FUDGE_SECS).ok()
}

/// Answers a signed message under `key`, the one that is known here; `respond` makes the answer where the signature is
/// right. The raw message is needed to check it. One without a signature is refused.
pub(super) fn answer(
    key: Option<&TSigner>,
    message: &Message,
    raw: &[u8],
    respond: impl FnOnce() -> Message,
) -> Option<Vec<u8>> {
    let id = message.metadata.id;
    let refused = |code| {
        let mut answer = Message::response(id, message.metadata.op_code);
        answer.metadata.response_code = code;
        answer
    };
    let Some(signature) = message.signature() else { return refused(ResponseCode::Refused).to_vec().ok() };
    let now = u64::try_from(jiff::Timestamp::now().as_second()).unwrap_or(0);
    let signed_by =
        |key: &&TSigner| *key.signer_name() == signature.name && *key.algorithm() == signature.data.algorithm;
    let Some(key) = key.filter(signed_by) else {
        let context = TSigResponseContext::unknown_key(id, now, signature.name.clone());
        return sign(refused(ResponseCode::NotAuth), context);
    };
    match check(key, raw, signature.data.time, signature.data.fudge) {
        Err(_) => {
            let context = TSigResponseContext::bad_signature(id, now, key.clone());
            sign(refused(ResponseCode::NotAuth), context)
        }
        Ok(mac) => {
            let in_time = now.abs_diff(signature.data.time) <= u64::from(signature.data.fudge);
            let answer = if in_time { respond() } else { refused(ResponseCode::NotAuth) };
            let error = (!in_time).then_some(TsigError::BadTime);
            sign(answer, TSigResponseContext::new(id, now, key.clone(), mac, error))
        }
    }
}

/// Checks the signature; the library subtracts the fudge from the time, so a time near
/// nought is refused before.
fn check(key: &TSigner, raw: &[u8], time: u64, fudge: u16) -> Result<Vec<u8>, DnsSecError> {
    if time < u64::from(fudge) || time > u64::MAX / 2 {
        return Err(DnsSecError::from("the time of the signature is nonsense"));
    }
    key.verify_message_byte(raw, None, true).map(|(mac, _, _)| mac)
}

fn sign(mut answer: Message, context: TSigResponseContext) -> Option<Vec<u8>> {
    let encoded = answer.to_vec().ok()?;
    answer.set_signature(context.sign(&encoded).ok()?);
    answer.to_vec().ok()
}

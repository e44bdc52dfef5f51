//! DNS servers: authoritative ones with dynamic update, and a caching resolver.

pub mod resolver;
pub mod server;
pub(crate) mod tsig;
mod update;
mod wire;
pub mod zone;

/// Asks a server as a validator does.
/// Makes a question that asks for large answers.
pub(crate) fn question(
    owner: &hickory_proto::rr::Name,
    record_type: hickory_proto::rr::RecordType,
) -> hickory_proto::op::Message {
    let mut question = hickory_proto::op::Message::query();
    question.metadata.op_code = hickory_proto::op::OpCode::Query;
    let mut edns = hickory_proto::op::Edns::new();
    edns.set_max_payload(4096).set_version(0);
    question.set_edns(edns);
    question.add_query(hickory_proto::op::Query::query(owner.clone(), record_type));
    question
}

pub(crate) async fn server_answer(
    server: std::net::SocketAddr,
    question: &hickory_proto::op::Message,
) -> Option<hickory_proto::op::Message> {
    wire::ask(server, question).await
}

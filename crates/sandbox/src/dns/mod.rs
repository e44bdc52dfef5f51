//! DNS servers: authoritative ones with dynamic update, and a caching resolver.

pub mod resolver;
pub mod server;
pub(crate) mod tsig;
mod update;
mod wire;
pub mod zone;

/// Asks a server as a validator does.
pub(crate) async fn server_answer(
    server: std::net::SocketAddr,
    question: &hickory_proto::op::Message,
) -> Option<hickory_proto::op::Message> {
    wire::ask(server, question).await
}

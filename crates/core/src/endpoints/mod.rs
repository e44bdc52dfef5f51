//! Endpoints: what they are, what a hostname is bound to, and what a client expects of them.

pub mod endpoint;
pub mod expectation;
pub mod load_balancer;
pub mod unready;
pub mod web_server;

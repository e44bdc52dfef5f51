//! What a hostile peer may send, given straight to what reads it.

pub use crate::haproxy::read_any as balancer;
pub use crate::protocol::read_any as platform;

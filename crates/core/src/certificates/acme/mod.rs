//! ACME (RFC 8555) as a protocol machine without I/O.
//!
//! [`jws`] says what to sign, [`objects`] reads what the authority answers, and
//! [`order::OrderFlow`] decides what to send next. Sending, signing and waiting are
//! done by others.

pub mod account;
pub mod identifier;
pub mod jws;
pub mod objects;
pub mod order;
pub mod problem;
pub mod renewal_info;

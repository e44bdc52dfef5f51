//! Names: what a hostname and a domain name are, and how they are shown.

pub mod name;
pub mod unicode;

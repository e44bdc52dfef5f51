//! Judging: what was observed and written, the state of each pin that follows from it, and the findings.

pub mod facts;
pub mod findings;
pub mod name_servers;
pub mod pin;
pub mod pins;
pub mod rights;

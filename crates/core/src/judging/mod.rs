//! Judging: what was seen and written, what follows for each pin, and what is told about it.

pub mod facts;
pub mod findings;
pub mod pin;
pub mod pins;

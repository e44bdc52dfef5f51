//! Certificates: the protocol by which they are issued, who may issue, what may be spent, when they are due, and where they go.

pub mod acme;
pub mod budget;
pub mod caa;
pub mod delivery;
pub mod renewal;

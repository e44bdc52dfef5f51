//! What single commands ask of the engine, beside bringing hostnames to what is wanted.

pub(crate) mod adopt;
pub(crate) mod certificates;
pub(crate) mod conformance;
pub(crate) mod endpoints;
pub(crate) mod handoff;
pub(crate) mod online;
pub(crate) mod runs;
pub(crate) mod status;
pub(crate) mod watch;
pub(crate) mod zones;

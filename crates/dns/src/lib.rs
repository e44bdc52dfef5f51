//! DNS as Pindrel needs it: looking at authoritative servers and resolvers, and
//! changing zones.
//!
//! [`lookup`] reads, [`discover`] finds a zone's servers and its delegation, and
//! [`ZoneDriver`] changes records; [`Rfc2136`] is the driver for dynamic update.
//! Wire messages stay inside this crate: what comes out are the core's values.

pub mod discover;
pub mod lookup;
mod update;
mod wire;

pub use update::{Rfc2136, UpdateError, ZoneDriver};
pub use wire::LookupError;

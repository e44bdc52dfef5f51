//! DNS as Pindrel needs it: looking at authoritative servers and resolvers, and
//! changing zones.
//!
//! [`lookup`] reads, [`discover`] finds a zone's servers and its delegation, [`present`] says
//! which records a server gives, [`caa`] who may issue, [`challenge`] where a challenge record
//! belongs, and a [`ZoneDriver`] changes records; [`Rfc2136`] is the driver for dynamic
//! update. Wire messages stay inside this crate: what comes out are the core's values.

pub mod caa;
pub mod challenge;
pub mod discover;
mod driver;
pub mod lookup;
pub mod present;
mod update;
mod wire;

pub use driver::{ZoneDriver, ZoneError};
pub use update::{Rfc2136, UpdateError};

//! DNS as Pindrel needs it: looking at authoritative servers and resolvers, and
//! changing zones.
//!
//! [`lookup`] reads, [`discover`] finds a zone's servers and its delegation, [`present`] says
//! which records a server gives, [`caa`] who may issue, [`challenge`] where a challenge record
//! belongs, [`transfer`] and [`zone_files`] read whole zones, and a [`ZoneDriver`] changes records; [`Rfc2136`] is the driver for dynamic
//! update. Wire messages stay inside this crate: what comes out are the core's values.

pub mod caa;
pub mod challenge;
pub mod discover;
mod driver;
pub mod lookup;
pub mod present;
pub mod transfer;
mod update;
mod wire;
pub mod zone_files;

pub use driver::{SetChange, ZoneDriver, ZoneError};
pub use update::{Rfc2136, UpdateError};

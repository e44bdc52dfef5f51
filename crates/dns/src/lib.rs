//! DNS as Pindrel needs it: looking at authoritative servers and resolvers, and
//! changing zones.
//!
//! [`lookup`] reads, [`discover`] finds a zone's servers and its delegation, [`present`] says
//! which records a server gives, [`caa`] who may issue, [`challenge`] where a challenge record
//! belongs, [`spread`] how far a change has got, [`transfer`] and [`zone_files`] read whole zones, and a [`ZoneDriver`] changes records, one
//! for each way: [`Rfc2136`] by dynamic update, [`PowerDns`] through that server's HTTP API, [`ZoneFile`]
//! in a file, [`ZoneProgram`] through a program, and [`HandedOff`] not at all. Wire messages stay inside
//! this crate: what comes out are the core's values.

pub mod caa;
mod came_back;
pub mod challenge;
pub mod conformance;
pub mod discover;
mod driver;
mod file;
mod handed_off;
#[cfg(feature = "hostile")]
pub mod hostile;
mod lines;
pub mod lookup;
pub mod name_servers;
mod powerdns;
pub mod present;
mod program;
mod resolver;
mod rights;
mod sets;
mod sockets;
pub mod spread;
pub mod transfer;
mod update;
mod update_error;
mod wire;
mod zone_error;
pub mod zone_files;

pub use driver::{TriedRights, ZoneDriver};
pub use file::ZoneFile;
pub use handed_off::HandedOff;
pub use powerdns::PowerDns;
pub use program::{Abilities, ZoneProgram};
pub use resolver::Resolver;
pub use sets::SetChange;
pub use update::Rfc2136;
pub use update_error::UpdateError;
pub use zone_error::ZoneError;

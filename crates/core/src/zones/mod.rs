//! Zones: records, what is in a zone and in its file, who serves it, how far a change has spread, and what a credential may change.

pub mod name_servers;
pub mod propagation;
pub mod records;
pub mod resolver;
pub mod rights;
pub mod zone_data;
pub mod zone_file;

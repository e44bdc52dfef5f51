//! Looking at the world: what drivers see becomes facts, one file for each thing looked at.

pub(crate) mod alias;
pub(crate) mod answer;
mod asked_records;
pub(crate) mod binding;
pub(crate) mod certificate;
pub(crate) mod dependents;
pub(crate) mod endpoint;
pub(crate) mod survey;
pub(crate) mod zone;

//! The whole of a run, and what it leaves over.

pub(crate) mod attempts;
pub(crate) mod leftovers;
pub(crate) mod settle;
pub(crate) mod stores;

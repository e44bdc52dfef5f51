//! Carrying a plan out: each step as soon as those before it have succeeded, one file for
//! each kind of work.

pub(crate) mod alias;
mod answer;
pub(crate) mod asked_records;
pub(crate) mod bind;
pub(crate) mod catch_up;
mod connect;
pub(crate) mod deliver;
pub(crate) mod executor;
pub(crate) mod issue;
pub(crate) mod mark;
mod moving;
mod store;
pub(crate) mod unbind;

pub(crate) use executor::Outcome;

//! What is done at authorities: accounts, orders with their challenges, advice, spending and
//! rehearsals.

pub(crate) mod accounts;
pub(crate) mod advice;
pub(crate) mod challenges;
pub(crate) mod orders;
pub(crate) mod preflight;
pub(crate) mod rehearsals;
pub(crate) mod spending;
mod wildcards;

use std::sync::Arc;

use accounts::Accounts;
use advice::Advice;
use challenges::Challenges;
use orders::Orders;
use preflight::Preflight;
use rehearsals::Rehearsals;
use spending::RateLimits;

/// The parts that work at authorities.
pub(crate) struct Issuing {
    pub(crate) accounts: Arc<Accounts>,
    pub(crate) advice: Arc<Advice>,
    pub(crate) challenges: Arc<Challenges>,
    pub(crate) orders: Arc<Orders>,
    pub(crate) preflight: Arc<Preflight>,
    pub(crate) rate_limits: Arc<RateLimits>,
    pub(crate) rehearsals: Arc<Rehearsals>,
}

//! What is done at authorities: accounts, orders with their challenges, advice, spending and
//! rehearsals.

pub(crate) mod accounts;
mod advice;
mod challenges;
pub(crate) mod orders;
mod preflight;
mod rehearsals;
pub(crate) mod spending;
mod wildcards;

use pindrel_acme::RequestSigner;
use pindrel_core::certificates::acme::jws::Jwk;
use pindrel_keys::AccountKey;

/// How many names of one certificate are looked at side by side.
pub(crate) const LOOKUPS_AT_ONCE: usize = 16;

/// Lets an account key sign for the transport.
pub(crate) struct Signing<'k>(pub(crate) &'k AccountKey);

impl RequestSigner for Signing<'_> {
    fn jwk(&self) -> &Jwk {
        self.0.jwk()
    }

    fn sign(&self, message: &[u8]) -> Result<Vec<u8>, String> {
        self.0.sign(message).map_err(|error| error.to_string())
    }
}

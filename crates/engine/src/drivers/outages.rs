//! Servers that were found not to answer, so that each is waited for once and not for every name.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use pindrel_core::judging::facts::Unreachable;
use pindrel_core::zones::resolver::ResolverAddress;

/// How long a server that did not answer is not asked again: far longer than the names of one pass
/// take, and shorter than anything is waited for.
const SPARED: Duration = Duration::from_secs(8);

/// The servers and resolvers that did not answer lately.
#[derive(Default)]
pub(super) struct Outages(Mutex<HashMap<ResolverAddress, (Instant, Unreachable)>>);

impl Outages {
    /// Returns why a server is not worth asking now.
    pub(super) fn of(&self, server: impl Into<ResolverAddress>) -> Option<Unreachable> {
        let known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        known.get(&server.into()).filter(|(since, _)| since.elapsed() < SPARED).map(|(_, why)| why.clone())
    }

    /// Notes what came of asking a server.
    pub(super) fn note<'w>(&self, server: impl Into<ResolverAddress>, failed: impl Into<Option<&'w Unreachable>>) {
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        match failed.into() {
            Some(why @ (Unreachable::TimedOut { .. } | Unreachable::Refused | Unreachable::NoRoute)) => {
                known.insert(server.into(), (Instant::now(), why.clone()));
            }
            _ => {
                known.remove(&server.into());
            }
        }
    }

    /// Asks a server, unless it is known not to answer.
    pub(super) async fn ask<T>(
        &self,
        server: std::net::SocketAddr,
        question: impl Future<Output = Result<T, Unreachable>>,
    ) -> Result<T, Unreachable> {
        if let Some(why) = self.of(server) {
            return Err(why);
        }
        let answer = question.await;
        self.note(server, answer.as_ref().err());
        answer
    }
}
